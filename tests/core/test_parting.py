"""Edges of more than two triangles: taken apart along solids and sheets, with volumes, areas and vertex data as before."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
import trimesh

from tests.core.test_sides import as_mesh, at, scene_of, sheet
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.geometry.shells import shells_of
from tidy_caravan.core.geometry.vertices import many_sided_edges
from tidy_caravan.core.scene import GLTF, Mesh, Scene, make_nodes
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.core.survey import survey

BOX = trimesh.creation.box


def one(*pieces: Any, join: bool) -> Mesh:
    """The pieces as one mesh, with vertices of their own or joined where they stand."""
    made = trimesh.util.concatenate(pieces)
    if join:
        made.merge_vertices()
    return as_mesh(made)


def scene(mesh: Mesh) -> Scene:
    return Scene(GLTF, make_nodes([-1], np.eye(4)[None], ["block"], mesh=[0]), (mesh,))


def apply(mesh: Mesh, **more: Any) -> Mesh:
    return parse_step({"kind": "part_edges", **more}).apply(scene(mesh), StepContext())[0].meshes[0]


def moved(x: float, y: float, z: float, size: Any = (1, 1, 1)) -> Any:
    return BOX(size, transform=at(x, y, z))


class Apart(unittest.TestCase):
    def test_boxes_that_touch_along_an_edge_become_two_solids(self) -> None:
        for join in (False, True):
            mesh = one(moved(0, 0, 0), moved(1, 1, 0), join=join)
            self.assertEqual(many_sided_edges(mesh), 1)
            after = apply(mesh)
            self.assertEqual((many_sided_edges(after), after.triangles), (0, mesh.triangles))
            shells = shells_of(after)
            self.assertEqual((shells.closed.tolist(), np.round(shells.volume, 3).tolist()), ([True, True], [1.0, 1.0]))
            # one of the two is untouched, the other came away by the offset at two of its corners
            self.assertLessEqual(np.abs(after.bounds - mesh.bounds).max(), 0.0)
            far = [np.linalg.norm(mesh.positions - p, axis=1).min() for p in after.positions]
            self.assertAlmostEqual(max(far), 8e-5, delta=2e-6)

    def test_a_wall_on_a_floor_and_a_cross_of_sheets(self) -> None:
        floor = trimesh.Trimesh([[-1, 0, -1], [0, 0, -1], [1, 0, -1], [-1, 0, 1], [0, 0, 1], [1, 0, 1]],
                                [[0, 3, 1], [1, 3, 4], [1, 4, 2], [2, 4, 5]], process=False)  # fmt: skip
        wall = trimesh.Trimesh([[0, 0, -1], [0, 0, 1], [0, 2, 1], [0, 2, -1]], [[0, 1, 2], [0, 2, 3]], process=False)
        mesh = one(floor, wall, join=True)
        self.assertEqual(many_sided_edges(mesh), 1)
        after = apply(mesh)
        self.assertEqual(many_sided_edges(after), 0)
        # the floor goes on below the wall, which stands clear of it
        self.assertEqual(len(np.unique(shells_of(after).label[:4])), 1)
        self.assertNotIn(shells_of(after).label[4], shells_of(after).label[:4])

    def test_triangles_without_area_on_the_edge_are_taken_along(self) -> None:
        """Two of their corners stand at one place, by one vertex or by two."""
        mesh = one(moved(0, 0, 0), moved(1, 1, 0), join=True)
        here, there = np.flatnonzero((np.abs(mesh.positions[:, :2] - 0.5) < 1e-6).all(axis=1)).tolist()
        twin = np.append(np.arange(mesh.vertices), here)
        for flat in ([here, there, there], [here, len(twin) - 1, there], [here, len(twin) - 1, 0]):
            faces = np.concatenate([mesh.indices, np.array([flat], np.uint32)])
            whole = Mesh(mesh.positions[twin], faces, np.zeros(len(faces), np.int32))
            self.assertEqual(many_sided_edges(whole), 1)
            after = apply(whole)
            self.assertEqual((many_sided_edges(after), after.triangles), (0, whole.triangles))

    def test_what_it_has_per_vertex_and_its_area_stay(self) -> None:
        mesh = one(moved(0, 0, 0), moved(1, 1, 0), moved(1, 0, 1), join=True)
        uv = np.random.default_rng(1).random((mesh.vertices, 2)).astype(np.float32)
        mesh = Mesh(mesh.positions, mesh.indices, mesh.material, uvs=(uv,))
        after = apply(mesh)
        self.assertEqual(many_sided_edges(after), 0)
        self.assertTrue(np.array_equal(after.uvs[0][after.indices], uv[mesh.indices]))
        area = [trimesh.Trimesh(m.positions, m.indices, process=False).area for m in (mesh, after)]
        self.assertAlmostEqual(*area, delta=1e-3)

    def test_random_piles_of_blocks_are_left_without_such_an_edge(self) -> None:
        rng = np.random.default_rng(4)
        for _ in range(12):
            cells = rng.random((3, 3, 3)) < 0.4
            blocks = [moved(*map(float, c)) for c in np.argwhere(cells)]
            mesh = one(*blocks, join=True)
            after = apply(mesh)
            self.assertEqual(many_sided_edges(after), 0)
            self.assertAlmostEqual(float(shells_of(after).volume.sum()), float(len(blocks)), delta=0.02)

    def test_the_finding_is_gone_a_second_time_changes_nothing_and_clean_ones_stay(self) -> None:
        dirty = scene(one(moved(0, 0, 0), moved(1, 1, 0), join=True))
        finding = {f.code: f for f in survey(dirty, BUILT_IN[0])}["geometry.non-manifold"]
        self.assertEqual((finding.mend, finding.guess), ({"kind": "part_edges"}, True))
        self.assertEqual(np.array(finding.places[0].lines).reshape(2, 3)[:, :2].tolist(), [[0.5, 0.5]] * 2)
        step = parse_step(finding.mend)
        once, _ = step.apply(dirty, StepContext())
        self.assertNotIn("geometry.non-manifold", {f.code for f in survey(once, BUILT_IN[0])})
        self.assertEqual(step.apply(once, StepContext())[0].meshes[0].id, once.meshes[0].id)
        clean = scene_of({"kiosk": (BOX([1, 1, 1]), at(0, 0, 0)), "lid": (sheet(1, 1), at(0, 3, 0))})
        after, changes = step.apply(clean, StepContext())
        self.assertEqual(([m.id for m in after.meshes], changes), ([m.id for m in clean.meshes], []))

    def test_places_that_are_no_numbers_are_in_nobodys_way(self) -> None:
        """They stand nowhere, and what is welded, turned or taken apart beside them is so all the same."""
        block = one(moved(0, 0, 0), moved(1, 1, 0), join=True)
        torn = one(sheet(1, 1), join=True)
        points = np.concatenate([block.positions, torn.positions])
        points[len(block.positions)] = np.nan
        faces = np.concatenate([block.indices, torn.indices + np.uint32(block.vertices)])
        mesh = Mesh(points, faces, np.full(len(faces), -1, np.int32))
        for step in ({"kind": "part_edges"}, {"kind": "turn_faces", "how": "outwards"}):
            out, changes = parse_step(step).apply(scene(mesh), StepContext())
            self.assertEqual([c.text for c in changes if c.problem], [])
            if step["kind"] == "part_edges":
                self.assertEqual((many_sided_edges(mesh), many_sided_edges(out.meshes[0])), (1, 0))

    def test_a_mesh_too_large_for_it_is_left_and_told(self) -> None:
        mesh = one(moved(0, 0, 0, (800, 800, 800)), moved(800, 800, 0, (800, 800, 800)), join=True)
        out, changes = parse_step({"kind": "part_edges"}).apply(scene(mesh), StepContext())
        self.assertEqual(out.meshes[0].id, mesh.id)
        self.assertIn("too large", changes[0].text)
