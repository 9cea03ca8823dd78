"""Lightmap UV sets: the measure against known layouts, the unwrap by the measure, native faults contained."""

from __future__ import annotations

import os
import signal
import time
import unittest
from typing import Any

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from shapely import Polygon

from tests.support import TRIANGLE, Gltf, read, trimesh_scene
from tidy_caravan.core.errors import Cancelled
from tidy_caravan.core.formats import write
from tidy_caravan.core.geometry.isolation import Lost, Pool
from tidy_caravan.core.lightmap.unwrap import unwrap
from tidy_caravan.core.lightmap.verify import count_overlaps, measure
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.steps import StepContext
from tidy_caravan.core.steps.texture_coordinates import LightmapUvs


def squares(*corners: tuple[float, float, float]) -> tuple[Any, Any]:
    """UVs and triangles of squares (x, y, side)."""
    uv, faces = [], []
    for k, (x, y, s) in enumerate(corners):
        uv += [(x, y), (x + s, y), (x + s, y + s), (x, y + s)]
        faces += [(4 * k, 4 * k + 1, 4 * k + 2), (4 * k, 4 * k + 2, 4 * k + 3)]
    return np.float32(uv), np.uint32(faces)


def die() -> None:
    os.kill(os.getpid(), signal.SIGSEGV)


def hang() -> None:
    time.sleep(60)


def hoard() -> None:
    np.ones(1 << 34)


def shout(text: str) -> str:
    os.write(1, b"noise on standard output")
    return text.upper()


class Measure(unittest.TestCase):
    def test_gap_range_and_fill_of_known_squares(self) -> None:
        report = measure(*squares((0.1, 0.1, 0.25), (0.375, 0.1, 0.25)), 256)
        self.assertEqual((report.islands, report.overlaps, report.out_of_range), (2, 0, 0))
        self.assertAlmostEqual(report.gap_texels, 6.4, delta=0.5)  # 0.025 of 256
        self.assertLessEqual(report.gap_texels, 6.4)
        self.assertAlmostEqual(report.fill, 0.125, places=5)

    def test_overlaps_are_counted(self) -> None:
        self.assertEqual(
            measure(*squares((0, 0, 0.5), (0.4, 0.4, 0.5)), 64).overlaps, 2
        )  # one pair on each side of the diagonal
        uv, faces = squares((0, 0, 0.5))
        self.assertEqual(measure(uv, np.vstack([faces, faces]), 64).overlaps, 2 + 0)  # each triangle under its twin
        self.assertEqual(measure(*squares((0.9, 0, 0.2)), 64).out_of_range, 2)
        folded = np.float32([(0, 0), (1, 0), (0, 1), (0.2, 0.2)])  # the second triangle folds back over the first
        self.assertEqual(measure(folded, np.uint32([(0, 1, 2), (1, 0, 3)]), 64).overlaps, 1)

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.tuples(*[st.floats(0, 1)] * 6), min_size=2, max_size=12))
    def test_overlaps_agree_with_polygon_clipping(self, rows: list[tuple[float, ...]]) -> None:
        triangles = np.array(rows).reshape(-1, 3, 2)
        shapes = [Polygon(t) for t in triangles]
        solid = [i for i, s in enumerate(shapes) if s.area > 1e-3]
        pairs = [(i, j) for i in solid for j in solid if i < j]
        areas = [shapes[i].intersection(shapes[j]).area for i, j in pairs]
        if any(0 < a < 1e-3 for a in areas):
            return  # slivers around the stated tolerance may go either way
        self.assertEqual(count_overlaps(triangles[solid]), sum(a >= 1e-3 for a in areas))


class Unwrap(unittest.TestCase):
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
                        report = measure(got.uv, got.indices, resolution, positions=positions[got.source])
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


class Isolation(unittest.TestCase):
    HERE = "tests.core.test_lightmap:"

    def call(self, name: str, *args: Any, seconds: float = 20.0) -> Any:
        with Pool(1) as pool:
            ((_, result),) = list(pool.map(self.HERE + name, [(args, seconds)]))
        return result

    def test_crash_hang_and_hoarding_cost_one_call(self) -> None:
        for name, seconds, words in (
            ("die", 20.0, "signal 11"),
            ("hang", 1.0, "longer than 1 s"),
            ("hoard", 20.0, "memory"),
        ):
            with self.subTest(name=name):
                result = self.call(name, seconds=seconds)
                self.assertIsInstance(result, Lost)
                self.assertIn(words, result.reason)

    def test_others_go_on_and_noise_does_not_matter(self) -> None:
        with Pool(2) as pool:
            calls: list[tuple[tuple[Any, ...], float]] = [((f"text {i}",), 20.0) for i in range(6)]
            good = dict(pool.map(self.HERE + "shout", calls))
            lost = dict(pool.map(self.HERE + "die", [((), 20.0)] * 2))
            again = dict(pool.map(self.HERE + "shout", calls))
        self.assertEqual(good, {i: f"TEXT {i}" for i in range(6)})
        self.assertEqual(good, again)
        self.assertTrue(all(isinstance(v, Lost) for v in lost.values()))

    def test_a_lost_mesh_is_a_problem_on_that_mesh_only(self) -> None:
        from tidy_caravan.core.steps import texture_coordinates

        scene = read(trimesh_scene(2).export(file_type="glb"))
        job = texture_coordinates.JOB
        texture_coordinates.JOB = self.HERE + "pick_one"
        try:
            out, changes = LightmapUvs().apply(scene, StepContext())
        finally:
            texture_coordinates.JOB = job
        problems = [c for c in changes if c.problem]
        self.assertEqual(len(problems), 1)
        self.assertIn("signal 11", problems[0].text)
        self.assertEqual(sorted(len(m.uvs) for m in out.meshes), [0, 2, 2])


def pick_one(positions: Any, indices: Any, *rest: Any) -> Any:
    """Crashes on boxes, works on everything else."""
    from tidy_caravan.core.lightmap.unwrap import job

    if len(indices) == 12:
        die()
    return job(positions, indices, *rest)


if __name__ == "__main__":
    unittest.main()
