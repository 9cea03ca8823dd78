"""Writes binary PLY: all parts placed in the world, with the number of its part on every face."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.formats.shared.placed import check_room, digits, placed_parts
from tidy_caravan.core.formats.shared.written import Written
from tidy_caravan.core.pace import Tell, nobody
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import AnyArray

FLOAT_DIGITS = 11
"""Digits beyond which float32 would cost a part more than a hundred-thousandth of its size."""
FACE = np.dtype([("n", "u1"), ("corners", "<i4", 3), ("part", "<i4")])


def write_ply(scene: Scene, name: str, instancing: bool = False, tell: Tell = nobody) -> Written:
    """`name`.ply with normals, UV set and vertex colours where any part has them."""
    check_room(scene, "PLY", lambda m: m.vertices * 36 + m.triangles * FACE.itemsize)
    out = Written({}, node_index=list(range(len(scene.nodes))))
    meshes = [scene.meshes[m] for m in scene.nodes.mesh[scene.nodes.parts]]
    parts = list(placed_parts(scene, tell))
    # float32 is the usual width; far from the origin it would round the parts, and double is as open
    wide = any(digits(p.positions) > FLOAT_DIGITS for p in parts)
    fields = ["x", "y", "z"]
    with_normals, with_uvs = any(m.normals is not None for m in meshes), any(m.uvs for m in meshes)
    with_colors = any(m.colors for m in meshes)
    fields += ["nx", "ny", "nz"] * with_normals + ["s", "t"] * with_uvs
    kind = np.dtype(
        [(f, "<f8" if wide and f in "xyz" else "<f4") for f in fields]
        + [(f, "u1") for f in ("red", "green", "blue", "alpha") if with_colors]
    )
    vertices: list[AnyArray] = []
    faces: list[AnyArray] = []
    base = 0
    for k, part in enumerate(parts):
        rows = np.zeros(len(part.positions), kind)
        columns = [part.positions]
        if with_normals:
            columns.append(part.normals if part.normals is not None else np.zeros_like(part.positions))
        if with_uvs:
            uv = part.mesh.uvs[0].astype(np.float64) if part.mesh.uvs else np.zeros((len(rows), 2))
            columns.append(np.column_stack([uv[:, 0], 1.0 - uv[:, 1]]) if part.mesh.uvs else uv)
        for field, values in zip(fields, np.column_stack(columns).T, strict=True):
            rows[field] = values
        if with_colors:
            color = np.ones((len(rows), 4))
            if part.mesh.colors:
                stored = part.mesh.colors[0]
                color[:, : stored.shape[1]] = np.clip(stored, 0, 1)
            for c, field in enumerate(("red", "green", "blue", "alpha")):
                rows[field] = np.rint(color[:, c] * 255)
        triangles = np.zeros(len(part.faces), FACE)
        triangles["n"], triangles["corners"], triangles["part"] = 3, part.faces.astype(np.int64) + base, k
        base += len(rows)
        vertices.append(rows)
        faces.append(triangles)
    body = [np.concatenate(v) if v else np.zeros(0, kind) for v in (vertices,)] + [
        np.concatenate(faces) if faces else np.zeros(0, FACE)
    ]
    header = ["ply", "format binary_little_endian 1.0", "comment Tidy Caravan", f"element vertex {len(body[0])}"]
    header += [f"property {'double' if wide and f in 'xyz' else 'float'} {f}" for f in fields]
    header += [f"property uchar {f}" for f in ("red", "green", "blue", "alpha") if with_colors]
    header += [
        f"element face {len(body[1])}",
        "property list uchar int vertex_indices",
        "property int part",
        "end_header",
    ]
    out.files[f"{name}.ply"] = ("\n".join(header) + "\n").encode() + b"".join(b.tobytes() for b in body)
    for what in ("tree", "sharing of meshes", "pivots and rotations", "materials", "UV sets after the first",
                   "lights, cameras, skins and clips", "unit and axes"):  # fmt: skip
        out.lost(f"PLY cannot hold: {what}.")
    return out
