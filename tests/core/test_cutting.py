"""Cuts along a plane: watertight with caps, volumes and areas of closed forms, and what hangs on vertices between its ends."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

import numpy as np
import shapely
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.test_sides import as_mesh, at, scene_of
from tests.core.test_split import proven
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.formats import writable
from tidy_caravan.core.geometry.cutting import cut
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.steps import StepContext, parse_step

SHAPES = {
    "box": trimesh.creation.box([1, 2, 3]),
    "ball": trimesh.creation.icosphere(3),
    "ring": trimesh.creation.annulus(0.5, 1.0, 0.8, sections=24),
    "torus": trimesh.creation.torus(1.0, 0.3, 24, 12),
    "two": trimesh.util.concatenate([trimesh.creation.box(), trimesh.creation.box(transform=at(3, 0, 0))]),
}


def lumps() -> dict[str, Any]:
    """Closed pieces in one mesh, as exporters join them."""
    rng = np.random.default_rng(7)
    box, cavity, ball = (
        trimesh.creation.box([2, 2, 2]),
        trimesh.creation.box([1.9, 1.9, 1.9]),
        trimesh.creation.icosphere(3),
    )
    cavity.invert()
    wall = shapely.difference(shapely.box(0, 0, 4, 3), shapely.union_all([shapely.box(x, 1, x + 0.6, 2) for x in (0.5, 1.5, 2.5)]))  # fmt: skip
    bumpy, far = ball.copy(), ball.copy()
    bumpy.vertices += rng.normal(scale=0.05, size=bumpy.vertices.shape)
    far.apply_translation([50_000, 3, -20_000])
    joined = trimesh.util.concatenate
    return {
        "a box in a box": joined([box, trimesh.creation.box([1, 1, 1])]),
        "hollow": joined([box, cavity]),
        "side by side": joined([box, trimesh.creation.box([2, 2, 2], transform=at(2, 0, 0))]),
        "by an edge": joined([box, trimesh.creation.box([2, 2, 2], transform=at(2, 2, 0))]),
        "through each other": joined([box, trimesh.creation.box([0.3, 5, 0.3], transform=at(0.9, 0.2, 0.9))]),
        "wall with windows": trimesh.creation.extrude_polygon(wall, 0.2),
        "through itself": bumpy,
        "inside out": trimesh.Trimesh(ball.vertices, ball.faces[:, ::-1]),
        "far": far,
    }


LUMPS = lumps()


def as_trimesh(mesh: Mesh) -> Any:
    """With vertices joined where they stand."""
    return trimesh.Trimesh(mesh.positions, mesh.indices, process=True, validate=False)


class Cut(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.sampled_from(sorted(SHAPES)), st.integers(0, 10_000), st.floats(-0.8, 0.8))
    def test_both_halves_are_closed_and_make_up_the_whole(self, name: str, seed: int, offset: float) -> None:
        made = SHAPES[name]
        normal = np.random.default_rng(seed).normal(size=3)
        normal /= np.linalg.norm(normal)
        low, high = cut(as_mesh(made), normal, offset, True)
        whole = [as_trimesh(h) for h in (low, high) if h is not None]
        self.assertTrue(all(h.is_watertight and h.is_winding_consistent for h in whole))
        self.assertAlmostEqual(sum(h.volume for h in whole), made.volume, delta=1e-5 * made.volume)
        for half, sign in ((low, 1), (high, -1)):
            if half is not None:
                self.assertLessEqual((sign * (half.positions @ normal - offset)).max(), 1e-5)

    def test_caps_are_the_section_of_an_independent_library(self) -> None:
        for name, made in SHAPES.items():
            for offset in (0.1, 0.33):
                normal = np.array([0.36, 0.48, 0.8])
                low, _ = cut(as_mesh(made), normal, offset, True)
                bare, _ = cut(as_mesh(made), normal, offset, False)
                assert low is not None and bare is not None
                cap = low.positions[low.indices[bare.triangles :]].astype(np.float64)
                area = np.linalg.norm(np.cross(cap[:, 1] - cap[:, 0], cap[:, 2] - cap[:, 0]), axis=1).sum() / 2
                lines = trimesh.intersections.mesh_plane(made, normal, normal * offset)
                flat = (lines @ np.stack([np.cross(normal, [0, 0, 1]) / 0.6, np.cross(normal, np.cross(normal, [0, 0, 1]) / 0.6)]).T)  # fmt: skip
                outlines = shapely.polygonize([shapely.linestrings(np.round(x, 9)) for x in flat])
                expected = 0.0
                for one in shapely.get_parts(outlines):
                    inside = sum(
                        shapely.Polygon(o.exterior).contains(one.representative_point())
                        for o in shapely.get_parts(outlines)
                    )
                    expected += one.area * (inside % 2)
                self.assertAlmostEqual(area, expected, delta=1e-4 * expected, msg=name)

    def test_along_faces_and_through_vertices_nothing_is_made_twice(self) -> None:
        box = as_mesh(trimesh.creation.box([2, 2, 2]))
        self.assertEqual([h is None for h in cut(box, np.array([0.0, 1, 0]), 1.0, True)], [False, True])
        low, high = cut(box, np.array([1.0, 1, 0]) / np.sqrt(2), 0.0, True)
        for half in (low, high):
            assert half is not None
            self.assertAlmostEqual(as_trimesh(half).volume, 4.0, places=5)
            self.assertTrue(as_trimesh(half).is_watertight)

    def test_coordinates_normals_and_colours_are_between_those_of_the_ends(self) -> None:
        rng = np.random.default_rng(2)
        ball = trimesh.creation.icosphere(2)
        mesh = as_mesh(ball)
        linear = rng.normal(size=(3, 2))
        uv = (mesh.positions @ linear).astype(np.float32)
        mesh = replace(mesh, normals=mesh.positions, uvs=(uv,), colors=(np.column_stack([mesh.positions / 2 + 0.5, np.ones(mesh.vertices)]).astype(np.float32),))  # fmt: skip
        low, high = cut(mesh, np.array([0.6, 0.0, 0.8]), 0.2, False)
        for half in (low, high):
            assert half is not None and half.normals is not None
            # coordinates that are linear in space stay so, on the cut as well
            np.testing.assert_allclose(half.uvs[0], half.positions @ linear, atol=2e-6)
            np.testing.assert_allclose(half.colors[0][:, :3], half.positions / 2 + 0.5, atol=2e-6)
            np.testing.assert_allclose(np.linalg.norm(half.normals, axis=1), 1, atol=1e-6)
            along = half.positions / np.linalg.norm(half.positions, axis=1, keepdims=True)
            self.assertGreater((half.normals * along).sum(axis=1).min(), 0.999)

    def test_open_surfaces_stay_open_and_seams_close(self) -> None:
        sheet = as_mesh(trimesh.creation.box([1, 1, 1]))
        soup = replace(sheet, positions=sheet.positions[sheet.indices.ravel()], indices=np.arange(36, dtype=np.uint32).reshape(-1, 3))  # fmt: skip
        low, high = cut(soup, np.array([0.0, 0.6, 0.8]), 0.1, True)
        assert low is not None and high is not None
        self.assertTrue(as_trimesh(low).is_watertight and as_trimesh(high).is_watertight)
        flat = as_mesh(trimesh.Trimesh([[0, 0, 0], [2, 0, 0], [0, 2, 0]], [[0, 1, 2]]))
        low, high = cut(flat, np.array([1.0, 0, 0]), 1.0, True)
        assert low is not None and high is not None
        self.assertEqual((low.triangles, high.triangles), (2, 1))

    @settings(max_examples=40, deadline=None)
    @given(st.sampled_from(sorted(LUMPS)), st.integers(0, 10_000), st.floats(-0.8, 0.8))
    def test_lumps_of_closed_pieces_stay_closed(self, name: str, seed: int, share: float) -> None:
        """Within each other, against each other, through themselves, hollow, far away: each edge is run once each way,
        by the very numbers of its ends, and the volume stays."""
        made = LUMPS[name]
        normal = np.random.default_rng(seed).normal(size=3) if seed % 4 else np.eye(3)[seed // 4 % 3]
        normal /= np.linalg.norm(normal)
        heights = made.vertices @ normal
        offset = heights.mean() + share * np.ptp(heights) / 2
        low, high = cut(as_mesh(made), normal, float(offset), True)
        # about its own middle: a volume far from the origin is the difference of large numbers
        about, volume = made.vertices.mean(axis=0), 0.0
        for half in (low, high):
            if half is not None:
                _, place = np.unique(half.positions, axis=0, return_inverse=True)
                faces = place.reshape(-1)[half.indices.astype(np.int64)]
                runs = np.concatenate([faces[:, [k, (k + 1) % 3]] for k in range(3)])
                runs = runs[runs[:, 0] != runs[:, 1]]
                self.assertEqual(sorted(runs.tolist()), sorted(runs[:, ::-1].tolist()))
                volume += trimesh.Trimesh(half.positions - about, half.indices, process=False).volume
        whole = trimesh.Trimesh(made.vertices.astype(np.float32) - about, made.faces, process=False).volume
        # a cut vertex is off by a step of its numbers at most
        step = np.abs(made.vertices).max() * 2.0**-23
        self.assertAlmostEqual(volume, whole, delta=1e-5 * abs(whole) + made.area * step)

    def test_sides_that_disagree_are_filled_where_an_odd_number_is_around(self) -> None:
        made = trimesh.creation.annulus(0.5, 1.0, 0.8, sections=24)
        made.faces[::3] = made.faces[::3, ::-1]
        low, _ = cut(as_mesh(made), np.array([0.0, 0, 1]), 0.1, True)
        assert low is not None
        lid = low.positions[low.indices].astype(np.float64)
        lid = lid[np.ptp(lid[..., 2], axis=1) + np.abs(lid[..., 2].mean(axis=1) - 0.1) < 1e-6]
        found = np.linalg.norm(np.cross(lid[:, 1] - lid[:, 0], lid[:, 2] - lid[:, 0]), axis=1).sum() / 2
        self.assertAlmostEqual(found, 24 / 2 * np.sin(2 * np.pi / 24) * 0.75, delta=1e-5)


class Step(unittest.TestCase):
    def test_parts_are_cut_in_the_world_each_where_the_plane_is_for_it(self) -> None:
        box = trimesh.creation.box([2, 1, 1])
        scene = scene_of({f"rail {k}": (box, at(k * 0.5, 0, 3 * k, (0.0, [0, 1, 0]))) for k in range(4)})
        shared = scene.but(meshes=scene.meshes[:1], nodes=replace(scene.nodes, mesh=np.zeros(4, np.int32)))
        step = {"kind": "split_parts", "by": "plane", "axis": "x", "atM": 0.8}
        out, changes = parse_step(step).apply(shared, StepContext(BUILT_IN[0]))
        self.assertEqual(len(out.nodes.parts), 8)
        self.assertIn("4 parts split into 8", changes[0].text)
        boxes = out.part_bounds
        self.assertTrue((np.isclose(boxes[:, 1, 0], 0.8, atol=1e-6) | np.isclose(boxes[:, 0, 0], 0.8, atol=1e-6)).all())
        again, more = parse_step(step).apply(out, StepContext(BUILT_IN[0]))
        self.assertEqual((again, more), (out, []))

    def test_it_arrives_in_every_format(self) -> None:
        scene = scene_of({"ball": (SHAPES["ball"], at(0.3, 0, 0)), "beam": (SHAPES["box"], at(0, 3, 0))})
        for fmt in sorted(writable()):
            with self.subTest(format=fmt):
                ok, said, _ = proven(scene, [{"kind": "split_parts", "by": "plane", "axis": "z", "atM": 0.25}], fmt)
                self.assertTrue(ok, said)
