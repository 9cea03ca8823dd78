"""Parts that travel as one list of transforms: many copies of a mesh below one node, where the receiving side takes such.

The scene stays as it was; only what is written has a node for each list, with the copies below it (see `SCATTER`).
"""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np

from tidy_caravan.core.conventions.destinations import Destination
from tidy_caravan.core.copies.search import movable
from tidy_caravan.core.formats.shared.written import plain_copies
from tidy_caravan.core.scene import HIDDEN, SCATTER, Scene
from tidy_caravan.core.scene.arrays import I64, Bool
from tidy_caravan.core.scene.nodes import with_parts


def gathered(scene: Scene, destination: Destination, treated: I64, single: Bool) -> Scene:
    """The scene with a node for each list: as many copies of a mesh as the destination asks for below one node, of one
    layer and treatment, that are switched on. Nothing moves. treated: (N,) how each part is dealt with, by number. single:
    (N,) parts that have to stay by themselves, as what may move. O(N log N)."""
    least = destination.instancing_from
    if not destination.gpu_instancing or not least:
        return scene
    nodes = scene.nodes
    listed = (nodes.parent >= 0) & ((nodes.flags & SCATTER) > 0)[nodes.parent]
    shown = (nodes.flags & HIDDEN) == 0
    rows = np.flatnonzero(plain_copies(scene) & movable(scene) & shown & ~listed & ~single)
    if len(rows) < least:
        return scene
    keys = np.column_stack([c[rows] for c in (nodes.parent, nodes.mesh, nodes.layer, root_of(scene), treated)])
    kinds, kind, times = np.unique(keys, axis=0, return_inverse=True, return_counts=True)
    kind = kind.reshape(-1)
    many = np.flatnonzero(times >= least)
    if not len(many):
        return scene
    number = np.full(len(kinds), -1, np.int64)
    number[many] = len(nodes) + np.arange(len(many))
    parent = nodes.parent.copy()
    taken = number[kind] >= 0
    parent[rows[taken]] = number[kind[taken]]
    above, mesh, layer, _, _ = kinds[many].T
    order = np.argsort(kind, kind="stable")
    first = rows[order[np.searchsorted(kind[order], many)]]
    names = [
        named(scene.meshes[m].name or nodes.names[i], destination)
        for m, i in zip(mesh.tolist(), first.tolist(), strict=True)
    ]
    grown = with_parts(
        replace(nodes, parent=parent), above, np.tile(np.eye(4), (len(many), 1, 1)), names, layer=layer, flags=SCATTER
    )
    hung = set(rows[taken].tolist())
    tops = [int(n) for n, p in zip(number[many], above, strict=True) if p < 0]
    # what hung at the top of a root hangs below its list now
    roots = []
    for root in scene.roots:
        own = {int(parent[i]) for i in root.nodes if i in hung}
        roots.append(replace(root, nodes=(*(i for i in root.nodes if i not in hung), *(n for n in tops if n in own))))
    return scene.but(nodes=grown, roots=tuple(roots))


def root_of(scene: Scene) -> I64:
    """(N,) which of the source's scenes a node at the top belongs to; nodes below one hang where it does."""
    out = np.full(len(scene.nodes), -1, np.int64)
    for k, root in enumerate(scene.roots):
        out[list(root.nodes)] = k
    return out


def named(name: str, destination: Destination) -> str:
    """What a list of copies is called, in the destination's characters."""
    allowed = re.compile(destination.name_pattern)
    clean = "".join(c if allowed.fullmatch(c) else "_" for c in f"{name}_copies")
    return clean[-destination.name_length :]
