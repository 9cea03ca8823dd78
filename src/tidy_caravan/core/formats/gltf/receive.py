"""Stand-in receiver of glTF through pygltflib, strict where the standard lets receivers be: what it may pass over is told."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import fields, is_dataclass, replace
from functools import cache
from pathlib import Path
from typing import Any, get_args, get_type_hints

import numpy as np
import pygltflib
import trimesh

from tidy_caravan.core.conventions.destinations import Destination, FormatName
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.shared.affine import affine, doubted
from tidy_caravan.core.formats.shared.received import DOUBTS, FILE_DATA, LIGHTMAP_PLACES, ODD, VALUE, Gallery
from tidy_caravan.core.formats.shared.receiving import OTHER_BOUNDS, beside, bounded
from tidy_caravan.core.formats.shared.written import TARGET_NAMES
from tidy_caravan.core.pace import Tell, nobody, paced
from tidy_caravan.core.scene import (
    HIDDEN,
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
from tidy_caravan.core.scene.nodes import Rest

WIDTH = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
KIND = {5120: np.int8, 5121: np.uint8, 5122: np.int16, 5123: np.uint16, 5125: np.uint32, 5126: np.float32}
EXTENSIONS = (
    "EXT_mesh_gpu_instancing",
    "KHR_lights_punctual",
    "KHR_materials_emissive_strength",
    "KHR_materials_unlit",
    "KHR_node_visibility",
    "KHR_texture_transform",
)
"""Those that this receiver goes by."""
MAGIC = {b"\x89PNG": "image/png", b"\xff\xd8\xff": "image/jpeg", b"RIFF": "image/webp", b"\xabKTX": "image/ktx2"}


def document_of(file: Path, tell: Tell = nobody) -> tuple[Any, list[str]]:
    """The document as pygltflib reads it, and what is doubtful about it as a whole. The standard allows any value as
    extras; the library only takes objects, and is given such a value as one (VALUE). Raises UnusableInput for what asks
    for another receiver."""
    data = file.read_bytes()
    binary = data[:4] == b"glTF"
    text, blob = data, None
    if binary:
        total, size = int.from_bytes(data[8:12], "little"), int.from_bytes(data[12:16], "little")
        if data[4:8] != b"\2\0\0\0" or data[16:20] != b"JSON" or total != len(data):
            raise beyond(file, f"its head says {total} bytes of version {data[4]}, and there are {len(data)} of 2")
        text, blob = data[20 : 20 + size], data[28 + size :]
    plain = json.loads(text, object_hook=with_objects)
    version = (plain.get("asset") or {}).get("version")
    if not isinstance(version, str) or not version.startswith("2."):
        raise UnusableInput(
            "the receiver cannot read it: it does not say that it is glTF 2; pack again",
            where=file.name,
            code="arrival.unreadable",
        )
    if further := [e for e in plain.get("extensionsRequired") or [] if e not in EXTENSIONS]:
        raise UnusableInput(
            f"the receiver cannot read it: it asks for {further[0]}, which this one does not know",
            where=file.name,
            code="arrival.unreadable",
        )
    undeclared = [e for e in EXTENSIONS if e not in (plain.get("extensionsUsed") or []) and uses_extension(text, e)]
    doubts = [f"the file uses {e} without declaring it: receivers may pass over it" for e in undeclared]
    document: Any = pygltflib.GLTF2()
    for key, kind in fields_of(pygltflib.GLTF2).items():
        if (value := plain.get(key)) is not None:
            lists = kind is not None and isinstance(value, list)
            setattr(document, key, [as_kind(kind, v) for v in paced(value, tell)] if lists else as_kind(kind, value))
    for mesh in document.meshes:
        for primitive in mesh.primitives:
            primitive.attributes = pygltflib.Attributes(**primitive.attributes)
    if blob is not None:
        document.set_binary_blob(blob)
    return document, doubts


@cache
def fields_of(kind: Any) -> dict[str, Any]:
    """The fields of one of the library's classes, and of which of its classes their values are, None for plain ones."""
    hints = get_type_hints(kind)
    return {f.name: next(filter(is_dataclass, within(hints[f.name])), None) for f in fields(kind)}


def within(hint: Any) -> Iterator[Any]:
    """A type and those that it is made of."""
    yield hint
    for inner in get_args(hint):
        yield from within(inner)


def as_kind(kind: Any, value: Any) -> Any:
    """A value of the document as an object of the library's class. Its own decoder looks up the types of all fields for each
    object, which takes a millisecond."""
    if kind is None or value is None:
        return value
    if isinstance(value, list):
        return [as_kind(kind, v) for v in value]
    inner = fields_of(kind)
    return kind(**{k: as_kind(inner[k], v) for k, v in value.items() if k in inner})


def uses_extension(text: bytes, name: str) -> bool:
    return re.search(rb'"' + name.encode() + rb'"\s*:', text) is not None


def receive_gltf(file: Path, destination: Destination, fmt: FormatName, tell: Tell = nobody) -> Scene:
    """glTF through pygltflib; accessors decoded here, world matrices multiplied node by node."""
    document, doubts = document_of(file, tell)
    blobs = [document.binary_blob() if b.uri is None else beside(file, b.uri) for b in document.buffers]

    def accessor(index: int) -> AnyArray:
        entry = at(document.accessors, index)
        if entry.sparse is not None or entry.bufferView is None:
            raise UnusableInput(
                f"the receiver cannot read it: list {index} has no view of its own, or is sparse, which this one does not know",
                where=file.name,
                code="arrival.unreadable",
            )
        view = at(document.bufferViews, entry.bufferView)
        kind, width = np.dtype(KIND[entry.componentType]), WIDTH[entry.type]
        stride = view.byteStride or kind.itemsize * width
        begin = entry.byteOffset or 0
        end = begin + stride * (entry.count - 1) + kind.itemsize * width if entry.count else begin
        if end > (view.byteLength or 0):
            raise beyond(file, f"list {index} reads {end} bytes of a view of {view.byteLength}")
        start = (view.byteOffset or 0) + begin
        out = np.array(np.ndarray((entry.count, width), kind, blobs[view.buffer], start, (stride, kind.itemsize)))
        if entry.normalized and kind.kind in "iu":
            decoded: AnyArray = np.maximum(out.astype(np.float64) / float(np.iinfo(kind.name).max), -1.0)
            return decoded.astype(np.float32)
        return out

    for k, (buffer, blob) in enumerate(zip(document.buffers, blobs, strict=True)):
        if not 0 < (buffer.byteLength or 0) <= len(blob):
            raise beyond(file, f"buffer {k} says it has {buffer.byteLength} bytes, and has {len(blob)}")
    for k, view in enumerate(document.bufferViews):
        if (view.byteOffset or 0) + (view.byteLength or 0) > document.buffers[view.buffer].byteLength:
            raise beyond(file, f"view {k} reads beyond its buffer")
    kept: dict[int, AnyArray] = {}

    def shared(index: int) -> AnyArray:
        if index not in kept:
            kept[index] = accessor(index)
        return kept[index]

    meshes = [mesh_of(m, shared) for m in paced(document.meshes, tell)]
    count = len(document.nodes)
    parent = np.full(count, -1, np.int32)
    for i, node in enumerate(document.nodes):
        for child in node.children or []:
            if not 0 <= child < count or parent[child] >= 0:
                told = "below two others" if 0 <= child < count else "nowhere"
                raise beyond(file, f"node {child} of {count} hangs {told}")
            parent[child] = i
    local = np.array([local_of(n) for n in paced(document.nodes, tell)]).reshape(-1, 4, 4)
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
    gallery, untold = gallery_of(document, file, blobs)
    lit = [((n.extensions or {}).get("KHR_lights_punctual") or {}).get("light", -1) for n in document.nodes]
    nodes = make_nodes(
        parent,
        affine(local),
        names,
        mesh=mesh,
        skin=bound,
        light=lit,
        flags=np.where([switched_off(n) for n in document.nodes], HIDDEN, 0).astype(np.uint8),
        camera=[-1 if n.camera is None else n.camera for n in document.nodes],
        extras={i: n.extras for i, n in enumerate(document.nodes) if n.extras},
    )
    clips = clips_of(document, shared)
    nodes = replace(nodes, rest=resting(document, clips))
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
        clips=clips,
        roots=tuple(Root(tuple(s.nodes or ()), s.name or "", s.extras or None) for s in document.scenes) or (Root(()),),
        default_root=-1 if document.scene is None else document.scene,
        extras={
            LIGHTMAP_PLACES: places_of(nodes.extras),
            FILE_DATA: {
                "extras": document.extras or None,
                "asset": {"copyright": document.asset.copyright, "extras": document.asset.extras or None},
            },
            DOUBTS: [
                *doubts,
                *untold,
                *doubted(local, names),
                *targets_told(document),
                *lengths_told(document, shared),
            ],
        },
    )
    return with_odd_bounds(with_scatters(scene, document, accessor), document, shared)


def with_objects(entry: dict[str, Any]) -> dict[str, Any]:
    """An object of the file whose extras are an object as well, or nothing."""
    said = entry.get("extras", entry)
    if isinstance(said, dict):
        return entry
    rest = {k: v for k, v in entry.items() if k != "extras"}
    return rest if said is None else {**rest, "extras": {VALUE: said}}


def switched_off(node: Any) -> bool:
    return ((node.extensions or {}).get("KHR_node_visibility") or {}).get("visible") is False


def at(entries: Any, index: int) -> Any:
    """Raises IndexError also for what Python would count from the end."""
    if index < 0:
        raise IndexError(index)
    return entries[index]


def beyond(file: Path, told: str) -> UnusableInput:
    return UnusableInput(
        f"the receiver cannot read it: {told}; the file is cut short or damaged, pack again",
        where=file.name,
        code="arrival.unreadable",
    )


def targets_told(document: Any) -> list[str]:
    """Views that are meant for another purpose than they serve: receivers that load them by it do not draw (3.6.1)."""
    vertices, triangles = 34962, 34963
    told = []
    seen = set()
    for mesh in document.meshes:
        for primitive in mesh.primitives:
            served = [(i, vertices) for i in vars(primitive.attributes).values() if isinstance(i, int)]
            for index, wanted in [*served, (primitive.indices, triangles)]:
                if index is None or index in seen:
                    continue
                seen.add(index)
                view = document.accessors[index].bufferView
                target = document.bufferViews[view].target if view is not None else None
                if target is not None and target != wanted:
                    what = "vertices" if wanted == vertices else "triangles"
                    told.append(f"a list of {what} of mesh “{mesh.name or ''}” is marked as something else ({target})")
    return told


def lengths_told(document: Any, accessor: Callable[[int], AnyArray]) -> list[str]:
    """Clips whose keys are not where the file says: receivers take their length from that (3.11)."""
    told = []
    for animation in document.animations:
        for index in {s.input for s in animation.samplers}:
            times, entry = accessor(index), document.accessors[index]
            said = [*(entry.min or ()), *(entry.max or ())]
            if len(times) and (
                len(said) != 2 or not np.allclose(said, [times.min(), times.max()], rtol=1e-6, atol=1e-6)
            ):
                told.append(f"clip “{animation.name or ''}” does not last as long as the file says")
    return told


def with_odd_bounds(scene: Scene, document: Any, accessor: Callable[[int], AnyArray]) -> Scene:
    """The scene with the parts told whose vertices are not where the file says: receivers that go by it cull them."""
    wrong = np.zeros(len(document.meshes), np.bool_)
    known: dict[int, bool] = {}
    for k, mesh in enumerate(document.meshes):
        for index in {p.attributes.POSITION for p in mesh.primitives}:
            if index not in known:
                entry = document.accessors[index]
                both = [entry.min or (), entry.max or ()]  # the standard asks for them (3.6.2.5)
                said = np.array(both if len(both[0]) == len(both[1]) else [], np.float64)
                known[index] = not bounded(accessor(index).astype(np.float64), said)
            wrong[k] |= known[index]
    rows = np.flatnonzero(np.isin(scene.nodes.mesh, np.flatnonzero(wrong)))
    return scene.but(extras={**scene.extras, ODD: {i: [OTHER_BOUNDS] for i in rows.tolist()}}) if len(rows) else scene


def gallery_of(document: Any, file: Path, blobs: list[bytes]) -> tuple[Gallery, list[str]]:
    """Textures by their number in the document, and which images do not say what they are."""
    pictures: list[bytes | None] = []
    untold = []
    for k, image in enumerate(document.images):
        if image.bufferView is not None:
            view = at(document.bufferViews, image.bufferView)
            start = view.byteOffset or 0
            pictures.append(bytes(blobs[view.buffer][start : start + view.byteLength]))
        else:
            try:
                pictures.append(beside(file, image.uri))
            except OSError:
                pictures.append(None)
        kind = next((m for begin, m in MAGIC.items() if (pictures[-1] or b"").startswith(begin)), None)
        if (image.mimeType not in (kind, None) and kind) or (image.mimeType is None and image.bufferView is not None):
            said = f"it is {image.mimeType}" if image.mimeType else "nothing of what it is"
            untold.append(f"image {k} “{image.name or ''}” says {said}, and holds {kind}: receivers may not show it")
    out = Gallery()
    for texture in document.textures:
        sampler = None
        if texture.sampler is not None:
            entry = at(document.samplers, texture.sampler)
            across, upwards = (10497 if w is None else int(w) for w in (entry.wrapS, entry.wrapT))
            sampler = Sampler(entry.magFilter, entry.minFilter, across, upwards, extras=entry.extras or None)
        source = texture.source
        if source is None or not 0 <= source < len(pictures):
            out.add(None, sampler)
            continue
        image = document.images[source]
        out.add(pictures[source], sampler, image.name or "", texture.extras or None, image.extras or None)
    return out, untold


def field(entry: Any, key: str, default: Any = None) -> Any:
    """A field of what the library made an object of, or left as it stands in the file."""
    found = entry.get(key) if isinstance(entry, dict) else getattr(entry, key, None)
    return default if found is None else found


def use_of(entry: Any, strength: str = "") -> TextureUse | None:
    if entry is None or field(entry, "index") is None:
        return None
    moved = (field(entry, "extensions", {}) or {}).get("KHR_texture_transform") or {}
    (x, y), (wide, high) = moved.get("offset", (0.0, 0.0)), moved.get("scale", (1.0, 1.0))
    return TextureUse(
        int(field(entry, "index")),
        int(field(entry, "texCoord", 0)),
        (float(x), float(y)),
        float(moved.get("rotation", 0.0)),
        (float(wide), float(high)),
        moved.get("texCoord"),
        float(field(entry, strength, 1.0)) if strength else 1.0,
        field(entry, "extras"),
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
        entry.extras or None,
    )


def lights_of(document: Any) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = ((document.extensions or {}).get("KHR_lights_punctual") or {}).get("lights") or []
    return found


def light_of(entry: dict[str, Any]) -> Light:
    red, green, blue = entry.get("color", (1.0, 1.0, 1.0))
    spot = entry.get("spot") or {}
    reach = entry.get("range")
    return Light(
        entry["type"],
        entry.get("name", ""),
        (float(red), float(green), float(blue)),
        float(entry.get("intensity", 1.0)),
        None if reach is None else float(reach),
        float(spot.get("innerConeAngle", 0.0)),
        float(spot.get("outerConeAngle", np.pi / 4)),
        entry.get("extras"),
    )


def camera_of(entry: Any) -> Camera:
    own = {"name": entry.name or "", "extras": entry.extras}
    if entry.type == "orthographic":
        lens = entry.orthographic
        return Camera(
            "orthographic",
            **own,
            xmag=field(lens, "xmag", 1.0),
            ymag=field(lens, "ymag", 1.0),
            znear=field(lens, "znear", 0.0),
            zfar=field(lens, "zfar"),
        )
    if entry.type != "perspective":
        raise ValueError(f"a camera of kind {entry.type}")
    lens = entry.perspective
    return Camera(
        "perspective",
        **own,
        yfov=float(field(lens, "yfov")),
        aspect=field(lens, "aspectRatio"),
        znear=float(field(lens, "znear")),
        zfar=field(lens, "zfar"),
    )


def clips_of(document: Any, accessor: Callable[[int], AnyArray]) -> tuple[Clip, ...]:
    out = []
    for animation in document.animations:
        channels = []
        for channel in animation.channels:
            sampler = at(animation.samplers, channel.sampler)
            node, path = field(channel.target, "node"), field(channel.target, "path")
            values = accessor(sampler.output)
            channels.append(
                Channel(node, path, accessor(sampler.input).ravel(), values, sampler.interpolation or "LINEAR")
            )
        out.append(Clip(tuple(channels), animation.name or "", animation.extras or None))
    return tuple(out)


def resting(document: Any, clips: tuple[Clip, ...]) -> dict[int, Rest]:
    """Translation, rotation and scale of the nodes that clips move, as the file has them: their matrix does not tell on which
    axis a mirror lies, and a clip of their turn leaves the rest as it is."""
    out: dict[int, Rest] = {}
    for i in {c.node for clip in clips for c in clip.channels}:
        node = at(document.nodes, i)
        if node.matrix is None:
            out[i] = (
                tuple(node.translation or (0.0, 0.0, 0.0)),
                tuple(node.rotation or (0.0, 0.0, 0.0, 1.0)),
                tuple(node.scale or (1.0, 1.0, 1.0)),
            )
    return out


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
    shared = all(vars(p.attributes) == vars(first) for p in entry.primitives)
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
        if primitive.indices is None:  # every vertex once, in order
            flat = np.arange(len(accessor(primitive.attributes.POSITION)) // 3 * 3, dtype=np.uint32) + np.uint32(base)
        else:
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
        morphs=morphs_of(groups, accessor, names_of_targets(entry.extras)),
        morph_weights=tuple(entry.weights or ()),
        name=entry.name or "",
        extras=entry.extras or None,
    )


def names_of_targets(extras: Any) -> list[Any]:
    """Names of morph targets, where they are kept by common usage."""
    names = extras.get(TARGET_NAMES) if isinstance(extras, dict) else None
    return names if isinstance(names, list) else []


def morphs_of(groups: list[Any], accessor: Callable[[int], AnyArray], names: list[Any]) -> tuple[Morph, ...]:
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
        out.append(Morph(found.get("POSITION"), found.get("NORMAL"), name=str(names[k]) if k < len(names) else ""))
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
            rest=nodes.rest,
        ),
    )
