"""The place on a triangle that is closest to a point (Ericson, Real-Time Collision Detection, 2004, 5.1.5), and how far points
are from the nearest of many."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.scene.arrays import F64, I64, U64

SPREAD = (
    (32, 0x1F00000000FFFF), (16, 0x1F0000FF0000FF), (8, 0x100F00F00F00F00F), (4, 0x10C30C30C30C30C3), (2, 0x1249249249249249),
)  # fmt: skip
"""Shifts and masks that put two empty bits between those of a number."""


HOT = (0.5, 0.8)
"""Part of the largest distance from which on it is looked at between two places, the first time and the second …"""
BETWEEN = 6
"""… in as many steps."""


def closest_on(points: F64, corners: F64) -> F64:
    """(N, 3) closest place to each point (N, 3) on its own triangle (N, 3, 3), which may be a line or a point."""
    a, b, c = corners[:, 0], corners[:, 1], corners[:, 2]
    ab, ac, ap = b - a, c - a, points - a
    bp, cp = points - b, points - c
    d1, d2 = dot(ab, ap), dot(ac, ap)
    d3, d4 = dot(ab, bp), dot(ac, bp)
    d5, d6 = dot(ab, cp), dot(ac, cp)
    va, vb, vc = d3 * d6 - d5 * d4, d5 * d2 - d1 * d6, d1 * d4 - d3 * d2
    whole = va + vb + vc
    inside = np.where(whole > 0, whole, 1.0)
    out: F64 = a + ab * (vb / inside)[:, None] + ac * (vc / inside)[:, None]
    edges = ((a, ab, d1, d1 - d3), (a, ac, d2, d2 - d6), (b, c - b, d4 - d3, (d4 - d3) + (d5 - d6)))
    # a sliver may seem to have the point above it by rounding; then one of its edges is nearer
    best = np.where((va > 0) & (vb > 0) & (vc > 0), ((points - out) ** 2).sum(axis=1), np.inf)
    for start, way, along, long in edges:
        share = np.clip(np.divide(along, long, out=np.zeros(len(points)), where=long > 0), 0.0, 1.0)
        place = start + way * share[:, None]
        far = ((points - place) ** 2).sum(axis=1)
        better = far < best
        out[better], best[better] = place[better], far[better]
    return out


def dot(a: F64, b: F64) -> F64:
    out: F64 = np.einsum("ni,ni->n", a, b)
    return out


def apart(points: F64, corners: F64, reach: float) -> F64:
    """(N,) distance of points (N, 3) from the nearest of triangles (T, 3, 3), infinite beyond `reach`.

    O((N + T) log T), with boxes over triangles in the order of a curve that fills space (Morton, 1966).
    """
    from tidy_caravan.core.geometry.nearest import LEAF, boxes_over, nearest

    if not len(points) or not len(corners):
        return np.full(len(points), np.inf)
    ordered = np.ascontiguousarray(corners[np.argsort(along_curve(corners.mean(axis=1)), kind="stable")])
    leaves = 1 << max(0, (-(-len(ordered) // LEAF) - 1).bit_length())
    order = np.argsort(along_curve(points), kind="stable")
    out = np.empty(len(points))
    triangles = np.column_stack([ordered[:, 0], ordered[:, 1] - ordered[:, 0], ordered[:, 2] - ordered[:, 0]])
    out[order] = nearest(np.ascontiguousarray(points[order]), triangles, boxes_over(ordered, leaves), reach)
    return out


def along_curve(points: F64) -> U64:
    """(N,) places of points (N, 3) along a curve through a grid of 2^21 cells a side: what is near there is near."""
    points = np.where(np.isfinite(points), points, 0.0)
    low, high = points.min(axis=0), points.max(axis=0)
    size = max(float((high - low).max()), 1e-300)
    cells = np.clip((points - low) / size * (2**21 - 1), 0, 2**21 - 1).astype(np.uint64)
    out = np.zeros(len(points), np.uint64)
    for k in range(3):
        one = cells[:, k]
        for shift, mask in SPREAD:
            one = (one | (one << np.uint64(shift))) & np.uint64(mask)
        out |= one << np.uint64(k)
    return out


def furthest_along(edges: I64, points: F64, others: F64, reach: float, least: float) -> float:
    """The largest distance of places on edges (E, 2) of points (V, 3) from the nearest of triangles (T, 3, 3), `least` where it
    is no larger, infinite beyond `reach`. Where one surface is nearly another, their distance is largest at a corner of either
    or where an edge of the one crosses one of the other: so edges with an end that is far off are looked at in steps, and again
    between the steps that are the furthest."""
    if not len(edges):
        return least
    used, of_edge = np.unique(edges, return_inverse=True)
    far = apart(points[used], others, reach)[of_edge.reshape(-1, 2)]
    row, low, high = np.arange(len(edges)), np.zeros(len(edges)), np.ones(len(edges))
    worst = max(least, float(far.max()))
    for hot in HOT:
        if not np.isfinite(worst):
            break
        chosen = far.max(axis=1) >= hot * worst
        row, low, high = row[chosen], low[chosen], high[chosen]
        steps = low[:, None] + (high - low)[:, None] * np.arange(BETWEEN + 1) / BETWEEN
        start, end = (points[edges[row, k]][:, None] for k in (0, 1))
        places = start + (end - start) * steps[:, 1:-1, None]
        inner = apart(places.reshape(-1, 3), others, reach).reshape(len(row), BETWEEN - 1)
        known = np.column_stack([far[chosen, :1], inner, far[chosen, 1:]])
        far = np.stack([known[:, :-1].ravel(), known[:, 1:].ravel()], axis=1)
        row, low, high = np.repeat(row, BETWEEN), steps[:, :-1].ravel(), steps[:, 1:].ravel()
        worst = max(worst, float(inner.max(initial=0.0)))
    return worst


def furthest(corners: F64, others: F64, reach: float, parts: int = 1) -> float:
    """The largest distance of places on triangles (T, 3, 3) from the nearest of others, infinite beyond `reach`: of their
    middles, and of the corners of parts², which each is divided into."""
    if not len(corners):
        return 0.0
    steps = [(i, j, parts - i - j) for i in range(parts + 1) for j in range(parts + 1 - i)]
    places = np.concatenate([np.tensordot(corners, np.array(step) / parts, axes=(1, 0)) for step in steps])
    places = places[np.argsort(along_curve(places), kind="stable")]
    new = np.ones(len(places), np.bool_)
    new[1:] = (places[1:] != places[:-1]).any(axis=1)
    places = np.concatenate([places[new], corners.mean(axis=1)])
    return float(apart(places, others, reach).max())
