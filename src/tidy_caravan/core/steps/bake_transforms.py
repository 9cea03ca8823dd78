"""Steps: scale or rotation left by modelling goes into the vertices, with the world as it was."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import F64, determinants
from tidy_caravan.core.space.common_scale import SCALE_TOLERANCE, distinct
from tidy_caravan.core.space.convert import split_viewers, transform_mesh
from tidy_caravan.core.space.transforms import affine_inverse, polar
from tidy_caravan.core.steps.base import Change, Phase, Step, StepContext, identities_of, parameter, step, with_meshes
from tidy_caravan.core.steps.match_units import bake_scale
from tidy_caravan.core.surroundings.world import untouchable
from tidy_caravan.core.words import plural


@step
class BakeScale(Step):
    """Node scale to 1, shear and mirrors into the mesh: one mirrored twin per mesh, shared by all mirrored copies.

    Where instances of a mesh are scaled differently only what they have in common is baked, and the rest stays on
    their nodes, so that sharing is kept; a sheared node cannot be written as such and gets a mesh of its own. A cube that
    is stretched to walls, floors and posts can be made a mesh for each shape instead, shared by parts of that shape:
    their lightmaps and textures are laid out for what is seen then.
    """

    title = "Bake scale"
    summary = (
        "Scale, shear and mirrors of nodes go into the vertices; instances stay shared, or each shape gets its mesh."
    )

    phase = Phase.TRANSFORMS
    once = False

    kind: Literal["bake_scale"] = "bake_scale"
    mirrors: Literal["as the destination allows", "twins"] = parameter(
        "as the destination allows",
        "Mirrored parts",
        "twins: a mirrored twin of the mesh, shared; otherwise mirrors stay on the node where the destination takes them",
    )

    stretched: Literal["shared", "a mesh for each shape"] = parameter(
        "shared",
        "Stretched differently",
        "shared: such parts of one mesh keep what stretches them on their nodes; a mesh for each shape: they keep only what makes "
        "them larger or smaller evenly",
    )

    def effects(self) -> tuple[Effect, ...]:
        return (Effect(Aspect.SHARING),)

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        allowed = self.mirrors != "twins" and context.destination.negative_scale
        return bake_scale(scene, context.selected(self.where, scene), allowed, self.stretched != "shared")


@step
class BakeRotation(Step):
    """Own axes to those of the world: the rotation goes into the mesh, where all chosen users of it are turned alike.

    Parts that share a mesh and are turned differently keep their rotation, and are told, since a mesh of their own for
    each would be the end of sharing. Animated and skinned nodes keep theirs. The world stays as it is.
    """

    title = "Bake rotation"
    summary = "The rotation of parts goes into their vertices, so that their own axes are those of the world."

    phase = Phase.TRANSFORMS
    once = False

    kind: Literal["bake_rotation"] = "bake_rotation"

    def effects(self) -> tuple[Effect, ...]:
        why = "Rotations of nodes went into the vertices by a step."
        return (Effect(Aspect.ROTATION, why=why), Effect(Aspect.SHARING))

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        count = len(scene.nodes)
        chosen = context.selected(self.where, scene)
        start, scene = scene, split_viewers(scene)
        chosen = np.append(chosen, np.zeros(len(scene.nodes) - count, np.bool_)) & (scene.nodes.mesh >= 0)
        nodes = scene.nodes
        rows = np.flatnonzero(chosen & ~untouchable(scene))
        if not len(rows):
            return start, []
        linear = nodes.world[rows, :3, :3]
        rotation, residual = polar(linear)
        size = np.abs(residual).max(axis=(1, 2))
        uniform = np.abs(residual - np.eye(3) * residual[:, :1, :1]).max(axis=(1, 2)) <= SCALE_TOLERANCE * size
        # what goes into the mesh: the turn alone, or all of it where the node is stretched as well
        baked = np.where(uniform[:, None, None], rotation, linear)
        plain = np.abs(baked - np.eye(3)).max(axis=(1, 2)) <= SCALE_TOLERANCE
        solid = np.abs(determinants(linear)) > 1e-12 * size**3
        variants, kind = distinct(baked)
        order = np.argsort(nodes.mesh[rows], kind="stable")
        used, begin = np.unique(nodes.mesh[rows][order], return_index=True)
        meshes, column = list(scene.meshes), nodes.mesh.copy()
        target = nodes.world.copy()
        apart: list[int] = []
        done: list[int] = []
        for k, (i, members) in enumerate(zip(used.tolist(), np.split(order, begin[1:]), strict=True)):
            context.progress(k, len(used))
            if plain[members].all() or not solid[members].all():
                continue
            if len(np.unique(kind[members])) > 1:
                apart += rows[members[~plain[members]]].tolist()
                continue
            users = rows[members]
            turn = variants[kind[members[0]]]
            column[users] = len(meshes)
            meshes.append(transform_mesh(scene.meshes[i], turn))
            target[users, :3, :3] = linear[members] @ np.linalg.inv(turn)
            done += users.tolist()
        told = []
        if apart:
            text = f"{plural(len(apart), 'part')} keep their rotation: they share a mesh and are turned differently"
            told.append(Change(text=text, count=len(apart), parts=identities_of(scene, np.array(apart))))
        if not done:
            return start, told
        out = with_meshes(placed(scene, np.array(done), target), column, meshes, context.progress)
        text = f"{plural(len(done), 'rotation')} baked into {plural(len(np.unique(column[done])), 'mesh', 'meshes')}"
        return out, [Change(text=text, count=len(done), parts=identities_of(scene, np.array(done))), *told]


def placed(scene: Scene, rows: np.ndarray[tuple[int], np.dtype[np.int64]], world: F64) -> Scene:
    """The scene with some nodes at these world matrices (N, 4, 4); what hangs below them stays where it is."""
    nodes = scene.nodes
    moved = np.zeros(len(nodes), np.bool_)
    moved[rows] = True
    target = nodes.world.copy()
    target[rows] = world[rows]
    parent, local = nodes.parent, nodes.local.copy()
    redo = np.flatnonzero(moved | ((parent >= 0) & moved[parent]))
    top, inner = redo[parent[redo] < 0], redo[parent[redo] >= 0]
    local[top] = target[top]
    local[inner] = affine_inverse(target[parent[inner]]) @ target[inner]
    local[:, 3] = (0, 0, 0, 1)
    return scene.but(nodes=replace(nodes, local=local))
