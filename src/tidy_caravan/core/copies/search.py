"""Copies in a scene: which meshes are one shape in several places, and the parts that could share it."""

from __future__ import annotations

import hashlib
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial

import numpy as np
import orjson

from tidy_caravan.core.copies.batch import can_be_shared, clusters, figures, kind_of, normal_form, stacked, unstacked
from tidy_caravan.core.copies.families import COPIES, FIGURES, like_others, radii_of
from tidy_caravan.core.copies.prototypes import prototype
from tidy_caravan.core.pace import Tell, alive, paced
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, I32, I64, AnyArray, Bool, chunks
from tidy_caravan.core.scene.held import shapes
from tidy_caravan.core.scene.keeping import kept
from tidy_caravan.core.scene.provenance import Origin
from tidy_caravan.core.scene.scene import origin_of, with_meshes
from tidy_caravan.core.space.axes import axis_vector
from tidy_caravan.core.space.transforms import affine_inverse, split_trs
from tidy_caravan.core.surroundings.world import scales
from tidy_caravan.core.work.heavy import Done, Piece, WhenAsked, Workshop
from tidy_caravan.core.work.whole import asked_again, digest_of

TOLERANCE_MM = 0.5
FIGURES_FROM = 1000
"""Vertices and triangles of a mesh from which on its figures are kept."""
NO_FIGURES = np.array([-1.0])
AT_ONCE = 200_000
"""Vertices of meshes whose figures are found together."""
RIGHT = 1e-12
"""By which the axes of a placement may be off right angles that come of multiplying such placements."""


@dataclass(frozen=True)
class Copies:
    """Families of meshes. mesh, family: (K,) meshes of the scene and the family of each, the head of a family first.
    matrix: (K, 4, 4) from the family's prototype to each mesh. off: (K,) metres, the largest distance of a corner where
    the mesh is drawn largest. slots: (K,) materials on the head's triangles. triangles: (K,) which triangle
    lies on each of the head's, None where all do in order. frame: (families, 4, 4) from the head to the
    prototype. vain: meshes that were not laid on all that they are like. lost: why some could not be looked at."""

    mesh: I64
    family: I64
    matrix: F64
    off: F64
    slots: tuple[AnyArray, ...]
    triangles: tuple[I32 | None, ...]
    frame: F64
    vain: int = 0
    lost: tuple[str, ...] = ()

    def heads(self) -> I64:
        """(families,) rows of the heads."""
        return np.searchsorted(self.family, np.arange(len(self.frame)))


def movable(scene: Scene) -> Bool:
    """(N,) parts whose node can be given another place without anything else of it going along: nothing moves it or what
    hangs on it, and it carries no light or camera."""
    nodes = scene.nodes
    out = (nodes.mesh >= 0) & (nodes.skin < 0) & (nodes.light < 0) & (nodes.camera < 0)
    animated = np.zeros(len(nodes), np.bool_)
    animated[[c.node for clip in scene.clips for c in clip.channels]] = True
    animated[[j for s in scene.skins for j in s.joints]] = True
    animated[list(nodes.rest)] = True
    out &= ~animated
    above = nodes.parent[animated]
    out[above[above >= 0]] = False
    return out


def copies_in(
    scene: Scene,
    workshop: Workshop,
    tell: Tell,
    chosen: Bool,
    tolerance_mm: float = TOLERANCE_MM,
    scale: str = "uniform",
    mirror: bool = True,
) -> Copies:
    """Copies among the meshes of the chosen nodes (N,). O(vertices log vertices) beside the placements that are tried."""
    nodes = scene.nodes
    far = tolerance_mm / 1000 / scales(scene, largest=True)
    kinds: dict[str, list[int]] = defaultdict(list)
    for i in paced(np.unique(nodes.mesh[chosen & (nodes.mesh >= 0)]).tolist(), alive(tell)):
        kind = kind_to_share(scene.meshes[i])
        if kind is not None:
            kinds[kind].append(i)
    several = [members for members in kinds.values() if len(members) > 1]
    groups = [g for members in several for g in that_may_be_copies(scene, members, far, scale, workshop, tell)]
    up = axis_vector(scene.convention.up).tolist()
    pieces = []
    for members in groups:
        meshes = [scene.meshes[i] for i in members]
        digest = hashlib.blake2b("".join(m.id for m in paced(meshes, alive(tell))).encode(), digest_size=16)
        digest.update(far[members].astype(np.float32).tobytes())
        parameters = {"scale": scale, "mirror": mirror, "up": up}
        size = len(members) * (meshes[0].vertices + meshes[0].triangles)
        arrays = WhenAsked(partial(stacked, meshes, far[members]))
        pieces.append(Piece(digest.hexdigest(), arrays, parameters, 60 + size / 5_000, size))
    found: list[tuple[list[int], Done]] = []
    lost: list[str] = []
    vain = 0
    for members, outcome in zip(groups, workshop.do(COPIES, pieces, tell), strict=True):
        if isinstance(outcome, Done):
            vain += int(outcome.figures["vain"])
            if outcome.arrays:
                found.append((members, outcome))
        else:
            lost.append(f"{len(members)} meshes of {scene.meshes[members[0]].triangles} triangles: {outcome.reason}")
    return together(found, 1 / far, tolerance_mm / 1000, vain, lost)


def that_may_be_copies(
    scene: Scene, members: list[int], far: F64, scale: str, workshop: Workshop, tell: Tell
) -> list[list[int]]:
    """Meshes of one kind in groups outside of which none has a copy, by their figures; small ones in one without those that
    are like no other, and all in one where they may be of other proportions. far: (M,) of all meshes, how far a corner may be
    off."""
    first = scene.meshes[members[0]]
    if scale == "per_axis":
        return [members]
    if first.vertices + first.triangles < FIGURES_FROM:
        figured = figures_with([scene.meshes[i] for i in members], far[members], alive(tell))
        found = asked_again(
            workshop, "meshes like others", 1, digest_of(figured), lambda: {"rows": rows_like_others(*figured)}
        )
        chosen = [members[k] for k in np.asarray(found["rows"]).tolist()]
        return [chosen] if chosen else []
    pieces = []
    for i in members:
        mesh, off = scene.meshes[i], float(far[i])
        arrays = WhenAsked(partial(stacked, [mesh], far[[i]]))
        pieces.append(Piece(mesh.id, arrays, {"far": off}, size=mesh.vertices + mesh.triangles))
    told = [o.figures for o in workshop.do(FIGURES, pieces, tell) if isinstance(o, Done)]
    if len(told) < len(members):
        return [members]  # who looks at them together tells what is the matter
    usable = [k for k, figures in enumerate(told) if figures["usable"]]
    if len(usable) < 2:
        return []
    label = clusters(*(np.array([told[k][name] for k in usable], np.float64) for name in ("values", "spare")))
    groups: dict[int, list[int]] = defaultdict(list)
    for k, number in zip(usable, label.tolist(), strict=True):
        groups[number].append(members[k])
    return [group for group in groups.values() if len(group) > 1]


def figures_with(meshes: Sequence[Mesh], far: F64, tell: Tell) -> tuple[F64, F64, F64, F64]:
    """(N, K) figures of small meshes of one kind, (N, K) how far those of a copy may be off, (N, V) and (N,) their radii and
    the same; infinite ones cannot have copies at all. They stay with the meshes: to remember them elsewhere would cost more
    than they do."""
    before = np.array([m.__dict__.get("_figures", NO_FIGURES)[0] for m in meshes])
    fresh = np.flatnonzero(before != far).tolist()
    for run in chunks(np.array([meshes[k].vertices for k in fresh]), AT_ONCE):
        tell(int(run[0]), len(fresh))
        some = [fresh[k] for k in run.tolist()]
        batch = unstacked(stacked([meshes[k] for k in some], far[some]))
        normal = normal_form(batch, per_axis=False)
        values, spare = figures(batch, normal)
        values[~normal.usable] = np.inf
        radii, blur = radii_of(normal)
        rows = np.column_stack([far[some], values, spare, radii, blur])
        for k, row in zip(some, rows, strict=True):
            meshes[k].__dict__["_figures"] = row
    every = np.array([m.__dict__["_figures"] for m in meshes])
    columns = (every.shape[1] - 2 - meshes[0].vertices) // 2
    return (
        every[:, 1 : 1 + columns],
        every[:, 1 + columns : 1 + 2 * columns],
        every[:, 1 + 2 * columns : -1],
        every[:, -1],
    )


def rows_like_others(values: F64, spare: F64, radii: F64, blur: F64) -> I64:
    """(K,) those of them that another may be a copy of, ascending."""
    usable = np.flatnonzero(np.isfinite(values).all(axis=1))
    return (
        usable[like_others(values[usable], spare[usable], radii[usable], blur[usable])]
        if len(usable) > 1
        else usable[:0]
    )


@kept
def kind_to_share(mesh: Mesh) -> str | None:
    """What a copy has to have the same to the letter; None of what may stand for nothing else."""
    if not can_be_shared(mesh):
        return None
    extras = b"" if mesh.extras is None else orjson.dumps(mesh.extras, option=orjson.OPT_SORT_KEYS)
    return f"{kind_of(mesh)} {extras!r}"


def together(found: list[tuple[list[int], Done]], scale: F64, metres: float, vain: int, lost: list[str]) -> Copies:
    none = np.zeros(0, np.int64)
    if not found:
        return Copies(none, none, np.zeros((0, 4, 4)), np.zeros(0), (), (), np.zeros((0, 4, 4)), vain, tuple(lost))
    meshes = [np.array(members)[d.arrays["mesh"]] for members, d in found]
    counts = [len(d.arrays["frame"]) for _, d in found]
    first = np.concatenate([[0], np.cumsum(counts)[:-1]])
    mesh = np.concatenate(meshes)
    return Copies(
        mesh,
        np.concatenate([d.arrays["family"] + f for (_, d), f in zip(found, first, strict=True)]),
        np.concatenate([d.arrays["matrix"] for _, d in found]),
        np.concatenate([d.arrays["off"] for _, d in found]) * scale[mesh] * metres,
        tuple(row for _, d in found for row in d.arrays["slots"]),
        tuple(None if k else row for _, d in found for k, row in zip(in_order(d), d.arrays["triangles"], strict=True)),
        np.concatenate([d.arrays["frame"] for _, d in found]),
        vain,
        tuple(lost),
    )


def in_order(done: Done) -> list[bool]:
    """Whether the triangles of each mesh lie on those of the head in their order."""
    triangles = done.arrays["triangles"]
    out: list[bool] = (triangles == np.arange(triangles.shape[1])).all(axis=1).tolist()
    return out


@dataclass(frozen=True)
class Shared:
    """What came of giving the parts of families their prototype. parts: (N,) nodes that draw one now. askew: (N,) nodes
    that would need a shear for it, and keep their own mesh. off: (N,) metres. family: (N,) of the parts, -1 of others."""

    scene: Scene
    parts: Bool
    askew: Bool
    off: F64
    family: I64

    def fewer(self, before: Scene) -> tuple[int, int]:
        """How many meshes the parts drew before, and draw now; of those that only materials keep apart, which are held once,
        one."""
        rows = np.flatnonzero(self.parts)
        scenes = (before, self.scene)
        drawn = [len(np.unique(s.nodes.mesh[rows])) for s in scenes]
        held = [len(np.unique(shapes(s)[s.nodes.mesh[rows]])) for s in scenes]
        return drawn[0], drawn[0] - max(drawn[0] - drawn[1], held[0] - held[1])


def settled(scene: Scene, found: Copies, rows: I64) -> Bool:
    """(families,) those whose meshes differ in nothing but their materials: sharing has nothing left to give. rows: of the
    meshes that are drawn."""
    of: dict[int, list[int]] = defaultdict(list)
    for k in rows.tolist():
        of[int(found.family[k])].append(k)
    out = np.zeros(len(found.frame), np.bool_)
    for family, members in of.items():
        if len({found.slots[k].tobytes() for k in members}) < len(members):
            continue
        meshes = [scene.meshes[found.mesh[k]] for k in members]
        out[family] = len({replace(m, material=meshes[0].material, origin=None, name="").id for m in meshes}) == 1
    return out


def sheared(local: F64, matrix: F64) -> Bool:
    """(R,) nodes with the matrices `local` (R, 4, 4) that would need a shear to be moved by others."""
    moved = (matrix != np.eye(4)).any(axis=(1, 2))
    out: Bool = split_trs(local @ matrix)[3] & moved
    return out


def straightened(local: F64, found: Copies, row: I64) -> Copies:
    """Families whose prototype would shear some of its parts, about the axes of the mesh that most of these draw now, where
    that shears fewer. local: (R, 4, 4) of the parts. row: (R,) which row of `found` each draws."""
    bent = sheared(local, found.matrix[row])
    if not bent.any():
        return found
    matrix, frame = found.matrix.copy(), found.frame.copy()
    family = found.family[row]
    order = np.argsort(family, kind="stable")
    ordered = family[order]
    for f in np.unique(family[bent]).tolist():
        mine = order[slice(*np.searchsorted(ordered, (f, f + 1)))]
        drawn, times = np.unique(row[mine[bent[mine]]], return_counts=True)
        one = int(drawn[np.argmax(times)])
        if np.linalg.det(matrix[one][:3, :3]) <= 0:
            continue
        members = np.arange(*np.searchsorted(found.family, (f, f + 1)))
        other = matrix[members] @ affine_inverse(matrix[one : one + 1])[0]
        right = np.abs(other[:, :3, :3] - np.rint(other[:, :3, :3])).max(axis=(1, 2)) < RIGHT
        other[right, :3, :3] = np.rint(other[right, :3, :3])
        other[one - members[0]] = np.eye(4)
        if sheared(local[mine], other[row[mine] - members[0]]).sum() < bent[mine].sum():
            matrix[members], frame[f] = other, matrix[one] @ frame[f]
    return replace(found, matrix=matrix, frame=frame)


def share(scene: Scene, found: Copies, chosen: Bool, least: int = 2) -> Shared:
    """The scene with chosen nodes (N,) drawing the prototypes of their families from where their own mesh was; families of
    fewer than `least` parts, or whose parts share one mesh already, are left."""
    nodes = scene.nodes
    if not len(found.mesh):
        none = np.zeros(len(nodes), np.bool_)
        return Shared(scene, none, none, np.zeros(len(nodes)), np.full(len(nodes), -1, np.int64))
    row_of = np.full(len(scene.meshes) + 1, -1, np.int64)
    row_of[found.mesh] = np.arange(len(found.mesh))
    row = np.where(chosen, row_of[nodes.mesh], -1)
    rows = np.flatnonzero(row >= 0)
    found = straightened(nodes.local[rows], found, row[rows])
    bent = sheared(nodes.local[rows], found.matrix[row[rows]])
    askew = np.zeros(len(nodes), np.bool_)
    askew[rows[bent]] = True
    row[askew] = -1
    users = np.bincount(found.family[row[row >= 0]], minlength=len(found.frame))
    meshes_of = np.bincount(found.family[np.unique(row[row >= 0])], minlength=len(found.frame))
    left = (users < least) | (meshes_of < 2) | settled(scene, found, np.unique(row[row >= 0]))
    row[(row >= 0) & left[found.family[row]]] = -1
    rows = np.flatnonzero(row >= 0)
    inverse = affine_inverse(found.matrix[row[rows]])
    places = nodes.local.copy()
    places[rows] = nodes.local[rows] @ found.matrix[row[rows]]
    position = np.full(len(nodes) + 1, -1, np.int64)
    position[rows] = np.arange(len(rows))
    below = np.flatnonzero(position[nodes.parent] >= 0)
    below = below[nodes.parent[below] >= 0]
    places[below] = inverse[position[nodes.parent[below]]] @ places[below]
    meshes = list(scene.meshes)
    column = nodes.mesh.copy()
    heads = found.heads()
    made: dict[tuple[int, bytes], int] = {}
    base: dict[int, Mesh] = {}
    variant = np.full(len(found.mesh), -1, np.int64)
    for k in np.unique(row[rows]).tolist():
        family = int(found.family[k])
        if family not in base:
            base[family] = prototype(scene.meshes[found.mesh[heads[family]]], found.frame[family])
        key = (family, found.slots[k].tobytes())
        if key not in made:
            made[key] = len(meshes)
            meshes.append(replace(base[family], material=found.slots[k], origin=None))
        variant[k] = made[key]
    column[rows] = variant[row[rows]]
    parts = row >= 0
    off = np.zeros(len(nodes))
    off[rows] = found.off[row[rows]]
    family_of = np.full(len(nodes), -1, np.int64)
    family_of[rows] = found.family[row[rows]]
    origins = {i: o for i, o in nodes.origins.items() if row[i] < 0}
    # of many instances of one mesh all say the same, and say it once
    said: dict[tuple[int, int], Origin] = {}
    traced = np.array([m.origin is not None for m in scene.meshes] + [False])[nodes.mesh[rows]]
    traced |= np.isin(rows, list(nodes.origins))
    traced |= np.array([found.triangles[k] is not None for k in row[rows].tolist()], np.bool_)
    for i in rows[traced].tolist():
        key = (int(row[i]), id(nodes.origins.get(i)))
        if key not in said:
            triangles = found.triangles[row[i]]
            before = origin_of(scene, i) or Origin.all_of(len(found.slots[row[i]]))
            said[key] = before if triangles is None else before.taken(triangles)
        origins[i] = said[key]
    out = with_meshes(scene.but(nodes=replace(nodes, local=places, origins=origins)), column, meshes)
    return Shared(out, parts, askew, off, family_of)
