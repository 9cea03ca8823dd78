"""Step: edges of more than two triangles are taken apart."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.parting import parted
from tidy_caravan.core.geometry.vertices import many_sided_edges
from tidy_caravan.core.geometry.winding import to_turn, turned
from tidy_caravan.core.scene import Mesh, Scene
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
    untouched,
)
from tidy_caravan.core.surroundings.world import scales
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.heavy import Outcome, Piece, Work
from tidy_caravan.core.work.meshes import POSITIONS, SOURCE, whole_mesh_of, whole_of

PART = Work("part edges", 4, f"{__name__}:taken_apart", native=False, together=f"{__name__}:none_shared")


def none_shared(pieces: Sequence[Piece]) -> list[Outcome | None]:
    """Work: the same of many small meshes, those of which no edge has too many triangles."""
    return untouched(pieces, lambda lot, _: lot.apart, {"before": 0, "after": 0})


def taken_apart(arrays: Mapping[str, AnyArray], offset: float) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on one mesh: its vertices cut where solids and sheets only touch; nothing where no edge has too many."""
    mesh = whole_mesh_of(arrays)
    before = many_sided_edges(mesh)
    # which triangles enclose a solid is told by their winding, were it right
    turn = to_turn(mesh, agree=True, outwards=True)
    right = replace(mesh, indices=turned(mesh.indices, turn)) if turn.any() else mesh
    made = parted(right, offset)
    if made is None or made.left == before:
        return {}, {"before": before, "after": before}
    # a vertex that all its triangles have left is not to stay behind
    needed, drawn = np.zeros(len(made.source), np.bool_), np.zeros(mesh.vertices, np.bool_)
    needed[made.indices] = drawn[mesh.indices] = True
    needed |= ~drawn[made.source]
    number = (np.cumsum(needed) - 1).astype(np.uint32)
    return {
        SOURCE: made.source[needed],
        "indices": turned(number[made.indices], turn),
        POSITIONS: made.positions[needed].astype(np.float32),
    }, {"before": before, "after": made.left}


@step
class PartEdges(Step):
    """Takes apart edges that three or more triangles share: boxes that touch along an edge, a wall that stands on a floor
    of the same mesh. Triangles that enclose one solid stay together, as do the two sides of a sheet; each of the others
    gets vertices of its own, drawn a little into its own side, since receivers join what stands at one place. The slit is
    narrower than the gaps that light is said to leak through."""

    title = "Part edges"
    summary = "Takes apart edges of more than two triangles, so that every piece of a mesh has an inside or two sides."

    phase = Phase.CLEAN

    kind: Literal["part_edges"] = "part_edges"
    offset_mm: float = parameter(0.08, "Apart by", "How far vertices are drawn into their own side", "mm", gt=0, le=10)

    def effects(self) -> tuple[Effect, ...]:
        why = "Edges of more than two triangles were taken apart by a step."
        return (
            Effect(Aspect.POSITIONS, self.offset_mm * 1.01, why),
            Effect(Aspect.NORMALS, 2.0),
            Effect(Aspect.SHARING),
        )

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        chosen = context.selected(self.where, scene)
        largest = scales(scene, largest=True)

        def of(i: int, mesh: Mesh) -> dict[str, Any]:
            return {"offset": float(f"{self.offset_mm / 1000 / largest[i]:.6g}")}

        done = per_mesh_work(scene, chosen, context, PART, of, lambda m: m.triangles > 2, whole_of)
        parts = {i: int(f["before"]) - int(f["after"]) for i, f in done.figures.items() if f["before"] != f["after"]}
        left = {i: int(f["after"]) for i, f in done.figures.items() if f["after"]}
        changes = []
        if parts:
            rows = np.flatnonzero(done.changed)
            text = f"{plural(sum(parts.values()), 'edge')} taken apart in {plural(len(parts), 'mesh', 'meshes')}"
            changes.append(Change(text=text, count=sum(parts.values()), parts=identities_of(scene, rows)))
        if left:
            rows = np.flatnonzero(chosen & np.isin(scene.nodes.mesh, list(left)))
            text = (
                f"{plural(sum(left.values()), 'edge')} in {plural(len(left), 'mesh', 'meshes')} stay as they are: the mesh is too "
                f"large for {self.offset_mm:g} mm, or its triangles are too small"
            )
            changes.append(Change(text=text, count=sum(left.values()), parts=identities_of(scene, rows)))
        return done.scene, [*changes, *done.lost]
