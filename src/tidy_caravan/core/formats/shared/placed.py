"""Parts placed in the world, for formats that hold neither tree nor sharing."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.errors import TooLarge
from tidy_caravan.core.pace import Tell, paced
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, AnyArray
from tidy_caravan.core.space.convert import cofactors
from tidy_caravan.core.words import plural

MOST_BYTES = 2 << 30
"""Of a file that holds every copy anew; it is put together in memory."""


@dataclass(frozen=True)
class PlacedPart:
    """positions (V, 3) and unit normals (V, 3) in the world, faces (F, 3) with the winding that shows there."""

    node: int
    mesh: Mesh
    positions: F64
    normals: F64 | None
    faces: AnyArray


def check_room(scene: Scene, title: str, size: Callable[[Mesh], int]) -> None:
    """Raises TooLarge for a scene that would make a file of more than MOST_BYTES. size: bytes that a mesh takes, about."""
    uses = scene.instance_counts
    total = int(uses @ np.array([size(m) for m in scene.meshes], np.int64)) if len(scene.meshes) else 0
    if total > MOST_BYTES:
        faces = int(uses @ scene.triangle_counts)
        raise TooLarge(
            f"{title} holds every copy of a mesh anew: {plural(faces, 'triangle')} come to about {total / 1e9:.1f} GB, and "
            f"{MOST_BYTES / 1e9:.1f} are the most; choose a format that shares meshes, such as GLB or OpenUSD, or send fewer parts",
            code="package.too-large",
        )


def digits(positions: F64) -> int:
    """Significant digits that a text needs, so that a part far from the origin keeps what float32 holds of it."""
    if not len(positions):
        return 9
    reach, span = float(np.abs(positions).max()), float(np.ptp(positions, axis=0).max())
    return int(np.clip(9 + np.ceil(np.log10(max(reach, 1e-300) / max(span, reach * 1e-8, 1e-300))), 9, 17))


def placed_parts(scene: Scene, tell: Tell) -> Iterator[PlacedPart]:
    """All parts in order; O(all vertices of all instances)."""
    for node in paced(scene.nodes.parts.tolist(), tell):
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
