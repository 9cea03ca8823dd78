"""Subdivision surfaces: Catmull and Clark (1978), Loop (1987), bilinear, with creases as in DeRose et al. (1998)."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from tidy_caravan.core.geometry.triangulate import fan_or_ears
from tidy_caravan.core.scene.arrays import F64, I64

INFINITE = 10.0
"""Sharpness from which on an edge stays sharp at every level, as in the common practice of the formats."""


@dataclass(frozen=True)
class Cage:
    """Polygons to be refined.

    points: (P, 3). corner: (C,) point of each corner, faces one after another. counts: (F,) corners per face.
    uvs: one (C, 2) per set, interpolated linearly. face: (F,) number of the face it comes from.
    edges, sharpness: (E, 2) creased edges by points, (E,). corners, corner_sharpness: (K,), (K,).
    """

    points: F64
    corner: I64
    counts: I64
    uvs: tuple[F64, ...] = ()
    face: I64 = field(default_factory=lambda: np.zeros(0, np.int64))
    edges: I64 = field(default_factory=lambda: np.zeros((0, 2), np.int64))
    sharpness: F64 = field(default_factory=lambda: np.zeros(0))
    corners: I64 = field(default_factory=lambda: np.zeros(0, np.int64))
    corner_sharpness: F64 = field(default_factory=lambda: np.zeros(0))


def refine(cage: Cage, scheme: str, level: int) -> Cage:
    """The cage after `level` rounds; four faces for one (Catmull-Clark: one per corner) at each."""
    if not len(cage.face):
        cage = replace(cage, face=np.arange(len(cage.counts)))
    if scheme == "loop":
        cage = triangles_of(cage)
    for _ in range(level):
        cage = once(cage, scheme)
    return cage


def triangles_of(cage: Cage) -> Cage:
    if (cage.counts == 3).all():
        return cage
    triangles, owner = fan_or_ears(cage.points[cage.corner], cage.counts)
    flat = triangles.ravel()
    return replace(
        cage,
        corner=cage.corner[flat],
        counts=np.full(len(triangles), 3, np.int64),
        uvs=tuple(u[flat] for u in cage.uvs),
        face=cage.face[owner],
    )


def means(values: F64, index: I64, count: int) -> F64:
    """(count, W) mean of the rows of `values` (N, W) that belong to each index."""
    total = np.column_stack([np.bincount(index, values[:, k], minlength=count) for k in range(values.shape[1])])
    out: F64 = total / np.maximum(np.bincount(index, minlength=count), 1)[:, None]
    return out


def once(cage: Cage, scheme: str) -> Cage:
    p, corner, counts = cage.points, cage.corner, cage.counts
    faces, corners, points = len(counts), len(corner), len(p)
    face_of = np.repeat(np.arange(faces), counts)
    first = np.cumsum(counts) - counts
    here = np.arange(corners)
    following = np.where(here + 1 == first[face_of] + counts[face_of], first[face_of], here + 1)
    before = np.empty(corners, np.int64)
    before[following] = here
    a, b = corner, corner[following]
    key = np.minimum(a, b) * points + np.maximum(a, b)
    edge_key, edge_of = np.unique(key, return_inverse=True)
    edges = len(edge_key)
    ends = np.stack([edge_key // points, edge_key % points], axis=1)
    uses = np.bincount(edge_of, minlength=edges)
    sharp = np.where(uses == 2, 0.0, INFINITE)
    if len(cage.edges):
        creased = np.minimum(cage.edges[:, 0], cage.edges[:, 1]) * points + np.maximum(
            cage.edges[:, 0], cage.edges[:, 1]
        )
        at = np.searchsorted(edge_key, creased)
        known = (at < edges) & (edge_key[np.minimum(at, edges - 1)] == creased)
        np.maximum.at(sharp, at[known], cage.sharpness[known])
    middle = (p[ends[:, 0]] + p[ends[:, 1]]) / 2
    centre = means(p[corner], face_of, faces)
    smooth = scheme != "bilinear"
    edge_point = middle.copy()
    vertex_point = p.copy()
    if smooth:
        blend = np.clip(sharp, 0.0, 1.0)[:, None]
        if scheme == "loop":
            opposite = means(p[corner[before]], edge_of, edges)
            soft = middle * 0.75 + opposite * 0.25
        else:
            soft = (middle + means(centre[face_of], edge_of, edges)) / 2
        edge_point = soft * (1 - blend) + middle * blend
        vertex_point = moved_vertices(cage, scheme, ends, sharp, middle, centre, face_of)
    halves = np.arange(edges) + points
    sharp_left = np.where(sharp >= INFINITE, sharp, np.maximum(sharp - 1.0, 0.0))
    kept = sharp_left > 0
    new_edges = np.concatenate(
        [np.stack([ends[kept, 0], halves[kept]], axis=1), np.stack([halves[kept], ends[kept, 1]], axis=1)]
    )
    corner_left = np.where(
        cage.corner_sharpness >= INFINITE, cage.corner_sharpness, np.maximum(cage.corner_sharpness - 1.0, 0.0)
    )

    def uv_parts(uv: F64) -> tuple[F64, F64, F64]:
        return (uv + uv[following]) / 2, (uv + uv[before]) / 2, means(uv, face_of, faces)[face_of]

    common = {
        "edges": new_edges,
        "sharpness": np.concatenate([sharp_left[kept]] * 2),
        "corner_sharpness": corner_left,
    }
    if scheme == "loop":
        outer = np.stack([corner, edge_of + points, edge_of[before] + points], axis=1)
        inner = edge_of.reshape(-1, 3) + points
        uvs = []
        for uv in cage.uvs:
            ahead, behind, _ = uv_parts(uv)
            uvs.append(np.concatenate([np.stack([uv, ahead, behind], axis=1).reshape(-1, 2), ahead]))
        return replace(
            cage,
            points=np.concatenate([vertex_point, edge_point]),
            corner=np.concatenate([outer.ravel(), inner.ravel()]),
            counts=np.full(faces * 4, 3, np.int64),
            uvs=tuple(uvs),
            face=np.concatenate([cage.face[face_of], cage.face]),
            **common,
        )
    quads = np.stack([corner, edge_of + points, face_of + points + edges, edge_of[before] + points], axis=1)
    uvs = []
    for uv in cage.uvs:
        ahead, behind, mid = uv_parts(uv)
        uvs.append(np.stack([uv, ahead, mid, behind], axis=1).reshape(-1, 2))
    return replace(
        cage,
        points=np.concatenate([vertex_point, edge_point, centre]),
        corner=quads.ravel(),
        counts=np.full(corners, 4, np.int64),
        uvs=tuple(uvs),
        face=cage.face[face_of],
        **common,
    )


def moved_vertices(cage: Cage, scheme: str, ends: I64, sharp: F64, middle: F64, centre: F64, face_of: I64) -> F64:
    """(P, 3) vertex points: smooth, crease and corner rules, blended by the mean sharpness of the creases."""
    p = cage.points
    points = len(p)
    both = ends.ravel()
    valence = np.bincount(both, minlength=points).astype(np.float64)
    n = np.maximum(valence, 1)[:, None]
    other = means(p[ends[:, ::-1].ravel()], both, points)
    if scheme == "loop":
        turn = (3 / 8 + np.cos(2 * np.pi / np.maximum(valence, 1)) / 4) ** 2
        weight = ((5 / 8 - turn) / np.maximum(valence, 1))[:, None]
        soft = p * (1 - n * weight) + other * n * weight
    else:
        faces = means(centre[face_of], cage.corner, points)
        around = means(np.repeat(middle, 2, axis=0), both, points)
        soft = (faces + 2 * around + (n - 3) * p) / n
    is_sharp = np.repeat(sharp > 0, 2)
    creases = np.bincount(both[is_sharp], minlength=points)
    along = means(p[ends[:, ::-1].ravel()][is_sharp], both[is_sharp], points)
    crease = p * 0.75 + along * 0.25
    strength = np.clip(means(np.repeat(sharp, 2)[is_sharp][:, None], both[is_sharp], points), 0.0, 1.0)
    fixed = np.where(creases > 2, 1.0, 0.0)
    # a boundary vertex of one face only is a corner of the sheet (rule “edge and corner”)
    single = (np.bincount(cage.corner, minlength=points) == 1) & (creases >= 2)
    fixed[single] = 1.0
    if len(cage.corners):
        good = (cage.corners >= 0) & (cage.corners < points)
        np.maximum.at(fixed, cage.corners[good], np.clip(cage.corner_sharpness[good], 0.0, 1.0))
    out: F64 = np.where((creases == 2)[:, None], crease * strength + soft * (1 - strength), soft)
    corner = p * strength + soft * (1 - strength)
    out = np.where((creases > 2)[:, None], corner, out)
    explicit = (fixed > 0) & ~(creases > 2)
    out[explicit] = p[explicit] * fixed[explicit, None] + out[explicit] * (1 - fixed[explicit, None])
    out[valence == 0] = p[valence == 0]
    return out
