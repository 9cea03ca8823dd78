"""Fewer triangles within a bound, and more where a surface bends: against closed forms, seams and outlines kept."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import cKDTree

from tests.support import read
from tests.trees import as_mesh
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.geometry.closest import apart, closest_on
from tidy_caravan.core.geometry.regular import halved
from tidy_caravan.core.geometry.simplify import flat_places, simplified
from tidy_caravan.core.scene import GLTF, Mesh, Morph, Scene, make_nodes
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.core.steps.density import finer
from tidy_caravan.core.survey import survey

AROUND = 100
"""Triangles, by their middles, that a point is compared with."""


def scene_of(mesh: Mesh, matrix: Any | None = None, name: str = "part") -> Scene:
    return Scene(GLTF, make_nodes([-1], (np.eye(4) if matrix is None else matrix)[None], [name], mesh=[0]), (mesh,))


def apply(scene: Scene, **step: Any) -> tuple[Scene, list[Any]]:
    return parse_step(step).apply(scene, StepContext())


def solid(mesh: Mesh, faces: Any | None = None) -> Any:
    return trimesh.Trimesh(mesh.positions, mesh.indices if faces is None else faces, process=True)


def grid(n: int, size: float = 1.0) -> tuple[Any, Any]:
    """(V, 3) and (F, 3) of a flat square of n × n cells."""
    x, y = np.meshgrid(np.linspace(0, size, n + 1), np.linspace(0, size, n + 1), indexing="ij")
    points = np.stack([x, y, np.zeros_like(x)], axis=-1).reshape(-1, 3)
    k = np.arange((n + 1) ** 2).reshape(n + 1, n + 1)
    a, b, c, d = k[:-1, :-1], k[1:, :-1], k[1:, 1:], k[:-1, 1:]
    return points, np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([a, c, d], -1).reshape(-1, 3)])


def furthest(points: Any, mesh: Mesh, faces: Any) -> float:
    """Largest distance of points from a surface. Each is compared with the triangles around it, which gives too much where
    others are nearer, and never too little."""
    corners, places = mesh.positions.astype(np.float64)[faces], np.asarray(points, np.float64)
    around = cKDTree(corners.mean(axis=1)).query(places, min(AROUND, len(faces)))[1]
    near = closest_on(np.repeat(places, around.shape[1], axis=0), corners[around.ravel()]).reshape(*around.shape, 3)
    return float(np.linalg.norm(near - places[:, None], axis=2).min(axis=1).max())


class Fewer(unittest.TestCase):
    def test_a_ball_stays_within_the_bound_of_its_closed_form(self) -> None:
        ball = as_mesh(trimesh.creation.icosphere(5))
        counts = []
        for bound in (0.003, 0.01, 0.03):
            made = simplified(ball, bound)
            out = solid(ball, made.faces)
            self.assertTrue(out.is_watertight and out.is_winding_consistent)
            off = np.abs(np.linalg.norm(out.sample(20_000, seed=1), axis=1) - 1).max()
            self.assertLess(off, bound)
            self.assertLessEqual(made.error, bound)
            counts.append(len(made.faces))
        self.assertEqual(counts, sorted(counts, reverse=True))
        self.assertLess(counts[1], ball.triangles / 4)

    def test_the_bound_is_used_and_kept_between_corners_as_well(self) -> None:
        """On a saddle the furthest places lie within triangles."""
        ring = as_mesh(trimesh.creation.torus(1, 0.3, 48, 24))
        for bound, most in ((0.02, 900), (0.1, 300)):
            made = simplified(ring, bound)
            self.assertLess(len(made.faces), most)
            for one, other in ((ring.indices, made.faces), (made.faces, ring.indices)):
                places = trimesh.Trimesh(ring.positions, one, process=False).sample(2500, seed=3)
                self.assertLessEqual(furthest(places, ring, other), bound)

    def test_the_bound_is_kept_where_edges_of_both_cross(self) -> None:
        """On frames of warped bars, of a few large triangles each: what came furthest away lay between all places that were
        measured, 1.23 mm where 0.99 was said."""
        for seed in range(4):
            rng = np.random.default_rng(seed)
            wide, high = rng.uniform(0.6, 1.8), rng.uniform(0.8, 2.2)
            bars = [((wide, 0.06, 0.08), (0, y, 0)) for y in (0, high)]
            bars += [((0.06, high - 0.06, 0.08), (x, high / 2, 0)) for x in (0.03 - wide / 2, wide / 2 - 0.03)]
            made = [trimesh.creation.box(size).apply_translation(at) for size, at in bars]
            frame = trimesh.util.concatenate(made).subdivide()
            frame.vertices += 0.002 * np.sin(40 * frame.vertices[:, [1, 2, 0]])
            mesh = as_mesh(frame)
            coarse = simplified(mesh, 0.001)
            self.assertLess(len(coarse.faces), mesh.triangles)
            for one, other in ((mesh.indices, coarse.faces), (coarse.faces, mesh.indices)):
                places = trimesh.Trimesh(mesh.positions, one, process=False).sample(6000, seed=seed)
                self.assertLessEqual(furthest(places, mesh, other), 0.001)

    def test_what_is_shaded_flat_all_over_has_no_lines_to_keep_and_stays_flat(self) -> None:
        ball = trimesh.creation.icosphere(4)
        flat = trimesh.Trimesh(
            ball.triangles.reshape(-1, 3), np.arange(3 * len(ball.faces)).reshape(-1, 3), process=False
        )
        mesh = Mesh(
            flat.vertices.astype(np.float32), flat.faces.astype(np.uint32), np.zeros(len(flat.faces), np.int32),
            np.repeat(ball.face_normals, 3, axis=0).astype(np.float32),
        )  # fmt: skip
        out, _ = apply(scene_of(mesh), kind="simplify", errorMm=20)
        coarse = out.meshes[0]
        self.assertLess(coarse.triangles, mesh.triangles / 5)
        self.assertLess(np.abs(np.linalg.norm(solid(coarse).sample(20_000, seed=1), axis=1) - 1).max(), 0.0215)
        assert coarse.normals is not None
        made = trimesh.Trimesh(coarse.positions, coarse.indices, process=False)
        self.assertGreater((coarse.normals[coarse.indices] * made.face_normals[:, None]).sum(axis=2).min(), 1 - 1e-6)
        # and a flat box is twelve triangles with four corners a side
        box = trimesh.creation.box([1, 2, 3]).subdivide().subdivide()
        each = Mesh(
            box.triangles.reshape(-1, 3).astype(np.float32), np.arange(3 * len(box.faces), dtype=np.uint32).reshape(-1, 3),
            np.zeros(len(box.faces), np.int32), np.repeat(box.face_normals, 3, axis=0).astype(np.float32),
        )  # fmt: skip
        out, _ = apply(scene_of(each), kind="simplify", errorMm=1)
        self.assertEqual((out.meshes[0].triangles, out.meshes[0].vertices), (12, 24))

    def test_flat_sides_come_down_to_what_shapes_them(self) -> None:
        box = trimesh.creation.box([1, 2, 3])
        for _ in range(4):
            box = box.subdivide()
        made = simplified(as_mesh(box), 1e-5)
        self.assertEqual(len(made.faces), 12)
        self.assertAlmostEqual(solid(as_mesh(box), made.faces).volume, 6, places=6)
        self.assertEqual(flat_places(as_mesh(box)), len(box.vertices) - 8 - 12 * 15)

    @settings(max_examples=12, deadline=None)
    @given(st.integers(0, 1000))
    def test_random_land_keeps_bound_and_border(self, seed: int) -> None:
        rng = np.random.default_rng(seed)
        points, faces = grid(24)
        wave = rng.normal(size=(3, 2)) * 6
        points[:, 2] = 0.012 * np.sin(points[:, :2] @ wave.T + rng.uniform(0, 6, 3)).sum(axis=1)
        land = Mesh(points.astype(np.float32), faces.astype(np.uint32), np.full(len(faces), -1, np.int32))
        made = simplified(land, 0.003)
        self.assertLess(len(made.faces), land.triangles)
        self.assertLess(furthest(points, land, made.faces), 0.003)
        corners = land.positions[made.faces]
        normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        self.assertGreater(normals[:, 2].min(), -1e-9)  # nothing folds over
        # the plan of the border: a square, to within the bound
        self.assertAlmostEqual(float(normals[:, 2].sum()) / 2, 1.0, delta=0.02)

    def test_ragged_borders_stay_within_the_bound_both_ways(self) -> None:
        """Many small steps along a border must not add up to more than the bound."""
        rng = np.random.default_rng(11)
        for bound in (0.01, 0.05, 0.2):
            points, faces = grid(14)
            points = points + rng.normal(scale=0.004, size=points.shape)
            mesh = as_mesh(trimesh.Trimesh(points, faces[rng.random(len(faces)) < 0.7], process=False))
            made = simplified(mesh, bound)
            self.assertLess(len(made.faces), mesh.triangles)
            whole = mesh.positions.astype(np.float64)
            for asked, against in ((mesh.indices, made.faces), (made.faces, mesh.indices)):
                there = np.concatenate([whole[np.unique(asked)], whole[asked].mean(axis=1)])
                self.assertLessEqual(furthest(there, mesh, against), bound * (1 + 1e-9))

    def test_seams_materials_and_vertex_data_are_kept(self) -> None:
        points, faces = grid(16)
        half = points[faces].mean(axis=1)[:, 0] > 0.5
        uv = points[:, :2].copy()
        # the right half has vertices of its own along the middle, with other coordinates
        seam = np.isclose(points[:, 0], 0.5)
        copy = np.arange(len(points))
        copy[seam] = len(points) + np.arange(seam.sum())
        points, uv = np.concatenate([points, points[seam]]), np.concatenate([uv, uv[seam] + 5])
        faces = faces.copy()
        faces[half] = copy[faces[half]]
        uv[np.unique(faces[half])] = points[np.unique(faces[half]), :2] * 2 + 3
        mesh = Mesh(
            points.astype(np.float32), faces.astype(np.uint32), (half & (half.cumsum() % 2 == 0)).astype(np.int32) * 0 + half,
            uvs=(uv.astype(np.float32),),
        )  # fmt: skip
        made = simplified(mesh, 1e-4)
        self.assertEqual(len(made.faces), 4)
        for side in (0, 1):
            rows = made.material == side
            corners = mesh.positions[made.faces[rows]]
            area = np.abs(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])[:, 2]).sum() / 2
            self.assertAlmostEqual(area, 0.5, places=6)
            expected = mesh.positions[made.faces[rows]][..., :2] * (2 if side else 1) + (3 if side else 0)
            self.assertTrue(np.allclose(mesh.uvs[0][made.faces[rows]], expected, atol=1e-5))

    def test_pictures_that_are_laid_out_unevenly_hold_it_back(self) -> None:
        points, faces = grid(16)
        bent = np.column_stack([points[:, 0] ** 2, points[:, 1]])
        mesh = Mesh(
            points.astype(np.float32),
            faces.astype(np.uint32),
            np.full(len(faces), -1, np.int32),
            uvs=(bent.astype(np.float32),),
        )
        plain = Mesh(mesh.positions, mesh.indices, mesh.material, uvs=(points[:, :2].astype(np.float32),))
        self.assertEqual(len(simplified(plain, 1e-3).faces), 2)
        self.assertGreater(len(simplified(mesh, 1e-3).faces), 20)

    def test_what_runs_over_a_surface_beside_textures_holds_it_back(self) -> None:
        """Colours, weights, shapes to morph into and further values: laid evenly they go, a step or a bulge stays."""
        points, faces = grid(16)
        x, y = points[:, 0], points[:, 1]
        bulge = np.where(np.abs(points[:, :2] - 0.5).max(axis=1) < 0.2, 0.05, 0.0)
        regions = np.where(x > 0.5, 7, 3)
        ends, steps = [np.stack([k, 1 - k, 0 * k, 0 * k], axis=1) for k in (x, (x > 0.5) * 1.0)]
        turned = np.where((np.arange(len(x)) % 2 == 0)[:, None], [4, 2, 0, 0], [2, 4, 0, 0])
        pulled = [np.where(turned[:, :1] == 4, k, k[:, [1, 0, 2, 3]]).astype(np.float32) for k in (ends, steps)]
        tint, blot = np.stack([x, y, x * 0, y * 0 + 1], axis=1), np.stack([bulge * 20, bulge, bulge, x * 0 + 1], axis=1)
        lift = np.stack([x * 0, x * 0, x], axis=1), np.stack([x * 0, x * 0, bulge], axis=1)
        pairs: list[tuple[dict[str, Any], dict[str, Any]]] = [
            ({"colors": (tint.astype(np.float32),)}, {"colors": (blot.astype(np.float32),)}),
            ({"attributes": {"_REGION": regions * 0 + 3}}, {"attributes": {"_REGION": regions}}),
            (
                {"attributes": {"_WEAR": (x * 300).astype(np.float32)}},
                {"attributes": {"_WEAR": (bulge * 300).astype(np.float32)}},
            ),
            (
                {"attributes": {"JOINTS_0": turned.astype(np.uint16), "WEIGHTS_0": pulled[0]}},
                {"attributes": {"JOINTS_0": turned.astype(np.uint16), "WEIGHTS_0": pulled[1]}},
            ),
            ({"morphs": (Morph(lift[0].astype(np.float32)),)}, {"morphs": (Morph(lift[1].astype(np.float32)),)}),
            ({"uvs": (points[:, :2], points[:, :2] * 3)}, {"uvs": (points[:, :2], np.column_stack([x**2, y]))}),
        ]
        for even, uneven in pairs:
            with self.subTest(str(list(even))):
                plain, marked = (
                    Mesh(points.astype(np.float32), faces.astype(np.uint32), np.full(len(faces), -1, np.int32), **more)
                    for more in (even, uneven)
                )
                for mesh, least, most in ((plain, 2, 2), (marked, 3, 300)):
                    count = len(simplified(mesh, 1e-3).faces)
                    self.assertTrue(least <= count <= most, count)
                    out, _ = apply(scene_of(mesh), kind="simplify", errorMm=1)
                    self.assertEqual(out.meshes[0].triangles, count)

    def test_colours_stay_where_they_were(self) -> None:
        points, faces = grid(40)
        colour = np.ones((len(points), 4), np.float32)
        colour[:, 0] = np.clip(5 * np.linalg.norm(points[:, :2] - 0.5, axis=1) - 1, 0, 1)
        mesh = Mesh(
            points.astype(np.float32), faces.astype(np.uint32), np.full(len(faces), -1, np.int32), colors=(colour,)
        )
        made = simplified(mesh, 1e-3)
        self.assertLess(len(made.faces), 0.8 * len(faces))
        places, _, triangles = trimesh.proximity.closest_point_naive(
            trimesh.Trimesh(points, made.faces, process=False), points
        )
        weights = trimesh.triangles.points_to_barycentric(points[made.faces[triangles]], places)
        shown = (weights * colour[made.faces[triangles], 0]).sum(axis=1)
        self.assertLess(np.abs(shown - colour[:, 0]).max(), 0.05)

    def test_slivers_are_measured_at_their_edges(self) -> None:
        """Three corners on a line, and closed form: the distance from the segment."""
        ends = np.array([[0.1, 0.2, 0.3], [0.7, -0.4, 1.1]])
        line = np.stack([ends[0], ends[1], ends.mean(axis=0) + 1e-17])
        rng = np.random.default_rng(5)
        asked = rng.normal(size=(200, 3)) * 3
        way = ends[1] - ends[0]
        share = np.clip((asked - ends[0]) @ way / (way @ way), 0, 1)
        truth = np.linalg.norm(asked - ends[0] - share[:, None] * way, axis=1)
        self.assertTrue(np.allclose(apart(asked, line[None], 1e3), truth, atol=1e-12))
        one_each = np.linalg.norm(closest_on(asked, np.tile(line, (200, 1, 1))) - asked, axis=1)
        self.assertTrue(np.allclose(one_each, truth, atol=1e-12))
        many = rng.normal(size=(500, 3, 3))
        soup = trimesh.Trimesh(many.reshape(-1, 3), np.arange(1500).reshape(-1, 3), process=False)
        far = trimesh.proximity.closest_point_naive(soup, asked)[1]
        self.assertTrue(np.allclose(apart(asked, many, 1e3), far, atol=1e-9))
        self.assertEqual((apart(asked, many, 0.5) == np.inf).tolist(), (far > 0.5).tolist())

    def test_the_step_goes_by_where_parts_are_drawn_and_does_nothing_twice(self) -> None:
        ball = as_mesh(trimesh.creation.icosphere(4))
        near, _ = apply(scene_of(ball), kind="simplify", errorMm=10)
        far, _ = apply(scene_of(ball, np.diag([10.0, 10, 10, 1])), kind="simplify", errorMm=10)
        self.assertGreater(far.meshes[0].triangles, near.meshes[0].triangles)
        again, changes = apply(near, kind="simplify", errorMm=10)
        self.assertEqual((again, changes), (near, []))
        half, _ = apply(scene_of(ball), kind="simplify", errorMm=100, leastPercent=50)
        self.assertAlmostEqual(half.meshes[0].triangles / ball.triangles, 0.5, delta=0.02)

    def test_the_survey_names_what_shapes_nothing(self) -> None:
        points, faces = grid(60)
        dense = Mesh(points.astype(np.float32), faces.astype(np.uint32), np.full(len(faces), -1, np.int32))
        found = {f.code: f for f in survey(scene_of(dense), BUILT_IN[0])}["density.fine"]
        self.assertEqual(found.value, 59 * 59)
        out, _ = parse_step(found.mend).apply(scene_of(dense), StepContext())
        self.assertEqual(out.meshes[0].triangles, 2)
        ball = scene_of(as_mesh(trimesh.creation.icosphere(5)))
        self.assertNotIn("density.fine", {f.code for f in survey(ball, BUILT_IN[0])})


class More(unittest.TestCase):
    def test_edges_get_as_short_as_asked_for_and_nothing_moves(self) -> None:
        made = trimesh.creation.box([1, 1, 1])
        mesh = as_mesh(
            made,
            uvs=(np.asarray(made.vertices[:, :2], np.float32),),
            normals=np.asarray(made.vertex_normals, np.float32),
        )
        out, changes = apply(scene_of(mesh), kind="subdivide", edgeMm=200)
        fine = out.meshes[0]
        self.assertEqual(fine.triangles, 12 * 4**3)  # √2 m, halved three times, is 177 mm
        self.assertTrue(solid(fine).is_watertight)
        self.assertAlmostEqual(solid(fine).volume, 1, places=6)
        self.assertTrue(np.allclose(fine.uvs[0], fine.positions[:, :2], atol=1e-6))
        self.assertTrue(np.allclose(np.linalg.norm(fine.normals, axis=1), 1, atol=1e-6))
        again, nothing = apply(out, kind="subdivide", edgeMm=200)
        self.assertEqual((again, nothing), (out, []))
        self.assertEqual(changes[0].count, 12 * 63)

    def test_what_would_be_too_many_stops_and_is_told(self) -> None:
        out, changes = apply(scene_of(as_mesh(trimesh.creation.box([100, 100, 100]))), kind="subdivide", edgeMm=1)
        self.assertTrue(changes[-1].problem)
        self.assertLessEqual(out.meshes[0].triangles, 4_000_000)

    @settings(max_examples=20, deadline=None)
    @given(st.floats(0.1, 40), st.floats(0.1, 40))
    def test_a_flag_of_two_triangles_is_asked_about(self, width: float, height: float) -> None:
        points, faces = grid(1)
        points = points * np.array([width, height, 1.0])
        flag = Mesh(points.astype(np.float32), faces.astype(np.uint32), np.full(2, -1, np.int32))
        found = {f.code: f for f in survey(scene_of(flag, name="ferry_flag"), BUILT_IN[0])}["density.coarse"]
        self.assertTrue(found.guess)
        out, _ = parse_step(found.mend).apply(scene_of(flag, name="ferry_flag"), StepContext())
        self.assertNotIn("density.coarse", {f.code for f in survey(out, BUILT_IN[0])})
        self.assertNotIn("density.coarse", {f.code for f in survey(scene_of(flag, name="wall"), BUILT_IN[0])})

    def test_each_size_is_asked_for_edges_of_its_own(self) -> None:
        """A pennant and a sail: edges that suit the one would make millions of triangles of the other."""
        points, faces = grid(1)
        sizes = (0.1, 0.11, 12.0)
        meshes = tuple(
            Mesh((points * size).astype(np.float32), faces.astype(np.uint32), np.full(2, -1, np.int32))
            for size in sizes
        )
        names = ["pennant_flag", "other_flag", "ferry_sail"]
        scene = Scene(GLTF, make_nodes([-1] * 3, np.tile(np.eye(4), (3, 1, 1)), names, mesh=[0, 1, 2]), meshes)
        found = [f for f in survey(scene, BUILT_IN[0]) if f.code == "density.coarse"]
        self.assertEqual([sorted(f.parts) for f in found], [[0, 1], [2]])
        for finding, smallest in zip(found, (0.1, 12.0), strict=True):
            self.assertAlmostEqual(finding.limit, smallest * 2**0.5 / 8 * 1000, places=3)
            scene, _ = parse_step(finding.mend).apply(scene, StepContext())
        self.assertFalse([f for f in survey(scene, BUILT_IN[0]) if f.code == "density.coarse"])
        self.assertLessEqual([m.triangles for m in scene.meshes], [2 * 4**4] * 3)

    def test_parts_of_a_mesh_at_several_scales_stay_with_it(self) -> None:
        points, faces = grid(1)
        flag = Mesh(points.astype(np.float32), faces.astype(np.uint32), np.full(2, -1, np.int32))
        places = np.stack([np.diag([s, s, s, 1.0]) for s in (1.0, 20.0)])
        scene = Scene(GLTF, make_nodes([-1, -1], places, ["flag", "flag"], mesh=[0, 0]), (flag,))
        (found,) = [f for f in survey(scene, BUILT_IN[0]) if f.code == "density.coarse"]
        out, _ = parse_step(found.mend).apply(scene, StepContext())
        self.assertEqual(len(out.meshes), 1)
        self.assertEqual(out.meshes[0].triangles, 2 * 4**4)  # an eighth of the diagonal, in mesh and world alike

    def test_what_has_a_displacement_map_needs_more(self) -> None:
        """As OBJ, OpenUSD and a name say it; without one the same surface is left alone."""
        mtl = b"newmtl shingle\nKd 1 1 1\ndisp -mm 0 0.1 maps\\shingle_height.png\n"
        obj = b"mtllib a.mtl\nv 0 0 0\nv 4 0 0\nv 4 4 0\nv 0 4 0\nusemtl shingle\nf 1 2 3 4\n"
        usd = (
            b'#usda 1.0\n(metersPerUnit = 1)\ndef Mesh "beach" (prepend apiSchemas = ["MaterialBindingAPI"]) {\n'
            b"int[] faceVertexCounts = [4]\nint[] faceVertexIndices = [0, 1, 2, 3]\n"
            b"point3f[] points = [(0,0,0), (4,0,0), (4,4,0), (0,4,0)]\nrel material:binding = </m>\n}\n"
            b'def Material "m" {\ntoken outputs:surface.connect = </m/s.outputs:surface>\n'
            b'def Shader "s" {\nuniform token info:id = "UsdPreviewSurface"\ntoken outputs:surface\n'
            b'float inputs:displacement.connect = </m/t.outputs:r>\n}\ndef Shader "t" {\n'
            b'uniform token info:id = "UsdUVTexture"\nasset inputs:file = @maps/shingle_height.png@\nfloat outputs:r\n}\n}\n'
        )
        plain = usd.replace(b"float inputs:displacement.connect = </m/t.outputs:r>", b"")
        called = plain.replace(b'"m"', b'"shingle_displaced"').replace(b"/m", b"/shingle_displaced")
        for name, files, asked in (
            ("a.obj", {"a.obj": obj, "a.mtl": mtl}, True),
            ("a.usda", {"a.usda": usd}, True),
            ("a.usda", {"a.usda": called}, True),
            ("a.usda", {"a.usda": plain}, False),
            ("a.obj", {"a.obj": obj, "a.mtl": mtl.split(b"disp")[0]}, False),
        ):
            with self.subTest(name, asked=asked):
                scene = read(files, name)
                found = [f for f in survey(scene, BUILT_IN[0]) if f.code == "density.coarse"]
                self.assertEqual(len(found), asked)
                if not asked:
                    continue
                self.assertAlmostEqual(found[0].limit, 32**0.5 / 32 * 1000, places=3)
                out, _ = parse_step(found[0].mend).apply(scene, StepContext())
                self.assertFalse([f for f in survey(out, BUILT_IN[0]) if f.code.startswith("density")])
                finer_, _ = apply(out, kind="subdivide", edgeMm=found[0].limit / 4)
                self.assertFalse([f for f in survey(finer_, BUILT_IN[0]) if f.code.startswith("density")])
                bare = finer_.but(materials=tuple(replace(m, name="wall", extras=None) for m in finer_.materials))
                self.assertEqual(["density.fine"], [f.code for f in survey(bare, BUILT_IN[0]) if "density" in f.code])
        for files, name in (({"a.obj": obj, "a.mtl": mtl}, "a.obj"), ({"a.usda": usd}, "a.usda")):
            scene = read(files, name)
            self.assertEqual(scene.materials[0].extras, {"displacement": "shingle_height.png"})
            self.assertTrue(
                any("disp" in one for one in [*(n.text for n in scene.notes), *(t.kind for t in scene.travel)])
            )

    def test_middles_of_skinned_edges_are_pulled_by_what_pulls_both_ends(self) -> None:
        """Whatever slots and sets the joints stand in; of more joints than there are slots the strongest."""
        rng = np.random.default_rng(5)
        points, faces = grid(3)
        count = len(points)
        joints = np.array([rng.permutation(12)[:8] for _ in range(count)])
        weights = rng.random((count, 8)) * (rng.random((count, 8)) < 0.4)
        weights[:, 0] += 0.1
        weights /= weights.sum(axis=1, keepdims=True)
        sets = {f"JOINTS_{k}": joints[:, 4 * k : 4 * k + 4].astype(np.uint8) for k in (0, 1)}
        sets |= {f"WEIGHTS_{k}": weights[:, 4 * k : 4 * k + 4].astype(np.float32) for k in (0, 1)}
        mesh = Mesh(
            points.astype(np.float32), faces.astype(np.uint32), np.full(len(faces), -1, np.int32), attributes=sets
        )
        out = finer(mesh)
        pull = pulls(out)
        np.testing.assert_allclose(pull.sum(axis=1), 1, atol=1e-6)
        low = halved(mesh.indices.astype(np.int64), count)[1]
        wanted = (pull[low[:, 0]] + pull[low[:, 1]]) / 2
        few = (wanted > 0).sum(axis=1) <= 8
        self.assertGreater(int(few.sum()), 10)
        self.assertGreater(int((~few).sum()), 0)
        np.testing.assert_allclose(pull[count:][few], wanted[few], atol=1e-6)
        kept = np.sort(wanted, axis=1)[:, -8:].sum(axis=1, keepdims=True)
        strongest = np.where(wanted >= np.sort(wanted, axis=1)[:, -8:-7], wanted, 0) / kept
        np.testing.assert_allclose(pull[count:][~few], strongest[~few], atol=1e-6)


def pulls(mesh: Mesh) -> Any:
    """(V, 12) what each joint pulls at each vertex."""
    out = np.zeros((mesh.vertices, 12))
    for k in (0, 1):
        np.add.at(out, (np.arange(mesh.vertices)[:, None], mesh.attributes[f"JOINTS_{k}"].astype(int)), mesh.attributes[f"WEIGHTS_{k}"])  # fmt: skip
    return out
