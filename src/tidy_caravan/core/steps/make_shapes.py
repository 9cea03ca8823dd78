"""Step: what was no mesh in the source is made into one again, finer or coarser."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict
from pydantic.alias_generators import to_camel

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.recipes import (
    Fineness,
    as_it_was,
    estimate,
    fineness_now,
    make,
    settled,
    stretch_of,
    triangles_at,
)
from tidy_caravan.core.scene import Mesh, Recipe, Scene
from tidy_caravan.core.scene.arrays import AnyArray
from tidy_caravan.core.steps.base import (
    Change,
    Phase,
    Step,
    StepContext,
    identities_of,
    parameter,
    replace_meshes,
    step,
)
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.heavy import Piece, Work
from tidy_caravan.core.work.isolation import Lost
from tidy_caravan.core.work.meshes import everything_of, mesh_of

MOST_PER_SHAPE = 4_000_000
MOST_IN_ALL = 20_000_000
"""Triangles that the step makes at the most."""
ROUNDED = 2.0**-21
"""Part of a shape's largest coordinate that a few roundings to float32 may come to."""


SHAPES = Work("shapes", 3, f"{__name__}:made_again", native=False)


def piece_of(mesh: Mesh, recipe: Recipe, asked: Fineness, metres: float, wanted: int) -> Piece:
    arrays = {f"recipe:{k}": a for k, a in recipe.arrays.items()}
    parameters = {
        "kind": recipe.kind, "values": dict(recipe.values), "setting": dict(recipe.setting),
        "asked": [asked.tolerance_mm, asked.segments, asked.level], "metres_per_unit": metres,
    }  # fmt: skip
    return Piece(mesh.id, {**arrays, "positions": mesh.positions, "indices": mesh.indices}, parameters, size=wanted)


def made_again(
    arrays: Mapping[str, AnyArray], kind: str, values: Mapping[str, Any], setting: Mapping[str, Any],
    asked: list[Any], metres_per_unit: float,
) -> tuple[dict[str, AnyArray], dict[str, Any]]:  # fmt: skip
    """Work on one mesh with a recipe: the mesh as fine as asked; changed: it is not what its recipe gives any more."""
    own = {name.removeprefix("recipe:"): a for name, a in arrays.items() if name.startswith("recipe:")}
    recipe = Recipe(kind, values, own, setting)
    first = as_it_was(recipe, metres_per_unit)
    if first is None or not same_corners(first, arrays["positions"], arrays["indices"]):
        return {}, {"changed": True}
    fresh = make(recipe, Fineness(*asked), metres_per_unit)
    if fresh is None or fresh.recipe is None:
        return {}, {"changed": False}
    values, setting = dict(fresh.recipe.values), dict(fresh.recipe.setting)
    return everything_of(fresh), {"changed": False, "values": values, "setting": setting}


def same_corners(a: Mesh, positions: AnyArray, indices: AnyArray) -> bool:
    """Whether a mesh is these triangles in this order, however their vertices are joined. What was put under several maps
    was rounded each time."""
    if len(a.indices) != len(indices):
        return False
    size = float(np.abs(a.positions).max(initial=0.0))
    return bool(np.abs(a.positions[a.indices] - positions[indices]).max(initial=0.0) <= ROUNDED * size)


@step
class MakeShapes(Step):
    """Primitives, curves, extrusions and subdivision surfaces, made from their parameters once more.

    Stands before steps that move vertices; a mesh that was changed since it was made is left as it is, and told.
    """

    title = "Make shapes again"
    summary = "Primitives, curves, extrusions and subdivision surfaces with another tolerance, segment count or level."

    phase = Phase.SHAPES
    once = False

    kind: Literal["make_shapes"] = "make_shapes"
    tolerance_mm: float | None = parameter(
        None, "Tolerance", "Largest distance of a chord from its arc", "mm", gt=0, le=1000
    )
    segments: int | None = parameter(None, "Segments", "Of a full circle, instead of a tolerance", ge=3, le=1024)
    level: int | None = parameter(None, "Subdivision level", "Rounds of subdivision", ge=0, le=6)

    def effects(self) -> tuple[Effect, ...]:
        return (Effect(Aspect.SHARING),)

    def fineness(self) -> Fineness:
        return Fineness(self.tolerance_mm, self.segments, self.level)

    def as_source(self, scene: Scene, context: StepContext) -> Scene:
        return self.apply(scene, context)[0]

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        stretched = scene.convention.metres_per_unit * stretch_of(scene.nodes, len(scene.meshes))
        asked = self.fineness()
        before = after = planned = 0
        stuck: list[str] = []
        chosen = context.selected(self.where, scene)
        rows = np.flatnonzero(chosen & (scene.nodes.mesh >= 0))
        todo: list[int] = []
        pieces: list[Piece] = []
        for i in np.unique(scene.nodes.mesh[rows]).tolist():
            mesh = scene.meshes[i]
            recipe, metres = mesh.recipe, float(stretched[i])
            if recipe is None or settled(recipe, asked) == fineness_now(recipe, metres):
                continue
            if recipe.kind == "subdivision" and asked.level is None:
                continue
            # counted before anything is made: a small recipe can ask for more than any memory holds
            wanted = estimate(recipe, asked, metres)
            if wanted > MOST_PER_SHAPE or planned + wanted > MOST_IN_ALL:
                most = MOST_PER_SHAPE if wanted > MOST_PER_SHAPE else MOST_IN_ALL
                stuck.append(
                    f"“{mesh.name[:60]}” stays as it is: it would take about {wanted:,} triangles, and {most:,} is the limit"
                    + ("" if most == MOST_PER_SHAPE else " for all shapes together")
                )
                continue
            planned += wanted
            todo.append(i)
            pieces.append(piece_of(mesh, recipe, asked, metres, wanted))
        made: dict[int, Mesh] = {}
        for i, outcome in zip(todo, context.workshop.do(SHAPES, pieces, context.progress), strict=True):
            mesh = scene.meshes[i]
            if isinstance(outcome, Lost):
                stuck.append(f"“{mesh.name[:60]}” stays as it is: {outcome.reason}")
            elif outcome.figures["changed"]:
                stuck.append(f"“{mesh.name[:60]}” was changed by an earlier step and cannot be made again here")
            elif outcome.arrays and mesh.recipe is not None:
                recipe = replace(mesh.recipe, values=outcome.figures["values"], setting=outcome.figures["setting"])
                made[i] = replace(mesh_of(outcome.arrays), name=mesh.name, recipe=recipe)
                before, after = before + mesh.triangles, after + made[i].triangles
        out, changed = replace_meshes(scene, rows, made)
        changes = [Change(text=text, count=1, problem=True) for text in stuck[:20]]
        if changed.any():
            count = len(np.unique(out.nodes.mesh[changed]))
            changes.insert(
                0,
                Change(
                    text=f"{plural(count, 'shape')} made again, {plural(before, 'triangle')} became {plural(after, 'triangle')}",
                    count=count,
                    parts=identities_of(scene, np.flatnonzero(changed)),
                ),
            )
        return out, changes


class Shape(BaseModel):
    """What was no mesh in the source: its triangles now, and `then` as a step would make it."""

    model_config = ConfigDict(alias_generator=to_camel, populate_by_name=True)

    mesh: int
    name: str
    kind: str
    form: str
    parts: int
    triangles: int
    then: int
    setting: dict[str, Any]


def shapes_in(scene: Scene, asked: MakeShapes | None = None) -> list[Shape]:
    """All that is drawn and was no mesh in the source, with what the step would make of those that it is for."""
    chosen = (asked or MakeShapes()).where.select(scene)
    used = set(np.unique(scene.nodes.mesh[chosen]).tolist())
    counts = scene.instance_counts.tolist()
    stretched = (scene.convention.metres_per_unit * stretch_of(scene.nodes, len(scene.meshes))).tolist()
    out = []
    for i, mesh in enumerate(scene.meshes):
        recipe, metres = mesh.recipe, stretched[i]
        if recipe is None or not counts[i]:
            continue
        after = mesh.triangles
        if asked is not None and i in used and not (recipe.kind == "subdivision" and asked.level is None):
            after = triangles_at(recipe, asked.fineness(), metres)
        word = recipe.values.get("shape") or recipe.values.get("scheme") or recipe.values.get("basis") or recipe.kind
        out.append(
            Shape(
                mesh=i, name=mesh.name, kind=recipe.kind, form=str(word), parts=counts[i], triangles=mesh.triangles,
                then=after, setting=fineness_now(recipe, metres).as_setting(),
            )
        )  # fmt: skip
    return out
