"""Every step over meshes with several faults at once: none ends in a library's words, and what it makes is whole."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np

from tests.core.test_lots import some_mesh, torn
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.route import Route, run
from tidy_caravan.core.scene import GLTF, Material, Mesh, Scene, make_nodes
from tidy_caravan.core.steps import known_steps

LONG = ("subdivide", "lightmap_uvs", "levels_of_detail")
"""Steps that take their time over any mesh."""
MESHES = 12


def with_triangle(mesh: Mesh, corners: tuple[int, int], at: np.ndarray) -> Mesh:
    """The same with a triangle more, over two of its vertices and a new one."""
    made = mesh.with_vertices(
        np.append(np.arange(mesh.vertices), corners[0]),
        indices=np.concatenate([mesh.indices, [[*corners, mesh.vertices]]]).astype(np.uint32),
    )
    positions = np.concatenate([mesh.positions, at[None].astype(np.float32)])
    return replace(made, positions=positions, material=np.append(mesh.material, mesh.material[:1]), origin=None)


def spoiled(mesh: Mesh, rng: np.random.Generator) -> Mesh:
    """Torn, flat, all in one point, or with a triangle more: without area, over an edge, or standing on one."""
    a, b = mesh.indices[rng.integers(mesh.triangles), :2].tolist()
    first, second = mesh.positions[[a, b]].astype(np.float64)
    way = rng.integers(6)
    if way == 0:
        return torn(mesh, rng)
    if way < 3:
        return replace(mesh, positions=mesh.positions * np.float32([1, 1, 0] if way == 1 else [0, 0, 0]))
    return with_triangle(mesh, (a, b), (first, 0.3 * first + 0.7 * second, mesh.positions.mean(axis=0))[way - 3])


class Steps(unittest.TestCase):
    def test_each_of_them_goes_through(self) -> None:
        for seed in range(3):
            rng = np.random.default_rng(seed)
            meshes = []
            for k in range(MESHES):
                mesh = some_mesh(rng)
                for _ in range(int(rng.integers(1, 4))):
                    mesh = spoiled(mesh, rng)
                meshes.append(replace(mesh, name=f"block {k}", origin=None))
            local = np.tile(np.eye(4), (MESHES, 1, 1))
            local[:, 0, 3] = 3.0 * np.arange(MESHES)
            nodes = make_nodes(np.full(MESHES, -1), local, [m.name for m in meshes], mesh=np.arange(MESHES))
            scene = Scene(GLTF, nodes, tuple(meshes), tuple(Material(f"coat {k}") for k in range(4)))
            for kind in known_steps():
                if kind in LONG:
                    continue
                with self.subTest(step=kind, seed=seed):
                    out, (record,) = run(scene, Route.model_validate({"steps": [{"kind": kind}]}), BUILT_IN[0])
                    for change in record.changes:
                        self.assertNotRegex(change.text, r"Error|stays as it is")
                    for mesh in out.meshes:
                        self.assertTrue((mesh.indices < mesh.vertices).all())
                        self.assertEqual(len(mesh.material), mesh.triangles)


if __name__ == "__main__":
    unittest.main()
