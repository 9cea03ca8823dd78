"""Which parts of a scene get light of their own, and what a budget has to know of each."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.conventions.destinations import Destination
from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.stretched import gathered, lengths, surface_scales, uneven
from tidy_caravan.core.lightmap.budget import Limits, Lit
from tidy_caravan.core.scene import HIDDEN, NO_LIGHTMAP, Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, I64, Bool
from tidy_caravan.core.selection import Assignment
from tidy_caravan.core.space.axes import axis_vector

GUESSED_FILL = 0.7
"""Fill of a map whose set is not there yet."""
FLAT = 0.15
"""Height by the lesser width up to which a part is flat."""
HEAD_M = 2.2
"""Metres over what is lowest from which on a flat part is a ceiling."""


@dataclass(frozen=True)
class SetFigures:
    """area: of the mesh, in its units squared. fill: of the map. there: whether a set is. steps: (F', 3) what a step in u is
    in space on each triangle, times its area in the map, and the same in v."""

    area: float
    fill: float
    there: bool
    steps: tuple[F64, F64] = (np.eye(3)[:1], np.eye(3)[:1])

    def along(self, linear: F64 | None = None) -> F64:
        """(K,) how many times longer a step in v is in space than one in u, on average, under each matrix (K, 3, 3), or (1,)
        as the mesh stands: the map's height by its width for square texels."""
        if linear is None:
            by_u, by_v = (np.linalg.norm(way, axis=1).sum(keepdims=True) for way in self.steps)
        else:
            by_u, by_v = (lengths(gathered(way), linear) for way in self.steps)
        out: F64 = by_v / np.maximum(by_u, 1e-30)
        return out


def set_figures(mesh: Mesh, channel: int) -> SetFigures:
    """Of a mesh's lightmap set. O(F)."""
    normal = face_vectors(mesh.positions, mesh.indices)
    area = float(np.linalg.norm(normal, axis=1).sum()) / 2
    if len(mesh.uvs) <= channel or not mesh.triangles:
        return SetFigures(area, GUESSED_FILL, False)
    corners = mesh.uvs[channel].astype(np.float64)[mesh.indices]
    a, b = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    double = a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]
    fill = float(np.abs(double).sum()) / 2
    points = mesh.positions.astype(np.float64)[mesh.indices]
    e, f = points[:, 1] - points[:, 0], points[:, 2] - points[:, 0]
    good = np.abs(double) > 1e-14
    if not good.any() or not np.isfinite(fill):
        return SetFigures(area, GUESSED_FILL, False)
    by_u = (e * b[:, 1:] - f * a[:, 1:])[good] / double[good, None]
    by_v = (f * a[:, :1] - e * b[:, :1])[good] / double[good, None]
    weight = np.abs(double[good])
    ways = by_u * weight[:, None], by_v * weight[:, None]
    return SetFigures(area, min(max(fill, 1e-4), 1.0), True, ways)


def lit_parts(scene: Scene, destination: Destination, assignment: Assignment | None = None) -> tuple[I64, Lit]:
    """(P,) nodes that get a lightmap, and what a budget has to know of them. O(parts + triangles of meshes)."""
    nodes, channel = scene.nodes, destination.lightmap_channel
    wanted = (nodes.mesh >= 0) & ((nodes.flags & (HIDDEN | NO_LIGHTMAP)) == 0)
    weight: F64 = np.ones(len(nodes))
    if assignment is not None and assignment.sets:
        weight, spared = weights(scene, assignment)
        wanted &= ~spared
    rows: I64 = np.flatnonzero(wanted)
    mesh = nodes.mesh[rows]
    used = np.unique(mesh)
    table = np.zeros((len(scene.meshes) + 1, 2))
    linear = nodes.world[rows, :3, :3]
    along, bent = np.ones(len(rows)), uneven(linear)
    order = np.argsort(mesh, kind="stable")
    begin = np.searchsorted(mesh[order], used)
    for i, here in zip(used.tolist(), np.split(order, begin[1:]) if len(used) else [], strict=True):
        own = set_figures(scene.meshes[i], channel)
        table[i] = own.area, own.fill
        along[here] = own.along()
        if len(stretched := here[bent[here]]):
            along[stretched] = own.along(linear[stretched])
    area: F64 = table[mesh, 0] * (surface_scales(scene, rows) * scene.convention.metres_per_unit) ** 2
    map_ = nodes.lightmap[rows]
    known = map_[:, 0] > 0
    aspect = np.where(known, map_[:, 1] / np.maximum(map_[:, 0], 1), shape_of(along, destination))
    keep = area > 0
    lit = Lit(area, table[mesh, 1], aspect, weight[rows], area, np.where(known, map_[:, 0], 0).astype(np.int64))
    return rows[keep], lit.of(keep)


def shape_of(along: F64, destination: Destination) -> F64:
    """Height by width of maps whose texels are to be square, as the destination takes them."""
    if destination.lightmap_maps == "square":
        return np.ones_like(along)
    power = 2.0 ** np.round(np.log2(np.clip(along, 1 / 64, 64)))
    return np.asarray(power, np.float64)


def weights(scene: Scene, assignment: Assignment) -> tuple[F64, Bool]:
    """(N,) weight that a part's set gives it, 1 without one; and (N,) whether it is to get no light of its own."""
    winner = assignment.of(scene)
    every = np.array([*(s.treatment.lightmap_weight for s in assignment.sets), 1.0])
    spared = np.array([*(not s.treatment.unwrapped for s in assignment.sets), False])
    return every[winner], spared[winner]


def weights_of(own: F64, flat: Bool, hidden: Bool, ceiling: float, unseen: float) -> F64:
    """(P,) weights: those of a set hold; of the others what is flat and high, and what nobody sees, counts less."""
    free = own == 1
    out: F64 = own * np.where(free & flat, ceiling, 1.0) * np.where(free & hidden, unseen, 1.0)
    return out


def limits_of(destination: Destination, largest: int) -> Limits:
    """What maps a destination takes, none longer than said."""
    largest = min(largest, destination.max_texture)
    return Limits(destination.lightmap_maps, largest, destination.frame.light_bytes)


def ceilings(scene: Scene, rows: I64) -> Bool:
    """(P,) parts that are flat and lie above head height over what is lowest: ceilings and roofs, by their boxes alone."""
    if not len(rows):
        return np.zeros(0, np.bool_)
    axis = int(np.argmax(np.abs(axis_vector(scene.convention.up))))
    way = float(axis_vector(scene.convention.up)[axis])
    boxes = scene.part_bounds[np.searchsorted(scene.nodes.parts, rows)] * scene.convention.metres_per_unit
    size = boxes[:, 1] - boxes[:, 0]
    flat = size[:, axis] < FLAT * np.delete(size, axis, axis=1).min(axis=1)
    base = boxes[:, 0, axis] if way > 0 else -boxes[:, 1, axis]
    lowest = float(np.percentile(base, 5))
    out: Bool = flat & (base > lowest + HEAD_M)
    return out
