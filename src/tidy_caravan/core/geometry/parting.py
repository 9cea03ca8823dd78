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

from tidy_caravan.core.geometry.shells import owned_edges, welded_faces
from tidy_caravan.core.geometry.vertices import many_sided
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F64, I64, Bool

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
    _, kept = many_sided(mesh)
    points = np.zeros((places, 3))
    points[faces.reshape(-1)] = positions[indices.reshape(-1)]
    half, owner, key = owned_edges(faces[kept], places)
    owner = kept[owner]
    order = np.argsort(key, kind="stable")
    begin = np.flatnonzero(np.concatenate([[True], key[order][1:] != key[order][:-1]]))
    times = np.diff(np.append(begin, len(order)))
    # who hangs together with whom over an edge: both triangles of a plain one, the pairs of the others
    plain = begin[times == 2]
    together = [np.column_stack([owner[order[plain]], owner[order[plain + 1]], key[order[plain]]])]
    torn: set[int] = set()
    for b, n in zip(begin[times > 2].tolist(), times[times > 2].tolist(), strict=True):
        rows = order[b : b + n]
        low, high = divmod(int(key[rows[0]]), places)
        torn |= {low, high}
        third = faces[owner[rows]].sum(axis=1) - low - high
        forward = half[rows, 0] == low
        pairs = around(points[low], points[high], points[third], forward)
        together.append(
            np.array([[owner[rows[i]], owner[rows[j]], key[rows[0]]] for i, j in pairs], np.int64).reshape(-1, 3)
        )
    links = np.concatenate(together)
    ends = np.column_stack(np.divmod(links[:, 2], places))
    near: dict[int, list[tuple[int, int]]] = defaultdict(list)
    for side in (0, 1):
        hit = np.isin(ends[:, side], list(torn))
        for place, one, other in zip(
            ends[hit, side].tolist(), links[hit, 0].tolist(), links[hit, 1].tolist(), strict=True
        ):
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


def around(low: F64, high: F64, third: F64, forward: Bool) -> list[tuple[int, int]]:
    """Pairs of triangles around the edge from low to high (K,) that enclose a solid: one that runs it backwards, then,
    turning on about the edge, the next that is not taken and runs it forwards."""
    axis = (high - low) / max(float(np.linalg.norm(high - low)), 1e-300)
    out = third - low
    out -= (out @ axis)[:, None] * axis
    first = out[0] / max(float(np.linalg.norm(out[0])), 1e-300)
    angle = np.arctan2(out @ np.cross(axis, first), out @ first)
    # of two at one angle the one that closes a solid comes before the one that opens the next
    order = np.lexsort((~forward, np.round(angle, 9))).tolist()
    pairs: list[tuple[int, int]] = []
    taken: set[int] = set()
    waiting: list[int] = []
    for i in order + order:
        if i in taken:
            continue
        if not forward[i]:
            if i not in waiting:
                waiting.append(i)
        elif waiting:
            mate = waiting.pop()
            pairs.append((mate, i))
            taken |= {mate, i}
    return pairs


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
