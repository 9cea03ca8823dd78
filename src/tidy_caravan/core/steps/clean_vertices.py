"""Step: vertices that are there twice or for nothing go, and triangles whose corners are no numbers."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.lots import SPARE, Lot
from tidy_caravan.core.geometry.vertices import joined, not_finite
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import AnyArray, Bool
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
)
from tidy_caravan.core.surroundings.world import scales
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.heavy import Outcome, Piece, Work
from tidy_caravan.core.work.meshes import KEPT, SOURCE, whole_mesh_of, whole_of

CLEANED = Work(
    "clean vertices", 2, f"{__name__}:cleaned", native=False, together=f"{__name__}:none_to_clean"
)  # fmt: skip
SIZE = 1e-4
"""Nothing is joined that is further apart than this part of the mesh's size."""


def none_to_clean(pieces: Sequence[Piece]) -> list[Outcome | None]:
    """Work: the same of many small meshes, those that have nothing of it; what is nearly near enough is looked at alone."""

    def sound(lot: Lot, rows: Sequence[int]) -> Bool:
        asked = [pieces[k].parameters for k in rows]
        bad = ~lot.used
        if asked[0]["join"]:
            reach = np.array([one["join_mm"] / one["unit_mm"] for one in asked])
            first = joined(lot.all, np.minimum(reach, SIZE * lot.diagonal) * (1 + SPARE), lot.of_vertex)
            bad |= first != np.arange(len(first))
        return ~lot.marked(lot.of_vertex[bad])

    return untouched(pieces, sound, {"gone": 0, "joined": 0, "loose": 0})


def cleaned(
    arrays: Mapping[str, AnyArray], join_mm: float, join: bool, unit_mm: float
) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on one mesh: its triangles that have places, over vertices that are there once; nothing if all is well."""
    mesh = whole_mesh_of(arrays)
    bad = not_finite(mesh)
    kept = np.flatnonzero(~bad)
    indices = mesh.indices[kept].astype(np.int64)
    out: dict[str, AnyArray] = {}
    figures = {"gone": int(bad.sum()), "joined": 0, "loose": 0}
    if bad.any():
        out[KEPT] = kept
    if join:
        size = float(np.linalg.norm(mesh.bounds[1] - mesh.bounds[0])) if np.isfinite(mesh.bounds).all() else 0.0
        first = joined(mesh, min(join_mm / unit_mm, SIZE * size))
        used = np.zeros(mesh.vertices, np.bool_)
        used[indices] = True
        figures["joined"] = int((used & (first != np.arange(mesh.vertices))).sum())
        indices = first[indices]
    used = np.zeros(mesh.vertices, np.bool_)
    used[indices] = True
    figures["loose"] = mesh.vertices - int(used.sum()) - figures["joined"]
    if figures["loose"] or figures["joined"]:
        out[SOURCE] = np.flatnonzero(used)
        out["indices"] = (np.cumsum(used) - 1)[indices].astype(np.uint32)
    return out, figures


@step
class CleanVertices(Step):
    """Joins vertices that differ in nothing, drops those that no triangle uses, and triangles whose corners are no numbers.

    Seams stay: vertices with other normals, texture coordinates or colours are never joined. The tolerance is in
    millimetres where the part is drawn, and never more than a ten-thousandth of its size or a quarter of an edge.
    """

    title = "Clean vertices"
    summary = (
        "Joins vertices that stand twice with everything alike; drops unused ones and triangles that are no numbers."
    )

    phase = Phase.CLEAN

    kind: Literal["clean_vertices"] = "clean_vertices"
    join: bool = parameter(True, "Join", "Join vertices that differ in nothing; seams stay")
    join_mm: float = parameter(0.01, "Within", "How far apart such vertices may be", "mm", ge=0, le=10)

    def effects(self) -> tuple[Effect, ...]:
        near = (Effect(Aspect.POSITIONS, self.join_mm), Effect(Aspect.NORMALS, 1.0)) if self.join else ()
        why = "Vertices that stood twice and triangles that were no numbers were cleaned by a step."
        return (*near, Effect(Aspect.TRIANGLES, why=why), Effect(Aspect.SHARING))

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        chosen = context.selected(self.where, scene)
        metres = scales(scene, largest=True)  # the smaller ones join less than they might, and none more than was said

        def of(i: int, mesh: Mesh) -> dict[str, Any]:
            return {"join_mm": self.join_mm, "join": self.join, "unit_mm": float(f"{metres[i] * 1000:.4g}")}

        done = per_mesh_work(scene, chosen, context, CLEANED, of, arrays=whole_of)
        changes = []
        for name, one, many, text in (
            ("gone", "triangle", None, "dropped whose corners are no numbers"),
            ("joined", "vertex", "vertices", "joined with others that they were the same as"),
            ("loose", "unused vertex", "unused vertices", "dropped"),
        ):
            meshes = [i for i, f in done.figures.items() if f[name]]
            count = sum(int(done.figures[i][name]) for i in meshes)
            if count:
                rows = np.flatnonzero(chosen & np.isin(scene.nodes.mesh, meshes))
                told = f"{plural(count, one, many)} {text}"
                changes.append(Change(text=told, count=count, parts=identities_of(scene, rows)))
        return done.scene, [*changes, *done.lost]
