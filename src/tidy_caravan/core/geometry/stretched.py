"""How large surfaces and lengths become under a part's own matrix, also where it scales one axis more than another."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import F64, I64, Bool

EVEN = 1e-6
"""Relative difference of the scales along two axes below which they are one."""
DIRECTIONS = 32
"""Steps of a unit along each axis, within which directions of vectors are one direction: a surface bent that little changes
by less than a thousandth of itself."""
AT_ONCE = 1 << 21
"""Products that are held at a time."""


def gathered(vectors: F64) -> F64:
    """(D, 3) vectors along the directions of many (N, 3), as long together as those of each direction are. O(N log N)."""
    length = np.linalg.norm(vectors, axis=1)
    good = np.isfinite(length) & (length > 0)
    vectors, length = vectors[good], length[good]
    unit = vectors / length[:, None]
    unit *= np.where((unit @ (1.0, 1e-3, 1e-6) < 0)[:, None], -1.0, 1.0)  # a vector and its opposite grow alike
    cell = np.rint((unit + 1) * DIRECTIONS).astype(np.int64) @ (1 << 20, 1 << 10, 1)
    _, which = np.unique(cell, return_inverse=True)
    total = np.bincount(which, weights=length)
    middle = np.column_stack([np.bincount(which, weights=length * unit[:, k]) for k in range(3)])
    out: F64 = middle * (total / np.maximum(np.linalg.norm(middle, axis=1), 1e-300))[:, None]
    return out


def lengths(vectors: F64, linear: F64) -> F64:
    """(K,) how long vectors (D, 3) are together under each matrix (K, 3, 3). O(D K)."""
    form = np.swapaxes(linear, 1, 2) @ linear
    pairs = vectors[:, (0, 1, 2, 0, 0, 1)] * vectors[:, (0, 1, 2, 1, 2, 2)]
    of_form = form[:, (0, 1, 2, 0, 0, 1), (0, 1, 2, 1, 2, 2)] * (1, 1, 1, 2, 2, 2)
    step = max(1, AT_ONCE // max(len(vectors), 1))
    out = np.zeros(len(linear))
    for begin in range(0, len(linear), step):
        squares = of_form[begin : begin + step] @ pairs.T
        out[begin : begin + step] = np.sqrt(np.maximum(squares, 0.0)).sum(axis=1)
    return out


def cofactors(linear: F64) -> F64:
    """(K, 3, 3) what matrices (K, 3, 3) do to areas, as vectors: also where they flatten."""
    a, b, c = linear[:, 0], linear[:, 1], linear[:, 2]
    out: F64 = np.stack([np.cross(b, c), np.cross(c, a), np.cross(a, b)], axis=1)
    return out


def uneven(linear: F64) -> Bool:
    """(K,) which of the matrices (K, 3, 3) change lengths one way more than another."""
    form = np.swapaxes(linear, 1, 2) @ linear
    middle = np.trace(form, axis1=1, axis2=2) / 3
    out: Bool = np.abs(form - middle[:, None, None] * np.eye(3)).max(axis=(1, 2)) > EVEN * np.maximum(middle, 1e-300)
    return out


def surface_scales(scene: Scene, rows: I64) -> F64:
    """(P,) by what length the surface of each part is scaled: the root of its area in space by that of its mesh.

    rows: (P,) nodes with a mesh. The scale itself where it is the same along all axes; otherwise by the faces, of which
    those that point the same way are taken as one. Also of parts that are flattened. O(P + F log F + P D), D directions.
    """
    linear = scene.nodes.world[rows, :3, :3]
    out: F64 = np.sqrt((linear**2).sum(axis=(1, 2)) / 3)
    bent = np.flatnonzero(uneven(linear))
    mesh = scene.nodes.mesh[rows[bent]]
    order = np.argsort(mesh, kind="stable")
    used, begin = np.unique(mesh[order], return_index=True)
    for i, here in zip(used.tolist(), np.split(bent[order], begin[1:]) if len(order) else [], strict=True):
        vectors = gathered(face_vectors(scene.meshes[i].positions, scene.meshes[i].indices))
        whole = float(np.linalg.norm(vectors, axis=1).sum())
        if whole > 0:
            out[here] = np.sqrt(lengths(vectors, cofactors(linear[here])) / whole)
    return out
