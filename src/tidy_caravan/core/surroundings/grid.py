"""Modular pieces: the cell that their sizes are multiples of, and how far each is from whole cells."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import F64, I64, Bool
from tidy_caravan.core.scene.keeping import kept
from tidy_caravan.core.surroundings.near import meeting_boxes
from tidy_caravan.core.surroundings.world import middle_stretch

FOOT_M = 0.3048
CELLS_M = tuple(
    sorted(
        (8.0, 6.0, 5.0, 4.0, 3.0, 2.5, 2.4, 2.0, 1.5, 1.25, 1.2, 1.0, 0.9, 0.8, 0.75, 0.625, 0.6, 0.5, 0.4, 0.3, 0.25)
        + tuple(feet * FOOT_M for feet in (10, 8, 5, 4, 3, 2, 1))
        + tuple(0.01 * 2**power for power in range(9, 4, -1)),
        reverse=True,
    )
)
"""Cells that pieces are made to, of metres, feet, and powers of two in centimetres, the largest first."""
EXACT_M = 5e-4
"""What is nearer to a multiple than this is one."""
NEAR = 0.03
"""Part of a cell up to which a size is off a multiple that was meant."""
PIECES = 5
"""Pieces that must be whole cells for one to be taken for meant …"""
FEW = (2, 10)
"""… or as few, that stand in as many places."""
SHARE = 0.6
"""Part of the sizes that must be whole cells for a cell to be taken for meant."""
MOST_HELD = 0.8
"""Part of the pieces of the cell that holds the most, from which on a larger one is meant."""
ALIKE = 1e-5
"""Part by which sizes along several axes may differ that one scale is the reason of."""
TWICE = 0.9
"""A size is counted from this part of a cell on; what is thinner is a thickness."""


@dataclass(frozen=True)
class Pieces:
    """Meshes whose parts stand upright to the grid. mesh: (K,). box: (K, 2, 3) m, about their pivot. uses: (K,)."""

    mesh: I64
    box: F64
    uses: I64

    @cached_property
    def size(self) -> F64:
        return self.box[:, 1] - self.box[:, 0]


@kept
def pieces_of(scene: Scene) -> Pieces:
    """Every mesh that is used, at the scale that it is drawn, of several at the middle one."""
    counts = scene.instance_counts
    used = np.flatnonzero((counts > 0) & np.array([m.triangles > 0 for m in scene.meshes], np.bool_))
    return Pieces(used, scene.mesh_boxes[used] * middle_stretch(scene)[used][:, None, :], counts[used])


def off_by(size: F64, cell: float) -> tuple[F64, Bool]:
    """(K, 3) how far sizes are from whole cells, signed: positive is too large; and which of them count."""
    whole = np.maximum(np.rint(size / cell), 1.0)
    return size - whole * cell, size >= TWICE * cell


def modular(pieces: Pieces, cell: float) -> Bool:
    """(K,) True for pieces whose sizes, thicknesses aside, are all near whole cells, with two of them at least."""
    off, counted = off_by(pieces.size, cell)
    near = (np.abs(off) <= NEAR * cell) | ~counted
    out: Bool = near.all(axis=1) & (counted.sum(axis=1) >= 2)
    return out


def put_together(scene: Scene, pieces: Pieces, mine: Bool, cell: float) -> bool:
    """Whether the modular ones among the pieces stand side by side, or on a grid of the scene: crates that happen to be
    a metre long do neither. O(parts log parts)."""
    nodes = scene.nodes
    of_mesh = np.full(len(scene.meshes) + 1, -1, np.int64)
    of_mesh[pieces.mesh[mine]] = np.flatnonzero(mine)
    own = of_mesh[nodes.mesh[nodes.parts]]
    rows = np.flatnonzero(own >= 0)
    boxes = scene.part_bounds[rows] * scene.convention.metres_per_unit
    low = boxes[:, 0] / cell
    if ((np.abs(low - np.rint(low)) <= NEAR).sum(axis=1) >= 2).mean() >= SHARE:
        return True
    pairs = meeting_boxes(boxes, np.full(len(rows), NEAR * cell))
    beside = np.unique(own[rows[pairs]])
    return len(beside) >= SHARE * int(mine.sum())


def cells_around(pieces: Pieces, row: int, cell: float) -> F64:
    """(2, 3) m about its pivot: the box of whole cells that a piece is meant to fill, with the end that Fit to the grid
    leaves where it is."""
    low, high = pieces.box[row]
    out = np.stack([low, high])
    for axis in range(3):
        if high[axis] - low[axis] < TWICE * cell:
            continue
        whole = max(np.rint((high[axis] - low[axis]) / cell), 1.0) * cell
        if abs(low[axis] - np.rint(low[axis] / cell) * cell) <= abs(high[axis] - np.rint(high[axis] / cell) * cell):
            out[1, axis] = low[axis] + whole
        else:
            out[0, axis] = high[axis] - whole
    return out


@dataclass(frozen=True)
class Drawn:
    """Parts that their node draws a little larger or smaller than the whole cells of their piece. parts: (K,) nodes. off: (K,)
    m, along the worst axis. factor: (K, 3) by which their node has to be scaled along its own axes for them to be whole."""

    parts: I64
    off: F64
    factor: F64


def drawn_off(scene: Scene, pieces: Pieces, cell: float) -> Drawn:
    """Parts of pieces that are whole cells, whose node draws them a little off, where others of their mesh are not.

    One scale along all axes stays one. O(parts).
    """
    nodes = scene.nodes
    off, counted = off_by(pieces.size, cell)
    exact = modular(pieces, cell) & (np.where(counted, np.abs(off), 0.0).max(axis=1) <= EXACT_M)
    row_of = np.full(len(scene.meshes) + 1, -1, np.int64)
    row_of[pieces.mesh[exact]] = np.flatnonzero(exact)
    row = row_of[nodes.mesh[nodes.parts]]
    parts, row = nodes.parts[row >= 0], row[row >= 0]
    box = scene.mesh_boxes[nodes.mesh[parts]]
    size = (box[:, 1] - box[:, 0]) * np.linalg.norm(nodes.world[parts, :3, :3], axis=1)
    size *= scene.convention.metres_per_unit
    off, counted = off_by(size, cell)
    wrong = counted & (np.abs(off) > EXACT_M) & (np.abs(off) <= NEAR * cell)
    wrong &= np.abs(size - pieces.size[row]) > EXACT_M
    hit = wrong.any(axis=1)
    parts, size, off, wrong, counted = parts[hit], size[hit], off[hit], wrong[hit], counted[hit]
    own = pieces.size[row[hit]]
    wanted = own * np.maximum(np.rint(size / cell), 1.0) / np.maximum(np.rint(own / cell), 1.0)
    factor = np.where(counted, wanted / np.maximum(size, 1e-300), np.nan)
    middle = np.nanmean(factor, axis=1) if len(factor) else np.zeros(0)
    one: Bool = np.all(np.nan_to_num(np.abs(factor - middle[:, None])) <= ALIKE, axis=1)
    factor = np.where(one[:, None], middle[:, None], np.where(wrong, factor, 1.0))
    return Drawn(parts, np.where(wrong, np.abs(off), 0.0).max(axis=1, initial=0.0), factor)


def told_by(size: F64, cell: float) -> I64:
    """(R,) pieces (K, 3) of which two sizes count, where most of those are exactly whole cells, and none else; an axis at a
    time, since most cells are out of the question."""
    counted = [along >= TWICE * cell for along in size.T]
    two = np.sum([c.view(np.int8) for c in counted], axis=0, dtype=np.int8) >= 2
    exact = every = 0
    for along, counts in zip(size.T, counted, strict=True):
        own = along[counts & two]
        every += len(own)
        exact += int((np.abs(own - np.maximum(np.rint(own / cell), 1.0) * cell) <= EXACT_M).sum())
    return np.flatnonzero(two) if exact >= SHARE * every else np.zeros(0, np.int64)


@kept
def cell_of(pieces: Pieces) -> float:
    """The cell in metres that most sizes are multiples of, 0 where nothing says so.

    A size hits a multiple of a cell by chance once in two hundred to a thousand times; five pieces that agree, or two that
    are drawn often, do not by chance. Of the cells that fit it is the largest of those that hold nearly as many pieces as
    any: twice a cell holds some of its pieces as well.
    """
    held: dict[float, int] = {}
    for cell in CELLS_M:
        rows = told_by(pieces.size, cell)
        if not len(rows):
            continue
        off, counted = off_by(pieces.size[rows], cell)
        exact = (np.abs(off) <= EXACT_M) & counted
        whole = (exact | ~counted).all(axis=1)
        some = (counted & (np.abs(off) <= NEAR * cell) | ~counted).all(axis=1)
        many = whole.sum() >= PIECES or (whole.sum() >= FEW[0] and pieces.uses[rows[whole]].sum() >= FEW[1])
        if many and some.sum() >= SHARE * len(rows):
            held[cell] = int(some.sum())
    return next((cell for cell, count in held.items() if count >= MOST_HELD * max(held.values())), 0.0)
