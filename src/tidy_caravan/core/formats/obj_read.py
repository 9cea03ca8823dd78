"""Reads Wavefront OBJ with MTL: objects and groups as the tree, n-gons triangulated, negative indices.

The format declares neither unit nor axes; metre, Y up, right-handed is assumed and told as a guess.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.bundle import Bundle
from tidy_caravan.core.formats.mtl_read import MaterialTable
from tidy_caravan.core.formats.registry import reader
from tidy_caravan.core.formats.travel import Travels
from tidy_caravan.core.geometry.triangulate import fan_or_ears
from tidy_caravan.core.scene import GLTF, Mesh, Note, Scene, make_nodes
from tidy_caravan.core.scene.arrays import F32, F64, I32, I64, LARGEST, AnyArray, stored32, usable_rows

WORDS = {b"v", b"vt", b"vn", b"f", b"o", b"g", b"s", b"usemtl", b"mtllib", b"l", b"p"}
MANY = 20


def is_obj(head: bytes) -> bool:
    if b"\0" in head:
        return False
    lines = [line.split(None, 1)[0] for line in head.splitlines()[:400] if line.split()]
    return any(word in WORDS for word in lines) and head.lstrip()[:1] != b"{"


@dataclass
class Run:
    """Faces under one object, group and material."""

    object: str
    group: str
    material: int
    faces: list[str] = field(default_factory=list)
    totals: list[tuple[int, int, int]] = field(default_factory=list)


@dataclass
class Parsed:
    positions: list[str] = field(default_factory=list)
    coordinates: list[str] = field(default_factory=list)
    normals: list[str] = field(default_factory=list)
    runs: list[Run] = field(default_factory=list)
    other: dict[str, int] = field(default_factory=dict)


@reader("obj", ".obj", sniff=is_obj, weak=True)
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
    text = bundle.data.decode("utf-8", errors="replace").replace("\\\r\n", " ").replace("\\\n", " ")
    materials = MaterialTable(bundle, notes)
    parsed = split_lines(text, materials)
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
                f"{int((~finite).sum())} positions are not finite numbers or beyond {LARGEST:g}; faces on them were left out.",
            )
        )
        positions = np.where(finite[:, None], positions, 0.0)
    pieces = Pieces(positions, colors, stored32(coordinates), stored32(normals), finite, notes)
    scene = assemble(parsed.runs, pieces, bundle.main)
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
    whole = scene.but(
        materials=tuple(materials.materials),
        textures=tuple(materials.textures),
        images=tuple(materials.images),
        notes=tuple(notes),
        format="obj",
        convention=replace(GLTF, declared=False),
    )
    return travels.onto(whole)


def split_lines(text: str, materials: MaterialTable) -> Parsed:
    out = Parsed()
    current_object, group, material = "", "", -1
    run: Run | None = None
    sinks = {"v": out.positions, "vt": out.coordinates, "vn": out.normals}
    for line in text.splitlines():
        word, _, rest = line.strip().partition(" ")
        if word in sinks:
            sinks[word].append(rest)
        elif word == "f":
            if run is None:
                run = Run(current_object, group, material)
                out.runs.append(run)
            run.faces.append(rest)
            run.totals.append((len(out.positions), len(out.coordinates), len(out.normals)))
        elif word == "o":
            current_object, group, run = rest.strip(), "", None
        elif word == "g":
            group, run = rest.strip(), None
        elif word == "usemtl":
            material, run = materials.index(rest.strip()), None
        elif word == "mtllib":
            materials.load(rest.strip())
        elif word and not word.startswith("#"):
            out.other[word] = out.other.get(word, 0) + 1
    return out


def vertices(lines: list[str], word: str, width: int, notes: list[Note]) -> tuple[F64, F64 | None]:
    """(V, width) numbers of all lines of one kind; colours after positions as (V, 3) or None."""
    if not lines:
        return np.zeros((0, width)), None
    rows = [line.split("#")[0].split() for line in lines]
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


class Pieces:
    """All vertex data of the file, from which the meshes of the runs are cut."""

    def __init__(
        self, positions: F64, colors: F64 | None, coordinates: F32, normals: F32, finite: AnyArray, notes: list[Note]
    ) -> None:
        self.positions, self.colors, self.coordinates, self.normals = positions, colors, coordinates, normals
        self.finite, self.notes = finite, notes
        self.told = 0

    def tell(self, where: str, text: str) -> None:
        self.told += 1
        if self.told <= MANY:
            self.notes.append(Note("damaged", "import.face", where[:120], text))

    def mesh(self, runs: list[Run], name: str) -> Mesh | None:
        """One mesh of all runs of a node: sub-meshes by material."""
        corners, sizes, materials = [], [], []
        for run in runs:
            c, s = self.corners(run)
            corners.append(c)
            sizes.append(s)
            materials.append(np.full(len(s), run.material, np.int32))
        triples, counts, slot = np.concatenate(corners), np.concatenate(sizes), np.concatenate(materials)
        if not len(counts):
            return None
        triangles, face = fan_or_ears(self.positions[triples[:, 0]], counts)
        if not len(triangles):
            return None
        base = triples.min(axis=0)
        span = triples.max(axis=0) - base + 1
        shifted = (triples - base).astype(np.int64)
        key = (shifted[:, 0] * int(span[1]) + shifted[:, 1]) * int(span[2]) + shifted[:, 2]
        _, first, inverse = np.unique(key, return_index=True, return_inverse=True)
        rank = np.argsort(np.argsort(first))
        order = np.sort(first)
        chosen = triples[order]
        indices = rank[inverse[triangles]].astype(np.uint32)
        normals, uv = None, None
        if len(self.normals) and (chosen[:, 2] >= 0).any():
            normals = self.normals[np.maximum(chosen[:, 2], 0)]
            normals[chosen[:, 2] < 0] = 0.0
        if len(self.coordinates) and (chosen[:, 1] >= 0).any():
            uv = self.coordinates[np.maximum(chosen[:, 1], 0)]
            uv[chosen[:, 1] < 0] = 0.0
            uv[:, 1] = 1.0 - uv[:, 1]  # OBJ counts v from the bottom, the scene from the top
        colors: tuple[AnyArray, ...] = ()
        if self.colors is not None:
            rgb = self.colors[chosen[:, 0]]
            colors = (np.column_stack([rgb, np.ones(len(rgb))]).astype(np.float32),)
        return Mesh(
            self.positions[chosen[:, 0]].astype(np.float32),
            indices,
            slot[face],
            normals=normals,
            uvs=() if uv is None else (uv,),
            colors=colors,
            name=name,
        )

    def corners(self, run: Run) -> tuple[I64, I64]:
        """(C, 3) resolved indices v, vt, vn (-1 for none) and (F,) corners per usable face."""
        rows: list[tuple[int, int, int]] = []
        sizes: list[int] = []
        limits = (len(self.positions), len(self.coordinates), len(self.normals))
        for line, total in zip(run.faces, run.totals, strict=True):
            face: list[tuple[int, int, int]] = []
            try:
                for token in line.split("#")[0].split():
                    fields = token.split("/")
                    resolved = [-1, -1, -1]
                    for k in range(min(3, len(fields))):
                        if fields[k]:
                            value = int(fields[k])
                            index = value - 1 if value > 0 else total[k] + value
                            if value == 0 or not 0 <= index < limits[k]:
                                raise ValueError(f"the index {value} points at nothing")
                            resolved[k] = index
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
            except (ValueError, OverflowError) as error:
                self.tell(f"f {line}", f"A face was left out, because {error}.")
        return np.array(rows, np.int64).reshape(-1, 3), np.array(sizes, np.int64)


def assemble(runs: list[Run], pieces: Pieces, main: str) -> Scene:
    """Nodes: an object is a node; its groups hang below it when there are several."""
    grouped: dict[str, dict[str, list[Run]]] = {}
    for run in runs:
        grouped.setdefault(run.object, {}).setdefault(run.group, []).append(run)
    names: list[str] = []
    parents: list[int] = []
    mesh_of: list[int] = []
    meshes: list[Mesh] = []
    index: dict[str, int] = {}

    def node(name: str, parent: int, own: list[Run]) -> int:
        mesh = pieces.mesh(own, name) if own else None
        number = -1
        if mesh is not None:
            number = index.setdefault(mesh.id, len(meshes))
            if number == len(meshes):
                meshes.append(mesh)
        names.append(name)
        parents.append(parent)
        mesh_of.append(number)
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
    mesh_column: I32 = np.array(mesh_of, np.int32)
    return Scene(GLTF, make_nodes(parents, local, names, mesh=mesh_column), tuple(meshes))
