"""Writes glTF 2.0 as one .glb or as .gltf with loose files; deterministic to the byte.

What the standard forbids is put right on the way (unit normals, missing UV sets that a material
samples, pictures without data) and told in the returned remarks.
"""

from __future__ import annotations

import hashlib
import struct
from dataclasses import replace
from typing import Any

import numpy as np
import orjson

from tidy_caravan.core.formats.shared.images import portable
from tidy_caravan.core.formats.shared.written import (
    PAGE_KEY,
    TARGET_NAMES,
    Written,
    on_pages,
    scatter_batches,
    texture_path,
)
from tidy_caravan.core.geometry.normals import vertex_normals
from tidy_caravan.core.geometry.tangents import with_tangents
from tidy_caravan.core.pace import Tell, nobody, paced
from tidy_caravan.core.scene import HIDDEN, Camera, Light, Material, Mesh, Sampler, Scene, TextureUse
from tidy_caravan.core.scene.arrays import F32, F64, AnyArray
from tidy_caravan.core.scene.held import geometries
from tidy_caravan.core.space.transforms import split_trs

ARRAY_BUFFER, INDEX_BUFFER = 34962, 34963
CODES = {"i1": 5120, "u1": 5121, "i2": 5122, "u2": 5123, "u4": 5125, "f4": 5126}
SHAPES = {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4", 16: "MAT4"}
UNIT_TOLERANCE = 5e-4
"""Length error from which on a stored normal is no unit vector."""


class Builder:
    """Collects buffer views and accessors."""

    def __init__(self) -> None:
        self.chunks: list[bytes] = []
        self.size = 0
        self.views: list[dict[str, Any]] = []
        self.accessors: list[dict[str, Any]] = []
        self.seen: dict[tuple[int, int | None, bool], int] = {}
        self.shape = -1
        """The shape that is written, where several meshes have it."""
        self.known: dict[tuple[int, bytes, str, tuple[int, ...], int | None, bool], int] = {}
        self.alive: list[AnyArray] = []

    def view(self, data: bytes, target: int | None = None) -> int:
        entry: dict[str, Any] = {"buffer": 0, "byteOffset": self.size, "byteLength": len(data)}
        if target is not None:
            entry["target"] = target
        self.views.append(entry)
        padding = -len(data) % 4
        self.chunks.append(data + b"\0" * padding)
        self.size += len(data) + padding
        return len(self.views) - 1

    def accessor(self, array: AnyArray, target: int | None = None, bounds: bool = False) -> int:
        """Index of an accessor over the array; the same object is stored once, and so are equal ones of one shape with
        several looks."""
        key = (id(array), target, bounds)
        if key in self.seen:
            return self.seen[key]
        flat = np.ascontiguousarray(array).reshape(len(array), -1)
        self.alive.append(array)
        content = hashlib.blake2b(flat.data, digest_size=16).digest() if flat.size and self.shape >= 0 else b""
        known = (self.shape, content, flat.dtype.str, flat.shape, target, bounds)
        if content and known in self.known:
            self.seen[key] = self.known[known]
            return self.seen[key]
        entry: dict[str, Any] = {
            "bufferView": self.view(flat.tobytes(), target),
            "componentType": CODES[flat.dtype.str[1:]],
            "count": len(flat),
            "type": SHAPES[flat.shape[1]],
        }
        if bounds:
            entry["min"], entry["max"] = flat.min(axis=0).tolist(), flat.max(axis=0).tolist()
        self.accessors.append(entry)
        self.seen[key] = len(self.accessors) - 1
        if content:
            self.known[known] = self.seen[key]
        return self.seen[key]


def write_glb(scene: Scene, name: str, instancing: bool = False, tell: Tell = nobody) -> Written:
    """One binary file `name`.glb with everything inside."""
    document, builder, out, _ = build(scene, tell, loose=False, instancing=instancing)
    body = b"".join(builder.chunks)
    if body:
        document["buffers"] = [{"byteLength": len(body)}]
    text = orjson.dumps(document)
    text += b" " * (-len(text) % 4)
    length = 12 + 8 + len(text) + (8 + len(body) if body else 0)
    pieces = [struct.pack("<4sII", b"glTF", 2, length), struct.pack("<II", len(text), 0x4E4F534A), text]
    if body:
        pieces += [struct.pack("<II", len(body), 0x004E4942), body]
    out.files[f"{name}.glb"] = b"".join(pieces)
    return out


def write_gltf(scene: Scene, name: str, instancing: bool = False, tell: Tell = nobody) -> Written:
    """`name`.gltf, `name`.bin and a folder of textures."""
    document, builder, out, pictures = build(scene, tell, loose=True, instancing=instancing)
    body = b"".join(builder.chunks)
    if body:
        document["buffers"] = [{"byteLength": len(body), "uri": f"{name}.bin"}]
        out.files[f"{name}.bin"] = body
    out.files[f"{name}.gltf"] = orjson.dumps(document, option=orjson.OPT_INDENT_2)
    out.files |= pictures
    return out


def build(
    scene: Scene, tell: Tell, *, loose: bool, instancing: bool
) -> tuple[dict[str, Any], Builder, Written, dict[str, bytes]]:
    builder, out = Builder(), Written({})
    scene = portable(scene, out.rewritten)
    used: set[str] = set()
    document: dict[str, Any] = {
        "asset": {"version": "2.0", "generator": "Tidy Caravan", **scene.extras.get("asset", {})}
    }
    pictures: dict[str, bytes] = {}
    images, image_of = write_images(scene, builder, loose, pictures, out)
    samplers: list[dict[str, Any]] = []
    textures, texture_of = write_textures(scene, image_of, samplers, out)
    materials = [write_material(m, texture_of, used) for m in scene.materials]
    meshes, mesh_of = write_meshes(scene, builder, out, tell)
    skin_of = {i: k for k, i in enumerate(i for i, s in enumerate(scene.skins) if s.joints)}
    skins = [
        _named({"joints": list(s.joints)}, s.name, s.extras)
        | (
            {"inverseBindMatrices": builder.accessor(s.inverse_bind.transpose(0, 2, 1).astype(np.float32))}
            if s.inverse_bind is not None
            else {}
        )
        | ({"skeleton": s.skeleton} if s.skeleton >= 0 else {})
        for s in scene.skins
        if s.joints
    ]
    nodes = write_nodes(scene, mesh_of, skin_of, builder, used, out, instancing, tell)
    renumber = out.node_index
    for skin in skins:
        skin["joints"] = [renumber[j] for j in skin["joints"]]
        if "skeleton" in skin:
            skin["skeleton"] = renumber[skin["skeleton"]]
    if scene.lights:
        used.add("KHR_lights_punctual")
        document["extensions"] = {"KHR_lights_punctual": {"lights": [write_light(light) for light in scene.lights]}}
    if used:
        document["extensionsUsed"] = sorted(used)
    roots = scene.roots
    if roots:
        document["scene"] = scene.default_root
        document["scenes"] = [
            _named({"nodes": [renumber[n] for n in r.nodes]} if r.nodes else {}, r.name, r.extras) for r in roots
        ]
    else:
        tops = [renumber[i] for i in np.flatnonzero(scene.nodes.parent < 0).tolist()]
        document["scene"], document["scenes"] = 0, [{"nodes": tops} if tops else {}]
    tables = {
        "nodes": nodes,
        "meshes": meshes,
        "materials": materials,
        "textures": textures,
        "images": images,
        "samplers": samplers,
        "cameras": [write_camera(c) for c in scene.cameras],
        "skins": skins,
        "animations": write_clips(scene, builder, renumber),
        "accessors": builder.accessors,
        "bufferViews": builder.views,
    }
    document |= {k: v for k, v in tables.items() if v}
    if "extras" in scene.extras:
        document["extras"] = scene.extras["extras"]
    return document, builder, out, pictures


def _named(entry: dict[str, Any], name: str, extras: Any) -> dict[str, Any]:
    if name:
        entry["name"] = name
    if extras is not None:
        entry["extras"] = extras
    return entry


def write_images(
    scene: Scene, builder: Builder, loose: bool, pictures: dict[str, bytes], out: Written
) -> tuple[list[dict[str, Any]], dict[int, int]]:
    images: list[dict[str, Any]] = []
    index: dict[int, int] = {}
    for i, image in enumerate(scene.images):
        if image.data is None:
            out.rewritten_of("Images without data stay behind: {names}.", image.uri or image.name or f"image {i}")
            continue
        entry = _named({}, image.name, image.extras)
        if loose:
            path = texture_path(image.name or image.uri, i, image.mime, pictures)
            pictures[path] = image.data
            entry["uri"] = path
        else:
            entry |= {"bufferView": builder.view(image.data), "mimeType": image.mime}
        index[i] = len(images)
        images.append(entry)
    return images, index


def write_textures(
    scene: Scene, image_of: dict[int, int], samplers: list[dict[str, Any]], out: Written
) -> tuple[list[dict[str, Any]], dict[int, int]]:
    textures: list[dict[str, Any]] = []
    index: dict[int, int] = {}
    known: dict[Sampler, int] = {}
    for i, texture in enumerate(scene.textures):
        if texture.image not in image_of:
            continue
        entry = _named({"source": image_of[texture.image]}, texture.name, texture.extras)
        if texture.sampler is not None:
            if (hashable := _plain(texture.sampler)) not in known:
                known[hashable] = len(samplers)
                s = texture.sampler
                codes = {"magFilter": s.mag, "minFilter": s.min, "wrapS": s.wrap_s, "wrapT": s.wrap_t}
                samplers.append(_named({k: v for k, v in codes.items() if v is not None}, s.name, s.extras))
            entry["sampler"] = known[hashable]
        index[i] = len(textures)
        textures.append(entry)
    return textures, index


def _plain(sampler: Sampler) -> Sampler:
    text = orjson.dumps(sampler.extras).decode() if sampler.extras is not None else None
    return Sampler(sampler.mag, sampler.min, sampler.wrap_s, sampler.wrap_t, sampler.name, text)


def write_use(use: TextureUse, texture_of: dict[int, int], used: set[str], strength: str = "") -> dict[str, Any]:
    entry: dict[str, Any] = {"index": texture_of[use.texture]}
    if use.channel:
        entry["texCoord"] = use.channel
    if strength and use.strength != 1.0:
        entry[strength] = use.strength
    transform: dict[str, Any] = {}
    if use.offset != (0.0, 0.0):
        transform["offset"] = list(use.offset)
    if use.rotation:
        transform["rotation"] = use.rotation
    if use.scale != (1.0, 1.0):
        transform["scale"] = list(use.scale)
    if use.transform_channel is not None:
        transform["texCoord"] = use.transform_channel
    if transform:
        used.add("KHR_texture_transform")
        entry["extensions"] = {"KHR_texture_transform": transform}
    return _named(entry, "", use.extras)


def write_material(m: Material, texture_of: dict[int, int], used: set[str]) -> dict[str, Any]:
    pbr: dict[str, Any] = {}
    if m.base_color != (1.0, 1.0, 1.0, 1.0):
        pbr["baseColorFactor"] = list(m.base_color)
    if m.metallic != 1.0:
        pbr["metallicFactor"] = m.metallic
    if m.roughness != 1.0:
        pbr["roughnessFactor"] = m.roughness
    entry: dict[str, Any] = {}
    for use, target, key, strength in (
        (m.base_color_texture, pbr, "baseColorTexture", ""),
        (m.metallic_roughness_texture, pbr, "metallicRoughnessTexture", ""),
        (m.normal_texture, entry, "normalTexture", "scale"),
        (m.occlusion_texture, entry, "occlusionTexture", "strength"),
        (m.emissive_texture, entry, "emissiveTexture", ""),
    ):
        if use is not None and use.texture in texture_of:
            target[key] = write_use(use, texture_of, used, strength)
    if pbr:
        entry["pbrMetallicRoughness"] = pbr
    if m.emissive != (0.0, 0.0, 0.0):
        entry["emissiveFactor"] = list(m.emissive)
    if m.alpha_mode != "OPAQUE":
        entry["alphaMode"] = m.alpha_mode
    if m.alpha_mode == "MASK" and m.alpha_cutoff != 0.5:
        entry["alphaCutoff"] = m.alpha_cutoff
    if m.double_sided:
        entry["doubleSided"] = True
    extensions: dict[str, Any] = {}
    if m.unlit:
        extensions["KHR_materials_unlit"] = {}
    if m.emissive_strength != 1.0 and m.emissive != (0.0, 0.0, 0.0) and not m.unlit:
        extensions["KHR_materials_emissive_strength"] = {"emissiveStrength": m.emissive_strength}
    if extensions:
        used.update(extensions)
        entry["extensions"] = extensions
    return _named(entry, m.name, m.extras)


def unit_vectors(vectors: F32, instead: Any) -> tuple[F32, int]:
    """The vectors with those that are no unit vectors mended, and how many those were."""
    wide = vectors[:, :3].astype(np.float64)
    length = np.linalg.norm(wide, axis=1)
    bad = ~(np.abs(length - 1) <= UNIT_TOLERANCE)
    if not bad.any():
        return vectors, 0
    out = vectors.copy()
    zero = ~(length > 1e-12)
    scalable = bad & ~zero
    out[scalable, :3] = (wide[scalable] / length[scalable, None]).astype(np.float32)
    if zero.any():
        out[zero, :3] = instead()[zero]
    return out, int(bad.sum())


def write_meshes(
    scene: Scene, builder: Builder, out: Written, tell: Tell
) -> tuple[list[dict[str, Any]], dict[int, int]]:
    entries: list[dict[str, Any]] = []
    index: dict[int, int] = {}
    shape = geometries(scene.meshes)
    looks = np.bincount(shape, minlength=len(shape))
    for i, mesh in enumerate(paced(scene.meshes, tell)):
        if not mesh.triangles:
            continue
        index[i] = len(entries)
        builder.shape = int(shape[i]) if looks[shape[i]] > 1 else -1
        entries.append(write_mesh(mesh, mesh.name or f"mesh {i}", scene, builder, out))
    builder.shape = -1
    return entries, index


def with_needed_channels(mesh: Mesh, label: str, scene: Scene, out: Written) -> Mesh:
    """With an empty UV set for every channel that a picture of its materials is read from and that it lacks."""
    uses = [u for s in mesh.slots if s >= 0 for u in scene.materials[s].uses() if has_picture(scene, u)]
    needed = max((u.channel if u.transform_channel is None else u.transform_channel for u in uses), default=-1) + 1
    if needed <= len(mesh.uvs):
        return mesh
    out.rewritten_of("Empty UV sets were added where a material samples one that its mesh lacks: {names}.", label)
    instead = np.zeros((mesh.vertices, 2), np.float32)
    return replace(mesh, uvs=(*mesh.uvs, *[instead] * (needed - len(mesh.uvs))))


def ready_for_normal_maps(mesh: Mesh, label: str, scene: Scene, out: Written) -> Mesh:
    """With tangents where a normal map needs them: receivers that make their own do not agree."""
    maps = [scene.materials[s].normal_texture for s in mesh.slots if s >= 0]
    uses = [u for u in maps if u is not None and has_picture(scene, u)]
    if not uses or mesh.tangents is not None:
        return mesh
    channel = uses[0].channel if uses[0].transform_channel is None else uses[0].transform_channel
    if channel >= len(mesh.uvs):
        return mesh
    out.rewritten_of("Tangents were computed where a material has a normal map: {names}.", label)
    return with_tangents(mesh, channel)


def has_picture(scene: Scene, use: TextureUse) -> bool:
    image = scene.textures[use.texture].image
    return image >= 0 and scene.images[image].data is not None


def write_mesh(mesh: Mesh, label: str, scene: Scene, builder: Builder, out: Written) -> dict[str, Any]:
    mesh = ready_for_normal_maps(with_needed_channels(mesh, label, scene, out), label, scene, out)
    attributes = {"POSITION": builder.accessor(mesh.positions, ARRAY_BUFFER, bounds=True)}
    if mesh.normals is not None:
        normals, mended = unit_vectors(mesh.normals, lambda: vertex_normals(mesh.positions, mesh.indices))
        if mended:
            out.rewritten_of(
                "Normals that were no unit vectors were put right, {amount} in all: {names}.", label, mended
            )
        attributes["NORMAL"] = builder.accessor(normals, ARRAY_BUFFER)
        if mesh.tangents is not None:
            tangents, mended = unit_vectors(
                mesh.tangents, lambda: np.tile(np.array((1, 0, 0), np.float32), (mesh.vertices, 1))
            )
            unsigned = ~np.isin(tangents[:, 3], (-1.0, 1.0))
            if unsigned.any():
                tangents = tangents.copy()
                tangents[:, 3] = np.where(tangents[:, 3] < 0, -1.0, 1.0)
            if mended or unsigned.any():
                most = max(mended, int(unsigned.sum()))
                out.rewritten_of("Tangents that were no unit vectors with a sign were put right, {amount} in all: {names}.", label, most)  # fmt: skip
            attributes["TANGENT"] = builder.accessor(tangents, ARRAY_BUFFER)
    for k, uv in enumerate(mesh.uvs):
        attributes[f"TEXCOORD_{k}"] = builder.accessor(uv, ARRAY_BUFFER)
    for k, color in enumerate(mesh.colors):
        attributes[f"COLOR_{k}"] = builder.accessor(np.clip(color, 0.0, 1.0), ARRAY_BUFFER)
    for key, array in sorted(mesh.attributes.items()):
        attributes[key] = builder.accessor(array, ARRAY_BUFFER)
    targets = []
    for morph in mesh.morphs:
        target = {}
        for key, offsets in zip(("POSITION", "NORMAL", "TANGENT"), morph.arrays(), strict=True):
            if (
                offsets is not None
                and not (key == "TANGENT" and "TANGENT" not in attributes)
                and not (key == "NORMAL" and "NORMAL" not in attributes)
            ):
                target[key] = builder.accessor(offsets, ARRAY_BUFFER, bounds=key == "POSITION")
        targets.append(target)
    kind = np.uint16 if mesh.vertices <= 65535 else np.uint32
    primitives = []
    for slot in mesh.slots:
        faces = mesh.indices[mesh.material == slot].astype(kind).reshape(-1, 1)
        primitive: dict[str, Any] = {"attributes": attributes, "indices": builder.accessor(faces, INDEX_BUFFER)}
        if slot >= 0:
            primitive["material"] = slot
        if targets:
            primitive["targets"] = targets
        primitives.append(primitive)
    entry: dict[str, Any] = {"primitives": primitives}
    if mesh.morph_weights and len(mesh.morph_weights) == len(mesh.morphs):
        entry["weights"] = list(mesh.morph_weights)
    extras = mesh.extras
    if any(m.name for m in mesh.morphs) and (extras is None or isinstance(extras, dict)):
        extras = {**(extras or {}), TARGET_NAMES: [m.name for m in mesh.morphs]}
    return _named(entry, mesh.name, extras)


def write_nodes(
    scene: Scene,
    mesh_of: dict[int, int],
    skin_of: dict[int, int],
    builder: Builder,
    used: set[str],
    out: Written,
    instancing: bool,
    tell: Tell,
) -> list[dict[str, Any]]:
    """Node entries; identity parts are left out. Scatters become one node when `instancing`."""
    nodes = scene.nodes
    swallowed, batches = scatter_batches(scene) if instancing else (np.zeros(len(nodes), np.bool_), {})
    kept = np.flatnonzero(~swallowed)
    renumber = np.full(len(nodes), -1, np.int64)
    renumber[kept] = np.arange(len(kept))
    out.node_index[:] = renumber.tolist()
    translation, rotation, scale, sheared = split_trs(nodes.local)
    moved = np.asarray((translation != 0).any(axis=1)).tolist()
    turned = np.asarray((np.abs(rotation[:, :3]) > 1e-15).any(axis=1)).tolist()
    scaled = np.asarray((np.abs(scale - 1) > 1e-12).any(axis=1)).tolist()
    entries: list[dict[str, Any]] = [{"name": n} if n else {} for n in paced(nodes.names, tell)]
    t, r, s = translation.tolist(), rotation.tolist(), scale.tolist()
    for entry, has_t, has_r, has_s, et, er, es in zip(entries, moved, turned, scaled, t, r, s, strict=True):
        if has_t:
            entry["translation"] = et
        if has_r:
            entry["rotation"] = er
        if has_s:
            entry["scale"] = es
    for i in np.flatnonzero(sheared).tolist():
        for key in ("translation", "rotation", "scale"):
            entries[i].pop(key, None)
        entries[i]["matrix"] = nodes.local[i].T.ravel().tolist()
    for i, (rt, rr, rs) in nodes.rest.items():
        entries[i].pop("matrix", None)
        entries[i] |= {"translation": list(rt), "rotation": list(rr), "scale": list(rs)}
    mesh_table = np.array([mesh_of.get(i, -1) for i in range(len(scene.meshes))] + [-1], np.int64)
    for i, m in zip(nodes.parts.tolist(), mesh_table[nodes.mesh[nodes.parts]].tolist(), strict=True):
        if m >= 0:
            entries[i]["mesh"] = m
    for i in np.flatnonzero(nodes.skin >= 0).tolist():
        if int(nodes.skin[i]) in skin_of and "mesh" in entries[i]:
            entries[i]["skin"] = skin_of[int(nodes.skin[i])]
    for i in np.flatnonzero(nodes.camera >= 0).tolist():
        entries[i]["camera"] = int(nodes.camera[i])
    for i in np.flatnonzero(nodes.light >= 0).tolist():
        entries[i]["extensions"] = {"KHR_lights_punctual": {"light": int(nodes.light[i])}}
    order = np.argsort(nodes.parent, kind="stable")
    order = order[(nodes.parent[order] >= 0) & ~swallowed[order]]
    owners, starts = np.unique(nodes.parent[order], return_index=True)
    runs = np.split(renumber[order], starts[1:]) if len(owners) else []
    for owner, children in zip(owners.tolist(), runs, strict=True):
        entries[owner]["children"] = children.tolist()
    for i, extra in nodes.extras.items():
        entries[i]["extras"] = extra
    paged = np.flatnonzero(nodes.page[:, 3] > 0)
    for i, (*scale_offset, page) in zip(paged.tolist(), on_pages(nodes, paged).tolist(), strict=True):
        held = nodes.extras.get(i, {})
        if isinstance(held, dict):
            entries[i]["extras"] = {**held, PAGE_KEY: {"scaleOffset": scale_offset, "page": int(page)}}
    for i, (mesh, matrices, places) in batches.items():
        if mesh in mesh_of:
            used.add("EXT_mesh_gpu_instancing")
            entries[i]["mesh"] = mesh_of[mesh]
            entries[i]["extensions"] = {
                "EXT_mesh_gpu_instancing": {"attributes": instance_attributes(matrices, places, builder)}
            }
    off = np.flatnonzero(nodes.flags & HIDDEN).tolist()
    if off:
        used.add("KHR_node_visibility")
    for i in off:
        entries[i].setdefault("extensions", {})["KHR_node_visibility"] = {"visible": False}
    return entries if not swallowed.any() else [entries[i] for i in kept.tolist()]


def instance_attributes(matrices: F64, places: F64 | None, builder: Builder) -> dict[str, int]:
    """The extension's own, and attributes of an application, as it allows them: the place on a shared page of lightmaps."""
    translation, rotation, scale, _ = split_trs(matrices)
    columns = {"TRANSLATION": translation, "ROTATION": rotation, "SCALE": scale}
    if places is not None:
        columns |= {"_LIGHTMAP_SCALE_OFFSET": places[:, :4], "_LIGHTMAP_PAGE": places[:, 4:]}
    return {k: builder.accessor(v.astype(np.float32)) for k, v in columns.items()}


def write_light(light: Light) -> dict[str, Any]:
    entry: dict[str, Any] = {"type": light.kind, "color": list(light.color), "intensity": light.intensity}
    if light.range is not None and light.kind != "directional":
        entry["range"] = light.range
    if light.kind == "spot":
        entry["spot"] = {"innerConeAngle": light.inner_cone, "outerConeAngle": light.outer_cone}
    return _named(entry, light.name, light.extras)


def write_camera(camera: Camera) -> dict[str, Any]:
    if camera.kind == "perspective":
        lens: dict[str, Any] = {"yfov": camera.yfov, "znear": camera.znear}
        if camera.aspect is not None:
            lens["aspectRatio"] = camera.aspect
        if camera.zfar is not None and camera.zfar > camera.znear:
            lens["zfar"] = camera.zfar
    else:
        far = camera.zfar if camera.zfar is not None and camera.zfar > camera.znear else camera.znear + 1000.0
        lens = {"xmag": camera.xmag, "ymag": camera.ymag, "znear": camera.znear, "zfar": far}
    return _named({"type": camera.kind, camera.kind: lens}, camera.name, camera.extras)


def write_clips(scene: Scene, builder: Builder, renumber: list[int]) -> list[dict[str, Any]]:
    entries = []
    for clip in scene.clips:
        channels: list[dict[str, Any]] = []
        samplers: list[dict[str, Any]] = []
        taken: set[tuple[int, str]] = set()
        for channel in clip.channels:
            if (channel.node, channel.path) in taken:
                continue
            taken.add((channel.node, channel.path))
            samplers.append(
                {
                    "input": builder.accessor(channel.times.reshape(-1, 1), bounds=True),
                    "output": builder.accessor(channel.values),
                    "interpolation": channel.interpolation,
                }
            )
            channels.append(
                {"sampler": len(samplers) - 1, "target": {"node": renumber[channel.node], "path": channel.path}}
            )
        if channels:
            entries.append(_named({"channels": channels, "samplers": samplers}, clip.name, clip.extras))
    return entries
