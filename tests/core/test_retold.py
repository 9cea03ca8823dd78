"""One scene told in other ways, all of them the same to look at: what is found must be the same as well."""

from __future__ import annotations

import unittest
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
import trimesh

from tests.core.test_yard import FOR_A_PERSON, OF_THE_WHOLE, TO, Surveyed
from tests.trees import as_mesh, furthest_apart
from tidy_caravan.core.proposal import propose
from tidy_caravan.core.route import Route, as_json, run
from tidy_caravan.core.scene import GLTF, Material, Scene, make_nodes
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.core.survey import Finding, survey

Told = dict[tuple[str, tuple[int, ...]], float | None]


def unit_boxes(scene: Scene, _: Any = None) -> Scene:
    """The same to look at, each mesh about as long as it is wide and high, and its parts stretched by their nodes."""
    meshes, local = list(scene.meshes), np.array(scene.nodes.local)
    for i, mesh in enumerate(meshes):
        users = np.flatnonzero(scene.nodes.mesh == i)
        if scene.nodes.children_count[users].any():
            continue
        points = mesh.positions[np.isfinite(mesh.positions).all(axis=1)]
        size = np.ptp(points, axis=0)
        by = np.where(size > 0, 2.0 ** np.round(np.log2(np.where(size > 0, size, 1.0))), 1.0)  # no rounding in vertices
        normals = mesh.normals
        if normals is not None:
            bent = normals * by
            length = np.linalg.norm(bent, axis=1, keepdims=True)
            normals = (bent / np.where(length > 0, length, 1) * np.linalg.norm(normals, axis=1, keepdims=True)).astype(
                np.float32
            )
        meshes[i] = replace(mesh, positions=(mesh.positions / by).astype(np.float32), normals=normals)
        local[users, :3, :3] *= by
    return scene.but(meshes=tuple(meshes), nodes=replace(scene.nodes, local=local))


def turned(scene: Scene, _: Any) -> Scene:
    """The whole of it a quarter and a bit about the vertical, and somewhere else."""
    local, top = np.array(scene.nodes.local), np.flatnonzero(scene.nodes.parent < 0)
    matrix = trimesh.transformations.rotation_matrix(1.9, [0, 1, 0], [30, 0, -70])
    local[top] = matrix @ local[top]
    return scene.but(nodes=replace(scene.nodes, local=local))


def own_axes(scene: Scene, rng: Any) -> Scene:
    """Each mesh with its axes exchanged, and its nodes turned back."""
    meshes, local = list(scene.meshes), np.array(scene.nodes.local)
    for i, mesh in enumerate(meshes):
        users = np.flatnonzero(scene.nodes.mesh == i)
        if scene.nodes.children_count[users].any():
            continue
        axes = np.eye(3)[np.roll(np.arange(3), int(rng.integers(1, 3)))] * np.array([[1], [-1], [-1]])
        normals = None if mesh.normals is None else (mesh.normals @ axes.T).astype(np.float32)
        meshes[i] = replace(mesh, positions=(mesh.positions @ axes.T).astype(np.float32), normals=normals)
        local[users, :3, :3] = local[users, :3, :3] @ axes.T
    return scene.but(meshes=tuple(meshes), nodes=replace(scene.nodes, local=local))


def shuffled(scene: Scene, rng: Any) -> Scene:
    """Vertices and triangles in another order, triangles from another corner on."""
    meshes = list(scene.meshes)
    for i, mesh in enumerate(meshes):
        order = rng.permutation(mesh.vertices)
        out = mesh.with_vertices(order, indices=np.argsort(order).astype(np.uint32)[mesh.indices])
        row, turn = rng.permutation(mesh.triangles), rng.integers(0, 3, mesh.triangles)
        corners = out.indices[row[:, None], (turn[:, None] + np.arange(3)) % 3]
        meshes[i] = replace(
            out, indices=np.ascontiguousarray(corners), material=np.ascontiguousarray(mesh.material[row])
        )
    return scene.but(meshes=tuple(meshes))


def soup(scene: Scene, _: Any) -> Scene:
    """No two triangles share a vertex."""
    meshes = list(scene.meshes)
    for i, mesh in enumerate(meshes):
        corners = mesh.indices.reshape(-1).astype(np.int64)
        meshes[i] = mesh.with_vertices(corners, indices=np.arange(len(corners), dtype=np.uint32).reshape(-1, 3))
    return scene.but(meshes=tuple(meshes))


class Retold(Surveyed):
    def same(self, how: Callable[[Scene, Any], Scene], besides: set[str]) -> list[Finding]:
        """What is found when it is told so; all but what is named is to be as it was, with its value."""
        found = survey(how(self.scene, np.random.default_rng(4)), TO, self.kept)

        def told(findings: list[Finding]) -> Told:
            return {(f.code, tuple(f.parts)): f.value for f in findings if f.code not in besides}

        plain, again = told(self.found), told(found)
        self.assertEqual(set(plain), set(again), how.__name__)
        for key, value in plain.items():
            if value:
                self.assertAlmostEqual((again[key] or 0) / value, 1, delta=0.02, msg=f"{how.__name__}: {key[0]}")
        return found

    def test_turned_about_in_other_axes_and_in_another_order(self) -> None:
        for how in (turned, own_axes, shuffled):
            with self.subTest(how=how.__name__):
                self.same(how, set())

    def test_as_triangles_that_share_no_vertex(self) -> None:
        found = self.same(
            soup, {"geometry.unjoined", "geometry.loose", "normals.broken", "tangents.broken"}
        )  # these count vertices
        fine = next(f for f in found if f.code == "density.fine")
        out, _ = parse_step(fine.mend).apply(soup(self.scene, None), StepContext(TO))  # type: ignore[arg-type]
        self.assertNotIn("density.fine", {f.code for f in survey(out, TO, self.kept)})

    def test_as_unit_boxes_that_their_nodes_stretch(self) -> None:
        """A slab is often a cube that its node makes long."""
        found = self.same(unit_boxes, {"scale.left", "scale.hidden-unit", "transform.sheared"})
        self.assertGreater(next(f.count for f in found if f.code == "scale.left"), 50)
        steps = [as_json(p.step) for p in propose(found, TO)]
        done, _ = run(unit_boxes(self.scene), Route(steps=steps), TO, workshop=self.kept)
        rest = [f for f in survey(done, TO, self.kept) if f.code not in OF_THE_WHOLE]
        left = {f.code: {done.nodes.names[i] for i in f.parts} for f in rest}
        sizes_apart = {"brick_pier", "brick_pier_large", "kerb_11", "kerb_drawn_larger"}
        self.assertEqual(left, FOR_A_PERSON | {"scale.left": sizes_apart})

    def test_a_leaf_whose_cube_is_the_mesh_of_walls_as_well(self) -> None:
        sizes = ([0.9, 2.1, 0.04], [8, 0.2, 6], [8, 3, 0.2])
        places = np.array([np.diag([*size, 1.0]) for size in sizes])
        places[:, :3, 3] = (0.45, 1.05, 0), (0, -0.1, 0), (0, 1.5, -2.9)
        cube = as_mesh(trimesh.creation.box(), 0)
        nodes = make_nodes([-1] * 3, places, ["door_leaf", "floor", "wall"], mesh=[0] * 3)
        scene = Scene(GLTF, nodes, (cube,), (Material("a"),))
        hinge = next(f for f in survey(scene, TO) if f.code == "pivot.hinge")
        self.assertEqual((hinge.parts, round(hinge.value or 0, 6)), ([0], 0.45))
        out, _ = parse_step(hinge.mend).apply(scene, StepContext(TO))  # type: ignore[arg-type]
        self.assertNotIn("pivot.hinge", {f.code for f in survey(out, TO)})
        self.assertLess(furthest_apart(scene, out), 1e-6)

    def test_maps_of_what_nodes_stretch_or_enlarge(self) -> None:
        """Both sets are laid out for what is seen, as those of the slab itself."""
        sets = []
        for size, scale in (([8, 0.2, 3], [1, 1, 1]), ([1, 1, 1], [8, 0.2, 3]), ([2, 0.05, 0.75], [4, 4, 4])):
            slab = as_mesh(trimesh.creation.box(size), 0)
            nodes = make_nodes([-1], np.diag([*scale, 1.0])[None], ["slab"], mesh=[0])
            scene = Scene(GLTF, nodes, (slab,), (Material("a"),))
            for kind in ("lightmap_uvs", "light_budget"):
                scene, _ = parse_step({"kind": kind}).apply(scene, StepContext(TO))
            sets.append((scene.meshes[0].uvs, scene.nodes.lightmap))
        for uvs, size in sets[1:]:
            np.testing.assert_array_equal(size, sets[0][1])
            for plain, again in zip(sets[0][0], uvs, strict=True):
                np.testing.assert_allclose(again, plain, atol=1e-5)


def cubes(sizes: Any, places: Any, names: list[str]) -> tuple[Scene, Scene]:
    """Boxes with meshes of their own, and the same as one cube that each node stretches; pivots at a lower corner."""
    told = []
    local = np.tile(np.eye(4), (len(sizes), 1, 1))
    local[:, :3, 3] = places
    for shared in (False, True):
        shown = [(1, 1, 1)] if shared else sizes
        meshes = [as_mesh(trimesh.creation.box(s).apply_translation(np.asarray(s) / 2), 0) for s in shown]
        matrices = local.copy()
        if shared:
            matrices[:, :3, :3] *= np.asarray(sizes, np.float64)[:, None, :]
        column = [0] * len(sizes) if shared else list(range(len(sizes)))
        nodes = make_nodes([-1] * len(sizes), matrices, names, mesh=column)
        told.append(Scene(GLTF, nodes, tuple(meshes), (Material("a"),)))
    return told[0], told[1]


class OneCube(unittest.TestCase):
    """Walls, floors and posts that are one cube, as first drafts of a building often are."""

    SIZES = ((2, 3, 0.2), (4, 3, 0.2), (1, 3, 0.2), (2, 2, 0.15), (1, 1, 0.15), (3, 3, 0.2), (1.996, 3, 0.2))

    def setUp(self) -> None:
        places = [(6 * k, 0, 0) for k in range(len(self.SIZES))]
        self.own, self.one = cubes(self.SIZES, places, [f"panel_{k}" for k in range(len(self.SIZES))])

    def test_pieces_off_their_grid_are_found_and_only_they_get_a_mesh(self) -> None:
        found = [next(f for f in survey(s, TO) if f.code == "grid.size") for s in (self.own, self.one)]
        for f in found:
            self.assertEqual((f.parts, round(f.value or 0, 2)), ([6], 4.0))
        out, _ = parse_step(found[1].mend).apply(self.one, StepContext(TO))  # type: ignore[arg-type]
        self.assertNotIn("grid.size", {f.code for f in survey(out, TO)})
        self.assertEqual(out.nodes.mesh.tolist(), [0] * 6 + [1])
        self.assertLess(furthest_apart(self.one, out), 0.00401)
        again, changes = parse_step(found[1].mend).apply(out, StepContext(TO))  # type: ignore[arg-type]
        self.assertEqual(([m.id for m in again.meshes], changes), ([m.id for m in out.meshes], []))

    def test_each_shape_gets_its_mesh_and_nothing_moves(self) -> None:
        sizes = [*self.SIZES, (2, 3, 0.2), (2, 2, 2)]
        places = [(6 * k, 1, 0) for k in range(len(sizes))]
        _, scene = cubes(sizes, places, [f"panel_{k}" for k in range(len(sizes))])
        finding = next(f for f in survey(scene, TO) if f.code == "scale.shapes")
        self.assertEqual((finding.count, round(finding.value or 0), finding.guess), (9, 20, False))
        self.assertIn("stretch to 8 shapes", finding.text)
        step = parse_step(finding.mend)  # type: ignore[arg-type]
        out, _ = step.apply(scene, StepContext(TO))
        self.assertEqual(len(out.meshes), 8)
        self.assertEqual(out.nodes.mesh[0], out.nodes.mesh[7], "parts of one shape share it")
        self.assertLess(furthest_apart(scene, out), 1e-6)
        self.assertFalse({"scale.shapes", "scale.left"} & {f.code for f in survey(out, TO)})
        again, changes = step.apply(out, StepContext(TO))
        self.assertEqual(([m.id for m in again.meshes], changes), ([m.id for m in out.meshes], []))

    def test_lightmap_and_texture_behind_it_are_those_of_the_boxes_themselves(self) -> None:
        finding = next(f for f in survey(self.one, TO) if f.code == "scale.shapes")
        one, _ = parse_step(finding.mend).apply(self.one, StepContext(TO))  # type: ignore[arg-type]
        for kind in ("first_uvs", "lightmap_uvs"):
            own, _ = parse_step({"kind": kind}).apply(self.own, StepContext(TO))
            out, _ = parse_step({"kind": kind}).apply(one, StepContext(TO))
            for k, plain in enumerate(own.nodes.mesh.tolist()):
                shape = out.meshes[out.nodes.mesh[k]]
                np.testing.assert_allclose(shape.uvs[-1], own.meshes[plain].uvs[-1], atol=1e-5)

    def test_quiet_where_a_mesh_is_one_shape(self) -> None:
        rng = np.random.default_rng(5)
        stone = as_mesh(trimesh.creation.icosphere(subdivisions=1), 0)
        heavy = as_mesh(trimesh.creation.icosphere(subdivisions=3), 0)
        strewn, drawn_out = np.tile(np.eye(4), (2, 40, 1, 1))
        strewn[:, :3, :3] *= rng.uniform(0.8, 1.25, (40, 1, 3))
        drawn_out[:, :3, :3] *= rng.uniform(0.1, 5, (40, 1, 3))
        planks = np.tile(np.diag([4.0, 0.2, 0.02, 1.0]), (40, 1, 1)) * rng.uniform(0.5, 2, (40, 1, 1))
        for mesh, matrices in ((stone, strewn), (heavy, drawn_out), (stone, planks)):
            matrices[:, 3, 3] = 1
            matrices[:, 0, 3] = 20 * np.arange(40)  # apart: how they lie in each other is not what is asked
            scene = Scene(
                GLTF, make_nodes([-1] * 40, matrices, ["part"] * 40, mesh=[0] * 40), (mesh,), (Material("a"),)
            )
            self.assertNotIn("scale.shapes", {f.code for f in survey(scene, TO)})
        self.assertNotIn("scale.shapes", {f.code for f in survey(self.own, TO)})


if __name__ == "__main__":
    unittest.main()
