"""What a file says that nothing here reads is named: with it, a scene or its travel list is another than without."""

from __future__ import annotations

import json
import unittest
from collections.abc import Callable
from typing import Any

import ifcopenshell.api.pset as pset

from tests.core.test_ifc import Model, at
from tests.planted import kiosk
from tests.support import read
from tidy_caravan.core.formats import write

STAGE = """#usda 1.0
(
    metersPerUnit = 1
    upAxis = "Y"
    <LAYER>
)
def Xform "group" (
    <HEAD>
)
{
    <GROUP>
    def Mesh "mesh"
    {
        point3f[] points = [(0, 0, 0), (1, 0, 0), (0, 1, 0)]
        int[] faceVertexCounts = [3]
        int[] faceVertexIndices = [0, 1, 2]
        uniform token subdivisionScheme = "none"
        rel material:binding = </group/look>
        <MESH>
    }
    def Material "look" (
        <LOOKHEAD>
    )
    {
        <LOOK>
        token outputs:surface.connect = </group/look/surface.outputs:surface>
        def Shader "surface"
        {
            uniform token info:id = "UsdPreviewSurface"
            <SURFACE>
            token outputs:surface
        }
    }
    def SphereLight "light"
    {
        <LIGHT>
    }
    def Camera "camera"
    {
        <CAMERA>
    }
    <MORE>
}
"""
OPENUSD = {
    "LAYER": ['doc = "by hand"', 'customLayerData = { string by = "hand" }'],
    "HEAD": ["customData = { int a = 1 }", 'doc = "by hand"', 'kind = "group"', 'assetInfo = { string name = "x" }'],
    "GROUP": [
        'custom string userProperties:maker = "x"', "float primvars:wear = 1",
        'token visibility.timeSamples = { 0: "inherited", 1: "invisible" }',
        'uniform token collection:some:expansionRule = "expandPrims"',
    ],
    "MESH": [
        'custom string userProperties:maker = "x"', 'float[] primvars:wear = [0, 1, 2] (interpolation = "vertex")',
        'color3f[] primvars:displayColor = [(0, 1, 0)] (interpolation = "constant")',
        'float[] primvars:displayOpacity = [0.5] (interpolation = "constant")', "vector3f[] velocities = [(0, 0, 1)]",
        "point3f[] points.timeSamples = { 0: [(0, 0, 0), (1, 0, 0), (0, 1, 0)], 1: [(0, 0, 0), (2, 0, 0), (0, 1, 0)] }",
        "bool physics:collisionEnabled = 1",
    ],
    "LOOKHEAD": ["customData = { int a = 1 }"],
    "LOOK": ['custom string userProperties:maker = "x"', 'custom string some:maker = "x"'],
    "SURFACE": [
        "float inputs:ior = 1.3", "float inputs:clearcoat = 0.5", "float inputs:occlusion = 0.5", "normal3f inputs:normal = (0, 1, 0)",
        'token inputs:opacityMode = "presence"', "float inputs:roughness.timeSamples = { 0: 0.1, 1: 0.9 }",
    ],
    "LIGHT": ["float inputs:intensity.timeSamples = { 0: 10, 1: 20 }", "float inputs:diffuse = 0.5"],
    "CAMERA": [
        "float fStop = 2.8", "float focusDistance = 3", "float horizontalApertureOffset = 3", "double shutter:open = -0.5",
        "float4[] clippingPlanes = [(1, 0, 0, 0)]", 'uniform token stereoRole = "left"', "float exposure = 1",
    ],
    "MORE": [f'def {kind} "more"\n{{\n}}' for kind in ("RenderSettings", "PhysicsScene", "NurbsPatch", "Volume", "DomeLight")],
}  # fmt: skip
SILENT = {
    "GROUP": ['token visibility = "inherited"'],
    "MESH": ["float3[] extent = [(0, 0, 0), (1, 1, 0)]", 'uniform token orientation = "rightHanded"'],
    "SURFACE": ["float inputs:ior = 1.5", "float inputs:occlusion = 1"],
    "CAMERA": ["float fStop = 0", "float horizontalApertureOffset = 0", 'uniform token stereoRole = "mono"'],
}
"""What says nothing, and so is not to be told."""
EXTRA = '<extra><technique profile="HAND"><a>1</a></technique></extra>'
COLLADA = [
    ("</node>", EXTRA), ("</material>", EXTRA), ("</light>", EXTRA), ("</COLLADA>", EXTRA),
    ("<unit", "<title>by hand</title>"), ("</contributor>", "<comments>by hand</comments>"),
    ("<diffuse>", "<ambient><color>1 0 0 1</color></ambient>"),
    ("</phong>", "<index_of_refraction><float>1.3</float></index_of_refraction>"),
    ("</sampler2D>", "<border_color>1 0 0 1</border_color>"), ("</sampler2D>", "<mipfilter>LINEAR</mipfilter>"), ("</effect>", "<profile_GLSL/>"),
    ("</visual_scene>", "<evaluate_scene/>"),
    ("</library_geometries>", '<geometry id="free"><mesh/></geometry>'),
    ("<scene>", '<library_kinematics_models><kinematics_model id="k"/></library_kinematics_models>'),
    ("<scene>", '<library_physics_scenes><physics_scene id="p"/></library_physics_scenes>'),
]  # fmt: skip
LINES = ["Ks 1 1 1", "Ni 1.3", "Tf 0 0 1", "Ps 0.5", "Pc 0.5", "aniso 0.5", "map_Ks a.png", "refl a.png", "by hand"]
SILENT_LINES = ["Ks 0 0 0", "Ka 1 1 1", "illum 2", "# by hand"]
OBJ_LINES = ["l 1 2", "p 1", "vp 0.1 0.2", "mg 1 0.5", "lod 2", "cstype bspline", "call other.obj", "by hand"]


class Unread(unittest.TestCase):
    def check(self, make: Callable[[Any], dict[str, bytes]], changes: list[Any], quiet: list[Any]) -> None:
        plain = told(make(None))
        self.assertEqual([c for c in changes if told(make(c)) == plain], [])
        self.assertEqual([c for c in quiet if told(make(c)) != plain], [])

    def test_openusd(self) -> None:
        def stage(change: tuple[str, str] | None) -> dict[str, bytes]:
            text = STAGE.replace(f"<{change[0]}>", change[1]) if change else STAGE
            for place in OPENUSD:
                text = text.replace(f"<{place}>", "")
            return {"scene.usda": text.encode()}

        pairs, quiet = ([(place, line) for place, lines in t.items() for line in lines] for t in (OPENUSD, SILENT))
        self.check(stage, pairs, quiet)

    def test_collada(self) -> None:
        files = dict(write(kiosk(), "dae", "scene").files)
        text = files["scene.dae"].decode()
        for place, _ in COLLADA:
            self.assertIn(place, text)

        def document(change: tuple[str, str] | None) -> dict[str, bytes]:
            place, more = change or ("", "")
            made = text.replace(place, more + place, 1) if place else text
            return {**files, "scene.dae": made.encode()}

        self.check(document, COLLADA, [])

    def test_obj(self) -> None:
        files = dict(write(kiosk(), "obj", "scene").files)

        def with_line(change: tuple[str, str] | None) -> dict[str, bytes]:
            name, line = change or ("scene.obj", "")
            return {**files, name: files[name] + line.encode() + b"\n"}

        pairs = [*(("scene.mtl", x) for x in LINES), *(("scene.obj", x) for x in OBJ_LINES)]
        self.check(with_line, pairs, [*(("scene.mtl", x) for x in SILENT_LINES), ("scene.obj", "# by hand")])

    def test_ply(self) -> None:
        def text(change: str | None) -> dict[str, bytes]:
            more = f"property float {change}\n" if change else ""
            lines = "".join(f"{p}{' 1' if change else ''}\n" for p in ("0 0 0", "1 0 0", "0 1 0"))
            head = f"ply\nformat ascii 1.0\nelement vertex 3\n{'property float x'}\nproperty float y\nproperty float z\n{more}"
            body = f"element face 1\nproperty list uchar int vertex_indices\nend_header\n{lines}3 0 1 2\n"
            return {"scene.ply": (head + body).encode()}

        self.check(text, ["quality", "confidence"], [])

    def test_ifc(self) -> None:
        def model(change: str | None) -> dict[str, bytes]:
            m = Model()
            wall = m.element("wall", m.storey("ground", 0), at(0, 0, 0), m.block())
            if change:
                own = pset.add_pset(m.f, product=wall, name="Pset_WallCommon")
                pset.edit_pset(m.f, pset=own, properties={change: "REI60"})
            return {"scene.ifc": m.f.to_string().encode()}

        self.assertNotEqual(told(model("AcousticRating"))[0], told(model(None))[0])  # in the travel list
        self.assertEqual(told(model("FireRating"))[0], told(model(None))[0])  # which goes on as data
        self.assertIn("REI60", str(told(model("FireRating"))[3]))

    def test_gltf(self) -> None:
        files = dict(write(kiosk(), "gltf", "scene").files)
        text = files["scene.gltf"]

        def document(path: tuple[Any, ...] | None) -> dict[str, bytes]:
            made = json.loads(text)
            if path:
                at = made
                for key in path[:-1]:
                    at = at.setdefault(key, {}) if isinstance(at, dict) else at[key]
                at[path[-1]] = {"by": "hand"}
            return {**files, "scene.gltf": json.dumps(made).encode()}

        tables = (
            "accessors",
            "bufferViews",
            "buffers",
            "images",
            "textures",
            "samplers",
            "materials",
            "meshes",
            "nodes",
            "cameras",
        )
        paths: list[Any] = [(t, 0, "extras") for t in (*tables, "scenes", "animations")]
        paths += [
            ("meshes", 0, "primitives", 0, "extras"), ("materials", 0, "pbrMetallicRoughness", "extras"),
            ("cameras", 0, "perspective", "extras"), ("animations", 0, "channels", 0, "extras"),
            ("animations", 0, "samplers", 0, "extras"), ("extras",), ("asset", "extras"),
            ("extensions", "KHR_lights_punctual", "lights", 1, "spot", "extras"),
        ]  # fmt: skip
        paths += [
            (t, 0, "extensions", "BY_hand") for t in ("materials", "nodes", "meshes", "textures", "images", "cameras")
        ]
        paths += [("meshes", 0, "primitives", 0, "extensions", "BY_hand"), ("extensions", "BY_hand")]
        self.check(document, paths, [])


def told(files: dict[str, bytes]) -> tuple[Any, ...]:
    """What a scene says beside its surfaces, and what is said of what it does not."""
    scene = read(files)
    return (
        scene.travel, scene.notes, dict(scene.extras), dict(scene.nodes.extras), scene.nodes.flags.tolist(), scene.materials,
        scene.textures, scene.images, scene.lights, scene.cameras, scene.roots, [m.extras for m in scene.meshes],
        [c.extras for c in scene.clips],
    )  # fmt: skip


if __name__ == "__main__":
    unittest.main()
