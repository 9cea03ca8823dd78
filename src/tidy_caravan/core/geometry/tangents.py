"""Tangents for normal maps by the MikkTSpace algorithm, which glTF 2.0 (3.7.2.1) tells receivers to use as well.

Morten S. Mikkelsen, “Simulation of Wrinkled Surfaces Revisited” (2008), and his reference code, for triangles and the
default threshold of 180 degrees. The reference computes in float32, this in float64; where it is told apart by a
comparison, float32 is compared here too.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from tidy_caravan.core.geometry.normals import face_normals
from tidy_caravan.core.scene import Material, Mesh
from tidy_caravan.core.scene.arrays import F32, F64, I64, Bool

TINY = float(np.finfo(np.float32).tiny)
"""The reference's zero."""
SPREAD = 0.9
"""Directions of a group whose mean is shorter than this may hold opposite ones, which do not belong together."""


def channel_of_normal_map(materials: Sequence[Material], slots: Sequence[int]) -> int:
    """UV channel of the first normal map among these materials, -1 where none has one."""
    for slot in slots:
        use = materials[slot].normal_texture if 0 <= slot < len(materials) else None
        if use is not None:
            return use.channel if use.transform_channel is None else use.transform_channel
    return -1


def with_tangents(mesh: Mesh, channel: int) -> Mesh:
    """The mesh with tangents (V', 4) for a UV channel; same triangles, some vertices split.

    w is the sign of the bitangent as glTF stores it: n × t · w runs up the image, which is where v falls. A mesh
    without normals gets flat ones, which is what the standard says it has. The mesh must have the channel.
    O(F log F).
    """
    if mesh.normals is None:
        flat = face_normals(mesh.positions, mesh.indices)
        corners = mesh.indices.ravel()
        own = np.arange(len(corners), dtype=np.uint32).reshape(-1, 3)
        mesh = mesh.with_vertices(corners, indices=own, normals=np.repeat(flat, 3, axis=0))
    assert mesh.normals is not None
    uv = mesh.uvs[channel].copy()
    uv[:, 1] = -uv[:, 1]  # only differences count, and this one rounds nothing
    tangent, sign, group = tangent_space(mesh.positions, mesh.normals, uv, mesh.indices)
    key = np.column_stack([mesh.indices.ravel().astype(np.int64), group])
    _, first, inverse = np.unique(key, axis=0, return_index=True, return_inverse=True)
    out = mesh.with_vertices(
        mesh.indices.ravel()[first], indices=inverse.reshape(-1, 3).astype(np.uint32)
    )  # fmt: skip
    stored: F32 = np.column_stack([tangent[first], sign[first]]).astype(np.float32)
    return replace(out, tangents=stored)


def tangent_space(
    positions: F32, normals: F32, uv: F32, indices: np.ndarray[tuple[int, int], np.dtype[np.uint32]]
) -> tuple[F64, F64, I64]:
    """Of each corner (3F in the order of the indices): unit tangent (3F, 3), sign (3F,), and the number of its group.

    Corners of one group have one tangent. Corners that the reference leaves undefined, because no triangle around
    has an area in the map, get some tangent at right angles to their normal.
    """
    count = len(indices)
    if not count:
        return np.zeros((0, 3)), np.zeros(0), np.zeros(0, np.int64)
    everything = np.column_stack([positions, normals, uv]).astype(np.float32) + np.float32(0.0)
    _, weld = np.unique(everything, axis=0, return_inverse=True)
    vertex: I64 = weld.reshape(-1)[indices].astype(np.int64)
    points = positions.astype(np.float64)[indices]
    faces = face_directions(positions[indices], uv[indices])
    corner = corner_groups(vertex, faces)
    normal = normals.astype(np.float64)[indices.ravel()]
    along = projected(np.repeat(faces.along, 3, axis=0), normal)
    across = projected(np.repeat(faces.across, 3, axis=0), normal)
    weight = projected_angles(points, normal)
    weight[np.repeat(~faces.solid, 3)] = 0.0
    sums: F64 = np.column_stack([np.bincount(corner, along[:, k] * weight) for k in range(3)])
    corner, total = without_opposites(corner, sums, along, across, weight)
    length = np.linalg.norm(total, axis=1)
    known = length > TINY
    tangent = total[corner] / np.where(known, length, 1.0)[corner, None]
    sign = np.where(np.repeat(faces.kept, 3), 1.0, -1.0)
    source = borrowed(vertex.ravel(), np.repeat(~faces.degenerate, 3) & known[corner], known[corner])
    tangent, sign, group = tangent[source], sign[source], corner[source]
    lost = ~known[group]
    tangent[lost] = any_orthogonal(normal[lost])
    return tangent, sign, group


@dataclass(frozen=True)
class FaceDirections:
    """along, across (F, 3): unit directions of growing u and v, noughts where there are none. kept (F,): the map is not mirrored.
    solid (F,): the triangle has an area in the map and in space. degenerate (F,): two corners are at one place."""

    along: F64
    across: F64
    kept: Bool
    solid: Bool
    degenerate: Bool


def face_directions(points: F32, uv: F32) -> FaceDirections:
    """Of triangles (F, 3, 3) with coordinates (F, 3, 2)."""
    degenerate = np.zeros(len(points), np.bool_)
    for a, b in ((0, 1), (0, 2), (1, 2)):
        degenerate |= (points[:, a] == points[:, b]).all(axis=1)
    t = (uv[:, 1:] - uv[:, :1]).astype(np.float32)
    area = t[:, 0, 0] * t[:, 1, 1] - t[:, 0, 1] * t[:, 1, 0]
    edges = points[:, 1:].astype(np.float64) - points[:, :1]
    fine = t.astype(np.float64)
    u_way = fine[:, 1, 1, None] * edges[:, 0] - fine[:, 0, 1, None] * edges[:, 1]
    v_way = fine[:, 0, 0, None] * edges[:, 1] - fine[:, 1, 0, None] * edges[:, 0]
    lengths = [np.linalg.norm(w, axis=1) for w in (u_way, v_way)]
    kept: Bool = area > 0
    solid = (np.abs(area) > TINY) & (lengths[0] > TINY) & (lengths[1] > TINY)
    hand = np.where(kept, 1.0, -1.0)[:, None] * solid[:, None]
    unit = [w * hand / np.where(solid, n, 1.0)[:, None] for w, n in zip((u_way, v_way), lengths, strict=True)]
    return FaceDirections(unit[0], unit[1], kept, solid & ~degenerate, degenerate)


def corner_groups(vertex: I64, faces: FaceDirections) -> I64:
    """(3F,) group of each corner: corners of one vertex that hang together over edges of triangles of one hand.

    A triangle without area in the map joins the hand of whatever reaches it first; `faces.kept` is set so.
    """
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    count = len(vertex)
    usable = np.flatnonzero(~faces.degenerate)
    one, two, at_one, at_two = paired_edges(vertex, usable)
    hand = np.where(faces.kept, 1, 0)
    hand[~faces.solid] = -1
    settle_hands(hand, vertex, one, two, at_one, at_two)
    faces.kept[:] = hand == 1
    same = (hand[one] == hand[two]) & (hand[one] >= 0)
    rows, columns = at_one[same].ravel(), at_two[same].ravel()
    graph = coo_array((np.ones(len(rows), np.int8), (rows, columns)), shape=(3 * count, 3 * count))
    _, label = connected_components(graph, directed=False)
    return label.astype(np.int64)


def paired_edges(vertex: I64, usable: I64) -> tuple[I64, I64, I64, I64]:
    """Triangles that meet over an edge, one running it each way: (E,) and (E,) their numbers, (E, 2) and (E, 2) their
    corners at the two ends. Of several the first is paired with the first, in the order of the triangles."""
    begin = vertex[usable].ravel()
    end = np.roll(vertex[usable], -1, axis=1).ravel()
    corner = (3 * usable[:, None] + np.arange(3)).ravel()
    after = (3 * usable[:, None] + [1, 2, 0]).ravel()
    low, high, forward = np.minimum(begin, end), np.maximum(begin, end), begin < end
    key = low * (int(vertex.max()) + 1) + high
    order = np.lexsort([corner, forward, key])
    key, forward_sorted = key[order], forward[order]
    # number of each edge among those of its ends and direction
    run = np.flatnonzero(np.r_[True, (key[1:] != key[:-1]) | (forward_sorted[1:] != forward_sorted[:-1])])
    place = np.arange(len(key)) - np.repeat(run, np.diff(np.r_[run, len(key)]))
    edge = np.cumsum(np.r_[0, key[1:] != key[:-1]])
    name = edge * (int(place.max(initial=0)) + 1) + place
    ahead, back = order[forward_sorted], order[~forward_sorted]
    _, a, b = np.intersect1d(name[forward_sorted], name[~forward_sorted], assume_unique=True, return_indices=True)
    p, q = ahead[a], back[b]
    fits = begin[p] != end[p]
    p, q = p[fits], q[fits]
    return (
        corner[p] // 3,
        corner[q] // 3,
        np.column_stack([corner[p], after[p]]),
        np.column_stack([after[q], corner[q]]),
    )


def settle_hands(hand: I64, vertex: I64, one: I64, two: I64, at_one: I64, at_two: I64) -> None:
    """Gives triangles of no hand (-1) that of the first group which reaches any corner of theirs.

    As the reference does it: groups begin at corners of triangles that have a hand, in their order, and spread around
    their vertex over edges. Only what surrounds triangles without area in the map is walked.
    """
    loose = hand < 0
    if not loose.any():
        return
    near = np.zeros(int(vertex.max()) + 1, np.bool_)
    near[vertex[loose]] = True
    beside: dict[int, list[int]] = {}
    used = near[vertex[one, at_one[:, 0] % 3]], near[vertex[one, at_one[:, 1] % 3]]
    for k in (0, 1):
        for a, b in zip(at_one[used[k], k].tolist(), at_two[used[k], k].tolist(), strict=True):
            beside.setdefault(a, []).append(b)
            beside.setdefault(b, []).append(a)
    seen: set[int] = set()
    touched = {3 * f + i for f in np.flatnonzero(loose).tolist() for i in range(3)}
    begun = np.flatnonzero(near[vertex].ravel() & ~np.repeat(loose, 3))
    for corner in begun.tolist():
        if corner in seen:
            continue
        mine = hand[corner // 3]
        stack = [corner]
        while stack:
            c = stack.pop()
            if c in seen:
                continue
            f = c // 3
            if c in touched and not seen & {3 * f, 3 * f + 1, 3 * f + 2}:
                hand[f] = mine
            if hand[f] != mine:
                continue
            seen.add(c)
            stack += beside.get(c, ())


def projected(vectors: F64, normal: F64) -> F64:
    """(N, 3) unit vectors in the planes at right angles to the normals; noughts where nothing is left."""
    flat = vectors - normal * np.einsum("ij,ij->i", vectors, normal)[:, None]
    length = np.linalg.norm(flat, axis=1, keepdims=True)
    out: F64 = flat / np.where(length > TINY, length, 1.0)
    return out


def projected_angles(points: F64, normal: F64) -> F64:
    """(3F,) angles of the corners of (F, 3, 3), seen along their normals (3F, 3)."""
    before, after = points[:, [2, 0, 1]] - points, points[:, [1, 2, 0]] - points
    a, b = projected(before.reshape(-1, 3), normal), projected(after.reshape(-1, 3), normal)
    out: F64 = np.arccos(np.clip(np.einsum("ij,ij->i", a, b), -1.0, 1.0))
    return out


def without_opposites(group: I64, total: F64, along: F64, across: F64, weight: F64) -> tuple[I64, F64]:
    """Groups and their sums, with groups taken apart that hold exactly opposite directions: there each corner sums
    over those that are not opposite to it. Looks only at groups whose directions differ much."""
    used = weight > 0
    number = np.bincount(group, used)
    short = np.zeros(len(total), np.bool_)
    for ways in (along, across):
        mean = np.column_stack([np.bincount(group, ways[:, k] * used) for k in range(3)])
        short |= np.linalg.norm(mean, axis=1) < SPREAD * number
    odd = np.flatnonzero((number > 1) & short)
    if not len(odd):
        return group, total
    out, sums = group.copy(), [total]
    fine = [w.astype(np.float32) for w in (along, across)]
    order = np.argsort(group, kind="stable")
    begin = np.searchsorted(group[order], odd)
    end = np.searchsorted(group[order], odd, side="right")
    fresh = len(total)
    for a, b in zip(begin.tolist(), end.tolist(), strict=True):
        rows = order[a:b][used[order[a:b]]]
        together = np.all([w[rows] @ w[rows].T > -1.0 for w in fine], axis=0)
        if together.all():
            continue
        kinds, part = np.unique(together, axis=0, return_inverse=True)
        sums.append(kinds @ (along[rows] * weight[rows, None]))
        out[rows] = fresh + part.reshape(-1)
        fresh += len(kinds)
    return out, np.concatenate(sums)


def borrowed(vertex: I64, lends: Bool, has: Bool) -> I64:
    """(N,) the corner whose tangent each corner takes: its own, or where it has none the first one of its vertex."""
    out = np.arange(len(vertex))
    needy = np.flatnonzero(~has)
    if len(needy):
        lenders = np.flatnonzero(lends)
        at, first = np.unique(vertex[lenders], return_index=True)
        if len(at):
            place = np.clip(np.searchsorted(at, vertex[needy]), 0, len(at) - 1)
            found = at[place] == vertex[needy]
            out[needy[found]] = lenders[first[place[found]]]
    return out


def any_orthogonal(normal: F64) -> F64:
    """(N, 3) some unit vectors at right angles to the given ones."""
    helper = np.where(np.abs(normal[:, :1]) < 0.9, [[1.0, 0.0, 0.0]], [[0.0, 1.0, 0.0]])
    out = np.cross(normal, helper)
    length = np.linalg.norm(out, axis=1, keepdims=True)
    unit: F64 = out / np.where(length > 0, length, 1.0)
    return unit
