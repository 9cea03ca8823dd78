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
from pxr import Gf, Sdf, Tf, Usd, UsdGeom, UsdShade, Vt

from tidy_caravan.core.formats.shared.written import on_pages
from tidy_caravan.core.formats.usd.native.assemblies import assemblies, twins
from tidy_caravan.core.formats.usd.native.data import as_custom
from tidy_caravan.core.formats.usd.native.prims import (
    T,
    apply_schema,
    define,
    instance,
    mark,
    place,
    point_to,
    put,
    vectors,
    whole,
)
from tidy_caravan.core.formats.usd.native.registry import use_all_processors
from tidy_caravan.core.pace import paced
from tidy_caravan.core.scene import HIDDEN, Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, AnyArray
from tidy_caravan.core.scene.held import parted_alike
from tidy_caravan.core.space.transforms import split_trs
from tidy_caravan.core.work.nursery import report

LOADS = ("tidy_caravan.core.formats.usd.native.registry",)
MARK = "tidyCaravan:onePart"
HOLDER = "tidyCaravan:holder"
"""On the default prim, which the format wants around everything and the scene has no node for."""
FIXED_TIME = 315_619_200
"""2 January 1980, in a package: the first day of its format, whatever the clock of the file system rounds to."""
BINDING = "MaterialBindingAPI"
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
) -> tuple[bytes, list[str], dict[int, int], int]:  # fmt: skip
    """(bytes of the layer or the package, prim path of every node, of nodes that are there by reference the node that
    was written in their place, and how many nodes have data that stand there as text). pictures: relative path by image index.

    batches: scatter nodes that become point instancers: (mesh, matrices (K, 4, 4), places on a page
    of lightmaps (K, 5) or None); swallowed: (N,) their copies.
    beside: files that go into a package with the layer. least: parts from which on groups are written once, 0 for none.
    """
    use_all_processors()
    with tempfile.TemporaryDirectory() as folder:
        layer = ".usdc" if ending == ".usdz" else ending
        path = os.path.join(folder, f"{stem}{layer}")
        out = Sdf.Layer.CreateNew(path)
        paths, stands_for, texts = write(out, scene, stem, pictures, batches, swallowed, least)
        out.Save()
        del out
        if ending == ".usdz":
            path = archived(folder, {f"{stem}{layer}": path}, beside)
        with open(path, "rb") as file:
            return file.read(), paths, stands_for, texts


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
    layer: Any, scene: Scene, stem: str, pictures: dict[int, str], batches: dict[int, tuple[int, Any, Any]], swallowed: Any,
    least: int,
) -> tuple[list[str], dict[int, int], int]:  # fmt: skip
    names = Names()
    top = names.under("", stem)
    root = define(layer, top, "Xform")
    root.kind = "component"
    mark(root, HOLDER)
    head = layer.pseudoRoot
    head.SetInfo("metersPerUnit", float(scene.convention.metres_per_unit))
    head.SetInfo("upAxis", "Z" if scene.convention.up == "Z" else "Y")
    layer.defaultPrim = root.name
    looks = write_looks(layer, scene, top, names, pictures)
    with Sdf.ChangeBlock():
        return write_tree(layer, scene, top, names, looks, batches, swallowed, least)


def write_tree(
    layer: Any, scene: Scene, top: str, names: Names, looks: dict[int, str], batches: dict[int, tuple[int, Any, Any]],
    swallowed: Any, least: int,
) -> tuple[list[str], dict[int, int], int]:  # fmt: skip
    """All but the materials; see `build`."""
    nodes = scene.nodes
    groups = assemblies(scene, least) if least else {}
    used = np.bincount(nodes.mesh[nodes.mesh >= 0], minlength=len(scene.meshes))
    shapes = write_shapes(layer, scene, names, used > 0)
    prototypes: dict[int, str] = {}
    for i, mesh in enumerate(paced(scene.meshes, report)):
        if used[i] > 1 and mesh.triangles:
            path = abstract(layer, names, mesh.name or f"mesh_{i}")
            write_mesh(layer, f"{path}/mesh", mesh, scene, looks, path, shapes.get(i, ""))
            prototypes[i] = path
    kept: dict[int, str] = {}
    for i in dict.fromkeys(groups.values()):
        kept[i] = abstract(layer, names, nodes.names[i] or "group")
    stands_for = twins(scene, groups)
    paths = [""] * len(nodes)
    back: dict[int, F64] = {}
    texts = 0
    parent, meshes = nodes.parent.tolist(), nodes.mesh.tolist()
    for i in paced(np.argsort(nodes.depth, kind="stable").tolist(), report):
        if swallowed[i]:
            continue
        if i in stands_for:  # it is there by the reference of the group's node
            continue
        above = kept.get(parent[i], paths[parent[i]]) if parent[i] >= 0 else top
        path = names.under(above, nodes.names[i])
        paths[i] = path
        m, local = meshes[i], nodes.local[i]
        if parent[i] in back:
            local = back[parent[i]] @ local
        if i in batches:
            prim = write_scatter(layer, path, scene, *batches[i], prototypes, looks, shapes)
        elif nodes.light[i] >= 0 and m < 0 and nodes.camera[i] < 0:
            light = scene.lights[nodes.light[i]]
            stretch = np.linalg.norm(nodes.world[i][:3, :3], axis=0)
            if light.surface and stretch.all():
                if light.surface == "disk":
                    # one that is an oval is stretched by its own prim, and what is below it is not
                    oval = np.diag([1, light.size[1] * stretch[0] / (light.size[0] * stretch[1]), 1, 1])
                    local, back[i] = local @ oval, np.linalg.inv(oval)
                prim = write_surface(layer, path, light, stretch)
            else:
                prim = write_light(layer, path, light, scene.convention.metres_per_unit)
        elif nodes.camera[i] >= 0 and m < 0:
            prim = write_camera(layer, path, scene.cameras[nodes.camera[i]])
        else:
            prim = define(layer, path, "Xform")
        if prim.name != nodes.names[i]:
            prim.SetInfo("displayName", nodes.names[i])
        place(prim, local)
        if i in nodes.extras:
            data, as_text = as_custom(nodes.extras[i])
            prim.SetInfo("customData", {**prim.customData, **data})
            texts += as_text
        if nodes.flags[i] & HIDDEN:
            put(prim, "visibility", T.Token, "invisible")
        if m >= 0 and scene.meshes[m].triangles:
            write_part(layer, prim, path, scene, m, prototypes, looks, names, bool(nodes.children_count[i]), shapes)
        if nodes.page[i, 3] > 0:
            write_places(prim, on_pages(nodes, np.array([i])), "constant")
        if i in groups:
            instance(prim, kept[groups[i]])
    return paths, stands_for, texts


def write_shapes(layer: Any, scene: Scene, names: Names, used: AnyArray) -> dict[int, str]:
    """Path of an abstract prim by mesh, for those that share all but their materials with another; used: (M,)."""
    there = [i for i, mesh in enumerate(scene.meshes) if used[i] and mesh.triangles]
    first = parted_alike([scene.meshes[i] for i in there])
    shared = np.bincount(first, minlength=len(there))[first] > 1
    out: dict[int, str] = {}
    for k in np.flatnonzero(shared).tolist():
        i, own = there[first[k]], there[k]
        if i == own:
            mesh = scene.meshes[i]
            out[i] = names.under(abstract_holder(layer, names), f"{mesh.name or f'mesh_{i}'}_shape")
            write_shape(layer, out[i], mesh, scene, Sdf.SpecifierClass)
        out[own] = out[i]
    return out


def abstract(layer: Any, names: Names, name: str) -> str:
    """Path of a new abstract prim that others may refer to."""
    path = names.under(abstract_holder(layer, names), name)
    define(layer, path, "Xform", Sdf.SpecifierClass)
    return path


def abstract_holder(layer: Any, names: Names) -> str:
    """Path of the prim below which abstract ones stand."""
    holder = "/Prototypes"
    if not layer.GetPrimAtPath(holder):
        names.under("", "Prototypes")
        define(layer, holder, "", Sdf.SpecifierClass)
    return holder


def write_part(
    layer: Any, prim: Any, path: str, scene: Scene, m: int, prototypes: dict[int, str], looks: dict[int, str],
    names: Names, has_children: bool, shapes: dict[int, str],
) -> None:  # fmt: skip
    """The surface of a part: shared ones as instances; under a node with children in a prim of its own."""
    mark(prim, MARK)
    if m not in prototypes:
        write_mesh(layer, f"{path}/mesh", scene.meshes[m], scene, looks, "", shapes.get(m, ""))
        names.taken.setdefault(path, set()).add("mesh")
        return
    holder = prim
    if has_children:
        names.taken.setdefault(path, set()).add("mesh")
        holder = define(layer, f"{path}/mesh", "Xform")
    instance(holder, prototypes[m])


def write_mesh(
    layer: Any, path: str, mesh: Mesh, scene: Scene, looks: dict[int, str], prototype: str, shape: str = ""
) -> None:
    """prototype: path of the abstract prim around it, inside which its materials have to be named as well. shape: path of what
    it shares with others that look otherwise, "" for nothing."""
    if shape:
        out = define(layer, path, "Mesh")
        out.referenceList.prependedItems = [Sdf.Reference(primPath=shape)]
    else:
        out = write_shape(layer, path, mesh, scene)
    dress(layer, out, path, mesh, scene, looks, prototype)


def write_shape(layer: Any, path: str, mesh: Mesh, scene: Scene, specifier: Any = Sdf.SpecifierDef) -> Any:
    """The prim of a mesh with all but its materials; what several of them draw as subsets `slot_k`."""
    out = define(layer, path, "Mesh", specifier)
    order = sorted_by_slot(mesh)
    put(out, "points", T.Point3fArray, vectors(mesh.positions))
    put(out, "faceVertexCounts", T.IntArray, whole(np.full(mesh.triangles, 3)))
    put(out, "faceVertexIndices", T.IntArray, whole(mesh.indices[order].ravel()))
    put(out, "subdivisionScheme", T.Token, "none", uniform=True)
    if scene.convention.handedness == "left":
        put(out, "orientation", T.Token, "rightHanded", uniform=True)
    put(out, "extent", T.Float3Array, vectors(mesh.bounds))
    if mesh.normals is not None:
        put(out, "normals", T.Normal3fArray, vectors(mesh.normals), interpolation="vertex")
    for k, uv in enumerate(mesh.uvs):
        flipped = np.column_stack([uv[:, 0], 1.0 - uv[:, 1].astype(np.float64)])
        array = Vt.Vec2fArray.FromNumpy(np.ascontiguousarray(flipped, np.float32))
        put(out, f"primvars:{set_name(k)}", T.TexCoord2fArray, array, interpolation="vertex")
    if mesh.colors:
        put(out, "primvars:displayColor", T.Color3fArray, vectors(mesh.colors[0][:, :3]), interpolation="vertex")
    if len(mesh.slots) > 1:
        begin = 0
        for k, s in enumerate(mesh.slots):
            count = int((mesh.material == s).sum())
            if s >= 0:
                subset = define(layer, f"{path}/slot_{k}", "GeomSubset")
                put(subset, "elementType", T.Token, "face", uniform=True)
                put(subset, "indices", T.IntArray, whole(np.arange(begin, begin + count)))
                put(subset, "familyName", T.Token, "materialBind", uniform=True)
            begin += count
        put(out, "subsetFamily:materialBind:familyType", T.Token, "nonOverlapping", uniform=True)
    return out


def dress(layer: Any, out: Any, path: str, mesh: Mesh, scene: Scene, looks: dict[int, str], prototype: str) -> None:
    """Binds the materials of a mesh to its prim or to the subsets below it; see `write_mesh`."""
    slots = [s for s in mesh.slots if s >= 0]
    if any(scene.materials[s].double_sided for s in slots):
        put(out, "doubleSided", T.Bool, True, uniform=True)
    bound = {s: looks[s] for s in slots}
    if prototype and slots:
        define(layer, f"{prototype}/Looks", "Scope")
        for s in slots:
            bound[s] = f"{prototype}/Looks/{looks[s].rsplit('/', 1)[-1]}"
            material = define(layer, bound[s], "Material")
            material.referenceList.prependedItems = [Sdf.Reference(primPath=looks[s])]
    if len(mesh.slots) == 1 and slots:
        bind(out, bound[slots[0]])
    elif slots:
        apply_schema(out, BINDING)
        for k, s in enumerate(mesh.slots):
            if s >= 0:
                below = f"{path}/slot_{k}"
                bind(layer.GetPrimAtPath(below) or define(layer, below, "", Sdf.SpecifierOver), bound[s])


def bind(prim: Any, material: str) -> None:
    apply_schema(prim, BINDING)
    point_to(prim, "material:binding", material)


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


def write_looks(layer: Any, scene: Scene, top: str, names: Names, pictures: dict[int, str]) -> dict[int, str]:
    """Materials, on a stage of the layer while it holds nothing else. (What one layer copies from another has its fields in the
    order of the names' addresses, which is not the same in every process.)"""
    out: dict[int, str] = {}
    if not scene.materials:
        return out
    holder = names.under(top, "Looks")
    stage = Usd.Stage.Open(layer)
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
    layer: Any, path: str, scene: Scene, m: int, matrices: AnyArray, places: AnyArray | None, prototypes: dict[int, str],
    looks: dict[int, str], shapes: dict[int, str],
) -> Any:  # fmt: skip
    out = define(layer, path, "PointInstancer")
    define(layer, f"{path}/Prototypes", "")
    prototype = f"{path}/Prototypes/{(scene.meshes[m].name and Tf.MakeValidIdentifier(scene.meshes[m].name)) or 'mesh'}"
    holder = define(layer, prototype, "Xform")
    if m in prototypes:
        instance(holder, prototypes[m])
    else:
        write_mesh(layer, f"{prototype}/mesh", scene.meshes[m], scene, looks, "", shapes.get(m, ""))
    point_to(out, "prototypes", prototype)
    translation, rotation, scale, _ = split_trs(np.asarray(matrices, np.float64))
    put(out, "protoIndices", T.IntArray, whole(np.zeros(len(translation))))
    put(out, "positions", T.Point3fArray, vectors(translation))
    put(out, "scales", T.Float3Array, vectors(scale))
    turns = Vt.QuatfArray.FromNumpy(np.ascontiguousarray(rotation, np.float32))
    put(out, "orientationsf", T.QuatfArray, turns)
    if places is not None:
        write_places(out, places, "vertex")
    return out


def write_places(prim: Any, places: AnyArray, each: str) -> None:
    """Where lightmaps lie on shared pages (K, 5), as primvars of a prim: one an instance, or one for all below it."""
    turned = np.asarray(places[:, :4], np.float32).copy()
    turned[:, 3] = 1 - places[:, 1] - places[:, 3]  # coordinates go upwards here
    array = Vt.Vec4fArray.FromNumpy(np.ascontiguousarray(turned))
    put(prim, "primvars:lightmapScaleOffset", T.Float4Array, array, interpolation=each)
    put(prim, "primvars:lightmapPage", T.IntArray, whole(places[:, 4]), interpolation=each)


SURFACES = {"rectangle": "RectLight", "disk": "DiskLight", "cylinder": "CylinderLight"}


def write_light(layer: Any, path: str, light: Any, metres: float) -> Any:
    """Points and spots as spheres of a centimetre whose area is normalized away; candela and lux as intensity."""
    out = define(layer, path, "DistantLight" if light.kind == "directional" else "SphereLight")
    put(out, "inputs:normalize", T.Bool, True)
    if light.kind != "directional":
        put(out, "inputs:radius", T.Float, 0.01 / metres)
        put(out, "treatAsPoint", T.Bool, True)
        if light.kind == "spot":
            apply_schema(out, "ShapingAPI")
            put(out, "inputs:shaping:cone:angle", T.Float, math.degrees(light.outer_cone))
            soft = 1 - light.inner_cone / light.outer_cone if light.outer_cone > 0 else 0.0
            put(out, "inputs:shaping:cone:softness", T.Float, min(max(soft, 0.0), 1.0))
    put(out, "inputs:intensity", T.Float, float(light.intensity))
    put(out, "inputs:color", T.Color3f, Gf.Vec3f(*light.color))
    return out


def write_surface(layer: Any, path: str, light: Any, stretch: F64) -> Any:
    """A lamp that is a surface, of its own size under the scales (3,) above it; candela where it shines brightest as the
    intensity of what has no area (UsdLux, “normalize”)."""
    out = define(layer, path, SURFACES[light.surface])
    put(out, "inputs:normalize", T.Bool, True)
    along, across = light.size[0] / stretch[0], light.size[1] / stretch[1]
    if light.surface == "rectangle":
        put(out, "inputs:width", T.Float, along)
        put(out, "inputs:height", T.Float, across)
    elif light.surface == "disk":
        put(out, "inputs:radius", T.Float, along / 2)
    else:
        put(out, "inputs:length", T.Float, along)
        put(out, "inputs:radius", T.Float, light.size[1] / 2 / math.sqrt(stretch[1] * stretch[2]))
    put(out, "inputs:intensity", T.Float, float(light.intensity))
    put(out, "inputs:color", T.Color3f, Gf.Vec3f(*light.color))
    return out


def write_camera(layer: Any, path: str, camera: Any) -> Any:
    out = define(layer, path, "Camera")
    far = camera.zfar if camera.zfar is not None and camera.zfar > camera.znear else camera.znear * 1e6
    put(out, "clippingRange", T.Float2, Gf.Vec2f(camera.znear, far))
    if camera.kind == "orthographic":
        put(out, "projection", T.Token, "orthographic")
        put(out, "horizontalAperture", T.Float, camera.xmag * 20)
        put(out, "verticalAperture", T.Float, camera.ymag * 20)
    else:
        high = 24.0
        put(out, "verticalAperture", T.Float, high)
        put(out, "horizontalAperture", T.Float, high * (camera.aspect or 1.5))
        put(out, "focalLength", T.Float, high / 2 / math.tan(camera.yfov / 2))
    return out
