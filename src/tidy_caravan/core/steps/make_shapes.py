"""Step: what was no mesh in the source is made into one again, finer or coarser."""

from __future__ import annotations

from typing import Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.recipes import Fineness, estimate, make, settled
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.steps.base import Change, Phase, Step, StepContext, identities_of, parameter, per_mesh, step
from tidy_caravan.core.words import plural

MOST_PER_SHAPE = 4_000_000
MOST_IN_ALL = 20_000_000
"""Triangles that the step makes at the most."""


def same_corners(a: Mesh, b: Mesh) -> bool:
    """Whether two meshes are the same triangles in the same order, however their vertices are joined."""
    return len(a.indices) == len(b.indices) and np.array_equal(a.positions[a.indices], b.positions[b.indices])


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
        metres = scene.convention.metres_per_unit
        asked = self.fineness()
        before = after = planned = 0
        stuck: list[str] = []

        def again(mesh: Mesh) -> Mesh:
            nonlocal before, after, planned
            recipe = mesh.recipe
            if recipe is None or settled(recipe, asked) == Fineness.of(recipe):
                return mesh
            if recipe.kind == "subdivision" and asked.level is None:
                return mesh
            # counted before anything is made: a small recipe can ask for more than any memory holds
            wanted = estimate(recipe, asked, metres)
            if wanted > MOST_PER_SHAPE or planned + wanted > MOST_IN_ALL:
                most = MOST_PER_SHAPE if wanted > MOST_PER_SHAPE else MOST_IN_ALL
                stuck.append(
                    f"“{mesh.name[:60]}” stays as it is: it would take about {wanted:,} triangles, and {most:,} is the limit"
                    + ("" if most == MOST_PER_SHAPE else " for all shapes together")
                )
                return mesh
            planned += wanted
            try:
                first = make(recipe, Fineness.of(recipe), metres, mesh.name)
                if first is None or not same_corners(first, mesh):
                    stuck.append(f"“{mesh.name[:60]}” was changed by an earlier step and cannot be made again here")
                    return mesh
                fresh = make(recipe, asked, metres, mesh.name)
            except (ValueError, KeyError) as error:
                stuck.append(f"“{mesh.name[:60]}” stays as it is: {error}")
                return mesh
            if fresh is None:
                return mesh
            before, after = before + mesh.triangles, after + fresh.triangles
            return fresh

        out, changed = per_mesh(scene, context.selected(self.where, scene), again)
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
