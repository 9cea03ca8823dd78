"""Steps: names that every receiver accepts, and a tree without empty ends."""

from __future__ import annotations

import re
import unicodedata
from dataclasses import replace
from typing import Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.space.convert import keep_nodes
from tidy_caravan.core.steps.base import Change, Phase, Step, StepContext, identities_of, step
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
    return out[:length]


@step
class TidyNames(Step):
    """Unique names in the destination's characters and length; old names stay in the manifest."""

    title = "Tidy names"
    summary = "Unique names of allowed characters, cut to the destination's length."

    phase = Phase.TREE

    kind: Literal["tidy_names"] = "tidy_names"

    def effects(self) -> tuple[Effect, ...]:
        return (Effect(Aspect.NAMES),)

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        limit, pattern = context.destination.name_length, context.destination.name_pattern
        chosen = context.selected(self.where, scene).tolist()
        cleaned: dict[str, str] = {}
        taken: set[str] = {n for n, c in zip(scene.nodes.names, chosen, strict=True) if not c}
        counts: dict[str, int] = {}
        names: list[str] = []
        for name, is_chosen in zip(scene.nodes.names, chosen, strict=True):
            if not is_chosen:
                names.append(name)
                continue
            if name not in cleaned:
                cleaned[name] = tidy(name, pattern, limit) or "part"
            base = result = cleaned[name]
            while result in taken:
                counts[base] = counts.get(base, 1) + 1
                ending = f"_{counts[base]}"
                result = base[: limit - len(ending)] + ending
            taken.add(result)
            names.append(result)
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
