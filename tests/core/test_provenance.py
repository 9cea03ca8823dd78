"""Provenance: parts that were split, combined or thinned are compared with the triangles that they came from."""

from __future__ import annotations

import unittest
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Literal

import numpy as np

from tests.core.test_proof import everything_said
from tests.planted import kiosk
from tests.support import sent
from tidy_caravan.core.arrival.report import ArrivalReport
from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.carry import prove
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import Route, run
from tidy_caravan.core.scene import MADE, Mesh, Nodes, Origin, Scene, Touched, joined
from tidy_caravan.core.selection import Rule
from tidy_caravan.core.space.convert import keep_nodes, transform_mesh
from tidy_caravan.core.space.transforms import affine_inverse
from tidy_caravan.core.steps import Change, Step, StepContext, base, known_steps
from tidy_caravan.core.steps.base import Phase, per_mesh, step
from tidy_caravan.server.store.blobs import Store
from tidy_caravan.server.store.scenes import load_scene, save_scene

SPLIT = (Aspect.PARTS, Aspect.NAMES, Aspect.TREE, Aspect.PIVOTS, Aspect.SHARING)


def put_in(mesh: Mesh, number: int, scene: Scene) -> Scene:
    meshes = list(scene.meshes)
    meshes[number] = mesh
    return scene.but(meshes=tuple(meshes))


class Toy(Step):
    """Splits or combines parts of the kiosk, right or wrong; only for this test."""

    title = "Toy"
    summary = "For this test only."
    phase = Phase.GEOMETRY
    once = False

    kind: Literal["toy"] = "toy"
    does: Literal["split", "combine", "more", "shift", "stretch"] = "split"
    wrong: str = ""

    def effects(self) -> tuple[Effect, ...]:
        aspects = {
            "more": (Aspect.TRIANGLES, Aspect.SHARING),
            "shift": (Aspect.FIRST_UV, Aspect.SHARING),
            "stretch": (Aspect.POSITIONS, Aspect.SHARING),
            "combine": (*SPLIT, Aspect.DATA),
        }
        return tuple(Effect(a) for a in aspects.get(self.does, SPLIT))

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        chosen = context.selected(self.where, scene)
        if self.does in ("more", "shift", "stretch"):
            if self.wrong == "all":
                chosen = np.ones(len(chosen), np.bool_)
            return per_mesh(scene, chosen, getattr(self, self.does))[0], []
        return (self.split(scene) if self.does == "split" else self.combine(scene)), []

    def more(self, mesh: Mesh) -> Mesh:
        """Two triangles more; wrong: with the coordinates of the others shifted, or some of them turned over."""
        indices = np.concatenate([mesh.indices, [[0, 1, 4], [1, 5, 4]]]).astype(np.uint32)
        if self.wrong == "winding":
            indices[3] = indices[3, ::-1]
        uvs = mesh.uvs if self.wrong != "coordinates" else tuple(u + np.float32(0.25) for u in mesh.uvs)
        number = np.append(np.arange(mesh.triangles), [MADE, MADE]).astype(np.uint32)
        return replace(
            mesh,
            indices=indices,
            material=np.append(mesh.material, mesh.material[:2]),
            uvs=uvs,
            origin=Origin(number) if self.wrong != "untold" else None,
        )

    def shift(self, mesh: Mesh) -> Mesh:
        return replace(mesh, uvs=(mesh.uvs[0] + np.float32(0.25), *mesh.uvs[1:]))

    def stretch(self, mesh: Mesh) -> Mesh:
        """Half as wide again, or turned too: positions only, normals as a box has them."""
        out = replace(mesh, positions=mesh.positions * np.array([1.5, 1.5, 1.5], np.float32))
        if self.wrong == "coordinates":
            out = self.shift(out)
        if self.wrong == "winding":
            out = replace(out, indices=out.indices[:, ::-1])
        if self.wrong == "normals":
            assert out.normals is not None
            out = replace(out, normals=out.normals[:, [1, 2, 0]])
        return out

    def split(self, scene: Scene) -> Scene:
        """The shared post, into the first four triangles and the others, for both of its parts."""
        nodes = scene.nodes
        number = int(nodes.mesh[3])
        post = scene.meshes[number]
        rows = np.arange(post.triangles)
        first, second = post.with_triangles(rows < 4), post.with_triangles(rows >= 4)
        if self.wrong == "loses one":
            second = post.with_triangles(rows >= 5)
        if self.wrong == "keeps one twice":
            second = post.with_triangles(rows >= 3)
        if self.wrong == "shifts coordinates":
            second = replace(second, uvs=tuple(u * 2 for u in second.uvs))
        if self.wrong == "other triangles":
            first = replace(first, origin=Origin(np.array([4, 5, 6, 7])))
        if self.wrong == "no such triangle":
            first = replace(first, origin=Origin(np.array([0, 1, 2, 700])))
        scene = put_in(first, number, scene.but(meshes=(*scene.meshes, second)))
        users = np.flatnonzero(nodes.mesh == number)
        return scene.but(nodes=copied(scene.nodes, users, len(scene.meshes) - 1))

    def combine(self, scene: Scene) -> Scene:
        """Front, back and both posts in one, in the space of the front."""
        nodes = scene.nodes
        rows = [1, 2, 3, 4]
        back = affine_inverse(nodes.world[:2])[1]
        pieces = []
        for k, i in enumerate(rows):
            mesh = scene.meshes[nodes.mesh[i]]
            move = back @ nodes.world[i]
            piece = transform_mesh(mesh, move[:3, :3])
            place = move[:3, 3] + (
                [0.0, 0.004 / scene.convention.metres_per_unit, 0.0]
                if self.wrong == "moves one" and k == 2
                else [0.0, 0.0, 0.0]
            )
            piece = replace(piece, positions=(piece.positions + place).astype(np.float32))
            if self.wrong == "turns one over" and k == 3:
                piece = replace(piece, indices=piece.indices[:, ::-1])
            if self.wrong == "other material" and k == 1:
                piece = replace(piece, material=np.full_like(piece.material, 3))
            pieces.append(piece)
        starts = np.concatenate([[0], np.cumsum([p.vertices for p in pieces])[:-1]])
        origin = joined([p.origin or Origin.all_of(p.triangles) for p in pieces], [1] * 4)
        whole = Mesh(
            np.concatenate([p.positions for p in pieces]),
            np.concatenate([p.indices + int(s) for p, s in zip(pieces, starts, strict=True)]).astype(np.uint32),
            np.concatenate([p.material for p in pieces]),
            np.concatenate([p.normals for p in pieces if p.normals is not None]),
            uvs=tuple(np.concatenate([p.uvs[s] for p in pieces]) for s in range(2)),
            origin=None if self.wrong == "untold" else origin,
        )
        column = nodes.mesh.copy()
        column[rows] = [len(scene.meshes), -1, -1, -1]
        sources = {1: nodes.source[rows]}
        if self.wrong == "forgets one":
            sources = {1: nodes.source[rows[:3]]}
        meshes = (*scene.meshes, whole)
        return scene.but(meshes=meshes, nodes=replace(nodes, mesh=column, sources=sources))


def copied(nodes: Nodes, rows: np.ndarray[tuple[int], np.dtype[np.int64]], mesh: int) -> Nodes:
    """The nodes with copies of some behind them that draw another mesh."""
    none = np.full(len(rows), -1, np.int32)
    return replace(
        nodes,
        parent=np.concatenate([nodes.parent, nodes.parent[rows]]),
        local=np.concatenate([nodes.local, nodes.local[rows]]),
        mesh=np.concatenate([nodes.mesh, np.full(len(rows), mesh, np.int32)]),
        **{name: np.concatenate([getattr(nodes, name), none]) for name in ("light", "camera", "skin", "layer")},
        flags=np.concatenate([nodes.flags, nodes.flags[rows]]),
        source=np.concatenate([nodes.source, nodes.source[rows]]),
        names=(*nodes.names, *(f"{nodes.names[i]} b" for i in rows.tolist())),
    )


class Provenance(unittest.TestCase):
    def setUp(self) -> None:
        step(Toy)
        self.addCleanup(base._steps.pop, "toy")

    def report(self, scene: Scene, *toys: dict[str, object]) -> ArrivalReport:
        steps = [{"kind": "match_units_axes", "bakeScale": False}, *({"kind": "toy", **t} for t in toys)]
        route = Route.model_validate({"steps": steps})
        with TemporaryDirectory() as folder:
            package, result = sent(scene, "kiosk", "0" * 64, BUILT_IN[2], route, "glb")
            save(package.files, Path(folder))
            with_store = Store(folder)
            result = load_scene(with_store, save_scene(with_store, result))  # provenance is stored with the scene
            return prove(Path(folder), scene, result)[0]

    def test_split_and_combined_parts_arrive(self) -> None:
        mirrored = kiosk()
        local = mirrored.nodes.local.copy()
        local[4] = local[4] @ np.diag([-1.0, 1.0, 1.0, 1.0])
        local[2, :3, :3] *= 1.5
        for scene in (kiosk(), mirrored.but(nodes=replace(mirrored.nodes, local=local))):
            for does in ("split", "combine", "more"):
                with self.subTest(does=does):
                    report = self.report(scene, {"does": does})
                    self.assertTrue(report.ok, everything_said(report))

    def test_provenance_survives_every_step(self) -> None:
        """Parts are split and combined first; whatever comes behind, they are still told triangle by triangle."""
        others = [k for k in known_steps() if k not in ("toy", "match_units_axes")]
        scene = kiosk()
        thin = np.array([[0, 1, 1]], np.uint32)
        post = scene.meshes[1]
        flat = replace(
            post, indices=np.concatenate([post.indices, thin]), material=np.append(post.material, post.material[:1])
        )
        scene = put_in(flat, 1, scene)
        for toys in ([{"does": "split"}], [{"does": "combine"}], [{"does": "split"}, {"does": "combine"}]):
            steps = [{"kind": "toy", **t} for t in toys] + [{"kind": k} for k in ("match_units_axes", *others)]
            steps = [{**s, "edge_mm": 500} if s["kind"] == "subdivide" else s for s in steps]  # each triangle into 16
            route = Route.model_validate({"steps": steps})
            with self.subTest(toys=toys), TemporaryDirectory() as folder:
                package, result = sent(scene, "kiosk", "0" * 64, BUILT_IN[0], route, "glb")
                save(package.files, Path(folder))
                report, _ = prove(Path(folder), scene, result)
                self.assertTrue(report.ok, everything_said(report))
                told = [m for m in result.meshes if m.origin is not None]
                self.assertTrue(told)
                for mesh in told:
                    assert mesh.origin is not None
                    self.assertEqual(len(mesh.origin.triangle), mesh.triangles)
                moved = replace(told[0], uvs=(told[0].uvs[0] * np.float32(1.5), *told[0].uvs[1:]))
                meshes = [moved if m is told[0] else m for m in result.meshes]
                wrong, _ = prove(Path(folder), scene, result.but(meshes=tuple(meshes)))
                self.assertRegex(everything_said(wrong), "the route changed its first UV set|first UV set differs")

    def test_wrong_splits_are_caught(self) -> None:
        said = {
            "loses one": r"post left: 1 triangle missing, by the route",
            "keeps one twice": r"1 triangle too many, by the route",
            "shifts coordinates": r"the route changed its first UV set",
            "other triangles": r"the route moved its surface",
            "no such triangle": r"says that it came from triangles that the source does not have",
        }
        for wrong, words in said.items():
            with self.subTest(wrong=wrong):
                report = self.report(kiosk(), {"does": "split", "wrong": wrong})
                self.assertFalse(report.ok)
                self.assertRegex(everything_said(report), words)

    def test_wrong_combinations_are_caught(self) -> None:
        said = {
            "moves one": r"the route moved its surface by 4 mm",
            "turns one over": r"12 triangles turned over",
            "other material": r"carry “rail” instead of “\w+” \(by the route\)",
            "untold": r"was made of several parts and does not say which triangle was whose",
            "forgets one": r"says that triangles came from a part that it does not name",
        }
        for wrong, words in said.items():
            with self.subTest(wrong=wrong):
                report = self.report(kiosk(), {"does": "combine", "wrong": wrong})
                self.assertFalse(report.ok)
                self.assertRegex(everything_said(report), words)

    def test_what_was_neither_made_nor_declared_is_compared_beside_what_was(self) -> None:
        """Triangles come, or points move: coordinates, winding and normals of the others are as they left."""
        said = {"coordinates": r"the route changed its first UV set", "winding": r"turned over", "": "^$"}
        for does, wrongs in (
            ("more", ("coordinates", "winding")),
            ("stretch", ("coordinates", "winding", "normals", "")),
        ):
            for wrong in wrongs:
                with self.subTest(does=does, wrong=wrong):
                    report = self.report(kiosk(), {"does": does, "wrong": wrong})
                    self.assertEqual(report.ok, not wrong, everything_said(report))
                    self.assertRegex(everything_said(report), said.get(wrong, r"the route turned its normals"))

    def test_triangles_that_nobody_told_of_still_leave_the_others_as_they_were(self) -> None:
        self.assertTrue(self.report(kiosk(), {"does": "more", "wrong": "untold"}).ok)

    def test_what_a_step_declares_holds_for_the_parts_that_it_is_for(self) -> None:
        post = {"names": ["post left"]}
        report = self.report(kiosk(), {"does": "shift", "where": post})
        self.assertTrue(report.ok, everything_said(report))
        report = self.report(kiosk(), {"does": "shift", "where": post, "wrong": "all"})
        rows = {r.path.rpartition("/")[2]: r.faults for r in report.rows}
        self.assertEqual(rows["post left"], [])
        self.assertEqual(rows["post right"], ["first UV set"])
        self.assertEqual(rows["front"], ["first UV set"])
        # two steps, each for its own part
        both = self.report(kiosk(), {"does": "shift", "where": post}, {"does": "more", "where": {"names": ["front"]}})
        self.assertTrue(both.ok, everything_said(both))

    def test_parts_that_come_out_of_nowhere_or_twice(self) -> None:
        scene = kiosk()
        route = Route.model_validate({"steps": [{"kind": "match_units_axes"}]})
        for source, words in (
            (-1, "the route added 1 part"),
            (3, "“kiosk/post left” came out of the route more than once"),
        ):
            with TemporaryDirectory() as folder:
                package, result = sent(scene, "kiosk", "0" * 64, BUILT_IN[2], route, "glb")
                save(package.files, Path(folder))
                nodes = copied(result.nodes, np.array([3]), int(result.nodes.mesh[3]))
                own = nodes.source.copy()
                own[-1] = source
                report, _ = prove(Path(folder), scene, result.but(nodes=replace(nodes, source=own)))
            self.assertIn(words, everything_said(report))


class Columns(unittest.TestCase):
    def test_of_taken_and_joined_triangles(self) -> None:
        mesh = kiosk().meshes[0]
        again = mesh.with_triangles(np.array([5, 3, 7])).with_triangles(np.array([2, 0]))
        assert again.origin is not None
        self.assertEqual(again.origin.triangle.tolist(), [7, 5])
        both = joined([again.origin, Origin(np.array([1, MADE]), np.array([1, 0], np.uint8))], [1, 2])
        self.assertEqual(both.triangle.tolist(), [7, 5, 1, MADE])
        self.assertEqual(both.members().tolist(), [0, 0, 2, 1])
        self.assertEqual(both.members().dtype, np.uint8)
        many = joined([Origin.all_of(1)] * 300, [1] * 300)
        self.assertEqual(many.members().dtype, np.uint16)
        self.assertNotEqual(again.id, replace(again, origin=None).id)

    def test_of_several_sources_go_with_their_nodes(self) -> None:
        scene = kiosk()
        told = scene.but(nodes=replace(scene.nodes, sources={5: np.array([5, 6])}))
        keep = np.ones(len(scene.nodes), np.bool_)
        keep[[1, 2]] = False
        kept = keep_nodes(told, keep)
        self.assertEqual({k: v.tolist() for k, v in kept.nodes.sources.items()}, {3: [5, 6]})
        self.assertEqual(kept.nodes.came_from(kept.nodes.mesh == kept.nodes.mesh[3]).tolist(), [5, 6])

    def test_results_are_stored_with_the_names_of_their_source(self) -> None:
        """What is picked by hand is found in a result that was renamed, thinned out and kept meanwhile."""
        scene = kiosk()
        steps = [{"kind": k} for k in ("what_travels", "match_units_axes", "tidy_names")]
        done, _ = run(scene, Route.model_validate({"steps": steps}), BUILT_IN[0])
        with TemporaryDirectory() as folder:
            again = load_scene(Store(folder), save_scene(Store(folder), done))
        post = scene.identities.names[3]
        chosen = np.flatnonzero(Rule(parts=[post]).select(again))
        self.assertEqual(again.nodes.source[chosen].tolist(), [3])
        untold = again.but(identity=None, nodes=replace(again.nodes, source=again.nodes.source[::-1].copy()))
        self.assertFalse(Rule(parts=[post]).select(untold).any(), "a result that was not told names nothing")

    def test_of_steps_that_were_for_a_node(self) -> None:
        touched = Touched.none(4).by(0, np.array([0, 1])).by(1, np.array([1, 2, -1, 9])).by(3, np.array([1]))
        self.assertEqual([touched.steps[c] for c in touched.code.tolist()], [(0,), (0, 1, 3), (1,), ()])


if __name__ == "__main__":
    unittest.main()
