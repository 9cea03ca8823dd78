"""Stand-in receiver of STL through trimesh, solid by solid."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from tidy_caravan.core.conventions.destinations import Destination, FormatName
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.shared.received import ODD, Gallery, received_scene
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, U32

ALONG = float(np.cos(np.radians(1.0)))
"""Cosine of what a stored normal may lie off its triangle's."""
FACET = ("facet", "outer", "vertex", "vertex", "vertex", "endloop", "endfacet")
"""First words of the lines of a facet."""
SLIVER = 1e-3
"""Height of a triangle, as part of the solid's size, below which the digits of its corners may turn it by as much."""


def receive_stl(file: Path, destination: Destination, fmt: FormatName) -> Scene:
    """STL solid by solid through trimesh."""
    names: list[str] = []
    meshes: list[Mesh] = []
    odd: dict[int, list[str]] = {}
    for block in ("\n" + file.read_text(encoding="utf-8")).split("\nsolid ")[1:]:
        name = block.partition("\n")[0]
        if "endsolid" not in block:
            raise UnusableInput(
                "a solid has no end: the file is cut short; pack again", where=name[:80], code="arrival.unreadable"
            )
        if "facet" not in block:
            continue
        check_words(block, name)
        # the library looks for words of the format in names as well, so it gets the facets without one
        facets = block[len(name) : block.rindex("\nendsolid") + 1]
        text = f"solid{facets}endsolid\n"
        loaded: Any = trimesh.load(io.BytesIO(text.encode()), file_type="stl_ascii", process=False, force="mesh")
        faces: U32 = np.asarray(loaded.faces, np.uint32)
        if not agree(block, np.asarray(loaded.vertices, np.float64)[faces]):
            odd[len(names)] = ["has normals in the file that are not those of its triangles"]
        names.append(name)
        meshes.append(
            Mesh(np.asarray(loaded.vertices, np.float64), faces, np.full(len(faces), -1, np.int32), name=names[-1])
        )
    return received_scene(destination, fmt, names, meshes, [], Gallery()).but(extras={ODD: odd})


def check_words(block: str, name: str) -> None:
    """The library takes every third word for a number and looks at no other. Raises UnusableInput."""
    lines = [" ".join(line.split()[:2]) for line in block.split("\n")[1:] if line.strip()]
    kinds = [line.partition(" ")[0] for line in lines]
    count = len(lines) // len(FACET)
    good = len(lines) == count * len(FACET) + 1 and kinds[-1] == "endsolid"
    for k, wanted in enumerate(FACET):
        good = good and all(kind == wanted for kind in kinds[k : len(lines) - 1 : len(FACET)])
    good = good and all(line in ("facet normal", "outer loop") for line in lines if line.startswith(("facet", "outer")))
    if not good:
        raise UnusableInput(
            "a facet is not written as STL has it; pack again", where=name[:80], code="arrival.unreadable"
        )


def agree(block: str, corners: F64) -> bool:
    """Whether the normals that stand beside the facets of a solid are those of its triangles (F, 3, 3); the library does not
    look at them, other receivers shade by them. Noughts leave it to the receiver."""
    lines = [line.split()[2:5] for line in block.split("\n") if line.split()[:2] == ["facet", "normal"]]
    try:
        stored = np.array(lines, np.float64)
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
