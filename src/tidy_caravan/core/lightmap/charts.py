"""Islands turned, scaled and laid out anew, where an unwrapper's own layout does not hold: any number of them fits
some map, none is mirrored, and all keep their distance from each other and from the border.
"""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.shells import half_edges
from tidy_caravan.core.scene.arrays import F32, F64, I64, U32, AnyArray

ANGLES = 12
"""Turns tried per island beside those of its longest edges."""
LONGEST = 3
SEARCH = 14
"""Halvings of the scale: the last differs from the best by a 16,000th."""
WORTH = 0.5
"""A map is large enough when padding leaves the islands at least this part of the cover that they reach without it."""
COPLANAR = 0.9999
"""Cosine between neighbours that are one flat piece for the plainest unwrap (0.8°)."""


def signed_areas(uv: AnyArray, indices: U32) -> F64:
    """(F,) signed areas in the map; negative means not mirrored, since v counts downwards."""
    corners = uv.astype(np.float64)[indices]
    a, b = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    out: F64 = (a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]) / 2
    return out


def mirrored(uv: AnyArray, indices: U32, label: I64) -> AnyArray:
    """(K,) True for the islands that show their pictures mirrored."""
    total: AnyArray = np.bincount(label, weights=signed_areas(uv, indices)) > 0
    return total


def unmirrored_in_place(uv: F32, indices: U32, label: I64) -> F32:
    """The set with mirrored islands flipped about the middle of their own boxes; rectangles stay where they were."""
    flip = mirrored(uv, indices, label)
    if not flip.any():
        return uv
    of_vertex = island_of(indices, label, len(uv))
    low, high = boxes(uv.astype(np.float64), of_vertex, len(flip))
    out = uv.copy()
    rows = np.flatnonzero((of_vertex >= 0) & flip[np.maximum(of_vertex, 0)])
    out[rows, 0] = (low + high)[of_vertex[rows], 0] - uv[rows, 0]
    return out


def island_of(indices: U32, label: I64, vertices: int) -> I64:
    """(V,) island of each vertex, -1 for unused ones."""
    out = np.full(vertices, -1, np.int64)
    out[indices.ravel()] = np.repeat(label, 3)
    return out


def boxes(points: F64, of_vertex: I64, count: int) -> tuple[F64, F64]:
    """(K, 2) smallest and largest corner of each island."""
    low, high = np.full((count, 2), np.inf), np.full((count, 2), -np.inf)
    used = of_vertex >= 0
    np.minimum.at(low, of_vertex[used], points[used])
    np.maximum.at(high, of_vertex[used], points[used])
    return low, high


def laid_out(
    uv: AnyArray,
    indices: U32,
    label: I64,
    solid: F64,
    resolution: int,
    padding: float,
    border: float,
    most: int,
    step: int = 0,
) -> tuple[F32, int]:
    """A new set of the same islands, and the resolution that it needs: `resolution` or more, at most `most` texels.

    uv: (V, 2) in any scale per island. solid: (F,) areas in space: islands are scaled to equal density. padding and
    border: texels between islands and towards the edge of the map. step: texels that corners are multiples of, 0 for
    anywhere. Raises RuntimeError when not even `most` is enough.
    """
    count = int(label.max()) + 1
    of_vertex = island_of(indices, label, len(uv))
    used = of_vertex >= 0
    points = uv.astype(np.float64)
    points[~used] = 0.0
    points = upright(points, indices, label, of_vertex, solid, count)
    low, high = boxes(points, of_vertex, count)
    size = np.maximum(high - low, 1e-12)
    cover = float(solid.sum())
    free = layout(size, 1.0, 0.0, 0.0)
    assert free is not None
    best = cover * free[0] ** 2
    while True:
        found = layout(size, float(resolution), padding, border, step)
        if found is not None and (cover * (found[0] / resolution) ** 2 >= WORTH * best or resolution * 2 > most):
            break
        if resolution * 2 > most:
            raise RuntimeError(f"{count} islands with {padding:g} texels between them do not fit {most} texels")
        resolution *= 2
    scale, corner = found
    out = np.zeros((len(uv), 2))
    out[used] = ((points - low[np.maximum(of_vertex, 0)]) * scale + corner[np.maximum(of_vertex, 0)])[used]
    return (out / resolution).astype(np.float32), resolution


def upright(points: F64, indices: U32, label: I64, of_vertex: I64, solid: F64, count: int) -> F64:
    """Islands not mirrored, at equal density, turned to their smallest box, wider than high. O(V · turns)."""
    area = signed_areas(points, indices)
    total = np.bincount(label, weights=area, minlength=count)
    flip = np.where(total > 0, -1.0, 1.0)
    drawn, real = np.abs(total), np.bincount(label, weights=solid, minlength=count)
    factor = np.sqrt(np.where(drawn > 0, real / np.where(drawn > 0, drawn, 1.0), 1.0))
    own = np.maximum(of_vertex, 0)
    points = points * factor[own][:, None]
    points[:, 0] *= flip[own]
    best_area, best = np.full(count, np.inf), np.zeros(count)
    for angle in candidates(points, indices, label, count):
        turned = rotated(points, angle[own])
        low, high = boxes(turned, of_vertex, count)
        box = np.prod(high - low, axis=1)
        better = box < best_area * (1 - 1e-9)
        best_area, best = np.where(better, box, best_area), np.where(better, angle, best)
    points = rotated(points, best[own])
    low, high = boxes(points, of_vertex, count)
    tall = (high - low)[:, 1] > (high - low)[:, 0]
    return rotated(points, np.where(tall, np.pi / 2, 0.0)[own])


def candidates(points: F64, indices: U32, label: I64, count: int) -> list[F64]:
    """(K,) angles to try for all islands: even steps, and what lays each of their longest edges level."""
    out: list[F64] = [np.full(count, a) for a in np.arange(ANGLES) * (np.pi / 2 / ANGLES)]
    corners = points[indices]
    edges = (corners[:, [1, 2, 0]] - corners).reshape(-1, 2)
    owner = np.repeat(label, 3)
    order = np.lexsort((-np.einsum("ij,ij->i", edges, edges), owner))
    first = np.searchsorted(owner[order], np.arange(count))
    last = np.searchsorted(owner[order], np.arange(count), side="right") - 1
    for k in range(LONGEST):
        row = order[np.minimum(first + k, last)]
        out.append(-np.arctan2(edges[row, 1], edges[row, 0]))
    return out


def rotated(points: F64, angle: F64) -> F64:
    cos, sin = np.cos(angle), np.sin(angle)
    return np.column_stack([cos * points[:, 0] - sin * points[:, 1], sin * points[:, 0] + cos * points[:, 1]])


def layout(size: F64, side: float, padding: float, border: float, step: int = 0) -> tuple[float, F64] | None:
    """Largest scale at which boxes (K, 2) fit a square of that side, and their lower corners (K, 2); None if none does.

    Shelves, highest boxes first, each box on the first shelf with room (Coffman et al., 1980). O(SEARCH · K · shelves).
    """
    from tidy_caravan.core.lightmap.rectangles import shelves

    if step:
        border = np.ceil(border / step) * step
    room = side - 2 * border
    if room <= 0:
        return None
    order = np.lexsort((-size[:, 0], -size[:, 1]))
    wide, high = size[order, 0], size[order, 1]
    most = room / float(size.max())
    most = min(most, float(np.sqrt(room * room / float(size.prod(axis=1).sum()))))
    low, found = 0.0, None
    scale = most
    placed = np.empty_like(size)
    for _ in range(SEARCH):
        taken = wide * scale, high * scale
        if step:  # so much that what is beside begins at a multiple again
            taken = tuple(np.ceil((side + padding) / step) * step - padding for side in taken)
        if shelves(taken[0], taken[1], room, padding, placed):
            low, found = scale, placed.copy()
            if scale >= most:
                break
        else:
            most = scale
        scale = (low + most) / 2
    if found is None:
        return None
    corner = np.empty_like(size)
    corner[order] = found + border
    return low, corner


def flat_pieces(positions: F32, indices: U32) -> tuple[I64, U32, F32, I64]:
    """The plainest unwrap: neighbours in one plane are an island, seen along their normal. Never overlaps itself.

    Returns (V',) source vertices, (F, 3) indices, (V', 2) coordinates in units of length, islands not yet laid out
    and lying on each other, and (F,) island of each triangle.
    """
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    vectors = face_vectors(positions, indices)
    length = np.linalg.norm(vectors, axis=1)
    normal = vectors / np.where(length > 0, length, 1.0)[:, None]
    _, welded = np.unique(positions, axis=0, return_inverse=True)
    faces = welded.reshape(-1)[indices].astype(np.int64)
    edges = half_edges(faces)
    key = edges.min(axis=1) * (faces.max() + 1) + edges.max(axis=1)
    owner = np.tile(np.arange(len(faces)), 3)
    order = np.argsort(key, kind="stable")
    same = key[order][1:] == key[order][:-1]
    a, b = owner[order][:-1][same], owner[order][1:][same]
    # only edges of exactly two faces: a third one would lie on top of the others
    _, which, times = np.unique(key, return_inverse=True, return_counts=True)
    pair = times[which][order][:-1][same] == 2
    flat = pair & (np.einsum("ij,ij->i", normal[a], normal[b]) > COPLANAR)
    # run in opposite directions by both, or one of them lies folded back over the other
    forward = (edges[:, 0] < edges[:, 1])[order]
    flat &= forward[:-1][same] != forward[1:][same]
    graph = coo_array((np.ones(int(flat.sum()), np.int8), (a[flat], b[flat])), shape=(len(faces), len(faces)))
    _, label = connected_components(graph, directed=False)
    values, inverse = np.unique(indices.astype(np.int64) * (int(label.max()) + 1) + label[:, None], return_inverse=True)
    count = int(label.max()) + 1
    source, island = values // count, values % count
    main = np.zeros((count, 3))
    np.add.at(main, label, vectors)
    size = np.linalg.norm(main, axis=1, keepdims=True)
    main = np.where(size > 0, main / np.where(size > 0, size, 1.0), (0.0, 0.0, 1.0))
    help_axis = np.eye(3)[np.argmin(np.abs(main), axis=1)]
    right = np.cross(help_axis, main)
    right /= np.linalg.norm(right, axis=1, keepdims=True)
    down = np.cross(right, main)  # right, up, normal are right-handed; v counts downwards
    points = positions[source].astype(np.float64)
    uv = np.column_stack(
        [np.einsum("ij,ij->i", points, right[island]), np.einsum("ij,ij->i", points, down[island])]
    ).astype(np.float32)
    return source, inverse.reshape(-1, 3).astype(np.uint32), uv, label.astype(np.int64)
