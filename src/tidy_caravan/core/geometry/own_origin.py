"""Meshes far from their origin get one of their own, so that float32 holds their details.

A float32 coordinate is off by up to its size times 2⁻²⁴. What that may cost goes by the part: its size, its
typical edge, how far its file lies from the origin, and, where the unit is known, by a length.
"""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, extremes, usable_rows

FAR_DIAGONALS = 64.0
"""Distance from the origin in diagonals of the mesh: rounding then costs a 260,000th of its size."""
FAR_EDGES = 2.0**14
"""Distance in typical edges of the mesh: rounding then costs a thousandth of an edge."""
FAR_FILE = 16.0
"""Distance of a whole file in its own diagonals from which on all its meshes get an origin: map coordinates."""
LOSS_M = 5e-5
"""Rounding in metres that is too much, where the unit is known and the mesh lies off by several of its diagonals."""
OFF_DIAGONALS = 4.0
SAMPLE = 30_000


def far_file(points: F64) -> bool:
    """Whether all points (N, 3) of a file lie much further from the origin than from each other."""
    whole = usable_rows(points)
    usable = points if whole.all() else points[whole]
    if not len(usable):
        return False
    low, high = extremes(usable)
    reach = float(np.abs([low, high]).max())
    return reach > FAR_FILE * max(float(np.linalg.norm(high - low)), 1e-300) and reach > 0


def rebased(points: F64, corner: I64, metres: float | None = None, far: bool = False) -> tuple[F64, F64]:
    """(P, 3) points as offsets from an origin of the mesh, and that origin (3,), noughts where it needs none.

    corner: (C,) points of all faces, one after another; only those count. metres: length of one unit, if it is
    known. far: the file as a whole lies far off. The origin is the middle of the bounds, on a round number of a
    step below the size of the mesh. O(C).
    """
    none = np.zeros(3)
    if not len(corner):
        return points, none
    inside = corner
    if corner.min() < 0 or corner.max() >= len(points):
        inside = corner[(corner >= 0) & (corner < len(points))]
        if not len(inside):
            return points, none
    finite = usable_rows(points)
    asked = np.zeros(len(points), np.bool_)
    asked[inside] = True
    asked &= finite
    if not asked.any():
        return points, none
    used = points if asked.all() else points[asked]
    low, high = extremes(used)
    reach, diagonal = float(np.abs([low, high]).max()), float(np.linalg.norm(high - low))
    first = inside[:SAMPLE]
    if not needs_origin(points, first[finite[first]], reach, diagonal, metres, far):
        return points, none
    step = 10.0 ** np.floor(np.log10(max(diagonal, reach * 1e-12)))
    origin: F64 = np.round((low + high) / 2 / step) * step
    # beyond the range of numbers stays beyond it, so that the reader still leaves it out
    return np.where(finite[:, None], points - origin, points), origin


def needs_origin(points: F64, used: I64, reach: float, diagonal: float, metres: float | None, far: bool) -> bool:
    """used: (C,) corners of faces one after another, whose steps are as long as its edges."""
    if far or reach > FAR_DIAGONALS * diagonal > 0:
        return True
    if metres is not None and reach * metres * 2.0**-24 > LOSS_M and reach > OFF_DIAGONALS * diagonal:
        return True
    if not reach > diagonal:  # detail near an origin inside the part is what float32 is for
        return False
    edges = np.linalg.norm(np.diff(points[used], axis=0), axis=1)
    edges = edges[edges > 0]
    return bool(len(edges)) and reach > FAR_EDGES * float(np.median(edges))


def placed_at(local: F64, parent: AnyArray, origins: F64) -> F64:
    """(N, 4, 4) matrices of nodes whose meshes were rebased by origins (N, 3): nothing moves in the world."""
    out = local.copy()
    out[:, :3, 3] += (local[:, :3, :3] @ origins[:, :, None])[:, :, 0]
    below = np.flatnonzero(np.asarray(parent) >= 0)
    out[below, :3, 3] -= origins[np.asarray(parent)[below]]
    return out
