"""The place on a triangle that is closest to a point (Ericson, Real-Time Collision Detection, 2004, 5.1.5)."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.scene.arrays import F64


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
