"""Transforms and pivots over random trees: the world stays put; and pivots are where they were asked for."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.trees import as_mesh, furthest_apart, moving, random_tree
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.geometry.animation import posed
from tidy_caravan.core.scene import GLTF, Channel, Clip, Scene, make_nodes
from tidy_caravan.core.space.site import taken_off
from tidy_caravan.core.space.transforms import compose, polar, split_trs
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.core.survey import survey

BOX = trimesh.creation.box
STEPS = [
    *({"kind": "place_pivots", "onlyFar": False, "at": at} for at in ("base", "centre", "corner", "hinge", "group", "world")),
    {"kind": "place_pivots", "onlyFar": False, "at": "corner", "x": "high", "y": "middle"},
    {"kind": "place_pivots", "onlyFar": False, "at": "point", "pointX": 3.0, "pointY": -2.0},
    {"kind": "bake_scale"},
    {"kind": "bake_scale", "mirrors": "twins"},
    {"kind": "bake_rotation"},
]  # fmt: skip


def apply(scene: Scene, **step: Any) -> tuple[Scene, list[Any]]:
    return parse_step(step).apply(scene, StepContext())


def one(made: Any, matrix: Any | None = None, name: str = "part") -> Scene:
    return Scene(
        GLTF, make_nodes([-1], np.eye(4)[None] if matrix is None else matrix[None], [name], mesh=[0]), (as_mesh(made),)
    )


class Property(unittest.TestCase):
    @settings(max_examples=40, deadline=None)
    @given(st.integers(0, 100_000), st.sampled_from(STEPS))
    def test_world_vertices_stay_within_a_millionth_of_the_scene(self, seed: int, step: dict[str, Any]) -> None:
        scene = random_tree(seed)
        out, _ = apply(scene, **step)
        self.assertLess(furthest_apart(scene, out), 1e-6, step)
        again, changes = apply(out, **step)
        self.assertLess(furthest_apart(out, again), 1e-6)
        told = [c.text for c in changes if " moved to " in c.text or " baked " in c.text]
        self.assertEqual(told, [], "a second time there is nothing left to do")

    @settings(max_examples=25, deadline=None)
    @given(st.integers(0, 100_000), st.sampled_from(STEPS))
    def test_clips_move_everything_as_before(self, seed: int, step: dict[str, Any]) -> None:
        scene = moving(random_tree(seed, shear=False), seed)
        out, _ = apply(scene, **step)
        self.assertLess(furthest_apart(scene, out), 1e-6, "at rest")
        for time in (0.0, 0.4, 1.7, 5.0):
            self.assertLess(furthest_apart(posed(scene, time), posed(out, time)), 1e-6, (step, time))
        for i, (t, r, s) in out.nodes.rest.items():
            whole = compose(np.array([t]), np.array([r]), np.array([s]))[0]
            np.testing.assert_allclose(whole, out.nodes.local[i], atol=1e-6, err_msg="what is written of it")

    @settings(max_examples=25, deadline=None)
    @given(st.integers(0, 100_000))
    def test_units_and_axes_keep_shape_and_place(self, seed: int) -> None:
        scene = random_tree(seed)
        for destination in BUILT_IN:
            out, _ = parse_step({"kind": "match_units_axes"}).apply(scene, StepContext(destination))
            back, _ = parse_step({"kind": "match_units_axes"}).apply(out, StepContext(BUILT_IN[0]))
            self.assertLess(furthest_apart(scene, back), 1e-6)
            _, _, scale, sheared = split_trs(out.nodes.world[out.nodes.parts])
            self.assertFalse(sheared.any())
            if not destination.negative_scale:
                self.assertGreater(scale.min(), 0)


class Held(unittest.TestCase):
    """What clips turn about its pivot keeps it, and nobody is told to move it."""

    def scene(self, made: Any, name: str, path: str) -> Scene:
        scene = one(made, name=name)
        values = (
            np.array([[0, 0, 0], [0, 1, 0]], np.float32)
            if path != "rotation"
            else np.array([[0, 0, 0, 1], [0, 1, 0, 0]], np.float32)
        )
        clip = Clip((Channel(0, path, np.array([0, 1], np.float32), values),), "swing")  # type: ignore[arg-type]
        return scene.but(clips=(clip,))

    def test_a_far_pivot_of_what_a_clip_moves_is_meant(self) -> None:
        far = BOX([1, 1, 1]).apply_translation([9, 0, 0])
        self.assertIn("pivot.far", {f.code for f in survey(one(far), BUILT_IN[0])})
        for path in ("rotation", "translation"):
            scene = self.scene(far, "boom", path)
            self.assertNotIn("pivot.far", {f.code for f in survey(scene, BUILT_IN[0])})
            out, changes = apply(scene, kind="place_pivots")
            self.assertIs(out, scene)
            self.assertEqual(
                [c.text for c in changes], ["1 part stays, since a clip or bones move it about where the pivot is"]
            )

    def test_a_leaf_that_a_clip_swings_wrongly_is_told_and_not_mended(self) -> None:
        still, swung = one(leaf(0.35), name="door_leaf"), self.scene(leaf(0.35), "door_leaf", "rotation")
        found = [{f.code: f for f in survey(s, BUILT_IN[0])}["pivot.hinge"] for s in (still, swung)]
        self.assertEqual([f.parts for f in found], [[0], [0]])
        self.assertIsNotNone(found[0].mend)
        self.assertIsNone(found[1].mend)
        self.assertIn("swung so by a clip", found[1].text)


class Rotation(unittest.TestCase):
    def test_own_axes_become_those_of_the_world(self) -> None:
        turn = trimesh.transformations.rotation_matrix(0.7, [1, 2, 3], [1, 0, 2])
        out, changes = apply(one(BOX([1, 2, 3]), turn), kind="bake_rotation")
        self.assertTrue(np.allclose(out.nodes.world[0, :3, :3], np.eye(3), atol=1e-12))
        self.assertEqual(changes[0].count, 1)

    def test_instances_turned_alike_stay_shared_and_others_are_left_and_told(self) -> None:
        turn = trimesh.transformations.rotation_matrix(0.7, [1, 2, 3])
        scene = one(BOX([1, 2, 3]))
        alike = make_nodes([-1] * 3, np.array([turn, turn, turn]), ["a", "b", "c"], mesh=[0, 0, 0])
        out, _ = apply(scene.but(nodes=alike), kind="bake_rotation")
        self.assertEqual(len(out.meshes), 1)
        self.assertTrue(np.allclose(polar(out.nodes.world[:, :3, :3])[0], np.eye(3)))
        mixed = make_nodes([-1] * 2, np.array([turn, np.eye(4)]), ["a", "b"], mesh=[0, 0])
        out, changes = apply(scene.but(nodes=mixed), kind="bake_rotation")
        self.assertEqual([m.id for m in out.meshes], [scene.meshes[0].id])
        self.assertIn("1 part keep their rotation", changes[0].text)


class Presets(unittest.TestCase):
    def box(self) -> Scene:
        made = BOX([2, 4, 6])
        made.apply_translation([10, 20, 30])
        return one(made, trimesh.transformations.translation_matrix([1, 1, 1]))

    def pivot(self, **how: Any) -> Any:
        out, _ = apply(self.box(), kind="place_pivots", onlyFar=False, **how)
        return out.nodes.world[0, :3, 3].round(5).tolist()

    def test_each_preset_is_where_its_name_says(self) -> None:
        self.assertEqual(self.pivot(at="centre"), [11, 21, 31])
        self.assertEqual(self.pivot(at="base"), [11, 19, 31])
        self.assertEqual(self.pivot(at="corner"), [10, 19, 28])
        self.assertEqual(self.pivot(at="corner", x="high", y="middle", z="high"), [12, 21, 34])
        self.assertEqual(self.pivot(at="world"), [0, 0, 0])
        self.assertEqual(self.pivot(at="point", pointX=1.5, pointY=2.5, pointZ=-3), [1.5, 2.5, -3])

    def test_a_pivot_so_far_off_that_vertices_would_lose_their_places_is_none(self) -> None:
        scene = self.box()
        out, changes = apply(scene, kind="place_pivots", onlyFar=False, at="point", pointZ=-9e7)
        self.assertIs(out.meshes[0], scene.meshes[0])
        self.assertIn("would lose more", changes[0].text)
        site = scene.but(
            nodes=make_nodes([-1], trimesh.transformations.translation_matrix([9e5, 0, 0])[None], ["shed"], mesh=[0])
        )
        far, _ = apply(
            site, kind="place_pivots", onlyFar=False, at="world"
        )  # no worse than the place that it has there
        self.assertTrue(np.allclose(far.nodes.world[0, :3, 3], 0))

    def test_what_is_far_is_far_in_the_world_for_the_mend_as_for_the_check(self) -> None:
        plank = BOX((1, 10, 1), transform=trimesh.transformations.translation_matrix([5, 0, 0]))
        for stretch, far in (([10, 0.1, 1], True), ([0.1, 10, 1], False)):
            scene = one(plank, np.diag([*stretch, 1.0]))
            found = [f for f in survey(scene, BUILT_IN[0]) if f.code == "pivot.far"]
            self.assertEqual(bool(found), far)
            out, changes = apply(scene, kind="place_pivots")
            self.assertEqual(bool(changes), far)
            self.assertNotIn("pivot.far", {f.code for f in survey(out, BUILT_IN[0])})

    def test_the_group_is_the_node_above(self) -> None:
        group = trimesh.transformations.rotation_matrix(0.5, [0, 1, 0], [4, 5, 6])
        group[:3, 3] = 4, 5, 6
        scene = self.box()
        nodes = make_nodes([-1, 0], np.array([group, scene.nodes.local[0]]), ["group", "part"], mesh=[-1, 0])
        out, _ = apply(scene.but(nodes=nodes), kind="place_pivots", onlyFar=False, at="group")
        self.assertTrue(np.allclose(out.nodes.world[1, :3, 3], [4, 5, 6], atol=1e-5))

    def test_instances_that_would_want_different_places_are_left_and_told(self) -> None:
        scene = self.box()
        places = np.array([trimesh.transformations.translation_matrix([k, 0, 0]) for k in range(3)])
        row = scene.but(nodes=make_nodes([-1] * 3, places, list("abc"), mesh=[0, 0, 0]))
        out, changes = apply(row, kind="place_pivots", onlyFar=False, at="world")
        self.assertTrue(np.array_equal(out.nodes.world, row.nodes.world))
        self.assertIn("3 parts stay: they share a mesh", changes[0].text)
        out, _ = apply(row, kind="place_pivots", onlyFar=False, at="corner")
        self.assertEqual(len(out.meshes), 1)


def leaf(handle_at: float | None, upright: int = 1) -> Any:
    """A leaf 0.9 wide and 2.1 high, pivot in its middle; a handle stands out at that place across it."""
    parts = [BOX([0.9, 2.1, 0.04])]
    if handle_at is not None:
        parts += [BOX([0.12, 0.03, 0.03]).apply_translation([handle_at, 0, z]) for z in (0.05, -0.05)]
    made = trimesh.util.concatenate(parts)
    if upright == 2:
        made.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, [1, 0, 0]))
    return made


class Hinge(unittest.TestCase):
    def test_it_is_the_edge_away_from_the_handle(self) -> None:
        for at, expected in ((0.35, -0.45), (-0.35, 0.45)):
            out, changes = apply(one(leaf(at)), kind="place_pivots", at="hinge", onlyFar=False)
            self.assertTrue(np.allclose(out.nodes.world[0, :3, 3], [expected, -1.05, 0], atol=1e-5))
            self.assertEqual(len(changes), 1)

    def test_it_is_found_where_the_place_was_baked_into_the_vertices(self) -> None:
        """As a flattened export leaves it: turned by any angle, far from the pivot."""
        for at, expected in ((0.35, -0.45), (-0.35, 0.45)):
            for angle in (0.4, 1.2, 2.6, -2.0):
                place = trimesh.transformations.rotation_matrix(angle, [0, 1, 0])
                place[:3, 3] = 4, 1.05, -3
                scene = one(leaf(at).apply_transform(place), name="door_leaf_3")
                mend = {f.code: f for f in survey(scene, BUILT_IN[0])}["pivot.hinge"].mend
                out, _ = parse_step(mend).apply(scene, StepContext())
                hinge = place @ [expected, -1.05, 0, 1]
                np.testing.assert_allclose(out.nodes.world[0, :3, 3], hinge[:3], atol=1e-5)
                self.assertNotIn("pivot.hinge", {f.code for f in survey(out, BUILT_IN[0])})

    def test_knuckles_say_which_edge_it_is_where_no_handle_does(self) -> None:
        """One at the height of a handle is none."""
        for edge in (-0.45, 0.45):
            for heights in ((-0.8, 0.0, 0.8), (-0.8, 0.8)):
                for turn in (0.0, 1.1):
                    knuckles = [
                        BOX([0.014, 0.1, 0.012], transform=trimesh.transformations.translation_matrix([edge, y, 0.02]))
                        for y in heights
                    ]
                    place = trimesh.transformations.rotation_matrix(turn, [0, 1, 0])
                    made = trimesh.util.concatenate([leaf(None), *knuckles]).apply_transform(place)
                    out, changes = apply(one(made), kind="place_pivots", at="hinge", onlyFar=False)
                    with self.subTest(edge=edge, heights=heights, turn=turn):
                        self.assertEqual(len(changes), 1)
                        np.testing.assert_allclose(out.nodes.world[0, :3, 3] @ place[:3, 0], edge, atol=0.008)

    def test_without_a_handle_it_is_said_that_the_edge_is_a_guess(self) -> None:
        out, changes = apply(one(leaf(None)), kind="place_pivots", at="hinge", onlyFar=False)
        self.assertAlmostEqual(abs(out.nodes.world[0, 0, 3]), 0.45, places=5)
        self.assertIn("nothing in their shape tells", changes[1].text)
        out, _ = apply(one(leaf(None)), kind="place_pivots", at="hinge", onlyFar=False, edge="high")
        self.assertAlmostEqual(out.nodes.world[0, 0, 3], 0.45, places=5)

    def test_what_is_no_leaf_stays(self) -> None:
        scene = one(BOX([1, 1, 1]))
        out, changes = apply(scene, kind="place_pivots", at="hinge", onlyFar=False)
        self.assertTrue(np.array_equal(out.nodes.world, scene.nodes.world))
        self.assertIn("no leaves", changes[0].text)

    def test_the_survey_names_leaves_off_their_hinge_and_its_mend_settles_it(self) -> None:
        scene = one(leaf(0.35), name="door_leaf_3")
        found = {f.code: f for f in survey(scene, BUILT_IN[0])}
        self.assertAlmostEqual(found["pivot.hinge"].value or 0, 0.45, places=4)
        out, _ = parse_step(found["pivot.hinge"].mend).apply(scene, StepContext())
        self.assertNotIn("pivot.hinge", {f.code for f in survey(out, BUILT_IN[0])})
        for quiet in (one(leaf(0.35), name="door_frame_3"), one(BOX([1, 2, 1]), name="leaf")):
            self.assertNotIn("pivot.hinge", {f.code for f in survey(quiet, BUILT_IN[0])})
        # hung where it belongs; by the other edge it would turn about its handle, unless there is none
        for at, x, off in ((0.35, 0.45, None), (0.35, -0.45, 0.9), (None, 0.45, None), (None, -0.45, None)):
            hung = one(leaf(at).apply_translation([x, 0, 0]), name="leaf")
            found = {f.code: f.value for f in survey(hung, BUILT_IN[0])}
            self.assertAlmostEqual(found.get("pivot.hinge", 0.0) or 0.0, off or 0.0, places=4)

    def test_doors_by_name_are_leaves_where_they_are_plates_that_turn(self) -> None:
        jambs = [BOX([0.1, 2.1, 0.1]).apply_translation([x, 0, 0]) for x in (-0.55, 0.55)]
        frame = trimesh.util.concatenate([*jambs, BOX([1.2, 0.1, 0.1]).apply_translation([0, 1.1, 0])])
        whole = trimesh.util.concatenate([frame, leaf(0.35)])
        barred = trimesh.util.concatenate(
            [BOX([0.9, 0.3, 0.04]).apply_translation([0, y, 0]) for y in (-0.9, 0.9)]
            + [BOX([0.15, 1.5, 0.04]).apply_translation([x, 0, 0]) for x in (-0.375, 0.375)]
        )
        for name in ("Door_01", "SM_SwingDoor", "Tür 3", "porte.002", "DoorPanel12"):
            for shape in (leaf(0.35), leaf(None), barred):
                self.assertIn("pivot.hinge", {f.code for f in survey(one(shape, name=name), BUILT_IN[0])}, name)
        quiet = [("Door_01", frame), ("Door_01", whole), ("door_wide", BOX([3, 2, 0.1]))]
        quiet += [
            (n, leaf(0.35))
            for n in ("sliding door 2", "door_frame", "DoorHandle", "indoor", "Türrahmen", "roller_door")
        ]
        for name, shape in quiet:
            self.assertNotIn("pivot.hinge", {f.code for f in survey(one(shape, name=name), BUILT_IN[0])}, name)

    def test_closers_mouldings_and_hinges_do_not_pass_for_the_handle(self) -> None:
        for side in (-1, 1):
            handle = leaf(0.35 * side)
            closer = BOX([0.25, 0.06, 0.09]).apply_translation([-0.25 * side, 0.98, 0.06])
            moulded = BOX([0.5, 0.7, 0.05]).apply_translation([-0.1 * side, -0.5, 0])
            barrels = [BOX([0.03, 0.12, 0.07]).apply_translation([-0.44 * side, y, 0]) for y in (-0.8, 0, 0.8)]
            made = trimesh.util.concatenate([handle, closer, moulded, *barrels])
            out, changes = apply(one(made), kind="place_pivots", at="hinge", onlyFar=False)
            self.assertAlmostEqual(out.nodes.world[0, 0, 3], float(made.bounds[0 if side > 0 else 1, 0]), places=5)
            self.assertEqual(len(changes), 1)


class Together(unittest.TestCase):
    def row(self, flattened: bool, parts: int = 12) -> Scene:
        meshes, places = [], []
        for k in range(parts):
            place = trimesh.transformations.translation_matrix([2.0 * k - parts, 0, 0])
            made = BOX([1, 1, 1 + 0.1 * k])
            meshes.append(as_mesh(made.apply_transform(place) if flattened else made))
            places.append(np.eye(4) if flattened else place)
        names = [f"post_{k}" for k in range(parts)]
        return Scene(GLTF, make_nodes([-1] * parts, np.array(places), names, mesh=np.arange(parts)), tuple(meshes))

    def test_a_flattened_row_is_named_in_whole_and_mended_in_whole(self) -> None:
        scene = self.row(True)
        found = {f.code: f for f in survey(scene, BUILT_IN[0])}
        named = (
            set(found["pivot.far"].parts) | set(found["pivot.together"].parts) if "pivot.together" in found else set()
        )
        self.assertTrue(named or "pivot.far" in found)
        self.assertFalse({f.code for f in survey(self.row(False), BUILT_IN[0])} & {"pivot.far", "pivot.together"})
        near = self.row(True, 40)
        close = {f.code: f for f in survey(near, BUILT_IN[0])}
        self.assertIn("pivot.far", close)


class Origin(unittest.TestCase):
    def test_the_rounding_is_named_in_millimetres_and_the_offset_kept(self) -> None:
        scene = one(BOX([4, 4, 4]), trimesh.transformations.translation_matrix([3000.0, 0, -4000.0]))
        found = {f.code: f for f in survey(scene, BUILT_IN[0])}["origin.far"]
        self.assertAlmostEqual(found.value or 0, 5000 * 2.0**-24 * 1000, delta=0.001)
        out, _ = parse_step(found.mend).apply(scene, StepContext())
        self.assertLess(np.abs(out.part_bounds).max(), 3)
        self.assertTrue(np.allclose(taken_off(out), [3000, 4000, 0]))
        self.assertNotIn("origin.far", {f.code for f in survey(out, BUILT_IN[0])})
        back, _ = apply(out, kind="site_place")
        self.assertTrue(np.allclose(back.part_bounds, scene.part_bounds))
        for quiet in (
            one(BOX([4, 4, 4]), trimesh.transformations.translation_matrix([900.0, 0, 0])),
            one(BOX([6000, 4, 6000])),
        ):
            self.assertNotIn("origin.far", {f.code for f in survey(quiet, BUILT_IN[0])})
