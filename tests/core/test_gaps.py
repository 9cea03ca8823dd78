"""Gaps between pieces: widths against closed forms, everything that only looks like one, and closing them."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.test_sides import FLAT, at, scene_of, sheet
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.geometry.closest import closest_on
from tidy_caravan.core.scene import Scene, make_nodes
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.core.surroundings.gaps import Gaps, gaps
from tidy_caravan.core.survey import survey
from tidy_caravan.core.work.heavy import Workshop

BOX = trimesh.creation.box
FLOOR = {"floor": (BOX([10, 0.2, 10]), at(0, -0.1, 0))}


def widths(scene: Scene, **limits: float) -> dict[tuple[str, str], list[float]]:
    """Millimetres by pair of names, the part of the vertices first."""
    found = gaps(scene, Workshop(), lambda done, total: None, **limits)
    assert isinstance(found, Gaps), found
    out: dict[tuple[str, str], list[float]] = {}
    for a, b, d in zip(found.part.tolist(), found.other.tolist(), found.distance.tolist(), strict=True):
        out.setdefault((scene.nodes.names[a], scene.nodes.names[b]), []).append(round(d * 1000, 4))
    return out


def standing(**more: tuple[Any, Any]) -> Scene:
    return scene_of({**FLOOR, **more})


def beveled() -> Any:
    corners = BOX([1, 1, 1]).vertices
    return trimesh.convex.convex_hull(np.concatenate([corners * [0.992, 1, 0.992], corners * [1, 0.992, 1]]))


def hills(x: Any, y: Any) -> Any:
    return 0.3 * np.sin(x * 0.5) * np.cos(y * 0.4)


def tile(low: float, form: Any = hills, cells: int = 10) -> Any:
    """Ten metres of ground from x = low on, as a sheet over x and y."""
    x, y = (g.ravel() for g in np.meshgrid(np.linspace(low, low + 10, cells + 1), np.linspace(0, 10, cells + 1), indexing="ij"))  # fmt: skip
    k = (np.arange(cells)[:, None] * (cells + 1) + np.arange(cells)).ravel()
    faces = np.concatenate([np.column_stack([k, k + cells + 1, k + cells + 2]), np.column_stack([k, k + cells + 2, k + 1])])  # fmt: skip
    return trimesh.Trimesh(np.column_stack([x, y, form(x, y)]), faces, process=False)


def jambs(kind: str) -> tuple[Any, Any, int]:
    """Two pieces of a kind that meet where x = 0, the second on the right, and a vertex of that by which they do."""
    if kind == "panels":
        one = BOX([3, 2.5, 0.2])
        left, right = one.copy().apply_translation([-1.5, 0, 0]), one.copy().apply_translation([1.5, 0, 0])
        return left, right, int(np.argmin(right.vertices @ [9, -1, -1]))
    if kind == "sheets":
        square = np.array([[0, 0, 0], [3, 0, 0], [3, 2.5, 0], [0, 2.5, 0]], float)
        faces = [[0, 1, 2], [0, 2, 3]]
        left, right = (trimesh.Trimesh(square + [x, 0, 0], faces, process=False) for x in (-3, 0))
        return left, right, 3
    form = hills if kind == "hills" else lambda x, y: 0.2 * x + 0 * y
    return tile(-10, form), tile(0, form), 4


class Found(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(
        st.sampled_from(["panels", "sheets", "slope", "hills"]),
        st.integers(0, 2**31),
        st.floats(0.3, 4.5),
    )
    def test_a_vertex_that_does_not_meet_the_other_pieces(self, kind: str, seed: int, off_mm: float) -> None:
        """Moved away from it, not along the edge that both have; without that nothing is said."""
        left, right, number = jambs(kind)
        rng = np.random.default_rng(seed)
        move = rng.normal(size=3)
        move[0] = abs(move[0]) + 0.5 * np.linalg.norm(move[1:])
        place = at(*rng.uniform(-50, 50, 3), (rng.uniform(0, 6), rng.normal(size=3)))
        self.assertEqual(widths(scene_of({"left": (left, place), "right": (right, place)})), {})
        points = right.vertices.copy()
        points[number] += move / np.linalg.norm(move) * off_mm / 1000
        off = trimesh.Trimesh(points, right.faces, process=False)
        scene = scene_of({"left": (left, place), "right": (off, place)})
        found = widths(scene)
        self.assertIn(("right", "left"), found)
        self.assertAlmostEqual(found["right", "left"][0], off_mm, delta=0.02)
        out, _ = parse_step({"kind": "close_gaps"}).apply(scene, StepContext())
        self.assertEqual(widths(out), {})

    def test_what_has_vertices_beside_anothers_and_leaves_none_open(self) -> None:
        quiet = {
            "a taller book": (
                (BOX([0.04, 0.25, 0.2]), at(0, 0.125, 0)),
                (BOX([0.04, 0.253, 0.2]), at(0.04, 0.1265, 0)),
            ),
            "a thicker wall": ((BOX([3, 2.5, 0.2]), at(0, 0, 0)), (BOX([3, 2.5, 0.204]), at(3, 0, 0.002))),
            "other vertices along a border": ((tile(-10), at(0, 0, 0)), (tile(0, cells=5), at(0, 0, 0))),
            "ground on other cells": (
                (tile(-10, lambda x, y: 0 * x), at(0, 0, 0)),
                (tile(0, lambda x, y: 0 * x, 7), at(0, 0.002, 0)),
            ),
            "bevelled": ((beveled(), at(0, 0, 0)), (beveled(), at(0.992, 0, 0))),
        }
        for name, (one, other) in quiet.items():
            with self.subTest(name):
                self.assertEqual(widths(scene_of({"one": one, "other": other})), {})

    def test_a_sheet_has_no_inside_whichever_way_it_looks(self) -> None:
        """Walls under a roof that is one sheet, and such as touch it, go through it, or stick out by less than a gap."""
        solid, thin = (BOX([4, 3, 0.2]), at(0, 1.5, 0)), (sheet(4, 3), at(0, 1.5, 0))
        for turn in (np.pi / 2, -np.pi / 2):
            for name, wall in (("solid", solid), ("thin", thin)):
                for off, there in ((0.002, True), (0.0, False), (-0.002, False), (-0.1, False)):
                    with self.subTest(turn=turn, wall=name, off=off):
                        roof = sheet(7, 7), at(0.3, 3 + off, 0.2, (turn, [1, 0, 0]))
                        found = widths(scene_of({"wall": wall, "roof": roof}))
                        self.assertEqual(set(found), {("wall", "roof")} if there else set())
                        if there:
                            self.assertTrue(np.allclose(found["wall", "roof"], 2.0, atol=1e-3))
        # what is in a closed body is in it
        inner = {"body": (BOX([2, 2, 2]), at(0, 0, 0)), "in it": (BOX([1, 1, 1]), at(0, 0.497, 0))}
        self.assertEqual(widths(scene_of(inner)), {})

    def test_borders_of_sheets_that_slope_are_apart_all_along(self) -> None:
        """Also where the one is behind the plane of the other, which ends there."""
        for shift in ([0.002, 0, 0], [0.0015, 0, 0.001], [0.0012, 0.0003, -0.0015]):
            found = widths(scene_of({"a": (tile(-10), at(0, 0, 0)), "b": (tile(0), at(*shift))}))
            for pair in (("a", "b"), ("b", "a")):
                self.assertEqual(len(found[pair]), 11)
                self.assertGreater(min(found[pair]), 0.9)
                self.assertLess(max(found[pair]), 1000 * np.linalg.norm(shift) + 0.01)

    def test_a_part_above_the_floor_leaves_its_height(self) -> None:
        for height in (0.0002, 0.003, 0.0049):
            found = widths(standing(crate=(BOX([1, 1, 1]), at(0, 0.5 + height, 0))))
            self.assertEqual(set(found), {("crate", "floor")})
            self.assertEqual(len(found["crate", "floor"]), 4)
            self.assertTrue(np.allclose(found["crate", "floor"], height * 1000, atol=1e-3))

    def test_what_only_looks_like_a_gap_stays_quiet(self) -> None:
        turn = (-np.pi / 2, [1.0, 0, 0])
        quiet = {
            "standing": (BOX([1, 1, 1]), at(0, 0.5, 0)),
            "sunk a little": (BOX([1, 1, 1]), at(0, 0.497, 0)),
            "well clear": (BOX([1, 1, 1]), at(0, 0.5056, 0)),
            "a hair": (BOX([1, 1, 1]), at(0, 0.50005, 0)),
            "a label on it": (sheet(1, 1), at(0, 0.003, 0, FLAT)),
            "beveled": (beveled(), at(0, 0.5, 0)),
            "round foot": (trimesh.creation.icosphere(3, 0.5), at(0, 0.5, 0)),
            "column": (trimesh.creation.cylinder(0.3, 1, sections=32), at(0, 0.5, 0, turn)),
            "a small knob at its own distance": (BOX([0.05, 0.05, 0.05]), at(0, 0.028, 0)),
        }
        for name, part in quiet.items():
            with self.subTest(name):
                self.assertEqual(widths(standing(**{name: part})), {})

    def test_joints_of_panels_side_by_side_and_of_sheets_edge_to_edge(self) -> None:
        panels = scene_of({"a": (BOX([1, 1, 0.1]), at(0, 0, 0)), "b": (BOX([1, 1, 0.1]), at(1.002, 0, 0))})
        self.assertEqual({k: len(v) for k, v in widths(panels).items()}, {("a", "b"): 4, ("b", "a"): 4})
        sheets = scene_of({"a": (sheet(1, 1), at(0, 0, 0)), "b": (sheet(1, 1), at(1.002, 0, 0))})
        found = widths(sheets)
        self.assertTrue(np.allclose(found["a", "b"], 2.0, atol=1e-3))
        self.assertEqual(widths(scene_of({"a": (sheet(1, 1), at(0, 0, 0)), "b": (sheet(1, 1), at(1, 0, 0))})), {})

    def test_panels_that_run_into_each_other_leave_none_however_their_tops_are_apart(self) -> None:
        row = {f"p{k}": (BOX([1.1, 0.1, 2]), at(k, 0.002 * (k % 2), 0)) for k in range(4)}
        self.assertEqual(widths(scene_of(row)), {})

    def test_mirrored_parts_have_their_front_where_others_have_it(self) -> None:
        over = {"crate": (BOX([1, 1, 1]), at(0, 0.503, 0))}
        sunk = {"crate": (BOX([1, 1, 1]), at(0, 0.497, 0))}
        floor = {"floor": (BOX([10, 0.2, 10]), at(0, -0.1, 0) @ np.diag([-1.0, 1, 1, 1]))}
        self.assertEqual(len(widths(scene_of({**floor, **over}))["crate", "floor"]), 4)
        self.assertEqual(widths(scene_of({**floor, **sunk})), {})

    def test_what_lies_within_a_third_piece_lets_no_light_through(self) -> None:
        ground = (sheet(9, 9), at(0, 0, 0, FLAT))
        let_in = (BOX([1, 0.2, 1]), at(0, 0.102, 0))
        slab = (BOX([3, 0.2, 3]), at(0, 0.1, 0))
        self.assertEqual(set(widths(scene_of({"ground": ground, "let in": let_in}))), {("let in", "ground")})
        self.assertEqual(widths(scene_of({"ground": ground, "let in": let_in, "slab": slab})), {})

    def test_a_tilted_part_leaks_where_it_is_off(self) -> None:
        tilt = standing(wall=(BOX([2, 1, 0.2]), at(0, 0.5019, 0, (0.002, [0, 0, 1]))))
        found = widths(tilt)["wall", "floor"]
        self.assertEqual(len(found), 2)
        self.assertTrue(np.allclose(found, 1.9 + 2 - 0.001, atol=5e-3))

    def test_pieces_of_one_mesh_are_told_once_for_all_instances(self) -> None:
        lump = trimesh.util.concatenate([BOX([1, 1, 0.1]), BOX([1, 1, 0.1]).apply_translation([1.003, 0, 0])])
        scene = scene_of({"one": (lump, at(0, 0, 0))})
        nodes = make_nodes([-1, -1], np.array([at(0, 0, 0), at(0, 5, 0)]), ["one", "two"], mesh=[0, 0])
        found = widths(scene.but(nodes=nodes))
        self.assertEqual({k: len(v) for k, v in found.items()}, {("one", "one"): 8})

    def test_units_and_limits(self) -> None:
        scene = standing(crate=(BOX([1, 1, 1]), at(0, 0.508, 0)))
        self.assertEqual(widths(scene), {})
        self.assertEqual(len(widths(scene, most_mm=10)["crate", "floor"]), 4)

    @settings(max_examples=30, deadline=None)
    @given(st.integers(0, 10_000))
    def test_the_closest_place_is_that_of_an_independent_library(self, seed: int) -> None:
        rng = np.random.default_rng(seed)
        corners, points = rng.normal(size=(60, 3, 3)), rng.normal(size=(60, 3)) * 2
        corners[:5, 2] = corners[:5, 1]  # lines
        corners[5:8] = corners[5:8, :1]  # points
        mine = np.linalg.norm(closest_on(points, corners) - points, axis=1)
        true = np.linalg.norm(trimesh.triangles.closest_point(corners[8:], points[8:]) - points[8:], axis=1)
        self.assertTrue(np.allclose(mine[8:], true, atol=1e-9))
        along = np.linspace(0, 1, 4001)[:, None]
        for k in range(5):
            line = corners[k, 0] + (corners[k, 1] - corners[k, 0]) * along
            self.assertAlmostEqual(mine[k], np.linalg.norm(line - points[k], axis=1).min(), places=3)
        self.assertTrue(np.allclose(mine[5:8], np.linalg.norm(corners[5:8, 0] - points[5:8], axis=1)))


class Closed(unittest.TestCase):
    def close(self, scene: Scene, **parameters: Any) -> tuple[Scene, list[Any]]:
        step = parse_step({"kind": "close_gaps", **parameters})
        out, changes = step.apply(scene, StepContext())
        self.assertEqual(widths(out), {})
        again, nothing = step.apply(out, StepContext())
        self.assertIs(again, out)
        self.assertEqual(nothing, [])
        return out, changes

    def test_the_smaller_part_reaches_down_and_the_rest_stays(self) -> None:
        scene = standing(crate=(BOX([1, 1, 1]), at(0, 0.503, 0)))
        out, changes = self.close(scene)
        box = out.part_bounds[1]
        self.assertTrue(np.allclose(box, [[-0.5, 0, -0.5], [0.5, 1.003, 0.5]], atol=1e-6))
        self.assertEqual(out.meshes[out.nodes.mesh[0]].id, scene.meshes[0].id)
        self.assertTrue(np.array_equal(out.nodes.world, scene.nodes.world))
        self.assertIn("4 vertices of 1 part", changes[0].text)

    def test_staggered_and_cornered_joints_close(self) -> None:
        wall = {
            "a": (BOX([2, 1, 0.2]), at(0, 0.502, 0)),
            "b": (BOX([2, 1.6, 0.2]), at(2.003, 0.802, 0)),
            "c": (BOX([0.2, 1, 2]), at(-1.1015, 0.503, 0.9)),
        }
        self.close(standing(**wall))

    def test_tiles_of_ground_that_lie_unevenly_close_at_once(self) -> None:
        """Up to four corners meet, each of which may go to another."""
        for seed in range(8):
            rng = np.random.default_rng(seed)
            scale = 10 ** rng.uniform(-4, -2.8)
            parts = {
                f"tile {i} {j}": (tile(10 * i, lambda x, y, j=j: hills(x, y + 10 * j), 4), at(*(np.array([0, 10 * j, 0]) + rng.normal(scale=scale, size=3))))
                for i in range(3) for j in range(3)
            }  # fmt: skip
            scene = scene_of(parts)
            self.assertTrue(widths(scene))
            self.close(scene)

    def test_instances_that_move_alike_stay_shared(self) -> None:
        scene = standing(crate=(BOX([1, 1, 1]), at(0, 0.503, 0)))
        where = np.array([at(0, -0.1, 0), at(0, 0.503, 0), at(3, 0.503, 0), at(-3, 0.5, 0)])
        nodes = make_nodes([-1] * 4, where, ["floor", "a", "b", "c"], mesh=[0, 1, 1, 1])
        out, _ = self.close(scene.but(nodes=nodes))
        self.assertEqual(len(out.meshes), 3)
        self.assertEqual(out.nodes.mesh[1], out.nodes.mesh[2])
        self.assertEqual(out.meshes[out.nodes.mesh[3]].id, scene.meshes[1].id)

    def test_within_a_mesh_every_instance_closes(self) -> None:
        lump = trimesh.util.concatenate([BOX([1, 1, 0.1]), BOX([1, 1, 0.1]).apply_translation([1.003, 0, 0])])
        scene = scene_of({"one": (lump, at(0, 0, 0))})
        nodes = make_nodes([-1, -1], np.array([at(0, 0, 0), at(0, 5, 0)]), ["one", "two"], mesh=[0, 0])
        out, _ = self.close(scene.but(nodes=nodes))
        self.assertEqual(len(out.meshes), 1)

    def test_what_a_step_lifted_is_no_gap_and_is_not_closed_again(self) -> None:
        """Its top was flush with another's: off that it leaves the floor by as much. The same gap by itself is one."""
        tall = {"tall": (BOX([2, 1, 1]), at(0, 0.5, 0))}
        flush = standing(**tall, beside=(BOX([2, 1, 0.6]), at(1.5, 0.5, 0)))
        step = parse_step({"kind": "mend_overlaps", "where": {"names": ["beside"]}})
        for turn in (None, {"kind": "match_units_axes"}):
            lifted, changes = step.apply(flush, StepContext(BUILT_IN[2]))
            self.assertEqual(len(changes), 1)
            if turn:  # other axes and centimetres
                lifted, _ = parse_step(turn).apply(lifted, StepContext(BUILT_IN[2]))
            self.assertFalse([f for f in survey(lifted, BUILT_IN[2]) if f.code in ("gaps.leak", "flicker.between")])
            self.assertIs(parse_step({"kind": "close_gaps"}).apply(lifted, StepContext(BUILT_IN[2]))[0], lifted)
        bare = lifted.but(extras={})
        self.assertEqual(["gaps.leak"], [f.code for f in survey(bare, BUILT_IN[2]) if f.code == "gaps.leak"])
        other = standing(**tall, beside=(BOX([2, 1, 0.6]), at(1.5, 0.5, 0)), bench=(BOX([1, 1, 1]), at(-3, 0.5031, 0)))
        lifted, _ = step.apply(other, StepContext(BUILT_IN[2]))
        (found,) = [f for f in survey(lifted, BUILT_IN[2]) if f.code == "gaps.leak"]
        self.assertEqual({lifted.nodes.names[i] for i in found.parts}, {"floor", "bench"})

    def test_the_survey_shows_both_sides_as_a_guess_and_its_mend_settles_it(self) -> None:
        scene = standing(crate=(BOX([1, 1, 1]), at(0, 0.503, 0)))
        found = [f for f in survey(scene, BUILT_IN[0]) if f.code == "gaps.leak"]
        self.assertEqual([sorted(scene.nodes.names[i] for i in f.parts) for f in found], [["crate", "floor"]])
        self.assertTrue(found[0].guess)
        self.assertAlmostEqual(found[0].value or 0, 3.0, places=2)
        out, _ = parse_step(found[0].mend).apply(scene, StepContext())
        self.assertFalse([f for f in survey(out, BUILT_IN[0]) if f.code == "gaps.leak"])


def pipe(cap: int, side: int, radius: float = 0.15) -> Any:
    """A closed cylinder, one metre high, whose caps follow its side in steps of their own; places that are the same are so
    bit by bit."""
    points, faces = [], []

    def ring(steps: int, height: float) -> int:
        begin = sum(map(len, points))
        angle = np.arange(steps) / steps * 2 * np.pi
        points.append(
            np.round(np.stack([radius * np.cos(angle), np.full(steps, height), radius * np.sin(angle)], 1), 6)
        )
        return begin

    low, high = ring(side, 0), ring(side, 1)
    for k in range(side):
        n = (k + 1) % side
        faces += [[low + k, high + k, low + n], [low + n, high + k, high + n]]
    for height, turned in ((0, True), (1, False)):
        b = ring(cap, height)
        faces += [[b, b + k, b + k + 1] if turned else [b, b + k + 1, b + k] for k in range(1, cap - 1)]
    return trimesh.Trimesh(np.concatenate(points), faces, process=False)


def strip(half_width: Any) -> Any:
    """A blade of grass, 40 cm long, with points at both ends."""
    x, w = np.linspace(0, 0.4, len(half_width)), np.asarray(half_width)
    bend = 0.1 * (x / 0.4) ** 2
    points = np.concatenate([np.stack([x, w, bend], 1), np.stack([x, -w, bend], 1)])
    n = len(x)
    faces = [f for k in range(n - 1) for f in ([k, n + k, k + 1], [k + 1, n + k, n + k + 1])]
    return trimesh.Trimesh(points, [f for f in faces if len(np.unique(points[f], axis=0)) == 3], process=False)


class Cracks(unittest.TestCase):
    """Within one piece."""

    def found(self, made: Any, matrix: Any | None = None) -> list[float]:
        return widths(scene_of({"one": (made, at(0, 0, 0) if matrix is None else matrix)})).get(("one", "one"), [])

    def test_a_corner_pulled_off_a_box_is_one_where_something_opens(self) -> None:
        """Off its plane it leaves its neighbours or goes in behind them; in its plane it opens on one side, and on the other
        it lies over what it met."""
        box = BOX([2, 3, 0.4])
        corners = np.concatenate([box.triangles.reshape(-1, 3), np.repeat(box.face_normals, 3, axis=0)], axis=1)
        sides, faces = np.unique(np.round(corners, 6), axis=0, return_inverse=True)
        points, normals = sides[:, :3], sides[:, 3:]
        for v in range(len(points)):
            for way in (*np.eye(3), *-np.eye(3)):
                moved = points.copy()
                moved[v] += 0.001 * way
                opens = bool(abs(normals[v] @ way) > 0.5 or way @ points[v] < 0)
                with self.subTest(v=v, way=way.tolist()):
                    told = self.found(trimesh.Trimesh(moved, faces.reshape(-1, 3), process=False))
                    np.testing.assert_allclose(told, [1.0] * opens, atol=1e-3)

    def test_the_width_is_that_of_the_world_and_goes_by_the_piece(self) -> None:
        box = BOX([2, 3, 0.4])
        points = box.triangles.reshape(-1, 3).copy()
        points[0] += box.face_normals[0] * 0.001
        made = trimesh.Trimesh(points, np.arange(len(points)).reshape(-1, 3), process=False)
        turned = at(400, 0, 7, (0.7, [1.0, 2, 3])) @ np.diag([3.0, 3, -3, 1])
        np.testing.assert_allclose(self.found(made, turned), [3.0], atol=1e-3)
        self.assertEqual(self.found(made, turned @ np.diag([2.0, 2, 2, 1])), [])  # 6 mm
        self.assertEqual(self.found(made, np.diag([0.09, 0.09, 0.09, 1])), [])  # 0.09 mm
        near = box.triangles.reshape(-1, 3).copy() * 0.02
        near[0] += box.face_normals[0] * 0.002  # of a piece of 72 mm
        self.assertEqual(self.found(trimesh.Trimesh(near, np.arange(len(near)).reshape(-1, 3), process=False)), [])

    def test_a_curve_in_other_steps_is_open_by_its_sagitta(self) -> None:
        for cap, side in ((24, 36), (24, 48), (30, 24), (48, 32)):
            with self.subTest(cap=cap, side=side):
                told = self.found(pipe(cap, side))
                few = min(cap, side)
                self.assertGreater(len(told), 0)
                sagitta = 0.15 * (1 - np.cos(np.pi / few)) * 1000
                self.assertLessEqual(max(told), sagitta + 1e-3)
                if max(cap, side) % few == 0:  # a step of the one ends in the middle of the other's
                    np.testing.assert_allclose(told, [sagitta] * len(told), atol=1e-3)
        self.assertEqual(self.found(pipe(24, 24)), [])

    def test_what_is_narrow_and_no_crack_stays_quiet(self) -> None:
        x = np.linspace(0, 1, 9)
        slot = trimesh.creation.extrude_polygon(
            trimesh.path.polygons.Polygon([(0, 0), (1, 0), (1, 0.5), (0, 0.5)], [[(0.3, 0.2), (0.6, 0.2), (0.6, 0.204), (0.3, 0.204)]]), 0.01
        )  # fmt: skip
        top = slot.faces[(slot.triangles[:, :, 2] > 0.009).all(axis=1)]
        quiet = {
            "a blade of grass": strip(0.0024 * np.sin(np.pi * x)),
            "a slot with ends of its width": trimesh.Trimesh(slot.vertices, top, process=False),
            "an open box": trimesh.Trimesh(*(lambda b: (b.vertices, b.faces[2:]))(BOX([1, 1, 1])), process=False),
            "a ball": trimesh.creation.icosphere(3),
            "a vertex on a long edge": trimesh.Trimesh(
                [[0, 0, 0], [2, 0, 0], [1, 1, 0], [0, 0, 0], [1, 0, 0], [2, 0, 0], [1, -1, 0]],
                [[0, 1, 2], [3, 6, 4], [4, 6, 5]], process=False,
            ),
        }  # fmt: skip
        for name, made in quiet.items():
            with self.subTest(name):
                self.assertEqual(self.found(made), [])

    def test_closing_welds_what_was_pulled_apart(self) -> None:
        rng = np.random.default_rng(11)
        for seed in range(12):
            made = trimesh.creation.icosphere(2)
            made.vertices += rng.normal(scale=0.02, size=made.vertices.shape)
            whole, faces, v = made.copy(), made.faces.copy(), int(rng.integers(0, len(made.vertices)))
            fan = np.flatnonzero((faces == v).any(axis=1))[: int(rng.integers(1, 3))]
            normal = made.vertex_normals[v]
            points = np.concatenate([made.vertices, [made.vertices[v] + normal * rng.uniform(0.0005, 0.004)]])
            faces[fan] = np.where(faces[fan] == v, len(points) - 1, faces[fan])
            with self.subTest(seed=seed):
                scene = scene_of({"one": (trimesh.Trimesh(points, faces, process=False), at(0, 0, 0))})
                self.assertTrue(widths(scene))
                out, _ = Closed.close(Closed(), scene)
                closed = trimesh.Trimesh(out.meshes[0].positions, out.meshes[0].indices, process=True)
                self.assertTrue(closed.is_watertight)
                self.assertAlmostEqual(closed.volume, whole.volume, delta=2e-3 * whole.volume)

    def test_curves_get_the_vertices_that_they_lack_and_the_rest_stays(self) -> None:
        for cap, side in ((24, 36), (24, 48), (30, 24), (48, 32)):
            with self.subTest(cap=cap, side=side):
                made = pipe(cap, side)
                scene = scene_of({"one": (made, at(0, 0, 0)), "other": (made, at(3, 0, 0))})
                scene = scene.but(nodes=make_nodes([-1, -1], scene.nodes.world, ["one", "other"], mesh=[0, 0]))
                out, changes = Closed.close(Closed(), scene)
                self.assertEqual(len(out.meshes), 1)
                mesh = out.meshes[0]
                more = mesh.triangles - len(made.faces)
                self.assertEqual("put in" in changes[0].text, more > 0)
                # all within the smaller of both rings' sagitta of the cylinder, ends where they were
                radius = np.linalg.norm(mesh.positions[:, [0, 2]], axis=1)
                lowest = 0.15 * np.cos(np.pi / min(cap, side))
                self.assertGreater(radius.min(), lowest - 1e-6)
                self.assertTrue(np.isin(np.round(mesh.positions[:, 1], 6), (0, 1)).all())
                volume = trimesh.Trimesh(mesh.positions, mesh.indices, process=False).volume
                prism = 0.5 * min(cap, side) * 0.15**2 * np.sin(2 * np.pi / min(cap, side))
                self.assertAlmostEqual(volume, prism, delta=0.02 * prism)

    def test_parts_that_share_it_are_all_told_and_mended_whatever_their_sizes(self) -> None:
        """Also where the first is too large for it to be one, and where the mend is for another than the first."""
        lump = trimesh.util.concatenate([BOX([1, 1, 0.1]), BOX([1, 1, 0.1]).apply_translation([1.003, 0, 0])])
        for made in (pipe(24, 36), lump):
            for sizes in ((1, 1, 1), (20, 1, 1), (1, 20, 1.5), (1.5, 1, -1)):
                places = np.array([at(40 * k, 0, 0, (k, [0, 1, 0])) @ np.diag([s, abs(s), abs(s), 1]) for k, s in enumerate(sizes)])  # fmt: skip
                scene = scene_of({"one": (made, at(0, 0, 0))})
                scene = scene.but(nodes=make_nodes([-1] * 3, places, ["one", "two", "three"], mesh=[0] * 3))
                with self.subTest(sizes=sizes, pieces=made is lump):
                    (found,) = [f for f in survey(scene, BUILT_IN[0]) if f.code == "gaps.leak"]
                    self.assertEqual(sorted(found.parts), [0, 1, 2])
                    out, _ = parse_step(found.mend).apply(scene, StepContext())
                    self.assertEqual(len(out.meshes), 1)
                    self.assertFalse([f for f in survey(out, BUILT_IN[0]) if f.code == "gaps.leak"])
                    one, _ = parse_step({"kind": "close_gaps", "where": {"names": ["three"]}}).apply(
                        scene, StepContext()
                    )
                    self.assertEqual(one.meshes[one.nodes.mesh[0]].id, scene.meshes[0].id)
                    np.testing.assert_allclose(one.meshes[one.nodes.mesh[2]].positions, out.meshes[0].positions, atol=1e-6)  # fmt: skip

    def test_the_survey_tells_it_as_a_crack_of_its_own(self) -> None:
        scene = scene_of({"post": (pipe(24, 36), at(0, 0, 0))})
        (found,) = [f for f in survey(scene, BUILT_IN[0]) if f.code == "gaps.leak"]
        self.assertIn("1 piece has a crack between edges of its own", found.text)
        self.assertIn("within “post”", found.text)
        self.assertTrue(found.places)
        out, _ = parse_step(found.mend).apply(scene, StepContext())
        self.assertFalse([f for f in survey(out, BUILT_IN[0]) if f.code == "gaps.leak"])
