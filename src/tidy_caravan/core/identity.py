"""Which part is which from one version of a source to the next: by what it is called, never by its row.

A part is named by the label of its file, the format's own id where there is one (IFC GlobalId) or its tree path in
that file, and a counter among equals. The hash of its mesh and its place are second witnesses: they decide among
equals when one of them went, and find a part again that was renamed.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np

from tidy_caravan.core.scene import Nodes, Note, Scene
from tidy_caravan.core.selection import PartSet

FILES = "files"
"""Key of the scene's extras: [label, first node, number of nodes] for each file that the scene was read from."""
PLACE_LIMIT = 1e-3
"""Metres: a part that stands within this of where it stood has not moved."""


def with_files(scene: Scene, spans: list[tuple[str, int, int]]) -> Scene:
    """The scene that knows which nodes came from which file."""
    return scene.but(extras={**scene.extras, FILES: [list(s) for s in spans]})


def names_of(scene: Scene) -> list[str]:
    """Per node its file's label and its own id or its path in that file; equal ones are told apart in `follow`."""
    nodes, paths = scene.nodes, scene.nodes.paths
    out = list(paths)
    for label, begin, count in scene.extras.get(FILES) or []:
        top = begin > 0 and nodes.parent[begin - 1] < 0 and nodes.names[begin - 1] == label
        skip = len(label) + 1 if top else 0
        for i in range(begin, begin + count):
            out[i] = f"{label}\0{paths[i][skip:]}"
    for i, extra in nodes.extras.items():
        own = extra.get("ifc", {}).get("id") if isinstance(extra, dict) and isinstance(extra.get("ifc"), dict) else None
        if own:
            out[i] = f"\0{own}"
    return out


@dataclass
class Followed:
    """now: for ids of the old scene, those of the new one. gone: paths in the old scene of what is not there any more."""

    now: dict[int, int] = field(default_factory=dict)
    gone: dict[int, str] = field(default_factory=dict)


def follow(old: Scene, new: Scene, wanted: Iterable[int]) -> Followed:
    """Finds the nodes `wanted` (ids in the old source) again. O(nodes)."""
    out = Followed()
    ids = sorted({i for i in wanted if 0 <= i < len(old.nodes)})
    if not ids:
        return out
    before, after = names_of(old), names_of(new)
    here, there = grouped(before), grouped(after)
    places_old, places_new = places(old), places(new)
    meshes_new = [m.id for m in new.meshes]
    taken: set[int] = set()

    def mesh_of(scene: Scene, i: int) -> str:
        m = int(scene.nodes.mesh[i])
        return scene.meshes[m].id if m >= 0 else ""

    for i in ids:
        equals, others = here[before[i]], there.get(before[i], [])
        if len(equals) == len(others):
            out.now[i] = others[equals.index(i)]
        elif others:
            same = [j for j in others if mesh_of(new, j) == mesh_of(old, i)] or others
            far = np.linalg.norm(places_new[same] - places_old[i], axis=1)
            best = int(np.argmin(far))
            if far[best] <= PLACE_LIMIT:
                out.now[i] = same[best]
        taken.update([out.now[i]] if i in out.now else [])
    # renamed or hung elsewhere: the same mesh in the same place, if only one is there
    wanted_names = set(before)
    fresh = [j for j, name in enumerate(after) if name not in wanted_names and j not in taken]
    for i in ids:
        if i in out.now:
            continue
        mesh = mesh_of(old, i)
        found = [
            j
            for j in fresh
            if mesh and new.nodes.mesh[j] >= 0 and meshes_new[new.nodes.mesh[j]] == mesh
            and np.linalg.norm(places_new[j] - places_old[i]) <= PLACE_LIMIT
        ]  # fmt: skip
        if len(found) == 1:
            out.now[i] = found[0]
        else:
            out.gone[i] = old.nodes.paths[i]
    return out


def grouped(names: list[str]) -> dict[str, list[int]]:
    out: dict[str, list[int]] = defaultdict(list)
    for i, name in enumerate(names):
        out[name].append(i)
    return out


def places(scene: Scene) -> np.ndarray[tuple[int, int], np.dtype[np.float64]]:
    """(N, 3) world origins in metres."""
    nodes: Nodes = scene.nodes
    return np.asarray(nodes.world[:, :3, 3] * scene.convention.metres_per_unit)


def picked_by_hand(one: PartSet) -> set[int]:
    """All ids in the source that a set names one by one."""
    return {*one.added, *one.removed, *(i for rule in one.rules for i in rule.parts)}


def set_after(one: PartSet, followed: Followed) -> PartSet:
    """The set with its hand-picked parts as they are called now."""

    def moved(ids: list[int]) -> list[int]:
        return sorted(followed.now[i] for i in ids if i in followed.now)

    rules = [r.model_copy(update={"parts": moved(r.parts)}) if r.parts else r for r in one.rules]
    kept = [r for r, was in zip(rules, one.rules, strict=True) if not (was.parts and r.empty)]
    return one.model_copy(update={"added": moved(one.added), "removed": moved(one.removed), "rules": kept})


def notes_of_gone(followed: Followed, picked: dict[int, list[str]]) -> list[Note]:
    """One note for each part that was picked by hand and is gone. picked: by id, where it was picked."""
    return [
        Note("damaged", "import.picked-gone", path[:160],
             f"“{path.rpartition('/')[2]}” was picked by hand ({', '.join(dict.fromkeys(picked.get(i, [])))}) and is not in the files any more.")
        for i, path in followed.gone.items()
    ]  # fmt: skip
