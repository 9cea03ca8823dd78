"""Tangents against the reference algorithm (MikkTSpace, an independent port in WebAssembly)."""

from __future__ import annotations

import subprocess
import unittest
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from tests.core.test_sides import as_mesh
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.geometry.tangents import tangent_space, with_tangents
from tidy_caravan.core.scene import (
    GLTF,
    Convention,
    Image,
    Material,
    Mesh,
    Scene,
    Texture,
    TextureUse,
    make_nodes,
)
from tidy_caravan.core.space.convert import convert
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.core.survey import survey

WEB = Path(__file__).resolve().parents[2] / "web"
UNDEFINED = np.float32([1, 0, 0, -1])
"""What the reference leaves where no triangle around has an area in the map."""


def by_the_reference(positions: Any, normals: Any, uv: Any, faces: Any) -> Any:
    """(3F, 4) tangents of all corners."""
    corners = np.column_stack([positions, normals, uv]).astype(np.float32)[faces.ravel()]
    command = ["node", "mikktspace.mjs"]
    out = subprocess.run(command, cwd=WEB, input=corners.tobytes(), capture_output=True, check=True, timeout=60)
    return np.frombuffer(out.stdout, np.float32).reshape(-1, 4)


def without_area(uv: Any, faces: Any) -> Any:
    """(3F,) corners of triangles that are lines or points in the map, as float32 sees them."""
    (a, b), (c, d) = np.moveaxis(uv[faces[:, 1:]] - uv[faces[:, :1]], (1, 2), (0, 1))
    return np.repeat(a * d - b * c == 0, 3)


def around_one_vertex(wrong: Any, positions: Any, normals: Any, uv: Any, faces: Any) -> bool:
    """Whether all of these corners (3F,) are at one vertex and those joined to it by an edge.

    The reference sorts its edges by their lower end and then each run of one lower end by the upper one, but forgets the
    last run: there it may miss neighbours, at either end of them. Which run that is depends on how it numbers vertices.
    """
    data = np.column_stack([positions, normals, uv]).astype(np.float32)[faces.ravel()]
    _, number = np.unique(data, axis=0, return_inverse=True)
    number = number.reshape(-1, 3)
    own = np.unique(number.ravel()[wrong]).tolist()
    return not own or bool(set.intersection(*(set(number[(number == v).any(axis=1)].ravel().tolist()) for v in own)))


def nearly_opposite(positions: Any, normals: Any, uv: Any, faces: Any) -> Any:
    """(V,) vertices around which two directions of growing u, or of v, are opposite but for float32's last digits: there
    rounding decides whether the reference takes them for opposite."""
    out = np.zeros(len(positions), np.bool_)
    edges = (positions[faces[:, 1:]] - positions[faces[:, :1]]).astype(np.float64)
    way = (uv[faces[:, 1:]] - uv[faces[:, :1]]).astype(np.float64)
    area = way[:, 0, 0] * way[:, 1, 1] - way[:, 0, 1] * way[:, 1, 0]
    for k in (1, 0):
        along = (edges[:, 0] * way[:, 1, k, None] - edges[:, 1] * way[:, 0, k, None]) * np.sign(area)[:, None]
        for vertex in range(len(positions)):
            mine = along[(faces == vertex).any(axis=1)]
            n = normals[vertex].astype(np.float64)
            flat = mine - np.outer(mine @ n, n)
            flat /= np.maximum(np.linalg.norm(flat, axis=1, keepdims=True), 1e-30)
            out[vertex] |= bool((flat @ flat.T).min(initial=1.0) < -1 + 1e-6)
    return out


def ball(level: int = 3) -> tuple[Any, Any]:
    made = trimesh.creation.icosphere(level)
    return np.float32(made.vertices), np.uint32(made.faces)


class AsTheReference(unittest.TestCase):
    def agree(self, positions: Any, normals: Any, uv: Any, faces: Any, tolerance: float = 2e-5) -> float:
        """Share of the corners that the reference defines; all of those must agree.

        Undefined are corners of triangles without area in the map that nothing around lends a tangent.
        """
        positions, normals, uv = (np.float32(a) for a in (positions, normals, uv))
        reference = by_the_reference(positions, normals, uv, faces)
        tangent, sign, _ = tangent_space(positions, normals, uv, faces)
        known = ~((reference == UNDEFINED).all(axis=1) & without_area(uv, faces))
        # a corner whose edges fall into one line seen along its normal has no angle in float32, and no direction there
        known &= np.linalg.norm(reference[:, :3], axis=1) > 0.5
        apart = np.abs(tangent - reference[:, :3]).max(axis=1) > tolerance
        wrong = known & (apart | (sign != reference[:, 3]))
        if wrong.any():
            wrong &= ~nearly_opposite(positions, normals, uv, faces)[faces.ravel()]
        self.assertTrue(around_one_vertex(wrong, positions, normals, uv, faces), np.flatnonzero(wrong).tolist())
        lengths = np.linalg.norm(tangent, axis=1)
        np.testing.assert_allclose(lengths, 1, atol=1e-6)  # the undefined ones have one as well
        return float(known.mean())

    def test_smooth_maps_seams_and_poles(self) -> None:
        v, f = ball()
        wavy = np.column_stack([np.sin(v[:, 0] * 3), np.cos(v[:, 1] * 2 + v[:, 2])])
        around = np.column_stack([np.arctan2(v[:, 1], v[:, 0]) / (2 * np.pi) + 0.5, np.arccos(v[:, 2]) / np.pi])
        for uv in (wavy, around):
            self.assertGreater(self.agree(v * 1.3, v, uv, f), 0.98)

    def test_mirrored_halves_hard_edges_and_the_tip_of_a_cone(self) -> None:
        v, f = ball()
        self.assertGreater(self.agree(v, v, np.column_stack([np.abs(v[:, 0]), v[:, 1]]), f), 0.9)
        box = trimesh.creation.box((1, 2, 3))
        flat = box.faces.ravel()
        corners = np.arange(len(flat), dtype=np.uint32).reshape(-1, 3)
        points, normals = box.vertices[flat], np.repeat(box.face_normals, 3, axis=0)
        self.assertGreater(self.agree(points, normals, points[:, :2] + points[:, 2:] * 0.3, corners), 0.85)
        cone = trimesh.creation.cone(1, 2, sections=24)
        self.agree(cone.vertices, cone.vertex_normals, cone.vertices[:, :2], np.uint32(cone.faces))

    def test_maps_that_fall_together_damaged_triangles_and_edges_of_three(self) -> None:
        v, f = ball()
        uv = np.random.default_rng(2).random((len(v), 2))
        uv[::5], uv[::7, 0] = 0.25, 0.5
        self.assertLess(self.agree(v, v, uv, f), 0.995)
        broken = f.copy()
        broken[::9, 1], broken[5::11, 2] = broken[::9, 0], broken[5::11, 1]
        self.agree(v, v, v[:, :2], broken)
        wavy = np.column_stack([np.sin(v[:, 0] * 3), np.cos(v[:, 1] * 2 + v[:, 2])])
        self.agree(v, v, wavy, np.concatenate([f, f[:60], f[30:90, ::-1]]))

    @settings(max_examples=12, deadline=None)
    @given(st.integers(0, 10_000), st.booleans())
    def test_whatever_the_map(self, seed: int, shared: bool) -> None:
        rng = np.random.default_rng(seed)
        v, f = ball(2)
        v = v * np.float32(rng.uniform(0.2, 3, 3))
        normals = rng.normal(size=v.shape) * 0.3 + v
        normals /= np.linalg.norm(normals, axis=1, keepdims=True)
        if not shared:
            v, normals, f = v[f.ravel()], normals[f.ravel()], np.arange(f.size, dtype=np.uint32).reshape(-1, 3)
        # directions that nearly cancel out: the reference sums in float32
        self.assertGreater(self.agree(v, normals, rng.random((len(v), 2)) * 4 - 2, f, 1e-3), 0.95)


class OfAMesh(unittest.TestCase):
    def mesh(self, uv: Any) -> Mesh:
        v, f = ball()
        return Mesh(v, f, np.zeros(len(f), np.int32), v, uvs=(np.float32(uv(v)),))

    def test_as_gltf_stores_them(self) -> None:
        """v falls up the image in glTF: there the sign is the other one, as everybody writes it."""
        mesh = self.mesh(lambda v: np.column_stack([np.sin(v[:, 0] * 3), v[:, 1] + 0.2 * v[:, 2]]))
        assert mesh.normals is not None
        got = with_tangents(mesh, 0)
        assert got.tangents is not None
        np.testing.assert_array_equal(got.positions[got.indices], mesh.positions[mesh.indices])
        reference = by_the_reference(mesh.positions, mesh.normals, mesh.uvs[0], mesh.indices)
        known = ~((reference == UNDEFINED).all(axis=1) & without_area(mesh.uvs[0], mesh.indices))
        found = got.tangents[got.indices.ravel()]
        np.testing.assert_allclose(found[known], (reference * [1, 1, 1, -1])[known], atol=2e-5)

    def test_vertices_are_split_where_hands_meet_and_nowhere_else(self) -> None:
        plain = self.mesh(lambda v: np.column_stack([v[:, 0] + 0.01 * v[:, 1], v[:, 1] + 0.3 * v[:, 2] ** 2 * v[:, 0]]))
        half = Mesh(plain.positions, plain.indices[plain.positions[plain.indices][:, :, 2].min(axis=1) > 0.2],
                    np.zeros(0, np.int32), plain.normals, uvs=plain.uvs)  # fmt: skip
        self.assertEqual(with_tangents(half, 0).vertices, len(half.used))
        positions = np.float32([[0, 0, 0], [1, 0, 0], [1, 1, 0], [2, 0, 0]])
        uv = np.float32([[0, 0], [1, 0], [1, 1], [0, 0]])  # the right half mirrors the left
        both = Mesh(
            positions, np.uint32([[0, 1, 2], [1, 3, 2]]), np.zeros(2, np.int32), np.float32([[0, 0, 1]] * 4), uvs=(uv,)
        )
        got = with_tangents(both, 0)
        assert got.tangents is not None
        self.assertEqual(got.vertices, 6)
        np.testing.assert_allclose(got.tangents[got.indices[0]], [[1, 0, 0, -1]] * 3, atol=1e-6)
        np.testing.assert_allclose(got.tangents[got.indices[1]], [[-1, 0, 0, 1]] * 3, atol=1e-6)


class Surveyed(unittest.TestCase):
    """Tangents that are stored: found where they are wrong, made anew as the reference makes them, else left alone."""

    def relief(self, seed: int = 0, slot: int = 0) -> Scene:
        """A wavy sheet whose map is mirrored at its middle, with the tangents of the reference; slot 1 has no normal map."""
        rng = np.random.default_rng(seed)
        rows, columns = np.mgrid[-6:7, -6:7].reshape(2, -1)
        first = np.flatnonzero((rows < 6) & (columns < 6))
        faces = np.concatenate([first[:, None] + (0, 13, 1), first[:, None] + (1, 13, 14)]).astype(np.uint32)
        points = np.column_stack([rows, columns, 0.4 * np.sin(rng.uniform(0.3, 1.2) * rows + columns)]).astype(
            np.float32
        )
        uv = np.column_stack([np.abs(rows), columns]) @ Rotation.random(random_state=seed).as_matrix()[:2, :2]
        sheet = trimesh.Trimesh(points, faces, process=False)
        mesh = replace(
            as_mesh(sheet, slot), uvs=(uv.astype(np.float32),), normals=sheet.vertex_normals.astype(np.float32)
        )
        assert mesh.normals is not None
        corners = by_the_reference(mesh.positions, mesh.normals, mesh.uvs[0] * np.float32([1, -1]), mesh.indices)
        every = np.arange(mesh.triangles * 3, dtype=np.uint32)
        mesh = mesh.with_vertices(mesh.indices.ravel(), indices=every.reshape(-1, 3))
        mesh = replace(mesh, tangents=corners.astype(np.float32))
        materials = (Material("relief", normal_texture=TextureUse(0)), Material("plain"))
        images = (Image("normal.png", "image/png", b""),)
        return Scene(
            GLTF, make_nodes([-1], np.eye(4)[None], ["sheet"], mesh=[0]), (mesh,), materials, (Texture(0),), images
        )

    def told(self, scene: Scene) -> dict[str, float | None]:
        return {f.code: f.value for f in survey(scene, BUILT_IN[0]) if f.code.startswith("tangents")}

    def mended(self, scene: Scene, kind: str = "mend_tangents", **how: Any) -> Scene:
        return parse_step({"kind": kind, **how}).apply(scene, StepContext(BUILT_IN[0]))[0]

    def with_tangents_of(self, scene: Scene, tangents: Any) -> Scene:
        return scene.but(meshes=(replace(scene.meshes[0], tangents=np.float32(tangents)),))

    def test_those_of_the_reference_are_good_whatever_the_axes_and_stay_to_the_bit(self) -> None:
        for seed in range(6):
            for to in (GLTF, Convention(0.01, "Z", "X", "left"), Convention(1.0, "Y", "-Z", "left")):
                scene = convert(self.relief(seed), to)
                self.assertEqual(self.told(scene), {}, (seed, to))
                self.assertIs(self.mended(scene).meshes[0].tangents, scene.meshes[0].tangents)

    def test_planted_faults_are_found_and_made_as_the_reference_makes_them(self) -> None:
        for seed in range(4):
            good = self.relief(seed)
            tangents, triangles = good.meshes[0].tangents, good.meshes[0].triangles
            assert tangents is not None
            one = np.arange(len(tangents))[:, None] == 7
            third = np.arange(len(tangents))[:, None] // 3 == 5
            for name, made, code, count in (
                ("hand", tangents * [1, 1, 1, -1], "tangents.opposed", triangles),
                ("way", tangents * [-1, -1, -1, 1], "tangents.opposed", triangles),
                ("of one triangle", np.where(third, -tangents, tangents), "tangents.opposed", 1),
                ("nought", np.where(one, tangents * [0, 0, 0, 1], tangents), "tangents.broken", 1),
                ("no number", np.where(one, np.nan, tangents), "tangents.broken", 1),
                ("no sign", tangents * [1, 1, 1, 0], "tangents.broken", len(tangents)),
                ("too long", tangents * [2, 2, 2, 1], "tangents.broken", len(tangents)),
            ):
                with self.subTest(fault=name, seed=seed):
                    bad = self.with_tangents_of(good, made)
                    self.assertEqual(self.told(bad), {code: count})
                    out = self.mended(bad)
                    self.assertEqual(self.told(out), {})
                    mesh = out.meshes[0]
                    assert mesh.tangents is not None
                    cosine = (mesh.tangents[mesh.indices.ravel(), :3] * tangents[:, :3]).sum(axis=1)
                    self.assertGreater(cosine.min(), 0.999)
                    np.testing.assert_array_equal(mesh.tangents[mesh.indices.ravel(), 3], tangents[:, 3])
                    self.assertIs(self.mended(out).meshes[0].tangents, mesh.tangents)

    def test_where_no_normal_map_needs_them_broken_ones_go_and_others_are_nobodys_business(self) -> None:
        good = self.relief(slot=1)
        tangents = good.meshes[0].tangents
        assert tangents is not None
        self.assertEqual(self.told(self.with_tangents_of(good, -tangents)), {})
        bad = self.with_tangents_of(good, tangents * 0)
        self.assertEqual(set(self.told(bad)), {"tangents.broken"})
        self.assertIsNone(self.mended(bad).meshes[0].tangents)

    def test_a_normal_map_on_another_set_is_judged_by_that_and_the_first_by_nothing(self) -> None:
        scene = self.relief()
        mesh = scene.meshes[0]
        second = replace(mesh, uvs=(mesh.uvs[0][:, ::-1] * np.float32([-3, 1]), mesh.uvs[0]))
        use = replace(scene.materials[0], normal_texture=TextureUse(0, channel=1))
        moved = scene.but(meshes=(second,), materials=(use, scene.materials[1]))
        assert mesh.tangents is not None
        self.assertEqual(self.told(moved), {})
        self.assertEqual(self.told(self.with_tangents_of(moved, -mesh.tangents)), {"tangents.opposed": mesh.triangles})
        self.assertEqual(self.told(self.mended(self.with_tangents_of(moved, -mesh.tangents))), {})

    def test_missing_ones_are_made_where_a_normal_map_needs_them(self) -> None:
        for slot in (0, 1):
            scene = self.relief(slot=slot)
            bare = scene.but(meshes=(replace(scene.meshes[0], tangents=None),))
            self.assertEqual(self.told(bare), {}, "receivers make their own as the standard says")
            self.assertEqual(self.mended(bare).meshes[0].tangents is not None, slot == 0)
            self.assertIsNone(self.mended(bare, missing=False).meshes[0].tangents)

    def test_no_step_leaves_tangents_of_coordinates_or_normals_that_are_no_more(self) -> None:
        scene = self.relief()
        mesh = scene.meshes[0]
        assert mesh.normals is not None and mesh.tangents is not None
        normals = mesh.normals.copy()
        normals[4] = 0
        for kind, how, before in (
            ("first_uvs", {"anew": True}, scene),
            ("mend_normals", {}, scene.but(meshes=(replace(mesh, normals=normals),))),
        ):
            with self.subTest(step=kind):
                out = self.mended(before, kind, **how)
                self.assertIsNone(out.meshes[0].tangents)
                self.assertIsNotNone(self.mended(out).meshes[0].tangents)
        # as large as it is, a set runs the same way
        self.assertIsNotNone(self.mended(scene, "texture_scale", metresPerRepeat=0.3).meshes[0].tangents)


if __name__ == "__main__":
    unittest.main()
