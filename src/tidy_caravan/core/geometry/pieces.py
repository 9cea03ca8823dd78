"""A mesh in pieces: which triangle goes to which, and the meshes of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.shells import components, sorted_edges, welded_faces
from tidy_caravan.core.geometry.shells import pieces_of as pieces_of_edges
from tidy_caravan.core.geometry.solids import touching_solids
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray

FLAT = float(np.cos(np.radians(0.5)))
"""Cosine between triangles of one flat face, and between a triangle and normals that shade it flat."""


def by_material(mesh: Mesh) -> I64:
    """(F,) the material of each triangle, counted in the order of their first use."""
    order = {slot: k for k, slot in enumerate(mesh.slots)}
    found, number = np.unique(mesh.material, return_inverse=True)
    table = np.array([order[s] for s in found.tolist()], np.int64)
    return table[number.reshape(-1)]


def by_shell(mesh: Mesh) -> I64:
    """(F,) what hangs together by places that triangles share, counted in the order of the triangles; solids that touch are
    several, and so is what is fixed to them. O(F log F)."""
    faces, places = welded_faces(mesh)
    label = by_places(faces, places)
    if pieces_of_edges(mesh)[0] == label.max(initial=-1) + 1 and sorted_edges(mesh).times.max(initial=0) <= 2:
        return in_order(label)
    part, solid = touching_solids(mesh)
    alone = solid[part]
    if not alone.any():
        return in_order(label)
    out = np.where(alone, part, len(solid))
    rest = np.flatnonzero(~alone)
    out[rest] += by_places(faces[rest], places)
    # a triangle without three corners is of whatever it lies on
    thin = (faces == np.roll(faces, 1, axis=1)).any(axis=1) & ~alone
    only = np.ones(int(out.max()) + 1, np.bool_)
    only[out[~thin]] = False
    at = np.full(places, -1)
    at[faces[alone].reshape(-1)] = np.repeat(out[alone], 3)
    lost = np.flatnonzero(only[out])
    out[lost] = np.where(at[faces[lost, 0]] >= 0, at[faces[lost, 0]], out[lost])
    return in_order(out)


def by_places(faces: I64, places: int) -> I64:
    """(F,) what hangs together by places that triangles share."""
    a = np.concatenate([faces[:, 0], faces[:, 1]])
    b = np.concatenate([faces[:, 1], faces[:, 2]])
    _, label = components(a, b, places)
    return label[faces[:, 0]]


def by_face(mesh: Mesh) -> I64:
    """(F,) flat faces: triangles that hang together over edges across which the surface does not bend. O(F log F)."""
    faces, _ = welded_faces(mesh)
    normals = face_vectors(mesh.positions.astype(np.float64), mesh.indices)
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-300)
    ends = np.sort(np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]]), axis=1)
    who = np.tile(np.arange(len(faces)), 3)
    _, edge = np.unique(ends, axis=0, return_inverse=True)
    order = np.argsort(edge.reshape(-1), kind="stable")
    a, b = order[:-1], order[1:]
    same = edge.reshape(-1)[a] == edge.reshape(-1)[b]
    one, two = who[a[same]], who[b[same]]
    flat = (normals[one] * normals[two]).sum(axis=1) >= FLAT
    _, label = components(one[flat], two[flat], len(faces))
    return in_order(label)


def by_cell(middles: F64, cell: F64, origin: F64) -> I64:
    """(F,) the cell of a grid that the middle of each triangle (F, 3) lies in; axes with a cell of nought are not cut."""
    wide = np.where(cell > 0, cell, np.inf)
    return in_order(np.unique(np.floor((middles - origin) / wide), axis=0, return_inverse=True)[1])


def by_halving(mesh: Mesh, most_vertices: int = 0, size: float = 0.0) -> I64:
    """(F,) pieces of at most so many vertices, and no larger than `size` where triangles are not: halved across the
    longest side again and again. O(F log F · halvings)."""
    corners = mesh.positions.astype(np.float64)[mesh.indices]
    middles = corners.mean(axis=1)
    out = np.zeros(mesh.triangles, np.int64)
    waiting, made = [np.arange(mesh.triangles)], 0
    while waiting:
        rows = waiting.pop()
        extent = np.ptp(corners[rows].reshape(-1, 3), axis=0)
        many = most_vertices > 0 and len(np.unique(mesh.indices[rows])) > most_vertices
        span = np.ptp(middles[rows], axis=0)
        axis = int(np.argmax(span))
        if (many or (size > 0 and extent.max() > size)) and span[axis] > 0:
            at = np.median(middles[rows, axis]) if many else (middles[rows, axis].min() + middles[rows, axis].max()) / 2
            low = middles[rows, axis] < at
            if low.any() and not low.all():
                waiting += [rows[~low], rows[low]]
                continue
        out[rows] = made
        made += 1
    return in_order(out)


def in_order(label: AnyArray) -> I64:
    """The labels counted anew in the order in which they come first."""
    _, first, number = np.unique(label, return_index=True, return_inverse=True)
    rank = np.empty(len(first), np.int64)
    rank[np.argsort(first, kind="stable")] = np.arange(len(first))
    return rank[number.reshape(-1)]


def pieces_of(mesh: Mesh, label: I64) -> list[Mesh]:
    """The meshes of all labels, with the vertices that they use. O(F log F + vertices of all pieces)."""
    order = np.argsort(label, kind="stable")
    begin = np.searchsorted(label[order], np.arange(int(label.max(initial=-1)) + 2))
    return [slim(mesh.with_triangles(np.sort(order[a:b]))) for a, b in zip(begin[:-1], begin[1:], strict=True)]


def slim(mesh: Mesh) -> Mesh:
    """The mesh without vertices that no triangle uses."""
    used, number = np.unique(mesh.indices, return_inverse=True)
    return mesh.with_vertices(used, indices=number.reshape(-1, 3).astype(np.uint32))


def base_of(mesh: Mesh, up: F64) -> F64:
    """(3,) the middle of its underside, along the axis of the mesh that is nearest to `up`."""
    box = mesh.bounds
    out: F64 = box.mean(axis=0)
    axis = int(np.argmax(np.abs(up)))
    out[axis] = box[0, axis] if up[axis] > 0 else box[1, axis]
    return out


def put_at(mesh: Mesh, origin: Sequence[float] | F64) -> Mesh:
    """The mesh with its own origin somewhere else; moved in float64."""
    return replace(mesh, positions=(mesh.positions.astype(np.float64) - origin).astype(np.float32), recipe=None)
