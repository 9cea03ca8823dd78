"""Shells of a mesh: pieces that hang together over edges, whether each is closed, and its signed volume."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.scene.arrays import F64, I64, Bool
from tidy_caravan.core.scene.mesh import Mesh

WELD_STEPS = 4.0
"""Vertices of open edges count as one within so many float32 steps at their own place …"""
WELD_SIZE = 1e-6
"""… or this part of the mesh's diagonal, whichever is more: seams that an exporter computed twice."""
FLAT = 1e-9
"""A closed shell has no volume to speak of below this part of its diagonal cubed."""


@dataclass(frozen=True)
class Shells:
    """label: (F,) shell of each triangle. closed (K,): every edge is run once each way. volume (K,): signed, in the
    mesh's units cubed, noughts for open ones. boxes (K, 2, 3)."""

    label: I64
    closed: Bool
    volume: F64
    boxes: F64

    @cached_property
    def inverted(self) -> Bool:
        """(K,) closed shells whose faces all look inwards, cavities of an enclosing shell aside. O(K log K) and what
        lies above each other."""
        import shapely

        out: Bool = self.closed & (self.volume < 0)
        inner, outer = np.flatnonzero(out), np.flatnonzero(self.closed & (self.volume > 0))
        if len(inner) and len(outer):
            low, high = self.boxes[:, 0], self.boxes[:, 1]
            plans = shapely.box(low[:, 0], low[:, 1], high[:, 0], high[:, 1])
            own, other = shapely.STRtree(plans[outer]).query(plans[inner])
            a, b = inner[own], outer[other]
            around = self.volume[b] > -self.volume[a]
            around &= (low[b] <= low[a]).all(axis=1) & (high[b] >= high[a]).all(axis=1)
            out[a[around]] = False
        return out


def welded_faces(mesh: Mesh) -> tuple[I64, int]:
    """(F, 3) faces over places instead of vertices, and how many places there are.

    Vertices at equal positions are one place; so are vertices of open edges that differ by rounding only.
    O(V log V), a search tree over the open edges' vertices when there are any.
    """
    places, welded = np.unique(mesh.positions, axis=0, return_inverse=True)
    faces: I64 = welded.reshape(-1)[mesh.indices].astype(np.int64)
    edges = half_edges(faces)
    key = edges.min(axis=1) * len(places) + edges.max(axis=1)
    _, which, times = np.unique(key, return_inverse=True, return_counts=True)
    open_ = np.unique(edges[times[which] == 1])
    if not len(open_):
        return faces, len(places)
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components
    from scipy.spatial import cKDTree

    points = places[open_].astype(np.float64)
    diagonal = float(np.linalg.norm(mesh.bounds[1] - mesh.bounds[0]))
    step = float(np.spacing(np.float32(np.abs(points).max(initial=0.0))))
    # never further than a part of the shortest open edge: a seam is closed, a thin sheet is not
    ends = edges[times[which] == 1]
    shortest = np.linalg.norm(places[ends[:, 0]].astype(np.float64) - places[ends[:, 1]], axis=1).min()
    reach = min(max(WELD_STEPS * step, WELD_SIZE * diagonal), float(shortest) / 4)
    pairs = cKDTree(points).query_pairs(reach, output_type="ndarray")
    if not len(pairs):
        return faces, len(places)
    a, b = open_[pairs[:, 0]], open_[pairs[:, 1]]
    graph = coo_array((np.ones(len(a), np.int8), (a, b)), shape=(len(places), len(places)))
    count, label = connected_components(graph, directed=False)
    out: I64 = label[faces].astype(np.int64)
    return out, int(count)


def half_edges(faces: I64) -> I64:
    """(3F, 2) from and to, in the order of the faces' first, second and third edges."""
    return np.concatenate([faces[:, [0, 1]], faces[:, [1, 2]], faces[:, [2, 0]]])


def owned_edges(faces: I64, places: int) -> tuple[I64, I64, I64]:
    """(E, 2) half edges that lead somewhere, (E,) the triangle of each, and (E,) a key that both ways of an edge share."""
    edges = half_edges(faces)
    owner = np.tile(np.arange(len(faces)), 3)
    real = edges[:, 0] != edges[:, 1]
    edges, owner = edges[real], owner[real]
    return edges, owner, edges.min(axis=1) * places + edges.max(axis=1)


def shells_of(mesh: Mesh) -> Shells:
    """All shells of a mesh. O(F log F); kept with the mesh, since several checks ask for it."""
    kept: Shells | None = mesh.__dict__.get("_shells")
    if kept is None:
        kept = _shells(mesh)
        mesh.__dict__["_shells"] = kept
    return kept


def _shells(mesh: Mesh) -> Shells:
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    if not mesh.triangles:
        return Shells(np.zeros(0, np.int64), np.zeros(0, np.bool_), np.zeros(0), np.zeros((0, 2, 3)))
    faces, places = welded_faces(mesh)
    edges, owner, key = owned_edges(faces, places)
    order = np.argsort(key, kind="stable")
    same = key[order][1:] == key[order][:-1]
    a, b = owner[order][:-1][same], owner[order][1:][same]
    graph = coo_array((np.ones(len(a), np.int8), (a, b)), shape=(len(faces), len(faces)))
    count, found = connected_components(graph, directed=False)
    label: I64 = np.asarray(found).astype(np.int64)
    # closed: every edge is run as often one way as the other
    _, which = np.unique(key, return_inverse=True)
    balance = np.bincount(which, weights=np.where(edges[:, 0] < edges[:, 1], 1.0, -1.0))
    closed = np.ones(count, np.bool_)
    closed[label[owner[balance[which] != 0]]] = False
    closed &= np.bincount(label, minlength=count) >= 4
    points = mesh.positions.astype(np.float64)
    corners = points[mesh.indices]
    low, high = np.full((count, 3), np.inf), np.full((count, 3), -np.inf)
    np.minimum.at(low, label, corners.min(axis=1))
    np.maximum.at(high, label, corners.max(axis=1))
    middle = (low + high)[label] / 2
    # each shell about its own middle, so that a far origin costs nothing
    vectors = face_vectors(points, mesh.indices)
    volume = np.bincount(label, np.einsum("fi,fi->f", corners[:, 0] - middle, vectors), minlength=count) / 6
    diagonal = np.linalg.norm(high - low, axis=1)
    volume = np.where(closed & (np.abs(volume) > FLAT * diagonal**3), volume, 0.0)
    return Shells(label, closed, volume, np.stack([low, high], axis=1))
