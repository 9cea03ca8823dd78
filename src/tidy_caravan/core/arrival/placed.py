"""A scene in the common space of the comparison: metres, Y up, right-handed."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from tidy_caravan.core.scene import GLTF, HIDDEN, Nodes, Scene
from tidy_caravan.core.scene.arrays import F64, I64, Bool
from tidy_caravan.core.space.axes import linear_map

NUMBERED = re.compile(r"(?<![^/])\(\d+\)(?![^/])")
"""A level of a path that stands for a node without a name."""


@dataclass(frozen=True)
class Placed:
    """Parts of a scene in the common space. worlds (N, 4, 4)."""

    scene: Scene
    linear: F64
    worlds: F64

    @classmethod
    def of(cls, scene: Scene) -> Placed:
        linear = linear_map(scene.convention, GLTF)
        inverse = np.linalg.inv(linear)
        worlds = scene.nodes.world.copy()
        worlds[:, :3, :3] = linear @ worlds[:, :3, :3] @ inverse
        worlds[:, :3, 3] = worlds[:, :3, 3] @ linear.T
        return cls(scene, linear, worlds)

    @cached_property
    def boxes(self) -> F64:
        """(P, 2, 3) by part row."""
        corners = self.scene.part_bounds @ self.linear.T
        return np.stack([corners.min(axis=1), corners.max(axis=1)], axis=1)

    @cached_property
    def row_of(self) -> I64:
        """(N,) row of each node among the parts, -1 for none."""
        out: I64 = np.full(len(self.scene.nodes), -1, np.int64)
        out[self.scene.nodes.parts] = np.arange(len(self.scene.nodes.parts))
        return out

    def map4(self) -> F64:
        """(4, 4) from a mesh's own units to the common space, without any node."""
        out = np.eye(4)
        out[:3, :3] = self.linear
        return out

    def facing(self, node: int) -> tuple[F64, F64]:
        """Unit directions in which a camera or light on the node looks, and what it holds upright."""
        world = self.scene.nodes.world[node][:3, :3]
        ahead, up = self.linear @ world @ (0.0, 0.0, -1.0), self.linear @ world @ (0.0, 1.0, 0.0)
        return ahead / max(float(np.linalg.norm(ahead)), 1e-300), up / max(float(np.linalg.norm(up)), 1e-300)

    @property
    def metre(self) -> float:
        return self.scene.convention.metres_per_unit


def nameless(path: str) -> str:
    """A path in which nodes without a name are told by no number: that differs from file to file."""
    return NUMBERED.sub("()", path) if "(" in path else path


def keys(nodes: Nodes) -> tuple[str, ...]:
    """Tree path of every node, unnamed levels as `()`."""
    if all(nodes.names) and not any("(" in n for n in nodes.names):
        return nodes.paths
    return tuple(nameless(p) for p in replace(nodes, names=tuple(n or "()" for n in nodes.names)).paths)


def hidden(nodes: Nodes) -> Bool:
    """(N,) switched off, by themselves or by something above them."""
    return nodes.under((nodes.flags & HIDDEN) > 0)


def drawn_from(scene: Scene, root: int) -> Bool:
    """(N,) nodes that belong to one root of the scene; all of them when it lists none."""
    nodes = scene.nodes
    if not scene.roots:
        return np.ones(len(nodes), np.bool_)
    marked = np.zeros(len(nodes), np.bool_)
    if 0 <= root < len(scene.roots):
        marked[list(scene.roots[root].nodes)] = True
    return nodes.under(marked)
