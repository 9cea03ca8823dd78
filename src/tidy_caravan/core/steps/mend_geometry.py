"""Steps: broken normals, triangles without area or there twice, pivots far from their part."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.faults import broken_normals, degenerate, repeated, told_apart
from tidy_caravan.core.geometry.smoothing import split_normals
from tidy_caravan.core.scene import Mesh, Scene, extreme_points
from tidy_caravan.core.scene.arrays import F64, AnyArray
from tidy_caravan.core.space.axes import axis_vector
from tidy_caravan.core.space.convert import split_viewers
from tidy_caravan.core.space.transforms import affine_inverse
from tidy_caravan.core.steps.base import (
    Change,
    Phase,
    Step,
    StepContext,
    identities_of,
    parameter,
    per_mesh_work,
    step,
    with_meshes,
)
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.heavy import Work
from tidy_caravan.core.work.meshes import KEPT, SOURCE, mesh_of

THIN_MM = 0.1
"""Height up to which a triangle may go as one without area: some steps of float32 a hundred metres out."""


NORMALS = Work("normals", 1, f"{__name__}:mended_normals", native=False)
REPEATED = Work("repeated triangles", 1, f"{__name__}:without_repeated", native=False)
AREALESS = Work("triangles without area", 1, f"{__name__}:without_degenerates", native=False)


def mended_normals(arrays: Mapping[str, AnyArray], crease_degrees: float) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on one mesh: normals where they are missing or broken, and the vertices they need; nothing if all are good."""
    mesh = mesh_of(arrays)
    bad = np.ones(mesh.vertices, np.bool_) if mesh.normals is None else broken_normals(mesh)
    if not bad.any() or not mesh.triangles:
        return {}, {}
    source, indices, normals = split_normals(mesh, bad, crease_degrees)
    return {SOURCE: source, "indices": indices, "normals": normals}, {}


def without_degenerates(arrays: Mapping[str, AnyArray]) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on one mesh: the triangles that have an area, unless none has; nothing if all have."""
    bad = degenerate(mesh_of(arrays))
    if not bad.any() or bad.all():
        return {}, {"gone": 0}
    return {KEPT: np.flatnonzero(~bad)}, {"gone": int(bad.sum())}


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

    Edges that bend by more than the crease angle stay hard: their vertices are split.
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

    def effects(self) -> tuple[Effect, ...]:
        why = "Missing and broken normals were replaced by a step."
        return (Effect(Aspect.NORMALS, why=why), Effect(Aspect.TANGENTS), Effect(Aspect.SHARING))

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        chosen = context.selected(self.where, scene)
        done = per_mesh_work(scene, chosen, context, NORMALS, {"crease_degrees": self.crease_degrees})
        return done.scene, [*_changes(scene, done.scene, done.changed, "given normals"), *done.lost]


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
        changes = _changes(scene, done.scene, done.changed, "cleaned")
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
        changes = _changes(scene, done.scene, done.changed, "cleaned")
        gone = sum(int(f["gone"]) for f in done.figures.values())
        unlike = sum(int(f["unlike"]) for f in done.figures.values())
        if unlike:
            text = f"{unlike} of them had another material or other texture coordinates than the one that was kept"
            changes.insert(0, Change(text=text, count=unlike))
        if gone:
            changes.insert(0, Change(text=f"{plural(gone, 'repeated triangle')} dropped", count=gone))
        return done.scene, [*changes, *done.lost]


@step
class PlacePivots(Step):
    """Moves pivots that lie far from their part: mesh' = T⁻¹·mesh, node' = node·T, children' = T⁻¹·child.

    Every instance of a shared mesh gets the same move, so sharing and the world stay as they are. The underside is
    that towards the ground, however a part is turned; instances that stand differently go by the way most stand.
    """

    title = "Place pivots"
    summary = "Brings far-off pivots to the base centre or the centre of their part; nothing moves in the world."

    phase = Phase.GEOMETRY
    once = False

    kind: Literal["place_pivots"] = "place_pivots"
    at: Literal["base", "centre"] = parameter("base", "Pivot at", "Base is the middle of the underside in the world")
    only_far: bool = parameter(True, "Only far ones", "Leave pivots that lie within reach of their part")

    def effects(self) -> tuple[Effect, ...]:
        why = "Pivots were moved by a step; the distance to the old ones is shown and not held against the package."
        return (Effect(Aspect.PIVOTS, why=why), Effect(Aspect.SHARING))

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        chosen = context.selected(self.where, scene)
        # a light or camera on the node of a part would move with its pivot
        before, scene = len(scene.nodes), split_viewers(scene)
        nodes = scene.nodes
        chosen = np.append(chosen, np.zeros(len(nodes) - before, np.bool_)) & (nodes.mesh >= 0)
        animated = np.zeros(len(nodes), np.bool_)
        animated[[c.node for clip in scene.clips for c in clip.channels]] = True
        chosen &= (nodes.skin < 0) & ~animated
        shift = np.zeros((len(scene.meshes) + 1, 3))
        for i in np.unique(nodes.mesh[chosen]).tolist():
            box = scene.meshes[i].bounds
            target = box.mean(axis=0)
            outside = np.linalg.norm(np.maximum(np.maximum(box[0], -box[1]), 0.0))
            if self.only_far and outside <= np.linalg.norm(box[1] - box[0]):
                continue
            if self.at == "base":
                users = np.flatnonzero(chosen & (nodes.mesh == i))
                target = underside(scene.meshes[i], nodes.world[users, :3, :3], axis_vector(scene.convention.up))
            if np.abs(target).max() > 1e-9 * max(1e-30, float((box[1] - box[0]).max())):
                shift[i] = target.astype(np.float32)
        move = np.where(chosen[:, None], shift[nodes.mesh], 0.0)
        moved = (move != 0).any(axis=1)
        if not moved.any():
            return scene, []
        local = nodes.local.copy()
        local[:, :3, 3] += (nodes.local[:, :3, :3] @ move[:, :, None])[:, :, 0]
        below = np.flatnonzero((nodes.parent >= 0) & moved[nodes.parent])
        local[below, :3, 3] -= move[nodes.parent[below]]
        meshes = list(scene.meshes)
        column = nodes.mesh.copy()
        for i in np.unique(nodes.mesh[moved]).tolist():
            users = moved & (nodes.mesh == i)
            column[users] = len(meshes)
            shifted = (scene.meshes[i].positions.astype(np.float64) - shift[i]).astype(np.float32)
            meshes.append(replace(scene.meshes[i], positions=shifted))
        out = with_meshes(scene.but(nodes=replace(nodes, local=local)), column, meshes)
        count = int(moved.sum())
        return out, [
            Change(
                text=f"{plural(count, 'pivot')} moved to the {'base centre' if self.at == 'base' else 'centre'} of the part",
                count=count,
                parts=identities_of(scene, np.flatnonzero(moved)),
            )
        ]


def underside(mesh: Mesh, linear: F64, up: F64) -> F64:
    """(3,) middle of a mesh's underside, in its own space, as most of its users (K, 3, 3) stand.

    up: (3,) the signed axis of the world. Users whose up is the same direction in the mesh stand alike.
    """
    inverse = affine_inverse(with_corner(linear))[:, :3, :3]
    ways = np.einsum("kij,kj->ki", linear.transpose(0, 2, 1), np.broadcast_to(up, (len(linear), 3)))
    length = np.linalg.norm(ways, axis=1, keepdims=True)
    keys = np.round(ways / np.where(length > 0, length, 1.0), 3) + 0.0
    _, first, counts = np.unique(keys, axis=0, return_index=True, return_counts=True)
    one = int(first[np.argmax(counts)])
    points = extreme_points(mesh) @ linear[one].T
    box = np.array([points.min(axis=0), points.max(axis=0)])
    middle = box.mean(axis=0)
    axis = int(np.argmax(np.abs(up)))
    middle[axis] = box[0 if up[axis] > 0 else 1, axis]
    out: F64 = inverse[one] @ middle
    return out


def with_corner(linear: F64) -> F64:
    """(K, 3, 3) as (K, 4, 4) without translation."""
    out = np.tile(np.eye(4), (len(linear), 1, 1))
    out[:, :3, :3] = linear
    return out


def _changes(scene: Scene, out: Scene, changed: np.ndarray[tuple[int], np.dtype[np.bool_]], text: str) -> list[Change]:
    if not changed.any():
        return []
    meshes = len(np.unique(out.nodes.mesh[changed]))
    return [
        Change(
            text=f"{plural(meshes, 'mesh', 'meshes')} {text}",
            count=meshes,
            parts=identities_of(scene, np.flatnonzero(changed)),
        )
    ]
