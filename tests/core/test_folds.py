"""Polygons in no plane and such as cross themselves: by figures against closed forms, and as the readers tell of them."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

import numpy as np
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from tests.core.test_collada import INSTANCE, POLYLIST, document
from tests.core.test_usd import Stage
from tests.support import read
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.formats import bundle_from_path, load
from tidy_caravan.core.geometry.folds import FOLDED_DEG, Folds, folds_of
from tidy_caravan.core.route import Route, run
from tidy_caravan.core.scene import HIDDEN, Scene
from tidy_caravan.core.survey import survey

SQUARE = [[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]]
BOW = [[0, 0, 0], [1, 1, 0], [1, 0, 0], [0, 1, 0]]


def of(*polygons: Any) -> Folds:
    points = np.concatenate([np.asarray(p, np.float64) for p in polygons])
    return folds_of(points, np.arange(len(points)), np.array([len(p) for p in polygons]))


def placed(points: Any, seed: int) -> Any:
    """Anywhere, any size, begun at any corner."""
    rng = np.random.default_rng(seed)
    points = np.roll(np.asarray(points, np.float64), rng.integers(len(points)), axis=0)
    return Rotation.random(random_state=seed).apply(points) * 10 ** rng.uniform(-3, 3) + rng.uniform(-1e3, 1e3, 3)


def leaf(degrees: float) -> Any:
    """A square that is folded about a diagonal: its corners lean so far out of the plane between."""
    h = np.sqrt(0.5)
    c, s = h * np.cos(np.radians(degrees)), h * np.sin(np.radians(degrees))
    return [[-h, 0, 0], [0, -c, s], [h, 0, 0], [0, c, s]]


class Figures(unittest.TestCase):
    @settings(deadline=None, max_examples=100)
    @given(st.integers(0, 2**31), st.floats(0, 85))
    def test_a_square_folded_about_its_diagonal(self, seed: int, degrees: float) -> None:
        found = of(placed(leaf(degrees), seed), placed(SQUARE, seed + 1))
        if abs(degrees - FOLDED_DEG) > 0.01:
            self.assertEqual((found.folded, found.crossing), (int(degrees > FOLDED_DEG), 0))
        if found:
            self.assertAlmostEqual(found.degrees, degrees, places=4)

    @settings(deadline=None, max_examples=100)
    @given(st.integers(0, 2**31), st.integers(4, 9))
    def test_flat_polygons_of_random_corners_cross_themselves_where_an_independent_library_says_so(
        self, seed: int, count: int
    ) -> None:
        flat = np.random.default_rng(seed).uniform(-1, 1, (count, 2))
        ring = shapely.LinearRing(flat)
        turns = np.cross(np.roll(flat, -1, 0) - flat, np.roll(flat, -2, 0) - np.roll(flat, -1, 0))
        ahead = ((np.roll(flat, -1, 0) - flat) * (np.roll(flat, -2, 0) - np.roll(flat, -1, 0))).sum(1)
        winding = abs(np.arctan2(turns, ahead).sum()) / (2 * np.pi)
        found = of(placed(np.column_stack([flat, np.zeros(count)]), seed))
        if ring.is_simple:
            self.assertFalse(found)
        elif abs(winding - 1) > 0.5:  # one that turns about once may cross itself twice, which is not seen
            self.assertEqual(found.crossing, 1)

    def test_what_is_no_fault(self) -> None:
        around = 2 * np.pi * np.arange(64) / 64
        keyhole = [[0, 0], [4, 0], [4, 4], [0, 4], [0, 2], [1, 2], [1, 3], [3, 3], [3, 1], [1, 1], [1, 2], [0, 2]]
        for seed, polygon in enumerate(
            (
                SQUARE,
                [[0, 0, 0], [1, 0, 0], [0.1, 0.1, 0], [0, 1, 0]],
                [[0, 0, 0], [1, 0, 0], [1, 0, 0], [0, 1, 0]],
                [[0, 0, 0], [1, 0, 0], [2, 0, 0], [3, 0, 0]],
                np.column_stack([np.cos(around), np.sin(around), 0 * around]),
                np.column_stack([keyhole, np.zeros(12)]),
            )
        ):
            self.assertFalse(of(placed(polygon, seed)), polygon)
            self.assertFalse(of(polygon), polygon)
        self.assertFalse(folds_of(np.zeros((0, 3)), np.zeros(0, np.int64), np.zeros(0, np.int64)))

    def test_what_is_one(self) -> None:
        around = 2 * np.pi * np.arange(64) / 64
        disc = np.column_stack([np.cos(around), np.sin(around), 0.5 * np.abs(np.cos(around))])
        found = of(placed(disc, 1))
        self.assertEqual((found.folded, round(found.degrees, 3)), (1, round(np.degrees(np.arctan(0.5)), 3)))
        twice = 4 * np.pi * np.arange(7) / 7
        eight = np.column_stack([np.cos(around), np.sin(2 * around), 0 * around])
        spike = [[0, 0, 0], [1, 0, 0], [0, 0, 0], [0, 1, 0]]
        for crossing in (BOW, np.column_stack([np.cos(twice), np.sin(twice), 0 * twice]), eight, spike):
            self.assertEqual(of(placed(crossing, 2)), Folds(crossing=1))

    def test_corners_that_are_nowhere_are_passed_over(self) -> None:
        bad = np.array([*leaf(40), [np.nan] * 3], np.float64)
        corner = np.array([0, 1, 2, 3, 0, 1, 2, 4, 0, 1, 2, 9, 0, 1, 2, -1, 0, 1, 2, 3, 4])
        self.assertEqual(folds_of(bad, corner, np.array([4, 4, 4, 4, 5])).folded, 1)


class Told(unittest.TestCase):
    """A flat polygon, a folded one and one that crosses itself, as each format that has polygons writes them."""

    POINTS = np.concatenate([SQUARE, np.array(leaf(40)) + [3, 0, 0], np.array(BOW) + [6.0, 0, 0]])

    def check(self, scene: Scene, crossing: int = 1) -> None:
        found = {f.code: f for f in survey(scene, BUILT_IN[0]) if f.code in ("faces.folded", "faces.crossing")}
        drawn = [int(i) for i in scene.nodes.parts]
        self.assertEqual(found["faces.folded"].parts, drawn[:1])
        self.assertIn("1 polygon leans out of its plane by up to 40°", found["faces.folded"].text)
        self.assertTrue(found["faces.folded"].guess)
        self.assertEqual(len(found), 1 + crossing)
        if crossing:
            self.assertIn("1 polygon crosses itself", found["faces.crossing"].text)

    def test_obj(self) -> None:
        lines = [f"v {x} {y} {z}" for x, y, z in self.POINTS.tolist()]
        faces = ["o all", "f 1 2 3 4", "f 5 6 7 8", "f 9 10 11 12", "o flat", "f 1 2 3 4"]
        self.check(read("\n".join([*lines, *faces, ""]).encode(), "a.obj"))

    def test_the_part_is_the_same_one_behind_a_route(self) -> None:
        lines = [f"v {x} {y} {z}" for x, y, z in self.POINTS.tolist()]
        faces = ["o flat", "f 1 2 3 4", "o folded", "f 5 6 7 8", "o flat_too", "f 1 2 3 4"]
        scene = read("\n".join([*lines, *faces, ""]).encode(), "a.obj")
        hidden = scene.but(nodes=replace(scene.nodes, flags=np.array([HIDDEN, 0, 0], np.uint8)))
        steps = [{"kind": "what_travels"}, {"kind": "tidy_tree", "by": "root"}]
        done, _ = run(hidden, Route.model_validate({"steps": steps}), BUILT_IN[0])
        for one in (hidden, done):
            (finding,) = (f for f in survey(one, BUILT_IN[0]) if f.code == "faces.folded")
            self.assertEqual([one.nodes.names[i] for i in finding.parts], ["folded"])
        self.assertNotEqual(done.nodes.names, hidden.nodes.names)

    def test_ply(self) -> None:
        head = "ply\nformat ascii 1.0\nelement vertex 12\nproperty float x\nproperty float y\nproperty float z\n"
        head += "element face 3\nproperty list uchar int vertex_indices\nend_header\n"
        rows = "\n".join(" ".join(map(str, p)) for p in self.POINTS.tolist())
        self.check(read(f"{head}{rows}\n4 0 1 2 3\n4 4 5 6 7\n4 8 9 10 11\n".encode(), "a.ply"))

    def test_openusd(self) -> None:
        for by_corner in (False, True):
            stage = Stage()
            for name, count in (("all", 3), ("flat", 1)):
                mesh = stage.quad(f"/{name}")
                mesh.GetPointsAttr().Set(self.POINTS.tolist())
                mesh.GetFaceVertexCountsAttr().Set([4] * count)
                mesh.GetFaceVertexIndicesAttr().Set(list(range(4 * count)))
                if by_corner:
                    mesh.CreateNormalsAttr([(0, 0, 1)] * 4 * count)
                    mesh.SetNormalsInterpolation("faceVarying")
            stage.stage.Save()
            self.check(load(bundle_from_path(stage.path)))

    def test_collada(self) -> None:
        self.assertIn("0 0 0", POLYLIST + document().decode())
        folded = document().decode().replace("0 0 0 1 0 0 1 1 0 0 1 0", " ".join(map(str, np.ravel(leaf(40)))))
        self.assertNotEqual(folded, document().decode())
        self.check(read(folded.encode(), "a.dae"), crossing=0)
        self.assertEqual([n.code for n in read(document(f'<node name="a">{INSTANCE}</node>'), "a.dae").notes if "faces" in n.code], [])  # fmt: skip


if __name__ == "__main__":
    unittest.main()
