"""Step that takes door leaves out of their frames: each a part of its own with its pivot on the hinge."""

from __future__ import annotations

from typing import Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.doors import Door, door_of, no_doors, up_in
from tidy_caravan.core.geometry.lots import lots_of
from tidy_caravan.core.geometry.pieces import base_of, pieces_of
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.space.axes import axis_vector
from tidy_caravan.core.steps.base import Change, Phase, Step, StepContext, identities_of, parameter, step
from tidy_caravan.core.steps.split_parts import Grown
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.meshes import arrays_of


@step
class PartLeaves(Step):
    """Of a part that is a door in one mesh, the thin tall slabs in its opening become leaves, with the handles and panes on
    them, and the other shells its frame. Doors that share their mesh are taken apart once, and mirrored ones follow."""

    title = "Leaf from frame"
    summary = "Door leaves that are one mesh with their frame become parts of their own, with the pivot on the hinge."

    phase = Phase.SPLIT
    once = False

    kind: Literal["part_leaves"] = "part_leaves"
    hinge: Literal["by_shape", "low", "high"] = parameter(
        "by_shape",
        "Hinge",
        "by_shape: away from the handle, of two leaves the outer edges; low and high: along the mesh's own axis",
    )
    any_slab: bool = parameter(
        False, "Without a handle too", "Slabs that nothing stands out of are leaves as well; panes of glazing look so"
    )

    def effects(self) -> tuple[Effect, ...]:
        why = "Door leaves were taken out of their frames by a step."
        return (
            *(Effect(a, why=why) for a in (Aspect.PARTS, Aspect.NAMES, Aspect.TREE, Aspect.PIVOTS, Aspect.SHARING)),
        )

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        nodes = scene.nodes
        chosen = context.selected(self.where, scene) & (nodes.mesh >= 0) & (nodes.skin < 0)
        grown = Grown(scene)
        frames = leaves = 0
        unsure: list[int] = []
        used = np.unique(nodes.mesh[chosen]).tolist()
        none: set[int] = set()
        for rows, lot in lots_of([arrays_of(scene.meshes[i]) for i in used]):
            context.progress(0, len(used))
            none.update(used[rows[k]] for k in np.flatnonzero(no_doors(lot)).tolist())
        for k, number in enumerate(used):
            context.progress(k, len(used))
            if number in none:
                continue
            users = np.flatnonzero(chosen & (nodes.mesh == number))
            mesh = scene.meshes[number]
            own_up = up_in(nodes.world[users[0]], axis_vector(scene.convention.up))
            door = None if mesh.morphs else door_of(mesh, own_up)
            if door is None or not (door.handle or self.any_slab):
                continue
            hinges = self.hinges(door)
            origins = [base_of(mesh, own_up), *hinges]
            names = ["frame", *(["leaf"] if len(hinges) == 1 else [f"leaf_{n + 1}" for n in range(len(hinges))])]
            grown.put_named(users, pieces_of(mesh, door.label), origins, names)
            frames += len(users)
            leaves += len(users) * len(hinges)
            if self.hinge == "by_shape" and not all(door.sure):
                unsure += users.tolist()
        changes = []
        if frames:
            text = f"{plural(leaves, 'leaf', 'leaves')} taken out of {plural(frames, 'frame')}"
            changes.append(Change(text=text, count=leaves, parts=identities_of(scene, np.array(grown.split))))
        if unsure:
            text = f"{plural(len(unsure), 'door does', 'doors do')} not show by a handle on which side they hang: a guess, the lower side"
            changes.append(Change(text=text, count=len(unsure), parts=identities_of(scene, np.array(unsure))))
        return grown.scene_of(), changes

    def hinges(self, door: Door) -> F64:
        """(leaves, 3) where the leaves hang, in the mesh."""
        out = door.hinges.copy()
        if self.hinge != "by_shape" and len(out) == 1:
            out[0, door.width] = door.boxes[0, 0 if self.hinge == "low" else 1, door.width]
        in_mesh: F64 = out @ door.turn
        return in_mesh
