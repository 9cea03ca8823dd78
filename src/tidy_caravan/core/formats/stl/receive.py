"""Stand-in receiver of STL through trimesh, solid by solid."""

from __future__ import annotations

import io
import re
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from tidy_caravan.core.conventions.destinations import Destination, FormatName
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.shared.received import ODD, Gallery, received_scene
from tidy_caravan.core.pace import Tell, nobody, paced
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, U32

ALONG = float(np.cos(np.radians(1.0)))
"""Cosine of what a stored normal may lie off its triangle's."""
# possessive, so that a file that is wrong costs no more than one that is right
FACETS = re.compile(
    r"(?>\s*facet normal [^\n]*\n\s*outer loop\s*\n(?>\s*vertex [^\n]*\n){3}\s*endloop\s*\n\s*endfacet\s*\n)*+\s*"
)
NORMALS = re.compile(r"facet normal ([^\n]*)\n")
SLIVER = 1e-3
"""Height of a triangle, as part of the solid's size, below which the digits of its corners may turn it by as much."""


def receive_stl(file: Path, destination: Destination, fmt: FormatName, tell: Tell = nobody) -> Scene:
    """STL solid by solid through trimesh."""
    names: list[str] = []
    meshes: list[Mesh] = []
    odd: dict[int, list[str]] = {}
    for block in paced(("\n" + file.read_text(encoding="utf-8")).split("\nsolid ")[1:], tell):
        name = block.partition("\n")[0]
        if "\nendsolid" not in block:
            raise UnusableInput(
                "a solid has no end: the file is cut short; pack again", where=name[:80], code="arrival.unreadable"
            )
        # the library takes every third word for a number and looks at no other, but at those of the name as well
        facets = block[len(name) : block.rindex("\nendsolid") + 1]
        if not facets.strip():
            continue
        if not FACETS.fullmatch(facets):
            raise UnusableInput(
                "a facet is not written as STL has it; pack again", where=name[:80], code="arrival.unreadable"
            )
        text = f"solid{facets}endsolid\n"
        loaded: Any = trimesh.load(io.BytesIO(text.encode()), file_type="stl_ascii", process=False, force="mesh")
        faces: U32 = np.asarray(loaded.faces, np.uint32)
        if not agree(facets, np.asarray(loaded.vertices, np.float64)[faces]):
            odd[len(names)] = ["has normals in the file that are not those of its triangles"]
        names.append(name)
        meshes.append(
            Mesh(np.asarray(loaded.vertices, np.float64), faces, np.full(len(faces), -1, np.int32), name=names[-1])
        )
    return received_scene(destination, fmt, names, meshes, [], Gallery()).but(extras={ODD: odd})


def agree(facets: str, corners: F64) -> bool:
    """Whether the normals that stand beside the facets of a solid are those of its triangles (F, 3, 3); the library does not
    look at them, other receivers shade by them. Noughts leave it to the receiver."""
    try:
        stored = np.array(" ".join(NORMALS.findall(facets)).split(), np.float64).reshape(-1, 3)
    except ValueError:
        return False
    if stored.shape != (len(corners), 3):
        return False
    across = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    size = np.linalg.norm(across, axis=1) * np.linalg.norm(stored, axis=1)
    cosine = np.einsum("fi,fi->f", across, stored)
    longest = np.linalg.norm(corners[:, [1, 2, 0]] - corners, axis=2).max(axis=1)
    extent = float(np.ptp(corners.reshape(-1, 3), axis=0).max(initial=0.0))
    told = (size > 0) & (np.linalg.norm(across, axis=1) > SLIVER * extent * longest)
    return bool((cosine[told] >= ALONG * size[told]).all())
