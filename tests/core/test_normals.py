"""Normals that were made on purpose, that the format means without writing them, and those made anew."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
import trimesh

from tests.support import Gltf, read
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.geometry.faults import degenerate, opposed_normals
from tidy_caravan.core.geometry.normals import face_normals
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.core.survey import survey


def corner_angles(mesh: Mesh, wanted: F64) -> float:
    """Largest angle in degrees between the normals at corners (F·3) and the wanted ones."""
    assert mesh.normals is not None
    got = mesh.normals[mesh.indices.ravel()].astype(np.float64)
    dots = np.einsum("ij,ij->i", got, wanted) / np.linalg.norm(got, axis=1)
    return float(np.degrees(np.arccos(np.clip(dots, -1, 1))).max())


def flat(mesh: Mesh) -> F64:
    return np.repeat(face_normals(mesh.positions, mesh.indices), 3, axis=0).astype(np.float64)


def mended(scene: Scene, **more: Any) -> Scene:
    out, _ = parse_step({"kind": "mend_normals", **more}).apply(scene, StepContext())
    return out


def post(sections: int = 24) -> trimesh.Trimesh:
    return trimesh.creation.cylinder(0.3, 2.0, sections=sections)


def of_post(mesh: Mesh, axis: int = 2) -> F64:
    """What a post should have: flat caps, and walls that point away from its axis."""
    faces = flat(mesh)
    points = mesh.positions[mesh.indices.ravel()].astype(np.float64)
    round_ = points.copy()
    round_[:, axis] = 0
    round_ /= np.maximum(np.linalg.norm(round_, axis=1, keepdims=True), 1e-9)
    return np.where(np.abs(faces[:, [axis]]) > 0.9, faces, round_)


class Opposed(unittest.TestCase):
    def test_only_normals_against_their_face_are_turned_and_only_when_asked(self) -> None:
        shape = post()
        normals = np.asarray(shape.vertex_normals, np.float32)
        for against in (np.ones(len(normals), np.bool_), shape.vertices[:, 2] > 0):
            stored = np.where(against[:, None], -normals, normals)
            g = Gltf()
            g.node(mesh=g.mesh(shape.vertices, shape.faces.ravel(), NORMAL=stored))
            scene = g.scene()
            self.assertIs(mended(scene).meshes[0], scene.meshes[0])
            out = mended(scene, opposed=True)
            mesh = out.meshes[0]
            self.assertFalse(opposed_normals(mesh).any())
            # bit for bit one of the two ways, and every corner of a triangle that was not all against it as it was
            was, now = stored[shape.faces], mesh.normals[mesh.indices]  # type: ignore[index]
            whole = opposed_normals(scene.meshes[0])
            np.testing.assert_array_equal(now[whole], -was[whole])
            np.testing.assert_array_equal(now[~whole], was[~whole])
            np.testing.assert_array_equal(
                mesh.positions[mesh.indices], scene.meshes[0].positions[scene.meshes[0].indices]
            )
            self.assertIs(mended(out, opposed=True).meshes[0], mesh)

    def test_the_finding_offers_it_and_it_is_a_guess_on_open_sheets(self) -> None:
        for shape, guess in ((trimesh.creation.icosphere(2), False), (open_bowl(), True)):
            g = Gltf()
            g.node(
                mesh=g.mesh(shape.vertices, shape.faces.ravel(), NORMAL=-np.asarray(shape.vertex_normals, np.float32))
            )
            scene = g.scene()
            (found,) = (f for f in survey(scene, BUILT_IN[0]) if f.code == "normals.opposed")
            self.assertEqual(found.guess, guess)
            after, _ = parse_step(found.mend or {}).apply(scene, StepContext())
            self.assertNotIn("normals.opposed", {f.code for f in survey(after, BUILT_IN[0])})


def open_bowl() -> trimesh.Trimesh:
    return trimesh.creation.icosphere(2).slice_plane([0, 0, 0.3], [0, 0, 1])


class MadeAnew(unittest.TestCase):
    def test_hard_caps_stay_hard_and_walls_become_round(self) -> None:
        shape = post()
        g = Gltf()
        g.node(mesh=g.mesh(shape.vertices, shape.faces.ravel()))
        out = mended(g.scene()).meshes[0]
        self.assertLess(corner_angles(out, of_post(out)), 1.0)
        np.testing.assert_array_equal(
            out.positions[out.indices], np.asarray(shape.vertices, np.float32)[shape.faces]
        )  # every corner where it was
        smooth = mended(g.scene(), creaseDegrees=180).meshes[0]
        self.assertGreater(corner_angles(smooth, of_post(smooth)), 40.0)

    def test_seams_of_other_data_stay_smooth(self) -> None:
        """Two triangles in one plane with a seam of UVs between them, and a third that bends by 20°."""
        bend = np.tan(np.radians(20))
        points = [[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 0, 0], [1, 1, 0], [0, 1, 0], [2, 0, bend], [2, 1, bend]]
        uv = [[0, 0], [1, 0], [1, 1], [5, 5], [6, 6], [5, 6], [2, 0], [2, 1]]
        g = Gltf()
        g.node(mesh=g.mesh(points, [0, 1, 2, 3, 4, 5, 1, 6, 7, 1, 7, 2], TEXCOORD_0=uv))
        out = mended(g.scene()).meshes[0]
        assert out.normals is not None
        by_place: dict[tuple[float, ...], set[tuple[float, ...]]] = {}
        for p, n in zip(out.positions.tolist(), np.round(out.normals, 5).tolist(), strict=True):
            by_place.setdefault(tuple(p), set()).add(tuple(n))
        self.assertTrue(all(len(n) == 1 for n in by_place.values()), by_place)

    def test_good_ones_stay_bit_for_bit_beside_broken_ones(self) -> None:
        shape = post(12)
        normals = shape.vertex_normals.astype(np.float32)
        broken = normals.copy()
        broken[[3, 7]] = 0
        g = Gltf()
        g.node(mesh=g.mesh(shape.vertices, shape.faces.ravel(), NORMAL=broken))
        before = g.scene().meshes[0]
        out = mended(g.scene()).meshes[0]
        assert out.normals is not None and before.normals is not None
        old, new = before.normals[before.indices.ravel()], out.normals[out.indices.ravel()]
        touched = np.isin(before.indices.ravel(), [3, 7])
        np.testing.assert_array_equal(new[~touched], old[~touched])
        np.testing.assert_allclose(np.linalg.norm(new, axis=1), 1, atol=1e-6)
        self.assertLess(corner_angles(mended(g.scene(), creaseDegrees=0).meshes[0], flat(out)) - 90, 1)


class InGltf(unittest.TestCase):
    def test_a_welded_primitive_without_normals_beside_one_with(self) -> None:
        """The standard means flat normals there: at a welded box no vertex can hold all three of its faces'."""
        box = trimesh.creation.box((1, 2, 3))
        g = Gltf()
        mesh = g.mesh(box.vertices, box.faces.ravel())
        other = g.mesh([[5, 0, 0], [6, 0, 0], [5, 1, 0]], [0, 1, 2], NORMAL=[[0, 0, 1]] * 3)
        g.json["meshes"][mesh]["primitives"] += g.json["meshes"].pop(other)["primitives"]
        g.node(mesh=mesh)
        out = g.scene().meshes[0]
        self.assertEqual(out.triangles, 13)
        self.assertLess(corner_angles(out, flat(out)), 0.05)


class InObj(unittest.TestCase):
    def post(self, lines: list[str]) -> Mesh:
        """A post whose faces come after the lines; the first cap under one group, the wall under the next."""
        shape = post()
        caps = np.abs(shape.face_normals[:, 2]) > 0.9
        text = [f"v {x} {y} {z}" for x, y, z in shape.vertices]
        for line, chosen in zip(lines, (caps, ~caps), strict=True):
            text += [line, *(f"f {a} {b} {c}" for a, b, c in shape.faces[chosen] + 1)]
        return read({"post.obj": "\n".join(text).encode()}, "post.obj").meshes[0]

    def test_smoothing_groups(self) -> None:
        mesh = self.post(["s 1", "s 2"])
        self.assertLess(corner_angles(mesh, of_post(mesh)), 1.0)
        none = self.post(["s off", "s 0"])
        self.assertLess(corner_angles(none, flat(none)), 0.05)
        one = self.post(["s 1", "s 1"])
        self.assertGreater(corner_angles(one, of_post(one)), 40.0)

    def test_without_a_word_about_smoothing_there_are_no_normals(self) -> None:
        self.assertIsNone(self.post(["# caps", "# wall"]).normals)

    def test_groups_hold_across_materials_and_written_normals_win(self) -> None:
        shape = post()
        half = len(shape.faces) // 2
        text = [f"v {x} {y} {z}" for x, y, z in shape.vertices] + ["vn 0 0 1", "s 1", "usemtl a"]
        text += [f"f {a} {b} {c}" for a, b, c in shape.faces[:half] + 1]
        text += ["usemtl b", *(f"f {a} {b} {c}" for a, b, c in shape.faces[half:-1] + 1)]
        a, b, c = shape.faces[-1] + 1
        text += [f"f {a}//1 {b}//1 {c}//1"]
        mesh = read({"x.obj": "\n".join(text).encode()}, "x.obj").meshes[0]
        assert mesh.normals is not None
        np.testing.assert_array_equal(mesh.normals[mesh.indices[-1]], [[0, 0, 1]] * 3)
        places: dict[tuple[float, ...], set[tuple[float, ...]]] = {}
        corners = mesh.indices[:-1].ravel()
        for p, n in zip(mesh.positions[corners].tolist(), mesh.normals[corners].tolist(), strict=True):
            places.setdefault(tuple(p), set()).add(tuple(n))
        self.assertTrue(all(len(n) == 1 for n in places.values()))

    def test_polygons_outside_groups_are_flat_as_a_whole(self) -> None:
        text = "v 0 0 0\nv 1 0 0\nv 1 1 0.001\nv 0 1 0\ns off\nf 1 2 3 4\n"
        mesh = read({"x.obj": text.encode()}, "x.obj").meshes[0]
        assert mesh.normals is not None
        self.assertEqual(len(np.unique(mesh.normals, axis=0)), 1)


class Degenerate(unittest.TestCase):
    def mesh(self, points: Any, faces: Any) -> Mesh:
        return Mesh(np.float32(points), np.uint32(faces), np.full(len(faces), -1, np.int32))

    def test_a_millimetre_in_a_mesh_of_a_kilometre_and_a_half_is_a_detail(self) -> None:
        detail = [[700, 0, 0], [700.001, 0, 0], [700, 0.001, 0]]
        mesh = self.mesh([[-750, 0, 0], [750, 0, 0], [0, 300, 0], *detail], [[0, 1, 2], [3, 4, 5]])
        self.assertFalse(degenerate(mesh).any())
        needle = self.mesh([[0, 0, 0], [1000, 0, 0], [500, 0.001, 0]], [[0, 1, 2]])
        self.assertFalse(degenerate(needle).any())

    def test_lines_and_repeated_corners_are_not(self) -> None:
        rng = np.random.default_rng(5)
        for scale in (1e-3, 1.0, 1e4):
            a, b = rng.uniform(-scale, scale, (2, 50, 3))
            t = rng.uniform(0, 1, (50, 1))
            points = np.stack([a, b, a + t * (b - a)], axis=1).reshape(-1, 3)
            mesh = self.mesh(points, np.arange(150).reshape(-1, 3))
            self.assertGreater(float(degenerate(mesh).mean()), 0.95, scale)
        self.assertTrue(degenerate(self.mesh([[0, 0, 0], [1, 0, 0], [0, 0, 0]], [[0, 1, 2]])).all())
        self.assertTrue(degenerate(self.mesh([[0, 0, 0], [1, 0, 0]], [[0, 1, 1]])).all())


class Pivots(unittest.TestCase):
    def test_the_base_is_towards_the_ground_however_a_part_is_turned(self) -> None:
        box = trimesh.creation.box((0.4, 2.0, 0.6))
        box.apply_translation((30.0, 5.0, 0.0))
        for degrees, axis in ((0, (1, 0, 0)), (90, (1, 0, 0)), (180, (0, 0, 1)), (37, (1, 1, 0))):
            with self.subTest(degrees=degrees):
                turn = trimesh.transformations.rotation_matrix(np.radians(degrees), axis)
                g = Gltf()
                g.node(mesh=g.mesh(box.vertices, box.faces.ravel()), matrix=turn.T.ravel().tolist())
                scene = g.scene()
                out, _ = parse_step({"kind": "place_pivots"}).apply(scene, StepContext())
                bounds = out.part_bounds[0]
                pivot = out.nodes.world[out.nodes.parts[0], :3, 3]
                np.testing.assert_allclose(bounds, scene.part_bounds[0], atol=1e-5)
                np.testing.assert_allclose(
                    pivot, (*bounds.mean(axis=0)[[0]], bounds[0, 1], bounds.mean(axis=0)[2]), atol=1e-5
                )

    def test_shared_meshes_go_by_most_of_their_users(self) -> None:
        box = trimesh.creation.box((0.4, 2.0, 0.6))
        box.apply_translation((30.0, 5.0, 0.0))
        g = Gltf()
        mesh = g.mesh(box.vertices, box.faces.ravel())
        for k in range(5):
            turn = trimesh.transformations.rotation_matrix(np.radians(90 if k else 0), (1, 0, 0))
            g.node(mesh=mesh, matrix=turn.T.ravel().tolist())
        out, _ = parse_step({"kind": "place_pivots"}).apply(g.scene(), StepContext())
        self.assertEqual(len(out.meshes), 1)
        heights = out.nodes.world[out.nodes.parts, 1, 3] - out.part_bounds[:, 0, 1]
        np.testing.assert_allclose(heights[1:], 0, atol=1e-5)


if __name__ == "__main__":
    unittest.main()
