"""Modular pieces side by side: how far the boxes of neighbours are apart, or go into each other.

Wider than what light leaks through by mistake between any two parts, since pieces on one grid are meant to meet; and
closer than not at all, which no search for gaps finds. O(parts log parts) and the pairs that stand side by side.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, I64, Bool
from tidy_caravan.core.surroundings.near import meeting_boxes, shown_parts

LEAST_M = 1e-4
"""What is nearer to meeting than this meets."""
LONG_M = 0.3
"""Sides that share less than this do not stand side by side."""
FLUSH_M = 1e-3
"""How far the surfaces of two pieces may be from lying in one plane."""
ALIGNED = 1e-7
"""How far from along each other, as one minus the cosine, the axes of two pieces may be; 0.026°."""
ALIKE = 0.1
"""Part of a joint by which others may differ from it to be as wide, but no less than what meets."""
USUAL = 0.5
"""Part of the neighbours that must be as far apart for it to be a joint that is meant …"""
FEWEST = 4
"""… and so many at least."""


@dataclass(frozen=True)
class Neighbours:
    """parts: (K, 2) nodes. gap: (K,) m, negative where they go into each other. ends: (K, 2, 3) the middle of the seam at both
    of its ends, in scene units. out: (K, 3) unit, across the thickness of the pieces. thickness: (K,) m, none of sheets."""

    parts: I64
    gap: F64
    ends: F64
    out: F64
    thickness: F64


def neighbours(scene: Scene, meshes: I64, most: float) -> Neighbours:
    """Pairs of parts of these meshes that stand side by side, flush and aligned, and miss each other by up to `most` metres;
    not those that miss as most others do."""
    metres = scene.convention.metres_per_unit
    nodes = scene.nodes
    shown, boxes = shown_parts(scene)
    mine = np.isin(nodes.mesh[shown], meshes)
    shown, boxes = shown[mine], boxes[mine]
    size = np.linalg.norm(nodes.world[shown, :3, :3], axis=1)
    axes = nodes.world[shown, :3, :3] / np.where(size > 0, size, 1.0)[:, None, :]
    square = (np.abs(np.swapaxes(axes, 1, 2) @ axes - np.eye(3)) <= ALIGNED).all(axis=(1, 2)) & (size > 0).all(axis=1)
    shown, boxes, size, axes = shown[square], boxes[square], size[square], axes[square]
    pairs = meeting_boxes(boxes, np.full(len(shown), most / metres))
    relative = np.swapaxes(axes[pairs[:, 0]], 1, 2) @ axes[pairs[:, 1]]
    pairs = pairs[(np.abs(relative).max(axis=1) >= 1 - ALIGNED).all(axis=1)]
    first, second = pairs.T
    own = scene.mesh_boxes[nodes.mesh[shown]]
    one = own[first] * size[first][:, None, :]
    frame, origin = axes[first], nodes.world[shown[first], :3, 3]
    corner = own[second][:, [[k >> 2, k >> 1 & 1, k & 1] for k in range(8)], [0, 1, 2]]
    world = corner @ np.swapaxes(nodes.world[shown[second], :3, :3], 1, 2) + nodes.world[shown[second], None, :3, 3]
    there = (world - origin[:, None]) @ frame
    other = np.stack([there.min(axis=1), there.max(axis=1)], axis=1)
    low, high = np.maximum(one[:, 0], other[:, 0]), np.minimum(one[:, 1], other[:, 1])
    shared = (high - low) * metres  # negative where they are apart
    flush = (np.abs(one - other) * metres <= FLUSH_M).any(axis=1)
    apart = shared < 0
    across = np.where(apart.any(axis=1), np.argmin(shared, axis=1), np.argmin(np.abs(shared), axis=1))
    rest = np.array([[1, 2], [0, 2], [0, 1]])[across]
    extent = np.take_along_axis(shared, rest, axis=1)
    along = np.where(extent[:, 0] >= extent[:, 1], rest[:, 0], rest[:, 1])
    outward = rest.sum(axis=1) - along
    row = np.arange(len(pairs))
    gap = -shared[row, across]
    beside: Bool = (np.abs(gap) <= most) & (shared[row, along] >= LONG_M) & flush[row, outward]
    # boards that lie on each other are none: what is across the seam is wider than the pieces are thick
    wide = np.minimum(*(box[:, 1] - box[:, 0] for box in (one, other)))
    beside &= wide[row, across] * metres >= wide[row, outward] * metres - FLUSH_M
    beside &= (shared[row, outward] > 2 * np.abs(gap)) | (np.abs(shared[row, outward]) <= FLUSH_M)
    off = beside & (np.abs(gap) > LEAST_M) & ~usual(gap, beside)
    kept, ends = [], []
    for k in np.flatnonzero(off).tolist():
        here, theirs = (corners_of(scene.meshes[nodes.mesh[shown[i]]]) for i in pairs[k].tolist())
        matrix = nodes.world[shown[second[k]]]
        places = (here * size[first[k]], (theirs @ matrix[:3, :3].T + matrix[:3, 3] - origin[k]) @ frame[k])
        behind = bool(one[k, :, across[k]].sum() > other[k, :, across[k]].sum())
        start, end = run_of(places, int(across[k]), int(along[k]), behind, metres)
        if (end - start) * metres >= LONG_M:
            both = np.tile((low[k] + high[k]) / 2, (2, 1))
            both[:, along[k]] = start, end
            kept.append(k)
            ends.append(both @ frame[k].T + origin[k])
    rows = np.array(kept, np.int64)
    return Neighbours(
        shown[pairs[rows]], gap[rows], np.array(ends).reshape(-1, 2, 3), frame[rows, :, outward[rows]],
        np.maximum(shared[rows, outward[rows]], 0.0),
    )  # fmt: skip


def run_of(places: tuple[F64, F64], across: int, along: int, behind: bool, metres: float) -> tuple[float, float]:
    """From where to where both pieces reach their common side, by their vertices: a window or a step leaves it. behind: the
    first is the further one along the axis across."""
    reach = []
    for points, lower in zip(places, (behind, not behind), strict=True):
        side = points[:, across].min() if lower else points[:, across].max()
        # one end may stand back by what they are off the line
        spare = FLUSH_M / metres + np.sqrt(2 * ALIGNED) * np.ptp(points[:, along])
        reach.append(points[np.abs(points[:, across] - side) <= spare, along])
    return max(float(r.min()) for r in reach), min(float(r.max()) for r in reach)


def corners_of(mesh: Mesh) -> F64:
    """(V, 3) the vertices of its triangles."""
    return mesh.positions[mesh.used].astype(np.float64)


def usual(gap: F64, beside: Bool) -> Bool:
    """(K,) which pairs miss each other by as much as most of those that stand side by side do: that joint is meant."""
    order = np.sort(gap[beside])
    spare = np.maximum(ALIKE * np.abs(gap), LEAST_M)
    alike = np.searchsorted(order, gap + spare, side="right") - np.searchsorted(order, gap - spare, side="left")
    out: Bool = (alike >= FEWEST) & (alike > USUAL * len(order))
    return out
