"""Lightmap UV sets: the measure against known layouts, the unwrap by the measure, native faults contained."""

from __future__ import annotations

import time
import tracemalloc
import unittest
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np
import pygltflib
import shapely
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from shapely import Polygon

from tests.support import PNG, TRIANGLE, Gltf, read, trimesh_scene
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.errors import Cancelled
from tidy_caravan.core.formats import write
from tidy_caravan.core.lightmap.unwrap import methods, time_limit, unwrap
from tidy_caravan.core.lightmap.verify import count_overlaps, island_gap, measure, overlaps_inside, smooth_seams
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.steps import StepContext
from tidy_caravan.core.steps.texture_coordinates import LightmapUvs
from tidy_caravan.core.survey import survey
from tidy_caravan.core.work.heavy import Remembered, Workshop
from tidy_caravan.demo.ferry_landing import landing


def squares(*corners: tuple[float, float, float]) -> tuple[Any, Any]:
    """UVs and triangles of squares (x, y, side)."""
    uv, faces = [], []
    for k, (x, y, s) in enumerate(corners):
        uv += [(x, y), (x + s, y), (x + s, y + s), (x, y + s)]
        faces += [(4 * k, 4 * k + 1, 4 * k + 2), (4 * k, 4 * k + 2, 4 * k + 3)]
    return np.float32(uv), np.uint32(faces)


class Measure(unittest.TestCase):
    def test_gap_range_and_fill_of_known_squares(self) -> None:
        report = measure(*squares((0.1, 0.1, 0.25), (0.375, 0.1, 0.25)), 256)
        self.assertEqual((report.islands, report.overlaps, report.out_of_range), (2, 0, 0))
        self.assertAlmostEqual(report.gap_texels, 6.4, places=4)  # 0.025 of 256
        self.assertAlmostEqual(report.fill, 0.125, places=5)

    def test_seams_across_smooth_surface_are_told_by_their_length(self) -> None:
        count, high = 24, 2.0
        turn = np.linspace(0, 2 * np.pi, count + 1)
        ring = np.column_stack([np.cos(turn), np.sin(turn)])
        ring[-1] = ring[0]
        points = np.float32([(x, y, z) for z in (0.0, high) for x, y in ring])
        k = np.arange(count)
        faces = np.concatenate([np.stack([k, k + 1, k + count + 2], 1), np.stack([k, k + count + 2, k + count + 1], 1)])
        uv = np.float32([(u / count, z) for z in (0.0, 1.0) for u in range(count + 1)])
        across = 2 * np.sin(np.pi / count)
        every = count * (high + np.hypot(high, across))
        # its first and last column stand in one line, and are one seam
        self.assertAlmostEqual(smooth_seams(uv, faces.astype(np.uint32), points), high / every, places=6)
        halves = uv[faces.reshape(-1)].reshape(-1, 3, 2)
        halves[(faces.max(axis=1) - count - 1) > count // 2] += np.float32(3)
        own = np.arange(3 * len(faces), dtype=np.uint32).reshape(-1, 3)
        cut = smooth_seams(halves.reshape(-1, 2), own, points[faces.reshape(-1)])
        self.assertAlmostEqual(cut, 2 * high / every, places=6)
        box = trimesh.creation.box()
        loose = box.vertices[box.faces.reshape(-1)].astype(np.float32)
        flat = trimesh.creation.box().vertices[:, :2][box.faces.reshape(-1)].astype(np.float32)
        self.assertEqual(smooth_seams(flat, np.arange(36, dtype=np.uint32).reshape(-1, 3), loose), 0.0)

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.tuples(*[st.floats(0, 1, width=16)] * 6), min_size=2, max_size=9), st.floats(0.01, 2))
    def test_gaps_agree_with_distances_of_polygons(self, rows: list[tuple[float, ...]], reach: float) -> None:
        shapes = [p for r in rows if (p := Polygon(np.reshape(r, (3, 2)))).area > 1e-3]
        apart = [p.distance(q) for i, p in enumerate(shapes) for q in shapes[:i]]
        if not apart or min(apart) == 0:
            return  # those that overlap are counted elsewhere
        uv = np.float32([c for p in shapes for c in list(p.exterior.coords)[:3]])
        faces = np.arange(len(uv), dtype=np.uint32).reshape(-1, 3)
        wanted = min(apart) if min(apart) <= reach else np.inf
        self.assertAlmostEqual(island_gap(uv, faces, np.arange(len(faces)), reach), wanted, places=6)

    @settings(max_examples=40, deadline=None)
    @given(st.floats(0, np.pi), st.floats(1.5, 60), st.floats(0.2, 1.9))
    def test_strips_thinner_than_a_texel_are_told_however_they_lie(
        self, angle: float, long: float, wide: float
    ) -> None:
        if abs(wide - 1) < 0.02:
            return
        uv, faces = squares((-0.5, -0.5, 1.0))
        spun = np.array([[np.cos(angle), np.sin(angle)], [-np.sin(angle), np.cos(angle)]])
        strip = (uv * [max(long, 2 * wide), wide] @ spun / 128 + 0.5).astype(np.float32)
        self.assertEqual(measure(strip, faces, 128).thin, int(wide < 1))

    def test_slivers_without_a_shape_of_their_own_count_for_nothing_and_dense_small_triangles_do(self) -> None:
        uv, faces = squares((0.1, 0.1, 0.5))
        thin = np.float32([(0.1, 0.1), (0.6, 0.1), (0.35, 0.1 + 9e-7)])  # a line of half the map, across the square
        report = measure(np.vstack([uv, thin]), np.vstack([faces, [[4, 5, 6]]]).astype(np.uint32), 256)
        self.assertEqual(report.overlaps, 0)
        wide = measure(np.vstack([uv, thin * [1, 1.001]]), np.vstack([faces, [[4, 5, 6]]]).astype(np.uint32), 256)
        self.assertEqual(wide.overlaps, 0)
        thick = np.float32([(0.1, 0.12), (0.6, 0.12), (0.35, 0.13)])
        self.assertGreater(
            measure(np.vstack([uv, thick]), np.vstack([faces, [[4, 5, 6]]]).astype(np.uint32), 256).overlaps, 0
        )
        # a cloth of triangles smaller than that, folded over itself
        n = 60
        x, y = np.meshgrid(np.arange(n), np.arange(n))
        cloth = (np.column_stack([np.minimum(x.ravel(), n - 1 - x.ravel()), y.ravel()]) * [9e-7, 9e-6] + 0.5).astype(
            np.float64
        )
        k = np.arange(n * n).reshape(n, n)
        quads = np.stack([k[:-1, :-1], k[:-1, 1:], k[1:, 1:], k[1:, :-1]], -1).reshape(-1, 4)
        self.assertGreater(count_overlaps(cloth[np.vstack([quads[:, :3], quads[:, [0, 2, 3]]])]), 100)
        self.assertGreater(
            measure(
                cloth.astype(np.float32), np.vstack([quads[:, :3], quads[:, [0, 2, 3]]]).astype(np.uint32), 64
            ).overlaps,
            100,
        )

    def test_overlaps_are_counted(self) -> None:
        self.assertEqual(
            measure(*squares((0, 0, 0.5), (0.4, 0.4, 0.5)), 64).overlaps, 2
        )  # one pair on each side of the diagonal
        uv, faces = squares((0, 0, 0.5))
        self.assertEqual(measure(uv, np.vstack([faces, faces]), 64).overlaps, 2 + 0)  # each triangle under its twin
        self.assertEqual(measure(*squares((0.9, 0, 0.2)), 64).out_of_range, 2)
        folded = np.float32([(0, 0), (1, 0), (0, 1), (0.2, 0.2)])  # the second triangle folds back over the first
        self.assertEqual(measure(folded, np.uint32([(0, 1, 2), (1, 0, 3)]), 64).overlaps, 1)

    def test_what_lies_on_itself_is_told_from_what_lies_on_others(self) -> None:
        uv, faces = squares((0, 0, 0.5), (0.4, 0.4, 0.5))
        for size in (1e-4, 1.0, 1e4):
            self.assertEqual(overlaps_inside(uv * np.float32(size), faces, np.int64([0, 0, 1, 1])), 0)
            self.assertEqual(overlaps_inside(uv * np.float32(size), faces, np.int64([0, 0, 0, 0])), 2)

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.tuples(*[st.integers(0, 1 << 20)] * 6), min_size=2, max_size=12))
    def test_overlaps_agree_with_polygon_clipping(self, rows: list[tuple[int, ...]]) -> None:
        # on a grid: told of a coordinate of 1e-20, the library clips to a wrong area
        triangles = np.array(rows).reshape(-1, 3, 2) / (1 << 20)
        shapes = [Polygon(t) for t in triangles]
        solid = [i for i, s in enumerate(shapes) if s.area > 1e-3]
        pairs = [(i, j) for i in solid for j in solid if i < j]
        areas = [shapes[i].intersection(shapes[j]).area for i, j in pairs]
        if any(0 < a < 1e-3 for a in areas):
            return  # slivers around the stated tolerance may go either way
        self.assertEqual(count_overlaps(triangles[solid]), sum(a >= 1e-3 for a in areas))


class Unwrap(unittest.TestCase):
    def test_rounded_outlines_with_slivers_get_a_set_that_the_survey_takes(self) -> None:
        """As from a plan: bars with rounded ends, their lids cut into triangles of which some are next to none."""
        rng = np.random.default_rng(5)
        for k in range(12):
            plan = max(getattr(g := Polygon(rng.normal(size=(9, 2))).buffer(0.05), "geoms", [g]), key=lambda p: p.area)
            solid = trimesh.creation.extrude_polygon(plan, float(rng.uniform(0.05, 2)))
            scene = read(trimesh.Scene(solid).export(file_type="glb"))
            out, changes = LightmapUvs(resolution=64 if k % 2 else 256).apply(scene, StepContext(BUILT_IN[0]))
            self.assertFalse([c.text for c in changes if c.problem])
            self.assertEqual([f.code for f in survey(out, BUILT_IN[0]) if f.code.startswith("uv.second")], [])
            mesh = out.meshes[0]
            flat = mesh.uvs[1].astype(np.float64)[mesh.indices]
            lid = [Polygon(t) for t in flat]
            tree = shapely.STRtree(lid)
            a, b = tree.query(lid, predicate="overlaps")
            shared = sum(lid[i].intersection(lid[j]).area for i, j in zip(a.tolist(), b.tolist(), strict=True) if i < j)
            self.assertLess(shared, 1e-6)

    def test_both_libraries_give_clean_sets_with_the_padding_asked_for(self) -> None:
        shapes = {
            "box": trimesh.creation.box((1, 2, 3)),
            "ring": trimesh.creation.annulus(1, 2, 1, sections=16),
            "ball": trimesh.creation.icosphere(2),
        }
        for name, shape in shapes.items():
            for method in ("xatlas", "uvunwrap"):
                for resolution, padding in ((64, 2), (256, 4), (512, 8)):
                    with self.subTest(shape=name, method=method, resolution=resolution):
                        positions, faces = shape.vertices.astype(np.float32), shape.faces.astype(np.uint32)
                        got = unwrap(positions, faces, resolution, padding, method)
                        np.testing.assert_array_equal(positions[got.source][got.indices], positions[faces])
                        report = measure(
                            got.uv, got.indices, resolution, positions=positions[got.source], height=got.height
                        )
                        self.assertTrue(report.clean)
                        self.assertGreaterEqual(report.gap_texels, padding)

    def step(self, scene: Scene, **more: Any) -> tuple[Scene, list[str], list[bool]]:
        out, changes = LightmapUvs(**more).apply(scene, StepContext())
        return out, [c.text for c in changes], [c.problem for c in changes]

    def test_every_part_gets_a_set_and_copies_stay_shared(self) -> None:
        scene = read(trimesh_scene(2).export(file_type="glb"))
        out, texts, problems = self.step(scene)
        self.assertEqual(len(out.meshes), len(scene.meshes))
        self.assertFalse(any(problems), texts)
        for mesh in out.meshes:
            self.assertEqual(len(mesh.uvs), 2)
            self.assertTrue(measure(mesh.uvs[1], mesh.indices, 256).clean)
        back = read(write(out, "glb", "x").files["x.glb"])
        self.assertTrue(all(len(m.uvs) == 2 for m in back.meshes))

    def test_a_good_set_is_kept_and_a_bad_one_replaced(self) -> None:
        g = Gltf()
        good, bad = [[0.1, 0.1], [0.9, 0.1], [0.1, 0.9]], [[0, 0], [5, 0], [0, 5]]
        g.node(mesh=g.mesh(TRIANGLE, [0, 1, 2], TEXCOORD_0=bad, TEXCOORD_1=good))
        g.node(mesh=g.mesh(TRIANGLE, [0, 1, 2], TEXCOORD_0=bad, TEXCOORD_1=bad))
        out, texts, _ = self.step(g.scene())
        np.testing.assert_array_equal(out.meshes[0].uvs[1], np.float32(good))
        self.assertTrue(measure(out.meshes[1].uvs[1], out.meshes[1].indices, 256).clean)
        self.assertEqual(len(texts), 2)

    def test_cancel_stops_at_once(self) -> None:
        scene = read(trimesh_scene(2).export(file_type="glb"))

        def stop(done: int, total: int) -> None:
            raise Cancelled("enough")

        began = time.monotonic()
        with self.assertRaises(Cancelled):
            LightmapUvs(resolution=2048).apply(scene, StepContext(progress=stop))
        self.assertLess(time.monotonic() - began, 10)


def many(shape: trimesh.Trimesh, count: int) -> tuple[Any, Any]:
    """Positions and faces of copies strewn about, none touching another."""
    rng = np.random.default_rng(count)
    points = [shape.vertices + rng.uniform(-80, 80, 3) for _ in range(count)]
    faces = [shape.faces + k * len(shape.vertices) for k in range(count)]
    return np.concatenate(points).astype(np.float32), np.concatenate(faces).astype(np.uint32)


def sheet() -> trimesh.Trimesh:
    return trimesh.Trimesh([[0, 0, 0], [1, 0, 0], [1, 0.7, 0], [0, 0.7, 0]], [[0, 1, 2], [0, 2, 3]], process=False)


def spiral(steps: int) -> tuple[Any, Any]:
    """A stair of treads about a pole."""
    pieces = []
    for k in range(steps):
        tread = trimesh.creation.box((1.2, 0.3, 0.05))
        tread.apply_translation((1.0, 0.0, k * 0.17))
        tread.apply_transform(trimesh.transformations.rotation_matrix(k * 0.2, (0, 0, 1)))
        pieces.append(tread)
    whole = trimesh.util.concatenate(pieces)
    return whole.vertices.astype(np.float32), whole.faces.astype(np.uint32)


class Crowded(unittest.TestCase):
    """Meshes of very many islands, and what surrounds an unwrap."""

    def check(self, positions: Any, faces: Any, got: Any, padding: int = 4) -> None:
        np.testing.assert_array_equal(positions[got.source][got.indices], positions[faces])
        report = measure(got.uv, got.indices, got.resolution, positions=positions[got.source], height=got.height)
        self.assertTrue(report.clean)
        self.assertEqual((report.collapsed, report.mirrored), (0, 0))
        self.assertGreaterEqual(report.gap_texels, padding)
        self.assertGreaterEqual(report.border_texels, padding / 2 - 1e-3)

    def test_there_is_an_answer_for_any_number_of_shells(self) -> None:
        rng = np.random.default_rng(1)
        soup = rng.uniform(-1, 1, (15_000, 3)).astype(np.float32), np.arange(15_000, dtype=np.uint32).reshape(-1, 3)
        for name, (positions, faces), most in (
            ("500 boxes", many(trimesh.creation.box((1, 0.5, 0.2)), 500), 1024),
            ("2,000 sheets", many(sheet(), 2000), 1024),
            ("10,000 sheets", many(sheet(), 10_000), 2048),
            ("soup of 5,000", soup, 2048),
            ("spiral stair", spiral(60), 512),
        ):
            for method in methods(len(faces))[: 3 if len(faces) < 5000 else 1]:
                with self.subTest(mesh=name, method=method):
                    got = unwrap(positions, faces, 256, 4, method)
                    self.check(positions, faces, got)
                    self.assertLessEqual(got.resolution, most)
                    self.assertGreater(got.report.fill, 0.1)

    def test_many_loose_triangles_lie_by_their_shapes(self) -> None:
        """By their boxes they cover less than half of a map, and take ten times as long to lay."""
        rng = np.random.default_rng(87)
        soup = rng.uniform(-1, 1, (450, 3)).astype(np.float32), np.arange(450, dtype=np.uint32).reshape(-1, 3)
        began = time.process_time()
        got = unwrap(*soup, 512, 2, "flat pieces")
        self.assertLess(time.process_time() - began, 15)
        self.check(*soup, got, 2)
        self.assertGreater(got.report.fill, 0.55)

    def test_a_larger_map_is_told_and_the_destination_limits_it(self) -> None:
        positions, faces = many(sheet(), 2000)
        g = Gltf()
        indices = g.accessor(faces.reshape(-1, 1))
        primitive = {"attributes": {"POSITION": g.accessor(positions)}, "indices": indices}
        g.node(mesh=g.put("meshes", {"name": "strewn", "primitives": [primitive]}))
        out, changes = LightmapUvs().apply(g.scene(), StepContext())
        self.assertEqual(len(out.meshes[0].uvs), 2)
        self.assertIn("1024 texels, not 256", " ".join(c.text for c in changes))
        again, changes = LightmapUvs().apply(out, StepContext())
        self.assertIs(again.meshes[0], out.meshes[0])
        self.assertEqual([c.text for c in changes], ["1 mesh kept the set that was there, which measures well"])
        self.assertEqual(again.nodes.lightmap.tolist(), out.nodes.lightmap.tolist())
        small = BUILT_IN[0].model_copy(update={"max_texture": 64})
        out, changes = LightmapUvs(resolution=64).apply(g.scene(), StepContext(small))
        self.assertIn("do not fit 64 texels", " ".join(c.text for c in changes if c.problem))

    def test_vertices_that_no_triangle_uses_count_for_nothing(self) -> None:
        box = trimesh.creation.box((1, 2, 3))
        plain = unwrap(box.vertices.astype(np.float32), box.faces.astype(np.uint32), 256, 4, "xatlas")
        far = np.concatenate([box.vertices, np.random.default_rng(0).uniform(-900, 900, (5000, 3))]).astype(np.float32)
        shared = unwrap(far, box.faces.astype(np.uint32), 256, 4, "xatlas")
        self.assertAlmostEqual(shared.report.fill, plain.report.fill, places=3)
        self.assertGreater(plain.report.fill, 0.4)

    def test_a_tiling_set_is_measured_in_bounded_memory_and_time(self) -> None:
        """Sixty thousand triangles that all lie on each other: two thousand million pairs."""
        uv, one = squares((0.1, 0.1, 0.5))
        faces = np.tile(one, (30_000, 1)).astype(np.uint32)
        tracemalloc.start()
        began = time.process_time()
        report = measure(uv, faces, 256)
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        self.assertGreaterEqual(report.overlaps, 1000)
        self.assertLess(peak, 400e6)
        self.assertLess(time.process_time() - began, 20)

    def test_islands_strewn_over_each_other_cost_no_more_than_their_layout(self) -> None:
        """Every triangle an island of the first set, all over the others: no distance between them says anything."""
        loose = trimesh.creation.icosphere(4).triangles.reshape(-1, 3).astype(np.float32)
        faces = np.arange(len(loose), dtype=np.uint32).reshape(-1, 3)
        strewn = np.random.default_rng(2).uniform(0, 1, (len(loose), 2)).astype(np.float32)
        began = time.process_time()
        self.assertEqual(measure(strewn, faces, 256).gap_texels, 0)
        self.assertGreater(unwrap(loose, faces, 256, 4, "uvunwrap", first=strewn).report.fill, 0.3)
        self.assertLess(time.process_time() - began, time_limit(len(faces)) / 2)

    def test_islands_are_not_mirrored_and_keep_off_the_edge(self) -> None:
        scene = landing()
        small = [m for m in scene.meshes if m.triangles < 400][4:18:2]
        for mesh in small:
            for method in methods(mesh.triangles):
                with self.subTest(mesh=mesh.name, method=method):
                    self.check(mesh.positions, mesh.indices, unwrap(mesh.positions, mesh.indices, 256, 4, method))

    def test_mirrored_islands_are_seen(self) -> None:
        quad = trimesh.Trimesh([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], [[0, 1, 2], [0, 2, 3]], process=False)
        upright = np.float32([[0.1, 0.9], [0.9, 0.9], [0.9, 0.1], [0.1, 0.1]])  # v counts from the top
        faces = quad.faces.astype(np.uint32)
        self.assertEqual(measure(upright, faces, 64).mirrored, 0)
        self.assertEqual(measure(upright[:, ::-1].copy(), faces, 64).mirrored, 1)


class Sharing(unittest.TestCase):
    """A set that pictures read is not overwritten."""

    def scene(self, channel: int, uv: Any) -> Scene:
        g = Gltf()
        g.put("images", {"bufferView": g.view(PNG), "mimeType": "image/png"})
        g.put("textures", {"source": 0})
        picture = {"index": 0, "texCoord": channel}
        g.put("materials", {"name": "sign", "pbrMetallicRoughness": {"baseColorTexture": picture}})
        g.put("materials", {"name": "plain"})
        for k in range(2):
            mesh = g.mesh(TRIANGLE, [0, 1, 2], TEXCOORD_0=[[0, 0], [k + 5, 0], [0, 5]], TEXCOORD_1=uv)
            g.json["meshes"][mesh]["primitives"][0]["material"] = k
            g.node(mesh=mesh, name=f"part {k}")
        return g.scene()

    def test_the_set_moves_and_the_material_follows(self) -> None:
        tiled = [[0, 0], [7, 0], [0, 3]]
        scene = self.scene(1, tiled)
        out, changes = LightmapUvs().apply(scene, StepContext())
        use = out.materials[0].base_color_texture
        assert use is not None
        self.assertEqual(use.channel, 2)
        mesh = out.meshes[out.nodes.mesh[0]]
        np.testing.assert_array_equal(mesh.uvs[2][mesh.indices.ravel()], np.float32(tiled))
        self.assertTrue(measure(mesh.uvs[1], mesh.indices, 256).clean)
        self.assertEqual(len(out.meshes[out.nodes.mesh[1]].uvs), 2, "whose material reads set 0 is left as it was")
        self.assertIn("moved to 2", " ".join(c.text for c in changes))

    def test_a_clean_set_serves_both(self) -> None:
        clean = [[0.1, 0.9], [0.9, 0.9], [0.1, 0.1]]
        scene = self.scene(1, clean)
        out, changes = LightmapUvs().apply(scene, StepContext())
        self.assertEqual(out.materials, scene.materials)
        self.assertEqual([len(m.uvs) for m in out.meshes], [2, 2])
        self.assertNotIn("moved", " ".join(c.text for c in changes))

    def test_the_picture_is_still_read_rightly_by_another_library(self) -> None:
        tiled = [[0, 0], [7, 0], [0, 3]]
        out, _ = LightmapUvs().apply(self.scene(1, tiled), StepContext())
        with TemporaryDirectory() as folder:
            path = Path(folder) / "x.glb"
            path.write_bytes(write(out, "glb", "x").files["x.glb"])
            document = pygltflib.GLTF2.load(str(path))
        used = document.materials[0].pbrMetallicRoughness.baseColorTexture.texCoord
        primitive = document.meshes[0].primitives[0]
        accessor = document.accessors[getattr(primitive.attributes, f"TEXCOORD_{used}")]
        view = document.bufferViews[accessor.bufferView]
        blob = document.binary_blob()[view.byteOffset : view.byteOffset + view.byteLength]
        got = np.frombuffer(blob, np.float32).reshape(-1, 2)
        self.assertEqual(sorted(got.tolist()), sorted(np.float32(tiled).tolist()))

    def test_with_all_sets_taken_nothing_is_overwritten(self) -> None:
        scene = self.scene(1, [[0, 0], [7, 0], [0, 3]])
        full = tuple(replace(m, uvs=m.uvs + m.uvs[:1] * 6) for m in scene.meshes)
        out, changes = LightmapUvs().apply(scene.but(meshes=full), StepContext())
        self.assertEqual(out.meshes[out.nodes.mesh[0]].id, full[scene.nodes.mesh[0]].id)
        self.assertTrue(any(c.problem and "all others are taken" in c.text for c in changes))

    def test_results_of_a_metre_are_not_served_to_a_centimetre(self) -> None:
        kept = Remembered()
        bare = read(trimesh_scene(2).export(file_type="glb"))
        bare = bare.but(meshes=tuple(replace(m, uvs=()) for m in bare.meshes))
        for metres in (1.0, 0.01, 1.0):
            scene = bare.but(convention=replace(bare.convention, metres_per_unit=metres))
            out, _ = LightmapUvs().apply(scene, StepContext(workshop=Workshop(results=kept)))
            fresh, _ = LightmapUvs().apply(scene, StepContext())
            self.assertEqual([m.id for m in out.meshes], [m.id for m in fresh.meshes])
        # the projection cuts one of the three elsewhere in a centimetre; the others are given the same, and are done once
        self.assertEqual(len(kept.made), len(bare.meshes) + 1)


if __name__ == "__main__":
    unittest.main()
