"""Measures a lightmap UV set: range, overlaps, gaps between islands, fill. Trusts no unwrapper."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.lightmap.charts import mirrored
from tidy_caravan.core.scene.arrays import F32, F64, I64, U32, Bool

AREA_TOLERANCE = 1e-12
"""UV area (of the whole map) below which a triangle counts as a line and cannot overlap."""
SHRINK = 1e-3
"""Each triangle is drawn in by this part of its size before the overlap test, so that neighbours
that share an edge, up to rounding, do not count. Overlaps thinner than that are not seen."""
MOST_OVERLAPS = 1000
"""Overlaps counted before a set is simply bad."""
PAIRS_AT_ONCE = 1_000_000
FIRST_REACH = 1 / 512
"""Distance, as a part of the map, within which neighbouring islands are looked for first."""
RANGE_TOLERANCE = 1e-6
"""How far outside 0–1 a coordinate may be, as a part of the map."""


SMOOTH = float(np.cos(np.radians(20)))
"""Cosine between triangles across whose edge a surface is smooth."""
SAME_UV = 1e-6
"""Part of the map within which two corners are one."""


NARROW = 1e-6
"""Part of the map below which the height of a triangle is a matter of rounding, some steps of float32 …"""
SLIM = 1e-3
"""… if it is also less than this part of its length: small ones of a dense mesh are seen together."""


@dataclass(frozen=True)
class UvReport:
    """gap_texels: smallest distance between two islands at the resolution, infinite when there is none that near. border_texels:
    smallest distance to the edge of the map. overlaps: pairs of triangles; from MOST_OVERLAPS on it is at least that.
    mirrored: islands that show their image the wrong way round. stretch: how many times finer texels are one way than the
    other, the mean over the surface; uneven: how many times more or fewer of them a piece of it has than the mean, likewise.
    thin: islands that are less than a texel wide. Stretch and uneven are 1 where positions are not known."""

    triangles: int
    islands: int
    overlaps: int
    out_of_range: int
    collapsed: int
    gap_texels: float
    border_texels: float
    mirrored: int
    fill: float
    stretch: float = 1.0
    uneven: float = 1.0
    thin: int = 0

    @property
    def clean(self) -> bool:
        return self.overlaps == 0 and self.out_of_range == 0


def islands(indices: U32, vertices: int, uv: F32, positions: F32 | None = None) -> I64:
    """(F,) island number of each triangle.

    Triangles belong together when they share a vertex, or have vertices at one place both in the map and
    in space: meshes with hard edges store such corners several times.
    """
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    place = np.round(uv, 6) if positions is None else np.column_stack([np.round(uv, 6), positions])
    _, welded = np.unique(place, axis=0, return_inverse=True)
    indices = welded.reshape(-1)[indices].astype(np.uint32)
    rows = indices[:, [0, 1]].ravel().astype(np.int64)
    columns = indices[:, [1, 2]].ravel().astype(np.int64)
    graph = coo_array((np.ones(len(rows), np.int8), (rows, columns)), shape=(vertices, vertices))
    _, label = connected_components(graph, directed=False)
    _, compact = np.unique(label[indices[:, 0]], return_inverse=True)
    return compact.astype(np.int64)


def measure(
    uv: F32, indices: U32, resolution: int, solid: F64 | None = None, positions: F32 | None = None, reach: float = 64.0,
    height: int = 0,
) -> UvReport:  # fmt: skip
    """Figures of one UV set (V, 2) over triangles (F, 3) on a map of `resolution` by `height` texels, or a square one.

    reach: texels up to which gaps between islands are looked for.
    positions: (V, 3), to tell corners that merely touch in the map from those that are one.
    solid: (F,) areas in space; triangles with area there and none in the map count as collapsed. Slivers that no texel sees
    count neither for that nor as overlapping: float32 leaves them no shape of their own.
    """
    aspect = np.array([1.0, (height or resolution) / resolution])
    even = uv.astype(np.float64) * aspect  # both axes in widths of the map
    corners = even[indices]
    a, b = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    area = np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]) / 2
    outside = ((corners < -RANGE_TOLERANCE) | (corners > aspect + RANGE_TOLERANCE) | ~np.isfinite(corners)).any(
        axis=(1, 2)
    )
    usable = (area > AREA_TOLERANCE) & np.isfinite(corners).all(axis=(1, 2))
    collapsed = (
        ~usable & (solid > solid.max(initial=0.0) * 1e-9) if solid is not None else np.zeros(len(area), np.bool_)
    )
    if collapsed.any() and solid is not None and positions is not None:
        size = np.sqrt(area[usable].sum() / max(float(solid.sum()), 1e-300))  # of a unit, in widths of the map
        rows = np.flatnonzero(collapsed)
        collapsed[rows] = ~slivers(positions.astype(np.float64)[indices[rows]], float(size))
    label = islands(indices, len(uv), uv, positions) if len(indices) else np.zeros(0, np.int64)
    stretch, uneven = 1.0, 1.0
    if positions is not None and usable.any():
        stretch, uneven = stretches(positions.astype(np.float64)[indices[usable]], corners[usable])
    return UvReport(
        triangles=len(indices),
        islands=int(label.max()) + 1 if len(label) else 0,
        overlaps=count_overlaps(corners[usable][~slivers(corners[usable])]),
        out_of_range=int(outside.sum()),
        collapsed=int(collapsed.sum()),
        gap_texels=island_gap(even, indices[usable], label[usable], reach / resolution) * resolution,
        border_texels=border(corners[usable], aspect) * resolution,
        mirrored=int(mirrored(uv, indices[usable], label[usable]).sum()) if usable.any() else 0,
        fill=float(area[usable].sum() / aspect[1]),
        stretch=stretch,
        uneven=uneven,
        thin=thin(corners[usable], label[usable], 1.0 / resolution) if usable.any() else 0,
    )


def smooth_seams(uv: F32, indices: U32, positions: F32) -> float:
    """Part of the length of all edges across which the surface is smooth, or flat, that a UV set (V, 2) is cut along: light
    does not run on over them. 0 where no edge is smooth; a ball cannot do without. O(F log F)."""
    _, place = np.unique(positions, axis=0, return_inverse=True)
    faces = place.reshape(-1)[indices]
    start, end = faces.T.reshape(-1), np.roll(faces, -1, axis=1).T.reshape(-1)
    forward = start < end
    key = np.minimum(start, end) * (int(faces.max(initial=0)) + 1) + np.maximum(start, end)
    order = np.argsort(key, kind="stable")
    first = (
        np.flatnonzero(np.concatenate([[True], np.diff(key[order]) != 0, [True]]))
        if len(key)
        else np.zeros(1, np.int64)
    )
    two = first[:-1][np.diff(first) == 2]
    one, other = order[two], order[two + 1]
    count = len(indices)
    normals = face_vectors(positions.astype(np.float64), indices)
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-300)
    smooth = ((normals[one % count] * normals[other % count]).sum(axis=1) >= SMOOTH) & (start[one] != end[one])
    one, other = one[smooth], other[smooth]
    corners = np.stack([indices.T.reshape(-1), np.roll(indices, -1, axis=1).T.reshape(-1)], axis=1)
    mine, theirs = (np.where(forward[h][:, None], corners[h], corners[h][:, ::-1]) for h in (one, other))
    apart = (np.abs(uv[mine] - uv[theirs]) > SAME_UV).any(axis=(1, 2))
    long = np.linalg.norm(np.diff(positions.astype(np.float64)[mine], axis=1)[:, 0], axis=1)
    return float(long[apart].sum() / long.sum()) if long.sum() > 0 else 0.0


def slivers(corners: F64, size: float = 1.0) -> Bool:
    """(F,) triangles (F, 3, 2 or 3) that are far narrower than a texel, and than they are long. size: of a unit, in widths of
    the map."""
    edges = corners[:, [1, 2, 0]] - corners
    longest = np.linalg.norm(edges, axis=2).max(axis=1)
    one, other = edges[:, 0], edges[:, 1]
    square = (one**2).sum(axis=1) * (other**2).sum(axis=1) - (one * other).sum(axis=1) ** 2
    high = np.sqrt(np.maximum(square, 0.0)) / np.maximum(longest, 1e-300)
    out: Bool = (high * size < NARROW) & (high < SLIM * longest)
    return out


def stretches(solid: F64, flat: F64) -> tuple[float, float]:
    """Means over the surface of triangles (F, 3, 3) laid out as (F, 3, 2): how many times longer the map makes one
    direction than the other, and an area than the mean. By singular values (Sander et al., 2001)."""
    e1, e2 = solid[:, 1] - solid[:, 0], solid[:, 2] - solid[:, 0]
    normal = np.cross(e1, e2)
    twice = np.linalg.norm(normal, axis=1)
    good = twice > twice.max(initial=0.0) * 1e-9
    e1, e2, twice, flat = e1[good], e2[good], twice[good], flat[good]
    if not len(twice):
        return 1.0, 1.0
    long = np.linalg.norm(e1, axis=1)
    along = (e1 * e2).sum(axis=1) / np.maximum(long, 1e-300)
    # the triangle in its own plane: (0, 0), (long, 0), (along, twice / long)
    own = np.zeros((len(twice), 2, 2))
    own[:, 0, 0], own[:, 0, 1], own[:, 1, 1] = long, along, twice / np.maximum(long, 1e-300)
    image = np.stack([flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0]], axis=2)
    values = np.linalg.svd(image @ np.linalg.inv(own), compute_uv=False)
    ratio = values[:, 0] / np.maximum(values[:, 1], 1e-300)
    area = values.prod(axis=1)
    part = area / (area * twice).sum() * twice.sum()
    weight = twice / twice.sum()
    return float((ratio * weight).sum()), float((np.maximum(part, 1 / np.maximum(part, 1e-300)) * weight).sum())


def thin(corners: F64, label: I64, texel: float) -> int:
    """How many islands of triangles (F, 3, 2) are nowhere a texel wide, whichever way they lie: by the direction across which they are
    narrowest, found in halving steps. Only those are looked at whose area is less than a texel times their length."""
    count = int(label.max()) + 1
    low, high = np.full((count, 2), np.inf), np.full((count, 2), -np.inf)
    np.minimum.at(low, label, corners.min(axis=1))
    np.maximum.at(high, label, corners.max(axis=1))
    a, b = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    area = np.bincount(label, np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]) / 2, count)
    maybe = (area > 0) & (area < texel * np.hypot(*(high - low).T))
    if not maybe.any():
        return 0
    kept = maybe[label]
    owner = np.repeat((np.cumsum(maybe) - 1)[label[kept]], 3)
    x, y = corners[kept].reshape(-1, 2).T

    def width(angle: F64) -> F64:
        along = x * np.cos(angle[owner]) + y * np.sin(angle[owner])
        least, most = np.full(len(angle), np.inf), np.full(len(angle), -np.inf)
        np.minimum.at(least, owner, along)
        np.maximum.at(most, owner, along)
        out: F64 = most - least
        return out

    turn = np.pi / 24
    best, found = np.zeros(int(maybe.sum())), np.full(int(maybe.sum()), np.inf)
    tries = [np.full(len(best), k * turn) for k in range(24)]
    for _ in range(9):
        for angle in tries:
            now = width(angle)
            best, found = np.where(now < found, angle, best), np.minimum(now, found)
        turn /= 2
        tries = [best - turn, best + turn]
    return int((found < texel).sum())


def overlaps_and_range(uv: F32, indices: U32) -> tuple[int, int]:
    """1 when any two triangles of a set overlap, and how many leave 0–1: the quick questions."""
    corners = uv.astype(np.float64)[indices]
    finite = np.isfinite(corners).all(axis=(1, 2))
    outside = ~finite | ((corners < -RANGE_TOLERANCE) | (corners > 1 + RANGE_TOLERANCE)).any(axis=(1, 2))
    a, b = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    area = np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]) / 2
    asked = corners[finite & (area > AREA_TOLERANCE)]
    return min(1, count_overlaps(asked[~slivers(asked)], 1)), int(outside.sum())


def overlaps_inside(uv: F32, indices: U32, label: I64) -> int:
    """Pairs of triangles (F, 3) of one and the same island that lie on each other in uv (V, 2), of any scale: no layout mends that.

    label: (F,) island of each. Measured at the scale at which all of them would just fill a map, each island in a place of its own.
    """
    corners = uv.astype(np.float64)[indices]
    a, b = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    area = np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]) / 2
    whole = float(area.sum())
    if not len(corners) or not np.isfinite(whole) or whole <= 0:
        return 0
    count = int(label.max()) + 1
    low = np.full((count, 2), np.inf)
    np.minimum.at(low, label, corners.min(axis=1))
    corners = (corners - low[label][:, None]) / np.sqrt(whole)
    corners[:, :, 0] += (label * (float(corners.max()) * 1.01 + 1e-6))[:, None]
    asked = corners[area > AREA_TOLERANCE * whole]
    return count_overlaps(asked[~slivers(asked)])


def border(corners: F64, size: F64) -> float:
    """Smallest distance of triangles (F, 3, 2) to the edge of a map of that size (2,); half of the smaller side for none."""
    return float(np.minimum(corners, size - corners).min()) if len(corners) else float(size.min()) / 2


def count_overlaps(corners: F64, most: int = MOST_OVERLAPS) -> int:
    """Pairs of triangles (F, 3, 2) whose insides overlap; counting ends once there are `most`.

    Broad phase by an STR tree over boxes, then separating axes on slightly shrunk triangles. O(F log F + box pairs)
    in time, PAIRS_AT_ONCE pairs of boxes in memory, however many lie on each other.
    """
    import shapely

    if len(corners) < 2:
        return 0
    centre = corners.mean(axis=1, keepdims=True)
    inner = centre + (corners - centre) * (1 - SHRINK)
    low, high = inner.min(axis=1), inner.max(axis=1)
    boxes = shapely.box(low[:, 0], low[:, 1], high[:, 0], high[:, 1])
    tree = shapely.STRtree(boxes)
    total = 0
    start, batch = 0, max(1, PAIRS_AT_ONCE // len(boxes))
    while start < len(boxes) and total < most:
        first, second = tree.query(boxes[start : start + batch])
        found = len(first)
        first = first + start
        keep = first < second
        total += int(overlapping(inner[first[keep]], inner[second[keep]]).sum())
        start += batch
        # as many boxes at once as their neighbours so far allow, and never more than twice as many as before
        batch = max(1, min(batch * 2, batch * PAIRS_AT_ONCE // max(1, found), 20_000))
    return total


def overlapping(a: F64, b: F64) -> np.ndarray[tuple[int], np.dtype[np.bool_]]:
    """(N,) True where triangle a (N, 3, 2) and b meet, by the separating axis theorem."""
    out = np.ones(len(a), np.bool_)
    for shape in (a, b):
        for k in range(3):
            edge = shape[:, (k + 1) % 3] - shape[:, k]
            axis = np.stack([-edge[:, 1], edge[:, 0]], axis=1)
            pa, pb = np.einsum("nij,nj->ni", a, axis), np.einsum("nij,nj->ni", b, axis)
            out &= (pa.max(axis=1) > pb.min(axis=1)) & (pb.max(axis=1) > pa.min(axis=1))
    return out


def island_gap(uv: F32 | F64, indices: U32, label: I64, reach: float) -> float:
    """Smallest distance between the borders of two islands, as a part of the map; infinite when it exceeds `reach`.

    The borders are the edges that one triangle has. Exact: pairs of them nearer than a distance that is doubled until
    there are some. O(E log E + pairs) for E edges of borders, in batches of at most PAIRS_AT_ONCE pairs.
    """
    import shapely

    if len(label) == 0 or label.max() == label.min():
        return float("inf")
    ends = np.sort(indices[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2).astype(np.int64), axis=1)
    _, first, count = np.unique(ends[:, 0] * len(uv) + ends[:, 1], return_index=True, return_counts=True)
    lonely = first[count == 1]
    places = uv.astype(np.float64)[ends[lonely]]
    lines = shapely.linestrings(places)
    low, high = places.min(axis=1), places.max(axis=1)
    owner = np.repeat(label, 3)[lonely]
    tree = shapely.STRtree(lines)
    distance = min(reach, FIRST_REACH)
    while True:
        around = shapely.box(*(low - distance).T, *(high + distance).T)
        best = np.inf
        start, batch = 0, max(1, min(1000, PAIRS_AT_ONCE // len(lines)))
        while start < len(lines) and best > 0:  # borders that cross are as near as can be
            one, other = tree.query(around[start : start + batch])
            found = len(one)
            one += start
            # most neighbours of a line are of its own island: they are left out before anything is measured
            apart = (one < other) & (owner[one] != owner[other])
            if apart.any():
                nearest = float(shapely.distance(lines[one[apart]], lines[other[apart]]).min())
                best = min(best, nearest if nearest <= distance else np.inf)
            start += batch
            batch = max(1, min(batch * 2, batch * PAIRS_AT_ONCE // max(1, found)))
        if np.isfinite(best) or distance >= reach:
            return best
        distance = min(reach, 2 * distance)
