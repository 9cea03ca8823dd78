"""Reads Wavefront OBJ with MTL: objects and groups as the tree, n-gons triangulated, negative indices.

The format declares neither unit nor axes; metre, Y up, right-handed is assumed and told as a guess.
"""

from __future__ import annotations

import warnings
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace

import numpy as np

from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.obj.mtl import MaterialTable
from tidy_caravan.core.formats.shared.bundle import Bundle
from tidy_caravan.core.formats.shared.encoding import in_utf8
from tidy_caravan.core.formats.shared.folded import tell_folds
from tidy_caravan.core.formats.shared.many import astray, tell, tell_rest
from tidy_caravan.core.formats.shared.travel import Travels
from tidy_caravan.core.geometry.corners import distinct
from tidy_caravan.core.geometry.folds import Folds, folds_of
from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.own_origin import far_file, placed_at, rebased
from tidy_caravan.core.geometry.smoothing import corner_angles
from tidy_caravan.core.geometry.triangulate import fan_or_ears
from tidy_caravan.core.pace import OFTEN
from tidy_caravan.core.scene import GLTF, Mesh, Note, Scene, make_nodes
from tidy_caravan.core.scene.arrays import F32, F64, I32, I64, LARGEST, AnyArray, extremes, stored32, usable_rows
from tidy_caravan.core.words import plural

REAL = b"0123456789.eE+- \n"
WHOLE = b"0123456789/ \n"
BLANK, NEWLINE, SLASH = 32, 10, 47
MOST_WORDS = 40
"""Kinds of lines that are told one by one."""
KEYWORDS = {word: int.from_bytes(word.ljust(2).encode(), "big") for word in ("v", "vt", "vn", "f")}
Totals = tuple[int, int, int]


@dataclass
class Lines:
    """What stands behind one keyword, as texts of many lines each, with what was counted when each began."""

    texts: list[str] = field(default_factory=list)
    totals: list[Totals] = field(default_factory=list)
    count: int = 0

    def add(self, text: str, count: int = 1, totals: Totals = (0, 0, 0)) -> None:
        self.texts.append(text)
        self.totals.append(totals)
        self.count += count

    def each(self) -> Iterator[tuple[str, Totals]]:
        for text, totals in zip(self.texts, self.totals, strict=True):
            for line in text.split("\n"):
                yield line.strip(), totals

    def plain(self, allowed: bytes) -> bytes | None:
        """All of it when it holds nothing but those characters, with single blanks inside the lines; else None."""
        out = "\n".join(self.texts).encode()
        if out.translate(None, allowed) or out[:1] in b" \n" or out[-1:] in b" \n":
            return None
        return None if any(pair in out for pair in (b"  ", b" \n", b"\n ", b"\n\n")) else out


@dataclass
class Run:
    """Faces under one object, group and material."""

    object: str
    group: str
    material: int
    smooth: int = 0
    faces: Lines = field(default_factory=Lines)


@dataclass
class Parsed:
    positions: Lines = field(default_factory=Lines)
    coordinates: Lines = field(default_factory=Lines)
    normals: Lines = field(default_factory=Lines)
    runs: list[Run] = field(default_factory=list)
    smoothing: bool = False
    other: dict[str, int] = field(default_factory=dict)


def read(bundle: Bundle) -> Scene:
    """One node per object and group. Raises UnusableInput when there is not a single usable vertex."""
    notes: list[Note] = [
        Note(
            "guess",
            "import.convention",
            bundle.main,
            "OBJ declares neither unit nor axes; metre, Y up, right-handed was assumed.",
        )
    ]
    data = in_utf8(bundle.data, bundle.main, notes).replace(b"\r\n", b"\n").replace(b"\r", b"\n").replace(b"\\\n", b" ")
    materials = MaterialTable(bundle, notes)
    parsed = split_lines(data, materials, bundle.tell)
    positions, colors = vertices(parsed.positions, "v", 3, notes)
    coordinates, _ = vertices(parsed.coordinates, "vt", 2, notes)
    normals, _ = vertices(parsed.normals, "vn", 3, notes)
    if not len(positions):
        raise UnusableInput("there are no vertices; this is no OBJ file or an empty one", where=bundle.main)
    for word, count in sorted(parsed.other.items()):
        kinds = {"l": "lines", "p": "points", "curv": "curves", "surf": "surfaces"}
        if word in kinds:
            notes.append(
                Note(
                    "behind",
                    "import.not-a-surface",
                    bundle.main,
                    f"{count} {kinds[word]} stay behind; only surfaces travel.",
                )
            )
    finite = usable_rows(positions)
    if not finite.all():
        notes.append(
            Note(
                "damaged",
                "import.not-finite",
                bundle.main,
                f"{plural(int((~finite).sum()), 'position is', 'positions are')} not finite or beyond {LARGEST:g}; faces there left out.",
            )
        )
        positions = np.where(finite[:, None], positions, 0.0)
    pieces = Pieces(positions, colors, stored32(coordinates), stored32(normals), finite, notes, parsed.smoothing)
    scene = assemble(parsed.runs, pieces, bundle.main, bundle.tell)
    pieces.close(bundle.main)
    if not len(scene.nodes.parts):
        notes.append(
            Note(
                "behind",
                "import.no-faces",
                bundle.main,
                "The file holds vertices and no usable face; there is nothing to carry.",
            )
        )
    travels = Travels()
    travels.from_notes(notes)
    others = [(w, n) for w, n in sorted(parsed.other.items()) if w not in ("l", "p", "curv", "surf")]  # told above
    for word, count in others[:MOST_WORDS]:
        travels.behind(f"“{word[:40]}” lines", count, "nothing here reads them")
    travels.behind("lines of further kinds", sum(n for _, n in others[MOST_WORDS:]), "nothing here reads them")
    for word, count in materials.unread.items():
        travels.behind(f"“{word[:40]}” of materials", count, "the portable material has no place for it")
    whole = scene.but(
        materials=tuple(materials.materials),
        textures=tuple(materials.textures),
        images=tuple(materials.images),
        notes=tuple(notes),
        format="obj",
        convention=replace(GLTF, declared=False),
    )
    return travels.onto(whole)


def split_lines(data: bytes, materials: MaterialTable, say: Callable[..., None]) -> Parsed:
    """Lines by their keyword. Those that stand among many of their kind are taken all at once."""
    out = Parsed()
    current_object, group, material, smooth = "", "", -1, 0
    run: Run | None = None
    sinks = {"v": out.positions, "vt": out.coordinates, "vn": out.normals}
    for number, (kind, count, begin, end) in enumerate(blocks(data)):
        if number % OFTEN == 0:
            say("reading lines", begin, len(data))
        text = data[begin:end].decode("utf-8", errors="replace")
        given_lines = [text] if kind else text.split("\n")
        for line in given_lines:
            if kind:
                word, given = kind, text[len(kind) + 1 :].replace(f"\n{kind} ", "\n")
            else:
                word, _, given = line.strip().partition(" ")
            if word in sinks:
                sinks[word].add(given, count if kind else 1)
            elif word == "f":
                if run is None:
                    run = Run(current_object, group, material, smooth)
                    out.runs.append(run)
                totals = (out.positions.count, out.coordinates.count, out.normals.count)
                run.faces.add(given, count if kind else 1, totals)
            elif word == "o":
                current_object, group, run = given.strip(), "", None
            elif word == "g":
                group, run = given.strip(), None
            elif word == "s":
                out.smoothing, smooth, run = True, smoothing_group(given), None
            elif word == "usemtl":
                material, run = materials.index(given.strip()), None
            elif word == "mtllib":
                materials.load(given.strip())
            elif word and not word.startswith("#"):
                out.other[word] = out.other.get(word, 0) + 1
    return out


def blocks(data: bytes) -> Iterator[tuple[str, int, int, int]]:
    """(keyword, lines, begin, end) of lines that follow each other under one of KEYWORDS and a blank; the keyword is
    empty for any other lines."""
    marks = np.frombuffer(data + b"   ", np.uint8)
    ends = np.append(np.flatnonzero(marks == NEWLINE), len(data))
    begins = np.concatenate([[0], ends[:-1] + 1])
    two = marks[begins].astype(np.int64) * 256 + marks[begins + 1]
    kind = np.zeros(len(begins), np.int64)
    for number, (word, code) in enumerate(KEYWORDS.items(), 1):
        kind[(two == code) & (marks[begins + len(word)] == BLANK)] = number
    words = ["", *KEYWORDS]
    changes = np.flatnonzero(np.diff(kind)) + 1
    first = np.concatenate([[0], changes])
    last = np.append(changes, len(kind)) - 1
    for k, i, j in zip(kind[first].tolist(), first.tolist(), last.tolist(), strict=True):
        yield words[k], j - i + 1, int(begins[i]), int(ends[j])


def smoothing_group(rest: str) -> int:
    """Number of a smoothing group; 0 is none."""
    text = rest.split("#")[0].strip().lower()
    if text in ("", "off", "null"):
        return 0
    return int(text) if text.isdigit() and len(text) < 10 else 1


def vertices(lines: Lines, word: str, width: int, notes: list[Note]) -> tuple[F64, F64 | None]:
    """(V, width) numbers of all lines of one kind; colours after positions as (V, 3) or None."""
    if not lines.count:
        return np.zeros((0, width)), None
    whole = plain_numbers(lines)
    if whole is not None and whole.shape[1] >= width:
        colors_too = word == "v" and whole.shape[1] in (6, 7)
        return whole[:, :width], whole[:, -3:] if colors_too else None
    rows = [line.split("#")[0].split() for line, _ in lines.each()]
    sizes = set(map(len, rows))
    colors: F64 | None = None
    try:
        if len(sizes) == 1 and next(iter(sizes)) >= width:
            table = np.array(rows, dtype=np.float64)
            if word == "v" and table.shape[1] in (6, 7):
                colors = table[:, -3:]
            return table[:, :width], colors
    except (ValueError, OverflowError):
        pass
    out, bad = np.full((len(rows), width), np.nan), 0
    if word == "vt":
        out[:] = 0.0
    for i, row in enumerate(rows):
        try:
            values = [float(v) for v in row[:width]]
        except ValueError:
            bad += 1
            continue
        if len(values) < width and word != "vt":
            bad += 1
            continue
        out[i, : len(values)] = values
    if bad:
        notes.append(Note("damaged", "import.damaged", word, f"{bad} lines “{word}” hold no usable numbers."))
    return out, None


def plain_numbers(lines: Lines) -> F64 | None:
    """(L, K) numbers of lines that hold equally many, single blanks between them and nothing else; None otherwise."""
    text = lines.plain(REAL)
    if text is None:
        return None
    counts = words_per_line(text)
    if (counts != counts[0]).any():
        return None
    values = parsed_numbers(text)
    return values.reshape(len(counts), -1) if values is not None and len(values) == counts.sum() else None


def words_per_line(text: bytes) -> I64:
    """(L,) how many words single blanks part in each line."""
    marks = np.frombuffer(text, np.uint8)
    ends = np.append(np.flatnonzero(marks == NEWLINE), len(marks))
    return np.diff(np.searchsorted(np.flatnonzero(marks == BLANK), ends), prepend=0) + 1


def parsed_numbers(text: bytes) -> F64 | None:
    """All numbers of a text, each correctly rounded; None when one of the words is none."""
    with warnings.catch_warnings():
        warnings.simplefilter("error", DeprecationWarning)
        try:
            return np.fromstring(text.decode("ascii"), np.float64, sep=" ")
        except (DeprecationWarning, ValueError):
            return None


class Pieces:
    """All vertex data of the file, from which the meshes of the runs are cut."""

    def __init__(
        self,
        positions: F64,
        colors: F64 | None,
        coordinates: F32,
        normals: F32,
        finite: AnyArray,
        notes: list[Note],
        smoothing: bool,
    ) -> None:
        self.positions, self.colors, self.coordinates, self.normals = positions, colors, coordinates, normals
        self.finite, self.notes, self.smoothing = finite, notes, smoothing
        self.far = far_file(positions[finite])
        self.told: dict[str, int] = {}
        self.astray = {"texture coordinates": 0, "normals": 0}
        """Corners that point at some that are not there."""

    def close(self, main: str) -> None:
        """Tells what was only counted on the way."""
        tell_rest(self.notes, self.told, main)
        for what, count in self.astray.items():
            if count:
                self.notes.append(Note("damaged", "import.damaged", main, astray(count, what)))

    def note(self, where: str, text: str) -> None:
        tell(self.notes, self.told, Note("damaged", "import.face", where[:120], text))

    def mesh(self, runs: list[Run], name: str) -> tuple[Mesh, F64, Folds] | None:
        """One mesh of all runs of a node, sub-meshes by material, its origin (3,), and the folds of its polygons."""
        corners, sizes, materials, groups = [], [], [], []
        for run in runs:
            c, s = self.corners(run)
            corners.append(c)
            sizes.append(s)
            materials.append(np.full(len(s), run.material, np.int32))
            groups.append(np.full(len(s), run.smooth, np.int64))
        triples, counts, slot = np.concatenate(corners), np.concatenate(sizes), np.concatenate(materials)
        if not len(counts):
            return None
        triangles, face = fan_or_ears(self.positions[triples[:, 0]], counts)
        if not len(triangles):
            return None
        folds = folds_of(self.positions, triples[:, 0], counts)
        stored = self.normals
        if self.smoothing and (triples[:, 2] < 0).any():
            triples, stored = self.smoothed(triples, triangles, np.concatenate(groups)[face], face)
        low, high = extremes(triples)
        span, shifted = high - low + 1, triples - low
        key = shifted[:, 0] * span[1] + shifted[:, 1]
        if int(span[0]) * int(span[1]) * int(span[2]) >= 1 << 63:
            key = distinct(key)[1]
        first, vertex = distinct(key * span[2] + shifted[:, 2])
        chosen = triples[first]
        indices = vertex[triangles].astype(np.uint32)
        normals, uv = None, None
        if len(stored) and (chosen[:, 2] >= 0).any():
            normals = stored[np.maximum(chosen[:, 2], 0)]
            normals[chosen[:, 2] < 0] = 0.0
        if len(self.coordinates) and (chosen[:, 1] >= 0).any():
            uv = self.coordinates[np.maximum(chosen[:, 1], 0)]
            uv[chosen[:, 1] < 0] = 0.0
            uv[:, 1] = 1.0 - uv[:, 1]  # OBJ counts v from the bottom, the scene from the top
        colors: tuple[AnyArray, ...] = ()
        if self.colors is not None:
            rgb = self.colors[chosen[:, 0]]
            colors = (np.column_stack([rgb, np.ones(len(rgb))]).astype(np.float32),)
        points, origin = rebased(self.positions[chosen[:, 0]], indices.ravel().astype(np.int64), far=self.far)
        mesh = Mesh(
            points.astype(np.float32),
            indices,
            slot[face],
            normals=normals,
            uvs=() if uv is None else (uv,),
            colors=colors,
            name=name,
        )
        return mesh, origin, folds

    def smoothed(self, triples: I64, triangles: I64, group: I64, face: I64) -> tuple[I64, F32]:
        """Corners with normals where the file has none but smoothing groups: smooth inside a group, flat in none.

        triangles: (T, 3) into the corners (C, 3). group, face: (T,). Returns the corners and all normals they refer to.
        """
        points = self.positions[triples[:, 0]]
        vectors = face_vectors(points, triangles.astype(np.uint32))
        bare = triples[triangles.ravel(), 2] < 0
        # one normal per place and group; outside the groups one per face, which a corner belongs to alone
        place = triples[triangles.ravel(), 0]
        own = np.repeat(group, 3)
        key = np.column_stack([own, np.where(own > 0, place, -1), np.where(own > 0, -1, np.repeat(face, 3))])
        _, label = np.unique(key, axis=0, return_inverse=True)
        label = label.reshape(-1)
        weighted = np.repeat(vectors, 3, axis=0) * corner_angles(points, triangles).reshape(-1, 1)
        total = np.column_stack([np.bincount(label, weighted[:, k]) for k in range(3)])
        size = np.linalg.norm(total, axis=1, keepdims=True)
        fresh = np.where(size > 0, total / np.where(size > 0, size, 1.0), (0.0, 1.0, 0.0)).astype(np.float32)
        out = triples.copy()
        out[triangles.ravel()[bare], 2] = label[bare] + len(self.normals)
        return out, np.concatenate([self.normals.reshape(-1, 3), fresh])

    def corners(self, run: Run) -> tuple[I64, I64]:
        """(C, 3) resolved indices v, vt, vn (-1 for none) and (F,) corners per usable face."""
        plain = self.plain_corners(run.faces)
        return plain if plain is not None else self.any_corners(run)

    def plain_corners(self, lines: Lines) -> tuple[I64, I64] | None:
        """The same for lines of sound forward indices that are all written alike; None for any others."""
        text = lines.plain(WHOLE)
        if text is None:
            return None
        sizes = words_per_line(text)
        corners, slashes, doubles = int(sizes.sum()), text.count(b"/"), text.count(b"//")
        forms = {(0, 0): (0,), (corners, 0): (0, 1), (2 * corners, 0): (0, 1, 2), (2 * corners, corners): (0, 2)}
        columns = forms.get((slashes, doubles))
        if columns is None or sizes.min() < 3 or not all_alike(text, len(columns), doubles > 0):
            return None
        values = parsed_numbers(text.replace(b"//", b" ").replace(b"/", b" "))
        if values is None or len(values) != corners * len(columns):
            return None
        out = np.full((corners, 3), -1, np.int64)
        limits = np.array((len(self.positions), len(self.coordinates), len(self.normals)))[list(columns)]
        table = values.reshape(corners, len(columns))
        if not ((table >= 1) & (table <= limits)).all():
            return None
        out[:, list(columns)] = table.astype(np.int64) - 1
        return (out, sizes) if self.finite[out[:, 0]].all() else None

    def any_corners(self, run: Run) -> tuple[I64, I64]:
        """Line by line, whatever they hold; what is left out is told."""
        rows: list[tuple[int, int, int]] = []
        sizes: list[int] = []
        limits = (len(self.positions), len(self.coordinates), len(self.normals))
        for line, total in run.faces.each():
            face: list[tuple[int, int, int]] = []
            missed = [0, 0]
            try:
                for token in line.split("#")[0].split():
                    fields = token.split("/")
                    resolved = [-1, -1, -1]
                    for k in range(min(3, len(fields))):
                        if fields[k]:
                            value = int(fields[k])
                            index = value - 1 if value > 0 else total[k] + value
                            if value != 0 and 0 <= index < limits[k]:
                                resolved[k] = index
                            elif k == 0:
                                raise ValueError(f"the index {value} points at nothing")
                            else:  # the surface is there; what is missing is missed on that corner
                                missed[k - 1] += 1
                    if resolved[0] < 0:
                        raise ValueError("a corner has no position")
                    if not self.finite[resolved[0]]:
                        break
                    face.append((resolved[0], resolved[1], resolved[2]))
                else:
                    if len(face) < 3:
                        raise ValueError(f"it has {len(face)} corners")
                    rows.extend(face)
                    sizes.append(len(face))
                    for what, count in zip(self.astray, missed, strict=True):
                        self.astray[what] += count
            except (ValueError, OverflowError) as error:
                self.note(f"f {line}", f"A face was left out, because {error}.")
        return np.array(rows, np.int64).reshape(-1, 3), np.array(sizes, np.int64)


def all_alike(text: bytes, width: int, double: bool) -> bool:
    """Whether every corner has `width` numbers: what stands between two blanks has as many slashes as any other."""
    if width == 1:
        return True
    marks = np.frombuffer(text, np.uint8)
    ends = np.append(np.flatnonzero((marks == BLANK) | (marks == NEWLINE)), len(marks))
    per_corner = np.diff(np.searchsorted(np.flatnonzero(marks == SLASH), ends), prepend=0)
    return bool((per_corner == (2 if double else width - 1)).all())


def assemble(runs: list[Run], pieces: Pieces, main: str, say: Callable[..., None]) -> Scene:
    """Nodes: an object is a node; its groups hang below it when there are several."""
    grouped: dict[str, dict[str, list[Run]]] = {}
    for run in runs:
        grouped.setdefault(run.object, {}).setdefault(run.group, []).append(run)
    names: list[str] = []
    parents: list[int] = []
    mesh_of: list[int] = []
    origins: list[F64] = []
    meshes: list[Mesh] = []
    index: dict[str, int] = {}
    folded: dict[int, Folds] = {}

    def node(name: str, parent: int, own: list[Run]) -> int:
        made = pieces.mesh(own, name) if own else None
        number = -1
        origins.append(np.zeros(3) if made is None else made[1])
        if made is not None:
            mesh = made[0]
            number = index.setdefault(mesh.id, len(meshes))
            if number == len(meshes):
                meshes.append(mesh)
                folded[number] = made[2]
        names.append(name)
        parents.append(parent)
        mesh_of.append(number)
        if len(names) % OFTEN == 0:
            say("reading objects", len(names), max(len(runs), len(names)))
        return len(names) - 1

    for name, groups in grouped.items():
        if not name:
            for group, own in groups.items():
                node(group or main.rsplit("/", 1)[-1].rsplit(".", 1)[0], -1, own)
        elif len(groups) == 1:
            ((group, own),) = groups.items()
            if group and group != name:
                node(group, node(name, -1, []), own)
            else:
                node(name, -1, own)
        else:
            top = node(name, -1, groups.get("", []))
            for group, own in groups.items():
                if group:
                    node(group, top, own)
    local = np.tile(np.eye(4), (len(names), 1, 1))
    local = placed_at(local, np.array(parents, np.int64), np.array(origins).reshape(-1, 3))
    mesh_column: I32 = np.array(mesh_of, np.int32)
    tell_folds(pieces.notes, folded, meshes, mesh_column, main)
    return Scene(GLTF, make_nodes(parents, local, names, mesh=mesh_column), tuple(meshes))
