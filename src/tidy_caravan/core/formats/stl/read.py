"""Reads STL (Roberts, 3D Systems 1988), binary and text, several solids in one file.

The format declares no unit and has neither vertices that triangles share nor a tree; both are rebuilt or told.
"""

from __future__ import annotations

import warnings
from collections.abc import Callable
from pathlib import PurePosixPath

import numpy as np

from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.shared.bundle import Budget, Bundle
from tidy_caravan.core.formats.shared.encoding import in_utf8
from tidy_caravan.core.formats.shared.travel import Travels
from tidy_caravan.core.geometry.corners import join
from tidy_caravan.core.geometry.normals import face_vectors, unit_normals
from tidy_caravan.core.geometry.own_origin import far_file, rebased
from tidy_caravan.core.pace import OFTEN
from tidy_caravan.core.scene import Convention, Mesh, Note, Scene, make_nodes
from tidy_caravan.core.scene.arrays import F32, F64, LARGEST, AnyArray, stored32, usable_rows
from tidy_caravan.core.words import plural

RECORD = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("attribute", "<u2")])
ZERO = 1e-30


def read(bundle: Bundle) -> Scene:
    """One node per solid. Raises UnusableInput."""
    data = bundle.data
    Budget(bundle.limits.decoded_bytes).take(len(data) * 2, bundle.main)
    stem = PurePosixPath(bundle.main).stem
    text = (
        data.lstrip()[:5].lower() == b"solid" and b"facet" in data[: data.find(b"\n") + 4096] and not fits_binary(data)
    )
    notes = [
        Note(
            "guess",
            "import.convention",
            bundle.main,
            "STL declares neither unit nor axes; millimetre, Z up, right-handed is usual for it and was assumed.",
        )
    ]
    if text:
        solids = text_solids(in_utf8(data, bundle.main, notes).decode(), stem, bundle.main, bundle.tell)
    else:
        solids = [binary_solid(data, stem, bundle.main)]
    travels = Travels()
    meshes: list[Mesh] = []
    names: list[str] = []
    origins: list[F64] = []
    far = far_file(np.concatenate([c.reshape(-1, 3) for _, c, _ in solids]) if solids else np.zeros((0, 3)))
    for k, (name, corners, stored) in enumerate(solids):
        if k % OFTEN == 0:
            bundle.tell("joining corners", k, len(solids))
        mesh, origin = solid_mesh(name, corners, stored, notes, far)
        if mesh is not None:
            origins.append(origin)
            meshes.append(mesh)
            names.append(name)
    if not meshes:
        raise UnusableInput("there is no usable triangle in the file", where=bundle.main)
    travels.converted("loose triangles", sum(m.triangles for m in meshes), "meshes whose equal corners are joined")
    local = np.tile(np.eye(4), (len(names), 1, 1))
    local[:, :3, 3] = origins
    nodes = make_nodes(np.full(len(names), -1), local, names, mesh=np.arange(len(names)))
    convention = Convention(0.001, "Z", "Y", "right", declared=False)
    return travels.onto(Scene(convention, nodes, tuple(meshes), notes=tuple(notes), format="stl"))


def fits_binary(data: bytes) -> bool:
    """True when the triangle count of a binary file accounts for every byte."""
    return len(data) >= 84 and 84 + RECORD.itemsize * int.from_bytes(data[80:84], "little") == len(data)


def binary_solid(data: bytes, name: str, where: str) -> tuple[str, F64, F32]:
    if len(data) < 84:
        raise UnusableInput(f"the file is cut off after {len(data)} bytes", where=where)
    count = int.from_bytes(data[80:84], "little")
    if count * RECORD.itemsize > len(data) - 84:
        raise UnusableInput(
            f"the header claims {count} triangles and there are bytes for {(len(data) - 84) // RECORD.itemsize}; "
            "the file is cut off or no STL file",
            where=where,
        )
    rows = np.frombuffer(data, RECORD, count, 84)
    return name, rows["corners"].astype(np.float64), np.array(rows["normal"])


def text_solids(text: str, stem: str, where: str, say: Callable[..., None]) -> list[tuple[str, F64, F32]]:
    """(name, corners (T, 3, 3), stored normals (T, 3)) per solid. Raises UnusableInput."""
    out: list[tuple[str, F64, F32]] = []
    blocks = ("\n" + text.lstrip()).split("\nsolid")[1:]
    for k, block in enumerate(blocks):
        if k % OFTEN == 0:
            say("reading solids", k, len(blocks))
        first, _, body = block.partition("\n")
        name = first.strip()[:200] or (stem if k == 0 else f"{stem}_{k + 1}")
        plain = plain_facets(body)
        if plain is not None:
            out.append((name, plain[:, 3:].reshape(-1, 3, 3), stored32(plain[:, :3])))
            continue
        words = body.split()
        # twelve numbers per facet stand at fixed places among twenty-one words; anything else is damaged
        stop = next((i for i in range(len(words) - 1, -1, -1) if words[i] == "endsolid"), len(words))
        table = np.array(words[: stop - stop % 21], dtype=object).reshape(-1, 21)
        if stop % 21 or not (table[:, 0] == "facet").all() or not (table[:, 20] == "endfacet").all():
            raise UnusableInput(
                f"the facets of the solid “{name[:60]}” are incomplete; the file is damaged", where=where
            )
        try:
            numbers: AnyArray = table[:, [2, 3, 4, 8, 9, 10, 12, 13, 14, 16, 17, 18]].astype(np.float64)
        except ValueError as error:
            raise UnusableInput(
                f"the solid “{name[:60]}” holds a word where a number should be", where=where
            ) from error
        out.append((name, numbers[:, 3:].reshape(-1, 3, 3), stored32(numbers[:, :3])))
    return out


def plain_facets(body: str) -> F64 | None:
    """(T, 12) numbers of facets that are written in the usual words and nothing else; None for any others."""
    text = body.partition("endsolid")[0]
    count = text.count("endfacet")
    if [text.count(w) for w in ("facet normal", "outer loop", "vertex", "endloop")] != [count, count, 3 * count, count]:
        return None
    for word in ("endfacet", "facet normal", "outer loop", "vertex", "endloop"):
        text = text.replace(word, " ")
    with warnings.catch_warnings():
        warnings.simplefilter("error", DeprecationWarning)
        try:
            values = np.fromstring(text, np.float64, sep=" ")
        except (DeprecationWarning, ValueError):
            return None
    return values.reshape(-1, 12) if len(values) == 12 * count else None


def solid_mesh(name: str, corners: F64, stored: F32, notes: list[Note], far: bool) -> tuple[Mesh | None, F64]:
    """A mesh with flat normals from the winding, and its origin (3,); stored normals only serve to tell when they disagree."""
    count = len(corners)
    if not count:
        return None, np.zeros(3)
    points = np.clip(corners.reshape(-1, 3), -2 * LARGEST, 2 * LARGEST)  # beyond stays beyond, and fits float32
    points, origin = rebased(points, np.arange(len(points)), far=far)
    values = np.ascontiguousarray(points.astype(np.float32) + np.float32(0))
    usable = usable_rows(points).reshape(-1, 3).all(axis=1)
    dropped = count - int(usable.sum())
    if dropped:
        values, stored = values.reshape(-1, 3, 3)[usable].reshape(-1, 3), stored[usable]
        notes.append(
            Note("damaged", "import.not-finite", name[:120], f"{dropped} triangles have positions that are no numbers.")
        )
        if not len(values):
            return None, origin
    vectors = face_vectors(values, np.arange(len(values), dtype=np.uint32).reshape(-1, 3))
    # equal corners of one flat side are one vertex
    first, vertex = join(np.zeros(len(values), np.int64), [values, np.repeat(unit_normals(vectors), 3, axis=0)])
    mesh = Mesh(
        values[first],
        vertex.reshape(-1, 3).astype(np.uint32),
        np.full(len(vectors), -1, np.int32),
        unit_normals(vectors)[first // 3],
        name=name,
    )
    with np.errstate(all="ignore"):
        against = np.einsum("ij,ij->i", vectors, stored.astype(np.float64)) < -ZERO
    if against.any():
        notes.append(
            Note(
                "damaged",
                "import.normal-against-winding",
                name[:120],
                f"{int(against.sum())} of {plural(count, 'triangle')} {'stores' if against.sum() == 1 else 'store'} a normal against the winding; the winding was taken.",
            )
        )
    return mesh, origin
