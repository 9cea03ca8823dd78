"""Surfaces that belong together, compared once for each pair of meshes however many parts stand on it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.arrival.flat import expected_coordinates
from tidy_caravan.core.arrival.placed import Placed
from tidy_caravan.core.arrival.surfaces import SURFACES, Difference, Pairing, asked, difference_of, with_itself
from tidy_caravan.core.formats.abilities import Ability
from tidy_caravan.core.pace import Tell, alive, paced
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F64, I64, Bool, determinants
from tidy_caravan.core.space.transforms import affine_inverse
from tidy_caravan.core.work.heavy import Piece, Workshop

FLAT = 1e-9
"""Determinant below which, as a part of the largest entry cubed, a matrix makes everything flat."""

ALIKE = 1e6
"""Places that are told apart along a size of one."""
MOST_WAYS = 256
"""Ways to stand on a mesh that are looked at beside the usual one."""


@dataclass
class Contact:
    """Parts that belong together, as surfaces: figures by pair, and what the pairs of meshes showed."""

    surface_mm: F64
    normal_deg: F64
    meshes: list[tuple[I64, Difference]]
    """Rows of pairs that are on one pair of meshes, and that pair's difference."""

    def without(self, rows: Bool) -> Contact:
        """The same without what the meshes of the marked pairs (K,) showed."""
        if not rows.any():
            return self
        kept = [(members[~rows[members]], d) for members, d in self.meshes]
        return Contact(self.surface_mm, self.normal_deg, [(m, d) for m, d in kept if len(m)])


def contact(
    here: Placed, there: Placed, a: I64, b: I64, limits: F64, ability: Ability,
    pairing: I64 | None = None, loose: Bool | None = None, workshop: Workshop | None = None,
    tell: Tell = lambda done, total: None,
) -> Contact:  # fmt: skip
    """Surfaces of nodes a of one side and nodes b of the other. One exact comparison per pair of meshes.

    pairing: (K,) a Pairing each. loose: (K,) where points may have moved.

    The other parts on the same pair add how far their relative transform differs from that one's, over the size of
    the mesh: so it costs triangles once, however many instances there are.
    """
    source, arrived = here.scene, there.scene
    workshop = workshop or Workshop()
    relative = affine_inverse(there.worlds[b]) @ here.worlds[a]
    stretch = np.linalg.norm(there.worlds[b][:, :3, :3], axis=(1, 2)) / np.sqrt(3)
    astray = np.abs(here.boxes[here.row_of[a]] - there.boxes[there.row_of[b]]).max(axis=(1, 2), initial=0.0)
    surface, normal = np.zeros(len(a)), np.zeros(len(a))
    meshes: list[tuple[I64, Difference]] = []
    if not len(a):
        return Contact(surface, normal, meshes)
    key = source.nodes.mesh[a].astype(np.int64) * (len(arrived.meshes) + 1) + arrived.nodes.mesh[b]
    pairing = np.zeros(len(a), np.int64) if pairing is None else pairing
    loose = np.zeros(len(a), np.bool_) if loose is None else loose
    key = (key * len(Pairing) + pairing) * 2 + loose
    # what its node makes flat has no inverse: such parts are compared one by one
    size = np.abs(there.worlds[b][:, :3, :3]).max(axis=(1, 2))
    flat = np.abs(determinants(there.worlds[b][:, :3, :3])) <= FLAT * size**3
    key[flat] = -1 - np.arange(int(flat.sum()))
    turned = sides(here, a) * sides(there, b) < 0
    order = np.argsort(key, kind="stable")
    _, begin = np.unique(key[order], return_index=True)
    groups = np.split(order, begin[1:])
    firsts: list[int] = []

    onto_a, onto_b = here.worlds[a] @ here.map4(), there.worlds[b] @ there.map4()
    stays = (onto_a == onto_b).all(axis=(1, 2)) & ~turned & (not ability.laid_out)

    def meshes_of(first: int) -> tuple[Mesh, Mesh]:
        return source.meshes[source.nodes.mesh[a[first]]], arrived.meshes[arrived.nodes.mesh[b[first]]]

    def as_it_stood(first: int, alone: bool) -> Difference | None:
        mesh_a, mesh_b = meshes_of(first)
        same = stays[first] and (mesh_a is mesh_b or mesh_a.id == mesh_b.id)
        return with_itself(mesh_a, onto_a[first], ability.uv_sets, alone) if same else None

    def piece(first: int) -> Piece:
        mesh_a, mesh_b = meshes_of(first)
        uvs = expected_coordinates(source, mesh_a, mesh_b) if ability.laid_out and mesh_a.uvs and mesh_b.uvs else None
        return asked(
            mesh_a,
            mesh_b,
            onto_a[first],
            onto_b[first],
            float(limits[first]) / 1000,
            bool(turned[first]),
            ability.uv_sets,
            ability.color_channels,
            ability.tangents,
            uvs,
            Pairing(int(pairing[first])),
            bool(loose[first]),
        )

    for members in groups:
        if len(members) == 1:
            firsts.append(int(members[0]))
            continue
        # compared exactly is a part that stands where it should, as most do: one that was moved does not blame the others
        middle = np.median(relative[members], axis=0)
        odd = np.abs(relative[members] - middle).sum(axis=(1, 2))
        first = int(members[np.lexsort([odd, np.round(astray[members], 9)])[0]])
        firsts.append(first)
    others: list[tuple[int, I64]] = []
    asked_of = paced(list(zip(firsts, groups, strict=True)), alive(tell))
    differences = [as_it_stood(first, len(members) == 1) for first, members in asked_of]
    open_ = [k for k, known in enumerate(differences) if known is None]
    for k, outcome in zip(open_, workshop.do(SURFACES, [piece(firsts[k]) for k in open_], tell), strict=True):
        differences[k] = difference_of(outcome)
    for members, first, found in zip(groups, firsts, differences, strict=True):
        assert found is not None
        if len(members) == 1:
            surface[first], normal[first] = found.distance * 1000, found.normal if ability.normals else 0.0
            found.missing_height *= 1000
            meshes.append((members.astype(np.int64), found))
            continue
        drift = np.abs(relative[members] - relative[first])
        moved = drift[:, :3, :3].max(axis=(1, 2)) * 3 * found.radius + drift[:, :3, 3].max(axis=1) * stretch[members]
        surface[members] = (found.distance + moved) * 1000
        if ability.normals:
            turned_by = 0.0 if loose[first] else np.degrees(np.minimum(drift[:, :3, :3].max(axis=(1, 2)) * 3, 2.0))
            normal[members] = found.normal + turned_by
        found.missing_height *= 1000
        meshes.append((members.astype(np.int64), found))
        if not loose[first] and pairing[first] != Pairing.IN_ORDER:
            ways = alike(relative[members], members, moved * 1000 > limits[members], found.radius)
            others += [(len(meshes) - 1, some) for some in ways]
    # what looks the same when it is turned may stand on the same mesh in another way
    again = workshop.do(SURFACES, [piece(int(some[0])) for _, some in others], tell) if others else []
    for (number, some), outcome in zip(others, again, strict=True):
        found = difference_of(outcome)
        if found.failed or found.distance * 1000 > limits[some[0]]:
            continue
        surface[some], normal[some] = found.distance * 1000, found.normal if ability.normals else 0.0
        found.missing_height *= 1000
        members, usual = meshes[number]
        meshes[number] = members[~np.isin(members, some)], usual
        meshes.append((some, found))
    return Contact(surface, normal, [(members, d) for members, d in meshes if len(members)])


def alike(relative: F64, members: I64, far: Bool, radius: float) -> list[I64]:
    """Those of the members (M,) that are far from the one that was compared, together where they stand alike.

    relative: (M, 4, 4) from the one mesh to the other. radius: of the mesh.
    """
    rows = np.flatnonzero(far & np.isfinite(relative).all(axis=(1, 2)))
    if not len(rows):
        return []
    scale = np.array([1.0, 1.0, 1.0, max(radius, 1e-300)])
    _, way = np.unique(np.round(relative[rows, :3] / scale * ALIKE).reshape(len(rows), -1), axis=0, return_inverse=True)
    order = np.argsort(way.reshape(-1), kind="stable")
    groups = np.split(members[rows[order]], np.flatnonzero(np.diff(way.reshape(-1)[order])) + 1)
    return groups[:MOST_WAYS]


def sides(side: Placed, nodes: I64) -> F64:
    """(K,) -1 where a node or the convention mirrors; what is flat has no side."""
    linear = side.worlds[nodes][:, :3, :3]
    determinant = determinants(linear)
    flat = np.abs(determinant) <= FLAT * np.abs(linear).max(axis=(1, 2)) ** 3
    return np.where(flat, 1.0, np.sign(determinant)) * float(np.sign(np.linalg.det(side.linear)))
