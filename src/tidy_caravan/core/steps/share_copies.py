"""Step that finds lost instances again: parts whose meshes are one shape in several places get one mesh to share."""

from __future__ import annotations

from typing import Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.copies.search import TOLERANCE_MM, copies_in, movable, share
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.held import held_bytes
from tidy_caravan.core.steps.base import Change, Phase, Step, StepContext, identities_of, parameter, step
from tidy_caravan.core.words import plural, weight


@step
class ShareCopies(Step):
    """Lays meshes on each other, whatever the order of their vertices and wherever the placement was baked into them, and
    gives those that agree one mesh to share, each part from its own place. Normals, coordinates and colours have to agree
    as well; where only materials differ, the shape is shared and each keeps its own. Nothing moves by more than the
    tolerance. Scales along single axes are a choice: they join boxes of all sizes, whose texels then differ as much."""

    title = "Share copies"
    summary = "Finds parts that are copies of each other and lets them share one mesh, from their own places."

    phase = Phase.SHARING
    once = False

    kind: Literal["share_copies"] = "share_copies"
    tolerance_mm: float = parameter(
        TOLERANCE_MM, "Tolerance", "How far a corner of a copy may be off; never more than a fiftieth of its size", "mm",
        ge=0.001, le=100,
    )  # fmt: skip
    scale: Literal["none", "uniform", "per_axis"] = parameter(
        "uniform", "Scale", "Sizes that count as copies: the same one, any one, or any along each axis"
    )
    mirror: Literal["destination", "yes", "no"] = parameter(
        "destination", "Mirrors", "Whether mirrored copies share too; otherwise as the destination takes them"
    )
    least: int = parameter(2, "Copies", "Families of fewer parts are left as they are", ge=2, le=10_000, unit="parts")

    def effects(self) -> tuple[Effect, ...]:
        why = "Copies share one mesh since a step; their nodes have its pivot and axes."
        return (
            Effect(Aspect.POSITIONS, self.tolerance_mm * 1.01, why),
            Effect(Aspect.NORMALS, 1.0),
            Effect(Aspect.TANGENTS),
            Effect(Aspect.PIVOTS),
            Effect(Aspect.ROTATION),
            Effect(Aspect.SHARING),
        )

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        chosen = context.selected(self.where, scene) & movable(scene)
        mirror = context.destination.negative_scale if self.mirror == "destination" else self.mirror == "yes"
        found = copies_in(scene, context.workshop, context.progress, chosen, self.tolerance_mm, self.scale, mirror)
        done = share(scene, found, chosen, self.least)
        changes = []
        if done.parts.any():
            rows = np.flatnonzero(done.parts)
            before, after = done.fewer(scene)
            saved = held_bytes(scene.meshes) - held_bytes(done.scene.meshes)
            text = (
                f"{plural(len(rows), 'part')} of {plural(len(np.unique(done.family[rows])), 'family', 'families')} share "
                f"{plural(after, 'mesh', 'meshes')} instead of {before}, {weight(saved)} less; "
                f"no corner is off by more than {float(done.off[rows].max()) * 1000:.2g} mm"
            )
            changes.append(Change(text=text, count=before - after, parts=identities_of(scene, rows)))
        if done.askew.any():
            rows = np.flatnonzero(done.askew)
            text = f"{plural(len(rows), 'part')} keep their own mesh: sharing would need a shear that no node can have"
            changes.append(Change(text=text, count=len(rows), problem=True, parts=identities_of(scene, rows)))
        if found.vain:
            text = f"{plural(found.vain, 'mesh', 'meshes')} that look alike by their figures were not all laid on each other"
            changes.append(Change(text=text, count=found.vain, problem=True))
        changes += [Change(text=f"not looked at for copies: {why}", count=1, problem=True) for why in found.lost]
        return done.scene if done.parts.any() else scene, changes
