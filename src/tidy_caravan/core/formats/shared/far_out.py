"""Nested transforms that leave the range of numbers, put right after any reader: each alone looked harmless."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from tidy_caravan.core.formats.shared.many import tell, tell_rest
from tidy_caravan.core.scene import Note, Scene
from tidy_caravan.core.scene.arrays import LARGEST, Bool

ROUNDS = 8
"""Levels that are put right one by one; what is still beyond then loses all its transforms at once."""


def within_reach(scene: Scene) -> Scene:
    """The scene with every world matrix finite and below LARGEST.

    The topmost nodes that leave the range stand at their parent's origin afterwards, with a note each.
    O(ROUNDS · N) when there are any, one look at the matrices otherwise.
    """
    notes: list[Note] = []
    told: dict[str, int] = {}
    for attempt in range(ROUNDS + 1):
        nodes = scene.nodes
        with np.errstate(all="ignore"):
            bad: Bool = np.logical_not((np.abs(nodes.world) <= LARGEST).all(axis=(1, 2)))
        if not bad.any():
            break
        above = nodes.parent
        top = bad & ~((above >= 0) & bad[np.maximum(above, 0)]) if attempt < ROUNDS else bad
        local = nodes.local.copy()
        local[top] = np.eye(4)
        for i in np.flatnonzero(top).tolist():
            where = nodes.paths[i][-120:]
            text = (
                "The transforms above multiply to more than numbers hold; the node stands at its parent's origin now."
            )
            tell(notes, told, Note("damaged", "import.transform", where, text))
        scene = scene.but(nodes=replace(nodes, local=local))
    tell_rest(notes, told, "nodes")
    return scene.but(notes=(*scene.notes, *notes)) if notes else scene
