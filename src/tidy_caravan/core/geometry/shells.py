"""Shells of a mesh: pieces that hang together over edges, whether each is closed, and its signed volume."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from tidy_caravan.core.geometry.corners import first_equals, join
from tidy_caravan.core.scene.arrays import F32, F64, I64, Bool
from tidy_caravan.core.scene.keeping import kept
from tidy_caravan.core.scene.mesh import Mesh

WELD_STEPS = 4.0
"""Vertices of open edges count as one within so many float32 steps at their own place …"""
WELD_SIZE = 1e-6
"""… or this part of the mesh's diagonal, whichever is more: seams that an exporter computed twice."""
SMALL = 2000
"""Places or triangles up to which what hangs together is found without a sparse graph."""
LEAST = 4
"""Triangles that a closed shell has at least."""
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


@kept
def welded_faces(mesh: Mesh) -> tuple[I64, int]:
    """(F, 3) faces over places instead of vertices, and how many places there are.

    Vertices at equal positions are one place; so are vertices of open edges that differ by rounding only.
    O(V log V), a search tree over the open edges' vertices when there are any.
    """
    if mesh.vertices <= SMALL:  # sorting few is quicker than hashing them
        order = np.lexsort(mesh.positions.T)
        ordered = mesh.positions[order]
        new = np.ones(len(order), np.bool_)
        new[1:] = (ordered[1:] != ordered[:-1]).any(axis=1)
        welded = np.empty(len(order), np.int64)
        welded[order] = np.cumsum(new) - 1
        places = ordered[new]
    else:
        first, welded = join(np.zeros(mesh.vertices, np.int64), [mesh.positions])
        places = mesh.positions[first]
    faces: I64 = welded[mesh.indices]
    edges = edges_between(faces, len(places))
    low, high = edges.ends(edges.begin[edges.times == 1])
    there: Bool = np.asarray(np.isfinite(places).all(axis=1))  # what is no number stands nowhere
    some = there[low] & there[high]
    pairs = near_ends(mesh, places, low[some], high[some])
    if not len(pairs):
        mesh.__dict__["_edges"] = edges
        return faces, len(places)
    count, label = components(pairs[:, 0], pairs[:, 1], len(places))
    out: I64 = label[faces]
    return out, count


def near_ends(mesh: Mesh, places: F32, low: I64, high: I64) -> I64:
    """(N, 2) ends of open edges, from place `low` to `high` each, that differ by rounding only."""
    if not len(low):
        return np.zeros((0, 2), np.int64)
    from scipy.spatial import cKDTree

    open_ = np.unique(np.concatenate([low, high]))
    points = places[open_].astype(np.float64)
    diagonal = float(np.linalg.norm(mesh.bounds[1] - mesh.bounds[0]))
    step = float(np.spacing(np.float32(np.abs(points).max(initial=0.0))))
    # never further than a part of the shortest open edge: a seam is closed, a thin sheet is not
    shortest = np.linalg.norm(places[low].astype(np.float64) - places[high], axis=1).min()
    reach = min(max(WELD_STEPS * step, WELD_SIZE * diagonal), float(shortest) / 4)
    out: I64 = open_[cKDTree(points).query_pairs(reach, output_type="ndarray")]
    return out


@dataclass(frozen=True)
class SortedEdges:
    """Half edges that lead somewhere, in the order of the edge that they are of. half: (E,) their numbers, those of the
    triangles' first sides before those of the second and third. owner: (E,) triangle. forward: (E,) whether it runs from
    the lower place. begin: (N,) where each edge begins. times: (N,) half edges of each. faces: (F, 3) over places."""

    half: I64
    owner: I64
    forward: Bool
    begin: I64
    times: I64
    faces: I64

    def ends(self, rows: I64) -> tuple[I64, I64]:
        """The places that some of the half edges run from and to."""
        face, side = self.owner[rows], self.half[rows] // len(self.faces)
        return self.faces[face, side], self.faces[face, (side + 1) % 3]


def sorted_edges(mesh: Mesh) -> SortedEdges:
    """The half edges of a mesh, its vertices joined where they stand. O(F log F); kept with the mesh."""
    faces, places = welded_faces(mesh)
    found: SortedEdges | None = mesh.__dict__.get(
        "_edges"
    )  # those that joining the vertices took, where they are right
    if found is None:
        found = edges_between(faces, places)
        mesh.__dict__["_edges"] = found
    return found


def edges_between(faces: I64, places: int) -> SortedEdges:
    """The half edges of triangles (F, 3) over so many places. O(F log F)."""
    a, b, c = faces.T
    p, q = np.concatenate([a, b, c]), np.concatenate([b, c, a])
    forward = p < q
    low, high = np.minimum(p, q), np.maximum(p, q)
    key = low * places + high
    bits = len(key).bit_length()
    if places.bit_length() * 2 + bits < 63:
        # number and key in one: sorting values is quicker than sorting what points to them
        packed = (key << bits) | np.arange(len(key))
        packed.sort()
        order, ordered = packed & ((1 << bits) - 1), packed >> bits
    else:
        order = np.argsort(key)
        ordered = key[order]
    if (p == q).any():
        leads = (p != q)[order]
        order, ordered = order[leads], ordered[leads]
    first = np.ones(len(order), np.bool_)
    first[1:] = ordered[1:] != ordered[:-1]
    begin = np.flatnonzero(first)
    owner = order - len(faces) * ((order >= len(faces)).astype(np.int64) + (order >= 2 * len(faces)))
    return SortedEdges(order, owner, forward[order], begin, np.diff(np.append(begin, len(order))), faces)


@kept
def pieces_of(mesh: Mesh) -> tuple[int, I64]:
    """How many shells a mesh has, and (F,) which each triangle is of."""
    e = sorted_edges(mesh)
    if mesh.triangles > SMALL and len(e.times) and e.times.max() <= 2 and len(e.owner) == 3 * mesh.triangles:
        return components_of_manifold(e, mesh.triangles)
    later = np.ones(len(e.owner), np.bool_)
    later[e.begin] = False
    inner = np.flatnonzero(later)
    return components(e.owner[inner - 1], e.owner[inner], mesh.triangles)


def components(a: I64, b: I64, count: int) -> tuple[int, I64]:
    """How many pieces the edges (E,), (E,) leave of so many places, and (count,) which piece each is in, in order of the
    first. Small graphs are done here: building a sparse one costs more than they do."""
    if count > SMALL:
        from scipy.sparse import coo_array
        from scipy.sparse.csgraph import connected_components

        graph = coo_array((np.ones(len(a), np.int8), (a, b)), shape=(count, count))
        number, label = connected_components(graph, directed=False)
        return int(number), label.astype(np.int64)
    low = np.arange(count)
    while True:
        least = np.minimum(low[a], low[b])
        before = low
        low = low.copy()
        np.minimum.at(low, a, least)
        np.minimum.at(low, b, least)
        low = low[low]
        if np.array_equal(low, before):
            break
    first = low == np.arange(count)
    return int(first.sum()), (np.cumsum(first) - 1)[low]


def components_of_manifold(e: SortedEdges, count: int) -> tuple[int, I64]:
    """The same where no edge has more than two triangles: each has three neighbours at most, which is a sparse graph as
    it stands, and needs no sorting."""
    from scipy.sparse import csr_array
    from scipy.sparse.csgraph import connected_components

    beside = np.empty(len(e.half), np.int32)
    beside[e.half] = e.owner  # at an open edge, itself
    two = e.begin[e.times == 2]
    beside[e.half[two]], beside[e.half[two + 1]] = e.owner[two + 1], e.owner[two]
    indices = np.ascontiguousarray(beside.reshape(3, count).T).reshape(-1)
    indptr = np.arange(0, 3 * count + 1, 3, dtype=np.int32)
    graph = csr_array((np.ones(len(indices)), indices, indptr), shape=(count, count))
    number, label = connected_components(graph, directed=True, connection="strong")
    return int(number), label.astype(np.int64)


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


@kept
def first_alike(mesh: Mesh) -> tuple[I64, I64, Bool]:
    """(F,) the first triangle at the same place that looks the same way, (F,) which corner of each is called first for
    that, and (F,) whether it has three corners."""
    faces, places = welded_faces(mesh)
    turn = faces.argmin(axis=1)
    a, b, c = (faces[np.arange(len(faces)), (turn + k) % 3] for k in range(3))
    first = first_equals(first_equals(a * places + b) * places + c)
    return first, turn, (a != b) & (b != c) & (a != c)


def backed(mesh: Mesh) -> Bool:
    """(F,) True for triangles that stand exactly where another of the mesh stands that looks the other way: they are seen
    from both sides together. O(F) where no edge has more than two triangles and no two are a piece, O(F log F) else."""
    if sorted_edges(mesh).times.max(initial=0) <= 2 and (np.bincount(pieces_of(mesh)[1]) != 2).all():
        return np.zeros(mesh.triangles, np.bool_)
    faces, places = welded_faces(mesh)
    least, middle, most = np.sort(faces, axis=1).T
    place = first_equals(first_equals(least * places + middle) * places + most)
    turn, rows = faces.argmin(axis=1), np.arange(len(faces))
    forward = faces[rows, (turn + 1) % 3] < faces[rows, (turn + 2) % 3]
    one, other = (np.bincount(place[way], minlength=len(faces)) > 0 for way in (forward, ~forward))
    out: Bool = (one & other)[place]
    return out


def agreeing(mesh: Mesh) -> I64:
    """(F,) how many other triangles run along an edge of each in the opposite direction, as neighbours do. O(F log F)."""
    faces, places = welded_faces(mesh)
    edges = half_edges(faces)
    keys, number = np.unique(edges[:, 0] * places + edges[:, 1], return_inverse=True)
    times = np.bincount(number.reshape(-1), minlength=len(keys))
    back = edges[:, 1] * places + edges[:, 0]
    at = np.minimum(np.searchsorted(keys, back), max(len(keys) - 1, 0))
    out: I64 = np.where(keys[at] == back, times[at], 0).reshape(3, -1).sum(axis=0)
    return out


def without_repeated(mesh: Mesh) -> tuple[Mesh, I64] | None:
    """The mesh without triangles that an earlier one is at the place of, looking the same way, and (F,) which of its
    triangles each is; None where there are none such.

    A triangle that was made twice is another fault than its neighbours': it must not open a closed shell. O(F) where no
    edge has more than two triangles or is run twice the same way, O(F log F) else.
    """
    e = sorted_edges(mesh)
    two = e.begin[e.times == 2]
    if e.times.max(initial=0) <= 2 and (e.forward[two] != e.forward[two + 1]).all():
        return None
    first, _, whole = first_alike(mesh)
    rows, number = np.unique(np.where(whole, first, np.arange(len(first))), return_inverse=True)
    if len(rows) == mesh.triangles:
        return None
    return Mesh(mesh.positions, mesh.indices[rows], mesh.material[rows]), number.reshape(-1)


def with_closed_sheets(e: SortedEdges, label: I64, closed: Bool) -> tuple[I64, Bool]:
    """Shells (F,) and whether each is closed, where a sheet over edges of two within an open one that is closed by itself is
    a shell of its own: a box stays one with a fin welded to it, or with another box on an edge of it."""
    two = e.begin[e.times == 2]
    sheets, sheet = components(e.owner[two], e.owner[two + 1], len(label))
    edge = np.repeat(np.arange(len(e.times)), e.times)
    rows = np.flatnonzero(~closed[label[e.owner]])
    kinds, number = np.unique(edge[rows] * sheets + sheet[e.owner[rows]], return_inverse=True)
    balance = np.bincount(number.reshape(-1), np.where(e.forward[rows], 1.0, -1.0))
    good = np.bincount(sheet, minlength=sheets) >= LEAST
    good[sheet[closed[label]]] = False
    good[kinds[balance != 0] % sheets] = False
    mine = good[sheet]
    apart = np.where(mine, len(closed) + sheet, label)
    found, out = np.unique(apart, return_inverse=True)
    whole = np.append(closed, np.ones(sheets, np.bool_))
    return out.reshape(-1).astype(np.int64), whole[found]


@kept
def shells_of(mesh: Mesh) -> Shells:
    """All shells of a mesh. O(F log F)."""
    if not mesh.triangles:
        return Shells(np.zeros(0, np.int64), np.zeros(0, np.bool_), np.zeros(0), np.zeros((0, 2, 3)))
    if less := without_repeated(mesh):
        made = shells_of(less[0])
        return Shells(made.label[less[1]], made.closed, made.volume, made.boxes)
    e = sorted_edges(mesh)
    count, label = pieces_of(mesh)
    # closed: every edge is run as often one way as the other
    balance = np.add.reduceat(np.where(e.forward, 1, -1), e.begin) if len(e.begin) else np.zeros(0, np.int64)
    closed = np.ones(count, np.bool_)
    closed[label[e.owner[e.begin[balance != 0]]]] = False
    closed &= np.bincount(label, minlength=count) >= LEAST
    if not closed.all() and e.times.max(initial=0) > 2:
        label, closed = with_closed_sheets(e, label, closed)
        count = len(closed)
    a, b, c = (mesh.positions[mesh.indices[:, k]].astype(np.float64) for k in range(3))
    if count == 1:
        low, high = mesh.bounds[:1], mesh.bounds[1:]
    else:
        least, most = np.minimum(np.minimum(a, b), c), np.maximum(np.maximum(a, b), c)
        order = np.argsort(label, kind="stable")
        starts = np.searchsorted(label[order], np.arange(count))
        low, high = np.minimum.reduceat(least[order], starts), np.maximum.reduceat(most[order], starts)
    middle = (low + high) / 2
    # each shell about its own middle, so that a far origin costs nothing
    about = a - (middle if count == 1 else middle[label])
    (x, y, z), (ux, uy, uz), (vx, vy, vz) = about.T, (b - a).T, (c - a).T
    sixth = x * (uy * vz - uz * vy) + y * (uz * vx - ux * vz) + z * (ux * vy - uy * vx)
    volume = (sixth.sum(keepdims=True) if count == 1 else np.bincount(label, sixth, minlength=count)) / 6
    diagonal = np.linalg.norm(high - low, axis=1)
    volume = np.where(closed & (np.abs(volume) > FLAT * diagonal**3), volume, 0.0)
    return Shells(label, closed, volume, np.stack([low, high], axis=1))
