"""What is known of meshes from survey to survey: the same answers as without it, and only what is new is asked."""

from __future__ import annotations

import unittest
from collections import Counter
from collections.abc import Iterable
from dataclasses import replace
from typing import Any

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.test_sides import as_mesh, at
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.scene import GLTF, Mesh, Scene, make_nodes
from tidy_caravan.core.survey import survey
from tidy_caravan.core.survey.context import Context, known_facts
from tidy_caravan.core.work.heavy import Outcome, Piece, Remembered, Work, Workshop, key_of


class Counting(Workshop):
    """Counts what it is asked and does not know, by the names of the facts."""

    def __init__(self) -> None:
        super().__init__(results=Remembered())
        self.asked: Counter[tuple[str, ...]] = Counter()

    def do(self, work: Work, pieces: Iterable[Piece], *rest: Any, **more: Any) -> list[Outcome]:
        given = list(pieces)
        if work.name == "mesh facts":
            known = self.results.find(work, [key_of(work, p) for p in given])
            fresh = {p.content: p for p in given if key_of(work, p) not in known}
            self.asked.update(tuple(sorted(p.parameters["facts"])) for p in fresh.values())
        return super().do(work, given, *rest, **more)


def posts(count: int = 30) -> Scene:
    rng = np.random.default_rng(5)
    meshes = []
    for _ in range(count):
        made = trimesh.creation.cylinder(0.2, 1.0, sections=6)
        made.vertices *= rng.uniform(0.5, 2.0, 3)
        plain = as_mesh(made)
        meshes.append(
            replace(plain, normals=np.asarray(made.vertex_normals, np.float32), uvs=(plain.positions[:, :2],))
        )
    local = np.array([at(3 * k, 0, 0) for k in range(count)])
    return Scene(
        GLTF, make_nodes([-1] * count, local, [f"p{k}" for k in range(count)], mesh=np.arange(count)), tuple(meshes)
    )


Picks = list[tuple[int, int]]
NUMBERS = [f for f in known_facts().values() if isinstance(f.measure(posts(1).meshes[0]), int | float)]


def several() -> list[Mesh]:
    """Eight meshes, every other with a fault of its own."""
    meshes = list(posts(8).meshes)
    for k, change in enumerate((
        lambda m: {"indices": m.indices[:, ::-1]}, lambda m: {"indices": np.concatenate([m.indices, m.indices[:2]])},
        lambda m: {"uvs": ()}, lambda m: {"normals": m.normals * np.float32(0.5)},
    )):  # fmt: skip
        more = change(meshes[2 * k])
        if "indices" in more:
            more["material"] = np.zeros(len(more["indices"]), np.int32)
        meshes[2 * k] = replace(meshes[2 * k], **more)
    return meshes


def told(scene: Scene, workshop: Workshop | None = None) -> list[Any]:
    return [f.model_dump() for f in survey(scene, BUILT_IN[0], workshop)]


class Kept(unittest.TestCase):
    def changed(self, scene: Scene, **values: Any) -> Scene:
        def one(k: int, mesh: Mesh) -> Mesh:
            return replace(mesh, **{n: v(mesh) for n, v in values.items()}) if k < 3 else mesh

        return scene.but(meshes=tuple(one(k, m) for k, m in enumerate(scene.meshes)))

    def test_new_normals_ask_for_what_depends_on_them_alone_and_new_surfaces_for_all(self) -> None:
        workshop = Counting()
        scene = posts()
        self.assertEqual(told(scene, workshop), told(scene))
        every = tuple(sorted(known_facts()))
        rest = tuple(sorted(n for n, f in known_facts().items() if not f.surface))
        self.assertEqual(workshop.asked, {every: 30})
        workshop.asked.clear()
        turned = self.changed(scene, normals=lambda m: -m.normals)
        self.assertEqual(told(turned, workshop), told(turned))
        self.assertEqual(workshop.asked, {rest: 3})
        workshop.asked.clear()
        self.assertEqual(told(turned, workshop), told(turned))
        self.assertEqual(workshop.asked, {})
        bent = self.changed(scene, positions=lambda m: m.positions * np.float32(1.5))
        self.assertEqual(told(bent, workshop), told(bent))
        self.assertEqual(workshop.asked, {every: 3})

    @settings(max_examples=10, deadline=None)
    @given(st.lists(st.lists(st.tuples(st.integers(0, 7), st.integers(0, 3)), max_size=9), min_size=1, max_size=4))
    def test_columns_of_other_meshes_in_another_order_are_those_of_asking_anew(self, scenes: list[Picks]) -> None:
        kept, pool = Workshop(results=Remembered()), several()
        for picks in scenes:
            meshes = [pool[k] if how != 1 else replace(pool[k], normals=None) for k, how in picks]
            parts = [k for k, (_, how) in enumerate(picks) if how != 2]  # the others are in no part's use
            nodes = make_nodes([-1] * len(parts), np.tile(np.eye(4), (len(parts), 1, 1)), [""] * len(parts), mesh=parts)
            scene = Scene(GLTF, nodes, tuple(meshes))
            again, anew = Context(scene, BUILT_IN[0], kept), Context(scene, BUILT_IN[0])
            for fact in known_facts().values():
                if len(picks) % 2 or "set" in fact.name:  # not all of them are asked for each time
                    self.assertEqual(again.each(fact), anew.each(fact), fact.name)
            for fact in NUMBERS:
                np.testing.assert_array_equal(again.numbers(fact), anew.numbers(fact), fact.name)
                self.assertEqual(again.numbers(fact).shape, (len(meshes),))

    def test_what_is_said_to_hang_on_the_surface_alone_does(self) -> None:
        """Every such fact is the same for meshes that differ in all else."""
        rng = np.random.default_rng(2)
        for k, mesh in enumerate(posts(6).meshes):
            faces = np.concatenate([mesh.indices, mesh.indices[:2], [[0, 0, 1]]]).astype(np.uint32)
            plain = Mesh(mesh.positions, faces, np.zeros(len(faces), np.int32))
            other = replace(
                plain,
                material=rng.integers(0, 3, len(faces)).astype(np.int32),
                normals=rng.normal(size=mesh.positions.shape).astype(np.float32),
                uvs=(rng.random((mesh.vertices, 2)).astype(np.float32),),
            )
            self.assertEqual(plain.surface_id, other.surface_id)
            for name, fact in known_facts().items():
                if fact.surface:
                    self.assertEqual(fact.measure(plain), fact.measure(other), (k, name))
