"""Step: coarser meshes beside the whole ones, each within its own error bound."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, Literal

import numpy as np

from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.levels import Level, in_use
from tidy_caravan.core.steps.base import Change, Phase, Step, StepContext, identities_of, parameter, step
from tidy_caravan.core.steps.density import SIMPLIFY
from tidy_caravan.core.surroundings.world import scales
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.heavy import Piece
from tidy_caravan.core.work.isolation import Lost
from tidy_caravan.core.work.meshes import remade, whole_of

LEAST_SAVED = 0.8
"""A level with more than this part of the triangles of the one before is none."""


@step
class LevelsOfDetail(Step):
    """Makes up to four coarser meshes for each mesh of the parts, every one simplified from the whole mesh within a bound
    of its own, so that seams, borders, outlines and both UV sets are kept. Parts go on drawing the whole mesh; every
    level is delivered as a file of its own with the same tree, names and places, and proven on arrival against the
    whole. A level that would save less than a fifth of the triangles is not made: the mesh is in that file as it is in the
    one before, and a file that nothing is coarser in is none. After steps that change meshes, since
    levels belong to a mesh as it is."""

    title = "Levels of detail"
    summary = "Coarser meshes for further away, each within its own error bound and delivered as a file of its own."

    phase = Phase.LEVELS
    once = False

    kind: Literal["levels_of_detail"] = "levels_of_detail"
    levels: int = parameter(2, "Levels", "Coarser meshes beside the whole one", "levels", ge=1, le=4)
    error_mm: float = parameter(
        5.0, "Error bound", "Furthest that the surface of the first level may come away", "mm", gt=0, le=10_000
    )
    coarser: float = parameter(4.0, "Each coarser by", "Bound of a level against the one before", "times", gt=1, le=100)
    least_triangles: int = parameter(
        200, "From", "Meshes with fewer triangles need no levels", "triangles", ge=4, le=1_000_000_000
    )

    def bound(self, level: int) -> float:
        """Millimetres that the surface of a level, counted from 0, may come away."""
        return float(self.error_mm * self.coarser**level)

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        chosen = np.flatnonzero(context.selected(self.where, scene) & (scene.nodes.mesh >= 0))
        largest = scales(scene, largest=True)
        targets = [
            i
            for i in np.unique(scene.nodes.mesh[chosen]).tolist()
            if scene.meshes[i].triangles >= self.least_triangles and not scene.meshes[i].morphs
        ]

        def piece(i: int, level: int) -> Piece:
            mesh = scene.meshes[i]
            values = {"bound": float(f"{self.bound(level) / 1000 / largest[i]:.9g}"), "share": 0.0}
            return Piece(mesh.id, whole_of(mesh), values, 60 + mesh.triangles / 2000, max(1, mesh.triangles))

        asked = [(i, level) for i in targets for level in range(self.levels)]
        outcomes = context.workshop.do(SIMPLIFY, [piece(i, level) for i, level in asked], context.progress)
        made: dict[int, dict[int, Level]] = {i: {} for i in targets}
        off: dict[int, float] = {}
        changes: list[Change] = []
        for (i, level), outcome in zip(asked, outcomes, strict=True):
            mesh = scene.meshes[i]
            if isinstance(outcome, Lost):
                parts = identities_of(scene, chosen[scene.nodes.mesh[chosen] == i])
                text = f"“{mesh.name or mesh.id[:8]}” got no level {level + 1}: {outcome.reason}"
                changes.append(Change(text=text, count=len(parts), problem=True, parts=parts))
                continue
            before = list(made[i].values())[-1].mesh.triangles if made[i] else mesh.triangles
            if outcome.arrays and int(outcome.figures["after"]) <= LEAST_SAVED * before:
                coarse = replace(remade(mesh, outcome.arrays), name=mesh.name)
                made[i][level] = Level(coarse, self.bound(level))
                off[level] = max(off.get(level, 0.0), float(outcome.figures["error"]) * float(largest[i]) * 1000)
        known = {i: levels for i, levels in in_use(scene).items() if i not in {scene.meshes[k].id for k in targets}}
        numbers = made_at_all(made)
        fresh = {scene.meshes[i].id: in_turn(scene.meshes[i], own, numbers) for i, own in made.items() if own}
        if fresh or len(known) != len(scene.levels):
            scene = scene.but(levels={**known, **fresh})
        return scene, [*self.told(scene, chosen, made, off), *changes]

    def told(self, scene: Scene, chosen: Any, made: dict[int, dict[int, Level]], off: dict[int, float]) -> list[Change]:
        out = []
        numbers = made_at_all(made)
        for number, level in enumerate(numbers):
            rows = [i for i, levels in made.items() if level in levels]
            before = sum(scene.meshes[i].triangles for i in rows)
            after = sum(made[i][level].mesh.triangles for i in rows)
            parts = identities_of(scene, chosen[np.isin(scene.nodes.mesh[chosen], rows)])
            text = (
                f"level {number + 1} of {plural(len(rows), 'mesh', 'meshes')}: {plural(before, 'triangle')} brought down to "
                f"{plural(after, 'triangle')}, {off.get(level, 0.0):.2g} mm off at most"
            )
            out.append(Change(text=text, count=len(rows), parts=parts))
        return out


def made_at_all(made: dict[int, dict[int, Level]]) -> list[int]:
    """The levels, counted from 0, at which any mesh has one of its own: each of them is a file."""
    return sorted({level for levels in made.values() for level in levels})


def in_turn(mesh: Mesh, made: dict[int, Level], numbers: list[int]) -> tuple[Level, ...]:
    """The levels of a mesh in the order of the files that they go to. Where it has none of its own it stays as it was in the
    one before, since others would be further off than that file says."""
    out: list[Level] = []
    for number in numbers:
        out.append(made.get(number) or (out[-1] if out else Level(mesh, 0.0)))
    return tuple(out[: 1 + max(k for k, number in enumerate(numbers) if number in made)])
