"""Shapes made from parameters, against closed forms and against an independent library."""

from __future__ import annotations

import tracemalloc
import unittest
from dataclasses import replace
from typing import Any

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import cKDTree

from tidy_caravan.core.geometry.recipes import Fineness, estimate, make, triangles_at
from tidy_caravan.core.geometry.shapes import segments_for
from tidy_caravan.core.geometry.smoothing import corner_normals
from tidy_caravan.core.geometry.subdivision import Cage, refine
from tidy_caravan.core.geometry.triangulate import with_holes
from tidy_caravan.core.geometry.tubes import BASES, along, frames
from tidy_caravan.core.scene import GLTF, Mesh, Recipe, Scene, make_nodes
from tidy_caravan.core.steps import StepContext
from tidy_caravan.core.steps.make_shapes import MakeShapes
from tidy_caravan.core.steps.match_units import MatchUnits

CUBE = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)], np.float64)
QUADS = np.array([0, 1, 3, 2, 4, 6, 7, 5, 0, 4, 5, 1, 2, 3, 7, 6, 0, 2, 6, 4, 1, 5, 7, 3])
EDGES = np.array([[0, 1], [1, 3], [3, 2], [2, 0], [4, 5], [5, 7], [7, 6], [6, 4], [0, 4], [1, 5], [2, 6], [3, 7]])


def solid(mesh: Mesh) -> trimesh.Trimesh:
    return trimesh.Trimesh(mesh.positions, mesh.indices, merge_norm=True, merge_tex=True)


def primitive(**values: Any) -> Recipe:
    return Recipe("primitive", values)


def must(recipe: Recipe, fineness: Fineness, metres: float = 1.0) -> Mesh:
    made = make(recipe, fineness, metres)
    assert made is not None
    return made


class Primitives(unittest.TestCase):
    def test_closed_outwards_and_within_the_tolerance(self) -> None:
        cases = (
            (primitive(shape="box", x=1.0, y=2.0, z=3.0), 6.0),
            (primitive(shape="sphere", radius=1.0), 4 / 3 * np.pi),
            (primitive(shape="cylinder", radius=1.0, height=2.0, axis="X"), 2 * np.pi),
            (primitive(shape="cone", radius=1.0, height=3.0, axis="Y"), np.pi),
            (primitive(shape="capsule", radius=1.0, height=2.0), 2 * np.pi + 4 / 3 * np.pi),
        )
        for recipe, volume in cases:
            with self.subTest(recipe.values["shape"]):
                mesh = must(recipe, Fineness(tolerance_mm=0.5))
                body = solid(mesh)
                self.assertTrue(body.is_watertight)
                self.assertAlmostEqual(body.volume / volume, 1.0, delta=0.003)
                assert mesh.normals is not None
                p = mesh.positions.astype(np.float64)[mesh.indices]
                faces = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
                self.assertTrue((np.einsum("ij,ikj->ik", faces, mesh.normals[mesh.indices]) > 0).all())
                self.assertGreaterEqual(mesh.uvs[0].min(), 0.0)
                self.assertLessEqual(mesh.uvs[0].max(), 1.0)

    @given(st.floats(0.01, 100), st.floats(0.05, 50))
    @settings(max_examples=60, deadline=None)
    def test_chords_stay_within_the_tolerance(self, radius: float, tolerance_mm: float) -> None:
        count = segments_for(radius, tolerance_mm / 1000)
        sagitta = radius * (1 - np.cos(np.pi / count))
        self.assertTrue(sagitta <= tolerance_mm / 1000 * 1.0001 or count in (8, 1024))

    def test_tolerance_is_in_millimetres_whatever_the_unit(self) -> None:
        in_metres = must(primitive(shape="sphere", radius=1.0), Fineness(tolerance_mm=2))
        in_centimetres = must(primitive(shape="sphere", radius=100.0), Fineness(tolerance_mm=2), 0.01)
        self.assertEqual(in_metres.triangles, in_centimetres.triangles)

    def test_extrusions_with_and_without_holes(self) -> None:
        ring = must(
            Recipe("extrusion", {"radius": 1.0, "inner": 0.5, "depth": 2.0, "direction": (0, 0, 1)}),
            Fineness(segments=256),
        )
        self.assertTrue(solid(ring).is_watertight)
        self.assertAlmostEqual(solid(ring).volume, 2 * np.pi * 0.75, delta=0.005)
        # two caps of both circles, two sides of one surface each, with a seam
        self.assertEqual(len(ring.positions), 2 * 2 * 256 + 2 * 2 * 257)
        middle = solid(ring).triangles_center
        inner = np.hypot(middle[:, 0], middle[:, 1]) < 0.6
        along = np.einsum("ij,ij->i", solid(ring).face_normals, middle * (1, 1, 0))
        self.assertTrue((along[inner] < 1e-9).all(), "the inner side looks at the middle")
        outline = np.array([(0, 0), (4, 0), (4, 3), (0, 3)], np.float64)
        hole = np.array([(1, 1), (1, 2), (2, 2), (2, 1)], np.float64)
        frame = must(
            Recipe(
                "extrusion",
                {"depth": 0.5, "direction": (0, 0, 1)},
                {"outline": outline, "holes": hole, "hole_counts": np.array([4])},
            ),
            Fineness(),
        )
        self.assertTrue(solid(frame).is_watertight)
        self.assertAlmostEqual(solid(frame).volume, (12 - 1) * 0.5, places=6)


class Curves(unittest.TestCase):
    def test_bases_pass_where_their_definition_says(self) -> None:
        p = np.array([(0, 0, 0), (1, 2, 0), (3, 3, 1), (4, 0, 2)], np.float64)
        bezier = along(p, "bezier", False, 8)
        np.testing.assert_allclose(bezier[[0, -1]], p[[0, -1]], atol=1e-12)
        catmull = along(p, "catmullRom", False, 8)
        np.testing.assert_allclose(catmull[[0, -1]], p[[1, 2]], atol=1e-12)
        spline = along(p, "bspline", False, 8)
        np.testing.assert_allclose(spline[0], (p[0] + 4 * p[1] + p[2]) / 6, atol=1e-12)
        for basis in BASES.values():
            np.testing.assert_allclose((np.array([0.3**3, 0.3**2, 0.3, 1]) @ basis).sum(), 1.0)

    def test_frames_do_not_twist_on_a_plane_curve(self) -> None:
        t = np.linspace(0, np.pi, 40)
        line = np.column_stack([np.cos(t), np.sin(t), np.zeros_like(t)])
        tangent, normal = frames(line, False)
        np.testing.assert_allclose(np.einsum("ij,ij->i", tangent, normal), 0, atol=1e-9)
        np.testing.assert_allclose(np.abs(normal[:, 2]), np.abs(normal[0, 2]), atol=1e-9)

    def test_a_tube_has_the_volume_of_its_length(self) -> None:
        recipe = Recipe(
            "tube", {"basis": "linear"},
            {"points": np.array([(0, 0, 0), (0, 0, 5)], np.float64), "counts": np.array([2]), "widths": np.full(2, 0.5)},
        )  # fmt: skip
        body = solid(must(recipe, Fineness(segments=128)))
        self.assertTrue(body.is_watertight)
        self.assertAlmostEqual(body.volume, np.pi * 0.0625 * 5, delta=0.002)


class Subdivision(unittest.TestCase):
    def test_catmull_clark_of_the_cube_by_its_rules(self) -> None:
        fine = refine(Cage(CUBE, QUADS, np.full(6, 4)), "catmullClark", 1)
        np.testing.assert_allclose(np.abs(fine.points[:8]), 5 / 9)  # (Q + 2R + 0·P) / 3
        np.testing.assert_allclose(
            np.sort(np.abs(fine.points[8:20]), axis=1), np.tile((0, 0.75, 0.75), (12, 1)), atol=1e-12
        )
        np.testing.assert_allclose(np.sort(np.abs(fine.points[20:]), axis=1), np.tile((0, 0, 1), (6, 1)), atol=1e-12)
        self.assertEqual(len(fine.counts), 24)

    def test_loop_agrees_with_trimesh(self) -> None:
        ball = trimesh.creation.icosphere(subdivisions=1)
        fine = refine(
            Cage(np.array(ball.vertices), np.array(ball.faces).ravel(), np.full(len(ball.faces), 3)), "loop", 2
        )
        known, _ = trimesh.remesh.subdivide_loop(ball.vertices, ball.faces, 2)
        self.assertEqual(len(fine.points), len(known))
        self.assertLess(cKDTree(known).query(fine.points)[0].max(), 1e-12)

    def test_sharp_edges_keep_the_cube_and_half_sharp_ones_lie_between(self) -> None:
        def reach(sharpness: float) -> float:
            cage = Cage(CUBE, QUADS, np.full(6, 4), edges=EDGES, sharpness=np.full(12, sharpness))
            return float(np.abs(refine(cage, "catmullClark", 3).points).max(axis=0).min())

        def corner(sharpness: float) -> float:
            cage = Cage(CUBE, QUADS, np.full(6, 4), edges=EDGES, sharpness=np.full(12, sharpness))
            return float(np.linalg.norm(refine(cage, "catmullClark", 3).points, axis=1).max())

        self.assertAlmostEqual(reach(10.0), 1.0)
        self.assertAlmostEqual(corner(10.0), 3**0.5)
        self.assertTrue(corner(0.0) < corner(1.0) < corner(10.0))

    def test_open_sheets_keep_their_corners_and_stay_flat(self) -> None:
        sheet = Cage(np.array([(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)], np.float64), np.arange(4), np.array([4]))
        fine = refine(sheet, "catmullClark", 2)
        np.testing.assert_allclose(fine.points[:, 2], 0)
        for corner in ((0, 0), (1, 0), (1, 1), (0, 1)):
            self.assertLess(np.abs(fine.points[:, :2] - corner).sum(axis=1).min(), 1e-12)

    def test_uv_sets_stay_with_their_corners(self) -> None:
        uv = np.array([(0, 0), (1, 0), (1, 1), (0, 1)], np.float64)
        sheet = Cage(np.column_stack([uv, np.zeros(4)]), np.arange(4), np.array([4]), (uv,))
        fine = refine(sheet, "bilinear", 3)
        np.testing.assert_allclose(fine.uvs[0], fine.points[fine.corner][:, :2], atol=1e-12)

    def test_predicted_triangles_are_the_real_ones(self) -> None:
        for scheme in ("catmullClark", "loop", "bilinear"):
            recipe = Recipe(
                "subdivision", {"scheme": scheme, "uvs": 0}, {"points": CUBE, "corner": QUADS, "counts": np.full(6, 4)}
            )
            for level in range(4):
                with self.subTest(scheme=scheme, level=level):
                    self.assertEqual(
                        triangles_at(recipe, Fineness(level=level), 1.0), must(recipe, Fineness(level=level)).triangles
                    )


class Smoothing(unittest.TestCase):
    def test_hard_and_soft_edges(self) -> None:
        box = trimesh.creation.box()
        hard = corner_normals(np.array(box.vertices), np.array(box.faces), 30)
        np.testing.assert_allclose(np.abs(hard).max(axis=2), 1.0, atol=1e-6)
        ball = trimesh.creation.icosphere(subdivisions=3)
        soft = corner_normals(np.array(ball.vertices), np.array(ball.faces), 60)
        self.assertGreater(np.einsum("tcj,tcj->tc", soft, ball.vertices[ball.faces]).min(), 0.999)


class Holes(unittest.TestCase):
    @given(st.floats(-1e6, 1e6), st.integers(0, 2))
    @settings(max_examples=40, deadline=None)
    def test_area_is_outline_minus_holes_wherever_it_lies(self, shift: float, axis: int) -> None:
        flat = np.array(
            [(0, 0), (8, 0), (8, 6), (0, 6), (1, 1), (1, 3), (3, 3), (3, 1), (5, 2), (5, 4), (7, 4), (7, 2)], np.float64
        )
        p = np.insert(flat, axis, 0.0, axis=1) + shift
        triangles = with_holes(p, [4, 4, 4])
        corners = p[triangles]
        area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1).sum() / 2
        self.assertAlmostEqual(area / 40.0, 1.0, places=6)


class TheStep(unittest.TestCase):
    def scene(self) -> Scene:
        ball = must(primitive(shape="sphere", radius=1.0), Fineness())
        box = must(primitive(shape="box", x=1.0, y=1.0, z=1.0), Fineness())
        local = np.tile(np.eye(4), (3, 1, 1))
        return Scene(GLTF, make_nodes([-1] * 3, local, ["ball 1", "ball 2", "box"], mesh=[0, 0, 1]), (ball, box))

    def test_all_or_some_parts_and_boxes_stay(self) -> None:
        scene = self.scene()
        out, changes = MakeShapes(segments=8).apply(scene, StepContext())
        self.assertEqual(sorted(m.triangles for m in out.meshes), [12, 48])
        self.assertIn("1 shape made again", changes[0].text)
        one, _ = MakeShapes.model_validate({"segments": 8, "where": {"names": ["ball 2"]}}).apply(scene, StepContext())
        self.assertEqual(sorted(m.triangles for m in one.meshes), sorted([48, scene.meshes[0].triangles, 12]))

    def test_what_was_moved_since_is_left_and_told(self) -> None:
        from tidy_caravan.core.conventions.destinations import BUILT_IN

        smaller, _ = MatchUnits(source_metres_per_unit=0.01).apply(self.scene(), StepContext(BUILT_IN[0]))
        out, changes = MakeShapes(segments=8).apply(smaller, StepContext())
        self.assertFalse(any(c.problem for c in changes))
        self.assertAlmostEqual(max(float(m.positions.max()) for m in out.meshes), 0.01, places=6)
        bent = [
            replace(m, positions=m.positions + np.float32([0, 0, 0.01]) * m.positions[:, :1]) for m in smaller.meshes
        ]
        moved = smaller.but(meshes=tuple(bent))
        out, changes = MakeShapes(segments=8).apply(moved, StepContext())
        self.assertEqual([m.triangles for m in out.meshes], [m.triangles for m in moved.meshes])
        self.assertTrue(all(c.problem for c in changes) and changes)


class Bounded(unittest.TestCase):
    """What a step would make is counted before anything is made."""

    def curves(self, count: int) -> Recipe:
        points = np.random.default_rng(1).uniform(-1, 1, (count * 8, 3))
        arrays = {"points": points, "counts": np.full(count, 8), "widths": np.full(count * 8, 0.2)}
        return Recipe("tube", {"basis": "catmullRom", "closed": False, "material": -1}, arrays)

    def test_estimates_are_near_the_truth(self) -> None:
        for recipe, fineness in (
            (primitive(shape="sphere", radius=1.0), Fineness(segments=40)),
            (primitive(shape="capsule", radius=1.0, height=2.0), Fineness(segments=40)),
            (primitive(shape="cylinder", radius=1.0, height=2.0), Fineness(segments=64)),
            (self.curves(12), Fineness(segments=16)),
            (Recipe("extrusion", {"radius": 1.0, "depth": 1.0, "direction": [0, 0, 1]}), Fineness(segments=64)),
        ):
            told, made = estimate(recipe, fineness, 1.0), must(recipe, fineness).triangles
            self.assertLess(abs(np.log2(told / made)), 1.0, (recipe.kind, told, made))

    def test_a_small_file_cannot_ask_for_more_than_any_memory_holds(self) -> None:
        recipe = self.curves(400)
        mesh = must(recipe, Fineness(segments=3))
        nodes = make_nodes([-1], np.eye(4)[None], ["hair"], mesh=[0])
        tracemalloc.start()
        out, changes = MakeShapes(segments=1024).apply(Scene(GLTF, nodes, (mesh,)), StepContext())
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        self.assertIs(out.meshes[0], mesh)
        self.assertTrue(changes[0].problem)
        self.assertIn("is the limit", changes[0].text)
        self.assertLess(peak, 20e6)
        self.assertGreater(triangles_at(recipe, Fineness(segments=1024), 1.0), 4_000_000)


if __name__ == "__main__":
    unittest.main()
