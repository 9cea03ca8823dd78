"""Steps: a first UV set where there is none, and a lightmap UV set for every part."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.faults import uv_areas
from tidy_caravan.core.geometry.lots import lots_of, uv_areas_of
from tidy_caravan.core.geometry.pose import drawn_worlds
from tidy_caravan.core.geometry.projection import box, box_project, cylindrical, planar
from tidy_caravan.core.geometry.stretched import as_it_looks, stretch_of, stretched_meshes, surface_scales
from tidy_caravan.core.lightmap.budget import BLOCK
from tidy_caravan.core.lightmap.unwrap import KEPT, LARGEST_MAP, UNWRAP, methods, time_limit
from tidy_caravan.core.pace import Tell, alive, paced
from tidy_caravan.core.scene import NO_LIGHTMAP, Axis, Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, I32, I64, AnyArray, Bool
from tidy_caravan.core.scene.look import repeats_per_unit
from tidy_caravan.core.selection import by_mesh, heavy_meshes
from tidy_caravan.core.steps.base import (
    Change,
    Phase,
    Step,
    StepContext,
    identities_of,
    parameter,
    per_mesh_work,
    replace_meshes,
    step,
)
from tidy_caravan.core.steps.make_room import bearers, room_for
from tidy_caravan.core.words import figure, plural
from tidy_caravan.core.work.heavy import Done, Outcome, Piece, Work, content_of
from tidy_caravan.core.work.isolation import Lost
from tidy_caravan.core.work.meshes import SOURCE, STALE, mesh_of

CUT = 0.02
"""Part of the length of its smooth edges along which a mesh's lightmap set is cut, from which on that is told."""
LISTED = 50
"""Meshes that are told one by one."""


PROJECTION = Work("projection", 4, f"{__name__}:projected", native=False)
RESCALED = Work("scale of a UV set", 4, f"{__name__}:rescaled", native=False, together=f"{__name__}:rescaled_many")
AXES = {"thinnest": None, "upright": None, "X": 0, "Y": 1, "Z": 2}
ALIKE = 1e-5
"""Difference of matrices, relative, within which instances are aligned alike."""


def projected(
    arrays: Mapping[str, AnyArray],
    by: str,
    along: str,
    up: Axis,
    frame: list[float],
    metres_per_repeat: float,
    hand: float,
) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on one mesh: a first UV set, and the vertices it needs. frame: 4 × 4, from the mesh to metres. hand: of
    `projection`."""
    mesh, matrix = mesh_of(arrays), np.array(frame).reshape(4, 4)
    if by == "box":
        made = box(mesh, matrix, up, metres_per_repeat, hand)
    else:
        made = (planar if by == "planar" else cylindrical)(mesh, matrix, up, metres_per_repeat, AXES[along], hand)
    return {SOURCE: made.source, "indices": made.indices, "uv0": made.uv, STALE: np.zeros(0)}, {}


@dataclass(frozen=True)
class Frame:
    """How a mesh is laid out. matrix: (4, 4) from it to metres. hand: of `projection`."""

    matrix: F64
    hand: float


@step
class FirstUvs(Step):
    """A first UV set by projection, its real-world size written into the coordinates.

    In alignment with the world, a mesh of one part is laid out where it stands; one of several parts that are turned
    alike gets the axes of the world, about its own origin, so that it stays shared; one of parts that are turned
    differently is laid out in its own axes, and told.
    """

    title = "First UV set"
    summary = "Box, planar or cylindrical projection at a real-world tile size, for parts that have no UV set."

    phase = Phase.COORDINATES
    once = False

    kind: Literal["first_uvs"] = "first_uvs"
    by: Literal["box", "planar", "cylindrical"] = parameter(
        "box", "Projection", "box: each face along its main axis; planar: all along one; cylindrical: wound about one"
    )
    metres_per_repeat: float = parameter(
        1.0, "Size of a repeat", "What one repeat of the texture measures in the world", "m", gt=0, le=10_000
    )
    along: Literal["thinnest", "upright", "X", "Y", "Z"] = parameter(
        "thinnest",
        "Axis",
        "Of planar and cylindrical projection; cylinders stand upright unless an axis is given",
        only={"by": ["planar", "cylindrical"]},
    )
    align: Literal["object", "world"] = parameter("object", "Aligned to", "The own axes of the part, or the world's")
    anew: bool = parameter(False, "Also where there is one", "Replace first UV sets that are there")

    def effects(self) -> tuple[Effect, ...]:
        return (Effect(Aspect.FIRST_UV), Effect(Aspect.TANGENTS), Effect(Aspect.SHARING))

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        chosen = context.selected(self.where, scene)

        def wanted(mesh: Mesh) -> bool:
            return mesh.triangles > 0 and (self.anew or not mesh.uvs)

        for_it = np.array([*map(wanted, scene.meshes), False])[scene.nodes.mesh]
        frames, notes = self.frames(scene, np.flatnonzero(chosen & for_it), alive(context.progress))

        def of(i: int, mesh: Mesh) -> dict[str, Any]:
            return {
                "by": self.by, "along": self.along, "up": scene.convention.up,
                "frame": np.round(frames[i].matrix, 9).reshape(-1).tolist(), "hand": frames[i].hand,
                "metres_per_repeat": self.metres_per_repeat,
            }  # fmt: skip

        done = per_mesh_work(scene, chosen, context, PROJECTION, of, wanted)
        if not done.changed.any():
            return scene, done.lost
        made = np.unique(scene.nodes.mesh[done.changed])
        names = {"box": "box", "planar": "planar", "cylindrical": "cylindrical"}
        text = f"{plural(len(made), 'mesh', 'meshes')} given a first UV set by {names[self.by]} projection"
        rows = np.flatnonzero(done.changed)
        told = [c for i, c in notes.items() if i in set(made.tolist())]
        return done.scene, [
            Change(text=text, count=len(made), parts=identities_of(scene, rows)),
            *merged_notes(scene, told),
            *done.lost,
        ]

    def frames(self, scene: Scene, rows: I64, tell: Tell) -> tuple[dict[int, Frame], dict[int, tuple[str, I64]]]:
        """By mesh how it is laid out, and what is to be said of it."""
        worlds, metres = drawn_worlds(scene), scene.convention.metres_per_unit
        right = 1.0 if scene.convention.handedness == "right" else -1.0
        out: dict[int, Frame] = {}
        notes: dict[int, tuple[str, I64]] = {}
        for i, users, size, middle in paced(list(in_the_middle(scene, rows)), tell):
            world = worlds[users]
            frame = np.eye(4)
            frame[:3, :3] = stretch_of(worlds[middle, :3, :3]) * metres
            hand = right if np.linalg.det(worlds[middle, :3, :3]) >= 0 else -right
            if len(users) > 1 and scaled_apart(world[:, :3, :3], size):
                notes[i] = ("parts are instances at different scales: a repeat measures differently on them", users)
            if self.align == "world":
                alike = np.abs(world[:, :3, :3] - world[0, :3, :3]).max() <= ALIKE * np.abs(world[0, :3, :3]).max()
                if alike:
                    frame[:3, :3], hand = world[0, :3, :3] * metres, right
                    if len(users) == 1:
                        frame[:3, 3] = world[0, :3, 3] * metres
                else:
                    notes[i] = ("parts share a mesh and are turned differently: laid out in their own axes", users)
            out[i] = Frame(frame, hand)
        return out, notes


def in_the_middle(scene: Scene, rows: I64) -> Iterator[tuple[int, I64, F64, int]]:
    """By mesh: the nodes (U,) of `rows` that draw it, the scales (U,) of their surfaces, and that node whose scale is the
    middle one."""
    mesh = scene.nodes.mesh[rows]
    order = np.argsort(mesh, kind="stable")
    sizes = surface_scales(scene, rows)[order]
    used, begin = np.unique(mesh[order], return_index=True)
    each = [np.split(a, begin[1:]) if len(order) else [] for a in (rows[order], sizes)]
    for i, users, size in zip(used.tolist(), *each, strict=True):
        yield i, users, size, int(users[np.argsort(size, kind="stable")[(len(size) - 1) // 2]])


def scaled_apart(linear: F64, size: F64) -> bool:
    """Whether instances (U, 3, 3) have scales by which a texture on them differs to be seen, as a whole or along an axis."""
    if size.max(initial=0.0) > SCALES_APART * max(float(size.min(initial=np.inf)), 1e-30):
        return True
    form = np.swapaxes(linear, 1, 2) @ linear
    apart = np.abs(form - form[0]).max(axis=(1, 2)) > (SCALES_APART**2 - 1) * np.abs(form[0]).max()
    return bool(apart.any())


SCALES_APART = 1.05
"""Ratio of the scales of two instances from which on their textures differ to be seen."""


def merged_notes(scene: Scene, told: list[tuple[str, I64]]) -> list[Change]:
    """One line for each kind of note."""
    out = []
    for text in dict.fromkeys(t for t, _ in told):
        rows = np.concatenate([r for t, r in told if t == text])
        out.append(Change(text=f"{len(rows)} {text}", count=len(rows), parts=identities_of(scene, rows)))
    return out


def rescaled_many(pieces: Sequence[Piece]) -> list[Outcome | None]:
    """Work: the same of many small meshes whose set is scaled as a whole."""
    out: list[Outcome | None] = [None] * len(pieces)
    for rows, lot in lots_of([p.arrays for p in pieces]):
        for k, areas in zip(rows, uv_areas_of(lot), strict=True):
            if not pieces[k].parameters["slots"]:
                factor = factor_of(np.array(areas).reshape(-1, 4), **pieces[k].parameters)
                out[k] = Done(*scaled(pieces[k].arrays["uv0"], factor))
    return out


def factor_of(areas: F64, metres: float, metres_per_repeat: float, slots: list[int], repeats: list[float]) -> float:
    """By how much the coordinates of a mesh grow, see `rescaled`: 0 where it has no area, 1 where it has that size. areas: as of
    `uv_areas`."""
    areas[:, 1] *= repeats
    _, flat, solid, _ = areas[np.isin(areas[:, 0], slots or areas[:, 0])].sum(axis=0)
    if not flat or not solid:
        return 0.0
    # to as many digits as do not depend on what it was asked together with
    factor = float(f"{np.sqrt(solid) * metres / metres_per_repeat / np.sqrt(flat):.9g}")
    return 1.0 if abs(factor - 1) < 1e-4 else factor


def scaled(uv: AnyArray, factor: float) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """What comes of a set that grows as a whole."""
    made = {} if factor in (0.0, 1.0) else {"uv0": (uv.astype(np.float64) * factor).astype(np.float32)}
    return made, {"factor": factor}


def rescaled(
    arrays: Mapping[str, AnyArray], metres: float, metres_per_repeat: float, slots: list[int], repeats: list[float]
) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on one mesh: its first UV set made larger or smaller; nothing where it has that size. metres: of a unit. slots:
    those that it is for, all where there are none; what they share with others gets vertices of its own. repeats: for each
    slot of the mesh in order, see `repeats_per_unit`."""
    mesh = mesh_of(arrays)
    factor = factor_of(uv_areas(mesh), metres, metres_per_repeat, slots, repeats)
    mine = np.isin(mesh.material, slots) if slots else np.ones(mesh.triangles, np.bool_)
    if mine.all() or factor in (0.0, 1.0):
        return scaled(mesh.uvs[0], factor)
    uv, figures = mesh.uvs[0].astype(np.float64), {"factor": factor}
    inner = np.unique(mesh.indices[mine])
    shared = np.intersect1d(inner, mesh.indices[~mine])
    number = np.arange(mesh.vertices)
    number[shared] = mesh.vertices + np.arange(len(shared))
    source = np.concatenate([np.arange(mesh.vertices), shared])
    indices = np.where(mine[:, None], number[mesh.indices], mesh.indices).astype(np.uint32)
    uv = uv[source]
    uv[number[inner]] *= factor
    return {SOURCE: source, "indices": indices, "uv0": uv.astype(np.float32)}, figures


@step
class TextureScale(Step):
    """Makes first UV sets larger or smaller, as a whole or where they show one material, so that a repeat measures the same
    everywhere.

    The layout stays as it was made. Of instances at different scales the middle one gets it right.
    """

    title = "Texture scale"
    summary = "Scales first UV sets so that one repeat measures the same on all chosen parts."

    phase = Phase.COORDINATES
    once = False

    kind: Literal["texture_scale"] = "texture_scale"
    metres_per_repeat: float = parameter(
        1.0, "Size of a repeat", "What one repeat of the texture measures in the world", "m", gt=0, le=10_000
    )
    material: str = parameter(
        "", "Material", "Name of the material whose surface it is for; all of a set is scaled alike where none is named"
    )

    def effects(self) -> tuple[Effect, ...]:
        return (Effect(Aspect.FIRST_UV), Effect(Aspect.SHARING))

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        chosen = context.selected(self.where, scene)
        rows = np.flatnonzero(chosen & (scene.nodes.mesh >= 0))
        middle = {i: float(np.sort(size)[(len(size) - 1) // 2]) for i, _, size, _ in in_the_middle(scene, rows)}

        def of(i: int, mesh: Mesh) -> dict[str, Any]:
            metres = (middle[i] if middle[i] > 0 else 1.0) * scene.convention.metres_per_unit
            slots = sorted(named.intersection(mesh.slots))
            return {
                "metres": float(f"{metres:.9g}"),
                "metres_per_repeat": self.metres_per_repeat,
                "slots": slots,
                "repeats": [repeats[k] for k in sorted(mesh.slots)],
            }

        repeats = [*map(repeats_per_unit, scene.materials), 1.0]  # the last for no material, -1

        named = {k for k, m in enumerate(scene.materials) if self.material and m.name == self.material}

        def wanted(mesh: Mesh) -> bool:
            return bool(mesh.uvs) and mesh.triangles > 0 and (not self.material or bool(named & set(mesh.slots)))

        done = per_mesh_work(scene, chosen, context, RESCALED, of, wanted)
        rows = np.flatnonzero(done.changed)
        if not len(rows):
            return scene, done.lost
        factors = [float(f["factor"]) for f in done.figures.values() if f["factor"] not in (0.0, 1.0)]
        text = f"{plural(len(factors), 'first UV set')} scaled by {min(factors):.3g} to {max(factors):.3g}"
        return done.scene, [Change(text=text, count=len(factors), parts=identities_of(scene, rows)), *done.lost]


@step
class LightmapUvs(Step):
    """Unwraps every unique mesh once and gives all its instances the result, verified by measuring."""

    title = "Lightmap UV set"
    summary = "A second UV set without overlaps inside 0–1, with padding in texels; once per shared mesh."

    phase = Phase.LIGHT

    kind: Literal["lightmap_uvs"] = "lightmap_uvs"
    resolution: int = parameter(256, "Resolution", "Along one edge of the map", "texels", ge=16, le=4096)
    padding_texels: int = parameter(4, "Padding", "Least distance between islands", "texels", ge=1, le=64)
    keep_good: bool = parameter(True, "Keep good sets", "Leave a set that already measures well as it is")
    first_set: bool = parameter(
        True,
        "First set where it is clean",
        "Its islands are laid out anew, where none lies on another and all are as dense",
    )
    heavy: bool = parameter(False, "Heavy meshes", "Unwrap heavy meshes as well")
    on_blocks: bool = parameter(
        False,
        "Islands on blocks",
        "No island shares a block of 4 × 4 texels, which is compressed together, with another; sets that are kept stay as they are",
    )

    def effects(self) -> tuple[Effect, ...]:
        """The set itself; a picture's set that stands there moves on, with the materials that read it."""
        return (Effect(Aspect.LIGHTMAP_UV), Effect(Aspect.FURTHER_UV), Effect(Aspect.MATERIALS), Effect(Aspect.SHARING))

    def reach(self, scene: Scene, context: StepContext) -> Bool:
        """All that draw a mesh which gets a set, or a material that reads another one then."""
        rows = self._rows(scene, context)[0]
        room = room_for(scene, context.destination.lightmap_channel, np.unique(scene.nodes.mesh[rows]).tolist())
        out = super().reach(scene, context).copy()
        out[rows] = True
        return out if room is None else out | np.isin(scene.nodes.mesh, room.meshes)

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        channel = context.destination.lightmap_channel
        rows, bare, spared = self._rows(scene, context)
        targets = [i for i in np.unique(scene.nodes.mesh[rows]).tolist() if scene.meshes[i].triangles]
        source = scene
        room = room_for(scene, channel, targets)
        full: list[Change] = []
        if room is not None and room.target < 0:
            stay = [i for i in targets if i in room.meshes]
            targets = [i for i in targets if i not in room.meshes]
            parts = np.flatnonzero(np.isin(scene.nodes.mesh, stay))
            text = f"{plural(len(stay), 'mesh', 'meshes')} not unwrapped: images read UV set {channel} and all others are taken"
            full = [Change(text=text, count=len(stay), problem=True, parts=identities_of(scene, parts))]
            room = None
        if room is not None:
            copies = list(scene.meshes)
            for i in room.meshes:
                copies[i] = room.with_copy(copies[i])
            scene = scene.but(meshes=tuple(copies))
        made: dict[int, Mesh] = {}
        facts: dict[int, dict[str, Any]] = {}
        lost: dict[int, str] = {}
        waiting = targets
        for attempt in range(len(methods(0))):
            if not waiting:
                break
            waiting = self._round(scene, context, waiting, attempt, made, facts, lost)
        # in the order of the source, not of the finish: the same input must give the same package
        made, facts = dict(sorted(made.items())), dict(sorted(facts.items()))
        for i, mesh in made.items():  # what only fits a larger map than was asked for comes out as it was
            if facts[i]["method"] != KEPT and mesh.id == scene.meshes[i].id:
                made[i], facts[i] = scene.meshes[i], {**facts[i], "method": KEPT}
        moved: list[Change] = []
        if room is not None and not any(f["method"] != KEPT for i, f in facts.items() if i in room.meshes):
            # every set that pictures read is a clean one and serves light as well: nothing has to move
            scene, room = source, None
            made = {i: source.meshes[i] if facts[i]["method"] == KEPT else m for i, m in made.items()}
        if room is not None:
            drawn = bearers(scene, room.meshes)
            names = ", ".join(f"“{scene.materials[i].name or i}”" for i in room.materials[:3])
            text = f"{plural(len(room.materials), 'material')} read UV set {channel} ({names}); that set moved to {room.target}, where they read it now"
            moved = [Change(text=text, count=len(room.materials), parts=identities_of(scene, drawn))]
            scene = room.redirected(scene)
        out, _ = replace_meshes(scene, rows, made)
        flags = np.where(bare, out.nodes.flags | NO_LIGHTMAP, out.nodes.flags & ~np.uint8(NO_LIGHTMAP)).astype(np.uint8)
        out = out.but(nodes=replace(out.nodes, flags=flags, lightmap=self._sizes(scene, rows, facts)))
        return out, [*moved, *self._tell(scene, rows, facts, {i: lost[i] for i in waiting}), *full, *spared]

    def _rows(self, scene: Scene, context: StepContext) -> tuple[I64, Bool, list[Change]]:
        """Nodes to be given the set, (N,) those left without on purpose, and that in words.

        A mesh is unwrapped for all its users as soon as one of them is to be lightmapped: it stays shared.
        """
        nodes = scene.nodes
        chosen = context.selected(self.where, scene) & (nodes.mesh >= 0)
        sets = context.assignment.sets
        spared = context.assignment.marked(scene, [not s.treatment.unwrapped for s in sets]) & chosen
        asked = context.assignment.marked(scene, [s.treatment.unwrapped for s in sets])
        heavy = by_mesh(scene, heavy_meshes(scene)) & chosen & ~asked & ~spared
        if self.heavy:
            heavy = np.zeros(len(nodes), np.bool_)
        wanted = np.zeros(len(scene.meshes) + 1, np.bool_)
        wanted[nodes.mesh[chosen & ~spared & ~heavy]] = True
        wanted[-1] = False
        users = wanted[nodes.mesh]
        changes = []
        for mask, text in (
            (spared & ~users, "not unwrapped, as their sets say"),
            (heavy & ~users, "not unwrapped: heavy meshes"),
        ):
            if mask.any():
                rows = np.flatnonzero(mask)
                sentence = f"{plural(len(rows), 'part')} {text}"
                changes.append(Change(text=sentence, count=len(rows), parts=identities_of(scene, rows)))
        return np.flatnonzero(users), (spared | heavy) & ~users, changes

    def _round(
        self,
        scene: Scene,
        context: StepContext,
        waiting: list[int],
        attempt: int,
        made: dict[int, Mesh],
        facts: dict[int, dict[str, Any]],
        lost: dict[int, str],
    ) -> list[int]:
        """One attempt at every waiting mesh; returns those that failed."""
        channel = context.destination.lightmap_channel
        bare = [i for i in waiting if channel > 0 and not scene.meshes[i].uvs]
        rows = np.flatnonzero(np.isin(scene.nodes.mesh, bare))
        frames = FirstUvs().frames(scene, rows, alive(context.progress))[0]
        ready = [
            box_project(scene.meshes[i], frames[i].matrix, scene.convention.up, frames[i].hand)
            if i in frames
            else scene.meshes[i]
            for i in waiting
        ]
        pieces = []
        stretched = stretched_meshes(scene)  # laid out as they look
        oblong = self._oblong(scene)
        for i, mesh in zip(waiting, ready, strict=True):
            arrays: dict[str, AnyArray] = {"positions": as_it_looks(mesh, stretched.get(i)), "indices": mesh.indices}
            if self.keep_good and len(mesh.uvs) > channel:
                arrays["existing"] = mesh.uvs[channel]
            if self.first_set and channel > 0 and scene.meshes[i].uvs:
                arrays["first"] = mesh.uvs[0]
            parameters = {
                "resolution": self.resolution, "padding": self.padding_texels, "method": methods(mesh.triangles)[attempt],
                "most": min(LARGEST_MAP, context.destination.max_texture),
                "square": context.destination.lightmap_maps == "square", "step": BLOCK if self.on_blocks else 0,
            }  # fmt: skip
            if "existing" in arrays and i in oblong:
                parameters["was"] = oblong[i]
            pieces.append(Piece(content_of(arrays), arrays, parameters, time_limit(mesh.triangles), mesh.triangles))
        begun = len(made)
        outcomes = context.workshop.do(
            UNWRAP, pieces, lambda done, total: context.progress(begun + done, begun + total)
        )
        failed = []
        for i, mesh, outcome in zip(waiting, ready, outcomes, strict=True):
            if isinstance(outcome, Lost):
                failed.append(i)
                lost[i] = outcome.reason
                continue
            made[i] = self._with_set(mesh, outcome.arrays, channel) if outcome.arrays else mesh
            facts[i] = dict(outcome.figures)
        return failed

    def _oblong(self, scene: Scene) -> dict[int, tuple[int, int]]:
        """By mesh the map that its set is for on all of its parts, where that is of the resolution wanted and no square."""
        rows = np.flatnonzero(scene.nodes.mesh >= 0)
        used, first, own = np.unique(scene.nodes.mesh[rows], return_index=True, return_inverse=True)
        size = scene.nodes.lightmap[rows]
        unlike = np.bincount(own.ravel(), weights=(size != size[first][own.ravel()]).any(axis=1), minlength=len(used))
        wanted = (unlike == 0) & (size[first].max(axis=1) == self.resolution) & (size[first].min(axis=1) > 0)
        wanted &= size[first, 0] != size[first, 1]
        return {int(i): (int(w), int(h)) for i, (w, h) in zip(used[wanted], size[first][wanted], strict=True)}

    @staticmethod
    def _sizes(scene: Scene, rows: I64, facts: dict[int, dict[str, Any]]) -> I32:
        """(N, 2) texels of every part's map at which its padding holds."""
        table = np.zeros((len(scene.meshes) + 1, 2), np.int32)
        for i, f in facts.items():
            table[i] = f["resolution"], f["height"]
        out = scene.nodes.lightmap.copy()
        out[rows] = table[scene.nodes.mesh[rows]]
        return out

    @staticmethod
    def _ways(new: list[int], facts: dict[int, dict[str, Any]]) -> str:
        """Where the islands came from, and what maps they need."""
        names = Counter(str(facts[i]["method"]).partition(",")[0] for i in new)
        lower = sum(facts[i]["height"] < facts[i]["resolution"] for i in new)
        told = ", ".join(
            f"{figure(n)} from {'the ' if name == 'first set' else ''}{name}" for name, n in names.most_common()
        )
        return f" ({told}{f'; {lower} on maps lower than wide' if lower else ''})"

    @staticmethod
    def _with_set(mesh: Mesh, made: Mapping[str, AnyArray], channel: int) -> Mesh:
        source = made["source"]
        uvs = [u[source] for u in mesh.uvs]
        while len(uvs) < channel:
            uvs.append(np.zeros((len(source), 2), np.float32))
        uvs[channel : channel + 1] = [made["uv"]]
        return mesh.with_vertices(source, indices=made["indices"], uvs=tuple(uvs))

    def _tell(self, scene: Scene, rows: Any, facts: dict[int, dict[str, Any]], lost: dict[int, str]) -> list[Change]:
        changes = []
        new = [i for i, f in facts.items() if f["method"] != KEPT]
        if new:
            fill = float(np.mean([facts[i]["fill"] for i in new]))
            parts = rows[np.isin(scene.nodes.mesh[rows], new)]
            changes.append(
                Change(
                    text=f"{plural(len(new), 'mesh', 'meshes')} unwrapped for {plural(len(parts), 'part')}, {fill:.0%} of each map filled on average"
                    + self._ways(new, facts),
                    count=len(new),
                    parts=identities_of(scene, parts),
                )
            )
        if thin := [i for i in new if facts[i]["thin"]]:
            parts = rows[np.isin(scene.nodes.mesh[rows], thin)]
            text = f"{plural(len(thin), 'mesh has', 'meshes have')} islands that are less than a texel wide on a map of that size"
            changes.append(Change(text=text, count=len(thin), parts=identities_of(scene, parts)))
        if cut := [i for i in new if facts[i]["cut"] > CUT]:
            parts = rows[np.isin(scene.nodes.mesh[rows], cut)]
            most = max(cut, key=lambda i: float(facts[i]["cut"]))
            text = (
                f"{plural(len(cut), 'mesh is', 'meshes are')} cut across smooth surface, which shows as a line in the light: "
                f"along {facts[most]['cut']:.0%} of its smooth edges “{scene.meshes[most].name or scene.meshes[most].id[:8]}”"
            )
            changes.append(Change(text=text, count=len(cut), parts=identities_of(scene, parts)))
        for i in [i for i in new if facts[i]["resolution"] > self.resolution][:LISTED]:
            parts = rows[scene.nodes.mesh[rows] == i]
            f = facts[i]
            text = (
                f"“{scene.meshes[i].name or scene.meshes[i].id[:8]}” needs a map of {f['resolution']} texels, not "
                f"{self.resolution}: it has {f['islands']} islands with {self.padding_texels} texels between them"
            )
            changes.append(Change(text=text, count=len(parts), parts=identities_of(scene, parts)))
        if len(facts) > len(new):
            changes.append(
                Change(
                    text=f"{plural(len(facts) - len(new), 'mesh', 'meshes')} kept the set that was there, which measures well",
                    count=len(facts) - len(new),
                )
            )
        bare = [i for i in facts if not scene.meshes[i].uvs]
        if bare:
            changes.append(
                Change(
                    text=f"{plural(len(bare), 'mesh', 'meshes')} without a first UV set got one by box projection, 1 m per repeat",
                    count=len(bare),
                )
            )
        for i, reason in lost.items():
            parts = rows[scene.nodes.mesh[rows] == i]
            changes.append(
                Change(
                    text=f"“{scene.meshes[i].name or scene.meshes[i].id[:8]}” has no lightmap UV set: {reason}",
                    count=len(parts),
                    problem=True,
                    parts=identities_of(scene, parts),
                )
            )
        return changes
