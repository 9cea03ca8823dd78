"""Solids of a mesh that touch: which triangles enclose one, though others share its corners and edges.

Triangles around an edge are paired by the solid between them, in the order of their angle about it, as boundaries of solids
that meet there are (Weiler, The Radial Edge Structure, 1988).
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from tidy_caravan.core.geometry.shells import (
    FLAT,
    LEAST,
    SortedEdges,
    components,
    sorted_edges,
    welded_faces,
    without_repeated,
)
from tidy_caravan.core.geometry.winding import to_turn, turned
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F64, I64, Bool

STEPS = 8.0
"""Float32 steps at their place by which triangles of one plane may seem to be turned against each other."""


def touching_solids(mesh: Mesh) -> tuple[I64, Bool]:
    """(F,) which solid or sheet each triangle is of, and (K,) whether that is a solid: closed, and of some volume. Solids
    that touch at corners, along edges or over whole faces are several. O(F log F)."""
    if less := without_repeated(mesh):
        label, solid = touching_solids(less[0])
        return label[less[1]], solid
    if not mesh.triangles:
        return np.zeros(0, np.int64), np.zeros(0, np.bool_)
    faces, _ = welded_faces(mesh)
    thin = (faces == np.roll(faces, 1, axis=1)).any(axis=1)
    if thin.any():  # they have no place among those around an edge
        label = np.zeros(mesh.triangles, np.int64)
        label[~thin], solid = touching_solids(mesh.with_triangles(~thin))
        label[thin] = len(solid)
        return label, np.append(solid, False)
    # which triangles enclose a solid is told by their winding, were it right
    turn = to_turn(mesh, agree=True, outwards=True)
    right = Mesh(mesh.positions, turned(mesh.indices, turn), mesh.material) if turn.any() else mesh
    e = sorted_edges(right)
    one, other, _ = linked(right, e)
    count, label = components(one, other, mesh.triangles)
    # closed: every edge is run as often one way as the other
    edge = np.repeat(np.arange(len(e.times)), e.times)
    kinds, number = np.unique(edge * count + label[e.owner], return_inverse=True)
    balance = np.bincount(number.reshape(-1), np.where(e.forward, 1.0, -1.0), minlength=len(kinds))
    solid = np.bincount(label, minlength=count) >= LEAST
    solid[kinds[balance != 0] % count] = False
    a, b, c = (mesh.positions[right.indices[:, k]].astype(np.float64) for k in range(3))
    low, high = (np.full((count, 3), far) for far in (np.inf, -np.inf))
    for corner in (a, b, c):
        np.minimum.at(low, label, corner)
        np.maximum.at(high, label, corner)
    about = a - ((low + high) / 2)[label]
    volume = np.bincount(label, np.einsum("fk,fk->f", about, np.cross(b - a, c - a)) / 6, minlength=count)
    solid &= np.abs(volume) > FLAT * np.linalg.norm(high - low, axis=1) ** 3
    return label, solid


def linked(mesh: Mesh, e: SortedEdges) -> tuple[I64, I64, I64]:
    """(L,) and (L,) triangles that hang together over an edge, both of a plain one, the pairs of the others; and (L,) one of
    the half edges of it."""
    plain = e.begin[e.times == 2]
    one, other = [plain], [plain + 1]
    points = np.zeros((int(e.faces.max()) + 1, 3))
    points[e.faces.reshape(-1)] = mesh.positions[mesh.indices.reshape(-1)]
    for rows in crowded(e):
        start, end = e.ends(rows)
        low, high = np.minimum(start, end), np.maximum(start, end)
        third = e.faces[e.owner[rows]].sum(axis=2) - low - high
        a, b = around(points[low], points[high], points[third], e.forward[rows])
        one.append(np.take_along_axis(rows, a, axis=1)[a >= 0])
        other.append(np.take_along_axis(rows, b, axis=1)[b >= 0])
    edge = np.concatenate(one)
    return e.owner[edge], e.owner[np.concatenate(other)], edge


def crowded(e: SortedEdges) -> Iterator[I64]:
    """(G, K) half edges of the edges that have K > 2 triangles, for each K that there is."""
    for times in np.unique(e.times[e.times > 2]).tolist():
        yield e.begin[e.times == times][:, None] + np.arange(times)


def around(low: F64, high: F64, third: F64, forward: Bool) -> tuple[I64, I64]:
    """Pairs of the triangles around edges, K about each, that enclose a solid: one that runs from high to low, then, turning
    on about the edge, the next that is not taken and runs from low to high. low, high, third (G, K, 3), forward (G, K); two
    times (G, K), the pairs first in a row, -1 behind them."""
    axis = high - low
    axis /= np.maximum(np.linalg.norm(axis, axis=2, keepdims=True), 1e-300)
    out = third - low
    out -= np.einsum("gki,gki->gk", out, axis)[:, :, None] * axis
    long = np.linalg.norm(out, axis=2)
    # by the furthest, whose direction is the surest
    far = long.argmax(axis=1)[:, None]
    first = (
        np.take_along_axis(out, far[:, :, None], axis=1)
        / np.maximum(np.take_along_axis(long, far, axis=1), 1e-300)[:, :, None]
    )
    angle = np.arctan2(
        np.einsum("gki,gki->gk", out, np.cross(axis, first)), np.einsum("gki,gki->gk", out, np.broadcast_to(first, out.shape))
    )  # fmt: skip
    size = np.maximum(np.abs(low), np.abs(third)).max(axis=2)
    spare = np.minimum(STEPS * np.finfo(np.float32).eps * size / np.maximum(long, 1e-300), 0.01)
    angle %= 2 * np.pi
    angle = np.where(angle > 2 * np.pi - spare - np.take_along_axis(spare, far, axis=1), 0.0, angle)
    order = np.argsort(angle, axis=1, kind="stable")
    angle, spare = np.take_along_axis(angle, order, axis=1), np.take_along_axis(spare, order, axis=1)
    plane = np.zeros(order.shape, np.int64)
    plane[:, 1:] = np.cumsum(np.diff(angle, axis=1) > spare[:, 1:] + spare[:, :-1], axis=1)
    # of two in one plane the one that closes a solid comes before the one that opens the next
    closes = np.take_along_axis(forward, order, axis=1)
    again = np.argsort(2 * plane + ~closes, axis=1, kind="stable")
    order, closes = np.take_along_axis(order, again, axis=1), np.take_along_axis(closes, again, axis=1)
    return matched(order, closes)


def matched(order: I64, closes: Bool) -> tuple[I64, I64]:
    """Brackets in a circle: each that opens with the one that closes it, as of `around`. order, closes: (G, K)."""
    groups, size = order.shape
    rows = np.arange(groups)
    stack, height = np.zeros((groups, size), np.int64), np.zeros(groups, np.int64)
    one, other, found = np.full((groups, size), -1), np.full((groups, size), -1), np.zeros(groups, np.int64)
    done = np.zeros((groups, size), np.bool_)
    for turn in range(2):
        for at in range(size):
            if turn == 0:
                opens = ~closes[:, at]
                stack[rows[opens], height[opens]] = order[opens, at]
                height[opens] += 1
            close = closes[:, at] & ~done[:, at] & (height > 0)
            done[close, at] = True
            height[close] -= 1
            one[rows[close], found[close]] = stack[rows[close], height[close]]
            other[rows[close], found[close]] = order[close, at]
            found[close] += 1
    return one, other
