"""Materials through every format that can hold them: numbers times pictures, cut-outs, second UV sets, odd pictures."""

from __future__ import annotations

import io
import json
import struct
import tempfile
import unittest
from pathlib import Path
from typing import Any

import collada
import numpy as np
import PIL.Image
import pygltflib
import trimesh
from pxr import Usd, UsdShade

from tests.support import TRIANGLE, Gltf, read, validate_bytes
from tidy_caravan.core.formats import write
from tidy_caravan.core.scene import Material, Scene

TINT = (0.5, 0.25, 1.0)


def square(color: tuple[int, ...], kind: str = "PNG", side: int = 4) -> bytes:
    out = io.BytesIO()
    PIL.Image.new("RGBA" if len(color) == 4 else "RGB", (side, side), color).save(out, kind, lossless=True)
    return out.getvalue()


def dressed(material: dict[str, Any], pictures: list[bytes], mimes: list[str] | None = None, **attributes: Any) -> Gltf:
    """One triangle under one material; texture k shows picture k."""
    g = Gltf()
    for k, data in enumerate(pictures):
        g.put("images", {"bufferView": g.view(data), "mimeType": (mimes or ["image/png"] * 9)[k], "name": f"p{k}"})
        g.put("textures", {"source": k})
    g.put("materials", {"name": "look", **material})
    uv = [[0.1, 0.2], [0.8, 0.2], [0.1, 0.9]]
    mesh = g.mesh(TRIANGLE, [0, 1, 2], TEXCOORD_0=uv, NORMAL=[[0, 0, 1]] * 3, **attributes)
    g.json["meshes"][mesh]["primitives"][0]["material"] = 0
    g.node(mesh=mesh, name="part")
    return g


def tinted_glass() -> Scene:
    return dressed(
        {
            "pbrMetallicRoughness": {
                "baseColorFactor": [*TINT, 0.4],
                "baseColorTexture": {"index": 0},
                "metallicFactor": 0.5,
                "roughnessFactor": 0.25,
                "metallicRoughnessTexture": {"index": 1},
            },
            "normalTexture": {"index": 2, "scale": 0.5},
            "occlusionTexture": {"index": 1, "strength": 0.75},
            "emissiveTexture": {"index": 0},
            "emissiveFactor": [0.5, 1.0, 0.0],
            "extensions": {"KHR_materials_emissive_strength": {"emissiveStrength": 4.0}},
            "alphaMode": "BLEND",
        },
        [square((255, 128, 64, 255)), square((255, 200, 100)), square((128, 128, 255))],
    ).scene()


def only(scene: Scene) -> Material:
    (material,) = scene.materials
    return material


def again(scene: Scene, kind: str) -> tuple[Scene, list[str]]:
    written = write(scene, kind, "x")
    return read(dict(written.files), f"x.{kind}"), written.texts("rewritten")


class InUsd(unittest.TestCase):
    def shader(self, scene: Scene) -> tuple[Any, list[str]]:
        written = write(scene, "usda", "x")
        with tempfile.TemporaryDirectory() as folder:
            for name, data in written.files.items():
                (Path(folder) / name).parent.mkdir(exist_ok=True)
                (Path(folder) / name).write_bytes(data)
            self.stage = Usd.Stage.Open(str(Path(folder) / "x.usda"))
        surface = next(
            s for p in self.stage.Traverse() if (s := UsdShade.Shader(p)) and s.GetIdAttr().Get() == "UsdPreviewSurface"
        )
        return surface, written.texts("rewritten")

    def feeding(self, surface: Any, name: str) -> dict[str, Any]:
        """Inputs of the texture that feeds an input, and the output that it comes from."""
        source, output, _ = surface.GetInput(name).GetConnectedSource()
        shader = UsdShade.Shader(source.GetPrim())
        return {i.GetBaseName(): i.Get() for i in shader.GetInputs()} | {"output": output}

    def test_numbers_multiply_their_pictures(self) -> None:
        surface, _ = self.shader(tinted_glass())
        np.testing.assert_allclose(self.feeding(surface, "diffuseColor")["scale"], (*TINT, 0.4), atol=1e-6)
        opacity = self.feeding(surface, "opacity")
        self.assertEqual(opacity["output"], "a")
        self.assertAlmostEqual(opacity["scale"][3], 0.4, places=6)
        self.assertAlmostEqual(self.feeding(surface, "roughness")["scale"][1], 0.25)
        self.assertAlmostEqual(self.feeding(surface, "metallic")["scale"][2], 0.5)
        bump = self.feeding(surface, "normal")
        np.testing.assert_allclose((bump["scale"], bump["bias"]), ((1, 1, 2, 1), (-0.5, -0.5, -1, 0)))
        shade = self.feeding(surface, "occlusion")
        np.testing.assert_allclose((shade["scale"][0], shade["bias"][0]), (0.75, 0.25))
        np.testing.assert_allclose(self.feeding(surface, "emissiveColor")["scale"][:3], (2.0, 4.0, 0.0))

    def test_they_are_read_again(self) -> None:
        scene = tinted_glass()
        back, _ = again(scene, "usdc")
        a, b = only(scene), only(back)
        for name in ("base_color", "metallic", "roughness", "alpha_mode"):
            np.testing.assert_equal(getattr(b, name), getattr(a, name)) if name == "alpha_mode" else (
                np.testing.assert_allclose(getattr(b, name), getattr(a, name), atol=1e-6)
            )
        np.testing.assert_allclose(np.array(b.emissive) * b.emissive_strength, (2.0, 4.0, 0.0), atol=1e-5)
        assert a.normal_texture and b.normal_texture and b.occlusion_texture
        self.assertAlmostEqual(b.normal_texture.strength, 0.5, places=5)
        self.assertAlmostEqual(b.occlusion_texture.strength, 0.75, places=5)

    def test_unlit_glows_and_is_told(self) -> None:
        g = dressed({"extensions": {"KHR_materials_unlit": {}}, "pbrMetallicRoughness": {
            "baseColorFactor": [0.2, 0.4, 0.6, 1], "baseColorTexture": {"index": 0}}}, [square((255, 255, 255))])  # fmt: skip
        surface, remarks = self.shader(g.scene())
        np.testing.assert_allclose(surface.GetInput("diffuseColor").Get(), (0, 0, 0))
        np.testing.assert_allclose(self.feeding(surface, "emissiveColor")["scale"][:3], (0.2, 0.4, 0.6), atol=1e-6)
        self.assertTrue(any("unlit" in r for r in remarks))


class InCollada(unittest.TestCase):
    def test_tints_go_into_the_pictures(self) -> None:
        written = write(tinted_glass(), "dae", "x")
        name = next(n for n in written.files if "tinted" in n and n.endswith(".png") and "p0" in n)
        pixels = {
            tuple(np.asarray(PIL.Image.open(io.BytesIO(d)).convert("RGB"))[0, 0].tolist())
            for n, d in written.files.items()
            if "tinted" in n
        }
        self.assertIn("p0", name)

        def shaded(value: int, factor: float) -> int:
            """By the transfer function's two branches, written out."""
            c = value / 255
            flat = c / 12.92 if c <= 0.04045 else ((c + 0.055) / 1.055) ** 2.4
            flat = min(1.0, flat * factor)
            return round(255 * (12.92 * flat if flat <= 0.0031308 else 1.055 * flat ** (1 / 2.4) - 0.055))

        self.assertIn(tuple(shaded(v, f) for v, f in zip((255, 128, 64), TINT, strict=True)), pixels)
        self.assertTrue(any("cannot tint" in r for r in written.texts("rewritten")))
        for lost in ("normal map strengths", "brightness of images", "metallic surfaces"):
            self.assertTrue(any(lost in r for r in written.texts("lost")), lost)

    def test_opacity_comes_through_and_pycollada_sees_it(self) -> None:
        scene = tinted_glass()
        document = collada.Collada(io.BytesIO(write(scene, "dae", "x").files["x.dae"]), ignore=[Exception])
        self.assertAlmostEqual(document.effects[0].transparency, 0.4, places=6)
        back, _ = again(scene, "dae")
        self.assertEqual(only(back).alpha_mode, "BLEND")
        self.assertAlmostEqual(only(back).base_color[3], 0.4, places=6)

    def test_opacity_is_no_image_where_the_image_is_solid_and_sides_stand_beside_the_bumps(self) -> None:
        look = {"alphaMode": "BLEND", "doubleSided": True, "normalTexture": {"index": 1},
                "pbrMetallicRoughness": {"baseColorFactor": [1, 1, 1, 0.25], "baseColorTexture": {"index": 0}}}  # fmt: skip
        for alpha, as_image in ((255, False), (254, True)):
            scene = dressed(look, [square((9, 8, 7, alpha)), square((128, 128, 255))]).scene()
            data = write(scene, "dae", "x").files["x.dae"]
            (effect,) = collada.Collada(io.BytesIO(data), ignore=[Exception]).effects
            self.assertIs(isinstance(effect.transparent, collada.material.Map), as_image)
            self.assertAlmostEqual(effect.transparency, 0.25, places=6)
            self.assertEqual((effect.double_sided, effect.bumpmap.texcoord), (True, "UV0"))
            # some readers take the extra of the shading's technique, and of techniques in it the last one
            ((extra,),) = effect.xmlnode.findall(f".//{collada.common.tag('technique')}/{collada.common.tag('extra')}")
            self.assertEqual([e.tag.split("}")[1] for e in extra], ["bump", "double_sided"])
            back, _ = again(scene, "dae")
            told = only(back)
            self.assertEqual((told.alpha_mode, told.double_sided, told.base_color[3]), ("BLEND", True, 0.25))
            self.assertIsNotNone(told.normal_texture)

    def test_brightness_of_what_glows_without_a_picture(self) -> None:
        g = dressed({"emissiveFactor": [1.0, 0.5, 0.0],
                     "extensions": {"KHR_materials_emissive_strength": {"emissiveStrength": 6.0}}}, [])  # fmt: skip
        back, _ = again(g.scene(), "dae")
        glow = np.array(only(back).emissive) * only(back).emissive_strength
        np.testing.assert_allclose(glow, (6.0, 3.0, 0.0), atol=1e-5)

    def test_cut_outs_are_told(self) -> None:
        g = dressed({"alphaMode": "MASK", "alphaCutoff": 0.7, "pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}},
                    [square((10, 20, 30, 99))])  # fmt: skip
        for kind in ("dae", "obj"):
            self.assertTrue(any("cut-out" in r for r in write(g.scene(), kind, "x").texts("lost")), kind)


class InObj(unittest.TestCase):
    def by_trimesh(self, scene: Scene) -> Any:
        files = write(scene, "obj", "x").files
        with tempfile.TemporaryDirectory() as folder:
            for name, data in files.items():
                (Path(folder) / name).parent.mkdir(exist_ok=True)
                (Path(folder) / name).write_bytes(data)
            return trimesh.load(Path(folder) / "x.obj", process=False, force="mesh")

    def test_the_set_that_the_picture_reads_is_the_one_written(self) -> None:
        second = [[3.0, 0.25], [7.5, 0.5], [0.0, 2.0]]
        look = {"pbrMetallicRoughness": {"baseColorTexture": {"index": 0, "texCoord": 1}}}
        scene = dressed(look, [square((1, 2, 3))], TEXCOORD_1=second).scene()
        mesh = self.by_trimesh(scene)
        got = np.asarray(mesh.visual.uv)[mesh.faces].reshape(-1, 2)
        np.testing.assert_allclose(got, [[u, 1 - v] for u, v in second], atol=1e-6)

    def test_two_materials_of_one_mesh_may_read_different_sets(self) -> None:
        g = dressed({"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}}, [square((1, 2, 3))],
                    TEXCOORD_1=[[5, 0], [6, 0], [5, 1]])  # fmt: skip
        g.put("materials", {"name": "two", "pbrMetallicRoughness": {"baseColorTexture": {"index": 0, "texCoord": 1}}})
        first = g.json["meshes"][0]["primitives"][0]
        g.json["meshes"][0]["primitives"].append({**first, "material": 1})
        text = write(g.scene(), "obj", "x").files["x.obj"].decode()
        rows = [tuple(map(float, line.split()[1:])) for line in text.splitlines() if line.startswith("vt ")]
        faces = [line for line in text.splitlines() if line.startswith("f ")]
        read_by = [[rows[int(c.split("/")[1]) - 1] for c in f.split()[1:]] for f in faces]
        np.testing.assert_allclose(read_by[0], [(0.1, 0.8), (0.8, 0.8), (0.1, 0.1)], atol=1e-6)
        np.testing.assert_allclose(read_by[1], [(5, 1), (6, 1), (5, 0)], atol=1e-6)

    def test_offset_turn_and_scale_are_written_into_the_coordinates(self) -> None:
        transform = {"offset": [0.3, 0.1], "rotation": 0.5, "scale": [2.0, 3.0]}
        use = {"index": 0, "extensions": {"KHR_texture_transform": transform}}
        scene = dressed({"pbrMetallicRoughness": {"baseColorTexture": use}}, [square((1, 2, 3))]).scene()
        mesh = self.by_trimesh(scene)
        c, s = np.cos(0.5), np.sin(0.5)
        # the extension's own matrices: translation · rotation · scale
        matrix = (
            np.array([[1, 0, 0.3], [0, 1, 0.1], [0, 0, 1]]) @ [[c, s, 0], [-s, c, 0], [0, 0, 1]] @ np.diag([2, 3, 1])
        )
        known = [(matrix @ [u, v, 1])[:2] for u, v in ((0.1, 0.2), (0.8, 0.2), (0.1, 0.9))]
        got = np.asarray(mesh.visual.uv)[mesh.faces].reshape(-1, 2)
        np.testing.assert_allclose(got, [[u, 1 - v] for u, v in known], atol=1e-6)

    def test_numbers_colours_and_channels_come_back(self) -> None:
        scene = tinted_glass()
        back, _ = again(scene, "obj")
        a, b = only(scene), only(back)
        np.testing.assert_allclose(b.base_color, a.base_color, atol=1e-6)
        self.assertEqual((b.alpha_mode, b.metallic, b.roughness), ("BLEND", 0.5, 0.25))
        np.testing.assert_allclose(np.array(b.emissive) * b.emissive_strength, (2.0, 4.0, 0.0), atol=1e-6)
        assert b.normal_texture and b.metallic_roughness_texture
        self.assertAlmostEqual(b.normal_texture.strength, 0.5)
        colors = [[1, 0, 0, 1], [0, 1, 0, 1], [0, 0, 1, 1]]
        g = Gltf()
        g.node(mesh=g.mesh(TRIANGLE, [0, 1, 2], COLOR_0=colors), name="coloured")
        mesh = self.by_trimesh(g.scene())
        got = np.asarray(mesh.visual.vertex_colors)[mesh.faces].reshape(-1, 4) / 255
        np.testing.assert_allclose(got, colors, atol=0.01)
        self.assertTrue(any("occlusion" in r for r in write(scene, "obj", "x").texts("lost")))

    def test_options_of_pictures_are_read(self) -> None:
        mtl = b"newmtl a\nmap_Kd -s 2 4 -o 0.5 0.25 -clamp on dot.png\nmap_Ks shine.png\nbump -bm 0.3 dot.png\n"
        text = b"mtllib a.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 0 1\nusemtl a\nf 1/1 2/2 3/3\n"
        scene = read({"a.obj": text, "a.mtl": mtl, "dot.png": square((1, 2, 3))}, "a.obj")
        use = only(scene).base_color_texture
        assert use is not None
        self.assertEqual(use.scale, (2.0, 4.0))
        # V' = 4 V + 0.25 counted upwards, so v' = 4 v - 3.25 downwards
        self.assertEqual(use.offset, (0.5, -3.25))
        sampler = scene.textures[use.texture].sampler
        self.assertEqual(sampler.wrap_s if sampler else 0, 33071)
        bump = only(scene).normal_texture
        self.assertAlmostEqual(bump.strength if bump else 0, 0.3)
        self.assertTrue(any("map_ks" in n.text for n in scene.notes))

    def test_a_bump_image_is_a_guess_and_gives_way_to_a_normal_map(self) -> None:
        def read_with(lines: bytes) -> tuple[str, list[tuple[str, str]]]:
            text = b"mtllib a.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nusemtl a\nf 1 2 3\n"
            files = {"a.obj": text, "a.mtl": b"newmtl a\n" + lines, "height.png": square((9, 9, 9))}
            scene = read({**files, "n.png": square((128, 128, 255))}, "a.obj")
            use = only(scene).normal_texture
            assert use is not None
            kinds = [(n.kind, n.code) for n in scene.notes if n.code.startswith("material")]
            return scene.images[scene.textures[use.texture].image].name, kinds

        guess, lost = ("guess", "material.bump"), ("behind", "material.lost")
        for lines, image, told in (
            (b"map_Bump height.png\n", "height.png", [guess]),
            (b"norm n.png\n", "n.png", []),
            (b"norm n.png\nbump height.png\n", "n.png", [lost]),
            (b"bump height.png\nnorm n.png\n", "n.png", []),
        ):
            with self.subTest(lines):
                self.assertEqual(read_with(lines), (image, told))


class Pictures(unittest.TestCase):
    def two_forms(self, extension: str, other: bytes, mime: str) -> Gltf:
        g = dressed({"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}}, [square((9, 8, 7))])
        g.put("images", {"bufferView": g.view(other), "mimeType": mime})
        g.json["textures"][0]["extensions"] = {extension: {"source": 1}}
        g.json["extensionsUsed"] = [extension]
        return g

    def test_a_fallback_travels_and_the_file_stays_valid(self) -> None:
        ktx2 = b"\xabKTX 20\xbb\r\n\x1a\n" + b"\0" * 80
        for extension, other, mime in (
            ("EXT_texture_webp", square((9, 8, 7), "WEBP"), "image/webp"),
            ("KHR_texture_basisu", ktx2, "image/ktx2"),
        ):
            scene = self.two_forms(extension, other, mime).scene()
            self.assertEqual([i.mime for i in scene.images], ["image/png"])
            self.assertEqual([n.code for n in scene.notes], ["texture.second-form"])
            files = dict(write(scene, "glb", "x").files)
            report = validate_bytes(files)
            self.assertEqual((report["errors"], report["warnings"]), (0, 0), report["messages"])

    def test_webp_alone_is_read_and_written_as_png_pixel_for_pixel(self) -> None:
        rng = np.random.default_rng(1)
        pixels = rng.integers(0, 255, (8, 8, 4), np.uint8)
        out = io.BytesIO()
        PIL.Image.fromarray(pixels).save(out, "WEBP", lossless=True, exact=True)
        g = dressed({"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}}, [out.getvalue()], ["image/webp"])
        g.json["textures"][0] = {"extensions": {"EXT_texture_webp": {"source": 0}}}
        g.json["extensionsUsed"] = g.json["extensionsRequired"] = ["EXT_texture_webp"]
        scene = g.scene()
        self.assertEqual(scene.images[0].mime, "image/webp")
        for kind in ("glb", "gltf", "usdz", "dae", "obj"):
            written = write(scene, kind, "x")
            self.assertTrue(any("WebP" in r for r in written.texts("rewritten")), kind)
            if kind in ("glb", "gltf"):
                self.assertEqual(validate_bytes(dict(written.files))["errors"], 0)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "x.glb"
            path.write_bytes(write(scene, "glb", "x").files["x.glb"])
            document = pygltflib.GLTF2.load(str(path))
            view = document.bufferViews[document.images[0].bufferView]
            data = document.binary_blob()[view.byteOffset : view.byteOffset + view.byteLength]
        np.testing.assert_array_equal(np.asarray(PIL.Image.open(io.BytesIO(data)).convert("RGBA")), pixels)

    def test_ktx2_without_a_fallback_costs_the_picture_only(self) -> None:
        ktx2 = b"\xabKTX 20\xbb\r\n\x1a\n" + b"\0" * 80
        g = dressed({"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}}, [ktx2], ["image/ktx2"])
        g.json["textures"][0] = {"extensions": {"KHR_texture_basisu": {"source": 0}}}
        g.json["extensionsUsed"] = g.json["extensionsRequired"] = ["KHR_texture_basisu"]
        scene = g.scene()
        self.assertEqual(len(scene.nodes.parts), 1)
        self.assertTrue(any("KTX2" in n.text for n in scene.notes))

    def test_a_sound_file_is_no_webp(self) -> None:
        wave = b"RIFF" + struct.pack("<I", 36) + b"WAVEfmt " + b"\0" * 28
        g = dressed({"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}}, [wave], ["image/png"])
        self.assertIn("texture.unreadable", {n.code for n in g.scene().notes})
        self.assertIsInstance(json.dumps(g.finish()), str)


if __name__ == "__main__":
    unittest.main()
