"""Stand-in receivers of formats that hold placed parts only: OBJ, PLY and STL through trimesh."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from tidy_caravan.core.arrival.receivers import receiver
from tidy_caravan.core.conventions.destinations import Destination, FormatName
from tidy_caravan.core.scene import Material, Mesh, Scene, make_nodes
from tidy_caravan.core.scene.arrays import F32, U32, AnyArray


@receiver("obj")
def receive_obj(file: Path, destination: Destination, fmt: FormatName) -> Scene:
    """OBJ through trimesh, one object at a time so that its vertices stay apart from the others'."""
    text = file.read_text(encoding="utf-8")
    names: list[str] = []
    meshes: list[Mesh] = []
    materials: dict[str, int] = {}
    seen = np.zeros(3, np.int64)
    for block in text.split("\no ")[1:]:
        name, _, body = block.partition("\n")
        lines = body.splitlines()
        here = seen.copy()
        for k, word in enumerate(("v ", "vt ", "vn ")):
            seen[k] += sum(1 for line in lines if line.startswith(word))
        faces, slots, used = [], [], ""
        directions = [[float(x) for x in line.split()[1:4]] for line in lines if line.startswith("vn ")]
        turned: list[list[int]] = []
        for line in lines:
            if line.startswith("usemtl "):
                used = line[7:]
            elif line.startswith("f "):
                corners = [[int(v) if v else 0 for v in c.split("/")] for c in line[2:].split()]
                faces.append(
                    "f " + " ".join("/".join(str(v - here[k]) for k, v in enumerate(c[:2]) if v) for c in corners)
                )
                turned.append([c[2] - int(here[2]) - 1 for c in corners if len(c) > 2])
                slots.append(materials.setdefault(used, len(materials)))
        plain = "\n".join([*(x for x in lines if x.startswith(("v ", "vt "))), *faces])
        loaded: Any = trimesh.load(
            io.StringIO(plain), file_type="obj", process=False, maintain_order=True, force="mesh"
        )
        # corner by corner: trimesh does not take the normals of faces without coordinates
        corner = np.asarray(loaded.faces, np.int64).ravel()
        normals = np.array(directions, np.float32)[np.array(turned).ravel()] if directions else None
        uv = getattr(loaded.visual, "uv", None)
        meshes.append(
            Mesh(
                np.asarray(loaded.vertices, np.float32)[corner],
                np.arange(len(corner), dtype=np.uint32).reshape(-1, 3),
                np.array(slots, np.int32),
                normals,
                uvs=() if uv is None else (np.asarray(uv, np.float32)[corner],),
                name=name,
            )
        )
        names.append(name)
    return placed(destination, fmt, names, meshes, tuple(materials))


def placed(
    destination: Destination, fmt: FormatName, names: list[str], meshes: list[Mesh], materials: tuple[str, ...] = ()
) -> Scene:
    count = len(names)
    local = np.tile(np.eye(4), (count, 1, 1)).reshape(-1, 4, 4)
    nodes = make_nodes(np.full(count, -1), local, names, mesh=np.arange(count))
    return Scene(destination.file_convention(fmt), nodes, tuple(meshes), tuple(Material(n) for n in materials))


@receiver("ply")
def receive_ply(file: Path, destination: Destination, fmt: FormatName) -> Scene:
    """PLY through trimesh; parts by the number on every face."""
    loaded: Any = trimesh.load(file, file_type="ply", process=False, maintain_order=True, force="mesh")
    raw = loaded.metadata["_ply_raw"]
    vertex, face = raw["vertex"]["data"], raw["face"]["data"]
    # the library's own mesh is joined anew along seams; the columns that it parsed are as they stand
    positions: F32 = np.column_stack([np.asarray(vertex[f]).ravel() for f in "xyz"]).astype(np.float32)
    faces: U32 = np.asarray(face["vertex_indices"]["f1"], np.uint32).reshape(-1, 3)

    def columns(*fields: str) -> AnyArray | None:
        if vertex.dtype.names is None or not all(f in vertex.dtype.names for f in fields):
            return None
        return np.column_stack([np.asarray(vertex[f]).ravel() for f in fields]).astype(np.float32)

    normals, uv = columns("nx", "ny", "nz"), columns("s", "t")
    part = np.asarray(face["part"]).ravel()
    order = np.argsort(part, kind="stable")
    numbers, begin = np.unique(part[order], return_index=True)
    names, meshes = [], []
    for k, rows in zip(numbers.tolist(), np.split(order, begin[1:]), strict=True):
        own = faces[rows]
        used, inverse = np.unique(own, return_inverse=True)
        meshes.append(
            Mesh(
                positions[used],
                inverse.reshape(-1, 3).astype(np.uint32),
                np.full(len(own), -1, np.int32),
                None if normals is None else normals[used],
                uvs=() if uv is None else (uv[used],),
                name=f"part_{k}",
            )
        )
        names.append(f"part_{k}")
    return placed(destination, fmt, names, meshes)


@receiver("stl")
def receive_stl(file: Path, destination: Destination, fmt: FormatName) -> Scene:
    """STL solid by solid through trimesh."""
    names, meshes = [], []
    for block in ("\n" + file.read_text(encoding="utf-8")).split("\nsolid ")[1:]:
        loaded: Any = trimesh.load(
            io.BytesIO(("solid " + block).encode()), file_type="stl_ascii", process=False, force="mesh"
        )
        faces: U32 = np.asarray(loaded.faces, np.uint32)
        names.append(block.partition("\n")[0])
        meshes.append(
            Mesh(np.asarray(loaded.vertices, np.float32), faces, np.full(len(faces), -1, np.int32), name=names[-1])
        )
    return placed(destination, fmt, names, meshes)
