"""Which side of open sheets can be seen: rooms, buildings, thin sheets, furniture, and what a step makes of it."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

import numpy as np
import trimesh

from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.geometry.rays import Caster, over_hemispheres, spread_over
from tidy_caravan.core.scene import GLTF, Camera, Light, Material, Mesh, Scene, make_nodes
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.core.surroundings.sides import SeenSides, Verdict, open_sheets, seen
from tidy_caravan.core.survey import survey
from tidy_caravan.core.work.heavy import Workshop

FLAT = (-np.pi / 2, [1.0, 0, 0])


def at(x: float, y: float, z: float, turn: tuple[float, list[float]] | None = None) -> Any:
    out = np.eye(4) if turn is None else trimesh.transformations.rotation_matrix(*turn)
    out[:3, 3] = x, y, z
    return out


def box_without(extents: list[float], side: list[float]) -> Any:
    made = trimesh.creation.box(extents)
    made.update_faces(made.face_normals @ np.array(side) < 0.9)
    return made


def sheet(width: float, height: float) -> Any:
    x, y = width / 2, height / 2
    return trimesh.Trimesh([[-x, -y, 0], [x, -y, 0], [x, y, 0], [-x, y, 0]], [[0, 1, 2], [0, 2, 3]], process=False)


def over(made: Any) -> Any:
    out = made.copy()
    out.faces = out.faces[:, ::-1]
    return out


def as_mesh(made: Any, material: int = -1) -> Mesh:
    faces = made.faces.astype(np.uint32)
    return Mesh(made.vertices.astype(np.float32), faces, np.full(len(faces), material, np.int32))


def scene_of(parts: dict[str, tuple[Any, Any]], **more: Any) -> Scene:
    count = len(parts)
    nodes = make_nodes(np.full(count, -1), np.array([m for _, m in parts.values()]), list(parts), mesh=np.arange(count))
    return Scene(GLTF, nodes, tuple(as_mesh(t) for t, _ in parts.values()), **more)


def loose_room(w: float, h: float, d: float, turned: set[str], things: bool) -> dict[str, tuple[Any, Any]]:
    """Six sheets, each a part, that look inwards but for those that are turned; with or without furniture in it."""
    half = np.pi / 2
    sides = {
        "floor": (sheet(w, d), at(0, 0, 0, FLAT)),
        "ceiling": (over(sheet(w, d)), at(0, h, 0, FLAT)),
        "north": (sheet(w, h), at(0, h / 2, -d / 2)),
        "south": (sheet(w, h), at(0, h / 2, d / 2, (np.pi, [0, 1, 0]))),
        "west": (sheet(d, h), at(-w / 2, h / 2, 0, (half, [0, 1, 0]))),
        "east": (sheet(d, h), at(w / 2, h / 2, 0, (-half, [0, 1, 0]))),
    }
    out = {name: (over(made) if name in turned else made, place) for name, (made, place) in sides.items()}
    if things:
        out["table"] = (trimesh.creation.box([1.6, 0.75, 0.9]), at(0.5, 0.376, 0.3))
        out["shelf"] = (trimesh.creation.box([0.4, 2, 1]), at(-w / 2 + 0.22, 1.001, -0.5))
    return out


def verdicts(scene: Scene) -> dict[str, Verdict]:
    found = seen(scene, Workshop(), lambda done, total: None, np.ones(len(scene.meshes), np.bool_))
    assert isinstance(found, SeenSides), found
    names = [scene.nodes.names[i] for i in range(len(scene.nodes))]
    return {names[m]: Verdict(v) for m, v in zip(found.mesh.tolist(), found.verdict.tolist(), strict=True)}


def place() -> dict[str, tuple[Any, Any]]:
    """Ground, a building, what leans on it, furniture with open backs, and a room with a bench in it."""
    return {
        "ground": (sheet(60, 60), at(0, 0, 0, FLAT)),
        "room": (over(box_without([6, 3, 5], [0, 1, 0])), at(0, 1.51, 0)),
        "bench": (trimesh.creation.box([1.8, 0.45, 0.5]), at(1, 0.24, 1)),
        "building": (box_without([8, 6, 8], [0, -1, 0]), at(15, 3.001, 0)),
        "poster": (sheet(1, 1), at(15, 2, 4.003)),
        "cabinet": (box_without([1, 2, 0.5], [0, -1, 0]), at(-15, 1.002, 0)),
        "locker": (box_without([1, 2, 0.5], [0, 0, -1]), at(13, 1.002, 4.253)),
        # open below, and close to the ground
        "sofa": (box_without([2, 0.5, 0.9], [0, -1, 0]), at(-8, 0.37, 0)),
        # a long tunnel, from which few rays get out, with a lining that has nothing but a gap behind it
        "ring": (trimesh.creation.annulus(3.05, 3.5, 20, sections=32), at(0, 0.01, 20)),
        "lining": (lining(3.0, 20), at(0, 0.01, 20)),
        # low below for its width, and a gap above
        "ceiling": (over(sheet(26, 18)), at(0, 2.6, -18, FLAT)),
        "slab": (trimesh.creation.box([26, 0.3, 18]), at(0, 3, -18)),
    }


def lining(radius: float, length: float) -> Any:
    """The upper half of a tube along z, seen from within."""
    tube = trimesh.creation.cylinder(radius, length, sections=32)
    tube.update_faces((np.abs(tube.face_normals[:, 2]) < 0.9) & (tube.triangles_center[:, 1] > 0))
    return over(tube)


def stairs(steps: int, width: float) -> Any:
    """Treads and risers that go up along x, and nothing below them."""
    x, y = 0.28 * np.repeat(np.arange(steps + 1), 2)[:-1], 0.17 * np.repeat(np.arange(steps + 1), 2)[1:]
    points = np.stack([np.repeat(x, 2), np.repeat(y, 2), np.tile([-width / 2, width / 2], len(x))], axis=1)
    k = 2 * np.arange(len(x) - 1)[:, None]
    return trimesh.Trimesh(points, np.concatenate([k + [0, 1, 3], k + [0, 3, 2]]), process=False)


class Seen(unittest.TestCase):
    def test_every_side_is_told_and_its_turned_twin_too(self) -> None:
        clean = place()
        found = verdicts(scene_of(clean))
        self.assertEqual(clean.keys() - found.keys(), {"bench", "ring", "slab"}, "closed ones are not asked about")
        self.assertEqual(set(found.values()), {Verdict.RIGHT}, found)
        for name in found:
            with self.subTest(name):
                turned = {**clean, name: (over(clean[name][0]), clean[name][1])}
                found = verdicts(scene_of(turned))
                # an empty shell of a room's size is asked about
                expected = Verdict.UNCLEAR if name == "building" else Verdict.WRONG
                self.assertIs(found.pop(name), expected)
                self.assertEqual(set(found.values()), {Verdict.RIGHT})

    def test_loose_sheets_around_a_room_are_judged_together(self) -> None:
        """One that differs from all the others is turned, with a ground around it or nothing; where all look outwards it is
        a building, which nobody is to turn, or is asked about with furniture in it."""
        every = {"floor", "ceiling", "north", "south", "west", "east"}
        for ground in ({}, {"ground": (sheet(60, 60), at(0, -0.2, 0, FLAT))}):
            for things in (False, True):
                self.assertEqual(set(verdicts(scene_of({**loose_room(5, 2.8, 4, set(), things), **ground})).values()), {Verdict.RIGHT})  # fmt: skip
                for name in sorted(every):
                    found = verdicts(scene_of({**loose_room(5, 2.8, 4, {name}, things), **ground}))
                    self.assertIs(found.pop(name), Verdict.WRONG, name)
                    self.assertEqual(set(found.values()), {Verdict.RIGHT}, name)
                walls = every - {"floor"}
                found = verdicts(scene_of({**loose_room(5, 2.8, 4, walls, things), **ground}))
                self.assertEqual({found[k] for k in walls}, {Verdict.UNCLEAR if things else Verdict.BOTH})
                found = verdicts(scene_of({**loose_room(5, 2.8, 4, walls - {"west"}, False), **ground}))
                self.assertIs(found["west"], Verdict.UNCLEAR)

    def test_instances_that_stand_differently_are_judged_and_turned_each_for_itself(self) -> None:
        """One plane is the mesh of all posters: some hang with their back to the room, and only they are turned."""
        rng, wall = np.random.default_rng(3), (trimesh.creation.box([30, 3, 0.3]), at(0, 1.51, 0))
        back = trimesh.transformations.rotation_matrix(np.pi, [0, 1, 0])
        for count, wrong in ((2, {1}), (24, {3, 9, 20}), (24, set()), (24, set(range(24)))):
            places = [at(-14 + 1.2 * k, 1.4, 0.154) @ (back if k in wrong else np.eye(4)) for k in range(count)]
            nodes = make_nodes(
                [-1] * (count + 2), np.array([*places, wall[1], at(0, 0, 0, FLAT)]), [f"poster {k}" for k in range(count)] + ["wall", "ground"],
                mesh=[0] * count + [1, 2],
            )  # fmt: skip
            meshes = tuple(map(as_mesh, (sheet(*rng.uniform(0.5, 1, 2)), wall[0], sheet(60, 60))))
            scene = Scene(GLTF, nodes, meshes)
            findings = {f.code: f for f in survey(scene, BUILT_IN[0])}
            finding = findings.get("faces.seen-from-behind")
            self.assertEqual(set(finding.parts if finding else ()), wrong)
            self.assertNotIn("faces.seen-from-both", findings)
            if finding:
                out, _ = parse_step(finding.mend).apply(scene, StepContext())
                self.assertEqual(len(out.meshes), 3 if len(wrong) == count else 4)
                self.assertFalse(
                    {f.code for f in survey(out, BUILT_IN[0])} & {"faces.seen-from-behind", "faces.seen-from-both"}
                )

    def test_stairs_are_no_room_however_they_are_turned(self) -> None:
        for steps in (6, 14):
            for made in (stairs(steps, 1.2), over(stairs(steps, 2.8))):
                found = verdicts(scene_of({"ground": place()["ground"], "stairs": (made, at(3, 0.01, 2))}))
                self.assertIs(found["stairs"], Verdict.BOTH)

    def test_what_is_found_of_a_sheet_hangs_on_no_other_question(self) -> None:
        scene = scene_of(place())
        every = seen(scene, Workshop(), lambda done, total: None, np.ones(len(scene.meshes), np.bool_))
        assert isinstance(every, SeenSides)
        for mesh in np.unique(every.mesh).tolist():
            alone = seen(scene, Workshop(), lambda done, total: None, np.arange(len(scene.meshes)) == mesh)
            assert isinstance(alone, SeenSides)
            mine = every.mesh == mesh
            for column in ("verdict", "way", "rays"):
                self.assertEqual(getattr(alone, column).tolist(), getattr(every, column)[mine].tolist(), column)

    def test_nobody_looks_from_within_a_crate_of_loose_sides(self) -> None:
        """Six sheets that hang on nothing: their backs see each other, the one below nothing else."""
        for size, room in (((0.9, 0.7, 0.15), False), ((0.8, 0.5, 1.8), False), ((4.0, 3.0, 2.6), True)):
            box = trimesh.creation.box(size)
            sides = [
                box.submesh([np.flatnonzero(box.face_normals @ n > 0.9)], append=True)
                for n in (*np.eye(3), *-np.eye(3))
            ]
            found = verdicts(scene_of({f"side {k}": (s, at(0, 0, 0)) for k, s in enumerate(sides)}))
            # loose walls of a room's size are seen from within as well
            self.assertEqual(set(found.values()) - {Verdict.RIGHT, Verdict.HIDDEN} != set(), room, (size, found))

    def test_an_empty_room_that_people_can_only_be_in_is_seen_from_inside(self) -> None:
        """A room all closed, between blocks that leave no way around it, with nothing in it but its own floor."""
        room = over(trimesh.creation.box([6, 3, 5]))
        room.update_faces(room.face_normals[:, 0] < 0.9)  # a wall is missing; the block closes it
        blocks = {
            f"block_{k}": (trimesh.creation.box(size), at(*where))
            for k, (size, where) in enumerate(
                [([30, 20, 20], (0, 10, 12.6)), ([30, 20, 20], (0, 10, -12.6)), ([12, 20, 6], (-9.1, 10, 0)),
                 ([12, 20, 6], (9.1, 10, 0)), ([6.2, 17, 6], (0, 11.6, 0))]
            )
        }  # fmt: skip
        ground = {"ground": place()["ground"]}
        clean = verdicts(scene_of({**ground, "room": (room, at(0, 1.51, 0)), **blocks}))
        self.assertIs(clean["room"], Verdict.RIGHT)
        turned = verdicts(scene_of({**ground, "room": (over(room), at(0, 1.51, 0)), **blocks}))
        self.assertIs(turned["room"], Verdict.WRONG)

    def test_a_sheet_in_the_open_and_a_crate_without_lid_are_seen_from_both_sides(self) -> None:
        parts = {
            "ground": place()["ground"],
            "sign": (sheet(1, 1), at(0, 2, 0)),
            "crate": (box_without([0.5, 0.5, 0.5], [0, 1, 0]), at(5, 0.26, 0)),
        }
        found = verdicts(scene_of(parts))
        self.assertEqual([found["sign"], found["crate"], found["ground"]], [Verdict.BOTH, Verdict.BOTH, Verdict.RIGHT])

    def test_mirrored_and_scaled_parts_are_seen_as_their_mesh_is(self) -> None:
        for linear in (np.diag([-1.0, 1, 1, 1]), np.diag([1.0, 1, -2, 1]), np.diag([0.01, 0.01, 0.01, 1])):
            parts = place()
            made = parts["locker"][0].copy()
            made.apply_transform(np.linalg.inv(linear))
            # trimesh turns the winding with the mirror, as a receiver does on the way back
            parts["locker"] = (made, parts["locker"][1] @ linear)
            self.assertIs(verdicts(scene_of(parts))["locker"], Verdict.RIGHT)
            parts["locker"] = (over(made), parts["locker"][1])
            self.assertIs(verdicts(scene_of(parts))["locker"], Verdict.WRONG)

    def test_a_camera_or_a_lamp_makes_a_room_of_an_empty_shell(self) -> None:
        parts = {k: v for k, v in place().items() if k in ("ground", "room")}
        self.assertIs(
            verdicts(scene_of({**parts, "room": (over(parts["room"][0]), parts["room"][1])}))["room"], Verdict.RIGHT
        )
        for column, more in (
            ("camera", {"cameras": (Camera("perspective"),)}),
            ("light", {"lights": (Light("point"),)}),
        ):
            scene = scene_of({**parts, "room": (over(parts["room"][0]), parts["room"][1])}, **more)
            viewer = make_nodes(
                [-1, -1, -1], np.array([*scene.nodes.local, at(0, 1.6, 0)]), [*parts, column],
                mesh=[0, 1, -1], **{column: [-1, -1, 0]},
            )  # fmt: skip
            self.assertIs(verdicts(scene.but(nodes=viewer))["room"], Verdict.WRONG)

    def test_two_sided_materials_are_not_asked_about(self) -> None:
        scene = scene_of(
            {"ground": place()["ground"], "sign": (sheet(1, 1), at(0, 2, 0))}, materials=(Material(double_sided=True),)
        )
        sign = replace(scene.meshes[1], material=np.zeros(2, np.int32))
        self.assertNotIn("sign", verdicts(scene.but(meshes=(scene.meshes[0], sign))))

    def test_the_survey_asks_and_the_step_turns_only_what_is_sure(self) -> None:
        parts = place()
        for name in ("poster", "building", "room"):
            parts[name] = (over(parts[name][0]), parts[name][1])
        scene = scene_of(parts)
        found = {f.code: f for f in survey(scene, BUILT_IN[0]) if f.code.startswith("faces.")}
        names = {code: sorted(scene.nodes.names[i] for i in f.parts) for code, f in found.items()}
        self.assertEqual(names["faces.seen-from-behind"], ["poster", "room"])
        self.assertEqual(names["faces.side-unclear"], ["building"])
        self.assertTrue(found["faces.side-unclear"].guess)
        self.assertRegex(
            found["faces.seen-from-behind"].text,
            r"Of 400 rays from either side of one in “room”, those from the front go 5 m on average, those from behind 4.8 m. What stands in it",
        )
        step = parse_step(found["faces.seen-from-behind"].mend)
        out, changes = step.apply(scene, StepContext())
        clean = scene_of(place())
        for i, name in enumerate(parts):
            mesh = clean.meshes[i] if name in ("poster", "room") else scene.meshes[i]
            got = out.meshes[out.nodes.mesh[i]]
            self.assertTrue(np.allclose(normals(got), normals(mesh), atol=1e-6), name)
        self.assertEqual(changes[0].count, scene.meshes[1].triangles + 2)
        again, none = step.apply(out, StepContext())
        self.assertIs(again, out)
        self.assertEqual(none, [])
        asked = parse_step(found["faces.side-unclear"].mend)
        out, changes = asked.apply(out, StepContext())
        self.assertEqual({f.code for f in survey(out, BUILT_IN[0]) if f.code.startswith("faces.")}, set())

    def test_it_is_told_when_the_rays_could_not_be_cast(self) -> None:
        from tidy_caravan.core.surroundings import sides
        from tidy_caravan.core.work.heavy import Work

        whole = sides.SIDES
        sides.SIDES = Work(whole.name, whole.version, whole.function, memory=1)
        self.addCleanup(setattr, sides, "SIDES", whole)
        scene = scene_of(place())
        found = [f for f in survey(scene, BUILT_IN[0]) if f.code == "faces.sides-unknown"]
        self.assertEqual(len(found), 1)
        self.assertRegex(found[0].text, "memory|ended with signal")
        out, changes = parse_step({"kind": "turn_faces", "how": "seen"}).apply(scene, StepContext())
        self.assertIs(out, scene)
        self.assertTrue(changes[0].problem)


def normals(mesh: Mesh) -> Any:
    corners = mesh.positions[mesh.indices]
    return np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])


class Geometry(unittest.TestCase):
    def test_directions_are_cosine_weighted_over_the_hemisphere(self) -> None:
        rng = np.random.default_rng(1)
        normals_ = rng.normal(size=(50, 3))
        normals_ /= np.linalg.norm(normals_, axis=1, keepdims=True)
        ways = over_hemispheres(normals_, 400, np.arange(50))
        self.assertTrue(np.allclose(np.linalg.norm(ways, axis=2), 1))
        cosine = np.einsum("nki,ni->nk", ways, normals_)
        self.assertGreater(cosine.min(), 0)
        # mean cosine of a cosine-weighted hemisphere is 2/3; the mean direction is 2/3 of the normal
        self.assertLess(abs(cosine.mean() - 2 / 3), 0.005)
        self.assertLess(np.abs(ways.mean(axis=1) - normals_ * 2 / 3).max(), 0.02)

    def test_places_go_by_area_and_lie_in_their_triangles(self) -> None:
        area = np.array([1.0, 3.0, 0.0, 2.0, 2.0])
        which, row, bary = spread_over(area, np.array([0, 0, 0, 1, -1]), np.array([400, 10]))
        self.assertEqual(np.bincount(which).tolist(), [400, 10])
        self.assertEqual(np.bincount(row, minlength=5).tolist(), [100, 300, 0, 10, 0])
        self.assertTrue(np.allclose(bary.sum(axis=1), 1))
        self.assertGreaterEqual(bary.min(), 0)

    def test_rays_meet_what_a_closed_form_says(self) -> None:
        ball = trimesh.creation.icosphere(5, 2.0)
        ways = trimesh.creation.icosphere(2).vertices
        far, hit = Caster(ball.vertices, ball.faces).first_hits(np.zeros_like(ways), np.array(ways))
        self.assertTrue((hit >= 0).all())
        self.assertLess(np.abs(far - 2).max(), 2e-3)
        self.assertTrue(np.isinf(Caster(ball.vertices, ball.faces[:0]).first_hits(ways, ways)[0]).all())

    def test_closed_shells_have_no_open_sheets_even_with_faces_turned(self) -> None:
        made = trimesh.util.concatenate([trimesh.creation.box(), at_side(box_without([1, 1, 1], [0, 1, 0]))])
        made.faces[:3] = made.faces[:3, ::-1]
        label, count = open_sheets(as_mesh(made))
        self.assertEqual(count, 1)
        self.assertEqual((label >= 0).sum(), 10)
        self.assertTrue((label[:12] == -1).all())

    def test_a_face_that_has_its_other_side_in_the_mesh_is_not_asked_about(self) -> None:
        """Turned to where it could be seen it would be one of two that stand the same way, and flicker."""

        def boxed(faces: Any, size: float) -> Scene:
            more = trimesh.Trimesh(box.vertices * size, box.faces[faces][:, ::-1], process=False)
            return scene_of({"crate": (trimesh.util.concatenate([box, more]), np.eye(4))})

        box = trimesh.creation.box()
        pair = boxed([0, 7], 1.0)
        label, _ = open_sheets(pair.meshes[0])
        self.assertEqual(label[[0, 7, 12, 13]].tolist(), [-1] * 4)
        self.assertEqual([f.code for f in survey(pair, BUILT_IN[0]) if f.code.startswith("faces.seen")], [])
        turned, _ = parse_step({"kind": "turn_faces", "how": "seen", "unsure": True}).apply(pair, StepContext())
        self.assertIs(turned, pair)
        off = [f.code for f in survey(boxed([0, 7], 1.01), BUILT_IN[0])]
        self.assertIn("faces.seen-from-behind", off, "a little off the crate they are looked at")


def at_side(made: Any) -> Any:
    return made.apply_translation([5, 0, 0])
