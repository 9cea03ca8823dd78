"""Writes STL as text, one solid per part, placed in the world: the only way the format keeps parts apart."""

from __future__ import annotations

import io

import numpy as np

from tidy_caravan.core.formats.shared.placed import check_room, digits, placed_parts
from tidy_caravan.core.formats.shared.written import Written, changed_names, unique_names
from tidy_caravan.core.geometry.normals import face_normals
from tidy_caravan.core.pace import Tell, nobody
from tidy_caravan.core.scene import Scene

FACET = "facet normal %.9g %.9g %.9g\nouter loop\n" + "vertex %.9g %.9g %.9g\n" * 3 + "endloop\nendfacet\n"


def write_stl(scene: Scene, name: str, instancing: bool = False, tell: Tell = nobody) -> Written:
    """`name`.stl; positions with 9 significant digits, more far out."""
    check_room(scene, "STL", lambda m: m.triangles * 230)
    out = Written({}, node_index=list(range(len(scene.nodes))))
    text = io.StringIO()
    names = unique_names([scene.nodes.names[i] or f"part_{i}" for i in scene.nodes.parts.tolist()])
    out.renamed = changed_names(scene, names)
    for part, placed in zip(names, placed_parts(scene, tell), strict=True):
        text.write(f"solid {part}\n")
        normals = face_normals(placed.positions, placed.faces).astype(np.float64)
        rows = np.column_stack([normals, placed.positions[placed.faces].reshape(-1, 9)]) + 0.0
        facet = FACET.replace("%.9g", f"%.{digits(placed.positions)}g")
        text.write((facet * len(rows)) % tuple(rows.ravel().tolist()))
        text.write(f"endsolid {part}\n")
    for what in ("tree", "sharing of meshes", "pivots and rotations", "materials", "UV sets", "smooth normals", "vertex colours",
                   "lights, cameras, skins and clips", "unit and axes"):  # fmt: skip
        out.lost(f"STL cannot hold: {what}.")
    out.files[f"{name}.stl"] = text.getvalue().encode()
    return out
