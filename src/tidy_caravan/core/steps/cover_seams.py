"""Step: seams between modular pieces are covered by a piece of the scene's own."""

from __future__ import annotations

from typing import Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.nodes import with_parts
from tidy_caravan.core.scene.scene import with_all_roots
from tidy_caravan.core.space.transforms import affine_inverse
from tidy_caravan.core.steps.base import Change, Phase, Step, StepContext, identities_of, parameter, step
from tidy_caravan.core.surroundings.gaps import MOST_MM, gaps
from tidy_caravan.core.surroundings.seams import cover_for, modules, places_on, seams_of
from tidy_caravan.core.words import plural


@step
class CoverSeams(Step):
    """Sets a slender piece of the scene, a frame, a sill, a strip, over every straight seam between two modular pieces
    that do not quite meet, or go into each other: along the seam, half let into the surface, on both sides where the pieces have a thickness. It
    shares the mesh of the piece it copies. What is covered already is left; seams that no piece fits are told."""

    title = "Cover seams"
    summary = "Sets a piece of the scene's own over seams between modular pieces that do not quite meet."

    phase = Phase.JOINTS
    once = False

    kind: Literal["cover_seams"] = "cover_seams"
    piece: str = parameter(
        "", "Piece", "Name of the part whose mesh covers the seams; empty takes what fits each best", max_length=300
    )
    most_mm: float = parameter(MOST_MM, "Seams up to", "Wider ones are meant to be open", "mm", gt=0.1, le=100)

    def effects(self) -> tuple[Effect, ...]:
        return (Effect(Aspect.PARTS, why="Pieces that cover seams were added by a step."), Effect(Aspect.SHARING))

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        found = gaps(scene, context.workshop, context.progress, most_mm=self.most_mm)
        if isinstance(found, str):
            return scene, [Change(text=f"seams could not be found out: {found}", count=0, problem=True)]
        chosen = context.selected(self.where, scene)
        pieces, meshes, _ = modules(scene, context.destination.grid_cell)
        nodes = scene.nodes
        given = -1
        if self.piece:
            named = [i for i in nodes.parts.tolist() if nodes.names[i] == self.piece]
            if not named:
                text = f"no part is called “{self.piece}”; nothing was covered"
                return scene, [Change(text=text, count=0, problem=True)]
            given = int(nodes.mesh[named[0]])
        matrices, column, below, bare = [], [], [], 0
        seams = [s for s in seams_of(scene, found, meshes, self.most_mm / 1000) if chosen[list(s.parts)].any()]
        for seam in seams:
            mesh = given if given >= 0 else cover_for(scene, pieces, seam)
            if mesh < 0:
                bare += 1
                continue
            for matrix in places_on(scene, mesh, seam):
                matrices.append(matrix)
                column.append(mesh)
                below.append(seam.parts[0])
        changes = []
        if matrices:
            parent = nodes.parent[below]
            above = np.where((parent >= 0)[:, None, None], nodes.world[np.maximum(parent, 0)], np.eye(4))
            local = affine_inverse(above) @ np.array(matrices)
            taken = {n for n in nodes.names if n.startswith("seam_cover_")}
            names = [n for n in (f"seam_cover_{k + 1}" for k in range(len(taken) + len(matrices))) if n not in taken]
            parts = with_parts(nodes, parent, local, names[: len(matrices)], column, nodes.layer[below])
            scene = with_all_roots(scene.but(nodes=parts))
            where = identities_of(scene, np.unique([list(s.parts) for s in seams]).astype(np.int64))
            text = f"{plural(len(seams) - bare, 'seam')} covered by {plural(len(matrices), 'piece')} of {plural(len(set(column)), 'mesh', 'meshes')}"
            changes.append(Change(text=text, count=len(matrices), parts=where))
        if bare:
            changes.append(Change(text=f"{plural(bare, 'seam')} that no piece of the scene fits", count=bare))
        return scene, changes
