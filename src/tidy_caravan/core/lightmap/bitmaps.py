"""Maps as one long number each, a bit a cell: where a shape fits is found for all places of a map at once.

Row after row, with empty room beside them, so that a shift is a move. A shape is a few rectangles; where one of them
would meet something is that something smeared by the rectangle, in as many shifts as the logarithm of its size.
"""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.scene.arrays import F64, I64, Bool

Block = tuple[int, int, int, int]
"""x, y, width, height in cells."""


class Bitmap:
    """A map of `width` by `height` cells on which shapes are laid, `gap` cells between them; what is taken is one number."""

    def __init__(self, width: int, height: int, gap: int) -> None:
        self.width, self.height, self.gap = width, height, gap
        self.pitch = 2 * width + 2 * gap
        self.taken = 0
        self.wide: list[int] = []
        """What is taken, smeared along rows by 1, 2, 4 … cells."""
        self.inside: dict[tuple[int, int], int] = {}

    def corners(self, wide: int, high: int) -> int:
        """The places of the lower corner of a box that lies inside the map."""
        key = wide, high
        if key not in self.inside:
            self.inside[key] = filled((1 << (self.width - wide + 1)) - 1, self.height - high + 1, self.pitch)
        return self.inside[key]

    def places(self, blocks: list[Block], wide: int, high: int) -> int:
        """The places of a shape's lower corner, a bit each, at which all of its blocks keep their distance from what is
        taken; the shape as a whole is wide x high and stays inside. O(blocks · log size) shifts of the map."""
        if wide > self.width or high > self.height:
            return 0
        free = self.corners(wide, high)
        if not self.taken:
            return free
        met = 0
        for x, y, w, h in blocks:
            # a corner at c meets a cell t when t - c is in the block
            met |= smear(self.along(w), h, self.pitch) >> (y * self.pitch + x)
        return free & ~met

    def along(self, length: int) -> int:
        """What is taken, with the gap around it, smeared along rows; from what is at hand of it."""
        if not self.wide:
            # moved by the gap before, so that nothing falls off the map's beginning
            around, reach = self.taken << (self.gap * self.pitch + self.gap), 2 * self.gap + 1
            self.wide.append(smear(smear(around, reach, 1), reach, self.pitch))
        k = length.bit_length() - 1
        while len(self.wide) <= k:
            self.wide.append(self.wide[-1] | self.wide[-1] >> (1 << (len(self.wide) - 1)))
        rest = length - (1 << k)
        return self.wide[k] | self.wide[k] >> rest if rest else self.wide[k]

    def lay(self, blocks: list[Block], x: int, y: int) -> None:
        """Takes the cells of a shape whose lower corner is at (x, y)."""
        for bx, by, w, h in blocks:
            self.taken |= filled((1 << w) - 1, h, self.pitch) << ((y + by) * self.pitch + x + bx)
        self.wide = []

    def first(self, places: int) -> tuple[int, int]:
        """(x, y) of the lowest of the places, the leftmost of those."""
        y, x = divmod((places & -places).bit_length() - 1, self.pitch)
        return x, y


def filled(row: int, rows: int, pitch: int) -> int:
    """So many equal rows."""
    built = 1
    while built < rows:
        more = min(built, rows - built)
        row |= row << (more * pitch)
        built += more
    return row


def smear(bits: int, length: int, step: int) -> int:
    """Bits from which, going on by `step` fewer than `length` times, one of the given bits is met."""
    built = 1
    while built < length:
        more = min(built, length - built)
        bits |= bits >> (more * step)
        built += more
    return bits


def blocks_of(mask: Bool) -> list[Block]:
    """Rectangles that make up a mask (H, W), by merging equal runs of neighbouring rows."""
    out: list[Block] = []
    waiting: dict[tuple[int, int], tuple[int, int]] = {}
    edges = np.diff(np.pad(mask.astype(np.int8), ((0, 0), (1, 1))), axis=1)
    rows, columns = np.nonzero(edges)
    begins = np.searchsorted(rows, np.arange(len(mask) + 1))
    for y, (a, b) in enumerate(zip(begins[:-1].tolist(), begins[1:].tolist(), strict=True)):
        ends = columns[a:b].tolist()
        runs = set(zip(ends[::2], ends[1::2], strict=True))
        for run in [r for r in waiting if r not in runs]:
            begin, high = waiting.pop(run)
            out.append((run[0], begin, run[1] - run[0], high))
        for run in runs:
            begin, high = waiting.get(run, (y, 0))
            waiting[run] = (begin, high + 1)
    out += [(a, begin, b - a, high) for (a, b), (begin, high) in waiting.items()]
    return out


def cells_of(lines: F64, wide: int, high: int) -> Bool:
    """(high, wide) cells that an island touches whose border is lines (L, 2, 2) in cells: those that the lines run
    through, and those inside by parity along rows. Exact but for touching; O(cells of the border + area)."""
    out = np.zeros((high, wide), np.bool_)
    if not len(lines):
        return out
    start, way = lines[:, 0], lines[:, 1] - lines[:, 0]
    owner, share = [np.arange(len(lines)).repeat(2)], [np.tile([0.0, 1.0], len(lines))]
    for axis in (0, 1):
        low = np.minimum(lines[:, 0, axis], lines[:, 1, axis])
        top = np.maximum(lines[:, 0, axis], lines[:, 1, axis])
        first = np.floor(low).astype(np.int64) + 1
        count: I64 = np.maximum(np.ceil(top).astype(np.int64) - first, 0)
        who = np.repeat(np.arange(len(lines)), count)
        step = np.arange(len(who)) - np.repeat(np.cumsum(count) - count, count)
        owner.append(who)
        share.append((first[who] + step - start[who, axis]) / way[who, axis])
    who, part = np.concatenate(owner), np.concatenate(share)
    order = np.lexsort((part, who))
    who, part = who[order], part[order]
    same = who[1:] == who[:-1]
    middle = ((part[1:] + part[:-1]) / 2)[same]
    at = start[who[1:][same]] + way[who[1:][same]] * middle[:, None]
    column = np.clip(np.floor(at[:, 0]).astype(np.int64), 0, wide - 1)
    row = np.clip(np.floor(at[:, 1]).astype(np.int64), 0, high - 1)
    out[row, column] = True
    return out | inside_of(lines, wide, high)


def inside_of(lines: F64, wide: int, high: int) -> Bool:
    """(high, wide) cells whose middle has an odd number of border lines to its left."""
    low = np.minimum(lines[:, 0, 1], lines[:, 1, 1])
    top = np.maximum(lines[:, 0, 1], lines[:, 1, 1])
    first = np.ceil(low - 0.5).astype(np.int64)
    count = np.maximum(np.ceil(top - 0.5).astype(np.int64) - first, 0)
    who = np.repeat(np.arange(len(lines)), count)
    row = first[who] + np.arange(len(who)) - np.repeat(np.cumsum(count) - count, count)
    way = lines[who, 1] - lines[who, 0]
    x = lines[who, 0, 0] + way[:, 0] * ((row + 0.5 - lines[who, 0, 1]) / way[:, 1])
    column = np.clip(np.ceil(x - 0.5).astype(np.int64), 0, wide)
    good = (row >= 0) & (row < high)
    crossed = np.zeros((high, wide + 1), np.int64)
    np.add.at(crossed, (row[good], column[good]), 1)
    odd: Bool = np.cumsum(crossed, axis=1)[:, :wide] % 2 == 1
    return odd
