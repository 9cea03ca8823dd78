"""Stand-in receiver of PLY through trimesh."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from tidy_caravan.core.conventions.destinations import Destination, FormatName
from tidy_caravan.core.formats.shared.received import Gallery, received_scene
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import U32, AnyArray


def receive_ply(file: Path, destination: Destination, fmt: FormatName) -> Scene:
    """PLY through trimesh: one mesh, as every receiver of the format gets it."""
    loaded: Any = trimesh.load(file, file_type="ply", process=False, maintain_order=True, force="mesh")
    raw = loaded.metadata.get("_ply_raw") or {}
    if "vertex" not in raw or "face" not in raw or not len(raw["face"]["data"]):
        return received_scene(destination, fmt, [], [], [], Gallery())
    vertex, face = raw["vertex"]["data"], raw["face"]["data"]
    # the library's own mesh is joined anew along seams; the columns that it parsed are as they stand
    positions: AnyArray = np.column_stack([np.asarray(vertex[f], np.float64).ravel() for f in "xyz"])
    faces: U32 = np.asarray(face["vertex_indices"]["f1"], np.uint32).reshape(-1, 3)

    def columns(*fields: str) -> AnyArray | None:
        if vertex.dtype.names is None or not all(f in vertex.dtype.names for f in fields):
            return None
        return np.column_stack([np.asarray(vertex[f]).ravel() for f in fields]).astype(np.float32)

    normals, uv = columns("nx", "ny", "nz"), columns("s", "t")
    if uv is not None:
        uv = np.column_stack([uv[:, 0], 1.0 - uv[:, 1].astype(np.float64)]).astype(np.float32)
    slots = np.full(len(faces), -1, np.int32)
    rgba = columns("red", "green", "blue", "alpha")
    colors = () if rgba is None else ((rgba / 255).astype(np.float32),)
    whole = Mesh(positions, faces, slots, normals, uvs=() if uv is None else (uv,), colors=colors, name="")
    return received_scene(destination, fmt, [""], [whole], [], Gallery())
