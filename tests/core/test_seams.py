"""Seams between modular pieces: found where they are, covered by what fits, proven on arrival, left where all is well."""

from __future__ import annotations

import unittest
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np
import trimesh

from tests.core.test_sides import as_mesh, at
from tests.support import sent
from tidy_caravan.core.carry import prove
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import Route
from tidy_caravan.core.scene import GLTF, Scene, make_nodes
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.core.survey import survey

BOX = trimesh.creation.box
SIZES = [(2, 3, 0.2), (1, 3, 0.2), (4, 3, 0.2), (2, 3, 0.2), (3, 3, 0.2), (1, 3, 0.2)]


def bay(gap: float, turn: Any = None, strip: Any = (0.08, 3.0, 0.04)) -> Scene:
    """A row of panels with a gap after the second, and a strip that leans somewhere else."""
    x, parts = 0.0, []
    for k, (w, h, d) in enumerate(SIZES):
        # two of a size are told apart, or they would share a mesh
        made = BOX((w, h, d)).apply_translation([w / 2, h / 2, d / 2])
        parts.append((f"panel_{k}", made, at(x, 0, 0)))
        x += w + (gap if k == 1 else 0.0)
    parts.append(("strip", BOX(strip), at(-5, 1.5, 4)))
    turn = np.eye(4) if turn is None else turn
    nodes = make_nodes(
        [-1] * len(parts),
        np.array([turn @ m for _, _, m in parts]),
        [n for n, _, _ in parts],
        mesh=np.arange(len(parts)),
    )
    return Scene(GLTF, nodes, tuple(as_mesh(t) for _, t, _ in parts))


def seam(scene: Scene) -> Any:
    return {f.code: f for f in survey(scene, BUILT_IN[0])}.get("grid.seam")


class Seams(unittest.TestCase):
    def test_found_with_its_width_and_length_and_nothing_where_they_meet(self) -> None:
        self.assertIsNone(seam(bay(0.0)))
        finding = seam(bay(0.003))
        self.assertEqual([bay(0).nodes.names[p] for p in finding.parts], ["panel_1", "panel_2"])
        self.assertAlmostEqual(finding.value, 3.0, places=2)
        self.assertIn("3 m long", finding.text)
        self.assertIn("“strip” would cover 1 of them", finding.text)
        ends = np.array(finding.places[0].lines).reshape(-1, 3)
        self.assertTrue(np.allclose(ends[:, 0], 3.0015, atol=1e-4))
        self.assertTrue(np.allclose(np.ptp(ends, axis=0), [0, 3, 0.2], atol=1e-3))

    def test_wider_than_a_leak_and_pieces_that_go_into_each_other(self) -> None:
        """On one grid neighbours are meant to meet: 12 mm are a seam there, and so is an overlap, however the row is turned."""
        for gap in (0.012, 0.028, -0.0004, -0.012):
            for angle in (0.0, np.pi / 2, 0.7):
                for scale in (1.0, 0.01):
                    scene = bay(gap, trimesh.transformations.rotation_matrix(angle, [0, 1, 0], [1, 0, 0]))
                    scaled = [replace(m, positions=m.positions / np.float32(scale)) for m in scene.meshes]
                    local = scene.nodes.local @ np.diag([scale, scale, scale, 1.0])
                    scene = scene.but(meshes=tuple(scaled), nodes=replace(scene.nodes, local=local))
                    finding = seam(scene)
                    self.assertEqual([scene.nodes.names[p] for p in finding.parts], ["panel_1", "panel_2"])
                    self.assertAlmostEqual(finding.value, abs(gap) * 1000, places=2)
                    self.assertIn("goes into each other" if gap < 0 else "does not quite meet", finding.text)
                    self.assertIn("3 m long", finding.text)
        scene = bay(-0.012)
        out, _ = parse_step(seam(scene).mend).apply(scene, StepContext())
        self.assertEqual(len(out.nodes), len(scene.nodes) + 2)
        low, high = out.part_bounds[-2:, 0].min(axis=0), out.part_bounds[-2:, 1].max(axis=0)
        # 8 cm wide about the middle of what overlaps
        np.testing.assert_allclose([low, high], [[2.954, 0.002, -0.02], [3.034, 3.002, 0.22]], atol=1e-3)
        self.assertIsNone(seam(out))

    def test_a_hair_off_its_row_and_with_a_vertex_left_behind_it_is_the_same_seam(self) -> None:
        scene = bay(0.012)
        local = scene.nodes.local.copy()
        local[2] = local[2] @ trimesh.transformations.rotation_matrix(4e-4, [0, 0, 1])
        meshes = list(scene.meshes)
        loose = np.concatenate([meshes[2].positions, np.float32([[-40, 0, 0], [40, 9, 0]])])
        meshes[2] = replace(meshes[2], positions=loose, normals=None)
        finding = seam(scene.but(meshes=tuple(meshes), nodes=replace(scene.nodes, local=local)))
        self.assertEqual([scene.nodes.names[p] for p in finding.parts], ["panel_1", "panel_2"])
        self.assertAlmostEqual(finding.value, 12, delta=1.5)

    def test_joints_boards_and_what_is_elsewhere_are_none(self) -> None:
        wide = [bay(0.04), bay(-0.06)]
        # a joint of the same width between all of them is meant
        local = bay(0.0).nodes.local.copy()
        local[:6, 0, 3] += 0.008 * np.arange(6)
        wide.append(bay(0.0).but(nodes=replace(bay(0.0).nodes, local=local)))
        # a panel that stands back from the others, one that lies on another
        for shift in ([0, 0, -0.21], [-0.012, 0, 0.1], [-2.0, 0, 0.19]):
            local = bay(0.0).nodes.local.copy()
            local[1, :3, 3] += shift
            wide.append(bay(0.0).but(nodes=replace(bay(0.0).nodes, local=local)))
        for scene in wide:
            self.assertIsNone(seam(scene))

    def test_what_does_not_fit_is_not_proposed(self) -> None:
        for strip in ((0.08, 2.0, 0.04), (0.004, 3.0, 0.004), (0.9, 3.0, 0.04)):
            finding = seam(bay(0.003, strip=strip))
            self.assertIsNone(finding.mend, strip)
            self.assertIn("No piece", finding.text)

    def test_the_cover_stands_on_the_seam_shares_its_mesh_and_hides_it(self) -> None:
        tilt = trimesh.transformations.rotation_matrix(np.pi / 2, [0, 1, 0], [1, 0, 0])
        for turn in (None, tilt):
            scene = bay(0.003, turn)
            step = parse_step(seam(scene).mend)
            out, changes = step.apply(scene, StepContext())
            added = range(len(scene.nodes), len(out.nodes))
            self.assertEqual(len(added), 2, changes)
            self.assertEqual(len(out.meshes), len(scene.meshes))
            boxes = out.part_bounds[list(added)]
            back = np.eye(4) if turn is None else np.linalg.inv(turn)
            corners = np.concatenate([boxes[:, 0], boxes[:, 1]]) @ back[:3, :3].T + back[:3, 3]
            low, high = corners.min(axis=0), corners.max(axis=0)
            # 8 cm across the seam, the whole height, 2 cm out of either side
            self.assertTrue(
                np.allclose([low, high], [[2.9615, 0.002, -0.02], [3.0415, 3.002, 0.22]], atol=1e-3), (low, high)
            )
            self.assertIsNone(seam(out))
            self.assertEqual(len(step.apply(out, StepContext())[0].nodes), len(out.nodes))
            self.assertTrue(np.array_equal(out.part_bounds[: len(scene.nodes.parts)], scene.part_bounds))
            codes = {f.code for f in survey(out, BUILT_IN[0])} - {f.code for f in survey(scene, BUILT_IN[0])}
            self.assertEqual(codes, set())

    def test_a_named_piece_and_one_that_is_not_there(self) -> None:
        scene = bay(0.003, strip=(0.9, 3.0, 0.04))
        out, _ = parse_step({"kind": "cover_seams", "piece": "strip"}).apply(scene, StepContext())
        self.assertEqual(len(out.nodes), len(scene.nodes) + 2)
        same, changes = parse_step({"kind": "cover_seams", "piece": "sill"}).apply(scene, StepContext())
        self.assertEqual((len(same.nodes), changes[0].problem), (len(scene.nodes), True))

    def test_it_arrives_in_formats_with_and_without_a_tree(self) -> None:
        scene = bay(0.003)
        route = Route.model_validate({"steps": [{"kind": "match_units_axes"}, {"kind": "cover_seams"}]})
        for fmt in ("glb", "usda", "dae", "obj"):
            with self.subTest(fmt), TemporaryDirectory() as folder:
                package, done = sent(scene, "bay.glb", "0" * 64, BUILT_IN[1], route, fmt)  # type: ignore[arg-type]
                save(package.files, Path(folder))
                report, _ = prove(Path(folder), scene, done)
                self.assertTrue(
                    report.ok, (report.problems, report.lost, report.extra, [r.told for r in report.rows if r.faults])
                )
                self.assertEqual(report.compared, len(scene.nodes) + 2)
