"""Which way round triangles run: neighbours that disagree, and the fewest turns that make them agree.

Two triangles at an edge agree when they run along it in opposite directions. Only edges of exactly two triangles say
so; at an edge of more, every side is as good as another.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.geometry.faults import degenerate
from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.shells import Shells, components, pieces_of, shells_of, sorted_edges, without_repeated
from tidy_caravan.core.scene.arrays import F32, F64, I64, U32, AnyArray, Bool
from tidy_caravan.core.scene.keeping import kept
from tidy_caravan.core.scene.mesh import Mesh

UNSURE = 0.35
"""Part of a sheet's area from which on the smaller side is not clearly the wrong one."""


@dataclass(frozen=True)
class Sides:
    """label: (F,) sheet of each triangle: what hangs together over edges of two. minor: (F,) True for the triangles
    that look the other way than most of their sheet's area. share: (K,) their part of that area, 0.5 at most.
    one_sided: (K,) sheets that cannot be made to agree, as a Möbius strip cannot; nothing in them is minor."""

    label: I64
    minor: Bool
    share: F64
    one_sided: Bool

    @property
    def unsure(self) -> int:
        """Triangles to turn in sheets where the smaller side may as well be the right one."""
        return int((self.minor & (self.share[self.label] > UNSURE)).sum())


@kept
def sides_of(mesh: Mesh) -> Sides:
    """Every sheet of a mesh. O(F log F)."""
    count = mesh.triangles
    if not count:
        return Sides(np.zeros(0, np.int64), np.zeros(0, np.bool_), np.zeros(0), np.zeros(0, np.bool_))
    if less := without_repeated(mesh):
        made = sides_of(less[0])
        return Sides(made.label[less[1]], made.minor[less[1]], made.share, made.one_sided)
    first, second, agree = neighbours(mesh)
    if agree.all():
        # nothing to tell apart: one graph of the triangles as they are says it all
        whole = sorted_edges(mesh).times.max(initial=0) <= 2
        sheets, label = pieces_of(mesh) if whole else components(first, second, count)
        return Sides(label, np.zeros(count, np.bool_), np.zeros(sheets), np.zeros(sheets, np.bool_))
    # each triangle stands twice in the graph, as it is and turned over: what hangs together agrees
    over = np.where(agree, 0, count)
    a = np.concatenate([first, first + count])
    b = np.concatenate([second + over, second + count - over])
    _, found = components(a, b, 2 * count)
    as_is, turned = found[:count], found[count:]
    _, label = np.unique(np.minimum(as_is, turned), return_inverse=True)
    label = label.reshape(-1).astype(np.int64)
    sheets = int(label.max()) + 1
    one_sided = np.zeros(sheets, np.bool_)
    one_sided[label[as_is == turned]] = True
    side = as_is > turned
    area = np.linalg.norm(face_vectors(mesh.positions, mesh.indices), axis=1)
    whole = np.bincount(label, area, minlength=sheets)
    part = np.bincount(label[side], area[side], minlength=sheets)
    share = np.divide(part, whole, out=np.zeros(sheets), where=whole > 0)
    minor = np.where(share[label] <= 0.5, side, ~side) & ~one_sided[label]
    mixed = np.bincount(label[side], minlength=sheets) % np.maximum(np.bincount(label, minlength=sheets), 1) > 0
    minor &= mixed[label] & ~degenerate(mesh)  # what has no area runs no way
    return Sides(label, minor, np.where(mixed & ~one_sided, np.minimum(share, 1 - share), 0.0), one_sided)


def neighbours(mesh: Mesh) -> tuple[I64, I64, Bool]:
    """(E,) two triangles at each edge of exactly two, and whether they agree."""
    e = sorted_edges(mesh)
    pairs = e.begin[e.times == 2]
    one, other = e.owner[pairs], e.owner[pairs + 1]
    apart = one != other
    return one[apart], other[apart], (e.forward[pairs] != e.forward[pairs + 1])[apart]


def to_turn(mesh: Mesh, agree: bool, outwards: bool) -> Bool:
    """(F,) triangles to turn over. agree: so that neighbours agree. outwards: so that closed shells look outwards,
    cavities inwards, once their triangles agree."""
    turn = sides_of(mesh).minor.copy() if agree else np.zeros(mesh.triangles, np.bool_)
    if outwards:
        shells = agreed_shells(mesh) if agree else shells_of(mesh)
        turn ^= shells.inverted[shells.label]
    return turn


@kept
def agreed_shells(mesh: Mesh) -> Shells:
    """The shells of a mesh as they are once its triangles agree and those without area are gone, where that closes more:
    neither is a reason to take a thing that is inside out for an open sheet."""
    minor = sides_of(mesh).minor
    agreed = Mesh(mesh.positions, turned(mesh.indices, minor), mesh.material) if minor.any() else mesh
    whole = shells_of(agreed)
    thin = degenerate(mesh)
    if whole.closed.all() or not thin.any() or thin.all():
        return whole
    rows = np.flatnonzero(~thin)
    less = shells_of(Mesh(mesh.positions, agreed.indices[rows], mesh.material[rows]))
    if less.closed.sum() <= whole.closed.sum():
        return whole
    label = np.full(mesh.triangles, len(less.closed), np.int64)
    label[rows] = less.label
    boxes = np.concatenate([less.boxes, mesh.bounds[None]])
    return Shells(label, np.append(less.closed, False), np.append(less.volume, 0.0), boxes)


def turned(indices: U32, turn: Bool) -> U32:
    """The triangles with some of them running the other way; their first corner stays the first."""
    out: U32 = indices.copy()
    out[turn, 1], out[turn, 2] = indices[turn, 2], indices[turn, 1]
    return out


def turn_over(mesh: Mesh, turn: Bool) -> dict[str, AnyArray]:
    """The arrays that change when the triangles (F,) are turned over: `indices`, and with normals that would then look
    backwards `source` (V',), `normals` and, where there are, `tangents`.

    Normals are turned corner by corner, and only where they would be against their triangle; a vertex that is needed
    both ways is split, its copy coming last.
    """
    indices = turned(mesh.indices, turn)
    if mesh.normals is None:
        return {"indices": indices}
    vectors = face_vectors(mesh.positions, indices)
    corner = mesh.normals.astype(np.float64)[indices]
    return with_normals_turned(mesh, indices, (np.einsum("fki,fi->fk", corner, vectors) < 0) & turn[:, None])


def turn_normals(mesh: Mesh, turn: Bool) -> dict[str, AnyArray]:
    """The arrays that change when the normals of the triangles (F,) are turned about, as of `turn_over`; triangles stay."""
    return with_normals_turned(mesh, mesh.indices.copy(), np.repeat(turn[:, None], 3, axis=1))


def with_normals_turned(mesh: Mesh, indices: U32, against: Bool) -> dict[str, AnyArray]:
    """The arrays of a mesh with normals, its triangles now `indices`, where those of some corners (F, 3) are turned."""
    assert mesh.normals is not None
    needed_turned, needed_as_is = np.zeros((2, mesh.vertices), np.bool_)
    needed_turned[indices[against]] = True
    needed_as_is[indices[~against]] = True
    split = np.flatnonzero(needed_turned & needed_as_is)
    copy = np.arange(mesh.vertices)
    copy[split] = mesh.vertices + np.arange(len(split))
    indices[against] = copy[indices[against]]
    source = np.concatenate([np.arange(mesh.vertices), split])
    flip = np.concatenate([needed_turned & ~needed_as_is, np.ones(len(split), np.bool_)])
    normals: F32 = mesh.normals[source]
    normals[flip] = -normals[flip] + np.float32(0)
    out: dict[str, AnyArray] = {"source": source, "indices": indices, "normals": normals}
    if mesh.tangents is not None:
        # the tangent stays; what is across it would change sides with the normal
        tangents = mesh.tangents[source]
        tangents[flip, 3] = -tangents[flip, 3]
        out["tangents"] = tangents
    return out
