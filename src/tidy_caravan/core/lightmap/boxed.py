"""Islands laid out as boxes with what is free within them, at the largest scale and the best proportions of texels that fit.

Many orders and rules are tried at each scale (see `rectangles`), and at last many small changes of the order that did best.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from tidy_caravan.core.lightmap.layouts import (
    COARSER,
    COARSER_ONE_WAY,
    FINER,
    FINER_OF_STRIPS,
    STRIP,
    Island,
    Layout,
)
from tidy_caravan.core.lightmap.rectangles import MOST_ROOMS, RULES, improved
from tidy_caravan.core.scene.arrays import F64, I64

SPARE = 0.02
"""Texels more than what is asked for between islands: coordinates are stored in 32 bits."""
HALVINGS = 11
CLOSE = 1.003
"""Ratio of the smallest scale that does not fit to the largest that does at which the search ends."""
RATIOS = tuple(2.0 ** (k / 4) for k in (1, -1, 2, -2, 3, -3, 4, -4, 6, -6, 8, -8))
"""Proportions of texels that are tried."""
WORK = 3_000
"""Boxes laid in changed orders at each scale, at last."""
LIKED = 4
"""Ways that did best which are tried of many islands, and in changed orders."""
MANY = 100
TINY = 1e-9
BETTER = 1.004
"""Scale by which a change of the order has to be better."""

Placed = tuple[F64, I64]
"""(K, 2) lower corners in texels from the border, (K,) quarter turns."""


@dataclass
class Boxes:
    """Islands, with so many texels between them and corners at multiples of `step`, 0 for anywhere."""

    islands: list[Island]
    padding: float
    step: int = 0
    liked: list[tuple[int, int]] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.size = np.array([i.size for i in self.islands]).reshape(-1, 2)
        self.area = float(sum(i.area for i in self.islands))
        inner = [i.free for i in self.islands]
        self.begin = np.concatenate([[0], np.cumsum([len(r) for r in inner])]).astype(np.int64)
        x, y, w, h = np.concatenate(inner).T if len(self.islands) else np.zeros((4, 0))
        high = np.repeat(self.size[:, 1], np.diff(self.begin))
        self.inner = np.stack([np.column_stack([x, y, w, h]), np.column_stack([high - y - h, x, h, w])], axis=1)
        self.rooms = np.empty((MOST_ROOMS, 4))
        self.ways = [(key, rule) for key in range(4) for rule in range(RULES)]
        self.gap = self.padding + SPARE
        self.border = self.padding / 2 + SPARE / 2
        if self.step:
            self.border = math.ceil(self.border / self.step) * float(self.step)

    def room(self, texels: int) -> float:
        return texels - 2 * self.border + self.gap

    def own(self, scale: F64) -> F64:
        """(K, 2, 2) width and height in texels in both turns, a texel at least."""
        turned = np.stack([self.size, self.size[:, ::-1]], axis=1)
        out: F64 = np.maximum(turned * scale, 1.0)
        return out

    def attempt(self, width: int, height: int, scale: F64, tries: int = 0) -> Placed | None:
        """Where the islands lie on a map of that size, None when no way lays all of them. scale: (2,) texels per unit."""
        size = self.own(scale) + self.gap
        if self.step:
            size = np.ceil(size / self.step - 1e-9) * self.step
        inner = self.inner * np.concatenate([scale, scale])
        inner[:, :, :2] += self.gap
        inner[:, :, 2:] -= self.gap
        least, most = size[:, 0].min(axis=1), size[:, 0].max(axis=1)
        keys = (-least * most, -most, -least, -(least + most))
        places, turns = np.empty((len(size), 2)), np.empty(len(size), np.int64)
        ways = [*self.liked, *(w for w in self.ways if w not in self.liked)]
        for key, rule in ways if not self.liked or (not tries and len(size) <= MANY) else ways[:LIKED]:
            order = np.lexsort((-most, keys[key]))
            if improved(
                size, order, rule, self.room(width), self.room(height), float(self.step), inner, self.begin, places,
                turns, self.rooms, tries, 1,
            ):  # fmt: skip
                self.liked = [(key, rule), *(w for w in self.liked if w != (key, rule))][:LIKED]
                return places, turns
        return None

    def largest(self, width: int, height: int, stretch: F64, least: float = 0.0) -> tuple[float, Placed] | None:
        """The largest scale at which all fit, times the stretch (2,), and where; None below the least."""
        if len(self.size) * (1 + self.gap) ** 2 > self.room(width) * self.room(height):
            return None
        if not least and self.attempt(width, height, TINY * stretch) is None:
            return None  # not even as small as they may be: what is between them alone is too much
        room = self.room(width) * self.room(height)
        even = float(np.sqrt(stretch.prod()))
        top = math.sqrt(width * height / max(self.area, 1e-30)) / even
        found: tuple[float, Placed] | None = None
        if least:
            placed = self.attempt(width, height, least * stretch)
            if placed is None:
                return None
            found = least, placed
        trial = min(top, math.sqrt(0.8 * room / max(self.area, 1e-30)) / even)
        trial = max(trial, least * 1.02)
        low = least
        for _ in range(HALVINGS):
            if top <= low * CLOSE:
                break
            placed = self.attempt(width, height, trial * stretch)
            if placed is None:
                top = trial
                trial = (low + top) / 2 if found else trial * 0.85
            else:
                low, found = trial, (trial, placed)
                trial = min((low + top) / 2, low * 1.1)
        for _ in range(30):
            if found is not None:
                break
            trial *= 0.75
            placed = self.attempt(width, height, trial * stretch)
            found = (trial, placed) if placed is not None else None
        return found

    def most(self, scale: float) -> float:
        """How much finer texels may be one way."""
        return FINER_OF_STRIPS if float(np.median(self.size.min(axis=1))) * scale < STRIP else FINER


def boxed(islands: list[Island], resolution: int, padding: float, square: bool = False, step: int = 0) -> Layout | None:
    """The islands on a map that is `resolution` texels wide and as high, or lower by halves where that costs little; None when they
    do not fit. padding: texels between islands, and twice what they keep from the edge. square: no lower maps. step:
    texels that corners of islands are multiples of."""
    boxes = Boxes(islands, padding, step)
    even = boxes.largest(resolution, resolution, np.ones(2))
    if even is None:
        return None
    high = resolution
    scale, placed = even
    while not square and boxes.room(high // 2) > boxes.gap + 1:
        less = boxes.largest(resolution, high // 2, np.ones(2), even[0] * COARSER)
        if less is None:
            break
        high, (scale, placed) = high // 2, less
    best = polished(boxes, resolution, high, scale, placed)
    if high < resolution and boxes.most(scale) > FINER:
        # strips of a texel or two: what more they get on a map twice as high is worth it
        twice = polished(boxes, resolution, 2 * high, scale, placed)
        best = twice if twice.fill > best.fill else best
    return best


def polished(boxes: Boxes, width: int, height: int, scale: float, placed: Placed) -> Layout:
    """The best that can be made of a layout on a map of that size: other proportions, then other orders."""
    most = boxes.most(scale)
    best, where = np.full(2, scale), placed
    for ratio in RATIOS:
        if not 1 / most <= ratio <= most:
            continue
        stretch = np.array([ratio**-0.5, ratio**0.5])
        least = max(COARSER_ONE_WAY * scale / float(stretch.min()), BETTER * math.sqrt(float(best.prod())))
        found = boxes.largest(width, height, stretch, least)
        if found is not None:
            best, where = found[0] * stretch, found[1]
    tries = max(10, WORK // max(len(boxes.size), 1) // LIKED)
    while best.max() / best.min() <= most * BETTER:
        for way in (np.full(2, BETTER), np.array([BETTER**2, 1.0]), np.array([1.0, BETTER**2])):
            more = boxes.attempt(width, height, best * way, tries)
            if more is not None:
                best, where = best * way, more
                break
        else:
            break
    return layout(boxes, width, height, best, where)


def layout(boxes: Boxes, width: int, height: int, scale: F64, placed: Placed) -> Layout:
    corner, turn = placed
    turned = np.where((turn % 2 == 0)[:, None], boxes.size, boxes.size[:, ::-1]) * scale
    slack = (np.maximum(turned, 1.0) - turned) / 2
    fill = boxes.area * float(scale.prod()) / (width * height)
    return Layout(width, height, scale, turn, corner + boxes.border + slack, fill)
