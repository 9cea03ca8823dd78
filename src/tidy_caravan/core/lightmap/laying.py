"""UV sets from islands: turned upright, without mirrored ones, laid out by their shapes on the smallest map that holds them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.lightmap.charts import boxes, island_of, laid_out, signed_areas, upright
from tidy_caravan.core.lightmap.layouts import MOST, Island, Layout, turned
from tidy_caravan.core.scene.arrays import F32, F64, I64, U32, AnyArray

SPARSE, MANY = 0.2, 12
"""Part of a map that so many islands and more cover below which a larger one is proposed: it is mostly what lies between
them. Of fewer it is their own thinness that leaves a map empty."""


@dataclass(frozen=True)
class Laid:
    """uv: (V, 2) in 0–1. width, height: texels of the map at which the padding holds."""

    uv: F32
    width: int
    height: int


def laid(
    uv: AnyArray,
    indices: U32,
    label: I64,
    solid: F64,
    resolution: int,
    padding: int,
    most: int,
    square: bool,
    step: int = 0,
) -> Laid:
    """A set of the islands of uv (V, 2), in any scale each, on a map of `resolution` texels or as many times twice that as
    they need, up to `most`. step: texels that corners of islands are multiples of, 0 for anywhere. solid: (F,)
    areas in space, to which those in the map are in proportion. Raises RuntimeError when not even `most` is enough."""
    from tidy_caravan.core.lightmap.packing import packed

    count = int(label.max()) + 1
    if count > MOST:
        placed, needed = laid_out(uv, indices, label, solid, resolution, padding + 0.5, padding / 2 + 0.01, most, step)
        return Laid(placed, needed, needed)
    of_vertex = island_of(indices, label, len(uv))
    points = uv.astype(np.float64)
    points[of_vertex < 0] = 0.0
    points = upright(points, indices, label, of_vertex, solid, count)
    low, high = boxes(points, of_vertex, count)
    points -= low[np.maximum(of_vertex, 0)]
    islands = islands_of(points, indices, label, np.maximum(high - low, 1e-9), count)
    layout = packed(islands, resolution, padding, square, step)
    while True:
        if (layout is not None and (layout.fill >= SPARSE or count < MANY)) or resolution * 2 > most:
            break
        larger = packed(islands, resolution * 2, padding, square, step)
        if layout is not None and larger is not None and larger.fill < 1.5 * layout.fill:
            break  # it is thin things that leave it empty, and no padding
        layout, resolution = larger, resolution * 2
    if layout is None:
        raise RuntimeError(f"{count} islands with {padding:g} texels between them do not fit {most} texels")
    return Laid(spread(points, of_vertex, islands, layout), layout.width, layout.height)


def islands_of(points: F64, indices: U32, label: I64, size: F64, count: int) -> list[Island]:
    """What the packing has to know of each island: points (V, 2) from the lower corner of their own, size (K, 2)."""
    ends = indices[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2).astype(np.int64)
    key = np.sort(ends, axis=1)
    _, first, times = np.unique(key[:, 0] * len(points) + key[:, 1], return_index=True, return_counts=True)
    lonely = first[times == 1]
    owner = np.repeat(label, 3)[lonely]
    order = np.argsort(owner, kind="stable")
    lines = points[ends[lonely[order]]]
    begin = np.searchsorted(owner[order], np.arange(count + 1))
    area = np.bincount(label, weights=np.abs(signed_areas(points, indices)), minlength=count)
    return [Island(lines[begin[k] : begin[k + 1]], size[k], float(area[k])) for k in range(count)]


def spread(points: F64, of_vertex: I64, islands: list[Island], layout: Layout) -> F32:
    """(V, 2) coordinates in 0–1 of the points of all islands where the layout has them."""
    out = np.zeros_like(points)
    order = np.argsort(of_vertex, kind="stable")
    begin = np.searchsorted(of_vertex[order], np.arange(len(islands) + 1))
    for k, island in enumerate(islands):
        rows = order[begin[k] : begin[k + 1]]
        out[rows] = turned(points[rows], int(layout.turn[k]), island.size) * layout.scale + layout.corner[k]
    return (out / [layout.width, layout.height]).astype(np.float32)
