"""Groups of parts that are the same below several nodes, such as compounds: written once, referred to in every place."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from tidy_caravan.core.scene import Nodes, Scene
from tidy_caravan.core.scene.arrays import I64, Bool

SMALLEST = 2
"""Parts below a node for it to be a group; a single one is an instance of its mesh."""


def assemblies(scene: Scene, least: int) -> dict[int, int]:
    """By node, the first of the nodes that have the very same things below them in the same order and places, whatever
    they are called: the topmost such, with `least` parts in all their places together. O(N log N)."""
    nodes = scene.nodes
    if not len(nodes):
        return {}
    kind = signatures(scene)
    drawn = below(nodes, nodes.mesh >= 0)
    fit = (nodes.mesh < 0) & (nodes.light < 0) & (nodes.camera < 0) & (drawn >= SMALLEST)
    # one that stands inside another is written with it
    chosen = repeated(kind, drawn, fit, least)
    up = nodes.parent >= 0
    inside = np.zeros(len(nodes), np.bool_)
    inside[up] = nodes.under(chosen)[nodes.parent[up]]
    chosen = repeated(kind, drawn, fit & ~inside, least) & ~inside
    rows = np.flatnonzero(chosen)
    _, first, which = np.unique(kind[rows], return_index=True, return_inverse=True)
    return dict(zip(rows.tolist(), rows[first[which.reshape(-1)]].tolist(), strict=True))


def repeated(kind: I64, drawn: I64, fit: Bool, least: int) -> Bool:
    """(N,) nodes of those that fit of which there are several, with enough parts below them together."""
    rows = np.flatnonzero(fit)
    _, which, times = np.unique(kind[rows], return_inverse=True, return_counts=True)
    times = times[which.reshape(-1)]
    out = np.zeros(len(kind), np.bool_)
    out[rows] = (times > 1) & (times * drawn[rows] >= least)
    return out


def twins(scene: Scene, groups: Mapping[int, int]) -> dict[int, int]:
    """By node below a group that is there by reference, the node below the first of its kind that stands for it."""
    if not groups:
        return {}
    nodes = scene.nodes
    order = np.lexsort((signatures(scene), as_children(scene), nodes.parent))
    begin = np.searchsorted(nodes.parent[order], np.arange(len(nodes)))
    ends = begin + nodes.children_count
    out: dict[int, int] = {}
    for group, first in groups.items():
        if group == first:
            continue
        pair = [(group, first)]
        while pair:
            mine, theirs = pair.pop()
            more = zip(
                order[begin[mine] : ends[mine]].tolist(), order[begin[theirs] : ends[theirs]].tolist(), strict=True
            )
            below_them = list(more)
            out |= dict(below_them)
            pair += below_them
    return out


def signatures(scene: Scene) -> I64:
    """(N,) equal for nodes that have the very same things below them, in the same places; their own place, name and
    switch aside. Level by level from the deepest."""
    nodes = scene.nodes
    own: I64 = np.zeros(len(nodes), np.int64)
    look = as_children(scene)
    depth = nodes.depth
    order = np.argsort(depth, kind="stable")
    ends = np.cumsum(np.bincount(depth))
    seen: dict[bytes, int] = {b"": 0}
    for begin, end in reversed(list(zip(ends[:-1].tolist(), ends[1:].tolist(), strict=True))):
        level = order[begin:end]
        # pairs of what a child is and what it has below it, sorted, make what the parent has below it
        pair = np.column_stack([nodes.parent[level], look[level], own[level]])
        pair = pair[np.lexsort((pair[:, 2], pair[:, 1], pair[:, 0]))]
        owners, first = np.unique(pair[:, 0], return_index=True)
        for owner, children in zip(owners.tolist(), np.split(pair[:, 1:], first[1:]), strict=True):
            own[owner] = seen.setdefault(children.tobytes(), len(seen))
    return own


def as_children(scene: Scene) -> I64:
    """(N,) equal for nodes that are the same thing in the same place below their parent, as far as they tell by
    themselves. What has data, a skin or moves is like no other."""
    nodes = scene.nodes
    alone = nodes.skin >= 0
    alone[list(nodes.extras)] = True
    alone[list(nodes.rest)] = True
    # a lamp that is a surface has a size of its own under whatever scale stands above it
    alone |= np.array([*(bool(x.surface) for x in scene.lights), False])[nodes.light]
    own = np.where(alone, np.arange(len(nodes)), -1)
    _, place = np.unique(nodes.local.reshape(-1, 16), axis=0, return_inverse=True)
    columns = (nodes.mesh, nodes.light, nodes.camera, nodes.flags, place.reshape(-1), own)
    # where its lightmap lies on a page cannot be said of each copy below an instance
    _, look = np.unique(np.column_stack([*columns, nodes.page]), axis=0, return_inverse=True)
    return look.reshape(-1).astype(np.int64)


def below(nodes: Nodes, marked: Bool) -> I64:
    """(N,) how many marked nodes are below each."""
    out: I64 = np.zeros(len(nodes), np.int64)
    order = np.argsort(nodes.depth, kind="stable")
    ends = np.cumsum(np.bincount(nodes.depth))
    for begin, end in reversed(list(zip(ends[:-1].tolist(), ends[1:].tolist(), strict=True))):
        level = order[begin:end]
        np.add.at(out, nodes.parent[level], out[level] + marked[level])
    return out
