"""Stand-in receiver of COLLADA through pycollada: geometries by instance, matrices multiplied node by node."""

from __future__ import annotations

import warnings
from functools import partial
from pathlib import Path
from typing import Any

import collada
import collada.common
import numpy as np

from tidy_caravan.core.arrival.receivers import receiver
from tidy_caravan.core.arrival.tree import Tree
from tidy_caravan.core.conventions.destinations import Destination, FormatName
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import AnyArray


@receiver("dae")
def receive_dae(file: Path, destination: Destination, fmt: FormatName) -> Scene:
    """The file's scene as pycollada reads it; nodes in document order."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        document = collada.Collada(
            str(file), ignore=[collada.common.DaeUnsupportedError, collada.common.DaeBrokenRefError]
        )
    materials = list(document.materials)
    material_of = {m.id: i for i, m in enumerate(materials)}
    tree = Tree()

    def walk(node: Any, above: int) -> None:
        if not isinstance(node, collada.scene.Node):
            return
        here = tree.add(node.xmlnode.get("name") or "", above, np.array(node.matrix, dtype=np.float64))
        for child in node.children:
            if isinstance(child, collada.scene.GeometryNode):
                slots = {m.symbol: material_of[m.target.id] for m in child.materials}
                tree.mesh[here] = tree.shared(child.geometry.id, partial(mesh_from, child.geometry, slots))
        for child in node.children:
            walk(child, here)

    for node in document.scene.nodes:
        walk(node, -1)
    return tree.scene(destination.file_convention(fmt), [m.name or "" for m in materials])


def mesh_from(geometry: Any, slots: dict[str, int]) -> Mesh:
    """Corner by corner, so that nothing depends on how the file shares vertices."""
    positions: list[AnyArray] = []
    normals: list[AnyArray] = []
    uvs: dict[int, list[AnyArray]] = {}
    material: list[AnyArray] = []
    for p in geometry.primitives:
        positions.append(p.vertex[p.vertex_index].reshape(-1, 3))
        if p.normal is not None:
            normals.append(p.normal[p.normal_index].reshape(-1, 3))
        for k, (values, index) in enumerate(zip(p.texcoordset, p.texcoord_indexset, strict=True)):
            uv = np.array(values[index].reshape(-1, 2), np.float64)
            uv[:, 1] = 1.0 - uv[:, 1]
            uvs.setdefault(k, []).append(uv)
        material.append(np.full(len(p.vertex_index), slots.get(p.material, -1), np.int32))
    flat = np.concatenate(positions).astype(np.float32)
    whole = [np.concatenate(u).astype(np.float32) for _, u in sorted(uvs.items())]
    return Mesh(
        flat,
        np.arange(len(flat), dtype=np.uint32).reshape(-1, 3),
        np.concatenate(material),
        np.concatenate(normals).astype(np.float32) if len(normals) == len(positions) else None,
        uvs=tuple(u for u in whole if len(u) == len(flat)),
        name=geometry.name or "",
    )
