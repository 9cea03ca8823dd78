"""Scenes in the store: meshes each under their own hash, so that runs share what they did not touch."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
import orjson
from pydantic import TypeAdapter
from safetensors.numpy import load, save

from tidy_caravan.core.route import StepRecord, StepScenes
from tidy_caravan.core.scene import (
    Camera,
    Channel,
    Clip,
    Convention,
    Identities,
    Image,
    Light,
    Material,
    Mesh,
    Morph,
    Nodes,
    Note,
    Origin,
    Recipe,
    Root,
    Scene,
    Skin,
    Texture,
    Touched,
    Travel,
)
from tidy_caravan.core.scene.arrays import AnyArray
from tidy_caravan.core.scene.levels import Level, in_use
from tidy_caravan.core.scene.nodes import LATER
from tidy_caravan.server.store.blobs import Store

ORIGIN_NODES = "originNodes"
"""(K, 2) nodes that say where their triangles came from, and which of the origins is theirs."""

TABLES: dict[str, TypeAdapter[Any]] = {
    "materials": TypeAdapter(tuple[Material, ...]),
    "textures": TypeAdapter(tuple[Texture, ...]),
    "lights": TypeAdapter(tuple[Light, ...]),
    "cameras": TypeAdapter(tuple[Camera, ...]),
    "roots": TypeAdapter(tuple[Root, ...]),
    "notes": TypeAdapter(tuple[Note, ...]),
    "travel": TypeAdapter(tuple[Travel, ...]),
    "convention": TypeAdapter(Convention),
}
COLUMNS = ("parent", "local", "mesh", "light", "camera", "skin", "flags", "layer", "source")
META = "meta.json"


def to_bytes(meta: Any, arrays: dict[str, AnyArray]) -> bytes:
    """One safetensors file with a JSON document as a tensor of bytes."""
    text = np.frombuffer(orjson.dumps(meta, option=orjson.OPT_NON_STR_KEYS), np.uint8)
    return bytes(save({**{k: np.ascontiguousarray(v) for k, v in arrays.items()}, META: text}))


def from_bytes(data: bytes) -> tuple[Any, dict[str, AnyArray]]:
    arrays = load(data)
    return orjson.loads(arrays.pop(META).tobytes()), arrays


def mesh_bytes(mesh: Mesh) -> bytes:
    meta = {
        "name": mesh.name,
        "extras": mesh.extras,
        "weights": mesh.morph_weights,
        "morphs": [m.name for m in mesh.morphs],
        "uvs": len(mesh.uvs),
        "colors": len(mesh.colors),
        "attributes": sorted(mesh.attributes),
    }
    if mesh.recipe is not None:
        r = mesh.recipe
        meta["recipe"] = [r.kind, dict(r.values), sorted(r.arrays), dict(r.setting)]
    return to_bytes(meta, dict(mesh.arrays()))


def mesh_from(data: bytes) -> Mesh:
    meta, a = from_bytes(data)
    return Mesh(
        a["positions"],
        a["indices"],
        a["material"],
        a.get("normals"),
        a.get("tangents"),
        tuple(a[f"uv{i}"] for i in range(meta["uvs"])),
        tuple(a[f"color{i}"] for i in range(meta["colors"])),
        {k: a[f"attribute:{k}"] for k in meta["attributes"]},
        tuple(
            Morph(a.get(f"morph{i}:positions"), a.get(f"morph{i}:normals"), a.get(f"morph{i}:tangents"), name)
            for i, name in enumerate(meta["morphs"])
        ),
        tuple(meta["weights"]),
        meta["name"],
        meta["extras"],
        recipe_from(meta.get("recipe"), a),
        Origin(a["origin:triangle"], a.get("origin:member")) if "origin:triangle" in a else None,
    )


def recipe_from(meta: Any, arrays: dict[str, AnyArray]) -> Recipe | None:
    if meta is None:
        return None
    kind, values, names, setting = meta
    return Recipe(kind, values, {k: arrays[f"recipe:{k}"] for k in names}, setting)


def mesh_key(mesh: Mesh) -> str:
    return f"mesh/{mesh.id[:2]}/{mesh.id}"


def save_scene(store: Store, scene: Scene) -> str:
    """Key of the scene; equal scenes get the same key."""
    levels = in_use(scene)
    for mesh in (*scene.meshes, *(one.mesh for own in levels.values() for one in own)):
        store.put(mesh_key(mesh), partial(mesh_bytes, mesh))
    arrays: dict[str, AnyArray] = {c: getattr(scene.nodes, c) for c in COLUMNS}
    arrays |= {c: getattr(scene.nodes, c) for c in LATER if getattr(scene.nodes, c).any()}
    for i, skin in enumerate(scene.skins):
        if skin.inverse_bind is not None:
            arrays[f"skin{i}"] = skin.inverse_bind
    for i, clip in enumerate(scene.clips):
        for k, channel in enumerate(clip.channels):
            arrays[f"clip{i}.{k}.times"], arrays[f"clip{i}.{k}.values"] = channel.times, channel.values
    for i, ids in scene.nodes.sources.items():
        arrays[f"sources{i}"] = ids
    arrays |= origin_arrays(scene.nodes.origins)
    if scene.touched is not None:
        arrays["touched"] = scene.touched.code
    meta: dict[str, Any] = {
        name: adapter.dump_python(getattr(scene, name), mode="json") for name, adapter in TABLES.items()
    }
    meta |= {
        "names": scene.nodes.names,
        "nodeExtras": scene.nodes.extras,
        "rest": scene.nodes.rest,
        "ids": scene.nodes.ids,
        "identity": scene.identity.names if scene.identity is not None else None,
        "sources": list(scene.nodes.sources),
        "touched": scene.touched.steps if scene.touched is not None else None,
        "meshes": [[mesh_key(m), m.name] for m in scene.meshes],
        "levels": {i: [[mesh_key(one.mesh), one.error_mm] for one in own] for i, own in levels.items()},
        "images": [
            [i.name, i.mime, store.put_blob(i.data) if i.data is not None else None, i.uri, i.extras]
            for i in scene.images
        ],
        "skins": [[s.joints, s.skeleton, s.name, s.extras] for s in scene.skins],
        "clips": [[c.name, c.extras, [[h.node, h.path, h.interpolation] for h in c.channels]] for c in scene.clips],
        "layers": scene.layers,
        "defaultRoot": scene.default_root,
        "extras": scene.extras,
        "format": scene.format,
    }
    data = to_bytes(meta, arrays)
    digest = hashlib.sha256(data).hexdigest()
    return store.put(f"scene/{digest[:2]}/{digest}", data)


def origin_arrays(origins: Mapping[int, Origin]) -> dict[str, AnyArray]:
    """Where the triangles of nodes came from, once for all that say the same: one behind the other, and which is whose."""
    if not origins:
        return {}
    every = list({id(o): o for o in origins.values()}.values())
    number = {id(o): k for k, o in enumerate(every)}
    return {
        ORIGIN_NODES: np.array([[i, number[id(o)]] for i, o in origins.items()], np.int64),
        "originEnds": np.cumsum([len(o.triangle) for o in every]),
        "originTriangles": np.concatenate([o.triangle for o in every]),
        "originMembers": np.concatenate([o.members() for o in every]),
        "originSeveral": np.array([o.member is not None for o in every]),
    }


def origins_from(arrays: Mapping[str, AnyArray]) -> dict[int, Origin]:
    """The origins of such arrays."""
    ends = arrays["originEnds"][:-1]
    triangles, members = (np.split(arrays[k], ends) for k in ("originTriangles", "originMembers"))
    several = arrays["originSeveral"].tolist()
    every = [Origin(t, m if s else None) for t, m, s in zip(triangles, members, several, strict=True)]
    return {i: every[k] for i, k in arrays[ORIGIN_NODES].tolist()}


def load_scene(store: Store, key: str) -> Scene:
    """The scene of a key. Raises FileNotFoundError."""
    meta, arrays = from_bytes(store.get(key))
    nodes = Nodes(
        **{c: arrays[c] for c in COLUMNS},
        names=tuple(meta["names"]),
        extras={int(k): v for k, v in meta["nodeExtras"].items()},
        rest={int(k): (tuple(v[0]), tuple(v[1]), tuple(v[2])) for k, v in meta["rest"].items()},
        sources={i: arrays[f"sources{i}"] for i in meta.get("sources") or ()},
        origins=origins_from(arrays)
        if ORIGIN_NODES in arrays
        else {i: Origin(arrays[f"origin{i}"], arrays.get(f"originMember{i}")) for i in meta.get("origins") or ()},
        ids={int(k): v for k, v in (meta.get("ids") or {}).items()},
        **{c: arrays[c] for c in LATER if c in arrays},
    )
    clips = tuple(
        Clip(
            tuple(
                Channel(n, p, arrays[f"clip{i}.{k}.times"], arrays[f"clip{i}.{k}.values"], form)
                for k, (n, p, form) in enumerate(channels)
            ),
            name,
            extras,
        )
        for i, (name, extras, channels) in enumerate(meta["clips"])
    )
    return Scene(
        nodes=nodes,
        meshes=tuple(replace(mesh_from(store.get(k)), name=name) for k, name in meta["meshes"]),
        images=tuple(Image(n, m, store.get(b) if b else None, u, e) for n, m, b, u, e in meta["images"]),
        skins=tuple(Skin(tuple(j), arrays.get(f"skin{i}"), s, n, e) for i, (j, s, n, e) in enumerate(meta["skins"])),
        clips=clips,
        layers=tuple(meta["layers"]),
        levels={
            i: tuple(Level(mesh_from(store.get(k)), error) for k, error in own)
            for i, own in (meta.get("levels") or {}).items()
        },
        default_root=meta["defaultRoot"],
        extras=meta["extras"],
        format=meta["format"],
        identity=Identities(tuple(meta["identity"])) if meta.get("identity") is not None else None,
        touched=Touched(arrays["touched"], tuple(map(tuple, meta["touched"]))) if meta.get("touched") else None,
        **{name: adapter.validate_python(meta[name]) for name, adapter in TABLES.items() if name in meta},
    )


def keys_in(data: bytes) -> set[str]:
    """Keys of the meshes and pictures that a stored scene names."""
    meta, _ = from_bytes(data)
    levels = {k for own in (meta.get("levels") or {}).values() for k, _ in own}
    return levels | {k for k, _ in meta["meshes"]} | {i[2] for i in meta["images"] if i[2]}


def image_of(store: Store, key: str, index: int) -> tuple[str, bytes] | None:
    """Media type and bytes of one picture of a scene, without loading its meshes; None if there is none."""
    images = from_bytes(store.get(key))[0]["images"]
    if not 0 <= index < len(images) or images[index][2] is None:
        return None
    return images[index][1], store.get(images[index][2])


class StoreSteps(StepScenes):
    """Scenes after steps in the store: a run after a change begins where the change is.

    The entry names a scene that may have been freed meanwhile: then it is as if it were not there.
    """

    def __init__(self, store: Store, source: str) -> None:
        self.store, self.source = store, source

    def get(self, key: str) -> tuple[Scene, list[StepRecord]] | None:
        try:
            entry = orjson.loads(self.store.get(f"cache/{key[:2]}/{key}.step"))
            scene = load_scene(self.store, entry["scene"])
        except (FileNotFoundError, ValueError, KeyError):
            return None
        self.store.touch(f"cache/{key[:2]}/{key}.step")
        return scene, [StepRecord.model_validate(r) for r in entry["records"]]

    def put(self, key: str, scene: Scene, records: list[StepRecord]) -> None:
        try:
            told = orjson.dumps([r.model_dump(by_alias=True, mode="json") for r in records])
        except TypeError:  # names that are no Unicode: the run goes on, the next one begins earlier
            return
        entry = {"scene": save_scene(self.store, scene), "records": orjson.Fragment(told)}
        self.store.put(f"cache/{key[:2]}/{key}.step", orjson.dumps(entry))
