"""Seams between modular pieces that do not quite meet, and pieces of the scene's own that would cover them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import F64, I64
from tidy_caravan.core.space.axes import axis_vector
from tidy_caravan.core.surroundings.abutting import neighbours
from tidy_caravan.core.surroundings.gaps import MOST_MM, Gaps
from tidy_caravan.core.surroundings.grid import NEAR, Pieces, cell_of, modular, pieces_of, put_together
from tidy_caravan.core.surroundings.world import middle_stretch

WIDEST_M = 0.03
"""Seams between modular pieces that are looked for, of a small cell less."""
LEAST_M = 0.3
"""Shorter ones need no cover."""
STRAIGHT = 0.3
"""Of its length: a seam that is wider is none that a strip covers."""
ENDS = 0.02
"""Part of a seam at each end that a cover may leave."""
LONGER = 1.1
"""Times the length of a seam up to which a piece fits it."""
SHORTER = 0.98
WIDTH_M = (0.02, 0.35)
"""How wide a cover may be …"""
TIMES = 5.0
"""… and how much wider than the seam at least."""
DEPTH_M = 0.2
ASIDE_M = 2e-3
"""A cover of just the length of its seam stands so far along, so that their ends do not lie in one plane."""


@dataclass(frozen=True)
class Seam:
    """parts: the two nodes. middle: (3,). along, out: (3,) unit; out is across the thickness of the pieces. length,
    width, thickness: m. overlaps: whether the pieces go into each other by the width. All in scene axes; the middle in scene
    units."""

    parts: tuple[int, int]
    middle: F64
    along: F64
    out: F64
    length: float
    width: float
    thickness: float
    overlaps: bool = False

    def lines(self, metres: float) -> F64:
        """(2, 2, 3) the seam on both sides of the pieces, in scene units."""
        half = self.along * self.length / 2 / metres
        side = self.out * self.thickness / 2 / metres
        return np.array([[self.middle - half + s, self.middle + half + s] for s in (side, -side)])


def modules(scene: Scene, given: float = 0.0) -> tuple[Pieces, I64, float]:
    """The pieces of a scene, the meshes of those that are modular and stand side by side, none otherwise, and how many metres
    neighbours may miss each other by where they are meant to meet. given: the cell in metres, 0 infers it."""
    pieces = pieces_of(scene)
    cell = given or cell_of(pieces)
    mine = modular(pieces, cell) if cell else np.zeros(len(pieces.mesh), np.bool_)
    if not cell or not put_together(scene, pieces, mine, cell):
        return pieces, np.zeros(0, np.int64), 0.0
    return pieces, pieces.mesh[mine], max(MOST_MM / 1000, min(NEAR * cell, WIDEST_M))


def seams_of(scene: Scene, found: Gaps, meshes: I64, most: float) -> list[Seam]:
    """Straight gaps and overlaps up to `most` metres between parts of these meshes that nothing covers yet."""
    metres = scene.convention.metres_per_unit
    nodes = scene.nodes
    mine = (
        np.isin(nodes.mesh[found.part], meshes) & np.isin(nodes.mesh[found.other], meshes) & (found.part != found.other)
    )
    pairs = np.sort(np.column_stack([found.part, found.other]), axis=1)
    out = []
    for a, b in np.unique(pairs[mine], axis=0).tolist():
        rows = np.flatnonzero(mine & (pairs == [a, b]).all(axis=1))
        points = [found.target[rows]]
        for node in (a, b):
            own = rows[found.part[rows] == node]
            world = nodes.world[node]
            points.append(
                scene.meshes[nodes.mesh[node]].positions.astype(np.float64)[found.vertex[own]] @ world[:3, :3].T
                + world[:3, 3]
            )
        seam = straight((a, b), np.concatenate(points), float(found.distance[rows].max()), metres)
        if seam is not None and not covered(scene, seam):
            out.append(seam)
    told = {s.parts for s in out}
    beside = neighbours(scene, meshes, most)
    columns = (beside.parts, beside.gap, beside.ends, beside.out, beside.thickness)
    for parts, gap, ends, outward, thickness in zip(*columns, strict=True):
        a, b = sorted(parts.tolist())
        span = ends[1] - ends[0]
        length = float(np.linalg.norm(span))
        seam = Seam((a, b), ends.mean(axis=0), span / length, outward, length * metres, abs(float(gap)), float(thickness), gap < 0)  # fmt: skip
        if (a, b) not in told and seam.width <= STRAIGHT * seam.length and not covered(scene, seam):
            out.append(seam)
    return out


def straight(parts: tuple[int, int], points: F64, width: float, metres: float) -> Seam | None:
    """The seam that points (N, 3) on both sides of it make, None where they make no line."""
    _, _, ways = np.linalg.svd(points - points.mean(axis=0), full_matrices=False)
    if len(ways) < 3:
        return None
    own = points @ ways.T
    low, high = own.min(axis=0), own.max(axis=0)
    span = (high - low) * metres
    if span[0] < LEAST_M or span[1] > STRAIGHT * span[0]:
        return None
    # along the thickness lies what is wider than the gap; of a sheet there is none
    middle = (low + high) / 2 @ ways
    return Seam(parts, middle, ways[0], ways[1], float(span[0]), width, float(span[1] if span[1] > width else 0.0))


def covered(scene: Scene, seam: Seam) -> bool:
    """Whether on either side of the pieces a third part has the whole seam within its box."""
    metres = scene.convention.metres_per_unit
    boxes = scene.part_bounds
    others = ~np.isin(scene.nodes.parts, seam.parts)
    hidden = []
    for start, end in seam.lines(metres):
        ends = np.stack([start + (end - start) * ENDS, end - (end - start) * ENDS])
        low, high = ends.min(axis=0), ends.max(axis=0)
        hidden.append(bool((others & (boxes[:, 0] <= low).all(axis=1) & (boxes[:, 1] >= high).all(axis=1)).any()))
    return all(hidden)


def cover_for(scene: Scene, pieces: Pieces, seam: Seam) -> int:
    """The mesh that covers a seam best, -1 where none fits: slender, of its length, wider than it and not too deep."""
    sides = np.sort(pieces.size, axis=1)
    fits = (sides[:, 2] >= SHORTER * seam.length) & (sides[:, 2] <= LONGER * seam.length)
    fits &= (sides[:, 1] >= max(WIDTH_M[0], TIMES * seam.width)) & (sides[:, 1] <= min(WIDTH_M[1], seam.length / 3))
    fits &= (sides[:, 0] <= DEPTH_M) & ~np.isin(pieces.mesh, scene.nodes.mesh[list(seam.parts)])
    rows = np.flatnonzero(fits)
    if not len(rows):
        return -1
    waste = np.abs(sides[rows, 2] - seam.length) + sides[rows, 1] + sides[rows, 0]
    return int(pieces.mesh[rows[np.argmin(waste)]])


def places_on(scene: Scene, mesh: int, seam: Seam) -> F64:
    """(S, 4, 4) world matrices of a mesh that covers a seam on both sides of the pieces, half let into them."""
    metres = scene.convention.metres_per_unit
    unit = middle_stretch(scene)[mesh] / metres
    box = scene.meshes[mesh].bounds
    extent = (box[1] - box[0]) * unit
    order = np.argsort(-extent, kind="stable")
    length = float(extent[order[0]]) * metres
    slide = ASIDE_M / metres if abs(length - seam.length) < 2 * ASIDE_M else 0.0
    # upwards, where there is an up: below stands the floor
    if seam.along @ (axis_vector(scene.convention.up) + 1e-3) < 0:
        slide = -slide
    out = []
    for side in (1.0, -1.0) if seam.thickness else (1.0,):
        facing = seam.out * side
        turn = np.zeros((3, 3))
        # longest side along the seam, next across it, thinnest out of the surface
        turn[:, order[0]], turn[:, order[2]] = seam.along, facing
        turn[:, order[1]] = np.cross(turn[:, order[2]], turn[:, order[0]])
        if np.linalg.det(turn) < 0:
            turn[:, order[1]] *= -1
        matrix = np.eye(4)
        matrix[:3, :3] = turn * unit
        place = seam.middle + facing * seam.thickness / 2 / metres + seam.along * slide
        matrix[:3, 3] = place - matrix[:3, :3] @ box.mean(axis=0)
        out.append(matrix)
    return np.array(out)
