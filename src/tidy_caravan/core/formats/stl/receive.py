"""Stand-in receiver of STL through trimesh, solid by solid."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from tidy_caravan.core.conventions.destinations import Destination, FormatName
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.shared.received import Gallery, received_scene
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import U32


def receive_stl(file: Path, destination: Destination, fmt: FormatName) -> Scene:
    """STL solid by solid through trimesh."""
    names, meshes = [], []
    for block in ("\n" + file.read_text(encoding="utf-8")).split("\nsolid ")[1:]:
        name = block.partition("\n")[0]
        if "endsolid" not in block:
            raise UnusableInput(
                "a solid has no end: the file is cut short; pack again", where=name[:80], code="arrival.unreadable"
            )
        if "facet" not in block:
            continue
        loaded: Any = trimesh.load(
            io.BytesIO(("solid " + block).encode()), file_type="stl_ascii", process=False, force="mesh"
        )
        faces: U32 = np.asarray(loaded.faces, np.uint32)
        names.append(name)
        meshes.append(
            Mesh(np.asarray(loaded.vertices, np.float64), faces, np.full(len(faces), -1, np.int32), name=names[-1])
        )
    return received_scene(destination, fmt, names, meshes, [], Gallery())
