"""Rays against triangles, and the directions and places that they start from: the same ones every time."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.geometry.normals import frame_across
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray

LOADS = ("embreex.rtcore_scene", "embreex.mesh_construction")
CHUNK = 1 << 20
"""Rays cast at once."""
GOLDEN = (5**0.5 - 1) / 2
PLASTIC = 0.7548776662466927, 0.5698402909980532
"""Steps of the R2 sequence (Roberts, 2018): points that fill a square evenly, however many there are."""


class Caster:
    """Triangles that rays can hit. points: (V, 3), near the origin, since they are kept as float32. faces: (F, 3)."""

    def __init__(self, points: AnyArray, faces: AnyArray) -> None:
        from embreex.mesh_construction import TriangleMesh
        from embreex.rtcore_scene import EmbreeScene

        self.scene = EmbreeScene()
        self.empty = not len(faces)
        if not self.empty:
            TriangleMesh(self.scene, points.astype(np.float32), faces.astype(np.int32))

    def first_hits(self, origins: F64, directions: F64) -> tuple[F64, I64]:
        """(N,) distance to the first triangle along each unit direction (N, 3), infinite without one, and (N,) that
        triangle, -1 without one."""
        distance, hit = np.full(len(origins), np.inf), np.full(len(origins), -1, np.int64)
        if self.empty:
            return distance, hit
        for at in range(0, len(origins), CHUNK):
            rows = slice(at, at + CHUNK)
            out = self.scene.run(origins[rows].astype(np.float32), directions[rows].astype(np.float32), output=1)
            hit[rows] = out["primID"]
            distance[rows] = np.where(hit[rows] >= 0, out["tfar"], np.inf)
        return distance, hit


def over_hemispheres(normals: F64, each: int, number: I64) -> F64:
    """(N, each, 3) unit directions about normals (N, 3), as much as light falls in from where: cosine-weighted.

    Sunflower points on the disk below the hemisphere (Malley's method), turned on from normal to normal by their number.
    """
    k = np.arange(each) + 0.5
    radius = np.sqrt(k / each)
    turn = 2 * np.pi * (k[None, :] * GOLDEN + number[:, None] * PLASTIC[0])
    x, y, z = radius * np.cos(turn), radius * np.sin(turn), np.sqrt(1 - radius**2)
    across, along = frame_across(normals)
    out: F64 = x[..., None] * across[:, None] + y[..., None] * along[:, None] + z[None, :, None] * normals[:, None]
    return out


def spread_over(area: F64, label: I64, samples: I64, begin: I64 | None = None) -> tuple[I64, I64, F64]:
    """Places spread over surfaces by area: (S,) the label of each, (S,) its triangle, and (S, 3) its barycentric
    coordinates. area, label: (F,) of the triangles, -1 for those to leave out. samples: (K,) how many each label gets,
    which are the same whatever else is asked. begin: (K,) where in the sequence of places each begins, 0 without it.
    """
    order = np.argsort(label, kind="stable")
    order = order[label[order] >= 0]
    total = np.bincount(label[order], area[order], minlength=len(samples))
    count = np.where(total > 0, samples, 0)
    before = np.cumsum(total) - total
    which = np.repeat(np.arange(len(samples)), count)
    inside = np.arange(len(which)) - np.repeat(np.cumsum(count) - count, count)
    at = before[which] + (inside + 0.5) / np.maximum(count[which], 1) * total[which]
    row = np.minimum(np.searchsorted(np.cumsum(area[order]), at, side="right"), len(order) - 1)
    number = inside + 1 if begin is None else inside + 1 + begin[which]
    u, v = ((0.5 + number[:, None] * np.array(PLASTIC)) % 1.0).T
    root = np.sqrt(u)
    corners = np.stack([1 - root, root * (1 - v), root * v], axis=1)
    return which, order[row], corners
