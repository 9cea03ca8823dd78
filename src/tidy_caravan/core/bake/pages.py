"""Baked maps on pages: where each lies, a page as light, as sRGB, and as a file of floats."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from tidy_caravan.core.bake.baking import Baked
from tidy_caravan.core.bake.mix import BRIGHTNESS, Mix
from tidy_caravan.core.bake.texels import dilated
from tidy_caravan.core.lightmap.pages import laid_on_pages, power
from tidy_caravan.core.scene import Nodes
from tidy_caravan.core.scene.arrays import F64, I64, U8, AnyArray, Bool
from tidy_caravan.core.space.srgb import coded

LARGEST_PAGE = 4096
MOST_TEXELS = 4 * LARGEST_PAGE**2
"""Of all pages of a bake together."""
SHOWN_TEXELS = LARGEST_PAGE**2
"""Of all pages together as a view loads them; larger ones are halved until they fit."""
PADDING = 2
"""Texels by which light is carried outwards."""
MARK: U8 = np.array([232, 150, 20], np.uint8)
LEAK: U8 = np.array([200, 30, 70], np.uint8)
INK: U8 = np.array([30, 40, 48], np.uint8)
BRIGHT = 98.0
"""Per cent of all texels that are no brighter than white in the picture."""


@dataclass(frozen=True)
class Layout:
    """Where the maps of a bake lie. page: (K,) index of each one's page; corner, size: (K, 2) texels; side: (P, 2) of the pages,
    width and height; number: (P,) as the route numbers them, empty where the bake lays them out itself."""

    page: I64
    corner: I64
    size: I64
    side: I64
    number: tuple[int, ...] = ()

    def name(self, page: int) -> str:
        """What the files of a page are called, without their ending."""
        if self.number:
            return f"light_{self.number[page]}"
        return "light" if len(self.side) == 1 else f"light_{page}"


@dataclass(frozen=True)
class Page:
    """light: (H, W, 3) lux. buried: (H, W) texels that look into a wall; leaks: (H, W) those that light reached through a
    gap."""

    light: AnyArray
    buried: Bool
    leaks: Bool


def laid_out(nodes: Nodes, rows: I64, size: I64, divide: int) -> Layout:
    """Maps of nodes (K,), of so many texels (K, 2), on the pages that the route put them on where all are on one and their
    corners fall on texels; else on the smallest page of powers of two, or on several. Raises ValueError when they are too
    many or one is too large."""
    routed = on_the_routes(nodes, rows, size, divide)
    found = routed if routed is not None else by_themselves(size)
    if int(found.side.prod(axis=1).sum()) > MOST_TEXELS:
        raise ValueError(
            f"{len(size)} maps come to more than {MOST_TEXELS // 10**6} million texels on their pages: take smaller maps or fewer parts"
        )
    return found


def on_the_routes(nodes: Nodes, rows: I64, size: I64, divide: int) -> Layout | None:
    """The layout of the route's pages, that many times smaller."""
    page = nodes.page[rows].astype(np.int64)
    if not len(rows) or not (page[:, 3] > 0).all():
        return None
    given, corner, side = page[:, 0], page[:, 1:3], page[:, 3:5]
    fits = (corner % divide == 0) & (side % divide == 0) & (size * divide == nodes.lightmap[rows])
    if not fits.all() or side.max() > divide * LARGEST_PAGE:
        return None
    number, first, index = np.unique(given, return_index=True, return_inverse=True)
    return Layout(index, corner // divide, size, side[first] // divide, tuple(number.tolist()))


def by_themselves(size: I64) -> Layout:
    side = max(64, power(int(size.max(initial=1))))
    if side > LARGEST_PAGE:
        raise ValueError(
            f"a map of {int(size.max())} texels is larger than a page of {LARGEST_PAGE}: take smaller maps"
        )
    while True:
        found = laid_on_pages(size, np.zeros(len(size), np.int64), side)
        if len(found.size) <= 1 or side == LARGEST_PAGE:
            return Layout(found.page, found.corner, size, found.size)
        side *= 2


def paged(baked: Baked, mix: Mix, layout: Layout) -> list[Page]:
    """All maps of a bake on their pages, each with its light carried into the padding."""
    pages = [
        Page(np.zeros((h, w, 3), np.float32), np.zeros((h, w), np.bool_), np.zeros((h, w), np.bool_))
        for w, h in layout.side.tolist()
    ]
    for k, sheet in enumerate(baked.sheets):
        image, there = baked.image(k, mix)
        hidden, leaking = np.zeros((2, *there.shape), np.bool_)
        hidden.reshape(-1)[sheet.index[baked.buried(k)]] = True
        leaking.reshape(-1)[sheet.index[baked.leaking(k)]] = True
        (x, y), (w, h) = layout.corner[k].tolist(), layout.size[k].tolist()
        page, own = pages[layout.page[k]], (slice(y, y + h), slice(x, x + w))
        page.light[own] = filled(image, there, hidden)
        page.buried[own] = hidden
        page.leaks[own] = leaking
    return pages


def for_view(layout: Layout, pictures: list[U8]) -> tuple[U8, F64]:
    """The pages one behind the other as a view loads them, (P, H, W, 3), each from its first row and column; and for each map
    scale, offset and page (K, 5) that bring its coordinates there."""
    wide, high = layout.side.max(axis=0).tolist()
    smaller = 1
    while len(pictures) * -(-wide // smaller) * -(-high // smaller) > SHOWN_TEXELS:
        smaller *= 2
    stack = np.zeros((len(pictures), -(-high // smaller), -(-wide // smaller), 3), np.uint8)
    for k, picture in enumerate(pictures):
        small = halved(picture, smaller)
        stack[k, : small.shape[0], : small.shape[1]] = small
    side = np.array([stack.shape[2], stack.shape[1]], np.float64) * smaller
    return stack, np.column_stack([layout.size / side, layout.corner / side, layout.page])


def halved(picture: U8, smaller: int) -> U8:
    """A picture that many times smaller each way; each texel is the mean of those it stands for."""
    if smaller == 1:
        return picture
    over = [(0, -side % smaller) for side in picture.shape[:2]]
    even = np.pad(picture, [*over, (0, 0)], mode="edge")
    blocks = even.reshape(even.shape[0] // smaller, smaller, even.shape[1] // smaller, smaller, 3)
    out: U8 = np.rint(blocks.mean(axis=(1, 3))).astype(np.uint8)
    return out


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


def exposure(lights: Iterable[AnyArray]) -> float:
    """Lux that are white in the picture of pages (H, W, 3) each."""
    bright = np.concatenate([(light @ BRIGHTNESS).ravel() for light in lights])
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
