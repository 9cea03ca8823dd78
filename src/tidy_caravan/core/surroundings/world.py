"""The triangles of many parts at once, where they stand in the world, as flat arrays."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from tidy_caravan.core.geometry.pose import drawn_worlds
from tidy_caravan.core.scene import SCATTER, Mesh, Scene
from tidy_caravan.core.scene.arrays import F32, F64, I64, U64, AnyArray, Bool, chunks, determinants, ranges
from tidy_caravan.core.scene.boxes import usable_points
from tidy_caravan.core.scene.keeping import kept
from tidy_caravan.core.space.site import near_parts
from tidy_caravan.core.work.heavy import Piece
from tidy_caravan.core.work.pairs import fingerprints, words_of

CHUNK = 1 << 19
"""Vertices moved at once, so that their matrices do not fill the memory."""
STEPS = 1000.0
"""Into which sizes and shapes are divided to tell whether they are the same."""


@dataclass(frozen=True)
class Table:
    """Meshes laid end to end. positions: (V, 3). indices: (F, 3), within the own mesh. vertex, face: (M + 1,) where each
    mesh begins."""

    positions: F32
    indices: I64
    vertex: I64
    face: I64

    @classmethod
    def of(cls, meshes: Sequence[Mesh]) -> Table:
        vertex = np.cumsum([0, *(m.vertices for m in meshes)])
        face = np.cumsum([0, *(m.triangles for m in meshes)])
        positions = np.concatenate([np.zeros((0, 3), np.float32), *(m.positions for m in meshes)])
        indices = np.concatenate([np.zeros((0, 3), np.uint32), *(m.indices for m in meshes)])
        bad = ~np.isfinite(positions).all(axis=1)
        if bad.any():
            # triangles that are no numbers become points: they keep their number and meet nothing
            owner = np.repeat(np.arange(len(meshes)), np.diff(face))
            indices[np.any(bad[indices + vertex[owner][:, None]], axis=1)] = 0
            positions = np.where(bad[:, None], np.float32(0), positions)
        return cls(positions, indices.astype(np.int64), vertex.astype(np.int64), face.astype(np.int64))

    def arrays(self) -> dict[str, AnyArray]:
        return {"positions": self.positions, "indices": self.indices, "vertex": self.vertex, "face": self.face}


@dataclass(frozen=True)
class Placed:
    """Triangles of parts in the world. points: (V, 3). faces: (F, 3). part: (F,) which of the parts. local: (F,) number
    of the triangle in its mesh."""

    points: F64
    faces: I64
    part: I64
    local: I64


def placed(table: Table, mesh: I64, world: F64) -> Placed:
    """All triangles of parts with these meshes (P,) and matrices (P, 4, 4). O(vertices + triangles)."""
    vertices = np.diff(table.vertex)[mesh]
    triangles = np.diff(table.face)[mesh]
    points = np.zeros((int(vertices.sum()), 3))
    ends = np.cumsum(vertices)
    for rows in chunks(vertices, CHUNK):
        owner = np.repeat(rows, vertices[rows])
        own = table.positions[ranges(table.vertex[mesh[rows]], vertices[rows])].astype(np.float64)
        at = slice(int(ends[rows[0]] - vertices[rows[0]]), int(ends[rows[-1]]))
        points[at] = np.einsum("vij,vj->vi", world[owner, :3, :3], own) + world[owner, :3, 3]
    part = np.repeat(np.arange(len(mesh)), triangles)
    local = ranges(np.zeros(len(mesh), np.int64), triangles)
    faces = table.indices[table.face[mesh[part]] + local] + (ends - vertices)[part][:, None]
    return Placed(points, faces, part, local)


def strewn_by(scene: Scene, rows: AnyArray) -> I64:
    """(K,) for each node the scatter that it was strewn by, -1 for others: gravel has no joints within itself."""
    nodes = scene.nodes
    above = nodes.parent[rows].astype(np.int64)
    return np.where((above >= 0) & ((nodes.flags[above] & SCATTER) > 0), above, -1)


def ranks(values: AnyArray) -> I64:
    """(K,) the same values alike, counted through in their order, whatever they are."""
    return np.unique(values, return_inverse=True)[1].reshape(-1).astype(np.int64)


@kept
def two_sided_slots(scene: Scene) -> Bool:
    """True for material slots that are drawn from both sides; the last one, -1, stands for no material."""
    most = max([len(scene.materials), *(max(s, default=-1) + 1 for s in {m.slots for m in scene.meshes})])
    out = np.zeros(most + 1, np.bool_)
    out[: len(scene.materials)] = [m.double_sided for m in scene.materials]
    return out


def middle_of(scene: Scene) -> F64:
    """(3,) middle of all parts that stand together, about which float32 has the most to spare."""
    boxes = scene.part_bounds
    if not len(boxes):
        return np.zeros(3)
    boxes = boxes[near_parts(scene)]
    out: F64 = (boxes[:, 0].min(axis=0) + boxes[:, 1].max(axis=0)) / 2
    return out


TWOFOLD = 2.0
"""Times the size of another part of its mesh from which on a part is asked by itself about millimetres."""


def about(world: F64, middle: F64) -> F64:
    """The matrices (P, 4, 4) with `middle` as their origin."""
    out = world.copy()
    out[:, :3, 3] -= middle
    return out


def scales(scene: Scene, largest: bool = False) -> F64:
    """(M,) metres per unit of each mesh, where its parts are drawn; the smallest of them, or the largest. Kept with the
    scene, since several checks ask for it."""
    name = "_largest_scales" if largest else "_smallest_scales"
    kept: F64 | None = scene.__dict__.get(name)
    if kept is None:
        kept = scales_of(scene, largest)
        kept.flags.writeable = False
        scene.__dict__[name] = kept
    return kept


def scales_of(scene: Scene, largest: bool) -> F64:
    nodes = scene.nodes
    parts = nodes.parts
    out = np.full(len(scene.meshes), -np.inf if largest else np.inf)
    if largest:
        size = np.linalg.norm(drawn_worlds(scene)[parts, :3, :3], axis=1).max(axis=1) * scene.convention.metres_per_unit
        np.maximum.at(out, nodes.mesh[parts], np.where(size > 0, size, -np.inf))
    else:
        size = np.abs(determinants(drawn_worlds(scene)[parts, :3, :3])) ** (1 / 3) * scene.convention.metres_per_unit
        np.minimum.at(out, nodes.mesh[parts], np.where(size > 0, size, np.inf))
    return np.where(np.isfinite(out), out, scene.convention.metres_per_unit)


def by_size(scene: Scene) -> Scene:
    """The scene with what draws a mesh more than TWOFOLD as large as the smallest that does so drawing one of its own, the same
    again: what is asked in millimetres is another question there. The same scene where there is none."""
    nodes, parts = scene.nodes, scene.nodes.parts
    size = np.abs(determinants(drawn_worlds(scene)[parts, :3, :3])) ** (1 / 3) * scene.convention.metres_per_unit
    mesh = nodes.mesh[parts]
    step = np.floor(np.log(np.maximum(size, 1e-300) / scales(scene)[mesh]) / np.log(TWOFOLD) + 1e-6)
    rows = np.flatnonzero((size > 0) & (step > 0))
    if not len(rows):
        return scene
    kinds, which = np.unique(np.column_stack([mesh[rows], step[rows]]), axis=0, return_inverse=True)
    column = nodes.mesh.copy()
    column[parts[rows]] = len(scene.meshes) + which.reshape(-1)
    more = tuple(scene.meshes[i] for i in kinds[:, 0].astype(np.int64).tolist())
    return scene.but(meshes=(*scene.meshes, *more), nodes=replace(nodes, mesh=column))


@kept
def middle_stretch(scene: Scene) -> F64:
    """(M, 3) metres per unit along the own axes of each mesh, as that part of it shows it whose size is the middle one."""
    nodes, metres = scene.nodes, scene.convention.metres_per_unit
    linear, mesh = nodes.world[nodes.parts, :3, :3], nodes.mesh[nodes.parts]
    size = np.abs(determinants(linear))
    rows = np.flatnonzero(size > 0)
    order = rows[np.lexsort((size[rows], mesh[rows]))]
    used, begin, count = np.unique(mesh[order], return_index=True, return_counts=True)
    out = np.full((len(scene.meshes), 3), metres)
    out[used] = np.linalg.norm(linear[order[begin + (count - 1) // 2]], axis=1) * metres
    return out


def untouchable(scene: Scene) -> Bool:
    """(N,) animated and skinned nodes, all above them and all below: their scale must stay."""
    nodes = scene.nodes
    marked = nodes.skin >= 0
    marked[[c.node for clip in scene.clips for c in clip.channels]] = True
    marked[[j for s in scene.skins for j in s.joints]] = True
    out: Bool = nodes.under(marked) | nodes.over(marked)
    return out


def pinned(scene: Scene) -> Bool:
    """(N,) nodes that clips move about the pivot that they have, and those that stand where their bones are."""
    out = scene.nodes.skin >= 0
    out[[c.node for clip in scene.clips for c in clip.channels if c.path != "weights"]] = True
    return out


@kept
def outside(scene: Scene) -> tuple[F64, Bool]:
    """(P,) how far the pivot of each part lies outside its box, in units of the scene, and whether by more than it is large.

    The box is that of its mesh, along the part's own axes: the same however the part is turned in the world.
    """
    nodes = scene.nodes
    boxes = np.concatenate([scene.mesh_boxes, np.zeros((1, 2, 3))])
    for i in np.flatnonzero(~np.isfinite(boxes).all(axis=(1, 2))).tolist():
        points = usable_points(scene.meshes[i])
        boxes[i] = (points.min(axis=0), points.max(axis=0)) if len(points) else 0.0
    linear, box = nodes.world[nodes.parts, :3, :3], boxes[nodes.mesh[nodes.parts]]
    gap = np.maximum(box[:, 0], 0.0) + np.minimum(box[:, 1], 0.0)
    distance: F64 = np.linalg.norm((linear @ gap[:, :, None])[:, :, 0], axis=1)
    diagonal = np.linalg.norm(np.linalg.norm(linear, axis=1) * (box[:, 1] - box[:, 0]), axis=1)
    far: Bool = distance > np.maximum(diagonal, 1e-12)
    return distance, far


def not_empty(scene: Scene) -> Bool:
    """(N,) nodes that draw, light, look, move or say something, or bear a skin, and everything above them."""
    nodes = scene.nodes
    out = (nodes.mesh >= 0) | (nodes.light >= 0) | (nodes.camera >= 0) | (nodes.skin >= 0)
    out[list(nodes.extras)] = True
    out[[j for s in scene.skins for j in (*s.joints, *([s.skeleton] if s.skeleton >= 0 else []))]] = True
    out[[c.node for clip in scene.clips for c in clip.channels]] = True
    return nodes.over(out)


STEADY = 1024.0
"""The origin that pairs are looked at about moves by that much only: what is known of them holds to the last bit."""


def steady_middle_of(scene: Scene) -> F64:
    """(3,) the middle of all parts, to a thousand units."""
    out: F64 = np.rint(middle_of(scene) / STEADY) * STEADY
    return out


def likenesses(scene: Scene, rows: AnyArray, more: Sequence[AnyArray] = ()) -> U64:
    """(K, 2) what tells nodes that draw something apart: their surface, where they stand, and `more` (K, …)."""
    kinds, mesh = np.unique(scene.nodes.mesh[rows], return_inverse=True)
    surfaces = words_of([scene.meshes[i].surface_id for i in kinds.tolist()])
    world = scene.nodes.world[rows].reshape(-1, 16)[:, :12]
    return fingerprints([surfaces[mesh.reshape(-1)], world, *more])


def costs_of(scene: Scene, rows: AnyArray, pairs: I64) -> tuple[I64, F64]:
    """(K,) triangles of nodes, and (P,) what pairs of them cost to be looked at, those of a part shared by its pairs."""
    triangles = scene.triangle_counts[scene.nodes.mesh[rows]]
    share = triangles / np.maximum(np.bincount(pairs.reshape(-1), minlength=len(rows)), 1)
    cost: F64 = share[pairs].sum(axis=1) + 1
    return triangles, cost


def asked_once(arrays: dict[str, AnyArray], parameters: dict[str, Any], size: int) -> Piece:
    """A piece of work on many parts; its arrays are of this scene, and nobody asks for them again."""
    return Piece(uuid.uuid4().hex, arrays, parameters, seconds=60 + size / 10_000, size=int(size))


def as_large(scene: Scene, rows: I64) -> I64:
    """(P,) the same number for parts that draw one mesh in the same size and shape, however it is turned."""
    mesh = scene.nodes.mesh[rows].astype(np.int64)
    out = mesh.copy()
    several = np.flatnonzero(np.bincount(mesh)[mesh] > 1)
    linear = scene.nodes.world[rows[several], :3, :3]
    shape = np.einsum("pki,pkj->pij", linear, linear).reshape(-1, 9)
    size = np.sqrt(np.maximum(shape[:, [0, 4, 8]].sum(axis=1), 1e-300))
    key = np.column_stack([mesh[several], np.rint(np.log(size) * STEPS), np.rint(shape / size[:, None] ** 2 * STEPS)])
    out[several] = len(scene.meshes) + np.unique(key, axis=0, return_inverse=True)[1].reshape(-1)
    return out
