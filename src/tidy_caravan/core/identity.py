"""Which part is which from one version of a source to the next: by its identity, with mesh and place as witnesses.

An identity (see scene/identity.py) holds from one version to the next as long as what it names is there. The hash of
the mesh and the place decide among equals when one of them went, find a part again that was renamed, and speak up when
a format's own ids were dealt out anew.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

import numpy as np

from tidy_caravan.core.scene import FILES, Note, Scene
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.scene.identity import called, labels_and_names, spans_of
from tidy_caravan.core.selection import PartSet

PLACE_LIMIT = 1e-3
"""Metres: a part that stands within this of where it stood has not moved."""


def with_files(scene: Scene, spans: Sequence[tuple[str, int, int]]) -> Scene:
    """The scene that knows which nodes came from which file: label, first node, number of nodes."""
    return scene.but(extras={**scene.extras, FILES: [list(s) for s in spans]})


def under_one_label(old: Scene, new: Scene) -> Scene:
    """A single file that takes the place of a single file keeps its label, whatever it is called now."""
    before, after = spans_of(old.extras), spans_of(new.extras)
    if len(before) != 1 or len(after) != 1 or before[0][1] or after[0][1]:
        return new
    return with_files(new, [(before[0][0], *after[0][1:])])


@dataclass
class Followed:
    """now: for identities in the old scene, those in the new one. gone: those of what is not there any more.
    kept: of these, those that may come back, since nothing else is called so."""

    now: dict[str, str] = field(default_factory=dict)
    gone: list[str] = field(default_factory=list)
    kept: set[str] = field(default_factory=set)


def follow(old: Scene, new: Scene, wanted: Iterable[str]) -> Followed:
    """Finds parts of the old source again in the new one. O(nodes)."""
    out = Followed()
    asked = list(dict.fromkeys(wanted))
    if not asked:
        return out
    rows = [old.identities.row.get(name, -1) for name in asked]
    before = list(zip(*labels_and_names(old.nodes, old.extras), strict=True))
    after = list(zip(*labels_and_names(new.nodes, new.extras), strict=True))
    here, there = grouped(before), grouped(after)
    places_old, places_new = places(old), places(new)
    meshes_new = [m.id for m in new.meshes]
    taken: set[int] = set()
    found: dict[str, int] = {}

    def mesh_of(scene: Scene, i: int) -> str:
        m = int(scene.nodes.mesh[i])
        return scene.meshes[m].id if m >= 0 else ""

    def stands(i: int, j: int) -> bool:
        return bool(np.linalg.norm(places_new[j] - places_old[i]) <= PLACE_LIMIT)

    def only_user(scene: Scene, i: int) -> bool:
        m = int(scene.nodes.mesh[i])
        return m >= 0 and int(scene.instance_counts[m]) == 1

    for name, i in zip(asked, rows, strict=True):
        if i < 0:
            # was not there before either: it may have come back
            if name in new.identities.row:
                found[name] = new.identities.row[name]
            continue
        equals, others = here[before[i]], there.get(before[i], [])
        if len(equals) == len(others):
            j = others[equals.index(i)]
            own_id = old.nodes.ids.get(i) if old.format == "dae" else None
            # ids that a program deals out by number are another part's as soon as one is added
            dealt_anew = own_id is not None and old.nodes.names[i] != new.nodes.names[j]
            if not dealt_anew or stands(i, j) or (mesh_of(old, i) == mesh_of(new, j) and only_user(old, i)):
                found[name] = j
        elif others:
            same = [j for j in others if mesh_of(new, j) == mesh_of(old, i)] or others
            far = np.linalg.norm(places_new[same] - places_old[i], axis=1)
            best = int(np.argmin(far))
            if far[best] <= PLACE_LIMIT:
                found[name] = same[best]
        if name in found:
            taken.add(found[name])
    # renamed or hung elsewhere: the same mesh in the same place, if only one is there
    wanted_names = set(before)
    strict = old.format != "dae"
    fresh = [j for j, key in enumerate(after) if (key not in wanted_names or not strict) and j not in taken]
    for name, i in zip(asked, rows, strict=True):
        if name in found:
            out.now[name] = new.identities.names[found[name]]
            continue
        mesh = mesh_of(old, i) if i >= 0 else ""
        alike = [
            j
            for j in fresh
            if mesh and new.nodes.mesh[j] >= 0 and meshes_new[new.nodes.mesh[j]] == mesh and stands(i, j)
        ]
        if len(alike) == 1:
            out.now[name] = new.identities.names[alike[0]]
            continue
        out.gone.append(name)
        if i < 0 or before[i] not in there:
            out.kept.add(name)
    return out


def grouped(names: list[tuple[str, str]]) -> dict[tuple[str, str], list[int]]:
    out: dict[tuple[str, str], list[int]] = defaultdict(list)
    for i, name in enumerate(names):
        out[name].append(i)
    return out


def places(scene: Scene) -> F64:
    """(N, 3) world origins in metres."""
    return np.asarray(scene.nodes.world[:, :3, 3] * scene.convention.metres_per_unit)


def picked_by_hand(one: PartSet) -> set[str]:
    """All identities that a set names one by one."""
    return {*one.added, *one.removed, *(name for rule in one.rules for name in rule.parts)}


def moved(names: Sequence[str], followed: Followed) -> list[str]:
    """What hand-picked parts are called now, and what may come back as it was called."""
    now = [followed.now.get(name, name if name in followed.kept else "") for name in names]
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
