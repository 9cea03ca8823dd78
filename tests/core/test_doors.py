"""Leaves taken out of their frames, and what is under picked points: known doors, in every way they come, and none."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from tests.core.test_sides import as_mesh, at
from tests.core.test_split import proven, same_soup
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.geometry.doors import door_of
from tidy_caravan.core.scene import GLTF, Material, Scene, make_nodes
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.steps import Change, StepContext, parse_step
from tidy_caravan.core.survey import survey

UP = np.array([0.0, 1.0, 0.0])


def block(low: Any, high: Any) -> Any:
    low, high = np.array(low, float), np.array(high, float)
    return trimesh.creation.box(high - low, transform=trimesh.transformations.translation_matrix((low + high) / 2))


def frame(width: float, height: float, bar: float = 0.08, ring: bool = False) -> list[Any]:
    """Jambs and lintel, as three blocks or as one piece."""
    if not ring:
        return [
            block([0, 0, 0], [bar, height, 0.1]),
            block([width - bar, 0, 0], [width, height, 0.1]),
            block([bar, height - bar, 0], [width - bar, height, 0.1]),
        ]
    outline = np.array(
        [[0, 0], [bar, 0], [bar, height - bar], [width - bar, height - bar], [width - bar, 0], [width, 0], [width, height], [0, height]]
    )  # fmt: skip
    import shapely

    return [trimesh.creation.extrude_polygon(shapely.Polygon(outline), 0.1)]


def leaf(x: float, width: float, height: float, handle: float | None) -> list[Any]:
    """A slab with its handle at a place along its width, None for none."""
    out = [block([x, 0.01, 0.03], [x + width, height, 0.07])]
    if handle is not None:
        out.append(block([x + handle, 1.0, 0.07], [x + handle + 0.03, 1.15, 0.12]))
    return out


def door(handle: float | None = 0.8, ring: bool = False) -> Any:
    return trimesh.util.concatenate([*frame(1.06, 2.2, ring=ring), *leaf(0.085, 0.89, 2.11, handle)])


def pair() -> Any:
    return trimesh.util.concatenate([*frame(2.0, 2.2), *leaf(0.085, 0.91, 2.11, 0.85), *leaf(1.0, 0.915, 2.11, 0.03)])


def scene_of(mesh: Any, places: list[F64]) -> Scene:
    nodes = make_nodes([-1] * len(places), np.array(places), [f"door_{k}" for k in range(len(places))], mesh=[0] * len(places))  # fmt: skip
    return Scene(GLTF, nodes, (replace(as_mesh(mesh, 0), name="door"),), (Material("oak"),))


def apply(scene: Scene, **more: Any) -> tuple[Scene, list[Change]]:
    return parse_step({"kind": "part_leaves", **more}).apply(scene, StepContext(BUILT_IN[0]))


class Shapes(unittest.TestCase):
    def test_doors_are_seen_with_their_leaves_and_hinges(self) -> None:
        for ring in (False, True):
            for handle, foot in ((0.8, 0.085), (0.05, 0.975)):
                found = door_of(as_mesh(door(handle, ring), 0), UP)
                assert found is not None
                self.assertEqual((len(found.boxes), found.sure, found.handle), (1, (True,), True))
                np.testing.assert_allclose(found.hinges[0], [foot, 0.01, 0.05], atol=1e-6)
        both = door_of(as_mesh(pair(), 0), UP)
        assert both is not None
        self.assertEqual(both.sure, (True, True))
        np.testing.assert_allclose(both.hinges[:, 0], [0.085, 1.915], atol=1e-6)

    def test_a_leaf_of_bars_and_a_pane_is_one(self) -> None:
        bars = [
            block([0.085, 0.01, 0.03], [0.2, 2.11, 0.07]), block([0.86, 0.01, 0.03], [0.975, 2.11, 0.07]),
            block([0.2, 0.01, 0.03], [0.86, 0.2, 0.07]), block([0.2, 2.0, 0.03], [0.86, 2.11, 0.07]),
            block([0.19, 0.19, 0.045], [0.87, 2.01, 0.055]), block([0.9, 1.0, 0.07], [0.93, 1.15, 0.12]),
        ]  # fmt: skip
        light = block([0.3, 2.13, 0.04], [0.7, 2.19, 0.06])  # above the leaf, part of what is fixed
        found = door_of(as_mesh(trimesh.util.concatenate([*frame(1.06, 2.3), *bars, light]), 0), UP)
        assert found is not None
        self.assertEqual(len(found.boxes), 1)
        self.assertEqual(int((found.label == 1).sum()), 12 * len(bars))
        np.testing.assert_allclose(found.hinges[0, 0], 0.085, atol=1e-6)

    def test_what_belongs_to_a_frame_and_to_a_leaf(self) -> None:
        """Doors as they are built: by what touches what, with the play that a leaf has."""

        def around(low: float, high: float, top: float, bar: float, near: float, far: float) -> list[Any]:
            return [
                block([low - bar, 0, near], [low, top, far]), block([high, 0, near], [high + bar, top, far]),
                block([low - bar, top, near], [high + bar, top + bar, far]),
            ]  # fmt: skip

        def stiled(low: float, high: float) -> list[Any]:
            return [
                block([low, 0.01, 0.03], [low + 0.1, 2.117, 0.07]), block([high - 0.1, 0.01, 0.03], [high, 2.117, 0.07]),
                block([low + 0.1, 0.01, 0.03], [high - 0.1, 0.2, 0.07]), block([low + 0.1, 2.0, 0.03], [high - 0.1, 2.117, 0.07]),
                block([low + 0.1, 0.2, 0.045], [high - 0.1, 2.0, 0.055]),
            ]  # fmt: skip

        bare = frame(1.06, 2.2)
        slab = [block([0.083, 0.01, 0.03], [0.977, 2.117, 0.07])]
        handle = [block([0.86, 1.0, 0.07], [0.93, 1.15, 0.12]), block([0.86, 1.0, -0.02], [0.93, 1.15, 0.03])]
        knuckles = [block([0.075, y, 0.025], [0.087, y + 0.1, 0.04]) for y in (0.2, 1.0, 1.8)]
        trims = [*around(0.08, 0.98, 2.12, 0.14, 0.1, 0.115), *around(0.08, 0.98, 2.12, 0.14, -0.015, 0)]
        stops = [block([0.08, 0, 0.07], [0.095, 2.12, 0.085]), block([0.965, 0, 0.07], [0.98, 2.12, 0.085]), block([0.095, 2.105, 0.07], [0.965, 2.12, 0.085])]  # fmt: skip
        light = [*around(1.16, 1.56, 2.1, 0.1, 0.02, 0.08), block([1.16, 0, 0.02], [1.56, 0.1, 0.08]), block([1.16, 0.1, 0.045], [1.56, 2.1, 0.055])]  # fmt: skip
        wall = [
            block([-2, 0, 0], [0, 2.8, 0.1]),
            block([1.06, 0, 0], [3, 2.8, 0.1]),
            block([0, 2.2, 0], [1.06, 2.8, 0.1]),
        ]
        doors: dict[str, tuple[list[Any], list[list[Any]]]] = {
            "a leaf": (bare, [[*slab, *handle]]),
            "with architraves": ([*bare, *trims], [[*slab, *handle]]),
            "with a threshold": ([*bare, block([0.08, 0, 0], [0.98, 0.009, 0.1])], [[*slab, *handle]]),
            "with stops": ([*bare, *stops], [[*slab, *handle]]),
            "with a plate below": (bare, [[*slab, *handle, block([0.1, 0.02, 0.07], [0.96, 0.25, 0.072])]]),
            "with hinges": ([*bare, *trims], [[*slab, *handle, *knuckles]]),
            "with hinges alone": (bare, [[*slab, *knuckles]]),
            "beside a light": ([*bare, *light], [[*slab, *handle]]),
            "of stiles and a panel": (bare, [[*stiled(0.083, 0.977), *handle]]),
            "two of stiles": ([*bare, *trims], [[*stiled(0.083, 0.526), block([0.46, 1, 0.07], [0.5, 1.1, 0.12])], [*stiled(0.534, 0.977)]]),
            "in a wall": ([*bare, *wall], [[*slab, *handle]]),
        }  # fmt: skip
        for name, (fixed, leaves) in doors.items():
            with self.subTest(name):
                shells = [*fixed, *(shell for one in leaves for shell in one)]
                wanted = np.repeat([0] * len(fixed) + [k + 1 for k, one in enumerate(leaves) for _ in one], [len(s.faces) for s in shells])  # fmt: skip
                found = door_of(as_mesh(trimesh.util.concatenate(shells), 0), UP)
                assert found is not None
                np.testing.assert_array_equal(found.label, wanted)
                self.assertTrue(found.handle)
                if len(leaves) == 1:
                    self.assertEqual(found.sure, (True,))
                    np.testing.assert_allclose(found.hinges[0, :2], [0.083, 0.01], atol=1e-6)

    def test_what_is_no_door_is_none(self) -> None:
        wall = block([0.085, 0.2, 0.0], [0.975, 1.9, 0.02])
        cases = {
            "a leaf by itself": trimesh.util.concatenate(leaf(0, 0.9, 2.1, 0.8)),
            "a frame by itself": trimesh.util.concatenate(frame(1, 2)),
            "an opening that is closed behind": trimesh.util.concatenate([*frame(1.06, 2.2), *leaf(0.085, 0.89, 2.11, 0.8), block([0, 0, -0.1], [1.06, 2.2, 0])]),
            "a window": trimesh.util.concatenate([*frame(1.06, 2.2), block([0, 0, 0], [1.06, 0.5, 0.1]), block([0.08, 0.5, 0.04], [0.98, 2.12, 0.06])]),
            "a bench": trimesh.util.concatenate([block([0, 0.4, 0], [2, 0.45, 0.5]), block([0, 0, 0], [0.1, 0.4, 0.5]), block([1.9, 0, 0], [2, 0.4, 0.5])]),
            "a block in an opening": trimesh.util.concatenate([*frame(1.06, 2.2), block([0.085, 0, 0], [0.975, 2.11, 0.6]), block([0.5, 1, 0.6], [0.55, 1.2, 0.7])]),
            "a ball": trimesh.creation.icosphere(2),
            "posts in a row": trimesh.util.concatenate([block([k, 0, 0], [k + 0.1, 2, 0.1]) for k in range(6)]),
            "a board between two walls": trimesh.util.concatenate([block([-3, 0, 0], [-1, 3, 0.2]), block([2, 0, 0], [4, 3, 0.2]), block([0, 0.02, 0.05], [0.9, 2.1, 0.1]), block([0.8, 1, 0.1], [0.85, 1.1, 0.15])]),
            "a picture on a wall": trimesh.util.concatenate([block([0, 0, 0], [4, 3, 0.2]), wall]),
        }  # fmt: skip
        for name, shape in cases.items():
            with self.subTest(name):
                self.assertIsNone(door_of(as_mesh(shape, 0), UP))

    @settings(max_examples=40, deadline=None)
    @given(st.integers(0, 23), st.sampled_from([0.0, 0.0, 0.3, 0.79, 1.4]), st.floats(0.01, 100), st.booleans())
    def test_however_it_is_turned_scaled_or_mirrored(self, turn: int, angle: float, scale: float, mirror: bool) -> None:
        shape = door()
        upright = Rotation.from_rotvec([0, angle, 0]).as_matrix()
        linear = Rotation.create_group("O").as_matrix()[turn] @ upright * scale
        if mirror:
            linear = linear * [-1, 1, 1]
        shape.apply_transform(trimesh.transformations.compose_matrix())
        vertices = shape.vertices @ linear.T
        faces = shape.faces[:, ::-1] if mirror else shape.faces
        found = door_of(as_mesh(trimesh.Trimesh(vertices, faces, process=False), 0), linear @ UP / scale)
        assert found is not None
        np.testing.assert_allclose(found.hinges[0] @ found.turn, linear @ [0.085, 0.01, 0.05], atol=1e-5 * scale)


class Taken(unittest.TestCase):
    def setUp(self) -> None:
        mirror = np.diag([-1.0, 1, 1, 1])
        self.scene = scene_of(door(), [at(0, 0, 0), at(3, 0, 0, (0.7, [0, 1, 0])), at(6, 0, 0) @ mirror])

    def test_copies_and_mirrored_ones_follow_and_nothing_moves(self) -> None:
        out, changes = apply(self.scene)
        self.assertTrue(same_soup(out, self.scene))
        self.assertEqual(len(out.nodes.parts), 6)
        self.assertEqual(len({out.meshes[m].id for m in out.nodes.mesh[out.nodes.parts]}), 2)
        leaves = [i for i in out.nodes.parts.tolist() if out.nodes.names[i].endswith("_leaf")]
        self.assertEqual(len(leaves), 3)
        for i, whole in zip(leaves, self.scene.nodes.world, strict=True):
            np.testing.assert_allclose(out.nodes.world[i, :3, 3], (whole @ [0.085, 0.01, 0.05, 1])[:3], atol=1e-6)
        self.assertEqual([c.count for c in changes], [3])
        again, more = apply(out)
        self.assertEqual((len(again.nodes), more), (len(out.nodes), []))

    def test_it_is_one_as_well_where_its_place_was_baked_into_the_vertices(self) -> None:
        place = at(7, 0.5, -3, (0.7, [0, 1, 0]))
        scene = scene_of(door().apply_transform(place), [np.eye(4)])
        found = {f.code: f for f in survey(scene, BUILT_IN[0])}["structure.leaf"]
        shown = np.reshape(found.places[0].lines, (-1, 3))
        leaf_box = (place[:3, :3] @ np.array([[0.085, 0.01, 0.03], [0.975, 2.11, 0.12]]).T).T + place[:3, 3]
        for corner in leaf_box:
            self.assertLess(np.abs(shown - corner).max(axis=1).min(), 1e-4)
        out, _ = parse_step(found.mend).apply(scene, StepContext(BUILT_IN[0]))
        self.assertTrue(same_soup(out, scene))
        i = out.nodes.names.index("door_0_leaf")
        np.testing.assert_allclose(out.nodes.world[i, :3, 3], (place @ [0.085, 0.01, 0.05, 1])[:3], atol=1e-5)

    def test_the_side_can_be_said_and_one_without_a_handle_is_a_guess(self) -> None:
        out, _ = apply(self.scene, hinge="high")
        i = out.nodes.names.index("door_0_leaf")
        np.testing.assert_allclose(out.nodes.world[i, 0, 3], 0.975, atol=1e-6)
        bare = scene_of(door(handle=None), [at(0, 0, 0)])
        same, none = apply(bare)
        self.assertEqual((len(same.nodes), none), (1, []))
        parted, changes = apply(bare, anySlab=True)
        self.assertEqual(len(parted.nodes.parts), 2)
        self.assertIn("a guess", changes[1].text)

    def test_the_check_finds_doors_and_keeps_quiet_after_the_step(self) -> None:
        found = {f.code: f for f in survey(self.scene, BUILT_IN[0])}["structure.leaf"]
        self.assertEqual((found.count, found.value, len(found.places)), (3, 3.0, 1))
        self.assertEqual(len(found.places[0].lines), 36)
        step = parse_step(found.mend)
        out, _ = step.apply(self.scene, StepContext(BUILT_IN[0]))
        self.assertNotIn("structure.leaf", [f.code for f in survey(out, BUILT_IN[0])])
        glazing = scene_of(door(handle=None), [at(0, 0, 0)])
        self.assertNotIn("structure.leaf", [f.code for f in survey(glazing, BUILT_IN[0])])

    def test_every_format_proves_it(self) -> None:
        for fmt in ("glb", "usdc", "dae", "obj"):
            ok, said, _ = proven(self.scene, [{"kind": "part_leaves"}], fmt)
            self.assertTrue(ok, (fmt, said))


class Picked(unittest.TestCase):
    def setUp(self) -> None:
        self.scene = scene_of(door(), [at(0, 0, 0), at(3, 0, 0)])

    def split(self, points: list[list[float]], **more: Any) -> tuple[Scene, list[Change]]:
        step = parse_step({"kind": "split_parts", "by": "picked", "points": points, **more})
        return step.apply(self.scene, StepContext(BUILT_IN[0]))

    def test_the_shells_under_the_points_become_one_piece_in_every_copy(self) -> None:
        # on the slab of the first door and on the handle of the second
        out, changes = self.split([[0.5, 1.5, 0.07], [3.9, 1.1, 0.12]])
        self.assertTrue(same_soup(out, self.scene))
        triangles = sorted(out.meshes[m].triangles for m in out.nodes.mesh[out.nodes.parts])
        self.assertEqual(triangles, [24, 24, 36, 36])
        self.assertEqual(len({out.meshes[m].id for m in out.nodes.mesh[out.nodes.parts]}), 2)
        self.assertEqual([c.problem for c in changes], [False])

    def test_a_flat_face_alone(self) -> None:
        out, _ = self.split([[0.5, 1.5, 0.07]], take="face")
        self.assertEqual(sorted(out.meshes[m].triangles for m in out.nodes.mesh[out.nodes.parts]), [2, 2, 58, 58])
        self.assertTrue(same_soup(out, self.scene))

    def test_a_point_beside_everything_is_told_and_takes_nothing(self) -> None:
        out, changes = self.split([[0.5, 1.5, 0.2]])
        self.assertIs(out, self.scene)
        self.assertTrue(changes[0].problem)
        self.assertIn("(0.5, 1.5, 0.2)", changes[0].text)
        out, changes = self.split([])
        self.assertIs(out, self.scene)
        self.assertEqual(changes, [])

    def test_every_format_proves_it(self) -> None:
        matched, _ = parse_step({"kind": "match_units_axes", "bakeScale": False}).apply(
            self.scene, StepContext(BUILT_IN[2])
        )
        mesh, world = matched.meshes[0], matched.nodes.world[1]
        corners = mesh.positions[mesh.indices[40]].astype(float)  # a triangle of the slab
        point = (world[:3, :3] @ corners.mean(axis=0) + world[:3, 3]) * matched.convention.metres_per_unit
        step = {"kind": "split_parts", "by": "picked", "points": [point.tolist()]}
        for fmt in ("glb", "usdc", "obj"):
            ok, said, result = proven(self.scene, [step], fmt)
            self.assertTrue(ok, (fmt, said))
            self.assertEqual(
                sorted(result.meshes[m].triangles for m in result.nodes.mesh[result.nodes.parts]), [12, 12, 48, 48]
            )


if __name__ == "__main__":
    unittest.main()
