"""Surfaces that lie in one plane and are seen from the same side, within a part or on two of them: they flicker.

Which of the two is drawn in front changes with every step of the eye. Broad phase by boxes, then angle between the
normals, distance of the planes, and the area of the overlap by clipping.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property, partial
from typing import Any

import numpy as np

from tidy_caravan.core.geometry.coplanar import Flat, Overlaps, boxes_of, overlapping
from tidy_caravan.core.geometry.faults import repeated
from tidy_caravan.core.geometry.lots import lots_of
from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.shells import agreeing, shells_of
from tidy_caravan.core.geometry.vertices import not_finite
from tidy_caravan.core.pace import Tell
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, I64, U64, AnyArray, Bool, determinants
from tidy_caravan.core.surroundings.insides import seen_from_both, sides_of_slots
from tidy_caravan.core.surroundings.near import meeting_parts, nearby, shown_parts
from tidy_caravan.core.surroundings.world import (
    Table,
    about,
    asked_once,
    costs_of,
    likenesses,
    placed,
    ranks,
    scales,
    steady_middle_of,
    strewn_by,
)
from tidy_caravan.core.work.heavy import Done, Piece, WhenAsked, Work, Workshop
from tidy_caravan.core.work.meshes import mesh_of
from tidy_caravan.core.work.pairs import by_pair, fingerprints
from tidy_caravan.core.work.whole import asked_again, digest_of

LOADS = ("scipy.sparse.csgraph", "scipy.spatial", "shapely")
BETWEEN = Work("overlaps between parts", 3, f"{__name__}:between_parts", memory=6 << 30)
WITHIN = Work(
    "overlaps within a mesh", 2, f"{__name__}:within_mesh", native=False, together=f"{__name__}:within_meshes"
)
APART_M = 1e-3
"""Distance of planes below which they flicker …"""
APART_SIZE = 1 / 50
"""… or this part of the smaller thing's size, whichever is less."""
WHOLE = 0.99
"""Part of a triangle's area from which on it is covered."""
WIDTH_M = 5e-4
"""Narrower overlaps are seams, which do not flicker to be seen …"""
WIDTH_SIZE = 1e-3
"""… or this part of the smaller thing's size, whichever is less."""
NONE = np.zeros(0, np.int64)
NO_PAIRS = np.zeros((0, 2), np.int64)
NO_ROWS: dict[str, AnyArray] = {
    "triangles": NO_PAIRS, "area": np.zeros(0), "height": np.zeros(0), "up": np.zeros((0, 3))
}  # fmt: skip


@dataclass(frozen=True)
class Flicker:
    """(K,) overlaps of two triangles. first, second: nodes, the second being the smaller part. triangles: (K, 2) in
    their meshes. area: m². height: (K,) m, how far the second lies above the first. up: (K, 3) the way to where it is seen
    from.
    """

    first: I64
    second: I64
    triangles: I64
    area: F64
    height: F64
    up: F64
    content: str = ""
    """Stands for all that these depend on."""

    def covered(self, which: int) -> tuple[I64, I64, F64]:
        """(C,) nodes, (C,) triangles of the first (0) or second (1) parts and (C,) m² of each that lie on others."""
        node, triangle = self.second if which else self.first, self.triangles[:, which]
        span = int(triangle.max(initial=0)) + 1
        keys, number = np.unique(node * span + triangle, return_inverse=True)
        area: F64 = np.bincount(number.reshape(-1), self.area, minlength=len(keys)).astype(np.float64)
        return keys // span, keys % span, area

    @cached_property
    def pairs(self) -> tuple[I64, I64]:
        """(P, 2) pairs of nodes, and (K,) which of them each overlap is of."""
        span = int(self.second.max(initial=0)) + 1
        keys, number = np.unique(self.first * span + self.second, return_inverse=True)
        return np.column_stack([keys // span, keys % span]), number.reshape(-1).astype(np.int64)


NO_OVERLAPS = Overlaps(NONE, NONE, np.zeros(0), np.zeros(0), np.zeros((0, 3)))
NOTHING = Flicker(NONE, NONE, NO_PAIRS, np.zeros(0), np.zeros(0), np.zeros((0, 3)))


def limits(sizes: F64, metres: float | F64) -> tuple[F64, F64]:
    """Distance of planes and width of seams for things of these sizes, all in scene units."""
    return np.minimum(APART_M / metres, sizes * APART_SIZE), np.minimum(WIDTH_M / metres, sizes * WIDTH_SIZE)


def between(scene: Scene, workshop: Workshop, tell: Tell) -> Flicker | str:
    """Overlaps between different parts that are shown; a sentence where that failed."""
    rows, _ = shown_parts(scene)
    if not len(rows):
        return NOTHING
    who = likenesses(scene, rows, [looks_from_behind(scene, rows)])
    strewn = strewn_by(scene, rows)
    content = digest_of([who, strewn < 0, ranks(strewn), scene.convention.metres_per_unit])
    found = asked_again(
        workshop, BETWEEN.name, BETWEEN.version, content, lambda: asked_between(scene, rows, who, workshop, tell)
    )
    if isinstance(found, str):
        return found
    first, second = (rows[found[side]] for side in ("first", "second"))
    return Flicker(first, second, found["triangles"], found["area"], found["height"], found["up"], content)


def looks_from_behind(scene: Scene, rows: I64) -> AnyArray:
    """(K,) numbers that stand for how the triangles of the nodes' meshes are drawn from behind."""
    drawn = np.zeros(len(scene.meshes), np.bool_)
    drawn[scene.nodes.mesh[rows]] = True
    return Drawn(scene).stands_for(drawn)[scene.nodes.mesh[rows]]


class Drawn:
    """How the triangles of a scene's meshes are drawn from behind."""

    def __init__(self, scene: Scene) -> None:
        self.scene = scene
        self.sides = sides_of_slots(scene)

    def stands_for(self, wanted: Bool) -> U64:
        """(M,) a number for each of the wanted meshes (M,), noughts for the others: alike for what is drawn alike, as most
        are, from one side everywhere or from both."""
        kinds, which = self.scene.slot_kinds
        seen = [np.unique(self.sides[list(slots)]) for slots in kinds]
        alike = np.array([one[0] if len(one) == 1 else -1 for one in seen], np.int64)[which]
        out = np.where(wanted & (alike >= 0), alike, 0).astype(np.uint64)
        for i in np.flatnonzero(wanted & (alike < 0)).tolist():
            triangles = self.of(self.scene.meshes[i])
            out[i] = int(hashlib.blake2b(triangles.data, digest_size=8).hexdigest(), 16)
        return out

    def of(self, mesh: Mesh) -> AnyArray:
        """(F,)"""
        return self.sides[mesh.material]


def asked_between(scene: Scene, rows: I64, who: U64, workshop: Workshop, tell: Tell) -> dict[str, AnyArray] | str:
    """The columns of Flicker with positions among the rows in place of nodes."""
    nodes = scene.nodes
    _, boxes = shown_parts(scene)
    metres = scene.convention.metres_per_unit
    size = np.linalg.norm(boxes[:, 1] - boxes[:, 0], axis=1)
    pairs = meeting_parts(scene, limits(size, metres)[0])
    strewn = strewn_by(scene, rows)
    pairs = pairs[(strewn[pairs] < 0).any(axis=1)]
    if not len(pairs):
        return {"first": NONE, "second": NONE, **NO_ROWS}
    # the smaller part of a pair is its second
    swap = size[pairs[:, 0]] < size[pairs[:, 1]]
    pairs[swap] = pairs[swap][:, ::-1]
    middle = steady_middle_of(scene)
    sides = sides_of_slots(scene)

    def portion(some: I64) -> Piece:
        used, asked = np.unique(pairs[some], return_inverse=True)
        kinds, mesh = np.unique(nodes.mesh[rows[used]], return_inverse=True)
        arrays: dict[str, AnyArray] = {
            **Table.of([scene.meshes[i] for i in kinds.tolist()]).arrays(),
            "sides": np.concatenate([sides[scene.meshes[i].material] for i in kinds.tolist()]),
            "mesh": mesh.reshape(-1).astype(np.int64),
            "world": about(nodes.world[rows[used]], middle),
            "boxes": boxes[used] - middle,
            "pairs": asked.reshape(-1, 2).astype(np.int64),
        }
        return asked_once(arrays, {"metres": metres}, triangles[used].sum() + len(some))

    triangles, costs = costs_of(scene, rows, pairs)
    keys = fingerprints([who[pairs[:, 0]], who[pairs[:, 1]]])
    found = by_pair(workshop, BETWEEN, keys, costs, portion, {"metres": metres}, NO_ROWS, tell)
    if isinstance(found, str):
        return found
    first, second = pairs[found["pair"]].T
    return {"first": first, "second": second, **{name: found[name] for name in NO_ROWS}}


def between_parts(arrays: Mapping[str, AnyArray], metres: float) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work: see `between`."""
    table = Table(*(arrays[k] for k in ("positions", "indices", "vertex", "face")))
    mesh, boxes, pairs = arrays["mesh"], arrays["boxes"], arrays["pairs"]
    every = placed(table, mesh, arrays["world"])
    corners = every.points[every.faces]
    low, high = boxes_of(corners)
    size = np.linalg.norm(boxes[:, 1] - boxes[:, 0], axis=1)
    apart, width = limits(size, metres)
    begin = np.concatenate([[0], np.cumsum(np.diff(table.face)[mesh])])
    near = nearby(pairs, boxes, begin, low, high, apart[pairs].min(axis=1))
    which = near.triangle
    two_sided = seen_from_both(table, arrays["sides"])[table.face[mesh[every.part[which]]] + every.local[which]]
    flat = Flat(mirrored_right(corners[which], every.part[which], arrays["world"]), near.pair, near.side, two_sided)
    # both tolerances go by the smaller of the pair
    found = overlapping(flat, apart[pairs[near.pair]].min(axis=1), width[pairs[near.pair]].min(axis=1))
    one, other = which[found.first], which[found.second]
    pair = near.pair[found.first]
    seconds = flat.corners[found.second]
    up = np.cross(seconds[:, 1] - seconds[:, 0], seconds[:, 2] - seconds[:, 0])
    up /= np.linalg.norm(up, axis=1, keepdims=True)
    # a two-sided thing that shows its back is seen from where what it lies on looks to
    firsts = flat.corners[found.first]
    ahead = np.cross(firsts[:, 1] - firsts[:, 0], firsts[:, 2] - firsts[:, 0])
    up[(np.einsum("ki,ki->k", ahead, up) < 0) & ~two_sided[found.first]] *= -1
    return {
        "pair": pair,
        "triangles": np.column_stack([every.local[one], every.local[other]]),
        "area": found.area * metres**2,
        "height": np.einsum("ki,ki->k", found.middle - corners[one, 0], up) * metres
        + np.einsum("ki,ki->k", flat.corners[found.second, 0] - found.middle, up) * metres,
        "up": up,
    }, {}


def mirrored_right(corners: F64, part: I64, world: F64) -> F64:
    """The corners in the order in which a mirrored part shows them."""
    out = corners.copy()
    turn = (determinants(world[:, :3, :3]) < 0)[part]
    out[turn] = corners[turn][:, ::-1]
    return out


def within(scene: Scene, workshop: Workshop, tell: Tell, wanted: Bool) -> tuple[dict[int, Overlaps], dict[int, str]]:
    """Overlaps within the wanted meshes (M,), areas and distances in their own units; and of which they could not be
    found out. Triangles that stand exactly on another are left to the check of repeated ones."""
    drawn = Drawn(scene)
    metres = scales(scene)
    asked = np.flatnonzero(wanted & (scene.triangle_counts > 0))
    # where nothing of it changed one look says so: to ask of each mesh by itself costs more than most of them do
    kinds = drawn.stands_for(wanted)[asked]
    surfaces = "".join(scene.meshes[i].surface_id for i in asked.tolist())
    content = digest_of([asked, surfaces, kinds, metres[asked]])
    told: dict[int, Overlaps] = {}
    lost: dict[int, str] = {}

    def each() -> dict[str, AnyArray] | str:
        kind = dict(zip(asked.tolist(), kinds.tolist(), strict=True))
        some, unknown = asked_within(scene, workshop, tell, drawn, kind)
        told.update(some)
        lost.update(unknown)
        return "not kept: it is asked again" if unknown else as_columns(some)

    found = asked_again(workshop, WITHIN.name, WITHIN.version, content, each)
    return (told, lost) if isinstance(found, str) else (from_columns(found), {})


def as_columns(found: Mapping[int, Overlaps]) -> dict[str, AnyArray]:
    """Overlaps by mesh as arrays: those of Overlaps, and `mesh`."""
    mesh = np.repeat(np.array(list(found), np.int64), [len(o.first) for o in found.values()])
    every = [NO_OVERLAPS, *found.values()]
    columns = {k: np.concatenate([getattr(o, k) for o in every]) for k in Overlaps.__dataclass_fields__}
    return {"mesh": mesh, **columns}


def from_columns(columns: Mapping[str, AnyArray]) -> dict[int, Overlaps]:
    """The same back; those of a mesh stand together."""
    whole = Overlaps(*(np.asarray(columns[k]) for k in Overlaps.__dataclass_fields__))
    mesh = np.asarray(columns["mesh"])
    runs = np.split(np.arange(len(mesh)), np.flatnonzero(np.diff(mesh)) + 1) if len(mesh) else []
    return {int(mesh[run[0]]): whole.some(run) for run in runs}


def asked_within(
    scene: Scene, workshop: Workshop, tell: Tell, drawn: Drawn, kind: Mapping[int, int]
) -> tuple[dict[int, Overlaps], dict[int, str]]:
    """The same of these meshes, each by itself. kind: by mesh, as of `Drawn.stands_for`."""
    metres = {i: metre for i, metre in enumerate(scales(scene).tolist()) if i in kind}

    def arrays(mesh: Mesh) -> dict[str, AnyArray]:
        sides = drawn.of(mesh).astype(np.int32)
        return {"positions": mesh.positions, "indices": mesh.indices, "material": sides}

    told = {metre: {"metres": float(f"{metre:.3g}")} for metre in set(metres.values())}

    def piece(i: int) -> Piece:
        mesh = scene.meshes[i]
        content = f"{mesh.surface_id}{kind[i]:x}"
        return Piece(content, WhenAsked(partial(arrays, mesh)), told[metres[i]], size=mesh.triangles)

    out: dict[int, Overlaps] = {}
    lost: dict[int, str] = {}
    recalled = {i: workshop.recalled(scene.meshes[i]) for i in kind}
    how = {i: ("overlaps", kind[i], metres[i]) for i in kind}
    fresh = [i for i in kind if how[i] not in recalled[i]]
    for i, outcome in zip(fresh, workshop.do(WITHIN, [piece(i) for i in fresh], tell), strict=True):
        if isinstance(outcome, Done):
            recalled[i][how[i]] = outcome
        else:
            lost[i] = f"“{scene.meshes[i].name or scene.meshes[i].id[:8]}”: {outcome.reason}"
    for i in kind:
        if i not in lost and (known := recalled[i][how[i]]).arrays:
            out[i] = Overlaps(**{k: np.asarray(v) for k, v in known.arrays.items()})
    return out, lost


def onto_itself(mesh: Mesh, found: Overlaps) -> Bool:
    """(K,) whether both triangles of an overlap within a mesh are of one shell, which can only be lifted as a whole."""
    label = shells_of(mesh).label
    out: Bool = label[found.first] == label[found.second]
    return out


def covered_in(mesh: Mesh, found: Overlaps) -> Bool:
    """(F,) triangles that others of the mesh cover whole; of two that cover each other the one that fewer neighbours agree
    with, or the later one."""
    area = np.linalg.norm(face_vectors(mesh.positions, mesh.indices), axis=1) / 2
    # the one that stays comes first: larger, in agreement, earlier
    rank = np.empty(mesh.triangles, np.int64)
    size = -np.round(np.log(np.maximum(area, 1e-300)), 6)  # the same from whichever corner it is reckoned
    rank[np.lexsort((np.arange(mesh.triangles), -agreeing(mesh), size))] = np.arange(mesh.triangles)
    small = np.where(rank[found.first] > rank[found.second], found.first, found.second)
    out: Bool = (np.bincount(small, found.area, minlength=mesh.triangles) >= WHOLE * area) & (area > 0)
    return out


def within_mesh(arrays: Mapping[str, AnyArray], metres: float) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on one mesh: its overlaps with itself; nothing without any. The material is how it is drawn."""
    mesh: Mesh = mesh_of(arrays)
    rows = np.flatnonzero(~not_finite(mesh))
    rows = rows[~repeated(mesh.with_triangles(rows))]
    corners = mesh.positions.astype(np.float64)[mesh.indices[rows]]
    box = mesh.bounds
    apart, width = limits(np.full(len(rows), float(np.linalg.norm(box[1] - box[0]))), metres)
    two_sided = seen_from_both(Table.of([mesh]), mesh.material.astype(np.uint8))[rows]
    flat = Flat(corners, np.zeros(len(rows), np.int64), None, two_sided)
    found = overlapping(flat, apart, width)
    if not len(found.first):
        return {}, {}
    return {
        "first": rows[found.first],
        "second": rows[found.second],
        "area": found.area,
        "distance": found.distance,
        "middle": found.middle,
    }, {}


def within_meshes(pieces: Sequence[Piece]) -> list[Done | None]:
    """Work: the same of many small meshes at once, where none of their triangles stands twice."""
    out: list[Done | None] = [None] * len(pieces)
    for rows, lot in lots_of([p.arrays for p in pieces]):
        metres = np.array([float(pieces[k].parameters["metres"]) for k in rows])
        apart, width = (values[lot.of_face] for values in limits(lot.diagonal, metres))
        table = Table(lot.all.positions, lot.local, lot.vertex, lot.face)
        two_sided = seen_from_both(table, lot.all.material.astype(np.uint8))
        corners = lot.all.positions.astype(np.float64)[lot.all.indices]
        found = overlapping(Flat(corners, lot.of_face, None, two_sided), apart, width)
        mesh = lot.of_face[found.first]
        order = np.argsort(mesh, kind="stable")
        ends = np.searchsorted(mesh[order], np.arange(len(rows) + 1))
        for i in np.flatnonzero(lot.apart).tolist():
            if ends[i] == ends[i + 1]:
                out[rows[i]] = Done({}, {})
                continue
            own, begin = found.some(order[ends[i] : ends[i + 1]]), lot.face[i]
            pairs = {"first": own.first - begin, "second": own.second - begin}
            out[rows[i]] = Done({**pairs, "area": own.area, "distance": own.distance, "middle": own.middle}, {})
    return out
