"""Plain first UV sets at a real-world tile size: box, planar and cylindrical projection.

All of them work on corners in metres, in a frame of their own (the object's, or the world's), and split the vertices
that more than one side needs. v grows downwards in the scene, as in glTF, so that walls stand upright; u grows to the
right of who stands in front of a surface, so that no image is mirrored. `hand` is 1 in right-handed axes, −1 in left-handed
ones, and the other way round for what is drawn mirrored.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.scene import Axis, Mesh
from tidy_caravan.core.scene.arrays import F32, F64, I64, U32

CAP = 0.7
"""Cosine to the axis of a cylinder from which on a triangle belongs to its ends."""
AS_MUCH = 1e-3
"""Part of the surface by which more of it must look to one side of a plane than to the other."""


@dataclass(frozen=True)
class Projected:
    """source: (V',) the old vertex of each new one. indices: (F, 3) into them. uv: (V', 2)."""

    source: I64
    indices: U32
    uv: F32


def box_project(mesh: Mesh, frame: F64, up: Axis, hand: float = 1.0) -> Mesh:
    """The mesh with a first UV set by box projection, a metre a repeat. frame: as in `box`."""
    made = box(mesh, frame, up, 1.0, hand)
    out = mesh.with_vertices(made.source, indices=made.indices)
    return mesh.with_vertices(made.source, indices=made.indices, uvs=(made.uv, *out.uvs[1:]))


def box(mesh: Mesh, frame: F64, up: Axis, metres_per_repeat: float, hand: float = 1.0) -> Projected:
    """Every triangle projected along its main axis. frame: (4, 4) from the mesh to the frame, in metres."""
    points, vectors = framed(mesh, frame)
    axis = np.argmax(np.abs(vectors), axis=1)
    side = axis * 2 + (np.take_along_axis(vectors, axis[:, None], axis=1)[:, 0] < 0)
    source, indices, of_side = split(mesh, np.repeat(side[:, None], 3, axis=1), 6)
    uv = np.zeros((len(source), 2))
    for k in range(6):
        rows = of_side == k
        uv[rows] = laid_out(points[source[rows]], k // 2, up, hand if k % 2 == 0 else -hand)
    return Projected(source, indices, (uv / metres_per_repeat).astype(np.float32))


def planar(
    mesh: Mesh, frame: F64, up: Axis, metres_per_repeat: float, along: int | None = None, hand: float = 1.0
) -> Projected:
    """All of it along one axis, the thinnest where none is given, to be read from the side that more of its surface looks to;
    what looks to neither more is read from where the axis points."""
    points, vectors = framed(mesh, frame)
    used = points[mesh.used]
    axis = int(np.argmin(np.ptp(used, axis=0))) if along is None else along
    behind = bool(vectors[:, axis].sum() < -AS_MUCH * np.abs(vectors[:, axis]).sum())
    uv = laid_out(points, axis, up, -hand if behind else hand) / metres_per_repeat
    return Projected(np.arange(mesh.vertices), mesh.indices, uv.astype(np.float32))


def cylindrical(
    mesh: Mesh, frame: F64, up: Axis, metres_per_repeat: float, along: int | None = None, hand: float = 1.0
) -> Projected:
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
    # upside down where the way up is the other way along the axis
    top = -1.0 if up == f"-{'XYZ'[axis]}" else 1.0
    turning = hand * handed(a, b) * top / (2 * np.pi)
    uv = np.column_stack([flat * turning * repeats, -points[source, axis] * top / metres_per_repeat])
    for k in (3, 4):
        rows = of_side == k
        uv[rows] = laid_out(points[source[rows]], axis, up, hand if k == 3 else -hand) / metres_per_repeat
    return Projected(source, indices, uv.astype(np.float32))


def framed(mesh: Mesh, frame: F64) -> tuple[F64, F64]:
    """(V, 3) vertices in the frame and (F, 3) normals of the triangles there, twice their area long."""
    points = mesh.positions.astype(np.float64) @ frame[:3, :3].T + frame[:3, 3]
    corners = points[mesh.indices]
    vectors: F64 = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return points, vectors if np.linalg.det(frame[:3, :3]) >= 0 else -vectors


def laid_out(points: F64, axis: int, up: Axis, hand: float) -> F64:
    """(V, 2) m of points (V, 3) along an axis, as they are seen from where it points; hand −1: from behind."""
    u_axis, v_axis = across(axis, up)
    top = -1.0 if up == f"-{'XYZ'[v_axis]}" else 1.0
    right = hand * handed(u_axis, v_axis) * top
    return np.column_stack([points[:, u_axis] * right, -points[:, v_axis] * top])


def handed(first: int, second: int) -> float:
    """1 for axes that follow one another in a right-handed frame, −1 for the others."""
    return 1.0 if (second - first) % 3 == 1 else -1.0


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
