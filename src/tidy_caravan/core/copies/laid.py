"""Laying one mesh on many: the placement by least squares, corner by corner where the order of vertices is the same, else
after a telling triangle has said which corner is which. Nothing is a copy that was not laid on the other and measured.
"""

from __future__ import annotations

from dataclasses import dataclass, fields

import numpy as np

from tidy_caravan.core.copies.batch import Batch, Normal
from tidy_caravan.core.scene.arrays import F64, I32, I64, AnyArray, Bool
from tidy_caravan.core.space.convert import cofactors

TURNS: I64 = np.array([(0, 1, 2), (1, 2, 0), (2, 0, 1), (0, 2, 1), (2, 1, 0), (1, 0, 2)], np.int64)
"""The corners of a triangle in every order; a mirror runs them the other way round, as the last three do."""
TRIES = 48
"""Placements that are tried before a mesh is called different: as many as a cube has, mirrored ones with it."""
TRIES_OF_FAULTY = 512
"""The same of meshes with triangles that stand twice or have no area: these break a symmetry that the figures of the mesh
hardly tell."""
SAMPLES = 8
"""Corners that are laid on first; most wrong placements are told by them."""
MOST_VERTICES = 2_000_000
"""Larger meshes are laid on others in their order alone: three numbers of places have to fit 63 bits."""
SAME = 4e-6
"""Of a mesh's size: vertices that near are one place."""
CROWD = 64
LARGER = 4.0
"""Times what places may be off that the telling triangle has to be large, to tell anything."""
NEARLY = 8.0
EXPLAINED = 0.25
"""Part of what a scale moves the corners by that may be left where it is one."""
ROUNDS = 6
ALONE = 0.25
"""Part of the largest distance below which that of most corners says that it is a difference at a few."""
ANGLE_DEG = 1.0
"""How far normals and tangents may be off."""
SLIM = 1e-9
CHUNK = 1 << 21
"""Corners that are looked at together."""


@dataclass
class Laid:
    """What came of laying one mesh on N. linear, place: from the one to each. off: the largest distance of a corner, in
    units of the other mesh. vertices, triangles: (N, V), (N, F) which of each lie on those of the one."""

    fits: Bool
    linear: F64
    place: F64
    off: F64
    vertices: I32
    triangles: I32

    def of(self, rows: AnyArray) -> Laid:
        return Laid(*(getattr(self, f.name)[rows] for f in fields(self)))

    @classmethod
    def none(cls, count: int, vertices: int, faces: int) -> Laid:
        return cls(
            np.zeros(count, np.bool_), np.tile(np.eye(3), (count, 1, 1)), np.zeros((count, 3)), np.full(count, np.inf),
            np.tile(np.arange(vertices, dtype=np.int32), (count, 1)), np.tile(np.arange(faces, dtype=np.int32), (count, 1)),
        )  # fmt: skip


@dataclass(frozen=True)
class Allowed:
    """What kinds of placement count: scale is none, uniform or per_axis. up: (3,) what should stay upright."""

    scale: str
    mirror: bool
    up: F64

    @property
    def per_axis(self) -> bool:
        return self.scale == "per_axis"


def fitted(one: F64, others: F64, sign: F64, allowed: Allowed, weight: F64 | None = None) -> tuple[F64, F64, F64]:
    """Placements that carry corners (N, K, 3) nearest to others (N, K, 3): (N, 3, 3), (N, 3), and (N,) the largest
    distance left. sign: (N,) -1 where it is to be a mirror, which turns the winding, 1 where it is not to be one.
    By singular values (Umeyama, 1991), or linear least squares where axes may be scaled by themselves."""
    if weight is None:
        middle, target = one.mean(axis=1, keepdims=True), others.mean(axis=1, keepdims=True)
    else:
        middle, target = (np.einsum("nk,nki->ni", weight, p)[:, None] for p in (one, others))
    x, y = one - middle, others - target
    heavy = x if weight is None else x * weight[..., None]
    h = y.transpose(0, 2, 1) @ heavy
    if allowed.per_axis:
        linear = stretched(x.transpose(0, 2, 1) @ heavy, h, sign)
        linear[np.sign(np.linalg.det(linear)) != sign] = 0.0
    else:
        u, s, vt = np.linalg.svd(h)
        last = np.sign(np.linalg.det(u) * np.linalg.det(vt)) * sign
        u[:, :, 2] *= last[:, None]
        linear = u @ vt
        if allowed.scale != "none":
            s[:, 2] *= last
            scale = s.sum(axis=1) / np.maximum((x * heavy).sum(axis=(1, 2)), 1e-300)
            off = furthest(x, y, linear * scale[:, None, None])
            # what is left must be less than what the scale explains: else it is another piece, and no copy of another size
            reach = np.sqrt((x**2).sum(axis=2).max(axis=1))
            linear *= np.where(off > EXPLAINED * np.abs(scale - 1) * reach, 1.0, scale)[:, None, None]
    place = target[:, 0] - np.einsum("nij,nj->ni", linear, middle[:, 0])
    return linear, place, furthest(x, y, linear)


def furthest(x: F64, y: F64, linear: F64) -> F64:
    """(N,) the largest distance of corners (N, K, 3) under maps (N, 3, 3) from others (N, K, 3)."""
    out: F64 = np.sqrt(((y - x @ linear.transpose(0, 2, 1)) ** 2).sum(axis=2).max(axis=1))
    return out


def closely(one: F64, others: F64, sign: F64, far: F64, allowed: Allowed) -> tuple[F64, F64, F64]:
    """The same, where most corners say how it lies: by squares, one corner that is off draws the others after it, and a
    copy with a part moved would pass for one that is a little off everywhere. Weighted anew by the distances that are left
    (Holland and Welsch, 1977), for those that are off by more than rounding and not more than twice what may be."""
    linear, place, off = fitted(one, others, sign, allowed)
    rows = np.flatnonzero((off > far / 8) & (off <= 2 * far))
    if not len(rows):
        return linear, place, off
    a, b = one[rows], others[rows]
    some = linear[rows], place[rows]
    for _ in range(ROUNDS):
        left = np.linalg.norm(b - a @ some[0].transpose(0, 2, 1) - some[1][:, None], axis=2)
        weight = 1.0 / np.maximum(left, far[rows, None] / 50)
        some = fitted(a, b, sign[rows], allowed, weight / weight.sum(axis=1, keepdims=True))[:2]
    left = np.linalg.norm(b - a @ some[0].transpose(0, 2, 1) - some[1][:, None], axis=2)
    # what is off at a few corners alone is a difference; what is off everywhere is a copy as near as it gets
    alone = np.median(left, axis=1) < ALONE * left.max(axis=1)
    chosen = rows[alone]
    linear[chosen], place[chosen], off[chosen] = some[0][alone], some[1][alone], left[alone].max(axis=1)
    return linear, place, off


def stretched(own: F64, h: F64, sign: F64) -> F64:
    """(N, 3, 3) linear maps by least squares, of the products of corners with themselves and with where they go; across a
    flat mesh such that it is a mirror, or none, by sign (N,)."""
    values, axes = np.linalg.eigh(own)
    thick = values > SLIM * values[:, 2:]
    columns = (h @ axes) / np.where(thick, values, 1.0)[:, None, :]
    flat = ~thick[:, 0]
    if flat.any():
        c = columns[flat]
        across = np.cross(c[:, :, 1], c[:, :, 2])
        length = np.linalg.norm(across, axis=1, keepdims=True)
        way = (np.sign(np.linalg.det(axes[flat])) * sign[flat])[:, None]
        size = np.sqrt(np.linalg.norm(c[:, :, 1], axis=1) * np.linalg.norm(c[:, :, 2], axis=1))[:, None]
        columns[flat, :, 0] = across / np.maximum(length, 1e-300) * size * way
    out: F64 = columns @ axes.transpose(0, 2, 1)
    return out


def laid(one: Batch, own: Normal, others: Batch, theirs: Normal, allowed: Allowed) -> Laid:
    """Lays the first mesh of `one` on all others, which have as many vertices and triangles. O(N · (V + F)) a placement."""
    out = Laid.none(len(others), one.points.shape[1], one.faces.shape[1])
    if not len(others):
        return out
    settled = np.zeros(len(others), np.bool_)
    ordered = np.flatnonzero((others.faces == one.faces).all(axis=(1, 2)))
    for rows in chunks(ordered, one.points.shape[1]):
        some = others.of(rows)
        corners = np.broadcast_to(one.points, some.points.shape)
        linear, place, off = closely(corners, some.points, np.ones(len(rows)), some.far, allowed)
        # with the same triangles in the same order, all but a copy is a near twin, and none in another order either; what
        # is a copy by its shape may still have its coordinates the other way round
        settled[rows[(off > some.far) & (off <= NEARLY * some.far)]] = True
        good = np.flatnonzero(off <= some.far)
        good = good[alike(one, some.of(good), linear[good], None, None)]
        hit = rows[good]
        out.fits[hit], out.linear[hit], out.place[hit], out.off[hit] = True, linear[good], place[good], off[good]
    left = np.flatnonzero(~out.fits & theirs.usable & ~settled)
    if len(left) and own.usable[0] and one.points.shape[1] <= MOST_VERTICES:
        anchor = Anchor.of(one, own)
        # first as copies are that were only moved about, then as far off as they may be, where triangles are larger than that
        for blur, own_blur in ((theirs.noise, own.noise[0]), (theirs.blur, own.blur[0])):
            spare = 2 * (blur + own_blur) + 1e-6
            asked = left[~out.fits[left] & (spare[left] * LARGER <= anchor.shortest)]
            for rows in chunks(asked, one.faces.shape[1] * 6):
                by_triangles(anchor, others, theirs, rows, spare[rows], allowed, out)
    return out


def chunks(rows: AnyArray, each: int) -> list[AnyArray]:
    """Runs of rows whose corners together are not too many."""
    step = max(1, CHUNK // max(1, each))
    return [rows[k : k + step] for k in range(0, len(rows), step)]


def alike(one: Batch, others: Batch, linear: F64, vertex: I64 | None, source: I64 | None) -> Bool:
    """(N,) whether what hangs on corners agrees. vertex, source: (N, C) vertices of the others, and those of the one
    that they lie on; all in order when they are None."""
    n = len(others)
    rows = np.arange(n)[:, None]

    def pair(a: F64, b: F64) -> tuple[F64, F64]:
        return (a if source is None else a[0][source]), (b if vertex is None else b[rows, vertex])

    out = np.ones(n, np.bool_)
    if others.marks.shape[2]:
        a, b = pair(one.marks, others.marks)
        out &= (np.abs(a - b) <= others.limits[:, None, :]).all(axis=(1, 2))
    limit = np.cos(np.radians(ANGLE_DEG))
    for name, maps in (("normals", cofactors(linear)), ("tangents", linear)):
        mine, others_ = getattr(one, name), getattr(others, name)
        if mine is None or others_ is None:
            continue
        if name == "normals":  # a mirror turns the winding, and the normals of the other go with its own
            maps = maps * np.sign(np.linalg.det(linear))[:, None, None]
        a, b = pair(mine, others_)
        moved = np.broadcast_to(a, b.shape) @ maps.transpose(0, 2, 1)
        length = np.linalg.norm(moved, axis=2) * np.linalg.norm(b, axis=2)
        out &= ((moved * b).sum(axis=2) >= limit * length).all(axis=1)
    if one.hand is not None and others.hand is not None:
        a, b = pair(one.hand, others.hand)
        out &= (a * np.sign(np.linalg.det(linear))[:, None] == b).all(axis=1)
    return out


@dataclass(frozen=True)
class Anchor:
    """The mesh that is laid on others, and the triangle that says where. shortest: its least edge. places: (P, 3) where it
    has vertices. place_of: (V,) the place of each. codes: (F,) its triangles by places, sorted; order: (F,) which they are."""

    batch: Batch
    normal: Normal
    triangle: int
    shortest: float
    places: F64
    place_of: I64
    codes: I64
    order: I64

    @classmethod
    def of(cls, one: Batch, own: Normal) -> Anchor:
        from scipy.sparse import coo_array
        from scipy.sparse.csgraph import connected_components
        from scipy.spatial import cKDTree

        y, faces = own.points[0], one.faces[0]
        # vertices that stand at one place by rounding are one place; of a whole crowd there the cell is
        cells, cell, crowd = np.unique(np.rint(y / SAME), axis=0, return_inverse=True, return_counts=True)
        count, place_of = len(cells), cell.reshape(-1).astype(np.int64)
        if crowd.max() <= CROWD:
            near = cKDTree(y).query_pairs(SAME, output_type="ndarray")
            graph = coo_array((np.ones(len(near), np.int8), (near[:, 0], near[:, 1])), shape=(len(y), len(y)))
            count, found = connected_components(graph, directed=False)
            place_of = found.astype(np.int64)
        first = np.full(count, len(y), np.int64)
        np.minimum.at(first, place_of, np.arange(len(y)))
        codes, _ = coded(place_of[faces][None], count)
        order = np.argsort(codes[0], kind="stable")
        triangle = telling(one, own)
        shortest = float(measures(own.points, one.faces[:, triangle : triangle + 1])[0].min())
        return cls(one, own, triangle, shortest, y[first], place_of, codes[0][order], order)


def coded(triples: I64, count: int) -> tuple[I64, I64]:
    """(N, F) one number for each triangle (N, F, 3) of places, whatever its first corner; and (N, F) that corner."""
    first = begin_of(triples)
    turned = np.take_along_axis(triples, (first[..., None] + np.arange(3)) % 3, axis=-1)
    return (turned[..., 0] * count + turned[..., 1]) * count + turned[..., 2], first


def begin_of(triples: I64) -> I64:
    """(...,) the corner from which on triangles (..., 3) of places are read: the least, and of two at one place the one
    that the other follows."""
    first = np.argmin(triples, axis=-1)
    before = (first + 2) % 3
    least, other = (np.take_along_axis(triples, k[..., None], axis=-1)[..., 0] for k in (first, before))
    out: I64 = np.where(least == other, before, first)
    return out


def telling(one: Batch, own: Normal) -> int:
    """The triangle of the mesh that has the fewest like it; a large one of those."""
    y, faces = own.points[0], one.faces[0]
    edges, radius, _ = measures(y[None], faces[None])
    marks = one.marks[0][faces].mean(axis=1)
    step = max(4 * float(own.noise[0]), min(0.01, 0.02 * float(np.median(edges))))
    look = np.concatenate([np.sort(edges[0], axis=1) / step, np.sort(radius[0], axis=1) / step, marks / 0.01], axis=1)
    _, kind, times = np.unique(np.rint(look), axis=0, return_inverse=True, return_counts=True)
    a, b = y[faces[:, 1]] - y[faces[:, 0]], y[faces[:, 2]] - y[faces[:, 0]]
    area = np.linalg.norm(np.cross(a, b), axis=1)
    large = area > 0.2 * area.max()
    times = np.where(large, times[kind.reshape(-1)], len(faces) + 1)
    return int(np.argmax(np.where(times == times.min(), area, -1.0)))


def measures(y: F64, faces: I64) -> tuple[F64, F64, F64]:
    """(N, F, 3) lengths of edges, from each corner to the next, (N, F, 3) distances from the middle, and the corners."""
    corners = y[np.arange(len(y))[:, None, None], faces]
    return (
        np.linalg.norm(corners[:, :, [1, 2, 0]] - corners, axis=3),
        np.linalg.norm(corners, axis=3),
        corners,
    )


def framed(corners: F64, flip: AnyArray | float) -> F64:
    """(K, 3, 3) frames of triangles (K, 3, 3), one axis along the first edge, one across."""
    along, aside = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    up = np.cross(along, aside)
    x = along / np.maximum(np.linalg.norm(along, axis=1), 1e-300)[:, None]
    z = up / np.maximum(np.linalg.norm(up, axis=1), 1e-300)[:, None]
    return np.stack([x, np.cross(z, x), z * np.reshape(flip, (-1, 1))], axis=2)


def candidates(anchor: Anchor, some: Batch, near: Normal, spare: F64, allowed: Allowed) -> tuple[I64, F64]:
    """Placements that lay the anchor's telling triangle on one like it: (K,) in which mesh, and (K, 3, 3) the turn.
    spare: (N,) of each mesh how far places may be off."""
    one, own = anchor.batch, anchor.normal
    edges, radius, corners = measures(near.points, some.faces)
    own_edges, own_radius, own_corners = measures(own.points, one.faces)
    t = anchor.triangle
    blur = spare[:, None, None]
    hits: list[tuple[AnyArray, AnyArray, int]] = []
    for turn in range(6 if allowed.mirror else 3):
        a, b, c = TURNS[turn].tolist()
        lengths = edges if turn < 3 else edges[:, :, [2, 0, 1]]
        # the edges a-b, b-c, c-a of the turned triangle
        ends = lengths[:, :, [a, b, c]] if turn < 3 else np.stack([lengths[:, :, k] for k in (a, b, c)], axis=2)
        fit = (np.abs(ends - own_edges[0, t]) <= 2 * blur).all(axis=2)
        fit &= (np.abs(radius[:, :, [a, b, c]] - own_radius[0, t]) <= blur).all(axis=2)
        for corner, k in enumerate((a, b, c)):
            if not fit.any() or not one.marks.shape[2]:
                break
            n, f = np.nonzero(fit)
            marks = some.marks[n, some.faces[n, f, k]]
            fit[n, f] = (np.abs(marks - one.marks[0][one.faces[0, t, corner]]) <= some.limits[n]).all(axis=1)
        n, f = np.nonzero(fit)
        hits.append((n, f, turn))
    which = np.concatenate([h[0] for h in hits])
    if not len(which):
        return which, np.zeros((0, 3, 3))
    face = np.concatenate([h[1] for h in hits])
    order = np.concatenate([np.full(len(h[0]), h[2]) for h in hits])
    base = np.broadcast_to(own_corners[0, t], (1, 3, 3))
    turned = corners[which[:, None], face[:, None], TURNS[order]]
    return which, framed(turned, np.where(order < 3, 1.0, -1.0)) @ framed(base, 1.0).transpose(0, 2, 1)


def by_triangles(
    anchor: Anchor, others: Batch, theirs: Normal, rows: AnyArray, spare: F64, allowed: Allowed, out: Laid
) -> None:
    """Lays the anchor on the others `rows`, whatever their order, and notes in `out` where it fits. spare: of each how far
    places may be off when the triangle that says where is looked for."""
    from scipy.spatial import cKDTree

    own = anchor.normal
    some, near = others.of(rows), theirs.of(rows)
    which, turn_ = candidates(anchor, some, near, spare, allowed)
    if not len(which):
        return
    # the best of several first: stretched along its own axes, no mirror, upright, then as little turned as may be
    linear = near.shape[which] @ turn_ @ np.linalg.inv(own.shape[0])
    whole = linear / np.maximum(np.linalg.norm(linear, axis=1, keepdims=True), 1e-300)
    upright = np.einsum("kij,j->ki", whole, allowed.up) @ allowed.up
    straight = (
        (np.abs(turn_).max(axis=2) > 1 - 1e-4).all(axis=1) if allowed.per_axis else np.zeros(len(which), np.bool_)
    )
    proper = np.linalg.det(turn_) > 0
    score = 16.0 * straight + 10.0 * proper + 4.0 * (upright > 0.999) + np.trace(whole, axis1=1, axis2=2)
    sort = np.lexsort((-np.round(score, 3), which))
    which, turn_ = which[sort], turn_[sort]
    begin = np.searchsorted(which, np.arange(len(rows)))
    triples = anchor.place_of[anchor.batch.faces[0]]
    faulty = (np.diff(anchor.codes) == 0).any() or (triples == np.roll(triples, 1, axis=1)).any()
    most = TRIES_OF_FAULTY if faulty else TRIES
    count = np.minimum(np.searchsorted(which, np.arange(len(rows)), side="right") - begin, most)
    tree = cKDTree(anchor.places)
    size = float(np.linalg.norm(anchor.places, axis=1).max())
    spread = 1 + 2 * size / max(anchor.shortest, 1e-9)
    reach: F64 = 2 * spread * spare
    vertices = near.points.shape[1]
    tested: I64 = np.linspace(0, vertices - 1, min(SAMPLES, vertices)).astype(np.int64)
    waiting = np.arange(len(rows))
    for k in range(int(count.max(initial=0))):
        waiting = waiting[(count[waiting] > k) & ~out.fits[rows[waiting]]]
        if not len(waiting):
            break
        q = turn_[begin[waiting] + k]
        back: F64 = near.points[waiting][:, tested] @ q
        far, _ = tree.query(back.reshape(-1, 3))
        good = (np.reshape(far, (len(waiting), -1)) <= reach[waiting, None]).all(axis=1)
        checked(anchor, tree, some, near, waiting[good], q[good], reach, rows, allowed, out)


def checked(
    anchor: Anchor, tree: object, some: Batch, near: Normal, mine: AnyArray, q: F64, reach: F64, rows: AnyArray,
    allowed: Allowed, out: Laid,
) -> None:  # fmt: skip
    """Whether the triangles of meshes `mine`, turned back by q, are those of the anchor, and how far they are off."""
    if not len(mine):
        return
    one = anchor.batch
    back = near.points[mine] @ q
    far, place = tree.query(back.reshape(-1, 3), workers=1)  # type: ignore[attr-defined]
    good = (far.reshape(len(mine), -1) <= reach[mine, None]).all(axis=1)
    mine, q = mine[good], q[good]
    if not len(mine):
        return
    place = place.reshape(len(good), -1)[good]
    index = np.arange(len(mine))[:, None, None]
    faces = some.faces[mine].copy()
    mirrored = np.linalg.det(q) < 0
    faces[mirrored] = faces[mirrored][:, :, ::-1]
    codes, first = coded(place[index, faces], len(anchor.places))
    order = np.argsort(codes, axis=1, kind="stable")
    same = (np.take_along_axis(codes, order, axis=1) == anchor.codes).all(axis=1)
    mine, order, first, faces, mirrored = mine[same], order[same], first[same], faces[same], mirrored[same]
    if not len(mine):
        return
    # corners that belong together: each triangle from the corner whose place is the least
    spin = np.arange(3)
    faces = np.take_along_axis(faces, (first[:, :, None] + spin) % 3, axis=2)
    theirs = faces[np.arange(len(mine))[:, None], order].reshape(len(mine), -1)
    triples = anchor.place_of[one.faces[0]]
    start = begin_of(triples)
    ours = np.take_along_axis(one.faces[0], (start[:, None] + spin) % 3, axis=1)[anchor.order].reshape(-1)
    vertices = np.empty((len(mine), one.points.shape[1]), np.int32)
    vertices[:, ours] = theirs
    target = some.points[mine[:, None], vertices]
    corners = np.broadcast_to(one.points, target.shape)
    linear, shift, off = closely(corners, target, np.where(mirrored, -1.0, 1.0), some.far[mine], allowed)
    good = np.flatnonzero(off <= some.far[mine])
    good = good[alike(one, some.of(mine[good]), linear[good], theirs[good], np.tile(ours, (len(good), 1)))]
    hit = rows[mine[good]]
    out.fits[hit], out.linear[hit], out.place[hit], out.off[hit] = True, linear[good], shift[good], off[good]
    triangles = np.empty((len(good), len(anchor.order)), np.int32)
    triangles[:, anchor.order] = order[good]
    out.triangles[hit] = triangles
    out.vertices[hit] = vertices[good]
