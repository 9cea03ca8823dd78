"""Faults of one mesh that both survey and steps need to know."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import Bool

HEIGHT_STEPS = 2.0
"""A triangle is degenerate when its height is below so many steps of float32 at its own corners: it cannot be told
from a line. The size of the mesh around it does not matter."""
NORMAL_TOLERANCE = 0.01
"""A stored normal is broken when its length differs from 1 by more than this."""


def degenerate(mesh: Mesh) -> Bool:
    """(F,) True for triangles without area: repeated corners, or collinear as far as float32 can tell where they lie."""
    if not mesh.triangles:
        return np.zeros(0, np.bool_)
    corners = mesh.positions.astype(np.float64)[mesh.indices]
    longest = np.linalg.norm(corners[:, [1, 2, 0]] - corners, axis=2).max(axis=1)
    step = np.spacing(np.abs(mesh.positions)[mesh.indices].max(axis=(1, 2)).astype(np.float32)).astype(np.float64)
    doubled = np.linalg.norm(face_vectors(mesh.positions, mesh.indices), axis=1)
    flat: Bool = doubled <= HEIGHT_STEPS * step * longest
    return flat


def broken_normals(mesh: Mesh) -> Bool:
    """(V,) True for used vertices whose stored normal is zero, not finite or not of unit length."""
    out = np.zeros(mesh.vertices, np.bool_)
    if mesh.normals is None:
        return out
    length = np.linalg.norm(mesh.normals.astype(np.float64), axis=1)
    out[mesh.used] = (~(np.abs(length - 1.0) <= NORMAL_TOLERANCE))[mesh.used]
    return out


def opposed_normals(mesh: Mesh) -> Bool:
    """(F,) True for triangles whose three stored normals all point against the face."""
    if mesh.normals is None or not mesh.triangles:
        return np.zeros(mesh.triangles, np.bool_)
    vectors = face_vectors(mesh.positions, mesh.indices)
    dots = np.einsum("fi,fki->fk", vectors, mesh.normals.astype(np.float64)[mesh.indices])
    out: Bool = np.asarray((dots < 0).all(axis=1))
    return out
