"""Step: an image lies on a surface exactly, as on a screen, a timetable or a poster."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.conventions.content import contents_meant
from tidy_caravan.core.geometry.content import Stance, laid
from tidy_caravan.core.geometry.projection import box, split
from tidy_caravan.core.pace import alive, paced
from tidy_caravan.core.scene import Axis, Mesh, Scene
from tidy_caravan.core.scene.arrays import I64, AnyArray
from tidy_caravan.core.steps.base import (
    Change,
    Phase,
    Step,
    StepContext,
    Where,
    identities_of,
    parameter,
    step,
    with_meshes,
)
from tidy_caravan.core.surroundings.content import Content, contents_of, stance_in, surface_in
from tidy_caravan.core.words import figure, plural
from tidy_caravan.core.work.heavy import Done, Piece, Work
from tidy_caravan.core.work.meshes import SOURCE, STALE, arrays_of, mesh_of, remade

LAID = Work("content", 2, f"{__name__}:laid_out", native=False)
TURNS = {"no": 0, "quarter": 90, "half": 180, "three_quarters": 270}
LISTED = 20
"""Surfaces that are told one by one."""
SAME = 1e-6
"""Part of an image by which coordinates may be off and stay as they are."""
STRETCHED = 1.02
"""Times by which an image may be wider or narrower than it is before that is told."""


def laid_out(
    arrays: Mapping[str, AnyArray],
    linear: list[float],
    stance: list[float],
    slots: list[int],
    axis: Axis,
    places: list[list[float]],
    aspects: list[float],
    how: Mapping[str, Any],
) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on one mesh: the first UV set of the surface that shows an image. linear: 3 × 3, from the mesh to metres in the
    world. stance: as of `Stance.values`. axis: the upright one there. slots: whose triangles show it. places: of each, six
    numbers of what its texture does to coordinates. aspects: width by height of each image, 0 where unknown."""
    mesh = mesh_of(arrays)
    found = surface_in(mesh, np.array(linear).reshape(3, 3), Stance.of(stance), slots)
    if found is None:
        return {}, {"reason": "its surface is bent both ways, or goes all round"}
    rows, surface = found
    if not (surface.size > 0).all():
        return {}, {"reason": "its surface has no area"}
    turn, offset = int(how["turn"]), np.array(how["offset"])
    given = dict(zip(slots, zip(places, aspects, strict=True), strict=True))
    image = np.zeros((len(rows), 3, 2))
    for slot in np.unique(mesh.material[rows]).tolist():
        mine = mesh.material[rows] == slot
        place, aspect = given[slot]
        wanted = laid(surface, aspect, how["fit"], turn, how["flip"], how["scale"], offset)
        matrix = np.array(place).reshape(2, 3)
        image[mine] = (wanted[mine] - matrix[:, 2]) @ np.linalg.inv(matrix[:, :2]).T
    if mesh.uvs and np.abs(mesh.uvs[0][mesh.indices[rows]] - image).max() < SAME:
        return {}, {}
    base = np.arange(mesh.vertices)
    if not mesh.uvs:  # what shows no image gets a plain one
        frame = np.eye(4)
        frame[:3, :3] = np.array(linear).reshape(3, 3)
        made = box(mesh, frame, axis, 1.0, Stance.of(stance).hand)
        base, mesh = made.source, Mesh(mesh.positions[made.source], made.indices, mesh.material, uvs=(made.uv,))
    side = np.zeros((mesh.triangles, 3), np.int64)
    side[rows] = 1
    source, indices, _ = split(mesh, side, 2)
    uv = mesh.uvs[0][source].copy()
    uv[indices[rows].reshape(-1)] = image.reshape(-1, 2).astype(np.float32)
    return {SOURCE: base[source], "indices": indices, "uv0": uv, STALE: np.zeros(0)}, {
        "width": float(surface.size[0]), "height": float(surface.size[1]), "bent": surface.bent,
    }  # fmt: skip


@step
class FitContent(Step):
    """Lays an image on a surface exactly, as on a screen, a timetable, a poster or a projection wall: it covers it once,
    upright and not mirrored as seen from the front. A flat surface is laid out as it stands, one that is bent one way is
    unrolled; of a body it is the largest face that stands. What the texture's own offset, turn and scale do is reckoned
    with. For no parts in particular it is for those that are named for it, as the survey finds them. Parts that share a mesh
    and stand differently get one each where the image would not be upright on all.
    """

    title = "Fit content"
    summary = "An image covers its surface once, upright and not mirrored: screens, timetables, posters."

    phase = Phase.COORDINATES
    once = False

    kind: Literal["fit_content"] = "fit_content"
    material: str = parameter("", "Material", "Name of the material that shows it; empty: all that show an image")
    fit: Literal["fill", "whole", "cut"] = parameter(
        "fill",
        "Fit",
        "fill: stretched to the surface; whole: all of the image shows, more of its texture beside it; cut: it keeps its "
        "shape and covers the surface, its edges do not show",
    )
    turn: Literal["no", "quarter", "half", "three_quarters"] = parameter(
        "no", "Turn", "Clockwise, as seen from the front, of a whole turn"
    )
    flip: Literal["no", "sideways", "upside_down"] = parameter("no", "Flip", "Mirror the image after it was turned")
    scale_percent: float = parameter(100.0, "Scale", "Size of the image on the surface", "%", gt=0, le=10_000)
    right_percent: float = parameter(0.0, "Offset right", "Of the surface's width", "%", ge=-1000, le=1000)
    down_percent: float = parameter(0.0, "Offset down", "Of the surface's height", "%", ge=-1000, le=1000)
    pixels_wide: int = parameter(
        0, "Image width", "Of what is to be shown; 0: of the material's image", "px", ge=0, le=100_000
    )
    pixels_high: int = parameter(
        0, "Image height", "Of what is to be shown; 0: of the material's image", "px", ge=0, le=100_000
    )
    pixels_per_metre: float = parameter(
        200.0, "Wanted resolution", "What size of image would have so many is told", "px/m", gt=0, le=100_000
    )

    def effects(self) -> tuple[Effect, ...]:
        return (Effect(Aspect.FIRST_UV), Effect(Aspect.TANGENTS), Effect(Aspect.SHARING))

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        nodes = scene.nodes
        rows = np.flatnonzero(context.selected(self.where, scene) & (nodes.mesh >= 0))
        if self.where == Where() and not self.material:
            meant = [content.users for content, *_ in contents_meant(scene, alive(context.progress))]
            rows = np.sort(np.concatenate([rows[:0], *meant]))
        found = contents_of(scene, rows, self.material, (self.pixels_wide, self.pixels_high))
        stance = stance_in(scene).values
        how = {
            "fit": self.fit, "turn": TURNS[self.turn], "flip": self.flip, "scale": self.scale_percent / 100,
            "offset": [self.right_percent / 100, self.down_percent / 100],
        }  # fmt: skip
        pieces = [
            Piece(
                scene.meshes[c.mesh].id,
                arrays_of(scene.meshes[c.mesh]),
                {
                    "linear": c.linear.reshape(-1).tolist(), "stance": stance, "axis": scene.convention.up,
                    "slots": list(c.slots), "places": [p.reshape(-1).tolist() for p in c.places],
                    "aspects": list(c.aspects), "how": how,
                },
                size=max(1, scene.meshes[c.mesh].triangles),
            )
            for c in paced(found, alive(context.progress))
        ]  # fmt: skip
        changes = self.passed_over(scene, rows, found)
        column, meshes = nodes.mesh.copy(), list(scene.meshes)
        told: list[tuple[Content, Mapping[str, Any]]] = []
        kinds = [scene.meshes[c.mesh] for c in found]
        outcomes = context.workshop.do(LAID, pieces, context.progress)
        for content, mesh, outcome in paced(list(zip(found, kinds, outcomes, strict=True)), alive(context.progress)):
            reason = outcome.figures.get("reason", "") if isinstance(outcome, Done) else outcome.reason
            if reason or not isinstance(outcome, Done):
                text = f"“{mesh.name or mesh.id[:8]}” stays as it is: {reason}"
                changes.append(
                    Change(text=text, count=len(content.users), problem=True, parts=identities_of(scene, content.users))
                )
                continue
            made = remade(mesh, outcome.arrays)
            if made.id == mesh.id:
                continue
            column[content.users] = len(meshes)
            meshes.append(made)
            told.append((content, outcome.figures))
        if not told:
            return scene, changes
        out = with_meshes(scene, column, meshes, context.progress)
        return out, [*(self.tell(scene, c, f) for c, f in told[:LISTED]), *self.rest(scene, told[LISTED:]), *changes]

    def passed_over(self, scene: Scene, rows: I64, found: Sequence[Content]) -> list[Change]:
        """Says which parts show an image by another set than the first, which this is not for."""
        known = np.concatenate([rows[:0], *(c.users for c in found)])
        shows = [bool(m.uses()) and self.material in ("", m.name) for m in scene.materials]
        others = scene.by_slots(lambda slots: any(s >= 0 and shows[s] for s in slots))
        left = np.setdiff1d(rows, known)
        left = left[others[scene.nodes.mesh[left]]]
        if not len(left):
            return []
        text = f"{plural(len(left), 'part stays as it is', 'parts stay as they are')}: no image is read there from the first UV set"
        return [Change(text=text, count=len(left), problem=True, parts=identities_of(scene, left))]

    def tell(self, scene: Scene, content: Content, figures: Mapping[str, Any]) -> Change:
        """What the surface measures, and what of the image that makes."""
        wide, high = figures["width"], figures["height"]
        mesh = scene.meshes[content.mesh]
        pixels = content.pixels[0]
        shape = "bent, " if figures["bent"] else ""
        once = self.fit == "fill" and (self.scale_percent, self.right_percent, self.down_percent) == (100, 0, 0)
        does = "shows its image once" if once else "has its image laid out"
        text = f"“{mesh.name or mesh.id[:8]}” {does}: {shape}{wide:.3g} × {high:.3g} m"
        sides = (high, wide) if self.turn in ("quarter", "three_quarters") else (wide, high)
        if pixels[0] and pixels[1]:
            off = (sides[0] / sides[1]) / (pixels[0] / pixels[1])
            text += f", {pixels[0]} × {pixels[1]} px, {pixels[0] / sides[0]:.0f} pixels a metre"
            if self.fit == "fill" and max(off, 1 / off) > STRETCHED:
                text += f"; it is stretched to {100 * off:.0f} % of its width"
        want = self.pixels_per_metre
        text += f"; {round(sides[0] * want)} × {round(sides[1] * want)} px would be {want:g} a metre"
        return Change(text=text, count=len(content.users), parts=identities_of(scene, content.users))

    @staticmethod
    def rest(scene: Scene, more: list[tuple[Content, Mapping[str, Any]]]) -> list[Change]:
        if not more:
            return []
        parts = np.concatenate([c.users for c, _ in more])
        text = f"{figure(len(more))} more have theirs laid out, on {plural(len(parts), 'part')}"
        return [Change(text=text, count=len(parts), parts=identities_of(scene, parts))]
