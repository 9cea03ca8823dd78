"""Polygons into triangles: triangles as they are, convex quads split, everything else by ear cutting."""

from __future__ import annotations

import mapbox_earcut
import numpy as np

from tidy_caravan.core.scene.arrays import F64, I64


def fan_or_ears(points: F64, counts: I64) -> tuple[I64, I64]:
    """Triangles of polygons that lie one after another.

    points: (C, 3) corners, counts: (F,) corners per polygon. Returns (T, 3) corner numbers and (T,)
    polygon of each triangle, in polygon order. Winding is kept. Concave polygons are cut in the plane
    of their Newell normal (Tampieri, 1992); quads are split along the diagonal that keeps both halves
    facing the same way.
    """
    if len(counts) and (counts == counts[0]).all() and counts[0] in (3, 4):
        whole = np.arange(len(points)).reshape(len(counts), -1)
        if counts[0] == 3:
            return whole, np.arange(len(counts))
        return split_quads(points.reshape(-1, 4, 3), whole), np.repeat(np.arange(len(counts)), 2)
    starts = np.concatenate([[0], np.cumsum(counts)[:-1]]).astype(np.int64)
    triangles: list[I64] = []
    owners: list[I64] = []
    three = np.flatnonzero(counts == 3)
    triangles.append(starts[three, None] + np.arange(3))
    owners.append(three)
    four = np.flatnonzero(counts == 4)
    if len(four):
        corner = starts[four, None] + np.arange(4)
        triangles.append(split_quads(points[corner], corner))
        owners.append(np.repeat(four, 2))
    for face in np.flatnonzero(counts > 4).tolist():
        begin, size = int(starts[face]), int(counts[face])
        cut = ears(points[begin : begin + size]) + begin
        triangles.append(cut)
        owners.append(np.full(len(cut), face))
    joined, owner = np.concatenate(triangles), np.concatenate(owners)
    order = np.argsort(owner, kind="stable")
    return joined[order], owner[order]


def split_quads(p: F64, corner: I64) -> I64:
    """(Q, 4, 3) points, (Q, 4) corner numbers -> (2Q, 3); the diagonal whose halves agree."""
    out = corner[:, [0, 1, 2, 0, 2, 3]]
    doubtful = np.flatnonzero(halves_agree(p, 0, 1, 2, 3) <= 0)
    if len(doubtful):
        other = doubtful[halves_agree(p[doubtful], 1, 2, 3, 0) > 0]
        out[other] = corner[other][:, [1, 2, 3, 1, 3, 0]]
    return out.reshape(-1, 3)


def halves_agree(p: F64, a: int, b: int, c: int, d: int) -> F64:
    """(Q,) scalar product of the normals of the triangles abc and acd; numbers alone, np.cross is slow on few rows."""
    u, v, w = (p[:, k] - p[:, a] for k in (b, c, d))
    ux, uy, uz = u.T
    vx, vy, vz = v.T
    wx, wy, wz = w.T
    out: F64 = (
        (uy * vz - uz * vy) * (vy * wz - vz * wy)
        + (uz * vx - ux * vz) * (vz * wx - vx * wz)
        + (ux * vy - uy * vx) * (vx * wy - vy * wx)
    )
    return out


def ears(p: F64) -> I64:
    """(N, 3) polygon -> (T, 3) triangles by ear cutting; a fan where the polygon has no plane."""
    count = len(p)
    cut = with_holes(p, [count])
    if len(cut):
        return cut
    return np.stack([np.zeros(count - 2, np.int64), np.arange(1, count - 1), np.arange(2, count)], axis=1)


def with_holes(p: F64, rings: list[int]) -> I64:
    """(N, 3) corners of an outline and its holes, ring after ring -> (T, 3) triangles facing as the outline.

    Cut in the plane of the outline's Newell normal; empty when it has none.
    """
    outline = p[: rings[0]] - p[0]
    normal = np.cross(outline, np.roll(outline, -1, axis=0)).sum(axis=0)
    if not np.linalg.norm(normal) > 0:
        return np.zeros((0, 3), np.int64)
    axis = int(np.argmax(np.abs(normal)))
    flat = np.ascontiguousarray(p[:, [(axis + 1) % 3, (axis + 2) % 3]])
    ends = np.cumsum(rings).astype(np.uint32)
    cut: I64 = mapbox_earcut.triangulate_float64(flat, ends).astype(np.int64).reshape(-1, 3)
    corners = flat[cut]
    a, b = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    turned = (a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]) * normal[axis] < 0
    cut[turned] = cut[turned][:, [0, 2, 1]]
    return cut
