"""COLLADA in and out: documents authored with pycollada or by hand, packages judged by the published schema."""

from __future__ import annotations

import io
import unittest
import zipfile
from typing import Any

import collada
import collada.schema
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from lxml import etree

from tests.support import PNG
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats import bundle_from_files, load, write
from tidy_caravan.core.formats.collada.nodes import matrix_of
from tidy_caravan.core.formats.collada.xml import MANY, parsed, values_in
from tidy_caravan.core.scene import Scene

HEAD = '<?xml version="1.0"?><COLLADA xmlns="http://www.collada.org/2005/11/COLLADASchema" version="1.4.1">'
SQUARE = """<library_geometries><geometry id="g" name="square"><mesh>
<source id="p"><float_array id="pa" count="12">0 0 0 1 0 0 1 1 0 0 1 0</float_array><technique_common>
<accessor source="#pa" count="4" stride="3"><param name="X" type="float"/><param name="Y" type="float"/><param name="Z" type="float"/></accessor></technique_common></source>
<vertices id="v"><input semantic="POSITION" source="#p"/></vertices>{primitives}</mesh></geometry></library_geometries>"""
POLYLIST = '<polylist count="1" material="paint"><input semantic="VERTEX" source="#v" offset="0"/><vcount>4</vcount><p>0 1 2 3</p></polylist>'
SCENE = '<library_visual_scenes><visual_scene id="s">{nodes}</visual_scene></library_visual_scenes><scene><instance_visual_scene url="#s"/></scene>'
INSTANCE = '<instance_geometry url="#g"/>'


def document(
    nodes: str = f'<node name="a">{INSTANCE}</node>', primitives: str = POLYLIST, asset: str = "", libraries: str = ""
) -> bytes:
    body = f"<asset>{asset}</asset>" + libraries + SQUARE.format(primitives=primitives) + SCENE.format(nodes=nodes)
    return (HEAD + body + "</COLLADA>").encode()


def read(data: bytes, **more: bytes) -> Scene:
    files = {"scene.dae": data, **{k.replace("_", "."): v for k, v in more.items()}}
    return load(bundle_from_files(files))


def area(scene: Scene) -> float:
    total = 0.0
    for m in scene.meshes:
        p = m.positions.astype(np.float64)[m.indices]
        total += float(np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1).sum()) / 2
    return total


class Conventions(unittest.TestCase):
    def test_unit_and_up_axis(self) -> None:
        for up, axis in (("X_UP", "X"), ("Y_UP", "Y"), ("Z_UP", "Z")):
            for metres in (1.0, 0.01, 0.0254, 0.3048):
                with self.subTest(up=up, metres=metres):
                    asset = f'<unit name="u" meter="{metres}"/><up_axis>{up}</up_axis>'
                    c = read(document(asset=asset)).convention
                    self.assertEqual((c.metres_per_unit, c.up, c.handedness, c.declared), (metres, axis, "right", True))

    def test_a_missing_or_impossible_unit_is_a_guess(self) -> None:
        self.assertFalse(read(document()).convention.declared)
        for bad in ("0", "-1", "nan", "elephant"):
            scene = read(document(asset=f'<unit meter="{bad}"/>'))
            self.assertEqual(scene.convention.metres_per_unit, 1.0)
            self.assertIn("import.unit", {n.code for n in scene.notes})


class Transforms(unittest.TestCase):
    def test_every_kind_against_pycollada(self) -> None:
        rng = np.random.default_rng(5)
        transforms = [
            collada.scene.TranslateTransform(1, 2, 3),
            collada.scene.RotateTransform(0.6, 0.0, 0.8, 40),
            collada.scene.ScaleTransform(1, 2, 0.5),
            collada.scene.MatrixTransform(np.append(rng.normal(size=12), (0, 0, 0, 1)).astype(np.float32)),
        ]
        known = np.eye(4)
        for t in transforms:
            known = known @ t.matrix
        xml = "".join(etree.tostring(t.xmlnode).decode() for t in transforms)
        scene = read(document(f'<node name="a">{xml}{INSTANCE}</node>'))
        np.testing.assert_allclose(scene.nodes.world[0], known, rtol=1e-4, atol=1e-4)

    def test_lookat_stands_at_the_eye_and_looks_at_the_target(self) -> None:
        m = matrix_of("lookat", np.array([1, 2, 3, 4, -2, 1, 0, 1, 0], np.float64))
        np.testing.assert_allclose(m @ (0, 0, 0, 1), (1, 2, 3, 1))
        ahead = m[:3, :3] @ (0, 0, -1)
        np.testing.assert_allclose(np.cross(ahead, (3, -4, -2)), 0, atol=1e-12)
        self.assertGreater(float(ahead @ (3, -4, -2)), 0)
        self.assertAlmostEqual(float(m[:3, 0] @ (0, 1, 0)), 0.0, places=12)
        self.assertAlmostEqual(float(np.linalg.det(m)), 1.0, places=12)

    def test_skew_leans_by_the_angle(self) -> None:
        # RenderMan: the second vector leans towards the first by the angle, in their plane
        for degrees in (10.0, 30.0, -20.0):
            m = matrix_of("skew", np.array([degrees, 0, 1, 0, 1, 0, 0], np.float64))
            leaned = m[:3, :3] @ np.array((0.0, 1.0, 0.0))
            self.assertAlmostEqual(np.degrees(np.arctan2(leaned[0], leaned[1])), degrees, places=9)
            np.testing.assert_allclose(m[:3, :3] @ np.array((1.0, 0, 0)), (1, 0, 0), atol=1e-12)

    def test_pivots_that_are_no_origins_are_kept_as_data(self) -> None:
        stack = (
            '<translate sid="translate">10 0 0</translate><translate sid="rotatePivot">2 3 0</translate>'
            '<rotate sid="rotateZ">0 0 1 90</rotate><translate sid="rotatePivotInverse">-2 -3 0</translate>'
        )
        scene = read(document(f'<node name="door">{stack}{INSTANCE}</node>'))
        np.testing.assert_allclose(scene.nodes.world[0] @ (2, 3, 0, 1), (12, 3, 0, 1), atol=1e-12)
        np.testing.assert_allclose(scene.nodes.extras[0]["pivot"], (12, 3, 0))
        self.assertIn("import.pivot", {n.code for n in scene.notes})

    def test_instance_nodes_share_their_mesh_and_keep_their_place(self) -> None:
        nodes = (
            '<node name="a"><instance_node url="#bay"/></node>'
            '<node name="b"><translate>5 0 0</translate><instance_node url="#bay"/></node>'
        )
        library = (
            f'<library_nodes><node id="bay" name="bay"><translate>0 1 0</translate>{INSTANCE}</node></library_nodes>'
        )
        scene = read(document(nodes, libraries=library))
        self.assertEqual((len(scene.nodes.parts), len(scene.meshes)), (2, 1))
        np.testing.assert_allclose(scene.nodes.world[scene.nodes.parts][:, :3, 3], [(0, 1, 0), (5, 1, 0)])
        self.assertEqual(scene.nodes.paths[int(scene.nodes.parts[1])], "b/bay")

    def test_layers_become_layers_and_are_inherited(self) -> None:
        scene = read(document(f'<node name="hall" layer="building"><node name="wall">{INSTANCE}</node></node>'))
        self.assertEqual(scene.layers, ("building",))
        self.assertEqual(scene.nodes.layer.tolist(), [0, 0])


class Geometry(unittest.TestCase):
    def test_every_primitive_covers_the_same_square(self) -> None:
        start = '<input semantic="VERTEX" source="#v" offset="0"/>'
        kinds = {
            "triangles": f'<triangles count="2">{start}<p>0 1 2 0 2 3</p></triangles>',
            "strip": f'<tristrips count="1">{start}<p>0 1 3 2</p></tristrips>',
            "fan": f'<trifans count="1">{start}<p>0 1 2 3</p></trifans>',
            "polylist": POLYLIST,
            "polygons": f'<polygons count="1">{start}<p>0 1 2 3</p></polygons>',
        }
        for name, xml in kinds.items():
            with self.subTest(name):
                m = read(document(primitives=xml)).meshes[0]
                p = m.positions.astype(np.float64)[m.indices]
                np.testing.assert_allclose(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]).sum(axis=0) / 2, (0, 0, 1))

    def test_polygons_with_holes(self) -> None:
        ring = "0 0 0 4 0 0 4 4 0 0 4 0 1 1 0 1 2 0 2 2 0 2 1 0"
        text = (
            document(primitives="").decode().replace("0 0 0 1 0 0 1 1 0 0 1 0", ring).replace('count="4"', 'count="8"')
        )
        holed = (
            '<polygons count="1"><input semantic="VERTEX" source="#v" offset="0"/>'
            "<ph><p>0 1 2 3</p><h>4 5 6 7</h></ph></polygons></mesh>"
        )
        self.assertAlmostEqual(area(read(text.replace("</mesh>", holed).encode())), 15.0)

    def test_several_uv_sets_are_ordered_by_what_the_material_reads(self) -> None:
        sources = "".join(
            f'<source id="t{k}"><float_array id="ta{k}" count="8">{" ".join([f"0.{k} 0.25"] * 4)}</float_array><technique_common>'
            f'<accessor source="#ta{k}" count="4" stride="2"><param name="S" type="float"/><param name="T" type="float"/></accessor></technique_common></source>'
            for k in (1, 2, 3)
        )
        polylist = (
            '<polylist count="1" material="paint"><input semantic="VERTEX" source="#v" offset="0"/>'
            + "".join(f'<input semantic="TEXCOORD" source="#t{k}" offset="0" set="{k}"/>' for k in (1, 2, 3))
            + "<vcount>4</vcount><p>0 1 2 3</p></polylist>"
        )
        text = (
            document(primitives="")
            .decode()
            .replace("<vertices", sources + "<vertices")
            .replace("</mesh>", polylist + "</mesh>")
        )
        self.assertEqual([round(float(u[0, 0]), 3) for u in read(text.encode()).meshes[0].uvs], [0.1, 0.2, 0.3])
        libraries = effect('<diffuse><texture texture="smp" texcoord="CHANNEL"/></diffuse>')
        bound = (
            '<instance_geometry url="#g"><bind_material><technique_common><instance_material symbol="paint" target="#m">'
            '<bind_vertex_input semantic="CHANNEL" input_semantic="TEXCOORD" input_set="2"/></instance_material>'
            "</technique_common></bind_material></instance_geometry>"
        )
        scene = read(
            text.replace(INSTANCE, bound).replace("<library_geometries>", libraries + "<library_geometries>").encode()
        )
        m = scene.meshes[0]
        self.assertEqual([round(float(u[0, 0]), 3) for u in m.uvs], [0.2, 0.1, 0.3])
        np.testing.assert_allclose(m.uvs[0][:, 1], 0.75, atol=1e-6)

    def test_damaged_indices_and_positions_cost_their_faces(self) -> None:
        bad = (
            '<polylist count="3"><input semantic="VERTEX" source="#v" offset="0"/><vcount>3 3 3</vcount>'
            "<p>0 1 2 0 1 99 0 2 3</p></polylist>"
        )
        scene = read(document(primitives=bad))
        self.assertEqual(scene.meshes[0].triangles, 2)
        self.assertIn("import.face", {n.code for n in scene.notes})
        scene = read(
            document()
            .replace(b"1 1 0 0 1 0<", b"nan inf 0 0 1 0<")
            .replace(b"<vcount>4</vcount><p>0 1 2 3", b"<vcount>3 3</vcount><p>0 1 2 0 1 3")
        )
        self.assertEqual(scene.meshes[0].triangles, 1)

    def test_a_primitive_without_usable_input_costs_itself(self) -> None:
        for broken in (
            '<triangles count="1"><input semantic="VERTEX" source="#nowhere" offset="0"/><p>0 1 2</p></triangles>',
            '<triangles count="1"><input semantic="VERTEX" source="#v" offset="0"/><p>0 1 x</p></triangles>',
            '<triangles count="1"><input semantic="VERTEX" source="#v" offset="zero"/><p>0 1 2</p></triangles>',
            '<polylist count="1"><input semantic="VERTEX" source="#v" offset="0"/><vcount>9</vcount><p>0 1 2</p></polylist>',
        ):
            with self.subTest(broken[:60]):
                scene = read(document(primitives=broken + POLYLIST))
                self.assertEqual(scene.meshes[0].triangles, 2)
                self.assertIn("import.primitive", {n.code for n in scene.notes})


def effect(channel: str, model: str = "phong", extra: str = "") -> str:
    return (
        '<library_images><image id="img"><init_from>textures/board.png</init_from></image></library_images>'
        '<library_effects><effect id="e"><profile_COMMON>'
        '<newparam sid="srf"><surface type="2D"><init_from>img</init_from></surface></newparam>'
        '<newparam sid="smp"><sampler2D><source>srf</source><wrap_s>MIRROR</wrap_s></sampler2D></newparam>'
        f'<technique sid="t"><{model}>{channel}</{model}></technique>{extra}</profile_COMMON></effect></library_effects>'
        '<library_materials><material id="m" name="paint"><instance_effect url="#e"/></material></library_materials>'
    )


BOUND = (
    '<instance_geometry url="#g"><bind_material><technique_common><instance_material symbol="paint" target="#m"/>'
    "</technique_common></bind_material></instance_geometry>"
)


class Materials(unittest.TestCase):
    def material(self, channel: str, model: str = "phong", extra: str = "") -> tuple[Scene, Any]:
        files = {
            "scene.dae": document(f'<node name="a">{BOUND}</node>', libraries=effect(channel, model, extra)),
            "textures/board.png": PNG,
        }
        scene = load(bundle_from_files(files))
        return scene, scene.materials[scene.meshes[0].slots[0]]

    def test_colours_become_linear_and_shininess_roughness(self) -> None:
        _, m = self.material("<diffuse><color>1 0.5 0 1</color></diffuse><shininess><float>30</float></shininess>")
        np.testing.assert_allclose(m.base_color[:3], (1, 0.21404114, 0), atol=1e-6)
        self.assertAlmostEqual(m.roughness, (2 / 32) ** 0.5, places=9)
        self.assertEqual(m.name, "paint")

    def test_opacity_in_all_four_modes(self) -> None:
        for mode, color, factor, opacity in (
            ("A_ONE", "1 1 1 0.5", 0.5, 0.25),
            ("A_ZERO", "1 1 1 0.5", 0.5, 0.75),
            ("RGB_ONE", "1 1 1 1", 0.4, 0.4),
            ("RGB_ZERO", "1 1 1 1", 0.4, 0.6),
        ):
            with self.subTest(mode):
                _, m = self.material(
                    f'<transparent opaque="{mode}"><color>{color}</color></transparent><transparency><float>{factor}</float></transparency>'
                )
                self.assertAlmostEqual(m.base_color[3], opacity, places=5)
                self.assertEqual(m.alpha_mode, "BLEND")
        scene, m = self.material(
            '<transparent opaque="A_ONE"><color>0 0 0 0</color></transparent><transparency><float>0</float></transparency>'
        )
        self.assertEqual(m.alpha_mode, "OPAQUE", "wholly clear by the letter is taken as opaque, and told")
        self.assertIn("material.transparency", {n.code for n in scene.notes})

    def test_pictures_samplers_and_two_sided(self) -> None:
        scene, m = self.material(
            '<diffuse><texture texture="smp" texcoord="UV"/></diffuse>',
            extra='<extra><technique profile="x"><double_sided>1</double_sided></technique></extra>',
        )
        self.assertTrue(m.double_sided)
        texture = scene.textures[m.base_color_texture.texture]
        assert texture.sampler is not None
        self.assertEqual((scene.images[texture.image].data, texture.sampler.wrap_s), (PNG, 33648))

    def test_constant_is_unlit(self) -> None:
        _, m = self.material("<emission><color>1 1 1 1</color></emission>", "constant")
        self.assertTrue(m.unlit)
        np.testing.assert_allclose(m.base_color, (1, 1, 1, 1))

    def test_version_1_5_names_pictures_another_way(self) -> None:
        libraries = (
            '<library_images><image id="img"><init_from><ref>board.png</ref></init_from></image></library_images>'
            '<library_effects><effect id="e"><profile_COMMON><newparam sid="smp"><sampler2D>'
            '<instance_image url="#img"/></sampler2D></newparam><technique sid="t"><lambert><diffuse>'
            '<texture texture="smp" texcoord="UV"/></diffuse></lambert></technique></profile_COMMON></effect></library_effects>'
            '<library_materials><material id="m" name="paint"><instance_effect url="#e"/></material></library_materials>'
        )
        data = document(f'<node name="a">{BOUND}</node>', libraries=libraries)
        data = data.replace(b"2005/11", b"2008/03").replace(b'"1.4.1"', b'"1.5.0"')
        scene = load(bundle_from_files({"scene.dae": data, "board.png": PNG}))
        self.assertEqual(scene.images[0].data, PNG)

    def test_lights_and_cameras(self) -> None:
        libraries = (
            '<library_lights><light id="sun"><technique_common><directional><color>1 1 1</color></directional></technique_common></light>'
            '<light id="spot"><technique_common><spot><color>2 2 2</color><falloff_angle>60</falloff_angle></spot></technique_common></light>'
            '<light id="amb"><technique_common><ambient><color>1 1 1</color></ambient></technique_common></light></library_lights>'
            '<library_cameras><camera id="c"><optics><technique_common><perspective><xfov>90</xfov><aspect_ratio>2</aspect_ratio>'
            "<znear>0.5</znear><zfar>100</zfar></perspective></technique_common></optics></camera></library_cameras>"
        )
        nodes = (
            f'<node name="a">{INSTANCE}</node><node name="s"><instance_light url="#sun"/></node>'
            '<node name="p"><instance_light url="#spot"/></node><node name="x"><instance_light url="#amb"/></node>'
            '<node name="v"><instance_camera url="#c"/></node>'
        )
        scene = read(document(nodes, libraries=libraries))
        self.assertEqual([light.kind for light in scene.lights], ["directional", "spot"])
        self.assertAlmostEqual(scene.lights[1].outer_cone, np.radians(30))
        self.assertAlmostEqual(scene.cameras[0].yfov, 2 * np.arctan(0.5), places=6)
        self.assertEqual({t.kind for t in scene.travel if t.verdict == "behind"}, {"ambient lights"})


class Written(unittest.TestCase):
    def scene(self) -> Scene:
        libraries = effect('<diffuse><texture texture="smp" texcoord="UV"/></diffuse>')
        nodes = "".join(
            f'<node name="bay {i}" layer="glazing"><translate>{i} 0 0</translate>{BOUND}</node>' for i in range(4)
        )
        asset = '<unit name="centimeter" meter="0.01"/><up_axis>Z_UP</up_axis>'
        return load(
            bundle_from_files(
                {"scene.dae": document(nodes, asset=asset, libraries=libraries), "textures/board.png": PNG}
            )
        )

    def test_the_published_schema_accepts_it_and_the_declaration_is_right(self) -> None:
        files = write(self.scene(), "dae", "scene").files
        root = etree.fromstring(files["scene.dae"])
        validator = collada.schema.ColladaValidator()
        self.assertTrue(validator.validate(root), str(validator.COLLADA_SCHEMA_1_4_1_INSTANCE.error_log)[:500])
        document_ = collada.Collada(io.BytesIO(files["scene.dae"]))
        self.assertEqual((document_.assetInfo.unitmeter, document_.assetInfo.upaxis), (0.01, "Z_UP"))
        self.assertEqual(len(document_.geometries), 1, "the shared mesh is written once")

    def test_reading_back_gives_the_same_scene(self) -> None:
        scene = self.scene()
        files = write(scene, "dae", "scene").files
        self.assertEqual(files, write(scene, "dae", "scene").files)
        back = load(bundle_from_files(files))
        self.assertEqual((len(back.nodes), len(back.meshes), back.layers), (4, 1, ("glazing",)))
        np.testing.assert_array_equal(back.nodes.world, scene.nodes.world)
        self.assertEqual(back.images[0].data, PNG)
        self.assertEqual(back.convention, scene.convention)


class Numbers(unittest.TestCase):
    """Long lists go another way than short ones, and mean the same."""

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.floats(allow_nan=False), min_size=1, max_size=40), st.sampled_from(["%r", "%.9g", "%+.3e", "%.17g", "%.0f", "%d"]), st.sampled_from([" ", "\n", "\t  ", " \r\n    "]))  # fmt: skip
    def test_any_decimal_comes_to_the_last_bit(self, values: list[float], form: str, blank: str) -> None:
        values = [v for v in values if np.isfinite(v)] or [0.0]
        words = [form % v for v in values] * 50
        text = f"{blank}{blank.join(words)}{blank}"
        self.assertEqual(parsed(text).tolist(), [float(w) for w in words])

    @settings(max_examples=40, deadline=None)
    @given(st.lists(st.integers(-(2**62), 2**62), min_size=1, max_size=40), st.sampled_from([" ", "\n", "\t  "]))
    def test_so_does_any_whole_number(self, values: list[int], blank: str) -> None:
        found = values_in(blank.join(map(str, values * 300)), np.int64)
        self.assertEqual((found.tolist(), found.dtype), (values * 300, np.int64))

    def test_long_lists_of_indices_with_something_else_in_them_are_as_short_ones(self) -> None:
        for word in ("1.5", "x", "99999999999999999999", "1e3", "+2", "007"):
            answers = []
            for many in (1, MANY):
                try:
                    answers.append(values_in(" ".join(["1"] * many + [word]), np.int64)[-1])
                except ValueError as refused:
                    answers.append(type(refused))
            self.assertEqual(answers[0], answers[1], word)

    def test_what_is_a_number_here_and_none_elsewhere_is_read(self) -> None:
        for word, value in (("+1", 1.0), (".5", 0.5), ("2.", 2.0), ("007", 7.0), ("1e400", np.inf), ("-Inf", -np.inf)):
            found = parsed(" ".join(["1"] * MANY + [word]))
            self.assertEqual((len(found), found[-1]), (MANY + 1, value), word)
        self.assertTrue(np.isnan(parsed(" ".join(["1"] * MANY + ["NaN"]))[-1]))

    def test_what_is_no_list_of_numbers_is_refused(self) -> None:
        for word in ("x", "[2]", "[2, 3]", '"2"', "true", "null", "{}", "1,2", "0x10", "1;2"):
            with self.assertRaises(ValueError, msg=word):
                parsed(" ".join(["1"] * MANY + [word]))


class BadInput(unittest.TestCase):
    def test_entities_and_foreign_encodings_are_refused_before_parsing(self) -> None:
        bomb = HEAD.replace(
            "<COLLADA", '<!DOCTYPE x [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;&a;&a;">]><COLLADA'
        )
        outside = HEAD.replace("<COLLADA", '<!DOCTYPE x [<!ENTITY f SYSTEM "file:///etc/passwd">]><COLLADA')
        for text in (bomb + "<asset>&b;</asset></COLLADA>", outside + "<asset>&f;</asset></COLLADA>"):
            for encoded in (
                text.encode(),
                text.replace('version="1.0"', 'version="1.0" encoding="UTF-16"').encode("utf-16"),
            ):
                with self.assertRaises(UnusableInput) as caught:
                    read(encoded)
                self.assertIn("entities", caught.exception.sentence())
        with self.assertRaises(UnusableInput):
            read(document().replace(b'version="1.0"', b'version="1.0" encoding="UTF-7"'))

    def test_an_external_document_type_is_not_fetched(self) -> None:
        data = document().replace(b"<COLLADA", b'<!DOCTYPE COLLADA SYSTEM "http://localhost:9/x.dtd"><COLLADA', 1)
        self.assertEqual(len(read(data).nodes.parts), 1)

    def test_nodes_that_contain_themselves(self) -> None:
        loop = '<node id="a" name="a"><instance_node url="#b"/></node>'
        library = f'<library_nodes><node id="b" name="b"><instance_node url="#a"/>{INSTANCE}</node></library_nodes>'
        scene = read(document(loop, libraries=library))
        self.assertIn("import.cycle", {n.code for n in scene.notes})
        self.assertEqual(len(scene.nodes.parts), 1)

    def test_what_is_outside_the_file_is_told(self) -> None:
        scene = read(
            document(
                f'<node name="a">{INSTANCE}<instance_node url="../other.dae#x"/><instance_geometry url="http://x/y#g"/></node>'
            )
        )
        self.assertEqual(len(scene.nodes.parts), 1)
        self.assertEqual([n.code for n in scene.notes].count("import.reference"), 2)

    def test_claims_beyond_the_numbers(self) -> None:
        for old, new in ((b'count="4" stride="3"', b'count="400000000" stride="3"'), (b'stride="3"', b'stride="0"')):
            with self.subTest(new):
                self.assertEqual(len(read(document().replace(old, new)).nodes.parts), 0)

    def test_broken_xml_says_where(self) -> None:
        data = document()
        for broken in (
            data[: len(data) // 2],
            data.replace(b"</mesh>", b""),
            HEAD.encode(),
            HEAD.encode() + b"</COLLADA>",
        ):
            with self.assertRaises(UnusableInput) as caught:
                read(broken)
            self.assertTrue(caught.exception.sentence().startswith("scene.dae: "))

    def test_zae_names_its_document(self) -> None:
        body = io.BytesIO()
        with zipfile.ZipFile(body, "w") as archive:
            archive.writestr("manifest.xml", "<dae_root>./deep/right.dae</dae_root>")
            archive.writestr("deep/right.dae", document())
            archive.writestr("wrong.dae", b"<COLLADA/>")
        self.assertEqual(len(load(bundle_from_files({"x.zae": body.getvalue()})).nodes.parts), 1)


if __name__ == "__main__":
    unittest.main()
