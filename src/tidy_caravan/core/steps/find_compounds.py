"""Step that finds groups of parts which stand in several places, and hangs each below a node that can be placed again."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.copies.compounds import MOST_KINDS, TURNED_SHARE, Compound, compounds_in
from tidy_caravan.core.copies.search import movable
from tidy_caravan.core.copies.symmetry import Turns, turns_in
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, I64
from tidy_caravan.core.scene.nodes import with_parts
from tidy_caravan.core.scene.provenance import Origin
from tidy_caravan.core.scene.scene import origin_of
from tidy_caravan.core.space.axes import axis_vector
from tidy_caravan.core.space.transforms import affine_inverse
from tidy_caravan.core.steps.base import Change, Phase, Step, StepContext, identities_of, parameter, step
from tidy_caravan.core.surroundings.world import scales
from tidy_caravan.core.words import plural


@step
class FindCompounds(Step):
    """Parts that share their meshes and stand in the same order in several places become one compound in so many places:
    each a node on the group's base, with the same pieces below it in the very same places. It says the same thing as the
    parts one by one, and can be placed, moved and left out as one. Pieces that look the same from several sides may stand
    turned in a copy; they get the first group's way. Copies have to share their meshes before."""

    title = "Find compounds"
    summary = "Groups of parts that stand in several places in the same order get a node each, to be placed as one."

    phase = Phase.COMPOUNDS
    once = False

    kind: Literal["find_compounds"] = "find_compounds"
    tolerance_mm: float = parameter(
        0.5, "Tolerance", "How far a piece may stand from where the first group has it", "mm", ge=0.001, le=100
    )
    least: int = parameter(2, "Pieces", "Groups of fewer parts are left", "parts", ge=2, le=100_000)

    def effects(self) -> tuple[Effect, ...]:
        why = "Groups of parts hang below nodes of their own since a step."
        return (
            Effect(Aspect.POSITIONS, self.tolerance_mm * 1.01, why),
            Effect(Aspect.NORMALS, 1.0),
            Effect(Aspect.TANGENTS),
            Effect(Aspect.TREE),
            Effect(Aspect.PIVOTS),
            Effect(Aspect.ROTATION),
        )

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        nodes = scene.nodes
        rows = np.flatnonzero(context.selected(self.where, scene) & movable(scene) & (nodes.children_count == 0))
        # a compound stays one: what hangs below such a node already is in its place
        made = np.flatnonzero(nodes.source < 0).tolist()
        rows = rows[~np.isin(nodes.parent[rows], [i for i in made if nodes.names[i].startswith(PREFIX)])]
        metre = scene.convention.metres_per_unit
        found: list[Compound] = []
        turns: dict[int, Turns] = {}
        lost: list[str] = []
        if len(rows) > 3:
            several, times = np.unique(nodes.mesh[rows], return_counts=True)
            tolerance = self.tolerance_mm / 1000
            far = TURNED_SHARE * tolerance / scales(scene, largest=True)
            turns, lost = turns_in(scene, several[times > 1].astype(np.int64), far, context.workshop, context.progress)
            found = compounds_in(scene, rows, tolerance / metre, context.progress, turns)
        found = [c for c in found if c.members.shape[1] >= self.least]
        kinds = len(np.unique(nodes.mesh[rows]))
        changes = [
            Change(text=f"not asked whether it looks the same turned: {why}", count=1, problem=True) for why in lost
        ]
        if kinds > MOST_KINDS:
            text = f"of {kinds} meshes the {MOST_KINDS} that are there least often were asked where groups may be"
            changes.append(Change(text=text, count=kinds - MOST_KINDS, problem=True))
        if not found:
            return scene, changes
        out = hung(scene, found, turns)
        for number, c in enumerate(found[:20]):
            text = f"compound {number + 1}: {plural(c.members.shape[1], 'part')} in {plural(len(c.members), 'place')}"
            changes.append(Change(text=text, count=c.members.size, parts=identities_of(scene, c.members.reshape(-1))))
        if len(found) > 20:
            rest = sum(c.members.size for c in found[20:])
            changes.append(Change(text=f"{len(found) - 20} more compounds of {rest} parts", count=rest))
        return out, changes


PREFIX = "compound_"


def hung(scene: Scene, found: list[Compound], turns: Mapping[int, Turns]) -> Scene:
    """Each group of the compounds below a node of its own; pieces as the first group has them, though they stood turned."""
    nodes = scene.nodes
    parent, local = nodes.parent.copy(), nodes.local.copy()
    up = axis_vector(scene.convention.up)
    sides = np.zeros(len(nodes), np.int64)
    names: list[str] = []
    above: list[int] = []
    made: list[F64] = []
    boxes = scene.part_bounds
    for number, c in enumerate(found):
        own = boxes[np.searchsorted(nodes.parts, c.members[0])]
        low, high = own[:, 0].min(axis=0), own[:, 1].max(axis=0)
        frame = np.eye(4)
        frame[:3, 3] = np.where(np.abs(up) > 0, np.where(up > 0, low, high), (low + high) / 2)
        pieces = affine_inverse(frame[None]) @ nodes.world[c.members[0]]
        for k, group in enumerate(c.members):
            # below what all of the group hung from, or at the top
            parents = np.unique(nodes.parent[group])
            holder = int(parents[0]) if len(parents) == 1 else -1
            at = c.moves[k] @ frame
            if holder >= 0:
                at = affine_inverse(nodes.world[holder : holder + 1])[0] @ at
            local[group] = pieces
            sides[group] = turned_by(scene, group, c.moves[k] @ nodes.world[c.members[0]], turns)
            parent[group] = len(nodes) + len(names)
            names.append(f"{PREFIX}{number + 1:02}_{k + 1:02}")
            above.append(holder)
            made.append(at)
    grouped = set(np.concatenate([c.members.reshape(-1) for c in found]).tolist())
    tops = tuple(len(nodes) + k for k, holder in enumerate(above) if holder < 0)
    roots = tuple(
        replace(r, nodes=(*(i for i in r.nodes if i not in grouped), *(tops if i == scene.default_root else ())))
        for i, r in enumerate(scene.roots)
    )
    meshes, origins = origins_after(scene, sides, turns)
    moved = replace(nodes, parent=parent, local=local, origins=origins)
    return scene.but(meshes=meshes, roots=roots, nodes=with_parts(moved, above, np.array(made), names))


def turned_by(scene: Scene, group: I64, world: F64, turns: Mapping[int, Turns]) -> I64:
    """(S,) by which of its mesh's turns each node of the group stands otherwise than it will at world (S, 4, 4)."""
    nodes = scene.nodes
    out = np.zeros(len(group), np.int64)
    for mesh in np.unique(nodes.mesh[group]).tolist():
        if mesh in turns:
            own = np.flatnonzero(nodes.mesh[group] == mesh)
            stood = (world[own, None] @ turns[mesh].matrix)[..., :3, :3]
            out[own] = np.argmin(np.linalg.norm(stood - nodes.world[group[own], None, :3, :3], axis=(2, 3)), axis=1)
    return out


def origins_after(scene: Scene, sides: I64, turns: Mapping[int, Turns]) -> tuple[tuple[Mesh, ...], dict[int, Origin]]:
    """Meshes and origins of nodes that get another turn (N,) of their mesh: what says where its triangles came from says so
    of others then, by the node and no longer by the mesh."""
    nodes = scene.nodes
    meshes, origins = list(scene.meshes), dict(nodes.origins)
    turned = np.flatnonzero(sides)
    for mesh in np.unique(nodes.mesh[turned]).tolist():
        if meshes[mesh].origin is not None:
            origins |= {i: o for i in np.flatnonzero(nodes.mesh == mesh).tolist() if (o := origin_of(scene, i))}
            meshes[mesh] = replace(meshes[mesh], origin=None)
    for i in turned.tolist():
        if i in origins:
            origins[i] = origins[i].taken(np.argsort(turns[int(nodes.mesh[i])].triangle[sides[i]]))
    return tuple(meshes), origins
