"""Nothing is lost without a word: whatever a scene holds changes the files of a package, or is named in its manifest."""

from __future__ import annotations

import unittest
from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import numpy as np

from tests.planted import kiosk
from tests.support import sent
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.formats import writable
from tidy_caravan.core.route import Route
from tidy_caravan.core.scene import HIDDEN, Image, Morph, Root, Sampler, Scene, Texture, TextureUse

Change = tuple[str, Scene, str]
"""What is changed, the scene with it, and the words of a sentence that may speak of all of its kind."""


def bare() -> Scene:
    """A kiosk of which as little as possible is said."""
    scene = kiosk()
    lights = tuple(replace(x, name="", extras=None, range=None, inner_cone=0.0) for x in scene.lights)
    return scene.but(
        nodes=replace(scene.nodes, extras={}, rest={}),
        meshes=tuple(replace(m, name="", tangents=None, colors=()) for m in scene.meshes),
        materials=tuple(
            replace(m, base_color_texture=TextureUse(0) if k == 0 else None, metallic=0.0, double_sided=False, extras=None)
            for k, m in enumerate(scene.materials)
        ),
        textures=(Texture(0), *(Texture(k, Sampler()) for k in (1, 2))),
        lights=lights,
        cameras=tuple(replace(c, name="") for c in scene.cameras),
        clips=(),
        roots=(),
        extras={},
    )  # fmt: skip


def changes(scene: Scene) -> Iterator[Change]:
    def one(table: str, number: int, **values: Any) -> Scene:
        rows = list(getattr(scene, table))
        rows[number] = replace(rows[number], **values)
        return scene.but(**{table: tuple(rows)})

    nodes, bulb = scene.nodes, scene.meshes[2]
    count, vertices = len(nodes), bulb.vertices
    flags, layer = np.array(nodes.flags), np.full(count, -1)
    flags[3], layer[1] = HIDDEN, 0
    tint = np.column_stack([np.linspace(0, 1, vertices)] * 3 + [np.ones(vertices)]).astype(np.float32)
    clear = tint * np.float32(0.5)
    use = scene.materials[0].base_color_texture
    yield "data of a node", scene.but(nodes=replace(nodes, extras={3: {"storey": "quay"}})), ""
    yield "a part that is switched off", scene.but(nodes=replace(nodes, flags=flags)), ""
    yield "a layer", scene.but(nodes=replace(nodes, layer=layer), layers=("hall",)), ""
    yield "several scenes", scene.but(roots=(Root((0,), "one"), Root((0,), "two"))), ""
    yield "the name of a scene", scene.but(roots=(Root((0,), "one"),)), ""
    yield "data of a scene", scene.but(roots=(Root((0,), extras={"a": 1}),)), ""
    for key, said in (("copyright", "PFL"), ("extras", {"sheet": 4})):
        yield f"{key} of the file", scene.but(extras={"asset": {key: said}}), ""
    yield "data of the file", scene.but(extras={"extras": [1, 2]}), ""
    nothing = {"positions": bulb.positions[:0], "indices": bulb.indices[:0], "material": bulb.material[:0], "normals": None, "uvs": ()}  # fmt: skip
    yield (
        "a part without triangles",
        scene.but(
            nodes=replace(nodes, mesh=np.append(nodes.mesh[:-1], 4)), meshes=(*scene.meshes, replace(bulb, **nothing))
        ),
        "",
    )
    yield "clips", scene.but(clips=kiosk().clips), "clips"
    for what, values, words in (
        ("name", {"name": "lantern"}, ""),
        ("data", {"extras": {"a": 1}}, ""),
        ("tangents", {"tangents": kiosk().meshes[3].tangents}, ""),
        ("colours", {"colors": (tint,)}, "vertex colours"),
        ("clear colours", {"colors": (clear,)}, "vertex colours"),
        ("further colours", {"colors": (tint, clear)}, "vertex colours"),
        ("third set", {"uvs": (*bulb.uvs, bulb.uvs[0] * np.float32(0.5))}, "UV sets"),
        ("wear", {"attributes": {"_WEAR": np.ones((vertices, 1), np.float32)}}, ""),
        ("morph", {"morphs": (Morph(np.ones((vertices, 3), np.float32), name="m"),)}, ""),
    ):
        yield f"mesh: {what}", one("meshes", 2, **values), words  # type: ignore[arg-type]
    for what, values in (
        ("colour", {"base_color": (0.3, 0.2, 0.2, 1.0)}), ("metallic", {"metallic": 0.5}), ("roughness", {"roughness": 0.7}),
        ("glow", {"emissive": (1.0, 0.5, 0.2)}), ("brightness", {"emissive_strength": 4.0}), ("name", {"name": "lantern"}),
        ("data", {"extras": {"watts": 12}}), ("two-sided", {"double_sided": True}), ("unlit", {"unlit": True}),
        ("clear", {"alpha_mode": "BLEND", "base_color": (0.2, 0.2, 0.2, 0.5)}),
        ("cut out", {"alpha_mode": "MASK", "base_color": (0.2, 0.2, 0.2, 0.5)}),
        ("relief", {"normal_texture": TextureUse(2)}), ("flat relief", {"normal_texture": TextureUse(2, strength=0.5)}),
        ("surfacing", {"metallic_roughness_texture": TextureUse(1)}), ("shade", {"occlusion_texture": TextureUse(1)}),
        ("image that glows", {"emissive_texture": TextureUse(1)}),
    ):  # fmt: skip
        yield f"material: {what}", one("materials", 2, **values), "materials"  # type: ignore[arg-type]
    for what, values in (
        ("set", {"channel": 1}), ("offset", {"offset": (0.2, 0.1)}), ("turn", {"rotation": 0.4}), ("scale", {"scale": (2, 3)}),
    ):  # fmt: skip
        yield f"image: {what}", one("materials", 0, base_color_texture=replace(use, **values)), "materials"  # type: ignore
    yield "image: data of its use", one("materials", 0, base_color_texture=replace(use, extras="x")), ""  # type: ignore
    yield "image: data", one("images", 0, extras={"a": 1}), ""
    yield "image: repeat", one("textures", 0, sampler=Sampler(wrap_s=33071)), "materials"
    yield "image: filter", one("textures", 0, sampler=Sampler(mag=9728)), "materials"
    yield "image: none", scene.but(images=(Image(), *scene.images[1:])), "materials"
    for what, values in (
        ("name", {"name": "torch"}), ("colour", {"color": (1.0, 0.5, 0.5)}), ("power", {"intensity": 41.0}), ("range", {"range": 9.0}),
        ("inner cone", {"inner_cone": 0.3}), ("cone", {"outer_cone": 0.7}), ("data", {"extras": {"a": 1}}),
        ("surface", {"surface": "rectangle", "size": (1.0, 0.5)}),
    ):  # fmt: skip
        yield f"light: {what}", one("lights", 1, **values), "" if what in ("name", "data") else "lights, cameras"  # type: ignore
    for what, values in (
        ("name", {"name": "eye"}), ("angle", {"yfov": 0.9}), ("aspect", {"aspect": 1.2}), ("near", {"znear": 0.2}), ("far", {"zfar": 50.0}),
        ("data", {"extras": {"a": 1}}), ("parallel", {"kind": "orthographic", "xmag": 2.0, "ymag": 1.0}),
    ):  # fmt: skip
        yield f"camera: {what}", one("cameras", 0, **values), "" if what in ("name", "data") else "lights, cameras"  # type: ignore


class LeftOut(unittest.TestCase):
    def test_whatever_a_scene_holds_is_written_or_named(self) -> None:
        scene = bare()
        for kind in sorted(set(writable()) - {"usdc", "usdz", "gltf"}):  # which are written as their sisters are
            files, told = packed(scene, kind)
            silent = []
            for what, changed, words in changes(scene):
                there, said = packed(changed, kind)
                if (
                    there == files
                    and said == told
                    and not (words and any(words in s for s in told if "place" not in s))
                ):
                    silent.append(what)
            self.assertEqual(silent, [], kind)


def packed(scene: Scene, kind: Any) -> tuple[dict[str, bytes], list[str]]:
    package, _ = sent(scene, "kiosk", "0" * 64, BUILT_IN[0], Route(steps=[]), kind)
    files = {name: data for name, data in package.files.items() if name != "manifest.json"}
    return files, sorted([*package.manifest.losses, *package.manifest.remarks])


if __name__ == "__main__":
    unittest.main()
