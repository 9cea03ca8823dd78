"""OBJ and MTL in and out."""

from __future__ import annotations

import io
import unittest

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.support import PNG, read, trimesh_scene
from tidy_caravan.core.formats import write
from tidy_caravan.core.formats.obj.read import Lines, Pieces, Run, plain_numbers
from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.scene import Scene


def obj(text: str, **files: bytes) -> Scene:
    return read({"a.obj": text.encode(), **{k.replace("_", "."): v for k, v in files.items()}})


def area(scene: Scene) -> float:
    return sum(float(np.linalg.norm(face_vectors(m.positions, m.indices), axis=1).sum()) / 2 for m in scene.meshes)


SQUARE = "v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\n"


class Reading(unittest.TestCase):
    def test_objects_groups_and_materials(self) -> None:
        s = obj(f"{SQUARE}o hall\ng floor\nusemtl a\nf 1 2 3\nusemtl b\nf 1 3 4\ng wall\nf 2 3 4\no quay\nf 1 2 4\n")
        self.assertEqual(s.nodes.paths, ("hall", "hall/floor", "hall/wall", "quay"))
        self.assertEqual([m.name for m in s.materials], ["a", "b"])
        self.assertEqual(s.meshes[int(s.nodes.mesh[1])].slots, (0, 1))
        self.assertFalse(s.convention.declared)

    def test_negative_indices_count_from_the_end(self) -> None:
        a, b = obj(f"{SQUARE}f 1 2 3\n"), obj(f"{SQUARE}f -4 -3 -2\n")
        np.testing.assert_array_equal(a.meshes[0].positions, b.meshes[0].positions)

    def test_concave_polygons_keep_their_area(self) -> None:
        arrow = "v 0 0 0\nv 4 0 0\nv 4 4 0\nv 2 1 0\nv 0 4 0\n"  # closed form by the shoelace formula: 16 − 6 = 10
        s = obj(arrow + "f 1 2 3 4 5\n")
        self.assertAlmostEqual(area(s), 10.0)
        turned = obj(arrow + "f 5 4 3 2 1\n")
        self.assertAlmostEqual(area(turned), 10.0)
        normal = face_vectors(turned.meshes[0].positions, turned.meshes[0].indices).sum(axis=0)
        self.assertLess(normal[2], 0)  # the winding is kept
        dart = "v 0 0 0\nv 2 0 0\nv 0.5 0.5 0\nv 0 2 0\n"  # a concave quad, 2 · 0.5 · 2 · 0.5 / … = 1
        self.assertAlmostEqual(area(obj(dart + "f 1 2 3 4\n")), 1.0)

    def test_corners_are_shared_only_where_all_three_indices_agree(self) -> None:
        text = SQUARE + "vt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nvn 0 0 1\nvn 0 1 0\nf 1/1/1 2/2/1 3/3/1\nf 1/1/2 3/3/1 4/4/1\n"
        m = obj(text).meshes[0]
        self.assertEqual(m.vertices, 5)
        np.testing.assert_array_equal(m.uvs[0][0], [0, 1])  # v counts from the top in the scene

    def test_materials_with_their_numbers(self) -> None:
        mtl = b"newmtl glass\nKd 0.1 0.2 0.3\nd 0.4\nKe 1 0 0\nPr 0.25\nPm 1\nmap_Kd -s 2 2 2 tex/dot.png\nnewmtl dull\nNs 0\nKd 0.5\n"
        s = read(
            {
                "a.obj": (SQUARE + "mtllib m.mtl\nusemtl glass\nf 1 2 3\nusemtl dull\nf 1 3 4\n").encode(),
                "m.mtl": mtl,
                "tex/dot.png": PNG,
            }
        )
        glass, dull = s.materials
        self.assertEqual(
            (glass.base_color, glass.alpha_mode, glass.emissive, glass.roughness, glass.metallic),
            ((0.1, 0.2, 0.3, 0.4), "BLEND", (1.0, 0.0, 0.0), 0.25, 1.0),
        )
        self.assertEqual((dull.base_color[:3], dull.roughness), ((0.5, 0.5, 0.5), 1.0))
        self.assertEqual(s.images[0].data, PNG)

    def test_missing_library_and_undefined_material_are_told(self) -> None:
        s = obj(SQUARE + "mtllib gone.mtl\nusemtl x\nf 1 2 3\n")
        self.assertEqual(
            [n.code for n in s.notes], ["import.convention", "material.library-missing", "material.undefined"]
        )

    def test_a_file_that_names_no_material_file_is_read_as_it_is(self) -> None:
        s = obj("# only\nv 0 0 0 1 0 0\nv 1 0 0 0 1 0\nv 0 1 0 0 0 1\nf 1 2 3\nl 1 2\n")
        np.testing.assert_allclose(s.meshes[0].colors[0][:, :3], np.eye(3))
        self.assertIn("1 lines stay behind", s.notes[1].text)


class Plain(unittest.TestCase):
    """Lines that are written alike are read at once: with the same outcome as one by one, or not at all."""

    TOKENS = ("1", "2/1", "3//2", "4/3/1", "1/2/", "/1", "0", "9/1", "-1", "-1/-2/-1", "1/1/1/1", "x", "1.5", "")

    @settings(max_examples=400, deadline=None)
    @given(st.lists(st.lists(st.sampled_from(TOKENS), min_size=1, max_size=5), min_size=1, max_size=4), st.data())
    def test_faces(self, faces: list[list[str]], data: st.DataObject) -> None:
        if data.draw(st.booleans()):  # mostly alike, or the quick way is never taken
            faces = [[f[0]] * data.draw(st.integers(3, 5)) for f in [faces[0]] * len(faces)]
        lines = [" ".join(f) for f in faces]
        sizes = (4, 3, 2)
        pieces = Pieces(
            np.zeros((4, 3)), None, np.zeros((3, 2), np.float32), np.zeros((2, 3), np.float32),
            np.array([True, True, data.draw(st.booleans()), True]), [], False,
        )  # fmt: skip
        given_lines = Lines(["\n".join(lines)], [sizes], len(lines))
        quick = pieces.plain_corners(given_lines)
        slow = pieces.any_corners(Run("", "", -1, 0, given_lines))
        if quick is not None:
            self.assertEqual(pieces.notes, [], lines)
            np.testing.assert_array_equal(quick[0], slow[0])
            np.testing.assert_array_equal(quick[1], slow[1])
            self.assertEqual(len(slow[1]), len(lines))
        elif len(slow[1]) == len(lines) and len({(t.count("/"), "//" in t) for f in faces for t in f}) == 1:
            odd = [t for f in faces for t in f if "-" in t or t.endswith("/") or t.count("/") > 2 or t == ""]
            self.assertTrue(odd, lines)

    @settings(max_examples=300, deadline=None)
    @given(st.lists(st.tuples(st.floats(width=64), st.floats(width=64), st.floats(width=64)), min_size=1, max_size=5))
    def test_numbers_are_those_that_float_reads(self, rows: list[tuple[float, float, float]]) -> None:
        lines = [" ".join(repr(v) for v in row) for row in rows]
        quick = plain_numbers(Lines(["\n".join(lines)], count=len(lines)))
        if all(np.isfinite(v) for row in rows for v in row):
            assert quick is not None
            np.testing.assert_array_equal(quick, np.array(rows))
        else:
            self.assertIsNone(quick)  # left to the way that tells

    def test_ends_of_lines_and_what_stands_between_them_change_nothing(self) -> None:
        shape = trimesh.creation.icosphere(subdivisions=2)
        plain = shape.export(file_type="obj", include_normals=True).encode()
        backwards = plain.replace(b"\nf ", b"\nv 0 0 0\nf -2//-1 -3//-1 -4//-1\nf ")
        for name, text in (("plain", plain), ("backwards", backwards)):
            first = read(text, "a.obj")
            for change, other in (
                ("carriage returns", text.replace(b"\n", b"\r\n")),
                ("comments", text.replace(b"\n", b"\n# so it is\n")),
                ("blanks", text.replace(b"\n", b" \n  ")),
                ("continued", text.replace(b" ", b" \\\n")),
            ):
                with self.subTest(text=name, change=change):
                    second = read(other, "a.obj")
                    self.assertEqual([m.id for m in second.meshes], [m.id for m in first.meshes])
        self.assertEqual(read(plain, "a.obj").meshes[0].triangles, len(shape.faces))
        self.assertEqual(read(backwards, "a.obj").meshes[0].triangles, 2 * len(shape.faces))


class Writing(unittest.TestCase):
    def test_an_independent_reader_sees_the_same_surface(self) -> None:
        scene = read(trimesh_scene(5).export(file_type="glb"))
        files = dict(write(scene, "obj", "s").files)
        loaded = trimesh.load(io.BytesIO(files["s.obj"]), file_type="obj", force="mesh", process=False)
        world = scene.part_bounds
        np.testing.assert_allclose(loaded.bounds, [world[:, 0].min(axis=0), world[:, 1].max(axis=0)], atol=1e-5)
        self.assertEqual(len(loaded.faces), sum(scene.meshes[m].triangles for m in scene.nodes.mesh[scene.nodes.parts]))
        self.assertGreater(loaded.volume, 0)  # mirrored parts were turned so that they still face outwards

    def test_round_trip(self) -> None:
        mtl = b"newmtl m\nKd 0.1 0.2 0.3\nd 0.5\nmap_Kd dot.png\n"
        a = read(
            {
                "a.obj": (
                    SQUARE + "vt 0 0\nvt 1 0\nvt 1 1\nmtllib m.mtl\no one thing\nusemtl m\nf 1/1 2/2 3/3\n"
                ).encode(),
                "m.mtl": mtl,
                "dot.png": PNG,
            }
        )
        b = read(dict(write(a, "obj", "s").files))
        self.assertEqual(
            (b.nodes.names, b.materials[0].base_color, b.images[0].data), (("one_thing",), (0.1, 0.2, 0.3, 0.5), PNG)
        )
        np.testing.assert_allclose(a.meshes[0].uvs[0], b.meshes[0].uvs[0], atol=1e-7)


if __name__ == "__main__":
    unittest.main()
