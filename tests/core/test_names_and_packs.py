"""File names of every kind, archives that lie, and text that is not what it should be."""

from __future__ import annotations

import io
import json
import os
import time
import unittest
import zipfile
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
import trimesh

from tests.core.test_pose import FIGURE
from tests.support import one_triangle, read
from tidy_caravan.core.errors import TooLarge, UnusableInput
from tidy_caravan.core.formats import bundle_from_path, bundles_from_files, load, write
from tidy_caravan.core.formats.merge import load_all
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import F64

USDA = b"""#usda 1.0
(
    defaultPrim = "top"
    metersPerUnit = 1
)
def Xform "top"
{
    def Mesh "sheet" (
        doc = "plain"
    )
    {
        point3f[] points = [(0, 0, 0), (1, 0, 0), (0, 1, 0)]
        int[] faceVertexCounts = [3]
        int[] faceVertexIndices = [0, 1, 2]
        uniform token subdivisionScheme = "none"
    }
}
"""


def obj(material: str = "") -> bytes:
    head = f"mtllib {material}\n" if material else ""
    return f"{head}v 0 0 0\nv 1 0 0\nv 0 1 0\nusemtl red\nf 1 2 3\n".encode()


def packed(entries: list[tuple[str | zipfile.ZipInfo, bytes]]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in entries:
            archive.writestr(name, data)
    return out.getvalue()


class Names(unittest.TestCase):
    def test_hash_and_question_mark_are_letters_of_a_name(self) -> None:
        files = {n: one_triangle().glb() for n in ("A #1.glb", "A #2.glb", "is it?.glb", "100%25.glb")}
        self.assertEqual([b.main for b in bundles_from_files(files)], sorted(files))
        self.assertEqual(len(load_all(bundles_from_files(files)).nodes.parts), 4)
        self.assertEqual(len(load_all(bundles_from_files({"x.zip": packed(list(files.items()))})).nodes.parts), 4)

    def test_a_model_is_not_taken_for_its_own_material_file(self) -> None:
        mtl = b"newmtl red\nKd 1 0 0\n"
        files = {"Tower #2.obj": obj("Tower #2.mtl"), "Tower #2.mtl": mtl}
        for given in (files, {"t.zip": packed(list(files.items()))}):
            scene = read(dict(given), "Tower #2.obj")
            self.assertEqual(scene.materials[0].base_color, (1.0, 0.0, 0.0, 1.0))
            self.assertEqual(len(scene.nodes.parts), 1)
        with TemporaryDirectory() as folder:
            for name, data in files.items():
                (Path(folder) / name).write_bytes(data)
            scene = load(bundle_from_path(Path(folder) / "Tower #2.obj"))
            self.assertEqual(scene.materials[0].base_color, (1.0, 0.0, 0.0, 1.0))

    def test_addresses_are_still_decoded_and_still_stay_inside(self) -> None:
        g = one_triangle()
        g.json["buffers"] = [{"byteLength": len(g.blob), "uri": "my%20data.bin"}]
        text = json.dumps(g.json).encode()
        self.assertEqual(len(read({"a.gltf": text, "my data.bin": g.blob}).nodes.parts), 1)
        g.json["buffers"][0]["uri"] = "..%2f..%2fsecret.bin"
        with self.assertRaises(UnusableInput):
            scene = read({"a.gltf": json.dumps(g.json).encode(), "b.bin": b""})
            if not len(scene.nodes.parts):
                raise UnusableInput("left out")

    def test_a_name_on_disk_that_is_no_utf8(self) -> None:
        with TemporaryDirectory() as folder:
            path = os.path.join(os.fsencode(folder), b"caf\xe9.usda")
            Path(os.fsdecode(path)).write_bytes(USDA)
            self.assertEqual(len(load(bundle_from_path(Path(os.fsdecode(path)))).nodes.parts), 1)


class Archives(unittest.TestCase):
    def test_a_file_that_is_a_folder_long_names_and_links_cost_themselves(self) -> None:
        link = zipfile.ZipInfo("there")
        link.external_attr = (0o120777) << 16
        for other, word in (
            (("a", b"x"), "a file and a folder at once"),
            (("t/" + "n" * 400 + ".png", b""), "longer name"),
            ((link, b"/etc"), "is a link"),
            (("../../up.png", b""), "outside"),
        ):
            scene = read({"x.zip": packed([("a/x.usda", USDA), other])}, "x.usda")
            self.assertEqual(len(scene.nodes.parts), 1)
            self.assertTrue(any(word in n.text for n in scene.notes), word)

    def test_a_bomb_is_refused_by_its_ratio_and_at_once(self) -> None:
        for claim in (True, False):
            out = io.BytesIO()
            with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive, archive.open("x.obj", "w") as entry:
                for _ in range(400):
                    entry.write(b"\0" * (1 << 20))
            data = bytearray(out.getvalue())
            if not claim:  # the directory at the end says that there is hardly anything
                at = data.rfind(b"PK\x01\x02")
                data[at + 24 : at + 28] = (1000).to_bytes(4, "little")
            began = time.process_time()
            with self.assertRaises(UnusableInput) as caught:
                bundles_from_files({"bomb.zip": bytes(data)})
            self.assertLess(time.process_time() - began, 2.0)
            if claim:
                self.assertIsInstance(caught.exception, TooLarge)
                self.assertIn("200 times", caught.exception.what)

    def test_a_scene_that_packs_well_is_read(self) -> None:
        rows = "".join(f"v {k % 7} {k % 5} {k % 3}\n" for k in range(200_000)) + "f 1 2 3\n"
        self.assertEqual(len(read({"x.zip": packed([("x.obj", rows.encode())])}).nodes.parts), 1)


class Encodings(unittest.TestCase):
    def test_usd_in_another_encoding_is_read_as_a_guess(self) -> None:
        for data in (USDA.replace(b"plain", b"caf\xe9"), USDA.replace(b'"top"', b'"t\xf6p"')):
            scene = read(data, "x.usda")
            self.assertEqual(len(scene.nodes.parts), 1)
            self.assertIn("import.encoding", {n.code for n in scene.notes if n.kind == "guess"})
        with TemporaryDirectory() as folder:
            (Path(folder) / "x.usda").write_bytes(USDA.replace(b"plain", b"caf\xe9"))
            self.assertEqual(len(load(bundle_from_path(Path(folder) / "x.usda")).nodes.parts), 1)

    def test_names_in_another_encoding_are_read_as_a_guess(self) -> None:
        sheet = trimesh.Scene()
        sheet.add_geometry(trimesh.creation.box(), node_name="Bank", geom_name="Bank")
        solid = trimesh.creation.box().export(file_type="stl_ascii").partition("\n")[2]
        texts = {
            "obj": ("mtllib m.mtl\no Bänk\nusemtl Grün\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "Bänk"),
            "stl": (f"solid Bänk\n{solid}", "Bänk"),
            "dae": (
                write(read(sheet.export(file_type="glb")), "dae", "a").files["a.dae"].decode().replace("Bank", "Bänk"),
                "Bänk",
            ),
        }
        for ending, (text, name) in texts.items():
            for encoding, guessed in (("cp1252", True), ("utf-8", False), ("utf-8-sig", False), ("utf-16", False)):
                if encoding == "utf-16" and ending == "dae":  # says what it is in its first line
                    continue
                with self.subTest(ending, encoding=encoding):
                    library = "newmtl Grün\nKd 0 1 0\n".encode(encoding)
                    scene = read({f"a.{ending}": text.encode(encoding), "m.mtl": library}, f"a.{ending}")
                    self.assertIn(name, set(scene.nodes.names) | {m.name for m in scene.meshes})
                    told = [n.kind for n in scene.notes if n.code == "import.encoding"]
                    self.assertEqual(set(told), {"guess"} if guessed else set())
                    if ending == "obj":
                        self.assertEqual([m.name for m in scene.materials], ["Grün"])

    def test_a_mark_before_a_text_is_no_part_of_it(self) -> None:
        box = trimesh.creation.box()
        texts = {
            "ply": box.export(file_type="ply", encoding="ascii"), "stl": box.export(file_type="stl_ascii").encode(),
            "usda": USDA, "gltf": write(read(box.export(file_type="glb"), "x.glb"), "gltf", "x").files["x.gltf"],
        }  # fmt: skip
        more = write(read(box.export(file_type="glb"), "x.glb"), "gltf", "x").files
        for ending, data in texts.items():
            for text in (b"\xef\xbb\xbf" + data, data.decode().encode("utf-16")):
                with self.subTest(ending, head=text[:3]):
                    scene = read({**more, f"x.{ending}": text} if ending == "gltf" else text, f"x.{ending}")
                    whole = read(data, "x.usda") if ending == "usda" else scene
                    self.assertEqual(sum(m.triangles for m in scene.meshes), sum(m.triangles for m in whole.meshes))
                    self.assertTrue(ending == "usda" or scene.meshes[0].triangles == 12)
        # numbers that begin like a mark are numbers
        binary = bytearray(box.export(file_type="stl"))
        for mark in (b"\xef\xbb\xbf", b"\xff\xfe", b"\xfe\xff"):
            binary[: len(mark)] = mark
            self.assertEqual(read(bytes(binary), "x.stl").meshes[0].triangles, 12)

    def test_damage_is_told_in_our_words(self) -> None:
        for cut in range(60, len(USDA) - 20, 97):
            try:
                read(USDA[:cut], "x.usda")
            except UnusableInput as error:
                for foreign in ("pxr", "Tf", "Sdf", "Error", "0x", "::"):
                    self.assertNotIn(foreign, error.what)

    def test_ply_with_lines_that_mean_nothing(self) -> None:
        data = trimesh.creation.box().export(file_type="ply")
        odd = data.replace(b"element vertex", b"made_by somebody 7\nelement vertex", 1)
        scene = read(odd, "x.ply")
        self.assertEqual(scene.meshes[0].triangles, 12)
        self.assertTrue(any("made_by" in n.text for n in scene.notes))
        with self.assertRaises(UnusableInput):
            read(data.replace(b"property float x", b"property float", 1), "x.ply")


def controller(weights: str = "1 1", pose: str = "") -> bytes:
    """The figure in centimetres, bound through a bind shape of a hundredth to two joints."""
    points = np.asarray(FIGURE.vertices) * 100.0
    numbers = " ".join(f"{v:.6f}" for v in points.ravel())
    count = len(points)
    faces = " ".join(map(str, np.asarray(FIGURE.faces).ravel()))
    vcount, v = " ".join(["2"] * count), " ".join(["0 0 1 1"] * count)
    unit = "1 0 0 0 0 1 0 0 0 0 1 0 0 0 0 1"
    return f"""<?xml version="1.0"?><COLLADA xmlns="http://www.collada.org/2005/11/COLLADASchema" version="1.4.1">
<asset><created>2020-01-01T00:00:00Z</created><modified>2020-01-01T00:00:00Z</modified><unit meter="1"/><up_axis>Y_UP</up_axis></asset>
<library_geometries><geometry id="g"><mesh><source id="p"><float_array id="pa" count="{3 * count}">{numbers}</float_array>
<technique_common><accessor source="#pa" count="{count}" stride="3"><param name="X" type="float"/><param name="Y" type="float"/><param name="Z" type="float"/></accessor></technique_common></source>
<vertices id="vs"><input semantic="POSITION" source="#p"/></vertices>
<triangles count="12"><input semantic="VERTEX" source="#vs" offset="0"/><p>{faces}</p></triangles></mesh></geometry></library_geometries>
<library_controllers><controller id="c"><skin source="#g"><bind_shape_matrix>0.01 0 0 0 0 0.01 0 0 0 0 0.01 0 0 0 0 1</bind_shape_matrix>
<source id="j"><Name_array id="ja" count="2">hip arm</Name_array><technique_common><accessor source="#ja" count="2" stride="1"><param name="JOINT" type="name"/></accessor></technique_common></source>
<source id="b"><float_array id="ba" count="32">{unit} {unit}</float_array><technique_common><accessor source="#ba" count="2" stride="16"><param type="float4x4"/></accessor></technique_common></source>
<source id="w"><float_array id="wa" count="2">{weights}</float_array><technique_common><accessor source="#wa" count="2" stride="1"><param name="WEIGHT" type="float"/></accessor></technique_common></source>
<joints><input semantic="JOINT" source="#j"/><input semantic="INV_BIND_MATRIX" source="#b"/></joints>
<vertex_weights count="{count}"><input semantic="JOINT" source="#j" offset="0"/><input semantic="WEIGHT" source="#w" offset="1"/><vcount>{vcount}</vcount><v>{v}</v></vertex_weights>
</skin></controller></library_controllers>
<library_visual_scenes><visual_scene id="s">
<node id="root" name="root"><translate>0 50 0</translate><node sid="hip" id="n1" type="JOINT"><translate>3 -50 0</translate><node sid="arm" id="n2" type="JOINT">{pose}</node></node></node>
<node id="body" name="body"><translate>0 0 77</translate><instance_controller url="#c"><skeleton>#root</skeleton></instance_controller></node>
</visual_scene></library_visual_scenes><scene><instance_visual_scene url="#s"/></scene></COLLADA>""".encode()


def world_points(scene: Scene) -> F64:
    (part,) = scene.nodes.parts.tolist()
    mesh, world = scene.meshes[scene.nodes.mesh[part]], scene.nodes.world[part]
    out: F64 = mesh.positions[mesh.indices].astype(np.float64).reshape(-1, 3) @ world[:3, :3].T + world[:3, 3]
    return out


class ColladaSkins(unittest.TestCase):
    def test_bind_shape_and_joints_place_the_surface(self) -> None:
        rest = np.asarray(FIGURE.vertices)[FIGURE.faces].reshape(-1, 3)
        np.testing.assert_allclose(world_points(read(controller(), "x.dae")), rest + (3, 0, 0), atol=1e-5)
        # the arm stands 2 m higher and weighs three quarters
        scene = read(controller("1 3", "<translate>0 2 0</translate>"), "x.dae")
        np.testing.assert_allclose(world_points(scene), rest + (3, 1.5, 0), atol=1e-5)
        self.assertTrue(any("pose of its joints" in n.text for n in scene.notes))

    def test_without_its_joints_the_bind_shape_holds(self) -> None:
        data = controller().replace(b'sid="arm" id="n2"', b'sid="leg" id="n2"')
        scene = read(data, "x.dae")
        self.assertAlmostEqual(float(np.ptp(world_points(scene)[:, 1])), 1.8, places=5)
        self.assertTrue(any("bound in" in n.text for n in scene.notes))


if __name__ == "__main__":
    unittest.main()
