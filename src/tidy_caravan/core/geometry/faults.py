"""Faults of one mesh that both survey and steps need to know."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.shells import first_alike
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F64, Bool
from tidy_caravan.core.scene.keeping import kept

HEIGHT_STEPS = 2.0
"""A triangle is degenerate when its height is below so many steps of float32 at its own corners: it cannot be told
from a line. The size of the mesh around it does not matter."""
NORMAL_TOLERANCE = 0.01
"""A stored normal is broken when its length differs from 1 by more than this."""
FLAT_UV = 1e-6
"""Area of a triangle in texture coordinates, by its longest side squared, below which it is a line there."""
UV_TOLERANCE = 1e-5
"""Difference of texture coordinates, in repeats, from which on two triangles show another part of their image."""


@kept
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


def repeated(mesh: Mesh) -> Bool:
    """(F,) True for triangles that stand exactly where an earlier one of the mesh stands, looking the same way.

    Corners at one place are one corner, seams aside that an exporter computed twice. Triangles that collapse are
    another fault. O(F log F).
    """
    if not mesh.triangles:
        return np.zeros(0, np.bool_)
    first, _, whole = first_alike(mesh)
    out: Bool = (first != np.arange(len(first))) & whole
    return out


def told_apart(mesh: Mesh, again: Bool) -> int:
    """How many of the repeated triangles (F,) differ from the first of their kind in material or first UV set, so that
    it matters which is kept."""
    if not again.any():
        return 0
    first, turn, _ = first_alike(mesh)
    first = first[again]
    other = mesh.material[first] != mesh.material[again]
    if mesh.uvs:
        rows = np.arange(mesh.triangles)[:, None]
        corners = mesh.uvs[0][mesh.indices[rows, (turn[:, None] + np.arange(3)) % 3]]
        other |= np.abs(corners[first] - corners[again]).max(axis=(1, 2)) > UV_TOLERANCE
    return int(other.sum())


def uv_areas(mesh: Mesh) -> F64:
    """(S, 4) of the first UV set, for each material slot of the mesh: the slot, its area in repeats², the surface it is on in
    units², and the surface whose triangles have no area in it. Triangles without any area in space are not counted."""
    if not mesh.uvs or not mesh.triangles:
        return np.zeros((0, 4))
    surface = np.linalg.norm(face_vectors(mesh.positions, mesh.indices), axis=1) / 2
    uv = mesh.uvs[0].astype(np.float64)[mesh.indices]
    a, b = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    flat = np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]) / 2
    longest = np.maximum(np.abs(a).max(axis=1), np.abs(b).max(axis=1))
    gone = ~(flat > FLAT_UV * np.maximum(longest, UV_TOLERANCE) ** 2)
    solid = ~degenerate(mesh)
    slots, of_slot = np.unique(mesh.material, return_inverse=True)
    sums = [
        np.bincount(of_slot.reshape(-1), np.where(counted, values, 0.0), minlength=len(slots))
        for values, counted in ((flat, solid & ~gone), (surface, solid & ~gone), (surface, solid & gone))
    ]
    return np.column_stack([slots, *sums])


def broken_normals(mesh: Mesh) -> Bool:
    """(V,) True for used vertices whose stored normal is zero, not finite or not of unit length."""
    out = np.zeros(mesh.vertices, np.bool_)
    if mesh.normals is None:
        return out
    length = np.linalg.norm(mesh.normals.astype(np.float64), axis=1)
    out[mesh.used] = (~(np.abs(length - 1.0) <= NORMAL_TOLERANCE))[mesh.used]
    return out


def opposed_normals(mesh: Mesh) -> Bool:
    """(F,) True for triangles whose three stored normals all point against the face. One without area has no side that they
    could point against."""
    if mesh.normals is None or not mesh.triangles:
        return np.zeros(mesh.triangles, np.bool_)
    vectors = face_vectors(mesh.positions, mesh.indices)
    dots = np.einsum("fi,fki->fk", vectors, mesh.normals.astype(np.float64)[mesh.indices])
    out: Bool = np.asarray((dots < 0).all(axis=1))
    return out & ~degenerate(mesh) if out.any() else out
