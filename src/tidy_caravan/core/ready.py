"""Compiles what a bake, the packing of islands and simplification need before anybody waits for it: python -m tidy_caravan.core.ready"""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.bake.trace import traced
from tidy_caravan.core.bake.world import World, world_arrays
from tidy_caravan.core.geometry.simplify import simplified
from tidy_caravan.core.lightmap import charts, packing
from tidy_caravan.core.scene import GLTF, Light, Material, Mesh, Scene, make_nodes

COUNT = 64


def scene() -> Scene:
    """Three sheets one above the other, a pane and one that glows among them, with two lights of each kind."""
    corners = np.array([[-9, 0, -9], [9, 0, -9], [9, 0, 9], [-9, 0, 9]], np.float32)
    faces = np.array([[0, 2, 1], [0, 3, 2]], np.uint32)
    meshes = []
    for k in range(3):
        raised = corners.copy()
        raised[:, 1] = k
        meshes.append(Mesh(raised, faces, np.full(2, k, np.int32), uvs=(corners[:, ::2].copy(),)))
    looks = (
        Material("floor", metallic=0.0),
        Material("pane", (1.0, 1.0, 1.0, 0.5), metallic=0.0, alpha_mode="BLEND"),
        Material("glow", metallic=0.0, emissive=(1.0, 1.0, 1.0)),
    )
    lights = (*[Light("directional")] * 2, *[Light("point")] * 2)
    nodes = make_nodes(
        np.full(7, -1), np.tile(np.eye(4), (7, 1, 1)), list("abcdefg"), mesh=[0, 1, 2, -1, -1, -1, -1],
        light=[-1, -1, -1, 0, 1, 2, 3],
    )  # fmt: skip
    return Scene(GLTF, nodes, tuple(meshes), looks, lights=lights)


def main() -> None:
    """Islands on a map, a square of four triangles that could be two, and some samples in a scene that has everything."""
    packing.get_ready()
    charts.layout(np.ones((2, 2)), 64.0, 2.0, 1.0)
    corners = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0], [0.5, 0.5, 0]], np.float32)
    faces = np.array([[0, 1, 4], [1, 2, 4], [2, 3, 4], [3, 0, 4]], np.uint32)
    simplified(Mesh(corners, faces, np.zeros(4, np.int32)), 0.01)
    traced(World(world_arrays(scene())), np.zeros((COUNT, 3)), np.tile([0.0, 1.0, 0.0], (COUNT, 1)), 1, 4)


if __name__ == "__main__":
    main()
