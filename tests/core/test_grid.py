"""Modular pieces: the cell they go by, how far each is off, and both ways of fitting."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
import trimesh

from tests.trees import as_mesh
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.scene import GLTF, Channel, Clip, Scene, make_nodes
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.core.surroundings.grid import cell_of, pieces_of
from tidy_caravan.core.survey import survey

SIZES = [(2, 3, 0.2), (4, 3, 0.2), (1, 3, 0.2), (2, 2, 0.15), (1, 1, 0.15), (3, 3, 0.2)]


def piece(size: Any, corner: bool = True, frame: bool = False) -> Any:
    """A panel with its pivot on a lower corner, or in its middle; as a frame with profiles of 0.1 m all round."""
    size = np.asarray(size, np.float64)
    if frame:
        w, h, d = size
        bars = [([0.1, h, d], [(0.1 - w) / 2, 0, 0]), ([0.1, h, d], [(w - 0.1) / 2, 0, 0]), ([w - 0.2, 0.1, d], [0, (h - 0.1) / 2, 0]), ([w - 0.2, 0.1, d], [0, (0.1 - h) / 2, 0])]  # fmt: skip
        made = trimesh.util.concatenate([trimesh.creation.box(s).apply_translation(t) for s, t in bars])
    else:
        made = trimesh.creation.box(size)
    return made.apply_translation(size / 2) if corner else made


def scene_of(*made: Any) -> Scene:
    places = np.array([trimesh.transformations.translation_matrix([6 * k, 0, 0]) for k in range(len(made))])
    names = [f"panel_{k}" for k in range(len(made))]
    return Scene(
        GLTF, make_nodes([-1] * len(made), places, names, mesh=np.arange(len(made))), tuple(as_mesh(m) for m in made)
    )


def found(scene: Scene) -> dict[str, Any]:
    return {f.code: f for f in survey(scene, BUILT_IN[0]) if f.code.startswith("grid.")}


class Found(unittest.TestCase):
    def test_the_cell_is_inferred_and_nothing_is_where_sizes_are_any(self) -> None:
        self.assertEqual(cell_of(pieces_of(scene_of(*map(piece, SIZES)))), 1.0)
        halves = [(1.5, 2.5, 0.1), (0.5, 1, 0.1), (2, 1.5, 0.2), (1, 0.5, 0.1), (2.5, 2.5, 0.1)]
        self.assertEqual(cell_of(pieces_of(scene_of(*map(piece, halves)))), 0.5)
        # feet, powers of two, and a few that are whole cells of twice the size as well
        for cell in (4 * 0.3048, 1.28, 0.6):
            kit = [(a * cell, b * cell, 0.1) for a, b in [(1, 2), (3, 1), (2, 2), (4, 2), (2, 4), (4, 4), (2, 6), (1, 3), (3, 3), (5, 1)]]  # fmt: skip
            self.assertAlmostEqual(cell_of(pieces_of(scene_of(*map(piece, kit)))), cell)
            off = found(scene_of(*map(piece, kit), piece((3 * cell, cell * 1.025, 0.1))))["grid.size"]
            self.assertEqual(off.parts, [10])
            out, _ = parse_step(off.mend).apply(
                scene_of(*map(piece, kit), piece((3 * cell, cell * 1.025, 0.1))), StepContext()
            )
            self.assertEqual(found(out), {}, "the mend goes as far as what it is proposed for")
        rng = np.random.default_rng(5)
        for _ in range(20):
            self.assertEqual(cell_of(pieces_of(scene_of(*(piece(rng.uniform(0.3, 4, 3)) for _ in range(12))))), 0.0)

    def test_two_pieces_that_are_drawn_often_are_a_kit_as_well(self) -> None:
        pair = tuple(as_mesh(piece(size)) for size in ((1.2, 2.4, 0.2), (2.4, 2.4, 0.2)))

        def wall(gap: float, places: int) -> Scene:
            start = np.cumsum([0.0, *([1.2, 2.4] * places)])[: 2 * places]
            start[places:] += gap
            matrices = np.array([trimesh.transformations.translation_matrix([x, 0, 0]) for x in start])
            names = [f"panel_{k}" for k in range(2 * places)]
            return Scene(GLTF, make_nodes([-1] * 2 * places, matrices, names, mesh=[0, 1] * places), pair)

        self.assertEqual((cell_of(pieces_of(wall(0, 3))), cell_of(pieces_of(wall(0, 6)))), (0.0, 1.2))
        self.assertEqual([f.code for f in survey(wall(0, 6), BUILT_IN[0]) if f.code.startswith(("grid", "gaps"))], [])
        self.assertEqual({f.code: f.parts for f in survey(wall(0.003, 6), BUILT_IN[0])}["grid.seam"], [5, 6])

    def test_the_piece_that_is_off_is_named_with_its_millimetres(self) -> None:
        clean = scene_of(*map(piece, SIZES))
        self.assertEqual(found(clean), {})
        off = scene_of(*map(piece, SIZES), piece((1.996, 3.0, 0.2)))
        finding = found(off)["grid.size"]
        self.assertEqual(finding.parts, [6])
        self.assertAlmostEqual(finding.value, 4.0, places=2)
        self.assertIn("cell of 1 m", finding.text)

    def test_one_part_that_its_node_draws_a_little_larger_is_named_alone(self) -> None:
        """Others share its mesh, which is as it should be: the piece is not off, and is not to be fitted for it."""
        meshes = tuple(as_mesh(piece(size)) for size in SIZES)
        use = np.array([0, 1, 2, 3, 4, 5, 0, 0, 1, 1, 5])
        local = np.array([trimesh.transformations.translation_matrix([6.0 * k, 0, 0]) for k in range(len(use))])
        names = [f"panel_{k}" for k in range(len(use))]
        kit = Scene(GLTF, make_nodes([-1] * len(use), local, names, mesh=use), meshes)
        self.assertEqual(found(kit), {})
        drawn = [(6, 1.005, 15.0), (7, 0.998, 6.0), (8, np.array([1, 1.004, 1]), 12.0)]
        for part, by, off in drawn:
            bent = local.copy()
            bent[part, :3, :3] *= by
            scene = kit.but(nodes=make_nodes([-1] * len(use), bent, names, mesh=use))
            finding = found(scene)
            self.assertEqual(set(finding), {"grid.scale"}, part)
            self.assertEqual(finding["grid.scale"].parts, [part])
            self.assertAlmostEqual(finding["grid.scale"].value, off, places=2)
            out, changes = parse_step(finding["grid.scale"].mend).apply(scene, StepContext())
            self.assertEqual(found(out), {}, "the mend takes its finding away")
            self.assertEqual(
                (out.meshes, [c.count for c in changes]), (kit.meshes, [1]), "meshes stay, and stay shared"
            )
            self.assertTrue(np.allclose(out.nodes.local, local, rtol=0, atol=1e-6))
            again, changes = parse_step(finding["grid.scale"].mend).apply(out, StepContext())
            self.assertEqual((again.nodes, changes), (out.nodes, []))
        for whole in (2.0, 3.0, -1.0):
            bent = local.copy()
            bent[6, :3, :3] *= whole
            self.assertEqual(found(kit.but(nodes=make_nodes([-1] * len(use), bent, names, mesh=use))), {})

    def test_what_hangs_on_a_module_that_is_drawn_in_whole_cells_again_stays_and_what_moves_is_told(self) -> None:
        meshes = tuple(as_mesh(piece(size)) for size in SIZES)
        local = np.array([trimesh.transformations.translation_matrix([6.0 * k, 0, 0]) for k in range(10)])
        local[6, :3, :3] = trimesh.transformations.rotation_matrix(0.7, [1, 2, 3])[:3, :3] * 1.005
        local[9] = trimesh.transformations.rotation_matrix(0.4, [0, 1, 0], [0.5, 1, 0])
        local[9, :3, :3] *= 0.37  # no module by itself
        use, parent = [0, 1, 2, 3, 4, 5, 0, 0, 1, 4], [-1] * 9 + [6]
        names = [f"panel_{k}" for k in range(10)]
        scene = Scene(GLTF, make_nodes(parent, local, names, mesh=use), meshes)
        mend = found(scene)["grid.scale"].mend
        out, _ = parse_step(mend).apply(scene, StepContext())
        self.assertTrue(np.allclose(out.nodes.world[9], scene.nodes.world[9], rtol=0, atol=1e-12))
        self.assertTrue(np.allclose(np.linalg.norm(out.nodes.world[6, :3, :3], axis=0), 1, rtol=0, atol=1e-7))
        times, turns = np.array([0, 1], np.float32), np.array([[0, 0, 0, 1], [0, 0.6, 0, 0.8]], np.float32)
        moving = scene.but(clips=(Clip((Channel(6, "rotation", times, turns),), "swing"),))
        still, changes = parse_step(mend).apply(moving, StepContext())
        self.assertIs(still.nodes, moving.nodes)
        self.assertIn("1 part stays, since a clip or bones move it", changes[0].text)

    def test_pivots_off_the_corner_where_most_are_on_one(self) -> None:
        self.assertEqual(found(scene_of(*(piece(s, corner=False) for s in SIZES))).keys(), set())
        one = piece((2, 3, 0.2)).apply_translation([0.012, 0, 0])
        finding = found(scene_of(*map(piece, SIZES), one))["grid.pivot"]
        self.assertEqual((finding.parts, round(finding.value, 2)), ([6], 12.0))
        scene = scene_of(*map(piece, SIZES), one)
        out, _ = parse_step(finding.mend).apply(scene, StepContext())
        self.assertEqual(found(out), {})
        self.assertTrue(np.allclose(out.part_bounds, scene.part_bounds, atol=1e-6))

    def test_crates_of_whole_metres_that_were_strewn_about_are_no_kit(self) -> None:
        rng = np.random.default_rng(3)
        crates = [piece(s).apply_translation([*rng.uniform(0, 4, 2), 0]) for s in SIZES]
        self.assertEqual(found(scene_of(*crates, piece((1.99, 1.0, 1.0)).apply_translation([1.3, 0.4, 0.7]))), {})

    def test_a_cell_that_the_destination_names_needs_no_evidence(self) -> None:
        rng = np.random.default_rng(3)
        crates = [piece(s).apply_translation([*rng.uniform(0, 4, 2), 0]) for s in (*SIZES, (1.49, 1.0, 1.0))]
        target = BUILT_IN[0].model_copy(update={"grid_cell": 0.5})
        sizes = [f for f in survey(scene_of(*crates), target) if f.code == "grid.size"]
        self.assertEqual([(f.value and round(f.value, 1), f.mend and f.mend["cell"]) for f in sizes], [(10.0, 0.5)])
        self.assertIn("stretched by up to 0.67 %", sizes[0].text)

    def test_the_place_of_one_that_is_off_is_the_box_it_is_to_fill(self) -> None:
        place = found(scene_of(*map(piece, SIZES), piece((1.996, 3.0, 0.2))))["grid.size"].places[0]
        ends = np.array(place.lines).reshape(-1, 3)
        self.assertEqual((place.parts, len(place.lines), place.unit), ([6], 12, "mm"))
        self.assertTrue(np.allclose([ends.min(axis=0), ends.max(axis=0)], [[36, 0, 0], [38, 3, 0.2]]))


class Fitted(unittest.TestCase):
    def fit(self, how: str) -> tuple[Any, Any]:
        scene = scene_of(*map(piece, SIZES), piece((1.994, 3.004, 0.2), frame=True))
        step = parse_step({**found(scene)["grid.size"].mend, "how": how})
        out, changes = step.apply(scene, StepContext())
        self.assertEqual(found(out), {})
        self.assertEqual(changes[0].count, 1)
        again, nothing = step.apply(out, StepContext())
        self.assertEqual((again, nothing), (out, []))
        self.assertEqual([m.id for m in out.meshes[:6]], [m.id for m in scene.meshes[:6]])
        return out.meshes[-1], scene.meshes[-1]

    def widths(self, mesh: Any) -> Any:
        """Distinct places along X, in order."""
        return np.unique(np.round(mesh.positions[:, 0].astype(np.float64), 5))

    def test_by_the_border_profiles_keep_their_thickness(self) -> None:
        after, _ = self.fit("border")
        self.assertTrue(np.allclose(after.bounds[1], [2, 3, 0.2], atol=1e-6))
        self.assertTrue(np.allclose(self.widths(after), [0, 0.1, 1.9, 2.0], atol=1e-5))

    def test_the_border_cuts_no_rail_and_folds_no_fine_surface(self) -> None:
        """A rail and a pane of many triangles lie where the border would be; a finer one is squeezed between the ends."""
        for off in (0.028, 0.011, -0.013):
            for fine in (25, 900):
                frame = piece((2 + off, 3, 0.2), frame=True)
                rail = trimesh.creation.cylinder(0.04, 2.8, sections=32)
                rail.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, [1, 0, 0]))
                rail.apply_translation([2 + off - 0.2, 1.5, 0.1])
                across = np.linspace(0.1, 1.9 + off, fine)
                row = np.arange(fine - 1)
                points = np.concatenate(
                    [np.column_stack([across, np.full(fine, y), np.full(fine, 0.1)]) for y in (0.1, 2.9)]
                )
                faces = np.concatenate([np.column_stack([row, row + 1, row + fine]), np.column_stack([row + 1, row + fine + 1, row + fine])])  # fmt: skip
                made = trimesh.util.concatenate([frame, rail, trimesh.Trimesh(points, faces, process=False)])
                scene = scene_of(made)
                out, changes = parse_step({"kind": "fit_grid", "cell": 1.0}).apply(scene, StepContext(BUILT_IN[0]))
                with self.subTest(off=off, fine=fine):
                    self.assertEqual(changes[0].count, 1)
                    before, after = (s.meshes[0].positions.astype(np.float64) for s in (scene, out))
                    self.assertAlmostEqual(float(np.ptp(after[:, 0])), 2.0, places=6)
                    faces = scene.meshes[0].indices
                    old, new = (
                        np.cross(p[faces[:, 1]] - p[faces[:, 0]], p[faces[:, 2]] - p[faces[:, 0]])
                        for p in (before, after)
                    )
                    self.assertTrue(((old * new).sum(axis=1) > 0).all(), "no triangle turned over")
                    bars, rods = slice(0, 32), slice(32, 32 + len(rail.vertices))
                    for k in range(0, 32, 8):
                        if np.ptp(before[k : k + 8, 0]) < 0.2:
                            self.assertAlmostEqual(float(np.ptp(after[bars][k : k + 8, 0])), 0.1, places=6)
                    if fine == 25:
                        self.assertAlmostEqual(float(np.ptp(after[rods, 0])), 0.08, places=6)

    def test_by_the_whole_all_of_it_is_stretched(self) -> None:
        after, before = self.fit("whole")
        self.assertTrue(np.allclose(after.bounds[1], [2, 3, 0.2], atol=1e-6))
        self.assertTrue(np.allclose(self.widths(after), self.widths(before) * 2 / 1.994, atol=1e-5))

    def test_what_is_further_off_is_left_and_told(self) -> None:
        scene = scene_of(piece((2.2, 3.0, 0.2)))
        out, changes = parse_step({"kind": "fit_grid", "cell": 1.0}).apply(scene, StepContext())
        self.assertIs(out, scene)
        self.assertIn("more than 30 mm off", changes[0].text)

    def test_what_is_drawn_at_uneven_sizes_is_left_and_told(self) -> None:
        """No cell in the vertices is right for it: it would be moved by more than is declared where it is largest."""
        scene = scene_of(piece((1.994, 3.0, 0.2)), piece((1.994, 3.0, 0.2)))
        for bent in (np.diag([1.0, 2.0, 1.0, 1.0]), np.diag([3.0, 3.0, 3.0, 1.0])):
            local = scene.nodes.local.copy()
            local[1] = local[1] @ bent
            nodes = make_nodes([-1, -1], local, scene.nodes.names, mesh=[0, 0])
            one = Scene(GLTF, nodes, scene.meshes[:1])
            out, changes = parse_step({"kind": "fit_grid", "cell": 1.0}).apply(one, StepContext())
            self.assertIs(out, one)
            self.assertIn("bake their scale", changes[0].text)
