"""Small meshes laid end to end, so that a hundred thousand of them are asked at once what is asked of each.

Only what is out of the ordinary has to be looked at by itself: a lot says which of its meshes are.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from tidy_caravan.core.geometry.faults import degenerate, uv_areas
from tidy_caravan.core.geometry.shells import (
    FLAT,
    LEAST,
    WELD_SIZE,
    WELD_STEPS,
    SortedEdges,
    components,
    edges_between,
)
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, Bool, chunks

SMALL = 1000
"""Triangles up to which a mesh is asked together with others; it may have four times as many vertices."""
TOGETHER = 100_000
"""Triangles that are asked at once."""
SPARE = 1e-6
"""What is this part further apart than vertices that are joined is looked at by itself: rounding must not decide."""


@dataclass(frozen=True)
class Lot:
    """M meshes that have the same kinds of arrays. all: them as one. vertex, face: (M + 1,) where each begins."""

    all: Mesh
    vertex: I64
    face: I64

    @classmethod
    def of(cls, pieces: Sequence[Mapping[str, AnyArray]]) -> Lot:
        """Of arrays as of `work.meshes.arrays_of`, each with the same names as the first and nothing but these."""
        vertex = np.cumsum([0, *(len(p["positions"]) for p in pieces)])
        face = np.cumsum([0, *(len(p["indices"]) for p in pieces)])
        joined: dict[str, AnyArray] = {name: np.concatenate([p[name] for p in pieces]) for name in pieces[0]}
        joined["indices"] = (joined["indices"] + np.repeat(vertex[:-1], np.diff(face))[:, None]).astype(np.uint32)
        several = {kind: tuple(joined[name] for name in joined if name.startswith(kind)) for kind in ("uv", "color")}
        whole = Mesh(
            joined["positions"], joined["indices"], joined["material"], joined.get("normals"), joined.get("tangents"),
            several["uv"], several["color"],
        )  # fmt: skip
        return cls(whole, vertex.astype(np.int64), face.astype(np.int64))

    def __len__(self) -> int:
        return len(self.face) - 1

    @cached_property
    def of_vertex(self) -> I64:
        """(V,) the mesh of each vertex."""
        return np.repeat(np.arange(len(self)), np.diff(self.vertex))

    @cached_property
    def of_face(self) -> I64:
        """(F,) the mesh of each triangle."""
        return np.repeat(np.arange(len(self)), np.diff(self.face))

    @cached_property
    def local(self) -> I64:
        """(F, 3) the triangles over the vertices of their own mesh."""
        out: I64 = self.all.indices.astype(np.int64) - self.vertex[self.of_face][:, None]
        return out

    @cached_property
    def triangles(self) -> I64:
        """(M,)"""
        return np.diff(self.face)

    def marked(self, owner: AnyArray) -> Bool:
        """(M,) True for the meshes that are named."""
        out = np.zeros(len(self), np.bool_)
        out[owner] = True
        return out

    def counted(self, owner: AnyArray) -> list[int]:
        """(M,) how often each mesh is named."""
        out: list[int] = np.bincount(owner, minlength=len(self)).tolist()
        return out

    @cached_property
    def used(self) -> Bool:
        """(V,) vertices that triangles refer to."""
        out = np.zeros(self.all.vertices, np.bool_)
        out[self.all.used] = True
        return out

    @cached_property
    def diagonal(self) -> F64:
        """(M,) of the box of the used vertices; 0 without any."""
        out = np.zeros(len(self))
        some = np.flatnonzero(self.triangles > 0)
        if len(some):
            corners = self.all.positions[self.all.indices.reshape(-1)].astype(np.float64)
            begin = 3 * self.face[some]
            span = np.maximum.reduceat(corners, begin) - np.minimum.reduceat(corners, begin)
            out[some] = np.linalg.norm(span, axis=1)
        return out

    @cached_property
    def welded(self) -> tuple[I64, I64]:
        """(F, 3) faces over places, vertices of a mesh at one position being one; and (P,) a vertex of each place."""
        points = self.all.positions
        order = np.lexsort((*points.T, self.of_vertex))
        ordered, owner = points[order], self.of_vertex[order]
        new = np.ones(len(order), np.bool_)
        new[1:] = (ordered[1:] != ordered[:-1]).any(axis=1) | (owner[1:] != owner[:-1])
        place = np.empty(len(order), np.int64)
        place[order] = np.cumsum(new) - 1
        return place[self.all.indices], order[new]

    @cached_property
    def edges(self) -> SortedEdges:
        faces, places = self.welded
        return edges_between(faces, len(places))

    @cached_property
    def apart(self) -> Bool:
        """(M,) meshes that are numbers throughout, whose edges have two triangles at most, which do not run along one the
        same way, and whose open edges' vertices are further apart than by rounding. None of their triangles stands twice."""
        bad = self.marked(self.of_vertex[~np.isfinite(self.all.positions).all(axis=1)]) | (self.triangles == 0)
        e = self.edges
        two = e.begin[e.times == 2]
        bad |= self.marked(self.of_face[e.owner[two[e.forward[two] == e.forward[two + 1]]]])
        bad |= self.marked(self.of_face[e.owner[e.begin[e.times > 2]]])
        out: Bool = ~bad
        return out & ~self.near_ends(out)

    def near_ends(self, asked: Bool) -> Bool:
        """(M,) those of the meshes that are asked of which two ends of open edges may count as one, as `shells.near_ends` has
        it, or nearly."""
        from scipy.spatial import cKDTree

        e = self.edges
        rows = e.begin[e.times == 1]
        rows = rows[asked[self.of_face[e.owner[rows]]]]
        if not len(rows):
            return np.zeros(len(self), np.bool_)
        low, high = e.ends(rows)
        points = self.all.positions[self.welded[1]].astype(np.float64)
        owner = self.of_face[e.owner[rows]]
        shortest = np.full(len(self), np.inf)
        np.minimum.at(shortest, owner, np.linalg.norm(points[low] - points[high], axis=1))
        open_ = np.unique(np.concatenate([low, high]))
        mine = self.of_vertex[self.welded[1][open_]]
        farthest = np.zeros(len(self))
        np.maximum.at(farthest, mine, np.abs(points[open_]).max(axis=1))
        step = np.spacing(farthest.astype(np.float32)).astype(np.float64)
        reach = np.minimum(np.maximum(WELD_STEPS * step, WELD_SIZE * self.diagonal), shortest / 4)
        # in reaches of the own mesh, meshes three of them apart along a fourth axis
        there = np.column_stack([points[open_] / reach[mine][:, None], 3.0 * mine])
        return self.marked(mine[cKDTree(there).query_pairs(1 + SPARE, output_type="ndarray")[:, 0]])

    @cached_property
    def ordinary(self) -> Bool:
        """(M,) those of them that have no triangle without area either: their surface has no fault."""
        faces = self.welded[0]
        bad = degenerate(self.all) | (faces == faces[:, [1, 2, 0]]).any(axis=1)
        return self.apart & ~self.marked(self.of_face[bad])

    @cached_property
    def shells(self) -> LotShells:
        """What hangs together over edges; true of ordinary meshes."""
        e, count = self.edges, self.all.triangles
        later = np.ones(len(e.owner), np.bool_)
        later[e.begin] = False
        inner = np.flatnonzero(later)
        shells, label = components(e.owner[inner - 1], e.owner[inner], count)
        triangles = np.bincount(label, minlength=shells)
        owner = np.zeros(shells, np.int64)
        owner[label] = self.of_face
        shut = np.ones(shells, np.bool_)
        shut[label[e.owner[e.begin[e.times == 1]]]] = False
        a, b, c = (self.all.positions[self.all.indices[:, k]].astype(np.float64) for k in range(3))
        low, high = np.full((shells, 3), np.inf), np.full((shells, 3), -np.inf)
        np.minimum.at(low, label, np.minimum(np.minimum(a, b), c))
        np.maximum.at(high, label, np.maximum(np.maximum(a, b), c))
        about = a - ((low + high) / 2)[label]
        (x, y, z), (ux, uy, uz), (vx, vy, vz) = about.T, (b - a).T, (c - a).T
        sixth = x * (uy * vz - uz * vy) + y * (uz * vx - ux * vz) + z * (ux * vy - uy * vx)
        volume = np.bincount(label, sixth, minlength=shells) / 6
        closed = shut & (triangles >= LEAST)
        inwards = closed & (volume < -FLAT * np.linalg.norm(high - low, axis=1) ** 3)
        return LotShells(owner, triangles, shut, closed, inwards)

    @cached_property
    def plain_pieces(self) -> I64:
        """(M,) of how many pieces each is, as `pieces.by_shell` has them; 0 of those where solids may touch."""
        by_edges = np.bincount(self.shells.owner, minlength=len(self))
        out: I64 = np.where(self.apart & (self.pieces == by_edges), by_edges, 0)
        return out

    @cached_property
    def pieces(self) -> I64:
        """(M,) how many pieces of each hang together by places."""
        faces, places = self.welded
        a = np.concatenate([faces[:, 0], faces[:, 1]])
        b = np.concatenate([faces[:, 1], faces[:, 2]])
        _, label = components(a, b, len(places))
        first = np.zeros(len(places), np.int64)
        first[label[faces[:, 0]]] = self.of_face + 1
        return np.bincount(first[first > 0] - 1, minlength=len(self))


@dataclass(frozen=True)
class LotShells:
    """(K,) each: the mesh, triangles, whether no edge is open, whether closed, and whether it looks inwards."""

    owner: I64
    triangles: I64
    shut: Bool
    closed: Bool
    inwards: Bool


def lots_of(pieces: Sequence[Mapping[str, AnyArray]]) -> Iterator[tuple[list[int], Lot]]:
    """Lots of those pieces that are small, numbers throughout and surfaces with coordinates and colours alone, and which
    ones they are."""
    alike: dict[tuple[str, ...], list[int]] = defaultdict(list)
    for k, arrays in enumerate(pieces):
        if 0 < len(arrays["indices"]) <= SMALL and len(arrays["positions"]) <= 4 * SMALL:
            alike[tuple(arrays)].append(k)
    for names, rows in alike.items():
        if any(name.startswith("extra") for name in names):
            continue
        for run in chunks(np.array([len(pieces[k]["indices"]) for k in rows]), TOGETHER):
            some = [rows[k] for k in run.tolist()]
            places = [pieces[k]["positions"] for k in some]
            bad = ~np.isfinite(np.concatenate([np.zeros((0, 3)), *places])).all(axis=1)
            if bad.any():
                owner = np.repeat(some, [len(p) for p in places])
                some = sorted(set(some) - set(owner[bad].tolist()))
            if some:
                yield some, Lot.of([pieces[k] for k in some])


def uv_areas_of(lot: Lot) -> list[list[list[float]]]:
    """`faults.uv_areas` of each mesh of a lot."""
    span = int(lot.all.material.max()) + 2
    key = lot.of_face * span + lot.all.material + 1
    whole = replace(lot.all, material=np.unique(key, return_inverse=True)[1].reshape(-1).astype(np.int32))
    out: list[list[list[float]]] = [[] for _ in range(len(lot))]
    for named, sums in zip(np.unique(key).tolist(), uv_areas(whole).tolist(), strict=False):
        out[named // span].append([float(named % span - 1), *sums[1:]])
    return out
