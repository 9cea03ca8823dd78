"""glTF in and out, against files built by hand and the standard's validator."""

from __future__ import annotations

import io
import json
import tempfile
import unittest
import zipfile
from dataclasses import replace
from pathlib import Path

import DracoPy
import numpy as np
import trimesh

from tests.support import PNG, TRIANGLE, Gltf, one_triangle, read, sent, trimesh_scene, validate_bytes
from tidy_caravan.core.carry import prove
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats import write
from tidy_caravan.core.formats.gltf.write import write_glb
from tidy_caravan.core.formats.shared.written import Written
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import default_route
from tidy_caravan.core.scene import HIDDEN, SCATTER, Scene
from tidy_caravan.demo.ferry_landing import landing


def everything() -> Gltf:
    """A file with every supported feature that travels."""
    g = Gltf()
    image = g.put("images", {"bufferView": g.view(PNG), "mimeType": "image/png", "name": "dot", "extras": {"i": 1}})
    sampler = g.put("samplers", {"wrapS": 33071, "minFilter": 9987})
    texture = g.put("textures", {"source": image, "sampler": sampler, "name": "dot"})
    moved = {"KHR_texture_transform": {"offset": [0.25, 0.5], "rotation": 0.1, "scale": [2, 3], "texCoord": 1}}
    g.put(
        "materials",
        {
            "name": "full",
            "extras": {"house": 7},
            "doubleSided": True,
            "alphaMode": "MASK",
            "alphaCutoff": 0.3,
            "emissiveFactor": [1, 0.5, 0],
            "extensions": {"KHR_materials_emissive_strength": {"emissiveStrength": 5}},
            "normalTexture": {"index": texture, "scale": 0.7},
            "occlusionTexture": {"index": texture, "strength": 0.6},
            "pbrMetallicRoughness": {
                "baseColorFactor": [0.1, 0.2, 0.3, 0.4],
                "metallicFactor": 0.5,
                "roughnessFactor": 0.25,
                "baseColorTexture": {"index": texture, "extensions": moved},
            },
        },
    )
    g.put("materials", {"name": "flat", "extensions": {"KHR_materials_unlit": {}}})
    uv, normal = [[0, 0], [1, 0], [0, 1]], [[0, 0, 1]] * 3
    mesh = g.mesh(TRIANGLE, [0, 1, 2], NORMAL=normal, TEXCOORD_0=uv, TEXCOORD_1=uv)
    g.json["meshes"][mesh] |= {"name": "tri", "extras": {"m": True}, "weights": [0.25]}
    primitive = g.json["meshes"][mesh]["primitives"][0]
    primitive["material"] = 0
    primitive["targets"] = [{"POSITION": g.accessor(np.float32([[0, 0, 1]] * 3), min=[0, 0, 1], max=[0, 0, 1])}]
    plain = g.mesh(TRIANGLE, [0, 2, 1], NORMAL=[[0, 0, -1]] * 3)
    g.json["meshes"][plain]["primitives"][0]["material"] = 1
    skinned = g.mesh(
        TRIANGLE,
        [0, 1, 2],
        NORMAL=normal,
        JOINTS_0=g.accessor(np.zeros((3, 4), np.uint8)),
        WEIGHTS_0=[[1, 0, 0, 0]] * 3,
    )
    camera = g.put(
        "cameras",
        {
            "type": "perspective",
            "name": "eye",
            "perspective": {"yfov": 0.7, "znear": 0.1, "zfar": 50, "aspectRatio": 1.5},
        },
    )
    g.put("cameras", {"type": "orthographic", "orthographic": {"xmag": 2, "ymag": 1, "znear": 0, "zfar": 9}})
    g.json["extensions"] = {
        "KHR_lights_punctual": {
            "lights": [
                {
                    "type": "spot",
                    "name": "lamp",
                    "color": [1, 0.5, 0.25],
                    "intensity": 40,
                    "range": 6,
                    "spot": {"innerConeAngle": 0.2, "outerConeAngle": 0.5},
                },
                {"type": "directional", "intensity": 3},
            ]
        }
    }
    top = g.node(name="top", extras={"id": "T-1"}, children=[1, 2, 3, 4, 5])
    g.node(name="moved", mesh=mesh, translation=[1, 2, 3], rotation=[0, 0.6, 0, 0.8], scale=[1, 2, 3])
    g.node(name="matrix", mesh=plain, matrix=[2, 0, 0, 0, 0, 2, 0, 0, 0, 0, 2, 0, 5, 6, 7, 1])
    g.node(name="camera", camera=camera, rotation=[0, 1, 0, 0])
    g.node(name="light", extensions={"KHR_lights_punctual": {"light": 0}})
    g.node(name="joint")
    g.put(
        "skins",
        {"joints": [5], "name": "bones", "inverseBindMatrices": g.accessor(np.eye(4, dtype=np.float32).reshape(1, 16))},
    )
    g.node(name="skinned", mesh=skinned, skin=0)
    times = g.accessor(np.float32([[0], [1]]), min=[0], max=[1])
    g.put(
        "animations",
        {
            "name": "swing",
            "extras": 5,
            "samplers": [
                {"input": times, "output": g.accessor(np.float32([[0, 0, 0, 1], [0, 0.6, 0, 0.8]]))},
                {"input": times, "output": g.accessor(np.float32([[1, 2, 3], [4, 5, 6]])), "interpolation": "STEP"},
            ],
            "channels": [
                {"sampler": 0, "target": {"node": 1, "path": "rotation"}},
                {"sampler": 1, "target": {"node": 1, "path": "translation"}},
            ],
        },
    )
    g.json |= {
        "scenes": [{"nodes": [top, 6], "name": "day", "extras": "x"}, {"nodes": [0], "name": "night"}],
        "scene": 1,
    }
    g.json["extensionsUsed"] = [
        "KHR_lights_punctual",
        "KHR_texture_transform",
        "KHR_materials_unlit",
        "KHR_materials_emissive_strength",
    ]
    return g


class Reading(unittest.TestCase):
    def test_everything_in_the_core_standard_is_read(self) -> None:
        s = everything().scene()
        self.assertEqual(s.notes, ())
        m = s.materials[0]
        self.assertEqual((m.base_color, m.metallic, m.roughness), ((0.1, 0.2, 0.3, 0.4), 0.5, 0.25))
        self.assertEqual(
            (m.alpha_mode, m.alpha_cutoff, m.double_sided, m.emissive_strength, m.extras),
            ("MASK", 0.3, True, 5.0, {"house": 7}),
        )
        assert m.base_color_texture and m.normal_texture and m.occlusion_texture
        use = m.base_color_texture
        self.assertEqual(
            (use.offset, use.rotation, use.scale, use.transform_channel), ((0.25, 0.5), 0.1, (2.0, 3.0), 1)
        )
        self.assertEqual((m.normal_texture.strength, m.occlusion_texture.strength), (0.7, 0.6))
        self.assertTrue(s.materials[1].unlit)
        self.assertEqual([(r.name, r.nodes, r.extras) for r in s.roots], [("day", (0, 6), "x"), ("night", (0,), None)])
        self.assertEqual((s.default_root, s.nodes.extras[0]), (1, {"id": "T-1"}))
        self.assertEqual((s.lights[0].kind, s.lights[0].range, s.lights[0].outer_cone), ("spot", 6.0, 0.5))
        self.assertEqual([c.kind for c in s.cameras], ["perspective", "orthographic"])
        self.assertEqual(
            (s.skins[0].joints, s.clips[0].name, s.clips[0].channels[1].interpolation), ((5,), "swing", "STEP")
        )
        self.assertEqual((s.meshes[0].morphs[0].positions is None, s.meshes[0].morph_weights), (False, (0.25,)))
        # rotation (0, 0.6, 0, 0.8): cosine 0.28, sine 0.96 about Y; scale (1, 2, 3); translation last
        expected = np.array([[0.28, 0, 2.88, 1], [0, 2, 0, 2], [-0.96, 0, 0.84, 3], [0, 0, 0, 1]])
        np.testing.assert_allclose(s.nodes.world[1], expected, atol=1e-12)
        np.testing.assert_allclose(s.nodes.world[2] @ [1, 1, 1, 1], [7, 8, 9, 1])

    def test_component_types_and_normalized_integers(self) -> None:
        for dtype, top in ((np.int8, 127), (np.uint8, 255), (np.int16, 32767), (np.uint16, 65535)):
            with self.subTest(dtype=dtype):
                g = Gltf()
                stored = np.array([[0, top], [top, 0], [top // 2, top]], dtype)
                if np.dtype(dtype).itemsize == 1:  # vertex data starts on 4-byte boundaries
                    padded = np.zeros((3, 4), dtype)
                    padded[:, :2] = stored
                    view = g.view(padded.tobytes(), byteStride=4)
                    index = g.put(
                        "accessors",
                        {
                            "bufferView": view,
                            "componentType": {np.int8: 5120, np.uint8: 5121}[dtype],
                            "count": 3,
                            "type": "VEC2",
                            "normalized": True,
                        },
                    )
                else:
                    index = g.accessor(stored, normalized=True)
                g.node(mesh=g.mesh(TRIANGLE, [0, 1, 2], TEXCOORD_0=index))
                np.testing.assert_allclose(g.scene().meshes[0].uvs[0], stored / top, atol=1e-6)

    def test_quantized_positions_of_khr_mesh_quantization(self) -> None:
        g = Gltf()
        stored = np.array([[0, 0, 0, 0], [400, 0, 0, 0], [0, -300, 0, 0]], np.int16)
        view = g.view(stored.tobytes(), byteStride=8)
        position = g.put("accessors", {"bufferView": view, "componentType": 5122, "count": 3, "type": "VEC3"})
        index = g.accessor(np.array([[0], [1], [2]], np.uint8))
        mesh = g.put("meshes", {"primitives": [{"attributes": {"POSITION": position}, "indices": index}]})
        g.node(mesh=mesh, scale=[0.01] * 3)
        g.json["extensionsUsed"] = g.json["extensionsRequired"] = ["KHR_mesh_quantization"]
        np.testing.assert_allclose(g.scene().part_bounds[0], [[0, -3, 0], [4, 0, 0]], atol=1e-6)

    def test_sparse_accessor_replaces_elements(self) -> None:
        g = one_triangle()
        accessor = g.json["accessors"][0]
        accessor["sparse"] = {
            "count": 1,
            "indices": {"bufferView": g.view(np.uint16([2]).tobytes()), "componentType": 5123},
            "values": {"bufferView": g.view(np.float32([[0, 9, 0]]).tobytes())},
        }
        np.testing.assert_array_equal(g.scene().meshes[0].positions[2], [0, 9, 0])
        del accessor["bufferView"]  # without a view the base is zeros
        np.testing.assert_array_equal(g.scene().meshes[0].positions, [[0, 0, 0], [0, 0, 0], [0, 9, 0]])

    def test_strips_and_fans_make_the_same_quad_as_a_list(self) -> None:
        square = [[0, 0, 0], [1, 0, 0], [0, 1, 0], [1, 1, 0]]
        for mode, order in ((5, [0, 1, 2, 3]), (6, [0, 1, 3, 2])):
            with self.subTest(mode=mode):
                g = Gltf()
                mesh = g.mesh(square, order)
                g.json["meshes"][mesh]["primitives"][0]["mode"] = mode
                g.node(mesh=mesh)
                got = g.scene().meshes[0]
                corners = got.positions[got.indices].astype(float)
                normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
                np.testing.assert_allclose(normals, [[0, 0, 1], [0, 0, 1]])  # both halves face the same way

    def test_points_and_lines_are_told_as_staying_behind(self) -> None:
        g = one_triangle()
        line = g.mesh(TRIANGLE, [0, 1, 2])
        g.json["meshes"][line]["primitives"][0]["mode"] = 1
        g.node(mesh=line)
        s = g.scene()
        self.assertEqual([(n.kind, n.code) for n in s.notes], [("behind", "import.not-a-surface")])
        self.assertEqual(len(s.nodes.parts), 1)

    def test_gpu_instancing_becomes_instances_that_share_the_mesh(self) -> None:
        g = one_triangle()
        places = np.float32([[i, 0, 0] for i in range(50)])
        g.json["nodes"][0] |= {
            "translation": [0, 10, 0],
            "extensions": {"EXT_mesh_gpu_instancing": {"attributes": {"TRANSLATION": g.accessor(places)}}},
        }
        g.json["extensionsUsed"] = ["EXT_mesh_gpu_instancing"]
        s = g.scene()
        self.assertEqual((len(s.nodes.parts), len(s.meshes), int(s.nodes.flags[0])), (50, 1, SCATTER))
        np.testing.assert_allclose(s.nodes.world[s.nodes.parts][:, :3, 3], places + [0, 10, 0])
        back = read(write(s, "glb", "x", True).files["x.glb"])
        self.assertEqual(len(back.nodes), len(s.nodes))
        np.testing.assert_allclose(back.nodes.world[back.nodes.parts], s.nodes.world[s.nodes.parts], atol=1e-6)

    def test_equal_meshes_are_one_and_hidden_scenes_are_switched_off(self) -> None:
        g = one_triangle()
        g.node(mesh=g.mesh(TRIANGLE, [0, 1, 2]), name="again")
        g.json["scenes"] = [{"nodes": [0]}]
        s = g.scene()
        self.assertEqual((len(s.meshes), s.nodes.flags.tolist()), (1, [0, HIDDEN]))

    def test_unknown_extensions(self) -> None:
        g = one_triangle()
        g.json["extensionsUsed"] = ["ACME_sparkle"]
        self.assertEqual([n.code for n in g.scene().notes], ["import.extension"])
        g.json["extensionsRequired"] = ["ACME_sparkle"]
        with self.assertRaisesRegex(UnusableInput, "requires ACME_sparkle"):
            g.scene()

    def test_pieces_with_different_attributes_become_one_mesh(self) -> None:
        g = Gltf()
        mesh = g.mesh(TRIANGLE, [0, 1, 2], NORMAL=[[0, 0, 1]] * 3)
        other = g.mesh([[0, 0, 5], [1, 0, 5], [0, 1, 5]], [0, 1, 2], TEXCOORD_0=[[0, 0], [1, 0], [0, 1]])
        g.json["meshes"][mesh]["primitives"] += g.json["meshes"].pop(other)["primitives"]
        g.node(mesh=mesh)
        m = g.scene().meshes[0]
        self.assertEqual((m.triangles, len(m.uvs)), (2, 1))
        assert m.normals is not None
        np.testing.assert_allclose(m.normals, [[0, 0, 1]] * 6)  # what was missing is flat, as the standard says

    def test_json_that_is_not_quite_json_is_read_and_told(self) -> None:
        plain = {
            "asset": {"version": "2.0"},
            "scenes": [{"nodes": [0]}],
            "nodes": [{"name": "Bänk", "scale": [2, 2, 2]}],
        }
        text = json.dumps(plain, ensure_ascii=False)
        for written, name, scale, code in (
            (text.encode("cp1252"), "Bänk", 2.0, "import.encoding"),
            (text.encode("utf-16"), "Bänk", 2.0, ""),
            (text.encode("utf-8-sig"), "Bänk", 2.0, ""),
            (text.replace("ä", "\\ud83d").encode(), "B\ufffdnk", 2.0, "import.json"),
            (text.replace("ä", "\\ud83e\\ude91").encode(), "B\U0001fa91nk", 2.0, ""),
            (text.replace("[2, 2, 2]", "[NaN, 2, 2]").encode(), "Bänk", 1.0, "import.json"),
        ):
            with self.subTest(written):
                scene = read({"a.gltf": written})
                self.assertEqual(list(scene.nodes.names), [name])
                self.assertEqual(scene.nodes.local[0, 0, 0], scale)
                told = {n.code for n in scene.notes}
                self.assertEqual(told & {"import.encoding", "import.json"}, {code} - {""})
        for broken in (text[:-5], text.replace('"nodes"', "nodes"), "[" * 100_000):
            with self.assertRaisesRegex(UnusableInput, "JSON is broken at line 1"):
                read({"a.gltf": ("{" + broken[1:]).encode("cp1252")})

    def test_whole_numbers_of_more_than_64_bits_keep_their_digits(self) -> None:
        most, least = 2**64 - 1, -(2**63)
        for number in (most, least, most + 1, least - 1, 10**30, -(10**400), int("9" * 4000)):
            for more in ({}, {"bad": float("nan")}):  # with and without what makes the text no JSON
                with self.subTest(digits=len(str(number)), more=more):
                    g = one_triangle()
                    for where in ("nodes", "meshes", "asset"):
                        held = g.json[where] if where == "asset" else g.json[where][0]
                        held["extras"] = {"id": number, "in": [number], **more}
                    g.json["extras"] = [number]
                    scene = g.scene()
                    held = scene.meshes[0].extras
                    keeps = least <= number <= most
                    self.assertEqual(held["id"], number if keeps else str(number))
                    self.assertEqual(held["in"], [held["id"]])
                    self.assertEqual("import.long-numbers" in {n.code for n in scene.notes}, not keeps)
                    again = read(dict(write(scene, "glb", "scene").files)["scene.glb"])
                    self.assertEqual(again.meshes[0].extras["id"], held["id"])

    def test_loose_files_zip_and_data_addresses(self) -> None:
        files = dict(write(landing(), "gltf", "scene").files)
        parts = len(read(files).nodes.parts)
        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w") as archive:
            for name, data in files.items():
                archive.writestr(f"some/folder/{name}", data)
        self.assertEqual(len(read(packed.getvalue(), "all.zip").nodes.parts), parts)


class Channels(unittest.TestCase):
    """Channels that mean nothing are told and left out, so that what is written is what the standard allows."""

    def scene(self, *channels: tuple[int, str], shear: float = 0.0) -> Scene:
        g = Gltf()
        mesh = g.mesh(TRIANGLE, [0, 1, 2])
        matrix = np.eye(4)
        matrix[0, 1] = shear
        g.node(name="gate", mesh=mesh)
        g.node(name="bent", mesh=mesh, matrix=matrix.T.ravel().tolist())
        times = g.accessor(np.array([[0], [1]], np.float32), min=[0], max=[1])
        samplers, made = [], []
        for k, (node, path) in enumerate(channels):
            values = np.full((2, 4 if path == "rotation" else 3), 0.5 + k, np.float32)
            if path == "rotation":
                values /= np.linalg.norm(values, axis=1, keepdims=True)
            samplers.append({"input": times, "output": g.accessor(values)})
            made.append({"sampler": k, "target": {"node": node, "path": path}})
        g.put("animations", {"name": "clip", "samplers": samplers, "channels": made})
        return g.scene()

    def told(self, scene: Scene) -> list[str]:
        return [n.text for n in scene.notes if "animations" in n.where]

    def test_of_two_for_one_thing_the_last_stays(self) -> None:
        scene = self.scene((0, "translation"), (0, "scale"), (0, "translation"))
        self.assertEqual(
            [(c.path, float(c.values[0, 0])) for c in scene.clips[0].channels], [("scale", 1.5), ("translation", 2.5)]
        )
        self.assertEqual(
            self.told(scene), ["Left out, because a later channel of its clip gives the translation of “gate” as well."]
        )

    def test_a_sheared_matrix_has_nothing_that_could_be_moved(self) -> None:
        self.assertEqual(self.told(self.scene((0, "translation"), (1, "rotation"))), [], "one that is not sheared has")
        scene = self.scene((0, "translation"), (1, "rotation"), shear=0.4)
        self.assertEqual([c.node for c in scene.clips[0].channels], [0])
        self.assertEqual(
            self.told(scene), ["Left out, because the matrix of “bent” is sheared, and has no rotation of its own."]
        )
        nothing = self.scene((1, "rotation"), shear=0.4)
        self.assertEqual(nothing.clips, ())
        self.assertEqual(self.told(nothing)[-1], "Left out, because it moves nothing.")

    def test_what_is_left_is_written_as_the_standard_has_it_and_arrives(self) -> None:
        for scene in (
            self.scene((0, "translation"), (0, "translation")),
            self.scene((0, "scale"), (1, "rotation"), shear=0.4),
            self.scene((1, "rotation"), shear=0.4),
        ):
            package, done = sent(scene, "s", "0" * 64, BUILT_IN[0], default_route(), "glb")
            self.assertEqual(validate_bytes({"scene.glb": package.files["scene.glb"]})["errors"], 0)
            with tempfile.TemporaryDirectory() as folder:
                save(package.files, Path(folder))
                report, _ = prove(Path(folder), scene, done)
                self.assertTrue(report.ok, report.problems)


class Writing(unittest.TestCase):
    def assert_valid(self, files: dict[str, bytes]) -> None:
        report = validate_bytes(files)
        self.assertEqual((report["errors"], report["warnings"]), (0, 0), report["messages"])

    def test_validator_finds_nothing_in_what_is_written(self) -> None:
        scenes = {
            "everything": everything().scene(),
            "demo": landing(),
            "trimesh": read(trimesh_scene(1).export(file_type="glb")),
        }
        for name, scene in scenes.items():
            for fmt in ("glb", "gltf"):
                with self.subTest(scene=name, format=fmt):
                    self.assert_valid(dict(write(scene, fmt, "scene").files))

    def test_what_the_standard_forbids_is_put_right(self) -> None:
        g = everything()
        g.json["meshes"][0]["primitives"][0]["attributes"]["NORMAL"] = g.accessor(
            np.float32([[0, 0, 0], [0, 0, 2], [0, 0, 1]])
        )
        del g.json["meshes"][0]["primitives"][0]["attributes"]["TEXCOORD_1"]
        written = write(g.scene(), "glb", "scene")
        self.assertEqual(len(written.texts("rewritten")), 3)  # normals, empty UV set, tangents
        self.assert_valid(dict(written.files))

    def test_what_is_put_right_on_many_meshes_is_one_sentence_that_names_some(self) -> None:
        scene = everything().scene()
        meshes = tuple(
            replace(m, normals=None if m.normals is None else m.normals * np.float32(2)) for m in scene.meshes
        )
        told = write(scene.but(meshes=meshes), "glb", "scene").texts("rewritten")
        self.assertIn("Normals that were no unit vectors were put right, 9 in all: “tri”, “mesh 1” and “mesh 2”.", told)
        many = Written({})
        for k in range(1200):
            many.rewritten_of("{amount} of {names}.", f"bay {{{k}}}", 2)
        self.assertEqual(many.texts("rewritten"), ["2 400 of “bay {0}”, “bay {1}”, “bay {2}” and 1 197 more."])

    def test_round_trip_keeps_everything(self) -> None:
        a = everything().scene()
        b = read(write(a, "glb", "x").files["x.glb"])
        self.assertEqual(a.materials, b.materials)
        self.assertEqual((a.roots, a.default_root, a.lights, a.cameras), (b.roots, b.default_root, b.lights, b.cameras))
        self.assertEqual(
            (a.nodes.names, a.nodes.extras, dict(a.nodes.rest)), (b.nodes.names, b.nodes.extras, dict(b.nodes.rest))
        )
        np.testing.assert_allclose(a.nodes.world, b.nodes.world, atol=1e-12)
        self.assertEqual([c.name for c in a.clips], [c.name for c in b.clips])
        np.testing.assert_array_equal(a.clips[0].channels[0].values, b.clips[0].channels[0].values)
        self.assertEqual([m.extras for m in a.meshes], [m.extras for m in b.meshes])
        self.assertEqual([i.data for i in a.images], [i.data for i in b.images])
        np.testing.assert_array_equal(a.meshes[2].attributes["WEIGHTS_0"], b.meshes[2].attributes["WEIGHTS_0"])

    def test_same_scene_same_bytes(self) -> None:
        for fmt in ("glb", "gltf", "obj"):
            self.assertEqual(write(landing(), fmt, "s").files, write(landing(), fmt, "s").files)

    def test_an_independent_reader_sees_the_same_places(self) -> None:
        scene: Scene = landing()
        loaded = trimesh.load(io.BytesIO(write(scene, "glb", "s").files["s.glb"]), file_type="glb")
        np.testing.assert_allclose(
            loaded.bounds, [scene.part_bounds[:, 0].min(axis=0), scene.part_bounds[:, 1].max(axis=0)], rtol=1e-6
        )

    def test_tangents_follow_growing_u(self) -> None:
        g = everything()
        m = read(write(g.scene(), "glb", "x").files["x.glb"]).meshes[0]
        assert m.tangents is not None
        # u grows along +X and v along +Y on this triangle; v runs down the image and the bitangent up it:
        # tangent X, bitangent = n × t · w = −Y
        np.testing.assert_allclose(m.tangents, [[1, 0, 0, -1]] * 3, atol=1e-6)


class Switched(unittest.TestCase):
    def test_nodes_that_the_file_switches_off_are_off_with_all_below_them(self) -> None:
        g = Gltf()
        mesh = g.mesh(TRIANGLE, [0, 1, 2])
        below = g.node(mesh=mesh, name="below")
        off = {"KHR_node_visibility": {"visible": False}}
        tops = [
            g.node(mesh=mesh, name="off", children=[below], extensions=off),
            g.node(mesh=mesh, name="on", extensions={"KHR_node_visibility": {"visible": True}}),
            g.node(mesh=mesh, name="bent", extensions={"KHR_node_visibility": {"visible": "no"}}),
        ]
        g.json |= {"scene": 0, "scenes": [{"nodes": tops}], "extensionsUsed": ["KHR_node_visibility"]}
        scene = g.scene()
        hidden = {n for n, f in zip(scene.nodes.names, scene.nodes.flags.tolist(), strict=True) if f & HIDDEN}
        self.assertEqual(hidden, {"off", "below"})
        self.assertEqual([n.code for n in scene.notes], ["import.damaged"])
        written = write(scene, "glb", "x").files["x.glb"]
        self.assertEqual(read(written).nodes.flags.tolist(), scene.nodes.flags.tolist())
        messages = validate_bytes({"x.glb": written})
        self.assertEqual((messages["errors"], messages["warnings"]), (0, 0))

    def test_a_list_of_copies_shows_none_that_is_switched_off(self) -> None:
        g = Gltf()
        mesh = g.mesh(TRIANGLE, [0, 1, 2])
        g.node(name="stones", children=[g.node(mesh=mesh, name=f"stone {k}", translation=[k, 0, 0]) for k in range(4)])
        scene = g.scene()
        top, hidden = (
            np.array([n == "stones" for n in scene.nodes.names]),
            np.array([n == "stone 2" for n in scene.nodes.names]),
        )
        flags = np.where(top, SCATTER, np.where(hidden, HIDDEN, 0)).astype(np.uint8)
        back = read(write_glb(scene.but(nodes=replace(scene.nodes, flags=flags)), "x", True).files["x.glb"])
        off = back.nodes.mesh[(back.nodes.flags & HIDDEN) > 0]
        self.assertEqual((len(back.nodes.parts), len(off)), (4, 1))


class Compressed(unittest.TestCase):
    """KHR_draco_mesh_compression, encoded by the library's own hand."""

    SHAPE = trimesh.creation.icosphere(2, 1.5)

    def document(self, damage: bool = False) -> Gltf:
        points, faces = np.asarray(self.SHAPE.vertices, np.float64), np.asarray(self.SHAPE.faces, np.uint32)
        uv = points[:, :2] * 0.3 + 0.5
        data = DracoPy.encode(
            points, faces, quantization_bits=20, tex_coord=uv, normals=np.asarray(self.SHAPE.vertex_normals),
            tex_coord_quantization_bits=16, normal_quantization_bits=14,
        )  # fmt: skip
        ids = {a["attribute_type"]: a["unique_id"] for a in DracoPy.decode(data).attributes}
        if damage:
            data = data[: len(data) // 2]
        g = Gltf()
        count = len(points)
        plain = [
            g.put("accessors", {"componentType": 5126, "count": count, "type": kind})
            for kind in ("VEC3", "VEC3", "VEC2")
        ]
        index = g.put("accessors", {"componentType": 5125, "count": faces.size, "type": "SCALAR"})
        names = {"POSITION": 0, "NORMAL": 1, "TEXCOORD_0": 3}
        primitive = {
            "attributes": dict(zip(names, plain, strict=True)),
            "indices": index,
            "extensions": {
                "KHR_draco_mesh_compression": {
                    "bufferView": g.view(data),
                    "attributes": {k: ids[v] for k, v in names.items()},
                }
            },
        }
        g.json["extensionsUsed"] = g.json["extensionsRequired"] = ["KHR_draco_mesh_compression"]
        g.node(mesh=g.put("meshes", {"primitives": [primitive]}), name="ball")
        g.node(mesh=g.mesh(TRIANGLE, [0, 1, 2]), name="plain")
        return g

    def test_it_is_read_as_it_was_before(self) -> None:
        scene = self.document().scene()
        mesh = scene.meshes[int(scene.nodes.mesh[0])]
        self.assertEqual(mesh.triangles, len(self.SHAPE.faces))
        read_as = trimesh.Trimesh(mesh.positions, mesh.indices)
        self.assertAlmostEqual(read_as.volume, self.SHAPE.volume, places=4)
        assert mesh.normals is not None
        outward = np.einsum("ij,ij->i", mesh.normals, mesh.positions / 1.5)
        self.assertGreater(float(outward.min()), 0.99)
        np.testing.assert_allclose(mesh.uvs[0], mesh.positions[:, :2] * 0.3 + 0.5, atol=1e-3)

    def test_damage_costs_that_mesh_only(self) -> None:
        scene = self.document(damage=True).scene()
        self.assertEqual([scene.nodes.names[i] for i in scene.nodes.parts.tolist()], ["plain"])
        self.assertTrue(any("cannot be decoded" in n.text for n in scene.notes))


if __name__ == "__main__":
    unittest.main()
