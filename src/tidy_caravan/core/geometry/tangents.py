"""Tangents for normal maps: per vertex, w is the sign of the bitangent, as glTF 2.0 stores them.

Face tangents from the UV gradient (Lengyel, 2001), weighted by corner angle, made orthogonal to the vertex
normal. Vertices where mirrored and unmirrored UVs meet are split, since one vertex has one sign.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from tidy_caravan.core.geometry.normals import face_normals
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F32, F64


def with_tangents(mesh: Mesh, channel: int) -> Mesh:
    """The mesh with tangents (V', 4) for a UV channel; same triangles, some vertices split.

    A mesh without normals gets flat ones, which is what the standard says it has. The mesh must have
    the channel.
    """
    if mesh.normals is None:
        flat = face_normals(mesh.positions, mesh.indices)
        corners = mesh.indices.ravel()
        own = np.arange(len(corners), dtype=np.uint32).reshape(-1, 3)
        mesh = mesh.with_vertices(corners, indices=own, normals=np.repeat(flat, 3, axis=0))
    points = mesh.positions.astype(np.float64)[mesh.indices]
    uv = mesh.uvs[channel].astype(np.float64)[mesh.indices]
    tangent, sign = face_tangents(points, uv)
    key = mesh.indices.astype(np.int64) * 2 + (sign < 0)[:, None]
    values, inverse = np.unique(key, return_inverse=True)
    indices = inverse.reshape(-1, 3)
    out = mesh.with_vertices(values // 2, indices=indices.astype(np.uint32))
    assert out.normals is not None
    normal = out.normals.astype(np.float64)
    total = np.zeros((len(values), 3))
    weight = corner_angles(points)
    for k in range(3):
        np.add.at(total, indices[:, k], tangent * weight[:, k, None])
    total -= normal * np.einsum("ij,ij->i", total, normal)[:, None]
    length = np.linalg.norm(total, axis=1)
    lost = ~(length > 1e-9)
    total[lost] = any_orthogonal(normal[lost])
    length[lost] = 1.0
    stored: F32 = np.column_stack([total / length[:, None], np.where(values % 2, -1.0, 1.0)]).astype(np.float32)
    return replace(out, tangents=stored)


def face_tangents(points: F64, uv: F64) -> tuple[F64, F64]:
    """(F, 3, 3), (F, 3, 2) -> unit direction of growing u (F, 3), +1 or -1 for mirrored UVs (F,)."""
    e1, e2 = points[:, 1] - points[:, 0], points[:, 2] - points[:, 0]
    d1, d2 = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    area = d1[:, 0] * d2[:, 1] - d1[:, 1] * d2[:, 0]
    sign = np.where(area < 0, -1.0, 1.0)
    direction = (e1 * d2[:, 1:] - e2 * d1[:, 1:]) * np.sign(area)[:, None]
    length = np.linalg.norm(direction, axis=1, keepdims=True)
    tangent: F64 = direction / np.where(length > 0, length, 1.0)
    return tangent, sign


def corner_angles(points: F64) -> F64:
    """(F, 3) inner angles in radians."""
    out = np.zeros((len(points), 3))
    for k in range(3):
        a, b = points[:, (k + 1) % 3] - points[:, k], points[:, (k + 2) % 3] - points[:, k]
        out[:, k] = np.arctan2(np.linalg.norm(np.cross(a, b), axis=1), np.einsum("ij,ij->i", a, b))
    return out


def any_orthogonal(normal: F64) -> F64:
    """(N, 3) some unit vectors at right angles to the given ones."""
    helper = np.where(np.abs(normal[:, :1]) < 0.9, [[1.0, 0.0, 0.0]], [[0.0, 1.0, 0.0]])
    out = np.cross(normal, helper)
    length = np.linalg.norm(out, axis=1, keepdims=True)
    unit: F64 = out / np.where(length > 0, length, 1.0)
    return unit
