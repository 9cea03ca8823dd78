"""Gaps that light leaks through: pieces that all but touch, a tenth of a millimetre to some millimetres apart.

A piece is what hangs together in a part. Measured from the vertices of each to the surface of the other. What touches,
goes into the other, or lies on it as a whole (a label) leaves no gap; nor do strewn things among themselves. A joint is
as long as an edge, but for vertices that are meant to meet: both pieces have one there, and are joined at the next. Within one
piece see `cracks.py`.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from tidy_caravan.core.geometry.coplanar import boxes_of
from tidy_caravan.core.geometry.corners import join
from tidy_caravan.core.pace import Tell
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import F64, I64, U64, AnyArray, Bool, determinants, ranges
from tidy_caravan.core.surroundings.cracks import SIZE, borders_of, cracks
from tidy_caravan.core.surroundings.gap_scan import Scan
from tidy_caravan.core.surroundings.near import meeting_boxes, meeting_parts, nearby, shown_parts
from tidy_caravan.core.surroundings.world import (
    Table,
    about,
    as_large,
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
GAPS = Work("gaps between pieces", 4, f"{__name__}:gaps_between", memory=6 << 30)
LEAST_MM = 0.1
MOST_MM = 5.0
LIFTED, LIFTED_WITHIN = "lifted", "lifted within"
"""In the extras of a scene: by identity how far a part was lifted off others, (3,) m, and its shells off each other, m."""
AS_LIFTED = 5e-5
"""Metres by which a gap may differ from a lift and be made by it."""
MOST_PIECES = 200
"""Pieces of one mesh from which on it is taken whole: leaves and gravel are no joints."""


@dataclass(frozen=True)
class Gaps:
    """(K,) vertices that all but touch another piece. part, other: nodes, the same one within a part. vertex: in the mesh
    of the part. distance: m. target: (K, 3) where it would meet the other, in the world. size: (K, 2) m, of both pieces.
    piece: (K, 2) what they are told apart by, twice the same for a crack within one. onto: (K, 2) the edge of the mesh, by
    vertices at its ends, on which this one has nothing to meet, so that it wants a vertex there; -1 for others.
    """

    part: I64
    vertex: I64
    other: I64
    distance: F64
    target: F64
    size: F64
    piece: I64
    onto: I64

    def some(self, rows: I64) -> Gaps:
        """These rows of it."""
        return Gaps(**{name: getattr(self, name)[rows] for name in self.__dataclass_fields__})


NONE = np.zeros(0, np.int64)
NO_ROWS: dict[str, AnyArray] = {
    "side": NONE,
    "vertex": NONE,
    "place": NONE,
    "label": np.zeros((0, 2), np.int64),
    "distance": np.zeros(0),
    "target": np.zeros((0, 3)),
    "size": np.zeros((0, 2)),
    "onto": np.zeros((0, 2), np.int64),
}
"""Of a pair of parts: which is asked about the other, its vertex and the first one at that place, the labels of both
pieces in their meshes, and what Gaps has. A distance of nought: the vertex lies within the other, which is thick."""
NOTHING = Gaps(NONE, NONE, NONE, np.zeros(0), np.zeros((0, 3)), np.zeros((0, 2)), *[np.zeros((0, 2), np.int64)] * 2)


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
    names = ("vertex", "distance", "target", "size", "piece", "onto")
    told = Gaps(part, other=other, **{name: found[name] for name in names})
    return told.some(np.flatnonzero(~lifted(scene, told)))


def lifted(scene: Scene, found: Gaps) -> Bool:
    """(K,) gaps as wide as a step lifted the one piece off the other, or shells within a mesh off each other."""
    moves, offsets = scene.extras.get(LIFTED, {}), scene.extras.get(LIFTED_WITHIN, {})
    if not len(found.part) or not (moves or offsets):
        return np.zeros(len(found.part), np.bool_)
    nodes, at = np.unique(np.column_stack([found.part, found.other]), return_inverse=True)
    known = scene.identities.names
    names = [known[i] if 0 <= i < len(known) else "" for i in scene.nodes.source[nodes].tolist()]
    one, other = at.reshape(-1, 2).T
    by_node = np.array([moves.get(name, (0.0, 0.0, 0.0)) for name in names])
    way = by_node[one] - by_node[other]
    offset = np.array([float(offsets.get(name, 0.0)) for name in names])[one] * (found.part == found.other)
    wide = np.column_stack([np.linalg.norm(way, axis=1), np.abs(way), *(offset * k for k in (1, 2, 3))])
    alike: Bool = (wide > 0) & (np.abs(wide - found.distance[:, None]) <= AS_LIFTED + wide / 100)
    return np.asarray(alike.any(axis=1), np.bool_)


def asked(
    scene: Scene, rows: I64, who: U64, strewn: Bool, workshop: Workshop, tell: Tell, parameters: dict[str, float]
) -> dict[str, AnyArray] | str:
    """The columns of Gaps with positions among the rows in place of nodes."""
    nodes = scene.nodes
    pairs = meeting_parts(scene, np.full(len(rows), parameters["most"] / parameters["metres"]))
    # what lies apart within a mesh does so in every part that draws it as large: the first is asked
    alone = np.unique(as_large(scene, rows), return_index=True)[1]
    pairs = np.concatenate([pairs, np.column_stack([alone, alone])])
    pairs = pairs[~strewn[pairs].all(axis=1)]
    # a part by itself beside its neighbours: its mesh is sent once, and all portions are alike
    pairs = pairs[np.lexsort((pairs[:, 1], pairs[:, 0]))]
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
        "onto": found["onto"][kept],
    }


def gaps_between(
    arrays: Mapping[str, AnyArray], metres: float, least: float, most: float
) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work: gaps between the parts of each pair, or within a part that is paired with itself; see NO_ROWS. Of a crack the
    label stands twice."""
    table = Table(*(arrays[k] for k in ("positions", "indices", "vertex", "face")))
    label, place = pieces_of(table)
    mesh, world, asked = arrays["mesh"], arrays["world"], arrays["pairs"]
    within = within_pieces(table, label, place, mesh, world, asked, metres, least, most)
    between = between_pieces(table, label, place, mesh, world, asked, metres, least, most)
    return {name: np.concatenate([within[name], between[name]]) for name in within}, {}


def within_pieces(
    table: Table, label: I64, place: I64, mesh: I64, world: F64, asked: I64, metres: float, least: float, most: float
) -> dict[str, AnyArray]:
    """The cracks of parts that are paired with themselves; see NO_ROWS."""
    alone = np.flatnonzero(asked[:, 0] == asked[:, 1])
    owner = asked[alone, 0]
    borders = borders_of(table, label, place)
    found = cracks(table, borders, label, mesh[owner], world[owner], metres, least, most)
    return {
        "pair": alone[found["part"]],
        "side": np.zeros(len(found["part"]), np.int64),
        "vertex": found["vertex"],
        "place": found["vertex"],
        "label": np.column_stack([found["label"]] * 2),
        "distance": found["distance"],
        "target": found["target"],
        "size": np.column_stack([found["size"]] * 2),
        "onto": found["onto"],
    }


def between_pieces(
    table: Table, label: I64, place: I64, mesh: I64, world: F64, asked: I64, metres: float, least: float, most: float
) -> dict[str, AnyArray]:
    """The gaps between pieces of the parts of each pair; see NO_ROWS."""
    # parts that are asked about by themselves and are of one piece are left out before anything is moved
    several = np.diff(table.face) > 0
    several[several] = np.maximum.reduceat(label, table.face[:-1][several]) > 0
    kept = several[mesh]
    kept[asked[asked[:, 0] != asked[:, 1]]] = True
    asked_rows = np.flatnonzero(kept[asked].all(axis=1))
    if not len(asked_rows):
        return {"pair": NONE, **NO_ROWS}
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
                "onto": np.full((len(pair), 2), -1),
            }
        )
    return {name: np.concatenate([c[name] for c in columns]) for name in columns[0]}


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


def not_lying(scan: Scan, pairs: I64, begin: I64, pair: I64, side: I64) -> Bool:
    """(K,) False where all of the piece lies within the widest gap of the other: a label, or a foil, on a surface."""
    own = pairs[pair, side]
    pieces = np.unique(own)
    places = [len(np.unique(scan.place[scan.faces[begin[i] : begin[i + 1]]])) for i in pieces.tolist()]
    _, number, counts = np.unique(pair * 2 + side, return_inverse=True, return_counts=True)
    out: Bool = counts[number.reshape(-1)] < np.array(places, np.int64)[np.searchsorted(pieces, own)]
    return out
