"""Faces turned over: found by what hangs together, turned with their normals, against trimesh's own measures."""

from __future__ import annotations

import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any
from unittest import mock

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import Gltf, sent
from tidy_caravan.core.carry import prove
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.formats import writable
from tidy_caravan.core.geometry.shells import shells_of
from tidy_caravan.core.geometry.winding import sides_of
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import Route, run
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.steps import StepContext
from tidy_caravan.core.steps.turn_faces import TurnFaces
from tidy_caravan.core.survey import Finding, survey

SHAPES: dict[str, trimesh.Trimesh] = {
    "box": trimesh.creation.box((1, 2, 3)),
    "ball": trimesh.creation.icosphere(2),
    "torus": trimesh.creation.torus(2, 0.5, major_sections=16, minor_sections=8),
    "ring": trimesh.creation.annulus(1, 2, 1, sections=16),
    "bowl": trimesh.creation.icosphere(2).slice_plane([0, 0, 0.3], [0, 0, 1]),
}


def mesh_from(points: Any, faces: Any, normals: Any = None) -> Mesh:
    return Mesh(
        np.asarray(points, np.float32), np.asarray(faces, np.uint32), np.full(len(faces), -1, np.int32),
        None if normals is None else np.asarray(normals, np.float32),
    )  # fmt: skip


def as_trimesh(mesh: Mesh) -> trimesh.Trimesh:
    """Corners at one place joined, as trimesh needs it to see neighbours."""
    out = trimesh.Trimesh(mesh.positions, mesh.indices, process=False)
    out.merge_vertices(merge_tex=True, merge_norm=True)
    return out


def strip(turns: int, pieces: int = 40) -> Mesh:
    """A band that closes on itself after so many half turns: with an odd number it has one side."""
    points, faces = [], []
    for k in range(pieces):
        a = 2 * np.pi * k / pieces
        across = np.array([np.cos(a) * np.cos(turns * a / 2), np.sin(a) * np.cos(turns * a / 2), np.sin(turns * a / 2)])
        points += [[np.cos(a) * 3, np.sin(a) * 3, 0] + s * across for s in (-0.5, 0.5)]
    for k in range(pieces):
        last = k == pieces - 1
        a, b = 2 * k, 2 * k + 1
        c, d = (2 * k + 2, 2 * k + 3) if not last else ((1, 0) if turns % 2 else (0, 1))
        faces += [[a, c, b], [b, c, d]]
    return mesh_from(points, faces)


def scene_of(*meshes: tuple[Any, Any] | tuple[Any, Any, Any]) -> Scene:
    g = Gltf()
    for k, (points, faces, *normals) in enumerate(meshes):
        more = {"NORMAL": normals[0]} if normals else {}
        g.node(mesh=g.mesh(points, np.asarray(faces).ravel(), **more), name=f"n{k}", translation=[5.0 * k, 0, 0])
    return g.scene()


def found_in(scene: Scene) -> list[Finding]:
    return survey(scene, BUILT_IN[0])


class Found(unittest.TestCase):
    @settings(max_examples=80, deadline=None)
    @given(st.sampled_from(sorted(SHAPES)), st.data())
    def test_the_smaller_side_is_the_one_that_was_turned(self, name: str, data: st.DataObject) -> None:
        shape = SHAPES[name]
        area, count = shape.area_faces, len(shape.faces)
        turned = data.draw(st.sets(st.integers(0, count - 1), max_size=count // 3))
        rows = sorted(turned)
        while area[rows].sum() > 0.45 * area.sum():
            rows.pop()
        faces = shape.faces.copy()
        faces[rows] = faces[rows][:, ::-1]
        found = sides_of(mesh_from(shape.vertices, faces))
        self.assertEqual(np.flatnonzero(found.minor).tolist(), rows)
        self.assertFalse(found.one_sided.any())

    def test_pieces_are_judged_by_themselves(self) -> None:
        box = SHAPES["box"]
        two = np.concatenate([box.vertices, box.vertices + [5, 0, 0]])
        faces = np.concatenate([box.faces, box.faces[:, ::-1] + 8])
        found = sides_of(mesh_from(two, faces))
        self.assertEqual((len(found.share), int(found.minor.sum())), (2, 0), "inside out as a whole is another matter")

    def test_a_band_has_one_side_or_two(self) -> None:
        for turns, sided in ((0, False), (1, True), (2, False), (3, True)):
            found = sides_of(strip(turns))
            self.assertEqual((found.one_sided.tolist(), int(found.minor.sum())), ([sided], 0), turns)

    @settings(max_examples=40, deadline=None)
    @given(st.sampled_from(["box", "ball", "torus", "ring"]), st.integers(0, 10_000), st.booleans())
    def test_a_triangle_that_is_there_twice_opens_no_shell(self, name: str, seed: int, inside_out: bool) -> None:
        rng = np.random.default_rng(seed)
        shape = SHAPES[name]
        faces = shape.faces[:, ::-1] if inside_out else shape.faces
        again = np.roll(faces[rng.integers(0, len(faces), 3)], int(rng.integers(3)), axis=1)
        mesh = mesh_from(shape.vertices, np.concatenate([faces, again]))
        shells = shells_of(mesh)
        self.assertEqual((shells.closed.tolist(), shells.inverted.tolist()), ([True], [inside_out]))
        self.assertAlmostEqual(abs(float(shells.volume[0])), abs(shape.volume), delta=1e-5 * shape.volume)
        self.assertEqual(len(shells.label), len(faces) + 3)
        self.assertFalse(sides_of(mesh).minor.any())

    def test_an_edge_of_three_says_nothing(self) -> None:
        points = [[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1]]
        found = sides_of(mesh_from(points, [[0, 1, 2], [1, 0, 3], [0, 1, 4]]))
        self.assertEqual((len(found.share), int(found.minor.sum())), (3, 0))

    def test_nearly_halves_are_a_guess(self) -> None:
        ball = SHAPES["ball"]
        for part, guess in ((0.1, False), (0.45, True)):
            faces = ball.faces.copy()
            rows = np.flatnonzero(ball.triangles_center[:, 2] > np.quantile(ball.triangles_center[:, 2], 1 - part))
            faces[rows] = faces[rows][:, ::-1]
            finding = next(f for f in found_in(scene_of((ball.vertices, faces))) if f.code == "faces.disagree")
            self.assertEqual((finding.value, finding.guess), (len(rows), guess))

    def test_sound_shapes_are_left_in_peace(self) -> None:
        for name, shape in SHAPES.items():
            codes = {f.code for f in found_in(scene_of((shape.vertices, shape.faces)))}
            self.assertFalse(codes & {"faces.disagree", "faces.one-sided", "faces.inside-out"}, name)


class Turned(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.sampled_from(sorted(SHAPES)), st.integers(0, 2**31), st.floats(0, 1), st.booleans())
    def test_neighbours_agree_and_nothing_else_changes(self, name: str, seed: int, part: float, flat: bool) -> None:
        shape, rng = SHAPES[name], np.random.default_rng(seed)
        faces = shape.faces.copy()
        rows = rng.random(len(faces)) < part
        points, normals = shape.vertices, shape.vertex_normals
        if flat:  # every triangle with vertices of its own, as exporters write hard edges
            points, normals = shape.triangles.reshape(-1, 3), np.repeat(shape.face_normals, 3, axis=0)
            faces = np.arange(len(points)).reshape(-1, 3)
        faces[rows] = faces[rows][:, ::-1]
        scene = scene_of((points, faces, normals))
        out, _ = TurnFaces(how="outwards").apply(scene, StepContext())
        before, after = scene.meshes[0], out.meshes[0]
        corners = [np.sort(m.positions[m.indices].reshape(len(m.indices), 9), axis=1) for m in (before, after)]
        np.testing.assert_array_equal(*corners)
        judged = as_trimesh(after)
        self.assertTrue(judged.is_winding_consistent)
        if shape.is_watertight:
            self.assertAlmostEqual(judged.volume, shape.volume, places=4)
        again, changes = TurnFaces(how="outwards").apply(out, StepContext())
        self.assertEqual(([m.id for m in again.meshes], changes), ([m.id for m in out.meshes], []))

    def test_normals_go_with_their_faces_and_good_ones_stay_bit_for_bit(self) -> None:
        for name, shape in SHAPES.items():
            for flat in (False, True):
                with self.subTest(shape=name, flat=flat):
                    points, normals = shape.vertices, shape.vertex_normals
                    faces = shape.faces.copy()
                    if flat:
                        points, normals = shape.triangles.reshape(-1, 3), np.repeat(shape.face_normals, 3, axis=0)
                        faces = np.arange(len(points)).reshape(-1, 3)
                    turned = faces.copy()
                    turned[::5] = turned[::5][:, ::-1]
                    # an exporter that computes normals from the winding has them wrong as well
                    wrong = normals.copy()
                    if flat:
                        wrong[turned[::5].ravel()] *= -1
                    scene = scene_of((points, turned, wrong))
                    mesh = TurnFaces().apply(scene, StepContext())[0].meshes[0]
                    assert mesh.normals is not None
                    vectors = trimesh.Trimesh(mesh.positions, mesh.indices, process=False).face_normals
                    along = np.einsum("fki,fi->fk", mesh.normals[mesh.indices], vectors)
                    self.assertGreater(along.min(), 0)
                    self.assertEqual(mesh.vertices, len(points), "no vertex was needed both ways")

    def test_a_vertex_that_is_needed_both_ways_is_split(self) -> None:
        # two triangles on one edge; their shared vertices hold the normal of the one that is turned over
        points = [[0, 0, 0], [1, 0, 0], [0, 1, 0], [3, -3, 0]]
        normals = [[0, 0, -1], [0, 0, -1], [0, 0, -1], [0, 0, 1]]
        scene = scene_of((points, [[0, 2, 1], [0, 3, 1]], normals))
        mesh = TurnFaces().apply(scene, StepContext())[0].meshes[0]
        assert mesh.normals is not None
        self.assertEqual(mesh.vertices, 6)
        np.testing.assert_array_equal(mesh.normals[mesh.indices[0]], np.float32([[0, 0, 1]] * 3))
        np.testing.assert_array_equal(mesh.normals[:4][mesh.indices[1]], np.float32(normals)[[0, 3, 1]])

    def test_every_instance_follows_and_others_are_not_touched(self) -> None:
        ball, box = SHAPES["ball"], SHAPES["box"]
        bad = ball.faces.copy()
        bad[3] = bad[3][::-1]
        g = Gltf()
        shared, good = g.mesh(ball.vertices, bad.ravel()), g.mesh(box.vertices, box.faces.ravel())
        for k in range(3):
            g.node(mesh=shared, name=f"ball {k}", translation=[5.0 * k, 0, 0])
        g.node(mesh=good, name="box")
        scene = g.scene()
        out, changes = TurnFaces().apply(scene, StepContext())
        self.assertEqual((len(out.meshes), changes[0].count), (2, 1))
        self.assertIn(scene.meshes[scene.nodes.mesh[3]].id, {m.id for m in out.meshes})

    def test_cavities_stay_turned_inwards_and_rooms_are_asked_about(self) -> None:
        inner = trimesh.creation.icosphere(2, radius=0.5)
        shell = np.concatenate([SHAPES["ball"].vertices, inner.vertices])
        faces = np.concatenate([SHAPES["ball"].faces, inner.faces[:, ::-1] + len(SHAPES["ball"].vertices)])
        scene = scene_of((shell, faces))
        self.assertEqual(TurnFaces(how="outwards").apply(scene, StepContext())[1], [])
        room = trimesh.creation.box((6, 3, 5))
        codes = {f.code: f.mend for f in found_in(scene_of((room.vertices, room.faces[:, ::-1])))}
        self.assertIn("faces.room-or-inside-out", codes)
        self.assertIsNone(codes["faces.room-or-inside-out"], "what is unsure is not turned by a press of a button")

    def test_mends_take_their_findings_away(self) -> None:
        small = trimesh.creation.box((0.5, 0.5, 0.5))
        bad = SHAPES["torus"].faces.copy()
        bad[[4, 9]] = bad[[4, 9]][:, ::-1]
        scene = scene_of(
            (small.vertices, small.faces[:, ::-1]),
            (SHAPES["torus"].vertices, bad),
            (SHAPES["ball"].vertices, SHAPES["ball"].faces),
        )
        found = {f.code: f for f in found_in(scene)}
        self.assertLessEqual({"faces.disagree", "faces.inside-out"}, set(found))
        steps = [found[c].mend for c in ("faces.disagree", "faces.inside-out")]
        out, _ = run(scene, Route.model_validate({"steps": steps}), BUILT_IN[0])
        codes = {f.code for f in found_in(out)}
        self.assertFalse(codes & {"faces.disagree", "faces.inside-out"})
        self.assertIn(scene.meshes[2].id, {m.id for m in out.meshes})

    def test_it_is_proven_on_arrival_in_every_format(self) -> None:
        """Declared turns pass; the same turns by a route that declares none do not."""
        ball = SHAPES["ball"]
        bad = ball.faces.copy()
        bad[::7] = bad[::7][:, ::-1]
        scene = scene_of((ball.vertices, bad, ball.vertex_normals), (SHAPES["box"].vertices, SHAPES["box"].faces))
        route = Route.model_validate({"steps": [{"kind": "match_units_axes"}, {"kind": "turn_faces"}]})
        for fmt in sorted(writable()):
            for silent in (False, True):
                with self.subTest(format=fmt, silent=silent), TemporaryDirectory() as folder:
                    effects = (lambda self: ()) if silent else TurnFaces.effects
                    with mock.patch.object(TurnFaces, "effects", effects):
                        package, result = sent(scene, "s", "0" * 64, BUILT_IN[2], route, fmt)
                        save(package.files, Path(folder) / "p")
                        report, _ = prove(Path(folder) / "p", scene, result)
                    self.assertEqual(report.ok, not silent, [r.told for r in report.rows if r.faults])


if __name__ == "__main__":
    unittest.main()
