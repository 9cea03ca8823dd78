"""Boxes laid on a map where they leave the largest rooms for others, compiled: hundreds of orders in the time of one.

The free room is kept as all its largest rectangles, which overlap each other (maximal rectangles; Jylänki, A Thousand Ways to
Pack the Bin, 2010). A shape is laid as its box, and the rectangles that are free within it, such as the openings of a wall,
are room again.
"""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.compiled import compiled
from tidy_caravan.core.lightmap.bitmaps import cells_of, inside_of
from tidy_caravan.core.lightmap.orders import changed, first_state
from tidy_caravan.core.scene.arrays import F64, I64, Bool

RULES = 4
"""Which place is best: the lowest; the one whose shorter rest is least; the one whose room is left smallest; the one that
makes what is covered the least larger."""
MOST_ROOMS = 6000


@compiled
def lay(  # type: ignore[no-untyped-def]
    size, order, rule, width, height, step, inner, begin, places, turns, rooms, worst
):
    """The area of the boxes that do not fit a map of width by height, 0 when all do; and where the lower corners of the
    others lie.

    size: (K, 2, 2) width and height of every box in both turns, what is to be free beside it included. order: (K,) which comes
    first. step: what corners are multiples of, 0 for anything. inner: (R, 2, 4) rectangles free within boxes, from their
    lower corner, in both turns: x, y, width, height; those of box k are begin[k]:begin[k + 1]. places (K, 2) and turns (K,)
    are filled in. rooms: (M, 4) to work in. worst: area left out from which on the rest is not looked at. O(K · rooms) and
    what new rooms cost to compare with all.
    """
    rooms[0, 0], rooms[0, 1], rooms[0, 2], rooms[0, 3] = 0.0, 0.0, width, height
    count = 1
    most = rooms.shape[0]
    left = 0.0
    for at in range(order.shape[0]):
        k = order[at]
        best, second, chosen, chosen_turn = np.inf, np.inf, -1, 0
        for r in range(count):
            x, y, rw, rh = rooms[r, 0], rooms[r, 1], rooms[r, 2], rooms[r, 3]
            for turn in range(2):
                w, h = size[k, turn, 0], size[k, turn, 1]
                if w > rw or h > rh:
                    continue
                if rule == 0:
                    one, other = y + h, x
                elif rule == 1:
                    one, other = min(rw - w, rh - h), max(rw - w, rh - h)
                elif rule == 2:
                    one, other = rw * rh - w * h, min(rw - w, rh - h)
                else:
                    one, other = max((x + w) / width, (y + h) / height), y + h
                if one < best or (one == best and other < second):
                    best, second, chosen, chosen_turn = one, other, r, turn
                if size[k, 0, 0] == size[k, 1, 0]:
                    break
        if chosen < 0:
            left += size[k, 0, 0] * size[k, 0, 1]
            if left > worst:
                return left
            continue
        x, y = rooms[chosen, 0], rooms[chosen, 1]
        w, h = size[k, chosen_turn, 0], size[k, chosen_turn, 1]
        places[k, 0], places[k, 1], turns[k] = x, y, chosen_turn
        # rooms that the box cuts are replaced by what is left of them on its four sides
        kept = 0
        made = count
        for r in range(count):
            a, b, c, d = rooms[r, 0], rooms[r, 1], rooms[r, 2], rooms[r, 3]
            if x >= a + c or x + w <= a or y >= b + d or y + h <= b:
                rooms[kept, 0], rooms[kept, 1], rooms[kept, 2], rooms[kept, 3] = a, b, c, d
                kept += 1
                continue
            if made + 4 > most:
                return np.inf
            if x > a:
                rooms[made, 0], rooms[made, 1], rooms[made, 2], rooms[made, 3] = a, b, x - a, d
                made += 1
            if x + w < a + c:
                rooms[made, 0], rooms[made, 1], rooms[made, 2], rooms[made, 3] = x + w, b, a + c - x - w, d
                made += 1
            if y > b:
                rooms[made, 0], rooms[made, 1], rooms[made, 2], rooms[made, 3] = a, b, c, y - b
                made += 1
            if y + h < b + d:
                rooms[made, 0], rooms[made, 1], rooms[made, 2], rooms[made, 3] = a, y + h, c, b + d - y - h
                made += 1
        if made + begin[k + 1] - begin[k] > most:
            return np.inf
        for i in range(begin[k], begin[k + 1]):
            a, b = x + inner[i, chosen_turn, 0], y + inner[i, chosen_turn, 1]
            c, d = inner[i, chosen_turn, 2], inner[i, chosen_turn, 3]
            if step > 0:
                right, top = np.floor((a + c) / step) * step, np.floor((b + d) / step) * step
                a, b = np.ceil(a / step) * step, np.ceil(b / step) * step
                c, d = right - a, top - b
            if c > 0 and d > 0:
                rooms[made, 0], rooms[made, 1], rooms[made, 2], rooms[made, 3] = a, b, c, d
                made += 1
        # of the new ones, those within another are none of their own; old ones are within no piece of one another
        first = kept
        for r in range(count, made):
            a, b, c, d = rooms[r, 0], rooms[r, 1], rooms[r, 2], rooms[r, 3]
            within = False
            for q in range(made):
                if q == r or (kept <= q < count) or (q >= count and rooms[q, 2] < 0):
                    continue
                e, f, g, i = rooms[q, 0], rooms[q, 1], rooms[q, 2], rooms[q, 3]
                if e <= a and f <= b and e + g >= a + c and f + i >= b + d:
                    within = True
                    break
            if within:
                rooms[r, 2] = -1.0  # taken out at once, or two equal ones would take out each other
        for r in range(count, made):
            if rooms[r, 2] > 0:
                rooms[first, 0], rooms[first, 1] = rooms[r, 0], rooms[r, 1]
                rooms[first, 2], rooms[first, 3] = rooms[r, 2], rooms[r, 3]
                first += 1
        count = first
    return left


@compiled
def improved(  # type: ignore[no-untyped-def]
    size, order, rule, width, height, step, inner, begin, places, turns, rooms, tries, seed
):
    """Whether all fit, where they do not with one or two boxes moved in the order, up to `tries` times; an order that leaves no
    more out is gone on with, and is what `order` is then. What is tried is the same for the same seed."""
    if tries == 0:
        return lay(size, order, rule, width, height, step, inner, begin, places, turns, rooms, 0.0) == 0
    least = lay(size, order, rule, width, height, step, inner, begin, places, turns, rooms, np.inf)
    state, trial = first_state(seed), order.copy()
    for _ in range(tries):
        if least == 0:
            return True
        state = changed(order, trial, state)
        found = lay(size, trial, rule, width, height, step, inner, begin, places, turns, rooms, least)
        if found <= least:
            least = found
            order[:] = trial
    return least == 0


@compiled
def shelves(wide, high, room, padding, out):  # type: ignore[no-untyped-def]
    """Whether boxes (K,) sorted by height fit a square of `room` on shelves; fills in their lower corners (K, 2)."""
    ends, floors = np.empty(len(wide)), np.empty(len(wide))
    count = start = 0
    top = 0.0
    narrow = wide.min()
    for i in range(len(wide)):
        w, h = wide[i], high[i]
        k = start
        while k < count and ends[k] + w > room:
            k += 1
        if k == count:
            if top + h > room or w > room:
                return False
            ends[k], floors[k] = 0.0, top
            count += 1
            top += h + padding
        out[i, 0], out[i, 1] = ends[k], floors[k]
        ends[k] += w + padding
        while start < count and ends[start] + narrow > room:
            start += 1
    return True


def free_within(border: F64, size: F64, cells: int = 48, most: int = 24) -> F64:
    """(R, 4) x, y, width, height of the largest rectangles within an island's box that the island leaves free, the largest first.

    border: (L, 2, 2) lines around it from its lower corner. Exact where all lines are upright or level and few; otherwise
    on so many cells along its longer side, and never more than is free.
    """
    way = np.abs(border[:, 1] - border[:, 0])
    level = 1e-6 * float(size.max())
    lines = [marks(border[:, :, axis], float(size[axis]), level) for axis in (0, 1)]
    if (way.min(axis=1) <= level).all() and all(len(m) <= 2 * cells for m in lines):
        # cells between the lines themselves, which take none of them
        spot = [np.searchsorted(m + level, border[:, :, axis]) for axis, m in enumerate(lines)]
        taken = inside_of(np.stack(spot, axis=2).astype(np.float64), len(lines[0]) - 1, len(lines[1]) - 1)
    else:
        fine = cells / float(size.max())
        wide, high = (max(1, int(np.ceil(v * fine))) for v in size.tolist())
        taken = cells_of(border * ([wide, high] / size), wide, high)
        lines = [np.linspace(0, float(size[0]), wide + 1), np.linspace(0, float(size[1]), high + 1)]
    found = largest_free(taken)
    if not len(found):
        return np.zeros((0, 4))
    x, y = lines
    low = np.column_stack([x[found[:, 0]], y[found[:, 1]]])
    top = np.column_stack([x[found[:, 2]], y[found[:, 3]]])
    area = np.prod(top - low, axis=1)
    keep = np.argsort(-area, kind="stable")[:most]
    return np.column_stack([low, top - low])[keep]


def marks(along: F64, length: float, level: float) -> F64:
    """The different places of corners along an axis, its ends included."""
    values = np.sort(np.append(along.reshape(-1), [0.0, length]))
    out: F64 = values[np.append(True, np.diff(values) > level)]
    return out


def largest_free(taken: Bool) -> I64:
    """(R, 4) left, low, right and top cell lines of all free rectangles of a mask (H, W) that no larger one holds. O(H² · W)."""
    room = 64
    while True:
        out = np.empty((room, 4), np.int64)
        count = int(fill_in_largest(taken, out))
        if count <= room:
            return out[:count]
        room = count


@compiled
def fill_in_largest(taken, out):  # type: ignore[no-untyped-def]
    """The same, as many as there is room for; how many there are."""
    high, wide = taken.shape
    count = 0
    free = np.empty(wide + 1, np.bool_)
    for low in range(high):
        free[:wide] = True
        free[wide] = False
        for top in range(low + 1, high + 1):
            left = 0
            any_free = False
            for x in range(wide + 1):
                if x < wide and taken[top - 1, x]:
                    free[x] = False
                if free[x]:
                    any_free = True
                    continue
                if x > left:  # a run that ends here
                    below, above = low > 0, top < high
                    for i in range(left, x):
                        below = below and not taken[low - 1, i]
                        above = above and not taken[top, i]
                    if not below and not above:
                        if count < out.shape[0]:
                            out[count, 0], out[count, 1], out[count, 2], out[count, 3] = left, low, x, top
                        count += 1
                left = x + 1
            if not any_free:
                break
    return count
