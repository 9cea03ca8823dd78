"""Parts whose boxes meet, and those of their triangles that lie where they do."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.scene import HIDDEN, Scene
from tidy_caravan.core.scene.arrays import F64, I64, Bool, ranges
from tidy_caravan.core.scene.keeping import kept

LARGE = 4000
"""Triangles of a part from which on they are looked up by place instead of one by one."""
CHUNK = 1 << 22
WIDEST_M = 5e-3
"""How far apart parts may be that several checks ask about."""


def meeting_boxes(boxes: F64, spare: F64) -> I64:
    """(K, 2) pairs a < b of boxes (N, 2, 3) that are no further apart than the smaller spare of both (N,).

    O(N log N) and the pairs above each other, along the shortest side of the whole.
    """
    import shapely

    if len(boxes) < 2:
        return np.zeros((0, 2), np.int64)
    low, high = widened(boxes, spare)
    extent = np.ptp(boxes.reshape(-1, 3), axis=0)
    last = int(np.argmin(extent))
    a, b = (k for k in range(3) if k != last)
    plans = shapely.box(low[:, a], low[:, b], high[:, a], high[:, b])
    first, second = shapely.STRtree(plans).query(plans)
    once = first < second
    first, second = first[once], second[once]
    meet = (low[first, last] <= high[second, last]) & (low[second, last] <= high[first, last])
    return np.column_stack([first[meet], second[meet]]).astype(np.int64)


def widened(boxes: F64, spare: F64) -> tuple[F64, F64]:
    """(N, 3) smallest and largest corners of boxes (N, 2, 3), half the spare (N,) further out."""
    return boxes[:, 0] - spare[:, None] / 2, boxes[:, 1] + spare[:, None] / 2


@kept
def shown_parts(scene: Scene) -> tuple[I64, F64]:
    """(K,) nodes of the parts that are shown, and (K, 2, 3) their boxes."""
    nodes = scene.nodes
    shown = np.flatnonzero((nodes.flags[nodes.parts] & HIDDEN) == 0)
    return nodes.parts[shown], scene.part_bounds[shown]


@kept
def widely(scene: Scene) -> I64:
    """(P, 2) pairs of shown parts that are no further apart than WIDEST_M."""
    _, boxes = shown_parts(scene)
    return meeting_boxes(boxes, np.full(len(boxes), WIDEST_M / scene.convention.metres_per_unit))


def meeting_parts(scene: Scene, spare: F64) -> I64:
    """(P, 2) the pairs of `meeting_boxes` among the shown parts; they are looked for once for all who ask."""
    _, boxes = shown_parts(scene)
    if (spare > WIDEST_M / scene.convention.metres_per_unit).any():
        return meeting_boxes(boxes, spare)
    low, high = widened(boxes, spare)
    first, second = widely(scene).T
    meet: Bool = ((low[first] <= high[second]) & (low[second] <= high[first])).all(axis=1)
    return np.column_stack([first[meet], second[meet]])


@dataclass(frozen=True)
class Nearby:
    """(R,) triangles, each with the pair it may matter to and whether it belongs to its first (0) or second (1) part."""

    triangle: I64
    pair: I64
    side: I64


def nearby(pairs: I64, boxes: F64, begin: I64, low: F64, high: F64, spare: F64) -> Nearby:
    """Triangles of the parts of each pair (K, 2) that meet the other part's box.

    boxes: (P, 2, 3) of the parts. begin: (P + 1,) where each part's triangles begin among low, high (T, 3), which are
    sorted by part. spare: (K,) how far apart counts as meeting.
    """
    shared_low = boxes[pairs, 0].max(axis=1) - spare[:, None]
    shared_high = boxes[pairs, 1].min(axis=1) + spare[:, None]
    triangles: list[I64] = []
    numbers: list[I64] = []
    sides: list[I64] = []
    count = np.diff(begin)
    for side in (0, 1):
        part = pairs[:, side]
        few = np.flatnonzero(count[part] < LARGE)
        ends = np.cumsum(count[part[few]])
        for at in range(0, int(ends[-1]) if len(ends) else 0, CHUNK):
            rows = few[np.searchsorted(ends, at, side="right") : np.searchsorted(ends, at + CHUNK, side="right")]
            if not len(rows):
                continue
            pair = np.repeat(rows, count[part[rows]])
            triangle = ranges(begin[part[rows]], count[part[rows]])
            keep = (low[triangle] <= shared_high[pair]).all(axis=1) & (high[triangle] >= shared_low[pair]).all(axis=1)
            triangles.append(triangle[keep])
            numbers.append(pair[keep])
        many = np.flatnonzero(count[part] >= LARGE)
        for one in np.unique(part[many]).tolist():
            found = by_place(
                low[begin[one] : begin[one + 1]], high[begin[one] : begin[one + 1]],
                shared_low[many[part[many] == one]], shared_high[many[part[many] == one]],
            )  # fmt: skip
            numbers.append(many[part[many] == one][found[:, 0]])
            triangles.append(found[:, 1] + begin[one])
        sides += [np.full(len(t), side) for t in triangles[len(sides) :]]
    if not triangles:
        none = np.zeros(0, np.int64)
        return Nearby(none, none, none)
    return Nearby(np.concatenate(triangles), np.concatenate(numbers), np.concatenate(sides))


def by_place(low: F64, high: F64, from_: F64, to: F64) -> I64:
    """(K, 2) which of the boxes from_, to (Q, 3) meets which of the boxes low, high (T, 3)."""
    import shapely

    extent = high.max(axis=0) - low.min(axis=0)
    last = int(np.argmin(extent))
    a, b = (k for k in range(3) if k != last)
    tree = shapely.STRtree(shapely.box(low[:, a], low[:, b], high[:, a], high[:, b]))
    asked, found = tree.query(shapely.box(from_[:, a], from_[:, b], to[:, a], to[:, b]))
    meet = (low[found, last] <= to[asked, last]) & (high[found, last] >= from_[asked, last])
    return np.column_stack([asked[meet], found[meet]]).astype(np.int64)
