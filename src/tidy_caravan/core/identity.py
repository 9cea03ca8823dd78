"""Which part is which from one version of a source to the next: by its identity, with mesh and place as witnesses.

An identity (see scene/identity.py) holds from one version to the next as long as what it names is there. The hash of
the mesh and the place decide among equals when one of them went, find a part again that was renamed, and speak up when
names or a format's own ids were dealt out anew.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import PurePosixPath

import numpy as np

from tidy_caravan.core.scene import FILES, Note, Scene
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.scene.identity import called, labels_and_names, lead_of, spans_of
from tidy_caravan.core.selection import PartSet
from tidy_caravan.core.space.site import on_site

SENT = "sent"
"""Key of the scene's extras: the paths of files that are labelled otherwise, by their labels."""
PLACE_LIMIT = 1e-3
"""Metres: a part that stands within this of where it stood has not moved."""
SHIFTS = (0.0, 0.25, 0.5, 0.75)
"""Parts of a cell by which cells are moved, so that nothing lies at a border every time."""
MOST_MOVED = 400
"""Equal parts that were moved up to which the least of all their ways is looked for."""


def with_files(scene: Scene, spans: Sequence[tuple[str, int, int]]) -> Scene:
    """The scene that knows which nodes came from which file: label, first node, number of nodes."""
    return scene.but(extras={**scene.extras, FILES: [list(s) for s in spans]})


def under_one_label(old: Scene, new: Scene) -> Scene:
    """A single file that takes the place of a single file keeps its label, whatever it is called now."""
    before, after = spans_of(old.extras), spans_of(new.extras)
    if len(before) != 1 or len(after) != 1 or before[0][1] or after[0][1]:
        return new
    out = with_files(new, [(before[0][0], *after[0][1:])])
    return out.but(extras={**out.extras, SENT: {before[0][0]: after[0][0]}}) if before[0][0] != after[0][0] else out


def path_of_lead(scene: Scene) -> str:
    """The path of the file whose unit and axes a scene has, as it was sent."""
    label = lead_of(scene.extras)
    return str((scene.extras.get(SENT) or {}).get(label, label))


def labels_now(old: Scene, new: Scene) -> dict[str, str]:
    """What the files of an old source are labelled in a new one, of those that are: by the path that they were sent as, and
    where labels were once without their folder by the name that one alone bears."""
    sent, here = old.extras.get(SENT) or {}, [label for label, _, _ in spans_of(old.extras)]
    resent = new.extras.get(SENT) or {}
    by_path = {resent.get(label, label): label for label, _, _ in spans_of(new.extras)}
    out = {label: by_path[sent.get(label, label)] for label in here if sent.get(label, label) in by_path}
    left = [label for label in by_path.values() if label not in out.values()]
    for label in here:
        alike = [one for one in left if PurePosixPath(one).name == PurePosixPath(label).name]
        if label not in out and len(alike) == 1:
            out[label] = alike[0]
    return out


@dataclass
class Followed:
    """now: for identities in the old scene, those in the new one. gone: those of what is not there any more.
    kept: of these, those that may come back, since nothing else is called so, and what they will be called then."""

    now: dict[str, str] = field(default_factory=dict)
    gone: list[str] = field(default_factory=list)
    kept: dict[str, str] = field(default_factory=dict)


def follow(old: Scene, new: Scene, wanted: Iterable[str]) -> Followed:
    """Finds parts of the old source again in the new one. O(nodes log nodes)."""
    out = Followed()
    asked = list(dict.fromkeys(wanted))
    if not asked:
        return out
    rows = [old.identities.row.get(name, -1) for name in asked]
    labels = labels_now(old, new)
    before = [(labels.get(file, file), own) for file, own in zip(*labels_and_names(old.nodes, old.extras), strict=True)]
    after = list(zip(*labels_and_names(new.nodes, new.extras), strict=True))
    here, there = grouped(before), grouped(after)
    sides = Side.of(old), Side.of(new)
    now: dict[int, int] = {}
    for key in dict.fromkeys(before[i] for i in rows if i >= 0):
        now |= among_equals(here[key], there.get(key, []), *sides)
    # ids that a program deals out by number say less than the names of people
    numbered = old.nodes.ids if old.format == "dae" else {}
    called_so, by_itself = as_they_were(old, new, before, after, *sides)
    whose = {j: i for same in (called_so, by_itself) for i, j in same.items()}
    for i in (i for i in dict.fromkeys(rows) if i >= 0):
        j = now.get(i, -1)
        if i in called_so:
            now[i] = called_so[i]
        elif j >= 0 and still(i, j, *sides):
            continue
        elif i in by_itself:
            now[i] = by_itself[i]
        elif j >= 0 and (whose.get(j, i) != i or (i in numbered and renamed(i, j, old, new))):
            del now[i]  # it is another part, which has got this name
    for name, i in zip(asked, rows, strict=True):
        if i in now:
            out.now[name] = new.identities.names[now[i]]
            continue
        file, bar, rest = name.partition("|")
        later = f"{labels.get(file, file)}{bar}{rest}"
        if i < 0 and later in new.identities.row:  # was not there before either: it may have come back
            out.now[name] = later
        else:
            out.gone.append(name)
            if i < 0 or before[i] not in there:
                out.kept[name] = later
    return out


@dataclass
class Side:
    """places: (N, 3) world origins in metres. meshes: of each node the hash of its mesh, nothing where it draws none. users:
    how many nodes draw a mesh."""

    scene: Scene
    places: F64
    meshes: list[str]
    users: Counter[str]

    @classmethod
    def of(cls, scene: Scene) -> Side:
        ids = [*(m.id for m in scene.meshes), ""]
        meshes = [ids[m] for m in scene.nodes.mesh.tolist()]
        return cls(scene, places(scene), meshes, Counter(meshes))

    @cached_property
    def middles(self) -> F64:
        """(N, 3) middles of the boxes of what is drawn, in metres: where a part is whose origin says nothing."""
        out = self.places.copy()
        out[self.scene.nodes.parts] = on_site(self.scene, self.scene.part_bounds.mean(axis=1))
        return out


def renamed(i: int, j: int, old: Scene, new: Scene) -> bool:
    """Whether two nodes are called differently, whatever their ids."""
    return old.nodes.names[i] != new.nodes.names[j]


def as_they_were(
    old: Scene, new: Scene, before: Sequence[tuple[str, str]], after: Sequence[tuple[str, str]], one: Side, other: Side
) -> tuple[dict[int, int], dict[int, int]]:
    """Parts of one file, name, mesh and place in both, of equal ones in one place in order; and, of what is left, those that
    alone have their mesh and place in both, whatever they are called. before, after: file and own name of each node.
    O(nodes)."""
    out: list[dict[int, int]] = []
    olds, news = old.nodes.parts.tolist(), new.nodes.parts.tolist()
    for by_name in (True, False):
        kinds = []
        for scene, side, keys in ((old, one, before), (new, other, after)):
            names = scene.nodes.names if old.format == "dae" else [name for _, name in keys]
            told = zip(keys, names if by_name else [""] * len(names), side.meshes, strict=True)
            kinds.append(replace(side, meshes=["|".join((label, name, mesh)) for (label, _), name, mesh in told]))
        found: dict[int, int] = {}
        for a, b in by_kind(olds, news, *kinds):
            found |= in_place(a, b, one.places, other.places, alone=not by_name)
        out.append(found)
        gone = set(found.values())
        olds, news = [i for i in olds if i not in found], [j for j in news if j not in gone]
    return out[0], out[1]


def still(i: int, j: int, old: Side, new: Side) -> bool:
    """Whether two nodes are the same by place, or by a mesh that nothing else draws."""
    stands = float(np.linalg.norm(new.places[j] - old.places[i])) <= PLACE_LIMIT
    own = old.meshes[i]
    return stands or (bool(own) and own == new.meshes[j] and old.users[own] == 1)


def among_equals(olds: Sequence[int], news: Sequence[int], old: Side, new: Side) -> dict[int, int]:
    """Which of several nodes of one name is which. Those of the same mesh in the same place first, then what else is alone
    in its place, by its origin or its middle, then what has the same mesh and moved as little as may be, where as many of it
    are left on both sides. A name that only one node has, or of whose nodes none is as it was, says enough by itself, in
    order."""
    if len(olds) == 1 and len(news) == 1:
        return {olds[0]: news[0]}
    out: dict[int, int] = {}

    def left() -> tuple[list[int], list[int]]:
        gone = set(out.values())
        return [i for i in olds if i not in out], [j for j in news if j not in gone]

    for a, b in by_kind(olds, news, old, new):
        out |= in_place(a, b, old.places, new.places, alone=False)
    out |= in_place(*left(), old.places, new.places, alone=True)
    if all(left()):
        out |= in_place(*left(), old.middles, new.middles, alone=True)
    for a, b in by_kind(*left(), old, new):
        if len(a) == len(b):
            out |= least_moved(a, b, old.places, new.places)
    if not out and len(olds) == len(news):
        out = dict(zip(olds, news, strict=True))
    return out


def by_kind(olds: Sequence[int], news: Sequence[int], old: Side, new: Side) -> list[tuple[list[int], list[int]]]:
    """Nodes of both sides by mesh, where there are any on both."""
    kinds: dict[str, tuple[list[int], list[int]]] = {}
    for k, (nodes, side) in enumerate(((olds, old), (news, new))):
        for i in nodes:
            kinds.setdefault(side.meshes[i], ([], []))[k].append(i)
    return [(a, b) for a, b in kinds.values() if a and b]


def in_place(olds: Sequence[int], news: Sequence[int], places_old: F64, places_new: F64, alone: bool) -> dict[int, int]:
    """Pairs of nodes that stand in one place, by cells of PLACE_LIMIT whose borders lie elsewhere each time; of several in
    one place one after the other, or, where a place says nothing by itself, none. O(nodes)."""
    out: dict[int, int] = {}
    for shift in SHIFTS:
        gone = set(out.values())
        one, other = [i for i in olds if i not in out], [j for j in news if j not in gone]
        if not one or not other:
            break
        cells: dict[tuple[int, ...], tuple[list[int], list[int]]] = {}
        for k, (nodes, where) in enumerate(((one, places_old), (other, places_new))):
            for i, cell in zip(nodes, np.floor(where[nodes] / PLACE_LIMIT + shift).tolist(), strict=True):
                cells.setdefault(tuple(cell), ([], []))[k].append(i)
        for a, b in cells.values():
            if not alone or len(a) == len(b) == 1:
                out |= zip(a, b, strict=False)
    return out


def least_moved(olds: Sequence[int], news: Sequence[int], places_old: F64, places_new: F64) -> dict[int, int]:
    """As many nodes on both sides, such that the squares of their ways are the least: what moved together stays together.
    Of more than MOST_MOVED in order."""
    from scipy.optimize import linear_sum_assignment

    if len(olds) > MOST_MOVED:
        return dict(zip(olds, news, strict=True))
    ways = places_old[list(olds)][:, None] - places_new[list(news)][None]
    first, second = linear_sum_assignment((ways**2).sum(axis=2))
    return {olds[i]: news[j] for i, j in zip(first.tolist(), second.tolist(), strict=True)}


def grouped(names: list[tuple[str, str]]) -> dict[tuple[str, str], list[int]]:
    out: dict[tuple[str, str], list[int]] = defaultdict(list)
    for i, name in enumerate(names):
        out[name].append(i)
    return out


def places(scene: Scene) -> F64:
    """(N, 3) world origins in metres, on the site: what was taken off may be another from version to version."""
    return on_site(scene, scene.nodes.world[:, :3, 3])


def picked_by_hand(one: PartSet) -> set[str]:
    """All identities that a set names one by one."""
    return {*one.added, *one.removed, *(name for rule in one.rules for name in rule.parts)}


def moved(names: Sequence[str], followed: Followed) -> list[str]:
    """What hand-picked parts are called now, and what may come back as it was called."""
    now = [followed.now.get(name, followed.kept.get(name, "")) for name in names]
    return list(dict.fromkeys(n for n in now if n))


def set_after(one: PartSet, followed: Followed) -> PartSet:
    """The set with its hand-picked parts as they are called now."""
    rules = [r.model_copy(update={"parts": moved(r.parts, followed)}) if r.parts else r for r in one.rules]
    kept = [r for r, was in zip(rules, one.rules, strict=True) if not (was.parts and r.empty)]
    return one.model_copy(
        update={"added": moved(one.added, followed), "removed": moved(one.removed, followed), "rules": kept}
    )


def notes_of_gone(followed: Followed, picked: dict[str, list[str]]) -> list[Note]:
    """One note for each part that was picked by hand and is gone. picked: by identity, where it was picked."""
    return [
        Note("damaged", "import.picked-gone", name.split("|", 1)[1].rpartition("|")[0][:160] if "|" in name else name[:160],
             f"“{called(name)}” was picked by hand ({', '.join(dict.fromkeys(picked.get(name, [])))}) and is not in the files any more.")
        for name in followed.gone
    ]  # fmt: skip
