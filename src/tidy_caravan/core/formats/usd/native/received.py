"""Reads an OpenUSD package as a receiver does, through usd-core; runs in a child process.

The default prim is the asset's root, its children the top of the tree.
"""

from __future__ import annotations

import io
import math
import zipfile
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import PIL.Image
from pxr import Usd, UsdGeom, UsdLux, UsdShade

from tidy_caravan.core.formats.shared.received import DOUBTS, LIGHTMAP_PLACES, ODD, Gallery, Tree
from tidy_caravan.core.formats.shared.receiving import OTHER_BOUNDS, bounded
from tidy_caravan.core.formats.usd.native.registry import use_all_processors
from tidy_caravan.core.pace import OFTEN
from tidy_caravan.core.scene import OPEN, SCATTER, Camera, Convention, Light, Material, Mesh, Sampler, Scene, TextureUse
from tidy_caravan.core.scene.arrays import F64, AnyArray
from tidy_caravan.core.work.nursery import report

LOADS = ("tidy_caravan.core.formats.usd.native.registry",)
PROXIES = Usd.TraverseInstanceProxies()
WRAPS = {"repeat": 10497, "mirror": 33648, "clamp": 33071}
CHANNELS = {
    "diffuseColor": "rgb", "emissiveColor": "rgb", "normal": "rgb", "occlusion": "r", "roughness": "g", "metallic": "b",
    "opacity": "a",
}  # fmt: skip
"""Where the images of a portable material hold what (glTF 2.0, 3.9); other places are as good a file and another look."""
EACH_VERTEX = (UsdGeom.Tokens.vertex, UsdGeom.Tokens.varying)
NOTED = ("tidyCaravan", "userDocBrief")
SILENT = ("Scope", "Material", "GeomSubset", "Shader")


def read(path: str, convention: Convention) -> Scene:
    """The scene in a package; world matrices are left to the scene. Raises RuntimeError when there is none."""
    use_all_processors()
    stage = Usd.Stage.Open(path)
    root = stage.GetDefaultPrim()
    if not root:
        raise RuntimeError("no default prim")
    return Reader(stage, Path(path)).scene(convention)


def lightmap_places(prim: Any) -> list[list[float]]:
    """Where lightmaps lie on shared pages, from their top left, and the numbers of those, as the prim or the nearest
    above it says that does."""
    api = UsdGeom.PrimvarsAPI(prim)
    given, page = (api.FindPrimvarWithInheritance(name) for name in ("lightmapScaleOffset", "lightmapPage"))
    if not (given and page and given.HasValue() and page.HasValue()):
        return []
    numbers = np.array(given.Get(), np.float64).reshape(-1, 4)
    numbers[:, 3] = 1 - numbers[:, 1] - numbers[:, 3]
    pages = np.array(page.Get(), np.float64)
    return np.column_stack([numbers, pages]).tolist() if len(pages) == len(numbers) else []


def said_of(prim: Any) -> dict[str, Any]:
    """Custom data of a prim, without what writers note about the prim itself."""
    if not prim.HasAuthoredCustomData():
        return {}
    return {k: as_json(v) for k, v in prim.GetCustomData().items() if k not in NOTED}


def as_json(value: Any) -> Any:
    if isinstance(value, dict):
        return {k: as_json(v) for k, v in value.items()}
    if isinstance(value, bool | int | float | str):
        return value
    try:
        return list(value)
    except TypeError:  # of a kind that no package of ours has
        return str(value)


class Reader:
    def __init__(self, stage: Any, file: Path) -> None:
        self.stage, self.file = stage, file
        self.tree, self.gallery = Tree(), Gallery()
        self.materials: list[Material] = []
        self.number: dict[str, int] = {}
        self.scatters: set[int] = set()
        self.odd: dict[int, list[str]] = {}
        self.oddities: dict[str, list[str]] = {}
        self.doubts: list[str] = []
        self.places: dict[int, list[float]] = {}

    def scene(self, convention: Convention) -> Scene:
        for child in self.stage.GetDefaultPrim().GetFilteredChildren(PROXIES):
            self.walk(child, -1)
        declared = {
            "metresPerUnit": UsdGeom.GetStageMetersPerUnit(self.stage),
            "up": str(UsdGeom.GetStageUpAxis(self.stage)),
        }
        extras = {"declared": declared, ODD: self.odd, DOUBTS: self.doubts, LIGHTMAP_PLACES: self.places}
        out = self.tree.scene(convention, self.materials, self.gallery, extras=extras)
        flags = out.nodes.flags.copy()
        flags[list(self.scatters)] |= SCATTER
        return out.but(nodes=replace(out.nodes, flags=flags))

    def walk(self, prim: Any, above: int) -> None:
        kind = str(prim.GetTypeName())
        if kind in SILENT or not prim.IsA(UsdGeom.Imageable):
            return
        tree = self.tree
        here = tree.add(name_of(prim), above, local_of(prim))
        if here % OFTEN == 0:
            report(here, 0)
        if said := said_of(prim):
            tree.said[here] = said
        if UsdGeom.Imageable(prim).GetVisibilityAttr().Get() == UsdGeom.Tokens.invisible:
            tree.hidden.add(here)
        if kind == "PointInstancer":
            self.scatter(prim, here)
            return
        if kind == "Mesh":
            self.draw(prim, here)
        elif prim.HasAPI(UsdLux.LightAPI):
            tree.lights[here] = light_of(prim)
            self.doubts += [f"light “{name_of(prim)}” {sentence}" for sentence in odd_light(prim)]
        elif kind == "Camera":
            tree.cameras[here] = camera_of(prim)
        for child in prim.GetFilteredChildren(PROXIES):
            self.walk(child, here)

    def draw(self, prim: Any, here: int) -> None:
        shared = prim.GetPrimInPrototype() if prim.IsInstanceProxy() else prim
        key = str(shared.GetPath())
        if key not in self.oddities:  # what a prototype is, all its copies are
            self.oddities[key] = oddities(prim)
        self.tree.mesh[here] = self.tree.shared(key, lambda: self.mesh_from(prim))
        if places := lightmap_places(prim):
            self.places[here] = places[0]
        if self.oddities[key]:
            self.odd[here] = [*self.odd.get(here, []), *self.oddities[key]]

    def scatter(self, prim: Any, here: int) -> None:
        instancer = UsdGeom.PointInstancer(prim)
        meshes = []
        for target in instancer.GetPrototypesRel().GetTargets():
            proto = self.stage.GetPrimAtPath(target)
            own = surface_below(proto)
            if own is None:
                meshes.append(-1)
                continue
            shared = own.GetPrimInPrototype() if own.IsInstanceProxy() else own
            meshes.append(self.tree.shared(str(shared.GetPath()), lambda own=own: self.mesh_from(own)))  # type: ignore[misc]
        kinds = list(instancer.GetProtoIndicesAttr().Get())
        moves = np.array(
            instancer.ComputeInstanceTransformsAtTime(0, 0, UsdGeom.PointInstancer.ExcludeProtoXform)
        ).reshape(-1, 4, 4)
        self.scatters.add(here)
        places = dict(enumerate(lightmap_places(prim)))
        for k, (kind, move) in enumerate(zip(kinds, moves.transpose(0, 2, 1), strict=True)):
            row = self.tree.add("", here, move)
            self.tree.mesh[row] = meshes[kind]
            if k in places:
                self.places[row] = places[k]

    def mesh_from(self, prim: Any) -> Mesh:
        mesh = UsdGeom.Mesh(prim)
        points: AnyArray = np.array(mesh.GetPointsAttr().Get(), np.float32).reshape(-1, 3)
        counts = np.array(mesh.GetFaceVertexCountsAttr().Get(), np.int64)
        corners = np.array(mesh.GetFaceVertexIndicesAttr().Get(), np.int64)
        if (counts != 3).any():
            raise RuntimeError("faces that are no triangles")
        faces: AnyArray = corners.reshape(-1, 3).astype(np.uint32)
        if mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded:
            faces = faces[:, ::-1]
        slots: AnyArray = np.full(len(faces), -1, np.int32)
        slots[:] = self.slot(prim)
        for subset in UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets():
            if subset.GetElementTypeAttr().Get() == UsdGeom.Tokens.face:
                slots[np.array(subset.GetIndicesAttr().Get(), np.int64)] = self.slot(subset.GetPrim())
        uvs = []
        api = UsdGeom.PrimvarsAPI(prim)
        for name in ("st", *(f"st{k}" for k in range(1, 8))):
            primvar = api.GetPrimvar(name)
            if not primvar or not primvar.HasValue() or primvar.GetInterpolation() not in EACH_VERTEX:
                break  # those after it cannot be told apart from it
            uv: AnyArray = np.array(primvar.ComputeFlattened() or (), np.float32).reshape(-1, 2)
            uvs.append(np.column_stack([uv[:, 0], 1.0 - uv[:, 1].astype(np.float64)]).astype(np.float32))
        shown = mesh.GetDisplayColorPrimvar()
        each = bool(shown) and shown.HasValue() and shown.GetInterpolation() in EACH_VERTEX
        colors = np.array(shown.ComputeFlattened() or (), np.float32).reshape(-1, 3) if each else None
        colors = colors if colors is not None and len(colors) == len(points) else None
        normals = mesh.GetNormalsAttr().Get() if mesh.GetNormalsInterpolation() in EACH_VERTEX else None
        return Mesh(
            points,
            faces,
            slots,
            np.array(normals, np.float32).reshape(-1, 3) if normals else None,
            uvs=tuple(u for u in uvs if len(u) == len(points)),
            colors=() if colors is None else (colors,),
            name=prim.GetName(),
            extras={"twoSided": bool(mesh.GetDoubleSidedAttr().Get())},
        )

    def slot(self, owner: Any) -> int:
        bound, binding = UsdShade.MaterialBindingAPI(owner).ComputeBoundMaterial()
        if not bound or not bound.GetPrim().IsA(UsdShade.Material) or not bound.GetPrim().IsDefined():
            return -1
        prim = bound.GetPrim()
        if binding and not binding.GetPrim().HasAPI(UsdShade.MaterialBindingAPI):
            self.doubt(f"“{binding.GetPrim().GetPath()}” is bound to a material without the schema for it")
        key = f"{name_of(prim)}\0{defined_at(prim)}"
        if key not in self.number:
            self.number[key] = len(self.materials)
            self.materials.append(self.look_of(bound, name_of(prim)))
        return self.number[key]

    def doubt(self, sentence: str) -> None:
        told = f"{sentence}: receivers may pass over it"
        if told not in self.doubts:
            self.doubts.append(told)

    def look_of(self, material: Any, name: str) -> Material:
        """The preview surface of a material; none of it counts where that is not what it says it is."""
        source = material.ComputeSurfaceSource("")
        shader = source[0] if isinstance(source, tuple) else source
        if not is_shader(shader, "UsdPreviewSurface"):
            self.doubt(f"material “{name}” has no preview surface")
            shader = None

        def number(key: str, default: Any) -> Any:
            found = shader.GetInput(key) if shader else None
            value = found.Get() if found else None
            return default if value is None else value

        base, base_scale = self.picture(shader, "diffuseColor", name)
        glow, glow_scale = self.picture(shader, "emissiveColor", name)
        surfacing, surf_scale = self.picture(shader, "roughness", name)
        metal, metal_scale = self.picture(shader, "metallic", name)
        bump, bump_scale = self.picture(shader, "normal", name)
        shade, shade_scale = self.picture(shader, "occlusion", name)
        opacity, opacity_scale = self.picture(shader, "opacity", name)
        if (metal is None) != (surfacing is None):
            self.doubt(f"material “{name}” reads one of metallic and roughness from an image, and not the other")
        elif metal is not None and surfacing is not None:
            both = [self.gallery.images[self.gallery.textures[use.texture].image].data for use in (metal, surfacing)]
            if both[0] != both[1] or metal_scale != surf_scale:
                self.doubt(
                    f"material “{name}” reads metallic and roughness from different images or by different factors"
                )
        threshold = float(number("opacityThreshold", 0.0))
        clear = opacity is not None or (shader and bool(shader.GetInput("opacity")))
        red, green, blue = base_scale[:3] if base else number("diffuseColor", (0.18, 0.18, 0.18))
        alpha = opacity_scale[3] if opacity else float(number("opacity", 1.0))
        light = glow_scale[:3] if glow else tuple(number("emissiveColor", (0.0, 0.0, 0.0)))
        return Material(
            name,
            (float(red), float(green), float(blue), float(alpha)),
            float(surf_scale[2] if surfacing else number("metallic", 0.0)),
            float(surf_scale[1] if surfacing else number("roughness", 0.5)),
            (float(light[0]), float(light[1]), float(light[2])),
            1.0,
            base,
            surfacing,
            with_strength(bump, bump_scale[0] / 2),
            with_strength(shade, shade_scale[0]),
            glow,
            ("MASK" if threshold > 0 else "BLEND") if clear else "OPAQUE",
            threshold,
        )

    def picture(self, shader: Any, key: str, name: str) -> tuple[TextureUse | None, tuple[float, ...]]:
        """The texture that an input is read from, and what its values are multiplied by."""
        one = (1.0, 1.0, 1.0, 1.0)
        given = shader.GetInput(key) if shader else None
        texture, output = connected(given)
        if not is_shader(texture, "UsdUVTexture"):
            if given and given.GetAttr().HasAuthoredConnections():
                self.doubt(f"{key} of material “{name}” is read from no texture")
            return None, one
        if not texture.GetOutput(output):
            self.doubt(f"{key} of material “{name}” is read from “{output}” of a texture that gives none")
        if output != CHANNELS[key]:
            self.doubt(
                f"{key} of material “{name}” is read from “{output}” of an image that holds it in “{CHANNELS[key]}”"
            )
        asset = value_of(texture, "file", None)
        scale, bias = (
            tuple(float(v) for v in value_of(texture, k, d)) for k, d in (("scale", one), ("bias", (0,) * 4))
        )
        data = self.bytes_of(asset.path if asset else "")
        self.check_values(texture, key, name, data, scale, bias)
        wraps = [WRAPS.get(str(value_of(texture, k, "")), 0) for k in ("wrapS", "wrapT")]
        offset, rotation, size, channel = self.placing(texture)
        number = self.gallery.add(data, Sampler(wrap_s=wraps[0], wrap_t=wraps[1]))
        return TextureUse(number, channel, offset, rotation, size), scale

    def check_values(
        self, texture: Any, key: str, name: str, data: bytes | None, scale: tuple[float, ...], bias: tuple[float, ...]
    ) -> None:
        """Whether the numbers of an image are taken for what the input asks for: colours coded as sRGB, all else as it is."""
        space = str(value_of(texture, "sourceColorSpace", "auto"))
        if space not in ("raw", "sRGB", "auto"):
            self.doubt(f"the texture for {key} of material “{name}” is in a colour space “{space}”, which there is not")
        if space not in ("raw", "sRGB"):
            space = "sRGB" if bands(data) >= 3 else "raw"  # the rule of the preview surface for eight bits a channel
        wanted = "sRGB" if key in ("diffuseColor", "emissiveColor", "opacity") else "raw"
        if space != wanted and not (key == "opacity" and bands(data) == 4):  # opacity itself is never coded
            self.doubt(f"the texture for {key} of material “{name}” is read as {space}, and holds {wanted} values")
        moved = {"normal": (-scale[0] / 2, -scale[1] / 2, -scale[2] / 2), "occlusion": (1 - scale[0],)}.get(
            key, (0, 0, 0)
        )
        if any(abs(a - b) > 1e-5 for a, b in zip(moved, bias, strict=False)):
            self.doubt(
                f"the texture for {key} of material “{name}” is moved by {bias[0]:.4g} instead of {moved[0]:.4g}"
            )

    @staticmethod
    def placing(texture: Any) -> tuple[tuple[float, float], float, tuple[float, float], int]:
        """Offset, rotation, scale as with v downwards, and the UV set, -1 when none is read."""
        offset, rotation, size = (0.0, 0.0), 0.0, (1.0, 1.0)
        shader, _ = connected(texture.GetInput("st"))
        if is_shader(shader, "UsdTransform2d"):
            x, y = value_of(shader, "translation", (0.0, 0.0))
            rotation = math.radians(value_of(shader, "rotation", 0.0))
            width, height = value_of(shader, "scale", (1.0, 1.0))
            size = (float(width), float(height))
            offset = (x - math.sin(rotation) * height, 1.0 - y - math.cos(rotation) * height)
            shader, _ = connected(shader.GetInput("in"))
        if not is_shader(shader, "UsdPrimvarReader_float2"):
            return offset, rotation, size, -1
        name = str(value_of(shader, "varname", ""))
        number = name.removeprefix("st")
        return offset, rotation, size, 0 if name == "st" else int(number) if number.isdigit() else -1

    def bytes_of(self, path: str) -> bytes | None:
        """A picture of the package: inside the archive, or beside the layer; None when it is not there."""
        if self.file.suffix == ".usdz":
            with zipfile.ZipFile(self.file) as archive:
                return archive.read(path) if path in archive.namelist() else None
        target = (self.file.parent / path).resolve()
        there = target.is_relative_to(self.file.parent.resolve()) and target.is_file()
        return target.read_bytes() if there else None


def defined_at(prim: Any) -> str:
    """Where all that is said of a prim is said: inside an instance a material is found at a path of its own for each
    prototype, which does nothing but refer to the one that all share."""
    *above, last = prim.GetPrimStack()
    plain = not any(spec.properties or spec.nameChildren for spec in above)
    return str(last.path if plain else prim.GetPath())


def is_shader(shader: Any, kind: str) -> bool:
    """Whether it is there and of that kind; a prim without a type or a definition is nothing that receivers draw with."""
    if not shader or not shader.GetPrim().IsDefined() or not shader.GetPrim().IsA(UsdShade.Shader):
        return False
    return str(shader.GetIdAttr().Get()) == kind


def connected(given: Any) -> tuple[Any, str]:
    """The shader that an input is connected to, None for none, and which of its outputs."""
    found = given.GetConnectedSource() if given else None
    return (UsdShade.Shader(found[0].GetPrim()), str(found[1])) if found else (None, "")


def value_of(shader: Any, key: str, default: Any) -> Any:
    found = shader.GetInput(key)
    value = found.Get() if found else None
    return default if value is None else value


def bands(data: bytes | None) -> int:
    """Channels of an image, 0 for what is none."""
    try:
        with PIL.Image.open(io.BytesIO(data or b"")) as image:
            return (
                4
                if image.mode == "P" and "transparency" in image.info
                else 3
                if image.mode == "P"
                else len(image.getbands())
            )
    except (OSError, ValueError, SyntaxError, PIL.Image.DecompressionBombError):
        return 0


def with_strength(use: TextureUse | None, strength: float) -> TextureUse | None:
    return None if use is None else replace(use, strength=float(strength))


def name_of(prim: Any) -> str:
    return str(prim.GetDisplayName() or prim.GetName())


def local_of(prim: Any) -> F64:
    """(4, 4) of a prim, column vectors."""
    out: F64 = np.array(UsdGeom.Xformable(prim).GetLocalTransformation()).reshape(4, 4).T
    return out


def surface_below(prim: Any) -> Any | None:
    """The first mesh at or below a prim."""
    return next((p for p in Usd.PrimRange(prim, PROXIES) if p.IsA(UsdGeom.Mesh)), None)


def oddities(prim: Any) -> list[str]:
    """What makes a mesh another than its triangles say."""
    scheme = str(UsdGeom.Mesh(prim).GetSubdivisionSchemeAttr().Get())
    out = [f"is a subdivision surface ({scheme})"] if scheme != "none" else []
    return out if bounded_mesh(prim) else [*out, OTHER_BOUNDS]


def bounded_mesh(prim: Any) -> bool:
    """Whether the extent of a mesh, if it has one, is that of its points, or of those that faces use; receivers cull by it."""
    mesh = UsdGeom.Mesh(prim)
    said, points = mesh.GetExtentAttr().Get(), mesh.GetPointsAttr().Get()
    if said is None or not points:
        return True
    every: F64 = np.array(points, np.float64).reshape(-1, 3)
    used = np.unique(np.array(mesh.GetFaceVertexIndicesAttr().Get(), np.int64))
    box = np.array(said, np.float64)
    return bounded(every, box) or bounded(every[used[(used >= 0) & (used < len(every))]], box)


def odd_light(prim: Any) -> list[str]:
    """What makes a light another than its numbers of brightness say."""
    api = UsdLux.LightAPI(prim)
    out = []
    if not api.GetNormalizeAttr().Get():
        out.append("gives more light the larger it is (its power is not normalized)")
    if prim.IsA(UsdLux.SphereLight) and not UsdLux.SphereLight(prim).GetTreatAsPointAttr().Get():
        out.append("is no point but a ball")
    if api.GetEnableColorTemperatureAttr().Get():
        out.append("is coloured by its temperature as well")
    for what, attribute in (("diffuse", api.GetDiffuseAttr()), ("specular", api.GetSpecularAttr())):
        if abs(float(attribute.Get()) - 1) > 1e-6:
            out.append(f"gives {float(attribute.Get()):.4g} times its light to {what} reflection")
    return out


SURFACES: dict[str, tuple[Any, tuple[str, int], tuple[str, int]]] = {
    "RectLight": ("rectangle", ("width", 1), ("height", 1)),
    "DiskLight": ("disk", ("radius", 2), ("radius", 2)),
    "CylinderLight": ("cylinder", ("length", 1), ("radius", 2)),
}
"""By type of prim: what it is, and along its X and Y the attribute that says how large, and how many of it that is."""


def light_of(prim: Any) -> Light:
    api = UsdLux.LightAPI(prim)
    red, green, blue = (float(c) for c in api.GetColorAttr().Get())
    intensity = float(api.GetIntensityAttr().Get()) * 2.0 ** float(api.GetExposureAttr().Get())
    if prim.GetTypeName() == "DistantLight":
        return Light("directional", "", (red, green, blue), intensity)
    if prim.GetTypeName() in SURFACES:
        surface, *said = SURFACES[prim.GetTypeName()]
        x, y, z = np.linalg.norm(np.array(UsdGeom.Imageable(prim).ComputeLocalToWorldTransform(0))[:3, :3], axis=1)
        wide, high = (times * float(prim.GetAttribute(f"inputs:{name}").Get()) for name, times in said)
        size = (wide * x, high * (math.sqrt(y * z) if surface == "cylinder" else y))
        if surface == "cylinder":
            return Light("point", "", (red, green, blue), intensity, surface=surface, size=size)
        return Light("spot", "", (red, green, blue), intensity, outer_cone=OPEN, surface=surface, size=size)
    if prim.HasAPI(UsdLux.ShapingAPI):
        shaping = UsdLux.ShapingAPI(prim)
        cone = math.radians(float(shaping.GetShapingConeAngleAttr().Get()))
        inner = cone * (1 - float(shaping.GetShapingConeSoftnessAttr().Get()))
        return Light("spot", "", (red, green, blue), intensity, inner_cone=inner, outer_cone=cone)
    return Light("point", "", (red, green, blue), intensity)


def camera_of(prim: Any) -> Camera:
    """Apertures are tenths of a scene unit."""
    camera = UsdGeom.Camera(prim)
    near, far = (float(v) for v in camera.GetClippingRangeAttr().Get())
    wide, high = float(camera.GetHorizontalApertureAttr().Get()), float(camera.GetVerticalApertureAttr().Get())
    if camera.GetProjectionAttr().Get() == UsdGeom.Tokens.orthographic:
        return Camera("orthographic", xmag=wide / 20, ymag=high / 20, znear=near, zfar=far)
    angle = 2 * math.atan(high / 2 / float(camera.GetFocalLengthAttr().Get()))
    return Camera("perspective", yfov=angle, aspect=wide / high, znear=near, zfar=far)
