"""glTF meshes: primitives of any mode and attribute set into one Mesh with material runs."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidy_caravan.core.formats.gltf.accessors import Accessors
from tidy_caravan.core.formats.shared.json_fields import (
    Damage,
    as_number,
    as_object,
    get_int,
    get_list,
    get_object,
    get_text,
)
from tidy_caravan.core.formats.shared.written import TARGET_NAMES
from tidy_caravan.core.geometry.normals import face_normals
from tidy_caravan.core.scene import Mesh, Morph, Note
from tidy_caravan.core.scene.arrays import F32, LARGEST, U32, AnyArray, Bool, usable_rows
from tidy_caravan.core.words import plural

MODES = ("points", "lines", "line loops", "line strips", "triangles", "triangle strips", "triangle fans")
CHANNELS = 16
"""Most UV sets, colours or joint sets that one mesh may have."""


class Piece:
    """One triangle primitive with its vertex arrays."""

    def __init__(self, indices: U32, material: int, arrays: dict[str, AnyArray], key: object) -> None:
        self.indices, self.material, self.arrays, self.key = indices, material, arrays, key


def read_mesh(
    entry: dict[str, Any], where: str, accessors: Accessors, materials: int, notes: list[Note]
) -> Mesh | None:
    """The mesh, or None when it draws no triangles. Raises Damage."""
    name = get_text(entry, "name", where)
    pieces: list[Piece] = []
    primitives = get_list(entry, "primitives", where)
    targets: list[list[dict[str, AnyArray]]] = []
    for i, primitive in enumerate(primitives):
        place = f"{where}.primitives[{i}]"
        try:
            found = read_piece(as_object(primitive, place), place, accessors, materials, notes)
        except Damage as damage:
            notes.append(
                Note("damaged", "import.damaged", place, f"Left out of “{name[:80]}”, because {damage.sentence()}.")
            )
            continue
        if found:
            pieces.append(found[0])
            targets.append(found[1])
    if not pieces:
        return None
    if len(pieces) > 1:  # joining them copies their vertices
        accessors.budget.take(sum(a.nbytes for p in pieces for a in p.arrays.values()), where)
    weights = tuple(as_number(w, f"{where}.weights") for w in get_list(entry, "weights", where))
    extras = entry.get("extras")
    names: list[str] = []
    if isinstance(extras, dict) and isinstance(extras.get(TARGET_NAMES), list):
        names = [str(n) for n in extras[TARGET_NAMES]]
    return join(pieces, targets, names, weights, name, extras, notes, where)


def read_piece(
    entry: dict[str, Any], where: str, accessors: Accessors, materials: int, notes: list[Note]
) -> tuple[Piece, list[dict[str, AnyArray]]] | None:
    mode = get_int(entry, "mode", where, 4, 0, 6)
    if mode < 4:
        notes.append(Note("behind", "import.not-a-surface", where, f"Holds {MODES[mode]}, which stay behind."))
        return None
    compressed = get_object(get_object(entry, "extensions", where), "KHR_draco_mesh_compression", where)
    if compressed:
        accessors.unpack(entry, compressed, where)
    attributes = get_object(entry, "attributes", where)
    if "POSITION" not in attributes:
        raise Damage("has no positions", where=where)
    arrays = {"positions": accessors.floats(attributes["POSITION"], where, 3)}
    count = len(arrays["positions"])
    for key, value in attributes.items():
        if key == "POSITION":
            continue
        try:
            label, array = read_attribute(key, value, where, accessors)
            if len(array) != count:
                raise Damage(f"{key} has {len(array)} elements for {count} vertices", where=where)
            arrays[label] = array
        except Damage as damage:
            notes.append(
                Note("damaged", "import.damaged", f"{where}.{key[:80]}", f"Left out, because {damage.sentence()}.")
            )
    indices = read_indices(entry, where, accessors, count, mode, notes)
    finite = usable_rows(arrays["positions"])
    if not finite.all():
        bad: Bool = np.logical_not(finite[indices].all(axis=1))
        notes.append(
            Note(
                "damaged",
                "import.not-finite",
                where,
                f"{plural(int((~finite).sum()), 'position is', 'positions are')} not finite or beyond {LARGEST:g}; {plural(int(bad.sum()), 'triangle')} there left out.",
            )
        )
        indices = indices[~bad]
        arrays["positions"] = np.where(finite[:, None], arrays["positions"], np.float32(0))
    for label, array in list(arrays.items()):
        if array.dtype == np.float32 and not np.isfinite(array).all():
            notes.append(
                Note(
                    "damaged",
                    "import.not-finite",
                    f"{where}.{label}",
                    "Values that are not finite numbers were set to 0.",
                )
            )
            arrays[label] = np.nan_to_num(array, nan=0.0, posinf=0.0, neginf=0.0)
    material = get_int(entry, "material", where, -1)
    if material >= materials:
        notes.append(
            Note("damaged", "import.damaged", where, f"Refers to material {material} of {materials}; it has none now.")
        )
        material = -1
    morphs = []
    for k, target in enumerate(get_list(entry, "targets", where)):
        place = f"{where}.targets[{k}]"
        target = as_object(target, place)
        shapes = {}
        for key, label in (("POSITION", "positions"), ("NORMAL", "normals"), ("TANGENT", "tangents")):
            if key in target:
                array = accessors.floats(target[key], place, 3)
                if len(array) != count:
                    raise Damage(f"{key} has {len(array)} elements for {count} vertices", where=place)
                shapes[label] = np.nan_to_num(array, nan=0.0, posinf=0.0, neginf=0.0)
        morphs.append(shapes)
    shared = (repr(sorted(attributes.items(), key=str)), repr(entry.get("targets")))
    return Piece(indices, material, arrays, shared), morphs


def read_attribute(key: str, value: Any, where: str, accessors: Accessors) -> tuple[str, AnyArray]:
    if key == "NORMAL":
        return "normals", accessors.floats(value, where, 3)
    if key == "TANGENT":
        return "tangents", accessors.floats(value, where, 4)
    kind, _, number = key.rpartition("_")
    if kind in ("TEXCOORD", "COLOR", "JOINTS", "WEIGHTS"):
        if not number.isdigit() or len(number) > 2 or int(number) >= CHANNELS:
            raise Damage(f"{key[:40]} is no channel that can be kept", where=where)
        channel = int(number)
        if kind == "TEXCOORD":
            return f"uv{channel}", accessors.floats(value, where, 2)
        if kind == "COLOR":
            color = accessors.floats(value, where, (3, 4))
            if color.shape[1] == 3:
                color = np.column_stack([color, np.ones(len(color), np.float32)])
            return f"color{channel}", color
        if kind == "JOINTS":
            return f"attribute:JOINTS_{channel}", accessors.integers(value, where, 4).astype(np.uint16)
        return f"attribute:WEIGHTS_{channel}", accessors.floats(value, where, 4)
    if key.startswith("_"):
        return f"attribute:{key}", accessors.floats(value, where, (1, 2, 3, 4))
    raise Damage(f"the attribute {key[:40]} is not known", where=where)


def read_indices(
    entry: dict[str, Any], where: str, accessors: Accessors, count: int, mode: int, notes: list[Note]
) -> U32:
    """(F, 3) triangles of a list, strip or fan (3.7.2.1)."""
    if "indices" in entry:
        stored = accessors.integers(entry["indices"], f"{where}.indices", 1)[:, 0]
        accessors.budget.take(
            len(stored) * 4, where
        )  # every primitive gets a copy, however often one accessor is named
        flat = stored.astype(np.uint32)
    else:
        accessors.budget.take(count * 4, where)
        flat = np.arange(count, dtype=np.uint32)
    if mode == 4:
        if len(flat) % 3:
            notes.append(
                Note("damaged", "import.damaged", where, f"{len(flat) % 3} indices at the end make no triangle.")
            )
        faces = flat[: len(flat) // 3 * 3].reshape(-1, 3)
    elif len(flat) < 3:
        faces = np.zeros((0, 3), np.uint32)
    elif mode == 5:
        accessors.budget.take(len(flat) * 12, where)
        i = np.arange(len(flat) - 2)
        odd = i % 2
        faces = np.stack([flat[i], flat[i + 1 + odd], flat[i + 2 - odd]], axis=1)
    else:
        accessors.budget.take(len(flat) * 12, where)
        faces = np.stack([np.broadcast_to(flat[0], len(flat) - 2), flat[1:-1], flat[2:]], axis=1)
    good = (faces < count).all(axis=1)
    if not good.all():
        notes.append(
            Note(
                "damaged",
                "import.index-range",
                where,
                f"Left out: {plural(int((~good).sum()), 'triangle')} on vertices that do not exist.",
            )
        )
        faces = faces[good]
    return faces


def join(
    pieces: list[Piece],
    targets: list[list[dict[str, AnyArray]]],
    names: list[str],
    weights: tuple[float, ...],
    name: str,
    extras: Any,
    notes: list[Note],
    where: str,
) -> Mesh:
    """One mesh of all pieces. Pieces on the same vertex arrays share them; what some lack is filled."""
    if any("normals" in p.arrays for p in pieces):
        pieces, targets = map(list, zip(*(with_flat(p, t) for p, t in zip(pieces, targets, strict=True)), strict=True))
    blocks: list[int] = []
    offsets: dict[object, int] = {}
    total = 0
    faces, material = [], []
    for k, piece in enumerate(pieces):
        if piece.key not in offsets:
            offsets[piece.key] = total
            blocks.append(k)
            total += len(piece.arrays["positions"])
        faces.append(piece.indices + np.uint32(offsets[piece.key]))
        material.append(np.full(len(piece.indices), piece.material, np.int32))
    labels = sorted({label for k in blocks for label in pieces[k].arrays})
    columns: dict[str, AnyArray] = {}
    for label in labels:
        parts = []
        for k in blocks:
            arrays = pieces[k].arrays
            if label in arrays:
                parts.append(arrays[label])
                continue
            parts.append(fill(label, pieces[k], next(p.arrays[label] for p in pieces if label in p.arrays)))
            notes.append(
                Note(
                    "converted",
                    "import.filled",
                    where,
                    f"Some pieces of “{name[:80]}” have no {label}; they were given plain ones.",
                )
            )
        columns[label] = parts[0] if len(parts) == 1 else np.concatenate(parts)
    count = min((len(t) for t in targets), default=0)
    if len({len(t) for t in targets}) > 1:
        notes.append(
            Note(
                "damaged",
                "import.damaged",
                where,
                "The pieces differ in their morph targets; only those of all were kept.",
            )
        )
    morphs = tuple(join_morph(pieces, targets, blocks, i, names) for i in range(count))
    uvs = consecutive(columns, "uv", total, 2, notes, where)
    colors = consecutive(columns, "color", total, 4, notes, where)
    indices, slots = np.concatenate(faces), np.concatenate(material)
    return Mesh(
        positions=columns["positions"],
        indices=indices,
        material=slots,
        normals=columns.get("normals"),
        tangents=columns.get("tangents"),
        uvs=uvs,
        colors=colors,
        attributes={k.removeprefix("attribute:"): v for k, v in columns.items() if k.startswith("attribute:")},
        morphs=morphs,
        morph_weights=weights[:count],
        name=name,
        extras=extras,
    )


def with_flat(piece: Piece, targets: list[dict[str, AnyArray]]) -> tuple[Piece, list[dict[str, AnyArray]]]:
    """A piece without normals, beside some that have them, gets the flat ones that the standard asks for (3.7.2.1):
    one vertex per corner, since faces that share one would have to share its normal."""
    if "normals" in piece.arrays:
        return piece, targets
    corner = piece.indices.ravel()
    arrays = {label: array[corner] for label, array in piece.arrays.items()}
    arrays["normals"] = np.repeat(face_normals(piece.arrays["positions"], piece.indices), 3, axis=0)
    indices = np.arange(len(corner), dtype=np.uint32).reshape(-1, 3)
    loose = [{label: array[corner] for label, array in target.items()} for target in targets]
    return Piece(indices, piece.material, arrays, object()), loose


def fill(label: str, piece: Piece, like: AnyArray) -> AnyArray:
    """What the standard says a missing attribute means: white, or nothing."""
    positions = piece.arrays["positions"]
    out = np.zeros((len(positions), *like.shape[1:]), like.dtype)
    if label == "tangents":
        out[:] = (1, 0, 0, 1)
    elif label.startswith("color"):
        out[:] = 1
    return out


def join_morph(
    pieces: list[Piece], targets: list[list[dict[str, AnyArray]]], blocks: list[int], index: int, names: list[str]
) -> Morph:
    found: dict[str, F32 | None] = {}
    for label in ("positions", "normals", "tangents"):
        if not any(label in targets[k][index] for k in blocks):
            found[label] = None
            continue
        found[label] = np.concatenate(
            [
                targets[k][index].get(label, np.zeros((len(pieces[k].arrays["positions"]), 3), np.float32))
                for k in blocks
            ]
        )
    return Morph(**found, name=names[index] if index < len(names) else "")


def consecutive(
    columns: dict[str, AnyArray], kind: str, count: int, width: int, notes: list[Note], where: str
) -> tuple[F32, ...]:
    """Channels 0, 1, 2 …; a gap is filled with zeros so that the later ones keep their number."""
    present = [int(k.removeprefix(kind)) for k in columns if k.removeprefix(kind).isdigit()]
    out = []
    for channel in range(max(present, default=-1) + 1):
        if channel not in present:
            notes.append(
                Note(
                    "damaged",
                    "import.channel-gap",
                    where,
                    f"Channel {channel} of {kind} is missing below a later one; it is empty now.",
                )
            )
        out.append(columns.get(f"{kind}{channel}", np.zeros((count, width), np.float32)))
    return tuple(out)
