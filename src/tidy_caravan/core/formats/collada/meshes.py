"""COLLADA geometries into meshes: triangles, strips, fans, polylists and polygons with holes (chapter 5 of 1.4.1)."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from tidy_caravan.core.errors import CaravanError
from tidy_caravan.core.formats.collada.xml import Document, Element, label, parsed, text_of, whole_numbers
from tidy_caravan.core.formats.shared.bundle import Budget
from tidy_caravan.core.formats.shared.many import astray
from tidy_caravan.core.formats.shared.travel import Travels
from tidy_caravan.core.geometry.corners import corner_mesh
from tidy_caravan.core.geometry.own_origin import rebased
from tidy_caravan.core.geometry.triangulate import with_holes
from tidy_caravan.core.scene import Mesh, Note
from tidy_caravan.core.scene.arrays import F32, F64, I32, I64, AnyArray, stored32, usable_rows

PER_CORNER = {"NORMAL": "normals", "TEXCOORD": "texture coordinates", "UV": "texture coordinates", "COLOR": "colours"}
SURFACES = ("triangles", "tristrips", "trifans", "polylist", "polygons")
LINES = ("lines", "linestrips")


class Unreadable(CaravanError):
    """A piece that cannot be used; the sentence goes into a note."""


@dataclass
class Corners:
    """Faces of one geometry under one material symbol. columns: (C, inputs) indices per corner."""

    symbol: str
    counts: list[I64] = field(default_factory=list)
    points: list[I64] = field(default_factory=list)
    single: bool = False
    normals: list[F32 | None] = field(default_factory=list)
    uvs: list[dict[int, F32]] = field(default_factory=list)
    colors: list[F32 | None] = field(default_factory=list)


@dataclass
class Geometry:
    """All faces of a geometry with per-corner data; made into a mesh once its materials are known."""

    name: str
    points: F64
    corner: I64
    counts: I64
    symbol_of: list[str]
    symbols: I32
    normals: F32 | None
    uvs: dict[int, F32]
    color: F32 | None
    origin: F64
    """(3,) what was taken off the points, so that float32 holds them."""
    single: I64 | None = None
    """(C,) the one index of every corner into all sources alike, where the file has it so."""

    def _as_it_stands(self, table: I32, order: tuple[int, ...]) -> Mesh | None:
        """The sources are the vertices when one index serves them all; None when something in them is damaged."""
        index = self.single
        assert index is not None
        if not len(index) or index.min() < 0 or index.max() >= len(self.points):
            return None
        if not (self.counts == 3).all() or not usable_rows(self.points).all():
            return None
        first = np.zeros(len(self.points), np.int64)
        first[index] = np.arange(len(index))
        used = np.zeros(len(self.points), np.bool_)
        used[index] = True
        if not used.all():
            return None
        return Mesh(
            self.points.astype(np.float32),
            index.reshape(-1, 3).astype(np.uint32),
            table[self.symbols],
            normals=None if self.normals is None else self.normals.take(first, axis=0),
            uvs=tuple(self.uvs[k].take(first, axis=0) for k in order if k in self.uvs),
            colors=() if self.color is None else (self.color.take(first, axis=0),),
            name=self.name,
        )

    def mesh(self, slots: dict[str, int], order: tuple[int, ...]) -> tuple[Mesh | None, int]:
        """slots: material per symbol. order: sets of the file in the order of the mesh's UV channels."""
        table = np.array([slots.get(s, -1) for s in self.symbol_of] or [-1], np.int32)
        if self.single is not None:
            quick = self._as_it_stands(table, order)
            if quick is not None:
                return quick, 0
        return corner_mesh(
            self.points,
            self.corner,
            self.counts,
            normals=self.normals,
            uvs=[self.uvs[k] for k in order if k in self.uvs],
            colors=() if self.color is None else (self.color,),
            material=table[self.symbols],
            name=self.name,
        )


class Sources:
    """Accessors of one mesh by id, read when first asked for."""

    def __init__(self, mesh: Element, budget: Budget) -> None:
        self.elements = {e.get("id"): e for e in mesh.findall("source")}
        self.budget = budget
        self.read: dict[str, F64] = {}

    def get(self, url: str | None) -> F64:
        """(N, width) values. Raises Unreadable."""
        key = (url or "").lstrip("#")
        if key not in self.read:
            if key not in self.elements:
                raise Unreadable(f"it refers to the source “{key[:60]}”, which is not there")
            self.read[key] = self._values(self.elements[key], key)
        return self.read[key]

    def _values(self, source: Element, key: str) -> F64:
        array = source.find("float_array")
        accessor = source.find("technique_common/accessor")
        if array is None or accessor is None:
            raise Unreadable(f"the source “{key[:60]}” holds no numbers")
        text = array.text or ""
        self.budget.take(len(text), key)
        try:
            values = parsed(text)
            count = int(accessor.get("count", "0"))
            stride = int(accessor.get("stride", "1"))
            offset = int(accessor.get("offset", "0"))
        except ValueError as error:
            raise Unreadable(f"the source “{key[:60]}” holds a word where a number should be") from error
        params = accessor.findall("param")
        used = [i for i, p in enumerate(params) if p.get("name") or not any(q.get("name") for q in params)]
        width = len(used) or stride
        if (
            stride < 1
            or count < 0
            or offset < 0
            or offset + (count - 1) * stride + max(width, 1) > len(values) + (stride if count == 0 else 0)
        ):
            raise Unreadable(
                f"the source “{key[:60]}” claims {count} entries of {stride} and there are {len(values)} numbers"
            )
        body = values[offset : offset + count * stride]
        if len(body) < count * stride:
            body = np.concatenate([body, np.zeros(count * stride - len(body))])
        table = body.reshape(count, stride)
        return table[:, [u for u in used if u < stride]] if used else table


def read_geometry(
    element: Element, document: Document, budget: Budget, notes: list[Note], travels: Travels, metres: float | None
) -> Geometry | None:
    """One geometry; a damaged primitive costs that primitive and leaves a note. metres: of one unit, if known."""
    name = label(element)
    mesh = element.find("mesh")
    if mesh is None:
        kind = next((k for k in ("spline", "convex_mesh", "brep") if element.find(k) is not None), "unknown")
        why = {
            "spline": "curves without a surface do not travel",
            "convex_mesh": "hulls are made anew at the Pack station",
        }
        travels.behind(
            f"geometries of kind {kind}", 1, why.get(kind, "it has no triangles; tessellate it in the source")
        )
        notes.append(Note("behind", "import.not-a-surface", name[:120], f"A geometry of kind {kind} stays behind."))
        return None
    sources = Sources(mesh, budget)
    found: list[Corners] = []
    points: F64 | None = None
    vertices = {v.get("id"): v for v in mesh.findall("vertices")}
    for primitive in mesh:
        if primitive.tag in LINES:
            travels.behind("lines", int(primitive.get("count") or 0) or 1, "only surfaces travel")
            notes.append(Note("behind", "import.not-a-surface", name[:120], "Lines stay behind; only surfaces travel."))
        if primitive.tag not in SURFACES:
            continue
        try:
            piece, positions, told = read_primitive(primitive, sources, vertices)
        except Unreadable as error:
            notes.append(
                Note(
                    "damaged", "import.primitive", f"{name[:100]}, {primitive.tag}", f"Left out, because {error.what}."
                )
            )
            continue
        notes += [Note("damaged", "import.damaged", f"{name[:100]}, {primitive.tag}", text) for text in told]
        if points is not None and positions is not points:
            shift = len(points)
            piece.points = [p + shift for p in piece.points]
            points = np.concatenate([points, positions])
        elif points is None:
            points = positions
        found.append(piece)
    if points is None or not any(len(c) for f in found for c in f.counts):
        return None
    return joined(name, points, found, metres)


def joined(name: str, points: F64, found: list[Corners], metres: float | None) -> Geometry:
    """All primitives of a geometry end to end; what only some have is filled with zeros."""
    sizes = [sum(len(p) for p in f.points) for f in found]
    symbol_of = list(dict.fromkeys(f.symbol for f in found))
    symbols = np.concatenate(
        [np.full(sum(len(c) for c in f.counts), symbol_of.index(f.symbol), np.int32) for f in found]
    )

    def stack(values: list[F32 | None], width: int) -> F32 | None:
        if all(v is None for v in values):
            return None
        parts = [np.zeros((n, width), np.float32) if v is None else v for v, n in zip(values, sizes, strict=True)]
        return np.concatenate(parts)

    sets = sorted({k for f in found for u in f.uvs for k in u})
    uvs = {k: stack([f.uvs[0].get(k) for f in found], 2) for k in sets}
    corner = np.concatenate([p for f in found for p in f.points])
    points, origin = rebased(points, corner, metres)
    return Geometry(
        name,
        points,
        corner,
        np.concatenate([c for f in found for c in f.counts]),
        symbol_of,
        symbols,
        stack([f.normals[0] for f in found], 3),
        {k: v for k, v in uvs.items() if v is not None},
        stack([f.colors[0] for f in found], 4),
        origin,
        corner if len(found) == 1 and found[0].single else None,
    )


def read_primitive(
    primitive: Element, sources: Sources, vertices: dict[str, Element]
) -> tuple[Corners, F64, list[str]]:
    """Faces of one primitive element, the positions they index, and what is to be told of the rest. Raises Unreadable
    where the surface itself cannot be read."""
    inputs: list[tuple[str, str, int, int]] = []
    for entry in primitive.findall("input"):
        try:
            offset = int(entry.get("offset", "0"))
            number = int(entry.get("set", "0") or 0)
        except ValueError as error:
            raise Unreadable("an input has an offset or set that is no number") from error
        semantic, url = entry.get("semantic", ""), entry.get("source", "")
        if semantic == "VERTEX":
            holder = vertices.get(url.lstrip("#"))
            if holder is None:
                raise Unreadable(f"it refers to the vertices “{url[:60]}”, which are not there")
            inputs += [
                (i.get("semantic", ""), i.get("source", ""), offset, int(i.get("set", "0") or 0))
                for i in holder.findall("input")
            ]
        else:
            inputs.append((semantic, url, offset, number))
    if not any(s == "POSITION" for s, *_ in inputs):
        raise Unreadable("it has no positions")
    if min(o for *_, o, _ in inputs) < 0:
        raise Unreadable("an input has a negative offset")
    stride = max(o for *_, o, _ in inputs) + 1
    try:
        table, counts = faces_of(primitive, stride, sources, next(u for s, u, *_ in inputs if s == "POSITION"), inputs)
    except ValueError as error:
        raise Unreadable("its index list holds something that is no whole number") from error
    piece = Corners(text_of(None) or primitive.get("material", ""), [counts])
    uvs: dict[int, F32] = {}
    normals = color = None
    positions = np.zeros((0, 3))
    told: list[str] = []
    lengths: set[int] = set()
    for semantic, url, offset, number in inputs:
        if semantic == "POSITION":
            positions = sources.get(url)
            if positions.shape[1] < 3:
                positions = np.column_stack([positions, np.zeros((len(positions), 3 - positions.shape[1]))])
            positions = positions[:, :3]
            sources.read[url.lstrip("#")] = positions
            piece.points = [table[:, offset]]
            lengths.add(len(positions))
        elif semantic in PER_CORNER:
            try:
                values = sources.get(url)
            except Unreadable as error:
                told.append(f"Its {PER_CORNER[semantic]} were left out, because {error.what}.")
                continue
            lengths.add(len(values))
            rows, missed = picked(values, table[:, offset], {"NORMAL": 3, "COLOR": 4}.get(semantic, 2))
            if missed:
                told.append(astray(missed, PER_CORNER[semantic]))
            if semantic == "NORMAL":
                normals = rows
            elif semantic == "COLOR" and color is None:
                color = rows
                if values.shape[1] < 4:
                    color[:, 3] = 1.0
            elif semantic != "COLOR":
                rows[:, 1] = 1.0 - rows[:, 1]  # counted from the bottom in the file, from the top in the scene
                uvs[number if number not in uvs else max(uvs) + 1] = rows
    piece.normals, piece.uvs, piece.colors = [normals], [uvs], [color]
    # one offset for all inputs means one index per corner, as long as the sources are equally long
    piece.single = stride == 1 and len(lengths) == 1
    return piece, positions, told


def picked(values: F64, index: I64, width: int) -> tuple[F32, int]:
    """(C, width) float32 rows; indices that point at nothing give zeros, and how many do."""
    have = min(width, values.shape[1])
    known = np.zeros((len(values) + 1, width), np.float32)
    known[:-1, :have] = stored32(values[:, :have])
    # the row behind the last is the one of nothing; rows are taken several times quicker than they are indexed
    there = (index >= 0) & (index < len(values))
    out: F32 = known.take(np.where(there, index, len(values)), axis=0)
    return out, len(index) - int(np.count_nonzero(there))


def faces_of(
    primitive: Element, stride: int, sources: Sources, positions: str, inputs: list[tuple[str, str, int, int]]
) -> tuple[I64, I64]:
    """(C, stride) indices corner by corner and (F,) corners per face; strips, fans and holes undone."""

    def rows(element: Element) -> I64:
        flat = whole_numbers(element)
        sources.budget.take(flat.nbytes * 4, str(primitive.tag))
        return flat[: len(flat) - len(flat) % stride].reshape(-1, stride)

    if primitive.tag == "triangles":
        table = np.concatenate([rows(p) for p in primitive.findall("p")] or [np.zeros((0, stride), np.int64)])
        table = table[: len(table) - len(table) % 3]
        return table, np.full(len(table) // 3, 3, np.int64)
    if primitive.tag == "polylist":
        counts = whole_numbers(primitive.find("vcount"))
        table = np.concatenate([rows(p) for p in primitive.findall("p")] or [np.zeros((0, stride), np.int64)])
        if (counts < 0).any() or counts.sum() > len(table):
            raise Unreadable(f"its faces claim {int(counts.sum())} corners and there are {len(table)}")
        return table[: int(counts.sum())], counts
    pieces: list[I64] = []
    sizes: list[int] = []
    if primitive.tag in ("tristrips", "trifans"):
        for p in primitive.findall("p"):
            run = rows(p)
            n = len(run) - 2
            if n < 1:
                continue
            if primitive.tag == "trifans":
                order = np.stack([np.zeros(n, np.int64), np.arange(1, n + 1), np.arange(2, n + 2)], axis=1)
            else:
                order = np.arange(n)[:, None] + np.arange(3)
                order[1::2] = order[1::2][:, [1, 0, 2]]
            pieces.append(run[order.ravel()])
            sizes += [3] * n
    else:
        offset = next(o for s, _, o, _ in inputs if s == "POSITION")
        for p in primitive:
            if p.tag == "p":
                run = rows(p)
                pieces.append(run)
                sizes.append(len(run))
            elif p.tag == "ph":
                outer = p.find("p")
                if outer is None:
                    continue
                rings = [rows(outer), *(rows(h) for h in p.findall("h"))]
                triangles = holed(rings, sources.get(positions), offset)
                pieces.append(triangles)
                sizes += [3] * (len(triangles) // 3)
    table = np.concatenate(pieces) if pieces else np.zeros((0, stride), np.int64)
    return table, np.array(sizes, np.int64)


def holed(rings: list[I64], points: F64, offset: int) -> I64:
    """(3T, stride) corners of the triangles of a polygon with holes; empty when a corner points at nothing."""
    whole = np.concatenate(rings)
    index: AnyArray = whole[:, offset]
    if ((index < 0) | (index >= len(points))).any() or len(rings[0]) < 3:
        return whole[:0]
    corners = points[index][:, :3]
    if corners.shape[1] < 3 or not np.isfinite(corners).all():
        return whole[:0]
    return whole[with_holes(corners, [len(r) for r in rings]).ravel()]
