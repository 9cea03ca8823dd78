"""Many small meshes asked at once: what is said of each is what it says when it is asked by itself, faults and all."""

from __future__ import annotations

import unittest
from collections.abc import Mapping, Sequence
from dataclasses import replace
from functools import lru_cache
from importlib import import_module
from typing import Any
from unittest import mock

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.test_sides import as_mesh
from tidy_caravan.core.geometry.lots import SMALL
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import AnyArray
from tidy_caravan.core.steps.clean_vertices import CLEANED
from tidy_caravan.core.steps.mend_geometry import AREALESS, REPEATED
from tidy_caravan.core.steps.part_edges import PART
from tidy_caravan.core.steps.texture_coordinates import rescaled, rescaled_many
from tidy_caravan.core.steps.turn_faces import TURN
from tidy_caravan.core.surroundings.flicker import within_mesh, within_meshes
from tidy_caravan.core.survey import context
from tidy_caravan.core.survey.context import MeshFact, known_facts, measure_many, measure_mesh
from tidy_caravan.core.work.heavy import Done, Piece, Work
from tidy_caravan.core.work.meshes import arrays_of, whole_of
from tidy_caravan.demo.ferry_landing import landing

FACTS = {name: fact.version for name, fact in known_facts().items()}


def bodies() -> list[trimesh.Trimesh]:
    """Closed ones, sheets, both together, one within another, a door in its frame."""
    box, quad = trimesh.creation.box((1, 2, 0.5)), trimesh.Trimesh(
        [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)], [(0, 1, 2), (0, 2, 3)], process=False
    )  # fmt: skip
    lid = trimesh.Trimesh(box.vertices, box.faces[:-2], process=False)
    inner = trimesh.creation.box((0.3, 0.3, 0.3))
    inner.invert()
    both = trimesh.Trimesh(quad.vertices, [*quad.faces, *quad.faces[:, ::-1]], process=False)
    raised = quad.copy()
    raised.apply_translation((0.25, 0.25, 1e-5))
    frame = [
        trimesh.creation.box(size).apply_translation(place)
        for size, place in (
            ((0.1, 2.1, 0.1), (0, 1.05, 0)), ((0.1, 2.1, 0.1), (1, 1.05, 0)), ((1.1, 0.1, 0.1), (0.5, 2.15, 0)),
            ((0.86, 2.0, 0.04), (0.5, 1.02, 0)), ((0.05, 0.1, 0.2), (0.85, 1, 0)),
        )
    ]  # fmt: skip
    far = [box.copy().apply_translation((3.0 * k, 0, 0)) for k in range(35)]
    return [
        box, quad, lid, both, trimesh.creation.cylinder(0.2, 1, sections=7), trimesh.creation.icosphere(1),
        trimesh.creation.torus(1, 0.3, 8, 6), *(trimesh.util.concatenate(some) for some in (
            [box, inner], [box, quad], [quad, raised], [box, inner.copy().apply_translation((4, 0, 0))], frame, far,
            [quad, quad.copy().apply_translation((0, 0, 1))])),
    ]  # fmt: skip


BODIES = bodies()
FAULTS = (
    "none", "none", "none", "inverted", "one turned", "some turned", "less", "twice", "repeated", "areal", "collapsed",
    "unwelded", "seam", "near seam", "no number", "no number unused", "unused", "broken normals", "opposed normals", "fin",
)  # fmt: skip


def faulty(mesh: Mesh, fault: str, rng: np.random.Generator) -> Mesh:
    """The mesh with a fault of its surface, its vertices or its normals."""
    faces, points = mesh.indices.copy(), mesh.positions.copy()
    k = int(rng.integers(len(faces)))
    if fault == "inverted":
        return replace(mesh, indices=faces[:, ::-1])
    if fault in ("one turned", "some turned"):
        rows = [k] if fault == "one turned" else np.flatnonzero(rng.random(len(faces)) < 0.3)
        faces[rows] = faces[rows][:, ::-1]
        return replace(mesh, indices=faces)
    if fault == "less":
        return mesh.with_triangles(np.arange(len(faces)) != k) if len(faces) > 1 else mesh
    if fault in ("twice", "repeated"):  # from both sides, or from one
        again = faces[[k]][:, ::-1] if fault == "twice" else faces[[k]]
        return replace(
            mesh, indices=np.concatenate([faces, again]), material=np.append(mesh.material, mesh.material[k])
        )
    if fault == "areal":
        faces[k, 2] = faces[k, 1]
        return replace(mesh, indices=faces)
    if fault == "collapsed":
        points[faces[k, 2]] = (points[faces[k, 0]] + points[faces[k, 1]]) / 2
        return replace(mesh, positions=points)
    if fault in ("unwelded", "seam", "near seam"):
        whole = mesh.with_vertices(faces.reshape(-1), indices=np.arange(faces.size, dtype=np.uint32).reshape(-1, 3))
        moved = whole.positions.copy()
        if fault == "seam":
            moved[0] = np.nextafter(moved[0], np.float32(np.inf))
        elif fault == "near seam":
            moved[0] += np.float32(rng.choice([1e-6, 1e-5, 1e-4]))
        return replace(whole, positions=moved)
    if fault == "no number":
        points[faces[k, 0], 1] = np.nan
        return replace(mesh, positions=points)
    if fault in ("unused", "no number unused"):
        more = mesh.with_vertices(np.append(np.arange(mesh.vertices), [0, 1]))
        there = more.positions.copy()
        there[-1] += np.float32(np.nan if fault.startswith("no") else 1)
        return replace(more, positions=there)
    if fault == "fin":
        return replace(
            mesh.with_vertices(np.append(np.arange(mesh.vertices), 0)),
            positions=np.concatenate([points, points[:1] + np.float32(2)]).astype(np.float32),
            indices=np.concatenate([faces, [[faces[0, 0], faces[0, 1], mesh.vertices]]]).astype(np.uint32),
            material=np.append(mesh.material, np.int32(0)),
        )
    if fault.endswith("normals") and mesh.normals is not None:
        normals = mesh.normals.copy()
        normals[faces[k]] *= np.float32(-1 if fault.startswith("opposed") else 0.5)
        return replace(mesh, normals=normals)
    return mesh


def some_mesh(rng: np.random.Generator) -> Mesh:
    body = BODIES[rng.integers(len(BODIES))]
    mesh = as_mesh(body)
    scale = 10.0 ** rng.uniform(-3, 3)
    mesh = replace(mesh, material=rng.integers(-1, rng.integers(1, 4), len(mesh.indices)).astype(np.int32))
    if rng.random() < 0.7:
        mesh = replace(mesh, normals=np.asarray(body.vertex_normals, np.float32))
    if rng.random() < 0.7:
        mesh = replace(mesh, uvs=(np.ascontiguousarray(mesh.positions[:, :2] * rng.uniform(0.5, 2)),))
    if rng.random() < 0.2:
        mesh = replace(mesh, colors=(np.ones((mesh.vertices, 4), np.float32),))
    for _ in range(int(rng.integers(0, 3))):
        mesh = replace(faulty(mesh, str(rng.choice(FAULTS)), rng), origin=None)
    offset = rng.choice([0, 0, 10, 1e5]) * scale
    return replace(mesh, positions=(mesh.positions * scale + offset).astype(np.float32))


def asked(meshes: list[Mesh]) -> list[dict[str, Any] | None]:
    outcomes = measure_many([Piece(m.id, whole_of(m), {"facts": FACTS}) for m in meshes])
    return [None if one is None else dict(one.figures) for one in outcomes]


def overlaps(mesh: Mesh) -> dict[str, AnyArray]:
    return {**arrays_of(mesh), "material": np.maximum(mesh.material, 0)}


def in_order(found: Mapping[str, AnyArray]) -> list[list[Any]]:
    """Pairs of triangles whichever is named first, with what is between them."""
    rows = [
        [*sorted((a, b)), area, distance, *middle]
        for a, b, area, distance, middle in zip(
            *(found[k].tolist() for k in ("first", "second", "area", "distance", "middle")), strict=True
        )
    ] if found else []  # fmt: skip
    return sorted(rows)


def torn(mesh: Mesh, rng: np.random.Generator) -> Mesh:
    """The same with a vertex for each corner, some of them a little off."""
    out = mesh.with_vertices(
        mesh.indices.reshape(-1), indices=np.arange(mesh.indices.size, dtype=np.uint32).reshape(-1, 3)
    )
    off = (
        rng.normal(size=out.positions.shape)
        * np.ptp(mesh.positions[mesh.used], axis=0).max()
        * 10 ** rng.uniform(-7, -3)
    )
    return replace(out, positions=(out.positions + off * (rng.random((len(off), 1)) < 0.2)).astype(np.float32))


def both_ways(work: Work, meshes: Sequence[Mesh], how: dict[str, Any]) -> list[tuple[Any, Any]]:
    """What work says of each mesh when many are asked together, None or Done, and when it is asked alone."""
    module, _, name = work.function.partition(":")
    alone = getattr(import_module(module), name)
    together = getattr(import_module(module), work.together.partition(":")[2])
    found = together([Piece(m.id, whole_of(m), how) for m in meshes])
    return [(one, alone(whole_of(m), **how)) for one, m in zip(found, meshes, strict=True)]


@lru_cache
def demo() -> tuple[Mesh, ...]:
    return landing().meshes


class Together(unittest.TestCase):
    def same(self, one: dict[str, Any], other: dict[str, Any], what: str) -> None:
        for name in FACTS:
            a, b = one[name], other[name]
            if isinstance(b, list | float):
                np.testing.assert_allclose(np.asarray(a, float), np.asarray(b, float), rtol=1e-9, err_msg=f"{what}: {name}")  # fmt: skip
            self.assertEqual(type(a), type(b), f"{what}: {name}")
            if not isinstance(b, float | list):
                self.assertEqual(a, b, f"{what}: {name}")

    @settings(deadline=None, max_examples=60)
    @given(st.integers(0, 2**32 - 1))
    def test_what_is_said_of_a_mesh_is_what_it_says_by_itself(self, seed: int) -> None:
        rng = np.random.default_rng(seed)
        meshes = [some_mesh(rng) for _ in range(24)]
        for k, (mesh, found) in enumerate(zip(meshes, asked(meshes), strict=True)):
            if found is not None:
                self.same(found, measure_mesh(whole_of(mesh), FACTS)[1], f"mesh {k}")
        pieces = [Piece(m.id, overlaps(m), {"metres": 1.0}) for m in meshes]
        for k, (piece, one) in enumerate(zip(pieces, within_meshes(pieces), strict=True)):
            if one is not None:
                mine, truth = in_order(one.arrays), in_order(within_mesh(piece.arrays, 1.0)[0])
                self.assertEqual([r[:2] for r in mine], [r[:2] for r in truth], f"mesh {k}")
                np.testing.assert_allclose(np.array(mine), np.array(truth), rtol=1e-6, atol=1e-9)

    def test_what_is_ordinary_is_said_at_once_and_faults_are_asked_by_themselves(self) -> None:
        plain = [
            replace(as_mesh(b), normals=np.asarray(b.vertex_normals, np.float32)) for b in (*BODIES[:3], *BODIES[4:7])
        ]
        self.assertNotIn(None, asked(plain))
        rng = np.random.default_rng(1)
        for fault in ("one turned", "repeated", "areal", "collapsed", "no number", "fin", "seam"):
            with self.subTest(fault):
                self.assertEqual(asked([faulty(plain[0], fault, rng)]), [None])

    def test_the_meshes_of_the_landing(self) -> None:
        meshes = [m for m in demo() if not m.attributes and not m.morphs]
        found = asked(meshes)
        self.assertGreater(sum(one is not None for one in found), 0.5 * len(meshes))
        for mesh, one in zip(meshes, found, strict=True):
            if one is not None:
                self.same(one, measure_mesh(whole_of(mesh), FACTS)[1], mesh.name)

    @settings(deadline=None, max_examples=20)
    @given(st.integers(0, 2**32 - 1))
    def test_steps_leave_alone_what_they_would_leave_alone_by_itself(self, seed: int) -> None:
        rng = np.random.default_rng(seed)
        meshes = [some_mesh(rng) for _ in range(24)]
        meshes += [torn(m, rng) for m in meshes]
        within = {"join_mm": float(10 ** rng.uniform(-3, 1)), "join": bool(rng.random() < 0.8), "unit_mm": 1000.0}
        ways = [(TURN, {"how": how}) for how in ("agree", "outwards", "all")]
        for work, how in (*ways, (CLEANED, within), (REPEATED, {}), (AREALESS, {}), (PART, {"offset": 1e-4})):
            for one, alone in both_ways(work, meshes, how):
                if one is not None:
                    self.assertEqual(({}, one.figures), alone, work.name)

    @settings(deadline=None, max_examples=20)
    @given(st.integers(0, 2**32 - 1))
    def test_sets_are_scaled_to_the_bit_as_by_themselves(self, seed: int) -> None:
        rng = np.random.default_rng(seed)
        meshes = [m for m in (some_mesh(rng) for _ in range(24)) if m.uvs]
        for size in (1.0, float(rng.uniform(0.1, 10))):
            hows = [
                {"metres": float(rng.choice([1.0, 0.01])), "metres_per_repeat": size, "slots": list(m.slots[: rng.integers(2)]),
                 "repeats": rng.uniform(0.5, 2, len(m.slots)).tolist()} for m in meshes
            ]  # fmt: skip
            found = rescaled_many([Piece(m.id, arrays_of(m), how) for m, how in zip(meshes, hows, strict=True)])
            self.assertTrue(any(found))
            for mesh, how, one in zip(meshes, hows, found, strict=True):
                self.assertFalse(one and how["slots"])
                if isinstance(one, Done):
                    arrays, figures = rescaled(arrays_of(mesh), **how)
                    self.assertEqual((one.figures, [*one.arrays]), (figures, [*arrays]))
                    for name, values in arrays.items():
                        np.testing.assert_array_equal(one.arrays[name], values)

    def test_steps_say_at_once_of_the_landing_what_they_leave_alone(self) -> None:
        meshes = [m for m in demo() if m.triangles <= SMALL and not m.attributes and not m.morphs]
        clean = {"join_mm": 0.01, "join": True, "unit_mm": 1000.0}
        for work, how in ((TURN, {"how": "agree"}), (TURN, {"how": "outwards"}), (CLEANED, clean)):
            found = both_ways(work, meshes, how)
            self.assertEqual([one.figures for one, _ in found if one], [alone[1] for one, alone in found if one])
            stay = sum(not alone[0] for _, alone in found)
            self.assertGreater(sum(one is not None for one, _ in found), 0.8 * stay, work.name)

    def test_a_fact_that_is_not_asked_together_is_asked_of_each(self) -> None:
        plain = [as_mesh(b) for b in BODIES[4:7]]
        own = MeshFact("corners", 1, lambda m: int(m.triangles) * 3)
        with mock.patch.dict(context._facts, {"corners": own}):
            found = measure_many([Piece(m.id, whole_of(m), {"facts": {**FACTS, "corners": 1}}) for m in plain])
        self.assertEqual([one and one.figures["corners"] for one in found], [3 * m.triangles for m in plain])

    def test_meshes_of_other_kinds_and_empty_ones_are_told_apart(self) -> None:
        quad = as_mesh(BODIES[1])
        bare = replace(quad, indices=quad.indices[:0], material=quad.material[:0])
        bent = replace(quad, attributes={"weights": np.ones((4, 1), np.float32)})
        large = as_mesh(trimesh.creation.icosphere(3))
        other = replace(quad, uvs=(np.zeros((4, 2), np.float32),))
        known = [one is not None for one in asked([quad, bare, bent, large, other, quad])]
        self.assertEqual(known, [True, False, False, False, True, True])
