"""Leaves that turn on a hinge: which way a thin upright plate lies, and on which of its edges it hangs."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F64, Bool

THIN = 0.25
"""Thickness by width up to which a part is a leaf, or twice that with what stands out of it …"""
MOSTLY = 0.75
"""… where so much of its surface is that of a plate."""
LOPSIDED = 0.1
"""How far off the middle, by width, what stands out of a leaf must be to say where its handle is."""
AT_HAND = (0.25, 0.7)
"""Heights, by that of the leaf, between which it is opened: what stands out above or below, as a closer does, tells nothing
where there is something between."""
GRIPPED = 0.4
"""Part of how far the outermost stands out of a leaf from which on something belongs to its handle."""
FLUSH = 0.05
"""How far what stands out of a leaf may do so, by its width, to fill it: its rails do and its handle does not."""
KNUCKLE = 0.03
"""How far from an edge, by the width of the leaf, the knuckles of its hinges are at the most …"""
APART = 0.3
"""… and how far from each other, by its height, at the least."""
TURNED = 1e-6
"""How far from along an axis, as one minus the cosine, a leaf was turned in its vertices; 0.08°."""
AS_MUCH = 0.98
"""Part of the surface of another plane from which on one holds as much: rounding must not choose between the facets of a
round shape."""


@dataclass(frozen=True)
class Leaf:
    """Axes of its own space: across the leaf and through it, and along the hinge. turn: (3, 3) from the mesh to that space.
    box: (2, 3) in it. middle: along the thin axis, of the plate without its handle; thick: how thick that is. foot: along the
    upright axis. low: whether the hinge is the lower edge across. sure: the shape tells which edge it is. fill: part of its
    outline that the plate fills, which is little of a frame."""

    width: int
    thin: int
    upright: int
    turn: F64
    box: F64
    middle: float
    thick: float
    foot: float
    low: bool
    sure: bool
    fill: float

    def off_hinge(self, point: F64) -> float:
        """How far a point of the mesh lies from the hinge, in units of the mesh: where its shape does not tell which one that is,
        from the nearer of both upright edges."""
        own = self.turn @ point
        edges = np.abs(self.box[:, self.width] - own[self.width])
        across = edges[0 if self.low else 1] if self.sure else edges.min()
        return float(np.hypot(across, self.middle - own[self.thin]))

    def hinge(self, low: bool) -> F64:
        """(3,) the foot of one of both upright edges, in the mesh."""
        own = np.zeros(3)
        own[[self.width, self.thin, self.upright]] = self.box[0 if low else 1, self.width], self.middle, self.foot
        out: F64 = self.turn.T @ own
        return out


def at_hand(heights: F64, ends: F64, upwards: bool) -> Bool:
    """(N,) which heights (N,) are those of handles on a leaf with these ends (2,). upwards: whether the axis points up."""
    share = (heights - ends[0]) / max(float(ends[1] - ends[0]), 1e-300)
    share = share if upwards else 1 - share
    out: Bool = (share > AT_HAND[0]) & (share < AT_HAND[1])
    return out


def at_edges(flat: F64, standing: Bool, plate: Bool) -> Bool:
    """(F, 2) which triangles, seen across the leaf (F, 3, 2), are knuckles of hinges on its lower or upper edge: what stands out
    right at an edge, in two places at the least, or along it."""
    out = np.zeros((len(flat), 2), np.bool_)
    if not standing.any() or not plate.any():
        return out
    across, along = flat[..., 0], flat[..., 1]
    low, high = across[plate].min(), across[plate].max()
    tall = np.ptp(along[plate])
    for k, edge in enumerate((low, high)):
        near = standing & (np.abs(across - edge) < KNUCKLE * (high - low)).all(axis=1)
        if near.any() and np.ptp(along[near]) > APART * tall:
            out[:, k] = near
    return out


def own_axes(vectors: F64, up: F64) -> F64:
    """(3, 3) rotation that brings the largest upright face, of area vectors (F, 3), and the way up to axes: those of the
    mesh where they lie along some already, as with all that was not turned in its vertices."""
    up = up / np.linalg.norm(up)
    level = vectors - (vectors @ up)[:, None] * up
    size = np.linalg.norm(level, axis=1)
    if not size.max(initial=0.0) > 0:
        return np.eye(3)
    thin = level[np.argmax(size)] / size.max()
    if max(1 - np.abs(thin).max(), 1 - np.abs(up).max()) < TURNED:
        return np.eye(3)
    width = np.cross(thin, up)
    # whichever way the largest triangle looks, the lower edge is the same one
    sign = 1.0 if width[np.argmax(np.abs(width))] > 0 else -1.0
    return np.stack([sign * width, sign * thin, up])


def leaf_of(mesh: Mesh, up: F64, stretch: F64) -> Leaf | None:
    """The leaf that a mesh is under a stretch (3, 3), None when it is no thin plate. up: (3,) the way up in that space.

    The handle is what stands out of the plate; the hinge is the edge further from it. Without a handle it is the edge with
    the knuckles of hinges on it; without those the one nearer to the pivot at hand, and not sure.
    """
    points = mesh.positions.astype(np.float64) @ stretch.T
    vectors = face_vectors(points, mesh.indices)
    turn = own_axes(vectors, up)
    points, vectors, up = points @ turn.T, vectors @ turn.T, turn @ up
    shown = points[mesh.used]
    box = np.array([shown.min(axis=0), shown.max(axis=0)]) if len(shown) else np.zeros((2, 3))
    size = box[1] - box[0]
    upright = int(np.argmax(np.abs(up)))
    width, thin = sorted((k for k in range(3) if k != upright), key=lambda k: -size[k])
    if not mesh.triangles or not size[thin] <= 2 * THIN * size[width]:
        return None
    area = np.linalg.norm(vectors, axis=1)
    depth = points[mesh.indices][:, :, thin].mean(axis=1)
    flat = np.abs(vectors[:, thin]) > 0.95 * area
    slab = box[:, thin]
    if flat.any():
        # the two planes that hold most of what looks across the leaf; of those that hold as much, the outer ones
        order = np.argsort(depth[flat])
        cut = np.flatnonzero(np.diff(depth[flat][order]) > 1e-3 * size[width]) + 1
        groups = np.split(order, cut)
        holds = np.array([area[flat][g].sum() for g in groups])
        heavy = [groups[k] for k in np.flatnonzero(holds >= AS_MUCH * np.sort(holds)[-2:][0])]
        ends = [float(np.average(depth[flat][g], weights=area[flat][g])) for g in heavy]
        slab = np.array([min(ends), max(ends)])
    spare = 1e-3 * size[width]
    own = points[mesh.indices]
    out = np.maximum(slab[0] - own[:, :, thin], own[:, :, thin] - slab[1]).min(axis=1)
    if size[thin] > THIN * size[width]:  # what of it is a plate, and what a handle on both sides of it
        even = out <= spare + FLUSH * size[width]
        if slab[1] - slab[0] > THIN * size[width] or area[even].sum() < MOSTLY * area.sum():
            return None
    centre = box[:, width].mean()
    sure, low = False, abs(box[0, width]) <= abs(box[1, width])
    standing = out > spare
    knuckles = at_edges(own[:, :, [width, upright]], standing, out <= spare)
    standing &= ~knuckles.any(axis=1)
    handy = standing & at_hand(own[:, :, upright].mean(axis=1), box[:, upright], bool(up[upright] > 0))
    standing = handy if area[handy].sum() > 0 else standing
    # mouldings and rails stand out less than what is to be gripped
    standing &= out > GRIPPED * out[standing].max(initial=0.0)
    if area[standing].sum() > 0:
        lean = float(np.average(own[standing][:, :, width].mean(axis=1), weights=area[standing])) - centre
        if abs(lean) > LOPSIDED * size[width]:
            sure, low = True, lean > 0
    at_low, at_high = bool(knuckles[:, 0].any()), bool(knuckles[:, 1].any())
    if not sure and at_low != at_high:
        sure, low = True, at_low
    foot = float(box[0 if up[upright] > 0 else 1, upright])
    plate = np.abs(vectors[flat & (out < spare + size[width] * FLUSH), thin]).sum() / 4  # of both sides, and twice each
    fill = float(plate) / max(float(size[width] * size[upright]), 1e-300)
    thick = float(slab[1] - slab[0])
    return Leaf(width, thin, upright, turn, box, float(slab.mean()), thick, foot, bool(low), sure, fill)
