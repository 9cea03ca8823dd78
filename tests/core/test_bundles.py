"""Files that belong together: folders, zips, several models in one tree, pictures found and supplied."""

from __future__ import annotations

import io
import tempfile
import unicodedata
import unittest
import zipfile
from pathlib import Path

import numpy as np
from pxr import Sdf, Usd, UsdGeom, UsdUtils

from tests.core.test_collada import BOUND, document, effect
from tests.support import PNG, Gltf, one_triangle
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.figures import bounds_metres
from tidy_caravan.core.formats import bundle_from_files, bundle_from_path, bundles_from_files, bundles_from_paths, load
from tidy_caravan.core.formats.merge import load_all
from tidy_caravan.core.formats.shared.bundle import Bundle
from tidy_caravan.core.formats.shared.images import packed_channels, supply
from tidy_caravan.core.formats.shared.travel import with_supplied
from tidy_caravan.core.scene.identity import lead_of

PAINTED = document(
    f'<node name="a">{BOUND}</node>', libraries=effect('<diffuse><texture texture="smp" texcoord="UV"/></diffuse>')
)
QUARTER = document(asset='<unit meter="0.01"/><up_axis>Z_UP</up_axis>')


def zipped(files: dict[str, bytes]) -> bytes:
    body = io.BytesIO()
    with zipfile.ZipFile(body, "w") as archive:
        for name, data in files.items():
            archive.writestr(name, data)
    return body.getvalue()


TRIANGLE = b"mtllib a.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 0 1\nusemtl m\nf 1/1 2/2 3/3\n"


class Pictures(unittest.TestCase):
    def test_by_path_then_by_name_then_whatever_the_case(self) -> None:
        for place, how in (
            ("textures/board.png", None),
            ("TEXTURES/Board.PNG", None),
            ("elsewhere/deep/board.png", "texture.found-by-name"),
            ("elsewhere/BOARD.png", "texture.found-by-name"),
        ):
            with self.subTest(place):
                scene = load(bundle_from_files({"model/scene.dae": PAINTED, f"model/{place}": PNG}))
                self.assertEqual(scene.images[0].data, PNG)
                codes = {n.code for n in scene.notes if n.code.startswith("texture")}
                self.assertEqual(codes, {how} if how else set())

    def test_accents_of_either_form_and_blanks_around(self) -> None:
        """Zips of some systems hold a letter and its accent as two signs, and the model one."""
        forms = [unicodedata.normalize(form, "Möwe é.png") for form in ("NFC", "NFD")]
        for there, said in (forms, forms[::-1], ["Möwe é.png", "Möwe é.png "]):
            for place in (f"maps/{there}", f"far/away/{there}"):
                with self.subTest(there=there.encode(), said=said.encode(), place=place):
                    mtl = f"newmtl m\nmap_Kd maps/{said}\n".encode()
                    files = {"a.obj": TRIANGLE, "a.mtl": mtl, place: PNG}
                    self.assertEqual(load(bundle_from_files(files)).images[0].data, PNG)
        scene = load(bundle_from_files({"a.obj": TRIANGLE, "a.mtl": f"newmtl m\nmap_Kd {forms[0]}\n".encode()}))
        self.assertEqual(supply(scene, {f"drop/{forms[1].upper()}": PNG})[0].images[0].data, PNG)

    def test_of_a_set_of_tiles_the_first_is_taken_and_it_is_told(self) -> None:
        for path, place, found in (
            ("maps/wood.<UDIM>.png", "maps/wood.1001.png", True),
            ("C:\\mo\\wood_%(UDIM)d.png", "maps/wood_1001.png", True),
            ("maps/wood.<UDIM>.png", "maps/wood.1002.png", False),
        ):
            with self.subTest(path):
                files = {"a.obj": TRIANGLE, "a.mtl": f"newmtl m\nmap_Kd {path}\n".encode(), place: PNG}
                scene = load(bundle_from_files(files))
                self.assertEqual(scene.images[0].data, PNG if found else None)
                codes = [n.code for n in scene.notes if n.code.startswith("texture")]
                self.assertEqual(codes[0], "texture.tiles" if found else "texture.missing")

    def test_layers_of_either_form_are_composed(self) -> None:
        for there, said in (("NFC", "NFD"), ("NFD", "NFC")):
            name, path = (unicodedata.normalize(form, "Möwe.usda") for form in (there, said))
            main = f'#usda 1.0\n(metersPerUnit = 1)\ndef Xform "a" (references = @./{path}@</b>) {{\n}}\n'.encode()
            other = b'#usda 1.0\ndef Xform "b" {\ndef Sphere "c" {\n}\n}\n'
            scene = load(Bundle("a.usda", main, {"a.usda": main, name: other}))
            self.assertEqual(len(scene.nodes.parts), 1)

    def test_openusd_that_names_images_of_another_machine(self) -> None:
        """They are looked for by name as with other formats, never followed, and kept to be supplied."""
        usd = (
            '#usda 1.0\n(metersPerUnit = 1)\ndef Mesh "q" (prepend apiSchemas = ["MaterialBindingAPI"]) {{\n'
            "int[] faceVertexCounts = [3]\nint[] faceVertexIndices = [0, 1, 2]\npoint3f[] points = [(0,0,0), (1,0,0), (0,1,0)]\n"
            'uniform token subdivisionScheme = "none"\nrel material:binding = </m>\n}}\n'
            'def Material "m" {{\ntoken outputs:surface.connect = </m/s.outputs:surface>\ndef Shader "s" {{\n'
            'uniform token info:id = "UsdPreviewSurface"\ntoken outputs:surface\ncolor3f inputs:diffuseColor.connect = </m/t.outputs:rgb>\n}}\n'
            'def Shader "t" {{\nuniform token info:id = "UsdUVTexture"\nasset inputs:file = @{path}@\nfloat3 outputs:rgb\n}}\n}}\n'
        )
        for path in ("/home/mo/maps/board.png", "file:///C:/maps/board.png", "C:/maps/board.png", "http://a.example/board.png", "../../board.png"):  # fmt: skip
            for files, found in (({"maps/board.png": PNG}, True), ({}, False)):
                with self.subTest(path, found=found):
                    scene = load(bundle_from_files({"a.usda": usd.format(path=path).encode(), **files}))
                    (image,) = scene.images
                    self.assertEqual(image.data, PNG if found else None)
                    self.assertIsNotNone(scene.materials[0].base_color_texture)
                    self.assertEqual(
                        len([n for n in scene.notes if n.code.startswith(("texture", "import.unreach"))]), 1
                    )
                    if not found:
                        self.assertEqual(supply(scene, {"board.png": PNG})[0].images[0].data, PNG)
        with tempfile.TemporaryDirectory() as folder:  # there on this machine, and none of the bundle's
            (Path(folder) / "board.png").write_bytes(PNG)
            real = load(bundle_from_files({"a.usda": usd.format(path=f"{folder}/board.png").encode()}))
            self.assertEqual([i.data for i in real.images], [None])
        other = load(bundle_from_files({"a.usda": usd.format(path="/etc/hostname").encode()}))
        self.assertEqual((other.images, [n.code for n in other.notes]), ((), ["import.unreachable"]))

    def test_two_files_of_that_name_are_no_answer(self) -> None:
        scene = load(bundle_from_files({"scene.dae": PAINTED, "a/board.png": PNG, "b/board.png": PNG}))
        self.assertIsNone(scene.images[0].data)
        self.assertIn("texture.missing", {n.code for n in scene.notes})

    def test_on_disk_as_well(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            top = Path(folder)
            (top / "scene.dae").write_bytes(PAINTED)
            (top / "maps").mkdir()
            (top / "maps" / "BOARD.PNG").write_bytes(PNG)
            self.assertEqual(load(bundle_from_path(top / "scene.dae")).images[0].data, PNG)

    def test_missing_ones_are_supplied_without_reading_the_model_again(self) -> None:
        scene = load(bundle_from_files({"scene.dae": PAINTED}))
        lines = {(t.kind, t.verdict): t.count for t in scene.travel}
        self.assertEqual(lines[("images", "behind")], 1)
        fresh, filled = supply(scene, {"drop/Board.png": PNG, "other.png": PNG})
        self.assertEqual(filled, ["board.png"])
        self.assertEqual(fresh.images[0].data, PNG)
        self.assertIs(fresh.meshes, scene.meshes)
        self.assertNotIn("texture.missing", {n.code for n in fresh.notes})
        lines = {(t.kind, t.verdict): t.count for t in with_supplied(fresh).travel}
        self.assertEqual(lines.get(("images", "travels")), 1)
        self.assertEqual(supply(scene, {"board.png": b"no image"})[1], [])

    def test_channels_are_put_where_they_belong(self) -> None:
        import PIL.Image

        def picture(color: tuple[int, int, int], size: int) -> bytes:
            out = io.BytesIO()
            PIL.Image.new("RGB", (size, size), color).save(out, "PNG")
            return out.getvalue()

        made = packed_channels((picture((10, 20, 30), 4), "b"), (picture((40, 50, 60), 8), "r"))
        assert made is not None
        with PIL.Image.open(io.BytesIO(made)) as result:
            self.assertEqual((result.size, result.getpixel((3, 3))), ((8, 8), (255, 30, 40)))
        self.assertIsNone(packed_channels((None, "r"), (b"nonsense", "g")))


class Several(unittest.TestCase):
    def test_models_land_in_one_tree_each_under_its_file_and_in_one_unit(self) -> None:
        scene = load_all(bundles_from_files({"a.glb": one_triangle().glb(), "b.dae": QUARTER, "note.txt": b"x"}))
        self.assertEqual(
            [n for n, p in zip(scene.nodes.names, scene.nodes.parent, strict=True) if p < 0], ["a.glb", "b.dae"]
        )
        self.assertEqual((scene.convention.metres_per_unit, scene.convention.up), (1.0, "Y"))
        self.assertEqual(scene.nodes.paths[int(scene.nodes.parts[1])], "b.dae/a")
        box = scene.part_bounds[1]
        # a square of one centimetre that lay flat under Z up lies flat under Y up
        np.testing.assert_allclose(box[1] - box[0], (0.01, 0, 0.01), atol=1e-9)
        self.assertEqual(scene.format, "several")

    def test_the_file_that_led_leads_again_whatever_comes_before_it(self) -> None:
        """What was decided about a haul's unit goes by it: a file of another unit must not turn a decision about."""
        alone = load_all(bundles_from_files({"quay.glb": one_triangle().glb()}))
        files = {"a.dae": QUARTER, "quay.glb": one_triangle().glb()}
        fresh = load_all(bundles_from_files(files))
        self.assertEqual((fresh.convention.metres_per_unit, lead_of(fresh.extras)), (0.01, "a.dae"))
        again = load_all(bundles_from_files(files), lead=lead_of(alone.extras))
        self.assertEqual((again.convention.metres_per_unit, again.convention.up), (1.0, "Y"))
        self.assertEqual(lead_of(again.extras), "quay.glb")
        np.testing.assert_allclose(bounds_metres(again)[1], bounds_metres(alone)[1], atol=1e-9)
        more = load_all(bundles_from_files({**files, "b.dae": QUARTER}), lead=lead_of(again.extras))
        self.assertEqual((more.convention.metres_per_unit, lead_of(more.extras)), (1.0, "quay.glb"))
        gone = load_all(bundles_from_files({"a.dae": QUARTER, "b.dae": QUARTER}), lead=lead_of(more.extras))
        self.assertEqual((gone.convention.metres_per_unit, lead_of(gone.extras)), (0.01, "a.dae"))

    def test_tables_are_renumbered(self) -> None:
        a, b = (
            document(
                f'<node name="{n}">{BOUND}</node>', libraries=effect(f"<diffuse><color>{c} 0 0 1</color></diffuse>")
            )
            for n, c in (("x", 1), ("y", 0))
        )
        scene = load_all(bundles_from_files({"a.dae": a, "b.dae": b}))
        colors = [scene.materials[scene.meshes[scene.nodes.mesh[i]].slots[0]].base_color[0] for i in scene.nodes.parts]
        self.assertEqual(colors, [1.0, 0.0])

    def test_one_that_cannot_be_read_is_told_and_none_is_an_error(self) -> None:
        scene = load_all(bundles_from_files({"a.glb": one_triangle().glb(), "b.glb": b"glTF" + b"\0" * 40}))
        self.assertEqual(len(scene.nodes.parts), 1)
        self.assertEqual([n.where for n in scene.notes if n.code == "import.file"], ["b.glb"])
        self.assertNotIn("import.site", {n.code for n in scene.notes}, "one file stands against no other")
        with self.assertRaises(UnusableInput):
            load_all(bundles_from_files({"a.glb": b"glTF" + b"\0" * 40, "b.glb": b"glTF" + b"\0" * 40}))

    def test_an_archive_that_cannot_be_opened_costs_itself_only(self) -> None:
        glb = one_triangle().glb()
        inner = zipped({"box.glb": glb})
        for bad, why in (
            (b"PK\x03\x04junk", "the zip cannot be read"),
            (zipped({}), "the zip is empty"),
            (zipped({"inner.zip": inner}), None),
        ):
            scene = load_all(bundles_from_files({"a.glb": glb, "bad.zip": bad}))
            self.assertEqual(len(scene.nodes.parts), 1)
            told = [(n.where, n.text) for n in scene.notes if n.code in ("import.file", "import.unknown")]
            self.assertEqual([where for where, _ in told], ["bad.zip" if why else "“bad/inner.zip”"])
            self.assertIn(why or "an archive within another is not opened", told[0][1])
            with tempfile.TemporaryDirectory() as folder:
                paths = [Path(folder) / name for name in ("a.glb", "bad.zip")]
                for path, data in zip(paths, (glb, bad), strict=True):
                    path.write_bytes(data)
                from_disk = load_all(bundles_from_paths(paths))
                self.assertEqual([n.where for n in from_disk.notes if n.code == "import.file"], ["bad.zip"])
                self.assertEqual(len(from_disk.nodes.parts), 1)
                with self.assertRaises(UnusableInput):
                    bundles_from_paths(paths[1:])
            with self.assertRaises(UnusableInput):
                load_all(bundles_from_files({"bad.zip": bad, "readme.txt": b"x"}))
            with self.assertRaises(UnusableInput):
                load_all(bundles_from_files({"bad.zip": bad, "worse.zip": bad}))

    def test_why_there_is_no_model_in_an_archive_is_told(self) -> None:
        for others, what, where in (({}, "no usable file", "x.zip"), ({"notes.md": b"x"}, "no model", "notes.md")):
            data = bytearray(zipped({"a.glb": one_triangle().glb(), **others}))
            for at in (data.index(b"PK\x03\x04") + 6, data.index(b"PK\x01\x02") + 8):
                data[at] |= 1  # general purpose flag: encrypted
            with self.assertRaises(UnusableInput) as raised:
                bundles_from_files({"x.zip": bytes(data)})
            self.assertIn("“a.glb” is encrypted", raised.exception.what)
            self.assertIn(what, raised.exception.what)
            self.assertEqual(raised.exception.where, where)

    def test_files_that_no_reader_knows_are_told_and_those_that_it_may_need_are_not(self) -> None:
        glb, beside = one_triangle().glb(), b"\0\5\x16\7" + bytes(60)
        quiet = {"a.glb": glb, "maps/wood.PNG": PNG, "maps/oak.tga": b"x", "scene.bin": b"x", "scene.mtl": b"x",
                 ".DS_Store": b"x", "._a.glb": beside, "__MACOSX/._b.xyz": b"x", "__MACOSX/c.glb": b"x"}  # fmt: skip
        package = zipped({"manifest.xml": b"<dae_root>a.dae</dae_root>", "a.dae": PAINTED})
        for files, told in (
            (quiet, {}),
            ({"all.zip": zipped(quiet)}, {}),
            ({"scene.zae": package, "b.glb": glb}, {}),
            ({**quiet, "hall.xyz": b"x", "job/notes.md": b"x"}, {"“hall.xyz” and “job/notes.md”": 2}),
            ({"all.zip": zipped({"a.glb": glb, "src/hall": b"x"})}, {"“src/hall”": 1}),
            ({"0.glb": b"broken", "a.glb": glb, "hall.xyz": b"x"}, {"“hall.xyz”": 1}),
        ):
            with self.subTest(list(files)):
                scene = load_all(bundles_from_files(files))
                self.assertEqual([n.where for n in scene.notes if n.code == "import.unknown"], list(told))
                self.assertEqual([t.count for t in scene.travel if t.kind == "other files"], list(told.values()))

    def test_zips_in_any_nesting_and_beside_models(self) -> None:
        deep = zipped({"job/model/scene.dae": PAINTED, "job/maps/board.png": PNG})
        self.assertEqual(load(bundle_from_files({"x.zip": deep})).images[0].data, PNG)
        bundles = bundles_from_files({"x.zip": deep, "a.glb": one_triangle().glb()})
        self.assertEqual(sorted(b.main for b in bundles), ["a.glb", "x/job/model/scene.dae"])
        self.assertEqual(len(load_all(bundles).nodes.parts), 2)

    def test_binary_layers_of_others_are_no_models_of_their_own(self) -> None:
        """As the library itself writes them, in either form, beside the stage, in a folder, and in a package."""
        for ending in ("usda", "usdc", "usd"):
            with self.subTest(ending), tempfile.TemporaryDirectory() as name:
                top = Path(name)
                (top / "parts").mkdir()
                for path in (f"bench.{ending}", f"parts/lamp.{ending}", f"parts/bulb.{ending}"):
                    layer = Usd.Stage.CreateNew(str(top / path))
                    UsdGeom.Cube.Define(layer, "/thing/cube")
                    layer.SetDefaultPrim(layer.GetPrimAtPath("/thing"))
                    if "lamp" in path:
                        layer.DefinePrim("/thing/bulb").GetReferences().AddReference(f"bulb.{ending}")
                    layer.Save()
                UsdUtils.CreateNewUsdzPackage(Sdf.AssetPath(str(top / f"bench.{ending}")), str(top / "post.usdz"))
                stage = Usd.Stage.CreateNew(str(top / f"scene.{ending}"))
                for k, path in enumerate(
                    (f"./bench.{ending}", f"bench.{ending}", f"./parts/lamp.{ending}", "post.usdz")
                ):
                    stage.DefinePrim(f"/p{k}", "Xform").GetReferences().AddReference(path)
                stage.Save()
                files = {p.relative_to(top).as_posix(): p.read_bytes() for p in top.rglob("*") if p.is_file()}
                bundles = bundles_from_files(files)
                self.assertEqual([b.main for b in bundles], [f"scene.{ending}"])
                self.assertEqual(len(load_all(bundles).nodes.parts), 5)
                inside = bundles_from_files(
                    {"all.zip": zipped({f"job/{n}": d for n, d in files.items() if n != "post.usdz"})}
                )
                self.assertEqual([b.main for b in inside], [f"job/scene.{ending}"])
                self.assertEqual([n.code for b in inside for n in b.notes], [])
                other = bundles_from_files({**files, "other/bench.usda": files[f"bench.{ending}"]})
                self.assertEqual(
                    [b.main for b in other], [f"scene.{ending}", "other/bench.usda"], "another of its name"
                )

    def test_what_is_sent_later_takes_no_model_s_place_and_what_lies_deeper_is_told(self) -> None:
        glb, beside = one_triangle().glb(), b"\0\5\x16\7\0\2\0\0Mac OS X        " + bytes(60)
        for files, mains, aside in (
            ({"sub/b.glb": glb, "a.glb": glb}, ["a.glb", "sub/b.glb"], []),
            ({"sub/b.glb": glb, "sub/old/c.glb": glb, "a.glb": glb}, ["a.glb", "sub/b.glb"], ["sub/old/c.glb"]),
            ({"x.zip": zipped({"a.glb": glb, "lods/b.glb": glb, "lods/c.glb": glb})}, ["a.glb"], ["lods/b.glb", "lods/c.glb"]),
            ({"x.zip": zipped({"a/b.glb": glb, "c/d.glb": glb})}, ["a/b.glb", "c/d.glb"], []),
            ({"p/x/b.glb": glb, "q/d.glb": glb}, ["p/x/b.glb", "q/d.glb"], []),
            ({"x.zip": zipped({"a.glb": glb, "__MACOSX/._a.glb": beside, "job/._a.glb": beside})}, ["a.glb"], []),
            ({"job/a.glb": glb, "job/._a.glb": beside, "job/.DS_Store": b"x"}, ["job/a.glb"], []),
        ):  # fmt: skip
            with self.subTest(list(files)):
                bundles = bundles_from_files(files)
                self.assertEqual([b.main for b in bundles], mains)
                scene = load_all(bundles)
                told = [n.where for n in scene.notes if n.code == "import.aside"]
                self.assertEqual([t.count for t in scene.travel if t.kind == "models"], [len(aside)] if aside else [])
                self.assertEqual(len(told), bool(aside))
                for name in aside:
                    self.assertIn(name, told[0])

    def test_bounds_do_not_change_by_being_merged(self) -> None:
        g = Gltf()
        g.node(mesh=g.mesh([[0, 0, 0], [3, 0, 0], [0, 4, 0]], [0, 1, 2]), translation=[10, 20, 30])
        alone = bounds_metres(g.scene())
        merged = load_all(bundles_from_files({"a.glb": g.glb(), "b.glb": g.glb()}))
        np.testing.assert_allclose(bounds_metres(merged), alone)


if __name__ == "__main__":
    unittest.main()
