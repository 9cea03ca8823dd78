"""Step: surfaces that lie on each other and flicker are lifted apart, or what is covered is removed."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.congruent import look_alike
from tidy_caravan.core.geometry.coplanar import Overlaps
from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.pose import at_rest
from tidy_caravan.core.geometry.shells import shells_of
from tidy_caravan.core.geometry.stretched import moving
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, I64, Bool
from tidy_caravan.core.space.axes import axis_vector
from tidy_caravan.core.space.clips import moved_in_place
from tidy_caravan.core.space.convert import split_viewers
from tidy_caravan.core.space.transforms import affine_inverse
from tidy_caravan.core.steps.base import (
    Change,
    Phase,
    Step,
    StepContext,
    identities_of,
    parameter,
    replace_meshes,
    step,
    with_meshes,
)
from tidy_caravan.core.surroundings.flicker import WHOLE, Drawn, Flicker, between, covered_in, onto_itself, within
from tidy_caravan.core.surroundings.gaps import LIFTED, LIFTED_WITHIN
from tidy_caravan.core.surroundings.insides import seen_from_both
from tidy_caravan.core.surroundings.world import Table, by_size, scales
from tidy_caravan.core.words import plural

TWINS = 1e-5
"""Part of their size within which bounds of twins are the same."""
ROUNDS = 6
"""Of things stacked in one plane each is lifted over the one below it in a round of its own."""


@step
class MendOverlaps(Step):
    """Puts apart what flickers. Of two parts the smaller one moves or gives way; within a part, the smaller shell. Parts
    of one size in a row move by turns.

    Lifted parts move along the way their surface looks, with their node; what hangs below them stays. The gap that they leave
    is meant: it is not asked about, nor closed. Removed are
    triangles that are covered whole; of equal parts in one place the later one is no longer drawn.
    """

    title = "Mend overlaps"
    summary = "Lifts surfaces that lie on each other apart by a small offset, or removes what is covered."

    phase = Phase.OVERLAPS
    once = False

    kind: Literal["mend_overlaps"] = "mend_overlaps"
    how: Literal["lift", "remove"] = parameter(
        "lift",
        "Mend by",
        "lift: the smaller of both is moved off the other; remove: triangles that are covered whole go",
    )
    offset_mm: float = parameter(
        2.0, "Offset", "Distance of the planes afterwards", "mm", only={"how": ["lift"]}, gt=1.0, le=50
    )

    def effects(self) -> tuple[Effect, ...]:
        if self.how == "remove":
            why = "Covered triangles were removed by a step."
            return (Effect(Aspect.TRIANGLES, why=why), Effect(Aspect.PARTS), Effect(Aspect.SHARING))
        why = "Surfaces that lay on each other were lifted apart by a step."
        return (
            Effect(Aspect.POSITIONS, self.offset_mm * ROUNDS, why),
            Effect(Aspect.PIVOTS),
            Effect(Aspect.SHARING),
        )

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        count = len(scene.nodes)
        chosen = context.selected(self.where, scene) & (scene.nodes.mesh >= 0)
        if self.how == "remove":
            scene, changes = uncovered_within(scene, chosen, context)
            scene, more = removed(scene, chosen, context)
            return scene, [*changes, *more]
        scene, changes = lifted_within(scene, chosen, context, self.offset_mm / 1000)
        scene = split_viewers(scene)
        # what bones bend stands where they are, wherever its node is
        chosen = np.append(chosen, np.zeros(len(scene.nodes) - count, np.bool_))
        bent = chosen & (scene.nodes.skin >= 0)
        chosen &= ~bent
        moved = np.zeros(len(scene.nodes), np.bool_)
        came: dict[int, F64] = {}
        total: dict[int, F64] = {}
        left = 0
        for last in range(ROUNDS + 1):
            found = between(at_rest(scene), context.workshop, context.progress)
            if isinstance(found, str):
                return scene, [*changes, Change(text=f"parts were not lifted: {found}", count=0, problem=True)]
            shift = shifts(found, chosen, scene, self.offset_mm / 1000, came)
            if not shift or last == ROUNDS:
                left = len(shift)
                both = np.concatenate([found.first, found.second])
                stay = np.unique(both[bent[both]])
                if len(stay):
                    text = f"{plural(len(stay), 'part that bones bend stays', 'parts that bones bend stay')} on others, being where they are"
                    changes.append(Change(text=text, count=len(stay), parts=identities_of(scene, stay)))
                break
            scene = shifted(scene, shift)
            came |= shift
            total |= {node: total.get(node, np.zeros(3)) + move for node, move in shift.items()}
            moved[list(shift)] = True
        if left:
            text = f"{plural(left, 'part still lies', 'parts still lie')} on others after {ROUNDS} rounds"
            changes.append(Change(text=text, count=left, problem=True))
        rows = np.flatnonzero(moved)
        if len(rows):
            scene = with_lifts(scene, total)
            text = f"{plural(len(rows), 'part')} lifted by {self.offset_mm:g} mm off what {'it' if len(rows) == 1 else 'they'} lay on"
            changes.append(Change(text=text, count=len(rows), parts=identities_of(scene, rows)))
        return scene, changes


def lifted_within(scene: Scene, chosen: Bool, context: StepContext, offset: float) -> tuple[Scene, list[Change]]:
    """The scene with the shells of the chosen nodes' meshes lifted off each other by the offset in metres."""
    meshes = {mesh.id for mesh in scene.meshes}
    wanted, moved = chosen, np.zeros(len(scene.nodes), np.bool_)
    changes: list[Change] = []
    came: dict[str, dict[int, F64]] = {}
    left = 0
    for last in range(ROUNDS + 1):
        sized = by_size(scene)
        inner, lost = within(sized, context.workshop, context.progress, drawn_by(sized, wanted))
        if not last:
            changes = [Change(text=f"{text}, stays as it is", count=1, problem=True) for text in lost.values()]
            folded = [i for i, o in inner.items() if onto_itself(sized.meshes[i], o).any()]
            if folded:
                what = f"{plural(len(folded), 'mesh has', 'meshes have')} surface folded onto itself, which cannot be lifted: "
                stays = identities_of(scene, np.flatnonzero(chosen & np.isin(sized.nodes.mesh, folded)))
                changes.append(Change(text=f"{what}what is covered can be removed", count=len(folded), parts=stays))
        metres, drawn, up = scales(sized), Drawn(sized), axis_vector(scene.convention.up)
        made = {}
        for i, overlaps in inner.items():
            mesh = sized.meshes[i]
            both = seen_from_both(Table.of([mesh]), drawn.of(mesh))
            lifted, moves = lifted_shells(mesh, overlaps, both, offset / float(metres[i]), up, came.get(mesh.id, {}))
            if lifted is not mesh:
                made[i], came[lifted.id] = lifted, {**came.get(mesh.id, {}), **moves}
        if not made or last == ROUNDS:
            left = len(made)
            break
        scene, changed = replace_meshes(sized, np.flatnonzero(chosen), made)
        moved |= changed
        wanted = changed
    if moved.any():
        parts = scene.identities.given(scene.nodes.source[np.flatnonzero(moved)].tolist())
        before = scene.extras.get(LIFTED_WITHIN, {})
        scene = scene.but(extras={**scene.extras, LIFTED_WITHIN: {**before, **dict.fromkeys(parts, offset)}})
        number = sum(mesh.id not in meshes for mesh in scene.meshes)
        text = f"shells lifted off each other within {plural(number, 'mesh', 'meshes')}"
        changes.append(Change(text=text, count=number, parts=identities_of(scene, np.flatnonzero(moved))))
    if left:
        text = (
            f"{plural(left, 'mesh still has', 'meshes still have')} shells that lie on each other after {ROUNDS} rounds"
        )
        changes.append(Change(text=text, count=left, problem=True))
    return scene, changes


def drawn_by(scene: Scene, nodes: Bool) -> Bool:
    """(M,) the meshes of the nodes (N,)."""
    out = np.zeros(len(scene.meshes) + 1, np.bool_)
    out[scene.nodes.mesh[nodes]] = True
    return out[:-1]


def uncovered_within(scene: Scene, chosen: Bool, context: StepContext) -> tuple[Scene, list[Change]]:
    """The scene without triangles that others of their mesh cover whole."""
    sized = by_size(scene)
    inner, lost = within(sized, context.workshop, context.progress, drawn_by(sized, chosen))
    changes = [Change(text=f"{text}, stays as it is", count=1, problem=True) for text in lost.values()]
    meshes = {mesh.id for mesh in scene.meshes}
    made = {i: less for i, o in inner.items() if (less := uncovered(sized.meshes[i], o)) is not sized.meshes[i]}
    if made:
        scene, changed = replace_meshes(sized, np.flatnonzero(chosen), made)
        number = sum(mesh.id not in meshes for mesh in scene.meshes)
        text = f"covered triangles removed within {plural(number, 'mesh', 'meshes')}"
        changes.append(Change(text=text, count=number, parts=identities_of(scene, np.flatnonzero(changed))))
    return scene, changes


def shifts(found: Flicker, chosen: Bool, scene: Scene, offset: float, came: Mapping[int, F64]) -> dict[int, F64]:
    """By node how far it is to be moved, in scene units, so that all its overlaps are apart by the offset in metres. What is
    not chosen stays. came: as of `apart_by`."""
    boxes = scene.part_bounds
    size = np.zeros(len(scene.nodes))
    size[scene.nodes.parts] = np.linalg.norm(boxes[:, 1] - boxes[:, 0], axis=1)
    sky = axis_vector(scene.convention.up)
    moves = apart_by(found.first, found.second, found.height, found.up, chosen, size, sky, offset, came)
    return {one: move / scene.convention.metres_per_unit for one, move in moves.items()}


def apart_by(
    first: I64, second: I64, height: F64, up: F64, movable: Bool, size: F64, sky: F64, offset: float,
    came: Mapping[int, F64],
) -> dict[int, F64]:  # fmt: skip
    """By number the move (3,) after which all of these overlaps are apart by the offset.

    first, second: (K,) numbers of the two that lie on each other, of N. height: (K,) how far the second lies above the
    first along up (K, 3). movable, size: (N,). All lengths are in one unit. came: which way what was moved before came, of
    any length: what would go back between two others goes on instead.

    What lies on each other gets different levels, the largest the lowest there is (greedy colouring), so that a
    row of panels goes up and down by one offset and does not become a staircase.
    """
    level = levels(np.unique(np.column_stack([first, second]), axis=0), movable, size)
    lower = level[first] < level[second]
    upper = np.where(lower, second, first)
    apart = level[first] != level[second]
    below = np.where(lower, first, second)
    out: dict[int, F64] = {}
    move_of = np.zeros((len(size), 3))
    above = np.unique(upper[apart])
    for one in above[np.argsort(level[above], kind="stable")].tolist():
        rows = apart & (upper == one)
        # what it lies on has moved already, being of a lower level
        over = np.where(lower[rows], height[rows], -height[rows])
        on = np.einsum("ki,ki->k", move_of[below[rows]], up[rows])
        wanted_above = (level[one] - level[below[rows]]) * offset - over + on
        ways, number = np.unique(np.round(up[rows], 3), axis=0, return_inverse=True)
        need = np.full(len(ways), -np.inf)
        np.maximum.at(need, number.reshape(-1), wanted_above)
        # a slab let into another is flush above and below: of ways against each other the upward one has the last word
        last = np.argsort(ways @ sky, kind="stable")
        ways, need = ways[last], need[last]
        move = np.zeros(3)
        for _ in range(8):
            for direction, wanted in zip(ways, need, strict=True):
                move += direction * max(0.0, float(wanted - direction @ move))
        if one in came and float(came[one] @ move) < 0:
            move = came[one] / np.linalg.norm(came[one]) * offset
        move_of[one] = move
        out[one] = move
    return out


def levels(pairs: I64, movable: Bool, size: F64) -> I64:
    """(N,) level of each: none the same for two of a pair (K, 2), where at least one of them can move."""
    nodes = np.unique(pairs)
    beside: dict[int, list[int]] = {}
    for a, b in pairs.tolist():
        beside.setdefault(a, []).append(b)
        beside.setdefault(b, []).append(a)
    out = np.zeros(len(size), np.int64)
    done = ~movable
    for one in nodes[np.lexsort((nodes, -np.round(size[nodes], 6)))].tolist():
        if movable[one]:
            taken = {int(out[other]) for other in beside[one] if done[other]}
            out[one] = next(k for k in range(len(taken) + 1) if k not in taken)
            done[one] = True
    return out


def shifted(scene: Scene, shift: dict[int, F64]) -> Scene:
    """The scene with nodes moved in the world; what hangs below them stays where it is. What clips move goes along with them."""
    nodes = scene.nodes
    move = np.zeros((len(nodes), 3))
    move[list(shift)] = np.array(list(shift.values()))
    below = np.flatnonzero(nodes.parent >= 0)
    relative = move.copy()
    relative[below] -= move[nodes.parent[below]]
    rows = np.flatnonzero(relative.any(axis=1))
    inner = rows[nodes.parent[rows] >= 0]
    above = affine_inverse(nodes.world[nodes.parent[inner]])[:, :3, :3]
    relative[inner] = np.einsum("kij,kj->ki", above, relative[inner])
    return moved_in_place(scene, relative)


def with_lifts(scene: Scene, moves: Mapping[int, F64]) -> Scene:
    """The scene with a note of these moves, in its units by node: the gaps that they leave are meant."""
    told = dict(scene.extras.get(LIFTED, {}))
    for node, move in moves.items():
        for name in scene.identities.given([int(scene.nodes.source[node])]):
            whole = np.asarray(told.get(name, (0.0, 0.0, 0.0))) + move * scene.convention.metres_per_unit
            told[name] = whole.tolist()
    return scene.but(extras={**scene.extras, LIFTED: told})


def lifted_shells(
    mesh: Mesh, found: Overlaps, both: Bool, offset: float, sky: F64, came: Mapping[int, F64]
) -> tuple[Mesh, dict[int, F64]]:
    """The mesh with the smaller shell of each overlap moved off the other, and the moves by shell; vertices that both use are
    split.

    both: (F,) seen from either side. offset: in the mesh's units. sky: (3,) the way up. came: as of `apart_by`, by shell.
    """
    label = shells_of(mesh).label
    vectors = face_vectors(mesh.positions, mesh.indices)
    area = np.linalg.norm(vectors, axis=1)
    size = np.bincount(label, area) / max(float(area.sum()), 1e-300)  # of the whole, whatever its unit
    one, other = label[found.first], label[found.second]
    swap = (size[one] < size[other]) | ((size[one] == size[other]) & (one > other))
    rows = one != other
    larger, smaller = (
        np.where(swap, *sides)[rows] for sides in ((found.second, found.first), (found.first, found.second))
    )
    corner = mesh.positions.astype(np.float64)[mesh.indices[:, 0]]
    up = vectors[smaller] / np.maximum(area[smaller], 1e-300)[:, None]
    # a two-sided thing that shows its back is seen from where what it lies on looks to
    up[(np.einsum("ki,ki->k", vectors[larger], up) < 0) & ~both[larger]] *= -1
    height = np.einsum("ki,ki->k", corner[smaller] - corner[larger], up)
    moves = apart_by(label[larger], label[smaller], height, up, np.ones(len(size), np.bool_), size, sky, offset, came)
    move = np.zeros((len(size), 3))
    for shell, way in moves.items():
        move[shell] = way
    moving = (move != 0).any(axis=1)
    if not moving.any():
        return mesh, moves
    # a vertex belongs to one shell from here on
    owner = np.repeat(np.where(moving, np.arange(len(size)) + 1, 0)[label], 3)
    pairs, number = np.unique(np.column_stack([mesh.indices.reshape(-1), owner]), axis=0, return_inverse=True)
    shift = np.concatenate([np.zeros((1, 3)), move])[pairs[:, 1]]
    positions = (mesh.positions[pairs[:, 0]].astype(np.float64) + shift).astype(np.float32)
    indices = number.reshape(-1, 3).astype(np.uint32)
    return mesh.with_vertices(pairs[:, 0].astype(np.int64), positions=positions, indices=indices, recipe=None), moves


def uncovered(mesh: Mesh, found: Overlaps) -> Mesh:
    """The mesh without triangles that others of it cover whole (see `covered_in`)."""
    gone = covered_in(mesh, found)
    return mesh.with_triangles(np.flatnonzero(~gone)) if gone.any() and not gone.all() else mesh


class Twins:
    """Which parts of a scene are twins, one of which is drawn in vain: as many triangles of the same materials within the
    same bounds, and nothing that moves the one and not the other."""

    def __init__(self, scene: Scene) -> None:
        self.scene = scene
        self.box = np.zeros((len(scene.nodes), 2, 3))
        self.box[scene.nodes.parts] = scene.part_bounds
        self.apart_later = scene.nodes.under(moving(scene))

    def of(self, one: int, others: I64) -> bool:
        """Whether one of the others, that cover all of a part, is its twin."""
        kind = self.scene.nodes.mesh
        mesh = self.scene.meshes[kind[one]]
        near = TWINS * np.linalg.norm(self.box[one, 1] - self.box[one, 0])
        close = np.abs(self.box[others] - self.box[one]).max(axis=(1, 2)) <= near
        close &= ~self.apart_later[others] & ~self.apart_later[one]
        drawn = (self.scene.meshes[kind[i]] for i in np.unique(others[close]).tolist())
        return any(other.triangles == mesh.triangles and look_alike(mesh, other) for other in drawn)


def removed(scene: Scene, chosen: Bool, context: StepContext) -> tuple[Scene, list[Change]]:
    """The scene without triangles that lie whole on another part, of the smaller part of each pair."""
    found = between(at_rest(scene), context.workshop, context.progress)
    if isinstance(found, str):
        return scene, [Change(text=f"nothing was removed between parts: {found}", count=0, problem=True)]
    node, triangle, area = found.covered(1)
    mine = chosen[node]
    node, triangle, area = node[mine], triangle[mine], area[mine]
    nodes = scene.nodes
    column, meshes = nodes.mesh.copy(), list(scene.meshes)
    made: dict[tuple[int, bytes], int] = {}
    metres = scene.convention.metres_per_unit
    gone = left = 0
    twins = Twins(scene)
    undrawn: list[int] = []
    touched: list[int] = []
    for one in np.unique(node).tolist():
        mesh = scene.meshes[nodes.mesh[one]]
        rows = node == one
        corners = mesh.positions.astype(np.float64)[mesh.indices[triangle[rows]]] @ nodes.world[one, :3, :3].T * metres
        whole = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1) / 2
        covered = triangle[rows][area[rows] >= WHOLE * whole]
        left += int(rows.sum()) - len(covered)
        if not len(covered):
            continue
        if len(covered) == mesh.triangles:
            if twins.of(one, found.first[found.second == one]):
                column[one] = -1
                undrawn.append(one)
            else:
                left += len(covered)
            continue
        key = (int(nodes.mesh[one]), covered.tobytes())
        if key not in made:
            keep = np.ones(mesh.triangles, np.bool_)
            keep[covered] = False
            made[key] = len(meshes)
            meshes.append(mesh.with_triangles(np.flatnonzero(keep)))
        column[one] = made[key]
        gone += len(covered)
        touched.append(one)
    changes = []
    if touched:
        text = f"{plural(gone, 'covered triangle')} removed from {plural(len(touched), 'part')}"
        changes.append(Change(text=text, count=gone, parts=identities_of(scene, np.array(touched))))
    if undrawn:
        text = f"{plural(len(undrawn), 'part')} that stood on an equal one no longer drawn"
        changes.append(Change(text=text, count=len(undrawn), parts=identities_of(scene, np.array(undrawn))))
    if left:
        text = f"{plural(left, 'triangle is', 'triangles are')} covered in part, or would leave nothing of the part: lift them instead"
        changes.append(Change(text=text, count=left))
    return (with_meshes(scene, column, meshes, context.progress) if touched or undrawn else scene), changes
