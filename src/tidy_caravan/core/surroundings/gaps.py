"""Gaps that light leaks through: pieces that all but touch, a tenth of a millimetre to some millimetres apart.

A piece is what hangs together in a part. Measured from the vertices of each to the surface of the other. What touches,
goes into the other, or lies on it as a whole (a label) leaves no gap; nor do strewn things among themselves. A joint is
as long as an edge, but for vertices that are meant to meet: both pieces have one there, and are joined at the next.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from tidy_caravan.core.geometry.closest import closest_on
from tidy_caravan.core.geometry.coplanar import boxes_of
from tidy_caravan.core.geometry.corners import distinct, join
from tidy_caravan.core.pace import Tell
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import F64, I64, U64, AnyArray, Bool, determinants, ranges
from tidy_caravan.core.surroundings.near import meeting_boxes, meeting_parts, nearby, shown_parts
from tidy_caravan.core.surroundings.world import (
    Table,
    about,
    asked_once,
    costs_of,
    likenesses,
    placed,
    ranks,
    steady_middle_of,
    strewn_by,
)  # fmt: skip
from tidy_caravan.core.work.heavy import Piece, Work, Workshop
from tidy_caravan.core.work.pairs import by_pair, fingerprints
from tidy_caravan.core.work.whole import asked_again, digest_of

LOADS = ("scipy.sparse.csgraph", "scipy.spatial", "shapely")
GAPS = Work("gaps between pieces", 3, f"{__name__}:gaps_between", memory=6 << 30)
LEAST_MM = 0.1
MOST_MM = 5.0
SIZE = 1 / 50
"""Gaps wider than this part of the smaller piece are meant."""
AROUND = 3.0
"""So many widest gaps around a place where two pieces touch there is none: a bevel stands on its foot."""
MOST_PIECES = 200
"""Pieces of one mesh from which on it is taken whole: leaves and gravel are no joints."""
FACING = 1e-6
ASIDE = 0.99
"""Part of a distance, across the surface, below which a place lies beside a border or an edge of it."""
CHUNK = 1 << 21


@dataclass(frozen=True)
class Gaps:
    """(K,) vertices that all but touch another piece. part, other: nodes, the same one within a part. vertex: in the mesh
    of the part. distance: m. target: (K, 3) where it would meet the other, in the world. size: (K, 2) m, of both pieces. piece: (K, 2) what they are told apart by.
    """

    part: I64
    vertex: I64
    other: I64
    distance: F64
    target: F64
    size: F64
    piece: I64


NONE = np.zeros(0, np.int64)
NO_ROWS: dict[str, AnyArray] = {
    "side": NONE,
    "vertex": NONE,
    "place": NONE,
    "label": np.zeros((0, 2), np.int64),
    "distance": np.zeros(0),
    "target": np.zeros((0, 3)),
    "size": np.zeros((0, 2)),
}
"""Of a pair of parts: which is asked about the other, its vertex and the first one at that place, the labels of both
pieces in their meshes, and what Gaps has. A distance of nought: the vertex lies within the other, which is thick."""
NOTHING = Gaps(NONE, NONE, NONE, np.zeros(0), np.zeros((0, 3)), np.zeros((0, 2)), np.zeros((0, 2), np.int64))


def gaps(
    scene: Scene, workshop: Workshop, tell: Tell, least_mm: float = LEAST_MM, most_mm: float = MOST_MM
) -> Gaps | str:
    """All gaps of parts that are shown; a sentence where they could not be found out."""
    rows, _ = shown_parts(scene)
    if not len(rows):
        return NOTHING
    parameters = {"metres": scene.convention.metres_per_unit, "least": least_mm / 1000, "most": most_mm / 1000}
    who, strewn = likenesses(scene, rows), strewn_by(scene, rows) >= 0
    content = digest_of([who, ranks(scene.nodes.mesh[rows]), strewn, *parameters.values()])
    found = asked_again(
        workshop, GAPS.name, GAPS.version, content, lambda: asked(scene, rows, who, strewn, workshop, tell, parameters)
    )
    if isinstance(found, str):
        return found
    part, other = rows[found["part"]], rows[found["other"]]
    return Gaps(part, other=other, **{name: found[name] for name in ("vertex", "distance", "target", "size", "piece")})


def asked(
    scene: Scene, rows: I64, who: U64, strewn: Bool, workshop: Workshop, tell: Tell, parameters: dict[str, float]
) -> dict[str, AnyArray] | str:
    """The columns of Gaps with positions among the rows in place of nodes."""
    nodes = scene.nodes
    pairs = meeting_parts(scene, np.full(len(rows), parameters["most"] / parameters["metres"]))
    # what lies apart within a mesh does so in every part that uses it: the first is asked
    alone = np.unique(nodes.mesh[rows], return_index=True)[1]
    pairs = np.concatenate([pairs, np.column_stack([alone, alone])])
    pairs = pairs[~strewn[pairs].all(axis=1)]
    middle = steady_middle_of(scene)

    def portion(some: I64) -> Piece:
        used, asked = np.unique(pairs[some], return_inverse=True)
        kinds, mesh = np.unique(nodes.mesh[rows[used]], return_inverse=True)
        arrays: dict[str, AnyArray] = {
            **Table.of([scene.meshes[i] for i in kinds.tolist()]).arrays(),
            "mesh": mesh.reshape(-1).astype(np.int64),
            "world": about(nodes.world[rows[used]], middle),
            "pairs": asked.reshape(-1, 2).astype(np.int64),
        }
        return asked_once(arrays, parameters, triangles[used].sum() + len(some))

    triangles, costs = costs_of(scene, rows, pairs)
    keys = fingerprints([who[pairs[:, 0]], who[pairs[:, 1]]])
    found = by_pair(workshop, GAPS, keys, costs, portion, parameters, NO_ROWS, tell)
    return found if isinstance(found, str) else together(found, pairs, middle)


def together(found: Mapping[str, AnyArray], pairs: I64, middle: F64) -> dict[str, AnyArray]:
    """What all pairs of parts say: a gap within a third piece that has a thickness lets no light through."""
    own = np.where(found["side"] == 0, pairs[found["pair"], 0], pairs[found["pair"], 1])
    other = np.where(found["side"] == 0, pairs[found["pair"], 1], pairs[found["pair"], 0])
    place = own * (int(found["place"].max(initial=0)) + 1) + found["place"]
    kept = np.flatnonzero((found["distance"] > 0) & ~np.isin(place, place[found["distance"] <= 0]))
    pieces = np.column_stack([own, other])[kept] * (MOST_PIECES + 1) + found["label"][kept]
    return {
        "part": own[kept],
        "vertex": found["vertex"][kept],
        "other": other[kept],
        "distance": found["distance"][kept],
        "target": found["target"][kept] + middle,
        "size": found["size"][kept],
        "piece": pieces,
    }


def gaps_between(
    arrays: Mapping[str, AnyArray], metres: float, least: float, most: float
) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work: gaps between the parts of each pair, or within a part that is paired with itself; see NO_ROWS."""
    table = Table(*(arrays[k] for k in ("positions", "indices", "vertex", "face")))
    mesh, world, asked = arrays["mesh"], arrays["world"], arrays["pairs"]
    label, place = pieces_of(table)
    # parts that are asked about by themselves and are of one piece are left out before anything is moved
    several = np.diff(table.face) > 0
    several[several] = np.maximum.reduceat(label, table.face[:-1][several]) > 0
    kept = several[mesh]
    kept[asked[asked[:, 0] != asked[:, 1]]] = True
    asked_rows = np.flatnonzero(kept[asked].all(axis=1))
    if not len(asked_rows):
        return {"pair": NONE, **NO_ROWS}, {}
    asked = (np.cumsum(kept) - 1)[asked[asked_rows]]
    mesh, world = mesh[kept], world[kept]
    every = placed(table, mesh, world)
    # mirrored parts turn the winding, and with it what is before a surface and what behind
    mirrored = determinants(world[:, :3, :3]) < 0
    faces = np.where(mirrored[every.part][:, None], every.faces[:, ::-1], every.faces)
    low, high = boxes_of(every.points[faces])
    # pieces, in the order of their parts; triangles sorted by them
    of_triangle = label[table.face[mesh][every.part] + every.local]
    piece, number = np.unique(every.part * (MOST_PIECES + 1) + of_triangle, return_inverse=True)
    number = number.reshape(-1)
    order = np.argsort(number, kind="stable")
    begin = np.searchsorted(number[order], np.arange(len(piece) + 1))
    low, high = low[order], high[order]
    boxes = np.stack([np.minimum.reduceat(low, begin[:-1]), np.maximum.reduceat(high, begin[:-1])], axis=1)
    part = piece // (MOST_PIECES + 1)
    size = np.linalg.norm(boxes[:, 1] - boxes[:, 0], axis=1)
    reach = np.minimum(most / metres, size * SIZE)
    pairs = meeting_boxes(boxes, np.full(len(boxes), most / metres))
    # of the pieces that meet, those of the pairs of parts that are asked about
    span = len(mesh)
    among = np.sort(asked, axis=1) @ np.array([span, 1])
    by_key = np.argsort(among, kind="stable")
    wanted = np.sort(part[pairs], axis=1) @ np.array([span, 1])
    at = np.minimum(np.searchsorted(among[by_key], wanted), len(among) - 1)
    limit = reach[pairs].min(axis=1)
    usable = (among[by_key[at]] == wanted) & (limit > least / metres)
    pairs, limit, of_asked = pairs[usable], limit[usable], by_key[at[usable]]
    near = nearby(pairs, boxes, begin, low, high, limit)
    first_at = first_places(table, mesh, place)
    scan = Scan(
        every.points, faces[order], first_at, limit, least / metres,
        boxes[pairs, 0].max(axis=1), boxes[pairs, 1].min(axis=1), begin, pairs,
    )  # fmt: skip
    found = []
    for side_ in (0, 1):
        mine = near.side == side_
        found.append(scan.look(side_, near.triangle[mine], near.pair[mine], near.triangle[~mine], near.pair[~mine]))
    offset = np.concatenate([[0], np.cumsum(np.diff(table.vertex)[mesh])])
    thick = (boxes[:, 1] - boxes[:, 0]).min(axis=1)
    columns: list[dict[str, AnyArray]] = []
    for side, (pair, vertex, distance, target, back_pair, back_vertex) in enumerate(found):
        open_ = not_lying(scan, pairs, begin, pair, np.full(len(pair), side)) if len(pair) else np.zeros(0, np.bool_)
        solid = thick[pairs[back_pair, 1 - side]] > 2 * limit[back_pair]
        pair, vertex = (np.concatenate([a[open_], b[solid]]) for a, b in ((pair, back_pair), (vertex, back_vertex)))
        behind = int(solid.sum())
        own, other = pairs[pair, side], pairs[pair, 1 - side]
        columns.append(
            {
                "pair": asked_rows[of_asked[pair]],
                "side": np.where(part[own] == asked[of_asked[pair], 0], 0, 1),
                "vertex": vertex - offset[part[own]],
                "place": first_at[vertex] - offset[part[own]],
                "label": np.column_stack([piece[own], piece[other]]) % (MOST_PIECES + 1),
                "distance": np.concatenate([distance[open_] * metres, np.zeros(behind)]),
                "target": np.concatenate([target[open_], np.zeros((behind, 3))]),
                "size": size[np.column_stack([own, other])] * metres,
            }
        )
    return {name: np.concatenate([c[name] for c in columns]) for name in columns[0]}, {}


def pieces_of(table: Table) -> tuple[I64, I64]:
    """(F,) which piece of its mesh each triangle belongs to, 0 throughout where there are too many, and (V,) a number
    that vertices of a mesh at one place share. O(V log V)."""
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    owner = np.repeat(np.arange(len(table.vertex) - 1), np.diff(table.vertex))
    first, place = join(owner, [table.positions])
    mesh = np.repeat(np.arange(len(table.face) - 1), np.diff(table.face))
    faces = place[table.indices + table.vertex[mesh][:, None]]
    a, b = np.concatenate([faces[:, 0], faces[:, 1]]), np.concatenate([faces[:, 1], faces[:, 2]])
    graph = coo_array((np.ones(len(a), np.int8), (a, b)), shape=(len(first), len(first)))
    _, found = connected_components(graph, directed=False)
    of_face = found[faces[:, 0]].astype(np.int64)
    # counted from nought within each mesh
    kinds, first_face, inverse = np.unique(of_face, return_index=True, return_inverse=True)
    of_kind = mesh[first_face]
    order = np.argsort(of_kind, kind="stable")
    counts = np.bincount(of_kind, minlength=len(table.face) - 1)
    rank = np.empty(len(kinds), np.int64)
    rank[order] = ranges(np.zeros(len(counts), np.int64), counts)
    label = rank[inverse.reshape(-1)]
    label[counts[mesh] > MOST_PIECES] = 0
    return label, place


def first_places(table: Table, mesh: I64, place: I64) -> I64:
    """(V',) for every vertex of every part the first one of that part at the same place."""
    count = np.diff(table.vertex)[mesh]
    first = np.unique(place, return_index=True)[1][place]
    begin = np.concatenate([[0], np.cumsum(count)])[:-1]
    out: I64 = first[ranges(table.vertex[mesh], count)] + np.repeat(begin - table.vertex[mesh], count)
    return out


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
        lone, _ = distinct(pair * (int(self.place.max(initial=0)) + 1) + self.place[vertex])
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
        behind = front < -1e-6 * self.limit[pair]
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
        span = int(self.place.max(initial=0)) + 1
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
            through[pair[np.isfinite(front) & (front > self.least)]] = True
            out &= ~through[pair]
        return out

    def open_ones(self, pieces: I64) -> Bool:
        """(N,) whether pieces have an edge that only one triangle has."""
        new = np.array([k for k in np.unique(pieces).tolist() if k not in self._open], np.int64)
        if len(new):
            count = self.begin[new + 1] - self.begin[new]
            faces = self.place[self.faces[ranges(self.begin[new], count)]]
            owner = np.tile(np.repeat(np.arange(len(new)), count), 3)
            run = np.sort(np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]]), axis=1)
            order = np.lexsort((run[:, 1], run[:, 0], owner))
            key = np.column_stack([owner, run])[order]
            first = np.flatnonzero(np.concatenate([[True], (key[1:] != key[:-1]).any(axis=1)]))
            lone = np.bincount(key[first[np.diff(np.append(first, len(key))) == 1], 0], minlength=len(new)) > 0
            self._open |= dict(zip(new.tolist(), lone.tolist(), strict=True))
        return np.array([self._open[k] for k in pieces.tolist()], np.bool_)

    def on_border(self, theirs: I64, theirs_pair: I64, pair: I64, whose: I64, where: F64) -> Bool:
        """(N,) whether places on triangles (rows of `theirs`) are on an edge that no other triangle of the piece has."""
        if not len(pair):
            return np.zeros(0, np.bool_)
        there = Corners(self, theirs, theirs_pair, np.unique(pair))
        own = there.number_of(self, theirs[whose], theirs_pair[whose])
        exact = 1e-6 * self.limit[pair]
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


class Corners:
    """The vertices of the other piece of some pairs, each place once, and its edges. points: (P, 3). ends: (P,) those that an
    edge ends at which only one triangle has."""

    def __init__(self, scan: Scan, triangles: I64, of_pair: I64, pairs: I64) -> None:
        asked = np.isin(of_pair, pairs)
        self.span = int(scan.place.max(initial=0)) + 1
        keys = of_pair[asked, None] * self.span + scan.place[scan.faces[triangles[asked]]]
        self.keys, first, number = np.unique(keys.ravel(), return_index=True, return_inverse=True)
        number = number.reshape(keys.shape)
        self.points = scan.points[scan.faces[triangles[asked]].ravel()[first]]
        # pairs are told apart by a fourth coordinate that is further than any gap
        self.far = float(scan.limit.max()) * AROUND * 4
        self.pair = self.keys // self.span
        run = np.sort(np.concatenate([number[:, [0, 1]], number[:, [1, 2]], number[:, [2, 0]]]), axis=1)
        self.edges, count = np.unique(run[:, 0] * len(first) + run[:, 1], return_counts=True)
        self.lone = self.edges[count == 1]
        self.ends = np.zeros(len(first), np.bool_)
        self.ends[self.lone // len(first)] = self.ends[self.lone % len(first)] = True

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


def not_lying(scan: Scan, pairs: I64, begin: I64, pair: I64, side: I64) -> Bool:
    """(K,) False where all of the piece lies within the widest gap of the other: a label, or a foil, on a surface."""
    own = pairs[pair, side]
    pieces = np.unique(own)
    places = [len(np.unique(scan.place[scan.faces[begin[i] : begin[i + 1]]])) for i in pieces.tolist()]
    _, number, counts = np.unique(pair * 2 + side, return_inverse=True, return_counts=True)
    out: Bool = counts[number.reshape(-1)] < np.array(places, np.int64)[np.searchsorted(pieces, own)]
    return out
