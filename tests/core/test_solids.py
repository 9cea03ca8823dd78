"""Solids that touch in one mesh are told apart, at corners, along edges and over whole faces; sheets hang together."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
import shapely
import trimesh
from hypothesis import example, given, settings
from hypothesis import strategies as st

from tidy_caravan.core.geometry.parting import parted
from tidy_caravan.core.geometry.pieces import by_shell
from tidy_caravan.core.geometry.shells import shells_of
from tidy_caravan.core.geometry.solids import touching_solids
from tidy_caravan.core.scene import Mesh

RING = shapely.Polygon([(-0.5, -0.5), (0.5, -0.5), (0.5, 0.5), (-0.5, 0.5)]).difference(
    shapely.box(-0.4, -0.4, 0.4, 0.4)
)
SHAPES: list[Any] = [
    trimesh.creation.box([1, 1, 1]),
    trimesh.creation.cylinder(0.5, 1.0, sections=4).apply_transform(
        trimesh.transformations.rotation_matrix(np.pi / 4, [0, 0, 1])
    ),
    trimesh.creation.cylinder(0.5, 1.0, sections=8),
    trimesh.creation.extrude_polygon(RING, 1.0).apply_translation([0, 0, -0.5]),
]
"""Of the size of a cell each: a box, one whose sides touch those of its neighbours along edges alone, a post that stands on
another's cap, and a frame."""


def lump(pieces: list[Any], join: bool, far: float = 0.0, seed: int = 0) -> tuple[Mesh, Any]:
    """One mesh of all of them, its triangles shuffled, and (F,) which of them each triangle is of."""
    whole = trimesh.util.concatenate(pieces)
    owner = np.repeat(np.arange(len(pieces)), [len(p.faces) for p in pieces])
    points, faces = np.asarray(whole.vertices, np.float32) + np.float32(far), np.asarray(whole.faces)
    if join:
        points, number = np.unique(points, axis=0, return_inverse=True)
        faces = number.reshape(-1)[faces]
    else:
        points, faces = points[faces.reshape(-1)], np.arange(3 * len(faces)).reshape(-1, 3)
    order = np.random.default_rng(seed).permutation(len(faces))
    return Mesh(points, faces[order].astype(np.uint32), np.zeros(len(faces), np.int32)), owner[order]


def same_groups(label: Any, owner: Any) -> bool:
    """Whether two ways to name groups name the same ones."""
    return (
        len({*zip(label.tolist(), owner.tolist(), strict=True)}) == len(set(label.tolist())) == len(set(owner.tolist()))
    )


CELLS = st.dictionaries(
    st.tuples(*(st.integers(0, 3) for _ in range(3))), st.integers(0, len(SHAPES) - 1), min_size=2, max_size=24
)


class Touching(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(CELLS, st.booleans(), st.sampled_from([0.0, 64.0, 4096.0]), st.booleans(), st.integers(0, 9))
    def test_whatever_stands_beside_and_on_each_other(
        self, cells: dict[Any, int], join: bool, far: float, inside_out: bool, seed: int
    ) -> None:
        pieces = [SHAPES[k].copy().apply_translation(cell) for cell, k in cells.items()]
        mesh, owner = lump(pieces, join, far, seed)
        if inside_out:
            mesh = Mesh(mesh.positions, mesh.indices[:, ::-1], mesh.material)
        self.assertTrue(same_groups(by_shell(mesh), owner))
        _, solid = touching_solids(mesh)
        self.assertEqual((len(solid), solid.all()), (len(pieces), True))

    @settings(max_examples=30, deadline=None)
    @given(CELLS, st.booleans())
    @example({(0, 0, k): 2 for k in range(3)}, False)  # caps on each other, in the same triangles
    @example({(0, 0, k): 3 for k in range(3)}, True)
    def test_taken_apart_each_is_closed(self, cells: dict[Any, int], join: bool) -> None:
        mesh, owner = lump([SHAPES[k].copy().apply_translation(cell) for cell, k in cells.items()], join)
        made = parted(mesh, 1e-4)
        if made is None:
            return
        apart = mesh.with_vertices(
            made.source, indices=made.indices.astype(np.uint32), positions=made.positions.astype(np.float32)
        )
        self.assertEqual(made.left, 0)
        self.assertTrue(same_groups(by_shell(apart), owner))
        shells = shells_of(apart)
        self.assertTrue(shells.closed.all())
        np.testing.assert_allclose(shells.volume.sum(), sum(SHAPES[k].volume for k in cells.values()), rtol=2e-3)

    def test_sheets_hang_together_and_what_is_fixed_to_a_solid_is_a_piece(self) -> None:
        quad = trimesh.Trimesh([[0, 0, 0], [1, 0, 0], [1, 0, 1], [0, 0, 1]], [[0, 1, 2], [0, 2, 3]], process=False)
        both = trimesh.util.concatenate([quad, trimesh.Trimesh(quad.vertices, quad.faces[:, ::-1], process=False)])
        turned = both.copy().apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, [0, 0, 1]))
        row = [q.copy().apply_translation([k, 0, 0]) for q in (quad, both) for k in range(3)]
        box = SHAPES[0].copy().apply_translation([-0.5, -0.5, 0.5])
        for join in (False, True):
            for pieces, wanted in (
                ([quad], [0]), ([both], [0]), (row, [0] * 6), ([both, turned], [0, 0]), ([quad, box], [0, 1]),
                ([both, box, turned], [0, 1, 0]),
            ):  # fmt: skip
                mesh, owner = lump(pieces, join)
                self.assertTrue(same_groups(by_shell(mesh), np.array(wanted)[owner]), (len(pieces), join))

    def test_triangles_without_three_corners_are_of_what_they_lie_on(self) -> None:
        mesh, owner = lump([SHAPES[0].copy().apply_translation([k, 0, 0]) for k in range(3)], True)
        corner = mesh.indices[owner == 0][0, 0]
        other = int(np.flatnonzero(mesh.positions[:, 0] == 2.5)[0])
        thin = np.array([[corner, corner, corner], [other, other, other]], np.uint32)
        more = Mesh(mesh.positions, np.concatenate([mesh.indices, thin]), np.zeros(len(mesh.indices) + 2, np.int32))
        label = by_shell(more)
        self.assertTrue(same_groups(label[:-2], owner))
        self.assertEqual(label[-1], label[:-2][owner == 2][0])
        self.assertIn(label[-2], label[:-2])

    def test_thousands_beside_and_on_each_other(self) -> None:
        cells = [(i, j, k) for i in range(40) for j in range(40) for k in range(4)]
        mesh, owner = lump([SHAPES[0].copy().apply_translation(cell) for cell in cells], True)
        self.assertTrue(same_groups(by_shell(mesh), owner))
