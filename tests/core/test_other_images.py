"""Textures as BMP, GIF, TGA and TIFF, as another library writes them: their pixels travel, and what does not is told."""

from __future__ import annotations

import io
import struct
import tempfile
import unittest
from pathlib import Path
from typing import Any

import numpy as np
import PIL.Image

from tests.support import Gltf, read
from tidy_caravan.core.carry import carry, prove
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.formats.shared.images import supply
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import Route
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.survey import survey

OBJ = "mtllib m.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 0 1\nusemtl a\nf 1/1 2/2 3/3\n"
USD = """#usda 1.0
(
  metersPerUnit = 1
  upAxis = "Y"
)
def Mesh "sheet" (
  prepend apiSchemas = ["MaterialBindingAPI"]
) {
  point3f[] points = [(0,0,0),(1,0,0),(0,1,0)]
  int[] faceVertexCounts = [3]
  int[] faceVertexIndices = [0,1,2]
  texCoord2f[] primvars:st = [(0,0),(1,0),(0,1)] (
    interpolation = "vertex"
  )
  uniform token subdivisionScheme = "none"
  rel material:binding = </look>
}
def Material "look" {
  token outputs:surface.connect = </look/s.outputs:surface>
  def Shader "s" {
    uniform token info:id = "UsdPreviewSurface"
    color3f inputs:diffuseColor.connect = </look/t.outputs:rgb>
    token outputs:surface
  }
  def Shader "t" {
    uniform token info:id = "UsdUVTexture"
    asset inputs:file = @NAME@
    float2 inputs:st.connect = </look/r.outputs:result>
    float3 outputs:rgb
  }
  def Shader "r" {
    uniform token info:id = "UsdPrimvarReader_float2"
    string inputs:varname = "st"
    float2 outputs:result
  }
}
"""


def pixels(bands: int = 3) -> Any:
    return np.random.default_rng(4).integers(0, 256, (6, 9, bands), dtype=np.uint8)


def file_of(fmt: str, mode: str = "RGB", **options: Any) -> bytes:
    out = io.BytesIO()
    PIL.Image.fromarray(pixels(4 if mode == "RGBA" else 3)).convert(mode).save(out, fmt, **options)
    return out.getvalue()


def in_obj(data: bytes, name: str) -> Scene:
    files = {"x.obj": OBJ.encode(), "m.mtl": f"newmtl a\nmap_Kd {name}\n".encode(), name: data}
    return read(files, "x.obj")


def shown(scene: Scene) -> Any:
    (image,) = scene.images
    assert image.data is not None
    return np.asarray(PIL.Image.open(io.BytesIO(image.data)))


class OtherFormats(unittest.TestCase):
    def test_pixels_are_those_that_were_written(self) -> None:
        cases: list[tuple[str, str, str, dict[str, Any]]] = [
            ("BMP", "RGB", "a.bmp", {}), ("BMP", "L", "a.bmp", {}), ("TGA", "RGB", "a.TGA", {}), ("TGA", "RGBA", "a.tga", {}),
            ("TGA", "RGB", "a.tga", {"compression": "tga_rle"}), ("TGA", "L", "a.tga", {}), ("TIFF", "RGB", "a.tif", {}),
            ("TIFF", "RGBA", "a.tiff", {"compression": "tiff_lzw"}), ("TIFF", "RGB", "a.tif", {"compression": "tiff_deflate"}),
            ("TIFF", "L", "a.tif", {"compression": "packbits"}), ("GIF", "L", "a.gif", {}),
        ]  # fmt: skip
        for fmt, mode, name, options in cases:
            with self.subTest(format=fmt, mode=mode, **options):
                scene = in_obj(file_of(fmt, mode, **options), name)
                wanted = PIL.Image.fromarray(pixels(4 if mode == "RGBA" else 3)).convert(mode).convert("RGBA")
                found = PIL.Image.open(io.BytesIO(scene.images[0].data or b"")).convert("RGBA")
                np.testing.assert_array_equal(np.asarray(found), np.asarray(wanted))
                self.assertEqual((scene.images[0].mime, scene.images[0].name), ("image/png", "a.png"))
                self.assertEqual([n.code for n in scene.notes if n.code.startswith("texture")], ["texture.format"])
                lines = {(t.kind, t.verdict): t.count for t in scene.travel if t.kind == "images"}
                self.assertEqual(lines, {("images", "converted"): 1})

    def test_every_scene_format_takes_them_and_packs_them_as_png(self) -> None:
        data = file_of("TGA")
        whole = Gltf()
        whole.put("images", {"uri": "a.tga", "name": "a.tga"})
        whole.put("textures", {"source": 0})
        whole.put("materials", {"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}})
        mesh = whole.mesh([[0, 0, 0], [1, 0, 0], [0, 1, 0]], [0, 1, 2], TEXCOORD_0=[[0, 0], [1, 0], [0, 1]])
        whole.json["meshes"][mesh]["primitives"][0]["material"] = 0
        whole.node(mesh=mesh, name="sheet")
        scenes = {
            "obj": in_obj(data, "a.tga"),
            "usd": read({"x.usda": USD.replace("NAME", "a.tga").encode(), "a.tga": data}, "x.usda"),
            "glb": read({"x.glb": whole.glb(), "a.tga": data}, "x.glb"),
        }
        for kind, scene in scenes.items():
            np.testing.assert_array_equal(shown(scene), pixels(), kind)
            for fmt in ("glb", "gltf", "usda", "dae", "obj"):
                with self.subTest(source=kind, format=fmt), tempfile.TemporaryDirectory() as folder:
                    package, result, *_ = carry(scene, "x", "0" * 64, BUILT_IN[0], Route(steps=[]), fmt)  # type: ignore[arg-type]
                    self.assertFalse([n for n in package.files if n.lower().endswith((".tga", ".bmp"))])
                    save(package.files, Path(folder))
                    report, _ = prove(Path(folder), scene, result)
                    self.assertEqual([*report.problems, *(r.told for r in report.rows if r.faults)], [])

    def test_what_does_not_come_along_is_told(self) -> None:
        frames = [PIL.Image.fromarray(pixels() // (k + 1)) for k in range(3)]
        out = io.BytesIO()
        frames[0].save(out, "TIFF", save_all=True, append_images=frames[1:])
        several = in_obj(out.getvalue(), "a.tif")
        np.testing.assert_array_equal(shown(several), pixels())
        self.assertIn("of 3 pictures the first", several.notes[-1].text)
        grey = np.arange(54, dtype=np.uint16).reshape(6, 9) * 1200
        out = io.BytesIO()
        PIL.Image.fromarray(grey).save(out, "TIFF")
        np.testing.assert_array_equal(shown(in_obj(out.getvalue(), "a.tif")), grey)
        inks = in_obj(file_of("TIFF", "CMYK"), "a.tif")
        self.assertIn("its colours as red, green and blue", inks.notes[-1].text)

    def test_sixteen_bits_a_channel_are_told(self) -> None:
        """A TIFF by the standard's own tables, since the library writes none of these."""
        wide = pixels().astype(">u2") * 257
        entries = [
            (256, 3, 1, 9), (257, 3, 1, 6), (258, 3, 3, None), (259, 3, 1, 1), (262, 3, 1, 2), (273, 4, 1, None), (277, 3, 1, 3),
            (278, 3, 1, 6), (279, 4, 1, wide.nbytes),
        ]  # fmt: skip
        after = 8 + 2 + 12 * len(entries) + 4
        values = {258: after, 273: after + 6}
        head = b"MM\0*" + struct.pack(">IH", 8, len(entries))
        for tag, kind, count, value in entries:
            number = values[tag] if value is None else value
            head += struct.pack(">HHI", tag, kind, count) + (struct.pack(">HH", number, 0) if kind == 3 and value is not None else struct.pack(">I", number))  # fmt: skip
        scene = in_obj(head + bytes(4) + struct.pack(">HHH", 16, 16, 16) + wide.tobytes(), "a.tif")
        np.testing.assert_array_equal(shown(scene), pixels())
        self.assertIn("of 16 bits a channel the upper 8", scene.notes[-1].text)

    def test_damaged_ones_and_those_that_png_does_not_hold_cost_themselves_only(self) -> None:
        out = io.BytesIO()
        PIL.Image.fromarray(np.ones((4, 4), np.float32)).save(out, "TIFF")
        rng = np.random.default_rng(8)
        cases = {
            "a.tif": out.getvalue(),
            "b.tga": b"no picture at all",
            "c.bmp": file_of("BMP")[:40],
            "d.gif": b"GIF89a" + bytes(9),
        }
        for fmt in ("TIFF", "TGA", "BMP", "GIF"):
            whole = file_of(fmt, "L" if fmt == "GIF" else "RGB")
            for k in range(40):
                bent = bytearray(whole[: int(rng.integers(4, len(whole)))])
                for at in rng.integers(3, len(bent), 4).tolist():
                    bent[at] = int(rng.integers(0, 256))
                cases[f"{fmt}{k}.{fmt.lower()}"] = bytes(bent)
        for name, data in cases.items():
            with self.subTest(name=name):
                scene = in_obj(data, name)
                self.assertEqual(len(scene.nodes.parts), 1)
                codes = [n.code for n in scene.notes if n.code.startswith("texture")]
                self.assertEqual(codes, ["texture.format" if scene.images[0].data else "texture.unreadable"])
        floats = in_obj(cases["a.tif"], "a.tif")
        self.assertIn("floating-point", floats.notes[-1].text)
        found = {f.code: f for f in survey(floats, BUILT_IN[0])}
        self.assertEqual(found["texture.unreadable"].title, "Images that cannot be read")
        self.assertEqual([(t.verdict, t.why) for t in floats.travel if t.kind == "images"], [("behind", "they cannot be read; findings say why")])  # fmt: skip

    def test_one_that_was_missing_is_supplied(self) -> None:
        files = {"x.obj": OBJ.encode(), "m.mtl": b"newmtl a\nmap_Kd tex\\Bricks.TIF\n"}
        missing = read(files, "x.obj")
        self.assertIsNone(missing.images[0].data)
        damaged = read({**files, "Bricks.TIF": b"II*\0" + bytes(9)}, "x.obj")
        self.assertEqual([n.code for n in damaged.notes if n.code.startswith("texture")], ["texture.unreadable"])
        for before in (missing, damaged):
            scene, filled = supply(before, {"bricks.tif": file_of("TIFF")})
            self.assertEqual(filled, ["Bricks.TIF"])
            np.testing.assert_array_equal(shown(scene), pixels())
            self.assertEqual([n.code for n in scene.notes if n.code.startswith("texture")], ["texture.format"])


if __name__ == "__main__":
    unittest.main()
