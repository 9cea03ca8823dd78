"""Corner normals with hard edges: smooth across edges below a crease angle, split above it."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.geometry.corners import join
from tidy_caravan.core.geometry.normals import cross, face_vectors
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F32, F64, I64, U32, AnyArray, Bool


def corner_normals(points: F64, triangles: I64, crease_deg: float) -> F32:
    """(T, 3, 3) unit normals per corner, weighted by area and angle (Thürmer and Wüthrich, 1998).

    points: (P, 3). triangles: (T, 3) into them. Two corners at a vertex share their normal when their faces
    are connected around it over edges that bend by less than `crease_deg`. O(T log T).
    """
    # dear to load, and most scenes bring their normals
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    count = len(triangles)
    vectors = face_vectors(points, triangles.astype(np.uint32))
    length = np.linalg.norm(vectors, axis=1)
    unit = vectors / np.where(length > 0, length, 1.0)[:, None]
    start, end = triangles.ravel(), np.roll(triangles, -1, axis=1).ravel()
    low, high = np.minimum(start, end), np.maximum(start, end)
    key = low * (int(triangles.max(initial=0)) + 1) + high
    order = np.argsort(key, kind="stable")
    same = np.flatnonzero(key[order][1:] == key[order][:-1])
    a, b = order[same], order[same + 1]
    soft = np.einsum("ij,ij->i", unit[a // 3], unit[b // 3]) >= np.cos(np.radians(crease_deg))
    a, b = a[soft], b[soft]
    # corner k of a face lies at the start of its half-edge k; the end is the next corner
    next_a, next_b = a - a % 3 + (a + 1) % 3, b - b % 3 + (b + 1) % 3
    flipped = start[a] == start[b]
    rows: AnyArray = np.concatenate([a, next_a])
    columns: AnyArray = np.concatenate([np.where(flipped, b, next_b), np.where(flipped, next_b, b)])
    graph = coo_array((np.ones(len(rows), np.int8), (rows, columns)), shape=(count * 3, count * 3))
    groups, label = connected_components(graph, directed=False)
    weighted = np.repeat(vectors, 3, axis=0) * corner_angles(points, triangles).reshape(-1, 1)
    total = np.column_stack([np.bincount(label, weighted[:, k], minlength=groups) for k in range(3)])
    size = np.linalg.norm(total, axis=1)
    total[~(size > 0)] = (0.0, 1.0, 0.0)
    size[~(size > 0)] = 1.0
    out: F32 = (total / size[:, None])[label].reshape(count, 3, 3).astype(np.float32)
    return out


def split_normals(mesh: Mesh, bad: Bool, crease_deg: float) -> tuple[I64, U32, F32]:
    """Normals at the vertices in `bad` (V,), made anew; all others keep theirs bit for bit.

    Returns (V',) the old vertex of each new one, (F, 3) indices into them, and (V', 3) normals.

    A vertex is split where its faces meet at a hard edge. Vertices at one place count as one, so that seams of other
    data stay smooth. Corners that lie on no usable face point up +Y. O(F log F).
    """
    _, welded = np.unique(mesh.positions, axis=0, return_inverse=True)
    places = np.zeros((int(welded.max(initial=-1)) + 1, 3))
    places[welded.reshape(-1)] = mesh.positions
    fresh = corner_normals(places, welded.reshape(-1)[mesh.indices].astype(np.int64), crease_deg).reshape(-1, 3)
    corner = mesh.indices.ravel().astype(np.int64)
    old = np.zeros((mesh.vertices, 3), np.float32) if mesh.normals is None else mesh.normals
    normals: F32 = np.where(bad[corner][:, None], fresh, old[corner]).astype(np.float32)
    first, vertex = join(corner, [normals])
    # unused vertices and those that stay whole keep their order; split ones come after
    order = np.argsort(corner[first], kind="stable")
    rank = np.empty(len(order), np.int64)
    rank[order] = np.arange(len(order))
    rows = first[order]
    return corner[rows], rank[vertex].reshape(-1, 3).astype(np.uint32), normals[rows]


def corner_angles(points: F64, triangles: I64) -> F64:
    """(T, 3) inner angles in radians; zero where an edge has no length."""
    p = points[triangles]
    out = np.zeros(triangles.shape)
    for k in range(3):
        u, v = p[:, (k + 1) % 3] - p[:, k], p[:, (k + 2) % 3] - p[:, k]
        out[:, k] = np.arctan2(np.linalg.norm(cross(u, v), axis=1), np.einsum("ij,ij->i", u, v))
    return out
