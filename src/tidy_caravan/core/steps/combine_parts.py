"""Step that lets parts travel together: as one mesh, as one for each material, or apart under one node."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import replace
from typing import Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.combining import combined, data_of, order_of
from tidy_caravan.core.geometry.pieces import slim
from tidy_caravan.core.scene import HIDDEN, NO_LIGHTMAP, Origin, Scene, joined
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, Bool
from tidy_caravan.core.scene.nodes import Nodes, with_parts
from tidy_caravan.core.scene.scene import origin_of, with_meshes
from tidy_caravan.core.selection import Treatment
from tidy_caravan.core.space.convert import keep_nodes
from tidy_caravan.core.space.transforms import affine_inverse
from tidy_caravan.core.steps.base import Change, Phase, Step, StepContext, identities_of, parameter, step
from tidy_caravan.core.words import plural

REACH_M = 1000.0
"""How far from its origin a mesh may reach: float32 rounds its vertices there by 0.06 mm, by 0.1 along a slant."""


@step
class CombineParts(Step):
    """The part of a group that comes first is its head: the whole has its name, place in the tree, layer and transform.
    Parts whose sets are treated otherwise are never put together, nor what is animated, skinned or hidden, nor meshes
    with other data on their vertices, since something of one would be lost or made up; what is a kilometre away from the
    head goes into another one, or stays, since float32 would round it. The source keeps its parts, and a switched-off step
    brings them back."""

    title = "Combine"
    summary = "Puts parts together by parent, layer, material, cell or set: fewer draw calls, less that can be moved or culled by itself."

    phase = Phase.COMBINE
    once = False

    kind: Literal["combine_parts"] = "combine_parts"
    by: Literal["parent", "layer", "material", "cell", "set", "all"] = parameter(
        "parent", "By", "What parts of a group have in common; all: everything that the step is for"
    )
    to: Literal["mesh", "mesh_per_material", "node"] = parameter(
        "mesh",
        "To",
        "mesh: one with a sub-mesh for each material; mesh per material: as many parts as materials; node: they stay "
        "parts, under one node that can be moved",
    )
    cell_m: float = parameter(
        10.0, "Cell", "Edge of the cells by which parts are grouped", "m", only={"by": ["cell"]}, ge=0.1, le=100_000
    )
    vertices: int = parameter(
        1_000_000, "Vertices", "Groups of more are left in several; 65 535 is what 16-bit indices reach", "vertices",
        ge=100, le=100_000_000,
    )  # fmt: skip

    def effects(self) -> tuple[Effect, ...]:
        why = "Parts were put together by a step."
        aspects = (Aspect.PARTS, Aspect.NAMES, Aspect.TREE, Aspect.PIVOTS, Aspect.ROTATION, Aspect.SHARING, Aspect.DATA)
        return (*(Effect(a, why=why) for a in aspects), Effect(Aspect.POSITIONS, 0.05))

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        chosen = context.selected(self.where, scene) & (scene.nodes.mesh >= 0)
        rows = np.flatnonzero(chosen & can_be_combined(scene))
        groups, apart = self.groups(scene, context, rows)
        apart["(animated, hidden, bent, flat in space or with morph targets)"] = np.setdiff1d(
            np.flatnonzero(chosen), rows
        )
        left = [
            Change(text=f"{plural(len(i), 'part')} {why} left apart", count=len(i), parts=identities_of(scene, i))
            for why, i in apart.items()
            if len(i)
        ]
        groups = [g for g in groups if not self.is_together(scene, g)]
        if not groups:
            return scene, left
        before = len(rows)
        if self.to == "node":
            out = under_one_node(scene, groups)
            text = f"{plural(sum(map(len, groups)), 'part')} stand under {plural(len(groups), 'node')} of their own"
            return out, [
                Change(text=text, count=len(groups), parts=identities_of(scene, np.concatenate(groups))),
                *left,
            ]
        out = self.together(scene, groups, context)
        members = np.concatenate(groups)
        after = before - len(members) + (len(out.nodes.parts) - (len(scene.nodes.parts) - len(members)))
        text = f"{plural(len(members), 'part')} became {plural(after - before + len(members), 'part')}"
        # the head's data go on; a node that something hangs below stays with its own
        said = set(out.nodes.source[list(out.nodes.extras)].tolist())
        lost = [
            i
            for g in groups
            for i in g[1:].tolist()
            if i in scene.nodes.extras and int(scene.nodes.source[i]) not in said
        ]
        if lost:
            words = (
                f"data of {plural(len(lost), 'part')} stay behind: of what is put together, the first says what it is"
            )
            left.append(Change(text=words, count=len(lost), parts=identities_of(scene, np.array(lost))))
        return out, [Change(text=text, count=len(members), parts=identities_of(scene, members)), *left]

    def is_together(self, scene: Scene, group: I64) -> bool:
        """Whether a group is what the step would make of it: nothing else below their node, or one part for each material."""
        nodes = scene.nodes
        if self.to == "node":
            above = int(nodes.parent[group[0]])
            bare = above >= 0 and max(nodes.mesh[above], nodes.light[above], nodes.camera[above]) < 0
            return (
                bare and bool((nodes.parent[group] == above).all()) and int(nodes.children_count[above]) == len(group)
            )
        slots = [scene.meshes[i].slots for i in nodes.mesh[group].tolist()]
        return self.to == "mesh_per_material" and all(len(s) == 1 for s in slots) and len(set(slots)) == len(slots)

    def groups(self, scene: Scene, context: StepContext, rows: I64) -> tuple[list[I64], dict[str, I64]]:
        """Nodes that are put together, two at least, none larger than it may be; and by reason, those that have something in
        common with others and are not put together with most of them."""
        nodes = scene.nodes
        sets = context.assignment.of(scene)
        usual = Treatment().model_dump_json(exclude={"joined"})
        treatments = [s.treatment.model_dump_json(exclude={"joined"}) for s in context.assignment.sets]
        boxes = scene.part_bounds[np.searchsorted(nodes.parts, rows)]
        cells = np.floor(boxes.mean(axis=1) * scene.convention.metres_per_unit / self.cell_m).astype(np.int64)
        found: dict[tuple[object, object, object], list[int]] = defaultdict(list)
        for k, i in enumerate(rows.tolist()):
            mesh = scene.meshes[nodes.mesh[i]]
            own = int(sets[i])
            key: object = {
                "parent": int(nodes.parent[i]),
                "layer": int(nodes.layer[i]),
                "material": mesh.slots,
                "cell": tuple(cells[k].tolist()),
                "set": own,
                "all": 0,
            }[self.by]
            data = data_of(mesh) if self.to != "node" else ()
            how = treatments[own] if own >= 0 else usual, bool(nodes.flags[i] & NO_LIGHTMAP)
            found[key, how, data].append(i)
        out: list[I64] = []
        distant: list[I64] = []
        for members in found.values():
            sizes = np.array([scene.meshes[nodes.mesh[i]].vertices for i in members])
            part = np.zeros(len(members), np.int64)
            if self.to != "node":
                filled, number = 0, 0
                for k, size in enumerate(sizes.tolist()):
                    if filled and filled + size > self.vertices:
                        filled, number = 0, number + 1
                    filled += size
                    part[k] = number
            for some in np.split(np.array(members), np.flatnonzero(np.diff(part)) + 1):
                near = [some] if self.to == "node" else within_reach(scene, some)
                out += [g for g in near if len(g) > 1]
                distant += [g for g in near if len(g) == 1 < len(some)]
        told = left_apart(found)
        told[f"more than {REACH_M / 1000:g} km from the others, where float32 would round their vertices,"] = (
            np.concatenate(distant) if distant else np.zeros(0, np.int64)
        )
        return out, told

    def together(self, scene: Scene, groups: list[I64], context: StepContext) -> Scene:
        nodes = scene.nodes
        meshes = list(scene.meshes)
        column, sources, origins = nodes.mesh.copy(), dict(nodes.sources), dict(nodes.origins)
        gone = np.zeros(len(nodes), np.bool_)
        more: list[tuple[int, int]] = []  # of each further part the head and the mesh
        for k, group in enumerate(groups):
            context.progress(k, len(groups))

            def tell(done: int, total: int, k: int = k) -> None:
                context.progress(k * total + done, len(groups) * total)

            head = int(group[0])
            own = [meshes[nodes.mesh[i]] for i in group.tolist()]
            matrices = affine_inverse(nodes.world[head : head + 1]) @ nodes.world[group]
            ids = [nodes.sources.get(i, nodes.source[i : i + 1]) for i in group.tolist()]
            whole = [
                origin_of(scene, i) or Origin.all_of(m.triangles) for i, m in zip(group.tolist(), own, strict=True)
            ]
            origin = joined(whole, [len(i) for i in ids]).taken(order_of(own))
            mesh = replace(combined(own, matrices, tell), name=own[0].name or nodes.names[head], origin=origin)
            for i in group.tolist():
                sources.pop(i, None)
                origins.pop(i, None)
            column[group] = -1
            gone[group[1:]] = True
            sources[head] = np.concatenate(ids)
            column[head] = len(meshes)
            if self.to == "mesh" or len(mesh.slots) == 1:
                meshes.append(mesh)
                continue
            pieces = [slim(mesh.with_triangles(mesh.material == slot)) for slot in mesh.slots]
            meshes.append(pieces[0])
            for piece in pieces[1:]:
                more.append((head, len(meshes)))
                meshes.append(piece)
        grown = beside(replace(nodes, mesh=column, sources=sources, origins=origins), more)
        column = grown.mesh
        out = with_meshes(scene.but(nodes=grown), column, meshes, context.progress)
        # what is left of the others is in nobody's way, unless something hangs below it
        spare = np.append(gone, np.zeros(len(grown) - len(nodes), np.bool_))
        spare &= (grown.children_count == 0) & (grown.light < 0) & (grown.camera < 0)
        return keep_nodes(out, ~spare) if spare.any() else out


def within_reach(scene: Scene, members: I64) -> list[I64]:
    """Some parts in groups, each about its first: along no axis of the world is one further from that one's origin than REACH_M,
    or than it is from its own. What was put together so is apart from the others when it is asked again. O(parts · groups)."""
    nodes, metres = scene.nodes, scene.convention.metres_per_unit
    boxes = scene.part_bounds[np.searchsorted(nodes.parts, members)]
    origins = nodes.world[members, :3, 3]

    def reach(rows: I64, origin: F64) -> F64:
        away = np.maximum(np.abs(boxes[rows, 0] - origin), np.abs(boxes[rows, 1] - origin))
        out: F64 = away.max(axis=1) * metres
        return out

    rest = np.arange(len(members))
    most = np.maximum(REACH_M, reach(rest, origins))
    out = []
    while len(rest):
        near = reach(rest, origins[rest[0]]) <= most[rest]
        near[0] = True
        out.append(members[rest[near]])
        rest = rest[~near]
    return out


def left_apart(found: dict[tuple[object, object, object], list[int]]) -> dict[str, I64]:
    """Of groups by what they have in common, how they are dealt with and what data they have: by reason the nodes that are
    not in the largest of those that have the same in common."""
    by_key: dict[object, list[tuple[object, object, list[int]]]] = defaultdict(list)
    for (key, how, data), members in found.items():
        by_key[key].append((how, data, members))
    out: dict[str, list[int]] = {"that their sets treat otherwise": [], "with other data on their vertices": []}
    for some in by_key.values():
        most = max(some, key=lambda s: len(s[2]))
        for how, _, members in some:
            if members is not most[2]:
                out["that their sets treat otherwise" if how != most[0] else "with other data on their vertices"] += (
                    members
                )
    return {why: np.array(nodes, np.int64) for why, nodes in out.items()}


def can_be_combined(scene: Scene) -> Bool:
    """(N,) parts that stand still and are shown."""
    nodes = scene.nodes
    moving = np.zeros(len(nodes), np.bool_)
    moving[[c.node for clip in scene.clips for c in clip.channels]] = True
    moving = nodes.under(moving)
    flat = np.array([not m.morphs and m.triangles > 0 for m in scene.meshes] + [False])
    solid = np.abs(np.linalg.det(nodes.world[:, :3, :3])) > 0
    joints = np.zeros(len(nodes), np.bool_)
    joints[[j for s in scene.skins for j in s.joints]] = True
    out: Bool = flat[nodes.mesh] & (nodes.skin < 0) & ~moving & solid & ((nodes.flags & HIDDEN) == 0) & ~joints
    return out


def beside(nodes: Nodes, more: list[tuple[int, int]]) -> Nodes:
    """The nodes with further parts beside their heads, in the same place; each tells the sources of its head."""
    if not more:
        return nodes
    heads = np.array([h for h, _ in more])
    first = len(nodes)
    names = [
        f"{nodes.names[h]}_{k + 2:02}" for h, k in zip(heads.tolist(), counted(heads).tolist(), strict=True)
    ]  # the head is the first
    out = with_parts(
        nodes, nodes.parent[heads], nodes.local[heads], names, [m for _, m in more], nodes.layer[heads],
        nodes.flags[heads], nodes.source[heads],
    )  # fmt: skip
    several = {first + k: nodes.sources[h] for k, h in enumerate(heads.tolist())}
    return replace(out, sources={**nodes.sources, **several})


def counted(values: AnyArray) -> I64:
    """(K,) how many equal ones come before each, where equal ones stand together."""
    begin = np.flatnonzero(np.concatenate([[True], values[1:] != values[:-1]]))
    out: I64 = np.arange(len(values)) - np.repeat(begin, np.diff(np.append(begin, len(values))))
    return out


def under_one_node(scene: Scene, groups: list[I64]) -> Scene:
    """Each group below a node of its own, which stands where its first part stands; nothing moves."""
    nodes = scene.nodes
    parent, local, names = nodes.parent.copy(), nodes.local.copy(), []
    made: list[F64] = []
    above = []
    for k, group in enumerate(groups):
        head = int(group[0])
        up = int(nodes.parent[head])
        frame = nodes.local[head].copy()
        frame[:3, :3] = np.eye(3)
        made.append(frame)
        above.append(up)
        names.append(f"{nodes.names[head]}_group")
        at = (nodes.world[up] if up >= 0 else np.eye(4)) @ frame
        local[group] = affine_inverse(at[None]) @ nodes.world[group]
        parent[group] = len(nodes) + k
    hung = {int(g[0]): len(nodes) + k for k, g in enumerate(groups)}
    below = {i for g in groups for i in g.tolist()}
    roots = tuple(
        replace(r, nodes=tuple(dict.fromkeys(hung.get(i, i) for i in r.nodes if i in hung or i not in below)))
        for r in scene.roots
    )
    moved = replace(nodes, parent=parent, local=local)
    layer = nodes.layer[[int(g[0]) for g in groups]]
    return scene.but(roots=roots, nodes=with_parts(moved, above, np.array(made), names, layer=layer))
