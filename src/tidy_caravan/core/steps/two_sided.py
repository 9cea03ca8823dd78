"""Step: surfaces that are to be seen from both sides, by their material or by faces of their own."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.shells import first_alike
from tidy_caravan.core.geometry.winding import turn_over
from tidy_caravan.core.scene import Material, Mesh, Scene
from tidy_caravan.core.scene.arrays import AnyArray, Bool
from tidy_caravan.core.steps.base import (
    Change,
    Phase,
    Step,
    StepContext,
    identities_of,
    parameter,
    per_mesh,
    per_mesh_work,
    step,
)
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.heavy import Work
from tidy_caravan.core.work.meshes import KEPT, everything_of, mesh_of

DOUBLED = Work("faces back to back", 1, f"{__name__}:back_to_back", native=False)


@step
class TwoSided(Step):
    """Gives thin surfaces two sides: their material is marked, or every triangle gets another back to back with it.

    A material that other parts use as well is copied for the chosen ones. Parts that have two sides already are left
    as they are.
    """

    title = "Two sides"
    summary = "Marks the material of the chosen parts two-sided, or doubles their faces back to back."

    phase = Phase.FACES
    once = False

    kind: Literal["two_sided"] = "two_sided"
    by: Literal["material", "faces"] = parameter(
        "material",
        "Two sides by",
        "material: costs nothing, where the receiver honours it; faces: twice the triangles, for any receiver and "
        "with light of its own on either side",
    )

    def effects(self) -> tuple[Effect, ...]:
        if self.by == "material":
            return (Effect(Aspect.MATERIALS, why="Materials were marked two-sided by a step."), Effect(Aspect.SHARING))
        why = "Faces were doubled back to back by a step."
        free = (Aspect.WINDING, Aspect.NORMALS, Aspect.TANGENTS, Aspect.SHARING)
        return (Effect(Aspect.TRIANGLES, why=why), *(Effect(a) for a in free))

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        chosen = context.selected(self.where, scene) & (scene.nodes.mesh >= 0)
        lost: list[Change] = []
        if self.by == "material":
            out, changed = marked(scene, chosen)
            text = "made two-sided by their material"
        else:
            done = per_mesh_work(scene, chosen, context, DOUBLED, {}, arrays=everything_of)
            out, changed, lost = done.scene, done.changed, done.lost
            text = "given faces on both sides"
        rows = np.flatnonzero(changed)
        if not len(rows):
            return scene, lost
        told = f"{plural(len(rows), 'part')} {text}"
        return out, [Change(text=told, count=len(rows), parts=identities_of(scene, rows)), *lost]


def marked(scene: Scene, chosen: Bool) -> tuple[Scene, Bool]:
    """The scene with two-sided materials on the chosen nodes, and (N,) the nodes that this changes."""
    nodes = scene.nodes
    count = len(scene.materials)
    uses = np.zeros((len(scene.meshes), count + 1), np.bool_)  # the last column is that of no material
    for i, mesh in enumerate(scene.meshes):
        uses[i, np.array(mesh.slots, np.int64)] = True
    drawn = nodes.mesh >= 0
    by_chosen = np.any(uses[np.unique(nodes.mesh[chosen])], axis=0)
    by_others = np.any(uses[np.unique(nodes.mesh[drawn & ~chosen])], axis=0)
    one_sided = np.array([not m.double_sided for m in scene.materials] + [True])
    wanted = by_chosen & one_sided
    materials, number = list(scene.materials), np.append(np.arange(count), -1)
    for slot in np.flatnonzero(wanted).tolist():
        if slot == count:
            number[slot] = len(materials)
            materials.append(Material(name="two-sided", double_sided=True))
        elif by_others[slot]:
            number[slot] = len(materials)
            name = scene.materials[slot].name
            materials.append(replace(scene.materials[slot], name=f"{name} two-sided".strip(), double_sided=True))
        else:
            materials[slot] = replace(scene.materials[slot], double_sided=True)

    def renumbered(mesh: Mesh) -> Mesh:
        slots = number[mesh.material]
        return mesh if np.array_equal(slots, mesh.material) else replace(mesh, material=slots.astype(np.int32))

    out, _ = per_mesh(scene.but(materials=tuple(materials)), chosen, renumbered)
    touched = np.append(np.any(uses & wanted, axis=1), False)
    return out, chosen & touched[nodes.mesh]


def back_to_back(arrays: Mapping[str, AnyArray]) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on one mesh: every triangle a second time, turned over, except those that have such another already."""
    mesh = mesh_of(arrays)
    rows = np.arange(mesh.triangles)
    if not len(rows):
        return {}, {}
    both = replace(
        mesh, indices=np.concatenate([mesh.indices, mesh.indices[:, ::-1]]), material=np.tile(mesh.material, 2)
    )
    first, _, whole = first_alike(both)
    lacking = rows[whole[rows] & (first[mesh.triangles :] >= mesh.triangles)]
    if not len(lacking):
        return {}, {}
    kept = np.concatenate([rows, lacking])
    double = mesh.with_triangles(kept)
    return {KEPT: kept, **turn_over(double, np.arange(len(kept)) >= mesh.triangles)}, {}
