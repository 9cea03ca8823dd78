"""Stand-in receiver of glTF through pygltflib."""

from __future__ import annotations

import dataclasses
import json
import warnings
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import numpy as np
import pygltflib
import trimesh

from tidy_caravan.core.conventions.destinations import Destination, FormatName
from tidy_caravan.core.formats.shared.received import LIGHTMAP_PLACES, Gallery
from tidy_caravan.core.formats.shared.receiving import beside
from tidy_caravan.core.scene import (
    SCATTER,
    Camera,
    Channel,
    Clip,
    Light,
    Material,
    Mesh,
    Morph,
    Root,
    Sampler,
    Scene,
    Skin,
    TextureUse,
    make_nodes,
)
from tidy_caravan.core.scene.arrays import F64, AnyArray

WIDTH = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
KIND = {5120: np.int8, 5121: np.uint8, 5122: np.int16, 5123: np.uint16, 5125: np.uint32, 5126: np.float32}


def document_of(file: Path) -> Any:
    """The document as pygltflib reads it. The standard allows any value as extras; it only takes objects."""
    data = file.read_bytes()
    binary = data[:4] == b"glTF"
    text, blob = data, None
    if binary:
        size = int.from_bytes(data[12:16], "little")
        text, blob = data[20 : 20 + size], data[28 + size :]
    plain = json.loads(text, object_hook=lambda o: {k: v for k, v in o.items() if k != "extras" or isinstance(v, dict)})
    # its generic decoder takes a millisecond per node; its own Node class takes the same fields at once
    nodes = plain.pop("nodes", [])
    fields = {f.name for f in dataclasses.fields(pygltflib.Node)}
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        document = pygltflib.GLTF2.from_json(json.dumps(plain), infer_missing=True)
    document.nodes = [pygltflib.Node(**{k: v for k, v in node.items() if k in fields}) for node in nodes]
    if blob is not None:
        document.set_binary_blob(blob)
    return document


def receive_gltf(file: Path, destination: Destination, fmt: FormatName) -> Scene:
    """glTF through pygltflib; accessors decoded here, world matrices multiplied node by node."""
    document = document_of(file)
    blobs = [document.binary_blob() if b.uri is None else beside(file, b.uri) for b in document.buffers]

    def accessor(index: int) -> AnyArray:
        entry = document.accessors[index]
        view = document.bufferViews[entry.bufferView]
        start = (view.byteOffset or 0) + (entry.byteOffset or 0)
        kind, width = np.dtype(KIND[entry.componentType]), WIDTH[entry.type]
        stride = view.byteStride or kind.itemsize * width
        out = np.ndarray((entry.count, width), kind, blobs[view.buffer], start, (stride, kind.itemsize))
        return np.array(out)

    kept: dict[int, AnyArray] = {}

    def shared(index: int) -> AnyArray:
        if index not in kept:
            kept[index] = accessor(index)
        return kept[index]

    meshes = [mesh_of(m, shared) for m in document.meshes]
    count = len(document.nodes)
    parent = np.full(count, -1, np.int32)
    for i, node in enumerate(document.nodes):
        for child in node.children or []:
            parent[child] = i
    local = np.array([local_of(n) for n in document.nodes]).reshape(-1, 4, 4)
    mesh = [-1 if n.mesh is None else n.mesh for n in document.nodes]
    names = [n.name or "" for n in document.nodes]
    bound = [-1 if n.skin is None else n.skin for n in document.nodes]
    skins = tuple(
        Skin(
            tuple(s.joints),
            None
            if s.inverseBindMatrices is None
            else accessor(s.inverseBindMatrices).astype(np.float64).reshape(-1, 4, 4).transpose(0, 2, 1),
        )
        for s in document.skins
    )
    gallery = gallery_of(document, file, blobs)
    lit = [((n.extensions or {}).get("KHR_lights_punctual") or {}).get("light", -1) for n in document.nodes]
    nodes = make_nodes(
        parent,
        local,
        names,
        mesh=mesh,
        skin=bound,
        light=lit,
        camera=[-1 if n.camera is None else n.camera for n in document.nodes],
        extras={i: n.extras for i, n in enumerate(document.nodes) if n.extras},
    )
    scene = Scene(
        destination.file_convention(fmt),
        nodes,
        tuple(meshes),
        tuple(look_of(m) for m in document.materials),
        tuple(gallery.textures),
        tuple(gallery.images),
        lights=tuple(light_of(e) for e in lights_of(document)),
        cameras=tuple(camera_of(c) for c in document.cameras),
        skins=skins,
        clips=clips_of(document, accessor),
        roots=tuple(Root(tuple(s.nodes or ()), s.name or "") for s in document.scenes) or (Root(()),),
        default_root=-1 if document.scene is None else document.scene,
        extras={LIGHTMAP_PLACES: places_of(nodes.extras)},
    )
    return with_scatters(scene, document, accessor)


def gallery_of(document: Any, file: Path, blobs: list[bytes]) -> Gallery:
    """Textures by their number in the document."""
    pictures: list[bytes | None] = []
    for image in document.images:
        if image.bufferView is not None:
            view = document.bufferViews[image.bufferView]
            start = view.byteOffset or 0
            pictures.append(bytes(blobs[view.buffer][start : start + view.byteLength]))
        else:
            try:
                pictures.append(beside(file, image.uri))
            except OSError:
                pictures.append(None)
    out = Gallery()
    for texture in document.textures:
        sampler = None
        if texture.sampler is not None:
            entry = document.samplers[texture.sampler]
            sampler = Sampler(entry.magFilter, entry.minFilter, entry.wrapS or 10497, entry.wrapT or 10497)
        source = texture.source
        out.add(pictures[source] if source is not None and source < len(pictures) else None, sampler)
    return out


def field(entry: Any, key: str, default: Any = None) -> Any:
    """A field of what the library made an object of, or left as it stands in the file."""
    found = entry.get(key) if isinstance(entry, dict) else getattr(entry, key, None)
    return default if found is None else found


def use_of(entry: Any, strength: str = "") -> TextureUse | None:
    if entry is None or field(entry, "index") is None:
        return None
    moved = (field(entry, "extensions", {}) or {}).get("KHR_texture_transform") or {}
    return TextureUse(
        field(entry, "index"),
        field(entry, "texCoord", 0),
        tuple(moved.get("offset", (0.0, 0.0))),
        moved.get("rotation", 0.0),
        tuple(moved.get("scale", (1.0, 1.0))),
        moved.get("texCoord"),
        field(entry, strength, 1.0) if strength else 1.0,
    )


def look_of(entry: Any) -> Material:
    """A material with all that the portable model has."""
    pbr = entry.pbrMetallicRoughness
    extensions = entry.extensions or {}
    red, green, blue, alpha = (float(c) for c in field(pbr, "baseColorFactor", (1, 1, 1, 1)))
    glow = entry.emissiveFactor or (0.0, 0.0, 0.0)
    return Material(
        entry.name or "",
        (red, green, blue, alpha),
        float(field(pbr, "metallicFactor", 1.0)),
        float(field(pbr, "roughnessFactor", 1.0)),
        (float(glow[0]), float(glow[1]), float(glow[2])),
        float((extensions.get("KHR_materials_emissive_strength") or {}).get("emissiveStrength", 1.0)),
        use_of(field(pbr, "baseColorTexture")),
        use_of(field(pbr, "metallicRoughnessTexture")),
        use_of(entry.normalTexture, "scale"),
        use_of(entry.occlusionTexture, "strength"),
        use_of(entry.emissiveTexture),
        entry.alphaMode or "OPAQUE",
        0.5 if entry.alphaCutoff is None else entry.alphaCutoff,
        bool(entry.doubleSided),
        "KHR_materials_unlit" in extensions,
    )


def lights_of(document: Any) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = ((document.extensions or {}).get("KHR_lights_punctual") or {}).get("lights") or []
    return found


def light_of(entry: dict[str, Any]) -> Light:
    red, green, blue = entry.get("color", (1.0, 1.0, 1.0))
    spot = entry.get("spot") or {}
    return Light(
        entry["type"],
        entry.get("name", ""),
        (red, green, blue),
        entry.get("intensity", 1.0),
        entry.get("range"),
        spot.get("innerConeAngle", 0.0),
        spot.get("outerConeAngle", np.pi / 4),
    )


def camera_of(entry: Any) -> Camera:
    if entry.type == "orthographic":
        lens = entry.orthographic
        return Camera(
            "orthographic",
            xmag=field(lens, "xmag", 1.0),
            ymag=field(lens, "ymag", 1.0),
            znear=field(lens, "znear", 0.0),
            zfar=field(lens, "zfar"),
        )
    lens = entry.perspective
    return Camera(
        "perspective",
        yfov=field(lens, "yfov"),
        aspect=field(lens, "aspectRatio"),
        znear=field(lens, "znear"),
        zfar=field(lens, "zfar"),
    )


def clips_of(document: Any, accessor: Callable[[int], AnyArray]) -> tuple[Clip, ...]:
    out = []
    for animation in document.animations:
        channels = []
        for channel in animation.channels:
            sampler = animation.samplers[channel.sampler]
            node, path = field(channel.target, "node"), field(channel.target, "path")
            values = accessor(sampler.output)
            channels.append(
                Channel(node, path, accessor(sampler.input).ravel(), values, sampler.interpolation or "LINEAR")
            )
        out.append(Clip(tuple(channels), animation.name or ""))
    return tuple(out)


def local_of(node: Any) -> F64:
    if node.matrix is not None:
        return np.array(node.matrix, dtype=np.float64).reshape(4, 4).T
    out = np.eye(4)
    if node.rotation is not None:
        x, y, z, w = node.rotation
        out = trimesh.transformations.quaternion_matrix([w, x, y, z])
    if node.scale is not None:
        out[:3, :3] = out[:3, :3] * np.array(node.scale)
    if node.translation is not None:
        out[:3, 3] = node.translation
    return out


def mesh_of(entry: Any, accessor: Callable[[int], AnyArray]) -> Mesh:
    """All primitives of a mesh in file order, vertices appended per primitive unless they are shared."""
    first = entry.primitives[0].attributes
    shared = all(p.attributes.POSITION == first.POSITION for p in entry.primitives)
    groups = [entry.primitives[0]] if shared else entry.primitives
    columns: dict[str, AnyArray] = {}
    influences = [f"{kind}_{k}" for kind in ("JOINTS", "WEIGHTS") for k in range(4)]
    for key in ("POSITION", "NORMAL", "TANGENT", "COLOR_0", *(f"TEXCOORD_{k}" for k in range(8)), *influences):
        indices = [getattr(p.attributes, key, None) for p in groups]
        present = [i for i in indices if i is not None]
        if len(present) == len(groups):
            columns[key] = np.concatenate([accessor(i) for i in present])
    faces, slots, base = [], [], 0
    for primitive in entry.primitives:
        flat = accessor(primitive.indices)[:, 0].astype(np.uint32) + np.uint32(base)
        faces.append(flat.reshape(-1, 3))
        slots.append(np.full(len(flat) // 3, -1 if primitive.material is None else primitive.material, np.int32))
        if not shared:
            base += len(accessor(primitive.attributes.POSITION))
    uvs: list[AnyArray] = []
    while f"TEXCOORD_{len(uvs)}" in columns:
        uvs.append(columns[f"TEXCOORD_{len(uvs)}"])
    return Mesh(
        columns["POSITION"],
        np.concatenate(faces),
        np.concatenate(slots),
        columns.get("NORMAL"),
        columns.get("TANGENT"),
        uvs=tuple(uvs),
        colors=(columns["COLOR_0"].astype(np.float32),) if "COLOR_0" in columns else (),
        attributes={k: columns[k] for k in influences if k in columns},
        morphs=morphs_of(groups, accessor),
        morph_weights=tuple(entry.weights or ()),
        name=entry.name or "",
    )


def morphs_of(groups: list[Any], accessor: Callable[[int], AnyArray]) -> tuple[Morph, ...]:
    """Morph targets that all primitives have, positions and normals."""

    def named(target: Any, key: str) -> int | None:
        found = target.get(key) if isinstance(target, dict) else getattr(target, key, None)
        return None if found is None else int(found)

    out = []
    for k in range(min(len(p.targets or []) for p in groups)):
        found = {}
        for key in ("POSITION", "NORMAL"):
            parts = [(named(p.targets[k], key), len(accessor(p.attributes.POSITION))) for p in groups]
            if any(i is not None for i, _ in parts):
                columns = [np.zeros((n, 3), np.float32) if i is None else accessor(i) for i, n in parts]
                found[key] = np.concatenate(columns)
        out.append(Morph(found.get("POSITION"), found.get("NORMAL")))
    return tuple(out)


def places_of(extras: Mapping[int, Any]) -> dict[int, list[float]]:
    """By node, where its lightmap lies on a shared page as its data say: scale and offset of coordinates, and the page."""
    out = {}
    for i, said in extras.items():
        place = said.get("lightmapPlace") if isinstance(said, dict) else None
        if isinstance(place, dict):
            given = place.get("scaleOffset")
            numbers = [*(given if isinstance(given, list) else ()), place.get("page")]
            out[i] = [float(n) if isinstance(n, int | float) else float("nan") for n in numbers]
    return out


def with_scatters(scene: Scene, document: Any, accessor: Callable[[int], AnyArray]) -> Scene:
    """The scene with every instance of a node that draws many (EXT_mesh_gpu_instancing) as a node of its own."""
    many = [
        (i, (n.extensions or {}).get("EXT_mesh_gpu_instancing"))
        for i, n in enumerate(document.nodes)
        if n.mesh is not None and n.extensions and "EXT_mesh_gpu_instancing" in n.extensions
    ]
    if not many:
        return scene
    nodes = scene.nodes
    mesh, flags = nodes.mesh.copy(), nodes.flags.copy()
    parents, locals_, meshes = [nodes.parent], [nodes.local], []
    places = dict(scene.extras.get(LIGHTMAP_PLACES, {}))
    for i, extension in many:
        attributes = (extension or {})["attributes"]
        columns = {k: accessor(v).astype(np.float64) for k, v in attributes.items()}
        count = max(len(c) for c in columns.values())
        place = np.tile(np.eye(4), (count, 1, 1))
        if "ROTATION" in columns:
            for k, (x, y, z, w) in enumerate(columns["ROTATION"]):
                place[k] = trimesh.transformations.quaternion_matrix([w, x, y, z])
        if "SCALE" in columns:
            place[:, :3, :3] = place[:, :3, :3] * columns["SCALE"][:, None, :]
        if "TRANSLATION" in columns:
            place[:, :3, 3] = columns["TRANSLATION"]
        told = [columns[k] for k in ("_LIGHTMAP_SCALE_OFFSET", "_LIGHTMAP_PAGE") if k in columns]
        if len(told) == 2 and {len(c) for c in told} == {count} and (each := np.column_stack(told)).shape[1] == 5:
            places |= dict(enumerate(each.tolist(), sum(map(len, parents))))
        parents.append(np.full(count, i, np.int32))
        locals_.append(place)
        meshes.append(np.full(count, mesh[i], np.int32))
        mesh[i] = -1
        flags[i] |= SCATTER
    more = sum(map(len, meshes))
    none = np.full(more, -1, np.int32)
    return scene.but(
        extras={**scene.extras, LIGHTMAP_PLACES: places},
        nodes=make_nodes(
            np.concatenate(parents),
            np.concatenate(locals_),
            [*nodes.names, *[""] * more],
            mesh=np.concatenate([mesh, *meshes]),
            flags=np.concatenate([flags, np.zeros(more, np.uint8)]),
            skin=np.concatenate([nodes.skin, none]),
            light=np.concatenate([nodes.light, none]),
            camera=np.concatenate([nodes.camera, none]),
            extras=nodes.extras,
        ),
    )
