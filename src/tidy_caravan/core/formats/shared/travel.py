"""The travel list: per kind of thing in a source, whether it travels, is converted, or stays behind and why."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable

import numpy as np

from tidy_caravan.core.formats.shared.images import OTHER_FORMAT, UNREADABLE
from tidy_caravan.core.scene import HIDDEN, SCATTER, Note, Scene, Travel


class Travels:
    """Collects what a reader converted or left; lines of one kind and fate are summed up."""

    def __init__(self) -> None:
        self._lines: dict[tuple[str, ...], int] = {}

    def converted(self, kind: str, count: int, into: str, tolerance: str = "") -> None:
        self._add((kind, "converted", into, tolerance, ""), count)

    def behind(self, kind: str, count: int, why: str) -> None:
        self._add((kind, "behind", "", "", why), count)

    def _add(self, key: tuple[str, ...], count: int) -> None:
        if count:
            self._lines[key] = self._lines.get(key, 0) + count

    def from_notes(self, notes: Iterable[Note]) -> None:
        """Lines for what a reader only told as notes of these codes, one thing a note."""
        for note in notes:
            if note.code == "import.scatter" and note.kind == "converted":
                self.converted("scatters", 1, "instances that share their mesh")
            elif note.code == "import.extension":
                self.behind(f"extension {note.where}", 1, "optional, and not known here")
            elif note.code == "import.not-a-surface":
                self.behind("points and lines", 1, "only surfaces travel")

    def onto(self, scene: Scene) -> Scene:
        """The scene with the whole list: what travels as it is, then what is converted, then what stays."""
        own = [
            Travel(kind, fate, count, into, tolerance, why)  # type: ignore[arg-type]
            for (kind, fate, into, tolerance, why), count in self._lines.items()
        ]
        rank = {"converted": 0, "behind": 1}
        return scene.but(travel=(*as_it_is(scene), *sorted(own, key=lambda t: (rank[t.verdict], t.kind))))


def as_it_is(scene: Scene) -> list[Travel]:
    """Lines for what a scene holds in its own model; O(nodes + meshes)."""
    nodes = scene.nodes
    drawn = np.flatnonzero(scene.instance_counts)
    meshes = [scene.meshes[i] for i in drawn.tolist()]
    helpers = (nodes.mesh < 0) & (nodes.light < 0) & (nodes.camera < 0)
    pictures = [i for i in scene.images if i.data is not None]
    codes = Counter(n.code for n in scene.notes)
    as_png = min(codes[OTHER_FORMAT], len(pictures))
    off = int(((nodes.flags & HIDDEN) > 0)[nodes.parts].sum())
    counts = {
        "mesh parts": len(nodes.parts) - off,
        "shared meshes": len(meshes),
        "groups and helpers": int(helpers.sum()),
        "scatters": int(((nodes.flags & SCATTER) > 0).sum()),
        "layers": len(scene.layers),
        "materials": len(scene.materials),
        "images": len(pictures) - as_png,
        "lights": int((nodes.light >= 0).sum()),
        "cameras": int((nodes.camera >= 0).sum()),
        "skins": len(scene.skins),
        "animation clips": len(scene.clips),
        "morph targets": sum(len(m.morphs) for m in meshes),
        "vertex colours": sum(1 for m in meshes if m.colors),
    }
    out = [Travel(kind, "travels", count) for kind, count in counts.items() if count]
    if off:
        out.append(Travel("switched-off parts", "behind", off, why="they travel when asked for"))
    if as_png:
        out.append(Travel("images", "converted", as_png, into="PNG, by their pixels"))
    missing = len(scene.images) - len(pictures)
    unread = min(codes[UNREADABLE], missing)
    if unread:
        out.append(Travel("images", "behind", unread, why="they cannot be read; findings say why"))
    if missing := missing - unread:
        out.append(Travel("images", "behind", missing, why="not found beside the scene; they can be supplied"))
    return out


def with_supplied(scene: Scene) -> Scene:
    """The scene with the lines about pictures counted anew, after some were supplied."""
    fresh = [t for t in as_it_is(scene) if t.kind == "images"]
    kept = [t for t in scene.travel if t.kind not in ("images", "pictures")]  # as they were called once
    rank = {"travels": 0, "converted": 1, "behind": 2}
    return scene.but(travel=tuple(sorted([*kept, *fresh], key=lambda t: rank[t.verdict])))
