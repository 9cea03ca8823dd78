"""Islands on a map, at one density and with so many texels between them: as boxes with what is free in them, and by their true
shapes where they are anything else.
"""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.lightmap.boxed import boxed
from tidy_caravan.core.lightmap.layouts import Island, Layout
from tidy_caravan.core.lightmap.shaped import shaped

SURELY = 0.8
"""Fill of boxes from which on shapes are not looked at."""
CROWD, SHAPES = 60, 0.5
"""Islands from which on those of which so much, by area, is no box are laid out by their shapes alone where they fit: what is free
in their boxes takes long to look through, and gives less."""


def get_ready() -> None:
    """Has all that is compiled of it at hand, see `core.work.nursery`: two triangles are laid on a map."""
    border = np.array([[[0, 0], [1, 0]], [[1, 0], [0, 1]], [[0, 1], [0, 0]]], np.float64)
    islands = [Island(border, np.ones(2), 0.5)] * 2
    boxed(islands, 64, 2)
    shaped(islands, 64, 2)


def packed(
    islands: list[Island], resolution: int, padding: float, square: bool = False, step: int = 0
) -> Layout | None:
    """The islands on a map that is `resolution` texels wide and as high, or lower by halves where that costs little; None
    when they do not fit. padding: texels between islands, and twice what they keep from the edge. square: no lower maps. step:
    texels that the corners of islands are multiples of, 0 for anywhere."""
    shapes = sum(i.area for i in islands if not i.boxlike) > SHAPES * sum(i.area for i in islands)
    crowded = len(islands) > CROWD and shapes
    if crowded and (found := shaped(islands, resolution, padding, square, step)) is not None:
        return found
    best = boxed(islands, resolution, padding, square, step)
    if best is None or crowded or best.fill >= SURELY or all(i.boxlike for i in islands):
        return best
    other = shaped(islands, resolution, padding, square, step)
    return other if other is not None and other.fill > best.fill else best
