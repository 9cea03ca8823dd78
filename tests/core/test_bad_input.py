"""Bad input: an error that says where, or the scene without the bad piece and a note. Never anything else."""

from __future__ import annotations

import io
import json
import random
import struct
import tracemalloc
import unittest
import warnings
import zipfile
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import collada
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.test_gltf import everything
from tests.support import TRIANGLE, Gltf, one_triangle, read
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.errors import TooLarge, UnusableInput
from tidy_caravan.core.formats import Limits, bundle_from_files, bundle_from_path, load, write
from tidy_caravan.core.survey import survey


def with_json(change: Any) -> bytes:
    g = one_triangle()
    change(g.json)
    return g.glb()


class Broken(unittest.TestCase):
    """Files of which nothing can be made."""

    def assert_refused(self, data: bytes, pattern: str, name: str = "test.glb") -> None:
        with self.assertRaisesRegex(UnusableInput, pattern) as caught:
            read(data, name)
        self.assertNotIn("\n", caught.exception.sentence())

    def test_truncated(self) -> None:
        whole = everything().glb()
        for length in (1, 11, 19, 100, len(whole) - 1):
            with self.subTest(length=length):
                self.assert_refused(whole[:length], "cut off|no format|content is not")

    def test_empty_and_random(self) -> None:
        self.assert_refused(b"", "empty")
        self.assert_refused(random.Random(3).randbytes(5000), "not what the ending|no format")
        self.assert_refused(b"glTF" + random.Random(4).randbytes(5000), "version|cut off")

    def test_mislabelled_is_read_by_content(self) -> None:
        scene = read(one_triangle().glb(), "really.obj")
        self.assertEqual([n.code for n in scene.notes], ["import.mislabelled"])

    def test_claims_of_two_gigabytes_in_a_small_file(self) -> None:
        self.assert_refused(struct.pack("<4sII", b"glTF", 2, 2**31) + b"\0" * 1000, "claims 2147483648 bytes")
        g = one_triangle()
        g.json["accessors"][0] |= {"count": 2**31}
        tracemalloc.start()
        scene = g.scene()
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        self.assertEqual((len(scene.meshes), scene.notes[0].code), (0, "import.damaged"))
        self.assertLess(peak, 5_000_000)
        del g.json["accessors"][0]["bufferView"]  # zeros without data are bounded by the limit, not by the claim
        bundle = bundle_from_files({"a.glb": g.glb()}, Limits(upload_bytes=1 << 20))
        with self.assertRaises(TooLarge):
            load(bundle)

    def test_one_accessor_named_a_thousand_times_does_not_multiply_memory(self) -> None:
        g = Gltf()
        mesh = g.mesh(TRIANGLE, np.tile([0, 1, 2], 20_000))
        first = g.json["meshes"][mesh]["primitives"][0]
        g.json["meshes"][mesh]["primitives"] = [first] * 50
        g.json["meshes"] *= 100
        g.node(mesh=0)
        bundle = bundle_from_files({"a.glb": g.glb()}, Limits(upload_bytes=8 << 20))
        tracemalloc.start()
        with self.assertRaises(TooLarge):
            load(bundle)
        peak = tracemalloc.get_traced_memory()[1]
        tracemalloc.stop()
        self.assertLess(peak, 3 * bundle.limits.decoded_bytes)

    def test_json_with_wrong_types_at_the_top(self) -> None:
        for data in (
            b"[]",
            b'{"asset": 3}',
            b'{"asset": {"version": "1.0"}}',
            b'{"asset": {"version": "2.0"}, "nodes": 5}',
            b'{"asset"',
            b"{" * 100_000,
        ):
            with self.subTest(data=data[:40]):
                self.assert_refused(data, "glTF|JSON|nodes|content is not", "test.gltf")

    def test_zip_bomb_and_escaping_paths(self) -> None:
        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("scene.obj", b"v 0 0 0\n" * 4_000_000)
        with self.assertRaises(TooLarge):
            bundle_from_files({"bomb.zip": packed.getvalue()}, Limits(upload_bytes=1 << 20))
        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w") as archive:
            archive.writestr("../outside.glb", one_triangle().glb())
            archive.writestr("inside/scene.glb", one_triangle().glb())
        scene = read(packed.getvalue(), "some.zip")
        self.assertEqual((len(scene.nodes), [n.code for n in scene.notes]), (1, ["import.bundle"]))
        self.assert_refused(b"PK\x03\x04" + b"\0" * 60, "zip", "broken.zip")


class Damaged(unittest.TestCase):
    """Files with a bad piece: the rest is there, and a note says where."""

    def notes(self, g: Gltf) -> tuple[Any, list[str]]:
        scene = g.scene()
        survey(scene, BUILT_IN[0])
        write(scene, "glb", "x")
        return scene, [f"{n.where}: {n.text}" for n in scene.notes]

    def test_indices_out_of_range(self) -> None:
        g = Gltf()
        g.node(mesh=g.mesh(TRIANGLE, [0, 1, 2, 0, 1, 7]))
        scene, notes = self.notes(g)
        self.assertEqual(scene.meshes[0].triangles, 1)
        self.assertIn("1 triangle on vertices that do not exist", notes[0])

    def test_a_surface_stays_where_what_lies_on_it_points_at_nothing(self) -> None:
        """Or has not as many values as there should be: it goes alone, and it is told."""
        sheet = "def Mesh \"sheet\"\n{{\npoint3f[] points = [(0,0,0),(1,0,0),(1,1,0),(0,1,0)]\nint[] faceVertexCounts = [4]\nint[] faceVertexIndices = [0,1,2,3]\n{}\n}}"  # fmt: skip
        usd = "#usda 1.0\n" + sheet
        uv = 'texCoord2f[] primvars:st = [(0,0),(1,1){}] (interpolation = "{}")\n'
        normal = 'normal3f[] normals = [{}] (interpolation = "{}")'
        obj = "v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nvt 0 0\nvn 0 0 1\n"
        cases = {
            "f 1/1/1 2/7/1 3/-9/1 4/1/1": ("a.obj", "2 corners point at texture coordinates"),
            "f 1/1/1 2/1/0 3/1/1 4/1/1": ("a.obj", "1 corner points at normals"),
            uv.format("", "vertex") + "int[] primvars:st:indices = [0, 1, 7, 0]": ("a.usda", "1 index of the UV set “st”"),
            uv.format(",(1,0)", "faceVarying"): ("a.usda", "3 values of the UV set “st” for 4 corners; they were left out"),
            uv.format(",(1,0),(0,1)", "uniform"): ("a.usda", "for 1 face; they were taken for those of the corners"),
            normal.format("(0,0,1),(0,0,1),(0,0,1)", "faceVarying"): ("a.usda", "3 values of the normals"),
        }  # fmt: skip
        for text, (name, told) in cases.items():
            scene = read({name: (usd.format(text) if name.endswith("usda") else obj + text).encode()}, name)
            with self.subTest(text):
                self.assertEqual(sum(m.triangles for m in scene.meshes), 2)
                self.assertIn(told, " ".join(n.text for n in scene.notes if n.kind in ("damaged", "guess")))
        flat = read({"a.usda": usd.format(normal.format("(0,0,1)", "vertex")).encode()}, "a.usda")
        np.testing.assert_allclose(flat.meshes[0].normals, [[0, 0, 1]] * 4)

    def test_collada_keeps_faces_whose_normals_point_at_nothing(self) -> None:
        document = collada.Collada()
        sources = [
            collada.source.FloatSource(name, np.array(values, float), names)
            for name, values, names in (("v", np.eye(3).ravel(), "XYZ"), ("n", [0, 0, 1], "XYZ"), ("t", [0, 0, 1, 1], "ST"))
        ]  # fmt: skip
        geometry = collada.geometry.Geometry(document, "g", "sheet", sources)
        inputs = collada.source.InputList()
        for offset, (semantic, source) in enumerate((("VERTEX", "#v"), ("NORMAL", "#n"), ("TEXCOORD", "#t"))):
            inputs.addInput(offset, semantic, source)
        geometry.primitives.append(geometry.createTriangleSet(np.array([0, 0, 0, 1, 0, 1, 2, 0, 0]), inputs, "m"))
        document.geometries.append(geometry)
        document.scene = collada.scene.Scene("s", [collada.scene.Node("a", [collada.scene.GeometryNode(geometry, [])])])
        document.scenes.append(document.scene)
        out = io.BytesIO()
        document.write(out)
        text = out.getvalue().decode()
        for change, told in (
            (("<p>0 0 0 1 0 1", "<p>0 5 0 1 0 -4"), ["1 corner points at normals", "1 corner points at texture coordinates"]),
            (('id="n-array">0 0 1<', 'id="n-array">0 0<'), ["normals were left out"]),
            (("<p>0 0 0", "<p>9 0 0"), ["1 face of “sheet” was left out"]),
        ):  # fmt: skip
            with self.subTest(change):
                self.assertIn(change[0], text)
                scene = read({"a.dae": text.replace(*change).encode()}, "a.dae")
                self.assertEqual(len(scene.nodes.parts), 0 if "face of" in told[0] else 1)
                said = " ".join(n.text for n in scene.notes)
                for one in told:
                    self.assertIn(one, said)

    def test_what_is_beyond_the_first_notes_is_counted(self) -> None:
        faces = "f 1 2 9\n" * 45 + "f 1 2 3\n"
        notes = read({"a.obj": ("v 0 0 0\nv 1 0 0\nv 0 1 0\n" + faces).encode()}, "a.obj").notes
        self.assertEqual(
            [n.text for n in notes if n.code == "import.face"][-1], "And 25 more of these, in other places."
        )
        self.assertEqual(sum(n.code == "import.face" for n in notes), 21)

    def test_references_out_of_range(self) -> None:
        g = one_triangle()
        g.json["meshes"][0]["primitives"][0]["material"] = 9
        g.node(mesh=77, camera=3, name="lost")
        g.node(children=[99, "x", -1])
        scene, notes = self.notes(g)
        self.assertEqual((len(scene.nodes), len(scene.nodes.parts)), (3, 1))
        self.assertEqual(len(notes), 6)

    def test_accessor_past_its_buffer(self) -> None:
        g = one_triangle()
        g.node(mesh=g.mesh(TRIANGLE, [0, 1, 2]), name="good")
        g.json["accessors"][0]["byteOffset"] = 40
        scene, notes = self.notes(g)
        self.assertEqual(scene.nodes.mesh.tolist(), [-1, 0])
        self.assertIn("accessors[0]: needs 76 bytes of a view of 36", notes[0])

    def test_cycles_and_shared_children(self) -> None:
        g = one_triangle()
        g.node(name="a", children=[2])
        g.node(name="b", children=[1])
        g.node(name="c", children=[0, 3])
        g.node(name="d", children=[0])
        scene, notes = self.notes(g)
        self.assertTrue(np.isfinite(scene.nodes.world).all())
        self.assertEqual(int(scene.nodes.parent[0]), 3)
        self.assertTrue(any("own ancestors" in n for n in notes))
        self.assertTrue(any("already hangs under node 3" in n for n in notes))

    def test_long_chain_is_no_problem(self) -> None:
        g = one_triangle()
        for i in range(1, 20_000):
            g.node(children=[i - 1], translation=[0, 0, 1])
        scene = g.scene()
        self.assertAlmostEqual(float(scene.nodes.world[0, 2, 3]), 19_999.0)
        self.assertLess(max(map(len, scene.nodes.paths)), 2000)

    def test_positions_that_are_not_finite(self) -> None:
        g = Gltf()
        places = [*TRIANGLE, [np.nan, 0, 0], [np.inf, 0, 0]]
        g.node(mesh=g.mesh(places, [0, 1, 2, 1, 2, 3, 1, 2, 4]))
        scene, notes = self.notes(g)
        self.assertEqual(scene.meshes[0].triangles, 1)
        self.assertTrue(np.isfinite(scene.part_bounds).all())
        self.assertIn("2 positions are not finite", notes[0])

    def test_numbers_that_float32_cannot_hold(self) -> None:
        """One corner of one of two triangles is 1e300 away: the other triangle travels."""
        far = "1e300"
        square = [["0", "0", "0"], [far, "0", "0"], ["1", "1", "0"], ["0", "1", "0"]]
        points = [" ".join(p) for p in square]
        facet = "facet normal 0 0 1\nouter loop\nvertex {}\nvertex {}\nvertex {}\nendloop\nendfacet\n"
        coordinates = "".join(f"property double {c}\n" for c in "xyz")
        files = {
            "a.obj": "".join(f"v {p}\n" for p in points)
            + f"vt {far} 0\nvn 0 0 {far}\nf 1/1/1 2/1/1 3/1/1\nf 1/1/1 3/1/1 4/1/1\n",
            "a.stl": f"solid a\n{facet.format(*points[:3])}{facet.format(points[0], *points[2:])}endsolid a\n",
            "a.ply": f"ply\nformat ascii 1.0\nelement vertex 4\n{coordinates}element face 2\n"
            "property list uchar int vertex_indices\nend_header\n" + "\n".join(points) + "\n3 0 1 2\n3 0 2 3\n",
        }
        for name, text in files.items():
            with self.subTest(name=name), warnings.catch_warnings():
                warnings.simplefilter("error")
                scene = read(text.encode(), name)
                self.assertEqual(scene.meshes[0].triangles, 1)
                self.assertLessEqual(float(np.abs(scene.meshes[0].positions).max()), 1.0)
                self.assertTrue(all(np.isfinite(uv).all() for uv in scene.meshes[0].uvs))
                self.assertIn("damaged", [n.kind for n in scene.notes])

    def test_nested_scales_that_multiply_beyond_numbers(self) -> None:
        for depth in (3, 40, 2000):
            with self.subTest(depth=depth):
                g = one_triangle()
                for k in range(depth):
                    g.node(name=f"above {k}", scale=[1e11] * 3, children=[k])
                g.json["scenes"] = [{"nodes": [depth]}]
                g.json["scene"] = 0
                scene = g.scene()
                self.assertLessEqual(float(np.abs(scene.nodes.world).max()), 1e15)
                self.assertEqual(len(scene.nodes), depth + 1)
                self.assertIn("import.transform", {n.code for n in scene.notes})
                self.assertTrue(np.isfinite(scene.part_bounds).all())

    def test_transforms_that_are_not_usable(self) -> None:
        for bad in (
            {"matrix": [1] * 15},
            {"matrix": "x"},
            {"translation": [1, 2, None]},
            {"rotation": [0, 0, 0, 1e999]},
            {"scale": {}},
        ):
            with self.subTest(bad=bad):
                g = one_triangle()
                text = json.dumps(bad).replace("Infinity", "1e999")
                g.json["nodes"][0] |= json.loads(text)
                data = g.glb()
                try:
                    scene = read(data)
                except UnusableInput as error:  # a number that JSON cannot hold
                    self.assertIn("JSON", error.sentence())
                    continue
                self.assertTrue(np.array_equal(scene.nodes.local[0], np.eye(4)))
                self.assertTrue(scene.notes)

    def test_missing_and_unreachable_files(self) -> None:
        g = one_triangle()
        g.put("materials", {"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}})
        g.put("textures", {"source": 0})
        for uri, code in (
            ("nowhere.png", "texture.missing"),
            ("../up.png", "texture.unreachable"),
            ("/etc/hostname", "texture.unreachable"),
            ("http://example.com/a.png", "texture.unreachable"),
            ("C:\\a.png", "texture.unreachable"),
            ("file:///etc/hostname", "texture.unreachable"),
        ):
            with self.subTest(uri=uri):
                g.json["images"] = [{"uri": uri}]
                scene, _ = self.notes(g)
                self.assertEqual(([n.code for n in scene.notes], scene.images[0].data), ([code], None))
        document = g.finish() | {"buffers": [{"byteLength": 44, "uri": "gone.bin"}]}
        document.pop("images"), document.pop("textures"), document.pop("materials")
        scene = read(json.dumps(document).encode(), "a.gltf")
        self.assertIn("gone.bin", scene.notes[0].text)

    def test_files_beside_a_scene_cannot_be_reached_through_links(self) -> None:
        with TemporaryDirectory() as folder:
            inside = Path(folder) / "inside"
            inside.mkdir()
            (Path(folder) / "secret.bin").write_bytes(b"x" * 100)
            (inside / "link.bin").symlink_to(Path(folder) / "secret.bin")
            document = one_triangle().finish() | {"buffers": [{"byteLength": 44, "uri": "link.bin"}]}
            (inside / "a.gltf").write_text(json.dumps(document))
            scene = load(bundle_from_path(inside / "a.gltf"))
            self.assertIn("leads outside", scene.notes[0].text)

    def test_strange_names(self) -> None:
        for name in ("", "x" * 10_000, "a\x00b\x1b[31m\n", "\U0001f600", "‮evil"):
            with self.subTest(name=name[:20]):
                g = one_triangle()
                g.json["nodes"][0]["name"] = name
                scene, _ = self.notes(g)
                self.assertEqual(scene.nodes.names[0], name)

    def test_pieces_of_wrong_type_cost_only_themselves(self) -> None:
        for table, bad in (
            ("materials", 5),
            ("images", "x"),
            ("cameras", {"type": "x"}),
            ("skins", {"joints": "x"}),
            ("animations", {"channels": 3}),
            ("textures", {"source": 4}),
            ("samplers", {"wrapS": 1}),
            ("scenes", {"nodes": [99]}),
            ("meshes", {"primitives": {}}),
        ):
            with self.subTest(table=table):
                data = with_json(lambda j, table=table, bad=bad: j.setdefault(table, []).append(bad))
                scene = read(data)
                self.assertEqual(len(scene.nodes.parts), 1)
                self.assertTrue(scene.notes, table)


def bend(value: Any, rng: random.Random) -> Any:
    """A value of the same place with something else in it."""
    odd = [
        None,
        True,
        -1,
        0,
        1,
        2,
        3,
        7,
        255,
        2**31,
        2**63,
        1.5,
        -0.0,
        1e300,
        "",
        "x",
        "../x",
        [],
        [0],
        [[]],
        {},
        {"index": 0},
    ]
    if isinstance(value, dict) and value and rng.random() < 0.85:
        key = rng.choice(sorted(value))
        out = dict(value)
        if rng.random() < 0.1:
            del out[key]
        else:
            out[key] = bend(value[key], rng)
        return out
    if isinstance(value, list) and value and rng.random() < 0.85:
        i = rng.randrange(len(value))
        return [*value[:i], bend(value[i], rng), *value[i + 1 :]]
    return rng.choice(odd)


class Mutation(unittest.TestCase):
    """Valid files with something changed: a sentence or a scene, and what is written can be read again."""

    @settings(max_examples=250, deadline=None, derandomize=True)
    @given(st.integers(0, 2**32))
    def test_bent_json(self, seed: int) -> None:
        rng = random.Random(seed)
        g = everything()
        for _ in range(rng.randint(1, 4)):
            g.json = bend(g.json, rng)
            if not isinstance(g.json, dict):
                return
        self.check(g.glb() if isinstance(g.json, dict) else b"")

    @settings(max_examples=150, deadline=None, derandomize=True)
    @given(st.integers(0, 2**32))
    def test_bent_bytes(self, seed: int) -> None:
        rng = random.Random(seed)
        data = bytearray(everything().glb())
        for _ in range(rng.randint(1, 12)):
            data[rng.randrange(len(data))] = rng.randrange(256)
        self.check(bytes(data))

    @settings(max_examples=150, deadline=None, derandomize=True)
    @given(
        st.lists(
            st.sampled_from(
                [
                    "v 0 0 0",
                    "v 1 0 0",
                    "v 0 1 0",
                    "v nan 1 2",
                    "v 1",
                    "vt 0 1",
                    "vn 0 0 1",
                    "f 1 2 3",
                    "f -1 -2 -3",
                    "f 1//1 2//1 3//1",
                    "f 1/1/1 2/9/1 3",
                    "f 0 1 2",
                    "f 1 2",
                    "f 1 2 3 1 2",
                    "f a b c",
                    "o x",
                    "g y z",
                    "usemtl m",
                    "mtllib ../m",
                    "l 1 2",
                    "p 1",
                    "\\",
                    "f 99999999999999999999 1 2",
                ]
            ),
            max_size=30,
        )
    )
    def test_bent_obj(self, lines: list[str]) -> None:
        self.check("\n".join(lines).encode(), "a.obj")

    def check(self, data: bytes, name: str = "test.glb") -> None:
        try:
            scene = read(data, name)
        except UnusableInput as error:
            self.assertTrue(error.sentence())
            return
        survey(scene, BUILT_IN[2])
        self.assertTrue(np.isfinite(scene.nodes.world).all())
        again = read(write(scene, "glb", "x").files["x.glb"])
        self.assertEqual(len(again.nodes), len(scene.nodes))


if __name__ == "__main__":
    unittest.main()
