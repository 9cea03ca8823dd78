"""Units, axes and transforms against closed forms."""

from __future__ import annotations

import itertools
import unittest
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from tests.core.test_gltf import everything
from tests.support import read, trimesh_scene
from tidy_caravan.core.conventions.destinations import BUILT_IN, Destination, destination
from tidy_caravan.core.errors import CaravanError
from tidy_caravan.core.scene import GLTF, Convention, Mesh, Morph
from tidy_caravan.core.space.axes import axis_map, linear_map
from tidy_caravan.core.space.convert import convert, transform_mesh, transform_meshes
from tidy_caravan.core.space.transforms import affine_inverse, angle_deg, compose, polar, quaternions, split_trs

ANGLES = st.tuples(*[st.floats(-np.pi, np.pi)] * 3)


class Axes(unittest.TestCase):
    def test_known_maps(self) -> None:
        z_up = Convention(1.0, "Z", "Y", "right")
        np.testing.assert_array_equal(axis_map(GLTF, z_up) @ [1, 2, 3], [1, -3, 2])  # the well-known (x, -z, y)
        centimetre_left = destination("centimetre-z-up-left").world.convention()
        np.testing.assert_array_equal(linear_map(GLTF, centimetre_left) @ [1, 2, 3], [-300, 100, 200])
        self.assertEqual(np.linalg.det(axis_map(GLTF, centimetre_left)), -1)

    def test_every_pair_is_a_signed_permutation_and_undone_by_its_opposite(self) -> None:
        for a, b in itertools.product([d.world.convention() for d in BUILT_IN], repeat=2):
            p = axis_map(a, b)
            np.testing.assert_array_equal(p @ axis_map(b, a), np.eye(3))
            self.assertEqual(np.linalg.det(p) > 0, a.handedness == b.handedness)

    def test_axes_must_differ(self) -> None:
        with self.assertRaises(ValueError):
            Destination.model_validate(
                BUILT_IN[0].model_dump()
                | {"world": {"metres_per_unit": 1, "up": "Y", "forward": "-Y", "handedness": "right"}}
            )
        with self.assertRaisesRegex(CaravanError, "known are metre-y-up-right"):
            destination("moon")


class Transforms(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(ANGLES, st.tuples(*[st.floats(0.05, 20)] * 3), st.booleans())
    def test_split_and_compose(self, angles: tuple[float, ...], scale: tuple[float, ...], mirror: bool) -> None:
        rotation = Rotation.from_euler("xyz", angles).as_matrix()
        matrix = np.eye(4)
        matrix[:3, :3] = rotation @ np.diag([(-1 if mirror else 1) * scale[0], scale[1], scale[2]])
        matrix[:3, 3] = (1, 2, 3)
        t, q, s, sheared = split_trs(matrix[None])
        self.assertFalse(sheared[0])
        np.testing.assert_allclose(compose(t, q, s)[0], matrix, atol=1e-9)
        np.testing.assert_allclose(
            quaternions(rotation[None])[0],
            np.sign(Rotation.from_matrix(rotation).as_quat()[3] or 1) * Rotation.from_matrix(rotation).as_quat(),
            atol=1e-7,
        )
        np.testing.assert_allclose(affine_inverse(matrix[None])[0], np.linalg.inv(matrix), atol=1e-9)

    @settings(max_examples=60, deadline=None)
    @given(ANGLES, st.floats(0.1, 10), st.integers(0, 2))
    def test_polar_puts_the_mirror_on_one_axis(self, angles: tuple[float, ...], size: float, axis: int) -> None:
        rotation = Rotation.from_euler("xyz", angles).as_matrix()
        for mirrored_on in range(3):
            flip = np.eye(3)
            flip[mirrored_on, mirrored_on] = -1
            r, k = polar((rotation @ flip * size)[None], axis)
            expected = np.eye(3) * size
            expected[axis, axis] = -size
            np.testing.assert_allclose(k[0], expected, atol=1e-9)
            self.assertAlmostEqual(float(np.linalg.det(r[0])), 1.0)

    def test_angle_is_exact_near_zero(self) -> None:
        for degrees in (1e-7, 1e-3, 90.0, 179.99):
            turned = Rotation.from_euler("y", degrees, degrees=True).as_matrix()
            self.assertAlmostEqual(float(angle_deg(np.eye(3)[None], turned[None])[0]), degrees, places=9)


class Converting(unittest.TestCase):
    def test_many_meshes_are_turned_as_each_by_itself(self) -> None:
        rng = np.random.default_rng(4)

        def mesh(count: int, normals: bool, tangents: bool, morph: bool) -> Mesh:
            def some(width: int) -> Any:
                return rng.normal(size=(count, width)).astype(np.float32)

            faces = rng.integers(0, max(count, 1), (count, 3)).astype(np.uint32)
            hand = np.sign(some(1)) if count else some(1)
            return Mesh(
                some(3), faces, np.zeros(len(faces), np.int32), some(3) if normals else None,
                np.column_stack([some(3), hand]).astype(np.float32) if tangents else None,
                morphs=(Morph(some(3), None, None, "up"),) if morph else (),
            )  # fmt: skip

        sizes = [0, 1, 5, 2048, 2049, 700, *[1500] * 300, 3]
        meshes = [mesh(n, *(rng.random(2) > 0.3), k % 17 == 5) for k, n in enumerate(sizes)]
        for linear in (100 * np.eye(3), np.diag([1.0, -1.0, 1.0]), rng.normal(size=(3, 3))):
            told: list[int] = []
            together = transform_meshes(meshes, linear, lambda done, total, told=told: told.append(done))
            self.assertEqual([m.id for m in together], [transform_mesh(m, linear).id for m in meshes])
            self.assertTrue(len(told) > 2 and told == sorted(told))

    def test_there_and_back_is_where_it_was(self) -> None:
        for scene in (everything().scene(), read(trimesh_scene(2).export(file_type="glb"))):
            for d in BUILT_IN:
                there = convert(scene, d.world.convention())
                back = convert(there, GLTF)
                np.testing.assert_allclose(back.nodes.world, scene.nodes.world, atol=1e-9)
                for a, b in zip(scene.meshes, back.meshes, strict=True):
                    np.testing.assert_array_equal(a.indices, b.indices)
                    np.testing.assert_allclose(a.positions, b.positions, rtol=1e-6, atol=1e-6)

    def test_world_positions_follow_the_linear_map(self) -> None:
        scene = read(trimesh_scene(3).export(file_type="glb"))
        for d in BUILT_IN:
            target = d.world.convention()
            moved = convert(scene, target)
            m = linear_map(GLTF, target)
            for node in scene.nodes.parts[:20].tolist():
                mesh = scene.meshes[scene.nodes.mesh[node]]
                before = mesh.positions @ scene.nodes.world[node, :3, :3].T + scene.nodes.world[node, :3, 3]
                after = (
                    moved.meshes[moved.nodes.mesh[node]].positions @ moved.nodes.world[node, :3, :3].T
                    + moved.nodes.world[node, :3, 3]
                )
                np.testing.assert_allclose(after, before @ m.T, rtol=1e-5, atol=1e-4 / target.metres_per_unit)

    def test_cameras_and_lights_keep_looking_where_they_looked(self) -> None:
        scene = everything().scene()
        for d in BUILT_IN:
            moved = convert(scene, d.world.convention())
            p = axis_map(GLTF, d.world.convention())
            for node in (3, 4):
                ahead, up = np.array([0, 0, -1.0]), np.array([0, 1.0, 0])
                for axis in (ahead, up):
                    np.testing.assert_allclose(
                        moved.nodes.world[node, :3, :3] @ axis, p @ scene.nodes.world[node, :3, :3] @ axis, atol=1e-12
                    )
            factor = 1.0 / d.world.metres_per_unit
            self.assertAlmostEqual(moved.lights[0].range or 0, 6.0 * factor)
            self.assertAlmostEqual(moved.cameras[0].znear, 0.1 * factor)

    def test_animated_nodes_end_where_the_map_says(self) -> None:
        scene = everything().scene()
        for d in BUILT_IN:
            target = d.world.convention()
            moved, m = convert(scene, target), linear_map(GLTF, target)
            for key in range(2):
                poses = []
                for s in (scene, moved):
                    rotation, translation = s.clips[0].channels
                    rest = s.nodes.rest[1]
                    poses.append(
                        compose(
                            translation.values[key : key + 1].astype(float),
                            rotation.values[key : key + 1].astype(float),
                            np.array([rest[2]]),
                        )[0]
                    )
                expected = m @ poses[0][:3, :3] @ np.linalg.inv(m)
                np.testing.assert_allclose(poses[1][:3, :3], expected, atol=1e-6)
                np.testing.assert_allclose(poses[1][:3, 3], m @ poses[0][:3, 3], rtol=1e-6)


if __name__ == "__main__":
    unittest.main()
