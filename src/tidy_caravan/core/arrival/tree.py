"""The tree that a stand-in receiver builds while it walks a document: one row per node, meshes by their key."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np

from tidy_caravan.core.scene import Convention, Material, Mesh, Scene, make_nodes
from tidy_caravan.core.scene.arrays import F64


@dataclass
class Tree:
    """parent, local (4, 4), names and mesh have one entry per node; meshes with one key are one mesh."""

    parent: list[int] = field(default_factory=list)
    local: list[F64] = field(default_factory=list)
    names: list[str] = field(default_factory=list)
    mesh: list[int] = field(default_factory=list)
    meshes: list[Mesh] = field(default_factory=list)
    mesh_of: dict[str, int] = field(default_factory=dict)

    def add(self, name: str, above: int, matrix: F64) -> int:
        """Row of a new node below `above` (-1: at the top)."""
        self.parent.append(above)
        self.local.append(matrix)
        self.names.append(name)
        self.mesh.append(-1)
        return len(self.parent) - 1

    def shared(self, key: str, make: Callable[[], Mesh]) -> int:
        """Index of the mesh with that key, made when first asked for."""
        if key not in self.mesh_of:
            self.mesh_of[key] = len(self.meshes)
            self.meshes.append(make())
        return self.mesh_of[key]

    def scene(self, convention: Convention, materials: Sequence[str]) -> Scene:
        """The scene of what was added, materials by name."""
        local = np.array(self.local).reshape(len(self.parent), 4, 4)
        nodes = make_nodes(self.parent, local, self.names, mesh=self.mesh)
        return Scene(convention, nodes, tuple(self.meshes), tuple(Material(n) for n in materials))
