"""Stand-in receivers: read a package from disk with third-party readers, by the destination's rules.

Nothing of our own readers or writers is used, so that a fault there cannot hide itself.
"""

from __future__ import annotations

import dataclasses
import json
import warnings
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
import pygltflib
import trimesh

from tidy_caravan.core.conventions.destinations import Destination, FormatName
from tidy_caravan.core.errors import CaravanError, UnusableInput
from tidy_caravan.core.scene import Material, Mesh, Scene, make_nodes
from tidy_caravan.core.scene.arrays import F64, AnyArray

Receiver = Callable[[Path, Destination, FormatName], Scene]
_receivers: dict[str, Receiver] = {}
R = TypeVar("R", bound=Receiver)

WIDTH = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
KIND = {5120: np.int8, 5121: np.uint8, 5122: np.int16, 5123: np.uint16, 5125: np.uint32, 5126: np.float32}


def receiver(*formats: str) -> Callable[[R], R]:
    """Registers a receiver for formats."""

    def register(function: R) -> R:
        for fmt in formats:
            _receivers[fmt] = function
        return function

    return register


def receive(file: Path, destination: Destination, fmt: FormatName) -> Scene:
    """The scene as the destination's importer takes it. Raises UnusableInput when it cannot be read."""
    if fmt not in _receivers:
        raise UnusableInput(f"there is no receiver for “{fmt}”", where=file.name)
    try:
        return _receivers[fmt](file, destination, fmt)
    except CaravanError:
        raise
    except Exception as error:  # third-party readers raise anything on damaged files
        raise UnusableInput(
            f"the receiver cannot read it ({type(error).__name__}: {error})"[:300], where=file.name
        ) from error


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


@receiver("glb", "gltf")
def receive_gltf(file: Path, destination: Destination, fmt: FormatName) -> Scene:
    """glTF through pygltflib; accessors decoded here, world matrices multiplied node by node."""
    document = document_of(file)
    blobs = [document.binary_blob() if b.uri is None else (file.parent / b.uri).read_bytes() for b in document.buffers]

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
    materials = tuple(look_of(m) for m in document.materials)
    return Scene(
        destination.file_convention(fmt), make_nodes(parent, local, names, mesh=mesh), tuple(meshes), materials
    )


def look_of(entry: Any) -> Material:
    """Name and colours, for the comparison and its pictures."""
    pbr = entry.pbrMetallicRoughness
    color = list(pbr.baseColorFactor or (1, 1, 1, 1)) if pbr is not None else [1.0, 1.0, 1.0, 1.0]
    red, green, blue, alpha = (float(c) for c in color)
    return Material(entry.name or "", (red, green, blue, alpha), alpha_mode=entry.alphaMode or "OPAQUE")


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
    for key in ("POSITION", "NORMAL", *(f"TEXCOORD_{k}" for k in range(8))):
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
        uvs=tuple(uvs),
        name=entry.name or "",
    )
