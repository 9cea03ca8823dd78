"""Step: faces that are seen from behind are turned over, with the normals that go with them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.winding import sides_of, to_turn, turn_over
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import AnyArray
from tidy_caravan.core.steps.base import (
    Change,
    Phase,
    Step,
    StepContext,
    identities_of,
    parameter,
    per_mesh_work,
    step,
)
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.heavy import Work
from tidy_caravan.core.work.meshes import everything_of, mesh_of

TURN = Work("turn faces", 1, f"{__name__}:turned_faces", native=False)


def turned_faces(arrays: Mapping[str, AnyArray], how: str) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on one mesh: see TurnFaces; nothing when no triangle is to be turned."""
    mesh = mesh_of(arrays)
    sides = sides_of(mesh)
    turn = np.ones(mesh.triangles, np.bool_) if how == "all" else to_turn(mesh, agree=True, outwards=how == "outwards")
    figures = {
        "turned": int(turn.sum()),
        "unsure": 0 if how == "all" else sides.unsure,
        "one_sided": 0 if how == "all" else int(sides.one_sided.sum()),
    }
    return (turn_over(mesh, turn) if turn.any() else {}), figures


@step
class TurnFaces(Step):
    """Turns over triangles that run the other way than their neighbours, and closed shells that look inwards.

    Of two sides of a sheet the smaller is turned. Normals that agree with their triangle afterwards stay as they are;
    the others are turned with it. Nothing moves, and a second time there is nothing left to turn.
    """

    title = "Turn faces"
    summary = "Turns faces that are seen from behind: against their neighbours, inside out, or all of the chosen parts."

    phase = Phase.FACES
    once = False

    kind: Literal["turn_faces"] = "turn_faces"
    how: Literal["agree", "outwards", "all"] = parameter(
        "agree",
        "What to turn",
        "agree: what runs the other way than its neighbours, the smaller side of each sheet; "
        "outwards: that, and closed shells that look inwards; all: every face of the chosen parts",
    )

    def effects(self) -> tuple[Effect, ...]:
        why = "Faces seen from behind were turned over by a step, with their normals."
        return (
            Effect(Aspect.WINDING, why=why),
            Effect(Aspect.NORMALS),
            Effect(Aspect.TANGENTS),
            Effect(Aspect.SHARING),
        )

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        chosen = context.selected(self.where, scene)
        done = per_mesh_work(scene, chosen, context, TURN, {"how": self.how}, arrays=everything_of)
        changes = []
        meshes = sum(f["turned"] > 0 for f in done.figures.values())
        if meshes:
            count = sum(int(f["turned"]) for f in done.figures.values())
            changes.append(
                Change(
                    text=f"{plural(count, 'triangle')} turned over in {plural(meshes, 'mesh', 'meshes')}",
                    count=count,
                    parts=identities_of(scene, np.flatnonzero(done.changed)),
                )
            )
        for name, text in (
            ("unsure", "{} of them on sheets of which nearly half looked the other way: see whether the right half was turned"),
            ("one_sided", "{} cannot be made to agree, as a strip that is twisted cannot"),
        ):  # fmt: skip
            hit = [i for i, f in done.figures.items() if f[name]]
            if hit:
                number = sum(int(done.figures[i][name]) for i in hit)
                parts = identities_of(scene, np.flatnonzero(chosen & np.isin(scene.nodes.mesh, hit)))
                told = plural(number, "sheet") if name == "one_sided" else str(number)
                changes.append(Change(text=text.format(told), count=number, problem=name == "one_sided", parts=parts))
        return done.scene, [*changes, *done.lost]
