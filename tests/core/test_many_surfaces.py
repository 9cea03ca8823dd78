"""Pairs of meshes compared many at once: what is said of each is what it says by itself, whatever arrived differently."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from tests.core.test_lots import some_mesh
from tidy_caravan.core.arrival.many_surfaces import compared_many
from tidy_caravan.core.arrival.surfaces import Pairing, asked, compared, difference, with_itself
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.work.heavy import Piece

WAYS = (
    "as it was", "as it was", "noise", "begun elsewhere", "each corner a vertex", "shuffled", "turned over", "one turned", "moved",
    "one moved", "far", "other coordinates", "one coordinate", "no coordinates", "more coordinates", "bent normals", "no normals",
    "flat normals", "long normals", "nowhere", "other colours", "no colours", "white", "tinted", "other material", "tangents turned",
    "less", "no number",
)  # fmt: skip


def arrived(mesh: Mesh, way: str, rng: np.random.Generator) -> Mesh:
    """What became of a mesh on its way."""
    points, faces = mesh.positions.copy(), mesh.indices.copy()
    size = float(np.ptp(points, axis=0).max())
    k = int(rng.integers(len(faces)))
    if way == "noise":
        return replace(mesh, positions=np.nextafter(points, np.float32(1e9)))
    if way == "begun elsewhere":
        return replace(mesh, indices=np.roll(faces, int(rng.integers(3)), axis=1))
    if way == "each corner a vertex":
        return mesh.with_vertices(faces.reshape(-1), indices=np.arange(faces.size, dtype=np.uint32).reshape(-1, 3))
    if way == "shuffled":
        return mesh.with_triangles(rng.permutation(len(faces)))
    if way in ("turned over", "one turned"):
        rows = slice(None) if way == "turned over" else [k]
        faces[rows] = faces[rows][:, ::-1]
        return replace(mesh, indices=faces)
    if way in ("moved", "one moved", "far", "no number"):
        rows = slice(None) if way in ("moved", "far") else faces[k, :1]
        by = {"moved": 1e-3, "one moved": 1e-4, "far": 0.3, "no number": np.nan}[way] * size
        points[rows] += np.float32(by)
        return replace(mesh, positions=points)
    if "coordinate" in way and way != "more coordinates" and mesh.uvs:
        if way == "no coordinates":
            return replace(mesh, uvs=mesh.uvs[1:])
        uv = mesh.uvs[0].copy()
        uv[slice(None) if way.startswith("other") else faces[k, :1]] += np.float32(rng.choice([1e-6, 1e-3, np.nan]))
        return replace(mesh, uvs=(uv, *mesh.uvs[1:]))
    if way == "more coordinates":
        return replace(mesh, uvs=(*mesh.uvs, points[:, :2] * np.float32(rng.choice([0, 1]))))
    if way.endswith("normals") and mesh.normals is not None:
        if way == "no normals":
            return replace(mesh, normals=None)
        normals = mesh.normals.copy()
        normals[faces[k]] *= np.float32(1.5 if way.startswith("long") else -1)
        return replace(mesh, normals=normals)
    if way == "nowhere" and mesh.normals is not None:
        return replace(mesh, normals=mesh.normals * (np.arange(mesh.vertices) != faces[k, 0])[:, None])
    if way == "flat normals" and mesh.normals is None:
        whole = mesh.with_vertices(faces.reshape(-1), indices=np.arange(faces.size, dtype=np.uint32).reshape(-1, 3))
        a, b, c = (whole.positions[j::3] for j in range(3))
        across = np.cross(b - a, c - a)
        across /= np.maximum(np.linalg.norm(across, axis=1, keepdims=True), 1e-30)
        across[:1] += np.float32(rng.choice([0, 0.5]))
        return replace(whole, normals=np.repeat(across, 3, axis=0).astype(np.float32))
    if way == "no colours":
        return replace(mesh, colors=())
    if way in ("other colours", "white", "tinted"):
        colors = np.ones((mesh.vertices, 4), np.float32)
        if way != "white":
            colors[faces[k]] = rng.random(4)
        return replace(mesh, colors=(colors,))
    if way == "other material":
        return replace(
            mesh, material=np.where(np.arange(len(faces)) == k, mesh.material + 1, mesh.material).astype(np.int32)
        )
    if way == "tangents turned" and mesh.tangents is not None:
        return replace(
            mesh, tangents=mesh.tangents * np.where(rng.random((mesh.vertices, 1)) < 0.3, -1, 1).astype(np.float32)
        )
    if way == "less" and len(faces) > 1:
        return mesh.with_triangles(np.arange(len(faces)) != k)
    return mesh


def pair(rng: np.random.Generator, way: str = "") -> Piece:
    mesh = some_mesh(rng)
    if rng.random() < 0.3:
        tangents = np.column_stack(
            [Rotation.random(mesh.vertices, random_state=rng).apply([1, 0, 0]), np.ones(mesh.vertices)]
        )
        mesh = replace(mesh, tangents=tangents.astype(np.float32))
    other = arrived(mesh, way or str(rng.choice(WAYS)), rng)
    map_a = np.eye(4)
    map_a[:3, :3] = Rotation.random(random_state=rng).as_matrix() * rng.choice([0.01, 1.0, 100.0])
    map_a[:3, :3] *= np.where(rng.random() < 0.3, [-1.0, 1.0, 2.0], 1.0)
    map_a[:3, 3] = rng.normal(size=3)
    mirrored = bool(rng.random() < 0.2)
    if mirrored:
        other = replace(other, indices=other.indices[:, ::-1])
    limit = float(np.ptp(mesh.positions, axis=0).max()) * float(np.abs(map_a[:3, :3]).max()) * rng.choice([1e-5, 1e-2])
    kind = Pairing(int(rng.choice([0, 0, 0, 1, 2])))
    loose = bool(rng.random() < 0.1)
    return asked(mesh, other, map_a, map_a, limit, mirrored, int(rng.choice([0, 2, 8])), int(rng.choice([0, 3, 4])), bool(rng.random() < 0.5),
                 None, kind, loose)  # fmt: skip


class Together(unittest.TestCase):
    def same(self, one: Any, other: Any, what: str) -> None:
        self.assertEqual(one.keys(), other.keys())
        for name, value in other.items():
            if isinstance(value, float) and not isinstance(one[name], str):
                self.assertAlmostEqual(one[name], value, delta=1e-6 + 1e-6 * abs(value), msg=f"{what}: {name}")
            elif name == "uv" and isinstance(value, list):
                self.assertEqual([k for k, _ in one[name]], [k for k, _ in value], what)
                np.testing.assert_allclose([v for _, v in one[name]], [v for _, v in value], rtol=1e-9, err_msg=what)
            else:
                self.assertEqual(sorted(one[name]) if name == "slots" else one[name], sorted(value) if name == "slots" else value, f"{what}: {name}")  # fmt: skip

    @settings(deadline=None, max_examples=60)
    @given(st.integers(0, 2**32 - 1))
    def test_what_is_said_of_a_pair_is_what_it_says_by_itself(self, seed: int) -> None:
        rng = np.random.default_rng(seed)
        ways = [str(rng.choice(WAYS)) for _ in range(24)]
        pieces = [pair(rng, way) for way in ways]
        for way, piece, found in zip(ways, pieces, compared_many(pieces), strict=True):
            if found is not None:
                self.same(found.figures, compared(piece.arrays, **piece.parameters)[1], way)

    @settings(deadline=None, max_examples=60)
    @given(st.integers(0, 2**32 - 1))
    def test_of_a_mesh_that_stays_is_said_what_comparing_it_with_itself_says(self, seed: int) -> None:
        rng = np.random.default_rng(seed)
        mesh = arrived(some_mesh(rng), str(rng.choice(WAYS)), rng)
        map_ = np.eye(4)
        map_[:3] = rng.normal(size=(3, 4)) * rng.choice([0.01, 100.0])
        told, whole = with_itself(mesh, map_, 8, False), np.isfinite(mesh.positions).all()
        self.assertEqual(told is None, not whole)
        for kind in Pairing if told else ():
            asked_ = difference(mesh, mesh, map_, map_, 1e-4, False, channels=4, tangents=True, pairing=kind)
            asked_.length = 0.0  # as far from one as it was before
            self.same(vars(told), vars(asked_), kind.name)

    def test_what_arrives_as_it_was_is_said_at_once(self) -> None:
        rng = np.random.default_rng(7)
        pieces = [p for p in (pair(rng, "as it was") for _ in range(60)) if not p.parameters["loose"]]
        usual = [p for p in pieces if p.parameters["pairing"] != Pairing.IN_ORDER]
        said = [one is not None for one in compared_many(usual)]
        whole = [np.isfinite(p.arrays["a/positions"]).all() for p in usual]
        self.assertGreater(sum(whole), 20)
        self.assertTrue(all(s for s, w in zip(said, whole, strict=True) if w))


if __name__ == "__main__":
    unittest.main()
