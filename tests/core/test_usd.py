"""OpenUSD in and out: stages authored with usd-core, compared with what they say; packages judged by its validators."""

from __future__ import annotations

import json
import tempfile
import unittest
import zipfile
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade, UsdUtils, UsdValidation, Vt

from tests.core.test_gltf import everything
from tests.support import PNG, sent
from tests.trees import random_tree
from tidy_caravan.core.bake.mix import Mix
from tidy_caravan.core.bake.trace import traced
from tidy_caravan.core.bake.world import World, world_arrays
from tidy_caravan.core.carry import prove
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.errors import Cancelled, UnusableInput
from tidy_caravan.core.formats import bundle_from_files, bundle_from_path, bundles_from_files, load, write
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import Route
from tidy_caravan.core.scene import HIDDEN, SCATTER, Scene
from tidy_caravan.core.space.convert import convert
from tidy_caravan.core.steps.base import StepContext
from tidy_caravan.core.steps.make_shapes import MakeShapes
from tidy_caravan.demo.ferry_landing import landing

QUAD = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)]


class Stage:
    """A stage in a folder of its own."""

    def __init__(self, name: str = "scene.usda", metres: float | None = 1.0, up: str = "Z") -> None:
        self.folder = tempfile.TemporaryDirectory()
        self.path = Path(self.folder.name) / name
        self.stage = Usd.Stage.CreateNew(str(self.path))
        if metres is not None:
            UsdGeom.SetStageMetersPerUnit(self.stage, metres)
        UsdGeom.SetStageUpAxis(self.stage, up)

    def quad(self, path: str, **more: Any) -> Any:
        mesh = UsdGeom.Mesh.Define(self.stage, path)
        mesh.CreatePointsAttr(QUAD)
        mesh.CreateFaceVertexCountsAttr([4])
        mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 3])
        mesh.CreateSubdivisionSchemeAttr(more.get("scheme", "none"))
        return mesh

    def material(self, path: str, color: Any = (0.5, 0.25, 0.125), **inputs: Any) -> Any:
        material = UsdShade.Material.Define(self.stage, path)
        shader = UsdShade.Shader.Define(self.stage, f"{path}/surface")
        shader.CreateIdAttr("UsdPreviewSurface")
        shader.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f).Set(color)
        for name, value in inputs.items():
            shader.CreateInput(name, Sdf.ValueTypeNames.Float).Set(value)
        material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
        return material

    def texture(self, material: Any, target: str, file: str, channel: str, varname: str = "st", **inputs: Any) -> Any:
        path = f"{material.GetPath()}/{target}_map"
        texture = UsdShade.Shader.Define(self.stage, path)
        texture.CreateIdAttr("UsdUVTexture")
        texture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(file)
        for name, value in inputs.items():
            texture.CreateInput(name, Sdf.ValueTypeNames.Token).Set(value)
        reader = UsdShade.Shader.Define(self.stage, f"{path}_uv")
        reader.CreateIdAttr("UsdPrimvarReader_float2")
        reader.CreateInput("varname", Sdf.ValueTypeNames.String).Set(varname)
        texture.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(
            reader.CreateOutput("result", Sdf.ValueTypeNames.Float2)
        )
        kind = Sdf.ValueTypeNames.Float3 if channel == "rgb" else Sdf.ValueTypeNames.Float
        shader = UsdShade.Shader(self.stage.GetPrimAtPath(f"{material.GetPath()}/surface"))
        given = shader.GetInput(target) or shader.CreateInput(target, kind)
        given.ConnectToSource(texture.CreateOutput(channel, kind))
        return reader

    def read(self) -> Scene:
        self.stage.GetRootLayer().Save()
        return load(bundle_from_path(self.path))


def node(scene: Scene, name: str) -> int:
    return scene.nodes.names.index(name)


def travel(scene: Scene) -> dict[str, tuple[str, int, str]]:
    return {t.kind: (t.verdict, t.count, t.into or t.why) for t in scene.travel}


class Reading(unittest.TestCase):
    def test_unit_and_axis_are_those_of_the_stage_and_a_missing_unit_is_a_guess(self) -> None:
        s = Stage(metres=0.01, up="Y")
        s.quad("/a")
        c = s.read().convention
        self.assertEqual((c.metres_per_unit, c.up, c.handedness, c.declared), (0.01, "Y", "right", True))
        s = Stage(metres=None)
        s.quad("/a")
        scene = s.read()
        self.assertEqual((scene.convention.metres_per_unit, scene.convention.declared), (0.01, False))
        self.assertIn("guess", {n.kind for n in scene.notes if n.code == "import.unit"})

    def test_transform_stacks_are_what_the_library_computes(self) -> None:
        s = Stage()
        a = UsdGeom.Xform.Define(s.stage, "/a")
        a.AddTranslateOp().Set((1, 2, 3))
        a.AddRotateXYZOp().Set((10, 20, 30))
        a.AddScaleOp().Set((1, 2, 0.5))
        pivot = UsdGeom.Xform.Define(s.stage, "/a/b")
        pivot.AddTranslateOp(opSuffix="pivot").Set((5, 0, 0))
        pivot.AddRotateZOp().Set(90)
        pivot.AddTranslateOp(opSuffix="pivot", isInverseOp=True)
        mesh = s.quad("/a/b/mesh")
        loose = s.quad("/a/b/loose")
        first = next(t for t in dir(UsdGeom.XformOpTypes) if t.endswith("XformStack"))  # “do not inherit”
        UsdGeom.Xformable(loose).AddTranslateOp().Set((7, 7, 7))
        order = UsdGeom.Xformable(loose).GetXformOpOrderAttr()
        order.Set([getattr(UsdGeom.XformOpTypes, first), *order.Get()])
        scene = s.read()
        for prim in (a, pivot, mesh, loose):
            with self.subTest(str(prim.GetPath())):
                name = prim.GetPrim().GetName()
                known = np.array(UsdGeom.XformCache().GetLocalToWorldTransform(prim.GetPrim())).T
                np.testing.assert_allclose(scene.nodes.world[node(scene, name)], known, atol=1e-12)

    def test_instanceable_prims_share_meshes_and_inherit_what_is_bound_on_the_instance(self) -> None:
        s = Stage()
        s.stage.CreateClassPrim("/protos")
        UsdGeom.Xform.Define(s.stage, "/protos/bench")
        s.quad("/protos/bench/seat")
        nested = UsdGeom.Xform.Define(s.stage, "/protos/bench/legs")
        nested.AddTranslateOp().Set((0, 0, -1))
        s.quad("/protos/bench/legs/leg")
        oak = s.material("/Looks/oak")
        for i in range(12):
            x = UsdGeom.Xform.Define(s.stage, f"/hall/bench_{i}")
            x.AddTranslateOp().Set((3.0 * i, 0, 0))
            x.GetPrim().GetReferences().AddInternalReference("/protos/bench")
            x.GetPrim().SetInstanceable(True)
            if i < 4:
                UsdShade.MaterialBindingAPI.Apply(x.GetPrim()).Bind(oak)
        scene = s.read()
        self.assertEqual(len(scene.nodes.parts), 24)
        # seat and leg are equal, so there is one mesh with the material and one without
        self.assertEqual(sorted(scene.instance_counts.tolist()), [8, 16])
        places = {scene.nodes.paths[i]: scene.nodes.world[i][:3, 3] for i in scene.nodes.parts.tolist()}
        np.testing.assert_allclose(places["hall/bench_5/legs/leg"], (15, 0, -1))
        self.assertNotIn("Looks", scene.nodes.names)
        self.assertNotIn("protos", scene.nodes.names)

    def test_point_instancers_become_instances_at_the_places_the_library_computes(self) -> None:
        s = Stage()
        pi = UsdGeom.PointInstancer.Define(s.stage, "/beach/stones")
        pi.AddTranslateOp().Set((10, 0, 0))
        for k in range(2):
            proto = s.quad(f"/beach/stones/protos/stone_{k}")
            proto.AddScaleOp().Set((k + 1, 1, 1))
        pi.CreatePrototypesRel().SetTargets([f"/beach/stones/protos/stone_{k}" for k in range(2)])
        rng = np.random.default_rng(3)
        n = 50
        which = rng.integers(0, 2, n).astype(np.int32)
        pi.CreateProtoIndicesAttr(Vt.IntArray.FromNumpy(which))
        pi.CreatePositionsAttr(Vt.Vec3fArray.FromNumpy(rng.uniform(-5, 5, (n, 3)).astype(np.float32)))
        turns = rng.normal(size=(n, 4))
        turns /= np.linalg.norm(turns, axis=1, keepdims=True)
        pi.CreateOrientationsAttr(Vt.QuathArray([Gf.Quath(float(q[3]), *map(float, q[:3])) for q in turns]))
        pi.CreateScalesAttr(Vt.Vec3fArray.FromNumpy(rng.uniform(0.5, 2, (n, 3)).astype(np.float32)))
        pi.CreateIdsAttr(list(range(n)))
        pi.CreateInvisibleIdsAttr([7, 9])
        wet = UsdGeom.PrimvarsAPI(pi).CreatePrimvar("wetness", Sdf.ValueTypeNames.FloatArray, "vertex")
        wet.Set(Vt.FloatArray.FromNumpy(rng.random(n).astype(np.float32)))
        known = np.array(
            pi.ComputeInstanceTransformsAtTime(
                0, 0, UsdGeom.PointInstancer.IncludeProtoXform, UsdGeom.PointInstancer.IgnoreMask
            )
        ).transpose(0, 2, 1)
        scene = s.read()
        self.assertEqual(len(scene.nodes.parts), n - 2)
        self.assertEqual(len(scene.meshes), 1, "both prototypes have the same geometry")
        top = scene.nodes.world[node(scene, "stones")]
        shown = np.delete(np.arange(n), [7, 9])
        got = scene.nodes.world[scene.nodes.parts]
        order = np.concatenate([shown[which[shown] == k] for k in range(2)])
        np.testing.assert_allclose(got, top @ known[order], atol=1e-6)
        self.assertTrue((scene.nodes.flags & SCATTER).any())
        self.assertEqual(travel(scene)["scattered copies"][:2], ("converted", n - 2))
        self.assertEqual(travel(scene)["wetness of single copies"][:2], ("behind", n))

    def test_uv_normals_and_colours_of_every_interpolation(self) -> None:
        s = Stage()
        mesh = UsdGeom.Mesh.Define(s.stage, "/two")
        mesh.CreatePointsAttr([(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (2, 0, 0), (2, 1, 0)])
        mesh.CreateFaceVertexCountsAttr([4, 4])
        mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 3, 1, 4, 5, 2])
        mesh.CreateSubdivisionSchemeAttr("none")
        api = UsdGeom.PrimvarsAPI(mesh)
        kinds = Sdf.ValueTypeNames
        uv = api.CreatePrimvar("st", kinds.TexCoord2fArray, "faceVarying")
        uv.Set([(0, 0), (1, 0), (1, 1), (0, 1)])
        uv.SetIndices(Vt.IntArray([0, 1, 2, 3, 0, 1, 2, 3]))
        api.CreatePrimvar("lightmap", kinds.TexCoord2fArray, "vertex").Set([(k / 10, 0.5) for k in range(6)])
        api.CreatePrimvar("face", kinds.TexCoord2fArray, "uniform").Set([(0.25, 0), (0.75, 0)])
        api.CreatePrimvar("all", kinds.TexCoord2fArray, "constant").Set([(0.5, 0.5)])
        api.CreatePrimvar("displayColor", kinds.Color3fArray, "uniform").Set([(1, 0, 0), (0, 1, 0)])
        mesh.CreateNormalsAttr([(0, 0, 1), (0, 0.6, 0.8)])
        mesh.SetNormalsInterpolation("uniform")
        m = s.read().meshes[0]
        self.assertEqual(len(m.uvs), 4)
        corner = m.indices.ravel()
        names = {n: k for k, n in enumerate(("st", "all", "face", "lightmap"))}
        first = m.uvs[names["st"]][corner]
        places = m.positions[corner]
        left = places[:, 0] <= 1
        # v runs downwards in the scene
        np.testing.assert_allclose(first[:6, 1], 1 - places[:6, 1])
        np.testing.assert_allclose(m.uvs[names["all"]], 0.5)
        self.assertEqual(set(m.uvs[names["face"]][:, 0].tolist()), {0.25, 0.75})
        by_point = {
            tuple(p): k / 10 for k, p in enumerate([(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (2, 0, 0), (2, 1, 0)])
        }
        np.testing.assert_allclose(
            m.uvs[names["lightmap"]][corner][:, 0], [by_point[tuple(p)] for p in places.tolist()], atol=1e-6
        )
        assert m.normals is not None
        np.testing.assert_allclose(m.normals[m.indices[:2].ravel()], np.tile((0, 0, 1), (6, 1)))
        np.testing.assert_allclose(m.normals[m.indices[2:].ravel()], np.tile((0, 0.6, 0.8), (6, 1)), atol=1e-6)
        self.assertEqual(set(map(tuple, m.colors[0][:, :3].tolist())), {(1, 0, 0), (0, 1, 0)})
        self.assertTrue(left.any())

    def test_left_handed_faces_are_turned_and_holes_are_left_out(self) -> None:
        s = Stage()
        s.quad("/right")
        turned = s.quad("/turned")
        turned.CreateOrientationAttr("leftHanded")
        turned.AddTranslateOp().Set((0, 0, 5))
        holed = UsdGeom.Mesh.Define(s.stage, "/holed")
        holed.CreatePointsAttr([*QUAD, (2, 0, 0), (2, 1, 0)])
        holed.CreateFaceVertexCountsAttr([4, 4])
        holed.CreateFaceVertexIndicesAttr([0, 1, 2, 3, 1, 4, 5, 2])
        holed.CreateSubdivisionSchemeAttr("none")
        holed.CreateHoleIndicesAttr([1])
        scene = s.read()

        def area(name: str) -> np.ndarray[Any, Any]:
            m = scene.meshes[scene.nodes.mesh[node(scene, name)]]
            p = m.positions[m.indices]
            return np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]).sum(axis=0) / 2

        np.testing.assert_allclose(area("right"), (0, 0, 1))
        np.testing.assert_allclose(area("turned"), (0, 0, -1))
        np.testing.assert_allclose(area("holed"), (0, 0, 1))

    def test_materials_textures_and_subsets(self) -> None:
        s = Stage()
        mesh = UsdGeom.Mesh.Define(s.stage, "/two")
        mesh.CreatePointsAttr([(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (2, 0, 0), (2, 1, 0)])
        mesh.CreateFaceVertexCountsAttr([4, 4])
        mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 3, 1, 4, 5, 2])
        mesh.CreateSubdivisionSchemeAttr("none")
        mesh.CreateDoubleSidedAttr(True)
        UsdGeom.PrimvarsAPI(mesh).CreatePrimvar("map2", Sdf.ValueTypeNames.TexCoord2fArray, "vertex").Set([(0, 0)] * 6)
        plain = s.material("/Looks/plain", roughness=0.75, metallic=0.5, opacity=0.25)
        board = s.material("/Looks/board")
        (Path(s.folder.name) / "images").mkdir()
        (Path(s.folder.name) / "images" / "board.png").write_bytes(PNG)
        (Path(s.folder.name) / "rough.png").write_bytes(PNG)
        s.texture(board, "diffuseColor", "images/board.png", "rgb", "map2", wrapS="mirror")
        s.texture(board, "roughness", "rough.png", "r", "map2")
        s.texture(board, "metallic", "gone.png", "r", "map2")
        UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(plain)
        subset = UsdGeom.Subset.CreateGeomSubset(mesh, "right", "face", Vt.IntArray([1]), "materialBind")
        UsdShade.MaterialBindingAPI.Apply(subset.GetPrim()).Bind(board)
        scene = s.read()
        m = scene.meshes[0]
        self.assertEqual([scene.materials[k].name for k in m.slots], ["plain", "board"])
        self.assertEqual(np.bincount(m.material).tolist(), [2, 2])
        first, second = (scene.materials[k] for k in m.slots)
        np.testing.assert_allclose(first.base_color, (0.5, 0.25, 0.125, 0.25), atol=1e-6)
        self.assertEqual((first.alpha_mode, first.double_sided), ("BLEND", True))
        self.assertAlmostEqual(first.roughness, 0.75)
        use = second.base_color_texture
        assert use is not None and second.metallic_roughness_texture is not None
        self.assertEqual(use.channel, 0)
        texture = scene.textures[use.texture]
        assert texture.sampler is not None
        self.assertEqual(texture.sampler.wrap_s, 33648)
        self.assertEqual(scene.images[texture.image].data, PNG)
        packed = scene.images[scene.textures[second.metallic_roughness_texture.texture].image]
        self.assertEqual(packed.mime, "image/png", "roughness and metallic were put into one image")
        self.assertIn("texture.missing", {n.code for n in scene.notes})

    def test_texture_transforms_place_pictures_as_usd_does(self) -> None:
        s = Stage()
        s.quad("/a")
        board = s.material("/Looks/board")
        reader = s.texture(board, "diffuseColor", "x.png", "rgb")
        turn = UsdShade.Shader.Define(s.stage, "/Looks/board/turn")
        turn.CreateIdAttr("UsdTransform2d")
        turn.CreateInput("in", Sdf.ValueTypeNames.Float2).ConnectToSource(reader.GetOutput("result"))
        turn.CreateInput("scale", Sdf.ValueTypeNames.Float2).Set(Gf.Vec2f(2, 3))
        turn.CreateInput("rotation", Sdf.ValueTypeNames.Float).Set(30.0)
        turn.CreateInput("translation", Sdf.ValueTypeNames.Float2).Set(Gf.Vec2f(0.1, 0.2))
        lookup = UsdShade.Shader(s.stage.GetPrimAtPath("/Looks/board/diffuseColor_map"))
        lookup.GetInput("st").ConnectToSource(turn.CreateOutput("result", Sdf.ValueTypeNames.Float2))
        UsdShade.MaterialBindingAPI.Apply(s.stage.GetPrimAtPath("/a")).Bind(board)
        use = s.read().materials[0].base_color_texture
        assert use is not None
        rng = np.random.default_rng(0)
        st = rng.random((20, 2))
        angle = np.radians(30)
        rotation = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])
        usd = (st * (2, 3)) @ rotation.T + (0.1, 0.2)
        # KHR_texture_transform: translation · rotation · scale, with its own sign of the angle
        khr = np.array([[np.cos(use.rotation), np.sin(use.rotation)], [-np.sin(use.rotation), np.cos(use.rotation)]])
        flipped = np.column_stack([st[:, 0], 1 - st[:, 1]])
        ours = (flipped * use.scale) @ khr.T + use.offset
        np.testing.assert_allclose(np.column_stack([ours[:, 0], 1 - ours[:, 1]]), usd, atol=1e-6)

    def test_visibility_purpose_and_what_stays_behind(self) -> None:
        s = Stage()
        UsdGeom.Xform.Define(s.stage, "/off").MakeInvisible()
        s.quad("/off/inner")
        proxy = s.quad("/proxy")
        proxy.CreatePurposeAttr("proxy")
        s.quad("/shown")
        points = UsdGeom.Points.Define(s.stage, "/cloud")
        points.CreatePointsAttr([(0, 0, 0)])
        scene = s.read()
        hidden = [n for n, f in zip(scene.nodes.names, scene.nodes.flags, strict=True) if f & HIDDEN]
        self.assertEqual(sorted(hidden), ["inner", "off", "proxy"])
        lines = travel(scene)
        self.assertEqual(lines["Points prims"][0], "behind")
        self.assertEqual(lines["switched-off parts"][:2], ("behind", 2))

    def test_lights_that_are_surfaces_keep_their_size(self) -> None:
        """In scene units along the light's own X and Y, with the scale above it; points and cones have none. The light that they
        give is that of the surface: half a metre under a panel it is not that of a point."""
        s = Stage(metres=0.01)
        room = UsdGeom.Xform.Define(s.stage, "/room")
        UsdGeom.XformCommonAPI(room).SetScale((2, 2, 2))
        UsdGeom.XformCommonAPI(room).SetTranslate((0, 50, 0))
        UsdGeom.XformCommonAPI(room).SetRotate((-90, 0, 0))
        panel = UsdLux.RectLight.Define(s.stage, "/room/panel")
        panel.CreateWidthAttr(60.0)
        panel.CreateHeightAttr(30.0)
        panel.CreateIntensityAttr(500.0)
        UsdLux.DiskLight.Define(s.stage, "/room/disk").CreateRadiusAttr(5.0)
        UsdLux.SphereLight.Define(s.stage, "/room/ball").CreateRadiusAttr(5.0)
        tube = UsdLux.CylinderLight.Define(s.stage, "/room/tube")
        tube.CreateLengthAttr(100.0)
        tube.CreateRadiusAttr(2.0)
        UsdLux.SphereLight.Define(s.stage, "/room/point").CreateTreatAsPointAttr(True)
        cone = UsdLux.ShapingAPI.Apply(UsdLux.SphereLight.Define(s.stage, "/room/cone").GetPrim())
        cone.CreateShapingConeAngleAttr(20.0)
        scene = s.read()
        lights = {x.name: x for x in scene.lights}
        for name, surface, size in (
            ("panel", "rectangle", (120, 60)), ("disk", "disk", (20, 20)), ("ball", "", (0, 0)),
            ("tube", "cylinder", (200, 8)), ("point", "", (0, 0)), ("cone", "", (0, 0)),
        ):  # fmt: skip
            with self.subTest(name):
                self.assertEqual(lights[name].surface, surface)
                np.testing.assert_allclose(lights[name].size, size, rtol=1e-6, atol=1e-9)
        self.assertAlmostEqual(lights["panel"].intensity, 500 * 1.2 * 0.6, places=4)
        alone = scene.but(
            nodes=replace(scene.nodes, light=np.where(np.array(scene.nodes.names) == "panel", scene.nodes.light, -1))
        )
        arrays = world_arrays(alone)
        light = traced(
            World(arrays), np.zeros((20_000, 3)) - arrays["centre"], np.tile((0.0, 1.0, 0.0), (20_000, 1)), 1
        ).light
        x, y = 0.6 / 0.5, 0.3 / 0.5
        corner = (x / np.hypot(1, x) * np.arctan(y / np.hypot(1, x)) + y / np.hypot(1, y) * np.arctan(x / np.hypot(1, y))) / (2 * np.pi)  # fmt: skip
        self.assertAlmostEqual(Mix().of(light)[:, 0].mean() / (np.pi * 500 * 4 * corner), 1.0, delta=0.01)

    def test_round_things_are_as_fine_as_they_are_seen(self) -> None:
        """Within 2 mm where they stand: an asset in metres in a stage of centimetres, and one in centimetres in metres,
        plain and as instances; the larger of two copies decides, since they share. Made again, 0.5 mm are as true."""

        def sags(scene: Scene) -> dict[str, float]:
            out = {}
            for i in scene.nodes.parts.tolist():
                mesh, world = scene.meshes[scene.nodes.mesh[i]], scene.nodes.world[i]
                flat = np.unique(np.round(mesh.positions[:, :2].astype(np.float64), 5), axis=0)
                ring = flat[np.linalg.norm(flat, axis=1) > 0.5 * np.abs(flat).max()]
                radius = (
                    np.linalg.norm(ring, axis=1).max() * np.linalg.norm(world[:3, 0]) * scene.convention.metres_per_unit
                )
                out[scene.nodes.paths[i]] = 1000 * radius * (1 - np.cos(np.pi / len(ring)))
            return out

        for metres, scales in ((0.01, (100.0,)), (1.0, (0.01,)), (1.0, (0.01, 0.02)), (1.0, (0.02, 0.01))):
            for instanced in (False, True):
                with self.subTest(metres=metres, scales=scales, instanced=instanced):
                    s = Stage(metres=metres)
                    s.stage.CreateClassPrim("/_post")
                    UsdGeom.Cylinder.Define(s.stage, "/_post/post").CreateRadiusAttr(0.5 / metres / scales[0])
                    for k, scale in enumerate(scales):
                        holder = UsdGeom.Xform.Define(s.stage, f"/quay/post_{k}")
                        holder.GetPrim().GetReferences().AddInternalReference("/_post")
                        holder.GetPrim().SetInstanceable(instanced)
                        UsdGeom.XformCommonAPI(holder).SetScale((scale,) * 3)
                    scene = s.read()
                    self.assertEqual(len(scene.meshes), 1)
                    worst = max(sags(scene).values())
                    self.assertTrue(1.2 < worst <= 2.0001, worst)
                    finer, _ = MakeShapes(tolerance_mm=0.5).apply(scene, StepContext())
                    worst = max(sags(finer).values())
                    self.assertTrue(0.3 < worst <= 0.5001, worst)
                    self.assertIs(
                        MakeShapes(tolerance_mm=0.5).apply(finer, StepContext())[0].meshes[0], finer.meshes[0]
                    )

    def test_a_lamp_and_a_ball_below_a_transform_that_is_none(self) -> None:
        s = Stage()
        for path in ("/a", "/a/b"):
            UsdGeom.Xform.Define(s.stage, path).AddTransformOp().Set(Gf.Matrix4d().SetScale(1e200))
        UsdGeom.Sphere.Define(s.stage, "/a/b/ball")
        for k, kind in enumerate((UsdLux.SphereLight, UsdLux.RectLight, UsdLux.DistantLight)):
            kind.Define(s.stage, f"/a/b/lamp_{k}")
        UsdGeom.Sphere.Define(s.stage, "/ball")
        scene = s.read()
        self.assertTrue(np.isfinite([(x.intensity, *x.size) for x in scene.lights]).all(), scene.lights)
        self.assertEqual(len({scene.nodes.mesh[i] for i in scene.nodes.parts.tolist()}), 1)
        self.assertIn("The transform is not finite", " ".join(n.text for n in scene.notes))

    def test_what_is_bound_or_coloured_above_holds_below_instances_too(self) -> None:
        """By its strength, and colours without a material are handed down; against what the library says of plain prims."""
        said: dict[str, tuple[float, ...]] = {}
        for instanced in (False, True):
            s = Stage()
            paint = [s.material(f"/Looks/m{k}", (0.1 * (k + 1), 0.5, 0.9)) for k in range(3)]
            s.stage.CreateClassPrim("/_seat")
            s.quad("/_seat/bare")
            UsdShade.MaterialBindingAPI.Apply(s.quad("/_seat/bound").GetPrim()).Bind(paint[0])
            UsdGeom.PrimvarsAPI(s.quad("/_seat/own")).CreatePrimvar("displayColor", Sdf.ValueTypeNames.Color3fArray).Set([(0.7, 0.1, 0.2)])  # fmt: skip
            strong, weak = UsdShade.Tokens.strongerThanDescendants, UsdShade.Tokens.weakerThanDescendants
            for k, (above, how, color) in enumerate((
                (None, "", None), (1, weak, None), (1, strong, None), (2, strong, None), (None, "", (0.2, 0.3, 0.4)),
                (None, "", (0.9, 0.3, 0.4)), (1, weak, (0.2, 0.3, 0.4)),
            )):  # fmt: skip
                row = UsdGeom.Xform.Define(s.stage, f"/hall/row_{k}")
                if color:
                    UsdGeom.PrimvarsAPI(row).CreatePrimvar("displayColor", Sdf.ValueTypeNames.Color3fArray).Set([color])
                seat = UsdGeom.Xform.Define(s.stage, f"/hall/row_{k}/seat").GetPrim()
                seat.GetReferences().AddInternalReference("/_seat")
                seat.SetInstanceable(instanced)
                if above:
                    UsdShade.MaterialBindingAPI.Apply(seat).Bind(paint[above], how)
            for prim in s.stage.Traverse() if not instanced else ():
                if prim.IsA(UsdGeom.Mesh):
                    bound, _ = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()
                    color = UsdGeom.PrimvarsAPI(prim).FindPrimvarWithInheritance("displayColor").Get()
                    shader = UsdShade.Shader(s.stage.GetPrimAtPath(f"{bound.GetPath()}/surface")) if bound else None
                    found = shader.GetInput("diffuseColor").Get() if shader else color[0] if color else ()
                    said[str(prim.GetPath())[1:]] = tuple(round(c, 4) for c in found)
            scene = s.read()
            got = {}
            for i in scene.nodes.parts.tolist():
                slot = int(scene.meshes[scene.nodes.mesh[i]].material[0])
                color = scene.materials[slot].base_color[:3] if slot >= 0 else ()
                got[scene.nodes.paths[i]] = tuple(round(float(c), 4) for c in color)
            with self.subTest(instanced=instanced):
                self.assertEqual(got, said)
                self.assertEqual((len(got), len(set(got.values()))), (21, 7))

    def test_lamps_below_instances_are_as_large_and_bright_as_their_scale_makes_them(self) -> None:
        """An asset in centimetres, referenced under scales into a stage in metres: as instances, scattered and plain."""
        found = []
        for instanced in (False, True):
            s = Stage()
            s.stage.CreateClassPrim("/_lamp")
            for kind, name, values in (
                (UsdLux.RectLight, "panel", {"width": 60.0, "height": 30.0}), (UsdLux.SphereLight, "ball", {"radius": 5.0}),
                (UsdLux.DiskLight, "fixed", {"radius": 5.0}), (UsdLux.CylinderLight, "tube", {"length": 90.0, "radius": 2.0}),
                (UsdLux.DistantLight, "sun", {}),
            ):  # fmt: skip
                lamp = kind.Define(s.stage, f"/_lamp/{name}").GetPrim()
                for key, number in {**values, "intensity": 500.0}.items():
                    lamp.GetAttribute(f"inputs:{key}").Set(number)
            s.stage.GetPrimAtPath("/_lamp/fixed").GetAttribute("inputs:normalize").Set(True)
            for k, scale in enumerate(((0.01, 0.01, 0.01), (0.02, 0.02, 0.02), (0.01, 0.02, 0.04), (0.02, 0.02, 0.02))):
                holder = UsdGeom.Xform.Define(s.stage, f"/room/lamp_{k}")
                holder.GetPrim().GetReferences().AddInternalReference("/_lamp")
                holder.GetPrim().SetInstanceable(instanced)
                UsdGeom.XformCommonAPI(holder).SetScale(scale)
            scene = s.read()
            shining = np.flatnonzero(scene.nodes.light >= 0).tolist()
            lights = {scene.nodes.paths[i]: scene.lights[scene.nodes.light[i]] for i in shining}
            found.append({path: (x.surface, *x.size, x.intensity) for path, x in lights.items()})
        plain, below = found
        self.assertEqual(plain.keys(), below.keys())
        for path, (surface, *numbers) in plain.items():
            self.assertEqual(surface, below[path][0], path)
            np.testing.assert_allclose(below[path][1:], numbers, rtol=1e-6, err_msg=path)
        self.assertAlmostEqual(below["room/lamp_1/panel"][3], 500 * 1.2 * 0.6, 4)
        self.assertAlmostEqual(below["room/lamp_2/tube"][3], 500 * 0.9 * 4 * np.sqrt(0.02 * 0.04), 4)
        self.assertEqual({below[f"room/lamp_{k}/{n}"][3] for k in range(4) for n in ("fixed", "sun")}, {500.0})

    def test_lights_that_are_surfaces_are_written_as_such(self) -> None:
        """Under uneven scales, brought to other units and axes, with the scales baked and without: a panel, an oval disk and
        a tube are as large and as bright as they were, as the library reads them; in formats without them they are points."""
        s = Stage(metres=0.01)
        room = UsdGeom.Xform.Define(s.stage, "/room")
        UsdGeom.XformCommonAPI(room).SetScale((2, 3, 5))
        UsdGeom.XformCommonAPI(room).SetTranslate((0, 50, 0))
        s.quad("/room/floor")
        for kind, name, values in (
            (UsdLux.RectLight, "panel", {"width": 60.0, "height": 30.0}), (UsdLux.DiskLight, "disk", {"radius": 5.0}),
            (UsdLux.CylinderLight, "tube", {"length": 100.0, "radius": 2.0}),
        ):  # fmt: skip
            lamp = kind.Define(s.stage, f"/room/{name}").GetPrim()
            for key, number in {**values, "intensity": 500.0}.items():
                lamp.GetAttribute(f"inputs:{key}").Set(number)
        s.quad("/room/disk/shade")
        scene = s.read()
        across = 4 * np.sqrt(15)
        sizes = {"panel": (1.2, 0.9), "disk": (0.2, 0.3), "tube": (2.0, across / 100)}
        candela = {"panel": 500 * 1.2 * 0.9, "disk": 500 * np.pi / 4 * 0.06, "tube": 500 * 2 * across / 100}
        for to, bake in ((to, bake) for to in BUILT_IN for bake in (True, False)):
            for kind in ("usda", "usdz", "glb"):
                with self.subTest(to=to.name, bake=bake, kind=kind), tempfile.TemporaryDirectory() as folder:
                    route = Route(steps=[{"kind": "match_units_axes", "bakeScale": bake}])
                    package, result = sent(scene, "lamps.usda", "0" * 64, to, route, kind)  # type: ignore[arg-type]
                    save(package.files, Path(folder))
                    report = prove(Path(folder), scene, result)[0]
                    self.assertTrue(report.ok, (report.problems, report.worst))
                    if kind == "glb":
                        self.assertRegex(
                            " ".join(package.manifest.remarks), r"surfaces travel as points and spots.*\(3\)"
                        )
                        continue
                    stage = Usd.Stage.Open(next(str(p) for p in Path(folder).rglob("*.usd*")))
                    metres = UsdGeom.GetStageMetersPerUnit(stage)
                    for prim in (p for p in stage.Traverse() if p.HasAPI(UsdLux.LightAPI)):
                        name = prim.GetName()
                        world = np.array(UsdGeom.Imageable(prim).ComputeLocalToWorldTransform(0))[:3, :3]
                        x, y, z = metres * np.linalg.norm(world, axis=1)
                        along, across, times = {
                            "panel": ("width", "height", (x, y)),
                            "disk": ("radius", "radius", (2 * x, 2 * y)),
                            "tube": ("length", "radius", (x, 2 * np.sqrt(y * z))),
                        }[name]
                        found = np.multiply([prim.GetAttribute(f"inputs:{a}").Get() for a in (along, across)], times)
                        np.testing.assert_allclose(found, sizes[name], rtol=1e-5)
                        self.assertAlmostEqual(prim.GetAttribute("inputs:intensity").Get() / candela[name], 1, places=5)
                        self.assertTrue(prim.GetAttribute("inputs:normalize").Get())
                        prim.GetAttribute(f"inputs:{along}").Set(0.5)
                    if kind == "usda":
                        stage.GetRootLayer().Save()
                        problems = " ".join(prove(Path(folder), scene, result)[0].problems)
                        for name in sizes:
                            self.assertRegex(problems, rf"{name}”: surface size is")

    def test_lights_and_cameras(self) -> None:
        s = Stage(metres=0.01)
        UsdLux.DistantLight.Define(s.stage, "/sun").CreateIntensityAttr(5.0)
        lamp = UsdLux.SphereLight.Define(s.stage, "/lamp")
        lamp.CreateRadiusAttr(10.0)
        lamp.CreateIntensityAttr(100.0)
        lamp.CreateExposureAttr(1.0)
        UsdLux.ShapingAPI.Apply(lamp.GetPrim()).CreateShapingConeAngleAttr(30.0)
        shaping = UsdLux.ShapingAPI.Apply(UsdLux.RectLight.Define(s.stage, "/panel").GetPrim())
        shaping.CreateShapingConeAngleAttr(60.0)
        shaping.CreateShapingConeSoftnessAttr(0.25)
        shaping.CreateShapingFocusAttr(2.0)
        shaping.CreateShapingIesFileAttr("lamp.ies")
        panel = UsdLux.RectLight.Get(s.stage, "/panel")
        panel.CreateWidthAttr(20.0)
        panel.CreateHeightAttr(50.0)
        panel.CreateTextureFileAttr("glow.exr")
        panel.CreateEnableColorTemperatureAttr(True)
        panel.CreateColorTemperatureAttr(3000.0)
        UsdGeom.XformCommonAPI(panel).SetScale((2, 3, 1))
        UsdLux.ShadowAPI.Apply(panel.GetPrim()).CreateShadowEnableAttr(False)
        UsdLux.LightAPI(panel.GetPrim()).GetLightLinkCollectionAPI().CreateIncludeRootAttr(False)
        UsdLux.DomeLight.Define(s.stage, "/sky")
        camera = UsdGeom.Camera.Define(s.stage, "/camera")
        camera.CreateFocalLengthAttr(50.0)
        camera.CreateVerticalApertureAttr(24.0)
        camera.CreateHorizontalApertureAttr(36.0)
        scene = s.read()
        kinds = {light.name: light for light in scene.lights}
        self.assertEqual((kinds["sun"].kind, kinds["sun"].intensity), ("directional", 5.0))
        self.assertEqual(kinds["lamp"].kind, "spot")
        self.assertAlmostEqual(kinds["lamp"].outer_cone, np.radians(30), places=6)
        self.assertAlmostEqual(kinds["lamp"].intensity, 100 * 2 * np.pi * 0.1**2, places=6)
        # a sharp edge, unless softness says how much of the cone fades (UsdLux, ShapingAPI)
        self.assertAlmostEqual(kinds["lamp"].inner_cone / kinds["lamp"].outer_cone, 1.0, places=2)
        self.assertAlmostEqual(kinds["panel"].inner_cone, np.radians(45), places=6)
        warm = UsdLux.BlackbodyTemperatureAsRgb(3000.0)
        np.testing.assert_allclose(
            np.array(kinds["panel"].color) * kinds["panel"].intensity, np.array(warm) * 0.2 * 0.5 * 6, rtol=1e-5
        )
        behind = {kind for kind, line in travel(scene).items() if line[0] == "behind"}
        self.assertLessEqual(
            {
                "IES profiles of lights",
                "focus of lights",
                "images that lights show",
                "lights without shadows",
                "links of lights",
            },
            behind,
        )
        self.assertAlmostEqual(scene.cameras[0].yfov, 2 * np.arctan(12 / 50), places=6)
        self.assertAlmostEqual(scene.cameras[0].aspect or 0, 1.5, places=6)
        self.assertEqual(travel(scene)["DomeLights"][0], "behind")

    def test_references_sublayers_and_variants_are_composed_as_authored(self) -> None:
        s = Stage()
        folder = Path(s.folder.name)
        (folder / "parts").mkdir()
        part = Usd.Stage.CreateNew(str(folder / "parts" / "gate.usda"))
        part.SetDefaultPrim(UsdGeom.Xform.Define(part, "/gate").GetPrim())
        variants = part.GetDefaultPrim().GetVariantSets().AddVariantSet("size")
        for name, width in (("narrow", 1.0), ("wide", 3.0)):
            variants.AddVariant(name)
            variants.SetVariantSelection(name)
            with variants.GetVariantEditContext():
                UsdGeom.Cube.Define(part, "/gate/body").CreateSizeAttr(width)
        part.GetRootLayer().Save()
        gate = s.stage.DefinePrim("/gate_1")
        gate.GetReferences().AddReference("parts/gate.usda")
        gate.GetVariantSet("size").SetVariantSelection("wide")
        scene = s.read()
        box = scene.part_bounds[0]
        np.testing.assert_allclose(box[1] - box[0], 3.0)
        self.assertEqual(travel(scene)["variants that are not selected"][:2], ("behind", 1))

    def test_a_hundred_thousand_copies_tell_progress_and_can_be_stopped(self) -> None:
        s = Stage()
        pi = UsdGeom.PointInstancer.Define(s.stage, "/stones")
        s.quad("/stones/p/stone")
        pi.CreatePrototypesRel().SetTargets(["/stones/p/stone"])
        n = 100_000
        pi.CreateProtoIndicesAttr(Vt.IntArray.FromNumpy(np.zeros(n, np.int32)))
        pi.CreatePositionsAttr(Vt.Vec3fArray.FromNumpy(np.zeros((n, 3), np.float32)))
        s.stage.GetRootLayer().Save()
        told: list[str] = []
        bundle = bundle_from_path(s.path)
        object.__setattr__(bundle, "tell", lambda what="", *_: told.append(what))
        scene = load(bundle)
        self.assertEqual((len(scene.nodes.parts), len(scene.meshes)), (n, 1))
        self.assertIn("reading prims", told)

        def stop(*_: object) -> None:
            raise Cancelled("stopped by the user")

        object.__setattr__(bundle, "tell", stop)
        with self.assertRaises(Cancelled):
            load(bundle)


class Shapes(unittest.TestCase):
    def test_primitives_have_the_volume_of_their_formula(self) -> None:
        s = Stage()
        UsdGeom.Cube.Define(s.stage, "/cube").CreateSizeAttr(2.0)
        UsdGeom.Sphere.Define(s.stage, "/sphere").CreateRadiusAttr(1.0)
        cylinder = UsdGeom.Cylinder.Define(s.stage, "/cylinder")
        cylinder.CreateRadiusAttr(0.5)
        cylinder.CreateHeightAttr(4.0)
        cylinder.CreateAxisAttr("X")
        cone = UsdGeom.Cone.Define(s.stage, "/cone")
        cone.CreateRadiusAttr(1.0)
        cone.CreateHeightAttr(3.0)
        capsule = UsdGeom.Capsule.Define(s.stage, "/capsule")
        capsule.CreateRadiusAttr(0.5)
        capsule.CreateHeightAttr(1.0)
        scene = s.read()
        known = {
            "cube": 8.0,
            "sphere": 4 / 3 * np.pi,
            "cylinder": np.pi,
            "cone": np.pi,
            "capsule": np.pi * 0.25 + np.pi / 6,
        }
        for name, volume in known.items():
            with self.subTest(name):
                m = scene.meshes[scene.nodes.mesh[node(scene, name)]]
                p = m.positions.astype(np.float64)[m.indices]
                got = np.einsum("ij,ij->i", p[:, 0], np.cross(p[:, 1], p[:, 2])).sum() / 6
                self.assertAlmostEqual(got / volume, 1.0, delta=0.01)
                self.assertLessEqual(got, volume * 1.0001, "chords lie inside")
                assert m.recipe is not None
                self.assertEqual(m.recipe.kind, "primitive")
        box = scene.part_bounds[[scene.nodes.names[i] for i in scene.nodes.parts].index("cylinder")]
        np.testing.assert_allclose(box[1] - box[0], (4, 1, 1), atol=1e-6)

    def test_curves_become_tubes_of_their_width_or_stay_behind_without(self) -> None:
        s = Stage()
        rope = UsdGeom.BasisCurves.Define(s.stage, "/rope")
        rope.CreateTypeAttr("linear")
        rope.CreatePointsAttr([(0, 0, 0), (10, 0, 0)])
        rope.CreateCurveVertexCountsAttr([2])
        rope.CreateWidthsAttr([0.2])
        rope.SetWidthsInterpolation("constant")
        ring = UsdGeom.BasisCurves.Define(s.stage, "/ring")
        ring.CreateTypeAttr("cubic")
        ring.CreateBasisAttr("catmullRom")
        ring.CreateWrapAttr("periodic")
        ring.CreatePointsAttr([(1, 0, 0), (0, 1, 0), (-1, 0, 0), (0, -1, 0)])
        ring.CreateCurveVertexCountsAttr([4])
        ring.CreateWidthsAttr([0.1] * 4)
        thin = UsdGeom.BasisCurves.Define(s.stage, "/thin")
        thin.CreatePointsAttr([(0, 0, 0), (1, 0, 0), (2, 0, 0), (3, 0, 0)])
        thin.CreateCurveVertexCountsAttr([4])
        scene = s.read()
        m = scene.meshes[scene.nodes.mesh[node(scene, "rope")]]
        np.testing.assert_allclose(m.bounds, [[0, -0.1, -0.1], [10, 0.1, 0.1]], atol=2e-3)
        p = m.positions.astype(np.float64)[m.indices]
        volume = np.einsum("ij,ij->i", p[:, 0], np.cross(p[:, 1], p[:, 2])).sum() / 6
        self.assertAlmostEqual(volume / (np.pi * 0.01 * 10), 1.0, delta=0.1)
        self.assertGreaterEqual(scene.nodes.mesh[node(scene, "ring")], 0)
        self.assertEqual(scene.nodes.mesh[node(scene, "thin")], -1)

    def test_stated_subdivision_is_refined_and_an_unstated_one_is_a_guess(self) -> None:
        s = Stage()
        for name, authored in (("stated", True), ("silent", False)):
            mesh = UsdGeom.Mesh.Define(s.stage, f"/{name}")
            mesh.CreatePointsAttr([(x, y, z) for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)])
            mesh.CreateFaceVertexCountsAttr([4] * 6)
            mesh.CreateFaceVertexIndicesAttr([0, 1, 3, 2, 4, 6, 7, 5, 0, 4, 5, 1, 2, 3, 7, 6, 0, 2, 6, 4, 1, 5, 7, 3])
            if authored:
                mesh.CreateSubdivisionSchemeAttr("catmullClark")
        scene = s.read()
        count = {n: scene.meshes[scene.nodes.mesh[node(scene, n)]].triangles for n in ("stated", "silent")}
        self.assertEqual(count, {"stated": 192, "silent": 12})
        self.assertIn("guess", {n.kind for n in scene.notes if n.code == "import.subdivision"})


class Writing(unittest.TestCase):
    def packages(self) -> Scene:
        s = Stage(metres=1.0)
        s.stage.CreateClassPrim("/protos")
        UsdGeom.Xform.Define(s.stage, "/protos/bay")
        mesh = s.quad("/protos/bay/pane")
        UsdGeom.PrimvarsAPI(mesh).CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, "vertex").Set(
            [(0, 0), (1, 0), (1, 1), (0, 1)]
        )
        glass = s.material("/Looks/glass", opacity=0.3)
        s.texture(glass, "diffuseColor", "pane.png", "rgb")
        (Path(s.folder.name) / "pane.png").write_bytes(PNG)
        for i in range(5):
            x = UsdGeom.Xform.Define(s.stage, f"/hall/bay_{i}")
            x.AddTranslateOp().Set((i, 0, 0))
            x.GetPrim().GetReferences().AddInternalReference("/protos/bay")
            x.GetPrim().SetInstanceable(True)
            UsdShade.MaterialBindingAPI.Apply(x.GetPrim()).Bind(glass)
        UsdLux.SphereLight.Define(s.stage, "/hall/lamp")
        UsdGeom.Camera.Define(s.stage, "/hall/eye")
        self.addCleanup(s.folder.cleanup)
        return s.read()

    def test_the_librarys_own_validators_find_nothing_and_instances_are_instances(self) -> None:
        scene = self.packages()
        validators = UsdValidation.ValidationRegistry().GetOrLoadAllValidators()
        self.assertGreater(len(validators), 10)
        for fmt in ("usda", "usdc", "usdz"):
            with self.subTest(fmt), tempfile.TemporaryDirectory() as folder:
                for name, data in write(scene, fmt, "scene").files.items():
                    path = Path(folder) / name
                    path.parent.mkdir(exist_ok=True)
                    path.write_bytes(data)
                stage = Usd.Stage.Open(str(Path(folder) / f"scene.{fmt}"))
                errors = UsdValidation.ValidationContext(validators).Validate(stage)
                self.assertEqual([(e.GetName(), e.GetMessage()) for e in errors], [])
                instances = [p for p in stage.Traverse() if p.IsInstance()]
                self.assertEqual(len(instances), 5)
                self.assertEqual(len(stage.GetPrototypes()), 1)

    def test_names_types_and_variability_are_those_of_the_schemas(self) -> None:
        """Nothing but the schemas knows them: a misspelt attribute is no fault of a layer, and nobody reads it."""
        free = ("primvars:", "xformOp:", "xformOpOrder", "subsetFamily:", "inputs:", "outputs:", "material:binding")
        seen: set[str] = set()
        gltf = everything().scene()
        own = convert(gltf, BUILT_IN[2].file_convention("usda"))
        packages = self.packages()
        for scene, lists in ((own, False), (own, True), (packages, False), (landing(), True)):
            with tempfile.TemporaryDirectory() as folder:
                for name, data in write(scene, "usda", "scene", lists).files.items():
                    path = Path(folder) / name
                    path.parent.mkdir(exist_ok=True)
                    path.write_bytes(data)
                stage = Usd.Stage.Open(str(Path(folder) / "scene.usda"))
                for prim in stage.TraverseAll():
                    schema = prim.GetPrimDefinition()
                    for attribute in prim.GetAuthoredAttributes():
                        name = attribute.GetName()
                        if (wanted := schema.GetAttributeDefinition(name)) and wanted.GetTypeName():
                            self.assertEqual(attribute.GetTypeName(), wanted.GetTypeName(), attribute.GetPath())
                            self.assertEqual(attribute.GetVariability(), wanted.GetVariability(), attribute.GetPath())
                            seen.add(name)
                        else:
                            self.assertTrue(name.startswith(free), attribute.GetPath())
        drawn = {"points", "extent", "normals", "doubleSided", "subdivisionScheme", "elementType", "familyName"}
        lit = {"inputs:intensity", "inputs:color", "treatAsPoint", "inputs:shaping:cone:angle", "clippingRange"}
        self.assertEqual((drawn | lit) - seen, set())

    def test_a_package_is_read_back_as_it_was_and_equal_scenes_give_equal_bytes(self) -> None:
        scene = self.packages()
        first, second = (write(scene, "usdz", "scene").files for _ in range(2))
        self.assertEqual(first, second)
        with zipfile.ZipFile(__import__("io").BytesIO(first["scene.usdz"])) as archive:
            for entry in archive.infolist():
                self.assertEqual(entry.compress_type, zipfile.ZIP_STORED)
            self.assertTrue(archive.namelist()[0].endswith(".usdc"))
        back = load(bundle_from_files(first))
        self.assertEqual(len(back.nodes.parts), len(scene.nodes.parts))
        self.assertEqual(len(back.meshes), 1)
        for a, b in zip(back.nodes.world[back.nodes.parts], scene.nodes.world[scene.nodes.parts], strict=True):
            np.testing.assert_allclose(a, b, atol=1e-9)
        self.assertEqual(back.images[0].data, PNG)


class Bounds(unittest.TestCase):
    """Nothing outside the bundle is reached, nothing broken costs more than itself."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.top = Path(folder.name)
        (self.top / "in").mkdir()
        secret = Usd.Stage.CreateNew(str(self.top / "secret.usda"))
        UsdGeom.Cube.Define(secret, "/secret")
        secret.SetDefaultPrim(secret.GetPrimAtPath("/secret"))
        secret.GetRootLayer().Save()
        (self.top / "secret.png").write_bytes(PNG)

    def read(self, text: str) -> Scene:
        path = self.top / "in" / "scene.usda"
        path.write_text("#usda 1.0\n" + text)
        return load(bundle_from_path(path))

    def test_references_and_sublayers_outside_are_cut_off_and_told(self) -> None:
        for how in ("../secret.usda", str(self.top / "secret.usda"), "http://localhost/secret.usda"):
            with self.subTest(how):
                scene = self.read(
                    f'(\n  subLayers = [@{how}@]\n)\ndef Xform "a" (\n  prepend references = @{how}@</secret>\n)\n{{\n}}\n'
                    'def Cube "mine"\n{\n}\n'
                )
                self.assertEqual([scene.nodes.names[i] for i in scene.nodes.parts], ["mine"])
                self.assertIn("import.unreachable", {n.code for n in scene.notes})

    def test_payloads_and_variants_are_bounded_too(self) -> None:
        scene = self.read(
            'def Xform "a" (\n  prepend payload = @../secret.usda@</secret>\n  variants = { string v = "x" }\n'
            '  prepend variantSets = "v"\n)\n{\n  variantSet "v" = {\n    "x" {\n'
            '      def "inner" (\n        prepend references = @../secret.usda@</secret>\n      )\n      {\n      }\n    }\n  }\n}\n'
            'def Cube "mine"\n{\n}\n'
        )
        self.assertEqual([scene.nodes.names[i] for i in scene.nodes.parts], ["mine"])

    def test_cycles_and_missing_layers_are_told_and_the_rest_loads(self) -> None:
        scene = self.read(
            'def Xform "a"\n{\n  def "b" (\n    prepend references = </a>\n  )\n  {\n  }\n}\n'
            'def "gone" (\n  prepend references = @not_there.usda@</x>\n)\n{\n}\ndef Cube "mine"\n{\n}\n'
        )
        self.assertIn("mine", scene.nodes.names)
        codes = {n.code for n in scene.notes}
        self.assertIn("import.cycle", codes)
        self.assertIn("import.layer-missing", codes)

    def test_pictures_outside_are_not_read(self) -> None:
        scene = self.read(
            'def Material "m"\n{\n  token outputs:surface.connect = </m/s.outputs:surface>\n'
            '  def Shader "s"\n  {\n    uniform token info:id = "UsdPreviewSurface"\n'
            "    color3f inputs:diffuseColor.connect = </m/t.outputs:rgb>\n    token outputs:surface\n  }\n"
            '  def Shader "t"\n  {\n    uniform token info:id = "UsdUVTexture"\n'
            "    asset inputs:file = @../secret.png@\n    float3 outputs:rgb\n  }\n}\n"
            'def Cube "c" (\n  prepend apiSchemas = ["MaterialBindingAPI"]\n)\n{\n  rel material:binding = </m>\n}\n'
        )
        self.assertTrue(all(i.data is None for i in scene.images))

    def test_broken_arrays_cost_their_prim(self) -> None:
        scene = self.read(
            'def Mesh "bad"\n{\n  point3f[] points = [(0,0,0), (1,0,0), (nan, inf, 0)]\n'
            "  int[] faceVertexCounts = [3, 3, 99]\n  int[] faceVertexIndices = [0, 1, 2, 0, 1, 7]\n"
            '  uniform token subdivisionScheme = "none"\n}\ndef Cube "mine"\n{\n}\n'
        )
        self.assertEqual([scene.nodes.names[i] for i in scene.nodes.parts], ["mine"])
        self.assertIn("import.face", {n.code for n in scene.notes})

    def test_text_and_binary_that_cannot_be_parsed_are_one_sentence(self) -> None:
        for name, data in (
            ("a.usda", b'#usda 1.0\ndef Xform "a" {{{'),
            ("a.usda", b"#usda 1.0\n" + bytes(range(256))),
            ("a.usdc", b"PXR-USDC" + b"\xff" * 200),
            ("a.usdc", b"PXR-USDC"),
        ):
            with self.subTest(name=name, data=data[:20]), self.assertRaises(UnusableInput) as caught:
                load(bundle_from_files({name: data}))
            self.assertNotIn("Traceback", caught.exception.sentence())

    def test_truncated_binary_layers(self) -> None:
        path = self.top / "whole.usdc"
        stage = Usd.Stage.CreateNew(str(path))
        for i in range(20):
            UsdGeom.Cube.Define(stage, f"/c{i}").CreateSizeAttr(float(i + 1))
        stage.GetRootLayer().Save()
        data = path.read_bytes()
        for cut in (len(data) // 4, len(data) // 2, len(data) - 3):
            with self.subTest(cut), self.assertRaises(UnusableInput):
                load(bundle_from_files({"a.usdc": data[:cut]}))

    def test_a_layer_that_another_names_is_no_model_of_its_own(self) -> None:
        files = {
            "main.usda": b'#usda 1.0\ndef "a" (\n  prepend references = @part.usda@</p>\n)\n{\n}\n',
            "part.usda": b'#usda 1.0\ndef Cube "p"\n{\n}\n',
        }
        bundles = bundles_from_files(files)
        self.assertEqual([b.main for b in bundles], ["main.usda"])
        self.assertEqual(len(load(bundles[0]).nodes.parts), 1)

    def test_packages_are_read_from_their_first_layer(self) -> None:
        s = Stage("root.usdc")
        UsdGeom.Cube.Define(s.stage, "/c")
        s.stage.SetDefaultPrim(s.stage.GetPrimAtPath("/c"))
        s.stage.GetRootLayer().Save()
        package = self.top / "p.usdz"
        self.assertTrue(UsdUtils.CreateNewUsdzPackage(str(s.path), str(package)))
        self.assertEqual(len(load(bundle_from_path(package)).nodes.parts), 1)


TEXT = st.text(st.characters(exclude_categories=("Cs",)), max_size=8)
JSON = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**63), 2**64 - 1) | st.floats(allow_nan=False, allow_infinity=False) | TEXT,
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(TEXT, inner, max_size=4),
    max_leaves=12,
)  # fmt: skip


class Data(unittest.TestCase):
    """What a source says of nodes is custom data of prims, whatever JSON it is."""

    @settings(max_examples=8, deadline=None, suppress_health_check=list(HealthCheck))
    @given(st.lists(JSON, min_size=10, max_size=10), st.sampled_from(["usda", "usdc"]))
    def test_it_comes_back_and_arrives(self, said: list[Any], kind: Any) -> None:
        scene = random_tree(3, nodes=10)
        scene = scene.but(nodes=replace(scene.nodes, extras={i: x for i, x in enumerate(said) if x is not None}))
        with tempfile.TemporaryDirectory() as folder:
            package, _ = sent(scene, "tree", "0" * 64, BUILT_IN[0], Route(steps=[]), kind)
            save(package.files, Path(folder))
            report, _ = prove(Path(folder), scene)
        self.assertTrue(report.ok, report.problems)
        back = load(bundle_from_files({f"scene.{kind}": package.files[f"scene.{kind}"]}))
        by_name = dict(zip(back.nodes.names, range(len(back.nodes)), strict=True))
        for i, value in enumerate(said):
            held = back.nodes.extras.get(by_name[f"node_{i}"], {})
            wanted = value if isinstance(value, dict) else {} if value is None else {"value": value}
            wanted = {key.replace("\0", "\ufffd"): one for key, one in wanted.items()}
            self.assertEqual(set(held), set(wanted))
            for key, one in wanted.items():
                self.assertTrue(held[key] == one or json.loads(held[key]) == one, (key, one, held[key]))

    def test_what_other_programs_say_of_prims_is_json_here(self) -> None:
        stage = Stage()
        prim = stage.quad("/a").GetPrim()
        for key, value in {
            "vector": Gf.Vec3d(1, 2, 3), "array": Vt.Vec2fArray([(1, 2), (3, 4)]), "texts": Vt.TokenArray(["a", "b"]),
            "file": Sdf.AssetPath("./a.png"), "deep:er": 1.5, "matrix": Gf.Matrix2d(1, 2, 3, 4), "half": Vt.Half(0.5), "long": Vt.FloatArray(200_000),
        }.items():  # fmt: skip
            prim.SetCustomDataByKey(key, value)
        stage.stage.GetRootLayer().Save()
        scene = load(bundle_from_path(stage.path))
        self.assertEqual(
            scene.nodes.extras[int(scene.nodes.parts[0])],
            {
                "vector": [1, 2, 3], "array": [[1, 2], [3, 4]], "texts": ["a", "b"], "file": "./a.png",
                "deep": {"er": 1.5}, "matrix": [[1, 2], [3, 4]], "half": 0.5,
                "long": "200000 values, more than data are kept of",
            },
        )  # fmt: skip


if __name__ == "__main__":
    unittest.main()
