"""Step: modular pieces that are not quite whole cells are fitted to them."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.stretched import other_shapes, put_apart, stretched_meshes
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, Bool
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
from tidy_caravan.core.surroundings.grid import EXACT_M, TWICE, cell_of, drawn_off, pieces_of
from tidy_caravan.core.surroundings.world import scales, untouchable
from tidy_caravan.core.words import plural

EXACT = 0.02
"""Part of EXACT_M, and so of a hundredth of a millimetre, below which nothing is left to fit."""
SLANTED = 0.02
"""Slope of a surface from which on it would be bent, and not only longer, where a piece is stretched across it."""
CLEAR = 2.0
"""Times the way that a border goes in which must be clear before it, so that nothing comes to lie on anything else."""
EVEN = 1.0001
"""Largest ratio of the sizes that a piece is drawn at, along any axis, for one cell to be its own."""


@step
class FitGrid(Step):
    """Brings the sizes of modular pieces to whole cells, along their own axes; thicknesses stay.

    The end that is nearer to a corner of a cell, seen from the pivot, stays; the other moves. With `border` only what is
    near that end goes along, so that profiles keep their thickness; the border is drawn further in where it would cut a rail or
    fold a fine surface. With `whole` all of the piece is stretched. What is whole cells, and drawn a little off by its node where
    others of its mesh are not, gets the scale of those, about its pivot: the mesh stays shared, and what hangs on the node where it is.
    """

    title = "Fit to the grid"
    summary = "Brings modular pieces to whole cells, by moving the border or stretching the whole."

    phase = Phase.CLEAN
    once = False

    kind: Literal["fit_grid"] = "fit_grid"
    cell: float = parameter(
        0.0, "Cell", "Edge of a cell; 0 takes the destination's, or infers it from the pieces", "m", ge=0, le=1000
    )
    how: Literal["border", "whole"] = parameter(
        "border", "Fit by", "border: only what is near the end is moved; whole: the piece is stretched"
    )
    border_mm: float = parameter(
        200.0, "Border", "How near to the end is near", "mm", only={"how": ["border"]}, gt=0, le=100_000
    )
    most_mm: float = parameter(30.0, "Up to", "What is further off is meant, and told", "mm", gt=0, le=10_000)

    def effects(self) -> tuple[Effect, ...]:
        why = "Modular pieces were fitted to their grid by a step."
        return (
            Effect(Aspect.POSITIONS, self.most_mm * 3**0.5, why),
            Effect(Aspect.NORMALS, 5.0),
            Effect(Aspect.SHARING),
        )

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        chosen = context.selected(self.where, scene) & (scene.nodes.mesh >= 0)
        seen = put_apart(scene, self.shapes(scene, chosen))
        cell = self.cell or context.destination.grid_cell or cell_of(pieces_of(seen))
        if not cell:
            return scene, [Change(text="no cell was given, and the sizes of the pieces do not tell one", count=0)]
        scene, changes = self.drawn_as_others(scene, seen, chosen, cell)
        shapes = self.shapes(scene, chosen)
        seen = put_apart(scene, shapes)
        made, far, uneven = self.pieces(seen, chosen, cell)
        if seen is not scene:  # only what is fitted needs a mesh of its own shape
            scene = put_apart(scene, shapes & np.isin(seen.nodes.mesh, list(made)))
            made, _, _ = self.pieces(scene, chosen, cell)
        out, changed = replace_meshes(scene, np.flatnonzero(chosen), made) if made else (scene, np.zeros(0, np.bool_))
        if made:
            text = f"{plural(len(made), 'piece')} fitted to whole cells of {cell:g} m"
            changes.append(Change(text=text, count=len(made), parts=identities_of(scene, np.flatnonzero(changed))))
        if far:
            rows = np.flatnonzero(chosen & np.isin(seen.nodes.mesh, far))
            text = f"{plural(len(far), 'piece is', 'pieces are')} more than {self.most_mm:g} mm off along an axis, and left there"
            changes.append(Change(text=text, count=len(far), parts=identities_of(scene, rows)))
        if uneven:
            rows = np.flatnonzero(chosen & np.isin(seen.nodes.mesh, uneven))
            text = (
                f"{plural(len(uneven), 'piece is', 'pieces are')} drawn at several sizes or longer one way, so that no one "
                "cell is theirs; left there: bake their scale into their vertices first"
            )
            changes.append(Change(text=text, count=len(uneven), parts=identities_of(scene, rows)))
        return out, changes

    def shapes(self, scene: Scene, chosen: Bool) -> Bool:
        """(N,) those of the chosen nodes that draw their mesh in a shape of their own."""
        return chosen & (other_shapes(scene) | np.isin(scene.nodes.mesh, list(stretched_meshes(scene))))

    def drawn_as_others(self, scene: Scene, seen: Scene, chosen: Bool, cell: float) -> tuple[Scene, list[Change]]:
        """The scene with the scale set back of chosen nodes (N,) that draw a piece of whole cells a little off. seen: the scene with
        the shapes of stretched ones."""
        drawn = drawn_off(seen, pieces_of(seen), cell)
        mine = chosen[drawn.parts] & (drawn.off * 1000 <= self.most_mm)
        held = mine & untouchable(scene)[drawn.parts]
        changes = []
        if held.any():
            text = f"{plural(int(held.sum()), 'part stays, since a clip or bones move it', 'parts stay, since clips or bones move them')} at the scale that is drawn"
            changes.append(Change(text=text, count=int(held.sum()), parts=identities_of(scene, drawn.parts[held])))
        rows, factor = drawn.parts[mine & ~held], drawn.factor[mine & ~held]
        if not len(rows):
            return scene, changes
        scale = np.ones((len(scene.nodes), 3))
        scale[rows] = factor
        local = scene.nodes.local.copy()
        local[:, :3, :3] *= scale[:, None, :]
        below = np.flatnonzero(scene.nodes.parent >= 0)
        above = scene.nodes.parent[below]
        local[below, :3, :] /= scale[above, :, None]  # what hangs on them stays where it is
        text = (
            f"{plural(len(rows), 'part is', 'parts are')} drawn in whole cells of {cell:g} m, as others of their mesh"
        )
        changes.append(Change(text=text, count=len(rows), parts=identities_of(scene, rows)))
        return scene.but(nodes=replace(scene.nodes, local=local)), changes

    def pieces(self, scene: Scene, chosen: Bool, cell: float) -> tuple[dict[int, Mesh], list[int], list[int]]:
        """By number those of the meshes of chosen nodes that are fitted; those too far off; those drawn at several sizes."""
        metres, largest = scales(scene), scales(scene, largest=True)
        made: dict[int, Mesh] = {}
        far: list[int] = []
        uneven: list[int] = []
        for i in np.unique(scene.nodes.mesh[chosen]).tolist():
            mesh = scene.meshes[i]
            if not mesh.triangles:
                continue
            if largest[i] > EVEN * metres[i]:
                uneven.append(i)
                continue
            moved, left = self.fitted(mesh, cell / float(metres[i]), float(metres[i]))
            if left:
                far.append(i)
            if moved is not None:
                made[i] = moved
        return made, far, uneven

    def fitted(self, mesh: Mesh, cell: float, metres: float) -> tuple[Mesh | None, bool]:
        """The mesh in whole cells, None where it is that already; and whether an axis is too far off. cell: in units of
        the mesh. metres: of a unit."""
        box = mesh.bounds
        points = mesh.positions.astype(np.float64)
        vectors = np.abs(face_vectors(mesh.positions, mesh.indices))
        slope = vectors / np.maximum(np.linalg.norm(vectors, axis=1, keepdims=True), 1e-300)
        left = changed = False
        for axis in range(3):
            low, high = box[0, axis], box[1, axis]
            size = high - low
            if size < TWICE * cell:
                continue
            off = size - max(np.rint(size / cell), 1.0) * cell
            if abs(off) * metres <= EXACT * EXACT_M:
                continue
            if abs(off) * metres * 1000 > self.most_mm:
                left = True
                continue
            stays = low if away(low, cell) <= away(high, cell) else high
            column = points[:, axis]
            way = 1.0 if stays == low else -1.0
            if self.how == "whole":
                points[:, axis] = stays + (column - stays) * (size - off) / size
            else:
                reach = min(self.border_mm / 1000 / metres, size / 2)
                at = (column - stays) * way
                points[:, axis] -= way * off * moved_along(at, at[mesh.indices], slope[:, axis], size - reach, off)
            changed = True
        return (replace(mesh, positions=points.astype(np.float32), recipe=None) if changed else None), left


def moved_along(at: F64, corners: F64, slope: F64, border: float, off: float) -> F64:
    """(V,) how much of the way of the end vertices go, 1 for those beyond the border, by how far `at` (V,) they are from the end
    that stays. corners: (F, 3) the same by triangle. slope: (F,) how far triangles are from running along the axis, 0 to 1.

    Where vertices stand so near that they would come to lie on or past each other, or slanted surface runs across, as of a
    rail, the border is drawn further in, up to half its place. Where that helps nothing, what lies between both ends is squeezed evenly.
    O(F log F).
    """
    places = np.unique(at)
    gap, middle = np.diff(places), (places[1:] + places[:-1]) / 2
    slanted = slope > SLANTED
    begin, end = np.sort(corners[slanted].min(axis=1)), np.sort(corners[slanted].max(axis=1))
    bent = np.searchsorted(begin, places[:-1], side="right") - np.searchsorted(end, places[:-1], side="right")
    free = (gap >= CLEAR * off) & (places[:-1] <= border) & (middle >= border / 2)
    for good in (free & (bent == 0), free):
        if good.any():
            return np.asarray(at > middle[np.flatnonzero(good)[-1]], np.float64)
    stays = min(float(at.max()) - border, border / 2)
    out: F64 = np.clip((at - stays) / (border - stays), 0.0, 1.0)
    return out


def away(place: float, cell: float) -> float:
    return abs(place - round(place / cell) * cell)
