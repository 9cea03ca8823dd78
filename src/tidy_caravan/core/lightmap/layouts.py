"""What packing is told and tells: islands with their borders, and where each of them lies on a map."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from tidy_caravan.core.scene.arrays import F64, I64

MOST = 400
"""Islands up to which they are laid out by what is free; more go onto shelves."""
BOXLIKE = 0.96
"""Part of its box from which on an island is laid out as its box."""
COARSER = 0.85
"""Part of the scale that a map half as high has to leave: what is coarser is got back in finer texels one way."""
COARSER_ONE_WAY = 0.85
FINER = 2.0
"""Most that texels may be finer one way than the other …"""
FINER_OF_STRIPS = 4.0
"""… and where half of the islands are strips of fewer than STRIP texels."""
STRIP = 4.0
WELL_FILLED = 0.85


@dataclass(frozen=True)
class Island:
    """border: (L, 2, 2) lines around it, from its own lower corner. size: (2,). area: of it."""

    border: F64
    size: F64
    area: float

    @cached_property
    def free(self) -> F64:
        """(R, 4) the largest rectangles in its box that it leaves free: x, y, width and height."""
        from tidy_caravan.core.lightmap.rectangles import free_within

        return np.zeros((0, 4)) if self.boxlike else free_within(self.border, self.size)

    @property
    def boxlike(self) -> bool:
        return self.area > BOXLIKE * float(self.size.prod())


@dataclass(frozen=True)
class Layout:
    """width, height: of the map in texels. scale: (2,) texels of the map per unit of the islands, along and across it.
    turn: (K,) quarter turns of each island. corner: (K, 2) texels where its lower corner
    lies. fill: part of the map that islands cover."""

    width: int
    height: int
    scale: F64
    turn: I64
    corner: F64
    fill: float


def turned(points: F64, quarters: int, size: F64) -> F64:
    """Points (..., 2) of an island of that size after quarter turns, its lower corner at the origin again."""
    x, y = points[..., 0], points[..., 1]
    w, h = float(size[0]), float(size[1])
    if quarters == 1:
        return np.stack([h - y, x], axis=-1)
    if quarters == 2:
        return np.stack([w - x, h - y], axis=-1)
    if quarters == 3:
        return np.stack([y, w - x], axis=-1)
    return points
