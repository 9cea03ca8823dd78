"""The place on a triangle that is closest to a point (Ericson, Real-Time Collision Detection, 2004, 5.1.5)."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.scene.arrays import F64

CHUNK = 1 << 15
"""Points asked about at once."""


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
    beyond = ~((va > 0) & (vb > 0) & (vc > 0))
    if beyond.any():
        best = np.full(len(points), np.inf)
        for start, way, along, long in edges:
            share = np.clip(np.divide(along, long, out=np.zeros(len(points)), where=long > 0), 0.0, 1.0)
            place = start + way * share[:, None]
            far = ((points - place) ** 2).sum(axis=1)
            better = beyond & (far < best)
            out[better], best[better] = place[better], far[better]
    return out


def dot(a: F64, b: F64) -> F64:
    out: F64 = np.einsum("ni,ni->n", a, b)
    return out


def apart(points: F64, corners: F64, reach: float) -> F64:
    """(N,) distance of points (N, 3) from the nearest of triangles (T, 3, 3), infinite beyond `reach`. O(N log T) and
    the triangles whose boxes come that near."""
    import shapely

    out = np.full(len(points), np.inf)
    if not len(points) or not len(corners):
        return out
    low, high = corners.min(axis=1) - reach, corners.max(axis=1) + reach
    last = int(np.argmin(np.ptp(corners.reshape(-1, 3), axis=0)))
    a, b = (k for k in range(3) if k != last)
    tree = shapely.STRtree(shapely.box(low[:, a], low[:, b], high[:, a], high[:, b]))
    for at in range(0, len(points), CHUNK):
        own = points[at : at + CHUNK]
        who, which = tree.query(shapely.points(own[:, a], own[:, b]))
        near = (own[who, last] >= low[which, last]) & (own[who, last] <= high[which, last])
        who, which = who[near], which[near]
        far = np.linalg.norm(closest_on(own[who], corners[which]) - own[who], axis=1)
        best = np.full(len(own), np.inf)
        np.minimum.at(best, who, far)
        out[at : at + CHUNK] = np.where(best <= reach, best, np.inf)
    return out


def furthest(corners: F64, others: F64, reach: float) -> float:
    """The largest distance of the corners and middles of triangles (T, 3, 3) from the nearest of others, infinite beyond
    `reach`."""
    if not len(corners):
        return 0.0
    places = np.concatenate([np.unique(corners.reshape(-1, 3), axis=0), corners.mean(axis=1)])
    return float(apart(places, others, reach).max())
