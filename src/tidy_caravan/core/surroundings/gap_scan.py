"""Vertices of pieces against the triangles of others: which of them leave a gap, and which touch or go into the other."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from tidy_caravan.core.geometry.closest import closest_on
from tidy_caravan.core.geometry.coplanar import boxes_of
from tidy_caravan.core.geometry.corners import distinct
from tidy_caravan.core.scene.arrays import F64, I64, Bool, ranges

AROUND = 3.0
"""So many widest gaps around a place where two pieces touch there is none: a bevel stands on its foot."""
FACING = 1e-6
"""Part by which of two equally near triangles that is nearer which faces the point less aslant."""
EXACT = 1e-6
"""Part of the widest gap by which a place may be off an edge and is on it, or behind a surface and is on that."""
ASIDE = 0.99
"""Part of a distance, across the surface, below which a place lies beside a border or an edge of it."""
CHUNK = 1 << 21


@dataclass
class Scan:
    """Vertices against triangles. points: (V, 3). faces: (T, 3), sorted by piece. place: (V,) vertices at one place share
    it. limit: (K,) widest gap of each pair. least: narrower ones are none."""

    points: F64
    faces: I64
    place: I64
    limit: F64
    least: float
    low: F64
    high: F64
    begin: I64
    pairs: I64
    """(K, 2) pieces; the faces of each begin at `begin`."""
    _open: dict[int, bool] = field(default_factory=dict)

    @cached_property
    def span(self) -> int:
        """More than any place."""
        return int(self.place.max(initial=0)) + 1

    def look(
        self, side: int, mine: I64, mine_pair: I64, theirs: I64, theirs_pair: I64
    ) -> tuple[I64, I64, F64, F64, I64, I64]:
        """Gaps of the corners of triangles `mine` before triangles `theirs`, each with its pair: (K,) pair, vertex,
        distance and (K, 3) closest place; and pair and vertex of those that lie behind the other's surface."""
        pair, vertex = np.repeat(mine_pair, 3), self.faces[mine].reshape(-1)
        # only those that the other piece can reach, and of vertices at one place the first
        spare = self.limit[pair][:, None] * AROUND
        points = self.points[vertex]
        close = ((points >= self.low[pair] - spare) & (points <= self.high[pair] + spare)).all(axis=1)
        pair, vertex = pair[close], vertex[close]
        lone, _ = distinct(pair * self.span + self.place[vertex])
        pair, vertex = pair[lone], vertex[lone]
        order = np.argsort(theirs_pair, kind="stable")
        theirs, theirs_pair = theirs[order], theirs_pair[order]
        low, high = (np.ascontiguousarray(side.T) for side in boxes_of(self.points[self.faces[theirs]]))
        flat = np.ascontiguousarray(self.points[vertex].T)
        begin = np.searchsorted(theirs_pair, pair, side="left")
        count = np.searchsorted(theirs_pair, pair, side="right") - begin
        reach = self.limit[pair] * AROUND
        best = np.full(len(pair), np.inf)
        where = np.zeros((len(pair), 3))
        front = np.zeros(len(pair))
        normal = np.zeros((len(pair), 3))
        whose = np.zeros(len(pair), np.int64)
        ends = np.cumsum(count)
        for at in range(0, int(ends[-1]) if len(ends) else 0, CHUNK):
            rows = np.arange(np.searchsorted(ends, at, side="right"), np.searchsorted(ends, at + CHUNK, side="right"))
            if not len(rows):
                rows = np.arange(np.searchsorted(ends, at, side="right"), np.searchsorted(ends, at, side="right") + 1)
            who = np.repeat(rows, count[rows])
            which = ranges(begin[rows], count[rows])
            for axis in range(3):  # most are out of reach along the first already
                p = flat[axis][who]
                close = (p >= low[axis][which] - reach[who]) & (p <= high[axis][which] + reach[who])
                who, which = who[close], which[close]
            if not len(who):
                continue
            p = self.points[vertex[who]]
            corners = self.points[self.faces[theirs[which]]]
            q = closest_on(p, corners)
            far = np.linalg.norm(p - q, axis=1)
            n = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
            n /= np.maximum(np.linalg.norm(n, axis=1), 1e-300)[:, None]
            before = np.einsum("ki,ki->k", p - q, n)
            # over an edge of several triangles the one that faces the point most says on which side it is
            far *= 1 + FACING * (1 - np.abs(before) / np.maximum(far, 1e-300))
            order = np.lexsort((far, who))
            first = order[np.concatenate([[True], who[order][1:] != who[order][:-1]])]
            hit = who[first]
            better = far[first] < best[hit]
            first, hit = first[better], hit[better]
            best[hit], where[hit], normal[hit], front[hit] = far[first], q[first], n[first], before[first]
            whose[hit] = which[first]
        behind = front < -EXACT * self.limit[pair]
        aside = np.abs(front) < ASIDE * best
        within = (best >= self.least) & (best <= self.limit[pair])
        # off an open border there is neither before nor behind
        off = aside & behind & (best <= reach)
        off[off] = self.on_border(theirs, theirs_pair, pair[off], whose[off], where[off])
        touching = (best < self.least) | (behind & ~off)
        gap = within & ~touching
        crossing = self.crossing(mine, mine_pair, pair, vertex, where, normal, gap, off)
        past = crossing & aside & ~off
        if past.any():  # past a border there is no surface to cross either
            past[past] = self.on_border(theirs, theirs_pair, pair[past], whose[past], where[past])
            crossing &= ~past | self.crossing(mine, mine_pair, pair, vertex, where, normal, past, past)
        gap &= ~crossing
        back = self.behind_sheets(side, mine, mine_pair, pair, vertex, where, normal, within & behind & ~off, front)
        gap, touching = gap | back, touching & ~back
        gap &= ~beside(pair, self.points[vertex], touching & (best < np.inf), gap, self.limit)
        joint = self.along(mine, mine_pair, pair, vertex, gap)
        gap &= joint
        # of single ones also what lies next to an edge that it goes past
        single = within & (aside | ~touching)
        single &= ~beside(pair, self.points[vertex], touching & (best < np.inf) & ~single, single, self.limit)
        lone, meets, away = self.unmet(mine, mine_pair, theirs, theirs_pair, pair, vertex, single & ~gap)
        where[lone], best[lone], gap[lone] = meets, away, True
        behind = np.isfinite(best) & (front < -self.least) & ~off & ~back
        return pair[gap], vertex[gap], best[gap], where[gap], pair[behind], vertex[behind]

    def rows_of(self, pair: I64, vertex: I64, rows: I64) -> Callable[[I64, I64], tuple[Bool, I64]]:
        """Finds rows of (pair, vertex) again: of asked pairs and vertices which are among `rows`, and their rows."""
        span = self.span
        key = pair[rows] * span + self.place[vertex[rows]]
        order = np.argsort(key)
        key = key[order]

        def find(asked_pair: I64, asked: I64) -> tuple[Bool, I64]:
            wanted = asked_pair * span + self.place[asked]
            at = np.minimum(np.searchsorted(key, wanted), len(key) - 1)
            there: Bool = key[at] == wanted
            return there, rows[order[at]]

        return find

    def along(self, mine: I64, mine_pair: I64, pair: I64, vertex: I64, gap: Bool) -> Bool:
        """(K,) True where an edge leads to another vertex with a gap: a joint is as long as an edge at least."""
        out = np.zeros(len(pair), np.bool_)
        rows = np.flatnonzero(gap)
        if len(rows):
            find = self.rows_of(pair, vertex, rows)
            faces = self.faces[mine]
            for a, b in ((0, 1), (1, 2), (2, 0)):
                (one, row), (other, next_) = find(mine_pair, faces[:, a]), find(mine_pair, faces[:, b])
                both = one & other & (row != next_)
                out[row[both]] = out[next_[both]] = True
        return out

    def unmet(
        self, mine: I64, mine_pair: I64, theirs: I64, theirs_pair: I64, pair: I64, vertex: I64, alone: Bool
    ) -> tuple[I64, F64, F64]:
        """Of vertices (K,) without another gap beside them those that are meant to meet a vertex of the other piece: from both
        an edge leads to where vertices of both stand in one place. Not where one edge is but longer than the other. Their
        rows, and the place and distance of what they should meet."""
        rows = np.flatnonzero(alone)
        if not len(rows):
            return rows, np.zeros((0, 3)), np.zeros(0)
        there = Corners(self, theirs, theirs_pair, np.unique(pair[rows]))
        away, nearest = there.nearest(self.points[vertex[rows]], pair[rows])
        near = away <= self.limit[pair[rows]]
        rows, nearest = rows[near], nearest[near]
        meant, longer = np.zeros(len(pair), np.bool_), np.zeros(len(pair), np.bool_)
        meets = np.zeros(len(pair), np.int64)
        meets[rows] = nearest
        find = self.rows_of(pair, vertex, rows)
        own = self.faces[mine]
        for a, b in ((0, 1), (1, 2), (2, 0), (1, 0), (2, 1), (0, 2)) if len(rows) else ():
            known, row = find(mine_pair, own[:, a])
            row, end = row[known], self.points[own[known, b]]
            apart, met = there.nearest(end, pair[row])
            both = apart < self.least
            both[both] = there.run(met[both], meets[row[both]])
            row, end = row[both], end[both]
            start, other = self.points[vertex[row]], there.points[meets[row]]
            along = (end - start) / np.maximum(np.linalg.norm(end - start, axis=1), 1e-300)[:, None]
            across = np.linalg.norm(np.cross(other - start, along), axis=1)
            meant[row] = True
            longer[row[across < self.least]] = True
        chosen = np.flatnonzero(meant & ~longer)
        far = np.linalg.norm(self.points[vertex[chosen]] - there.points[meets[chosen]], axis=1)
        return chosen, there.points[meets[chosen]], far

    def behind_sheets(
        self,
        side: int,
        mine: I64,
        mine_pair: I64,
        pair: I64,
        vertex: I64,
        where: F64,
        normal: F64,
        back: Bool,
        front: F64,
    ) -> Bool:
        """(K,) those of `back` that are behind a sheet, which has no inside, and of pieces that do not go through it."""
        out = back.copy()
        if back.any():
            out[back] = self.open_ones(self.pairs[pair[back], 1 - side])
        if out.any():
            crossing = self.crossing(mine, mine_pair, pair, vertex, where, -normal, out, np.zeros(len(pair), np.bool_))
            through = np.zeros(len(self.limit), np.bool_)
            through[pair[crossing]] = True
            through[pair[front > self.least]] = True
            out &= ~through[pair]
        return out

    def open_ones(self, pieces: I64) -> Bool:
        """(N,) whether pieces have an edge that only one triangle has."""
        new = np.array([k for k in np.unique(pieces).tolist() if k not in self._open], np.int64)
        if len(new):
            count = self.begin[new + 1] - self.begin[new]
            faces = self.place[self.faces[ranges(self.begin[new], count)]]
            keys, number = numbered(faces, np.repeat(np.arange(len(new)), count), self.span)
            lone = edges_of(number, len(keys))[1] // len(keys)
            open_ = np.bincount(keys[lone] // self.span, minlength=len(new)) > 0
            self._open |= dict(zip(new.tolist(), open_.tolist(), strict=True))
        return np.array([self._open[k] for k in pieces.tolist()], np.bool_)

    def on_border(self, theirs: I64, theirs_pair: I64, pair: I64, whose: I64, where: F64) -> Bool:
        """(N,) whether places on triangles (rows of `theirs`) are on an edge that no other triangle of the piece has."""
        if not len(pair):
            return np.zeros(0, np.bool_)
        there = Corners(self, theirs, theirs_pair, np.unique(pair))
        own = there.number_of(self, theirs[whose], theirs_pair[whose])
        exact = EXACT * self.limit[pair]
        out: Bool = np.zeros(len(pair), np.bool_)
        for a, b in ((0, 1), (1, 2), (2, 0)):
            start, end = there.points[own[:, a]], there.points[own[:, b]]
            along = (end - start) / np.maximum(np.linalg.norm(end - start, axis=1), 1e-300)[:, None]
            off = np.linalg.norm(np.cross(where - start, along), axis=1)
            out |= there.open(own[:, a], own[:, b]) & (off <= exact)
            out |= there.ends[own[:, a]] & (np.linalg.norm(where - start, axis=1) <= exact)
        return out

    def crossing(
        self, mine: I64, mine_pair: I64, pair: I64, vertex: I64, where: F64, normal: F64, gap: Bool, off: Bool
    ) -> Bool:
        """(K,) True where an edge from the vertex goes on through the surface next to it: the pieces run into each other.
        off: what lies off a border, past which there is no surface."""
        out = np.zeros(len(pair), np.bool_)
        rows = np.flatnonzero(gap)
        if not len(rows):
            return out
        find = self.rows_of(pair, vertex, rows)
        faces = self.faces[mine]
        for a, b in ((0, 1), (1, 2), (2, 0), (1, 0), (2, 1), (0, 2)):
            there, found = find(mine_pair, faces[:, a])
            row = found[there]
            start, end = self.points[faces[there, a]], self.points[faces[there, b]]
            before = np.einsum("ki,ki->k", start - where[row], normal[row])
            after = np.einsum("ki,ki->k", end - where[row], normal[row])
            through = (before > 0) & (after < 0)
            share = np.where(through, before / np.where(through, before - after, 1.0), 0.0)
            place = start + (end - start) * share[:, None]
            through &= np.linalg.norm(place - where[row], axis=1) <= AROUND * self.limit[pair[row]]
            through &= ~off[row] | (np.einsum("ki,ki->k", place - where[row], start - where[row]) < 0)
            out[row[through]] = True
        return out


def numbered(places: I64, owner: I64, span: int) -> tuple[I64, I64]:
    """(P,) a key of each place of each owner, owner · span + place, and (T, 3) the rows of these for triangles (T, 3)."""
    keys, number = np.unique(owner[:, None] * span + places, return_inverse=True)
    return keys, number.reshape(places.shape)


def edges_of(number: I64, count: int) -> tuple[I64, I64]:
    """The edges of triangles (T, 3) between so many places, lower · count + higher, each once; and those of one triangle."""
    run = np.sort(np.concatenate([number[:, [0, 1]], number[:, [1, 2]], number[:, [2, 0]]]), axis=1)
    edges, times = np.unique(run[:, 0] * count + run[:, 1], return_counts=True)
    return edges, edges[times == 1]


class Corners:
    """The vertices of the other piece of some pairs, each place once, and its edges. points: (P, 3). ends: (P,) those that an
    edge ends at which only one triangle has."""

    def __init__(self, scan: Scan, triangles: I64, of_pair: I64, pairs: I64) -> None:
        asked = np.isin(of_pair, pairs)
        faces, self.span = scan.faces[triangles[asked]], scan.span
        self.keys, number = numbered(scan.place[faces], of_pair[asked], self.span)
        first = np.empty(len(self.keys), np.int64)
        first[number.ravel()] = faces.ravel()
        self.points = scan.points[first]
        # pairs are told apart by a fourth coordinate that is further than any gap
        self.far = float(scan.limit.max()) * AROUND * 4
        self.pair = self.keys // self.span
        self.edges, self.lone = edges_of(number, len(self.keys))
        self.ends = np.zeros(len(first), np.bool_)
        self.ends[np.concatenate(np.divmod(self.lone, len(first)))] = True

    def number_of(self, scan: Scan, triangles: I64, pair: I64) -> I64:
        """(N, 3) rows of the corners of such triangles of such pairs."""
        out: I64 = np.searchsorted(self.keys, pair[:, None] * self.span + scan.place[scan.faces[triangles]])
        return out

    @cached_property
    def tree(self) -> Any:
        from scipy.spatial import cKDTree

        return cKDTree(np.column_stack([self.points, self.pair * self.far]))

    def nearest(self, points: F64, pair: I64) -> tuple[F64, I64]:
        """(N,) the distance of the nearest vertex of the pair's other piece, and its row."""
        away, row = self.tree.query(np.column_stack([points, pair * self.far]))
        return np.asarray(away, np.float64), np.asarray(row, np.int64)

    def run(self, one: I64, other: I64) -> Bool:
        """(N,) whether an edge leads from one to the other."""
        out: Bool = np.isin(np.minimum(one, other) * len(self.points) + np.maximum(one, other), self.edges)
        return out

    def open(self, one: I64, other: I64) -> Bool:
        """(N,) whether that is one of a single triangle."""
        out: Bool = np.isin(np.minimum(one, other) * len(self.points) + np.maximum(one, other), self.lone)
        return out


def beside(pair: I64, points: F64, touching: Bool, gap: Bool, limit: F64) -> Bool:
    """(K,) True where a vertex of the same pair close by touches the other piece."""
    from scipy.spatial import cKDTree

    out = np.zeros(len(pair), np.bool_)
    mine, firm = np.flatnonzero(gap), np.flatnonzero(touching)
    if not len(mine) or not len(firm):
        return out
    # pairs are told apart by a fourth coordinate that is further than any gap
    far = float(limit.max()) * AROUND * 4
    tree = cKDTree(np.column_stack([points[firm], pair[firm] * far]))
    reach = AROUND * limit[pair[mine]]
    near, _ = tree.query(np.column_stack([points[mine], pair[mine] * far]), distance_upper_bound=float(reach.max()))
    out[mine] = near <= reach
    return out
