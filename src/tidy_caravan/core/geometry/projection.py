"""Plain first UV sets at a real-world tile size: box, planar and cylindrical projection.

All of them work on corners in metres, in a frame of their own (the object's, or the world's), and split the vertices
that more than one side needs. v grows downwards in the scene, as in glTF, so that walls stand upright.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.scene import Axis, Mesh
from tidy_caravan.core.scene.arrays import F32, F64, I64, U32

CAP = 0.7
"""Cosine to the axis of a cylinder from which on a triangle belongs to its ends."""


@dataclass(frozen=True)
class Projected:
    """source: (V',) the old vertex of each new one. indices: (F, 3) into them. uv: (V', 2)."""

    source: I64
    indices: U32
    uv: F32


def box_project(mesh: Mesh, frame: F64, up: Axis) -> Mesh:
    """The mesh with a first UV set by box projection, a metre a repeat. frame: as in `box`."""
    made = box(mesh, frame, up, 1.0)
    out = mesh.with_vertices(made.source, indices=made.indices)
    return mesh.with_vertices(made.source, indices=made.indices, uvs=(made.uv, *out.uvs[1:]))


def box(mesh: Mesh, frame: F64, up: Axis, metres_per_repeat: float) -> Projected:
    """Every triangle projected along its main axis. frame: (4, 4) from the mesh to the frame, in metres."""
    points, vectors = framed(mesh, frame)
    axis = np.argmax(np.abs(vectors), axis=1)
    side = axis * 2 + (np.take_along_axis(vectors, axis[:, None], axis=1)[:, 0] < 0)
    source, indices, of_side = split(mesh, np.repeat(side[:, None], 3, axis=1), 6)
    uv = np.zeros((len(source), 2))
    for k in range(6):
        rows = of_side == k
        u_axis, v_axis = across(k // 2, up)
        uv[rows, 0] = points[source[rows], u_axis] * (-1.0 if k % 2 else 1.0)
        uv[rows, 1] = -points[source[rows], v_axis]
    return Projected(source, indices, (uv / metres_per_repeat).astype(np.float32))


def planar(mesh: Mesh, frame: F64, up: Axis, metres_per_repeat: float, along: int | None = None) -> Projected:
    """All of it along one axis, the thinnest where none is given. Both sides read the same."""
    points, _ = framed(mesh, frame)
    used = points[mesh.used]
    axis = int(np.argmin(np.ptp(used, axis=0))) if along is None else along
    u_axis, v_axis = across(axis, up)
    uv = np.column_stack([points[:, u_axis], -points[:, v_axis]]) / metres_per_repeat
    return Projected(np.arange(mesh.vertices), mesh.indices, uv.astype(np.float32))


def cylindrical(mesh: Mesh, frame: F64, up: Axis, metres_per_repeat: float, along: int | None = None) -> Projected:
    """Wound about an axis through the middle, the upright one where none is given; ends are projected along it.

    All round it is a whole number of repeats, one at least, so that the seam does not show. The length of a way round
    is that at the mean distance from the axis, by area.
    """
    points, vectors = framed(mesh, frame)
    axis = "XYZ".index(up[-1]) if along is None else along
    a, b = (k for k in range(3) if k != axis)
    middle = (points[mesh.used].min(axis=0) + points[mesh.used].max(axis=0)) / 2
    angle = np.arctan2(points[:, b] - middle[b], points[:, a] - middle[a])
    radius = np.hypot(points[:, a] - middle[a], points[:, b] - middle[b])
    area = np.linalg.norm(vectors, axis=1)
    cap = np.abs(vectors[:, axis]) > CAP * area
    corner = angle[mesh.indices]
    # a corner on the axis has no angle: it takes that of the others
    lost = radius[mesh.indices] <= 1e-9 * max(float(radius.max(initial=0.0)), 1e-30)
    towards = np.where(lost, 0.0, np.exp(1j * corner)).sum(axis=1)
    corner = np.where(lost, np.angle(towards)[:, None], corner)
    turn = np.rint((corner - np.angle(towards)[:, None]) / (2 * np.pi)).astype(np.int64)
    # which way round: -1, 0 or 1 for the mantle, 2 and 3 for both ends
    side = np.where(cap[:, None], 3 + (vectors[:, axis] < 0)[:, None], 1 - turn)
    side = np.clip(side, 0, 4)
    mantle = ~cap
    if mantle.any() and area[mantle].sum() > 0:
        round_ = 2 * np.pi * float(np.average(radius[mesh.indices[mantle]].mean(axis=1), weights=area[mantle]))
    else:
        round_ = 0.0
    repeats = max(1.0, float(np.rint(round_ / metres_per_repeat)))
    # corners on the axis differ from triangle to triangle
    own = np.where(lost & ~cap[:, None], 5 + np.arange(mesh.triangles)[:, None], side)
    source, indices, of_side = split(mesh, own, 5 + mesh.triangles)
    flat = np.zeros(len(source))
    flat[indices.reshape(-1)] = (corner - 2 * np.pi * turn).reshape(-1)
    ends = (of_side == 3) | (of_side == 4)
    u_axis, v_axis = across(axis, up)
    uv = np.column_stack([flat / (2 * np.pi) * repeats, -points[source, axis] / metres_per_repeat])
    uv[ends, 0] = points[source[ends], u_axis] / metres_per_repeat
    uv[ends, 1] = -points[source[ends], v_axis] / metres_per_repeat
    return Projected(source, indices, uv.astype(np.float32))


def framed(mesh: Mesh, frame: F64) -> tuple[F64, F64]:
    """(V, 3) vertices in the frame and (F, 3) normals of the triangles there, twice their area long."""
    points = mesh.positions.astype(np.float64) @ frame[:3, :3].T + frame[:3, 3]
    corners = points[mesh.indices]
    vectors: F64 = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return points, vectors if np.linalg.det(frame[:3, :3]) >= 0 else -vectors


def across(axis: int, up: Axis) -> tuple[int, int]:
    """The axes that u and v run along for what is projected along another: v upright where that is possible."""
    upright = "XYZ".index(up[-1])
    others = [k for k in range(3) if k != axis]
    v_axis = upright if upright in others else others[1]
    return next(k for k in others if k != v_axis), v_axis


def split(mesh: Mesh, side: I64, sides: int) -> tuple[I64, U32, I64]:
    """Vertices that corners (F, 3) need on several sides, once for each: (V',) old vertex, (F, 3) indices, (V',) side."""
    key = mesh.indices.astype(np.int64) * sides + side
    values, inverse = np.unique(key, return_inverse=True)
    return values // sides, inverse.reshape(-1, 3).astype(np.uint32), values % sides
