"""Where a fault is: lines in the world that show it, for the view and for a picture of the place."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING

import numpy as np
from pydantic import BaseModel, ConfigDict, Field
from pydantic.alias_generators import to_camel

from tidy_caravan.core.geometry.corners import first_equals
from tidy_caravan.core.geometry.vertices import not_finite
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, Bool
from tidy_caravan.core.work.pairs import fingerprints

if TYPE_CHECKING:
    from tidy_caravan.core.surroundings.flicker import Flicker
    from tidy_caravan.core.surroundings.gaps import Gaps

MOST_PLACES = 100
"""Places of one finding that are kept, the worst first."""
MOST_LINES = 160
"""Lines of one place …"""
ALL_LINES = 3_000
"""… and of all places of a finding; those behind have their parts alone."""
AT_ONCE = 10
"""Places whose lines are looked for together."""
MOST_TRIANGLES = 200_000
"""Triangles of a mesh up to which the lines of its fault are looked for again."""
ALIKE = 1e-7
"""Ends of lines are one within this part of what they outline."""


class Place(BaseModel):
    """One place of a finding. parts: nodes. lines: each x, y, z of one end and of the other, in the scene's own numbers;
    none where the parts as a whole are the place. value: in `unit`, of this place alone."""

    model_config = ConfigDict(alias_generator=to_camel, populate_by_name=True)

    parts: list[int]
    lines: list[list[float]] = Field(default_factory=list)
    value: float | None = None
    unit: str = ""
    text: str = ""
    """What there is to say of this place by itself."""


def place(parts: Iterable[int], lines: F64, value: float | None = None, unit: str = "") -> Place:
    """A place with lines (L, 2, 3)."""
    finite = lines[np.isfinite(lines).all(axis=(1, 2))][:MOST_LINES]
    return Place(parts=[int(p) for p in parts], lines=finite.reshape(-1, 6).tolist(), value=value, unit=unit)


def within_budget(places: list[Place]) -> list[Place]:
    """The places, those behind the first few thousand lines without any."""
    ends = np.cumsum([len(p.lines) for p in places])
    return [p if end <= ALL_LINES else p.model_copy(update={"lines": []}) for p, end in zip(places, ends, strict=True)]


def rims(lines: F64) -> F64:
    """(L, 2, 3) those of the lines around outlines that no two of them share."""
    return lines[rims_of_each(lines, np.zeros(len(lines), np.int64))]


def rims_of_each(lines: F64, group: I64) -> Bool:
    """(L,) which of the lines (L, 2, 3) around outlines no other of their group (L,), ascending, shares."""
    if not len(lines):
        return np.zeros(0, np.bool_)
    begin = np.flatnonzero(np.concatenate([[True], group[1:] != group[:-1]]))
    number = np.repeat(np.arange(len(begin)), np.diff(np.append(begin, len(lines))))
    low = np.minimum.reduceat(lines.min(axis=1), begin)
    size = (np.maximum.reduceat(lines.max(axis=1), begin) - low).max(axis=1)
    step = np.where(size > 0, size * ALIKE, 1.0)
    cells = np.rint((lines - low[number, None]) / step[number, None, None]).astype(np.int64)
    # both ways of a line are one: its lower end, by the first axis that tells them apart, comes first
    way = np.sign(cells[:, 1] - cells[:, 0])
    swap = way[np.arange(len(way)), (way != 0).argmax(axis=1)] < 0
    cells[swap] = cells[swap][:, ::-1]
    first = first_equals(fingerprints([number, cells])[:, 0])
    times = np.bincount(first, minlength=len(lines))
    out: Bool = (times[first] == 1) & (lines[:, 0] != lines[:, 1]).any(axis=1)
    return out


def box_lines(box: F64) -> F64:
    """(12, 2, 3) the edges of a box (2, 3)."""
    corners = np.array([[box[i, 0], box[j, 1], box[k, 2]] for i in (0, 1) for j in (0, 1) for k in (0, 1)])
    ends = [(a, a | bit) for bit in (1, 2, 4) for a in range(8) if not a & bit]
    out: F64 = corners[np.array(ends)]
    return out


def around(which: Callable[[Mesh], Bool], each: bool = False) -> Callable[[Mesh], F64]:
    """Lines around the triangles (F,) of a mesh that `which` marks, around all of them together or around each: the
    sides of what has no area stand on one another."""

    def lines(mesh: Mesh) -> F64:
        corners = mesh.positions.astype(np.float64)[mesh.indices[which(mesh)][:MOST_LINES]]
        sides = np.stack([corners, np.roll(corners, -1, axis=1)], axis=2).reshape(-1, 2, 3)
        return sides if each else rims(sides)

    return lines


def in_meshes(scene: Scene, values: AnyArray, unit: str, lines: Callable[[Mesh], F64]) -> list[Place]:
    """One place for each mesh with a value (M,) above nought, the largest first, on the first of its parts."""
    nodes = scene.nodes
    first = np.full(len(scene.meshes), -1, np.int64)
    first[nodes.mesh[nodes.parts][::-1]] = nodes.parts[::-1]
    rows = np.flatnonzero((values > 0) & (first >= 0))
    rows = rows[np.argsort(-values[rows], kind="stable")][:MOST_PLACES]
    out = []
    for i in rows.tolist():
        mesh = scene.meshes[i]
        if (bad := not_finite(mesh)).any():
            mesh = mesh.with_triangles(np.flatnonzero(~bad))
        own = lines(mesh) if mesh.triangles <= MOST_TRIANGLES else np.zeros((0, 2, 3))
        out.append(place([first[i]], moved(scene, int(first[i]), own), float(values[i]), unit))
    return within_budget(out)


def moved(scene: Scene, node: int, lines: F64) -> F64:
    """Lines (L, 2, 3) of a mesh where a node draws it."""
    world = scene.nodes.world[node]
    out: F64 = lines @ world[:3, :3].T + world[:3, 3]
    return out


def corners_in_world(scene: Scene, nodes: AnyArray, triangles: AnyArray) -> F64:
    """(K, 3, 3) corners of one triangle each of nodes (K,)."""
    out = np.zeros((len(nodes), 3, 3))
    for node in np.unique(nodes).tolist():
        rows = nodes == node
        mesh = scene.meshes[scene.nodes.mesh[node]]
        world = scene.nodes.world[node]
        own = mesh.positions.astype(np.float64)[mesh.indices[triangles[rows]]]
        out[rows] = own @ world[:3, :3].T + world[:3, 3]
    return out


def of_overlaps(scene: Scene, found: Flicker) -> list[Place]:
    """The patches that two parts share, those of most area first."""
    from tidy_caravan.core.geometry.coplanar import outlines

    pairs, number = found.pairs
    area = np.bincount(number, found.area)
    order = np.argsort(number, kind="stable")
    begin = np.searchsorted(number[order], np.arange(len(pairs) + 1))
    chosen = np.argsort(-area, kind="stable")[:MOST_PLACES].tolist()
    out: list[Place] = []
    # behind the lines that all of them together may have, nobody needs any
    for some in range(0, len(chosen), AT_ONCE):
        now = chosen[some : some + AT_ONCE]
        if sum(len(p.lines) for p in out) > ALL_LINES:
            out += [place(pairs[k].tolist(), np.zeros((0, 2, 3)), float(area[k]), "m²") for k in now]
            continue
        own = []
        for k in now:
            rows = order[begin[k] : begin[k + 1]]
            own.append(rows[np.argsort(-found.area[rows], kind="stable")][:MOST_LINES])
        every = np.concatenate(own)
        one = corners_in_world(scene, found.first[every], found.triangles[every, 0])
        other = corners_in_world(scene, found.second[every], found.triangles[every, 1])
        lines, row = outlines(one, other)
        ends = np.searchsorted(row, np.cumsum([0, *map(len, own)]))
        alone = rims_of_each(lines, np.repeat(np.arange(len(now)), np.diff(ends)))
        for k, start, stop in zip(now, ends[:-1], ends[1:], strict=True):
            out.append(place(pairs[k].tolist(), lines[start:stop][alone[start:stop]], float(area[k]), "m²"))
    return within_budget(out)


def of_gaps(scene: Scene, found: Gaps) -> list[Place]:
    """Both sides of each gap, and what lies between them, the widest first."""
    pairs, number = np.unique(np.sort(found.piece, axis=1), axis=0, return_inverse=True)
    number = number.reshape(-1)
    widest = np.zeros(len(pairs))
    np.maximum.at(widest, number, found.distance)
    out = []
    for k in np.argsort(-widest, kind="stable")[:MOST_PLACES].tolist():
        rows = np.flatnonzero(number == k)
        lines = []
        for node in np.unique(found.part[rows]).tolist():
            mine = rows[found.part[rows] == node]
            mesh = scene.meshes[scene.nodes.mesh[node]]
            target = np.full((mesh.vertices, 3), np.nan)
            target[found.vertex[mine]] = found.target[mine]
            edges = np.concatenate([mesh.indices[:, [i, (i + 1) % 3]] for i in range(3)])
            known = np.isfinite(target[edges]).all(axis=2)
            ends = np.unique(np.sort(edges[known.all(axis=1)], axis=1), axis=0)
            if pairs[k, 0] == pairs[k, 1]:  # a crack is as long as the borders that end in it
                border, times = np.unique(np.sort(edges, axis=1), axis=0, return_counts=True)
                border = border[times == 1]
                known = np.isfinite(target[border]).all(axis=2)
                single = np.concatenate(
                    [border[known[:, 0] & ~known[:, 1]], border[known[:, 1] & ~known[:, 0]][:, ::-1]]
                )
                around = moved(scene, node, mesh.positions.astype(np.float64)[single])
                lines += [around, np.stack([target[single[:, 0]], around[:, 1]], axis=1)]
            lines += [
                moved(scene, node, mesh.positions.astype(np.float64)[ends]),
                target[ends],
                np.stack(
                    [
                        moved(scene, node, mesh.positions.astype(np.float64)[found.vertex[mine]][:, None])[:, 0],
                        found.target[mine],
                    ],
                    axis=1,
                ),
            ]
        parts = np.unique(np.concatenate([found.part[rows], found.other[rows]]))
        out.append(place(parts.tolist(), np.concatenate(lines), float(widest[k]) * 1000, "mm"))
    return within_budget(out)
