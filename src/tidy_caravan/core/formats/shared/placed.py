"""Parts placed in the world, for formats that hold neither tree nor sharing."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, AnyArray
from tidy_caravan.core.space.convert import cofactors


@dataclass(frozen=True)
class PlacedPart:
    """positions (V, 3) and unit normals (V, 3) in the world, faces (F, 3) with the winding that shows there."""

    node: int
    mesh: Mesh
    positions: F64
    normals: F64 | None
    faces: AnyArray


def digits(positions: F64) -> int:
    """Significant digits that a text needs, so that a part far from the origin keeps what float32 holds of it."""
    if not len(positions):
        return 9
    reach, span = float(np.abs(positions).max()), float(np.ptp(positions, axis=0).max())
    return int(np.clip(9 + np.ceil(np.log10(max(reach, 1e-300) / max(span, reach * 1e-8, 1e-300))), 9, 17))


def placed_parts(scene: Scene) -> Iterator[PlacedPart]:
    """All parts in order; O(all vertices of all instances)."""
    for node in scene.nodes.parts.tolist():
        mesh, world = scene.meshes[scene.nodes.mesh[node]], scene.nodes.world[node]
        linear = world[:3, :3]
        mirrored = np.linalg.det(linear) < 0
        normals = None
        if mesh.normals is not None:
            moved = mesh.normals.astype(np.float64) @ cofactors(linear).T * (-1.0 if mirrored else 1.0)
            length = np.linalg.norm(moved, axis=1, keepdims=True)
            normals = moved / np.where(length > 0, length, 1.0)
        yield PlacedPart(
            node,
            mesh,
            mesh.positions.astype(np.float64) @ linear.T + world[:3, 3],
            normals,
            mesh.indices[:, [0, 2, 1]] if mirrored else mesh.indices,
        )
