"""Edges of more than two triangles, taken apart: what hangs together around a vertex keeps it, the rest gets its own.

Triangles around an edge are paired by the solid between them, in the order of their angle about it; what is left over
(a wall that stands on a floor) is a sheet of its own. Vertices are then cut along what does not belong together, as in
Guéziec et al., Cutting and Stitching, 2001, and the copies drawn a little into their own side, since receivers join
vertices that stand at one place.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.geometry.shells import first_alike, sorted_edges, welded_faces
from tidy_caravan.core.geometry.solids import linked, touching_solids
from tidy_caravan.core.geometry.vertices import many_sided
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F64, I64

ROUNDS = 4
ROUNDING = 8e-6
"""Part of a mesh's size from which on two places are told apart for certain."""
QUARTER = 0.25
"""Of the shortest edge at a vertex: it is drawn in no further."""


@dataclass(frozen=True)
class Parted:
    """source: (V',) vertices of the mesh before. indices: (F, 3). positions: (V', 3). left: edges that stay as they are,
    because their triangles are too small for it, or the mesh too large."""

    source: I64
    indices: I64
    positions: F64
    left: int


def parted(mesh: Mesh, offset: float) -> Parted | None:
    """The mesh without edges of more than two triangles, copies drawn in by `offset`, in its own units; None where there
    is none. O(F log F) and the triangles around such edges."""
    before = len(many_sided(mesh)[0])
    if not before:
        return None
    box = mesh.bounds
    if offset < ROUNDING * float(np.linalg.norm(box[1] - box[0])):
        return Parted(
            np.arange(mesh.vertices), mesh.indices.astype(np.int64), mesh.positions.astype(np.float64), before
        )
    source, indices = np.arange(mesh.vertices), mesh.indices.astype(np.int64)
    positions = mesh.positions.astype(np.float64)
    now = mesh
    for _ in range(ROUNDS):
        source, indices, positions = cut(now, source, indices, positions, offset)
        now = mesh.with_vertices(source, indices=indices.astype(np.uint32), positions=positions.astype(np.float32))
        if not len(many_sided(now)[0]):
            break
    return Parted(source, indices, positions, len(many_sided(now)[0]))


def cut(mesh: Mesh, source: I64, indices: I64, positions: F64, offset: float) -> tuple[I64, I64, F64]:
    """One round: every vertex of such an edge cut into the fans around it, all but the largest drawn in."""
    faces, places = welded_faces(mesh)
    points = np.zeros((places, 3))
    points[faces.reshape(-1)] = positions[indices.reshape(-1)]
    torn = set(faces[np.isin(mesh.indices, many_sided(mesh)[0])].tolist())
    near: dict[int, list[tuple[int, int]]] = defaultdict(list)
    for place, one, other in zip(*(rows.tolist() for rows in bound(mesh)), strict=True):
        if place in torn:
            near[place].append((one, other))
    of_place: dict[int, list[int]] = defaultdict(list)
    touched = np.flatnonzero(np.isin(faces, list(torn)).any(axis=1))
    for f in touched.tolist():
        for place in dict.fromkeys(faces[f].tolist()):  # a triangle without area may be there with two corners
            if place in torn:
                of_place[place].append(f)
    source, indices, moved = source.copy(), indices.copy(), positions.copy()
    added: list[int] = []
    where: list[F64] = []
    for place, own in of_place.items():
        fans = grouped(own, near.get(place, []))
        fans.sort(key=lambda fan: (-len(fan), fan[0]))
        for fan in fans[1:]:
            others = [p for f in fan for p in faces[f].tolist() if p != place]
            if not others:  # all of it is in this one point, and stays there
                continue
            into = points[faces[fan]].mean(axis=(0, 1)) - points[place]
            long = float(np.linalg.norm(into))
            shortest = float(np.linalg.norm(points[others] - points[place], axis=1).min())
            step = min(offset, QUARTER * shortest)
            new = points[place] + (into / long * step if long > 0 else 0.0)
            copies: dict[int, int] = {}
            for f in fan:
                for corner in np.flatnonzero(faces[f] == place).tolist():
                    was = int(indices[f, corner])
                    if was not in copies:
                        copies[was] = len(moved) + len(added)
                        added.append(int(source[was]))
                        where.append(new)
                    indices[f, corner] = copies[was]
    if added:
        source, moved = np.concatenate([source, added]), np.concatenate([moved, np.array(where)])
    return source, indices, moved


def bound(mesh: Mesh) -> tuple[I64, I64, I64]:
    """(L,) places, and (L,) and (L,) triangles that hang together there: over an edge of it, because they are the two sides of
    a sheet, or because one repeats the other."""
    faces, _ = welded_faces(mesh)
    first, _, whole = first_alike(mesh)
    again = np.flatnonzero(whole & (first != np.arange(len(first))))
    keep = whole.copy()
    keep[again] = False
    rows = np.flatnonzero(keep)
    less = mesh.with_triangles(keep)
    e = sorted_edges(less)
    one, other, edge = linked(less, e)
    own, side = rows[e.owner[edge]], e.half[edge] // max(len(rows), 1)
    part, solid = touching_solids(less)
    pairs = twins(less)
    pairs = rows[pairs[~solid[part[pairs]].all(axis=1)]]
    out = [(faces[own, (side + k) % 3], rows[one], rows[other]) for k in range(2)]
    out += [(faces[pairs[:, 0], k], pairs[:, 0], pairs[:, 1]) for k in range(3)]
    out += [(faces[again, k], again, first[again]) for k in range(3)]
    place, left, right = (np.concatenate(column) for column in zip(*out, strict=True))
    return place, left, right


def twins(mesh: Mesh) -> I64:
    """(K, 2) triangles that stand in one place and look opposite ways."""
    plain = np.sort(welded_faces(mesh)[0], axis=1)
    order = np.lexsort(plain.T)
    same = np.flatnonzero((plain[order[1:]] == plain[order[:-1]]).all(axis=1))
    return np.column_stack([order[same], order[same + 1]])


def grouped(members: list[int], links: list[tuple[int, int]]) -> list[list[int]]:
    """Members that hang together over links, each group in order."""
    root = {m: m for m in members}

    def find(m: int) -> int:
        while root[m] != m:
            root[m] = root[root[m]]
            m = root[m]
        return m

    for a, b in links:
        if a in root and b in root:
            root[find(a)] = find(b)
    out: dict[int, list[int]] = defaultdict(list)
    for m in members:
        out[find(m)].append(m)
    return list(out.values())
