"""Whether two meshes are one shape in two places: equal up to turn, move and uniform scale, with mirror if allowed.

Invariants that no such motion changes sort out what cannot be; a motion found from a telling triangle is then
measured corner by corner, UV sets included. Nothing is called a copy that was not laid on the other.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Protocol

import numpy as np

from tidy_caravan.core.geometry.normals import face_vectors, spanned
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, Bool
from tidy_caravan.core.scene.mesh import Mesh

TOLERANCE = 1e-4
"""Largest deviation of a corner, as a part of the mesh's size, and of a UV coordinate."""
NEAR = 2e-3
"""Part by which the figures of two copies may differ; they are sums over many edges, where rounding cancels out."""
TRIES = 48
"""Placements that are tried per pair before it is called different."""
TURNS = ((0, 1, 2), (1, 2, 0), (2, 0, 1))
TURNED_OVER = ((0, 2, 1), (2, 1, 0), (1, 0, 2))
MOST_TRIANGLES = 200_000
FEW = 64
"""Corners that are laid on first."""


def signature(mesh: Mesh) -> tuple[float, ...]:
    """Figures that turn, move, mirror and uniform scale leave as they are.

    Triangles, UV sets, and moments of the areas and edge lengths relative to the whole.
    """
    area = np.linalg.norm(face_vectors(mesh.positions, mesh.indices), axis=1)
    whole = float(area.sum()) or 1.0
    corners = mesh.positions.astype(np.float64)[mesh.indices]
    edges = np.linalg.norm(corners[:, [1, 2, 0]] - corners, axis=2) / np.sqrt(whole)
    arms = corners.reshape(-1, 3)
    arms = arms - (arms.mean(axis=0) if len(arms) else 0.0)
    reach = np.linalg.norm(arms, axis=1) / np.sqrt(whole)
    figures = [float((area**2).sum()) / whole**2, float(edges.sum()), float((edges**2).sum()), float((reach**2).sum())]
    return (mesh.triangles, len(mesh.uvs), len(mesh.slots), *figures)


def same_shape(a: Mesh, b: Mesh, mirror: bool) -> bool:
    """Whether b is a copy of a in another place and size. O(F log F) per placement tried."""
    if a.triangles != b.triangles or len(a.uvs) != len(b.uvs) or not a.triangles:
        return False
    if in_order(a, b, mirror):
        return True
    return a.triangles <= MOST_TRIANGLES and same_lengths(a, b) and by_triangles(a, b, mirror)


def same_lengths(a: Mesh, b: Mesh) -> bool:
    """Whether the edges can belong to copies: sorted by length they differ by what corners may deviate. O(F log F)."""
    p, q = corners_of(a).reshape(-1, 3, 3), corners_of(b).reshape(-1, 3, 3)
    size = area_size(p)
    lengths = np.sort(edge_lengths(p).ravel() / size), np.sort(edge_lengths(q).ravel() / area_size(q))
    return float(np.abs(lengths[0] - lengths[1]).max()) <= 8 * TOLERANCE * extent(p) / size


def in_order(a: Mesh, b: Mesh, mirror: bool) -> bool:
    """The same, for triangles in the same order: the best similarity by least squares (Umeyama, 1991)."""
    p, q = corners_of(a), corners_of(b)
    middle_p, middle_q = p.mean(axis=0), q.mean(axis=0)
    x, y = p - middle_p, q - middle_q
    spread = float((x**2).sum())
    if not spread > 0:
        return False
    u, singular, vt = np.linalg.svd(y.T @ x)
    sign = np.ones(3)
    if np.linalg.det(u @ vt) < 0 and not mirror:
        sign[2] = -1.0
    turn = u @ np.diag(sign) @ vt
    scale = float((singular * sign).sum()) / spread
    off = float(np.abs(scale * x @ turn.T - y).max())
    size = float(np.abs(y).max())
    uv = all(np.abs(s[a.indices] - t[b.indices]).max() <= TOLERANCE for s, t in zip(a.uvs, b.uvs, strict=True))
    return off <= TOLERANCE * size and uv


def by_triangles(a: Mesh, b: Mesh, mirror: bool) -> bool:
    """The same, whatever the order: the rarest large triangle of a is laid on every triangle of b that is like it."""
    from scipy.spatial import cKDTree

    p, q = corners_of(a).reshape(-1, 3, 3), corners_of(b).reshape(-1, 3, 3)
    size_a, size_b = extent(p), extent(q)
    if not (size_a > 0 and size_b > 0):
        return False
    lengths_a = edge_lengths(p) / area_size(p)
    keys = np.round(np.sort(lengths_a, axis=1), 2)
    _, inverse, times = np.unique(keys, axis=0, return_inverse=True, return_counts=True)
    times = times[inverse.reshape(-1)]
    area = np.linalg.norm(spanned(p), axis=1)
    rare = np.flatnonzero((times == times.min()) & (area > 0.1 * np.median(area)))
    one = int(rare[np.argmax(area[rare])]) if len(rare) else int(np.argmax(area))
    data = np.column_stack([q.reshape(-1, 3) / size_b, *(t[b.indices].reshape(-1, 2) for t in b.uvs)])
    tree = cKDTree(data)
    back = [t[a.indices].reshape(-1, 2) for t in a.uvs]
    every = np.arange(3 * len(p))
    few = every[:: max(1, len(every) // FEW)]
    tried = 0
    # a mirror runs the corners of a triangle the other way round
    for order in (*TURNS, *(TURNED_OVER if mirror else ())):
        ends = edge_lengths(q[:, list(order)]) / area_size(q)
        fits = np.abs(ends - lengths_a[one]).max(axis=1) < 0.01
        for k in np.flatnonzero(fits).tolist():
            if tried >= TRIES:
                return False
            tried += 1
            linear = carrying(p[one], q[k][list(order)], order in TURNED_OVER)
            if linear is None:
                continue
            # a few corners tell most wrong placements; only what they do not is laid on as a whole
            if all(lies_on(tree, p, one, linear, q[k, order[0]], size_b, back, rows) for rows in (few, every)):
                return True
    return False


def lies_on(
    tree: Any, p: F64, one: int, linear: F64, place: F64, size: float, coordinates: list[AnyArray], rows: I64
) -> bool:
    """Whether the corners `rows` of p (F, 3, 3), moved, all lie on corners of the other with their coordinates."""
    moved = (p.reshape(-1, 3)[rows] - p[one, 0]) @ linear.T + place
    asked = np.column_stack([moved / size, *(c[rows] for c in coordinates)])
    far, _ = tree.query(asked, distance_upper_bound=4 * TOLERANCE)
    return bool(np.isfinite(far).all())


def corners_of(mesh: Mesh) -> F64:
    out: F64 = mesh.positions.astype(np.float64)[mesh.indices.ravel()]
    return out


def extent(triangles: F64) -> float:
    points = triangles.reshape(-1, 3)
    return float(np.linalg.norm(points.max(axis=0) - points.min(axis=0)))


def area_size(triangles: F64) -> float:
    """Root of the whole area: a measure of size that no turn changes."""
    area = np.linalg.norm(spanned(triangles), axis=1)
    return float(np.sqrt(area.sum())) or 1.0


def edge_lengths(triangles: F64) -> F64:
    out: F64 = np.linalg.norm(triangles[:, [1, 2, 0]] - triangles, axis=2)
    return out


def carrying(source: F64, target: F64, flip: bool) -> F64 | None:
    """(3, 3) similarity that lays one triangle (3, 3) on another, or None when either is a line."""
    frames = []
    for corners, sign in ((source, 1.0), (target, -1.0 if flip else 1.0)):
        along, aside = corners[1] - corners[0], corners[2] - corners[0]
        up = np.cross(along, aside)
        length, height = float(np.linalg.norm(along)), float(np.linalg.norm(up))
        if not (length > 0 and height > 0):
            return None
        x, z = along / length, up / height
        frames.append((length, np.column_stack([x, np.cross(z, x), sign * z])))
    (l1, f1), (l2, f2) = frames
    out: F64 = (l2 / l1) * f2 @ f1.T
    return out


class Answers(Protocol):
    """Yes or no about pairs of meshes, found out once."""

    def answer(self, first: Mesh, second: Mesh) -> bool | None: ...

    def learn(self, first: Mesh, second: Mesh, answer: bool) -> bool: ...


def families(
    meshes: list[tuple[int, Mesh]],
    mirror: bool,
    most: int = 5_000,
    signatures: Mapping[int, Sequence[float]] | None = None,
    answers: Answers | None = None,
) -> tuple[list[list[int]], bool]:
    """Groups of at least two meshes that are copies of each other; the first of each is the one others were laid on.

    meshes: (number, mesh). Compared only where figures agree; after `most` comparisons in vain no more are made, and
    the second value is False. O(meshes) beside the comparisons. signatures: by number, those that are known.
    answers: what is known about pairs, and where what is found out goes.
    """

    def same(first: Mesh, second: Mesh) -> bool:
        known = answers.answer(first, second) if answers is not None else None
        if known is None:
            known = same_shape(first, second, mirror)
            if answers is not None:
                answers.learn(first, second, known)
        return known

    if len(meshes) < 2:
        return [], True
    told = np.array([signatures[i] if signatures is not None else signature(m) for i, m in meshes], np.float64)
    cell, around = cells_of(told)
    by_number = dict(meshes)
    homes: dict[int, list[list[int]]] = {}
    vain = 0
    for (i, mesh), own in zip(meshes, cell.tolist(), strict=True):
        home = None
        for group in (g for c in around[own] for g in homes.get(c, ())):
            if vain < most and home is None:
                home = group if same(by_number[group[0]], mesh) else None
                vain += home is None
        if home is None:
            home = []
            homes.setdefault(own, []).append(home)
        home.append(i)
        if vain >= most:
            break
    return [g for groups in homes.values() for g in groups if len(g) > 1], vain < most


def cells_of(figures: F64) -> tuple[I64, list[list[int]]]:
    """(N,) the cell of each row of figures, and for every cell that is occupied itself and those beside it."""
    from scipy.spatial import cKDTree

    places = np.floor(np.log(np.maximum(figures[:, 3:], 1e-30)) / NEAR)
    every, cell = np.unique(np.column_stack([np.trunc(figures[:, :3]) * 4, places]), axis=0, return_inverse=True)
    around = [[c] for c in range(len(every))]
    # whole numbers have to be equal: they are further apart than neighbours
    for a, b in cKDTree(every).query_pairs(1.5, p=np.inf, output_type="ndarray").tolist():
        around[a].append(b)
        around[b].append(a)
    return cell.reshape(-1).astype(np.int64), around


ALONG = np.array([0.7549, 0.5698, 0.3247, 0.8192, 0.6711, 0.5497])
"""A direction among boxes along which those on a grid do not fall together."""


def has_a_neighbour(boxes: F64, tolerance: float) -> Bool:
    """(P,) False where no other box (6 numbers each) can be equal within a part of its size: a quick look along a line."""
    if len(boxes) < 2:
        return np.zeros(len(boxes), np.bool_)
    reach = tolerance * np.maximum(np.linalg.norm(boxes[:, 3:] - boxes[:, :3], axis=1), 1e-12).max()
    along = boxes @ ALONG
    rounding = 64 * np.finfo(np.float64).eps * np.abs(boxes).max()
    order = np.argsort(along)
    near = np.diff(along[order]) <= reach * np.linalg.norm(ALONG) + rounding
    out = np.zeros(len(boxes), np.bool_)
    out[order[:-1][near]] = out[order[1:][near]] = True
    return out


def twice(boxes: F64, keys: AnyArray, tolerance: float) -> I64:
    """(K, 2) pairs of rows with equal keys whose boxes (P, 2, 3) are equal within a part of their own size.

    Every row that has such another is in a pair; not every pair is told. O(P log P).
    """
    from scipy.spatial import cKDTree

    out = [np.zeros((0, 2), np.int64)]
    order = np.argsort(keys, kind="stable")
    _, begin = np.unique(keys[order], return_index=True)
    for rows in np.split(order, begin[1:]):
        rows = rows[has_a_neighbour(boxes[rows].reshape(-1, 6), tolerance)]
        if len(rows) < 2:
            continue
        flat, first, inverse = np.unique(boxes[rows].reshape(-1, 6), axis=0, return_index=True, return_inverse=True)
        # each with the one before it at the same place, and with the first there
        at = inverse.reshape(-1)
        run = np.argsort(at, kind="stable")
        same = np.flatnonzero(at[run[1:]] == at[run[:-1]])
        later = run[same + 1]
        out.append(np.column_stack([rows[run[same]], rows[later]]))
        out.append(np.column_stack([rows[first[at[later]]], rows[later]]))
        if len(flat) < 2:
            continue
        reach = tolerance * np.maximum(np.linalg.norm(flat[:, 3:] - flat[:, :3], axis=1), 1e-12)
        far: Any
        near: Any
        far, near = cKDTree(flat).query(flat, k=2, distance_upper_bound=float(reach.max()))
        close = np.flatnonzero(far[:, 1] <= reach)
        out.append(np.sort(np.column_stack([rows[first[close]], rows[first[near[close, 1]]]]), axis=1))
    pairs: I64 = np.unique(np.concatenate(out), axis=0)
    return pairs
