"""Lightmaps of many parts on shared pages: rows of maps of one height, the highest first."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.scene.arrays import I64


@dataclass(frozen=True)
class Pages:
    """page: (K,) number of the page of each map. corner: (K, 2) texels from its left and top. size: (P, 2) of the pages."""

    page: I64
    corner: I64
    size: I64


def laid_on_pages(size: I64, group: I64, side: int) -> Pages:
    """Places for maps (K, 2), width and height, on pages of at most `side` texels each way; maps of one group (K,) have pages of
    their own. Pages are as low as what is on them, in powers of two. Raises ValueError for a map larger than a page.

    Rows of maps of falling height, next to each other as long as they fit; O(K log K), and a step for each row.
    """
    if len(size) and size.max() > side:
        raise ValueError(f"a map of {int(size.max())} texels on pages of {side}")
    page, corner = np.zeros(len(size), np.int64), np.zeros((len(size), 2), np.int64)
    sizes: list[tuple[int, int]] = []
    order = np.lexsort((-size[:, 0], -size[:, 1], group))
    for rows in np.split(order, np.flatnonzero(np.diff(group[order])) + 1) if len(order) else []:
        wide, high = size[rows, 0], size[rows, 1]
        ends = np.cumsum(wide)
        at = top = used = 0
        first = len(sizes)
        while at < len(rows):
            before = int(ends[at - 1]) if at else 0
            stop = int(np.searchsorted(ends, before + side, side="right"))
            if top + int(high[at]) > side:
                sizes.append((used, top))
                top = used = 0
            own = slice(at, stop)
            page[rows[own]] = len(sizes)
            corner[rows[own], 0] = ends[own] - wide[own] - before
            corner[rows[own], 1] = top
            top, used = top + int(high[at]), max(used, int(ends[stop - 1]) - before)
            at = stop
        sizes.append((used, top))
        sizes[first:] = [(power(w), power(h)) for w, h in sizes[first:]]
    return Pages(page, corner, np.array(sizes, np.int64).reshape(-1, 2))


def power(texels: int) -> int:
    """The next power of two."""
    return 1 << max(0, texels - 1).bit_length()
