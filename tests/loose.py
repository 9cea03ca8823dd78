"""Faults that a lenient receiver passes over and a strict one trips on, planted in the package of `planted.kiosk`."""

from __future__ import annotations

import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

from pxr import Gf, Sdf, UsdGeom, UsdLux, UsdShade

from tests.planted import DaeFile, GltfFile, Plant, in_dae, in_gltf, in_text, in_usd
from tidy_caravan.core.arrival.report import ArrivalReport
from tidy_caravan.core.carry import prove
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.scene import Scene

REFUSED = "refused: "
"""Before what is said of a package that cannot be read at all."""


def gltf_faults() -> dict[str, tuple[Plant, str]]:
    """By name: how it is planted, and what the arrival has to say of it."""

    def positions(f: GltfFile, name: str) -> dict[str, Any]:
        found: dict[str, Any] = f.json["accessors"][f.primitives(name)[0]["attributes"]["POSITION"]]
        return found

    def mesh(f: GltfFile) -> dict[str, Any]:
        found: dict[str, Any] = f.json["meshes"][f.node("bulb")["mesh"]]
        return found

    def view(f: GltfFile, accessor: int) -> dict[str, Any]:
        found: dict[str, Any] = f.json["bufferViews"][f.json["accessors"][accessor]["bufferView"]]
        return found

    def no_number(f: GltfFile, key: str) -> None:
        f.array(f.primitives("bulb")[0]["attributes"][key])[2] = float("nan")

    return {
        "extension not declared": (
            in_gltf(lambda f: f.json["extensionsUsed"].remove("KHR_lights_punctual")),
            "uses KHR_lights_punctual without declaring it",
        ),
        "extension required": (
            in_gltf(lambda f: f.json.update(extensionsRequired=["KHR_nobody_knows"])),
            REFUSED + ".*asks for KHR_nobody_knows",
        ),
        "version": (in_gltf(lambda f: f.json["asset"].update(version="1.0")), REFUSED + ".*does not say that it is glTF 2"),
        "bounds": (
            in_gltf(lambda f: positions(f, "bulb").update(max=[0.01, 0.01, 0.01])),
            "bulb.*bounds in the file that are not those of its vertices",
        ),
        "bounds that are half there": (
            in_gltf(lambda f: positions(f, "bulb").pop("min")),
            "bulb.*bounds in the file that are not those of its vertices",
        ),
        "normals of one material": (
            in_gltf(lambda f: f.primitives("front")[1]["attributes"].pop("NORMAL")), "front.*normals did not arrive"
        ),
        "no numbers as colours": (in_gltf(lambda f: no_number(f, "COLOR_0")), "bulb.*vertex colours differ"),
        "no numbers as coordinates": (in_gltf(lambda f: no_number(f, "TEXCOORD_1")), "bulb.*lightmap UV set has no numbers"),
        "no numbers as normals": (in_gltf(lambda f: no_number(f, "NORMAL")), "bulb.*normals are 180"),
        "no numbers as places": (in_gltf(lambda f: no_number(f, "POSITION")), "bulb"),
        "coordinates as places": (
            in_gltf(lambda f: [p["attributes"].update(POSITION=p["attributes"]["TEXCOORD_0"]) for p in f.primitives("front")] and None),
            "the places of mesh “.*” are not of 3 numbers each",
        ),
        "name of a mesh": (in_gltf(lambda f: mesh(f).update(name="lamp")), "mesh “bulb” is called “lamp”"),
        "data of a mesh": (
            in_gltf(lambda f: mesh(f).setdefault("extras", {}).update(watt=40)), "mesh “bulb”: its data differ"
        ),
        "data nobody sent": (
            in_gltf(lambda f: f.node("bulb").update(extras={"wet": True})), "bulb”: data that the source has not: “wet”"
        ),
        "mesh beyond the list": (
            in_gltf(lambda f: f.node("bulb").update(mesh=40)), REFUSED + ".*node “bulb” asks for mesh 40"
        ),
        "material beyond the list": (
            in_gltf(lambda f: f.primitives("bulb")[0].update(material=9)), REFUSED + ".*asks for material 9 of 4"
        ),
        "light beyond the list": (
            in_gltf(lambda f: f.node("spot")["extensions"]["KHR_lights_punctual"].update(light=7)),
            REFUSED + ".*node “spot” asks for light 7 of 2",
        ),
        "corner beyond the list": (
            in_gltf(lambda f: f.array(f.primitives("bulb")[0]["indices"]).__setitem__((0, 0), 999)),
            REFUSED + ".*triangle of mesh “bulb” has corner 999 of 24",
        ),
        "fewer coordinates than vertices": (
            in_gltf(lambda f: f.json["accessors"][f.primitives("bulb")[0]["attributes"]["TEXCOORD_0"]].update(count=20)),
            REFUSED + ".*has 20 coordinates of UV set 0 for 24 vertices",
        ),
        "node below itself": (
            in_gltf(lambda f: f.node("kiosk")["children"].append(f.json["nodes"].index(f.node("kiosk")))),
            REFUSED + ".*node “kiosk” hangs below itself",
        ),
        "node below two others": (
            in_gltf(lambda f: f.node("gate").update(children=[f.json["nodes"].index(f.node("bulb"))])),
            REFUSED + ".*hangs below two others",
        ),
        "list beyond its view": (
            in_gltf(lambda f: view(f, f.primitives("bulb")[0]["indices"]).update(byteLength=4)), REFUSED + ".*of a view of 4"
        ),
        "camera of no kind": (in_gltf(lambda f: f.json["cameras"][0].update(type="fisheye")), REFUSED),
        "far plane": (
            in_gltf(lambda f: f.json["cameras"][0]["perspective"].update(zfar=40.0)), "“kiosk/view”: far is 40 m instead of 100 m"
        ),
        "length of a clip": (
            in_gltf(lambda f: f.json["accessors"][f.json["animations"][0]["samplers"][0]["input"]].update(max=[9.0])),
            "clip “gate swings” does not last as long as the file says",
        ),
        "clip of no path": (
            in_gltf(lambda f: f.json["animations"][0]["channels"][0]["target"].update(path="colour")),
            REFUSED + ".*clip “gate swings” moves “colour”",
        ),
        "triangles marked as vertices": (
            in_gltf(lambda f: view(f, f.primitives("bulb")[0]["indices"]).update(target=34962)),
            "list of triangles of mesh “bulb” is marked as something else",
        ),
        "kind of an image": (
            in_gltf(lambda f: f.json["images"][0].update(mimeType="image/jpeg")),
            "says it is image/jpeg, and holds image/png"
        ),
    }  # fmt: skip


def dae_faults() -> dict[str, tuple[Plant, str]]:
    def read_from(f: DaeFile, entry: Any, sampler: str) -> None:
        for old in list(entry):
            entry.remove(old)
        entry.append(entry.makeelement(f"{{{f.space['c']}}}texture", texture=sampler, texcoord="UV0"))

    def binding(f: DaeFile, node: str) -> Any:
        return f.node(node).xpath(".//c:instance_material", namespaces=f.space)[0]

    def set_all(f: DaeFile, path: str, **values: str) -> None:
        for element in f.all(path):
            for key, value in values.items():
                element.set(key, value)

    def of_bulb(f: DaeFile, path: str) -> Any:
        return f.geometry("bulb").xpath(path, namespaces=f.space)[0]

    return {
        "materials of one place": (
            in_dae(lambda f: binding(f, "back").getparent().remove(binding(f, "back"))),
            "kiosk/back.*carry no material|carry no material instead of “boards”",
        ),
        "coordinates bound to nothing": (
            in_dae(lambda f: [e.getparent().remove(e) for e in f.all("//c:bind_vertex_input")]),
            "“front” does not bind the coordinates “UV0” that material “boards” asks for",
        ),
        "coordinates of one place": (
            in_dae(lambda f: [binding(f, "post_right").remove(e) for e in list(binding(f, "post_right"))]),
            "“post_right” does not bind the coordinates “UV0” that material “boards” asks for",
        ),
        "image of the opacity": (
            in_dae(lambda f: read_from(f, f.effect("glass").find(".//c:transparent", f.space), "none")),
            "opacity of material “glass” is read from nothing",
        ),
        "coordinates bound to another set": (
            in_dae(lambda f: set_all(f, "//c:bind_vertex_input", input_set="1")), "UV set of the base colour texture is 1"
        ),
        "rule of opacity": (
            in_dae(lambda f: f.effect("glass").find(".//c:transparent", f.space).set("opaque", "A_ZERO")),
            "“glass”: opacity is 0.6 instead of 0.4",
        ),
        "rule that there is not": (
            in_dae(lambda f: f.effect("glass").find(".//c:transparent", f.space).set("opaque", "SOME")),
            "“glass” is transparent by the rule “SOME”",
        ),
        "length of a list": (
            in_dae(lambda f: of_bulb(f, ".//c:float_array").set("count", "9")), "list of “bulb” .* says it has 9 numbers, and has 72"
        ),
        "stride of a list": (
            in_dae(lambda f: of_bulb(f, ".//c:accessor").set("stride", "4")), "list of “bulb” .* reads 24 times 4 of its 72"
        ),
        "names of numbers": (
            in_dae(lambda f: of_bulb(f, ".//c:param").set("name", "W")), "list of “bulb” .* does not name its numbers"
        ),
        "number of triangles": (
            in_dae(lambda f: of_bulb(f, ".//c:triangles").set("count", "3")), "“bulb” says it has 3 triangles .* and has 12"
        ),
        "number of a set": (
            in_dae(lambda f: set_all(f, "//c:geometry[@name='bulb']//c:input[@set='0']", set="5")), "bulb.*UV set 0 did not arrive"
        ),
        "far plane": (in_dae(lambda f: f.one("//c:zfar").__setattr__("text", "40")), "“kiosk/view”: far is .* instead of 100 m"),
        "proportions": (
            in_dae(lambda f: f.one("//c:aspect_ratio").__setattr__("text", "1")), "“kiosk/view”: aspect is 1 instead of 1.6"
        ),
    }  # fmt: skip


def usd_faults() -> dict[str, tuple[Plant, str]]:
    looks = "/scene/Looks"

    def gone(path: str, name: str) -> Plant:
        return in_usd(lambda s: s.GetPrimAtPath(path).RemoveProperty(name))

    def given(path: str, name: str, value: Any) -> Plant:
        return in_usd(lambda s: s.GetPrimAtPath(path).GetAttribute(name).Set(value))

    def light(stage: Any) -> Any:
        return UsdLux.LightAPI(stage.GetPrimAtPath("/scene/kiosk/spot"))

    def bulb(stage: Any) -> Any:
        return stage.GetPrimAtPath("/scene/kiosk/bulb/mesh")

    def repainted(stage: Any) -> None:
        stage.OverridePrim("/Prototypes/box_2/Looks/boards/surface").GetAttribute("inputs:roughness").Set(0.9)

    spot = "/scene/kiosk/spot"
    return {
        "surface of no kind": (gone(f"{looks}/rail/surface", "info:id"), "material “rail” has no preview surface"),
        "texture of no kind": (gone(f"{looks}/boards/diffuse", "info:id"), "“boards”: base colour texture is missing"),
        "texture undefined": (
            in_usd(lambda s: s.GetPrimAtPath(f"{looks}/boards/diffuse").SetSpecifier(Sdf.SpecifierOver)),
            "“boards”: base colour texture is missing",
        ),
        "material of no type": (
            in_usd(lambda s: s.GetPrimAtPath(f"{looks}/lamp").ClearTypeName()), "bulb.*no material|carry no material instead of “lamp”"
        ),
        "material of a prototype": (
            in_usd(lambda s: s.GetPrimAtPath("/Prototypes/box_2/Looks/boards").GetReferences().SetReferences([Sdf.Reference("", "/scene/Nowhere")])),
            "material “boards”: roughness is 0.5 instead of 0.6",
        ),
        "material of a prototype repainted": (
            in_usd(repainted), r"material “boards”: roughness is 0.9 instead of 0.6",
        ),
        "coordinates of no set": (gone(f"{looks}/boards/diffuse_uv", "inputs:varname"), "“boards”: UV set .* is -1 instead of 0"),
        "coordinates not read": (gone(f"{looks}/boards/diffuse", "inputs:st"), "“boards”: UV set .* is -1 instead of 0"),
        "colour space": (
            given(f"{looks}/boards/diffuse", "inputs:sourceColorSpace", "raw"), "material “boards” is read as raw, and holds sRGB"
        ),
        "colour space that there is not": (
            given(f"{looks}/boards/diffuse", "inputs:sourceColorSpace", "gray"), "is in a colour space “gray”"
        ),
        "opacity of no channel": (gone(f"{looks}/glass/diffuse", "outputs:a"), "opacity of material “glass” is read from no texture"),
        "opacity of another channel": (
            in_usd(
                lambda s: UsdShade.Shader(s.GetPrimAtPath(f"{looks}/glass/surface"))
                .GetInput("opacity")
                .ConnectToSource(
                    UsdShade.Shader(s.GetPrimAtPath(f"{looks}/glass/diffuse")).CreateOutput("r", Sdf.ValueTypeNames.Float)
                )
            ),
            "opacity of material “glass” is read from “r” of an image that holds it in “a”",
        ),
        "colours one for all": (
            in_usd(lambda s: UsdGeom.PrimvarsAPI(bulb(s)).GetPrimvar("displayColor").SetInterpolation("constant")),
            "bulb.*vertex colours did not arrive",
        ),
        "repeat": (gone(f"{looks}/boards/diffuse", "inputs:wrapS"), "“boards”: repeat of the base colour texture is"),
        "bounds": (
            in_usd(lambda s: UsdGeom.Mesh(bulb(s)).GetExtentAttr().Set([Gf.Vec3f(0), Gf.Vec3f(0.01)])),
            "bulb.*bounds in the file that are not those of its vertices",
        ),
        "coordinates one for all": (
            in_usd(lambda s: UsdGeom.PrimvarsAPI(bulb(s)).GetPrimvar("st").SetInterpolation("constant")),
            "bulb.*UV set 0 did not arrive",
        ),
        "normals one for all": (
            in_usd(lambda s: UsdGeom.Mesh(bulb(s)).SetNormalsInterpolation("constant")), "bulb.*normals did not arrive"
        ),
        "power by size": (given(spot, "inputs:normalize", False), "light “spot” gives more light the larger it is"),
        "a ball of light": (given(spot, "treatAsPoint", False), "light “spot” is no point but a ball"),
        "exposure": (in_usd(lambda s: light(s).CreateExposureAttr(1.0)), "light “kiosk/spot”: light is"),
        "temperature": (in_usd(lambda s: light(s).CreateEnableColorTemperatureAttr(True)), "is coloured by its temperature"),
        "diffuse light": (in_usd(lambda s: light(s).CreateDiffuseAttr(0.5)), "gives 0.5 times its light to diffuse"),
        "binding without schema": (
            in_usd(lambda s: bulb(s).RemoveAPI(UsdShade.MaterialBindingAPI)), "bulb/mesh” is bound to a material without the schema"
        ),
        "proportions": (
            in_usd(lambda s: UsdGeom.Camera(s.GetPrimAtPath("/scene/kiosk/view")).GetHorizontalApertureAttr().Set(24.0)),
            "“kiosk/view”: aspect is 1 instead of 1.6",
        ),
    }  # fmt: skip


def obj_faults() -> dict[str, tuple[Plant, str]]:
    def without(text: str) -> str:
        return "\n".join(line for line in text.split("\n") if not line.startswith("map_d"))

    return {
        "image of the opacity": (in_text(".mtl", without), "“glass”: opacity from an image is off instead of on"),
        "another image of the opacity": (
            in_text(".mtl", lambda t: t.replace("-imfchan m textures/glass.png", "-imfchan m textures/boards.png")),
            "opacity of material “glass” is read from another image",
        ),
    }


def stl_faults() -> dict[str, tuple[Plant, str]]:
    def turned(text: str) -> str:
        head, part, rest = text.partition("solid bulb")
        return head + part + rest.replace("facet normal 0 0 1", "facet normal 0 1 0", 1)

    def first(old: str, new: str) -> Plant:
        return in_text(".stl", lambda t: t.replace(old, new, 1))

    odd = REFUSED + ".*a facet is not written as STL has it"
    return {
        "normals of facets": (in_text(".stl", turned), "bulb.*normals in the file that are not those of its triangles"),
        "another word for a vertex": (first("vertex ", "vertdx "), odd),
        "another word for a loop": (first("outer loop", "outer loup"), odd),
        "no end of a facet": (first("endfacet\n", ""), odd),
    }


def ply_faults() -> dict[str, tuple[Plant, str]]:
    def bytes_changed(old: bytes, new: bytes) -> Plant:
        def plant(folder: Path) -> None:
            path = next(folder.glob("*.ply"))
            data = path.read_bytes()
            assert old in data
            path.write_bytes(data.replace(old, new, 1))

        return plant

    def other_part(folder: Path) -> None:
        path = next(folder.glob("*.ply"))
        data = bytearray(path.read_bytes())
        data[-4] ^= 1  # the number of the last triangle's part
        path.write_bytes(data)

    head = REFUSED + ".*its header says "
    return {
        "no kind of file": (bytes_changed(b"ply\n", b"plyx\n"), REFUSED + ".*it has no header of PLY 1.0"),
        "no form": (
            bytes_changed(b"format binary_little_endian 1.0\n", b""),
            REFUSED + ".*it has no header of PLY 1.0",
        ),
        "a column twice": (
            bytes_changed(b"property float y\n", b"property float y\n" * 2),
            head + "“property float y” twice",
        ),
        "a column of no kind": (bytes_changed(b"property float y\n", b"property real y\n"), head + "“property real y”"),
        "a word that is none": (
            bytes_changed(b"property float y\n", b"propertyx float y\n"),
            head + "“propertyx float y”",
        ),
        "another part": (other_part, "the file says of 1 triangle, such as one of “kiosk/.*, that another part has it"),
        "no parts": (
            bytes_changed(b"property int part", b"property int piece"),
            "does not say which part a triangle belongs to",
        ),
    }


def glb_faults() -> dict[str, tuple[Plant, str]]:
    """Those of any glTF, and of the container."""

    def longer(folder: Path) -> None:
        path = next(folder.glob("*.glb"))
        path.write_bytes(path.read_bytes() + bytes(4))

    return {**gltf_faults(), "length of the container": (longer, REFUSED + ".*its head says .* bytes")}


LOOSE: dict[str, Callable[[], dict[str, tuple[Plant, str]]]] = {
    "glb": glb_faults,
    "gltf": gltf_faults,
    "dae": dae_faults,
    "obj": obj_faults,
    "ply": ply_faults,
    "stl": stl_faults,
    "usda": usd_faults,
    "usdc": usd_faults,
}


def everything_said(report: ArrivalReport) -> str:
    """All sentences of a report in one line, without those about changed files."""
    rows = [f"{r.path}: {r.told}" for r in report.rows if r.faults]
    own = [p for p in report.problems if not re.fullmatch(r"\S+ is (missing|not the file that was packed)", p)]
    lines = [*own, *rows, *(f"lost: {p}" for p in report.lost), *(f"nobody sent: {p}" for p in report.extra)]
    return " | ".join(lines)


def said_of(folder: Path, source: Scene, result: Scene) -> str:
    """All that is said of a package, or why it cannot be read."""
    try:
        return everything_said(prove(folder, source, result)[0])
    except UnusableInput as error:
        return f"{REFUSED}{error.sentence()}"
