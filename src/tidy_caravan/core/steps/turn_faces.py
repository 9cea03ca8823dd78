"""Step: faces that are seen from behind are turned over, with the normals that go with them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.lots import Lot
from tidy_caravan.core.geometry.vertices import rejoined
from tidy_caravan.core.geometry.winding import sides_of, to_turn, turn_over
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import I64, AnyArray, Bool
from tidy_caravan.core.steps.base import (
    Change,
    Phase,
    Step,
    StepContext,
    identities_of,
    parameter,
    per_mesh_work,
    step,
    untouched,
    with_meshes,
)
from tidy_caravan.core.surroundings.sides import SeenSides, Verdict, open_sheets, seen
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.heavy import Outcome, Piece, Work
from tidy_caravan.core.work.meshes import everything_of, mesh_of, remade

TURN = Work("turn faces", 2, f"{__name__}:turned_faces", native=False, together=f"{__name__}:none_to_turn")


def none_to_turn(pieces: Sequence[Piece]) -> list[Outcome | None]:
    """Work: the same of many small meshes, those that have nothing to turn."""
    how = pieces[0].parameters["how"]
    if how == "all":
        return [None] * len(pieces)

    def sound(lot: Lot, rows: Sequence[int]) -> Bool:
        if how == "agree":
            return lot.ordinary
        return lot.ordinary & ~lot.marked(lot.shells.owner[lot.shells.inwards])

    return untouched(pieces, sound, {"turned": 0, "unsure": 0, "one_sided": 0})


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
    return (rejoined(mesh, turn_over(mesh, turn)) if turn.any() else {}), figures


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
    how: Literal["agree", "outwards", "seen", "all"] = parameter(
        "agree",
        "What to turn",
        "agree: what runs the other way than its neighbours, the smaller side of each sheet; "
        "outwards: that, and closed shells that look inwards; seen: that, and open sheets that can only be seen from "
        "behind; all: every face of the chosen parts",
    )
    unsure: bool = parameter(
        False,
        "Unsure ones too",
        "Turn also what may be an empty room or a building, as the finding asks",
        only={"how": ["seen"]},
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
        if self.how == "seen":
            return to_be_seen(scene, chosen, context, self.unsure)
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


def to_be_seen(scene: Scene, chosen: Bool, context: StepContext, unsure: bool) -> tuple[Scene, list[Change]]:
    """Open sheets whose front is hidden turned to where they can be seen, their own triangles made to agree first."""
    wanted = np.zeros(len(scene.meshes) + 1, np.bool_)
    wanted[scene.nodes.mesh[chosen & (scene.nodes.mesh >= 0)]] = True
    found = seen(scene, context.workshop, context.progress, wanted[:-1])
    if isinstance(found, str):
        return scene, [Change(text=f"no face was turned: {found}", count=0, problem=True)]
    wrong = found.of(Verdict.WRONG, *([Verdict.UNCLEAR] if unsure else []))
    meshes, column = list(scene.meshes), scene.nodes.mesh.copy()
    count = 0
    for i in np.unique(found.mesh[wrong]).tolist():
        mesh = scene.meshes[i]
        label, _ = open_sheets(mesh)
        for sheets, rows in sheets_by_part(
            found, wrong & (found.mesh == i), np.flatnonzero(chosen & (scene.nodes.mesh == i))
        ):
            turn = np.isin(label, sheets) ^ sides_of(mesh).minor
            column[rows] = len(meshes)
            meshes.append(remade(mesh, rejoined(mesh, turn_over(mesh, turn))))
            count += int(turn.sum())
    out, changes = scene, []
    if count:
        changed = column != scene.nodes.mesh
        out = with_meshes(scene, column, meshes)
        text = (
            f"{plural(count, 'triangle')} of {plural(int(wrong.sum()), 'open sheet')} turned to where they can be seen"
        )
        changes.append(Change(text=text, count=count, parts=identities_of(scene, np.flatnonzero(changed))))
    asked = found.of(Verdict.UNCLEAR)
    if asked.any() and not unsure:
        rows = np.flatnonzero(chosen & np.isin(scene.nodes.mesh, found.mesh[asked]))
        text = f"{plural(int(asked.sum()), 'sheet was', 'sheets were')} left: an empty room, or a building"
        changes.append(Change(text=text, count=int(asked.sum()), parts=identities_of(scene, rows)))
    return out, changes


def sheets_by_part(found: SeenSides, wrong: Bool, rows: I64) -> Iterator[tuple[I64, I64]]:
    """Of one mesh: sheets that are to be turned, and the parts of `rows` on which they are; those are told apart where
    instances differ."""
    alone = found.part[wrong]
    common = found.sheet[wrong][alone < 0]
    own: dict[tuple[int, ...], list[int]] = {}
    for row in np.unique(alone[alone >= 0]).tolist():
        own.setdefault(tuple(sorted({*common.tolist(), *found.sheet[wrong][alone == row].tolist()})), []).append(row)
    rest = rows[~np.isin(rows, alone)]
    if len(common) and len(rest):
        yield common, rest
    for sheets, parts in own.items():
        if len(mine := rows[np.isin(rows, parts)]):
            yield np.array(sheets), mine
