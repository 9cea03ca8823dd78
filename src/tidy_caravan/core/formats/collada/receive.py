"""Stand-in receiver of COLLADA through pycollada: geometries by instance, with the materials and coordinates bound there."""

from __future__ import annotations

import math
import warnings
from functools import partial
from pathlib import Path
from typing import Any

import collada
import collada.common
import numpy as np

from tidy_caravan.core.conventions.destinations import Destination, FormatName
from tidy_caravan.core.formats.collada.doubts import OPAQUE, loose_sources
from tidy_caravan.core.formats.shared.pace import aside, heard
from tidy_caravan.core.formats.shared.received import DOUBTS, Gallery, Tree
from tidy_caravan.core.formats.shared.receiving import beside
from tidy_caravan.core.pace import OFTEN, Tell, nobody
from tidy_caravan.core.scene import Camera, Light, Material, Mesh, Root, Sampler, Scene, TextureUse
from tidy_caravan.core.scene.arrays import F64, AnyArray
from tidy_caravan.core.space.srgb import linear

REPEATS = {"WRAP": 10497, "MIRROR": 33648, "CLAMP": 33071}
FILTERED = {
    "NEAREST": 9728, "LINEAR": 9729, "NEAREST_MIPMAP_NEAREST": 9984, "LINEAR_MIPMAP_NEAREST": 9985,
    "NEAREST_MIPMAP_LINEAR": 9986, "LINEAR_MIPMAP_LINEAR": 9987,
}  # fmt: skip
UP = {"X_UP": "X", "Y_UP": "Y", "Z_UP": "Z"}


def receive_dae(file: Path, destination: Destination, fmt: FormatName, tell: Tell = nobody) -> Scene:
    """All scenes of the file as pycollada reads them; nodes in document order, what is not in the main one as well."""
    document = aside(lambda _: document_of(file), heard(tell))
    materials = list(document.materials)
    material_of = {m.id: i for i, m in enumerate(materials)}
    gallery = Gallery()
    tree = Tree()
    bound: dict[tuple[int, str], set[int]] = {}
    placed: set[int] = set()
    doubts: list[str] = []

    def walk(node: Any, above: int) -> None:
        if not isinstance(node, collada.scene.Node):
            return
        here = tree.add(node.xmlnode.get("name") or "", above, matrix_of(node))
        if here % OFTEN == 0:
            tell(here, 0)
        for child in node.children:
            if isinstance(child, collada.scene.GeometryNode):
                slots = {m.symbol: material_of[m.target.id] for m in child.materials}
                for m in child.materials:
                    placed.add(material_of[m.target.id])
                    for symbol in sorted(asked(m.target.effect) - set(sets_bound(m.inputs))):
                        doubts.append(
                            f"“{tree.names[here]}” does not bind the coordinates “{symbol}” that material “{m.target.name}” asks for"
                        )
                    for symbol, number in sets_bound(m.inputs).items():
                        bound.setdefault((material_of[m.target.id], symbol), set()).add(number)
                # the same geometry with other materials is another mesh
                key = f"{child.geometry.id}\0{sorted(slots.items())}"
                tree.mesh[here] = tree.shared(key, partial(mesh_from, child.geometry, slots))
            elif isinstance(child, collada.scene.LightNode):
                tree.lights[here] = light_of(child.light)
            elif isinstance(child, collada.scene.CameraNode):
                tree.cameras[here] = camera_of(child.camera)
        for child in node.children:
            walk(child, here)

    roots = []
    for scene in document.scenes:
        begin = len(tree.parent)
        for node in scene.nodes:
            walk(node, -1)
        roots.append(Root(tuple(i for i in range(begin, len(tree.parent)) if tree.parent[i] < 0)))
    main = next((k for k, s in enumerate(document.scenes) if s is document.scene), -1)
    declared = {
        "metresPerUnit": document.assetInfo.unitmeter or 1.0,
        "up": UP.get(str(document.assetInfo.upaxis), "Y"),
    }
    made = [Looks(gallery, file, {s: n for (k, s), n in bound.items() if k == i}) for i in range(len(materials))]
    looks = [look.of(m) for look, m in zip(made, materials, strict=True)]
    doubts += [sentence for k, look in enumerate(made) if k in placed for sentence in look.doubts]
    for geometry in document.geometries:
        doubts += loose_sources(geometry)
    return tree.scene(
        destination.file_convention(fmt),
        looks,
        gallery,
        roots=tuple(roots) or (Root(()),),
        default_root=main,
        extras={"declared": declared, DOUBTS: doubts},
    )


def document_of(file: Path) -> Any:
    """The document as pycollada reads it, what it does not know left out."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        return collada.Collada(str(file), ignore=[collada.common.DaeUnsupportedError, collada.common.DaeBrokenRefError])


def asked(effect: Any) -> set[str]:
    """The names by which textures of an effect ask for coordinates."""
    channels = (effect.emission, effect.diffuse, effect.transparent, getattr(effect, "bumpmap", None))
    return {str(c.texcoord) for c in channels if isinstance(c, collada.material.Map)}


def sets_bound(inputs: Any) -> dict[str, int]:
    """The UV set by the name that textures ask for it, as an instance binds them."""
    return {s: int(n or 0) for s, kind, n in inputs if kind == "TEXCOORD" and str(n or 0).isdigit()}


def matrix_of(node: Any) -> F64:
    """(4, 4) of a node; from the text of its one matrix, since the library keeps float32."""
    if len(node.transforms) == 1 and isinstance(node.transforms[0], collada.scene.MatrixTransform):
        values = np.array(node.transforms[0].xmlnode.text.split(), np.float64)
        if values.size == 16:
            return values.reshape(4, 4)
    return np.array(node.matrix, dtype=np.float64)


Color = tuple[float, float, float]


class Looks:
    """Surfaces of the common profile: colours are sRGB, an image stands in a colour's place. bound: UV sets by the name that
    textures ask for them."""

    def __init__(self, gallery: Gallery, file: Path, bound: dict[str, set[int]]) -> None:
        self.gallery, self.file, self.bound = gallery, file, bound
        self.doubts: list[str] = []

    def of(self, entry: Any) -> Material:
        effect = entry.effect
        name = entry.name or ""
        unlit = effect.shadingtype == "constant"
        base, base_map = self.channel(effect.emission if unlit else effect.diffuse, name)
        glow, glow_map = ((0.0, 0.0, 0.0), None) if unlit else self.channel(effect.emission, name)
        _, bump = self.channel(getattr(effect, "bumpmap", None), name)
        clear = effect.xmlnode.find(f".//{collada.common.tag('transparent')}")
        exponent = effect.shininess if isinstance(effect.shininess, int | float) else 0.0
        return Material(
            name,
            (*base, 1.0 if clear is None else self.opacity(effect, clear, unlit, name)),
            0.0,
            math.sqrt(2.0 / (exponent + 2.0)),
            glow,
            base_color_texture=base_map,
            emissive_texture=glow_map,
            normal_texture=bump,
            alpha_mode="OPAQUE" if clear is None else "BLEND",
            double_sided=bool(effect.double_sided),
            unlit=unlit,
        )

    def opacity(self, effect: Any, clear: Any, unlit: bool, name: str) -> float:
        """By the rule that the surface names (COLLADA 1.4.1, transparent and transparency)."""
        rule = clear.get("opaque") or "A_ONE"
        given, factor = effect.transparent, effect.transparency
        factor = float(factor) if isinstance(factor, int | float) else 1.0
        if rule not in OPAQUE:
            self.doubts.append(f"material “{name}” is transparent by the rule “{rule}”, which there is not")
        if isinstance(given, collada.material.Map):
            base = effect.emission if unlit else effect.diffuse
            if (
                not isinstance(base, collada.material.Map)
                or base.sampler.surface.image is not given.sampler.surface.image
                or base.texcoord != given.texcoord
            ):
                self.doubts.append(f"the opacity of material “{name}” is read from another image than its colour")
            value = 1.0
        elif isinstance(given, tuple | list) and len(given) >= 3 and clear.find(collada.common.tag("texture")) is None:
            value = float(given[3] if len(given) > 3 else 1.0) if rule.startswith("A") else float(np.mean(given[:3]))
        else:
            self.doubts.append(f"the opacity of material “{name}” is read from nothing")
            value = 1.0
        return value * factor if rule.endswith("ONE") else 1.0 - value * factor

    def channel(self, value: Any, name: str) -> tuple[Color, TextureUse | None]:
        """(linear colour, image) of an entry; white under an image."""
        if isinstance(value, collada.material.Map):
            path = value.sampler.surface.image.path
            try:
                data = beside(self.file, path) if path else None
            except OSError:
                data = None
            numbers = self.bound.get(str(value.texcoord), set())
            if len(numbers) > 1:
                self.doubts.append(f"the coordinates “{value.texcoord}” of material “{name}” are bound to several sets")
            return (1.0, 1.0, 1.0), TextureUse(
                self.gallery.add(data, sampler_of(value.sampler)), min(numbers, default=-1)
            )
        if isinstance(value, tuple | list) and len(value) >= 3:
            red, green, blue = (float(linear(c)) for c in value[:3])
            return (red, green, blue), None
        return (0.0, 0.0, 0.0), None


def sampler_of(sampler: Any) -> Sampler:
    """How an image repeats, by the element of which the library keeps only the filters."""
    wraps = [
        REPEATS.get(str(sampler.xmlnode.findtext(f".//{collada.common.tag(word)}") or "WRAP").strip(), 0)
        for word in ("wrap_s", "wrap_t")
    ]
    near, afar = (FILTERED.get(str(f or "").strip()) for f in (sampler.magfilter, sampler.minfilter))
    return Sampler(near, afar, wraps[0], wraps[1])


def light_of(light: Any) -> Light:
    """Colour times brightness as the file has it."""
    kinds = {
        collada.light.DirectionalLight: "directional",
        collada.light.PointLight: "point",
        collada.light.SpotLight: "spot",
    }
    kind: Any = kinds.get(type(light), "point")
    red, green, blue = (float(c) for c in light.color[:3])
    angle = getattr(light, "falloff_ang", None)
    return Light(kind, "", (red, green, blue), 1.0, outer_cone=math.radians(angle or 180.0) / 2)


def camera_of(camera: Any) -> Camera:
    if isinstance(camera, collada.camera.OrthographicCamera):
        return Camera(
            "orthographic", xmag=camera.xmag or 0.0, ymag=camera.ymag or 0.0, znear=camera.znear, zfar=camera.zfar
        )
    return Camera(
        "perspective",
        yfov=math.radians(camera.yfov or 0.0),
        aspect=camera.aspect_ratio,
        znear=camera.znear,
        zfar=camera.zfar,
    )


def mesh_from(geometry: Any, slots: dict[str, int]) -> Mesh:
    """Corner by corner, so that nothing depends on how the file shares vertices."""
    positions: list[AnyArray] = []
    normals: list[AnyArray] = []
    uvs: dict[int, list[AnyArray]] = {}
    material: list[AnyArray] = []
    colors: list[AnyArray] = []
    for p in geometry.primitives:
        positions.append(p.vertex[p.vertex_index].reshape(-1, 3))
        if p.normal is not None:
            normals.append(p.normal[p.normal_index].reshape(-1, 3))
        # the library lists sets in the order of the file; the number of each stands beside it
        numbers = [int(i[3] or 0) for i in p.sources.get("TEXCOORD", [])] if hasattr(p, "sources") else []
        for k, (values, index) in enumerate(zip(p.texcoordset, p.texcoord_indexset, strict=True)):
            uv = np.array(values[index].reshape(-1, 2), np.float64)
            uv[:, 1] = 1.0 - uv[:, 1]
            uvs.setdefault(numbers[k] if k < len(numbers) else k, []).append(uv)
        for entry in p.sources.get("COLOR", [])[:1]:
            colors.append(
                np.asarray(entry[4].data, np.float32)[p.index[:, :, entry[0]]].reshape(-1, entry[4].data.shape[1])
            )
        material.append(np.full(len(p.vertex_index), slots.get(p.material, -1), np.int32))
    flat = np.concatenate(positions).astype(np.float32)
    # sets are what they are numbered as; those after one that is missing cannot be told apart from it
    whole = [np.concatenate(uvs[k]).astype(np.float32) for k in range(len(uvs)) if all(n in uvs for n in range(k + 1))]
    return Mesh(
        flat,
        np.arange(len(flat), dtype=np.uint32).reshape(-1, 3),
        np.concatenate(material),
        np.concatenate(normals).astype(np.float32) if len(normals) == len(positions) else None,
        uvs=tuple(u for u in whole if len(u) == len(flat)),
        colors=(np.concatenate(colors),) if colors and sum(map(len, colors)) == len(flat) else (),
        name=geometry.name or "",
    )
