"""A plain first UV set by box projection at a real-world tile size."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.scene import Axis, Convention, Mesh
from tidy_caravan.core.scene.arrays import F32, I64, U32


def box_project(mesh: Mesh, convention: Convention, metres_per_repeat: float = 1.0) -> Mesh:
    """The mesh with a first UV set by box projection (see `box_coordinates`)."""
    source, indices, coordinates = box_coordinates(mesh, convention.up, convention.metres_per_unit, metres_per_repeat)
    out = mesh.with_vertices(source, indices=indices)
    return mesh.with_vertices(source, indices=indices, uvs=(coordinates, *out.uvs[1:]))


def box_coordinates(
    mesh: Mesh, up_axis: Axis, metres_per_unit: float, metres_per_repeat: float
) -> tuple[I64, U32, F32]:
    """Every triangle projected along its main axis, seams split: (V',) the old vertex of each new one, (F, 3) indices
    into them and (V', 2) their coordinates.

    One repeat covers `metres_per_repeat` metres of the mesh at scale 1; walls stand upright (v grows
    downwards in the scene, as in glTF).
    """
    up = "XYZ".index(up_axis[-1])
    vectors = face_vectors(mesh.positions, mesh.indices)
    axis = np.argmax(np.abs(vectors), axis=1)
    side = axis * 2 + (np.take_along_axis(vectors, axis[:, None], axis=1)[:, 0] < 0)
    key = mesh.indices.astype(np.int64) * 6 + side[:, None]
    values, inverse = np.unique(key, return_inverse=True)
    source, of_side = values // 6, values % 6
    points = mesh.positions[source].astype(np.float64) * (metres_per_unit / metres_per_repeat)
    uv = np.zeros((len(source), 2))
    for k in range(6):
        rows = of_side == k
        others = [a for a in range(3) if a != k // 2]
        v_axis = up if up in others else others[1]
        u_axis = next(a for a in others if a != v_axis)
        uv[rows, 0] = points[rows, u_axis] * (-1.0 if k % 2 else 1.0)
        uv[rows, 1] = -points[rows, v_axis]
    coordinates: F32 = uv.astype(np.float32)
    return source, inverse.reshape(-1, 3).astype(np.uint32), coordinates
