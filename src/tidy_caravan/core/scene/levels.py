"""Levels of detail: coarser meshes beside those that parts draw, for the receiver to show from further away."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from tidy_caravan.core.scene.mesh import Mesh

if TYPE_CHECKING:
    from tidy_caravan.core.scene.scene import Scene


@dataclass(frozen=True, eq=False)
class Level:
    """mesh: as it is shown from further away. error_mm: how far its surface comes away from the whole one, at most,
    on the largest part that has it."""

    mesh: Mesh
    error_mm: float


Levels = Mapping[str, tuple[Level, ...]]
"""By the id of a mesh its levels, the finest first."""


def in_use(scene: Scene) -> Levels:
    """The levels of the meshes that are there."""
    if not scene.levels:
        return {}
    there = {m.id for m in scene.meshes}
    return {i: levels for i, levels in scene.levels.items() if i in there}


def deepest(scene: Scene) -> int:
    """How many levels the mesh with the most has."""
    return max((len(levels) for levels in in_use(scene).values()), default=0)


def at_level(scene: Scene, number: int) -> Scene:
    """The scene with every mesh at a level: 0 is the whole; meshes with fewer levels stay at their last."""
    if number <= 0:
        return scene
    own = scene.levels
    meshes = [own[m.id][min(number, len(own[m.id])) - 1].mesh if own.get(m.id) else m for m in scene.meshes]
    kept: list[Mesh] = []
    place: dict[str, int] = {}
    table = np.full(len(meshes) + 1, -1, np.int32)
    for i, (mesh, was) in enumerate(zip(meshes, scene.meshes, strict=True)):
        at = place.setdefault(mesh.id, len(kept))
        if at == len(kept):
            kept.append(mesh if mesh.name == was.name else replace(mesh, name=was.name))
        table[i] = at
    return scene.but(meshes=tuple(kept), nodes=replace(scene.nodes, mesh=table[scene.nodes.mesh]), levels={})
