"""Steps: names that every receiver accepts, and a tree without empty ends."""

from __future__ import annotations

import re
import unicodedata
from collections import Counter
from collections.abc import Sequence
from dataclasses import replace
from typing import Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import Bool
from tidy_caravan.core.space.convert import keep_nodes
from tidy_caravan.core.steps.base import Change, Phase, Step, StepContext, identities_of, parameter, step
from tidy_caravan.core.surroundings.world import not_empty
from tidy_caravan.core.words import plural

LETTERS = str.maketrans(
    {"ä": "ae", "ö": "oe", "ü": "ue", "Ä": "Ae", "Ö": "Oe", "Ü": "Ue", "ß": "ss", "æ": "ae", "ø": "o", "å": "a"}
)


def tidy(name: str, pattern: str, length: int) -> str:
    """A name of allowed characters only: letters lose their marks, everything else becomes `_`."""
    out = name
    if not (name.isascii() and re.fullmatch(f"(?:{pattern})*", name)):
        plain = unicodedata.normalize("NFKD", name.translate(LETTERS))
        plain = "".join(c for c in plain if not unicodedata.combining(c))
        allowed = re.compile(pattern)
        out = "".join(c if allowed.fullmatch(c) else "_" for c in plain)
    out = re.sub(r"_{2,}", "_", out).strip("_") if "_" in out else out
    return cut_off(out, length)


def cut_off(name: str, length: int) -> str:
    """A name of so many letters at most, which does not end in `_` for that: a second time it would lose it."""
    return name if len(name) <= length else name[:length].rstrip("_")


@step
class TidyNames(Step):
    """Unique names in the destination's characters and length, whatever the case; old names stay in the manifest.

    A name that is right already stays, and those that would be the same give way to it. A part without a name gets that
    of its mesh.
    """

    title = "Tidy names"
    summary = "Unique names of allowed characters, cut to the destination's length."

    phase = Phase.TREE

    kind: Literal["tidy_names"] = "tidy_names"
    repeated: Literal["number", "group"] = parameter(
        "number",
        "Repeated names",
        "number: the first keeps its name, the others get a number behind it; group: each gets the name of the group it hangs in "
        "before its own",
    )
    part_prefix: str = parameter("", "Prefix of parts", "Put before the names of parts that lack it", max_length=40)
    light_prefix: str = parameter("", "Prefix of lights", "The same of lights", max_length=40)
    camera_prefix: str = parameter("", "Prefix of cameras", "The same of cameras", max_length=40)
    group_prefix: str = parameter("", "Prefix of groups", "The same of what holds others alone", max_length=40)

    def effects(self) -> tuple[Effect, ...]:
        return (Effect(Aspect.NAMES),)

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        chosen = context.selected(self.where, scene)
        pattern, length = context.destination.name_pattern, context.destination.name_length
        names = unique_names(scene, chosen, pattern, length, self.repeated == "group", self.prefixes(scene, pattern))
        changed = np.fromiter((a != b for a, b in zip(names, scene.nodes.names, strict=True)), np.bool_, len(names))
        if not changed.any():
            return scene, []
        out = scene.but(nodes=replace(scene.nodes, names=tuple(names)))
        count = int(changed.sum())
        return out, [
            Change(
                text=f"{plural(count, 'name')} tidied", count=count, parts=identities_of(scene, np.flatnonzero(changed))
            )
        ]

    def prefixes(self, scene: Scene, pattern: str) -> list[str]:
        """(N) what each node's name begins with, of allowed letters."""
        nodes = scene.nodes
        drawn, light, camera = nodes.mesh >= 0, nodes.light >= 0, nodes.camera >= 0
        kind = np.select([drawn, light, camera, nodes.children_count > 0], [1, 2, 3, 4], 0)
        allowed = re.compile(pattern)
        each = ["", self.part_prefix, self.light_prefix, self.camera_prefix, self.group_prefix]
        clean = [re.sub("_{2,}", "_", "".join(c if allowed.fullmatch(c) else "_" for c in prefix)) for prefix in each]
        return [clean[k] for k in kind.tolist()]


def unique_names(
    scene: Scene, chosen: Bool, pattern: str, limit: int, by_group: bool, prefixes: Sequence[str]
) -> list[str]:
    """Names of all nodes, those of the chosen (N,) of allowed letters and no two alike but for their case. prefixes: (N) what
    they begin with. O(N)."""
    names = list(scene.nodes.names)
    rows = np.flatnonzero(chosen).tolist()
    cleaned: dict[str, str] = {}

    def clean(name: str) -> str:
        if name not in cleaned:
            cleaned[name] = tidy(name, pattern, limit)
        return cleaned[name]

    for i in rows:
        mesh = int(scene.nodes.mesh[i])
        own = clean(names[i]) or (clean(scene.meshes[mesh].name) if mesh >= 0 else "") or "part"
        names[i] = own if own.startswith(prefixes[i]) else cut_off(prefixes[i] + own, limit)
    times = Counter(map(str.lower, names))
    taken = {names[i].lower() for i in np.flatnonzero(~chosen).tolist()}
    grouped: set[int] = set()
    if by_group:
        parent = scene.nodes.parent.tolist()
        together = Counter((parent[i], name.lower()) for i, name in enumerate(names))
        for i in rows:  # of those in one group the group's name tells none apart
            own, group = names[i].lower(), names[parent[i]].lower() if parent[i] >= 0 else ""
            if group not in ("", own) and times[own] > 1 and together[parent[i], own] == 1:
                grouped.add(i)
    settled: set[int] = set()
    for i in rows:
        if names[i] == scene.nodes.names[i] and i not in grouped and names[i].lower() not in taken:
            taken.add(names[i].lower())
            settled.add(i)
    counts: dict[str, int] = {}
    # what hangs in a group comes after it, whose name is in its own
    for i in sorted((i for i in rows if i not in settled), key=scene.nodes.depth.tolist().__getitem__):
        base = names[i]
        if i in grouped and len(base) + 2 <= limit:
            stem, group = base[len(prefixes[i]) :], clean(names[parent[i]]).removeprefix(prefixes[parent[i]])
            group = group[: limit - len(base) - 1].rstrip("_")  # two in a row would be one a second time
            base = f"{prefixes[i]}{group}_{stem.lstrip('_')}" if group else base
        result = base
        while result.lower() in taken:
            counts[base.lower()] = counts.get(base.lower(), 1) + 1
            ending = f"_{counts[base.lower()]}"
            result = cut_off(base, limit - len(ending)) + ending
        taken.add(result.lower())
        names[i] = result
    return names


@step
class DropEmpties(Step):
    """Removes nodes that draw nothing and lead to nothing; groups with content stay."""

    title = "Drop empties"
    summary = "Removes nodes without mesh, light or camera that have nothing below them."

    phase = Phase.TREE

    kind: Literal["drop_empties"] = "drop_empties"

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        keep = scene.nodes.over(not_empty(scene) | ~context.selected(self.where, scene))
        if keep.all():
            return scene, []
        dropped = np.flatnonzero(~keep)
        return keep_nodes(scene, keep), [
            Change(
                text=f"{plural(len(dropped), 'empty node')} dropped",
                count=len(dropped),
                parts=identities_of(scene, dropped),
            )
        ]
