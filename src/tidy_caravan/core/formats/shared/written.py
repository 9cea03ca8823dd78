"""What a writer returns, and the names that every writer gives: of texture files, of parts, of scattered copies."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

import numpy as np

from tidy_caravan.core.scene import HIDDEN, SCATTER, Nodes, Note, Scene
from tidy_caravan.core.scene.arrays import F64, AnyArray, Bool
from tidy_caravan.core.space.transforms import split_trs
from tidy_caravan.core.words import few, figure

ENDINGS = {"image/png": ".png", "image/jpeg": ".jpg", "image/webp": ".webp"}


@dataclass
class Written:
    """Files by name, and notes of what had to be rewritten or was lost; `node_index[i]` is the file's number of node i.

    renamed: nodes whose name the format cannot hold, and what stands there instead; materials: old to new names.
    """

    files: dict[str, bytes]
    notes: list[Note] = field(default_factory=list)
    node_index: list[int] = field(default_factory=list)
    renamed: dict[int, str] = field(default_factory=dict)
    materials: dict[str, str] = field(default_factory=dict)
    alike: dict[str, list[tuple[str, int]]] = field(default_factory=dict)

    def rewritten(self, text: str, where: str = "") -> None:
        """Notes what was put right or written differently."""
        self.notes.append(Note("rewritten", "write.rewritten", where, text))

    def rewritten_of(self, sentence: str, name: str, amount: int = 1) -> None:
        """The same of one among many: `texts` says it once of all. sentence: with {names}, and {amount} for the sum."""
        self.alike.setdefault(sentence, []).append((name, amount))

    def lost(self, text: str, where: str = "") -> None:
        """Notes what the format cannot hold."""
        self.notes.append(Note("lost", "write.lost", where, text))

    def texts(self, kind: str) -> list[str]:
        told = [n.text for n in self.notes if n.kind == kind]
        if kind == "rewritten":
            for sentence, of in self.alike.items():
                told.append(sentence.format(names=few([n for n, _ in of]), amount=figure(sum(a for _, a in of))))
        return told


def texture_path(name: str, index: int, mime: str, taken: dict[str, bytes]) -> str:
    """A unique file name under textures/ made of harmless characters."""
    stem = re.sub(r"[^A-Za-z0-9_\-]+", "_", name.rsplit("/", 1)[-1].rsplit(".", 1)[0])[:60] or f"texture_{index}"
    ending = ENDINGS.get(mime, "")
    path = f"textures/{stem}{ending}"
    lowered = {t.lower() for t in taken}
    while path.lower() in lowered:
        stem = f"{stem}_{index}"
        path = f"textures/{stem}{ending}"
    return path


def changed_names(scene: Scene, part_names: list[str]) -> dict[int, str]:
    """By node, the name that stands in the file where it is not the node's own."""
    pairs = zip(scene.nodes.parts.tolist(), part_names, strict=True)
    return {i: name for i, name in pairs if name != scene.nodes.names[i]}


def unique_names(names: list[str]) -> list[str]:
    """Names without blanks or control characters, made unique by a number."""
    out: list[str] = []
    taken: set[str] = set()
    count: dict[str, int] = {}
    for name in names:
        clean = "".join("_" if c.isspace() or not c.isprintable() or c in "#\\" else c for c in name) or "_"
        result = clean
        while result in taken:
            count[clean] = count.get(clean, 0) + 1
            result = f"{clean}_{count[clean]}"
        taken.add(result)
        out.append(result)
    return out


def plain_copies(scene: Scene) -> Bool:
    """(N,) parts that are nothing but a mesh in a place that translation, rotation and scale say, and are shown: they could
    be one of a list of transforms."""
    nodes = scene.nodes
    out = (nodes.mesh >= 0) & (nodes.children_count == 0) & (nodes.skin < 0) & (nodes.light < 0) & (nodes.camera < 0)
    out[list(nodes.extras)] = False
    out[list(nodes.rest)] = False
    out &= (nodes.flags & HIDDEN) == 0
    simple: Bool = out & ~split_trs(nodes.local)[3]
    return simple


PAGE_KEY = "lightmapPlace"
"""Among the data of a node: where its lightmap lies on a shared page, where the format has nothing better for it."""
ONE_VALUE = "value"
"""What data that are one value are called where a format only has data with names."""
NO_LETTER = "\ufffd"
"""What stands there for a zero character, which no text of a format can hold."""
TARGET_NAMES = "targetNames"
"""Among the data of a mesh: names of its morph targets, by common usage among writers of glTF."""


def page_places(nodes: Nodes, rows: AnyArray) -> F64 | None:
    """(K, 5) by which the lightmap coordinates of nodes are brought to their page: scale across and down, offset from its
    left and top, and its number; None when not all of them are on one."""
    return on_pages(nodes, rows) if len(rows) and (nodes.page[rows, 3] > 0).all() else None


def on_pages(nodes: Nodes, rows: AnyArray) -> F64:
    """(K, 5) the same for nodes that all are on one."""
    page = nodes.page[rows]
    side = page[:, 3:5].astype(np.float64)
    return np.concatenate([nodes.lightmap[rows] / side, page[:, 1:3] / side, page[:, :1]], axis=1)


def scatter_batches(scene: Scene) -> tuple[AnyArray, dict[int, tuple[int, F64, F64 | None]]]:
    """Scatter nodes whose children are plain instances of one mesh, with the matrices of those (K, 4, 4) and, where they have
    places on shared pages of lightmaps, scale, offset and page of each (K, 5); and the children they replace. O(N log N)."""
    nodes = scene.nodes
    plain = plain_copies(scene)
    swallowed = np.zeros(len(nodes), np.bool_)
    batches: dict[int, tuple[int, F64, F64 | None]] = {}
    owners = (nodes.flags & SCATTER) > 0
    below = np.flatnonzero((nodes.parent >= 0) & owners[nodes.parent])
    below = below[np.argsort(nodes.parent[below], kind="stable")]
    held, begin = np.unique(nodes.parent[below], return_index=True)
    for i, children in zip(held.tolist(), np.split(below, begin[1:]) if len(held) else [], strict=True):
        mesh = nodes.mesh[children]
        if plain[children].all() and (mesh == mesh[0]).all() and nodes.mesh[i] < 0:
            swallowed[children] = True
            batches[i] = (int(mesh[0]), nodes.local[children], page_places(nodes, children))
    return swallowed, batches
