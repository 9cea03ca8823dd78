"""Whom gaps within a mesh concern: all parts that draw it have them, and one of them was asked."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import I64, Bool
from tidy_caravan.core.space.transforms import affine_inverse
from tidy_caravan.core.surroundings.gaps import Gaps


def users_of(scene: Scene, found: Gaps) -> I64:
    """The nodes of all parts that draw a mesh within which something is apart."""
    inner = np.zeros(len(scene.meshes) + 1, np.bool_)
    inner[scene.nodes.mesh[found.part[found.part == found.other]]] = True
    inner[-1] = False
    out: I64 = np.flatnonzero(inner[scene.nodes.mesh])
    return out


def within_chosen(scene: Scene, found: Gaps, chosen: Bool) -> Gaps:
    """The same with what is apart within a mesh told once, by the part with most of it, and of a chosen part where that
    is none."""
    nodes = scene.nodes
    inner = found.part == found.other
    parts, times = np.unique(found.part[inner], return_counts=True)
    order = np.lexsort([parts, -times])
    _, first = np.unique(nodes.mesh[parts[order]], return_index=True)
    found = found.some(np.flatnonzero(~inner | np.isin(found.part, parts[order[first]])))
    instead = np.full(len(scene.meshes), -1, np.int64)
    picked = np.flatnonzero(chosen & (nodes.mesh >= 0))[::-1]
    instead[nodes.mesh[picked]] = picked
    rows = np.flatnonzero((found.part == found.other) & ~chosen[found.part])
    rows = rows[instead[nodes.mesh[found.part[rows]]] >= 0]
    old = found.part[rows]
    new = instead[nodes.mesh[old]]
    back, there = affine_inverse(nodes.world[old]), nodes.world[new]
    target, part, other = found.target.copy(), found.part.copy(), found.other.copy()
    local = np.einsum("kij,kj->ki", back[:, :3, :3], target[rows]) + back[:, :3, 3]
    target[rows] = np.einsum("kij,kj->ki", there[:, :3, :3], local) + there[:, :3, 3]
    part[rows] = other[rows] = new
    return replace(found, part=part, other=other, target=target)
