"""Several files of one haul, each in a unit and axes of its own, and what happens when one of them lies or says nothing."""

from __future__ import annotations

import io
import itertools
import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import Gltf, sent
from tests.trees import furthest_apart, random_tree
from tidy_caravan.core.carry import prove
from tidy_caravan.core.conventions.destinations import destination
from tidy_caravan.core.errors import BadRoute
from tidy_caravan.core.formats import bundles_from_files, load
from tidy_caravan.core.formats.merge import load_all, merged
from tidy_caravan.core.geometry.recipes import fineness_now, triangles_at
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.proposal import as_route, propose
from tidy_caravan.core.route import parse_route, read_convention, run
from tidy_caravan.core.scene import Camera, Channel, Clip, Convention, Light, Scene
from tidy_caravan.core.space.axes import linear_map
from tidy_caravan.core.space.convert import convert
from tidy_caravan.core.space.files import convention_of, stated_by_file
from tidy_caravan.core.space.site import SITE
from tidy_caravan.core.steps.match_units import MatchUnits
from tidy_caravan.core.survey import survey

EVERY = [
    Convention(metres, up, forward, hand)  # type: ignore[arg-type]
    for metres in (0.001, 0.0254, 1.0)
    for (a, b), s, t in itertools.product(itertools.permutations("XYZ", 2), ("", "-"), ("", "-"))
    for up, forward in [(s + a, t + b)]
    for hand in ("right", "left")
]
"""All axes in three units."""


def obj(*boxes: tuple[str, Any, Any]) -> bytes:
    """A Wavefront OBJ of boxes: name, size, middle."""
    lines, at = [], 1
    for name, size, middle in boxes:
        box = trimesh.creation.box(size)
        lines.append(f"o {name}")
        lines += [f"v {x:.6f} {y:.6f} {z:.6f}" for x, y, z in (box.vertices + middle).tolist()]
        lines += [f"f {a + at} {b + at} {c + at}" for a, b, c in box.faces.tolist()]
        at += len(box.vertices)
    return ("\n".join(lines) + "\n").encode()


def glb(*boxes: tuple[str, Any, Any]) -> bytes:
    scene = trimesh.Scene()
    for name, size, middle in boxes:
        moved = trimesh.transformations.translation_matrix(middle)
        scene.add_geometry(trimesh.creation.box(size), node_name=name, geom_name=name, transform=moved)
    out: bytes = scene.export(file_type="glb")
    return out


def read(**files: bytes) -> Scene:
    return load_all(bundles_from_files({k.replace("_", "."): v for k, v in files.items()}))


DOORS = [
    ("door_1", (900.0, 2100.0, 40.0), (0.0, 1050.0, 0.0)),
    ("door_2", (900.0, 2050.0, 40.0), (3000.0, 1025.0, 0.0)),
]
HALL = [("wall", (12.0, 4.0, 0.2), (0.0, 2.0, 0.0)), ("door_9", (0.9, 2.1, 0.04), (4.0, 1.05, 0.0))]
"""The doors of the ferry hall in millimetres, and the hall in metres."""


class Evidence(unittest.TestCase):
    """What each file holds speaks for its own unit."""

    def findings(self, scene: Scene, *codes: str) -> list[tuple[str, Any]]:
        found = survey(scene, destination("metre-z-up-right"))
        return [(f.code, f.mend) for f in found if f.code in codes]

    def test_the_file_that_is_in_another_unit_is_named_and_no_other(self) -> None:
        scene = read(doors_obj=obj(*DOORS), hall_glb=glb(*HALL))
        mend = {"kind": "match_units_axes", "files": [{"file": "doors.obj", "metresPerUnit": 0.001}]}
        codes = ("unit.implausible", "unit.undeclared")
        self.assertEqual(self.findings(scene, *codes), [(c, mend) for c in codes])
        named = next(f for f in survey(scene, destination("metre-z-up-right")) if f.code == "unit.implausible")
        self.assertEqual({scene.nodes.names[i] for i in named.parts}, {"door_1", "door_2"})

    def test_files_that_say_what_is_so_are_left_alone(self) -> None:
        small = [(n, np.array(s) / 1000, np.array(m) / 1000) for n, s, m in DOORS]
        self.assertEqual(
            self.findings(read(doors_glb=glb(*small), hall_glb=glb(*HALL)), "unit.implausible", "unit.undeclared"), []
        )
        good = self.findings(read(doors_obj=obj(*small), hall_glb=glb(*HALL)), "unit.implausible", "unit.undeclared")
        self.assertEqual([code for code, _ in good], ["unit.undeclared"])

    def test_a_file_that_lies_on_its_side_is_named(self) -> None:
        lying = [(n, np.array(s)[[0, 2, 1]] / 1000, np.array(m)[[0, 2, 1]] / 1000) for n, s, m in DOORS]
        found = self.findings(read(doors_obj=obj(*lying), hall_glb=glb(*HALL)), "axes.up-implausible")
        self.assertEqual(
            found, [("axes.up-implausible", {"kind": "match_units_axes", "files": [{"file": "doors.obj", "up": "Z"}]})]
        )

    def test_unit_and_up_are_told_together(self) -> None:
        """Along the stated axis a door of seven units would be three units high, and two feet would do for it."""
        tall = [(f"door_{k}", (3.0, 0.16, 6.9), (5.0 * k, 0.0, 3.45)) for k in range(3)]
        tall += [(f"bench_{k}", (6.0, 1.5, 1.5), (9.0 * k, 8.0, 0.7)) for k in range(3)]
        for files, name in (({"a_glb": glb(*tall)}, None), ({"a_glb": glb(*tall), "hall_glb": glb(*HALL)}, "a.glb")):
            with self.subTest(name):
                said = [m for _, m in self.findings(read(**files), "unit.implausible", "axes.up-implausible")]
                unit, up = ({"sourceMetresPerUnit": 0.3048}, {"sourceUp": "Z"})
                if name:
                    unit, up = ({"files": [{"file": name, k: v}]} for k, v in (("metresPerUnit", 0.3048), ("up", "Z")))
                self.assertCountEqual(said, [{"kind": "match_units_axes", **unit}, {"kind": "match_units_axes", **up}])

    def test_the_proposed_route_reads_each_as_it_is_and_leaves_nothing(self) -> None:
        lying = [(n, np.array(s)[[0, 2, 1]], np.array(m)[[0, 2, 1]]) for n, s, m in DOORS]
        inches = [(f"seat_{k}", (20.0, 17.0, 20.0), (40.0 * k, 8.5, 90.0)) for k in range(4)]
        scene = read(doors_obj=obj(*lying), hall_glb=glb(*HALL), seats_obj=obj(*inches))
        to = destination("metre-z-up-right")
        route = parse_route(as_route(propose(survey(scene, to), to)))
        said = next(s.model_dump() for s in route.steps if s.kind == "match_units_axes")["files"]
        self.assertEqual(
            {f["file"]: (f["metres_per_unit"], f["up"]) for f in said},
            {"doors.obj": (0.001, "Z"), "seats.obj": (0.0254, None)},
        )
        result, _ = run(scene, route, to)
        self.assertEqual([f.code for f in survey(result, to) if f.code.startswith(("unit.", "axes.", "scale."))], [])
        size = {
            result.nodes.names[i]: box[1] - box[0]
            for i, box in zip(result.nodes.parts.tolist(), result.part_bounds, strict=True)
        }
        np.testing.assert_allclose(size["door_1"], (0.9, 0.04, 2.1), atol=1e-6)
        np.testing.assert_allclose(size["door_9"], (0.9, 0.04, 2.1), atol=1e-6)
        np.testing.assert_allclose(size["seat_0"], np.array((20, 20, 17)) * 0.0254, atol=1e-6)


class Corrected(unittest.TestCase):
    """One file read otherwise is what it would have been, had it said so."""

    def told(self, seed: int) -> Scene:
        """A tree with a camera, a lamp, a clip and stretched parents."""
        scene = random_tree(seed, 12)
        nodes = scene.nodes
        camera, light = np.full(len(nodes), -1, np.int32), np.full(len(nodes), -1, np.int32)
        camera[int(np.argmax(nodes.mesh >= 0))], light[-1] = 0, 0
        turn = np.array([[0, 0, 0, 1], [0.6, 0, 0, 0.8]], np.float32)
        channels = (Channel(3, "rotation", np.array([0, 1], np.float32), turn), Channel(3, "translation", np.array([0, 1], np.float32), np.array([[0, 1, 2], [3, 4, 5]], np.float32)))  # fmt: skip
        return scene.but(
            nodes=replace(nodes, camera=camera, light=light), cameras=(Camera("perspective", znear=0.1, zfar=100.0),),
            lights=(Light("point", range=7.0),), clips=(Clip(channels, "turn"),),
        )  # fmt: skip

    @settings(deadline=None)
    @given(st.integers(0, 10_000), st.sampled_from(EVERY), st.sampled_from(EVERY))
    def test_as_if_it_had_said_so(self, seed: int, stated: Convention, true: Convention) -> None:
        other, numbers = random_tree(seed + 1, 6), self.told(seed).but(convention=true)
        right = merged([other, numbers], ["hall.glb", "lies.obj"])
        wrong = merged([other, numbers.but(convention=stated)], ["hall.glb", "lies.obj"])
        said = {"file": "lies.obj", "metresPerUnit": true.metres_per_unit, "up": true.up, "forward": true.forward, "handedness": true.handedness}  # fmt: skip
        route = parse_route([{"kind": "match_units_axes", "files": [said]}])
        mended = read_convention(wrong, route)
        self.assertEqual(mended.identities.names, wrong.identities.names)
        self.assertLess(furthest_apart(right, mended), 1e-6)
        size = len(right.nodes)
        np.testing.assert_allclose(mended.nodes.local[:size], right.nodes.local, rtol=1e-6, atol=1e-6)
        one, two = mended.cameras[mended.nodes.camera.max()], right.cameras[0]
        np.testing.assert_allclose((one.znear, one.zfar), (two.znear, two.zfar), rtol=1e-6)
        for a, b in zip(mended.clips[0].channels, right.clips[0].channels, strict=True):
            np.testing.assert_allclose(a.values, b.values, rtol=1e-5, atol=1e-5)
        again = read_convention(mended, route)
        self.assertEqual([m.id for m in again.meshes], [m.id for m in mended.meshes])
        np.testing.assert_array_equal(again.nodes.local, mended.nodes.local)

    @settings(deadline=None)
    @given(st.sampled_from(EVERY), st.sampled_from(EVERY))
    def test_any_unit_and_axes_are_found_from_their_map(self, one: Convention, other: Convention) -> None:
        change = linear_map(one, SITE) @ np.linalg.inv(linear_map(other, SITE))
        np.testing.assert_allclose(linear_map(convention_of(change), SITE), change, rtol=1e-11, atol=1e-15)

    def test_what_is_known_of_the_whole_and_of_one_file(self) -> None:
        scene = merged([random_tree(1, 5), random_tree(2, 5)], ["a.obj", "b.obj"])
        both = read_convention(scene, parse_route([{"kind": "match_units_axes", "sourceMetresPerUnit": 0.01}]))
        self.assertEqual(
            {k: s.convention.metres_per_unit for k, s in stated_by_file(both).items()}, {"a.obj": 0.01, "b.obj": 0.01}
        )
        step = {
            "kind": "match_units_axes",
            "sourceMetresPerUnit": 0.01,
            "files": [{"file": "b.obj", "metresPerUnit": 0.3048}],
        }
        out = read_convention(scene, parse_route([step]))
        small, large = (merged([c.but(convention=replace(c.convention, metres_per_unit=u))], ["x"]) for c, u in ((random_tree(1, 5), 0.01), (random_tree(2, 5), 0.3048)))  # fmt: skip
        for label, alone in (("a.obj", small), ("b.obj", large)):
            rows = [i for i, name in enumerate(out.identities.names) if name.startswith(label)]
            np.testing.assert_allclose(
                out.nodes.world[rows, :3, 3] * out.convention.metres_per_unit,
                alone.nodes.world[1:, :3, 3] * alone.convention.metres_per_unit, atol=1e-9,
            )  # fmt: skip

    def test_files_that_are_not_there_are_told_and_the_last_one_left_keeps_its_unit(self) -> None:
        said = [{"file": "doors.obj", "metresPerUnit": 0.001}, {"file": "gone.obj", "up": "Z"}]
        route = parse_route([{"kind": "match_units_axes", "files": said}])
        to = destination("metre-z-up-right")
        result, records = run(read(doors_obj=obj(*DOORS)), route, to)
        problems = [c.text for r in records for c in r.changes if c.problem]
        self.assertEqual(problems, ["there is no file “gone.obj” whose unit could be corrected"])
        self.assertAlmostEqual(float(np.ptp(result.part_bounds[:, :, 2])), 2.1, 6)

    def test_what_is_known_of_a_file_goes_on_being_known_of_it(self) -> None:
        step = MatchUnits(source_metres_per_unit=0.001, source_up="Z")
        several = step.with_files(["a.obj"], ["a.obj", "b.obj"])
        self.assertEqual((several.source_metres_per_unit, several.source_up), (None, None))
        self.assertEqual([(f.file, f.metres_per_unit, f.up) for f in several.files], [("a.obj", 0.001, "Z")])
        self.assertEqual(several.with_files(["a.obj", "b.obj"], ["a.obj"]), step)
        self.assertEqual(several.with_files(["a.obj", "b.obj"], ["b.obj"]), MatchUnits())
        self.assertEqual(several.with_files(["a.obj", "b.obj"], ["a.obj", "b.obj", "c.obj"]), several)
        self.assertEqual(MatchUnits().with_files(["a.obj"], ["a.obj", "b.obj"]), MatchUnits())

    def test_axes_that_cannot_be_are_refused(self) -> None:
        route = parse_route([{"kind": "match_units_axes", "files": [{"file": "hall.glb", "up": "X", "forward": "-X"}]}])
        with self.assertRaisesRegex(BadRoute, "share an axis"):
            run(read(doors_obj=obj(*DOORS), hall_glb=glb(*HALL)), route, destination("metre-z-up-right"))

    def test_a_far_file_goes_to_where_its_own_numbers_are(self) -> None:
        """Coordinates of a map in millimetres, taken for metres at first, beside the same place in metres."""
        place = np.array((4_520_000.0, 12.0, -3_310_000.0))
        box = (2.0, 2.0, 2.0)
        near = Gltf()
        shape = trimesh.creation.box(box)
        mesh = near.mesh(shape.vertices, shape.faces.astype(np.uint32))
        near.node(mesh=mesh, translation=(place + (5, 0, 0)).tolist(), name="here")
        scene = read(far_obj=obj(("there", np.array(box) * 1000, place * 1000)), hall_glb=near.glb())
        route = parse_route([{"kind": "match_units_axes", "files": [{"file": "far.obj", "metresPerUnit": 0.001}]}])
        out = read_convention(scene, route)
        middles = dict(
            zip((out.nodes.names[i] for i in out.nodes.parts.tolist()), out.part_bounds.mean(axis=1), strict=True)
        )
        np.testing.assert_allclose(middles["here"] - middles["there"], (5, 0, 0), atol=0.6)


class Carried(unittest.TestCase):
    """The whole way, read by libraries that know nothing of files."""

    def test_it_arrives_and_another_reader_sees_true_sizes(self) -> None:
        scene = read(doors_obj=obj(*DOORS), hall_glb=glb(*HALL))
        route = parse_route([{"kind": "match_units_axes", "files": [{"file": "doors.obj", "metresPerUnit": 0.001}]}])
        for name in ("metre-z-up-right", "centimetre-z-up-left"):
            for fmt in ("glb", "dae", "obj"):
                with self.subTest(name, fmt=fmt), tempfile.TemporaryDirectory() as folder:
                    package, result = sent(scene, "two", "0", destination(name), route, fmt)  # type: ignore[arg-type]
                    save(package.files, Path(folder))
                    report, _ = prove(Path(folder), scene, result)
                    self.assertTrue(report.ok, report)
                    self.assertEqual(report.compared, 4)
                    if fmt == "glb":
                        seen = trimesh.load(io.BytesIO(package.files["scene.glb"]), file_type="glb")
                        door = seen.geometry["door_1"].extents
                        np.testing.assert_allclose(
                            sorted(door), (0.04, 0.9, 2.1) if "centi" not in name else (4, 90, 210), rtol=1e-5
                        )

    def test_steps_with_lengths_before_and_behind_a_correction(self) -> None:
        """What is compared with has been through them in the same order, and in the same unit."""
        shapes, match = ShapesInAnotherUnit.USD.encode(), {"kind": "match_units_axes"}
        finer, near = {"kind": "make_shapes", "toleranceMm": 20.0}, {"kind": "recentre", "east": 2.0, "north": 5.0}
        door, said = obj(*DOORS), {"file": "doors.obj", "metresPerUnit": 0.001}
        for scene, steps in (
            (read(doors_obj=door), [{**match, "sourceMetresPerUnit": 0.001}, near]),
            (read(doors_obj=door), [near, {**match, "sourceMetresPerUnit": 0.001}]),
            (read(doors_obj=door, hall_glb=glb(*HALL)), [{**match, "files": [said]}, near]),
            (read(shapes_usda=shapes), [finer, {**match, "sourceMetresPerUnit": 1.0}]),
            (read(shapes_usda=shapes), [{**match, "sourceMetresPerUnit": 1.0}, finer]),
            (
                read(shapes_usda=shapes, hall_glb=glb(*HALL)),
                [finer, {**match, "files": [{"file": "shapes.usda", "metresPerUnit": 1.0, "up": "Y"}]}],
            ),
        ):
            with self.subTest(steps), tempfile.TemporaryDirectory() as folder:
                package, result = sent(scene, "one", "0", destination("metre-z-up-right"), parse_route(steps), "glb")
                save(package.files, Path(folder))
                report, _ = prove(Path(folder), scene, result)
                self.assertTrue(report.ok, report.worst)

    def test_the_wrong_factor_is_seen_on_arrival(self) -> None:
        """The proof goes by what the route says of the file, not by what was packed."""
        scene = read(doors_obj=obj(*DOORS), hall_glb=glb(*HALL))
        to, said = destination("metre-z-up-right"), {"file": "doors.obj", "metresPerUnit": 0.001}
        with tempfile.TemporaryDirectory() as folder:
            wrong = parse_route([{"kind": "match_units_axes", "files": [{**said, "metresPerUnit": 0.01}]}])
            package, _ = sent(scene, "two", "0", to, wrong, "glb")
            save(package.files, Path(folder))
            manifest = json.loads((Path(folder) / "manifest.json").read_text())
            step = next(s for s in manifest["route"] if s["kind"] == "match_units_axes")
            step["files"][0]["metresPerUnit"] = 0.001
            (Path(folder) / "manifest.json").write_text(json.dumps(manifest))
            report, _ = prove(Path(folder), scene)
            self.assertFalse(report.ok)
            self.assertEqual(report.faulty, 2)


class ShapesInAnotherUnit(unittest.TestCase):
    """What is made from parameters can be made again after its file came into another convention."""

    USD = """#usda 1.0
(
    metersPerUnit = 0.01
    upAxis = "Z"
)
def Sphere "ball"
{
    double radius = 50
}
def Cylinder "post"
{
    double radius = 20
    double height = 300
    token axis = "X"
}
"""

    def test_made_finer_beside_a_file_in_metres(self) -> None:
        scene = read(a_glb=glb(*HALL), shapes_usda=self.USD.encode())
        alone = load(bundles_from_files({"shapes.usda": self.USD.encode()})[0])
        route = parse_route([{"kind": "make_shapes", "toleranceMm": 0.1}, {"kind": "match_units_axes"}])
        result, records = run(scene, route, destination("metre-y-up-right"))
        self.assertEqual([c.text for r in records for c in r.changes if c.problem], [])
        made, _ = run(alone, route, destination("metre-y-up-right"))
        named = {m.name: m for m in result.meshes}
        for mesh in made.meshes:
            with self.subTest(mesh.name):
                self.assertEqual(mesh.triangles, named[mesh.name].triangles)
                np.testing.assert_allclose(mesh.positions, named[mesh.name].positions, atol=1e-6)
        ball = named["ball"]
        reach = np.linalg.norm(ball.positions[ball.indices].astype(np.float64).mean(axis=1), axis=1)
        self.assertLess(0.5 - float(reach.min()), 2 * 0.0001)
        assert ball.recipe is not None
        self.assertEqual(triangles_at(ball.recipe, fineness_of(ball), 1.0), ball.triangles)

    def test_a_tolerance_is_in_true_millimetres(self) -> None:
        """As the unit is known better, and after a step that stretched what was made; a second time changes nothing."""
        route = [{"kind": "match_units_axes", "sourceMetresPerUnit": 1.0}, {"kind": "make_shapes", "toleranceMm": 50.0}]
        to = destination("metre-y-up-right")
        for steps in (route, route[::-1]):
            result, records = run(read(shapes_usda=self.USD.encode()), parse_route(steps), to)
            self.assertEqual([c.text for r in records for c in r.changes if c.problem], [])
            ball = next(m for m in result.meshes if m.name == "ball")
            middles = ball.positions[ball.indices].astype(np.float64).mean(axis=1)
            sag = 1000 * (50.0 - float(np.linalg.norm(middles, axis=1).min()))
            self.assertLess(sag, 2 * 50.0)
            self.assertGreater(sag, 20.0)
            assert ball.recipe is not None
            self.assertEqual(fineness_now(ball.recipe, 1.0).tolerance_mm, 50.0)
            again, records = run(result, parse_route(steps[-1:] if steps is route else steps[:1]), to)
            self.assertEqual(
                ([c.text for r in records for c in r.changes], again.meshes[0].id), ([], result.meshes[0].id)
            )

    def test_what_a_step_moved_is_not_made_again(self) -> None:
        scene = convert(
            load(bundles_from_files({"shapes.usda": self.USD.encode()})[0]), Convention(1.0, "Y", "-Z", "right")
        )
        bent = scene.but(
            meshes=tuple(replace(m, positions=m.positions + np.float32([0, 0, 1e-4])) for m in scene.meshes)
        )
        _, records = run(
            bent, parse_route([{"kind": "make_shapes", "toleranceMm": 0.1}]), destination("metre-y-up-right")
        )
        self.assertEqual(sum("changed by an earlier step" in c.text for r in records for c in r.changes), 2)


def fineness_of(mesh: Any) -> Any:
    from tidy_caravan.core.geometry.recipes import Fineness

    return Fineness.of(mesh.recipe)
