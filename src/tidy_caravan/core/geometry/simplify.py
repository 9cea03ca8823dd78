"""Fewer triangles within an error bound: vertices are drawn into a neighbour, many independent ones at a time.

Half-edge collapse with the quadric error of the planes around a vertex (Garland and Heckbert, 1997), which bounds the
largest distance to them, added up over all that was drawn in before. A vertex on a crease (a border, a seam of texture
coordinates or normals, a border of materials) goes only along it, and no further from it than the bound; where creases
meet or end it stays. What a vertex has beside its place (texture coordinates, colours, weights) is never mixed.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from tidy_caravan.core.geometry.closest import furthest
from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.shells import welded_faces
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F64, I64, Bool, ranges
from tidy_caravan.core.scene.provenance import MADE

TURN = 0.5
"""Least cosine between a triangle before and after: nothing folds over."""
SHADING = 0.77
"""Least cosine between the normals of a vertex and the one it is drawn into: forty degrees."""
ROUNDS = 200
TRIES = 8
LESS = 0.3
"""Part of the bound that the next try is given at least."""
SEARCH = 4.0
"""Bounds within which surfaces are measured; further apart is too far anyway."""
STAR = 24
"""Vertices of more triangles stay: fans and poles."""


@dataclass(frozen=True)
class Simplified:
    """faces: (F', 3) vertices of the mesh before. material: (F',). origin: (F',) triangle before, MADE where its corners
    are others now. error: the largest distance that was measured, both ways, between both surfaces."""

    faces: I64
    material: I64
    origin: I64
    error: float


def simplified(mesh: Mesh, bound: float, least: int = 0) -> Simplified:
    """The mesh with as few triangles as the bound allows, but `least` of them. bound: in units of the mesh.

    What is added up on the way is an estimate: what was drawn into a neighbour moves on with the triangles around that.
    So both surfaces are measured at the end, and where they came further apart it is done again with less.
    O(F log F) a round; each takes about a tenth of what can go.
    """
    inner = bound
    for _ in range(TRIES):
        made = drawn_together(mesh, inner, least)
        worst = surfaces_apart(mesh, made.faces, SEARCH * bound)
        if worst <= bound:
            return replace(made, error=worst)
        inner *= max(LESS, 0.9 * bound / worst) if np.isfinite(worst) else LESS
    return Simplified(mesh.indices.astype(np.int64), mesh.material.astype(np.int64), np.arange(mesh.triangles), 0.0)


def surfaces_apart(mesh: Mesh, faces: I64, reach: float) -> float:
    """The largest distance between the surface of a mesh and that of other faces over its vertices, from the corners
    and middles of triangles of either, infinite beyond `reach`."""
    points = mesh.positions.astype(np.float64)
    same = np.isin(row_keys(faces, len(points)), row_keys(mesh.indices.astype(np.int64), len(points)))
    rest = np.isin(row_keys(mesh.indices.astype(np.int64), len(points)), row_keys(faces, len(points)))
    before = furthest(points[mesh.indices[~rest]], points[faces], reach)
    return max(before, furthest(points[faces[~same]], points[mesh.indices], reach))


def row_keys(faces: I64, count: int) -> I64:
    """(F,) one number for each triangle, the same however it is turned."""
    turn = faces.argmin(axis=1)
    a, b, c = (faces[np.arange(len(faces)), (turn + k) % 3].astype(np.uint64) for k in range(3))
    # wraps around beyond 64 bits; equal triangles stay equal, and others meet by chance next to never
    out: I64 = ((a * np.uint64(count) + b) * np.uint64(count) + c).astype(np.int64)
    return out


def drawn_together(mesh: Mesh, bound: float, least: int) -> Simplified:
    """One go at it, with the estimate of its error."""
    state, lost = State.of(mesh)
    dropped = len(lost)
    for _ in range(ROUNDS):
        if len(state.place) + dropped <= max(least, 1) or not state.round(bound, max(least - dropped, 0)):
            break
    faces = np.concatenate([state.wedge, mesh.indices[lost].astype(np.int64)])
    material = np.concatenate([state.material, mesh.material[lost]])
    return Simplified(faces, material, np.concatenate([state.origin, lost]), float(state.error.max(initial=0.0)))


@dataclass
class State:
    """A mesh on its way. wedge, place: (F, 3) vertices, and the places that they stand at. error: by place. before:
    (F, 3) unit normals that the triangles had at the start: many small turns are a large one."""

    mesh: Mesh
    wedge: I64
    place: I64
    material: I64
    origin: I64
    error: F64
    before: F64

    @classmethod
    def of(cls, mesh: Mesh) -> tuple[State, I64]:
        """A mesh at the start, without triangles that are a line or a point in themselves; and which those are."""
        place, count = welded_faces(mesh)
        good = (place[:, 0] != place[:, 1]) & (place[:, 1] != place[:, 2]) & (place[:, 0] != place[:, 2])
        kept = np.flatnonzero(good)
        vectors = face_vectors(mesh.positions, mesh.indices[kept])
        normals = vectors / np.maximum(np.linalg.norm(vectors, axis=1), 1e-300)[:, None]
        wedge, slots = mesh.indices[kept].astype(np.int64), mesh.material[kept].astype(np.int64)
        return cls(mesh, wedge, place[kept], slots, kept.astype(np.int64), np.zeros(count), normals), np.flatnonzero(
            ~good
        )

    def round(self, bound: float, least: int) -> bool:
        """Draws independent vertices in; False when there is none left to go."""
        faces = len(self.place)
        points = self.places()
        corner = points[self.place]
        vectors = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
        normals = vectors / np.maximum(np.linalg.norm(vectors, axis=1), 1e-300)[:, None]
        edges = Edges.of(self)
        u, v, crease = edges.ways(len(self.error))
        if not len(u):
            return False
        quadric = quadrics(self.place, corner[:, 0], normals, points, len(self.error))
        way = points[v] - points[u]
        far = np.sqrt(np.maximum(np.einsum("ki,kij,kj->k", way, quadric[u], way), 0.0)) + self.error[u]
        usable = far <= bound
        u, v, crease, far = u[usable], v[usable], crease[usable], far[usable]
        if not len(u):
            return False
        # for each vertex the way that costs least, the shorter one of equals
        order = np.lexsort((np.linalg.norm(points[v] - points[u], axis=1), far, u))
        first = order[np.concatenate([[True], u[order][1:] != u[order][:-1]])]
        u, v, crease, far = u[first], v[first], crease[first], far[first]
        star = Star.of(self.place, u)
        allowed, aside = self.checked(star, u, v, crease, points, normals, edges, bound)
        far = np.maximum(far, aside)
        cost = np.full(len(self.error), np.inf)
        # of equal costs neighbours are told apart by a number that is scattered, so that many can go at a time
        scatter = ((u * 2654435761) % 1000003) / 1000003
        cost[u[allowed]] = far[allowed] + 1e-3 * bound * scatter[allowed]
        least_of = cost[self.place].min(axis=1)
        wins = np.ones(len(u), np.bool_)
        np.logical_and.at(wins, star.owner, least_of[star.face] >= cost[u[star.owner]])
        wins &= np.isfinite(cost[u])
        rows = np.flatnonzero(wins)
        # one a time into each
        rows = rows[np.lexsort((cost[u[rows]], v[rows]))]
        rows = rows[np.concatenate([[True], v[rows][1:] != v[rows][:-1]])] if len(rows) else rows
        if least and len(rows) * 2 > faces - least:
            rows = rows[np.argsort(cost[u[rows]])[: max(0, (faces - least) // 2)]]
        if not len(rows):
            return False
        self.draw_in(star, rows, u, v, far)
        return True

    def places(self) -> F64:
        """(P, 3) where each place is."""
        out = np.zeros((len(self.error), 3))
        out[self.place] = self.mesh.positions[self.wedge]
        return out

    def checked(
        self, star: Star, u: I64, v: I64, crease: Bool, points: F64, normals: F64, edges: Edges, bound: float
    ) -> tuple[Bool, F64]:
        """(K,) True where nothing folds over, tears, or leaves its crease, and pictures shift by no more than the bound;
        and (K,) how far the crease comes away, nought off creases."""
        ok = star.count <= STAR
        k, face = star.owner, star.face
        place = self.place[face]
        at_u = place == u[k][:, None]
        at_v = place == v[k][:, None]
        beside = at_v.any(axis=1)
        # triangles that stay, with the corner moved
        stay = ~beside
        moved = np.where(at_u, v[k][:, None], place)
        corner = points[moved]
        after = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
        size = np.linalg.norm(after, axis=1)
        turned = np.einsum("ki,ki->k", after, normals[face]) < TURN * size
        turned |= np.einsum("ki,ki->k", after, self.before[face]) < TURN * size
        longest = np.sqrt(np.max([((corner[:, i] - corner[:, i - 1]) ** 2).sum(axis=1) for i in range(3)], axis=0))
        thin = size < 1e-4 * longest**2
        np.logical_and.at(ok, k[stay], ~(turned | thin)[stay])
        # neighbours of both must be the third corners of the triangles between them
        between = np.bincount(k[beside], minlength=len(u))
        ok &= between == np.where(crease & (edges.count_of(u, v) == 1), 1, 2)
        ok &= edges.common(u, v) == between
        # vertices of u and what becomes of them: those of v in the triangles between
        rows = np.flatnonzero(beside)
        own = (self.wedge[face[rows]] * at_u[rows]).sum(axis=1)
        into = (self.wedge[face[rows]] * at_v[rows]).sum(axis=1)
        key, at = np.unique(np.column_stack([k[rows], own]), axis=0, return_inverse=True)
        low, high = np.full(len(key), np.iinfo(np.int64).max), np.full(len(key), -1)
        np.minimum.at(low, at.reshape(-1), into)
        np.maximum.at(high, at.reshape(-1), into)
        torn = key[low != high, 0]
        ok[torn] = False
        self.wedge_key, self.wedge_into = key[:, 0] * len(self.mesh.positions) + key[:, 1], low
        mine = k * len(self.mesh.positions) + (self.wedge[face] * at_u).sum(axis=1)
        found = np.searchsorted(self.wedge_key, mine)
        known = (
            (found < len(key)) & (self.wedge_key[np.minimum(found, len(key) - 1)] == mine)
            if len(key)
            else np.zeros(len(k), np.bool_)
        )
        np.logical_and.at(ok, k, known)
        if self.mesh.normals is not None and len(key):
            n = self.mesh.normals.astype(np.float64)
            dots = np.einsum("ki,ki->k", n[key[:, 1]], n[low])
            ok[key[~(dots >= SHADING), 0]] = False
        aside, goes_on = self.along_the_crease(u, v, crease, points, edges)
        ok &= goes_on & (aside <= bound)
        if self.mesh.uvs and len(key):
            shift = self.picture_shift(star, k, at_u, mine, u, v, points)
            np.logical_and.at(ok, k, shift <= bound)
        return ok, aside

    def along_the_crease(self, u: I64, v: I64, crease: Bool, points: F64, edges: Edges) -> tuple[F64, Bool]:
        """(K,) how far the crease without u comes away from it, with all that went before, and (K,) False where it does
        not go on beyond u."""
        aside, goes_on = np.zeros(len(u)), np.ones(len(u), np.bool_)
        rows = np.flatnonzero(crease)
        if len(rows):
            other = edges.next_on_crease(u[rows], v[rows])
            a, b, p = points[v[rows]], points[other], points[u[rows]]
            way = b - a
            long = (way**2).sum(axis=1)
            t = np.clip(((p - a) * way).sum(axis=1) / np.where(long > 0, long, 1.0), 0, 1)
            aside[rows] = np.linalg.norm(p - a - t[:, None] * way, axis=1) + self.error[u[rows]]
            goes_on[rows] = other != v[rows]
        return aside, goes_on

    def picture_shift(self, star: Star, k: I64, at_u: Bool, mine: I64, u: I64, v: I64, points: F64) -> F64:
        """(S,) how far a picture would shift at v, by what each triangle around u makes of it there."""
        face = star.face
        uv = self.mesh.uvs[0].astype(np.float64)
        corner, flat = points[self.place[face]], uv[self.wedge[face]]
        a, b = corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]
        fa, fb = flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0]
        way = points[v[k]] - corner[:, 0]
        aa, ab, bb = (a * a).sum(axis=1), (a * b).sum(axis=1), (b * b).sum(axis=1)
        wa, wb = (way * a).sum(axis=1), (way * b).sum(axis=1)
        det = aa * bb - ab * ab
        safe = np.where(det > 0, det, 1.0)
        s, t = (wa * bb - wb * ab) / safe, (wb * aa - wa * ab) / safe
        expected = flat[:, 0] + s[:, None] * fa + t[:, None] * fb
        found = np.minimum(np.searchsorted(self.wedge_key, mine), len(self.wedge_key) - 1)
        actual = uv[self.wedge_into[found]]
        # as a length: repeats by how long a repeat is on this triangle
        area = np.abs(fa[:, 0] * fb[:, 1] - fa[:, 1] * fb[:, 0])
        length = np.sqrt(np.sqrt(np.maximum(det, 0)) / np.where(area > 0, area, np.inf))
        out: F64 = np.linalg.norm(actual - expected, axis=1) * length
        return np.where(at_u.any(axis=1), out, 0.0)

    def draw_in(self, star: Star, rows: I64, u: I64, v: I64, far: F64) -> None:
        chosen = np.zeros(len(u), np.bool_)
        chosen[rows] = True
        mine = chosen[star.owner]
        k, face = star.owner[mine], star.face[mine]
        at_u = self.place[face] == u[k][:, None]
        gone = (self.place[face] == v[k][:, None]).any(axis=1)
        key = k * len(self.mesh.positions) + (self.wedge[face] * at_u).sum(axis=1)
        into = self.wedge_into[np.searchsorted(self.wedge_key, key)]
        self.wedge[face] = np.where(at_u, into[:, None], self.wedge[face])
        self.place[face] = np.where(at_u, v[k][:, None], self.place[face])
        self.origin[face] = MADE
        keep = np.ones(len(self.place), np.bool_)
        keep[face[gone]] = False
        self.wedge, self.place = self.wedge[keep], self.place[keep]
        self.material, self.origin, self.before = self.material[keep], self.origin[keep], self.before[keep]
        np.maximum.at(self.error, v[rows], far[rows])


def quadrics(place: I64, corner: F64, normals: F64, points: F64, count: int) -> F64:
    """(P, 3, 3) sum of the outer products of the normals around each place: squared distances of ways from it."""
    outer = normals[:, :, None] * normals[:, None, :]
    out = np.zeros((count, 3, 3))
    for i in range(3):
        for j in range(i, 3):
            column = np.bincount(place.reshape(-1), np.repeat(outer[:, i, j], 3), minlength=count)
            out[:, i, j] = out[:, j, i] = column
    return out


@dataclass(frozen=True)
class Star:
    """Triangles around some places. owner: (S,) which of them. face: (S,). count: (K,)."""

    owner: I64
    face: I64
    count: I64

    @classmethod
    def of(cls, place: I64, wanted: I64) -> Star:
        flat = place.reshape(-1)
        order = np.argsort(flat, kind="stable")
        ordered = flat[order]
        begin = np.searchsorted(ordered, wanted, side="left")
        count = np.searchsorted(ordered, wanted, side="right") - begin
        return cls(np.repeat(np.arange(len(wanted)), count), order[ranges(begin, count)] // 3, count)


@dataclass(frozen=True)
class Edges:
    """Edges between places. key: (E,) sorted. a < b: (E,) places. times: (E,) triangles. crease: (E,) to be kept."""

    key: I64
    a: I64
    b: I64
    times: I64
    crease: Bool
    span: int
    ends: I64
    other: I64
    begin: I64

    @classmethod
    def of(cls, state: State) -> Edges:
        place, wedge = state.place, state.wedge
        count = len(state.error)
        p, q = place.reshape(-1), np.roll(place, -1, axis=1).reshape(-1)
        wp, wq = wedge.reshape(-1), np.roll(wedge, -1, axis=1).reshape(-1)
        low = p < q
        key = np.where(low, p * count + q, q * count + p)
        keys, number, times = np.unique(key, return_inverse=True, return_counts=True)
        number = number.reshape(-1)
        crease = times != 2
        # the same vertices on both sides, the same material, run both ways
        for values in (np.where(low, wp, wq), np.where(low, wq, wp), np.repeat(state.material, 3)):
            least, most = np.full(len(keys), np.iinfo(np.int64).max), np.full(len(keys), np.iinfo(np.int64).min)
            np.minimum.at(least, number, values)
            np.maximum.at(most, number, values)
            crease |= least != most
        crease |= np.bincount(number, np.where(low, 1, -1), minlength=len(keys)) != np.where(times == 1, np.nan, 0)
        crease |= times == 1
        a, b = keys // count, keys % count
        ends, other = np.concatenate([a, b]), np.concatenate([b, a])
        order = np.argsort(ends, kind="stable")
        begin = np.searchsorted(ends[order], np.arange(count + 1))
        return cls(keys, a, b, times, crease, count, ends[order], other[order], begin)

    def ways(self, count: int) -> tuple[I64, I64, Bool]:
        """(K,) from and (K,) to: all ways that a vertex may be drawn, and (K,) whether along a crease."""
        degree = np.bincount(np.concatenate([self.a[self.crease], self.b[self.crease]]), minlength=count)
        bad = np.zeros(count, np.bool_)
        many = self.times > 2
        bad[self.a[many]] = bad[self.b[many]] = True
        u, v = np.concatenate([self.a, self.b]), np.concatenate([self.b, self.a])
        crease = np.tile(self.crease, 2)
        ok = ~bad[u] & np.where(degree[u] == 0, ~crease, (degree[u] == 2) & crease)
        return u[ok], v[ok], crease[ok]

    def rows(self, u: I64, v: I64) -> I64:
        return np.searchsorted(self.key, np.minimum(u, v) * self.span + np.maximum(u, v))

    def count_of(self, u: I64, v: I64) -> I64:
        out: I64 = self.times[self.rows(u, v)]
        return out

    def common(self, u: I64, v: I64) -> I64:
        """(K,) how many neighbours two places have in common."""
        count = self.begin[u + 1] - self.begin[u]
        k = np.repeat(np.arange(len(u)), count)
        beside = self.other[ranges(self.begin[u], count)]
        asked = np.minimum(beside, v[k]) * self.span + np.maximum(beside, v[k])
        at = np.minimum(np.searchsorted(self.key, asked), len(self.key) - 1)
        return np.bincount(k[self.key[at] == asked], minlength=len(u))

    def next_on_crease(self, u: I64, v: I64) -> I64:
        """(K,) the other neighbour of u on its crease, which v is one of; v itself where there is none."""
        count = self.begin[u + 1] - self.begin[u]
        k = np.repeat(np.arange(len(u)), count)
        beside = self.other[ranges(self.begin[u], count)]
        hit = self.crease[self.rows(u[k], beside)] & (beside != v[k])
        out = v.copy()
        out[k[hit]] = beside[hit]
        return out


def flat_places(mesh: Mesh) -> int:
    """How many places have all their triangles in one plane, within a tenth of a degree, and lie on no crease."""
    if not mesh.triangles:
        return 0
    state, _ = State.of(mesh)
    normals, count = state.before, len(state.error)
    flat = state.place.reshape(-1)
    whole = np.stack([np.bincount(flat, np.repeat(normals[:, k], 3), minlength=count) for k in range(3)], axis=1)
    whole = whole / np.maximum(np.linalg.norm(whole, axis=1), 1e-300)[:, None]
    off = np.einsum("fki,fi->fk", whole[state.place], normals)
    worst = np.ones(count)
    np.minimum.at(worst, flat, off.reshape(-1))
    edges = Edges.of(state)
    marked = np.zeros(count, np.bool_)
    marked[edges.a[edges.crease]] = marked[edges.b[edges.crease]] = True
    used = np.zeros(count, np.bool_)
    used[flat] = True
    return int((used & ~marked & (worst > np.cos(np.radians(0.1)))).sum())
