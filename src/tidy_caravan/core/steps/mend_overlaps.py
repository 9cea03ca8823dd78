"""Step: surfaces that lie on each other and flicker are lifted apart, or what is covered is removed."""

from __future__ import annotations

from typing import Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.coplanar import Overlaps
from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.shells import shells_of
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, I64, Bool
from tidy_caravan.core.space.axes import axis_vector
from tidy_caravan.core.space.convert import split_viewers
from tidy_caravan.core.steps.bake_transforms import placed
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
from tidy_caravan.core.surroundings.flicker import WHOLE, Flicker, between, covered_in, onto_itself, within
from tidy_caravan.core.surroundings.world import scales
from tidy_caravan.core.words import plural

ROUNDS = 6
"""Of things stacked in one plane each is lifted over the one below it in a round of its own."""


@step
class MendOverlaps(Step):
    """Puts apart what flickers. Of two parts the smaller one moves or gives way; within a part, the smaller shell. Parts
    of one size in a row move by turns.

    Lifted parts move along the way their surface looks, with their node; what hangs below them stays. Removed are
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
        wanted = np.zeros(len(scene.meshes) + 1, np.bool_)
        wanted[scene.nodes.mesh[chosen]] = True
        inner, lost = within(scene, context.workshop, context.progress, wanted[:-1])
        changes = [Change(text=f"{text}, stays as it is", count=1, problem=True) for text in lost.values()]
        if inner:
            make = lifted_shells if self.how == "lift" else uncovered
            folded = [i for i, o in inner.items() if self.how == "lift" and onto_itself(scene.meshes[i], o).any()]
            if folded:
                what = f"{plural(len(folded), 'mesh has', 'meshes have')} surface folded onto itself, which cannot be lifted: "
                stays = identities_of(scene, np.flatnonzero(chosen & np.isin(scene.nodes.mesh, folded)))
                changes.append(Change(text=f"{what}what is covered can be removed", count=len(folded), parts=stays))
            metres, before = scales(scene), {mesh.id for mesh in scene.meshes}
            made = {i: make(scene.meshes[i], o, self.offset_mm / 1000 / float(metres[i])) for i, o in inner.items()}
            scene, changed = replace_meshes(scene, np.flatnonzero(chosen), made)
            if changed.any():
                what = "shells lifted off each other" if self.how == "lift" else "covered triangles removed"
                number = sum(mesh.id not in before for mesh in scene.meshes)
                text = f"{what} within {plural(number, 'mesh', 'meshes')}"
                changes.append(Change(text=text, count=number, parts=identities_of(scene, np.flatnonzero(changed))))
        if self.how == "remove":
            scene, more = removed(scene, chosen, context)
            return scene, [*changes, *more]
        scene = split_viewers(scene)
        chosen = np.append(chosen, np.zeros(len(scene.nodes) - count, np.bool_))
        moved = np.zeros(len(scene.nodes), np.bool_)
        left = 0
        for last in range(ROUNDS + 1):
            found = between(scene, context.workshop, context.progress)
            if isinstance(found, str):
                return scene, [*changes, Change(text=f"parts were not lifted: {found}", count=0, problem=True)]
            shift = shifts(found, chosen, scene, self.offset_mm / 1000)
            if not shift or last == ROUNDS:
                left = len(shift)
                break
            scene = shifted(scene, shift)
            moved[list(shift)] = True
        if left:
            text = f"{plural(left, 'part still lies', 'parts still lie')} on others after {ROUNDS} rounds"
            changes.append(Change(text=text, count=left, problem=True))
        rows = np.flatnonzero(moved)
        if len(rows):
            text = f"{plural(len(rows), 'part')} lifted by {self.offset_mm:g} mm off what {'it' if len(rows) == 1 else 'they'} lay on"
            changes.append(Change(text=text, count=len(rows), parts=identities_of(scene, rows)))
        return scene, changes


def shifts(found: Flicker, chosen: Bool, scene: Scene, offset: float) -> dict[int, F64]:
    """By node how far it is to be moved, in scene units, so that all its overlaps are apart by the offset in metres.

    Parts that lie on each other get different levels, the largest the lowest there is (greedy colouring), so that a
    row of panels goes up and down by one offset and does not become a staircase. What is not chosen stays.
    """
    first, second = found.first, found.second
    pairs = np.unique(np.column_stack([first, second]), axis=0)
    level = levels(pairs, chosen, scene)
    lower = level[first] < level[second]
    node = np.where(lower, second, first)
    apart = level[first] != level[second]
    below = np.where(lower, first, second)
    sky = axis_vector(scene.convention.up)
    out: dict[int, F64] = {}
    move_of = np.zeros((len(scene.nodes), 3))
    above = np.unique(node[apart])
    for one in above[np.argsort(level[above], kind="stable")].tolist():
        rows = apart & (node == one)
        # what it lies on has moved already, being of a lower level
        height = np.where(lower[rows], found.height[rows], -found.height[rows])
        on = np.einsum("ki,ki->k", move_of[below[rows]], found.up[rows])
        wanted_above = (level[one] - level[below[rows]]) * offset - height + on
        ways, number = np.unique(np.round(found.up[rows], 3), axis=0, return_inverse=True)
        need = np.full(len(ways), -np.inf)
        np.maximum.at(need, number.reshape(-1), wanted_above)
        # a slab let into another is flush above and below: of ways against each other the upward one has the last word
        last = np.argsort(ways @ sky, kind="stable")
        ways, need = ways[last], need[last]
        move = np.zeros(3)
        for _ in range(8):
            for direction, wanted in zip(ways, need, strict=True):
                move += direction * max(0.0, float(wanted - direction @ move))
        move_of[one] = move
        out[one] = move / scene.convention.metres_per_unit
    return out


def levels(pairs: I64, chosen: Bool, scene: Scene) -> I64:
    """(N,) level of each node: none the same for two of a pair (K, 2), where at least one of them is chosen."""
    nodes = np.unique(pairs)
    boxes = scene.part_bounds[np.searchsorted(scene.nodes.parts, nodes)]
    size = np.linalg.norm(boxes[:, 1] - boxes[:, 0], axis=1)
    beside: dict[int, list[int]] = {}
    for a, b in pairs.tolist():
        beside.setdefault(a, []).append(b)
        beside.setdefault(b, []).append(a)
    out = np.zeros(len(scene.nodes), np.int64)
    done = ~chosen
    for one in nodes[np.lexsort((nodes, -np.round(size, 6)))].tolist():
        if chosen[one]:
            taken = {int(out[other]) for other in beside[one] if done[other]}
            out[one] = next(k for k in range(len(taken) + 1) if k not in taken)
            done[one] = True
    return out


def shifted(scene: Scene, shift: dict[int, F64]) -> Scene:
    """The scene with nodes moved in the world; what hangs below them stays where it is."""
    world = scene.nodes.world.copy()
    rows = np.array(list(shift), np.int64)
    world[rows, :3, 3] += np.array(list(shift.values()))
    return placed(scene, rows, world)


def lifted_shells(mesh: Mesh, found: Overlaps, offset: float) -> Mesh:
    """The mesh with the smaller shell of each overlap moved off the other; vertices that both use are split."""
    shells = shells_of(mesh)
    vectors = face_vectors(mesh.positions, mesh.indices)
    area = np.linalg.norm(vectors, axis=1)
    size = np.bincount(shells.label, area)
    one, other = shells.label[found.first], shells.label[found.second]
    smaller = np.where((size[one] < size[other]) | ((size[one] == size[other]) & (one > other)), one, other)
    triangle = np.where(smaller == one, found.first, found.second)
    apart = one != other
    move = np.zeros((len(size), 3))
    normals = vectors[triangle] / np.maximum(area[triangle], 1e-300)[:, None]
    for shell in np.unique(smaller[apart]).tolist():
        rows = apart & (smaller == shell)
        for direction in np.unique(np.round(normals[rows], 3), axis=0):
            move[shell] += direction * max(
                0.0, offset + float(found.distance[rows].max()) - float(direction @ move[shell])
            )
    moving = (move != 0).any(axis=1)
    if not moving.any():
        return mesh
    # a vertex belongs to one shell from here on
    owner = np.repeat(np.where(moving, np.arange(len(size)) + 1, 0)[shells.label], 3)
    pairs, number = np.unique(np.column_stack([mesh.indices.reshape(-1), owner]), axis=0, return_inverse=True)
    shift = np.concatenate([np.zeros((1, 3)), move])[pairs[:, 1]]
    positions = (mesh.positions[pairs[:, 0]].astype(np.float64) + shift).astype(np.float32)
    indices = number.reshape(-1, 3).astype(np.uint32)
    return mesh.with_vertices(pairs[:, 0].astype(np.int64), positions=positions, indices=indices, recipe=None)


def uncovered(mesh: Mesh, found: Overlaps, offset: float) -> Mesh:
    """The mesh without triangles that others of it cover whole (see `covered_in`)."""
    gone = covered_in(mesh, found)
    return mesh.with_triangles(np.flatnonzero(~gone)) if gone.any() and not gone.all() else mesh


def removed(scene: Scene, chosen: Bool, context: StepContext) -> tuple[Scene, list[Change]]:
    """The scene without triangles that lie whole on another part, of the smaller part of each pair."""
    found = between(scene, context.workshop, context.progress)
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
    twins: list[int] = []
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
            equal = (found.second == one) & (nodes.mesh[found.first] == nodes.mesh[one])
            if equal.any():
                column[one] = -1
                twins.append(one)
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
    if twins:
        text = f"{plural(len(twins), 'part')} that stood on an equal one no longer drawn"
        changes.append(Change(text=text, count=len(twins), parts=identities_of(scene, np.array(twins))))
    if left:
        text = f"{plural(left, 'triangle is', 'triangles are')} covered in part, or would leave nothing of the part: lift them instead"
        changes.append(Change(text=text, count=left))
    return (with_meshes(scene, column, meshes, context.progress) if touched or twins else scene), changes
