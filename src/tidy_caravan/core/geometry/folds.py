"""Polygons that lie in no plane or cross themselves: how they are cut into triangles is then somebody's choice."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.scene.arrays import F64, I64, Bool

FOLDED_DEG = 15.0
"""Lean of a corner out of its polygon's plane from which on one sees along which diagonal the polygon was cut: halves of a
quad meet at twice that."""
TINY = 1e-3
"""Part of a polygon's area that the triangle at a corner has at least: the direction of a smaller one is not judged."""
CORNER = 0.05
"""The same of polygons with more corners, whose outline tells more of how they lie than a corner that is a small part."""
NOTHING = 1e-6
"""Part of what its corners span that a polygon covers at least; what covers less lies folded onto itself."""
AT_ONCE = 1 << 14
"""Quads looked at together: what is reckoned of them stays near the processor."""


@dataclass(frozen=True)
class Folds:
    """folded: polygons that lean out of their plane. degrees: by how much at most. crossing: such as cross themselves or are
    folded back, whose triangles cover too much, or face opposite ways."""

    folded: int = 0
    crossing: int = 0
    degrees: float = 0.0

    def __add__(self, other: Folds) -> Folds:
        both = self.folded + other.folded, self.crossing + other.crossing
        return Folds(*both, max(self.degrees, other.degrees))

    def __bool__(self) -> bool:
        return bool(self.folded or self.crossing)


FLAT = Folds()


def folds_of(points: F64, corner: I64, counts: I64) -> Folds:
    """The folds of polygons. points: (P, 3). corner: (C,) point of every corner, polygon after polygon. counts: (F,) corners
    of each. Polygons with corners that are nowhere are passed over. O(C)."""
    if not len(counts) or counts.max() < 4:
        return FLAT
    starts = np.cumsum(counts) - counts
    out = FLAT
    for size in np.unique(counts[counts > 3]).tolist():
        rows, each = np.flatnonzero(counts == size), max(1, 4 * AT_ONCE // size)
        for first in range(0, len(rows), each):
            at = corner[starts[rows[first : first + each], None] + np.arange(size)]
            p = points[at[sound(at, len(points)).all(axis=1)]]
            out += of_quads(p) if size == 4 else of_polygons(p)
    return out


def sound(at: I64, count: int) -> Bool:
    out: Bool = (at >= 0) & (at < count)
    return out


def cross(a: F64, b: F64) -> F64:
    """(3, N) x (3, N); np.cross is slow on many rows."""
    return np.stack([a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]])


def dot(a: F64, b: F64) -> F64:
    """Of the columns of (3, N)."""
    out: F64 = a[0] * b[0] + a[1] * b[1] + a[2] * b[2]
    return out


def of_quads(p: F64) -> Folds:
    """(Q, 4, 3). The triangles at opposite corners make up the quad, whichever pair it is cut into: two of them, at a and b,
    tell of the others."""
    a, b, c, d = np.ascontiguousarray(p.transpose(1, 2, 0))
    whole, first, second = cross(c - a, d - b), cross(a - d, b - a), cross(b - a, c - b)
    area2 = dot(whole, whole)
    along = np.stack([dot(first, whole), dot(second, whole)])
    own2 = np.stack([dot(first, first), dot(second, second)])
    along, own2 = np.concatenate([along, area2 - along]), np.concatenate([own2, own2 + area2 - 2 * along])
    span2, spread2 = own2.max(axis=0), np.maximum(dot(c - a, c - a), dot(d - b, d - b))
    # what is a line covers nothing, and what is no number is not told
    told = (own2 > (TINY * TINY) * area2) & (span2 > (NOTHING * spread2) ** 2)
    crossing = ((told & (along < 0)).sum(axis=0) >= 2) | (area2 <= NOTHING * NOTHING * span2)
    crossing &= told.any(axis=0)
    upright = along * along >= np.cos(np.radians(FOLDED_DEG)) ** 2 * own2 * area2
    folded = ~crossing & (told & ~upright).any(axis=0)
    most = 0.0
    if folded.any():
        told, along, both = told[:, folded], along[:, folded], own2[:, folded] * area2[folded]
        lean = np.where(told, along * along / np.where(told, both, 1.0), 1.0)
        most = float(np.degrees(np.arccos(np.sqrt(lean.min()))))
    return Folds(int(folded.sum()), int(crossing.sum()), most)


def of_polygons(p: F64) -> Folds:
    """(K, N, 3), N > 4: by the plane of their Newell normals, and by how often their outlines turn about in it (once, where
    they do not cross themselves)."""
    p = p[np.isfinite(p).all(axis=(1, 2))]
    if not len(p):
        return FLAT
    again = (p == np.roll(p, -1, axis=1)).all(axis=2)
    if again.any():  # corners that stand where the next one does tell of no direction
        some = again.any(axis=1)
        less = [one[~twice][None] for one, twice in zip(p[some], again[some], strict=True) if (~twice).sum() > 3]
        return sum((of_polygons(one) for one in less), of_polygons(p[~some]))
    p = p - p[:, :1]
    edge = np.roll(p, -1, axis=1) - p
    before = np.roll(edge, 1, axis=1)
    corners = np.cross(before, edge)
    whole = np.cross(p, np.roll(p, -1, axis=1)).sum(axis=1)
    area, spread = np.linalg.norm(whole, axis=1), np.ptp(p, axis=1).max(axis=1)
    own = np.linalg.norm(corners, axis=2)
    thin = area <= NOTHING * spread**2
    normal = whole / np.where(thin, 1.0, area)[:, None]
    upright = np.einsum("kni,ki->kn", corners, normal)
    ahead = np.einsum("kni,kni->kn", before, edge)
    ahead -= np.einsum("kni,ki->kn", before, normal) * np.einsum("kni,ki->kn", edge, normal)
    crossing = np.abs(np.arctan2(upright, ahead).sum(axis=1) - 2 * np.pi) > 1
    crossing = np.where(thin, own.max(axis=1) > NOTHING * spread**2, crossing)
    told = own > CORNER * area[:, None]
    lean = np.arccos(np.minimum(np.abs(upright) / np.where(told, own, 1.0), 1.0))
    most = np.where(told, lean, 0.0).max(axis=1)
    off = p - p.mean(axis=1, keepdims=True)
    height = np.einsum("kni,ki->kn", off, normal)
    reach = np.sqrt(np.maximum((off * off).sum(axis=2) - height**2, 0).max(axis=1))
    most = np.degrees(np.maximum(most, np.arctan2(np.ptp(height, axis=1), reach)))
    folded = ~crossing & ~thin & (most > FOLDED_DEG)
    return Folds(int(folded.sum()), int(crossing.sum()), float(most[folded].max(initial=0.0)))
