"""PLY and STL in and out, against trimesh; and files of every format bent at random."""

from __future__ import annotations

import io
import unittest
from typing import Any

import numpy as np
import trimesh
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.core.test_collada import document
from tests.support import PNG, one_triangle, trimesh_scene
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats import bundle_from_files, load, write
from tidy_caravan.core.scene import Scene

BALL = trimesh.creation.icosphere(subdivisions=2)


def read(name: str, data: bytes | str, **more: bytes) -> Scene:
    raw = data if isinstance(data, bytes) else data.encode()
    return load(bundle_from_files({name: raw, **{k.replace("_", "."): v for k, v in more.items()}}))


def volume(scene: Scene) -> float:
    total = 0.0
    for mesh in scene.meshes:
        p = mesh.positions.astype(np.float64)[mesh.indices]
        total += float(np.einsum("ij,ij->i", p[:, 0], np.cross(p[:, 1], p[:, 2])).sum()) / 6
    return total


class Ply(unittest.TestCase):
    def test_text_and_binary_of_both_orders_are_the_same(self) -> None:
        text = read("a.ply", BALL.export(file_type="ply", encoding="ascii"))
        little = BALL.export(file_type="ply", encoding="binary")
        binary = read("a.ply", little)
        head, body = little.split(b"end_header\n")
        names = [line for line in head.decode().splitlines() if line.startswith("property float")]
        vertices = np.frombuffer(body, "<f4", len(BALL.vertices) * len(names)).astype(">f4")
        rest = body[vertices.nbytes :]
        kind = np.dtype([("n", "u1"), ("v", "<i4", 3)])
        faces = np.frombuffer(rest, kind).astype(np.dtype([("n", "u1"), ("v", ">i4", 3)]))
        big = read("a.ply", head.replace(b"little", b"big") + b"end_header\n" + vertices.tobytes() + faces.tobytes())
        for scene in (text, binary, big):
            self.assertEqual(scene.meshes[0].triangles, len(BALL.faces))
            self.assertAlmostEqual(volume(scene), BALL.volume, places=5)
        self.assertFalse(text.convention.declared)

    def test_polygons_strips_colours_coordinates_and_the_picture(self) -> None:
        head = "ply\nformat ascii 1.0\ncomment TextureFile wood.png\nelement vertex 5\n"
        head += "".join(f"property float {p}\n" for p in "xyzst") + "".join(
            f"property uchar {c}\n" for c in ("red", "green", "blue")
        )
        body = "0 0 0 0 0 255 0 0\n1 0 0 1 0 255 0 0\n1 1 0 1 1 255 0 0\n0.5 2 0 0.5 1 255 0 0\n0 1 0 0 1 255 0 0\n"
        scene = read(
            "a.ply",
            head + "element face 1\nproperty list uchar int vertex_indices\nend_header\n" + body + "5 0 1 2 3 4\n",
            wood_png=PNG,
        )
        mesh = scene.meshes[0]
        p = mesh.positions.astype(np.float64)[mesh.indices]
        self.assertAlmostEqual(float(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])[:, 2].sum()) / 2, 1.5)
        np.testing.assert_allclose(mesh.colors[0], np.tile((1, 0, 0, 1), (mesh.vertices, 1)))
        corner = {tuple(q): tuple(u) for q, u in zip(mesh.positions.tolist(), mesh.uvs[0].tolist(), strict=True)}
        self.assertEqual(corner[(1.0, 1.0, 0.0)], (1.0, 0.0), "v is counted from the top in the scene")
        self.assertEqual(scene.images[0].data, PNG)
        strips = head + "element tristrips 1\nproperty list int int vertex_indices\nend_header\n" + body + "4 0 1 4 2\n"
        self.assertEqual(read("a.ply", strips).meshes[0].triangles, 2)

    def test_mixed_polygons_and_lists_per_face(self) -> None:
        head = b"ply\nformat binary_little_endian 1.0\nelement vertex 4\nproperty float x\nproperty float y\nproperty float z\n"
        head += (
            b"element face 2\nproperty list uchar int vertex_index\nproperty list uchar float texcoord\nend_header\n"
        )
        points = np.array([(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)], "<f4").tobytes()

        def face(corners: list[int]) -> bytes:
            uv = np.array([(c / 4, 0.5) for c in corners], "<f4")
            return bytes([len(corners)]) + np.array(corners, "<i4").tobytes() + bytes([len(corners) * 2]) + uv.tobytes()

        scene = read("a.ply", head + points + face([0, 1, 2]) + face([0, 1, 2, 3]))
        self.assertEqual(scene.meshes[0].triangles, 3)
        self.assertEqual(len(scene.meshes[0].uvs), 1)

    def test_lies_in_the_header_cost_nothing_but_a_sentence(self) -> None:
        good = BALL.export(file_type="ply", encoding="binary")
        for bad in (
            good.replace(b"element vertex 162", b"element vertex 2000000000"),
            good.replace(b"element face 320", b"element face 2000000000"),
            good.replace(b"property float x", b"property quaternion x"),
            good[:-7],
            good[:40],
            b"ply\nformat ascii 1.0\nelement vertex 1\nproperty float x\nproperty float y\nproperty float z\nend_header\n1 2 three\n",
            b"ply\nend_header\n",
        ):
            with self.subTest(bad[:60]), self.assertRaises(UnusableInput) as caught:
                read("a.ply", bad)
            self.assertTrue(caught.exception.sentence().startswith("a.ply: "))

    def test_faces_that_point_at_nothing(self) -> None:
        text = "ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\n"
        text += "element face 3\nproperty list uchar int vertex_indices\nend_header\n0 0 0\n1 0 0\nnan 1 0\n3 0 1 1\n3 0 1 9\n3 0 1 2\n"
        scene = read("a.ply", text)
        self.assertIn("import.face", {n.code for n in scene.notes})


class Stl(unittest.TestCase):
    def test_text_and_binary(self) -> None:
        for kind in ("stl", "stl_ascii"):
            with self.subTest(kind):
                scene = read("a.stl", BALL.export(file_type=kind))
                self.assertEqual(scene.meshes[0].triangles, len(BALL.faces))
                self.assertAlmostEqual(volume(scene), BALL.volume, places=4)
                self.assertEqual((scene.convention.metres_per_unit, scene.convention.declared), (0.001, False))
                assert scene.meshes[0].normals is not None
                known = np.repeat(BALL.face_normals, 3, axis=0)
                got = scene.meshes[0].normals[scene.meshes[0].indices.ravel()]
                np.testing.assert_allclose(got, known, atol=1e-4)

    def test_several_solids_and_a_binary_file_that_begins_with_solid(self) -> None:
        text = BALL.export(file_type="stl_ascii")
        one = text[text.index("\n") + 1 : text.rindex("endsolid")]
        scene = read("a.stl", f"solid left\n{one}endsolid left\nsolid right\n{one}endsolid right\n")
        self.assertEqual(scene.nodes.names, ("left", "right"))
        binary = b"solid is what its header says".ljust(80) + BALL.export(file_type="stl")[80:]
        self.assertEqual(read("a.stl", binary).meshes[0].triangles, len(BALL.faces))

    def test_a_name_longer_than_what_is_looked_at(self) -> None:
        text = trimesh.creation.box().export(file_type="stl_ascii").replace("solid", f"solid {'x' * 10_000}", 1)
        scene = load(bundle_from_files({"a.stl": text.encode()}))
        self.assertEqual((scene.meshes[0].triangles, set(scene.nodes.names[0])), (12, {"x"}))

    def test_normals_against_the_winding_are_told(self) -> None:
        data = bytearray(BALL.export(file_type="stl"))
        for k in range(10):
            start = 84 + 50 * k
            data[start : start + 12] = (-np.frombuffer(bytes(data[start : start + 12]), "<f4")).tobytes()
        scene = read("a.stl", bytes(data))
        (note,) = [n for n in scene.notes if n.code == "import.normal-against-winding"]
        self.assertIn("10 of 320", note.text)

    def test_what_is_cut_off(self) -> None:
        binary = BALL.export(file_type="stl")
        text = BALL.export(file_type="stl_ascii").encode()
        for bad in (
            binary[:-20],
            binary[:80] + b"\xff\xff\xff\x7f" + binary[84:],
            text[: len(text) // 2],
            text.replace(b"vertex", b"vortex x", 1),
        ):
            with self.assertRaises(UnusableInput) as caught:
                read("a.stl", bad)
            self.assertTrue(caught.exception.sentence().startswith("a.stl: "))


class Written(unittest.TestCase):
    def test_trimesh_reads_what_was_written(self) -> None:
        source = trimesh_scene(3, 12, 20.0, odd=False)
        scene = load(bundle_from_files({"a.glb": source.export(file_type="glb")}))
        known = sum(abs(g.volume) for g in source.dump())
        for fmt in ("ply", "stl", "obj"):
            with self.subTest(fmt):
                data = write(scene, fmt, "scene").files[f"scene.{fmt}"]
                loaded: Any = trimesh.load(
                    io.BytesIO(data), file_type="stl_ascii" if fmt == "stl" else fmt, force="mesh"
                )
                self.assertAlmostEqual(abs(loaded.volume) / known, 1.0, places=4)


EXAMPLES: dict[str, bytes] = {
    "a.glb": one_triangle().glb(),
    "a.dae": document(),
    "a.ply": BALL.export(file_type="ply", encoding="binary"),
    "b.ply": trimesh.creation.box().export(file_type="ply", encoding="ascii"),
    "a.stl": trimesh.creation.box().export(file_type="stl"),
    "b.stl": trimesh.creation.box().export(file_type="stl_ascii").encode(),
    "a.obj": b"o a\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n",
}


class Bent(unittest.TestCase):
    """Property: whatever happens to a file's bytes, it is read or refused with one sentence."""

    @settings(max_examples=250, deadline=None, suppress_health_check=list(HealthCheck))
    @given(st.sampled_from(sorted(EXAMPLES)), st.data())
    def test_random_changes(self, name: str, draw: st.DataObject) -> None:
        data = bytearray(EXAMPLES[name])
        for _ in range(draw.draw(st.integers(1, 6))):
            at = draw.draw(st.integers(0, len(data) - 1))
            how = draw.draw(st.sampled_from(("flip", "cut", "double", "insert")))
            if how == "flip":
                data[at] = draw.draw(st.integers(0, 255))
            elif how == "cut":
                del data[at : at + draw.draw(st.integers(1, 40))]
            elif how == "double":
                data[at:at] = data[at : at + 30]
            else:
                data[at:at] = draw.draw(st.binary(max_size=8))
            if not data:
                break
        try:
            scene = load(bundle_from_files({name: bytes(data)}))
        except UnusableInput as error:
            self.assertNotIn("\n", error.sentence())
            return
        for mesh in scene.meshes:
            self.assertTrue(np.isfinite(mesh.positions[mesh.used]).all())
            self.assertLess(int(mesh.indices.max(initial=0)), max(1, mesh.vertices))


if __name__ == "__main__":
    unittest.main()
