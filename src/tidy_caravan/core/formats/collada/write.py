"""Writes COLLADA 1.4.1: every mesh once, the tree as it is, unit and up axis declared; deterministic to the byte."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from lxml import etree

from tidy_caravan.core.formats.collada.xml import FILTERS, NAMESPACES
from tidy_caravan.core.formats.shared.images import is_solid, portable, tinted
from tidy_caravan.core.formats.shared.written import Written, texture_path
from tidy_caravan.core.pace import OFTEN, Tell, nobody, paced
from tidy_caravan.core.scene import Camera, Image, Light, Material, Mesh, Sampler, Scene, TextureUse
from tidy_caravan.core.scene.arrays import AnyArray
from tidy_caravan.core.scene.held import parted_alike
from tidy_caravan.core.scene.look import channel_of
from tidy_caravan.core.words import plural

ILLEGAL = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ud800-\udfff\ufffe\uffff]")
NOT_NAME = re.compile(r"[^\w.\-]", re.ASCII)
UP = {"X": "X_UP", "Y": "Y_UP", "Z": "Z_UP"}
DATE = "2000-01-01T00:00:00Z"
"""The format demands a date; a fixed one keeps packages equal to the byte."""
WRAPS = {10497: "WRAP", 33648: "MIRROR", 33071: "CLAMP"}
FILTERED = {code: word for word, code in FILTERS.items()}
UNIT_NAMES = {1.0: "meter", 0.01: "centimeter", 0.001: "millimeter", 0.0254: "inch", 0.3048: "foot"}


def write_dae(scene: Scene, name: str, instancing: bool = False, tell: Tell = nobody) -> Written:
    """`name`.dae and a folder of textures."""
    out = Written({}, node_index=list(range(len(scene.nodes))))
    root = etree.Element("COLLADA", {"xmlns": NAMESPACES[0], "version": "1.4.1"})
    write_asset(root, scene, out)
    scene = with_tints_baked(portable(scene, out.rewritten), out)
    pictures: dict[str, bytes] = {}
    paths = write_images(root, scene, pictures, out)
    write_effects(root, scene, paths, out)
    write_things(root, scene)
    geometries = _add(root, "library_geometries")
    shape = written_for(scene.meshes)
    for i, mesh in enumerate(paced(scene.meshes, tell)):
        if mesh.triangles and shape[i] == i:
            write_geometry(geometries, mesh, i)
    if not len(geometries):
        root.remove(geometries)
    write_tree(root, scene, shape, out, tell)
    _add(_add(root, "scene"), "instance_visual_scene", url=f"#scene{scene.default_root}")
    for what, there in (
        ("skins", scene.skins),
        ("animation clips", scene.clips),
        ("morph targets", [m for m in scene.meshes if m.morphs]),
        ("tangents", [m for m in scene.meshes if m.tangents is not None]),
        ("metallic surfaces", [m for m in scene.materials if m.metallic > 0]),
        ("metallic, roughness and occlusion images",
         [m for m in scene.materials if m.metallic_roughness_texture or m.occlusion_texture]),
        ("normal map strengths", [m for m in scene.materials if m.normal_texture and m.normal_texture.strength != 1]),
        ("cut-off values of alpha cut-outs", [m for m in scene.materials if m.alpha_mode == "MASK"]),
        ("brightness of images that glow",
         [m for m in scene.materials if m.emissive_texture and m.emissive_strength != 1]),
        ("vertex colours after the first set", [m for m in scene.meshes if len(m.colors) > 1]),
        ("texture offsets, turns and scales", [u for m in scene.materials for u in m.uses() if moved(u)]),
    ):  # fmt: skip
        if there:
            out.lost(f"COLLADA as written here cannot hold: {what}.")
    body = etree.tostring(root, xml_declaration=True, encoding="utf-8", pretty_print=True)
    out.files[f"{name}.dae"] = body
    out.files |= pictures
    return out


def with_tints_baked(scene: Scene, out: Written) -> Scene:
    """The scene whose colour pictures are multiplied by their tints: a picture takes the number's place here."""
    images, textures, materials = list(scene.images), list(scene.textures), list(scene.materials)
    made: dict[tuple[int, tuple[float, ...]], int] = {}
    baked = 0
    for i, m in enumerate(materials):
        for role, tint in (("base_color_texture", m.base_color[:3]), ("emissive_texture", m.emissive)):
            use: TextureUse | None = getattr(m, role)
            image = textures[use.texture].image if use else -1
            if use is None or image < 0 or (data := images[image].data) is None or tint == (1.0, 1.0, 1.0):
                continue
            key = (use.texture, tint)
            if key not in made:
                try:
                    picture = tinted(data, (tint[0], tint[1], tint[2]))
                except (OSError, ValueError):
                    out.rewritten(f"The tint of “{m.name}” is lost: its image cannot be decoded.")
                    continue
                made[key] = len(textures)
                name = f"{(images[image].name or images[image].uri or 'picture').rsplit('.', 1)[0]}_tinted"
                textures.append(replace(textures[use.texture], image=len(images)))
                images.append(Image(name, "image/png", picture))
            materials[i] = replace(materials[i], **{role: replace(use, texture=made[key])})  # type: ignore[arg-type]
            baked += 1
    if not baked:
        return scene
    out.rewritten(f"COLLADA cannot tint images; {plural(baked, 'tint')} went into copies of them.")
    return scene.but(images=tuple(images), textures=tuple(textures), materials=tuple(materials))


def moved(use: TextureUse) -> bool:
    return use.offset != (0.0, 0.0) or use.rotation != 0.0 or use.scale != (1.0, 1.0)


def _add(parent: Any, tag: str, text: str | None = None, **attributes: str) -> Any:
    element = etree.SubElement(parent, tag, attributes)
    if text is not None:
        element.text = text
    return element


def plain(text: str) -> str:
    """Text that XML can hold."""
    return ILLEGAL.sub("_", text)


def token(text: str) -> str:
    """A name that the format's schema allows (NCName): letters, digits, `_`, `-`, `.`, not beginning with the latter."""
    out = NOT_NAME.sub("_", text)
    return out if not out or out[0].isalpha() or out[0] == "_" else f"_{out}"


def named(element: Any, name: str) -> Any:
    """The element with a name, where there is one."""
    if name:
        element.set("name", token(name))
    return element


def spaced(values: AnyArray, form: str = "%.9g") -> str:
    flat = (np.asarray(values, np.float64) + 0.0).ravel()
    return (" ".join([form] * len(flat))) % tuple(flat.tolist())


def integers_as_text(values: AnyArray) -> str:
    return " ".join(map(str, values.ravel().tolist()))


def write_asset(root: Any, scene: Scene, out: Written) -> None:
    asset = _add(root, "asset")
    contributor = _add(asset, "contributor")
    _add(contributor, "authoring_tool", "Tidy Caravan")
    if scene.extras.get("asset", {}).get("copyright"):
        _add(contributor, "copyright", plain(str(scene.extras["asset"]["copyright"])))
    _add(asset, "created", DATE)
    _add(asset, "modified", DATE)
    metres = scene.convention.metres_per_unit
    _add(asset, "unit", name=UNIT_NAMES.get(metres, "unit"), meter=repr(float(metres)))
    up = UP.get(scene.convention.up)
    _add(asset, "up_axis", up or "Y_UP")
    if up is None or scene.convention.handedness != "right":
        out.rewritten(
            f"COLLADA can only declare right-handed axes; the numbers are {scene.convention.label()}, as the destination takes them."
        )


def write_images(root: Any, scene: Scene, pictures: dict[str, bytes], out: Written) -> dict[int, str]:
    """Image ids by the scene's image index."""
    ids: dict[int, str] = {}
    library = None
    for i, image in enumerate(scene.images):
        if image.data is None:
            out.rewritten_of("Images without data stay behind: {names}.", image.uri or image.name or f"image {i}")
            continue
        path = texture_path(image.name or image.uri, i, image.mime, pictures)
        pictures[path] = image.data
        if library is None:
            library = _add(root, "library_images")
        _add(named(_add(library, "image", id=f"image{i}"), image.name), "init_from", path)
        ids[i] = f"image{i}"
    return ids


def write_effects(root: Any, scene: Scene, images: dict[int, str], out: Written) -> None:
    if not scene.materials:
        return
    effects = _add(root, "library_effects")
    for i, m in enumerate(scene.materials):
        profile = _add(_add(effects, "effect", id=f"effect{i}"), "profile_COMMON")
        roles = {
            "diffuse": m.base_color_texture,
            "emission": m.emissive_texture,
            "bump": m.normal_texture,
        }
        known = {
            role: images[scene.textures[use.texture].image]
            for role, use in roles.items()
            if use is not None and scene.textures[use.texture].image in images
        }
        for role, image in known.items():
            surface = _add(_add(profile, "newparam", sid=f"{role}_surface"), "surface", type="2D")
            _add(surface, "init_from", image)
            sampler = _add(_add(profile, "newparam", sid=f"{role}_sampler"), "sampler2D")
            _add(sampler, "source", f"{role}_surface")
            use = roles[role]
            write_sampler(sampler, scene.textures[use.texture].sampler if use is not None else None)
        write_shading(_add(profile, "technique", sid="common"), m, roles, known, scene)
    materials = _add(root, "library_materials")
    for i, m in enumerate(scene.materials):
        entry = named(_add(materials, "material", id=f"material{i}"), m.name)
        if m.name and token(m.name) != m.name:
            out.materials[m.name] = token(m.name)
        _add(entry, "instance_effect", url=f"#effect{i}")


def write_sampler(element: Any, sampler: Sampler | None) -> None:
    """How an image repeats and is read from near and afar, where that is not what goes without saying (COLLADA 1.4.1,
    sampler2D)."""
    if sampler is None:
        return
    if (sampler.wrap_s, sampler.wrap_t) != (10497, 10497):
        _add(element, "wrap_s", WRAPS.get(sampler.wrap_s, "WRAP"))
        _add(element, "wrap_t", WRAPS.get(sampler.wrap_t, "WRAP"))
    for word, code in (("minfilter", sampler.min), ("magfilter", sampler.mag)):
        if code in FILTERED:
            _add(element, word, FILTERED[code])


def write_shading(
    technique: Any, m: Material, roles: dict[str, TextureUse | None], known: dict[str, str], scene: Scene
) -> None:
    def channel(parent: Any, role: str, color: tuple[float, ...]) -> None:
        use = roles[role]
        element = _add(parent, role)
        if role in known and use is not None:
            _add(element, "texture", texture=f"{role}_sampler", texcoord=f"UV{channel_of(use)}")
        else:
            _add(element, "color", spaced(np.array(color)))

    glow = (*(srgb(c * m.emissive_strength) for c in m.emissive), 1.0)
    base = (*(srgb(c) for c in m.base_color[:3]), 1.0)
    if m.unlit:
        shading = _add(technique, "constant")
        use = roles["diffuse"]
        element = _add(shading, "emission")
        if "diffuse" in known and use is not None:
            _add(element, "texture", texture="diffuse_sampler", texcoord=f"UV{channel_of(use)}")
        else:
            _add(element, "color", spaced(np.array(base)))
    else:
        shading = _add(technique, "phong")
        channel(shading, "emission", glow)
        channel(shading, "diffuse", base)
        _add(_add(shading, "specular"), "color", "0.04 0.04 0.04 1")
        exponent = 2.0 / max(m.roughness, 0.02) ** 2 - 2.0
        _add(_add(shading, "shininess"), "float", f"{max(1.0, exponent):.9g}")
    if m.alpha_mode != "OPAQUE":
        clear = _add(shading, "transparent", opaque="A_ONE")
        use = roles["diffuse"]
        image = scene.images[scene.textures[use.texture].image] if use is not None and "diffuse" in known else None
        # an image that is solid is not asked for its alpha: some readers take no factor beside one
        if use is not None and image is not None and not is_solid(image.data or b""):
            _add(clear, "texture", texture="diffuse_sampler", texcoord=f"UV{channel_of(use)}")
        else:
            _add(clear, "color", "1 1 1 1")
        _add(_add(shading, "transparency"), "float", f"{m.base_color[3]:.9g}")
    use = roles["bump"]
    bump = use if "bump" in known else None
    if m.double_sided or bump:  # in one technique, beside the shading: of several, some readers hear the last one only
        extra = _add(_add(technique, "extra"), "technique", profile="surface")
        if bump:
            _add(_add(extra, "bump"), "texture", texture="bump_sampler", texcoord=f"UV{channel_of(bump)}")
        if m.double_sided:
            _add(extra, "double_sided", "1")


def srgb(value: float) -> float:
    """Inverse of the transfer function of IEC 61966-2-1."""
    return 12.92 * value if value <= 0.0031308 else 1.055 * value ** (1 / 2.4) - 0.055


def write_things(root: Any, scene: Scene) -> None:
    if scene.cameras:
        library = _add(root, "library_cameras")
        for i, c in enumerate(scene.cameras):
            write_camera(named(_add(library, "camera", id=f"camera{i}"), c.name), c)
    if scene.lights:
        library = _add(root, "library_lights")
        for i, light in enumerate(scene.lights):
            write_light(named(_add(library, "light", id=f"light{i}"), light.name), light)


def write_camera(entry: Any, c: Camera) -> None:
    lens = _add(_add(_add(entry, "optics"), "technique_common"), c.kind)
    if c.kind == "perspective":
        _add(lens, "yfov", f"{math.degrees(c.yfov):.9g}")
        if c.aspect:
            _add(lens, "aspect_ratio", f"{c.aspect:.9g}")
    else:
        _add(lens, "xmag", f"{c.xmag:.9g}")
        _add(lens, "ymag", f"{c.ymag:.9g}")
    _add(lens, "znear", f"{c.znear:.9g}")
    _add(lens, "zfar", f"{c.zfar if c.zfar and c.zfar > c.znear else c.znear * 1e5:.9g}")


def write_light(entry: Any, light: Light) -> None:
    """Colour times intensity: the format has no other place for it."""
    kind = _add(_add(entry, "technique_common"), light.kind)
    top = max(light.intensity, 0.0)
    _add(kind, "color", spaced(np.array([srgb(c) * top for c in light.color])))
    if light.kind == "spot":
        _add(kind, "falloff_angle", f"{math.degrees(light.outer_cone) * 2:.9g}")


def written_for(meshes: Sequence[Mesh]) -> list[int]:
    """(M,) the mesh that is written as the geometry of each: one for several looks of a shape. Meshes that look alike as well
    stay apart, since nothing else would tell them from copies of one."""
    looks: dict[int, list[tuple[int, set[tuple[int, ...]]]]] = {}
    out = []
    for i, first in enumerate(parted_alike(meshes).tolist()):
        slots, known = meshes[i].slots, looks.setdefault(first, [])
        found = next((k for k, (_, there) in enumerate(known) if slots not in there), len(known))
        if found == len(known):
            known.append((i, set()))
        known[found][1].add(slots)
        out.append(known[found][0])
    return out


def write_geometry(library: Any, mesh: Mesh, index: int) -> None:
    key = f"mesh{index}"
    entry = _add(named(_add(library, "geometry", id=key), mesh.name), "mesh")
    write_source(entry, f"{key}-positions", mesh.positions, "XYZ")
    shared = [("VERTEX", f"{key}-vertices", 0)]
    if mesh.normals is not None:
        write_source(entry, f"{key}-normals", mesh.normals, "XYZ")
        shared.append(("NORMAL", f"{key}-normals", 0))
    for k, uv in enumerate(mesh.uvs):
        flipped = uv.astype(np.float64)
        flipped[:, 1] = 1.0 - flipped[:, 1]
        write_source(entry, f"{key}-uv{k}", flipped, "ST")
        shared.append(("TEXCOORD", f"{key}-uv{k}", k))
    if mesh.colors:
        write_source(entry, f"{key}-color", mesh.colors[0], "RGBA"[: mesh.colors[0].shape[1]])
        shared.append(("COLOR", f"{key}-color", 0))
    vertices = _add(entry, "vertices", id=f"{key}-vertices")
    _add(vertices, "input", semantic="POSITION", source=f"#{key}-positions")
    for slot in mesh.slots:
        faces = mesh.indices[mesh.material == slot]
        attributes = {"count": str(len(faces))} | ({"material": f"slot{slot}"} if slot >= 0 else {})
        triangles = _add(entry, "triangles", **attributes)
        for semantic, source, number in shared:
            extra = {"set": str(number)} if semantic == "TEXCOORD" else {}
            _add(triangles, "input", semantic=semantic, source=f"#{source}", offset="0", **extra)
        _add(triangles, "p", integers_as_text(faces))


def write_source(mesh: Any, key: str, values: AnyArray, params: str) -> None:
    source = _add(mesh, "source", id=key)
    _add(source, "float_array", spaced(values), id=f"{key}-array", count=str(values.size))
    accessor = _add(
        _add(source, "technique_common"),
        "accessor",
        source=f"#{key}-array",
        count=str(len(values)),
        stride=str(values.shape[1]),
    )
    for param in params:
        _add(accessor, "param", name=param, type="float")


def write_tree(root: Any, scene: Scene, shape: list[int], out: Written, tell: Tell) -> None:
    """One visual scene per root, one node element per node; matrices with all digits. shape: the mesh that was written as the
    geometry of each."""
    nodes = scene.nodes
    library = _add(root, "library_visual_scenes")
    listed = scene.roots or ()
    tops: list[list[int]] = [list(r.nodes) for r in listed] or [np.flatnonzero(nodes.parent < 0).tolist()]
    children: dict[int, list[int]] = {}
    for i, parent in enumerate(nodes.parent.tolist()):
        if parent >= 0:
            children.setdefault(parent, []).append(i)
    changed = 0
    taken: set[int] = set()
    # a node that several scenes hold can stand in one of them only: in the main one, if that is among them
    for number in sorted(range(len(tops)), key=lambda k: k != scene.default_root):
        top = tops[number]
        name = listed[number].name if listed else ""
        visual = named(_add(library, "visual_scene", id=f"scene{number}"), name)
        waiting: list[tuple[Any, int]] = [(visual, i) for i in reversed(top)]
        while waiting:
            holder, i = waiting.pop()
            if i in taken:
                continue
            taken.add(i)
            if len(taken) % OFTEN == 0:
                tell(len(taken), len(nodes))
            attributes = {"id": f"node{i}"}
            if nodes.names[i]:
                attributes["name"] = token(nodes.names[i])
                if attributes["name"] != nodes.names[i]:
                    out.renamed[i] = attributes["name"]
            if nodes.layer[i] >= 0:
                layer = re.sub(r"[^\w.\-]+", "_", scene.layers[nodes.layer[i]]) or "layer"
                changed += layer != scene.layers[nodes.layer[i]]
                attributes["layer"] = layer
            element = _add(holder, "node", **attributes)
            _add(element, "matrix", spaced(nodes.local[i], "%.17g"), sid="transform")
            if nodes.camera[i] >= 0:
                _add(element, "instance_camera", url=f"#camera{nodes.camera[i]}")
            if nodes.mesh[i] >= 0 and scene.meshes[nodes.mesh[i]].triangles:
                write_instance(element, scene, int(nodes.mesh[i]), shape)
            if nodes.light[i] >= 0:
                _add(element, "instance_light", url=f"#light{nodes.light[i]}")
            waiting += [(element, c) for c in reversed(children.get(i, []))]
    other = {
        i
        for i in np.unique(nodes.mesh[nodes.mesh >= 0]).tolist()
        if scene.meshes[shape[i]].name != scene.meshes[i].name
    }
    if other:
        out.rewritten(
            f"{plural(len(other), 'mesh', 'meshes')} of the same shape as another {'is' if len(other) == 1 else 'are'} written once with it, under its name."
        )
    if out.renamed:
        out.rewritten(
            f"Names of {plural(len(out.renamed), 'node')} were brought to the characters that COLLADA allows."
        )
    if changed:
        out.rewritten(f"Layer names of {changed} nodes were brought to the characters that COLLADA allows.")


def write_instance(element: Any, scene: Scene, mesh: int, shape: list[int]) -> None:
    """A geometry with the materials of a mesh, which the geometry has symbols for: those of the mesh it was written from."""
    instance = _add(element, "instance_geometry", url=f"#mesh{shape[mesh]}")
    slots = [(s, t) for s, t in zip(scene.meshes[shape[mesh]].slots, scene.meshes[mesh].slots, strict=True) if t >= 0]
    if not slots:
        return
    common = _add(_add(instance, "bind_material"), "technique_common")
    for symbol, slot in slots:
        bound = _add(common, "instance_material", symbol=f"slot{symbol}", target=f"#material{slot}")
        for use in scene.materials[slot].uses():
            if not any(b.get("semantic") == f"UV{channel_of(use)}" for b in bound):
                _add(
                    bound,
                    "bind_vertex_input",
                    semantic=f"UV{channel_of(use)}",
                    input_semantic="TEXCOORD",
                    input_set=str(channel_of(use)),
                )
