"""Vertices that stand twice, for nothing, or nowhere: counted and cleaned, with every seam left as it is."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.trees import as_mesh, furthest_apart
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.geometry.vertices import joined, many_sided_edges
from tidy_caravan.core.scene import GLTF, Mesh, Scene, make_nodes
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.core.survey import survey


def soup(made: Any, **more: Any) -> Mesh:
    """Every triangle with vertices of its own."""
    points = np.asarray(made.triangles, np.float32).reshape(-1, 3)
    faces = np.arange(len(points), dtype=np.uint32).reshape(-1, 3)
    return Mesh(points, faces, np.full(len(faces), -1, np.int32), **more)


def scene_of(mesh: Mesh) -> Scene:
    return Scene(GLTF, make_nodes([-1], np.eye(4)[None], ["part"], mesh=[0]), (mesh,))


def clean(scene: Scene, **parameters: Any) -> tuple[Scene, list[Any]]:
    return parse_step({"kind": "clean_vertices", **parameters}).apply(scene, StepContext())


def counts(scene: Scene) -> dict[str, float]:
    codes = ("geometry.unjoined", "geometry.loose", "geometry.not-finite", "geometry.non-manifold")
    return {f.code: f.value or 0 for f in survey(scene, BUILT_IN[0]) if f.code in codes}


class Join(unittest.TestCase):
    def test_a_soup_becomes_the_mesh_that_an_independent_library_makes_of_it(self) -> None:
        for made in (trimesh.creation.icosphere(3), trimesh.creation.box(), trimesh.creation.torus(1, 0.3)):
            scene = scene_of(soup(made))
            merged = trimesh.Trimesh(
                made.triangles.reshape(-1, 3), np.arange(3 * len(made.faces)).reshape(-1, 3), process=True
            )
            self.assertEqual(counts(scene), {"geometry.unjoined": 3 * len(made.faces) - len(merged.vertices)})
            out, changes = clean(scene)
            self.assertEqual(out.meshes[0].vertices, len(merged.vertices))
            self.assertEqual(furthest_apart(scene, out), 0.0)
            self.assertEqual(counts(out), {})
            again, nothing = clean(out)
            self.assertEqual(([m.id for m in again.meshes], nothing), ([m.id for m in out.meshes], []))
            self.assertIn("joined with others", changes[0].text)

    def test_seams_of_every_kind_stay(self) -> None:
        made = trimesh.creation.box()
        flat = np.repeat(np.asarray(made.face_normals, np.float32), 3, axis=0)
        rng = np.random.default_rng(1)
        uv = rng.random((36, 2), np.float32)
        plain = soup(made)
        for name, mesh, left in (
            ("hard edges", replace(plain, normals=flat), 24),
            ("texture coordinates", replace(plain, uvs=(uv,)), 36),
            ("second set", replace(plain, uvs=(np.zeros_like(uv), uv)), 36),
            ("colours", replace(plain, colors=(rng.random((36, 4), np.float32),)), 36),
            ("bone weights", replace(plain, attributes={"JOINTS_0": rng.integers(0, 9, (36, 4))}), 36),
        ):
            with self.subTest(name):
                out, _ = clean(scene_of(mesh))
                self.assertEqual(out.meshes[0].vertices, left)
                self.assertEqual(counts(scene_of(mesh)).get("geometry.unjoined", 0), 36 - left)

    def test_within_the_tolerance_and_never_across_an_edge(self) -> None:
        made = trimesh.creation.box([1, 1, 1])
        mesh = soup(made)
        rng = np.random.default_rng(2)
        near = replace(mesh, positions=mesh.positions + rng.uniform(-2e-6, 2e-6, (36, 3)).astype(np.float32))
        self.assertEqual(clean(scene_of(near))[0].meshes[0].vertices, 8)
        self.assertEqual(clean(scene_of(near), joinMm=0)[0].meshes[0].vertices, 36)
        far = replace(mesh, positions=mesh.positions + rng.uniform(-2e-4, 2e-4, (36, 3)).astype(np.float32))
        self.assertEqual(clean(scene_of(far))[0].meshes[0].vertices, 36)
        # a thread of a tenth of a millimetre is no seam, however wide the tolerance is
        thread = as_mesh(trimesh.creation.box([1, 1e-4, 1e-4]))
        self.assertEqual(clean(scene_of(thread), joinMm=10)[0].meshes[0].vertices, 8)

    def test_no_part_is_moved_by_more_than_is_said_where_another_is_smaller(self) -> None:
        mesh = soup(trimesh.creation.icosphere(2, 10.0))
        bent = mesh.positions + np.random.default_rng(1).uniform(-2e-4, 2e-4, mesh.positions.shape).astype(np.float32)
        nodes = make_nodes([-1] * 2, np.array([np.eye(4), np.diag([0.01, 0.01, 0.01, 1.0])]), ["ball", "small one"], mesh=[0, 0])  # fmt: skip
        scene = scene_of(mesh).but(meshes=(replace(mesh, positions=bent),), nodes=nodes)
        for within in (0.001, 0.01, 0.1, 1.0):
            out, _ = clean(scene, join_mm=within)
            corners = [m.positions[m.indices].astype(np.float64) for m in (scene.meshes[0], out.meshes[0])]
            self.assertLessEqual(np.linalg.norm(corners[1] - corners[0], axis=2).max() * 1000, within)
        self.assertLess(out.meshes[0].vertices, 200, "and what is near enough everywhere is joined")

    @settings(max_examples=25, deadline=None)
    @given(st.integers(0, 10_000))
    def test_every_vertex_keeps_place_and_company(self, seed: int) -> None:
        rng = np.random.default_rng(seed)
        points = rng.integers(0, 4, (30, 3)).astype(np.float32)
        faces = np.array([rng.choice(30, 3, replace=False) for _ in range(20)], np.uint32)
        mesh = Mesh(points, faces, np.full(20, -1, np.int32), uvs=(rng.integers(0, 2, (30, 2)).astype(np.float32),))
        first = joined(mesh, 0.0)
        self.assertTrue(np.array_equal(points[first], points))
        self.assertTrue(np.array_equal(mesh.uvs[0][first], mesh.uvs[0]))
        keys = {(*p, *u) for p, u in zip(points.tolist(), mesh.uvs[0].tolist(), strict=True)}
        lonely = np.isinf(np.linalg.norm(points, axis=1))
        self.assertFalse(lonely.any())
        self.assertGreaterEqual(len(np.unique(first)), len(keys))


class Spare(unittest.TestCase):
    def test_unused_vertices_and_places_that_are_no_numbers_go(self) -> None:
        mesh = as_mesh(trimesh.creation.box())
        points = np.concatenate([mesh.positions, [[9, 9, 9], [np.nan, 0, 0], [np.inf, 1, 1]]]).astype(np.float32)
        faces = np.concatenate([mesh.indices, [[0, 1, 9], [0, 9, 10]]]).astype(np.uint32)
        broken = scene_of(Mesh(points, faces, np.full(14, -1, np.int32)))
        self.assertEqual(counts(broken), {"geometry.loose": 1, "geometry.not-finite": 2})
        out, changes = clean(broken)
        self.assertEqual((out.meshes[0].vertices, out.meshes[0].triangles), (8, 12))
        self.assertEqual(counts(out), {})
        self.assertEqual(len(changes), 2)

    def test_edges_of_three_triangles_are_counted_once_each(self) -> None:
        walls = trimesh.Trimesh(
            [[0, 0, 0], [0, 1, 0], [1, 0, 0], [-1, 0, 0], [0, 0, 1]], [[0, 1, 2], [1, 0, 3], [0, 1, 4]], process=False
        )
        self.assertEqual(many_sided_edges(as_mesh(walls)), 1)
        for made in (trimesh.creation.icosphere(2), trimesh.creation.box()):
            self.assertEqual(many_sided_edges(as_mesh(made)), 0)
            double = as_mesh(made)
            both = Mesh(
                double.positions, np.concatenate([double.indices, double.indices[:, ::-1]]), np.tile(double.material, 2)
            )
            self.assertEqual(many_sided_edges(both), 0)
