"""Step: a tree without levels that hold nothing of their own, without any, or below one node."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import F64, I32, Bool
from tidy_caravan.core.scene.nodes import Nodes, with_parts
from tidy_caravan.core.space.axes import axis_vector
from tidy_caravan.core.space.convert import keep_nodes
from tidy_caravan.core.space.transforms import affine_inverse, skewed
from tidy_caravan.core.steps.base import Change, Phase, Step, StepContext, identities_of, parameter, step
from tidy_caravan.core.words import plural


@step
class TidyTree(Step):
    """What a scene hangs by: groups that lead to one thing alone or to nothing are taken out, or all groups are, or all
    hangs below one node more, by which it can be placed again as a whole. Nothing moves. Groups stay that carry data or a
    light, that move or are part of a skeleton, and those whose parts would be sheared without them. A part without a layer
    gets that of the group it hung in.
    """

    title = "Tidy tree"
    summary = "Takes out levels that hold nothing of their own, or all of them, or hangs everything below one node."

    phase = Phase.TREE
    once = False

    kind: Literal["tidy_tree"] = "tidy_tree"
    by: Literal["prune", "flatten", "root"] = parameter(
        "prune",
        "Tree",
        "prune: without groups that lead to one thing or to nothing; flatten: without any; root: all below one node more",
    )
    name: str = parameter("scene", "Name", "Of the node that all hangs below", only={"by": ["root"]}, max_length=200)
    at: Literal["base", "origin"] = parameter(
        "base",
        "Its place",
        "base: the middle of the underside of all; origin: that of the world",
        only={"by": ["root"]},
    )

    def effects(self) -> tuple[Effect, ...]:
        return (Effect(Aspect.TREE, why="Parts hang otherwise since a step."),)

    def reach(self, scene: Scene, context: StepContext) -> Bool:
        return scene.nodes.under(context.selected(self.where, scene))

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        chosen = context.selected(self.where, scene)
        return self.below_one(scene, chosen) if self.by == "root" else self.without_groups(scene, chosen)

    def without_groups(self, scene: Scene, chosen: Bool) -> tuple[Scene, list[Change]]:
        nodes = scene.nodes
        plain = groups(scene)
        gone = chosen & plain
        if self.by == "prune":
            gone = idle(nodes, gone)
        local, held = dissolved(nodes, gone)
        stay = gone & held
        gone &= ~held
        changes = []
        if held_back := int(stay.sum()):
            text = f"{plural(held_back, 'group stays', 'groups stay')}: what hangs there would be sheared without"
            changes.append(Change(text=text, count=held_back, parts=identities_of(scene, np.flatnonzero(stay))))
        if not gone.any():
            return scene, changes
        parent, layer = adopted(nodes, gone)
        tops = {
            k: tuple(np.flatnonzero((parent < 0) & under_root(nodes, r.nodes) & ~gone).tolist())
            for k, r in enumerate(scene.roots)
        }
        roots = tuple(replace(r, nodes=tops[k]) for k, r in enumerate(scene.roots))
        hung = scene.but(nodes=replace(nodes, parent=parent, local=local, layer=layer), roots=roots)
        rows = np.flatnonzero(gone)
        text = f"{plural(len(rows), 'group')} taken out of the tree"
        return keep_nodes(hung, ~gone), [Change(text=text, count=len(rows), parts=identities_of(scene, rows)), *changes]

    def below_one(self, scene: Scene, chosen: Bool) -> tuple[Scene, list[Change]]:
        nodes = scene.nodes
        name = self.name or "scene"
        tops = np.flatnonzero((nodes.parent < 0) & chosen)
        if not len(tops) or (len(tops) == 1 and nodes.mesh[tops[0]] < 0 and nodes.names[tops[0]] == name):
            return scene, []
        frame = np.eye(4)
        still = not moved_by_itself(scene)[tops].any()
        if self.at == "base" and len(nodes.parts) and still:
            boxes = scene.part_bounds
            low, high = boxes[:, 0].min(axis=0), boxes[:, 1].max(axis=0)
            if np.isfinite([low, high]).all():
                up = axis_vector(scene.convention.up)
                frame[:3, 3] = np.where(np.abs(up) > 0, np.where(up > 0, low, high), (low + high) / 2)
        parent, local = nodes.parent.copy(), nodes.local.copy()
        parent[tops] = len(nodes)
        local[tops] = affine_inverse(frame[None]) @ local[tops]
        below = set(tops.tolist())
        roots = tuple(
            replace(
                r, nodes=(*(i for i in r.nodes if i not in below), *((len(nodes),) if below & set(r.nodes) else ()))
            )
            for r in scene.roots
        )
        moved = replace(nodes, parent=parent, local=local)
        out = scene.but(nodes=with_parts(moved, [-1], frame[None], [name]), roots=roots)
        text = f"{plural(len(tops), 'node hangs', 'nodes hang')} below “{name}”"
        if self.at == "base" and not still:
            text += ", which stands at the origin, since clips move some of them"
        return out, [Change(text=text, count=len(tops), parts=identities_of(scene, tops))]


def groups(scene: Scene) -> Bool:
    """(N,) nodes that hold nothing but others: without mesh, light, camera, data or flags, which nothing moves or skins."""
    nodes = scene.nodes
    out: Bool = (nodes.mesh < 0) & (nodes.light < 0) & (nodes.camera < 0) & (nodes.skin < 0) & (nodes.flags == 0)
    out[[i for i, said in nodes.extras.items() if said]] = False
    # what clips and skins say of a node they say in what it hangs below
    return out & ~nodes.over(moved_by_itself(scene))


def moved_by_itself(scene: Scene) -> Bool:
    """(N,) nodes that clips move or skins take their bones from."""
    out = np.zeros(len(scene.nodes), np.bool_)
    out[[c.node for clip in scene.clips for c in clip.channels]] = True
    out[[j for s in scene.skins for j in (*s.joints, s.skeleton) if j >= 0]] = True
    out[list(scene.nodes.rest)] = True
    return out


def idle(nodes: Nodes, plain: Bool) -> Bool:
    """(N,) groups that lead to one thing or to nothing, once the others of them are gone: those below first."""
    leads = nodes.children_count.copy()
    out: Bool = plain & (leads == 0)
    fresh = np.flatnonzero(out)
    while len(fresh):  # what leads to nothing leaves one less above it
        above = nodes.parent[fresh]
        np.subtract.at(leads, above[above >= 0], 1)
        fresh = np.unique(above[above >= 0])
        fresh = fresh[plain[fresh] & (leads[fresh] == 0) & ~out[fresh]]
        out[fresh] = True
    out |= plain & (leads == 1)
    return out


def dissolved(nodes: Nodes, gone: Bool) -> tuple[F64, Bool]:
    """(N, 4, 4) places in what each node then hangs below, and (N,) nodes of which one that hangs there would be sheared."""
    local = nodes.local.copy()
    order = np.argsort(nodes.depth, kind="stable")
    ends = np.cumsum(np.bincount(nodes.depth)) if len(nodes) else np.zeros(0, np.int64)
    for start, end in zip(ends[:-1], ends[1:], strict=True):
        level = order[start:end]
        level = level[gone[nodes.parent[level]]]
        local[level] = local[nodes.parent[level]] @ local[level]
    orphans = ~gone & (nodes.parent >= 0)
    orphans[orphans] = gone[nodes.parent[orphans]]
    rows = np.flatnonzero(orphans)
    bad = rows[sheared(local[rows]) & ~sheared(nodes.local[rows])]
    marked = np.zeros(len(nodes), np.bool_)
    marked[bad] = True
    held = nodes.over(marked)
    if not (held & gone).any():
        return local, np.zeros(len(nodes), np.bool_)
    again, more = dissolved(nodes, gone & ~held)
    return again, held | more


def sheared(local: F64) -> Bool:
    """(N,) whether the axes of matrices are off right angles."""
    linear = local[:, :3, :3]
    length = np.linalg.norm(linear, axis=1)
    out: Bool = skewed(linear / np.where(length > 0, length, 1.0)[:, None, :])
    return out


def adopted(nodes: Nodes, gone: Bool) -> tuple[I32, I32]:
    """(N,) what each node hangs below and its layer, once the others are gone."""
    parent, layer = nodes.parent.copy(), nodes.layer.copy()
    while True:
        rows = np.flatnonzero(parent >= 0)
        rows = rows[gone[parent[rows]]]
        if not len(rows):
            return parent, layer
        layer[rows] = np.where(layer[rows] < 0, nodes.layer[parent[rows]], layer[rows])
        parent[rows] = nodes.parent[parent[rows]]


def under_root(nodes: Nodes, tops: tuple[int, ...]) -> Bool:
    """(N,) what hangs below the nodes of a root, and they."""
    marked = np.zeros(len(nodes), np.bool_)
    marked[list(tops)] = True
    return nodes.under(marked)
