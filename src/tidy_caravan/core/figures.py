"""The totals people quote: counts, draw calls and bytes of a scene."""

from __future__ import annotations

import numpy as np
from pydantic import BaseModel, ConfigDict
from pydantic.alias_generators import to_camel

from tidy_caravan.core.geometry.pose import at_rest
from tidy_caravan.core.scene import GLTF, HIDDEN, Scene
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.scene.held import shapes
from tidy_caravan.core.scene.levels import deepest
from tidy_caravan.core.space.axes import linear_map


class Counts(BaseModel):
    """instances: parts that share their mesh with another part. drawCalls: one per part and material on
    it; drawCallsInstanced: one per mesh and material. Hidden parts draw nothing."""

    model_config = ConfigDict(alias_generator=to_camel, populate_by_name=True, frozen=True)

    nodes: int
    parts: int
    unique_meshes: int
    instances: int
    triangles: int
    unique_triangles: int
    vertices: int
    materials: int
    textures: int
    lights: int
    cameras: int
    draw_calls: int
    draw_calls_instanced: int
    mesh_bytes: int
    texture_bytes: int
    levels: int = 0
    """Levels of detail beside the whole."""


def count(scene: Scene) -> Counts:
    """Figures of a scene; O(nodes + meshes)."""
    per_mesh = scene.instance_counts
    triangles = scene.triangle_counts
    slots = scene.slot_counts
    nodes = scene.nodes
    drawn = nodes.mesh[(nodes.mesh >= 0) & ((nodes.flags & HIDDEN) == 0)]
    drawn_per_mesh = np.bincount(drawn, minlength=len(scene.meshes))
    used = per_mesh > 0
    return Counts(
        nodes=len(nodes),
        parts=len(nodes.parts),
        unique_meshes=int(used.sum()),
        instances=int(per_mesh[per_mesh > 1].sum()),
        triangles=int((triangles * per_mesh).sum()),
        unique_triangles=int(triangles[used].sum()),
        vertices=int(scene.vertex_counts[used].sum()),
        materials=len(scene.materials),
        textures=len(scene.textures),
        lights=int((nodes.light >= 0).sum()),
        cameras=int((nodes.camera >= 0).sum()),
        draw_calls=int((slots * drawn_per_mesh).sum()),
        draw_calls_instanced=int(slots[drawn_per_mesh > 0].sum()),
        mesh_bytes=sum(scene.meshes[i].nbytes for i in np.unique(shapes(scene)[used]).tolist()),
        texture_bytes=sum(len(i.data) for i in scene.images if i.data is not None),
        levels=deepest(scene),
    )


def bounds_metres(scene: Scene) -> F64:
    """(2, 3) box of all visible parts in metres, in the scene's own axes; zeros when nothing is drawn."""
    nodes = scene.nodes
    visible = (nodes.flags[nodes.parts] & HIDDEN) == 0
    boxes = at_rest(scene).part_bounds[visible]
    if not len(boxes):
        return np.zeros((2, 3))
    scale = scene.convention.metres_per_unit
    return np.array([boxes[:, 0].min(axis=0), boxes[:, 1].max(axis=0)]) * scale


def view_map(scene: Scene) -> F64:
    """(3, 3) map from scene numbers to metres, Y up, right-handed: the space in which pictures are made."""
    return linear_map(scene.convention, GLTF)
