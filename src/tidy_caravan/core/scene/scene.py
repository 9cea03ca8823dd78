"""Scene: everything a revision or a run holds. Immutable; changes make a new one that shares."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from operator import attrgetter
from typing import Any

import numpy as np

from tidy_caravan.core.pace import Tell, nobody, paced
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, Bool, chunks, frozen
from tidy_caravan.core.scene.boxes import BoxesBefore, boxes_of_small, extreme_points, some_of, usable_points
from tidy_caravan.core.scene.convention import Convention
from tidy_caravan.core.scene.identity import Identities
from tidy_caravan.core.scene.levels import Levels
from tidy_caravan.core.scene.look import Image, Material, Texture
from tidy_caravan.core.scene.mesh import Mesh
from tidy_caravan.core.scene.nodes import HIDDEN, Nodes
from tidy_caravan.core.scene.provenance import Origin, Touched
from tidy_caravan.core.scene.things import Camera, Clip, Light, Note, Root, Skin, Travel

CHUNK = 1 << 21
"""Points transformed at once when world bounds are computed; bounds the working memory."""

SMALL = 256
"""Vertices up to which meshes are looked at many in one array: by themselves each would cost more than its vertices."""
HULL_FROM = 300
"""Parts of one mesh from which on its hull is made for their boxes."""


@dataclass(frozen=True, eq=False)
class Scene:
    convention: Convention
    nodes: Nodes
    meshes: tuple[Mesh, ...] = ()
    materials: tuple[Material, ...] = ()
    textures: tuple[Texture, ...] = ()
    images: tuple[Image, ...] = ()
    lights: tuple[Light, ...] = ()
    cameras: tuple[Camera, ...] = ()
    skins: tuple[Skin, ...] = ()
    clips: tuple[Clip, ...] = ()
    layers: tuple[str, ...] = ()
    roots: tuple[Root, ...] = ()
    default_root: int = 0
    notes: tuple[Note, ...] = ()
    travel: tuple[Travel, ...] = ()
    extras: Mapping[str, Any] = field(default_factory=dict)
    format: str = ""
    touched: Touched | None = None
    """Of a route's result: which of its steps were for which node of the source."""
    identity: Identities | None = None
    """Of a route's result: what the nodes of its source are called."""
    levels: Levels = field(default_factory=dict)
    """Coarser meshes by the id of the whole one."""

    def but(self, **changes: Any) -> Scene:
        """A copy with some fields replaced. What follows from the nodes and from surfaces that stay goes with it."""
        made = replace(self, **changes)
        if "nodes" not in changes and len(made.meshes) == len(self.meshes):
            alike = (
                "parts_by_mesh",
                "instance_counts",
                *(() if changes.keys() & {"extras", "identity"} else ("identities",)),
            )
            made.__dict__.update({name: self.__dict__[name] for name in alike if name in self.__dict__})
        known = self.__dict__.get("_boxes_before")
        if "part_bounds" in self.__dict__:
            own = self.mesh_boxes if "mesh_boxes" in self.__dict__ else None
            none = np.zeros(len(self.nodes.parts), np.bool_), np.zeros(len(self.meshes), np.bool_)
            known = BoxesBefore(self.part_bounds, own, self.nodes, *none)
        if known is not None and changes.keys() & {"nodes", "meshes"}:
            known = known.through((self.nodes, self.meshes), (made.nodes, made.meshes))
        if known is not None:
            made.__dict__["_boxes_before"] = known
        return made

    @cached_property
    def identities(self) -> Identities:
        """What the nodes of the source are called, by `nodes.source`; of a result that was not told, nothing."""
        if self.identity is not None:
            return self.identity
        whole = np.array_equal(self.nodes.source, np.arange(len(self.nodes)))
        return Identities.of(self.nodes, self.extras) if whole else Identities(())

    @cached_property
    def part_bounds(self) -> F64:
        """(P, 2, 3) world boxes of the parts in scene units, exact over vertices.

        O(total instance vertices), in chunks of bounded size, one batch per shared mesh, and small ones together.
        """
        parts = self.nodes.parts
        out = np.zeros((len(parts), 2, 3))
        order, starts = self.parts_by_mesh
        known = self.__dict__.pop("_boxes_before", None)
        if isinstance(known, BoxesBefore):  # what has new surfaces, or stands elsewhere, is looked at
            if known.meshes is not None:
                self.__dict__["_mesh_boxes_before"] = (known.meshes, known.new_mesh)
            fresh = known.fresh(self.nodes)
            if not fresh.any():
                return known.parts
            out[:] = known.parts
            order, starts = some_of(order, starts, fresh[order])
        small = [e - b < HULL_FROM and self.meshes[m].vertices <= SMALL for m, b, e in starts]
        together = [one for one, is_small in zip(starts, small, strict=True) if is_small]
        for some in chunks(np.array([self.meshes[m].vertices * (e - b) for m, b, e in together]), CHUNK):
            runs = [together[k] for k in some.tolist()]
            rows = np.concatenate([order[b:e] for _, b, e in runs])
            users = np.array([e - b for _, b, e in runs])
            out[rows] = boxes_of_small([self.meshes[m] for m, _, _ in runs], users, self.nodes.world[parts[rows]])
        for mesh_index, begin, end in (one for one, is_small in zip(starts, small, strict=True) if not is_small):
            rows = order[begin:end]
            mesh = self.meshes[mesh_index]
            # a hull is worth its making from some hundreds of parts on; for fewer all vertices are turned and looked at
            points = extreme_points(mesh) if end - begin >= HULL_FROM else usable_points(mesh)
            if not len(points):
                out[rows] = self.nodes.world[parts[rows], :3, 3][:, None, :]
                continue
            step = max(1, CHUNK // len(points))
            columns = np.ascontiguousarray(points.T)
            for at in range(0, len(rows), step):
                batch = rows[at : at + step]
                world = self.nodes.world[parts[batch]]
                # one product for all axes of all parts, so that the smallest and largest lie along a row
                moved = world[:, :3, :3].reshape(-1, 3) @ columns
                place = world[:, :3, 3]
                out[batch, 0] = moved.min(axis=1).reshape(-1, 3) + place
                out[batch, 1] = moved.max(axis=1).reshape(-1, 3) + place
        return frozen(out)

    @cached_property
    def parts_by_mesh(self) -> tuple[I64, list[tuple[int, int, int]]]:
        """Part rows sorted by mesh, and per used mesh (mesh, begin, end) into that order."""
        mesh = self.nodes.mesh[self.nodes.parts]
        order = np.argsort(mesh, kind="stable").astype(np.int64)
        used, begin, count = np.unique(mesh[order], return_index=True, return_counts=True)
        return order, list(zip(used.tolist(), begin.tolist(), (begin + count).tolist(), strict=True))

    @cached_property
    def mesh_boxes(self) -> F64:
        """(M, 2, 3) boxes of the meshes, about their own origins; noughts of those that no part uses."""
        known: tuple[F64, Bool] | None = self.__dict__.pop("_mesh_boxes_before", None)
        before = self.__dict__.get("_boxes_before")
        if known is None and isinstance(before, BoxesBefore) and before.meshes is not None:
            known = before.meshes, before.new_mesh
        out = np.zeros((len(self.meshes), 2, 3)) if known is None else known[0].copy()
        asked = self.instance_counts > 0
        if known is not None:  # as with `part_bounds`
            out[~asked] = 0.0
            asked &= known[1]
        meshes = [(i, self.meshes[i]) for i in np.flatnonzero(asked).tolist()]
        small = [(i, m) for i, m in meshes if 0 < m.triangles <= SMALL and "bounds" not in m.__dict__]
        for some in chunks(np.array([m.triangles for _, m in small], np.int64), CHUNK):
            own = [small[k][1] for k in some.tolist()]
            corners = np.concatenate([m.positions[m.indices.reshape(-1)] for m in own])
            starts = 3 * np.cumsum([0, *(m.triangles for m in own[:-1])])
            boxes = np.stack([np.minimum.reduceat(corners, starts), np.maximum.reduceat(corners, starts)], axis=1)
            for mesh, box in zip(own, boxes.astype(np.float64), strict=True):
                mesh.__dict__["bounds"] = box
        if meshes:
            out[[i for i, _ in meshes]] = [m.bounds for _, m in meshes]
        return frozen(out)

    @cached_property
    def triangle_counts(self) -> I64:
        """(M,) triangles of each mesh."""
        return frozen(np.fromiter(map(attrgetter("triangles"), self.meshes), np.int64, len(self.meshes)))

    @cached_property
    def vertex_counts(self) -> I64:
        """(M,) vertices of each mesh."""
        return frozen(np.fromiter(map(attrgetter("vertices"), self.meshes), np.int64, len(self.meshes)))

    @cached_property
    def slot_kinds(self) -> tuple[list[tuple[int, ...]], I64]:
        """The different sets of materials that meshes have, each in the order of `Mesh.slots`, and (M,) which is whose: what
        depends on them alone is asked of few."""
        every = list(map(attrgetter("slots"), self.meshes))
        number = {slots: k for k, slots in enumerate(dict.fromkeys(every))}
        return list(number), frozen(np.fromiter(map(number.__getitem__, every), np.int64, len(every)))

    @cached_property
    def slot_counts(self) -> I64:
        """(M,) materials of each mesh."""
        kinds, which = self.slot_kinds
        return frozen(np.array([len(slots) for slots in kinds], np.int64)[which])

    def by_slots(self, answer: Callable[[tuple[int, ...]], bool]) -> Bool:
        """(M,) what is true of each mesh's materials."""
        kinds, which = self.slot_kinds
        return np.array([answer(slots) for slots in kinds], np.bool_)[which]

    @cached_property
    def instance_counts(self) -> I64:
        """(M,) how many parts use each mesh."""
        mesh = self.nodes.mesh[self.nodes.parts]
        return np.bincount(mesh, minlength=len(self.meshes))


def with_meshes(scene: Scene, column: AnyArray, meshes: Sequence[Mesh], tell: Tell = nobody) -> Scene:
    """The scene with another mesh column; equal meshes are shared, unused ones dropped, order kept.

    tell hears how many were looked at.
    """
    used = np.zeros(len(meshes) + 1, np.bool_)
    used[column] = True
    table = np.full(len(meshes) + 1, -1, np.int32)
    kept: list[Mesh] = []
    index: dict[str, int] = {}
    for i in paced(np.flatnonzero(used[:-1]).tolist(), tell):
        mesh = meshes[i]
        number = index.setdefault(mesh.id, len(kept))
        if number == len(kept):
            kept.append(mesh)
        table[i] = number
    if np.array_equal(table[column], scene.nodes.mesh):  # others in the same places: what is known of the nodes stays
        return scene.but(meshes=tuple(kept))
    return scene.but(meshes=tuple(kept), nodes=replace(scene.nodes, mesh=table[column]))


def with_all_roots(scene: Scene) -> Scene:
    """The scene with every node that hangs below none in a root: that of others from its source part, or the one that is
    shown. Those switched off, as what the file left out of all its roots is, stay as they are. What came to hang below a node
    leaves them."""
    if not scene.roots:
        return scene
    nodes = scene.nodes
    listed = np.zeros(len(nodes), np.bool_)
    listed[[i for r in scene.roots for i in r.nodes]] = True
    new = np.flatnonzero((nodes.parent < 0) & ~listed & ((nodes.flags & HIDDEN) == 0))
    if not len(new) and not (listed & (nodes.parent >= 0)).any():
        return scene
    roots = [replace(r, nodes=tuple(i for i in r.nodes if nodes.parent[i] < 0)) for r in scene.roots]
    shown = min(max(scene.default_root, 0), len(roots) - 1)
    place = np.full(len(new), shown)
    source = nodes.source[new]
    for k, root in reversed(list(enumerate(roots))):
        own = nodes.source[list(root.nodes)]
        place[np.isin(source, own[own >= 0])] = k
    added = [(*r.nodes, *new[place == k].tolist()) for k, r in enumerate(roots)]
    return scene.but(roots=tuple(replace(r, nodes=n) for r, n in zip(roots, added, strict=True)))


def origin_of(scene: Scene, node: int) -> Origin | None:
    """Where the triangles that a node draws came from; None where they are all of its source part, in order."""
    own, mesh = scene.nodes.origins.get(node), scene.meshes[scene.nodes.mesh[node]]
    return mesh.origin if own is None else own.through(mesh.origin)


def with_own_meshes(scene: Scene) -> Scene:
    """The scene with meshes that say where their triangles came from for the nodes that say so themselves; one for all that
    say the same."""
    own = [i for i in scene.nodes.origins if scene.nodes.mesh[i] >= 0]
    if not own:
        return scene
    column = scene.nodes.mesh.copy()
    meshes = list(scene.meshes)
    made: dict[tuple[int, int], int] = {}
    for i in own:
        number = int(scene.nodes.mesh[i])
        key = (number, id(scene.nodes.origins[i]))
        if key not in made:
            made[key] = len(meshes)
            meshes.append(replace(scene.meshes[number], origin=origin_of(scene, i)))
        column[i] = made[key]
    return scene.but(meshes=tuple(meshes), nodes=replace(scene.nodes, mesh=column, origins={}))
