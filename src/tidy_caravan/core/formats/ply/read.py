"""Reads PLY 1.0 (Turk, Stanford 1994): text and binary of either byte order, polygons, strips, colours, UVs.

The format declares neither unit nor axes; metre, Y up, right-handed is assumed and told as a guess.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import PurePosixPath
from typing import Any

import numpy as np

from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.shared.bundle import Budget, Bundle
from tidy_caravan.core.formats.shared.folded import tell_folds
from tidy_caravan.core.formats.shared.images import picture
from tidy_caravan.core.formats.shared.travel import Travels
from tidy_caravan.core.geometry.corners import corner_mesh
from tidy_caravan.core.geometry.folds import folds_of
from tidy_caravan.core.geometry.own_origin import far_file, rebased
from tidy_caravan.core.scene import GLTF, Image, Material, Mesh, Note, Scene, Texture, TextureUse, make_nodes
from tidy_caravan.core.scene.arrays import F32, F64, I64, AnyArray, stored32
from tidy_caravan.core.words import plural

KINDS = {
    "char": "i1", "int8": "i1", "uchar": "u1", "uint8": "u1", "short": "i2", "int16": "i2", "ushort": "u2",
    "uint16": "u2", "int": "i4", "int32": "i4", "uint": "u4", "uint32": "u4", "float": "f4", "float32": "f4",
    "double": "f8", "float64": "f8",
}  # fmt: skip
LONGEST_HEADER = 1 << 16
LIST_NAMES = ("vertex_indices", "vertex_index")
UV_NAMES = (("s", "t"), ("u", "v"), ("texture_u", "texture_v"))
READ = {
    "vertex": {*"xyz", "nx", "ny", "nz", "red", "green", "blue", "alpha", *(n for pair in UV_NAMES for n in pair)},
    "face": {*LIST_NAMES, "texcoord", "part"},
}
"""Properties that are read, or that our own packages say for their receiver."""


@dataclass(frozen=True)
class Property:
    """kind: numpy code of the values. length: code of the count in front of a list, empty for a single value."""

    name: str
    kind: str
    length: str = ""


@dataclass
class Element:
    name: str
    count: int
    properties: list[Property] = field(default_factory=list)


@dataclass
class Values:
    """single: (N,) per property. lists: flat values and (N,) counts per property."""

    single: dict[str, AnyArray] = field(default_factory=dict)
    lists: dict[str, tuple[AnyArray, I64]] = field(default_factory=dict)


def read(bundle: Bundle) -> Scene:
    """One node with one mesh. Raises UnusableInput."""
    form, elements, comments, body, odd = header(bundle)
    Budget(bundle.limits.decoded_bytes).take(len(body) * 2, bundle.main)
    values = (
        text_values(elements, body, bundle.main) if form == "ascii" else binary_values(elements, body, form, bundle)
    )
    notes = [
        Note(
            "guess",
            "import.convention",
            bundle.main,
            "PLY declares neither unit nor axes; metre, Y up, right-handed was assumed.",
        )
    ]
    if odd:
        text = f"{plural(len(odd), 'line')} of the header {'means' if len(odd) == 1 else 'mean'} nothing to the format and {'was' if len(odd) == 1 else 'were'} passed over, such as “{odd[0][:60]}”."
        notes.append(Note("behind", "import.header", bundle.main, text))
    vertex = values.get("vertex", Values())
    if not all(c in vertex.single for c in "xyz"):
        raise UnusableInput("there are no vertices with x, y and z; this is no scene", where=bundle.main)
    points: F64 = np.column_stack([vertex.single[c] for c in "xyz"]).astype(np.float64)
    travels = Travels()
    images, textures, materials = texture_in_comments(bundle, comments, notes)
    mesh, origin = surface(points, vertex, values, bool(materials), PurePosixPath(bundle.main).stem, notes, bundle.main)
    if mesh is None:
        notes.append(
            Note(
                "behind",
                "import.no-faces",
                bundle.main,
                "The file holds points and no usable face; points do not travel.",
            )
        )
        travels.behind("points", len(points), "only surfaces travel")
    for element in elements:
        if element.name not in ("vertex", "face", "tristrips") and element.count:
            travels.behind(f"element “{element.name[:40]}”", element.count, "has no meaning for a scene")
        for p in element.properties if element.count and element.name in READ else ():
            if p.name not in READ[element.name]:
                travels.behind(f"“{p.name[:40]}” of each {element.name}", element.count, "nothing here reads it")
    local = np.eye(4)[None].copy()
    local[0, :3, 3] = origin
    nodes = make_nodes([-1], local, [PurePosixPath(bundle.main).stem], mesh=[0 if mesh else -1])
    scene = Scene(
        replace(GLTF, declared=False),
        nodes,
        (mesh,) if mesh else (),
        materials=materials,
        textures=textures,
        images=images,
        notes=tuple(notes),
        format="ply",
    )
    return travels.onto(scene)


def header(bundle: Bundle) -> tuple[str, list[Element], list[str], bytes, list[str]]:
    """Encoding, elements, comments, what follows the header, and lines of it that mean nothing. Raises UnusableInput."""
    data = bundle.data
    end = data.find(b"end_header", 0, LONGEST_HEADER)
    stop = data.find(b"\n", end) if end >= 0 else -1
    if stop < 0:
        raise UnusableInput("the header has no end; the file is cut off or no PLY file", where=bundle.main)
    form, elements, comments, odd = "", list[Element](), list[str](), list[str]()
    for number, line in enumerate(data[:end].decode("ascii", errors="replace").splitlines(), 1):
        words = line.split()
        try:
            match words:
                case ["format", ("ascii" | "binary_little_endian" | "binary_big_endian") as found, *_]:
                    form = found
                case ["element", name, count]:
                    elements.append(Element(name, int(count)))
                    if elements[-1].count < 0:
                        raise ValueError
                case ["property", "list", length, kind, name]:
                    elements[-1].properties.append(Property(name, KINDS[kind], KINDS[length]))
                case ["property", kind, name]:
                    elements[-1].properties.append(Property(name, KINDS[kind]))
                case ["comment", *rest]:
                    comments.append(" ".join(rest))
                case ["ply"] | ["obj_info", *_] | []:
                    pass
                case [("format" | "element" | "property"), *_]:
                    raise ValueError
                case _:
                    odd.append(line.strip())
        except (ValueError, KeyError, IndexError) as error:
            raise UnusableInput(
                f"line {number} of the header, “{line[:60]}”, cannot be understood", where=bundle.main
            ) from error
    if not form:
        raise UnusableInput("the header names no known encoding", where=bundle.main)
    return form, elements, comments, data[stop + 1 :], odd


def least_bytes(element: Element) -> int:
    return sum(np.dtype(p.length or p.kind).itemsize for p in element.properties)


def binary_values(elements: list[Element], body: bytes, form: str, bundle: Bundle) -> dict[str, Values]:
    order = "<" if form == "binary_little_endian" else ">"
    out: dict[str, Values] = {}
    at = 0
    for element in elements:
        if element.count * least_bytes(element) > len(body) - at:
            raise UnusableInput(
                f"the header claims {element.count} of “{element.name[:40]}” and {len(body) - at} bytes are left; "
                "the file is cut off",
                where=bundle.main,
            )
        if any(p.length for p in element.properties):
            out[element.name], at = list_rows(element, body, at, order, bundle.main)
        else:
            kind = np.dtype([(f"{i}", order + p.kind) for i, p in enumerate(element.properties)])
            rows = np.frombuffer(body, kind, element.count if element.properties else 0, at)
            at += kind.itemsize * element.count
            out[element.name] = Values({p.name: rows[f"{i}"] for i, p in enumerate(element.properties)})
    return out


def list_rows(element: Element, body: bytes, at: int, order: str, where: str) -> tuple[Values, int]:
    """Rows with lists: at once where all lists are as long as in the first row, row by row otherwise."""
    if element.count:
        counts, size = row_counts(element, body, at, order, where)
        if size * element.count <= len(body) - at:
            kind = np.dtype(
                [
                    x
                    for i, (p, n) in enumerate(zip(element.properties, counts, strict=True))
                    for x in ([(f"n{i}", order + p.length)] if p.length else [])
                    + [(f"{i}", order + p.kind, (n,)) if p.length else (f"{i}", order + p.kind)]
                ]
            )
            rows = np.frombuffer(body, kind, element.count, at)
            if all((rows[f"n{i}"] == n).all() for i, n in enumerate(counts) if element.properties[i].length):
                values = Values()
                for i, p in enumerate(element.properties):
                    if p.length:
                        values.lists[p.name] = rows[f"{i}"].reshape(-1), np.full(element.count, counts[i], np.int64)
                    else:
                        values.single[p.name] = rows[f"{i}"]
                return values, at + size * element.count
    pieces: dict[str, list[bytes]] = {p.name: [] for p in element.properties}
    lengths: dict[str, list[int]] = {p.name: [] for p in element.properties if p.length}
    for _ in range(element.count):
        for p in element.properties:
            n = 1
            if p.length:
                n, at = one_count(p, body, at, order, where)
                lengths[p.name].append(n)
            stop = at + n * np.dtype(p.kind).itemsize
            if stop > len(body):
                raise UnusableInput(f"the file ends inside “{element.name[:40]}”; it is cut off", where=where)
            pieces[p.name].append(body[at:stop])
            at = stop
    values = Values()
    for p in element.properties:
        flat = np.frombuffer(b"".join(pieces[p.name]), order + p.kind)
        if p.length:
            values.lists[p.name] = flat, np.array(lengths[p.name], np.int64)
        else:
            values.single[p.name] = flat
    return values, at


def one_count(p: Property, body: bytes, at: int, order: str, where: str) -> tuple[int, int]:
    kind = np.dtype(order + p.length)
    if at + kind.itemsize > len(body):
        raise UnusableInput("the file ends inside a list; it is cut off", where=where)
    n = int(np.frombuffer(body, kind, 1, at)[0])
    if n < 0 or n > len(body):
        raise UnusableInput(f"a list claims {n} entries; the file is damaged", where=where)
    return n, at + kind.itemsize


def row_counts(element: Element, body: bytes, at: int, order: str, where: str) -> tuple[list[int], int]:
    """List lengths of the first row (0 for single values), and the row's size in bytes."""
    begin, out = at, []
    for p in element.properties:
        n = 1
        if p.length:
            n, at = one_count(p, body, at, order, where)
        out.append(n if p.length else 0)
        at += n * np.dtype(p.kind).itemsize
    return out, at - begin


def text_values(elements: list[Element], body: bytes, where: str) -> dict[str, Values]:
    """All numbers of the file as float64, dealt out to the elements. Raises UnusableInput."""
    try:
        numbers: F64 = np.array(body.split(), np.float64)
    except ValueError as error:
        raise UnusableInput(f"there is a word where a number should be ({error})"[:200], where=where) from error
    out: dict[str, Values] = {}
    at = 0

    def ends(name: str) -> UnusableInput:
        return UnusableInput(f"the file ends inside “{name[:40]}”; it is cut off", where=where)

    for element in elements:
        values = Values()
        width = len(element.properties)
        lists = [p for p in element.properties if p.length]
        if not lists:
            if at + width * element.count > len(numbers):
                raise ends(element.name)
            rows = numbers[at : at + width * element.count].reshape(element.count, width)
            at += width * element.count
            values.single = {p.name: rows[:, i] for i, p in enumerate(element.properties)}
            out[element.name] = values
            continue
        pieces: dict[str, list[AnyArray]] = {p.name: [] for p in element.properties}
        lengths: dict[str, list[int]] = {p.name: [] for p in lists}
        if width == 1 and at < len(numbers) and element.count:
            n = int(numbers[at]) if 0 <= numbers[at] < len(numbers) else 0
            stop = at + (n + 1) * element.count
            rows = numbers[at:stop].reshape(element.count, n + 1) if stop <= len(numbers) else np.zeros((0, 1))
            if len(rows) and (rows[:, 0] == n).all():
                values.lists[lists[0].name] = rows[:, 1:].reshape(-1), np.full(element.count, n, np.int64)
                out[element.name] = values
                at = stop
                continue
        for _ in range(element.count):
            for p in element.properties:
                n = 1
                if p.length:
                    if at >= len(numbers) or not 0 <= numbers[at] <= len(numbers):
                        raise ends(element.name)
                    n = int(numbers[at])
                    lengths[p.name].append(n)
                    at += 1
                if at + n > len(numbers):
                    raise ends(element.name)
                pieces[p.name].append(numbers[at : at + n])
                at += n
        for p in element.properties:
            flat = np.concatenate(pieces[p.name]) if pieces[p.name] else np.zeros(0)
            if p.length:
                values.lists[p.name] = flat, np.array(lengths[p.name], np.int64)
            else:
                values.single[p.name] = flat
        out[element.name] = values
    return out


def surface(
    points: F64, vertex: Values, values: dict[str, Values], textured: bool, name: str, notes: list[Note], where: str
) -> tuple[Mesh | None, F64]:
    """The mesh, None without a usable face, and its origin (3,)."""
    face = values.get("face", Values())
    flat, counts = next((face.lists[n] for n in LIST_NAMES if n in face.lists), (np.zeros(0), np.zeros(0, np.int64)))
    corner = as_integers(flat)
    corner_uv = None
    if "texcoord" in face.lists:
        wedge, sizes = face.lists["texcoord"]
        if np.array_equal(sizes, counts * 2):
            corner_uv = stored32(wedge).reshape(-1, 2)
    if "tristrips" in values and values["tristrips"].lists:
        strips = unroll(as_integers(next(iter(values["tristrips"].lists.values()))[0]))
        corner = np.concatenate([corner, strips.reshape(-1)])
        counts = np.concatenate([counts, np.full(len(strips), 3, np.int64)])
        corner_uv = None
    if not len(counts):
        return None, np.zeros(3)
    inside = np.clip(corner, 0, len(points) - 1)

    def per_vertex(*names: str) -> F32 | None:
        if not all(n in vertex.single for n in names):
            return None
        return stored32(np.column_stack([vertex.single[n] for n in names]))[inside]

    uv = corner_uv
    if uv is None:
        uv = next((found for pair in UV_NAMES if (found := per_vertex(*pair)) is not None), None)
    if uv is not None:
        uv = uv.copy()
        uv[:, 1] = 1.0 - uv[:, 1]  # counted from the bottom in the file, from the top in the scene
    colors = per_vertex("red", "green", "blue")
    if colors is not None:
        scale = 255.0 if np.issubdtype(vertex.single["red"].dtype, np.integer) or colors.max(initial=0) > 1 else 1.0
        alpha = per_vertex("alpha")
        colors = np.column_stack([colors / scale, np.ones(len(colors)) if alpha is None else alpha[:, 0] / scale])
        colors = colors.astype(np.float32)
    folds = folds_of(points, corner, counts)
    points, origin = rebased(points, corner, far=far_file(points))
    mesh, dropped = corner_mesh(
        points,
        corner,
        counts,
        normals=per_vertex("nx", "ny", "nz"),
        uvs=() if uv is None else (uv,),
        colors=() if colors is None else (colors,),
        material=np.zeros(len(counts), np.int32) if textured else None,
        name=name,
    )
    if dropped:
        notes.append(
            Note(
                "damaged",
                "import.face",
                where,
                f"{plural(dropped, 'face was', 'faces were')} left out: too few corners, corners that point at nothing, or positions that are no numbers.",
            )
        )
    if mesh is not None:
        tell_folds(notes, {0: folds}, [mesh], [0], where)
    return mesh, origin


def as_integers(values: AnyArray) -> I64:
    """Indices as whole numbers; what is none points at nothing."""
    if np.issubdtype(values.dtype, np.integer):
        return values.astype(np.int64)
    good = np.isfinite(values) & (np.abs(values) < 2**53) & (values == np.rint(np.nan_to_num(values)))
    out: I64 = np.where(good, np.nan_to_num(values), -1).astype(np.int64)
    return out


def unroll(strip: I64) -> I64:
    """(T, 3) triangles of strips that end in -1; every other one is turned."""
    cuts = np.flatnonzero(strip < 0)
    pieces = []
    for piece in np.split(strip, cuts):
        run = piece[piece >= 0]
        if len(run) >= 3:
            triangles = np.stack([run[:-2], run[1:-1], run[2:]], axis=1)
            triangles[1::2] = triangles[1::2][:, [1, 0, 2]]
            good = (triangles[:, 0] != triangles[:, 1]) & (triangles[:, 1] != triangles[:, 2])
            good &= triangles[:, 0] != triangles[:, 2]
            pieces.append(triangles[good])
    return np.concatenate(pieces) if pieces else np.zeros((0, 3), np.int64)


def texture_in_comments(
    bundle: Bundle, comments: list[str], notes: list[Note]
) -> tuple[tuple[Image, ...], tuple[Texture, ...], tuple[Material, ...]]:
    """The picture that a comment “TextureFile name” gives the surface."""
    for comment in comments:
        word, _, path = comment.partition(" ")
        if word.lower() == "texturefile" and path.strip():
            image = picture(bundle, path.strip(), notes)
            material: dict[str, Any] = {"name": image.name, "metallic": 0.0}
            return (image,), (Texture(0),), (Material(**material, base_color_texture=TextureUse(0)),)
    return (), (), ()
