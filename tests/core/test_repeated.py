"""Faces that are there twice: found by where they stand, whatever the order of their vertices, and dropped."""

from __future__ import annotations

import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.test_winding import SHAPES, found_in, mesh_from, scene_of
from tests.support import Gltf, sent
from tidy_caravan.core.carry import prove
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.formats import writable
from tidy_caravan.core.geometry.faults import repeated
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import Route, run
from tidy_caravan.core.steps import StepContext
from tidy_caravan.core.steps.mend_geometry import DropRepeated


def by_comparing_all(points: Any, faces: Any) -> list[int]:
    """The same question asked of every pair."""
    corners = [[tuple(points[v]) for v in f] for f in faces]
    turns = [{tuple(c[k:] + c[:k]) for k in range(3)} for c in corners]
    return [
        j for j, c in enumerate(corners) if len(set(c)) == 3 and any(tuple(c) in turns[i] for i in range(j))
    ]  # fmt: skip


class Found(unittest.TestCase):
    @settings(max_examples=150, deadline=None)
    @given(st.lists(st.tuples(*[st.integers(0, 7)] * 3), min_size=1, max_size=30), st.booleans())
    def test_as_by_comparing_every_pair(self, faces: list[tuple[int, int, int]], doubled: bool) -> None:
        points = np.array([[x, y, z] for x in (0, 1) for y in (0, 2) for z in (0, 3)], np.float32)
        if doubled:  # the same places under other numbers
            points = np.concatenate([points, points])
            faces = [(f[0] + 8 * (k % 2), f[1], f[2] + 8 * (k % 3 > 0)) for k, f in enumerate(faces)]
        found = np.flatnonzero(repeated(mesh_from(points, faces))).tolist()
        self.assertEqual(found, by_comparing_all(points, faces))

    def test_planted_among_thousands_and_none_on_the_clean_twin(self) -> None:
        rng = np.random.default_rng(3)
        ball = trimesh.creation.icosphere(5)
        clean = mesh_from(ball.vertices, ball.faces)
        self.assertFalse(repeated(clean).any())
        rows = rng.choice(len(ball.faces), 200, replace=False)
        again = np.roll(ball.faces[rows], 1, axis=1)
        # with vertices of their own, as an exporter writes a part that was copied onto itself
        points = np.concatenate([ball.vertices, ball.vertices])
        order = rng.permutation(len(ball.faces) + 200)
        faces = np.concatenate([ball.faces, again + len(ball.vertices)])[order]
        found = repeated(mesh_from(points, faces))
        self.assertEqual(int(found.sum()), 200)
        there = {tuple(sorted(f % len(ball.vertices))) for f in faces[found]}
        self.assertEqual(there, {tuple(sorted(f)) for f in ball.faces[rows]})

    def test_two_sides_of_a_sheet_are_none(self) -> None:
        bowl = SHAPES["bowl"]
        both = np.concatenate([bowl.faces, bowl.faces[:, ::-1]])
        self.assertFalse(repeated(mesh_from(bowl.vertices, both)).any())

    def test_it_is_a_guess_where_they_differ(self) -> None:
        points = [[0, 0, 0], [1, 0, 0], [0, 1, 0]] * 2
        for shift, guess in ((0.0, False), (0.25, True)):
            g = Gltf()
            uv = np.float32([[0, 0], [1, 0], [0, 1]])
            g.node(mesh=g.mesh(points, [0, 1, 2, 4, 5, 3], TEXCOORD_0=np.concatenate([uv, uv + shift])))
            finding = next(f for f in found_in(g.scene()) if f.code == "geometry.repeated")
            self.assertEqual((finding.value, finding.guess), (1, guess))


class Dropped(unittest.TestCase):
    def test_what_is_left_is_the_clean_twin_and_others_are_not_touched(self) -> None:
        for name, shape in SHAPES.items():
            with self.subTest(shape=name):
                faces = np.concatenate([shape.faces, np.roll(shape.faces[::3], 1, axis=1)])
                scene = scene_of((shape.vertices, faces), (SHAPES["box"].vertices * 2, SHAPES["box"].faces))
                out, changes = DropRepeated().apply(scene, StepContext())
                self.assertEqual(changes[0].count, len(shape.faces[::3]))
                np.testing.assert_array_equal(out.meshes[out.nodes.mesh[0]].indices, shape.faces)
                self.assertEqual(out.meshes[out.nodes.mesh[1]].id, scene.meshes[scene.nodes.mesh[1]].id)
                again, changes = DropRepeated().apply(out, StepContext())
                self.assertEqual(([m.id for m in again.meshes], changes), ([m.id for m in out.meshes], []))

    def test_the_mend_settles_it_and_winding_can_be_judged_afterwards(self) -> None:
        ball = SHAPES["ball"]
        faces = ball.faces.copy()
        faces[7] = faces[7][::-1]
        scene = scene_of((ball.vertices, np.concatenate([faces, faces[:20]])))
        found = {f.code: f for f in found_in(scene)}
        steps: list[Any] = [found["geometry.repeated"].mend, {"kind": "turn_faces"}]
        out, _ = run(scene, Route.model_validate({"steps": steps}), BUILT_IN[0])
        self.assertFalse({f.code for f in found_in(out)} & {"geometry.repeated", "faces.disagree"})
        self.assertTrue(trimesh.Trimesh(out.meshes[0].positions, out.meshes[0].indices).is_winding_consistent)

    def test_it_is_proven_on_arrival_in_every_format(self) -> None:
        ring = SHAPES["ring"]
        scene = scene_of(
            (ring.vertices, np.concatenate([ring.faces, ring.faces[::4]]), np.zeros_like(ring.vertices) + [0, 0, 1])
        )
        route = Route.model_validate({"steps": [{"kind": "match_units_axes"}, {"kind": "drop_repeated"}]})
        for fmt in sorted(writable()):
            with self.subTest(format=fmt), TemporaryDirectory() as folder:
                package, result = sent(scene, "s", "0" * 64, BUILT_IN[1], route, fmt)
                save(package.files, Path(folder) / "p")
                report, _ = prove(Path(folder) / "p", scene, result)
                self.assertTrue(report.ok, [r.told for r in report.rows if r.faults])


if __name__ == "__main__":
    unittest.main()
