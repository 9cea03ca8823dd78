"""Boxes that are equal within a part of their own size: parts that may stand in one place."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, Bool

ALONG = np.array([0.7549, 0.5698, 0.3247, 0.8192, 0.6711, 0.5497])
"""A direction among boxes along which those on a grid do not fall together."""


def has_a_neighbour(boxes: F64, tolerance: float) -> Bool:
    """(P,) False where no other box (6 numbers each) can be equal within a part of its size: a quick look along a line."""
    if len(boxes) < 2:
        return np.zeros(len(boxes), np.bool_)
    reach = tolerance * np.maximum(np.linalg.norm(boxes[:, 3:] - boxes[:, :3], axis=1), 1e-12).max()
    along = boxes @ ALONG
    rounding = 64 * np.finfo(np.float64).eps * np.abs(boxes).max()
    order = np.argsort(along)
    near = np.diff(along[order]) <= reach * np.linalg.norm(ALONG) + rounding
    out = np.zeros(len(boxes), np.bool_)
    out[order[:-1][near]] = out[order[1:][near]] = True
    return out


def twice(boxes: F64, keys: AnyArray, tolerance: float) -> I64:
    """(K, 2) pairs of rows with equal keys whose boxes (P, 2, 3) are equal within a part of their own size.

    Every row that has such another is in a pair; not every pair is told. O(P log P).
    """
    from scipy.spatial import cKDTree

    out = [np.zeros((0, 2), np.int64)]
    order = np.argsort(keys, kind="stable")
    _, begin, times = np.unique(keys[order], return_index=True, return_counts=True)
    for start, many in zip(begin[times > 1].tolist(), times[times > 1].tolist(), strict=True):
        rows = order[start : start + many]
        rows = rows[has_a_neighbour(boxes[rows].reshape(-1, 6), tolerance)]
        if len(rows) < 2:
            continue
        flat, first, inverse = np.unique(boxes[rows].reshape(-1, 6), axis=0, return_index=True, return_inverse=True)
        # each with the one before it at the same place, and with the first there
        at = inverse.reshape(-1)
        run = np.argsort(at, kind="stable")
        same = np.flatnonzero(at[run[1:]] == at[run[:-1]])
        later = run[same + 1]
        out.append(np.column_stack([rows[run[same]], rows[later]]))
        out.append(np.column_stack([rows[first[at[later]]], rows[later]]))
        if len(flat) < 2:
            continue
        reach = tolerance * np.maximum(np.linalg.norm(flat[:, 3:] - flat[:, :3], axis=1), 1e-12)
        far: Any
        near: Any
        far, near = cKDTree(flat).query(flat, k=2, distance_upper_bound=float(reach.max()))
        close = np.flatnonzero(far[:, 1] <= reach)
        out.append(np.sort(np.column_stack([rows[first[close]], rows[first[near[close, 1]]]]), axis=1))
    pairs: I64 = np.unique(np.concatenate(out), axis=0)
    return pairs


def look_alike(one: Mesh, other: Mesh) -> bool:
    """Whether meshes with equal triangles are of the same materials, so that nobody misses the second in its place."""
    return one is other or np.array_equal(np.unique(one.material), np.unique(other.material))
