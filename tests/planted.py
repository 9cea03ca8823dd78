"""Packages changed by hand and by libraries that know nothing of ours: one planted fault each."""

from __future__ import annotations

import io
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import PIL.Image
from lxml import etree
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade, Vt

from tidy_caravan.core.geometry.tangents import with_tangents
from tidy_caravan.core.scene import (
    Camera,
    Channel,
    Clip,
    Image,
    Light,
    Material,
    Mesh,
    Root,
    Sampler,
    Scene,
    Texture,
    TextureUse,
    make_nodes,
)
from tidy_caravan.core.scene.convention import GLTF

Plant = Callable[[Path], None]


def png(*colors: tuple[int, int, int]) -> bytes:
    image = PIL.Image.new("RGB", (len(colors), 2))
    for x, color in enumerate(colors):
        image.putpixel((x, 0), color)
        image.putpixel((x, 1), color)
    out = io.BytesIO()
    image.save(out, "PNG")
    return out.getvalue()


def box(size: tuple[float, float, float], second: int = -1, sets: bool = True) -> Mesh:
    """A box of 12 triangles with corners of its own on each side, two UV sets, the last side of another material."""
    corners, normals, uvs, faces = [], [], [], []
    for axis in range(3):
        for side in (-1.0, 1.0):
            normal = np.zeros(3)
            normal[axis] = side
            u = np.roll(normal, 1) * side
            v = np.cross(normal, u)
            base = len(corners)
            for a, b in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
                corners.append((normal + a * u + b * v) / 2 * size)
                normals.append(normal)
                uvs.append(((a + 1) / 2, (b + 1) / 2))
            faces += [(base, base + 1, base + 2), (base, base + 2, base + 3)]
    first = np.array(uvs, np.float32)
    light = (first * 0.8 + 0.1) / 4 + np.repeat([[i % 3 / 4, i // 3 / 4] for i in range(6)], 4, axis=0)
    material = np.zeros(12, np.int32)
    if second >= 0:
        material[10:] = second
    return Mesh(
        np.array(corners, np.float32),
        np.array(faces, np.uint32),
        material,
        np.array(normals, np.float32),
        uvs=(first * 3, light.astype(np.float32)) if sets else (),
        name="box",
    )


def kiosk() -> Scene:
    """A ticket kiosk at the landing: shared meshes, two materials on one mesh, pictures, lights, a camera, a clip."""
    images = (Image("boards.png", "image/png", png((200, 30, 30), (30, 200, 30), (30, 30, 200))),
              Image("glass.png", "image/png", png((10, 120, 200), (240, 240, 250))),
              Image("relief.png", "image/png", png((128, 128, 255), (100, 128, 250))))  # fmt: skip
    textures = tuple(Texture(i, Sampler(9729, 9987, wrap_s=10497, wrap_t=33071 if i == 1 else 10497)) for i in range(3))
    materials = (
        Material("boards", (0.9, 0.8, 0.7, 1.0), 0.0, 0.6, base_color_texture=TextureUse(0)),
        Material(
            "glass",
            (0.5, 0.7, 0.8, 0.4),
            0.2,
            0.1,
            base_color_texture=TextureUse(1, extras="frosted"),
            alpha_mode="BLEND",
            double_sided=True,
        ),
        Material("lamp", (0.2, 0.2, 0.2, 1.0), 0.8, 0.3, (1.0, 0.6, 0.2), 3.0, extras={"watts": 12}),
        Material("rail", (0.3, 0.35, 0.4, 1.0), 1.0, 0.4),
    )
    wall, post, bulb, rail = box((2, 2.4, 0.2), 1), box((0.1, 2.2, 0.1)), box((0.2, 0.2, 0.2)), box((1.2, 0.1, 0.1))
    tint = np.column_stack([np.linspace(0, 1, 24), np.full(24, 0.5), np.linspace(1, 0, 24), np.ones(24)])
    bulb = Mesh(
        bulb.positions,
        bulb.indices,
        bulb.material + 2,
        bulb.normals,
        uvs=bulb.uvs,
        colors=(tint.astype(np.float32),),
        name="bulb",
    )
    rail = Mesh(rail.positions, rail.indices, rail.material + 3, rail.normals, uvs=rail.uvs, name="rail")
    rail = with_tangents(rail, 0)
    names = [
        "kiosk",
        "front",
        "back",
        "post left",
        "post right",
        "bulb",
        "rail",
        "sun",
        "spot",
        "view",
        "gate",
        "gate rail",
        "anchor",
    ]
    parent = [-1, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 10, 0]
    mesh = [-1, 0, 0, 1, 1, 2, 3, -1, -1, -1, -1, 3, -1]
    local = np.tile(np.eye(4), (len(names), 1, 1))
    for i, place in enumerate(
        [(5, 0, -3), (0, 1.2, 1), (0, 1.2, -1), (-1, 1.1, 0), (1, 1.1, 0), (0, 2.5, 0), (0, 1, 1.6), (0, 9, 0),
         (0, 2.3, 0.5), (3, 1.7, 4), (2, 0, 0), (0.6, 1, 0), (0, 0, 0)]
    ):  # fmt: skip
        local[i, :3, 3] = place
    turn = np.array([[0.8, 0, 0.6], [0, 1, 0], [-0.6, 0, 0.8]])
    local[2, :3, :3] = turn
    local[9, :3, :3] = turn
    tilt = np.array([[1, 0, 0], [0, 0.6, 0.8], [0, -0.8, 0.6]])
    local[7, :3, :3] = tilt
    local[8, :3, :3] = tilt
    light, camera = np.full(len(names), -1), np.full(len(names), -1)
    light[[7, 8]] = (0, 1)
    camera[9] = 0
    swing = np.array([[0, 0, 0, 1], [0, 0.6, 0, 0.8]], np.float32)
    clips = (Clip((Channel(10, "rotation", np.array([0, 1.5], np.float32), swing),), "gate swings"),)
    data: dict[int, Any] = {3: {"storey": "quay", "width": 0.1, "ids": [1, 2]}, 10: {"kind": "gate"}}
    data |= {11: ["painted", 2, {"extras": 0}], 1: 0, 6: {"extras": None, "parts": [{"extras": "two"}]}}
    rest = {10: ((2.0, 0.0, 0.0), (0.0, 0.0, 0.0, 1.0), (1.0, 1.0, 1.0))}
    return Scene(
        GLTF,
        make_nodes(parent, local, names, mesh=mesh, light=light, camera=camera, rest=rest, extras=data),
        (wall, post, bulb, rail),
        materials,
        textures,
        images,
        (
            Light("directional", "sun", (1.0, 0.9, 0.8), 3.0, extras="warm"),
            Light("spot", "spot", (1.0, 0.8, 0.5), 40.0, 8.0, 0.2, 0.6),
        ),
        (Camera("perspective", "view", 0.7, 1.6, znear=0.1, zfar=100.0),),
        clips=clips,
        roots=(Root((0,), "landing"),),
        extras={"extras": [1, 2], "asset": {"copyright": "Pellwick Ferry Landing", "extras": {"sheet": 4}}},
    )


def turned_over(a: np.ndarray[Any, Any]) -> None:
    """Every triangle (F, 3) the other way round."""
    a[:] = a[:, ::-1].copy()


def one_turned_over(a: np.ndarray[Any, Any]) -> None:
    a[4] = a[4, ::-1].copy()


def shifted(a: np.ndarray[Any, Any]) -> None:
    a += a.dtype.type(0.01)


def zero(a: np.ndarray[Any, Any]) -> None:
    a[:] = 0


def overlapped(a: np.ndarray[Any, Any]) -> None:
    """The second quarter of a side on the first, whether a table (V, 2) or flat."""
    step = 4 if a.ndim == 2 else 8
    a[step : 2 * step] = a[:step].copy()


class GltfFile:
    """A .gltf with its .bin, or a .glb, taken apart and put together again."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.path = next(p for p in folder.iterdir() if p.suffix in (".glb", ".gltf"))
        data = self.path.read_bytes()
        if self.path.suffix == ".glb":
            size = int.from_bytes(data[12:16], "little")
            self.json: dict[str, Any] = json.loads(data[20 : 20 + size])
            self.bin = bytearray(data[28 + size :])
        else:
            self.json = json.loads(data)
            self.bin = bytearray((folder / self.json["buffers"][0]["uri"]).read_bytes())

    def save(self) -> None:
        if self.path.suffix == ".gltf":
            self.path.write_text(json.dumps(self.json))
            (self.folder / self.json["buffers"][0]["uri"]).write_bytes(self.bin)
            return
        text = json.dumps(self.json).encode()
        text += b" " * (-len(text) % 4)
        body = bytes(self.bin)
        self.json["buffers"][0]["byteLength"] = len(body)
        size = 12 + 8 + len(text) + 8 + len(body)
        self.path.write_bytes(
            b"glTF" + (2).to_bytes(4, "little") + size.to_bytes(4, "little") + len(text).to_bytes(4, "little") + b"JSON"
            + text + len(body).to_bytes(4, "little") + b"BIN\0" + body
        )  # fmt: skip

    def node(self, name: str) -> dict[str, Any]:
        return next(n for n in self.json["nodes"] if n.get("name") == name)

    def primitives(self, name: str) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = self.json["meshes"][self.node(name)["mesh"]]["primitives"]
        return found

    def array(self, accessor: int) -> np.ndarray[Any, Any]:
        """A view of the file's own bytes: what is written to it is written to the file."""
        entry = self.json["accessors"][accessor]
        view = self.json["bufferViews"][entry["bufferView"]]
        kind = {5126: np.float32, 5125: np.uint32, 5123: np.uint16}[entry["componentType"]]
        width = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}[entry["type"]]
        start = view.get("byteOffset", 0) + entry.get("byteOffset", 0)
        return np.frombuffer(self.bin, kind, entry["count"] * width, start).reshape(-1, width)

    def material(self, name: str) -> dict[str, Any]:
        return next(m for m in self.json["materials"] if m["name"] == name)


def in_gltf(change: Callable[[GltfFile], None]) -> Plant:
    def plant(folder: Path) -> None:
        file = GltfFile(folder)
        change(file)
        file.save()

    return plant


def gltf_faults() -> dict[str, tuple[Plant, str]]:
    """By name: how it is planted, and what the arrival has to say of it."""

    def winding_all(f: GltfFile) -> None:
        for p in f.primitives("post left"):
            turned_over(f.array(p["indices"]).reshape(-1, 3))

    def winding_one(f: GltfFile) -> None:
        one_turned_over(f.array(f.primitives("post left")[0]["indices"]).reshape(-1, 3))

    def no_normals(f: GltfFile) -> None:
        for p in f.primitives("bulb"):
            del p["attributes"]["NORMAL"]

    def long_normals(f: GltfFile) -> None:
        f.array(f.primitives("bulb")[0]["attributes"]["NORMAL"]).__imul__(2)

    def not_affine(f: GltfFile) -> None:
        node = f.node("kiosk")
        moved = [*node.pop("translation", (0.0, 0.0, 0.0)), 1.0]
        node["matrix"] = [1.0, 0.0, 0.0, 0.0, 0.0, 1.0, 0.0, 0.5, 0.0, 0.0, 1.0, 0.0, *moved]

    def uv(number: int, change: Callable[[np.ndarray[Any, Any]], None]) -> Callable[[GltfFile], None]:
        return lambda f: change(f.array(f.primitives("bulb")[0]["attributes"][f"TEXCOORD_{number}"]))

    def exchanged(f: GltfFile) -> None:
        for p in f.primitives("bulb"):
            one, two = p["attributes"]["TEXCOORD_0"], p["attributes"]["TEXCOORD_1"]
            p["attributes"]["TEXCOORD_0"], p["attributes"]["TEXCOORD_1"] = two, one

    def pictures_exchanged(f: GltfFile) -> None:
        one, two = f.json["textures"][0], f.json["textures"][1]
        one["source"], two["source"] = two["source"], one["source"]

    def picture_replaced(f: GltfFile) -> None:
        data = png((1, 2, 3), (30, 200, 30), (30, 30, 200))
        replace_picture(f, 0, data)

    def picture_missing(f: GltfFile) -> None:
        del f.material("boards")["pbrMetallicRoughness"]["baseColorTexture"]

    def two_triangles(f: GltfFile) -> None:
        first, second = f.primitives("front")
        view = f.json["accessors"][first["indices"]]
        more = dict(view, count=6)
        view["count"] -= 6
        more["byteOffset"] = view.get("byteOffset", 0) + view["count"] * (2 if view["componentType"] == 5123 else 4)
        f.json["accessors"].append(more)
        f.json["meshes"][f.node("front")["mesh"]]["primitives"].insert(
            1, {**first, "indices": len(f.json["accessors"]) - 1, "material": second["material"]}
        )

    def light(f: GltfFile) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = f.json["extensions"]["KHR_lights_punctual"]["lights"]
        return found

    def turned(name: str) -> Callable[[GltfFile], None]:
        return lambda f: f.node(name).update(rotation=[0.0, 0.0, 0.0, 1.0])

    def moved(name: str) -> Callable[[GltfFile], None]:
        return lambda f: f.node(name)["translation"].__setitem__(0, f.node(name)["translation"][0] + 1.0)

    def between_keys(f: GltfFile) -> None:
        """The same keys, but the value jumps at each of them."""
        f.json["animations"][0]["samplers"][0]["interpolation"] = "STEP"

    def part_gone(f: GltfFile) -> None:
        del f.node("post left")["mesh"]

    def part_taken_out(f: GltfFile) -> None:
        """As an editor does it: the node goes, all numbers behind it shift."""
        gone = f.json["nodes"].index(f.node("post left"))
        del f.json["nodes"][gone]

        def now(i: int) -> int:
            return i - (i > gone)

        for n in f.json["nodes"]:
            if "children" in n:
                n["children"] = [now(i) for i in n["children"] if i != gone]
        for s in f.json["scenes"]:
            s["nodes"] = [now(i) for i in s["nodes"]]
        for a in f.json["animations"]:
            for c in a["channels"]:
                c["target"]["node"] = now(c["target"]["node"])

    return {
        "winding of a mesh": (in_gltf(winding_all), r"post left.*12 triangles turned over"),
        "winding of a triangle": (in_gltf(winding_one), r"post left.*1 triangle turned over"),
        "normals left out": (in_gltf(no_normals), r"bulb.*normals did not arrive"),
        "first set shifted": (in_gltf(uv(0, shifted)), r"bulb.*first UV set differs"),
        "first set zero": (in_gltf(uv(0, zero)), r"bulb.*first UV set differs"),
        "second set shifted": (in_gltf(uv(1, shifted)), r"bulb.*lightmap UV set differs"),
        "second set overlapped": (in_gltf(uv(1, overlapped)), r"bulb.*lightmap UV set differs"),
        "vertex colours": (
            in_gltf(lambda f: f.array(f.primitives("bulb")[0]["attributes"]["COLOR_0"]).__setitem__((3, 1), 0.9)),
            r"bulb.*vertex colours differ by 0.4",
        ),
        "vertex colours lost": (
            in_gltf(lambda f: [p["attributes"].pop("COLOR_0") for p in f.primitives("bulb")] and None),
            r"bulb.*vertex colours did not arrive",
        ),
        "tangents": (
            in_gltf(lambda f: turn_tangents(f, 0)),
            r"rail.*tangents are .*° off",
        ),
        "tangents' sign": (in_gltf(lambda f: turn_tangents(f, 3)), r"rail.*bitangents point the other way"),
        "tangents lost": (
            in_gltf(lambda f: [p["attributes"].pop("TANGENT") for p in f.primitives("rail")] and None),
            r"rail.*tangents did not arrive",
        ),
        "extra copy of a mesh": (
            in_gltf(lambda f: f.node("gate").update(mesh=f.node("bulb")["mesh"])),
            r"nobody sent: kiosk/gate",
        ),
        "camera lost": (
            in_gltf(lambda f: f.node("view").pop("camera") and None),
            r"camera “kiosk/view” did not arrive",
        ),
        "repeat of a texture": (
            in_gltf(lambda f: f.json["samplers"][f.json["textures"][1]["sampler"]].update(wrapT=10497)),
            r"“glass”: repeat of the base colour texture is",
        ),
        "UV set of a texture": (
            in_gltf(lambda f: f.material("boards")["pbrMetallicRoughness"]["baseColorTexture"].update(texCoord=1)),
            r"“boards”: UV set of the base colour texture is 1",
        ),
        "sets exchanged": (in_gltf(exchanged), r"bulb.*first UV set differs.*lightmap UV set differs"),
        "images exchanged": (in_gltf(pictures_exchanged), r"“boards”: base colour texture is another image"),
        "image replaced": (in_gltf(picture_replaced), r"“boards”: base colour texture is off by"),
        "image missing": (in_gltf(picture_missing), r"“boards”: base colour texture is missing"),
        "base colour": (
            in_gltf(lambda f: f.material("rail")["pbrMetallicRoughness"].update(baseColorFactor=[0.3, 0.35, 0.5, 1])),
            r"“rail”: base colour is",
        ),
        "opacity": (
            in_gltf(lambda f: f.material("glass")["pbrMetallicRoughness"].update(baseColorFactor=[0.5, 0.7, 0.8, 0.9])),
            r"“glass”: opacity is 0.9 instead of 0.4",
        ),
        "alpha mode": (
            in_gltf(lambda f: f.material("glass").pop("alphaMode") and None),
            r"“glass”: .*alpha mode is OPAQUE",
        ),
        "metallic": (
            in_gltf(lambda f: f.material("glass")["pbrMetallicRoughness"].update(metallicFactor=0.9)),
            r"“glass”: metallic is 0.9 instead of 0.2",
        ),
        "roughness": (
            in_gltf(lambda f: f.material("rail")["pbrMetallicRoughness"].update(roughnessFactor=0.9)),
            r"“rail”: roughness is 0.9 instead of 0.4",
        ),
        "two-sided": (in_gltf(lambda f: f.material("glass").pop("doubleSided") and None), r"“glass”: two-sided is off"),
        "glow": (in_gltf(lambda f: f.material("lamp").update(emissiveFactor=[1, 0, 0])), r"“lamp”: emission is"),
        "material of two triangles": (in_gltf(two_triangles), r"4 triangles of .*carry “glass” instead of “boards”"),
        "light intensity": (in_gltf(lambda f: light(f)[1].update(intensity=80.0)), r"light “kiosk/spot”: light is"),
        "light direction": (in_gltf(turned("spot")), r"light “kiosk/spot”: looks .*° off"),
        "light lost": (
            in_gltf(lambda f: f.node("spot").pop("extensions") and None),
            r"light “kiosk/spot” did not arrive",
        ),
        "camera moved": (in_gltf(moved("view")), r"camera “kiosk/view”: stands .* mm off"),
        "camera angle": (
            in_gltf(lambda f: f.json["cameras"][0]["perspective"].update(yfov=0.8)),
            r"camera “kiosk/view”: angle is 45.84° instead of 40.11°",
        ),
        "light renamed": (
            in_gltf(lambda f: f.node("spot").update(name="stop")),
            r"light “kiosk/spot”.*is called “kiosk/stop”",
        ),
        "light's own name": (
            in_gltf(lambda f: light(f)[1].update(name="other")),
            r"light “kiosk/spot”: its own name is “other” instead of",
        ),
        "light's data": (
            in_gltf(lambda f: light(f)[0].update(extras={"maker": "nobody"})),
            r"light “kiosk/sun”: its own data differ",
        ),
        "camera stretched": (
            in_gltf(lambda f: f.node("view").update(scale=[1.0, 1.3, 1.0])),
            r"camera “kiosk/view”: is stretched or sheared by 0.231 of its size",
        ),
        "normals too long": (in_gltf(long_normals), r"its normals are not of length one: up to 1 off"),
        "material's data": (
            in_gltf(lambda f: f.material("rail").update(extras={"maker": "nobody"})),
            r"material “rail”: its data differ",
        ),
        "material's data gone": (
            in_gltf(lambda f: f.material("lamp").pop("extras") and None),
            r"material “lamp”: its data differ",
        ),
        "clip's data": (
            in_gltf(lambda f: f.json["animations"][0].update(extras={"takes": 2})),
            r"clip “gate swings”: its data differ",
        ),
        "image's data": (
            in_gltf(lambda f: f.json["images"][0].update(extras={"maker": "nobody"})),
            r"data of the base colour texture differ in “maker”",
        ),
        "placement that is none": (
            in_gltf(not_affine),
            r"placement of “kiosk” has a last row other than 0 0 0 1",
        ),
        "camera's own name": (
            in_gltf(lambda f: f.json["cameras"][0].update(name="other")),
            r"camera “kiosk/view”: its own name is “other” instead of",
        ),
        "filter changed": (
            in_gltf(lambda f: f.json["samplers"][0].update(magFilter=9728)),
            r"filter of the base colour texture is nearest from near and linear between mipmaps from afar",
        ),
        "image renamed": (
            in_gltf(lambda f: f.json["images"][0].update(name="another")),
            r"name of the .* texture is another instead of",
        ),
        "scene renamed": (
            in_gltf(lambda f: f.json["scenes"][0].update(name="another")),
            r"the scene “.*” is called “another”",
        ),
        "part switched off": (
            in_gltf(
                lambda f: f.node("bulb").setdefault("extensions", {}).update(KHR_node_visibility={"visible": False})
            ),
            r"it is switched off",
        ),
        "a further scene": (
            in_gltf(lambda f: f.json["scenes"].append({"name": "further"})),
            r"a scene “further” arrived that nobody sent",
        ),
        "data changed": (
            in_gltf(lambda f: f.node("post left")["extras"].update(width=0.2)),
            r"“kiosk/post left”: its data differ in “width”",
        ),
        "value beside a part changed": (
            in_gltf(lambda f: f.node("gate rail")["extras"].append("scratched")),
            r"“kiosk/gate/gate rail”: its data differ$",
        ),
        "value within a value changed": (
            in_gltf(lambda f: f.node("rail")["extras"]["parts"][0].update(extras="three")),
            r"“kiosk/rail”: its data differ in “parts”",
        ),
        "a nought lost": (
            in_gltf(lambda f: f.node("front").pop("extras") and None),
            r"what the source says of “kiosk/front” did not arrive",
        ),
        "value beside a part that had none": (
            in_gltf(lambda f: f.node("bulb").update(extras=False)),
            r"“kiosk/bulb”: data that the source has not$",
        ),
        "word beside a light changed": (
            in_gltf(lambda f: light(f)[0].update(extras="cold")),
            r"light “kiosk/sun”: its own data differ",
        ),
        "word beside the use of a texture lost": (
            in_gltf(lambda f: f.material("glass")["pbrMetallicRoughness"]["baseColorTexture"].pop("extras") and None),
            r"material “glass”: data of the base colour texture differ(?! in)",
        ),
        "data of the file changed": (
            in_gltf(lambda f: f.json.update(extras=[1, 3])),
            r"what the source says of itself as a whole arrived otherwise",
        ),
        "copyright taken out": (
            in_gltf(lambda f: f.json["asset"].pop("copyright") and None),
            r"the copyright of the file is “” instead of “Pellwick Ferry Landing”",
        ),
        "data of a group lost": (
            in_gltf(lambda f: f.node("gate").pop("extras")),
            r"what the source says of “kiosk/gate” did not arrive",
        ),
        "group with data renamed": (
            in_gltf(lambda f: f.node("gate").update(name="door")),
            r"what the source says of “kiosk/gate” did not arrive",
        ),
        "clip astray between its keys": (in_gltf(between_keys), r"clip “gate swings” holds"),
        "clip dropped": (in_gltf(lambda f: f.json.pop("animations") and None), r"clip “gate swings” did not arrive"),
        "clip slower": (
            in_gltf(lambda f: shift_keys(f)),
            r"clip “gate swings” holds",
        ),
        "default scene empty": (in_gltf(lambda f: f.json["scenes"][0].update(nodes=[])), r"nothing draws it"),
        "root taken out": (
            in_gltf(lambda f: f.json["scenes"].insert(0, {"nodes": [f.json["nodes"].index(f.node("sun"))]})),
            r"nothing draws it",
        ),
        "empty node added": (
            in_gltf(
                lambda f: (
                    f.node("kiosk")["children"].append(len(f.json["nodes"]))
                    or f.json["nodes"].append({"name": "spare"})
                )
            ),
            r"a node “kiosk/spare” arrived that nobody sent",
        ),
        "empty node taken out": (
            in_gltf(lambda f: f.node("kiosk")["children"].remove(f.json["nodes"].index(f.node("anchor")))),
            r"“kiosk/anchor” (did not arrive|is drawn by no scene)",
        ),
        "part lost": (in_gltf(part_gone), r"lost: kiosk/post left"),
        "part taken out": (in_gltf(part_taken_out), r"^(?!.*mm off).*lost: kiosk/post left"),
        "part moved": (in_gltf(moved("post left")), r"post left.*stands .* mm off"),
        "part renamed": (in_gltf(lambda f: f.node("post left").update(name="pole")), r"called “kiosk/pole” instead of"),
    }


def turn_tangents(f: GltfFile, column: int) -> None:
    values = f.array(f.primitives("rail")[0]["attributes"]["TANGENT"])
    if column == 3:
        values[2, 3] *= -1
    else:
        values[:, :3] = values[:, [1, 2, 0]].copy()


def shift_keys(f: GltfFile) -> None:
    f.array(f.json["animations"][0]["samplers"][0]["output"])[1] = (0, 0.28, 0, 0.96)


def replace_picture(f: GltfFile, texture: int, data: bytes) -> None:
    image = f.json["images"][f.json["textures"][texture]["source"]]
    if "uri" in image:
        (f.folder / image["uri"]).write_bytes(data)
        return
    f.json["bufferViews"].append({"buffer": 0, "byteOffset": len(f.bin), "byteLength": len(data)})
    f.bin += data + b"\0" * (-len(data) % 4)
    f.json["buffers"][0]["byteLength"] = len(f.bin)
    image["bufferView"] = len(f.json["bufferViews"]) - 1


class DaeFile:
    """A .dae as a document."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.path = next(p for p in folder.iterdir() if p.suffix == ".dae")
        self.root = etree.parse(str(self.path)).getroot()
        self.space = {"c": self.root.nsmap[None]}

    def save(self) -> None:
        self.path.write_bytes(etree.tostring(self.root, xml_declaration=True, encoding="utf-8"))

    def all(self, where: str, **names: str) -> list[Any]:
        found: list[Any] = self.root.xpath(where, namespaces=self.space, **names)
        return found

    def one(self, where: str, **names: str) -> Any:
        return self.all(where, **names)[0]

    def node(self, name: str) -> Any:
        return self.one("//c:node[@name=$name]", name=name)

    def geometry(self, node: str) -> Any:
        url = self.node(node).find("c:instance_geometry", self.space).get("url")[1:]
        return self.one("//c:geometry[@id=$id]", id=url)

    def effect(self, material: str) -> Any:
        url = self.one("//c:material[@name=$n]/c:instance_effect/@url", n=material)[1:]
        return self.one("//c:effect[@id=$id]", id=url)

    def numbers(self, element: Any, change: Callable[[np.ndarray[Any, Any]], None]) -> None:
        values = np.array(element.text.split(), np.float64)
        change(values)
        element.text = " ".join(repr(float(v)) for v in values)


def in_dae(change: Callable[[DaeFile], Any]) -> Plant:
    def plant(folder: Path) -> None:
        file = DaeFile(folder)
        change(file)
        file.save()

    return plant


def dae_faults() -> dict[str, tuple[Plant, str]]:
    def faces(f: DaeFile, node: str, change: Callable[[np.ndarray[Any, Any]], None]) -> None:
        for p in f.geometry(node).iterfind(".//c:triangles/c:p", f.space):
            table = np.array(p.text.split(), np.int64).reshape(-1, 3)
            change(table)
            p.text = " ".join(map(str, table.ravel().tolist()))

    def no_normals(f: DaeFile) -> None:
        for entry in f.geometry("bulb").iterfind(".//c:input[@semantic='NORMAL']", f.space):
            entry.getparent().remove(entry)

    def long_normals(f: DaeFile) -> None:
        arrays = f.geometry("bulb").xpath(".//c:float_array[contains(@id, 'normal')]", namespaces=f.space)
        f.numbers(arrays[0], lambda a: a.__imul__(2))

    def uv(number: int, change: Callable[[np.ndarray[Any, Any]], None]) -> Callable[[DaeFile], None]:
        def run(f: DaeFile) -> None:
            arrays = f.geometry("bulb").xpath(
                ".//c:float_array[contains(@id, $k)]", namespaces=f.space, k=f"uv{number}"
            )
            f.numbers(arrays[0], change)

        return run

    def exchanged(f: DaeFile) -> None:
        one, two = f.geometry("bulb").findall(".//c:input[@semantic='TEXCOORD']", f.space)[:2]
        first, second = one.get("source"), two.get("source")
        one.set("source", second)
        two.set("source", first)

    def pictures_exchanged(f: DaeFile) -> None:
        one, two = (f.effect(m).find(".//c:init_from", f.space) for m in ("boards", "glass"))
        one.text, two.text = two.text, one.text

    def picture_replaced(f: DaeFile) -> None:
        image = f.effect("boards").find(".//c:init_from", f.space).text
        path = f.one("//c:image[@id=$id]/c:init_from", id=image).text
        (f.folder / path).write_bytes(png((1, 2, 3), (30, 200, 30), (30, 30, 200)))

    def picture_missing(f: DaeFile) -> None:
        image = f.effect("boards").find(".//c:init_from", f.space).text
        (f.folder / f.one("//c:image[@id=$id]/c:init_from", id=image).text).unlink()

    def colour(f: DaeFile) -> None:
        f.numbers(f.effect("rail").find(".//c:diffuse/c:color", f.space), lambda a: a.__setitem__(2, 0.9))

    def opacity(f: DaeFile) -> None:
        f.effect("glass").find(".//c:transparency/c:float", f.space).text = "0.9"

    def opaque(f: DaeFile) -> None:
        for tag in ("transparent", "transparency"):
            found = f.effect("glass").find(f".//c:{tag}", f.space)
            found.getparent().remove(found)

    def two_triangles(f: DaeFile) -> None:
        first, second = f.geometry("front").findall(".//c:triangles", f.space)
        p, q = first.find("c:p", f.space), second.find("c:p", f.space)
        words = p.text.split()
        p.text, q.text = " ".join(words[:-6]), " ".join([*words[-6:], *q.text.split()])
        first.set("count", str(int(first.get("count")) - 2))
        second.set("count", str(int(second.get("count")) + 2))

    def matrix(f: DaeFile, name: str, change: Callable[[np.ndarray[Any, Any]], None]) -> None:
        f.numbers(f.node(name).find("c:matrix", f.space), change)

    def move(a: np.ndarray[Any, Any]) -> None:
        a[3] += 1.0

    def stretched(a: np.ndarray[Any, Any]) -> None:
        a[[0, 4, 8]] *= 1.3

    def straight(a: np.ndarray[Any, Any]) -> None:
        a[[0, 1, 2, 4, 5, 6, 8, 9, 10]] = np.eye(3).ravel()

    def gone(f: DaeFile, name: str, tag: str) -> None:
        found = f.node(name).find(f"c:{tag}", f.space)
        found.getparent().remove(found)

    return {
        "winding of a mesh": (in_dae(lambda f: faces(f, "post_left", turned_over)), r"post left.*12 triangles turned over"),
        "winding of a triangle": (in_dae(lambda f: faces(f, "post_left", one_turned_over)), r"post left.*1 triangle turned over"),
        "normals left out": (in_dae(no_normals), r"bulb.*normals did not arrive"),
        "first set shifted": (in_dae(uv(0, shifted)), r"bulb.*first UV set differs"),
        "first set zero": (in_dae(uv(0, zero)), r"bulb.*first UV set differs"),
        "second set shifted": (in_dae(uv(1, shifted)), r"bulb.*lightmap UV set differs"),
        "second set overlapped": (in_dae(uv(1, overlapped)), r"bulb.*lightmap UV set differs"),
        "vertex colours": (
            in_dae(lambda f: f.numbers(f.geometry("bulb").xpath(".//c:float_array[contains(@id, 'color')]", namespaces=f.space)[0], zero)),
            r"bulb.*vertex colours differ",
        ),
        "sets exchanged": (in_dae(exchanged), r"bulb.*first UV set differs.*lightmap UV set differs"),
        "images exchanged": (in_dae(pictures_exchanged), r"“boards”: base colour texture is another image"),
        "image replaced": (in_dae(picture_replaced), r"“boards”: base colour texture is off by"),
        "image missing": (in_dae(picture_missing), r"“boards”: base colour texture is missing"),
        "base colour": (in_dae(colour), r"“rail”: base colour is"),
        "opacity": (in_dae(opacity), r"“glass”: opacity is 0.9 instead of 0.4"),
        "alpha mode": (in_dae(opaque), r"“glass”: .*alpha mode is OPAQUE"),
        "an image that repeats otherwise": (
            in_dae(lambda f: f.effect("glass").find(".//c:wrap_t", f.space).__setattr__("text", "WRAP")),
            r"repeat of the base colour texture is repeat instead of repeat across and clamp to the edge upwards",
        ),
        "an image read otherwise from afar": (
            in_dae(lambda f: f.effect("glass").find(".//c:minfilter", f.space).__setattr__("text", "NEAREST")),
            r"filter of the base colour texture is linear from near and nearest from afar instead of",
        ),
        "roughness": (
            in_dae(lambda f: f.effect("rail").find(".//c:shininess/c:float", f.space).__setattr__("text", "50")),
            r"“rail”: roughness is",
        ),
        "two-sided": (
            in_dae(lambda f: f.effect("glass").find(".//c:double_sided", f.space).__setattr__("text", "0")),
            r"“glass”: two-sided is off",
        ),
        "glow": (
            in_dae(lambda f: f.numbers(f.effect("lamp").find(".//c:emission/c:color", f.space), zero)),
            r"“lamp”: emission is",
        ),
        "material of two triangles": (in_dae(two_triangles), r"4 triangles of .*carry “glass” instead of “boards”"),
        "light intensity": (
            in_dae(lambda f: f.numbers(f.one("//c:light[@name='spot']//c:color"), lambda a: a.__imul__(2))),
            r"light “kiosk/spot”: light is",
        ),
        "light direction": (in_dae(lambda f: matrix(f, "spot", straight)), r"light “kiosk/spot”: looks"),
        "light lost": (in_dae(lambda f: gone(f, "spot", "instance_light")), r"light “kiosk/spot” did not arrive"),
        "camera stretched": (
            in_dae(lambda f: matrix(f, "view", stretched)),
            r"camera “kiosk/view”: is stretched or sheared by",
        ),
        "placement that is none": (
            in_dae(lambda f: matrix(f, "kiosk", lambda a: a.__setitem__(13, 0.5))),
            r"placement of “kiosk” has a last row other than 0 0 0 1",
        ),
        "normals too long": (in_dae(long_normals), r"its normals are not of length one"),
        "camera moved": (in_dae(lambda f: matrix(f, "view", move)), r"camera “kiosk/view”: stands"),
        "camera angle": (
            in_dae(lambda f: f.one("//c:camera//c:yfov").__setattr__("text", "50")),
            r"camera “kiosk/view”: angle is 50° instead of 40.11°",
        ),
        "declared unit": (in_dae(lambda f: f.one("//c:unit").set("meter", "0.0254")), r"the file says 0.0254 m per unit"),
        "declared up axis": (in_dae(lambda f: f.one("//c:up_axis").__setattr__("text", "X_UP")), r"the file says X is up"),
        "part lost": (in_dae(lambda f: gone(f, "post_left", "instance_geometry")), r"lost: kiosk/post left"),
        "part taken out": (
            in_dae(lambda f: f.node("post_left").getparent().remove(f.node("post_left"))),
            r"^(?!.*mm off).*lost: kiosk/post left",
        ),
        "part moved": (in_dae(lambda f: matrix(f, "post_left", move)), r"post left.*stands .* mm off"),
        "part renamed": (in_dae(lambda f: f.node("post_left").set("name", "pole")), r"called “kiosk/pole” instead of"),
        "default scene empty": (
            in_dae(lambda f: (etree.SubElement(f.one("//c:library_visual_scenes"), f"{{{f.space['c']}}}visual_scene", id="none"),
                              f.one("//c:instance_visual_scene").set("url", "#none"))),
            r"nothing draws it",
        ),
    }  # fmt: skip


def in_usd(change: Callable[[Any], Any]) -> Plant:
    """The layer opened anew by the library, changed and saved; pictures lie beside it."""

    def plant(folder: Path) -> None:
        path = next(p for p in folder.iterdir() if p.suffix in (".usda", ".usdc"))
        layer = Sdf.Layer.FindOrOpen(str(path))
        layer.Reload(True)
        stage = Usd.Stage.Open(layer)
        change(stage)
        layer.Save()

    return plant


def usd_faults() -> dict[str, tuple[Plant, str]]:
    def mesh(stage: Any, node: str) -> Any:
        """The mesh that a part draws, where it may be edited: in the prototype, when it is shared."""
        top = stage.GetPrimAtPath(f"/scene/kiosk/{node}")
        for spec in [p for a in (top, *Usd.PrimRange(top, Usd.TraverseInstanceProxies())) for p in a.GetPrimStack()]:
            prim = stage.GetPrimAtPath(spec.path)
            if prim and prim.IsA(UsdGeom.Mesh):
                return UsdGeom.Mesh(prim)
        raise AssertionError(node)

    def faces(stage: Any, node: str, change: Callable[[np.ndarray[Any, Any]], None]) -> None:
        attribute = mesh(stage, node).GetFaceVertexIndicesAttr()
        table = np.array(attribute.Get(), np.int32).reshape(-1, 3)
        change(table)
        attribute.Set(Vt.IntArray.FromNumpy(np.ascontiguousarray(table.ravel())))

    def long_normals(stage: Any) -> None:
        attribute = mesh(stage, "bulb").GetNormalsAttr()
        attribute.Set(Vt.Vec3fArray.FromNumpy(np.array(attribute.Get(), np.float32) * np.float32(2)))

    def uv(name: str, change: Callable[[np.ndarray[Any, Any]], None]) -> Callable[[Any], None]:
        def run(stage: Any) -> None:
            primvar = UsdGeom.PrimvarsAPI(mesh(stage, "bulb")).GetPrimvar(name)
            values = np.array(primvar.Get(), np.float32)
            change(values)
            primvar.Set(Vt.Vec2fArray.FromNumpy(values))

        return run

    def exchanged(stage: Any) -> None:
        api = UsdGeom.PrimvarsAPI(mesh(stage, "bulb"))
        one, two = api.GetPrimvar("st"), api.GetPrimvar("st1")
        first, second = one.Get(), two.Get()
        one.Set(second)
        two.Set(first)

    def shader(stage: Any, material: str, name: str = "surface") -> Any:
        return UsdShade.Shader(stage.GetPrimAtPath(f"/scene/Looks/{material}/{name}"))

    def number(material: str, key: str, value: Any, name: str = "surface") -> Callable[[Any], None]:
        return lambda stage: shader(stage, material, name).GetInput(key).Set(value)

    def pictures_exchanged(stage: Any) -> None:
        one, two = (shader(stage, m, "diffuse").GetInput("file") for m in ("boards", "glass"))
        first, second = one.Get(), two.Get()
        one.Set(second)
        two.Set(first)

    def picture_file(stage: Any) -> Path:
        folder = Path(stage.GetRootLayer().realPath).parent
        return folder / str(shader(stage, "boards", "diffuse").GetInput("file").Get().path)

    def two_triangles(stage: Any) -> None:
        below = mesh(stage, "front").GetPrim().GetAllChildren()
        found = sorted(
            (UsdGeom.Subset(c) for c in below if c.IsA(UsdGeom.Subset)), key=lambda u: len(u.GetIndicesAttr().Get())
        )
        few, many = found
        rows = list(many.GetIndicesAttr().Get())
        many.GetIndicesAttr().Set(rows[:-2])
        few.GetIndicesAttr().Set([*few.GetIndicesAttr().Get(), *rows[-2:]])

    def place(stage: Any, node: str, change: Callable[[np.ndarray[Any, Any]], None]) -> None:
        prim = UsdGeom.Xformable(stage.GetPrimAtPath(f"/scene/kiosk/{node}".rstrip("/")))
        operation = prim.GetOrderedXformOps()[0]
        matrix = np.array(operation.Get())
        change(matrix)
        operation.Set(Gf.Matrix4d(*matrix.ravel().tolist()))

    def move(a: np.ndarray[Any, Any]) -> None:
        a[3, 0] += 1.0

    def straight(a: np.ndarray[Any, Any]) -> None:
        a[:3, :3] = np.eye(3)

    def extra(stage: Any) -> None:
        added = UsdGeom.Mesh.Define(stage, "/scene/kiosk/stowaway")
        added.CreatePointsAttr([(0, 0, 0), (1, 0, 0), (0, 1, 0)])
        added.CreateFaceVertexCountsAttr([3])
        added.CreateFaceVertexIndicesAttr([0, 1, 2])
        added.CreateSubdivisionSchemeAttr("none")

    def renamed(stage: Any) -> None:
        stage.GetPrimAtPath("/scene/kiosk/post_left").SetDisplayName("pole")

    return {
        "winding of a mesh": (in_usd(lambda s: faces(s, "post_left", turned_over)), r"post left.*12 triangles turned over"),
        "winding of a triangle": (in_usd(lambda s: faces(s, "post_left", one_turned_over)), r"post left.*1 triangle turned over"),
        "orientation": (in_usd(lambda s: mesh(s, "post_left").CreateOrientationAttr("leftHanded")), r"12 triangles turned over"),
        "normals left out": (in_usd(lambda s: mesh(s, "bulb").GetPrim().RemoveProperty("normals")), r"bulb.*normals did not arrive"),
        "first set shifted": (in_usd(uv("st", shifted)), r"bulb.*first UV set differs"),
        "first set zero": (in_usd(uv("st", zero)), r"bulb.*first UV set differs"),
        "second set shifted": (in_usd(uv("st1", shifted)), r"bulb.*lightmap UV set differs"),
        "second set overlapped": (in_usd(uv("st1", overlapped)), r"bulb.*lightmap UV set differs"),
        "vertex colours": (
            in_usd(lambda s: mesh(s, "bulb").GetDisplayColorPrimvar().Set([(0, 0, 0)] * 24)),
            r"bulb.*vertex colours differ",
        ),
        "sets exchanged": (in_usd(exchanged), r"bulb.*first UV set differs.*lightmap UV set differs"),
        "images exchanged": (in_usd(pictures_exchanged), r"“boards”: base colour texture is another image"),
        "image replaced": (
            in_usd(lambda s: picture_file(s).write_bytes(png((1, 2, 3), (30, 200, 30), (30, 30, 200)))),
            r"“boards”: base colour texture is off by",
        ),
        "image missing": (in_usd(lambda s: picture_file(s).unlink()), r"“boards”: base colour texture is missing"),
        "base colour": (in_usd(number("rail", "diffuseColor", Gf.Vec3f(0.3, 0.35, 0.5))), r"“rail”: base colour is"),
        "opacity": (
            in_usd(number("glass", "scale", Gf.Vec4f(0.5, 0.7, 0.8, 0.9), "diffuse")),
            r"“glass”: opacity is 0.9 instead of 0.4",
        ),
        "alpha mode": (
            in_usd(lambda s: s.GetPrimAtPath("/scene/Looks/glass/surface").RemoveProperty("inputs:opacity")),
            r"“glass”: .*alpha mode is OPAQUE",
        ),
        "metallic": (in_usd(number("glass", "metallic", 0.9)), r"“glass”: metallic is 0.9 instead of 0.2"),
        "roughness": (in_usd(number("rail", "roughness", 0.9)), r"“rail”: roughness is 0.9 instead of 0.4"),
        "two-sided": (in_usd(lambda s: mesh(s, "front").GetDoubleSidedAttr().Set(False)), r"seen from one side only"),
        "glow": (in_usd(number("lamp", "emissiveColor", Gf.Vec3f(1, 0, 0))), r"“lamp”: emission is"),
        "material of two triangles": (in_usd(two_triangles), r"4 triangles of .*carry “glass” instead of “boards”"),
        "light intensity": (
            in_usd(lambda s: UsdLux.LightAPI(s.GetPrimAtPath("/scene/kiosk/spot")).GetIntensityAttr().Set(80.0)),
            r"light “kiosk/spot”: light is",
        ),
        "light direction": (in_usd(lambda s: place(s, "spot", straight)), r"light “kiosk/spot”: looks"),
        "light lost": (in_usd(lambda s: s.RemovePrim("/scene/kiosk/spot")), r"light “kiosk/spot” did not arrive"),
        "camera stretched": (
            in_usd(lambda s: place(s, "view", lambda a: a[0].__imul__(1.3))),
            r"camera “kiosk/view”: is stretched or sheared by",
        ),
        "placement that is none": (
            in_usd(lambda s: place(s, "", lambda a: a.__setitem__((1, 3), 0.5))),
            r"placement of “kiosk” has a last row other than 0 0 0 1",
        ),
        "normals too long": (in_usd(long_normals), r"its normals are not of length one"),
        "camera moved": (in_usd(lambda s: place(s, "view", move)), r"camera “kiosk/view”: stands"),
        "camera angle": (
            in_usd(lambda s: UsdGeom.Camera(s.GetPrimAtPath("/scene/kiosk/view")).GetFocalLengthAttr().Set(20.0)),
            r"camera “kiosk/view”: angle is",
        ),
        "declared unit": (in_usd(lambda s: UsdGeom.SetStageMetersPerUnit(s, 0.0254)), r"the file says 0.0254 m per unit"),
        "declared up axis": (
            in_usd(lambda s: UsdGeom.SetStageUpAxis(s, "Y" if UsdGeom.GetStageUpAxis(s) == "Z" else "Z")),
            r"the file says . is up",
        ),
        "part invisible": (
            in_usd(lambda s: UsdGeom.Imageable(s.GetPrimAtPath("/scene/kiosk/post_left")).MakeInvisible()),
            r"post left.*switched off",
        ),
        "subdivision surface": (
            in_usd(lambda s: mesh(s, "bulb").GetSubdivisionSchemeAttr().Set("catmullClark")),
            r"bulb.*is a subdivision surface",
        ),
        "extra mesh": (in_usd(extra), r"nobody sent: kiosk/stowaway"),
        "part lost": (in_usd(lambda s: s.RemovePrim("/scene/kiosk/post_left")), r"lost: kiosk/post left"),
        "part moved": (in_usd(lambda s: place(s, "post_left", move)), r"post left.*stands .* mm off"),
        "part renamed": (in_usd(renamed), r"called “kiosk/pole” instead of"),
        "data of a part": (
            in_usd(lambda s: s.GetPrimAtPath("/scene/kiosk/post_left").SetCustomDataByKey("storey", "hall")),
            r"“kiosk/post left”: its data differ in “storey”",
        ),
        "a list among data": (
            in_usd(lambda s: s.GetPrimAtPath("/scene/kiosk/post_left").SetCustomDataByKey("ids", Vt.Int64Array([1]))),
            r"“kiosk/post left”: its data differ in “ids”",
        ),
        "data of a group lost": (
            in_usd(lambda s: s.GetPrimAtPath("/scene/kiosk/gate").ClearCustomData()),
            r"what the source says of “kiosk/gate” did not arrive",
        ),
        "data that nobody sent": (
            in_usd(lambda s: s.GetPrimAtPath("/scene/kiosk/bulb").SetCustomDataByKey("watts", 9)),
            r"“kiosk/bulb”: data that the source has not: “watts”",
        ),
    }  # fmt: skip


def in_text(ending: str, change: Callable[[str], str]) -> Plant:
    def plant(folder: Path) -> None:
        path = next(p for p in folder.iterdir() if p.suffix == ending)
        before = path.read_text()
        after = change(before)
        assert after != before
        path.write_text(after)

    return plant


def obj_faults() -> dict[str, tuple[Plant, str]]:
    def block(text: str, name: str, change: Callable[[list[str]], list[str]]) -> str:
        head, *objects = text.split("\no ")
        for k, one in enumerate(objects):
            if one.startswith(name + "\n"):
                objects[k] = "\n".join(change(one.split("\n")))
        return "\no ".join([head, *objects])

    def lines(name: str, word: str, change: Callable[[list[str]], list[str]], only: int = -1) -> Callable[[str], str]:
        """Changes the words of one line (by its number among those of that kind) or of all."""

        def edit(all_lines: list[str]) -> list[str]:
            out, seen = [], 0
            for line in all_lines:
                if line.startswith(word + " "):
                    if only in (-1, seen):
                        line = " ".join([word, *change(line.split()[1:])])
                    seen += 1
                out.append(line)
            return out

        return lambda text: block(text, name, edit)

    def no_normals(text: str) -> str:
        def bare(corners: list[str]) -> list[str]:
            return ["/".join(c.split("/")[:2]) for c in corners]

        return lines("bulb", "f", bare)(text)

    def shift(words: list[str]) -> list[str]:
        return [repr(float(words[0]) + 0.01), words[1]]

    def moved(words: list[str]) -> list[str]:
        return [repr(float(words[0]) + 1.0), *words[1:]]

    def material(text: str, name: str, edit: Callable[[str], str]) -> str:
        head, *blocks = text.split("newmtl ")
        return "newmtl ".join([head, *(edit(b) if b.startswith(name + "\n") else b for b in blocks)])

    def swap(text: str) -> str:
        return (
            text.replace("usemtl lamp", "usemtl X")
            .replace("usemtl rail", "usemtl lamp")
            .replace("usemtl X", "usemtl rail")
        )

    def without(text: str) -> str:
        head, *objects = text.split("\no ")
        empty = [
            o if not o.startswith("post_left\n") else "\n".join(x for x in o.split("\n") if not x.startswith("f "))
            for o in objects
        ]
        return "\no ".join([head, *empty])

    return {
        "winding of a mesh": (in_text(".obj", lines("post_left", "f", lambda w: w[::-1])), r"post left.*12 triangles turned over"),
        "winding of a triangle": (in_text(".obj", lines("post_left", "f", lambda w: w[::-1], 4)), r"post left.*1 triangle turned over"),
        "normals left out": (in_text(".obj", no_normals), r"bulb.*normals did not arrive"),
        "set shifted": (in_text(".obj", lines("bulb", "vt", shift)), r"bulb.*first UV set differs"),
        "set zero": (in_text(".obj", lines("bulb", "vt", lambda w: ["0", "0"])), r"bulb.*first UV set differs"),
        "material exchanged": (in_text(".obj", swap), r"carry “rail” instead of “lamp”"),
        "part renamed": (in_text(".obj", lambda t: t.replace("\no post_left\n", "\no pole\n")), r"called “pole” instead of “post_left”"),
        "part lost": (in_text(".obj", without), r"lost: kiosk/post left"),
        "part moved": (in_text(".obj", lines("post_left", "v", moved)), r"post left.*stands .* mm off"),
        "base colour": (
            in_text(".mtl", lambda t: material(t, "rail", lambda b: b.replace("Kd 0.3 0.35 0.4", "Kd 0.3 0.35 0.5"))),
            r"“rail”: base colour is",
        ),
        "opacity": (in_text(".mtl", lambda t: material(t, "glass", lambda b: b.replace("d 0.4", "d 0.9"))), r"“glass”: opacity is 0.9"),
        "metallic": (in_text(".mtl", lambda t: material(t, "glass", lambda b: b.replace("Pm 0.2", "Pm 0.9"))), r"“glass”: metallic is 0.9"),
        "roughness": (in_text(".mtl", lambda t: material(t, "rail", lambda b: b.replace("Pr 0.4", "Pr 0.9"))), r"“rail”: roughness is 0.9"),
        "image missing": (
            in_text(".mtl", lambda t: material(t, "boards", lambda b: "\n".join(x for x in b.split("\n") if not x.startswith("map_Kd")))),
            r"“boards”: base colour texture is missing",
        ),
    }  # fmt: skip


def ply_faults() -> dict[str, tuple[Plant, str]]:
    def edit(change: Callable[[np.ndarray[Any, Any], np.ndarray[Any, Any]], Any]) -> Plant:
        def plant(folder: Path) -> None:
            path = next(p for p in folder.iterdir() if p.suffix == ".ply")
            data = path.read_bytes()
            head, body = data.split(b"end_header\n", 1)
            words = [line.split() for line in head.decode().split("\n")]
            counts = {w[1]: int(w[2]) for w in words if w[:1] == ["element"]}
            kinds = {"float": "<f4", "double": "<f8", "uchar": "u1"}
            columns = [(w[2], kinds[w[1]]) for w in words if w[:1] == ["property"] and w[1] in kinds]
            vertex = np.frombuffer(body, columns, counts["vertex"]).copy()
            face_kind = np.dtype([("n", "u1"), ("corners", "<i4", 3), ("part", "<i4")])
            if len(body) != vertex.nbytes + counts["face"] * face_kind.itemsize:
                face_kind = np.dtype([("n", "u1"), ("corners", "<i4", 3)])
            faces = np.frombuffer(body, face_kind, counts["face"], vertex.nbytes).copy()
            kept = change(vertex, faces)
            faces = faces if kept is None else kept
            head = head.replace(f"element face {counts['face']}".encode(), f"element face {len(faces)}".encode())
            path.write_bytes(head + b"end_header\n" + vertex.tobytes() + faces.tobytes())

        return plant

    def turn(vertex: Any, faces: Any) -> None:
        faces["corners"][30] = faces["corners"][30][::-1].copy()

    def move(vertex: Any, faces: Any) -> None:
        rows = faces["corners"][24:36].ravel()
        vertex["x"][np.unique(rows)] += 1.0

    def uv(vertex: Any, faces: Any) -> None:
        vertex["s"] = np.float32(0)

    def normals(vertex: Any, faces: Any) -> None:
        vertex["nx"], vertex["nz"] = vertex["nz"].copy(), vertex["nx"].copy()

    return {
        "winding of a triangle": (edit(turn), r"1 triangle turned over"),
        "part moved": (edit(move), r"post left.*mm off"),
        "set zero": (edit(uv), r"first UV set differs"),
        "normals": (edit(normals), r"normals are .*° off"),
        "triangles lost": (edit(lambda v, f: f[:-3]), r"3 triangles missing"),
    }


def stl_faults() -> dict[str, tuple[Plant, str]]:
    def turned(text: str) -> str:
        head, *facets = text.split("facet normal")
        lines = facets[30].split("\n")
        rows = [k for k, line in enumerate(lines) if line.startswith("vertex")]
        lines[rows[0]], lines[rows[2]] = lines[rows[2]], lines[rows[0]]
        facets[30] = "\n".join(lines)
        return "facet normal".join([head, *facets])

    def lost(text: str) -> str:
        begin, end = text.index("solid post_left"), text.index("endsolid post_left") + len("endsolid post_left\n")
        return text[:begin] + text[end:]

    return {
        "winding of a triangle": (in_text(".stl", turned), r"1 triangle turned over"),
        "part renamed": (
            in_text(".stl", lambda t: t.replace("solid post_left", "solid pole")),
            r"called “pole” instead of",
        ),
        "part lost": (in_text(".stl", lost), r"lost: kiosk/post left"),
    }


FAULTS: dict[str, Callable[[], dict[str, tuple[Plant, str]]]] = {
    "glb": gltf_faults,
    "gltf": gltf_faults,
    "dae": dae_faults,
    "usda": usd_faults,
    "usdc": usd_faults,
    "obj": obj_faults,
    "ply": ply_faults,
    "stl": stl_faults,
}
