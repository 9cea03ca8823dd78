"""Strips side by side as one island: flat pieces so thin that what lies between islands costs more than they do.

The sides of a rail, of a post or of the edge of a slab share their long edges. Unfolded about these they need no texels
between each other. Only strips join strips: a large face keeps its own border, where light ends at its hard edge.
"""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.geometry.shells import half_edges
from tidy_caravan.core.scene.arrays import F32, F64, I64, U32, AnyArray

THIN = 10.0
"""Texels across below which a flat piece is a strip, at the density that a well filled map would have."""
FILLED = 0.75
SIDE_BY_SIDE = 0.8
"""Part of the longer of two strips that their common edge has to be."""
STRAIGHT = 1e-4
"""Distance from each other, as a part of their length, at which the ends of a common edge agree in both strips."""

Charts = tuple[I64, U32, F32, I64]


def joined(charts: Charts, points: F32, solid: F64, resolution: int) -> Charts | None:
    """Flat pieces (see `charts.flat_pieces`) with strips unfolded about their common long edges; None where there are none.

    points: (V, 3) corners in space. solid: (F,) areas in space. Whether what is unfolded lies on itself is not looked at:
    the set as a whole is measured. O(E log E) and a turn of each strip that joins.
    """
    source, faces, uv, label = charts
    count = int(label.max()) + 1
    if count < 2:
        return None
    of_vertex = np.empty(len(uv), np.int64)
    of_vertex[faces.reshape(-1)] = np.repeat(label, 3)
    flat = uv.astype(np.float64)
    length, width = sides(flat, of_vertex, count, solid, label)
    texels = min(
        resolution * np.sqrt(FILLED / max(float(solid.sum()), 1e-30)), resolution / max(float(length.max()), 1e-30)
    )
    thin = (width * texels < THIN) & (length > 2 * width)
    pairs = common_edges(points[source], faces, label, thin)
    group = np.arange(count)
    done = False
    for one, other, shared, edges in pairs:
        if shared < SIDE_BY_SIDE * max(length[one], length[other]) or group[one] == group[other]:
            continue
        moving = group[of_vertex] == group[other]
        found = unfolded(flat, edges, moving)
        if found is None:
            continue
        flat[moving] = found
        flat[edges[:, 1]] = flat[edges[:, 0]]
        group[group == group[other]] = group[one]
        done = True
    if not done:
        return None
    _, joint = np.unique(group, return_inverse=True)
    return source, faces, flat.astype(np.float32), joint.reshape(-1)[label].astype(np.int64)


def sides(flat: F64, of_vertex: I64, count: int, solid: F64, label: I64) -> tuple[F64, F64]:
    """(K,) length of each piece, from its furthest corners, and its width: what its area comes to over that length."""
    middle: F64 = np.stack([np.bincount(of_vertex, weights=flat[:, k], minlength=count) for k in (0, 1)], axis=1)
    middle = middle / np.maximum(np.bincount(of_vertex, minlength=count), 1)[:, None]
    away = flat - middle[of_vertex]
    spread = np.empty((count, 2, 2))
    for a in (0, 1):
        for b in (0, 1):
            spread[:, a, b] = np.bincount(of_vertex, weights=away[:, a] * away[:, b], minlength=count)
    _, axes = np.linalg.eigh(spread)
    along = np.einsum("vi,vi->v", away, axes[of_vertex, :, 1])
    low, high = np.full(count, np.inf), np.full(count, -np.inf)
    np.minimum.at(low, of_vertex, along)
    np.maximum.at(high, of_vertex, along)
    length = np.maximum(high - low, 1e-30)
    return length, np.bincount(label, weights=solid, minlength=count) / length


def common_edges(corners: F32, faces: U32, label: I64, thin: AnyArray) -> list[tuple[int, int, float, I64]]:
    """Pairs of strips with a common edge, the longest first: both, its length, and (C, 2) the corners of the one and the
    other that lie at one place. Only edges of exactly two triangles that run along them in opposite directions."""
    _, welded = np.unique(corners, axis=0, return_inverse=True)
    welded = welded.reshape(-1)
    edges = half_edges(faces.astype(np.int64))
    ends = welded[edges]
    low, high = ends.min(axis=1), ends.max(axis=1)
    key = low * (int(welded.max()) + 1) + high
    owner = np.tile(label, 3)
    order = np.argsort(key, kind="stable")
    _, begin, times = np.unique(key[order], return_index=True, return_counts=True)
    first = begin[times == 2]
    a, b = order[first], order[first + 1]
    good = (
        (owner[a] != owner[b])
        & thin[owner[a]]
        & thin[owner[b]]
        & (ends[a, 0] == ends[b, 1])
        & (ends[a, 0] != ends[a, 1])
    )
    a, b = a[good], b[good]
    turn = owner[a] > owner[b]
    a, b = np.where(turn, b, a), np.where(turn, a, b)
    size = np.linalg.norm(corners[edges[a, 0]].astype(np.float64) - corners[edges[a, 1]], axis=1)
    pair = owner[a] * (int(label.max()) + 1) + owner[b]
    out = []
    for value in np.unique(pair).tolist():
        rows = np.flatnonzero(pair == value)
        match = np.concatenate([edges[a[rows]], edges[b[rows]][:, ::-1]], axis=1)[:, [0, 2, 1, 3]].reshape(-1, 2)
        out.append((int(owner[a[rows[0]]]), int(owner[b[rows[0]]]), float(size[rows].sum()), match))
    return sorted(out, key=lambda p: -p[2])


def unfolded(flat: F64, edges: I64, moving: AnyArray) -> F64 | None:
    """(M, 2) where the corners of the moving pieces come to lie when the common edge is the same in both; None where it is not
    straight or of another length there."""
    one, other = flat[edges[:, 0]], flat[edges[:, 1]]
    far = int(np.argmax(np.linalg.norm(one - one[0], axis=1)))
    begin = int(np.argmax(np.linalg.norm(one - one[far], axis=1)))
    here, there = one[far] - one[begin], other[far] - other[begin]
    long = float(np.linalg.norm(here))
    if long <= 0 or abs(long - float(np.linalg.norm(there))) > STRAIGHT * long:
        return None
    cos, sin = float(there @ here), float(there[0] * here[1] - there[1] * here[0])
    size = np.hypot(cos, sin)
    cos, sin = cos / size, sin / size

    def turned(at: F64) -> F64:
        x, y = (at - other[begin]).T
        out: F64 = np.column_stack([cos * x - sin * y, sin * x + cos * y]) + one[begin]
        return out

    if np.linalg.norm(turned(other) - one, axis=1).max() > STRAIGHT * long:
        return None
    return turned(flat[moving])
