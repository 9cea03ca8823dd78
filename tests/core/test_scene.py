"""The data model: trees as columns, identity of meshes, bounds, figures, pictures."""

from __future__ import annotations

import io
import unittest
from dataclasses import replace

import numpy as np
import scipy.linalg
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image
from scipy.spatial.transform import Rotation

from tests.support import TRIANGLE, Gltf, read, trimesh_scene
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.figures import bounds_metres, count
from tidy_caravan.core.geometry.normals import face_normals, vertex_normals
from tidy_caravan.core.picture import PAPER, picture
from tidy_caravan.core.scene import GLTF, HIDDEN, Mesh, Scene, extreme_points, make_nodes
from tidy_caravan.core.scene.nodes import depths
from tidy_caravan.core.space.convert import convert, keep_nodes, transform_mesh
from tidy_caravan.core.space.transforms import polar
from tidy_caravan.demo.ferry_landing import landing

# a tree as a list: every node's parent is an earlier one or none; then shuffled
TREES = st.lists(st.integers(-1, 30), min_size=1, max_size=30).map(
    lambda ps: [p if p < i else -1 for i, p in enumerate(ps)]
)


def mesh_of(shape: trimesh.Trimesh, **more: object) -> Mesh:
    return Mesh(
        shape.vertices.astype(np.float32), shape.faces.astype(np.uint32), np.full(len(shape.faces), -1, np.int32), **more,  # type: ignore[arg-type]
    )  # fmt: skip


class Tree(unittest.TestCase):
    @settings(max_examples=80, deadline=None)
    @given(TREES, st.randoms(use_true_random=False))
    def test_depth_world_and_marks_agree_with_walking_the_tree(self, parents: list[int], rng: object) -> None:
        n = len(parents)
        order = list(range(n))
        rng.shuffle(order)  # type: ignore[attr-defined]
        place = {old: new for new, old in enumerate(order)}
        shuffled = [-1] * n
        for old, parent in enumerate(parents):
            shuffled[place[old]] = place[parent] if parent >= 0 else -1
        local = np.random.default_rng(n).normal(size=(n, 4, 4))
        local[:, 3] = (0, 0, 0, 1)
        nodes = make_nodes(shuffled, local, [f"n{i}" for i in range(n)])
        marked = np.zeros(n, np.bool_)
        marked[:: max(1, n // 3)] = True
        under = nodes.under(marked)
        for i in range(n):
            chain, world, hit, path = [i], local[i], bool(marked[i]), nodes.names[i]
            while (up := shuffled[chain[-1]]) >= 0:
                chain.append(up)
                world, hit, path = local[up] @ world, hit or bool(marked[up]), f"{nodes.names[up]}/{path}"
            self.assertEqual((int(nodes.depth[i]), bool(under[i]), nodes.paths[i]), (len(chain) - 1, hit, path))
            np.testing.assert_allclose(nodes.world[i], world, rtol=1e-6, atol=1e-6 * np.abs(world).max())

    def test_cycles_have_no_depth(self) -> None:
        self.assertEqual(depths(np.array([1, 2, 0, 2, -1, 4], np.int32)).tolist(), [-1, -1, -1, -1, 0, 1])

    def test_columns_cannot_be_written(self) -> None:
        scene = landing()
        for array in (
            scene.nodes.local,
            scene.nodes.world,
            scene.nodes.mesh,
            scene.meshes[0].positions,
            scene.part_bounds,
        ):
            with self.assertRaises(ValueError):
                array[0] = 1

    def test_dropping_nodes_renumbers_everything_that_points_at_them(self) -> None:
        g = Gltf()
        g.node(name="gone")
        g.node(name="a", children=[2], extras={"x": 1})
        g.node(name="b", mesh=g.mesh(TRIANGLE, [0, 1, 2]))
        g.json["scenes"] = [{"nodes": [0, 1]}]
        slim = keep_nodes(g.scene(), np.array([False, True, True]))
        self.assertEqual(
            (slim.nodes.names, slim.nodes.parent.tolist(), slim.nodes.extras, slim.roots[0].nodes),
            (("a", "b"), [-1, 0], {0: {"x": 1}}, (0,)),
        )


class Meshes(unittest.TestCase):
    def test_identity_is_the_content_and_not_the_name(self) -> None:
        a = mesh_of(trimesh.creation.box())
        self.assertEqual(a.id, replace(a, name="other").id)
        self.assertNotEqual(a.id, replace(a, positions=a.positions + np.float32(1e-6)).id)
        self.assertNotEqual(a.id, replace(a, material=a.material + 1).id)
        self.assertNotEqual(a.id, replace(a, extras={"x": 1}).id)
        self.assertNotEqual(a.id, replace(a, uvs=(np.zeros((a.vertices, 2), np.float32),)).id)

    def test_slots_are_in_order_of_first_use(self) -> None:
        a = mesh_of(trimesh.creation.box())
        self.assertEqual(replace(a, material=np.int32([4, 4, 1, 1, 4, 0, 0, 0, 1, 1, 1, 1])).slots, (4, 1, 0))

    def test_normals_under_any_map_stay_at_right_angles(self) -> None:
        rng = np.random.default_rng(3)
        ball = trimesh.creation.icosphere(2)
        for k in range(6):
            linear = rng.normal(size=(3, 3)) * ([-1, 1, 1] if k % 2 else [1, 1, 1])
            mesh = mesh_of(ball, normals=face_normals_of_ball(ball))
            moved = transform_mesh(mesh, linear)
            assert moved.normals is not None
            np.testing.assert_allclose(np.linalg.norm(moved.normals, axis=1), 1, atol=1e-5)
            flat = face_normals(moved.positions, moved.indices)
            middle = moved.normals[moved.indices].mean(axis=1)
            self.assertTrue((np.einsum("ij,ij->i", flat, middle) > 0).all())  # still outwards, mirrored or not

    def test_vertex_normals_of_a_ball_point_outwards(self) -> None:
        ball = trimesh.creation.icosphere(3)
        got = vertex_normals(ball.vertices.astype(np.float32), ball.faces.astype(np.uint32))
        self.assertGreater(float(np.einsum("ij,ij->i", got, ball.vertices).min()), 0.999)


def face_normals_of_ball(ball: trimesh.Trimesh) -> np.ndarray[tuple[int, int], np.dtype[np.float32]]:
    return np.ascontiguousarray(ball.vertices / np.linalg.norm(ball.vertices, axis=1, keepdims=True), np.float32)


class Figures(unittest.TestCase):
    def test_bounds_are_exact_over_all_vertices(self) -> None:
        scene = read(trimesh_scene(8, 40).export(file_type="glb"))
        for row, node in enumerate(scene.nodes.parts.tolist()):
            points = (
                scene.meshes[scene.nodes.mesh[node]].positions @ scene.nodes.world[node, :3, :3].T
                + scene.nodes.world[node, :3, 3]
            )
            np.testing.assert_allclose(
                scene.part_bounds[row], [points.min(axis=0), points.max(axis=0)], rtol=1e-9, atol=1e-9
            )

    def test_bounds_are_of_usable_vertices_that_triangles_use_in_small_meshes_and_large(self) -> None:
        rng = np.random.default_rng(4)
        ball = trimesh.creation.icosphere(3)
        meshes = [mesh_of(ball)]
        for k in range(12):
            points = rng.normal(size=(9, 3)).astype(np.float32)
            points[7], points[8, 1] = 1e6, np.nan  # one that no triangle uses, one that is no number
            faces = np.array([[0, 1, 2], [3, 4, 5], [5, 6, 8]][k % 2 :], np.uint32)
            meshes.append(Mesh(points, faces, np.zeros(len(faces), np.int32)))
        cloud = rng.normal(size=(5, 3)).astype(np.float32)
        nothing = Mesh(np.zeros((0, 3), np.float32), np.zeros((0, 3), np.uint32), np.zeros(0, np.int32))
        meshes += [Mesh(cloud, np.zeros((0, 3), np.uint32), np.zeros(0, np.int32)), nothing]
        which = rng.permutation(np.arange(len(meshes)).repeat(3))
        local = np.tile(np.eye(4), (len(which), 1, 1))
        local[:, :3] = rng.normal(size=(len(which), 3, 4))
        scene = Scene(GLTF, make_nodes([-1] * len(which), local, [""] * len(which), mesh=which), tuple(meshes))
        for row, mesh in enumerate(which.tolist()):
            faces = meshes[mesh].indices
            points = meshes[mesh].positions[np.unique(faces) if len(faces) else slice(None)].astype(float)
            points = points[np.isfinite(points).all(axis=1)] if len(points) else np.zeros((1, 3))
            world = points @ local[row, :3, :3].T + local[row, :3, 3]
            np.testing.assert_allclose(scene.part_bounds[row], [world.min(axis=0), world.max(axis=0)], atol=1e-9)

    @settings(deadline=None, max_examples=60)
    @given(st.integers(0, 2**32 - 1))
    def test_what_stays_is_known_and_what_is_new_is_looked_at(self, seed: int) -> None:
        """A copy of a scene with other meshes or nodes measures as one that was made of the same from the beginning."""
        rng = np.random.default_rng(seed)
        scene = read(trimesh_scene(seed % 50, 30).export(file_type="glb"))
        for _ in range(5):
            if rng.random() < 0.6:
                _ = scene.part_bounds, scene.identities, scene.parts_by_mesh
            if rng.random() < 0.6:
                _ = scene.mesh_boxes
            meshes = list(scene.meshes)
            for i in np.flatnonzero(rng.random(len(meshes)) < rng.choice([0, 0.3])).tolist():
                m = meshes[i]
                ways = (
                    {"positions": m.positions * np.float32(rng.uniform(0.5, 2))},
                    {"positions": m.positions.copy()},
                    {"normals": None},
                    {"indices": m.indices[:1], "material": m.material[:1]},
                )
                meshes[i] = replace(m, **ways[rng.integers(len(ways))])
            changes: dict[str, object] = {"meshes": tuple(meshes)} if rng.random() < 0.8 else {"format": "other"}
            if rng.random() < 0.5:
                local, column = scene.nodes.local.copy(), scene.nodes.mesh.copy()
                local[rng.random(len(local)) < rng.choice([0.1, 1]), :3, 3] += rng.normal(size=3)
                others = (column >= 0) & (rng.random(len(column)) < rng.choice([0, 0.2]))
                column[others] = rng.integers(0, len(meshes), others.sum())
                if rng.random() < 0.2:
                    column[rng.integers(len(column))] = rng.integers(-1, len(meshes))
                changes["nodes"] = replace(scene.nodes, local=local, mesh=column)
                if rng.random() < 0.3:
                    changes["meshes"] = (*meshes, replace(meshes[0], positions=meshes[0].positions * np.float32(2)))
            scene = scene.but(**changes)
            if rng.random() < 0.4:
                continue
            anew = replace(scene, meshes=tuple(replace(m) for m in scene.meshes), nodes=replace(scene.nodes))
            np.testing.assert_array_equal(scene.part_bounds, anew.part_bounds)
            np.testing.assert_array_equal(scene.mesh_boxes, anew.mesh_boxes)
            used = scene.instance_counts > 0
            known = [replace(m).bounds if u else np.zeros((2, 3)) for m, u in zip(scene.meshes, used, strict=True)]
            np.testing.assert_array_equal(anew.mesh_boxes, known)
            self.assertEqual([m.surface_id for m in scene.meshes], [m.surface_id for m in anew.meshes])
            self.assertEqual(scene.identities.names, anew.identities.names)
            self.assertEqual(scene.instance_counts.tolist(), anew.instance_counts.tolist())
            self.assertEqual(scene.parts_by_mesh[1], anew.parts_by_mesh[1])

    def test_turn_and_scale_are_taken_apart_as_by_another_library(self) -> None:
        rng = np.random.default_rng(5)
        turns = Rotation.random(60, random_state=5).as_matrix()
        for uneven in (0.0, 1e-13, 1e-10, 1e-8, 1e-3, 1.0):
            linear = turns @ (rng.uniform(0.01, 100, (60, 1, 1)) * (np.eye(3) + uneven * rng.normal(size=(60, 3, 3))))
            linear = linear[np.linalg.det(linear) > 0]
            theirs = np.array([scipy.linalg.polar(one)[0] for one in linear])
            for axis, mirror in enumerate(([-1, 1, 1], [1, -1, 1], [1, 1, -1])):
                for given_ in (linear, linear @ np.diag(mirror)):
                    rotation, residual = polar(given_, axis)
                    self.assertLess(np.abs(rotation - theirs).max(), 1e-13 if uneven < 1 else 1e-9)
                    np.testing.assert_allclose(rotation @ residual, given_, rtol=1e-12, atol=1e-10)

    def test_hull_points_give_the_same_bounds_under_any_map(self) -> None:
        mesh = mesh_of(trimesh.creation.icosphere(4))
        few = extreme_points(mesh)
        rng = np.random.default_rng(0)
        for _ in range(10):
            linear = rng.normal(size=(3, 3))
            np.testing.assert_allclose(
                (few @ linear.T).max(axis=0), (mesh.positions.astype(float) @ linear.T).max(axis=0), atol=1e-9
            )

    def test_bounds_in_metres_do_not_depend_on_the_convention(self) -> None:
        scene = landing()
        size = np.sort(np.ptp(bounds_metres(scene), axis=0))
        for d in BUILT_IN:
            np.testing.assert_allclose(
                np.sort(np.ptp(bounds_metres(convert(scene, d.world.convention())), axis=0)), size, rtol=1e-6
            )

    def test_hidden_parts_are_counted_but_not_drawn(self) -> None:
        scene = read(trimesh_scene(1, 10).export(file_type="glb"))
        flags = scene.nodes.flags.copy()
        flags[scene.nodes.parts[:4]] = HIDDEN
        figures = count(scene.but(nodes=replace(scene.nodes, flags=flags)))
        self.assertEqual((figures.parts, figures.draw_calls), (10, 6))

    def test_pictures_show_something_and_are_the_same_every_time(self) -> None:
        scene = landing()
        first = picture(scene)
        self.assertEqual(first, picture(scene))
        shown = np.asarray(Image.open(io.BytesIO(first)).convert("RGB"), dtype=int)
        drawn = (np.abs(shown - PAPER).sum(axis=2) > 30).mean()
        self.assertTrue(0.1 < drawn < 0.9, drawn)
        empty = np.asarray(
            Image.open(io.BytesIO(picture(Scene(GLTF, make_nodes([], np.zeros((0, 4, 4)), []))))).convert("RGB")
        )
        self.assertTrue((empty == PAPER).all())


if __name__ == "__main__":
    unittest.main()
