"""Baked maps together on one page: where each lies, the page as light, as sRGB, and as a file of floats."""

from __future__ import annotations

import os
import tempfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from tidy_caravan.core.bake.baking import Baked
from tidy_caravan.core.bake.mix import BRIGHTNESS, Mix
from tidy_caravan.core.bake.texels import dilated
from tidy_caravan.core.lightmap.pages import laid_on_pages, power
from tidy_caravan.core.scene.arrays import F64, I64, U8, AnyArray, Bool
from tidy_caravan.core.space.srgb import coded

LARGEST_PAGE = 4096
PADDING = 2
"""Texels by which light is carried outwards."""
MARK: U8 = np.array([232, 150, 20], np.uint8)
LEAK: U8 = np.array([200, 30, 70], np.uint8)
INK: U8 = np.array([30, 40, 48], np.uint8)
BRIGHT = 98.0
"""Per cent of all texels that are no brighter than white in the picture."""


@dataclass(frozen=True)
class Page:
    """light: (H, W, 3) lux. buried: (H, W) texels that look into a wall; leaks: (H, W) those that light reached through a
    gap. corner: (K, 2) texels where the map of each sheet begins. size: (K, 2)."""

    light: AnyArray
    buried: Bool
    leaks: Bool
    corner: I64
    size: I64

    def places(self) -> F64:
        """(K, 4) scale and offset that bring coordinates of each map to the page."""
        side = np.array(self.light.shape[1::-1], np.float64)
        return np.concatenate([self.size / side, self.corner / side], axis=1)


def paged(baked: Baked, mix: Mix) -> Page:
    """All maps of a bake on one page, each with its light carried into the padding. Raises ValueError when they are too many."""
    size = np.array([(s.width, s.height) for s in baked.sheets], np.int64).reshape(-1, 2)
    side, corner = spread(size)
    light = np.zeros((side[1], side[0], 3), np.float32)
    buried, leaks = np.zeros((2, side[1], side[0]), np.bool_)
    for k in range(len(size)):
        image, there = baked.image(k, mix)
        at = baked.sheets[k].index[baked.buried(k)]
        hidden = np.zeros(there.shape, np.bool_)
        hidden.reshape(-1)[at] = True
        leaking = np.zeros(there.shape, np.bool_)
        leaking.reshape(-1)[baked.sheets[k].index[baked.leaking(k)]] = True
        x, y = corner[k]
        light[y : y + size[k, 1], x : x + size[k, 0]] = filled(image, there, hidden)
        buried[y : y + size[k, 1], x : x + size[k, 0]] = hidden
        leaks[y : y + size[k, 1], x : x + size[k, 0]] = leaking
    return Page(light, buried, leaks, corner, size)


def filled(image: AnyArray, there: Bool, hidden: Bool) -> AnyArray:
    """A map with the light of its open texels carried into those beside them that look into a wall, so that no dark line is
    drawn where things stand on each other, and into the padding."""
    # what lies deeper in a wall keeps its own
    kept = there & ~hidden
    light = np.where(kept[..., None], image, 0)
    carried = dilated(light, kept, PADDING)
    reached = dilated(kept[..., None].astype(np.float32), kept, PADDING)[..., 0] > 0
    out: AnyArray = np.where(reached[..., None], carried, dilated(image, there, PADDING))
    return out


def spread(size: I64) -> tuple[tuple[int, int], I64]:
    """(width, height) of the smallest page of powers of two that maps (K, 2) fit, and their corners (K, 2). Raises ValueError
    when none is large enough."""
    side = max(64, power(int(size.max(initial=1))))
    while side <= LARGEST_PAGE:
        found = laid_on_pages(size, np.zeros(len(size), np.int64), side)
        if len(found.size) == 1:
            return (int(found.size[0, 0]), int(found.size[0, 1])), found.corner
        side *= 2
    raise ValueError(f"{len(size)} maps do not fit a page of {LARGEST_PAGE} texels: take a smaller first look")


def exposure(light: AnyArray) -> float:
    """Lux that are white in the picture."""
    bright = light @ BRIGHTNESS
    bright = bright[bright > 0]
    return float(np.percentile(bright, BRIGHT)) if bright.size else 1.0


def shown(page: Page, white: float, mark: bool) -> U8:
    """(H, W, 3) light as sRGB, white where it is as bright as said. mark: texels that look into a wall are squares of two
    colours, one and one; those with a leak are of one colour whole."""
    out = np.rint(coded(np.clip(page.light / max(white, 1e-12), 0, 1)) * 255).astype(np.uint8)
    if mark:
        y, x = np.nonzero(page.buried)
        out[y, x] = np.where(((x + y) % 2)[:, None] > 0, MARK, INK)
        out[page.leaks] = LEAK
    return out


def exr(light: AnyArray) -> bytes:
    """OpenEXR of light in 32-bit floats."""
    import OpenEXR

    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    handle, path = tempfile.mkstemp(suffix=".exr")
    os.close(handle)
    try:
        with OpenEXR.File(header, {"RGB": np.ascontiguousarray(light, np.float32)}) as file:
            file.write(path)
        return Path(path).read_bytes()
    finally:
        Path(path).unlink(missing_ok=True)
