"""Regular subdivision: every triangle becomes four, the surface stays where it is."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.scene.arrays import F64, I64, AnyArray


def longest_edge(positions: AnyArray, indices: AnyArray) -> float:
    """Length of the longest edge, 0 without triangles."""
    return float(longest_edges(positions, indices).max()) if len(indices) else 0.0


def longest_edges(positions: AnyArray, indices: AnyArray) -> F64:
    """(F,) length of the longest edge of each triangle."""
    points = positions.astype(np.float64)
    a, b, c = (np.linalg.norm(points[indices[:, k]] - points[indices[:, k - 1]], axis=1) for k in range(3))
    out: F64 = np.maximum(np.maximum(a, b), c)
    return out


def halved(indices: I64, vertices: int) -> tuple[I64, I64]:
    """Every triangle as four: (4F, 3) indices, those of triangle f at 4f … 4f + 3, over the vertices and then (E, 2) the
    edges whose middles are the new ones. Triangles that share an edge by its vertices share its middle."""
    low = np.minimum(indices, np.roll(indices, -1, axis=1))
    high = np.maximum(indices, np.roll(indices, -1, axis=1))
    keys, number = np.unique(low * vertices + high, return_inverse=True)
    middle = vertices + number.reshape(-1, 3)
    a, b, c = indices.T
    ab, bc, ca = middle.T
    four = np.stack([a, ab, ca, ab, b, bc, ca, bc, c, ab, bc, ca], axis=1).reshape(-1, 3)
    return four, np.column_stack([keys // vertices, keys % vertices])


def with_middles(values: AnyArray, edges: I64, unit: int = 0) -> AnyArray:
    """The values (V, …) and those of the middles of the edges. unit: so many leading columns are a direction of length 1;
    what is whole numbers is taken from one end."""
    if not np.issubdtype(values.dtype, np.floating):
        return np.concatenate([values, values[edges[:, 0]]])
    middle: F64 = (values[edges[:, 0]].astype(np.float64) + values[edges[:, 1]]) / 2
    if unit:
        length = np.linalg.norm(middle[:, :unit], axis=1, keepdims=True)
        middle[:, :unit] = np.where(
            length > 1e-9, middle[:, :unit] / np.where(length > 0, length, 1.0), values[edges[:, 0], :unit]
        )
        middle[:, unit:] = values[edges[:, 0], unit:]
    return np.concatenate([values, middle.astype(values.dtype)])


def with_middle_pulls(joints: AnyArray, weights: AnyArray, edges: I64) -> tuple[AnyArray, AnyArray]:
    """Joints and weights (V, K) and those of the middles of the edges: half of what either end is pulled by, each joint
    once; of more than K joints those that pull most, which then share what there is to pull."""
    wide = joints.shape[1]
    ends = np.concatenate([joints[edges[:, 0]], joints[edges[:, 1]]], axis=1).astype(np.int64)
    pull = np.concatenate([weights[edges[:, 0]], weights[edges[:, 1]]], axis=1).astype(np.float64) / 2
    whole = pull.sum(axis=1, keepdims=True)
    order = np.argsort(ends, axis=1, kind="stable")
    ends, pull = np.take_along_axis(ends, order, axis=1), np.take_along_axis(pull, order, axis=1)
    for k in range(ends.shape[1] - 1, 0, -1):  # the same joint stands together: the first of them gets all
        same = ends[:, k] == ends[:, k - 1]
        pull[:, k - 1] += np.where(same, pull[:, k], 0.0)
        pull[:, k] = np.where(same, 0.0, pull[:, k])
    most = np.argsort(-pull, axis=1, kind="stable")[:, :wide]
    ends, pull = np.take_along_axis(ends, most, axis=1), np.take_along_axis(pull, most, axis=1)
    kept = pull.sum(axis=1, keepdims=True)
    pull *= whole / np.where(kept > 0, kept, 1.0)
    ends = np.where(pull > 0, ends, 0)
    return (
        np.concatenate([joints, ends.astype(joints.dtype)]),
        np.concatenate([weights, pull.astype(weights.dtype)]),
    )
