"""Texels of a lightmap: which of them a mesh's islands touch, and which place on the surface each stands for."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.scene.arrays import F64, I64, AnyArray

AT_ONCE = 4_000_000
"""Texels of triangles' boxes that are looked at together."""
REACH = 0.75
"""Texels that a middle may lie off an island whose edge runs through its texel."""


@dataclass(frozen=True)
class Texels:
    """index: (T,) row · width + column, ascending. triangle: (T,) of the mesh. bary: (T, 3) place on it."""

    index: I64
    triangle: I64
    bary: F64


def texels_of(uv: AnyArray, faces: AnyArray, width: int, height: int) -> Texels:
    """Texels of a map that triangles (F, 3) of a set (V, 2) touch: those whose middle is on one, and those along borders,
    which stand for the nearest place on the island. O(texels of all boxes)."""
    corners = uv.astype(np.float64)[faces.astype(np.int64)] * [width, height] - 0.5  # middles are whole numbers
    a, b = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    double = a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]
    usable = np.flatnonzero((np.abs(double) > 1e-12) & np.isfinite(corners).all(axis=(1, 2)))
    low = np.floor(corners[usable].min(axis=1) - REACH).astype(np.int64).clip(0, [width - 1, height - 1])
    high = np.ceil(corners[usable].max(axis=1) + REACH).astype(np.int64).clip(0, [width - 1, height - 1])
    size = high - low + 1
    count = size.prod(axis=1)
    found: list[tuple[I64, I64, F64, F64]] = []
    ends = np.cumsum(count)
    at = 0
    while at < len(usable):
        stop = int(np.searchsorted(ends, (ends[at - 1] if at else 0) + AT_ONCE, side="right"))
        rows = np.arange(at, max(stop, at + 1))
        found.append(touched(corners, double, usable[rows], low[rows], size[rows], count[rows], width))
        at = int(rows[-1]) + 1
    if not found:
        return Texels(np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros((0, 3)))
    index, triangle, bary, off = (np.concatenate(c) for c in zip(*found, strict=True))
    order = np.lexsort((off, index))
    first = np.concatenate([[True], np.diff(index[order]) > 0]) if len(order) else np.zeros(0, np.bool_)
    keep = order[first]
    return Texels(index[keep], triangle[keep], bary[keep])


def touched(
    corners: F64, double: F64, rows: I64, low: I64, size: I64, count: I64, width: int
) -> tuple[I64, I64, F64, F64]:
    """Texels in the boxes of some triangles that lie on them or nearly, with how far off they are, in texels."""
    who = np.repeat(np.arange(len(rows)), count)
    step = np.arange(len(who)) - np.repeat(np.cumsum(count) - count, count)
    spot = np.stack([low[who, 0] + step % size[who, 0], low[who, 1] + step // size[who, 0]], axis=1)
    own = corners[rows[who]]
    p = spot.astype(np.float64)
    e, f, g = own[:, 1] - own[:, 0], own[:, 2] - own[:, 0], p - own[:, 0]
    v = (g[:, 0] * f[:, 1] - g[:, 1] * f[:, 0]) / double[rows[who]]
    w = (e[:, 0] * g[:, 1] - e[:, 1] * g[:, 0]) / double[rows[who]]
    bary = np.stack([1 - v - w, v, w], axis=1)
    off = np.zeros(len(who))
    outside = np.flatnonzero(bary.min(axis=1) < 0)
    near, place = on_edges(own[outside], p[outside])
    bary[outside], off[outside] = place, near
    good = off <= REACH
    index = spot[:, 1] * width + spot[:, 0]
    return index[good], rows[who[good]], bary[good], off[good]


def on_edges(corners: F64, points: F64) -> tuple[F64, F64]:
    """(N,) distance of points (N, 2) from triangles (N, 3, 2) that they lie outside of, and (N, 3) the nearest place."""
    best, place = np.full(len(points), np.inf), np.zeros((len(points), 3))
    for k in range(3):
        a, b = corners[:, k], corners[:, (k + 1) % 3]
        way = b - a
        share = ((points - a) * way).sum(axis=1) / np.maximum((way**2).sum(axis=1), 1e-300)
        share = np.clip(share, 0, 1)
        far = np.linalg.norm(points - a - way * share[:, None], axis=1)
        better = far < best
        best[better] = far[better]
        place[better] = 0.0
        place[better, k], place[better, (k + 1) % 3] = 1 - share[better], share[better]
    return best, place


def dilated(image: AnyArray, filled: AnyArray, rounds: int) -> AnyArray:
    """An image (H, W, C) with texels around those that are filled (H, W) given the mean of their filled neighbours, so many
    texels outwards: bilinear reading at borders then finds light."""
    out, there = image.copy(), filled.copy()
    for _ in range(rounds):
        total, number = np.zeros_like(out), np.zeros(there.shape)
        for dy in (-1, 0, 1):
            for dx in (-1, 0, 1):
                moved = np.zeros_like(there)
                moved_image = np.zeros_like(out)
                ys, yd = slice(max(0, -dy), out.shape[0] - max(0, dy)), slice(max(0, dy), out.shape[0] - max(0, -dy))
                xs, xd = slice(max(0, -dx), out.shape[1] - max(0, dx)), slice(max(0, dx), out.shape[1] - max(0, -dx))
                moved[yd, xd], moved_image[yd, xd] = there[ys, xs], out[ys, xs]
                total += moved_image * moved[..., None]
                number += moved
        new = ~there & (number > 0)
        if not new.any():
            break
        out[new] = total[new] / number[new][:, None]
        there |= new
    return out
