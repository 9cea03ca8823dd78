"""Leaves in one mesh with their frame: which of its shells are the frame, and which are a leaf with what is on it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.geometry.closest import apart
from tidy_caravan.core.geometry.leaf import at_hand, own_axes
from tidy_caravan.core.geometry.lots import Lot
from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.pieces import by_shell
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F64, I64, Bool

REACHES = 0.02
"""Part of the whole's width, or half its height, within which a shell reaches its side, and so belongs to what is fixed."""
THIN = 0.25
"""Thickness by width up to which the flat part of a leaf is a leaf."""
TALL = 0.6
"""Height by that of the whole from which on it fills an opening."""
UPRIGHT = 0.9
"""Height by width from which on the leaves of an opening are such of a door, and not a drawer's or a hatch's."""
LARGE = 0.2
"""Height or width, by the height of the whole, from which on a shell belongs to the frame when it touches that …"""
MOST_LARGE = 64
"""Such shells of a door at the most: more of them are a facade."""
TOUCHES = 3e-4
"""… by so much of that height: a leaf has more play."""
PLAY = 0.05
"""Way between leaf and frame, by the height of the leaf, up to which it is in its opening."""
STOP = 0.022
"""Both sides of its section, by the height of the whole, up to which a bar is a stop, on which a leaf rests."""
STILE = 0.15
"""Width by height up to which what stands upright in an opening is a stile of a leaf, and no leaf."""
MOST_SHELLS = 400
LEAST_OF_DOOR = 8
"""Triangles that a leaf and its frame have at least."""
FOOT = 0.05
"""Height of a threshold, by that of the whole: what stands higher is a window."""
GRID = 7
"""Points across and along an opening that no part of the frame may cover."""


@dataclass(frozen=True)
class Door:
    """turn: (3, 3) from the mesh to the door's own space, as of `own_axes`. label: (F,) 0 for the frame, 1 and more for each
    leaf from low to high along the axis `width` of that space. boxes: (leaves, 2, 3) in it. hinges: (leaves, 3) foot of each
    hinge, in it as well. sure: (leaves,) whether the shape says on which side it hangs. handle: whether
    small shells stand out of a leaf, handles or the knuckles of hinges, which panes of glazing have none of."""

    turn: F64
    label: I64
    width: int
    boxes: F64
    hinges: F64
    sure: tuple[bool, ...]
    handle: bool


@dataclass(frozen=True)
class Shells:
    """turn: (3, 3) from the mesh to where the largest upright face lies along axes. label: (F,) what hangs together. low,
    high: (S, 3) their boxes there."""

    turn: F64
    label: I64
    low: F64
    high: F64


def no_doors(lot: Lot) -> Bool:
    """(M,) meshes of a lot that are no door in its frame, for their few triangles or for being one piece."""
    out: Bool = (lot.triangles < LEAST_OF_DOOR) | (lot.plain_pieces == 1)
    return out


def shells_of(mesh: Mesh, up: F64, label: I64 | None = None) -> Shells | None:
    """The shells of a mesh that could be a door: a few, whose places are numbers. up: (3,) in the mesh's own space. label:
    (F,) what hangs together, when that is at hand. O(F log F)."""
    if mesh.triangles < LEAST_OF_DOOR:
        return None
    label = by_shell(mesh) if label is None else label
    count = int(label.max()) + 1
    if not 2 <= count <= MOST_SHELLS:
        return None
    turn = own_axes(face_vectors(mesh.positions, mesh.indices), up)
    corners = (mesh.positions.astype(np.float64) @ turn.T)[mesh.indices]
    order = np.argsort(label, kind="stable")
    begin = np.searchsorted(label[order], np.arange(count))
    low = np.minimum.reduceat(corners.min(axis=1)[order], begin)
    high = np.maximum.reduceat(corners.max(axis=1)[order], begin)
    return Shells(turn, label, low, high) if np.isfinite([low, high]).all() else None


def door_of(mesh: Mesh, up: F64, shells: Shells | None = None) -> Door | None:
    """The door that a mesh is, None when it is none: thin tall slabs in an opening that the other shells leave free.
    up: (3,) the way up in the mesh's own space. shells: as `shells_of`, when they are at hand."""
    shells = shells or shells_of(mesh, up)
    if shells is None:
        return None
    up = shells.turn @ up
    low, high = shells.low, shells.high
    whole = np.array([low.min(axis=0), high.max(axis=0)])
    upright = int(np.argmax(np.abs(up)))
    width, thin = sorted((k for k in range(3) if k != upright), key=lambda k: whole[0, k] - whole[1, k])
    size = whole[1] - whole[0]
    spare = REACHES * min(size[width], size[upright] / 2)
    top = whole[1, upright] if up[upright] > 0 else whole[0, upright]
    fixed = (low[:, width] <= whole[0, width] + spare) | (high[:, width] >= whole[1, width] - spare)
    # what is over the opening and no leaf, such as a lintel or a light above
    fixed |= np.abs((high if up[upright] > 0 else low)[:, upright] - top) <= 1e-6 * size[upright]
    if fixed.all() or not fixed.any():
        return None
    fixed = held(mesh, shells, fixed, width, upright, size)
    tall = TALL * size[upright]
    leaf_of = leaves(low, high, ~fixed, width, upright, tall)
    number = int(leaf_of.max(initial=0))
    if not number:
        return None
    boxes = np.stack(
        [np.array([low[leaf_of == k].min(axis=0), high[leaf_of == k].max(axis=0)]) for k in range(1, number + 1)]
    )
    span = boxes[:, 1] - boxes[:, 0]
    if (span[:, upright] < TALL * size[upright]).any():
        return None
    foot = boxes[:, 0 if up[upright] > 0 else 1, upright] - whole[0 if up[upright] > 0 else 1, upright]
    if (np.abs(foot) > FOOT * size[upright]).any():
        return None
    if (span[:, upright] < UPRIGHT * span[:, width]).any():
        return None
    if not let_in(boxes, low[fixed], high[fixed], width, upright):
        return None
    label = leaf_of[shells.label]
    frame = (mesh.positions.astype(np.float64) @ shells.turn.T)[mesh.indices[label == 0]]
    if covered(frame, boxes, width, upright):
        return None
    hinges, thick, sure, handle = hung(low, high, leaf_of, boxes, (width, upright, thin), up)
    if (thick > THIN * span[:, width]).any():
        return None
    return Door(shells.turn, label, width, boxes, hinges, sure, handle)


def let_in(boxes: F64, low: F64, high: F64, width: int, upright: int) -> bool:
    """Whether leaves (L, 2, 3) fill an opening between fixed shells (S, 3), or in one of them: with a little play beside."""
    first, last = boxes[:, 0].min(axis=0), boxes[:, 1].max(axis=0)
    middle = (first[upright] + last[upright]) / 2
    level = (low[:, upright] < middle) & (high[:, upright] > middle)
    low, high = low[level, width], high[level, width]
    if ((low < first[width]) & (high > last[width])).any():
        return True
    play = PLAY * (last[upright] - first[upright])
    before, behind = high[high <= first[width] + play], low[low >= last[width] - play]
    return bool(len(before) and len(behind) and max(first[width] - before.max(), behind.min() - last[width]) <= play)


def held(mesh: Mesh, shells: Shells, sides: Bool, width: int, upright: int, size: F64) -> Bool:
    """(S,) what is fixed: the shells at the sides, and large ones that touch them, and what touches these, such as jambs
    behind their architraves or a threshold between its jambs; but for the leaf, which may rest on a stop, or have no play.
    size: (3,) of the whole. O(S²) boxes, and O(F log F) a pair that meets."""
    extent = shells.high - shells.low
    tall = extent[:, upright] >= TALL * size[upright]
    large = np.maximum(extent[:, upright], extent[:, width]) >= LARGE * size[upright]
    if not (tall & ~sides).any() or large.sum() > MOST_LARGE:
        return sides
    corners = (mesh.positions.astype(np.float64) @ shells.turn.T)[mesh.indices]
    passing = np.sort(extent, axis=1)[:, 1] > STOP * size[upright]
    plates = tall & (extent[:, width] >= STILE * size[upright])
    for some in (large, large & ~plates):
        found = touching(sides, some, passing, corners, shells, TOUCHES * size[upright])
        if (tall & ~found).any():
            return found
    return sides


def touching(fixed: Bool, some: Bool, passing: Bool, corners: F64, shells: Shells, reach: float) -> Bool:
    """(S,) the fixed shells and those of some that touch them, or touch such as pass it on. corners: (F, 3, 3) triangles."""
    out = fixed.copy()
    of_shell = [corners[shells.label == k] if some[k] else corners[:0] for k in range(len(fixed))]
    found = np.flatnonzero(fixed & some & passing).tolist()
    while found:
        one = found.pop()
        near = (shells.low <= shells.high[one] + reach) & (shells.high >= shells.low[one] - reach)
        for other in np.flatnonzero(near.all(axis=1) & some & ~out).tolist():
            mine, theirs = of_shell[one], of_shell[other]
            if (apart(mine.reshape(-1, 3), theirs, 2 * reach) <= reach).any() or (
                apart(theirs.reshape(-1, 3), mine, 2 * reach) <= reach
            ).any():
                out[other] = True
                found += [other] * bool(passing[other])
    return out


def leaves(low: F64, high: F64, free: Bool, width: int, upright: int, tall: float) -> I64:
    """(S,) number of the leaf of each shell, from 1 along the width, 0 for what is none: shells of which some are tall and
    whose extents along the width run into each other, as bars, panes and handles do. Two that only meet are two, but for
    a stile and what it holds."""
    out = np.zeros(len(low), np.int64)
    slab = free & (high[:, upright] - low[:, upright] >= tall)
    if not slab.any():
        return out
    # a light above the leaf, or a plinth below, hangs on none
    foot, head = low[slab, upright].min(), high[slab, upright].max()
    spare = REACHES * (head - foot)
    rows = np.flatnonzero(free & (low[:, upright] >= foot - spare) & (high[:, upright] <= head + spare))
    rows = rows[np.argsort(low[rows, width], kind="stable")]
    end = np.maximum.accumulate(high[rows, width])
    meets = 1e-3 * (high[rows, width] - low[rows, width])
    new = np.concatenate([[True], low[rows[1:], width] >= end[:-1] - meets[1:]])
    begin = low[rows[new], width]
    until = np.maximum.reduceat(high[rows, width], np.flatnonzero(new))
    narrow = until - begin < STILE * (head - foot)
    apart_by = begin[1:] - until[:-1] > meets[new][1:]
    group = np.concatenate([[0], np.cumsum(apart_by | ~(narrow[1:] | narrow[:-1]))])[np.cumsum(new) - 1]
    with_slab = np.unique(group[slab[rows]])
    at = np.searchsorted(with_slab, group)
    out[rows] = np.where(np.isin(group, with_slab), at + 1, 0)
    return out


def covered(frame: F64, boxes: F64, width: int, upright: int) -> bool:
    """Whether triangles of the frame (T, 3, 3), seen across the leaf, lie over the middle of a leaf."""
    flat = frame[:, :, [width, upright]]
    for box in boxes:
        share = np.linspace(0, 1, GRID + 4)[2:-2]
        x, y = (box[0, k] + share * (box[1, k] - box[0, k]) for k in (width, upright))
        points = np.stack(np.meshgrid(x, y), axis=-1).reshape(-1, 2)
        one, two, three = flat[:, 0], flat[:, 1], flat[:, 2]
        sides = np.stack([across(a, b, points) for a, b in ((one, two), (two, three), (three, one))])
        edge = np.abs(sides) > 1e-12
        hit = ((((sides > 0) & edge).all(axis=0)) | ((sides < 0) & edge).all(axis=0)).any(axis=0)
        if hit.mean() > 0.1:
            return True
    return False


def across(a: F64, b: F64, points: F64) -> F64:
    """(T, P) on which side of the lines from a to b (T, 2) points (P, 2) lie."""
    way = b - a
    out: F64 = way[:, None, 0] * (points[None, :, 1] - a[:, None, 1]) - way[:, None, 1] * (
        points[None, :, 0] - a[:, None, 0]
    )
    return out


def hung(
    low: F64, high: F64, leaf_of: I64, boxes: F64, axes: tuple[int, int, int], up: F64
) -> tuple[F64, F64, tuple[bool, ...], bool]:
    """(leaves, 3) foot of each leaf's hinge, (leaves,) how thick its tall shells are together, whether its shape says on which
    side that is: of a pair the outer edges, of one the edge with knuckles on it, or the one further from the small shells
    that stand out of its slab; and whether there are such."""
    width, upright, thin = axes
    hinges, thickness, sure, handle = np.zeros((len(boxes), 3)), np.zeros(len(boxes)), [], False
    for k, box in enumerate(boxes):
        mine = np.flatnonzero(leaf_of == k + 1)
        sides = high[mine] - low[mine]
        tall = sides[:, upright] >= 0.5 * (box[1, upright] - box[0, upright])
        slab = mine[tall] if tall.any() else mine
        edge = np.array([low[slab, width].min(), high[slab, width].max()])
        depth = np.median((low[slab, thin] + high[slab, thin]) / 2)
        thick = np.array([low[slab, thin].min(), high[slab, thin].max()])
        thickness[k] = thick[1] - thick[0]
        out = mine[(low[mine, thin] < thick[0] - 1e-9) | (high[mine, thin] > thick[1] + 1e-9)]
        out = out[~np.isin(out, slab)]
        # the knuckles of hinges stand out over the edge that they turn around
        over = (low[out, width, None] < edge) & (high[out, width, None] > edge)
        knuckles, out = over.sum(axis=0), out[~over.any(axis=1)]
        handle |= len(out) > 0 or int(knuckles.max()) > 1
        known, at_low = False, True
        if len(boxes) == 2:
            known, at_low = True, k == 0
        elif knuckles[0] != knuckles[1] and knuckles.max() > 1:
            known, at_low = True, bool(knuckles[0] > knuckles[1])
        elif len(out):
            handy = at_hand((low[out, upright] + high[out, upright]) / 2, box[:, upright], bool(up[upright] > 0))
            out = out[handy] if handy.any() else out
            lean = ((low[out, width] + high[out, width]) / 2).mean() - edge.mean()
            if abs(lean) > 0.1 * (edge[1] - edge[0]):
                known, at_low = True, lean > 0
        hinges[k, width] = edge[0 if at_low else 1]
        hinges[k, thin] = depth
        hinges[k, upright] = box[0 if up[upright] > 0 else 1, upright]
        sure.append(known)
    return hinges, thickness, tuple(sure), handle


def up_in(world: F64, up: F64) -> F64:
    """(3,) the way up in the own space of what has this world matrix (4, 4)."""
    linear = world[:3, :3]
    out: F64 = np.linalg.inv(linear) @ up if abs(np.linalg.det(linear)) > 0 else np.asarray(up, np.float64)
    return out
