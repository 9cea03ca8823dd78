"""Light that comes through gaps which are not meant: rays from the sky or a sun that reach a surface, and would not a few
millimetres to either side.

A ray past an edge has room on its other side, one through a window has it on both. What arrives through less than about
`BESIDE_M` is named; a grille so fine is named as well.
"""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.geometry.normals import frame_across
from tidy_caravan.core.geometry.rays import Caster
from tidy_caravan.core.scene.arrays import F32, F64, I64, Bool

BESIDE_M = 0.006
"""How far beside a ray others are cast."""
LIPS_M = 0.3
"""Most that the two edges of a gap are apart along a ray: what is seen at a flat angle past one post and the next is narrow as
well, and no gap."""
ROOT = 2**0.5
CLOSE_M = 0.1
"""Length before the surface that counts for nothing: in a corner there is never room around a ray."""


def leaking(caster: Caster, start: F32, way: F32, reach: float) -> Bool:
    """(N,) True for rays that escape, and whose neighbours on two opposite sides are stopped. reach: metres that the scene is
    long.

    Neighbours are cast the other way, from outside to just before the surface. A gap is narrow at least along one of two
    axes across, and most rays have both neighbours of those free.
    """
    out = np.zeros(len(start), np.bool_)
    if caster.empty or not len(start):
        return out
    ways: F64 = way.astype(np.float64)
    one, two = frame_across(ways)

    def stopped(rows: I64, side: F64) -> Bool:
        outside = start[rows] + ways[rows] * reach + side[rows] * BESIDE_M
        far = np.full(len(rows), reach - CLOSE_M, np.float32)
        found: Bool = caster.scene.run(outside.astype(np.float32), -way[rows], far, query="OCCLUDED") >= 0
        return found

    def lips(rows: I64, side: F64) -> Bool:
        """Whether what stops the neighbours on both sides is at about one depth, seen from outside or from the surface."""
        level = np.zeros(len(rows), np.bool_)
        for begin, turn in ((ways[rows] * reach, -1.0), (ways[rows] * CLOSE_M, 1.0)):
            ends = [
                caster.scene.run(
                    (start[rows] + begin + sign * side[rows] * BESIDE_M).astype(np.float32),
                    (turn * ways[rows]).astype(np.float32),
                    np.full(len(rows), reach - CLOSE_M, np.float32),
                    query="DISTANCE",
                )
                for sign in (1.0, -1.0)
            ]
            level |= np.abs(ends[0] - ends[1]) < LIPS_M
        return level

    every = np.arange(len(start))
    near = every[stopped(every, one) | stopped(every, two)]
    for side in (one, two, (one + two) / ROOT, (one - two) / ROOT):
        if not len(near):
            break
        hit = near[stopped(near, side)]
        hit = hit[stopped(hit, -side)] if len(hit) else hit
        hit = hit[lips(hit, side)] if len(hit) else hit
        out[hit] = True
        near = near[~out[near]]
    return out
