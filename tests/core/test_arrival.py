"""Carried to every destination and read back by others' readers; and the comparison notices what is wrong."""

from __future__ import annotations

import json
import unittest
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np

from tests.core.test_gltf import everything
from tests.support import read, sent, trimesh_scene, validate
from tidy_caravan import reference
from tidy_caravan.core.arrival.report import ArrivalReport
from tidy_caravan.core.carry import carry, prove
from tidy_caravan.core.conventions.destinations import BUILT_IN, Destination, FormatName, ImporterHabit
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.manifest import Manifest
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import Route, default_route
from tidy_caravan.core.scene import Scene
from tidy_caravan.demo.ferry_landing import landing
from tidy_caravan.demo.load import demo_route

ROOT = Path(__file__).resolve().parents[2]
MATCH = Route(steps=[{"kind": "match_units_axes"}])


def deliver(
    scene: Scene, to: Destination, folder: Path, route: Route = MATCH, fmt: FormatName = "glb"
) -> ArrivalReport:
    package, result = sent(scene, "test.glb", "0" * 64, to, route, fmt)
    save(package.files, folder)
    return prove(folder, scene, result)[0]


class Arriving(unittest.TestCase):
    def assert_arrived(self, report: ArrivalReport, parts: int) -> None:
        self.assertTrue(report.ok, (report.problems, report.lost[:3], [r for r in report.rows[:3] if r.faults]))
        self.assertEqual((report.compared, report.lost, report.extra), (parts, [], []))
        self.assertLess(report.worst.position_mm, 0.1)
        self.assertLess(report.worst.surface_mm, 0.1)
        self.assertLess(report.worst.rotation_deg, 0.001)
        self.assertLess(report.worst.size_ratio, 1.0001)

    def test_demo_to_every_destination_with_the_whole_route(self) -> None:
        scene = landing()
        route = Route(steps=[s for s in demo_route() if s["kind"] != "lightmap_uvs"])
        for d in BUILT_IN:
            with self.subTest(destination=d.name), TemporaryDirectory() as folder:
                # where x runs across the deck, the plane that cuts it in two does not meet it
                parts = 329 if d.name == "centimetre-z-up-left" else 330
                self.assert_arrived(deliver(scene, d, Path(folder), route), parts)
                report = validate(Path(folder) / "scene.glb")[0]
                self.assertEqual((report["errors"], report["warnings"]), (0, 0), report["messages"])

    def test_foreign_scenes_over_200_metres_in_every_format(self) -> None:
        for seed, d in enumerate(BUILT_IN):
            scene = read(trimesh_scene(10 + seed, 80, 150.0).export(file_type="glb"))
            for fmt in ("glb", "gltf", "obj"):
                with self.subTest(destination=d.name, format=fmt), TemporaryDirectory() as folder:
                    self.assert_arrived(deliver(scene, d, Path(folder), fmt=fmt), 80)

    def test_sharing_is_unchanged_where_nothing_has_to_be_baked(self) -> None:
        scene = read(trimesh_scene(3, odd=False).export(file_type="glb"))
        for d in BUILT_IN:
            with TemporaryDirectory() as folder:
                report = deliver(scene, d, Path(folder))
            self.assertEqual((report.ok, report.sharing_source, report.sharing_arrived), (True, 3, 3))

    def test_every_feature_to_every_destination(self) -> None:
        for d in BUILT_IN:
            with self.subTest(destination=d.name), TemporaryDirectory() as folder:
                self.assert_arrived(deliver(everything().scene(), d, Path(folder)), 3)
                data = (Path(folder) / "scene.glb").read_bytes()
                document = json.loads(data[20 : 20 + int.from_bytes(data[12:16], "little")])
                self.assertEqual([len(document[k]) for k in ("animations", "skins", "cameras", "scenes")], [1, 1, 2, 2])
                self.assertEqual(document["nodes"][0]["extras"], {"id": "T-1"})
                report = validate(Path(folder) / "scene.glb")[0]
                self.assertEqual((report["errors"], report["warnings"]), (0, 0), report["messages"])

    def test_default_route_gives_lightmap_sets_and_equal_bytes(self) -> None:
        scene = read(trimesh_scene(4, 12).export(file_type="glb"))
        first, *_ = carry(scene, "a", "0" * 64, BUILT_IN[2], default_route(), "glb")
        second, *_ = carry(scene, "a", "0" * 64, BUILT_IN[2], default_route(), "glb")
        self.assertEqual(first.files, second.files)
        self.assertTrue(all(p.uv_sets == 2 for p in first.manifest.parts))

    def test_importer_that_goes_by_the_standard(self) -> None:
        base = BUILT_IN[2]
        strict = base.model_copy(
            update={"name": "strict", "importers": {"glb": ImporterHabit(numbers="by-the-standard")}}
        )
        scene = read(trimesh_scene(6).export(file_type="glb"))
        with TemporaryDirectory() as folder:
            self.assert_arrived(deliver(scene, strict, Path(folder)), 60)
            arrived = read((Path(folder) / "scene.glb").read_bytes())
        np.testing.assert_allclose(
            arrived.part_bounds[:, 0].min(axis=0), scene.part_bounds[:, 0].min(axis=0), rtol=1e-5
        )


class Manifests(unittest.TestCase):
    def test_reference_page_is_fresh(self) -> None:
        self.assertEqual((ROOT / "docs" / "reference.md").read_text(), reference.text())

    def test_published_schema_is_the_one_in_force_and_packages_follow_it(self) -> None:
        import jsonschema

        published = json.loads((ROOT / "docs" / "manifest.schema.json").read_text())
        self.assertEqual(published, Manifest.model_json_schema(by_alias=True))
        package, _ = sent(landing(), "demo", "0" * 64, BUILT_IN[1], MATCH, "gltf")
        document = json.loads(package.files["manifest.json"])
        jsonschema.validate(document, published)
        self.assertEqual(document["parts"][0]["sourcePath"], "Pellwick Ferry Landing/waiting hall/hall floor")
        self.assertEqual(
            sum(f["bytes"] for f in document["files"]),
            sum(len(v) for k, v in package.files.items() if k != "manifest.json"),
        )


class Tampered(unittest.TestCase):
    """A package that is not as it was packed must not pass."""

    def setUp(self) -> None:
        holder = TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        self.scene = read(trimesh_scene(7, 24, odd=False).export(file_type="glb", include_normals=True))
        self.assertTrue(deliver(self.scene, BUILT_IN[1], self.folder, fmt="gltf").ok)
        self.document = json.loads((self.folder / "scene.gltf").read_text())

    def report(self) -> ArrivalReport:
        (self.folder / "scene.gltf").write_text(json.dumps(self.document))
        return prove(self.folder, self.scene)[0]

    def part(self, number: int = 0) -> dict[str, Any]:
        return [n for n in self.document["nodes"] if "mesh" in n][number]  # type: ignore[no-any-return]

    def test_moved_by_a_millimetre(self) -> None:
        self.part()["translation"][0] += 0.001
        report = self.report()
        self.assertFalse(report.ok)
        self.assertAlmostEqual(report.rows[0].position_mm, 1.0, places=2)
        self.assertEqual(report.rows[0].faults[0], "position")

    def test_turned_scaled_renamed_hung_elsewhere_and_lost(self) -> None:
        for number, change, fault in (
            (0, {"rotation": [0, 0, 0, 1]}, "rotation"),
            (1, {"scale": [1.01, 1.01, 1.01]}, "size"),
            (2, {"mesh": None}, None),
            (3, {"name": "other"}, "tree path"),
        ):
            with self.subTest(change=change):
                self.setUp()
                part = self.part(number)
                part |= change
                if part.get("mesh", 0) is None:
                    del part["mesh"]
                report = self.report()
                self.assertFalse(report.ok)
                if fault:
                    self.assertIn(fault, report.rows[0].faults)
                else:
                    self.assertEqual((len(report.lost), report.compared), (1, 23))
        self.setUp()
        groups = [n for n in self.document["nodes"] if len(n.get("children", [])) > 1]
        child = groups[0]["children"].pop()
        groups[1]["children"].append(child)
        self.assertIn("tree path", self.report().rows[0].faults)

    def test_faces_normals_slots_and_sharing(self) -> None:
        self.document["meshes"].append(json.loads(json.dumps(self.document["meshes"][self.part()["mesh"]])))
        self.part()["mesh"] = len(self.document["meshes"]) - 1
        self.assertIn("1 shared meshes arrived as several.", self.report().problems)
        self.setUp()
        data = bytearray((self.folder / "scene.bin").read_bytes())
        accessor = self.document["accessors"][self.document["meshes"][0]["primitives"][0]["attributes"]["NORMAL"]]
        start = self.document["bufferViews"][accessor["bufferView"]]["byteOffset"]
        data[start : start + 12] = np.float32([0.6, 0.8, 0]).tobytes()
        (self.folder / "scene.bin").write_bytes(data)
        report = self.report()
        self.assertIn("normals", report.rows[0].faults)
        self.assertGreater(report.worst.normal_deg, 1.0)
        self.assertTrue(any("not the file that was packed" in p for p in report.problems))

    def test_unusable_packages_say_why(self) -> None:
        with self.assertRaisesRegex(UnusableInput, "no manifest"):
            prove(self.folder / "nowhere", self.scene)
        (self.folder / "scene.gltf").write_text("{}{")
        with self.assertRaisesRegex(UnusableInput, "cannot read"):
            prove(self.folder, self.scene)
        (self.folder / "manifest.json").write_text("{}")
        with self.assertRaisesRegex(UnusableInput, "manifest cannot be used"):
            prove(self.folder, self.scene)


if __name__ == "__main__":
    unittest.main()
