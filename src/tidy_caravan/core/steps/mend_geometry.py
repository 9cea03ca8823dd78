"""Steps: broken normals, triangles without area or there twice."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.faults import broken_normals, degenerate, opposed_normals, repeated, told_apart
from tidy_caravan.core.geometry.smoothing import split_normals
from tidy_caravan.core.geometry.vertices import rejoined
from tidy_caravan.core.geometry.winding import turn_normals
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import AnyArray
from tidy_caravan.core.steps.base import (
    Change,
    Phase,
    Step,
    StepContext,
    identities_of,
    meshes_changed,
    parameter,
    per_mesh_work,
    step,
    untouched,
)
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.heavy import Outcome, Piece, Work
from tidy_caravan.core.work.meshes import KEPT, SOURCE, STALE, everything_of, mesh_of

THIN_MM = 0.1
"""Height up to which a triangle may go as one without area: some steps of float32 a hundred metres out."""


NORMALS = Work("normals", 3, f"{__name__}:mended_normals", native=False)
REPEATED = Work(
    "repeated triangles", 1, f"{__name__}:without_repeated", native=False, together=f"{__name__}:none_repeated"
)
OPPOSED = Work("opposed normals", 1, f"{__name__}:turned_normals", native=False)
AREALESS = Work(
    "triangles without area", 1, f"{__name__}:without_degenerates", native=False, together=f"{__name__}:none_degenerate"
)


def mended_normals(arrays: Mapping[str, AnyArray], crease_degrees: float) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on one mesh: normals where they are missing or broken, and the vertices they need; nothing if all are good."""
    mesh = mesh_of(arrays)
    bad = np.ones(mesh.vertices, np.bool_) if mesh.normals is None else broken_normals(mesh)
    if not bad.any() or not mesh.triangles:
        return {}, {}
    source, indices, normals = split_normals(mesh, bad, crease_degrees)
    return {**rejoined(mesh, {SOURCE: source, "indices": indices, "normals": normals}), STALE: np.zeros(0)}, {}


def turned_normals(arrays: Mapping[str, AnyArray]) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on one mesh: normals that are all against their triangle turned about; nothing if there are none."""
    mesh = mesh_of(arrays)
    against = opposed_normals(mesh)
    return (rejoined(mesh, turn_normals(mesh, against)) if against.any() else {}), {"turned": int(against.sum())}


def without_degenerates(arrays: Mapping[str, AnyArray]) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on one mesh: the triangles that have an area, unless none has; nothing if all have."""
    bad = degenerate(mesh_of(arrays))
    if not bad.any() or bad.all():
        return {}, {"gone": 0}
    return {KEPT: np.flatnonzero(~bad)}, {"gone": int(bad.sum())}


def none_degenerate(pieces: Sequence[Piece]) -> list[Outcome | None]:
    """Work: the same of many small meshes, those that have nothing of it."""
    return untouched(pieces, lambda lot, _: lot.ordinary, {"gone": 0})


def none_repeated(pieces: Sequence[Piece]) -> list[Outcome | None]:
    """Work: the same of many small meshes, those that have nothing of it."""
    return untouched(pieces, lambda lot, _: lot.apart, {"gone": 0, "unlike": 0})


def without_repeated(arrays: Mapping[str, AnyArray]) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on one mesh: its triangles without those that are there already; nothing if all are different."""
    mesh = mesh_of(arrays)
    again = repeated(mesh)
    if not again.any():
        return {}, {"gone": 0, "unlike": 0}
    return {KEPT: np.flatnonzero(~again)}, {"gone": int(again.sum()), "unlike": told_apart(mesh, again)}


@step
class MendNormals(Step):
    """Computes normals where they are missing or broken; good ones are never touched.

    Edges that bend by more than the crease angle stay hard: their vertices are split. Asked to, it also turns stored
    normals about that are against their face on all three corners; faces that look the wrong way are turned before.
    """

    title = "Mend normals"
    summary = (
        "Normals by area and angle where they are missing or broken, hard at sharp edges; good ones stay untouched."
    )

    phase = Phase.GEOMETRY

    kind: Literal["mend_normals"] = "mend_normals"
    crease_degrees: float = parameter(
        50.0, "Crease angle", "Edges that bend by more stay hard; 180 makes all smooth", "°", ge=0, le=180
    )
    opposed: bool = parameter(
        False,
        "Turn opposed ones",
        "Turn stored normals about that all point against their face, which is lit from behind",
    )

    def effects(self) -> tuple[Effect, ...]:
        why = "Missing and broken normals were replaced by a step."
        if self.opposed:
            why = "Missing and broken normals were replaced by a step, and those against their face turned about."
        return (Effect(Aspect.NORMALS, why=why), Effect(Aspect.TANGENTS), Effect(Aspect.SHARING))

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        chosen = context.selected(self.where, scene)
        done = per_mesh_work(scene, chosen, context, NORMALS, {"crease_degrees": self.crease_degrees})
        changes = [*meshes_changed(scene, done.scene, done.changed, "given normals"), *done.lost]
        if not self.opposed:
            return done.scene, changes
        again = per_mesh_work(done.scene, chosen, context, OPPOSED, {}, arrays=everything_of)
        count = sum(int(f["turned"]) for f in again.figures.values())
        if count:
            text = f"normals of {plural(count, 'triangle')} turned about that were against their face"
            parts = identities_of(again.scene, np.flatnonzero(again.changed))
            changes.append(Change(text=text, count=count, parts=parts))
        return again.scene, [*changes, *again.lost]


@step
class DropDegenerates(Step):
    """Removes triangles without area: thinner than what float32 can tell where they lie. Small details stay."""

    title = "Drop degenerate triangles"
    summary = "Removes triangles that have no area."

    phase = Phase.CLEAN

    kind: Literal["drop_degenerates"] = "drop_degenerates"

    def effects(self) -> tuple[Effect, ...]:
        return (
            Effect(Aspect.TRIANGLES, THIN_MM, "Triangles without area were dropped by a step."),
            Effect(Aspect.SHARING),
        )

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        done = per_mesh_work(scene, context.selected(self.where, scene), context, AREALESS, {})
        changes = meshes_changed(scene, done.scene, done.changed, "cleaned")
        gone = sum(int(f["gone"]) for f in done.figures.values())
        if gone:
            changes.insert(0, Change(text=f"{plural(gone, 'triangle')} without area dropped", count=gone))
        return done.scene, [*changes, *done.lost]


@step
class DropRepeated(Step):
    """Removes triangles that stand exactly where an earlier one of the same mesh stands and look the same way.

    The first of each is kept. Where they differ in material or texture coordinates it matters which, and that is told.
    Two triangles back to back are no repetition: that is how a sheet gets two sides.
    """

    title = "Drop repeated faces"
    summary = "Removes triangles that lie exactly on another of the same mesh and look the same way."

    phase = Phase.CLEAN

    kind: Literal["drop_repeated"] = "drop_repeated"

    def effects(self) -> tuple[Effect, ...]:
        return (
            Effect(Aspect.TRIANGLES, why="Triangles that were there twice were dropped by a step."),
            Effect(Aspect.SHARING),
        )

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        done = per_mesh_work(scene, context.selected(self.where, scene), context, REPEATED, {})
        changes = meshes_changed(scene, done.scene, done.changed, "cleaned")
        gone = sum(int(f["gone"]) for f in done.figures.values())
        unlike = sum(int(f["unlike"]) for f in done.figures.values())
        if unlike:
            text = f"{unlike} of them had another material or other texture coordinates than the one that was kept"
            changes.insert(0, Change(text=text, count=unlike))
        if gone:
            changes.insert(0, Change(text=f"{plural(gone, 'repeated triangle')} dropped", count=gone))
        return done.scene, [*changes, *done.lost]
