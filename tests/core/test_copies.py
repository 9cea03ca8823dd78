"""Copies found again: what is one shape and what is not, and where the parts stand afterwards."""

from __future__ import annotations

import io
import unittest
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any
from unittest import mock

import collada
import numpy as np
import pygltflib
import trimesh
from benchmarks.copies import PROTOTYPES, flattened, judged
from hypothesis import given, settings
from hypothesis import strategies as st
from pxr import Sdf, Usd, UsdGeom
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from tests.core.test_sides import as_mesh, at, scene_of
from tests.core.test_split import proven
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.copies.families import FEW, like_none
from tidy_caravan.core.copies.search import copies_in, movable, rows_like_others, share
from tidy_caravan.core.formats import write
from tidy_caravan.core.scene import GLTF, Clip, Material, Mesh, Scene, make_nodes
from tidy_caravan.core.scene.held import held_bytes
from tidy_caravan.core.scene.things import Channel
from tidy_caravan.core.space.transforms import split_trs
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.core.survey import survey
from tidy_caravan.core.work.heavy import Remembered, Workshop

POST = trimesh.util.concatenate(
    [trimesh.creation.box([0.3, 2, 0.3]), trimesh.creation.icosphere(1, 0.2).apply_translation([0.1, 1.2, 0.05])]
)


def points_of(scene: Scene, node: int) -> Any:
    world = scene.nodes.world[node]
    return scene.meshes[scene.nodes.mesh[node]].positions.astype(np.float64) @ world[:3, :3].T + world[:3, 3]


def apart(before: Scene, after: Scene) -> float:
    """Metres by which a vertex of any part is away from any that it had before."""
    rows = before.nodes.parts.tolist()
    return max(float(cKDTree(points_of(before, i)).query(points_of(after, i))[0].max()) for i in rows)


def flat(*placements: Any, made: Any = POST, material: Any = None, change: Any = None) -> Scene:
    """Parts whose placement is in their vertices, the first as it is."""
    meshes = []
    for k, matrix in enumerate([np.eye(4), *placements]):
        one = made.copy()
        if change is not None:
            change(k, one)
        one.apply_transform(matrix)
        meshes.append(as_mesh(one, 0 if material is None else material[k]))
    nodes = make_nodes(np.full(len(meshes), -1), np.tile(np.eye(4), (len(meshes), 1, 1)), [f"post {k}" for k in range(len(meshes))], mesh=np.arange(len(meshes)))  # fmt: skip
    return Scene(GLTF, nodes, tuple(meshes), (Material("a"), Material("b")))


def apply(scene: Scene, **more: Any) -> Scene:
    return parse_step({"kind": "share_copies", **more}).apply(scene, StepContext(BUILT_IN[0]))[0]


def scaled(*factors: float) -> Any:
    return np.diag([*factors, 1.0])


class Found(unittest.TestCase):
    def test_flattened_scenes_come_back(self) -> None:
        """Some thousand copies of 300 shapes, turned, scaled and mirrored, a third in another order, among near twins."""
        truth = flattened(2_000, seed=3)
        chosen = movable(truth.scene)
        found = copies_in(truth.scene, Workshop(), lambda done, total: None, chosen, 0.5, "per_axis", True)
        result = judged(truth, share(truth.scene, found, chosen))
        self.assertGreaterEqual(min(result.recall, result.precision), 0.995)
        several = np.bincount(truth.kind[truth.kind < PROTOTYPES]) > 1
        self.assertLessEqual(abs(result.families - int(several.sum())), 1)
        self.assertLess(result.deviation_mm, 0.5)

    def test_by_figures_kept_of_each_mesh_the_same_copies_come_out(self) -> None:
        """As when all of a kind are looked at together; and what is another mesh than before is looked at alone."""
        truth = flattened(800, seed=4)
        chosen = movable(truth.scene)

        def families(scene: Scene, workshop: Workshop) -> set[frozenset[int]]:
            found = copies_in(scene, workshop, lambda done, total: None, chosen, 0.5, "uniform", True)
            return {frozenset(found.mesh[found.family == k].tolist()) for k in range(len(found.frame))}

        together = families(truth.scene, Workshop())
        self.assertGreater(len(together), 50)
        asked: list[int] = []

        def everyone(values: Any, *rest: Any) -> Any:
            asked.append(len(values) - len(rows_like_others(values, *rest)))
            return np.arange(len(values))

        with mock.patch("tidy_caravan.core.copies.search.rows_like_others", everyone):
            self.assertEqual(families(truth.scene, Workshop()), together, "those that are like no other left in")
        self.assertGreater(sum(asked), 20)
        known = Remembered()
        kept = Workshop(results=known)
        with mock.patch("tidy_caravan.core.copies.search.FIGURES_FROM", 1):
            self.assertEqual(families(truth.scene, kept), together)
            before = len(known.made)
            meshes = list(truth.scene.meshes)
            alone = sorted(set(range(len(meshes))) - set().union(*together))[:5]
            for i in alone:
                meshes[i] = replace(meshes[i], positions=meshes[i].positions * np.float32([1, 1, 1.5]))
            self.assertEqual(families(truth.scene.but(meshes=tuple(meshes)), kept), together)
        self.assertEqual(len(known.made) - before, 5)

    @settings(deadline=None, max_examples=40)
    @given(st.integers(0, 10**6), st.integers(2, 300), st.sampled_from((0.002, 0.05, 1.0)))
    def test_those_like_no_other_are_those_found_by_trying_each_pair(
        self, seed: int, count: int, spread: float
    ) -> None:
        rng = np.random.default_rng(seed)
        values, radii = rng.normal(scale=spread, size=(count, 5)), rng.normal(scale=spread, size=(count, 8))
        spare, blur = 10 ** rng.uniform(-4, -2, (count, 5)), 10 ** rng.uniform(-4, -2, count)
        near = (np.abs(values[:, None] - values) <= spare[:, None] + spare).all(axis=2)
        near &= np.abs(radii[:, None] - radii).max(axis=2) <= blur[:, None] + blur
        alone = near.sum(axis=1) == 1
        said = like_none(values, spare, radii, blur)
        self.assertFalse((said & ~alone).any(), "one that has a copy is never left out")
        if count <= FEW:
            np.testing.assert_array_equal(said, alone)
        elif spread == 1.0:
            self.assertGreater(said.sum(), 0.9 * alone.sum())

    def test_faults_that_are_copied_as_well_are_no_difference(self) -> None:
        """A triangle that stands twice, and one without area, break the symmetry of what they are on, in any order."""
        rng = np.random.default_rng(5)
        for made in (trimesh.creation.icosphere(2, 0.5), trimesh.creation.cylinder(0.3, 2, sections=24), POST):
            corners = np.concatenate([made.faces, made.faces[:1], made.faces[:1, [0, 0, 1]]])
            meshes = []
            for _ in range(5):
                order = np.roll(corners, int(rng.integers(3)), axis=1)[rng.permutation(len(corners))]
                number = rng.permutation(order.size)  # no two triangles share a vertex
                turn = trimesh.transformations.random_rotation_matrix(rng.random(3))[:3, :3]
                points = (made.vertices[order].reshape(-1, 3) @ turn.T)[number] + rng.uniform(-9, 9, 3)
                faces = np.argsort(number).reshape(-1, 3).astype(np.uint32)
                meshes.append(Mesh(points.astype(np.float32), faces, np.zeros(len(faces), np.int32)))
            nodes = make_nodes([-1] * 5, np.tile(np.eye(4), (5, 1, 1)), list("abcde"), mesh=np.arange(5))
            self.assertEqual(len(apply(Scene(GLTF, nodes, tuple(meshes), (Material("a"),))).meshes), 1)

    def test_scales_and_mirrors_count_as_asked(self) -> None:
        turn = trimesh.transformations.rotation_matrix(1.0, [1, 2, 3], [4, 5, 6])
        for matrix, counts in (
            (turn, {"none", "uniform", "per_axis"}),
            (turn @ scaled(2, 2, 2), {"uniform", "per_axis"}),
            (turn @ scaled(1, 2, 1.5), {"per_axis"}),
        ):
            for scale in ("none", "uniform", "per_axis"):
                out = apply(flat(matrix), scale=scale)
                self.assertEqual(len(out.meshes), 1 if scale in counts else 2, (scale, counts))
        mirrored = flat(turn @ scaled(-1, 1, 1))
        self.assertEqual([len(apply(mirrored, mirror=m).meshes) for m in ("yes", "no")], [1, 2])

    def test_a_longer_piece_is_no_larger_copy(self) -> None:
        """A wall that is a millimetre too long is not the other one made 0.05 % smaller; a stone that is half a percent larger
        is. What is off by less than the tolerance is a copy as large as the other."""
        wall = trimesh.creation.box([2, 2, 0.3])
        for longer, meshes in ((0.0011, 2), (0.003, 2), (0.0006, 1)):

            def change(k: int, made: Any, by: float = longer) -> None:
                made.vertices[made.vertices[:, 0] > 0] += [by * k, 0, 0]

            out = apply(flat(at(5, 0, 0), made=wall, change=change))
            self.assertEqual(len(out.meshes), meshes, longer)
            np.testing.assert_allclose(np.linalg.norm(out.nodes.world[:, :3, :3], axis=1), 1.0, atol=1e-12)
        for factor in (1.005, 1.0002):
            out = apply(flat(at(5, 0, 0) @ scaled(factor, factor, factor)))
            self.assertEqual(len(out.meshes), 1)
            sizes = sorted(np.linalg.norm(out.nodes.world[:, :3, 0], axis=1))
            self.assertAlmostEqual(sizes[1] / sizes[0], factor, places=5)

    def test_near_twins_are_none(self) -> None:
        """One window moved, one vertex a millimetre off, other coordinates, other normals: at half a millimetre."""
        turn = trimesh.transformations.rotation_matrix(0.3, [0, 1, 0], [9, 0, 0])

        def off(by: float, rows: Any) -> Any:
            def change(k: int, made: Any) -> None:
                if k:
                    made.vertices[rows] += [by, 0, 0]

            return change

        for by, rows, meshes in ((0.001, [3], 2), (0.001, slice(8, 30), 2), (0.0003, [3], 1)):
            scene = flat(turn, change=off(by, rows))
            self.assertEqual(len(apply(scene).meshes), meshes, (by, rows))
            self.assertLessEqual(apart(scene, apply(scene)), 0.0005)
        scene = flat(turn)
        for which in ("normals", "uvs", "colors"):
            value = {
                "normals": -scene.meshes[1].normals if scene.meshes[1].normals is not None else None,
                "uvs": (np.zeros((scene.meshes[1].vertices, 2), np.float32),),
                "colors": (np.ones((scene.meshes[1].vertices, 4), np.float32),),
            }[which]
            if value is None:
                meshes = [replace(m, normals=np.asarray(POST.vertex_normals, np.float32)) for m in scene.meshes]
                meshes[1] = replace(meshes[1], normals=(POST.vertex_normals @ turn[:3, :3].T).astype(np.float32))
                self.assertEqual(len(apply(scene.but(meshes=tuple(meshes))).meshes), 1)
                meshes[1] = replace(meshes[1], normals=-meshes[1].normals)
                self.assertEqual(len(apply(scene.but(meshes=tuple(meshes))).meshes), 2)
                continue
            other = replace(scene.meshes[1], **{which: value})
            self.assertEqual(len(apply(scene.but(meshes=(scene.meshes[0], other))).meshes), 2, which)

    def test_what_is_off_by_the_tolerance_of_the_small_is_laid_on_the_large_whichever_comes_first(self) -> None:
        """Laid the other way round it would be off by millimetres."""

        def bent(k: int, made: Any) -> None:
            made.vertices[0] += [0, 0, 0.0004 * k / 0.05]

        for turn in (1, -1):
            scene = flat(at(5, 0, 0) @ scaled(0.05, 0.05, 0.05), change=bent)
            scene = scene.but(meshes=scene.meshes[::turn])
            with self.subTest(turn=turn):
                out = apply(scene)
                self.assertEqual(len(out.meshes), 1)
                self.assertLess(apart(scene, out), 0.0005)
                self.assertIs(apply(out), out)

    def test_a_symmetric_shape_with_its_coordinates_turned_is_a_copy_that_was_turned(self) -> None:
        points = np.array([[1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1], [0, 0, -1]], np.float32)
        faces = trimesh.convex.convex_hull(points)
        mesh = as_mesh(trimesh.Trimesh(faces.vertices, faces.faces, process=False), 0)
        turn = np.array([[0, -1, 0], [1, 0, 0], [0, 0, 1]], np.float32)
        where = np.argmin(np.linalg.norm(mesh.positions[:, None] @ turn.T - mesh.positions, axis=2), axis=1)
        uv = np.random.default_rng(3).random((6, 2)).astype(np.float32)
        scene = flat().but(meshes=(replace(mesh, uvs=(uv,)), replace(mesh, uvs=(uv[where],))))
        nodes = make_nodes([-1, -1], np.tile(np.eye(4), (2, 1, 1)), ["a", "b"], mesh=[0, 1])
        out = apply(scene.but(nodes=nodes), mirror="no")
        self.assertEqual(len(out.meshes), 1)
        self.assertEqual(sorted(np.trace(w[:3, :3]) for w in out.nodes.world), [1.0, 3.0])

    def test_a_baked_mirror_that_kept_its_winding_is_another_thing(self) -> None:
        """Inside out it would be as an instance."""
        made = POST.copy()
        made.vertices = made.vertices * [-1, 1, 1]
        scene = flat().but(meshes=(as_mesh(POST, 0), as_mesh(made, 0)))
        nodes = make_nodes([-1, -1], np.tile(np.eye(4), (2, 1, 1)), ["a", "b"], mesh=[0, 1])
        self.assertEqual(len(apply(scene.but(nodes=nodes), mirror="yes").meshes), 2)

    def test_what_is_saved_is_told_in_meshes_however_they_are_alike(self) -> None:
        """Equal arrays that are there twice, and one shape with two looks, of which the arrays are held once."""
        twice = scene_of({f"post {k}": (POST, at(3 * k, 0, 0)) for k in range(2)})
        for scene in (twice, flat(at(9, 0, 0), material=[0, 1])):
            (told,) = [f for f in survey(scene, BUILT_IN[0]) if f.code == "sharing.loose-copies"]
            self.assertEqual((told.value, told.limit), (2, 1))
            self.assertIn("would save 1 mesh ", told.text)
            _, changes = parse_step({"kind": "share_copies"}).apply(scene, StepContext(BUILT_IN[0]))
            self.assertIn("share 1 mesh instead of 2,", changes[0].text)

    def test_where_only_materials_differ_the_shape_is_shared(self) -> None:
        out = apply(flat(at(5, 0, 0), at(9, 0, 0), material=[0, 1, 1]))
        self.assertEqual(sorted(m.material[0] for m in out.meshes), [0, 1])
        self.assertEqual(len({m.surface_id for m in out.meshes}), 1)
        self.assertEqual(out.nodes.mesh.tolist()[1:], [out.nodes.mesh[1]] * 2)
        again, changes = parse_step({"kind": "share_copies"}).apply(out, StepContext(BUILT_IN[0]))
        self.assertEqual((again, changes), (out, []))
        self.assertNotIn("sharing.loose-copies", {f.code for f in survey(out, BUILT_IN[0])})

    def test_files_hold_a_shape_once_whatever_it_looks_like(self) -> None:
        scene = flat(at(5, 0, 0), at(9, 0, 0), material=[0, 1, 1])
        out = apply(scene)
        self.assertEqual(held_bytes(out.meshes), out.meshes[0].nbytes)
        document = pygltflib.GLTF2.load_from_bytes(write(out, "glb", "x").files["x.glb"])
        one, other = (m.primitives[0] for m in document.meshes)
        self.assertEqual((vars(one.attributes), one.indices), (vars(other.attributes), other.indices))
        self.assertNotEqual(one.material, other.material)
        before, after = (sum(map(len, write(s, "glb", "x").files.values())) for s in (scene, out))
        self.assertLess(after, before - scene.meshes[0].positions.nbytes)
        self.assertEqual(proven(out, [])[:2], (True, []))

    @settings(max_examples=12, deadline=None)
    @given(
        st.lists(st.lists(st.sampled_from([-1, 0, 1, 2]), min_size=3, max_size=3), min_size=2, max_size=5),
        st.booleans(),
    )
    def test_looks_of_one_shape_share_it_where_they_part_it_alike(self, looks: list[list[int]], again: bool) -> None:
        """Each third of the post has a material of its own, or none."""
        whole = as_mesh(POST, 0)
        third = np.arange(whole.triangles) * 3 // whole.triangles
        meshes = [
            replace(whole, material=np.array(look, np.int32)[third], name=f"post {k}") for k, look in enumerate(looks)
        ]
        of = [*range(len(looks)), *([0] if again else [])]
        nodes = make_nodes(np.full(len(of), -1), np.stack([at(k, 0, 0) for k in range(len(of))]), [f"p{k}" for k in range(len(of))], mesh=of)  # fmt: skip
        scene = Scene(GLTF, nodes, tuple(meshes), tuple(Material(n, base_color=(k / 3, 0, 0, 1)) for k, n in enumerate("abc")))  # fmt: skip
        # which thirds look alike, and which of them have no material
        ways = {way_of(look) for look in looks}
        text = write(scene, "dae", "x").files["x.dae"]
        # those that look alike as well, and are no copies of one, stay apart where nothing but their geometry tells them
        alike = Counter(tuple(look) for look in looks)
        most = [max(n for look, n in alike.items() if way_of(look) == way) for way in ways]
        self.assertEqual(len(collada.Collada(io.BytesIO(text)).geometries), sum(most))
        layer = Sdf.Layer.CreateAnonymous(".usda")
        layer.ImportFromString(write(scene, "usda", "x").files["x.usda"].decode())
        stage = Usd.Stage.Open(layer)
        held = [p for p in layer.rootPrims for p in below(p) if "points" in p.attributes]
        self.assertLessEqual(len(held), len({tuple(look) for look in looks}))
        self.assertEqual(len(held), len(ways))
        seen = [p for p in stage.Traverse(Usd.TraverseInstanceProxies()) if p.IsA(UsdGeom.Mesh)]
        self.assertEqual([len(UsdGeom.Mesh(p).GetPointsAttr().Get()) for p in seen], [whole.vertices] * len(of))
        for fmt in ("glb", "dae", "usdc"):
            self.assertEqual(proven(scene, [], fmt)[:2], (True, []), (fmt, looks))


def way_of(look: Sequence[int]) -> tuple[tuple[int, bool], ...]:
    """Which pieces of it look alike, and which of them have no material."""
    return tuple((look.index(x), x < 0) for x in look)


def below(prim: Any) -> Iterator[Any]:
    yield prim
    for child in prim.nameChildren:
        yield from below(child)


class Placed(unittest.TestCase):
    @settings(max_examples=25, deadline=None)
    @given(st.integers(0, 10_000))
    def test_nothing_moves_and_no_node_is_sheared(self, seed: int) -> None:
        rng = np.random.default_rng(seed)
        placements = []
        for _ in range(6):
            matrix = np.eye(4)
            scale = rng.uniform(0.3, 3, 3) * np.where(rng.random(3) < 0.3, -1, 1)
            matrix[:3, :3] = Rotation.random(random_state=int(rng.integers(1 << 30))).as_matrix() * scale
            matrix[:3, 3] = rng.uniform(-200, 200, 3)
            placements.append(matrix)
        scene = flat(*placements)
        out = apply(scene, scale="per_axis", mirror="yes", toleranceMm=1)
        self.assertEqual(len(out.meshes), 1)
        self.assertFalse(split_trs(out.nodes.local)[3].any())
        self.assertLess(apart(scene, out), 1e-3)
        again, changes = parse_step({"kind": "share_copies"}).apply(out, StepContext())
        self.assertEqual((again, changes), (out, []))

    def test_a_family_goes_by_the_axes_of_a_part_that_would_be_sheared_by_others(self) -> None:
        """Six meshes turned anyhow, one of them in a node that stretches it: in no other frame can it share."""
        rng = np.random.default_rng(3)
        turns = [np.eye(4) for _ in range(5)]
        for t in turns:
            t[:3, :3] = Rotation.random(random_state=int(rng.integers(1 << 30))).as_matrix()
        scene = flat(*turns)
        local = scene.nodes.local.copy()
        local[4, :3, :3] = np.diag([2.0, 1.0, 0.5])
        scene = scene.but(nodes=replace(scene.nodes, local=local))
        out = apply(scene)
        self.assertEqual(len(out.meshes), 1)
        self.assertFalse(split_trs(out.nodes.local)[3].any())
        self.assertLess(apart(scene, out), 1e-4)
        self.assertTrue((out.nodes.local[4] == local[4]).all())

    def test_right_angles_are_exact_and_the_usual_way_round_is_no_turn_at_all(self) -> None:
        rng = np.random.default_rng(1)
        turns = [trimesh.transformations.rotation_matrix(np.pi / 2 * k, [0, 1, 0]) for k in (1, 1, 1, 1, 2, 3)]
        for t in turns:
            t[:3, 3] = rng.uniform(-30, 30, 3)
        out = apply(flat(*turns))
        linear = out.nodes.world[:, :3, :3]
        self.assertTrue(np.isin(linear, (-1.0, 0.0, 1.0)).all())
        self.assertEqual((linear == np.eye(3)).all(axis=(1, 2)).sum(), 4)

    def test_symmetric_things_stay_upright(self) -> None:
        made = trimesh.creation.cylinder(0.3, 2.0, sections=12, transform=trimesh.transformations.rotation_matrix(np.pi / 2, [1, 0, 0]))  # fmt: skip
        rng = np.random.default_rng(2)
        meshes = []
        for k in range(8):
            order = rng.permutation(len(made.faces))
            one = trimesh.Trimesh(made.vertices + [3 * k, 0, 0], made.faces[order], process=False)
            meshes.append(as_mesh(one, 0))
        nodes = make_nodes(np.full(8, -1), np.tile(np.eye(4), (8, 1, 1)), [f"piling {k}" for k in range(8)], mesh=np.arange(8))  # fmt: skip
        out = apply(Scene(GLTF, nodes, tuple(meshes), (Material("m"),)))
        self.assertEqual(len(out.meshes), 1)
        self.assertTrue((out.nodes.world[:, :3, :3] == np.eye(3)).all())
        # its own origin is the middle of its base
        low, high = out.meshes[0].bounds
        np.testing.assert_allclose([(low[0] + high[0]) / 2, low[1], (low[2] + high[2]) / 2], 0, atol=1e-6)

    def test_what_hangs_below_stays_and_what_moves_keeps_its_own(self) -> None:
        scene = flat(at(5, 0, 0), at(9, 0, 0), at(14, 0, 0))
        n = scene.nodes
        child = make_nodes(
            [*n.parent.tolist(), 1, -1], np.concatenate([n.local, at(5, 3, 0)[None], np.eye(4)[None]]),
            [*n.names, "lamp", "bulb"], mesh=[*n.mesh.tolist(), 4, 4],
        )  # fmt: skip
        lamp = as_mesh(trimesh.creation.box([0.1, 0.1, 0.1]), 0)
        channel = Channel(3, "rotation", np.array([0.0, 1.0]), np.tile([0.0, 0, 0, 1], (2, 1)), "LINEAR")
        moving = scene.but(nodes=child, meshes=(*scene.meshes, lamp), clips=(Clip((channel,), "swing"),))
        out = apply(moving)
        self.assertEqual(len(np.unique(out.nodes.mesh[:3])), 1)
        self.assertNotIn(out.nodes.mesh[3], out.nodes.mesh[:3])
        np.testing.assert_array_equal(out.nodes.local[3], moving.nodes.local[3])
        self.assertLess(apart(moving, out), 1e-6)

    def test_a_mirrored_twin_that_looks_the_same_when_turned_arrives(self) -> None:
        """Both are drawn by one mesh, before and after, but stand on it in another way; and what comes later still knows
        which triangle is which."""
        ball, other = trimesh.creation.icosphere(1), trimesh.creation.icosphere(1)
        other.apply_transform(trimesh.transformations.rotation_matrix(0.7, [1, 2, 3]))
        other.faces = other.faces[::-1]
        places = [
            at(0, 0, 0),
            at(3, 0, 0) @ np.diag([-1.0, 1, 1, 1]),
            at(6, 1, 0),
            at(0, 0, 4) @ np.diag([1, 1, -1.0, 1]),
        ]
        names = [f"float {k}" for k in range(4)]
        nodes = make_nodes([-1] * 4, np.array(places), names, mesh=[0, 0, 1, 1])
        scene = Scene(GLTF, nodes, (as_mesh(ball, 0), as_mesh(other, 0)), (Material("cork"),))
        for later in ([], [{"kind": "subdivide", "edgeMm": 300}], [{"kind": "split_parts", "by": "cell", "cellM": 1}]):
            ok, told, result = proven(scene, [{"kind": "share_copies"}, *later])
            self.assertTrue(ok, (later, told))
            if not any(step["kind"] == "split_parts" for step in later):
                self.assertEqual(len(result.meshes), 1)

    def test_parts_that_are_not_meant_keep_their_meshes(self) -> None:
        scene = flat(at(5, 0, 0), at(9, 0, 0))
        out = apply(scene, where={"names": ["post 1", "post 2"]})
        self.assertEqual(out.meshes[out.nodes.mesh[0]].id, scene.meshes[0].id)
        self.assertEqual(out.nodes.mesh[1], out.nodes.mesh[2])
        self.assertEqual(len(apply(scene, least=4).meshes), 3)


class Told(unittest.TestCase):
    def test_the_finding_tells_each_family_and_its_mend_settles_it(self) -> None:
        posts = {f"post {k}": (POST.copy().apply_transform(at(4 * k, 0, 0)), np.eye(4)) for k in range(5)}
        cones = {
            f"cone {k}": (trimesh.creation.cone(0.3, 1).apply_transform(at(4 * k, 0, 9)), np.eye(4)) for k in range(3)
        }
        scene = scene_of({**posts, **cones})
        (finding,) = [f for f in survey(scene, BUILT_IN[0]) if f.code == "sharing.loose-copies"]
        self.assertEqual((finding.count, finding.limit), (8, 2.0))
        self.assertEqual(sorted(int(p.value or 0) for p in finding.places), [3, 5])
        self.assertIn("off at most", finding.places[0].text)
        assert finding.mend
        out, changes = parse_step(finding.mend).apply(scene, StepContext(BUILT_IN[0]))
        self.assertEqual((len(out.meshes), changes[0].count), (2, 6))
        self.assertNotIn("sharing.loose-copies", [f.code for f in survey(out, BUILT_IN[0])])
