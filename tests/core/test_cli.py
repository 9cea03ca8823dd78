"""The shell commands: exit codes, JSON keys, one sentence on stderr."""

from __future__ import annotations

import contextlib
import io
import json
import re
import subprocess
import sys
import unittest
import zipfile
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any, get_args

import trimesh

from tests.support import one_triangle, trimesh_scene
from tidy_caravan.cli import main
from tidy_caravan.core.conventions.yardstick import Answers
from tidy_caravan.core.formats import writable
from tidy_caravan.demo.three_trades import three_trades_files

GOOD = {"steps": [{"kind": "match_units_axes"}, {"kind": "mend_normals"}, {"kind": "lightmap_uvs", "resolution": 64}]}


class Cli(unittest.TestCase):
    def setUp(self) -> None:
        holder = TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        self.file = self.folder / "scene.glb"
        self.file.write_bytes(trimesh_scene(1, 10, odd=False).export(file_type="glb"))
        self.route = self.folder / "route.json"
        self.route.write_text(json.dumps(GOOD))

    def run_it(self, *args: Any) -> tuple[int, str, str]:
        out = io.TextIOWrapper(io.BytesIO(), encoding="utf-8")
        err = io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            code = main([str(a) for a in args])
        out.flush()
        return code, out.buffer.getvalue().decode(), err.getvalue()  # type: ignore[attr-defined]

    def test_survey_json(self) -> None:
        code, out, _ = self.run_it("survey", self.file, "--json")
        data = json.loads(out)
        self.assertEqual(code, 0)
        counts = {
            "nodes",
            "parts",
            "uniqueMeshes",
            "instances",
            "triangles",
            "uniqueTriangles",
            "vertices",
            "materials",
            "textures",
            "lights",
            "cameras",
            "drawCalls",
            "drawCallsInstanced",
        }
        self.assertLessEqual(counts, set(data["counts"]))
        self.assertEqual(data["counts"]["parts"], 10)
        self.assertEqual(
            (data["convention"]["metresPerUnit"], data["convention"]["up"], data["convention"]["handedness"]),
            (1.0, "Y", "right"),
        )
        self.assertEqual((len(data["bounds"]["min"]), len(data["bounds"]["max"])), (3, 3))
        self.assertTrue(data["findings"])

    def test_the_help_brings_no_library_with_it(self) -> None:
        program = (
            "import sys, tidy_caravan.cli as c; c.main(['--help']);"
            "print([m for m in ('numpy', 'scipy', 'pydantic', 'trimesh', 'PIL') if m in sys.modules])"
        )
        done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True)
        self.assertEqual(done.stdout.strip().splitlines()[-1], "[]")
        self.assertIn("survey", done.stdout)

    def test_steps_and_server_bring_no_heavy_library_with_them(self) -> None:
        heavy = (
            "scipy",
            "shapely",
            "numba",
            "llvmlite",
            "trimesh",
            "embreex",
            "xatlas",
            "uvunwrap",
            "pxr",
            "ifcopenshell",
        )
        program = (
            "import sys, tidy_caravan.core.steps, tidy_caravan.core.survey, tidy_caravan.server.main, tidy_caravan.server.openapi;"
            f"print([m for m in {heavy!r} if m in sys.modules])"
        )
        done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True)
        self.assertEqual(done.stdout.strip().splitlines()[-1], "[]")

    def test_carry_and_arrive(self) -> None:
        for fmt in ("glb", "gltf", "obj"):
            out = self.folder / fmt
            code, text, _ = self.run_it(
                "carry",
                self.file,
                "--to",
                "centimetre-z-up-left",
                "--out",
                out,
                "--route",
                self.route,
                "--format",
                fmt,
                "--json",
            )
            self.assertEqual((code, json.loads(text)["files"][-1]["path"].split(".")[0]), (0, "scene"))
            code, text, _ = self.run_it("arrive", out, "--against", self.file, "--json")
            data = json.loads(text)
            self.assertEqual((code, data["ok"], data["compared"], data["lost"]), (0, True, 10, []))
            self.assertLessEqual({"positionMm", "sizeRatio", "rotationDeg", "normalDeg"}, set(data["worst"]))
        other = self.folder / "other.glb"
        other.write_bytes(trimesh_scene(2, 10, odd=False).export(file_type="glb"))
        code, text, err = self.run_it("arrive", self.folder / "glb", "--against", other)
        self.assertEqual(code, 1)
        self.assertIn("NOT as it left", text)
        self.assertIn("not the one that was packed", err)

    def test_survey_json_tells_what_travels(self) -> None:
        """Each row of the travel list by the documented keys; the figures are those of the scene."""
        travel = json.loads(self.run_it("survey", self.file, "--json")[1])["travel"]
        for row in travel:
            self.assertLessEqual({"kind", "verdict", "count", "why"}, set(row))
            self.assertIn(row["verdict"], ("travels", "converted", "behind"))
        instances = {row["kind"]: row["count"] for row in travel}
        self.assertIn(10, instances.values(), instances)

    def test_several_files_are_one_scene_and_each_has_its_unit(self) -> None:
        """Also in a zip; files of one name are told apart by their folders, and the manifest stands for all of them."""
        box = trimesh.creation.box((900.0, 2100.0, 40.0))
        door = self.folder / "doors" / "scene.obj"
        door.parent.mkdir()
        door.write_text(
            "o door_1\n"
            + "".join(f"v {x} {y} {z}\n" for x, y, z in box.vertices.tolist())
            + "".join(f"f {a + 1} {b + 1} {c + 1}\n" for a, b, c in box.faces.tolist())
        )
        twin = self.folder / "scene.obj"
        twin.write_bytes(door.read_bytes().replace(b"door_1", b"door_2"))
        code, out, _ = self.run_it("survey", door, self.file, twin, "--json")
        data = json.loads(out)
        self.assertEqual(
            {f["file"] for f in data["files"]}, {f"{self.folder.name}/scene.obj", "doors/scene.obj", "scene.glb"}
        )
        likely = {f["file"]: next(u["label"] for u in f["units"] if u["likeliest"]) for f in data["files"]}
        self.assertEqual(likely["doors/scene.obj"], "millimetre")
        self.assertEqual(code, 1, "a wrong unit")
        self.assertEqual(data["counts"]["parts"], 12)
        said = [{"file": "scene.obj", "metresPerUnit": 0.001}]
        self.route.write_text(json.dumps([{"kind": "match_units_axes", "files": said}, *GOOD["steps"][1:]]))
        carry = ("--to", "metre-z-up-right", "--route", self.route, "--out", self.folder / "out")
        self.assertEqual(self.run_it("carry", door, self.file, *carry)[0], 0)
        bundle = self.folder / "both.zip"
        with zipfile.ZipFile(bundle, "w") as archive:
            archive.write(door, "scene.obj")
            archive.write(self.file, "scene.glb")
        for against in ((self.file, door), (door, self.file), (bundle,)):
            with self.subTest(against):
                code, _, err = self.run_it("arrive", self.folder / "out", "--against", *against)
                self.assertEqual((code, err), (0, ""))
        code, _, err = self.run_it("arrive", self.folder / "out", "--against", twin, self.file)
        self.assertEqual(code, 1)
        self.assertIn("not the one that was packed", err)
        code, _, err = self.run_it("survey", door, door)
        self.assertEqual((code, err.count("\n")), (2, 1))
        self.assertIn("named twice", err)

    def test_every_format_is_carried_and_arrives(self) -> None:
        for kind in sorted(writable()):
            with self.subTest(kind=kind):
                out = self.folder / kind
                code, _, err = self.run_it(
                    "carry",
                    self.file,
                    "--to",
                    "centimetre-z-up-left",
                    "--out",
                    out,
                    "--route",
                    self.route,
                    "--format",
                    kind,
                )
                self.assertEqual((code, err), (0, ""))
                code, text, err = self.run_it("arrive", out, "--against", self.file, "--json")
                data = json.loads(text)
                self.assertEqual((code, data["ok"], data["compared"], data["lost"]), (0, True, 10, []), err)
                self.assertLess(data["worst"]["positionMm"], 0.1)

    def test_a_proposed_route_is_one_that_carry_takes(self) -> None:
        route = self.folder / "proposed.json"
        code, text, _ = self.run_it("propose", self.file, "--to", "centimetre-z-up-left", "--out", route, "--json")
        told = json.loads(text)
        self.assertEqual((code, told["route"]), (0, json.loads(route.read_text())))
        self.assertEqual(len(told["proposal"]), len(told["route"]["steps"]))
        self.assertTrue(all(p["reasons"] for p in told["proposal"]))
        out = self.folder / "package"
        code, _, err = self.run_it("carry", self.file, "--to", "centimetre-z-up-left", "--out", out, "--route", route)
        self.assertEqual((code, err), (0, ""))
        self.assertEqual(self.run_it("arrive", out, "--against", self.file)[0], 0)
        self.assertIn("Match units and axes", self.run_it("propose", self.file, "--to", "metre-y-up-right")[1])

    def test_errors_in_the_scene_are_exit_1(self) -> None:
        g = one_triangle()
        g.json["nodes"][0]["scale"] = [100, 100, 100]
        self.file.write_bytes(g.glb())
        self.assertEqual(self.run_it("survey", self.file)[0], 1)

    def test_unusable_input_is_exit_2_and_one_sentence(self) -> None:
        broken = self.folder / "broken.glb"
        broken.write_bytes(b"glTF broken")
        bad_route = self.folder / "bad.json"
        bad_route.write_text('{"steps": [{"kind": "fly"}]}')
        out = self.folder / "out"
        for args in (
            ("survey", self.folder / "none.glb"),
            ("survey", broken),
            ("survey", self.folder),
            ("survey", self.file, "--destination", "moon"),
            ("carry", self.file, "--to", "moon", "--out", out),
            ("propose", self.file, "--to", "moon"),
            ("propose", broken, "--to", "metre-y-up-right"),
            ("carry", self.file, "--to", "metre-y-up-right", "--out", out, "--route", bad_route),
            ("carry", self.file, "--to", "metre-y-up-right", "--out", self.file),
            ("arrive", self.folder, "--against", self.file),
            ("fly",),
            ("carry", self.file),
            (),
        ):
            with self.subTest(args=args):
                code, text, err = self.run_it(*args)
                self.assertEqual((code, text, len(err.strip().splitlines())), (2, "", 1), err)
                self.assertNotIn("Traceback", err)
                code, text, _ = self.run_it(*args, "--json")
                problem = json.loads(text)["problem"]
                self.assertEqual((code, set(problem)), (2, {"code", "title", "where"}))
                self.assertTrue(problem["code"] and " ".join(problem["title"].split()) in err, problem)

    def test_the_source_is_never_written_over_nor_what_lies_beside_it(self) -> None:
        before = self.file.read_bytes()
        (self.folder / "elsewhere").mkdir()
        (self.folder / "elsewhere" / "scene.glb").symlink_to(self.file)
        to = ("--to", "metre-z-up-right", "--route", self.route)
        for command in (
            ("carry", self.file, *to, "--out", self.folder),
            ("carry", self.file, *to, "--out", self.folder / "elsewhere"),
            ("propose", self.file, "--to", "metre-z-up-right", "--out", self.file),
        ):
            code, _, err = self.run_it(*command)
            self.assertEqual(code, 2)
            self.assertRegex(err, r"scene\.glb: this is the source, which is never written over; name another place$")
            self.assertEqual(self.file.read_bytes(), before)
        self.assertEqual(sorted(p.name for p in self.folder.iterdir()), ["elsewhere", "route.json", "scene.glb"])
        # what the source may be made of stays; what an earlier package left there does not
        beside = (*to, "--format", "obj", "--out", self.folder)
        (self.folder / "scene.mtl").write_bytes(b"newmtl of somebody")
        code, _, err = self.run_it("carry", self.file, *beside)
        self.assertEqual((code, (self.folder / "scene.mtl").read_bytes()), (2, b"newmtl of somebody"))
        self.assertRegex(err, r"scene\.mtl: a file of this name lies beside the source")
        self.assertFalse((self.folder / "scene.obj").exists())
        (self.folder / "scene.mtl").unlink()
        for _ in range(2):
            self.assertEqual(self.run_it("carry", self.file, *beside)[0], 0)
        self.assertEqual(self.run_it("arrive", self.folder, "--against", self.file)[0], 0)

    def test_a_place_that_cannot_be_written_is_told_before_the_work(self) -> None:
        for out, pattern in (
            (self.route, r"route\.json: there is a file where a folder is to be"),
            (self.route / "deep" / "er", r"route\.json: there is a file where a folder is to be"),
            ("", r"--out: the name is empty"),
        ):
            # the source is not there either: nobody has looked for it
            code, _, err = self.run_it("carry", self.folder / "none.glb", "--to", "metre-z-up-right", "--out", out)
            self.assertEqual(code, 2)
            self.assertRegex(err, pattern)
        code, _, err = self.run_it("carry", self.file, "--to", "metre-z-up-right", "--out", "/proc/none")
        self.assertEqual(code, 2)
        self.assertRegex(err, r"^tidy-caravan: /proc/none: no such file or directory")

    def test_destinations_and_installed_command(self) -> None:
        code, out, _ = self.run_it("destinations", "--json")
        data = json.loads(out)
        self.assertEqual((code, len(data)), (0, 4))
        self.assertEqual(
            {(d["world"]["metresPerUnit"], d["world"]["up"], d["world"]["handedness"]) for d in data},
            {(1.0, "Y", "right"), (1.0, "Z", "right"), (0.01, "Z", "left"), (1.0, "Y", "left")},
        )
        done = subprocess.run(
            [str(Path(sys.executable).parent / "tidy-caravan"), "destinations"],
            capture_output=True,
            text=True,
            check=True,
        )
        self.assertEqual(len(done.stdout.splitlines()), 4)

    def test_a_destination_is_proven_kept_and_carried_to(self) -> None:
        own, out, yard = self.folder / "Own Engine.json", self.folder / "package", self.folder / "yard"
        code, text, err = self.run_it("yardstick", "--to", "metre-z-up-right", "--out", yard)
        self.assertEqual((code, text.split(), err), (0, [str(yard / "yardstick.glb")], ""))
        # somebody imports it into a world of centimetres that turns Y into Z, as trimesh would hand it over
        points = trimesh.load(yard / "yardstick.glb").to_geometry().vertices @ [[1, 0, 0], [0, 0, 1], [0, -1, 0]]
        sizes = ",".join(f"{size:.6g}" for size in points.max(axis=0) - points.min(axis=0))
        seen = ("--sizes", sizes, "--marks", "X,Z,-Y", "--shown-in", "centimetre")
        code, text, _ = self.run_it("yardstick", "--to", "metre-z-up-right", *seen, "--keep", own, "--json")
        told = json.loads(text)
        self.assertEqual((code, told["factor"], told["axes"]), (0, 0.01, ["X", "Z", "-Y"]))
        kept = json.loads(own.read_text())
        self.assertEqual((kept["name"], kept["builtIn"]), ("own-engine", False))
        self.assertEqual(kept["importers"]["glb"]["file"], told["file"])
        self.assertEqual(kept | {"name": told["destination"]["name"]}, told["destination"])
        self.assertEqual(json.loads(self.run_it("destinations", own, "--json")[1]), kept)
        # what is carried to it is right there: numbers of centimetres, turned the other way
        to = ("--to", own, "--route", self.route)
        self.assertEqual(self.run_it("carry", self.file, *to, "--out", out)[0], 0)
        (package,) = out.glob("*.glb")
        there = trimesh.load(package).to_geometry().bounds @ [[1, 0, 0], [0, 0, 1], [0, -1, 0]] * 0.01
        source = trimesh.load(self.file).to_geometry().bounds @ [[1, 0, 0], [0, 0, 1], [0, -1, 0]]
        self.assertLess(abs(there - source).max(), 1e-5)
        self.assertEqual(self.run_it("arrive", out, "--against", self.file)[0], 0)
        # one of one's own keeps its name when another format is proven
        again = self.folder / "again.json"
        habit = ("--habit", "inches", "--format", "usda")
        self.assertEqual(self.run_it("yardstick", "--to", own, *habit, "--keep", again)[0], 0)
        both = json.loads(again.read_text())
        self.assertEqual((both["name"], both["importers"]["glb"]), ("own-engine", kept["importers"]["glb"]))
        self.assertEqual(both["importers"]["usda"]["file"]["metresPerUnit"], 0.0254)

    def test_what_may_be_answered_is_what_the_yardstick_takes(self) -> None:
        """The help needs no library, so that it has the words a second time."""
        for option, field in (("shown_in", "shown_in"), ("image", "picture")):
            line = ["yardstick", "--to", "x", f"--{option.replace('_', '-')}", "nothing that there is"]
            code, _, err = self.run_it(*line)
            self.assertEqual(code, 2)
            offered = set(re.findall(r"'([a-z-]+)'", err.split("choose from")[1]))
            self.assertEqual(offered, set(get_args(Answers.model_fields[field].annotation)) - {"not looked"})

    def test_answers_that_cannot_be_are_told(self) -> None:
        to = ("yardstick", "--to", "metre-y-up-right")
        keep = self.folder / "own.json"
        for seen, pattern in (
            (("--sizes", "1,2,3", "--marks", "X,Y,Y"), "Two marks cannot lie on one axis"),
            (("--sizes", "1,2,5", "--marks", "X,Y,Z"), "three different factors"),
        ):
            code, text, _ = self.run_it(*to, *seen, "--keep", keep)
            self.assertEqual((code, keep.exists()), (1, False))
            self.assertIn(pattern, text)
        lame = self.folder / "lame.json"
        lame.write_text(json.dumps({"name": "My own", "title": "Mine"}))
        for line, pattern in (
            (to, "--out writes it"),
            ((*to, "--sizes", "1,2,3"), "--sizes and --marks are needed together"),
            ((*to, "--sizes", "1,2", "--marks", "X,Y,Z"), "--sizes: "),
            ((*to, "--sizes", "1,2,3", "--marks", "X,Y,Q"), "--marks: "),
            ((*to, "--sizes", "1,2,3", "--marks", "X,Y,Z", "--node-scale", "0"), "--node-scale: "),
            ((*to, "--habit", "dreams"), "known are metres, centimetres"),
            ((*to, "--habit", "feet", "--sizes", "1,2,3", "--marks", "X,Y,Z"), "either somebody tells"),
            ((*to, "--out", self.folder / "yard", "--keep", keep), "--keep keeps what follows"),
            (("shapes", self.file, "--segments", "2"), "--segments is out of range"),
            (("destinations", lame), r"lame\.json: this is no destination \(name: .*world: Field required"),
            (("carry", self.file, "--to", self.file.with_suffix(".json"), "--out", self.folder), "cannot be read"),
        ):
            code, text, err = self.run_it(*line)
            self.assertEqual((code, text), (2, ""))
            self.assertRegex(err, pattern)

    def test_shapes_are_as_many_triangles_as_the_step_makes(self) -> None:
        for name, data in three_trades_files().items():
            (self.folder / name).parent.mkdir(exist_ok=True)
            (self.folder / name).write_bytes(data)
        beach = self.folder / "beach.usda"
        code, text, _ = self.run_it("shapes", beach, "--segments", 12, "--level", 1, "--parts", "[bpr]*", "--json")
        told = json.loads(text)
        self.assertEqual(code, 0)
        then = {s["name"]: s["then"] for s in told["items"]}
        self.assertEqual((then["buoy"], then["pole"], then["rowing_boat"]), (120, 48, 128))
        self.assertEqual(then["mooring_rope"], {s["name"]: s["triangles"] for s in told["items"]}["mooring_rope"])
        self.assertEqual(told["then"], sum(s["then"] * s["parts"] for s in told["items"]))
        # and the step makes them so: sixteen round columns, of sides and two caps each
        hall, out = self.folder / "hall.ifc", self.folder / "package"
        told = json.loads(self.run_it("shapes", hall, "--segments", 12, "--json")[1])
        (column,) = told["items"]
        self.assertEqual((column["parts"], column["then"]), (16, 2 * 12 + 2 * (12 - 2)))
        ids = [{"id": "1", "name": "columns", "rules": [{"names": ["column*"]}]}]
        ids.append({"id": "2", "name": "all", "rules": [{"names": ["*"]}]})
        self.route.write_text(json.dumps({"steps": [{"kind": "make_shapes", "segments": 12}], "sets": ids}))
        self.run_it("carry", hall, "--to", "metre-y-up-right", "--route", self.route, "--out", out)
        parts = json.loads((out / "manifest.json").read_text())["parts"]
        made = [p["triangles"] for p in parts if p["name"].startswith("column")]
        self.assertEqual(made, [column["then"]] * 16)
        # what the sets hold is told with the survey
        columns, everything = json.loads(self.run_it("survey", hall, "--route", self.route, "--json")[1])["sets"]
        self.assertEqual((columns["name"], columns["parts"], columns["taken"]), ("columns", 16, 0))
        self.assertEqual((everything["parts"], everything["taken"]), (len(parts), 16))


if __name__ == "__main__":
    unittest.main()
