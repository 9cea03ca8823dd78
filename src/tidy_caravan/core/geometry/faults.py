"""Faults of one mesh that both survey and steps need to know."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.shells import first_alike
from tidy_caravan.core.geometry.tangents import tangent_space
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


def broken_tangents(mesh: Mesh) -> Bool:
    """(V,) True for used vertices whose stored tangent is zero, not finite or not of unit length, or whose sign is neither 1 nor
    -1."""
    out = np.zeros(mesh.vertices, np.bool_)
    if mesh.tangents is None:
        return out
    length = np.linalg.norm(mesh.tangents[:, :3].astype(np.float64), axis=1)
    good = (np.abs(length - 1.0) <= NORMAL_TOLERANCE) & (np.abs(mesh.tangents[:, 3]) == 1.0)
    out[mesh.used] = ~good[mesh.used]
    return out


def opposed_tangents(mesh: Mesh, channel: int) -> Bool:
    """(F,) True for triangles whose three stored tangents all run against the way that a UV channel grows, or all have the other
    hand than it. Asked of the triangle's own map first, and of what the common algorithm gives (see `geometry.tangents`) where
    that differs. O(F), O(F log F) where something is wrong.
    """
    none = np.zeros(mesh.triangles, np.bool_)
    if mesh.tangents is None or mesh.normals is None or channel >= len(mesh.uvs) or not mesh.triangles:
        return none
    uv = mesh.uvs[channel].astype(np.float64)[mesh.indices] * (1.0, -1.0)
    a, b = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    turn = a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]
    longest = np.maximum(np.abs(a).max(axis=1), np.abs(b).max(axis=1))
    corners = mesh.positions.astype(np.float64)[mesh.indices]
    one, two = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    along = (one * b[:, 1:] - two * a[:, 1:]) * np.sign(turn)[:, None]
    facing = np.einsum("fi,fki->fk", np.cross(one, two), mesh.normals.astype(np.float64)[mesh.indices])
    stored = mesh.tangents.astype(np.float64)[mesh.indices]
    against = (np.einsum("fi,fki->fk", along, stored[:, :, :3]) < 0).all(axis=1)
    other = (np.sign(turn)[:, None] * np.sign(facing) * stored[:, :, 3] < 0).all(axis=1)
    out: Bool = (against | other) & (np.abs(turn) / 2 > FLAT_UV * np.maximum(longest, UV_TOLERANCE) ** 2)
    if not out.any():
        return none
    flipped = (mesh.uvs[channel] * np.array((1, -1), np.float32)).astype(np.float32)
    made, sign, _ = tangent_space(mesh.positions, mesh.normals, flipped, mesh.indices)
    against = (np.einsum("fki,fki->fk", made.reshape(-1, 3, 3), stored[:, :, :3]) < 0).all(axis=1)
    other = (sign.reshape(-1, 3) * stored[:, :, 3] < 0).all(axis=1)
    out &= (against | other) & ~degenerate(mesh)
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
