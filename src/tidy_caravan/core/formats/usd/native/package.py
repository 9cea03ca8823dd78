"""A scene as an OpenUSD layer, instances as instances. Runs in a child process; returns the file's bytes.

Layout: one Xform, the default prim, holds the tree; meshes used more than once are abstract prims that
instanceable prims refer to; scatters that may stay whole become point instancers.
"""

from __future__ import annotations

import math
import os
import tempfile
import time
from typing import Any

import numpy as np
from pxr import Gf, Kind, Sdf, Tf, Usd, UsdGeom, UsdLux, UsdShade, Vt

from tidy_caravan.core.formats.shared.written import on_pages
from tidy_caravan.core.formats.usd.native.assemblies import assemblies, twins
from tidy_caravan.core.scene import HIDDEN, Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, I32, AnyArray
from tidy_caravan.core.space.transforms import split_trs

MARK = "tidyCaravan:onePart"
HOLDER = "tidyCaravan:holder"
"""On the default prim, which the format wants around everything and the scene has no node for."""
FIXED_TIME = 315_619_200
"""2 January 1980, in a package: the first day of its format, whatever the clock of the file system rounds to."""
WRAPS = {10497: "repeat", 33648: "mirror", 33071: "clamp"}


class Names:
    """Valid names that are unique among siblings; `fresh` is told when a name had to change."""

    def __init__(self) -> None:
        self.taken: dict[str, set[str]] = {}

    def under(self, parent: str, name: str) -> str:
        valid = base = Tf.MakeValidIdentifier(name.encode("ascii", "replace").decode()) if name else "unnamed"
        taken = self.taken.setdefault(parent, set())
        k = 1
        while valid in taken:
            k += 1
            valid = f"{base}_{k}"
        taken.add(valid)
        return f"{parent}/{valid}"


def build(
    scene: Scene, stem: str, ending: str, pictures: dict[int, str], batches: dict[int, tuple[int, Any, Any]], swallowed: Any,
    beside: dict[str, bytes], least: int,
) -> tuple[bytes, list[str], dict[int, int]]:  # fmt: skip
    """(bytes of the layer or the package, prim path of every node, and of nodes that are there by reference the node that
    was written in their place). pictures: relative path by image index.

    batches: scatter nodes that become point instancers: (mesh, matrices (K, 4, 4), places on a page
    of lightmaps (K, 5) or None); swallowed: (N,) their copies.
    beside: files that go into a package with the layer. least: parts from which on groups are written once, 0 for none.
    """
    with tempfile.TemporaryDirectory() as folder:
        layer = ".usdc" if ending == ".usdz" else ending
        path = os.path.join(folder, f"{stem}{layer}")
        stage = Usd.Stage.CreateNew(path)
        paths, stands_for = write(stage, scene, stem, pictures, batches, swallowed, least)
        stage.GetRootLayer().Save()
        del stage
        if ending == ".usdz":
            path = archived(folder, {f"{stem}{layer}": path}, beside)
        with open(path, "rb") as file:
            return file.read(), paths, stands_for


def archived(folder: str, files: dict[str, str], beside: dict[str, bytes]) -> str:
    """Path of a package of the files, the first of them its layer; the same files give the same bytes.

    The library writes the time of each file into it, as the clock on the wall has it.
    """
    os.environ["TZ"] = "UTC"
    time.tzset()
    for number, (name, data) in enumerate(beside.items()):
        files[name] = os.path.join(folder, f"beside{number}")
        with open(files[name], "wb") as file:
            file.write(data)
    out = os.path.join(folder, "package.usdz")
    writer = Sdf.ZipFileWriter.CreateNew(out)
    for name, path in files.items():
        os.utime(path, (FIXED_TIME, FIXED_TIME))
        writer.AddFile(path, name)
    writer.Save()
    return out


def write(
    stage: Any, scene: Scene, stem: str, pictures: dict[int, str], batches: dict[int, tuple[int, Any, Any]], swallowed: Any,
    least: int,
) -> tuple[list[str], dict[int, int]]:  # fmt: skip
    UsdGeom.SetStageMetersPerUnit(stage, float(scene.convention.metres_per_unit))
    UsdGeom.SetStageUpAxis(stage, "Z" if scene.convention.up == "Z" else "Y")
    names = Names()
    top = names.under("", stem)
    root = UsdGeom.Xform.Define(stage, top)
    Usd.ModelAPI(root).SetKind(Kind.Tokens.component)
    stage.SetDefaultPrim(root.GetPrim())
    root.GetPrim().SetCustomDataByKey(HOLDER, True)
    looks = write_looks(stage, scene, top, names, pictures)
    nodes = scene.nodes
    groups = assemblies(scene, least) if least else {}
    used = np.bincount(nodes.mesh[nodes.mesh >= 0], minlength=len(scene.meshes))
    prototypes: dict[int, str] = {}
    for i, mesh in enumerate(scene.meshes):
        if used[i] > 1 and mesh.triangles:
            path = abstract(stage, names, mesh.name or f"mesh_{i}")
            write_mesh(stage, f"{path}/mesh", mesh, scene, looks, path)
            prototypes[i] = path
    kept: dict[int, str] = {}
    for i in dict.fromkeys(groups.values()):
        kept[i] = abstract(stage, names, nodes.names[i] or "group")
    stands_for = twins(scene, groups)
    paths = [""] * len(nodes)
    parent = nodes.parent.tolist()
    for i in np.argsort(nodes.depth, kind="stable").tolist():
        if swallowed[i]:
            continue
        if i in stands_for:  # it is there by the reference of the group's node
            continue
        above = kept.get(parent[i], paths[parent[i]]) if parent[i] >= 0 else top
        path = names.under(above, nodes.names[i])
        paths[i] = path
        if i in batches:
            write_scatter(stage, path, scene, *batches[i], prototypes, looks)
            prim = stage.GetPrimAtPath(path)
        elif nodes.light[i] >= 0 and nodes.mesh[i] < 0 and nodes.camera[i] < 0:
            prim = write_light(stage, path, scene.lights[nodes.light[i]], scene.convention.metres_per_unit)
        elif nodes.camera[i] >= 0 and nodes.mesh[i] < 0:
            prim = write_camera(stage, path, scene.cameras[nodes.camera[i]])
        else:
            prim = UsdGeom.Xform.Define(stage, path).GetPrim()
        if prim.GetName() != nodes.names[i]:
            prim.SetDisplayName(nodes.names[i])
        place(UsdGeom.Xformable(prim), nodes.local[i])
        if nodes.flags[i] & HIDDEN:
            UsdGeom.Imageable(prim).MakeInvisible()
        m = int(nodes.mesh[i])
        if m >= 0 and scene.meshes[m].triangles:
            write_part(stage, prim, path, scene, m, prototypes, looks, names, bool(nodes.children_count[i]))
        if nodes.page[i, 3] > 0:
            write_places(prim, on_pages(nodes, np.array([i])), UsdGeom.Tokens.constant)
        if i in groups:
            prim.GetReferences().AddInternalReference(kept[groups[i]])
            prim.SetInstanceable(True)
    return paths, stands_for


def abstract(stage: Any, names: Names, name: str) -> str:
    """Path of a new abstract prim that others may refer to."""
    holder = "/Prototypes"
    if not stage.GetPrimAtPath(holder):
        names.under("", "Prototypes")
        stage.CreateClassPrim(holder)
    path = names.under(holder, name)
    stage.CreateClassPrim(path).SetTypeName("Xform")
    return path


def place(xform: Any, local: F64) -> None:
    if not np.array_equal(local, np.eye(4)):
        xform.MakeMatrixXform().Set(Gf.Matrix4d(*local.T.ravel().tolist()))


def write_part(
    stage: Any, prim: Any, path: str, scene: Scene, m: int, prototypes: dict[int, str], looks: dict[int, str],
    names: Names, has_children: bool,
) -> None:  # fmt: skip
    """The surface of a part: shared ones as instances; under a node with children in a prim of its own."""
    mesh = scene.meshes[m]
    prim.SetCustomDataByKey(MARK, True)
    if m not in prototypes:
        write_mesh(stage, f"{path}/mesh", mesh, scene, looks, "")
        names.taken.setdefault(path, set()).add("mesh")
        return
    holder = prim
    if has_children:
        names.taken.setdefault(path, set()).add("mesh")
        holder = UsdGeom.Xform.Define(stage, f"{path}/mesh").GetPrim()
    holder.GetReferences().AddInternalReference(prototypes[m])
    holder.SetInstanceable(True)


def write_mesh(stage: Any, path: str, mesh: Mesh, scene: Scene, looks: dict[int, str], prototype: str) -> None:
    """prototype: path of the abstract prim around it, inside which its materials have to be named as well."""
    out = UsdGeom.Mesh.Define(stage, path)
    out.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(mesh.positions, np.float32)))
    out.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(mesh.triangles, 3, np.int32)))
    order = sorted_by_slot(mesh)
    faces: I32 = mesh.indices[order].astype(np.int32)
    out.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(faces.ravel()))
    out.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    if scene.convention.handedness == "left":
        out.CreateOrientationAttr(UsdGeom.Tokens.rightHanded)
    box = mesh.bounds.astype(np.float32)
    out.CreateExtentAttr(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(box)))
    api = UsdGeom.PrimvarsAPI(out)
    if mesh.normals is not None:
        out.CreateNormalsAttr(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(mesh.normals, np.float32)))
        out.SetNormalsInterpolation(UsdGeom.Tokens.vertex)
    for k, uv in enumerate(mesh.uvs):
        flipped: AnyArray = np.ascontiguousarray(
            np.column_stack([uv[:, 0], 1.0 - uv[:, 1].astype(np.float64)]), np.float32
        )
        primvar = api.CreatePrimvar(set_name(k), Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.vertex)
        primvar.Set(Vt.Vec2fArray.FromNumpy(flipped))
    if mesh.colors:
        rgb: AnyArray = np.ascontiguousarray(mesh.colors[0][:, :3], np.float32)
        out.CreateDisplayColorPrimvar(UsdGeom.Tokens.vertex).Set(Vt.Vec3fArray.FromNumpy(rgb))
    slots = [s for s in mesh.slots if s >= 0]
    if any(scene.materials[s].double_sided for s in slots):
        out.CreateDoubleSidedAttr(True)
    bound = {s: looks[s] for s in slots}
    if prototype:
        for s in slots:
            local = f"{prototype}/Looks/{looks[s].rsplit('/', 1)[-1]}"
            stage.DefinePrim(f"{prototype}/Looks", "Scope")
            stage.DefinePrim(local, "Material").GetReferences().AddInternalReference(looks[s])
            bound[s] = local
    if len(mesh.slots) == 1 and slots:
        UsdShade.MaterialBindingAPI.Apply(out.GetPrim()).Bind(UsdShade.Material(stage.GetPrimAtPath(bound[slots[0]])))
    elif slots:
        begin = 0
        UsdShade.MaterialBindingAPI.Apply(out.GetPrim())
        for s in mesh.slots:
            count = int((mesh.material == s).sum())
            if s >= 0:
                indices: I32 = np.arange(begin, begin + count, dtype=np.int32)
                subset = UsdGeom.Subset.CreateGeomSubset(
                    out, f"slot_{s}", UsdGeom.Tokens.face, Vt.IntArray.FromNumpy(indices), UsdShade.Tokens.materialBind
                )
                UsdShade.MaterialBindingAPI.Apply(subset.GetPrim()).Bind(
                    UsdShade.Material(stage.GetPrimAtPath(bound[s]))
                )
            begin += count
        UsdShade.MaterialBindingAPI(out.GetPrim()).SetMaterialBindSubsetsFamilyType(UsdGeom.Tokens.nonOverlapping)


def sorted_by_slot(mesh: Mesh) -> AnyArray:
    """Faces in the order of the mesh's slots, each slot's in their own order."""
    rank = {s: k for k, s in enumerate(mesh.slots)}
    keys = np.array([rank[s] for s in mesh.slots])[np.argsort(mesh.slots)][
        np.searchsorted(np.sort(mesh.slots), mesh.material)
    ]
    out: AnyArray = np.argsort(keys, kind="stable")
    return out


def set_name(channel: int) -> str:
    """The first UV set bears the name that readers look for."""
    return "st" if channel == 0 else f"st{channel}"


def write_looks(stage: Any, scene: Scene, top: str, names: Names, pictures: dict[int, str]) -> dict[int, str]:
    out: dict[int, str] = {}
    if not scene.materials:
        return out
    holder = names.under(top, "Looks")
    UsdGeom.Scope.Define(stage, holder)
    for i, m in enumerate(scene.materials):
        path = names.under(holder, m.name or f"material_{i}")
        material = UsdShade.Material.Define(stage, path)
        if material.GetPrim().GetName() != m.name:
            material.GetPrim().SetDisplayName(m.name)
        shader = UsdShade.Shader.Define(stage, f"{path}/surface")
        shader.CreateIdAttr("UsdPreviewSurface")
        material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
        t = Sdf.ValueTypeNames
        red, green, blue, alpha = m.base_color
        strength = m.emissive_strength
        # a surface that only glows is the nearest that the format has to an unlit one
        glow = (red, green, blue) if m.unlit else tuple(e * strength for e in m.emissive)
        shader.CreateInput("diffuseColor", t.Color3f).Set(Gf.Vec3f(*((0, 0, 0) if m.unlit else (red, green, blue))))
        shader.CreateInput("metallic", t.Float).Set(float(m.metallic))
        shader.CreateInput("roughness", t.Float).Set(float(m.roughness))
        if m.alpha_mode != "OPAQUE":
            shader.CreateInput("opacity", t.Float).Set(float(alpha))
            if m.alpha_mode == "MASK":
                shader.CreateInput("opacityThreshold", t.Float).Set(float(m.alpha_cutoff))
        if any(glow):
            shader.CreateInput("emissiveColor", t.Color3f).Set(Gf.Vec3f(*glow))
        color_input = "emissiveColor" if m.unlit else "diffuseColor"
        shade = m.occlusion_texture.strength if m.occlusion_texture else 1.0
        bump = m.normal_texture.strength if m.normal_texture else 1.0
        # a picture takes the place of the number; the number goes on as what the picture is multiplied by
        uses = (
            ("diffuse", m.base_color_texture, ((color_input, "rgb", t.Color3f, t.Float3),)
             + ((("opacity", "a", t.Float, t.Float),) if m.alpha_mode != "OPAQUE" else ()), "sRGB",
             (red, green, blue, alpha), None),
            ("surfacing", m.metallic_roughness_texture,
             (("roughness", "g", t.Float, t.Float), ("metallic", "b", t.Float, t.Float)), "raw",
             (1.0, m.roughness, m.metallic, 1.0), None),
            ("normal", m.normal_texture, (("normal", "rgb", t.Normal3f, t.Float3),), "raw",
             (2 * bump, 2 * bump, 2.0, 1.0), (-bump, -bump, -1.0, 0.0)),
            ("occlusion", m.occlusion_texture, (("occlusion", "r", t.Float, t.Float),), "raw",
             (shade, shade, shade, 1.0), (1 - shade, 1 - shade, 1 - shade, 0.0)),
            ("glow", None if m.unlit or not any(glow) else m.emissive_texture,
             (("emissiveColor", "rgb", t.Color3f, t.Float3),), "sRGB", (*glow, 1.0), None),
        )  # fmt: skip
        for name, use, inputs, space, factor, bias in uses:
            image = scene.textures[use.texture].image if use else -1
            if use is None or image not in pictures:
                continue
            texture = write_texture(stage, f"{path}/{name}", scene, use, pictures[image], space)
            if factor != (1.0, 1.0, 1.0, 1.0):
                texture.CreateInput("scale", t.Float4).Set(Gf.Vec4f(*(float(f) for f in factor)))
            if bias is not None and any(bias):
                texture.CreateInput("bias", t.Float4).Set(Gf.Vec4f(*(float(b) for b in bias)))
            for target, channel, kind, from_kind in inputs:
                shader.CreateInput(target, kind).ConnectToSource(texture.CreateOutput(channel, from_kind))
        out[i] = path
    return out


def write_texture(stage: Any, path: str, scene: Scene, use: Any, picture: str, space: str) -> Any:
    t = Sdf.ValueTypeNames
    texture = UsdShade.Shader.Define(stage, path)
    texture.CreateIdAttr("UsdUVTexture")
    texture.CreateInput("file", t.Asset).Set(Sdf.AssetPath(picture))
    texture.CreateInput("sourceColorSpace", t.Token).Set(space)
    sampler = scene.textures[use.texture].sampler
    for key, code in (("wrapS", sampler.wrap_s if sampler else 10497), ("wrapT", sampler.wrap_t if sampler else 10497)):
        texture.CreateInput(key, t.Token).Set(WRAPS.get(code, "repeat"))
    reader = UsdShade.Shader.Define(stage, f"{path}_uv")
    reader.CreateIdAttr("UsdPrimvarReader_float2")
    channel = use.channel if use.transform_channel is None else use.transform_channel
    reader.CreateInput("varname", t.String).Set(set_name(channel))
    source = reader.CreateOutput("result", t.Float2)
    if use.offset != (0.0, 0.0) or use.rotation or use.scale != (1.0, 1.0):
        turn = UsdShade.Shader.Define(stage, f"{path}_transform")
        turn.CreateIdAttr("UsdTransform2d")
        turn.CreateInput("in", t.Float2).ConnectToSource(source)
        turn.CreateInput("scale", t.Float2).Set(Gf.Vec2f(*use.scale))
        turn.CreateInput("rotation", t.Float).Set(math.degrees(use.rotation))
        # the same flip as in reading, solved for the translation
        x = use.offset[0] + math.sin(use.rotation) * use.scale[1]
        y = 1.0 - math.cos(use.rotation) * use.scale[1] - use.offset[1]
        turn.CreateInput("translation", t.Float2).Set(Gf.Vec2f(x, y))
        source = turn.CreateOutput("result", t.Float2)
    texture.CreateInput("st", t.Float2).ConnectToSource(source)
    return texture


def write_scatter(
    stage: Any, path: str, scene: Scene, m: int, matrices: AnyArray, places: AnyArray | None, prototypes: dict[int, str],
    looks: dict[int, str],
) -> None:  # fmt: skip
    out = UsdGeom.PointInstancer.Define(stage, path)
    prototype = f"{path}/Prototypes/{(scene.meshes[m].name and Tf.MakeValidIdentifier(scene.meshes[m].name)) or 'mesh'}"
    holder = UsdGeom.Xform.Define(stage, prototype).GetPrim()
    if m in prototypes:
        holder.GetReferences().AddInternalReference(prototypes[m])
        holder.SetInstanceable(True)
    else:
        write_mesh(stage, f"{prototype}/mesh", scene.meshes[m], scene, looks, "")
    out.CreatePrototypesRel().SetTargets([prototype])
    translation, rotation, scale, _ = split_trs(np.asarray(matrices, np.float64))
    count = len(translation)
    out.CreateProtoIndicesAttr(Vt.IntArray.FromNumpy(np.zeros(count, np.int32)))
    out.CreatePositionsAttr(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(translation, np.float32)))
    out.CreateScalesAttr(Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(scale, np.float32)))
    out.CreateOrientationsfAttr(Vt.QuatfArray.FromNumpy(np.ascontiguousarray(rotation, np.float32)))
    if places is not None:
        write_places(out.GetPrim(), places, UsdGeom.Tokens.vertex)


def write_places(prim: Any, places: AnyArray, each: Any) -> None:
    """Where lightmaps lie on shared pages (K, 5), as primvars of a prim: one an instance, or one for all below it."""
    turned = np.asarray(places[:, :4], np.float32).copy()
    turned[:, 3] = 1 - places[:, 1] - places[:, 3]  # coordinates go upwards here
    api = UsdGeom.PrimvarsAPI(prim)
    column = api.CreatePrimvar("lightmapScaleOffset", Sdf.ValueTypeNames.Float4Array, each)
    column.Set(Vt.Vec4fArray.FromNumpy(np.ascontiguousarray(turned)))
    page = api.CreatePrimvar("lightmapPage", Sdf.ValueTypeNames.IntArray, each)
    page.Set(Vt.IntArray.FromNumpy(np.ascontiguousarray(places[:, 4], np.int32)))


def write_light(stage: Any, path: str, light: Any, metres: float) -> Any:
    """Points and spots as spheres of a centimetre whose area is normalized away; candela and lux as intensity."""
    if light.kind == "directional":
        out = UsdLux.DistantLight.Define(stage, path)
    else:
        out = UsdLux.SphereLight.Define(stage, path)
        out.CreateRadiusAttr(0.01 / metres)
        out.CreateNormalizeAttr(True)
        out.CreateTreatAsPointAttr(True)
        if light.kind == "spot":
            UsdLux.ShapingAPI.Apply(out.GetPrim()).CreateShapingConeAngleAttr(math.degrees(light.outer_cone))
    out.CreateIntensityAttr(float(light.intensity))
    out.CreateColorAttr(Gf.Vec3f(*light.color))
    return out.GetPrim()


def write_camera(stage: Any, path: str, camera: Any) -> Any:
    out = UsdGeom.Camera.Define(stage, path)
    far = camera.zfar if camera.zfar is not None and camera.zfar > camera.znear else camera.znear * 1e6
    out.CreateClippingRangeAttr(Gf.Vec2f(camera.znear, far))
    if camera.kind == "orthographic":
        out.CreateProjectionAttr(UsdGeom.Tokens.orthographic)
        out.CreateHorizontalApertureAttr(camera.xmag * 20)
        out.CreateVerticalApertureAttr(camera.ymag * 20)
    else:
        high = 24.0
        out.CreateVerticalApertureAttr(high)
        out.CreateHorizontalApertureAttr(high * (camera.aspect or 1.5))
        out.CreateFocalLengthAttr(high / 2 / math.tan(camera.yfov / 2))
    return out.GetPrim()
