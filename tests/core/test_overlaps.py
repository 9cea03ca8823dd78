"""Surfaces that lie on each other: areas against closed forms, quiet twins, and both ways of mending."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from shapely.geometry import Polygon

from tests.core.test_sides import at, scene_of, sheet
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.geometry.animation import posed
from tidy_caravan.core.geometry.coplanar import Flat, overlapping
from tidy_caravan.core.proposal import as_route, propose
from tidy_caravan.core.route import Route, run
from tidy_caravan.core.scene import Channel, Clip, Material, Scene, make_nodes
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.core.surroundings.flicker import Flicker, between, within
from tidy_caravan.core.survey import survey
from tidy_caravan.core.work.heavy import Workshop

BOX = trimesh.creation.box


def shared(scene: Scene) -> dict[tuple[str, str], float]:
    """Area in m² by pair of names, the larger first."""
    found = between(scene, Workshop(), lambda done, total: None)
    assert isinstance(found, Flicker), found
    out: dict[tuple[str, str], float] = {}
    for a, b, area in zip(found.first.tolist(), found.second.tolist(), found.area.tolist(), strict=True):
        pair = scene.nodes.names[a], scene.nodes.names[b]
        out[pair] = out.get(pair, 0.0) + area
    return out


def flicker(scene: Scene) -> dict[str, Any]:
    return {f.code: f for f in survey(scene, BUILT_IN[0]) if f.code.startswith("flicker")}


def landing(**more: tuple[Any, Any]) -> Scene:
    """A floor with a kiosk on it, and what else is given."""
    parts = {"floor": (BOX([10, 0.2, 10]), at(0, -0.1, 0)), "kiosk": (BOX([1, 1, 1]), at(0, 0.5, 0)), **more}
    return scene_of(parts)


class Between(unittest.TestCase):
    def test_standing_touching_and_crossing_is_no_overlap(self) -> None:
        scene = landing(
            beside=(BOX([1, 0.7, 0.6]), at(1, 0.35, 0)),
            through=(BOX([0.3, 3, 0.3]), at(0, 0.4, 0)),
            clear=(sheet(0.2, 0.2), at(0, 0.5, 0.503)),
            turned=(sheet(1, 1), at(0.2, 0.5, 0.5004, (np.radians(0.5), [0, 1, 0]))),
        )
        self.assertEqual(shared(scene), {})
        self.assertEqual(flicker(scene), {})

    def test_areas_are_those_of_the_closed_form(self) -> None:
        scene = landing(
            flush=(BOX([1, 0.3, 1]), at(3, -0.15, 3)),  # its top in the floor's top: 1 m², its underside below
            label=(sheet(0.5, 0.4), at(0.4, 0.5, 0.5005)),  # half a millimetre off, 0.35 m of its width on the kiosk
        )
        found = shared(scene)
        self.assertEqual(set(found), {("floor", "flush"), ("kiosk", "label")})
        self.assertAlmostEqual(found["floor", "flush"], 1.0, places=6)
        self.assertAlmostEqual(found["kiosk", "label"], 0.35 * 0.4, places=6)
        finding = flicker(scene)["flicker.between"]
        self.assertAlmostEqual(finding.value, 1.14, places=5)
        self.assertEqual(sorted(scene.nodes.names[i] for i in finding.parts), ["floor", "flush", "kiosk", "label"])

    def test_turned_far_off_mirrored_and_in_other_units_they_are_the_same(self) -> None:
        scene = landing(label=(sheet(0.5, 0.4), at(0.4, 0.5, 0.5005)))
        move = trimesh.transformations.random_rotation_matrix(np.random.default_rng(4).random(3))
        move[:3, 3] = 3000, -2000, 500
        for linear in (np.eye(4), np.diag([-1.0, 1, 1, 1])):
            moved = replace(scene.nodes, local=move @ linear @ scene.nodes.local)
            self.assertAlmostEqual(shared(scene.but(nodes=moved))["kiosk", "label"], 0.14, places=4)
        centimetres = replace(scene.nodes, local=np.diag([100.0, 100, 100, 1]) @ scene.nodes.local)
        scaled = scene.but(nodes=centimetres, convention=replace(scene.convention, metres_per_unit=0.01))
        self.assertAlmostEqual(shared(scaled)["kiosk", "label"], 0.14, places=6)
        # twice as large, the gap is a millimetre and no overlap any more
        twice = scene.but(nodes=replace(scene.nodes, local=np.diag([2.1, 2.1, 2.1, 1]) @ scene.nodes.local))
        self.assertNotIn(("kiosk", "label"), shared(twice))

    def test_a_two_sided_solid_is_seen_from_outside_alone(self) -> None:
        """Exporters mark all materials two-sided: what stands on a floor does not flicker for that."""
        here, there = BOX([1, 1, 1]), BOX([1, 1, 1])
        there.invert()
        lid = trimesh.Trimesh(
            BOX([1, 1, 1]).vertices, [f for f, n in zip(BOX().faces, BOX().face_normals, strict=True) if n[1] < 0.5]
        )
        for solid, mode, area in (
            (here, "OPAQUE", 0.0), (here, "BLEND", 1.0), (there, "OPAQUE", 1.0), (lid, "OPAQUE", 1.0),
        ):  # fmt: skip
            parts = {"floor": (BOX([10, 0.2, 10]), at(0, -0.1, 0)), "kiosk": (solid, at(0, 0.5, 0))}
            scene = scene_of(parts, materials=(Material(double_sided=True, alpha_mode=mode),))  # type: ignore[arg-type]
            scene = scene.but(meshes=tuple(replace(m, material=np.zeros(m.triangles, np.int32)) for m in scene.meshes))
            self.assertAlmostEqual(sum(shared(scene).values()), area, places=5, msg=f"{mode} {area}")
        # both in one mesh, and far from its origin
        both = trimesh.util.concatenate([BOX([10, 0.2, 10], at(0, -0.1, 0)), BOX([1, 1, 1], at(0, 0.5, 0))])
        both.apply_translation([4000, 0, 0])
        one = scene_of({"both": (both, at(0, 0, 0))}, materials=(Material(double_sided=True),))
        one = one.but(meshes=tuple(replace(m, material=np.zeros(m.triangles, np.int32)) for m in one.meshes))
        self.assertEqual(within(one, Workshop(), lambda done, total: None, np.ones(1, np.bool_)), ({}, {}))

    def test_back_to_back_counts_only_where_the_later_or_both_show_their_backs(self) -> None:
        parts = {"one": (sheet(1, 1), at(0, 0, 0)), "other": (sheet(1, 1), at(0.5, 0, 0, (np.pi, [0, 1, 0])))}
        scene = scene_of(parts, materials=(Material(double_sided=True), Material()))
        for slots, expected in (((0, 0), 0.5), ((0, 1), None), ((1, 0), 0.5), ((1, 1), None)):
            meshes = tuple(
                replace(m, material=np.full(2, k, np.int32)) for m, k in zip(scene.meshes, slots, strict=True)
            )
            area = shared(scene.but(meshes=meshes))
            self.assertEqual(len(area), 0 if expected is None else 1)
            if expected is not None:
                self.assertAlmostEqual(next(iter(area.values())), expected, places=6)

    def test_a_poster_that_shows_its_back_is_lifted_to_where_it_is_seen(self) -> None:
        parts = {
            "wall": (BOX([4, 3, 0.2]), at(0, 1.5, -0.1)),
            "poster": (sheet(1, 1), at(0, 1.5, 0, (np.pi, [0, 1, 0]))),
        }
        scene = scene_of(parts, materials=(Material(), Material(double_sided=True)))
        slots = (0, 1)
        meshes = tuple(
            replace(m, material=np.full(m.triangles, k, np.int32)) for m, k in zip(scene.meshes, slots, strict=True)
        )
        scene = scene.but(meshes=meshes)
        self.assertAlmostEqual(shared(scene)["wall", "poster"], 1.0, places=5)
        # a solid that stands on a sheet would show it from under the floor alone
        deck = {"deck": (sheet(8, 8), at(0, 0, 0, (-np.pi / 2, [1, 0, 0]))), "crate": (BOX([1, 1, 1]), at(0, 0.5, 0))}
        stands = scene_of(deck, materials=scene.materials)
        one = tuple(replace(m, material=np.full(m.triangles, 1 - k, np.int32)) for k, m in enumerate(stands.meshes))
        self.assertEqual(shared(stands.but(meshes=one)), {})
        after, _ = parse_step({"kind": "mend_overlaps", "how": "lift", "offsetMm": 2}).apply(
            scene, StepContext(BUILT_IN[0])
        )
        self.assertEqual(shared(after), {})
        poster = after.part_bounds[[after.nodes.names[i] for i in after.nodes.parts].index("poster")]
        self.assertAlmostEqual(float(poster[:, 2].mean()), 0.002, places=6)

    def test_small_things_are_judged_by_their_own_size(self) -> None:
        # a stack of two foils a tenth of a millimetre apart, on things of four millimetres
        far = {"one": (sheet(0.004, 0.004), at(0, 0, 0)), "other": (sheet(0.003, 0.003), at(0, 0, 1.5e-4))}
        self.assertEqual(shared(scene_of(far)), {})
        near = {**far, "other": (sheet(0.003, 0.003), at(0, 0, 2e-5))}
        self.assertAlmostEqual(shared(scene_of(near))["one", "other"] * 1e6, 9.0, places=3)

    @settings(max_examples=25, deadline=None)
    @given(st.integers(0, 10_000))
    def test_random_flat_triangles_share_what_their_polygons_share(self, seed: int) -> None:
        rng = np.random.default_rng(seed)
        flat = rng.uniform(-1, 1, (14, 3, 2))
        turn = trimesh.transformations.random_rotation_matrix(rng.random(3))[:3, :3]
        corners = np.concatenate([flat, np.zeros((14, 3, 1))], axis=2) @ turn.T
        found = overlapping(
            Flat(corners, np.zeros(14, np.int64), None, np.ones(14, np.bool_)), np.full(14, 1e-3), np.full(14, 1e-9)
        )
        got = {
            tuple(sorted(p)): a
            for *p, a in zip(found.first.tolist(), found.second.tolist(), found.area.tolist(), strict=True)
        }
        for i in range(14):
            for j in range(i + 1, 14):
                true = Polygon(flat[i]).intersection(Polygon(flat[j])).area
                self.assertAlmostEqual(got.get((i, j), 0.0), true, delta=1e-7)


class Within(unittest.TestCase):
    def doubled(self, gap: float = 0.0) -> Scene:
        made = trimesh.util.concatenate([sheet(1, 1), sheet(0.5, 0.5).apply_translation([0.4, 0, gap])])
        return scene_of({"board": (made, at(0, 0, 0))})

    def test_area_within_a_mesh_and_the_quiet_twin(self) -> None:
        found, lost = within(self.doubled(), Workshop(), lambda done, total: None, np.ones(1, np.bool_))
        self.assertEqual(lost, {})
        self.assertAlmostEqual(float(found[0].area.sum()), 0.35 * 0.5, places=6)
        self.assertAlmostEqual(flicker(self.doubled())["flicker.within"].value, 0.175, places=6)
        self.assertEqual(flicker(self.doubled(0.002)), {})

    def test_what_is_folded_onto_its_own_shell_is_removed_since_it_cannot_be_lifted(self) -> None:
        """A crate drawn from both sides, two of its faces once more the other way round, and nearer the front."""
        box = trimesh.creation.box()
        faces = np.concatenate([box.faces[[0, 7]][:, ::-1], box.faces])
        crate = trimesh.Trimesh(box.vertices, faces, process=False)
        scene = scene_of({"crate": (crate, at(0, 0, 0))}, materials=(Material("paint", double_sided=True),))
        mesh = replace(scene.meshes[0], material=np.zeros(len(faces), np.int32))
        scene = scene.but(meshes=(mesh,))
        found = flicker(scene)
        self.assertEqual(list(found), ["flicker.folded"])
        self.assertAlmostEqual(found["flicker.folded"].value, 1.0, places=6)
        self.assertEqual(found["flicker.folded"].mend["how"], "remove")
        lifted, changes = parse_step({"kind": "mend_overlaps"}).apply(scene, StepContext())
        self.assertIs(lifted.meshes[0], mesh)
        self.assertIn("cannot be lifted", changes[0].text)
        mended, _ = parse_step(found["flicker.folded"].mend).apply(scene, StepContext())
        self.assertEqual(flicker(mended), {})
        made = mended.meshes[0]
        left = trimesh.Trimesh(made.positions, made.indices, process=False)
        self.assertEqual((len(left.faces), left.is_watertight), (12, True))
        self.assertAlmostEqual(left.volume, 1.0, msg="those that agree with their neighbours stay")

    def test_shapes_without_overlap_stay_quiet(self) -> None:
        c = trimesh.creation
        grid = np.arange(16)
        patch = trimesh.Trimesh(
            np.stack(np.meshgrid(grid, grid, [0]), -1).reshape(-1, 3) * 0.1,
            [
                [i + 16 * j + d for d in corner]
                for i in range(15)
                for j in range(15)
                for corner in ((0, 1, 17), (0, 17, 16))
            ],
            process=False,
        )
        shapes = [
            c.box(),
            c.icosphere(3),
            c.cylinder(1, 2),
            c.cone(1, 2),
            c.torus(1, 0.3),
            c.annulus(0.5, 1, 0.2),
            patch,
        ]
        for shape in shapes:
            scene = scene_of({"part": (shape, at(3, 4, 5, (0.7, [1, 2, 3])))})
            self.assertEqual(flicker(scene), {})


class Mended(unittest.TestCase):
    def mend(self, scene: Scene, **parameters: Any) -> tuple[Scene, list[Any]]:
        step = parse_step({"kind": "mend_overlaps", **parameters})
        out, changes = step.apply(scene, StepContext())
        again, nothing = step.apply(out, StepContext())
        self.assertTrue(again is out and not [c for c in nothing if "left" not in c.text and "in part" not in c.text])
        return out, changes

    def test_the_smaller_part_is_lifted_and_nothing_else_moves(self) -> None:
        scene = landing(label=(sheet(0.5, 0.4), at(0.4, 0.5, 0.5005)))
        out, changes = self.mend(scene)
        self.assertEqual(shared(out), {})
        self.assertTrue(np.array_equal(out.nodes.world[:2], scene.nodes.world[:2]))
        self.assertTrue(np.allclose(out.nodes.world[2, :3, 3], [0.4, 0.5, 0.502], atol=1e-9))
        self.assertEqual([m.id for m in out.meshes], [m.id for m in scene.meshes])
        self.assertEqual(changes[0].count, 1)

    def test_what_a_clip_moves_is_lifted_with_it_and_what_hangs_below_stays(self) -> None:
        scene = landing(label=(sheet(0.5, 0.4), at(0.4, 0.5, 0.5005)), tag=(sheet(0.1, 0.1), at(0.1, 0.9, 0.2)))
        parent = scene.nodes.parent.copy()
        parent[3] = 2
        times = np.array([0, 1, 2], np.float32)
        clip = Clip(
            (
                Channel(
                    2,
                    "translation",
                    times,
                    np.array([[0.4, 0.5, 0.5005], [0.4, 3, 0.5005], [0.4, 0.5, 0.5005]], np.float32),
                ),
                Channel(
                    3, "translation", times, np.array([[0.1, 0.9, 0.2], [0.1, 0.9, 1], [0.1, 0.9, 0.2]], np.float32)
                ),
            ),
            "hoisted",
        )
        rest = {k: (tuple(scene.nodes.local[k, :3, 3].tolist()), (0.0, 0.0, 0.0, 1.0), (1.0, 1.0, 1.0)) for k in (2, 3)}
        scene = scene.but(nodes=replace(scene.nodes, parent=parent, rest=rest), clips=(clip,))
        out, _ = self.mend(scene)
        self.assertEqual(shared(out), {})
        for time in (None, 0.0, 0.7, 2.0):
            before, after = (s if time is None else posed(s, time) for s in (scene, out))
            moved = after.nodes.world[:, :3, 3] - before.nodes.world[:, :3, 3]
            self.assertTrue(
                np.allclose(moved, [[0, 0, 0], [0, 0, 0], [0, 0, 0.0015], [0, 0, 0]], atol=1e-6), (time, moved)
            )

    def test_a_row_of_panels_goes_up_and_down_by_one_offset(self) -> None:
        parts = {f"panel_{k}": (BOX([1.1, 0.1, 2]), at(k, 0, 0)) for k in range(9)}
        out, _ = self.mend(scene_of(parts), offset_mm=3.0)
        self.assertEqual(shared(out), {})
        # sides are flush as well as tops; undersides look down, so that a panel may move in three ways
        moved = np.abs(out.nodes.world[:, :3, 3] - scene_of(parts).nodes.world[:, :3, 3]).max()
        self.assertLessEqual(moved, 0.0032)

    def test_things_stacked_in_one_plane_get_a_level_each(self) -> None:
        parts = {f"sheet_{k}": (sheet(1 - 0.2 * k, 1 - 0.2 * k), at(0, 0, 0)) for k in range(4)}
        out, _ = self.mend(scene_of(parts))
        self.assertEqual(shared(out), {})
        self.assertTrue(np.allclose(out.nodes.world[:, 2, 3], [0, 0.002, 0.004, 0.006]))

    def test_shells_within_a_mesh_are_lifted(self) -> None:
        scene = Within().doubled()
        out, _ = self.mend(scene)
        self.assertEqual(flicker(out), {})
        moved = np.asarray(out.meshes[0].positions) - scene.meshes[0].positions
        self.assertTrue(np.allclose(moved, np.repeat([[0, 0, 0], [0, 0, 0.002]], 4, axis=0), atol=1e-7))

    def test_each_size_of_a_mesh_is_asked_and_lifted_by_itself(self) -> None:
        """Thirty millimetres apart are three tenths of one on a part that is drawn a hundred times smaller."""
        scene = Within().doubled(0.03)
        places = [np.diag([s, s, s, 1.0]) @ at(k * 30 / s, 0, 0) for k, s in enumerate((1.0, 0.01, 0.8, 0.012))]
        nodes = make_nodes([-1] * 4, np.array(places), ["large", "small", "fairly large", "fairly small"], mesh=[0] * 4)
        scene = scene.but(nodes=nodes)
        names = scene.nodes.names
        told = flicker(scene)["flicker.within"]
        self.assertEqual([names[i] for i in told.parts], ["small", "fairly small"])
        out, _ = self.mend(scene)
        self.assertEqual(flicker(out), {})
        large, small = (out.meshes[out.nodes.mesh[k]] for k in (0, 1))
        self.assertEqual([out.meshes[i].id for i in out.nodes.mesh], [large.id, small.id] * 2)
        self.assertEqual(large.id, scene.meshes[0].id)
        moved = (np.ptp(small.positions[:, 2]) - 0.03) * 0.01
        self.assertAlmostEqual(float(moved), 0.002 - 0.0003, places=6)

    def test_within_a_mesh_as_between_parts(self) -> None:
        """Stacks, chains, and blocks let in flush with a slab, turned anyhow."""
        left = 0
        for seed in range(12):
            shapes = let_in_and_laid_on(np.random.default_rng(seed))
            whole = scene_of({"whole": (trimesh.util.concatenate(shapes), np.eye(4))})
            parts = scene_of({f"shape_{k}": (made, np.eye(4)) for k, made in enumerate(shapes)})
            for scene in (whole, parts):
                with self.subTest(seed=seed, parts=len(scene.nodes.parts)):
                    left += bool(flicker(scene))
                    self.assertEqual(flicker(self.mend(scene)[0]), {})
        self.assertGreater(left, 20)

    def test_what_is_covered_whole_is_removed_and_what_is_not_is_told(self) -> None:
        scene = landing(flush=(BOX([1, 0.3, 1]), at(3, -0.15, 3)), label=(sheet(0.5, 0.4), at(0.4, 0.5, 0.5005)))
        out, changes = self.mend(scene, how="remove")
        counts = {out.nodes.names[i]: out.meshes[out.nodes.mesh[i]].triangles for i in out.nodes.parts.tolist()}
        self.assertEqual(counts, {"floor": 12, "kiosk": 12, "flush": 10, "label": 2})
        self.assertTrue(any("covered in part" in c.text for c in changes))

    def test_of_two_equal_parts_in_one_place_one_is_left(self) -> None:
        scene = landing()
        nodes = make_twice(scene)
        out, changes = self.mend(nodes, how="remove")
        self.assertEqual(len(out.nodes.parts), 2)
        self.assertIn("no longer drawn", changes[0].text)
        self.assertEqual(shared(out), {})


def let_in_and_laid_on(rng: np.random.Generator) -> list[Any]:
    """A slab with up to five sheets on it and blocks in it, within less than a millimetre of its top and of each other."""
    out = [BOX([4, 3, 0.2])]
    for _ in range(int(rng.integers(2, 6))):
        (w, h), (x, y) = rng.uniform(0.3, 1.5, 2), rng.uniform(-1.2, 1.2, 2)
        if rng.random() < 0.6:
            out.append(sheet(w, h).apply_translation([x, y, 0.1 + rng.choice([0, 0.0003, 0.0006])]))
        else:
            deep = rng.choice([0.2, 0.05])
            out.append(BOX([w, h, deep]).apply_translation([x, y, 0.1 - deep / 2 + rng.choice([0, 0.0004])]))
    turn = trimesh.transformations.random_rotation_matrix(rng.random(3))
    return [made.apply_transform(turn) for made in out]


def make_twice(scene: Scene) -> Scene:
    """The scene with its last part a second time."""
    from tidy_caravan.core.scene import make_nodes

    n = scene.nodes
    rows = [*range(len(n)), len(n) - 1]
    return scene.but(nodes=make_nodes(n.parent[rows], n.local[rows], [n.names[i] for i in rows], mesh=n.mesh[rows]))


class Twins(unittest.TestCase):
    """Parts that stand in the very place of an equal one, as files hold them after a paste too many."""

    COLUMN = trimesh.creation.cylinder(0.3, 2, sections=24)

    def place(self, looks: Any = ()) -> Scene:
        scene = landing(
            column=(self.COLUMN, at(4, 1.5, 0)),
            again=(self.COLUMN.copy(), at(4, 1.5, 0)),
            label=(sheet(0.5, 0.4), at(0, 0.5, 0.5)),
        )
        # a copy with a mesh of its own, and its triangles in another order
        rows = np.random.default_rng(2).permutation(len(self.COLUMN.faces))
        mesh = scene.meshes[3]
        mesh = replace(mesh, indices=mesh.indices[rows], material=np.full(mesh.triangles, 0 if looks else -1, np.int32))
        return scene.but(meshes=(*scene.meshes[:3], mesh, *scene.meshes[4:]), materials=tuple(looks))

    def test_the_second_is_taken_away_by_its_own_mend_and_by_the_proposed_route(self) -> None:
        """Lifting would never part round ones, and leave two of the others."""
        scene = self.place()
        found = survey(scene, BUILT_IN[0])
        (twice,) = [f for f in found if f.code == "part.twice"]
        out, changes = parse_step(twice.mend).apply(scene, StepContext())
        self.assertEqual([c.count for c in changes], [1])
        drawn = {out.nodes.names[i] for i in out.nodes.parts}
        self.assertEqual(drawn, {"floor", "kiosk", "column", "label"})
        self.assertEqual(parse_step(twice.mend).apply(out, StepContext())[1], [])
        route = Route.model_validate(as_route(propose(found, BUILT_IN[0])))
        done, _ = run(scene, route, BUILT_IN[0])
        left = {f.code for f in survey(done, BUILT_IN[0])}
        self.assertFalse(left & {"part.twice", "flicker.between", "tree.empty"})
        self.assertEqual({done.nodes.names[i] for i in done.nodes.parts}, drawn)

    def test_two_that_come_apart_later_stay(self) -> None:
        for moved in (1, 2, 3):
            away = Channel(moved, "translation", np.zeros(1, np.float32), np.ones((1, 3), np.float32))
            scene = self.place().but(clips=(Clip((away,), "parted"),))
            (twice,) = [f for f in survey(scene, BUILT_IN[0]) if f.code == "part.twice"]
            self.assertEqual(twice.mend is None, moved != 1)

    def test_of_other_materials_it_is_named_and_stays(self) -> None:
        scene = self.place([Material("other")])
        (twice,) = [f for f in survey(scene, BUILT_IN[0]) if f.code == "part.twice"]
        self.assertIsNone(twice.mend)
        out, changes = parse_step({"kind": "mend_overlaps", "how": "remove", "where": {"names": ["again"]}}).apply(scene, StepContext())  # fmt: skip
        self.assertEqual(out.meshes, scene.meshes)
        self.assertIn("lift them instead", changes[0].text)

    def test_what_lies_whole_on_something_larger_is_no_twin(self) -> None:
        scene = self.place()
        out, changes = parse_step({"kind": "mend_overlaps", "how": "remove", "where": {"names": ["label"]}}).apply(scene, StepContext())  # fmt: skip
        self.assertIn("label", {out.nodes.names[i] for i in out.nodes.parts})
        self.assertIn("lift them instead", changes[0].text)


class LetIn(unittest.TestCase):
    def test_a_slab_flush_above_and_below_comes_up_and_not_down(self) -> None:
        parts = {"slab": (BOX([2, 0.2, 2]), at(0, 0, 0)), "let in": (BOX([1, 0.2, 1]), at(0, 0, 0))}
        scene = scene_of(parts)
        self.assertAlmostEqual(sum(shared(scene).values()), 2.0, places=5)
        out, _ = parse_step({"kind": "mend_overlaps"}).apply(scene, StepContext())
        self.assertEqual(shared(out), {})
        self.assertTrue(np.allclose(out.nodes.world[1, :3, 3], [0, 0.002, 0]))
