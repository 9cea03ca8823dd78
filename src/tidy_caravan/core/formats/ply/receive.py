"""Stand-in receiver of PLY through trimesh."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from tidy_caravan.core.conventions.destinations import Destination, FormatName
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.shared.pace import aside, heard
from tidy_caravan.core.formats.shared.received import PART_OF_TRIANGLE, POINTS_OF_LUMP, Gallery, received_scene
from tidy_caravan.core.pace import Tell, nobody
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import U32, AnyArray

TYPE = "char|uchar|short|ushort|int|uint|float|double|u?int(?:8|16|32)|float(?:32|64)"
LINES = {
    "element": re.compile(r"element (\S+) \d+"),
    "property": re.compile(rf"property (?:(?:{TYPE})|list (?:{TYPE}) (?:{TYPE})) (\S+)"),
    "comment": re.compile(r"comment.*"),
    "obj_info": re.compile(r"obj_info.*"),
}
"""Lines of a header after the first two, by their first word."""
LONGEST_HEADER = 1 << 16


def check_header(file: Path) -> None:
    """The library passes over lines that it does not know, with which others count bytes. Raises UnusableInput."""
    with file.open("rb") as stream:
        text = stream.read(LONGEST_HEADER)
    head, ended, _ = text.partition(b"\nend_header\n")
    lines = head.decode("latin-1").split("\n")
    forms = tuple(f"format {kind} 1.0" for kind in ("ascii", "binary_little_endian", "binary_big_endian"))
    if not ended or lines[0] != "ply" or len([line for line in lines if line in forms]) != 1:
        raise refused(file, "it has no header of PLY 1.0")
    elements: set[str] = set()
    properties: set[str] = set()
    for line in lines[1:]:
        if line in forms:
            continue
        kind = line.partition(" ")[0]
        found = LINES[kind].fullmatch(line) if kind in LINES else None
        if found is None:
            raise refused(file, f"its header says “{line[:60]}”, which is not PLY 1.0")
        if kind == "element":
            properties = set()
        names = elements if kind == "element" else properties
        if found.groups() and (found[1] in names or (kind == "property" and not elements)):
            raise refused(file, f"its header says “{line[:60]}” twice, or of no element")
        names.update(found.groups())


def refused(file: Path, why: str) -> UnusableInput:
    return UnusableInput(f"{why}; pack again", where=file.name, code="arrival.unreadable")


def receive_ply(file: Path, destination: Destination, fmt: FormatName, tell: Tell = nobody) -> Scene:
    """PLY through trimesh: one mesh, as every receiver of the format gets it."""
    check_header(file)
    how: dict[str, Any] = {"file_type": "ply", "process": False, "maintain_order": True, "force": "mesh"}
    loaded: Any = aside(lambda _: trimesh.load(file, **how), heard(tell))
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
    part = face["part"] if face.dtype.names is not None and "part" in face.dtype.names else None
    out = received_scene(destination, fmt, [""], [whole], [], Gallery())
    number = None if part is None else np.asarray(part, np.int64).ravel()
    return out.but(extras={PART_OF_TRIANGLE: number, POINTS_OF_LUMP: positions})
