"""Steps: broken normals, triangles without area, pivots far from their part."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np
from pydantic import Field

from tidy_caravan.core.geometry.faults import broken_normals, degenerate
from tidy_caravan.core.geometry.normals import vertex_normals
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.steps.base import Change, Step, StepContext, per_mesh, source_ids, step, with_meshes
from tidy_caravan.core.words import plural


@step
class MendNormals(Step):
    """Computes normals where they are missing or broken; good ones are never touched."""

    title = "Mend normals"
    summary = "Area-weighted normals where they are missing or broken; good ones stay untouched."

    kind: Literal["mend_normals"] = "mend_normals"

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        def make(mesh: Mesh) -> Mesh:
            if mesh.normals is None:
                return replace(mesh, normals=vertex_normals(mesh.positions, mesh.indices))
            bad = broken_normals(mesh)
            if not bad.any():
                return mesh
            fresh = mesh.normals.copy()
            fresh[bad] = vertex_normals(mesh.positions, mesh.indices)[bad]
            return replace(mesh, normals=fresh)

        out, changed = per_mesh(scene, context.selected(self.where, scene), make)
        return out, _changes(scene, out, changed, "given normals")


@step
class DropDegenerates(Step):
    """Removes triangles without area, relative to the size of their mesh."""

    title = "Drop degenerate triangles"
    summary = "Removes triangles that have no area."

    kind: Literal["drop_degenerates"] = "drop_degenerates"

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        gone = 0

        def make(mesh: Mesh) -> Mesh:
            nonlocal gone
            bad = degenerate(mesh)
            if not bad.any() or bad.all():
                return mesh
            gone += int(bad.sum())
            return replace(mesh, indices=mesh.indices[~bad], material=mesh.material[~bad])

        out, changed = per_mesh(scene, context.selected(self.where, scene), make)
        changes = _changes(scene, out, changed, "cleaned")
        if gone:
            changes.insert(0, Change(text=f"{plural(gone, 'triangle')} without area dropped", count=gone))
        return out, changes


@step
class PlacePivots(Step):
    """Moves pivots that lie far from their part: mesh' = T⁻¹·mesh, node' = node·T, children' = T⁻¹·child.

    Every instance of a shared mesh gets the same move, so sharing and the world stay as they are.
    """

    title = "Place pivots"
    summary = "Brings far-off pivots to the base centre or the centre of their part; nothing moves in the world."

    kind: Literal["place_pivots"] = "place_pivots"
    at: Literal["base", "centre"] = Field(default="base", description="base: middle of the underside along the up axis")
    only_far: bool = Field(default=True, description="Leave pivots that lie within reach of their part")

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        nodes = scene.nodes
        chosen = context.selected(self.where, scene) & (nodes.mesh >= 0)
        animated = np.zeros(len(nodes), np.bool_)
        animated[[c.node for clip in scene.clips for c in clip.channels]] = True
        chosen &= (nodes.skin < 0) & ~animated
        up = "XYZ".index(scene.convention.up[-1])
        low = 1 if scene.convention.up.startswith("-") else 0
        shift = np.zeros((len(scene.meshes) + 1, 3))
        for i in np.unique(nodes.mesh[chosen]).tolist():
            box = scene.meshes[i].bounds
            target = box.mean(axis=0)
            outside = np.linalg.norm(np.maximum(np.maximum(box[0], -box[1]), 0.0))
            if self.only_far and outside <= np.linalg.norm(box[1] - box[0]):
                continue
            if self.at == "base":
                target[up] = box[low, up]
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
                parts=source_ids(scene, np.flatnonzero(moved)),
            )
        ]


def _changes(scene: Scene, out: Scene, changed: np.ndarray[tuple[int], np.dtype[np.bool_]], text: str) -> list[Change]:
    if not changed.any():
        return []
    meshes = len(np.unique(out.nodes.mesh[changed]))
    return [
        Change(
            text=f"{plural(meshes, 'mesh', 'meshes')} {text}",
            count=meshes,
            parts=source_ids(scene, np.flatnonzero(changed)),
        )
    ]
