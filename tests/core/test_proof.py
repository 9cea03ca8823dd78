"""A proof that misses nothing: every fault planted in every format that can hold it, and none where there is none."""

from __future__ import annotations

import re
import shutil
import unittest
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any, Literal

import numpy as np
import orjson
import trimesh
from scipy.spatial.transform import Rotation

from tests.harden.arrivals import TIDY, UNITS, sources
from tests.harden.arrivals import one as alarm_of
from tests.harden.bent import try_bent
from tests.loose import LOOSE, REFUSED, everything_said, said_of
from tests.planted import FAULTS, GltfFile, Plant, in_gltf, kiosk
from tests.support import sent
from tests.trees import as_mesh, moving, random_tree
from tidy_caravan.core.arrival import compare
from tidy_caravan.core.arrival.report import ArrivalReport
from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.carry import package_of, prove
from tidy_caravan.core.conventions.destinations import BUILT_IN, Destination
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import Route, run
from tidy_caravan.core.scene import GLTF, Channel, Clip, Mesh, Morph, Scene, make_nodes
from tidy_caravan.core.steps import Change, Step, StepContext, base, known_steps
from tidy_caravan.core.steps.base import Phase, per_mesh, step

ROUTE = Route(steps=[{"kind": "match_units_axes"}])


def planted(
    fmt: str, to: Destination, faults: dict[str, tuple[Plant, str]]
) -> Iterator[tuple[str, Path, str, Scene, Scene]]:
    """Each fault in a copy of one package that arrives as it left: its name, the folder, what has to be said, source, result."""
    scene = kiosk()
    with TemporaryDirectory() as whole:
        clean = Path(whole) / "clean"
        package, result = sent(scene, "kiosk", "0" * 64, to, ROUTE, fmt)  # type: ignore[arg-type]
        save(package.files, clean)
        report, _ = prove(clean, scene, result)
        assert report.ok, (fmt, to.name, everything_said(report))
        for name, (plant, wanted) in faults.items():
            folder = Path(whole) / name
            shutil.copytree(clean, folder)
            plant(folder)
            yield name, folder, wanted, scene, result
            shutil.rmtree(folder)


class Planted(unittest.TestCase):
    def plant_all(self, fmt: str, to: Destination) -> None:
        for name, folder, wanted, scene, result in planted(fmt, to, FAULTS[fmt]()):
            with self.subTest(format=fmt, fault=name, destination=to.name):
                report, _ = prove(folder, scene, result)
                self.assertFalse(report.ok)
                self.assertRegex(everything_said(report), re.compile(wanted))

    def test_glb(self) -> None:
        self.plant_all("glb", BUILT_IN[0])

    def test_gltf(self) -> None:
        self.plant_all("gltf", BUILT_IN[2])

    def test_collada(self) -> None:
        self.plant_all("dae", BUILT_IN[2])

    def test_usd_as_text(self) -> None:
        self.plant_all("usda", BUILT_IN[1])

    def test_usd_as_binary(self) -> None:
        self.plant_all("usdc", BUILT_IN[2])

    def test_obj(self) -> None:
        self.plant_all("obj", BUILT_IN[3])

    def test_ply(self) -> None:
        self.plant_all("ply", BUILT_IN[2])

    def test_stl(self) -> None:
        self.plant_all("stl", BUILT_IN[1])


class Loose(unittest.TestCase):
    """What receivers may pass over, take differently or trip on."""

    def plant_all(self, fmt: str, to: Destination) -> None:
        for name, folder, wanted, scene, result in planted(fmt, to, LOOSE[fmt]()):
            with self.subTest(format=fmt, fault=name, destination=to.name):
                self.assertRegex(said_of(folder, scene, result), re.compile(wanted))

    def test_glb(self) -> None:
        self.plant_all("glb", BUILT_IN[1])

    def test_gltf(self) -> None:
        self.plant_all("gltf", BUILT_IN[3])

    def test_collada(self) -> None:
        self.plant_all("dae", BUILT_IN[0])

    def test_usd_as_text(self) -> None:
        self.plant_all("usda", BUILT_IN[0])

    def test_usd_as_binary(self) -> None:
        self.plant_all("usdc", BUILT_IN[1])

    def test_obj(self) -> None:
        self.plant_all("obj", BUILT_IN[2])

    def test_stl(self) -> None:
        self.plant_all("stl", BUILT_IN[2])

    def test_documents_bent_anywhere_are_told_or_refused_in_our_words(self) -> None:
        out = try_bent(40, 20)
        self.assertEqual(out.faults, [])
        self.assertGreater(out.told, out.tried / 3)


class Rewritten(unittest.TestCase):
    def test_what_another_tool_writes_in_another_way_is_another_file_and_nothing_else(self) -> None:
        def without_indices(f: GltfFile) -> None:
            for primitive in (p for m in f.json["meshes"] for p in m["primitives"]):
                order = f.array(primitive.pop("indices"))[:, 0].copy()
                for name, number in primitive["attributes"].items():
                    entry = dict(f.json["accessors"][number])
                    rows = f.array(number)[order]
                    f.bin += b"\0" * (-len(f.bin) % 4)
                    f.json["bufferViews"].append({"buffer": 0, "byteOffset": len(f.bin), "byteLength": rows.nbytes})
                    f.bin += rows.tobytes()
                    entry.update(count=len(rows), bufferView=len(f.json["bufferViews"]) - 1, byteOffset=0)
                    primitive["attributes"][name] = len(f.json["accessors"])
                    f.json["accessors"].append(entry)
            f.json["buffers"][0]["byteLength"] = len(f.bin)

        scene = kiosk()
        with TemporaryDirectory() as whole:
            folder = Path(whole)
            package, result = sent(scene, "kiosk", "0" * 64, BUILT_IN[0], UNITS, "glb")
            save(package.files, folder)
            in_gltf(without_indices)(folder)
            self.assertEqual(prove(folder, scene, result)[0].problems, ["scene.glb is not the file that was packed"])


class Stated(unittest.TestCase):
    def test_what_the_manifest_says_of_parts_is_what_arrived(self) -> None:
        scene = kiosk()
        route = Route(steps=[{"kind": "match_units_axes"}, {"kind": "lightmap_uvs", "resolution": 64}])

        def part(manifest: dict[str, Any]) -> dict[str, Any]:
            found: dict[str, Any] = next(p for p in manifest["parts"] if p["name"] == "bulb")
            return found

        faults: dict[str, tuple[Callable[[dict[str, Any]], Any], str]] = {
            "place": (lambda m: part(m)["transform"].__setitem__(12, 7.0), "of “kiosk/bulb”: a place .* mm away"),
            "turn": (lambda m: part(m)["transform"].__setitem__(0, 0.5), "of “kiosk/bulb”: a place .* or turned"),
            "triangles": (lambda m: part(m).update(triangles=11), "“kiosk/bulb”: 11 triangles, and there are 12"),
            "sets": (lambda m: part(m).update(uvSets=1), "“kiosk/bulb”: 1 UV sets, and there are 2"),
            "lightmap": (lambda m: part(m).update(lightmap=[32, 32]), "“kiosk/bulb”: a lightmap of 32 × 32 texels"),
            "a part fewer": (lambda m: m["parts"].pop(), "the manifest has 6 parts, and 7 were packed"),
            "file": (lambda m: m.update(files=[]), "scene.glb is not among the files of the manifest"),
            "route": (lambda m: m["route"][0].pop("kind"), REFUSED + ".*the route in the manifest cannot be run"),
        }
        with TemporaryDirectory() as whole:
            clean = Path(whole) / "clean"
            package, result = sent(scene, "kiosk", "0" * 64, BUILT_IN[2], route, "glb")
            save(package.files, clean)
            self.assertEqual(said_of(clean, scene, result), "")
            for name, (change, wanted) in faults.items():
                with self.subTest(fault=name):
                    folder = Path(whole) / name
                    shutil.copytree(clean, folder)
                    manifest = orjson.loads((folder / "manifest.json").read_bytes())
                    change(manifest)
                    (folder / "manifest.json").write_bytes(orjson.dumps(manifest))
                    self.assertRegex(said_of(folder, scene, result), re.compile(wanted))


class Quiet(unittest.TestCase):
    """Packages as they were written; `./run harden --sources 1000` tries all sources, formats and destinations."""

    def quiet(self, names: tuple[str, ...], formats: tuple[str, ...], to: Destination) -> None:
        wanted = [(n, m) for n, m in sources() if n.startswith(names)]
        self.assertGreaterEqual(len(wanted), len(names))
        for name, make in wanted:
            scene = make()
            for fmt in formats:
                for route in (UNITS, TIDY):
                    with self.subTest(source=name, format=fmt):
                        self.assertEqual(alarm_of(scene, to, route, fmt), "")

    def test_nodes_without_names(self) -> None:
        self.quiet(("unnamed",), ("usdc", "dae", "glb"), BUILT_IN[1])

    def test_names_that_formats_do_not_take(self) -> None:
        self.quiet(("blanks", "digits", "equal names"), ("usda", "dae", "glb", "obj", "stl"), BUILT_IN[2])

    def test_names_that_are_words_of_a_format(self) -> None:
        for one, other in (
            ("vertex normal endsolid 3", "solid facet"),
            ("usemtl x", "end_header"),
            ("# no", "v 1 2 3"),
        ):
            scene = kiosk()
            names = tuple({"post left": one, "bulb": other}.get(n, n) for n in scene.nodes.names)
            scene = scene.but(nodes=replace(scene.nodes, names=names))
            for fmt in ("stl", "obj", "ply", "dae"):
                with self.subTest(names=(one, other), format=fmt):
                    self.assertEqual(alarm_of(scene, BUILT_IN[1], UNITS, fmt), "")

    def test_sheets_of_five_micrometres(self) -> None:
        self.quiet(("thin", "flat"), ("glb", "dae", "obj", "ply", "stl"), BUILT_IN[2])

    def test_no_parts_and_hidden_and_empty_ones(self) -> None:
        self.quiet(("no parts", "hidden"), ("glb", "dae", "usdc", "obj", "ply", "stl"), BUILT_IN[0])

    def test_vertices_that_nothing_uses(self) -> None:
        self.quiet(("unused",), ("obj", "ply", "glb", "dae"), BUILT_IN[3])

    def test_mirrored_and_sheared_parts(self) -> None:
        self.quiet(("mirrored", "sheared", "OpenUSD Z 0.01 True"), ("obj", "glb", "dae", "ply"), BUILT_IN[3])

    def test_far_off(self) -> None:
        self.quiet(("9000 m off", "4321988 m off", "IFC in METERS"), ("obj", "dae", "glb", "ply"), BUILT_IN[2])

    def test_parts_without_materials_after_parts_with_some(self) -> None:
        self.quiet(("without materials", "equal parts"), ("obj", "dae", "glb"), BUILT_IN[0])

    def test_scenes_of_several_roots_lights_cameras_clips(self) -> None:
        self.quiet(("everything", "kiosk"), ("glb", "dae", "usdc"), BUILT_IN[2])

    def test_clips_on_nodes_that_mirror_and_scale(self) -> None:
        """The axis on which a mirror lies is in no matrix, and a clip of the turn alone leaves it as it is."""
        route = Route.model_validate({"steps": [{"kind": "match_units_axes"}]})
        for seed in range(4):
            scene = moving(random_tree(seed, shear=False), seed)
            for destination in BUILT_IN:
                with self.subTest(seed=seed, destination=destination.name):
                    self.assertEqual(alarm_of(scene, destination, route, "glb"), "")


class Clips(unittest.TestCase):
    """A package whose clips are another's, of which one number differs."""

    def mast(self) -> Scene:
        """Drawn in centimetres under a node that says so, with a flag that blows."""
        box = trimesh.creation.box([20, 900, 20]).apply_translation([0, 450, 0])
        flag = trimesh.creation.box([1, 1, 0.01])
        wave = np.zeros(flag.vertices.shape, np.float32)
        wave[:, 2] = 0.4 * flag.vertices[:, 0]
        meshes = as_mesh(box), replace(as_mesh(flag), morphs=(Morph(wave),), morph_weights=(0.0,))
        nodes = make_nodes(
            [-1, -1], np.array([np.diag([0.01, 0.01, 0.01, 1.0]), np.eye(4)]), ["mast", "flag"], mesh=[0, 1]
        )
        nodes = replace(nodes, rest={0: ((0.0,) * 3, (0.0, 0.0, 0.0, 1.0), (0.01,) * 3)})
        turns = Rotation.from_euler("x", [[0], [4], [0]], degrees=True).as_quat().astype(np.float32)
        times = np.array([0, 1, 2], np.float32)
        sway = Channel(0, "rotation", times, turns)
        blow = Channel(1, "weights", times, np.array([[0], [1], [0]], np.float32))
        return Scene(GLTF, nodes, meshes, clips=(Clip((sway, blow), "wind"),))

    def test_the_pivot_of_what_only_changes_its_shape_may_move(self) -> None:
        scene = self.mast()
        only = scene.but(clips=(Clip(scene.clips[0].channels[1:], "wind"),))
        for at in ("corner", "world"):
            route = Route.model_validate(
                {"steps": [{"kind": "place_pivots", "at": at, "onlyFar": False, "where": {"names": ["flag"]}}]}
            )
            records = run(only, route, BUILT_IN[0])[1]
            self.assertEqual(bool(records[0].changes), at == "corner")
            self.assertEqual(alarm_of(only, BUILT_IN[0], route, "glb"), "")

    def test_each_of_them_is_told_by_what_it_moves(self) -> None:
        scene = self.mast()
        sway, blow = scene.clips[0].channels
        turned = sway.values.copy()
        turned[1] = Rotation.from_euler("x", 5, degrees=True).as_quat()
        nothing = blow.values * np.float32(1 + 1e-6)
        others: dict[str, tuple[Channel, Channel, str]] = {
            "turned a degree": (replace(sway, values=turned), blow, "holds “mast” 157 mm elsewhere at 1 s"),
            "not between keys": (replace(sway, interpolation="STEP"), blow, "holds “mast” 31"),
            "a weight": (sway, replace(blow, values=blow.values * np.float32(0.9)), "other morph weights"),
            "a weight's time": (sway, replace(blow, times=blow.times * np.float32(1.2)), "other morph weights"),
            "weights in steps": (sway, replace(blow, interpolation="STEP"), "other morph weights"),
            "nothing": (sway, replace(blow, values=nothing), ""),
        }
        with TemporaryDirectory() as folder:
            package, done = sent(scene, "mast", "0" * 64, BUILT_IN[0], Route(), "glb")
            save(package.files, Path(folder))
            for what, (one, two, told) in others.items():
                other = scene.but(clips=(Clip((one, two), "wind"),))
                changed, _ = sent(other, "mast", "0" * 64, BUILT_IN[0], Route(), "glb")
                (Path(folder) / "scene.glb").write_bytes(changed.files["scene.glb"])
                report, _ = prove(Path(folder), scene, done)
                said = [p for p in report.problems if "is not the file" not in p]
                with self.subTest(what):
                    self.assertEqual(len(said), bool(told), said)
                    self.assertIn(told, " ".join(said))


class OnParts(unittest.TestCase):
    def test_lights_and_cameras_that_hang_on_parts_or_together(self) -> None:
        """Nothing is converted on the way, so that the writer has to take them apart itself."""
        scene = kiosk()
        light, camera = scene.nodes.light.copy(), scene.nodes.camera.copy()
        light[5], camera[6], light[9] = 1, 0, 1
        odd = scene.but(nodes=replace(scene.nodes, light=light, camera=camera))
        for fmt in ("glb", "gltf", "dae", "usda", "usdz"):
            with self.subTest(format=fmt):
                self.assertEqual(alarm_of(odd, BUILT_IN[0], Route(), fmt), "")

    def test_data_of_one_of_several_that_are_called_the_same(self) -> None:
        for marked in range(4):
            more = make_nodes([-1] * 4, np.tile(np.eye(4), (4, 1, 1)), ["bollard.001"] * 4, mesh=[-1, 2, -1, -1], extras={marked: {"berth": 6}})  # fmt: skip
            scene = replace(kiosk(), nodes=more, roots=(), clips=())
            for fmt in ("glb", "dae", "usda"):
                with self.subTest(format=fmt, marked=marked):
                    self.assertEqual(alarm_of(scene, BUILT_IN[0], Route(), fmt), "")


class Toy(Step):
    """Adds a triangle to every mesh and says so, or does not."""

    title = "Toy"
    summary = "For this test only."
    phase = Phase.GEOMETRY

    kind: Literal["toy"] = "toy"
    honest: bool = True
    what: Literal[
        "triangle",
        "winding",
        "normals",
        "coordinates",
        "light",
        "material",
        "name",
        "part",
        "move",
        "hang",
        "unshare",
        "map",
        "data",
    ] = "triangle"

    def effects(self) -> tuple[Effect, ...]:
        return (Effect(DECLARED[self.what]),) if self.honest else ()

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        nodes = scene.nodes
        if self.what == "light":
            return scene.but(lights=(replace(scene.lights[0], intensity=9.0), *scene.lights[1:])), []
        if self.what == "material":
            return scene.but(materials=(replace(scene.materials[0], metallic=0.5), *scene.materials[1:])), []
        if self.what == "name":
            return scene.but(nodes=replace(nodes, names=("booth", *nodes.names[1:]))), []
        if self.what == "part":
            column = nodes.mesh.copy()
            column[3] = -1
            return scene.but(nodes=replace(nodes, mesh=column)), []
        if self.what == "hang":
            parent, local = nodes.parent.copy(), nodes.local.copy()
            parent[3], local[3] = 10, np.linalg.inv(nodes.world[10]) @ nodes.world[3]
            return scene.but(nodes=replace(nodes, parent=parent, local=local)), []
        if self.what == "unshare":
            column = nodes.mesh.copy()
            column[3] = len(scene.meshes)
            own = replace(scene.meshes[nodes.mesh[3]], extras={"own": True})
            return scene.but(nodes=replace(nodes, mesh=column), meshes=(*scene.meshes, own)), []
        if self.what == "map":
            sizes = nodes.lightmap.copy()
            sizes[3] = 64, 32
            return scene.but(nodes=replace(nodes, lightmap=sizes)), []
        if self.what == "data":
            return scene.but(nodes=replace(nodes, extras={**nodes.extras, 4: {"wet": True}})), []
        if self.what == "move":
            local = nodes.local.copy()
            local[3, 0, 3] += 0.5 / scene.convention.metres_per_unit
            return scene.but(nodes=replace(nodes, local=local)), []
        return per_mesh(scene, np.ones(len(nodes), np.bool_), self.changed)[0], []

    def changed(self, mesh: Mesh) -> Mesh:
        if self.what == "winding":
            return replace(mesh, indices=mesh.indices[:, ::-1])
        if self.what == "normals":
            assert mesh.normals is not None
            return replace(mesh, normals=mesh.normals[:, [1, 2, 0]])
        if self.what == "coordinates":
            return replace(mesh, uvs=(mesh.uvs[0] * 2, *mesh.uvs[1:]))
        more = np.array([[0, 1, 4]], np.uint32)
        return replace(
            mesh,
            indices=np.concatenate([mesh.indices, more]),
            material=np.concatenate([mesh.material, mesh.material[:1]]),
        )


DECLARED = {
    "triangle": Aspect.TRIANGLES,
    "winding": Aspect.TRIANGLES,
    "normals": Aspect.NORMALS,
    "coordinates": Aspect.FIRST_UV,
    "light": Aspect.LIGHTS,
    "material": Aspect.MATERIALS,
    "name": Aspect.NAMES,
    "part": Aspect.PARTS,
    "move": Aspect.POSITIONS,
    "hang": Aspect.TREE,
    "unshare": Aspect.SHARING,
    "map": Aspect.LIGHTMAP_UV,
    "data": Aspect.DATA,
}
SAID = {
    "triangle": r"1 triangle too many",
    "winding": r"12 triangles turned over",
    "normals": r"the route turned its normals",
    "coordinates": r"the route changed its first UV set",
    "light": r"light “kiosk/sun”: light is .* \(by the route\)",
    "material": r"“boards”: metallic is 0.5 instead of 0",
    "name": r"the route calls it “booth/front” instead of “kiosk/front”",
    "part": r"lost: kiosk/post left",
    "move": r"post left.*stands 500 mm off",
    "hang": r"the route calls it “kiosk/gate/post left” instead of",
    "unshare": r"1 shared meshes arrived as several \(by the route\)",
    "map": r"lightmap of “kiosk/post left” was to have 0 × 0 texels, and is to have 64 × 32 \(by the route\)",
    "data": r"data that the source has not: “wet” \(by the route\)",
}


class Declarations(unittest.TestCase):
    """What a step declares is taken from it; what it does not is held against it. No step is known by its name."""

    def setUp(self) -> None:
        step(Toy)
        self.addCleanup(base._steps.pop, "toy")

    def report(self, honest: bool, what: str, tamper: bool = False, beside: str = "") -> ArrivalReport:
        toy = {"kind": "toy", "honest": honest, "what": what}
        # baking scale may part meshes, and says so: what is asked here must not hide behind that
        units = {"kind": "match_units_axes", "bakeScale": False}
        route = Route(steps=[units, *([{"kind": beside}] if beside else []), toy])
        scene = kiosk()
        with TemporaryDirectory() as folder:
            package, result = sent(scene, "kiosk", "0" * 64, BUILT_IN[2], route, "glb")
            save(package.files, Path(folder))
            if tamper:
                FAULTS["glb"]()["winding of a triangle"][0](Path(folder))
            return prove(Path(folder), scene, result)[0]

    def test_what_is_declared_may_change(self) -> None:
        for what in DECLARED:
            with self.subTest(what=what):
                report = self.report(True, what)
                self.assertTrue(report.ok, everything_said(report))

    def test_what_is_not_declared_may_not(self) -> None:
        for what, said in SAID.items():
            with self.subTest(what=what):
                report = self.report(False, what)
                self.assertFalse(report.ok)
                self.assertRegex(everything_said(report), said)

    def test_what_is_declared_is_still_proven_on_arrival(self) -> None:
        report = self.report(True, "triangle", tamper=True)
        self.assertRegex(everything_said(report), r"1 triangle turned over")

    def test_names_and_tree_are_declared_apart(self) -> None:
        report = self.report(False, "hang", beside="tidy_names")
        self.assertRegex(everything_said(report), r"hung it below another node")
        self.assertTrue(self.report(True, "hang", beside="tidy_names").ok)

    def test_a_bound_is_held(self) -> None:
        """Triangles may go when they are thin: the step that drops them declares how thin."""
        scene = kiosk()
        route = Route(steps=[*ROUTE.steps, {"kind": "drop_degenerates"}])
        wall = scene.meshes[0]
        flat = np.array([[0, 1, 1], [0, 0, 2]], np.uint32)
        with_flat = replace(
            wall,
            indices=np.concatenate([wall.indices, flat]),
            material=np.concatenate([wall.material, wall.material[:2]]),
        )
        fine = scene.but(meshes=(with_flat, *scene.meshes[1:]))
        for source, good in ((fine, True), (scene, False)):
            with TemporaryDirectory() as folder:
                package, result = sent(source, "kiosk", "0" * 64, BUILT_IN[0], route, "glb")
                if not good:  # a step that drops a whole side of the box as if it had no area
                    less = [replace(m, indices=m.indices[2:], material=m.material[2:]) for m in result.meshes]
                    result = result.but(meshes=tuple(less))
                    package = package_of(result, source, "kiosk", "0" * 64, BUILT_IN[0], route, "glb", [], [])
                save(package.files, Path(folder))
                report, _ = prove(Path(folder), source, result)
            self.assertEqual(report.ok, good, everything_said(report))
            if not good:
                self.assertRegex(everything_said(report), r"2 triangles missing")

    def test_the_comparison_knows_no_step(self) -> None:
        kinds = [k for k in known_steps() if k != "toy"]
        for path in Path(compare.__file__).parent.glob("*.py"):
            text = path.read_text()
            self.assertEqual([k for k in kinds if f'"{k}"' in text], [], path.name)

    def test_without_the_result_the_route_is_run_again(self) -> None:
        scene, route = kiosk(), Route(steps=[*ROUTE.steps, {"kind": "place_pivots", "onlyFar": False}])
        with TemporaryDirectory() as folder:
            package, _ = sent(scene, "kiosk", "0" * 64, BUILT_IN[2], route, "glb")
            save(package.files, Path(folder))
            report, _ = prove(Path(folder), scene)
            self.assertTrue(report.ok, everything_said(report))
            self.assertTrue(any("Pivots were moved" in d for d in report.declared))

    def test_a_second_arrival_sees_the_file_as_it_is_now(self) -> None:
        scene = kiosk()
        with TemporaryDirectory() as folder:
            package, result = sent(scene, "kiosk", "0" * 64, BUILT_IN[1], ROUTE, "usdc")
            save(package.files, Path(folder))
            self.assertTrue(prove(Path(folder), scene, result)[0].ok)
            FAULTS["usdc"]()["part moved"][0](Path(folder))
            self.assertFalse(prove(Path(folder), scene, result)[0].ok)
            save(package.files, Path(folder))
            self.assertTrue(prove(Path(folder), scene, result)[0].ok)

    def test_cut_short_packages_are_told_in_our_words(self) -> None:
        scene = kiosk()
        for fmt in ("glb", "gltf", "dae", "usdc", "usda", "usdz", "ply", "stl"):
            with self.subTest(format=fmt), TemporaryDirectory() as folder:
                package, result = sent(scene, "kiosk", "0" * 64, BUILT_IN[0], ROUTE, fmt)  # type: ignore[arg-type]
                save(package.files, Path(folder))
                path = Path(folder) / package.manifest.main_file
                path.write_bytes(path.read_bytes()[: -path.stat().st_size // 3])
                with self.assertRaises(UnusableInput) as caught:
                    prove(Path(folder), scene, result)
                self.assertRegex(
                    caught.exception.what, r"not the file that was packed, and the receiver cannot read it"
                )
                self.assertNotRegex(caught.exception.what, r"Error|Traceback|exception")


if __name__ == "__main__":
    unittest.main()
