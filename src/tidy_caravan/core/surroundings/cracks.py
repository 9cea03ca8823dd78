"""Cracks within a piece: two runs of its border that end in the same two places and all but meet between them.

A vertex that was pulled off its neighbours, an edge of one side whose vertices lie off the long edge of the other, or a
curve that two faces follow in steps of their own. Openings with ends of some width, such as slots, are meant, and an edge
around a thin blade of surface has that surface between its sides.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations

import numpy as np

from tidy_caravan.core.geometry.corners import distinct
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, Bool
from tidy_caravan.core.surroundings.world import Table

SHARP = 0.9
"""Cosine of the angle at which both runs leave their common ends, at the least."""
MOST_ENDS = 6
"""So many of the narrowest ends of a border are taken into account."""
OUTLINE = 0.8
"""Of the way from a border to the middle of what it runs around, the part that leads into the surface, from which on it is
the outline of a sheet …"""
FILLED = 0.5
"""… and of the way to the other side, from which on there is surface between."""
NEAR = 8.0
"""So many gaps off, along the border, a vertex is the one that should be met, if it is no further than gaps are wide."""
SIZE = 1 / 50
"""Cracks wider than this part of their piece are meant, and gaps wider than this part of the smaller one."""


@dataclass(frozen=True)
class Borders:
    """Borders that run around something narrow at two ends or more. mesh: (L,) which mesh. ring: (R,) the first vertex at
    each place along them, one border after the other, in the mesh; those of border k at begin[k]. sharp: (R,) cosine of
    the angle there. users: (R,) how many triangles are around that place. third: (R,) the third corner of the triangle whose
    edge leads from there to the next. label: (L,) the piece of the mesh."""

    mesh: I64
    ring: I64
    begin: I64
    sharp: F64
    users: I64
    third: I64
    label: I64


@dataclass(frozen=True)
class Edges:
    """(E, 2) places of edges that one triangle has; its mesh, piece and third corner, a place too; and the border that each
    is of."""

    ends: I64
    mesh: I64
    label: I64
    third: I64
    loop: I64


def borders_of(table: Table, label: I64, place: I64) -> Borders:
    """The borders of meshes that may be cracks; label, place: as of `pieces_of`. O(triangles · log triangles)."""
    mesh = np.repeat(np.arange(len(table.face) - 1), np.diff(table.face))
    faces = place[table.indices + table.vertex[mesh][:, None]]
    count = len(place) + 1
    good = (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 0] != faces[:, 2])
    rows = np.flatnonzero(good)
    run = np.concatenate([faces[rows][:, [0, 1]], faces[rows][:, [1, 2]], faces[rows][:, [2, 0]]])
    once, number = distinct(run.min(axis=1) * count + run.max(axis=1))
    lone = once[np.bincount(number, minlength=len(once)) == 1]
    if len(lone) < 3:
        return NO_BORDERS
    face, ends = rows[lone % len(rows)], run[lone]
    first = np.zeros(count, np.int64)
    first[place[::-1]] = np.arange(len(place))[::-1]
    points = table.positions.astype(np.float64)
    third = faces[face].sum(axis=1) - ends.sum(axis=1)
    links, angle = linked(ends, *points[first[ends.T]])
    _, loop = np.unique(parted(links, len(lone)), return_inverse=True)
    edges = Edges(ends, mesh[face], label[face], third, loop.reshape(-1))
    size = np.bincount(edges.loop)
    closed = np.bincount(edges.loop[links[:, 0]], minlength=len(size)) == size
    narrow = np.bincount(edges.loop[links[:, 0]], angle > SHARP, minlength=len(size)) >= 2
    wanted = closed & narrow & (size >= 3) & ~outlines(edges, points[first[np.column_stack([ends, third])]], size)
    users = np.bincount(faces[rows].reshape(-1), minlength=count)
    return walked(table, edges, links, angle, wanted, first, users) if wanted.any() else NO_BORDERS


def outlines(edges: Edges, corners: F64, size: I64) -> Bool:
    """(L,) loops that run around their own surface. corners: (E, 3, 3) both ends and the third corner. size: (L,) edges."""
    start, end, third = corners[:, 0], corners[:, 1], corners[:, 2]
    loop, count = edges.loop, len(size)
    middle = np.stack([np.bincount(loop, (start + end)[:, k] / 2) for k in range(3)], axis=1) / size[:, None]
    along, inward = along_and_into(start, end, third)
    to_middle = middle[loop] - (start + end) / 2
    reach = np.linalg.norm(to_middle - along * (to_middle * along).sum(axis=1)[:, None], axis=1)
    into = np.bincount(loop, (to_middle * inward).sum(axis=1), minlength=count)
    filled = into > OUTLINE * np.bincount(loop, reach, minlength=count)
    # a strip, however it is bent: all its triangles reach from one side of it to the other
    span = int(max(edges.ends.max(), edges.third.max())) + 1
    around = np.unique(loop[:, None] * span + edges.ends)
    across = np.isin(loop * span + edges.third, around)
    out: Bool = filled | (np.bincount(loop, across, minlength=count) == size)
    return out


def along_and_into(start: F64, end: F64, third: F64) -> tuple[F64, F64]:
    """(E, 3) the way along edges, and the way from them into their triangles, across them; both of length one."""
    along = end - start
    along = along / np.maximum(np.linalg.norm(along, axis=1), 1e-300)[:, None]
    into = third - start
    into = into - along * (into * along).sum(axis=1)[:, None]
    return along, into / np.maximum(np.linalg.norm(into, axis=1), 1e-300)[:, None]


def linked(ends: I64, start: F64, end: F64) -> tuple[I64, F64]:
    """(K, 2) edges that follow each other along a border, and the cosine of the angle between them. ends: (E, 2) places of
    edges. Where more than two meet, those with the smallest angle between them belong together."""
    edge = np.tile(np.arange(len(ends)), 2)
    at = ends.T.reshape(-1)
    away = np.concatenate([end - start, start - end])
    away = away / np.maximum(np.linalg.norm(away, axis=1), 1e-300)[:, None]
    order = np.argsort(at, kind="stable")
    _, begin, times = np.unique(at[order], return_index=True, return_counts=True)
    two = begin[times == 2]
    pairs = [np.stack([order[two], order[two + 1]], axis=1)]
    for where, many in zip(begin[times > 2].tolist(), times[times > 2].tolist(), strict=True):
        own = order[where : where + many]
        near = np.triu(away[own] @ away[own].T + 2, 1)
        for _ in range(many // 2):
            i, j = np.divmod(int(near.argmax()), many)
            pairs.append(own[[[i, j]]])
            near[[i, j], :] = near[:, [i, j]] = 0
    both = np.concatenate(pairs)
    return edge[both], (away[both[:, 0]] * away[both[:, 1]]).sum(axis=1)


def parted(links: I64, count: int) -> I64:
    """(count,) which run each edge belongs to."""
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    graph = coo_array((np.ones(len(links), np.int8), (links[:, 0], links[:, 1])), shape=(count, count))
    out: I64 = connected_components(graph, directed=False)[1].astype(np.int64)
    return out


def walked(table: Table, edges: Edges, links: I64, angle: F64, wanted: Bool, first: I64, users: I64) -> Borders:
    """The wanted loops as rings of places, in the order in which they are run through."""
    rings: list[list[int]] = []
    runs: list[list[int]] = []
    cosines: list[list[float]] = []
    owner: list[int] = []
    ends, loop = edges.ends, edges.loop
    some = np.flatnonzero(wanted[loop[links[:, 0]]])
    following: dict[int, list[tuple[int, int]]] = {}
    for k in some.tolist():
        one, other = links[k].tolist()
        following.setdefault(one, []).append((other, k))
        following.setdefault(other, []).append((one, k))
    begins = np.unique(loop, return_index=True)[1]
    for begin in begins[wanted].tolist():
        edge = begin
        came = -1
        places: list[int] = []
        run: list[int] = []
        values: list[float] = []
        while True:
            onward, link = next((o, k) for o, k in following[edge] if k != came)
            common = set(ends[edge].tolist()) & set(ends[onward].tolist())
            places.append(min(common))
            run.append(onward)
            values.append(float(angle[link]))
            edge, came = onward, link
            if edge == begin or len(places) > len(ends):
                break
        if len(set(places)) == len(places):  # a border that runs through a place twice is none of the simple ones
            rings.append(places)
            runs.append(run)
            cosines.append(values)
            owner.append(begin)
    if not rings:
        return NO_BORDERS
    own = np.array(owner, np.int64)
    ring = np.concatenate([np.array(r, np.int64) for r in rings])
    sizes = np.array([len(r) for r in rings], np.int64)
    mesh = edges.mesh[own]
    return Borders(
        mesh,
        first[ring] - np.repeat(table.vertex[mesh], sizes),
        np.concatenate([[0], np.cumsum(sizes)]),
        np.concatenate([np.array(c) for c in cosines]),
        users[ring],
        first[edges.third[np.concatenate([np.array(r, np.int64) for r in runs])]]
        - np.repeat(table.vertex[mesh], sizes),
        edges.label[own],
    )


NONE = np.zeros(0, np.int64)
NO_BORDERS = Borders(NONE, NONE, np.zeros(1, np.int64), np.zeros(0), NONE, NONE, NONE)


def crack(points: F64, third: F64, sharp: F64, users: I64, limit: float, least: float) -> tuple[I64, F64, F64, I64]:
    """Of a closed border (R, 3) that is a crack no wider than the limit: the vertices to move, (K,) rows; (K, 3) where
    they meet the other side; (K,) how far that is; and -1, -1. Of one side alone: the one with more vertices, or fewer
    triangles at them. Where all of that side lie on the other, those of the other which have nothing to meet, and (K, 2)
    the ends of the edge that wants a vertex there. third: (R, 3) the third corners of the triangles along it."""
    nothing = NONE, np.zeros((0, 3)), np.zeros(0), np.zeros((0, 2), np.int64)
    ends = np.sort(np.argsort(-sharp, kind="stable")[: min(MOST_ENDS, int((sharp > SHARP).sum()))])
    ways = [runs_between(points, int(i), int(j), limit) for i, j in combinations(ends.tolist(), 2)]
    if not ways:
        return nothing
    # whose corner is a narrow one itself has more than two: those between which it is narrowest are its ends
    width, sides = min(ways, key=lambda way: way[0])
    if not least < width <= limit:
        return nothing
    into = inwards(points, third)
    if all(lead_into(points, into, *side) for side in sides):
        return nothing

    def rank(k: int) -> tuple[int, int, int]:
        inner = sides[k][0][1:-1]
        return -len(inner), int(users[inner].sum()), -k

    mover = min((0, 1), key=rank)
    mine, target, away = sides[mover]
    if (rows := away > least).any():
        return mine[1:-1][rows], target[rows], away[rows], np.full((int(rows.sum()), 2), -1)
    theirs, (mine, _, away) = mine, sides[1 - mover]
    rows = away > least
    edge = on_edge(points, mine, theirs)[2][rows]
    return mine[1:-1][rows], points[mine[1:-1][rows]], away[rows], np.column_stack([theirs[edge], theirs[edge + 1]])


def runs_between(points: F64, start: int, end: int, limit: float) -> tuple[float, list[tuple[I64, F64, F64]]]:
    """How far both runs of a border between two of its vertices are apart at the most; and for each its rows, and for the
    inner ones where and how far away they meet the other."""
    one = np.arange(start, end + 1)
    two = np.concatenate([np.arange(end, len(points)), np.arange(0, start + 1)])[::-1]
    sides = [(mine, *beside(points, mine, theirs, limit)) for mine, theirs in ((one, two), (two, one))]
    return max(float(away.max(initial=0.0)) for _, _, away in sides), sides


def inwards(points: F64, third: F64) -> F64:
    """(R, 3) which way the surface lies from each vertex of a border, of length one."""
    _, into = along_and_into(points, np.roll(points, -1, axis=0), third)
    both = into + np.roll(into, 1, axis=0)
    out: F64 = both / np.maximum(np.linalg.norm(both, axis=1), 1e-300)[:, None]
    return out


def lead_into(points: F64, into: F64, mine: I64, target: F64, away: F64) -> bool:
    """Whether the ways of a run to the other side lead into its surface, or it has none."""
    inner = mine[1:-1]
    lead = ((target - points[inner]) * into[inner]).sum(axis=1)
    return bool(lead.sum() >= FILLED * away.sum())


def beside(points: F64, mine: I64, theirs: I64, limit: float) -> tuple[F64, F64]:
    """Where the inner vertices of a run (rows of points) meet another: at the vertex that is theirs as they are its, or on
    the nearest edge; and how far the edge is."""
    inner, corners = points[mine[1:-1]], points[theirs[1:-1]]
    target, off, _ = on_edge(points, mine, theirs)
    if len(inner) and len(corners):
        far = np.linalg.norm(corners - inner[:, None], axis=2)
        row = np.arange(len(inner))
        nearest = far.argmin(axis=1)
        mutual = (far.argmin(axis=0)[nearest] == row) & (far[row, nearest] <= np.minimum(NEAR * off, limit))
        target = np.where(mutual[:, None], corners[nearest], target)
    return target, off


def on_edge(points: F64, mine: I64, theirs: I64) -> tuple[F64, F64, I64]:
    """(K, 3) the nearest places of the inner vertices of a run on another, their distance, and the edge that they are on."""
    inner, start = points[mine[1:-1]], points[theirs[:-1]]
    way = points[theirs[1:]] - start
    long = np.maximum((way * way).sum(axis=1), 1e-300)
    share = np.clip(((inner[:, None] - start) * way).sum(axis=2) / long, 0, 1)
    places = start + share[..., None] * way
    away = np.linalg.norm(places - inner[:, None], axis=2)
    row, best = np.arange(len(inner)), away.argmin(axis=1)
    return places[row, best], away[row, best], best


def cracks(
    table: Table, borders: Borders, label: I64, mesh: I64, world: F64, metres: float, least: float, most: float
) -> dict[str, AnyArray]:
    """Cracks of parts with these meshes (P,) and matrices (P, 4, 4), which are narrower than `most` and a fiftieth of
    their piece: by part, vertex, label, target, distance and size of the piece, in metres but for the target, and `onto`:
    the ends of the edge that wants a vertex, see `crack`."""
    rows: list[tuple[int, I64, int, F64, F64, float, I64]] = []
    for part in np.flatnonzero(np.isin(mesh, borders.mesh)).tolist():
        number, matrix = int(mesh[part]), world[part]
        own = slice(int(table.face[number]), int(table.face[number + 1]))
        at = int(table.vertex[number])
        there = (
            table.positions[at : int(table.vertex[number + 1])].astype(np.float64) @ matrix[:3, :3].T + matrix[:3, 3]
        )
        sizes: dict[int, float] = {}
        for k in np.flatnonzero(borders.mesh == number).tolist():
            piece = int(borders.label[k])
            if piece not in sizes:
                corners = there[table.indices[own][label[own] == piece]].reshape(-1, 3)
                sizes[piece] = float(np.linalg.norm(np.ptp(corners, axis=0)))
            size = sizes[piece]
            run = slice(int(borders.begin[k]), int(borders.begin[k + 1]))
            limit = min(most / metres, size * SIZE)
            ring = borders.ring[run]
            about = borders.sharp[run], borders.users[run]
            some, target, away, edge = crack(there[ring], there[borders.third[run]], *about, limit, least / metres)
            onto = np.where(edge < 0, -1, ring[edge])
            rows.append((part, ring[some], piece, target, away * metres, size * metres, onto))
    count = [len(r[1]) for r in rows]
    return {
        "part": np.repeat(np.array([r[0] for r in rows], np.int64), count),
        "vertex": np.concatenate([np.zeros(0, np.int64), *(r[1] for r in rows)]),
        "label": np.repeat(np.array([r[2] for r in rows], np.int64), count),
        "target": np.concatenate([np.zeros((0, 3)), *(r[3] for r in rows)]),
        "distance": np.concatenate([np.zeros(0), *(r[4] for r in rows)]),
        "size": np.repeat(np.array([r[5] for r in rows], np.float64), count),
        "onto": np.concatenate([np.zeros((0, 2), np.int64), *(r[6] for r in rows)]),
    }
