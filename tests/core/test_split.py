"""Parts taken apart: nothing lost, nothing moved, shared meshes split once; lumps that come back as copies; arrivals."""

from __future__ import annotations

import unittest
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np
import trimesh
from benchmarks.lumps import lumped, pieces_of_each
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import cKDTree

from tests.core.test_sides import as_mesh, at, scene_of
from tests.support import sent
from tidy_caravan.core.carry import prove
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.figures import count
from tidy_caravan.core.formats import writable
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import Route
from tidy_caravan.core.scene import GLTF, Material, Mesh, Scene, make_nodes
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.core.survey import survey
from tidy_caravan.core.work.heavy import Remembered, Workshop
from tidy_caravan.demo.ferry_landing import landing

BOX = trimesh.creation.box


def soup(scene: Scene) -> Any:
    """(T, 6) middle and area vector of every triangle in the world."""
    out = []
    for i in scene.nodes.parts.tolist():
        mesh, world = scene.meshes[scene.nodes.mesh[i]], scene.nodes.world[i]
        corners = (mesh.positions.astype(np.float64) @ world[:3, :3].T + world[:3, 3])[mesh.indices]
        across = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        out.append(np.column_stack([corners.mean(axis=1), across * np.sign(np.linalg.det(world[:3, :3]))]))
    return np.concatenate(out)


def same_soup(a: Scene, b: Scene) -> bool:
    """Whether both draw the same triangles, each as often, within a hundredth of a millimetre."""
    one, other = soup(a), soup(b)
    near, _ = cKDTree(one).query(other)
    back, _ = cKDTree(other).query(one)
    return len(one) == len(other) and max(near.max(), back.max()) < 1e-5


def apply(scene: Scene, **more: Any) -> Scene:
    return parse_step({"kind": "split_parts", **more}).apply(scene, StepContext(BUILT_IN[0]))[0]


def crates(columns: int = 3) -> Any:
    """Crates side by side as one trimesh."""
    return trimesh.util.concatenate([BOX([1, 1, 1], transform=at(2 * k, 0.5, 0)) for k in range(columns)])


def proven(scene: Scene, steps: list[dict[str, Any]], fmt: str = "glb") -> tuple[bool, list[str], Scene]:
    route = Route.model_validate({"steps": [{"kind": "match_units_axes", "bakeScale": False}, *steps]})
    with TemporaryDirectory() as folder:
        package, result = sent(scene, "s", "0" * 64, BUILT_IN[2], route, fmt)  # type: ignore[arg-type]
        save(package.files, Path(folder) / "p")
        report, _ = prove(Path(folder) / "p", scene, result)
    return report.ok, [*report.problems, *(str(r.told) for r in report.rows if r.faults)], result


class Split(unittest.TestCase):
    def test_by_each_way_the_pieces_are_as_many_and_no_triangle_is_lost(self) -> None:
        mesh = replace(as_mesh(crates(4), 0), material=np.repeat([0, 1, 0, 1], 12).astype(np.int32))
        nodes = make_nodes([-1], at(0, 0, 0)[None], ["crates"], mesh=[0], layer=[0])
        scene = Scene(GLTF, nodes, (mesh,), (Material("oak"), Material("pine")), layers=("quay",))
        tower = scene_of({"tower": (trimesh.util.concatenate([BOX([1, 1, 1], transform=at(0, 0.5 + 3 * k, 0)) for k in range(3)]), at(0, 7, 0))})  # fmt: skip
        for one, more, pieces in (
            (scene, {"by": "material"}, 2),
            (scene, {"by": "shells"}, 4),
            (scene, {"by": "cell", "cellM": 4.5}, 6),  # the middle of the crates lies on the border of two
            (scene, {"by": "vertices", "vertices": 100}, 1),
            (scene, {"by": "size", "sizeM": 3.5}, 2),
            (tower, {"by": "storey", "storeyM": 3}, 3),
        ):
            with self.subTest(**more):
                out = apply(one, **more)
                self.assertEqual(len(out.nodes.parts), pieces)
                self.assertTrue(same_soup(out, one))
                self.assertEqual(set(out.nodes.layer[out.nodes.parts]), {int(one.nodes.layer[0])})
        names = {apply(scene, by="material").nodes.names[i] for i in apply(scene, by="material").nodes.parts.tolist()}
        self.assertEqual(names, {"crates_oak_01", "crates_pine_02"})

    @settings(max_examples=15, deadline=None)
    @given(st.integers(0, 1000), st.sampled_from(["size", "vertices", "cell", "shells"]))
    def test_bounds_hold_and_surfaces_stay(self, seed: int, by: str) -> None:
        rng = np.random.default_rng(seed)
        made = trimesh.creation.icosphere(3, 2.0)
        made.vertices += rng.normal(scale=0.01, size=made.vertices.shape)
        scene = scene_of({"ball": (made, at(*rng.uniform(-9, 9, 3)))})
        out = apply(scene, by=by, sizeM=1.0, vertices=150, cellM=1.5)
        self.assertTrue(same_soup(out, scene))
        boxes = out.part_bounds
        if by == "size":
            self.assertLessEqual((boxes[:, 1] - boxes[:, 0]).max(), 1.0 + 1e-5)
        if by == "vertices":
            self.assertLessEqual(max(m.vertices for m in out.meshes), 150)
        if by == "cell":  # a piece reaches out of its cell by less than its triangles are long
            self.assertLessEqual((boxes[:, 1] - boxes[:, 0]).max(), 1.5 + 2 * 0.4)
        for mesh in out.meshes:
            self.assertEqual(len(mesh.used), mesh.vertices)

    def test_a_shared_mesh_is_split_once_and_its_pieces_stand_on_their_own_base(self) -> None:
        scene = scene_of({f"row {k}": (crates(), at(0, 0, 5 * k)) for k in range(4)})
        shared = scene.but(meshes=scene.meshes[:1], nodes=replace(scene.nodes, mesh=np.zeros(4, np.int32)))
        out = apply(shared)
        self.assertEqual((len(out.nodes.parts), len(out.meshes)), (12, 3))
        self.assertTrue(same_soup(out, shared))
        for mesh in out.meshes:
            low, high = mesh.bounds
            np.testing.assert_allclose([*(low + high)[[0, 2]], low[1]], 0, atol=1e-6)
        kept = apply(shared, pivot="kept")
        self.assertEqual(len(kept.meshes), 3)
        again, changes = parse_step({"kind": "split_parts"}).apply(out, StepContext())
        self.assertEqual((again, changes), (out, []))

    def test_what_is_in_one_piece_skinned_or_not_meant_stays(self) -> None:
        scene = scene_of({"ball": (trimesh.creation.icosphere(1), at(0, 0, 0)), "crates": (crates(), at(9, 0, 0))})
        self.assertIs(apply(scene, where={"names": ["ball"]}), scene)
        skinned = scene.but(nodes=replace(scene.nodes, skin=np.array([-1, 0], np.int32)))
        out, changes = parse_step({"kind": "split_parts"}).apply(skinned, StepContext())
        self.assertIs(out, skinned)
        self.assertEqual([c.text for c in changes], ["1 part with a skin or morph targets stays whole"])


class Limits(unittest.TestCase):
    def test_a_mesh_beyond_sixteen_bits_is_split_where_the_destination_has_no_more(self) -> None:
        ball = trimesh.creation.icosphere(subdivisions=5)
        ball.unmerge_vertices()  # every triangle has its own, as where all edges are hard
        pair = trimesh.util.concatenate([ball, ball.copy().apply_transform(np.diag([0.4, 0.5, 0.6, 1.0]))])
        scene = scene_of({"pair": (pair, np.eye(4)), "box": (BOX(), at(3, 0, 0))})
        kept = Workshop(results=Remembered())  # what a mesh is does not depend on where it goes
        self.assertNotIn("limit.vertices", {f.code for f in survey(scene, BUILT_IN[0], kept)})
        to = BUILT_IN[0].model_copy(update={"index_bits": 16})
        (finding,) = (f for f in survey(scene, to, kept) if f.code == "limit.vertices")
        self.assertEqual((finding.parts, finding.value), ([0], 2 * 3 * 20_480))
        out, _ = parse_step(finding.mend).apply(scene, StepContext(to))  # type: ignore[arg-type]
        self.assertLessEqual(max(m.vertices for m in out.meshes), 65_535)
        self.assertTrue(same_soup(out, scene))
        self.assertNotIn("limit.vertices", {f.code for f in survey(out, to, kept)})
        # and where all of it hangs together
        scene = scene_of({"pair": (trimesh.creation.icosphere(subdivisions=7), np.eye(4))})
        out, _ = parse_step(finding.mend).apply(scene, StepContext(to))  # type: ignore[arg-type]
        self.assertLessEqual(max(m.vertices for m in out.meshes), 65_535)
        self.assertEqual(sum(m.triangles for m in out.meshes), 327_680)
        self.assertTrue(same_soup(out, scene))


class Arrives(unittest.TestCase):
    def test_in_every_format_whole_or_shared_again(self) -> None:
        scene = scene_of({f"row {k}": (crates(), at(0, 0, 5 * k)) for k in range(2)})
        for steps in ([{"kind": "split_parts"}], [{"kind": "split_parts", "pivot": "kept"}, {"kind": "share_copies"}]):
            for fmt in sorted(writable()):
                with self.subTest(format=fmt, steps=len(steps)):
                    ok, said, result = proven(scene, steps, fmt)
                    self.assertTrue(ok, said)
                    self.assertEqual((len(result.nodes.parts), len(result.meshes)), (6, 3 if len(steps) == 1 else 1))

    def test_a_piece_that_says_it_came_from_others_is_caught(self) -> None:
        scene = scene_of({f"row {k}": (crates(), at(0, 0, 5 * k)) for k in range(2)})
        route = Route.model_validate({"steps": [{"kind": "split_parts", "pivot": "kept"}, {"kind": "share_copies"}]})
        with TemporaryDirectory() as folder:
            package, result = sent(scene, "s", "0" * 64, BUILT_IN[0], route, "glb")
            save(package.files, Path(folder) / "p")
            a, b = list(result.nodes.origins)[:2]
            own = {**result.nodes.origins, a: result.nodes.origins[b]}
            report, _ = prove(Path(folder) / "p", scene, result.but(nodes=replace(result.nodes, origins=own)))
        self.assertFalse(report.ok)
        self.assertIn("missing, by the route", str([r.told for r in report.rows]))

    def test_a_hall_of_one_mesh_per_material_comes_back_as_pieces_that_share(self) -> None:
        whole = landing()
        lump = lumped(whole)
        self.assertEqual(len(lump.nodes.parts), len(lump.meshes))
        told = {f.code: f for f in survey(lump, BUILT_IN[2])}
        self.assertGreaterEqual(told["structure.lump"].count, 4)
        self.assertNotIn("structure.lump", [f.code for f in survey(whole, BUILT_IN[2])])
        steps = [{"kind": "split_parts"}, {"kind": "share_copies"}]
        ok, said, result = proven(lump, steps)
        self.assertTrue(ok, said)
        _, changes = parse_step(steps[1]).apply(apply(lump), StepContext(BUILT_IN[2]))
        self.assertLessEqual(len(changes[0].parts), len(lump.meshes), "pieces of one part are named once")
        figures = count(result)
        # parts that touch corner on corner are several in a lump as well
        own = sum(pieces_of_each(whole))
        self.assertEqual(figures.parts, own)
        self.assertGreater(own, sum(len(np.unique(shells(m))) for m in lump.meshes) + 100)
        self.assertLess(figures.unique_meshes, figures.parts / 8)


def shells(mesh: Mesh) -> Any:
    """(F,) shell of each triangle by an independent library; of each material by itself, as a lump has them."""
    label = np.zeros(mesh.triangles, np.int64)
    for slot in mesh.slots:
        rows = np.flatnonzero(mesh.material == slot)
        points, faces = np.unique(mesh.positions, axis=0, return_inverse=True)[0], None
        places = np.unique(mesh.positions, axis=0, return_inverse=True)[1].reshape(-1)
        faces = places[mesh.indices[rows]]
        found = trimesh.graph.connected_component_labels(
            np.concatenate([faces[:, :2], faces[:, 1:]]), node_count=len(points)
        )
        label[rows] = found[faces[:, 0]] * 100 + slot
    return label
