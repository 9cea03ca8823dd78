"""Which side of an open sheet is meant to be seen: rays from both its sides, and what they get to.

A room is seen from inside, a building from outside, a thin sheet from both. Rays with cosine weight start on either
side of points spread over each sheet (after Takayama et al., A Simple Method for Correcting Facet Orientations in
Polygon Meshes Based on Ray Casting, 2014). Closed shells have a volume that says it better and are left aside.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field, fields, replace
from enum import IntEnum
from functools import cached_property
from typing import Any

import numpy as np

from tidy_caravan.core.geometry.faults import degenerate
from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.rays import Caster, over_hemispheres, spread_over
from tidy_caravan.core.geometry.shells import backed
from tidy_caravan.core.geometry.winding import agreed_shells, sides_of
from tidy_caravan.core.pace import Tell
from tidy_caravan.core.scene import HIDDEN, Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, Bool
from tidy_caravan.core.space.axes import axis_vector
from tidy_caravan.core.space.site import together
from tidy_caravan.core.space.transforms import affine_inverse
from tidy_caravan.core.surroundings.world import Table, about, middle_of, placed, two_sided_slots
from tidy_caravan.core.work.heavy import Done, Piece, Work, Workshop

LOADS = ("embreex.rtcore_scene", "embreex.mesh_construction", "scipy.sparse.csgraph", "scipy.spatial", "shapely")
SIDES = Work("visible sides", 12, f"{__name__}:seen_sides", memory=6 << 30)
SAMPLES = 40
RAYS = 10
INSTANCES = 6
"""Parts of one mesh that are looked at …"""
MOST_QUICK = 2000
"""… and further ones that are looked at in passing; the others are taken to stand alike …"""
QUICK = (8, 4)
"""… by so many places and rays from each, which tell whether one may stand the other way round."""
MOST_SHEETS = 200
"""Sheets of one mesh that are looked at, the largest; of thousands of leaves no one asks each."""
MOST_TRIANGLES = 8_000_000
"""World triangles that rays can meet; parts beyond, the smallest, are left out of their way."""
CRAMPED_M = 1.0
"""Mean way from which on people fit between surfaces that let no ray out; within a crate or a cupboard nobody looks …"""
CRACKS = 0.01
"""… nor through joints that let this part of the rays out."""
VIEWERS = 24
ROOM_M = (2.0, 1.9)
"""Width and height from which on an open shell may be a room."""
SMALL = 0.6
"""Times the size of a sheet below which something is a thing in its room, and no wall of it."""
CONTENT_M = 0.25
"""Size from which on a thing in a shell says that people are meant to be there."""
REACH_M = 2.0
"""A way this long, or as long as the sheet is large, counts as open space …"""
FAR_M = 10.0
"""… and this long in any case, if it does not end on the ground that is thought below everything. Ways count no further."""
AWAY = 1e-4
"""Where rays start, as a part of the sheet's size off it."""


MOST_WALKED = 200
"""Sheets that people walk about in and around, of those whose front is in doubt."""
GRID = 8
EYE_M, HEAD_M = 1.6, 1.9
"""Height of an eye above the floor, and of what has to be free above it."""
AROUND_M = 2.0
TERRAIN = 1.5
"""Times the size of a shell from which on a floor within it is the ground that it stands on."""
GLIMPSE = 0.2
"""Part of a sheet that has to be seen from a walk to count …"""
UNSEEN = 0.02
"""… and up to which a side is not seen."""
OUTDOORS = 3.0
"""Times the size of a sheet from which on what its rays meet may be the ground, or another building."""
INDOORS = 0.15
"""Part of the rays that get outdoors up to which a space is a room; on the other side of its walls twice that do."""
WALLS = 0.12
"""Part of the rays from which on there are walls: a roof over a block encloses no room …"""
AGREED = 0.6
"""… and part of what is around one that must show it the same side for that to be meant."""
DEEP = 0.02
"""Part of the rays that get out of a space that people can walk into."""


class Verdict(IntEnum):
    """What the rays say of a sheet. The front is the side that the most of its area looks to."""

    HIDDEN = 0
    RIGHT = 1
    WRONG = 2
    BOTH = 3
    """Seen from both sides."""
    UNCLEAR = 4
    """More likely seen from behind, but a person is to say: an empty room, or a building."""


class Reason(IntEnum):
    """What a verdict goes by."""

    WAYS = 0
    CONTENT = 1
    WALKED = 2
    CAMERA = 3
    BESIDE = 4
    TOGETHER = 5


@dataclass(frozen=True)
class SeenSides:
    """(K,) sheets: mesh, number of the sheet in it, verdict. part: (K,) the node whose sheet it is, -1 for all parts of the
    mesh: they are told apart where one of them shows its back and another does not. way: (K, 2) how far rays of either side
    go on average, front first, in metres, FAR_M at most. why: (K,) a Reason. rays: (K,) how many started on each side.
    triangles: (K,)."""

    mesh: I64
    sheet: I64
    part: I64
    verdict: I64
    way: F64
    why: I64
    rays: I64
    triangles: I64
    left_out: int = 0
    """Sheets that were not looked at, being too many in their mesh."""

    def of(self, *verdicts: Verdict) -> Bool:
        return np.isin(self.verdict, verdicts)


NONE = np.zeros(0, np.int64)
NOTHING = SeenSides(NONE, NONE, NONE, NONE, np.zeros((0, 2)), NONE, NONE, NONE)


def open_sheets(mesh: Mesh) -> tuple[I64, int]:
    """(F,) which open sheet each triangle belongs to, largest area first, and how many there are; -1 in closed shells, and
    in sheets that have their other side in the mesh, which are seen from everywhere, and for triangles without area."""
    sides = sides_of(mesh)
    if not mesh.triangles:
        return np.zeros(0, np.int64), 0
    shells = agreed_shells(mesh)
    if shells.closed.all():
        return np.full(mesh.triangles, -1, np.int64), 0
    # what has no area has no side to be seen
    open_ = ~shells.closed[shells.label] & ~sides.one_sided[sides.label] & ~degenerate(mesh)
    open_ &= (np.bincount(sides.label, ~backed(mesh)) > 0)[sides.label]
    area = np.linalg.norm(face_vectors(mesh.positions, mesh.indices), axis=1)
    sheets, number = np.unique(sides.label[open_], return_inverse=True)
    size = np.bincount(number.reshape(-1), area[open_], minlength=len(sheets))
    rank = np.empty(len(sheets), np.int64)
    rank[np.argsort(-size, kind="stable")] = np.arange(len(sheets))
    out = np.full(mesh.triangles, -1, np.int64)
    out[open_] = rank[number.reshape(-1)]
    return out, len(sheets)


def seen(scene: Scene, workshop: Workshop, tell: Tell, wanted: Bool) -> SeenSides | str:
    """What can be seen of the open sheets of the meshes (M,) that are wanted; a sentence where that failed.

    Sheets of two-sided materials are nobody's question and left aside. O(triangles log triangles + rays).
    """
    nodes = scene.nodes
    two_sided = two_sided_slots(scene)
    asked = wanted & ~scene.by_slots(lambda slots: bool(two_sided[list(slots)].all()))
    rows = nodes.parts
    rows = rows[(nodes.flags[rows] & HIDDEN) == 0]
    if not asked.any() or not asked[nodes.mesh[rows]].any():
        return NOTHING
    triangles = scene.triangle_counts[nodes.mesh[rows]]
    sampled = asked[nodes.mesh[rows]] & (nth_of_kind(nodes.mesh[rows]) < INSTANCES)
    # what is looked at stays; of the rest the largest parts do, as far as there is room
    boxes = scene.part_bounds[np.searchsorted(nodes.parts, rows)]
    size = np.linalg.norm(boxes[:, 1] - boxes[:, 0], axis=1)
    order = np.lexsort((-size, ~sampled))
    some = np.sort(order[np.cumsum(triangles[order]) <= max(MOST_TRIANGLES, int(triangles[order[0]]))])
    sampled, size, boxes, rows = sampled[some], size[some], boxes[some], rows[some]
    used, mesh = np.unique(nodes.mesh[rows], return_inverse=True)
    middle = middle_of(scene)
    near = together(boxes, scene.convention.metres_per_unit)
    arrays = {
        **Table.of([scene.meshes[i] for i in used.tolist()]).arrays(),
        "mesh": mesh.reshape(-1).astype(np.int64),
        "world": about(nodes.world[rows], middle),
        "both": np.array([two_sided[list(scene.meshes[i].slots)].all() for i in used.tolist()], np.bool_),
        "sampled": sampled,
        "size": size,
        "middles": boxes.mean(axis=1) - middle,
        "near": near,
        "cameras": nodes.world[nodes.camera >= 0, :3, 3][:VIEWERS] - middle,
        "lamps": nodes.world[lamps(scene), :3, 3][:VIEWERS] - middle,
    }
    digest = hashlib.blake2b("".join(scene.meshes[i].surface_id for i in used.tolist()).encode(), digest_size=16)
    for name in ("mesh", "world", "both", "sampled", "near", "cameras", "lamps"):
        digest.update(np.ascontiguousarray(arrays[name]).data)
    up = axis_vector(scene.convention.up)
    parameters = {"up": up.tolist(), "metres": scene.convention.metres_per_unit}
    count = int(triangles.sum())
    piece = Piece(digest.hexdigest(), arrays, parameters, seconds=60.0 + count / 20_000, size=count)
    outcome = workshop.do(SIDES, [piece], tell)[0]
    if not isinstance(outcome, Done):
        return outcome.reason
    made = {k: np.asarray(v) for k, v in outcome.arrays.items()}
    made["mesh"] = used[made["mesh"]]
    made["part"] = np.where(made["part"] >= 0, rows[made["part"]], -1)
    return SeenSides(**made, left_out=int(outcome.figures["left_out"]))


def lamps(scene: Scene) -> Bool:
    """(N,) True for lights that stand somewhere; of a sun only the direction counts."""
    near = np.array([light.kind != "directional" for light in scene.lights] + [False])
    out: Bool = near[scene.nodes.light]
    return out


def nth_of_kind(kinds: AnyArray) -> I64:
    """(N,) how many of the same kind come before each, by a shuffle that is the same every time."""
    shuffled = np.random.default_rng(0).permutation(len(kinds))
    out = np.empty(len(kinds), np.int64)
    out[shuffled] = nth_of_equals(kinds[shuffled])
    return out


def nth_of_equals(kinds: AnyArray) -> I64:
    """(N,) how many of the same kind come before each."""
    order = np.argsort(kinds, kind="stable")
    begins = np.flatnonzero(np.concatenate([[True], kinds[order][1:] != kinds[order][:-1]]))
    out = np.empty(len(kinds), np.int64)
    out[order] = np.arange(len(kinds)) - np.repeat(begins, np.diff(np.append(begins, len(kinds))))
    return out


def seen_sides(
    arrays: Mapping[str, AnyArray], up: list[float], metres: float
) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work: see `seen`. What each sheet's rays got to, and the verdict on it."""
    table = Table(*(arrays[k] for k in ("positions", "indices", "vertex", "face")))
    mesh, world, sampled = arrays["mesh"], arrays["world"], arrays["sampled"]
    world_up = np.array(up)
    # one number for every open sheet of every mesh that is looked at
    sheet = np.full(len(table.indices), -1, np.int64)
    front = np.zeros(len(table.indices), np.bool_)  # turned against most of its sheet
    owner: list[int] = []
    number: list[int] = []
    boxes: list[F64] = []
    left_out = total = 0
    for m in np.unique(mesh[sampled]).tolist():
        rows = slice(int(table.face[m]), int(table.face[m + 1]))
        own = Mesh(
            table.positions[table.vertex[m] : table.vertex[m + 1]],
            table.indices[rows].astype(np.uint32),
            np.zeros(int(table.face[m + 1] - table.face[m]), np.int32),
        )
        label, count = open_sheets(own)
        left_out += max(0, count - MOST_SHEETS)
        label[label >= MOST_SHEETS] = -1
        count = min(count, MOST_SHEETS)
        if not count:
            continue
        front[rows] = sides_of(own).minor
        sheet[rows] = np.where(label >= 0, label + total, -1)
        corners = own.positions.astype(np.float64)[own.indices]
        low, high = np.full((count, 3), np.inf), np.full((count, 3), -np.inf)
        np.minimum.at(low, label[label >= 0], corners.min(axis=1)[label >= 0])
        np.maximum.at(high, label[label >= 0], corners.max(axis=1)[label >= 0])
        boxes.append(np.stack([low, high], axis=1))
        owner += [m] * count
        number += range(count)
        total += count
    if not total:
        return {f.name: getattr(NOTHING, f.name) for f in fields(NOTHING) if f.name != "left_out"}, {"left_out": 0}
    every = placed(table, mesh, world)
    rays = Rays(table, every, mesh, world, arrays, sheet, front, np.concatenate(boxes), world_up, metres)
    part, of, each = rays.cast(sampled)
    tally = each.summed(of, total)
    rays.walk(tally, np.flatnonzero(empty_room(tally))[:MOST_WALKED])
    rays.walk(tally, np.flatnonzero(hollow(tally))[:MOST_WALKED])
    verdict, why = judged(tally)
    apart, places = rays.told_apart(tally, Places(part, of, each), np.array(owner))
    whole = np.setdiff1d(np.arange(total), apart)
    sheets = np.concatenate([whole, places.sheet])
    both = tally.chosen(whole).followed_by(places.tally)
    triangles = np.bincount(sheet[sheet >= 0], minlength=total)
    return {
        "mesh": np.array(owner, np.int64)[sheets],
        "sheet": np.array(number, np.int64)[sheets],
        "part": np.concatenate([np.full(len(whole), -1), places.part]),
        "verdict": np.concatenate([verdict[whole], places.verdict]),
        "way": both.way / np.maximum(both.rays, 1)[:, None],
        "why": np.concatenate([why[whole], places.why]),
        "rays": both.rays.astype(np.int64),
        "triangles": triangles.astype(np.int64)[sheets],
    }, {"left_out": left_out}


@dataclass
class Tally:
    """Per sheet, or place of one, (K,) and side (K, 2), front first. rays: cast on each side. out: that left the sheet's own
    box into the open. reach: ways they went, 1 for a free one. way: the same in metres. sky: that met nothing, nor the
    ground. own: that met the sheet itself. content: that met a part much smaller than the sheet, in its own box. outdoors:
    that met nothing, the ground, or something so large that it may be. fronts, backs: that met what else is about as large
    and one-sided, on the side that is drawn and on the other. walls: of these, on what is upright. things: that met a part
    much smaller than the sheet, wherever. points, camera, lamp, within: places, those that see a camera, a lamp, and either
    of them in the sheet's own box. room: of a room's size."""

    rays: F64
    out: F64
    reach: F64
    way: F64
    sky: F64
    own: F64
    content: F64
    outdoors: F64
    fronts: F64
    backs: F64
    walls: F64
    things: F64
    points: F64
    camera: F64
    lamp: F64
    within: F64
    room: Bool
    walked: Bool
    """(K, 2) whether people who walk about see it: from within its box, from around it."""
    sights: F64
    """(K, 2) which part of each side they see; zero where nobody was let walk."""

    @classmethod
    def over(cls, count: int) -> Tally:
        def two() -> F64:
            return np.zeros((count, 2))

        made: dict[str, Any] = {f.name: two() for f in fields(cls)}
        one = {"rays": np.zeros(count), "points": np.zeros(count), "room": np.zeros(count, np.bool_)}
        return cls(**{**made, **one, "walked": np.zeros((count, 2), np.bool_)})

    def chosen(self, which: I64 | Bool) -> Tally:
        return Tally(**{f.name: getattr(self, f.name)[which] for f in fields(self)})

    def followed_by(self, other: Tally) -> Tally:
        return Tally(**{f.name: np.concatenate([getattr(self, f.name), getattr(other, f.name)]) for f in fields(self)})

    def summed(self, sheet: I64, count: int) -> Tally:
        """Of places, whose sheets are given, by sheet."""
        out = Tally.over(count)
        for f in fields(self):
            values = getattr(self, f.name)
            (np.logical_or if values.dtype == bool else np.add).at(getattr(out, f.name), sheet, values)
        return out

    def as_walked(self, other: Tally, sheet: I64) -> Tally:
        """Of places, with what people saw of their sheets."""
        return replace(self, walked=other.walked[sheet], sights=other.sights[sheet])


@dataclass
class Places:
    """(K,) sheets in parts, what their rays got to, and the verdict on each."""

    part: I64
    sheet: I64
    tally: Tally
    verdict: I64 = field(default_factory=lambda: NONE)
    why: I64 = field(default_factory=lambda: NONE)

    def chosen(self, which: Bool) -> Places:
        return Places(
            self.part[which], self.sheet[which], self.tally.chosen(which), self.verdict[which], self.why[which]
        )

    def followed_by(self, other: Places) -> Places:
        columns = ((getattr(self, n), getattr(other, n)) for n in ("part", "sheet", "verdict", "why"))
        part, sheet, verdict, why = map(np.concatenate, columns)
        return Places(part, sheet, self.tally.followed_by(other.tally), verdict, why)


@dataclass
class Rays:
    """Casts from the sheets of all sampled parts."""

    table: Table
    every: Any
    mesh: I64
    world: F64
    arrays: Mapping[str, AnyArray]
    sheet: I64
    against: Bool
    boxes: F64
    up: F64
    metres: float

    @cached_property
    def back(self) -> F64:
        """(P, 3, 3) from the world to each part, turned and scaled."""
        return affine_inverse(self.world)[:, :3, :3]

    @cached_property
    def caster(self) -> Caster:
        """Built once: that takes longer than all the rays."""
        return Caster(self.every.points, self.every.faces)

    @cached_property
    def lowest(self) -> float:
        """Height of the ground that the scene stands on: its lowest place, but for what lies far from all others."""
        near = self.arrays["near"]
        heights = self.every.points @ self.up
        if not near.all():
            heights = heights[self.every.faces[near[self.every.part]]]
        return float(heights.min())

    @cached_property
    def triangle(self) -> I64:
        """(F,) of each triangle in the world the one of its mesh."""
        out: I64 = self.table.face[self.mesh[self.every.part]] + self.every.local
        return out

    @cached_property
    def vectors(self) -> F64:
        """(F, 3) area vectors of the triangles in the world, towards the side that is drawn. Mirrored parts show the side that
        their mesh does: the receiver turns the winding with the mirror."""
        corners = self.every.points[self.every.faces]
        out: F64 = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        out[np.linalg.det(self.world[self.every.part, :3, :3]) < 0] *= -1
        return out

    @cached_property
    def upright(self) -> Bool:
        """(F,) triangles in the world that are parts of a wall, rather than of a floor or a ceiling."""
        out: Bool = np.abs(self.vectors @ self.up) < 0.5 * np.linalg.norm(self.vectors, axis=1)
        return out

    def fronts(self, face: I64) -> F64:
        """(N, 3) unit vectors of triangles in the world, towards the side that the most of their sheet looks to."""
        vectors = self.vectors[face]
        size = np.linalg.norm(vectors, axis=1)[:, None]
        out: F64 = np.where(self.against[self.triangle[face]][:, None], -vectors, vectors) / np.maximum(size, 1e-300)
        return out

    def cast(self, sampled: Bool, samples: int = SAMPLES, rays: int = RAYS) -> tuple[I64, I64, Tally]:
        """Rays from the sheets of the parts (P,) that are chosen: (K,) the part and the sheet of each place, and what its rays
        got to. samples: places on a sheet. rays: from each of them and on either side."""
        if not sampled.any():
            return NONE, NONE, Tally.over(0)
        caster = self.caster
        # a sheet in a part: numbered by the part's first sheet
        own = np.where(sampled[self.every.part], self.sheet[self.triangle], -1)
        place = np.where(own >= 0, self.every.part * len(self.boxes) + own, -1)
        places, label = np.unique(place, return_inverse=True)
        label = label.reshape(-1).astype(np.int64) - int(places[0] == -1)
        places = places[places >= 0]
        part_of, sheet_of = places // len(self.boxes), places % len(self.boxes)
        corners = self.every.points[self.every.faces]
        area = np.linalg.norm(self.vectors, axis=1)
        size = np.maximum(self.place_sizes(part_of, sheet_of), 1e-12)
        tally = Tally.over(len(places))
        self.note_rooms(tally, corners, label)
        # what is found of a sheet must not hang on which others are asked about: a mend asks about some of a survey's
        begin = nth_of_equals(sheet_of) * samples
        for some in range(0, len(places), 20_000):
            chosen = np.arange(len(places))[some : some + 20_000]
            within = np.where((label >= some) & (label < some + len(chosen)), label - some, -1)
            which, face, bary = spread_over(area, within, np.full(len(chosen), samples), begin[chosen])
            number = begin[chosen][which] + np.arange(len(which)) % samples
            which += some
            points = np.einsum("sk,ski->si", bary, corners[face])
            normals = self.fronts(face)
            for side in (0, 1):
                self.from_side(
                    tally, caster, self.lowest, label, sheet_of[which], part_of[which], which,
                    points, normals if side == 0 else -normals, size[which], number, side, rays,
                )  # fmt: skip
            np.add.at(tally.rays, which, rays)
            np.add.at(tally.points, which, 1)
        return part_of, sheet_of, tally

    def told_apart(self, tally: Tally, sampled: Places, owner: I64) -> tuple[I64, Places]:
        """Sheets of which one instance shows its back and another does not, and every place of theirs.

        tally: of the sheets (S,), with what was seen from walks. sampled: the places that were looked at. owner: (S,) their
        meshes. Further instances are looked at in passing, and whole where they may stand otherwise; the rest are taken to be
        seen like most of those that were looked at.
        """

        def judge(places: Places) -> Places:
            verdict, why = judged(places.tally.as_walked(tally, places.sheet))
            return replace(places, verdict=verdict, why=why)

        sampled = judge(sampled)
        right, wrong = (
            np.bincount(sampled.sheet[sampled.verdict == v], minlength=len(owner))
            for v in (Verdict.RIGHT, Verdict.WRONG)
        )
        decided = np.isin(self.mesh, owner[(right > 0) | (wrong > 0)])
        others = decided & ~self.arrays["sampled"] & (nth_of_kind(self.mesh) < MOST_QUICK)
        quick = Places(*self.cast(others, *QUICK))
        odd = stands_otherwise(quick.tally, tally, quick.sheet, right >= wrong)
        apart = np.union1d(np.flatnonzero((right > 0) & (wrong > 0)), quick.sheet[odd])
        whole = judge(Places(*self.cast(np.isin(np.arange(len(self.mesh)), quick.part[odd]))))
        most = np.where(right >= wrong, Verdict.RIGHT, Verdict.WRONG)[quick.sheet]
        like = replace(quick, verdict=most, why=np.full(len(most), Reason.WAYS))
        every = sampled.followed_by(whole).followed_by(like.chosen(~np.isin(quick.part, whole.part)))
        return apart, every.chosen(np.isin(every.sheet, apart))

    def from_side(
        self, tally: Tally, caster: Caster, floor: float, label: I64, sheet: I64, part: I64, place: I64, points: F64,
        normals: F64, size: F64, number: I64, side: int, rays: int,
    ) -> None:  # fmt: skip
        step = np.spacing(np.abs(points).max(axis=1).astype(np.float32)).astype(np.float64)
        start = points + normals * np.maximum(AWAY * size, 8 * step)[:, None]
        directions = over_hemispheres(normals, rays, number).reshape(-1, 3)
        origins = np.repeat(start, rays, axis=0)
        s, p, k = (np.repeat(a, rays) for a in (sheet, part, place))
        distance, hit = caster.first_hits(origins, directions)
        # the scene stands on a ground at its lowest place: what is below nobody sees
        down = directions @ self.up
        height = np.maximum(origins @ self.up - floor, 0.0)
        ground = np.where(down < 0, height / np.maximum(-down, 1e-12), np.inf)
        on_ground = ground < distance * (1 - 1e-5)  # a floor at the lowest place is a floor
        distance = np.minimum(distance, ground)
        far = np.maximum(np.repeat(size, rays), REACH_M / self.metres)
        # below a wide terrain is more room than below a ceiling, where something real to stand on is met
        far[~on_ground] = np.minimum(far[~on_ground], FAR_M / self.metres)
        leaves = distance > self.way_out(origins, directions, p, s)
        np.add.at(tally.out[:, side], k, leaves)
        np.add.at(tally.reach[:, side], k, np.minimum(distance / far, 1.0))
        np.add.at(tally.way[:, side], k, np.minimum(distance * self.metres, FAR_M))
        np.add.at(tally.sky[:, side], k, np.isinf(distance))
        met = np.where(on_ground, -1, hit)
        np.add.at(tally.own[:, side], k, (met >= 0) & (label[met] == k))
        other = self.every.part[met]
        large = self.arrays["size"][other]
        own_size = np.repeat(size, rays)
        outdoors = (met < 0) | (large > OUTDOORS * own_size)
        np.add.at(tally.outdoors[:, side], k, outdoors)
        around = ~outdoors & (other != p) & (large >= SMALL * own_size) & ~self.arrays["both"][self.mesh[other]]
        around = np.flatnonzero(around)
        np.add.at(tally.walls[:, side], k[around], self.upright[met[around]])
        towards = np.einsum("ni,ni->n", directions[around], self.vectors[met[around]]) < 0
        np.add.at(tally.fronts[:, side], k[around[towards]], 1)
        np.add.at(tally.backs[:, side], k[around[~towards]], 1)
        small = (met >= 0) & (other != p) & (large < SMALL * own_size) & (large * self.metres >= CONTENT_M)
        np.add.at(tally.things[:, side], k, small)
        small[small] = self.inside(self.arrays["middles"][other[small]], p[small], s[small])
        np.add.at(tally.content[:, side], k, small)
        for name in ("cameras", "lamps"):
            for viewer in self.arrays[name]:
                way = viewer - start
                long = np.linalg.norm(way, axis=1)
                facing = np.einsum("si,si->s", way, normals) > 0.05 * long
                rows = np.flatnonzero(facing)
                free, _ = caster.first_hits(start[rows], way[rows] / np.maximum(long[rows], 1e-12)[:, None])
                rows = rows[free >= long[rows] * (1 - 1e-5)]
                np.add.at((tally.camera if name == "cameras" else tally.lamp)[:, side], place[rows], 1)
                there = self.inside(np.broadcast_to(viewer, (len(rows), 3)), part[rows], sheet[rows])
                np.add.at(tally.within[:, side], place[rows[there]], 1)

    def walk(self, tally: Tally, sheets: I64) -> None:
        """Lets people walk about in and around these sheets, each in the first of its parts, and notes whether they see
        them, and which side: on floors within that are no terrain, and on whatever lies around, or the ground of the scene."""
        if not len(sheets):
            return
        caster = self.caster
        own = np.where(self.arrays["sampled"][self.every.part], self.sheet[self.triangle], -1)
        for k in sheets.tolist():
            rows = np.flatnonzero(own == k)
            part = int(self.every.part[rows[0]])
            rows = rows[self.every.part[rows] == part]
            corners = self.every.points[self.every.faces[rows]]
            low, high = corners.min(axis=(0, 1)), corners.max(axis=(0, 1))
            area = np.linalg.norm(self.vectors[rows], axis=1)
            _, face, bary = spread_over(area, np.zeros(len(rows), np.int64), np.array([SAMPLES]))
            points, normals = np.einsum("sk,ski->si", bary, corners[face]), self.fronts(rows[face])
            for which, spots in enumerate(self.spots(caster, low, high, self.lowest)):
                sides = self.glimpsed(caster, points, normals, spots, float(np.linalg.norm(high - low)))
                tally.walked[k, which] = sides.any(axis=0).mean() >= GLIMPSE
                tally.sights[k] = np.maximum(tally.sights[k], sides.mean(axis=1))

    def spots(self, caster: Caster, low: F64, high: F64, lowest: float) -> tuple[F64, F64]:
        """(N, 3) eyes of people within a box, and of people around it."""
        axis = int(np.argmax(np.abs(self.up)))
        sign = float(np.sign(self.up[axis]))
        a, b = (i for i in range(3) if i != axis)
        metre = 1 / self.metres
        down = np.broadcast_to(-self.up, (GRID * GRID, 3))
        share = (np.arange(GRID) + 0.5) / GRID
        u, v = (c.reshape(-1) for c in np.meshgrid(share, share))
        start = np.zeros((GRID * GRID, 3))
        start[:, a], start[:, b] = low[a] + u * (high[a] - low[a]), low[b] + v * (high[b] - low[b])
        start[:, axis] = (low[axis] + high[axis]) / 2
        far, hit = caster.first_hits(start, down)
        size = float(np.linalg.norm(high - low))
        floor = (hit >= 0) & (self.arrays["size"][self.every.part[hit]] <= TERRAIN * size)
        feet = start[floor] - self.up * far[floor][:, None]
        above, _ = caster.first_hits(feet + self.up * 0.1 * metre, np.broadcast_to(self.up, (len(feet), 3)))
        within = feet[above >= (HEAD_M - 0.1) * metre] + self.up * EYE_M * metre
        within = within[((within > low) & (within < high)).all(axis=1)]
        # around: from the height of the box down to whatever is there
        turn = 2 * np.pi * (np.arange(GRID * 2) + 0.5) / (GRID * 2)
        start = np.zeros((GRID * 2, 3))
        for i, wave in ((a, np.cos(turn)), (b, np.sin(turn))):
            start[:, i] = (low[i] + high[i]) / 2 + wave * ((high[i] - low[i]) / 2 * 1.45 + AROUND_M * metre)
        start[:, axis] = high[axis] if sign > 0 else low[axis]
        far, _ = caster.first_hits(start, np.broadcast_to(-self.up, start.shape))
        far = np.minimum(far, np.maximum(start @ self.up - lowest, 0.0))
        return within, start - self.up * far[:, None] + self.up * EYE_M * metre

    def glimpsed(self, caster: Caster, points: F64, normals: F64, spots: F64, size: float) -> Bool:
        """(2, S) which of the points (S, 3) are seen from one of the spots (N, 3), from the side of the normals (S, 3) and from
        the other."""
        if not len(spots):
            return np.zeros((2, len(points)), np.bool_)
        way = points[None] - spots[:, None]
        long = np.linalg.norm(way, axis=2)
        eyes = np.broadcast_to(spots[:, None], way.shape).reshape(-1, 3)
        free, _ = caster.first_hits(eyes, (way / np.maximum(long, 1e-12)[..., None]).reshape(-1, 3))
        seen_ = free.reshape(long.shape) >= long * (1 - 1e-5) - AWAY * size
        before = np.einsum("nsi,si->ns", way, normals) < 0
        return np.stack([(seen_ & before).any(axis=0), (seen_ & ~before).any(axis=0)])

    def way_out(self, origins: F64, directions: F64, part: I64, sheet: I64) -> F64:
        """(N,) how far it is to the outside of the sheet's own box, a twentieth larger than it is."""
        own = np.einsum("nij,nj->ni", self.back[part], origins - self.world[part, :3, 3])
        ahead = np.einsum("nij,nj->ni", self.back[part], directions)
        low, high = self.boxes[sheet, 0], self.boxes[sheet, 1]
        spare = 0.025 * np.linalg.norm(high - low, axis=1)[:, None]
        with np.errstate(divide="ignore", invalid="ignore"):
            t = np.where(ahead > 0, (high + spare - own) / ahead, (low - spare - own) / ahead)
        out: F64 = np.where(np.abs(ahead) > 1e-15, t, np.inf).min(axis=1)
        return out

    def inside(self, points: F64, part: I64, sheet: I64) -> Bool:
        """(N,) whether the points (N, 3) lie in the box of the sheet in that part."""
        own = np.einsum("nij,nj->ni", self.back[part], points - self.world[part, :3, 3])
        out: Bool = ((own > self.boxes[sheet, 0]) & (own < self.boxes[sheet, 1])).all(axis=1)
        return out

    def place_sizes(self, part: I64, sheet: I64) -> F64:
        """(P,) how large a sheet is where it stands."""
        span = self.boxes[sheet, 1] - self.boxes[sheet, 0]
        out: F64 = np.sqrt((np.linalg.norm(self.world[part, :3, :3] * span[:, None, :], axis=1) ** 2).sum(axis=1))
        return out

    def note_rooms(self, tally: Tally, corners: F64, label: I64) -> None:
        low, high = np.full((len(tally.rays), 3), np.inf), np.full((len(tally.rays), 3), -np.inf)
        rows = label >= 0
        np.minimum.at(low, label[rows], corners[rows].min(axis=1))
        np.maximum.at(high, label[rows], corners[rows].max(axis=1))
        span = (high - low) * self.metres
        axis = int(np.argmax(np.abs(self.up)))
        tally.room[:] = (np.delete(span, axis, axis=1).min(axis=1) >= ROOM_M[0]) & (span[:, axis] >= ROOM_M[1])


def shelter(t: Tally) -> tuple[I64, Bool, Bool, Bool]:
    """(K,) the side of each sheet that sees most of the sheet itself; (K,) whether it is a shell of a room's size,
    whether something is in it or looks from within, and whether that is more than a trace."""
    rays, points = np.maximum(t.rays, 1)[:, None], np.maximum(t.points, 1)[:, None]
    own = t.own / rays
    inside = np.argmax(own, axis=1)
    row = np.arange(len(own))
    content = (t.content / rays)[row, inside]
    watched = (t.within / points)[row, inside] >= 0.05
    # stairs see as much of themselves from either side
    room = t.room & (own.max(axis=1) >= 0.25) & (own.min(axis=1) < 0.5 * own.max(axis=1))
    return inside, room, (content > 0) | watched, (content >= 0.01) | watched


def empty_room(t: Tally) -> Bool:
    """(K,) shells of a room's size with nothing in them: a room, or a building."""
    _, room, lived_in, _ = shelter(t)
    return room & ~lived_in


def stands_otherwise(quick: Tally, looked_at: Tally, sheet: I64, right: Bool) -> Bool:
    """(K,) places whose ways are long on the other side than those of their sheet (S,) were where it was looked at. right:
    (S,) most of those show their front."""
    quick_way, way = (t.reach / np.maximum(t.rays, 1)[:, None] + 1e-3 for t in (quick, looked_at))
    front = np.where(right, 0, 1)[sheet]
    row = np.arange(len(sheet))
    here = quick_way[row, front] / quick_way[row, 1 - front]
    there = way[sheet, front] / way[sheet, 1 - front]
    out: Bool = (here < 0.5) & (here < 0.5 * there)
    return out


def hollow(t: Tally) -> Bool:
    """(K,) sheets around a hollow that is too low for a room and open to both sides: furniture, a car without a floor."""
    own = t.own / np.maximum(t.rays, 1)[:, None]
    out: Bool = ~t.room & (own.max(axis=1) >= 0.25) & seen_from(t).all(axis=1)
    return out


def seen_from(t: Tally) -> Bool:
    """(K, 2) whether rays from a side of a sheet get to where people or cameras are."""
    rays, points = np.maximum(t.rays, 1)[:, None], np.maximum(t.points, 1)[:, None]
    reach = t.reach / rays
    cramped = (t.sky <= CRACKS * rays) & (t.way / rays < CRAMPED_M)
    out: Bool = ((t.out / rays >= 0.10) & (reach >= 0.25 * reach[:, ::-1]) & ~cramped) | (t.camera / points >= 0.05)
    return out


def judged(t: Tally) -> tuple[I64, I64]:
    """(K,) the verdict on each sheet, as in Verdict, and (K,) what it goes by."""
    rays, points = np.maximum(t.rays, 1)[:, None], np.maximum(t.points, 1)[:, None]
    out, reach = t.out / rays, t.reach / rays
    camera, seen_ = t.camera / points, seen_from(t)
    inside, room, lived_in, surely = shelter(t)
    row = np.arange(len(rays))
    verdict = np.full(len(rays), Verdict.HIDDEN, np.int64)
    why = np.full(len(rays), Reason.WAYS, np.int64)

    def front(rows: Bool, side: I64, doubt: Bool, reason: Reason) -> None:
        wrong = np.where(doubt, Verdict.UNCLEAR, Verdict.WRONG)
        verdict[rows] = np.where(side == 0, Verdict.RIGHT, wrong)[rows]
        why[rows] = reason

    only = seen_[:, 0] ^ seen_[:, 1]
    ratio = reach.max(axis=1) / np.maximum(reach.min(axis=1), 1e-9)
    front(only, np.argmax(seen_, axis=1), (ratio < 1.6) & (out.min(axis=1) > 0.02), Reason.WAYS)
    verdict[seen_.all(axis=1)] = Verdict.BOTH
    sure = np.zeros(len(rays), np.bool_)
    # deep in a tunnel or a corridor few rays get out, and none behind its lining
    deep = np.argmax(out, axis=1)
    far = ~seen_.any(axis=1) & (out.max(axis=1) >= DEEP) & (out.min(axis=1) < 0.1 * out.max(axis=1))
    front(far & ((t.way / rays)[row, deep] >= CRAMPED_M), deep, sure, Reason.WAYS)
    # into a hollow close to the ground nobody looks who stands beside it
    told = (t.sights.max(axis=1) >= GLIMPSE) & ((t.sights < UNSEEN) & (camera < 0.01)).any(axis=1)
    told &= np.argmax(t.sights, axis=1) != inside  # from below into a roof is no look at its front
    front(seen_.all(axis=1) & told, 1 - inside, sure, Reason.BESIDE)
    # of several sheets that enclose a room, all show the same side to it; so does the one in question
    side = np.argmin(t.outdoors, axis=1)
    outdoors = t.outdoors / rays
    both = (verdict == Verdict.BOTH) & (outdoors.min(axis=1) <= INDOORS) & (outdoors.max(axis=1) >= 2 * INDOORS)
    both &= (t.way / rays)[row, side] >= CRAMPED_M
    fronts, backs = t.fronts[row, side], t.backs[row, side]
    both &= t.walls[row, side] >= WALLS * rays[:, 0]
    inward, outward = fronts >= AGREED * (fronts + backs), backs >= AGREED * (fronts + backs)
    used = ((t.things / rays)[row, side] >= 0.01) | ((t.lamp / points)[row, side] >= 0.05)
    front(both & inward, side, sure, Reason.TOGETHER)
    # drawn from outside, like all around it: a building, unless there is something in it
    front(both & outward & (used == (side == 1)), np.where(used, side, 1 - side), ~sure, Reason.TOGETHER)
    # a shell of a room's size with something in it is seen from inside; an empty one may be either
    front(room & lived_in, inside, ~surely, Reason.CONTENT)
    outside_open = out[row, 1 - inside] >= 0.10
    within, around = t.walked.T
    empty = room & ~lived_in
    front(empty & outside_open, 1 - inside, np.ones(len(rays), np.bool_), Reason.WAYS)
    # people who walk about on a floor of its own, and nobody around it: it may be a room after all, and is one where
    # its outside is not open either
    alone = empty & within & ~around
    verdict[alone & outside_open] = np.where(inside == 0, Verdict.RIGHT, Verdict.UNCLEAR)[alone & outside_open]
    why[alone & outside_open] = Reason.WALKED
    front(alone & ~outside_open, inside, sure, Reason.WALKED)
    # where cameras see one side alone, that one is meant
    for side in (0, 1):
        alone = (camera[:, side] >= 0.10) & (camera[:, 1 - side] < 0.01)
        front(alone, np.full(len(rays), side), sure, Reason.CAMERA)
    return verdict, why
