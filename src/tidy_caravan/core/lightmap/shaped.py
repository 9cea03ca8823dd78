"""Islands laid out by their true shapes: as large as they fit a map with so many texels between them, at one density.

Every place of a map is looked at for every island in several turns (see `bitmaps`), the largest islands first; the scale
is searched by halving, on coarse cells before fine ones. Where islands leave a map half empty because one of them is long,
a lower map does, and what is left goes into texels that are finer one way.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.lightmap.bitmaps import blocks_of_all, climbed, empty_map, laid_in_order
from tidy_caravan.core.lightmap.layouts import (
    COARSER,
    COARSER_ONE_WAY,
    FINER,
    FINER_OF_STRIPS,
    STRIP,
    WELL_FILLED,
    Island,
    Layout,
)
from tidy_caravan.core.scene.arrays import F64, I64

GRID, FINE_GRID, SEVERAL = 256, 512, 16
"""Cells along the longer side of a map, and where there are more than so many islands, which are small on it then, unless what lies
between them is large. A cell is a texel, or several of a larger map."""
COARSE = 64
"""Cells on which islands are tried first."""
SLACK = 0.02
"""Cells by which an island is less than the cells that it takes."""
STEPS, FINE_STEPS = 9, 4
"""Halvings of the scale, at first and on finer cells."""
ORDERS = ("area", "long", "high")
EVERY_ORDER = 60
"""Islands up to which all of them are tried on fine cells; of more the one that did best on coarse cells."""
MOST_RATIOS = 16
"""Islands up to which other proportions of texels are tried."""
RATIOS = (1.26, 1.59)
WORK, BETTER = 120, 1.008
"""Islands laid in changed orders at each scale, at last, and by how much a scale has to be better then."""


Spots = I64
"""(K, 3) x, y and turn of every island, in cells."""


class Packer:
    """Islands on a map of square cells, tried at one scale after the other."""

    def __init__(self, islands: list[Island], gap: int) -> None:
        self.islands, self.gap = islands, gap
        self.shaped = np.array([not i.boxlike for i in islands])
        self.begin = np.concatenate([[0], np.cumsum([len(i.border) for i in islands])])
        self.lines = np.concatenate([i.border for i in islands])
        self.turns = np.where(self.shaped, 4, 2)
        self.size = np.array([i.size for i in islands]).reshape(-1, 2)
        self.order, self.every = "area", True
        """The order that islands fit in last, and whether the others are tried as well."""
        self.own: I64 | None = None
        """A changed order in which they fit."""

    def attempt(self, width: int, height: int, scale: F64) -> Spots | None:
        """(K, 3) where every island lies, None when they do not fit in any order. scale: (2,) cells per unit."""
        if width < 1 or height < 1:
            return None
        cells = np.maximum(1, np.ceil(self.size * scale.mean() + SLACK))
        keys = {
            "area": -cells.prod(axis=1),
            "long": -(cells.max(axis=1) * 1e5 + cells.min(axis=1)),
            "high": -(cells.min(axis=1) * 1e5 + cells.max(axis=1)),
        }
        blocks, begin, wide, high = blocks_of_all(self.lines, self.begin, self.size, self.shaped, scale, SLACK)
        taken, near, work = empty_map(width, height)
        out = np.zeros((len(cells), 3), np.int64)
        others = [o for o in ORDERS if o != self.order] if self.every else []
        for name in (self.order, *others):
            order = np.argsort(keys[name], kind="stable")
            if not laid_in_order(
                order, blocks, begin, wide, high, self.turns, width, height, self.gap, taken, near, work, out, 0
            ):
                self.order = name
                return out
        return None

    def climbed(self, width: int, height: int, scale: F64, tries: int) -> Spots | None:
        """The same, in the changed order that did best, by area at first, with islands moved in it that many times."""
        blocks, begin, wide, high = blocks_of_all(self.lines, self.begin, self.size, self.shaped, scale, SLACK)
        taken, near, work = empty_map(width, height)
        out = np.zeros((len(wide), 3), np.int64)
        if self.own is None:
            self.own = np.argsort(-wide[:, 0] * high[:, 0], kind="stable")
        order = self.own.copy()
        good = climbed(
            order, blocks, begin, wide, high, self.turns, width, height, self.gap, taken, near, work, out, tries, 1
        )
        if good:
            self.own = order
        return out if good else None

    def largest(
        self, width: int, height: int, stretch: F64, steps: int = STEPS, about: float = 0.0
    ) -> tuple[float, Spots] | None:
        """The largest scale at which all fit, times the stretch (2,), and where they are. about: where to look first."""
        room = float(width * height)
        cover = float(self.size.prod(axis=1).sum() * stretch.prod())
        area = float(sum(i.area for i in self.islands) * stretch.prod())
        long = float((self.size.max(axis=1) * stretch.min()).max())
        top = min(math.sqrt(room / max(area, 1e-30)), max(width, height) / max(long, 1e-30))
        trial = about or min(top, math.sqrt(room * 0.8 / max(cover, 1e-30)))
        low, found = 0.0, None
        grow = 1.03 if about else 1.15
        for _ in range(steps):
            placed = self.attempt(width, height, trial * stretch)
            if placed is None:
                top = trial
                trial = (low + top) / 2 if found is not None else trial / grow
            else:
                low, found = trial, placed
                trial = min((low + top) / 2, low * grow) if top > low else low
                if top <= low * 1.001:
                    break
        for _ in range(24):
            if found is not None:
                break
            trial *= 0.75
            found, low = self.attempt(width, height, trial * stretch), trial
        return (low, found) if found is not None else None


@dataclass
class Grid:
    """A square map of cells: texels of each, what lies between islands and at the edge, cells along the side."""

    cell: int
    gap: int
    border: int
    side: int

    @classmethod
    def of(cls, resolution: int, padding: float, most: int, step: int = 0) -> Grid:
        cell = max(1, -(-resolution // most), step)
        return cls(cell, max(1, math.ceil(padding / cell)), max(1, math.ceil(padding / 2 / cell)), resolution // cell)

    def room(self, high: int) -> tuple[int, int]:
        return self.side - 2 * self.border, high - 2 * self.border


def shaped(
    islands: list[Island], resolution: int, padding: float, square: bool = False, step: int = 0
) -> Layout | None:
    """See `packing.packed`. Time goes with the islands and their turns, and with the cells of the map."""
    fine = len(islands) > SEVERAL and resolution / GRID > max(1.0, padding / 4)
    grid = Grid.of(resolution, padding, FINE_GRID if fine else GRID, step)
    packer = Packer(islands, grid.gap)
    about = 0.0
    if resolution > COARSE:
        rough = Grid.of(resolution, padding, COARSE, step)
        coarse = Packer(islands, rough.gap)
        first = coarse.largest(*rough.room(rough.side), np.ones(2))
        about = first[0] * rough.cell / grid.cell if first else 0.0
        packer.order, packer.every = coarse.order, not first or len(islands) <= EVERY_ORDER
    found = packer.largest(*grid.room(grid.side), np.ones(2), FINE_STEPS + 2 if about else STEPS, about)
    if found is None:
        return None
    scale, placed = found
    high = grid.side
    while not square and high // 2 > 2 * grid.border + 1:
        less = packer.largest(*grid.room(high // 2), np.ones(2), 1, scale * COARSER)
        if less is None or less[0] < scale * COARSER * 0.999:
            break
        high //= 2
        better = packer.attempt(*grid.room(high), np.full(2, scale))
        scale, placed = (scale, better) if better is not None else less
    best = Best(packer, grid, high, scale * np.ones(2), placed).finished()
    if best.high < grid.side and best.most() > FINER:
        # strips of a texel or two: what more they get on a map twice as high is worth it
        twice = Best(packer, grid, min(grid.side, 2 * high), scale * np.ones(2), placed).finished()
        best = twice if twice.fill > best.fill else best
    return best.layout(resolution)


@dataclass
class Best:
    """The best layout so far on a map of a height, and what can still be made of it."""

    packer: Packer
    grid: Grid
    high: int
    scale: F64
    placed: Spots

    def __post_init__(self) -> None:
        self.even = float(self.scale.min())

    @property
    def fill(self) -> float:
        area = sum(i.area for i in self.packer.islands) * float(self.scale.prod())
        return area / (self.grid.side * self.high)

    def most(self) -> float:
        """How much finer texels may be one way."""
        thin = self.packer.size.min(axis=1) * self.even
        return FINER_OF_STRIPS if float(np.median(thin)) < STRIP else FINER

    def finished(self) -> Best:
        """With what can still be made of it, in the order that did best so far alone."""
        self.packer.every = False
        self.stretched()
        if len(self.packer.islands) <= MOST_RATIOS:
            self.by_ratios()
        self.climb()
        return self

    def climb(self) -> None:
        """Other orders, as long as they leave room for a larger scale."""
        tries = max(4, WORK // len(self.packer.islands))
        while True:
            for way in (np.full(2, BETTER), np.array([BETTER**2, 1.0]), np.array([1.0, BETTER**2])):
                if (self.scale * way).max() / (self.scale * way).min() > self.most() * BETTER:
                    continue
                placed = self.packer.climbed(*self.grid.room(self.high), self.scale * way, tries)
                if placed is not None:
                    self.scale, self.placed = self.scale * way, placed
                    break
            else:
                return

    def stretched(self) -> None:
        """Texels finer across the map, or along it, as far as there is room."""
        most = self.most()
        for axis in (1, 0):
            low, top, trial = 1.0, most, most
            begin = self.scale.copy()
            if begin.max() / begin.min() > 1.001:
                break
            for _ in range(6):
                way = np.ones(2)
                way[axis] = trial
                placed = self.packer.attempt(*self.grid.room(self.high), begin * way)
                if placed is None:
                    top = trial
                else:
                    low, self.placed, self.scale = trial, placed, begin * way
                    if trial == most:
                        break
                trial = (low + top) / 2

    def by_ratios(self) -> None:
        """Other proportions of texels, where a map is not well filled."""
        for ratio in (r**way for r in RATIOS for way in (1, -1)):
            if self.fill > WELL_FILLED:
                return
            stretch = np.array([ratio**-0.5, ratio**0.5])
            room = self.grid.room(self.high)
            # each trial is dear: begin where it has to be better
            about = math.sqrt(1.05 * float(self.scale.prod()))
            found = self.packer.largest(*room, stretch, FINE_STEPS, about) if self.fits(stretch * about) else None
            # no texel is much coarser than it would be with equal ones
            if found is not None and float((found[0] * stretch).min()) >= COARSER_ONE_WAY * float(self.scale.min()):
                other = Best(self.packer, self.grid, self.high, found[0] * stretch, found[1])
                if other.fill > self.fill * 1.02:
                    self.scale, self.placed = other.scale, other.placed

    def fits(self, scale: F64) -> bool:
        """Whether all islands fit at that scale."""
        return self.packer.attempt(*self.grid.room(self.high), scale) is not None

    def layout(self, resolution: int) -> Layout:
        spot, turn = self.placed[:, :2].astype(np.float64), self.placed[:, 2]
        size = self.packer.size
        own = np.where((turn % 2 == 0)[:, None], size, size[:, ::-1]) * self.scale
        slack = (np.maximum(1, np.ceil(own + SLACK)) - own) / 2
        cell = self.grid.cell
        return Layout(
            resolution,
            int(self.high * cell),
            self.scale * cell,
            turn,
            (spot + self.grid.border + slack) * cell,
            self.fill,
        )
