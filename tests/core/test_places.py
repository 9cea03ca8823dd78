"""The places of findings: their lines against closed forms; their pictures against an independent ray caster."""

from __future__ import annotations

import io
import unittest
from typing import Any

import numpy as np
import trimesh
from PIL import Image
from shapely.geometry import MultiLineString, box
from shapely.ops import polygonize, unary_union
from trimesh.ray.ray_pyembree import RayMeshIntersector

from tests.core.test_overlaps import BOX, flicker, landing
from tests.core.test_sides import at, scene_of, sheet
from tidy_caravan.core.closeup import closeup, cut_near, raster
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.survey import survey
from tidy_caravan.core.survey.places import rims


def findings(scene: Any) -> dict[str, Any]:
    return {f.code: f for f in survey(scene, BUILT_IN[0])}


class Lines(unittest.TestCase):
    def test_an_overlap_is_outlined_and_encloses_its_area(self) -> None:
        scene = landing(lid=(sheet(0.6, 0.4), at(0.1, 1.0002, 0.05, (-np.pi / 2, [1, 0, 0]))))
        finding = flicker(scene)["flicker.between"]
        place = finding.places[0]
        self.assertEqual(sorted(scene.nodes.names[p] for p in place.parts), ["kiosk", "lid"])
        ends = np.array(place.lines).reshape(-1, 2, 3)
        self.assertTrue(np.allclose(ends[..., 1], 1.0, atol=3e-4))
        self.assertEqual(len(ends), 6)  # the lid's four sides, two of them cut by the diagonal of what it lies on
        outline = unary_union(list(polygonize(unary_union(MultiLineString(np.round(ends[..., [0, 2]], 9).tolist())))))
        self.assertAlmostEqual(outline.area, 0.24, places=4)
        self.assertLess(outline.symmetric_difference(box(-0.2, -0.15, 0.4, 0.25)).area, 1e-4)
        self.assertAlmostEqual(place.value, 0.24, places=3)

    def test_what_two_outlines_share_is_no_rim_wherever_they_lie(self) -> None:
        """Four squares side by side, run either way round, have eight lines about them; far from the origin too."""
        square = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], float)
        for far in (0.0, 1e7):
            four = [square + [x + far, y, 0] for x in (0, 1) for y in (0, 1)]
            four[1], four[2] = four[1][::-1], four[2][::-1]
            lines = rims(np.concatenate([np.stack([s, np.roll(s, -1, axis=0)], axis=1) for s in four]))
            self.assertEqual(len(lines), 8)
            self.assertTrue(np.isin(lines.mean(axis=1) - [far + 1, 1, 0], [-1, -0.5, 0.5, 1, 0]).all())
            self.assertAlmostEqual(float(np.linalg.norm(lines[:, 1] - lines[:, 0], axis=1).sum()), 8.0)
        self.assertEqual(len(rims(np.zeros((0, 2, 3)))), 0)

    def test_both_sides_of_a_gap_are_drawn(self) -> None:
        scene = scene_of({"wall": (BOX([2, 1, 0.2]), at(0, 0.5, 0)), "next": (BOX([2, 1, 0.2]), at(2.002, 0.5, 0))})
        place = findings(scene)["gaps.leak"].places[0]
        across = np.unique(np.round(np.array(place.lines).reshape(-1, 3)[:, 0], 4))
        self.assertEqual(across.tolist(), [1.0, 1.002])
        self.assertAlmostEqual(place.value, 2.0, places=2)

    def test_triangles_without_area_are_lines_where_they_are(self) -> None:
        mesh = BOX([1, 1, 1])
        mesh = trimesh.Trimesh(mesh.vertices, np.vstack([mesh.faces, [[0, 0, 1]]]), process=False)
        scene = scene_of({"kiosk": (mesh, at(3, 0, 0))})
        place = findings(scene)["geometry.degenerate"].places[0]
        expected = mesh.vertices[[0, 1]] + [3, 0, 0]
        for line in place.lines:
            for end in np.array(line).reshape(2, 3):
                self.assertLess(np.abs(expected - end).max(axis=1).min(), 1e-6)

    def test_the_worst_come_first_and_what_is_clean_has_none(self) -> None:
        lids = {f"lid_{k}": (sheet(0.1 * k, 0.2), at(5 * k, 1.0002, 0, (-np.pi / 2, [1, 0, 0]))) for k in range(1, 6)}
        boxes = {f"box_{k}": (BOX([1, 1, 1]), at(5 * k, 0.5, 0)) for k in range(1, 6)}
        values = [p.value for p in flicker(scene_of(lids | boxes))["flicker.between"].places]
        self.assertTrue(np.allclose(values, [0.1, 0.08, 0.06, 0.04, 0.02], rtol=1e-3))
        self.assertNotIn("flicker.between", flicker(scene_of(boxes)))


def pixels(data: bytes) -> Any:
    return np.asarray(Image.open(io.BytesIO(data)).convert("RGB")).astype(int)


class Pictures(unittest.TestCase):
    def test_the_depths_are_those_of_a_ray_caster(self) -> None:
        width, height, scale = 60, 40, 50.0
        rng = np.random.default_rng(2)
        corners = rng.normal(size=(60, 3, 3)) * [1, 1, 0.8] + rng.normal(size=(60, 1, 3)) + [0, 0, 4]
        depth, which = raster(corners, scale, width, height, 0.1)
        mesh = trimesh.Trimesh(corners.reshape(-1, 3), np.arange(180).reshape(-1, 3), process=False)
        x, y = np.meshgrid((np.arange(width) + 0.5 - width / 2) / scale, (np.arange(height) + 0.5 - height / 2) / scale)
        rays = np.column_stack([x.ravel(), y.ravel(), np.ones(width * height)])
        place, ray, _ = RayMeshIntersector(mesh).intersects_location(rays * 0.1, rays, multiple_hits=False)
        truth = np.full(width * height, np.inf)
        np.minimum.at(truth, ray, place[:, 2])
        hit = np.isfinite(truth)
        self.assertGreater(hit.sum(), 500)
        self.assertLess((hit != (which >= 0)).mean(), 0.002)
        both = hit & (which >= 0)
        self.assertLess((np.abs(depth[both] - truth[both]) > 1e-4 * truth[both]).mean(), 0.002)

    def test_what_crosses_the_nearest_plane_is_cut_and_keeps_its_area_behind(self) -> None:
        corners = np.array([[[0, 0, 0], [1, 0, 2], [0, 1, 2]], [[0, 0, 2], [1, 0, 0], [0, 1, 0]]], float)
        out, number = cut_near(corners, 1.0)
        area = np.linalg.norm(np.cross(out[:, 1] - out[:, 0], out[:, 2] - out[:, 0]), axis=1) / 2
        whole = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1) / 2
        self.assertTrue((out[..., 2] >= 1 - 1e-12).all())
        self.assertTrue(np.allclose(np.bincount(number, area), whole * [0.75, 0.25]))

    def test_the_place_is_seen_from_whichever_side_it_is_on(self) -> None:
        """A patch below a table, behind a wall, in a corner: its lines are in the picture every time."""
        for where, turn in (((0, -0.0002, 0), np.pi / 2), ((0, 1.0002, 0), -np.pi / 2)):
            scene = scene_of({"slab": (BOX([4, 1, 4]), at(0, 0.5, 0)), "patch": (sheet(1, 1), at(*where, (turn, [1, 0, 0])))})  # fmt: skip
            place = flicker(scene)["flicker.between"].places[0]
            shown = pixels(closeup(scene, place.parts, place.lines))
            orange = (np.abs(shown - [214, 120, 8]).sum(axis=2) < 60).sum()
            self.assertGreater(orange, 100)

    def test_faces_seen_from_behind_are_hatched_and_mirrored_parts_are_not(self) -> None:
        def dark(scene: Any) -> float:
            return float((pixels(closeup(scene, [0], [])).sum(axis=2) < 200).mean())

        ball = trimesh.creation.icosphere(3)
        inside_out = ball.copy()
        inside_out.invert()
        self.assertEqual(dark(scene_of({"ball": (ball, at(0, 0, 0))})), 0.0)
        self.assertGreater(dark(scene_of({"ball": (inside_out, at(0, 0, 0))})), 0.01)
        self.assertEqual(dark(scene_of({"ball": (ball, np.diag([-1.0, 1, 1, 1]))})), 0.0)

    def test_of_a_heavy_mesh_what_is_near_the_place_is_drawn(self) -> None:
        ball = trimesh.creation.icosphere(7)  # twice as many triangles as are drawn at once
        scene = scene_of({"ball": (ball, at(0, 0, 0))})
        shown = pixels(closeup(scene, [0], [[0, 1, 0, 0.05, 0.999, 0]]))
        self.assertGreater((np.abs(shown - [244, 240, 232]).sum(axis=2) > 60).mean(), 0.5)

    def test_nothing_and_no_numbers_give_paper(self) -> None:
        scene = scene_of({"ball": (trimesh.creation.icosphere(1), at(0, 0, 0))})
        for parts, lines in (([], []), ([0], [[np.nan] * 6]), ([0], [[1e300] * 6])):
            self.assertEqual(Image.open(io.BytesIO(closeup(scene, parts, lines))).size, (320, 180))
