"""Texel budgets: sizes against arithmetic, budgets against every choice there is, layouts at the sizes that were chosen."""

from __future__ import annotations

import itertools
import time
import unittest
from dataclasses import replace
from typing import Any

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.test_sides import as_mesh, at
from tidy_caravan.core.conventions.destinations import BUILT_IN, Destination
from tidy_caravan.core.geometry.stretched import surface_scales
from tidy_caravan.core.lightmap.budget import Limits, Lit, at_budget, at_texel, bargains, sized, stairs, widths
from tidy_caravan.core.lightmap.lit import ceilings, lit_parts
from tidy_caravan.core.lightmap.unwrap import Surface, as_in_space, unwrap
from tidy_caravan.core.lightmap.verify import islands, measure
from tidy_caravan.core.scene import GLTF, Material, Scene, make_nodes
from tidy_caravan.core.selection import Assignment, PartSet
from tidy_caravan.core.steps import Change, StepContext, parse_step

METRE = BUILT_IN[0]


def parts(count: int, seed: int = 0, least: int = 0) -> Lit:
    rng = np.random.default_rng(seed)
    area = rng.lognormal(1, 1.5, count)
    return Lit(
        area, rng.uniform(0.5, 0.95, count), 2.0 ** rng.integers(-3, 2, count), rng.choice([0.5, 1.0, 2.0], count), area,
        np.full(count, least, np.int64),
    )  # fmt: skip


class Sizes(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.floats(0.01, 1), st.sampled_from(["square", "powers", "blocks"]), st.integers(0, 1000))
    def test_a_map_holds_its_surface_at_the_texel_size_and_is_the_next_there_is(
        self, texel: float, maps: Any, seed: int
    ) -> None:
        lit, limits = parts(40, seed), Limits(maps, 1 << 14, 1.0, 4)
        found = at_texel(lit, texel, limits)
        each = found.texels_of(lit) * lit.weight
        large = found.size.min(axis=1) > 4
        if maps != "square":
            self.assertTrue((each[large & (lit.aspect <= 1)] <= texel * (1 + 1e-6)).all())
        if maps == "powers":
            self.assertTrue((np.log2(found.size) % 1 == 0).all())
            self.assertTrue((each[large] > texel / 2.0001).all())
        if maps == "blocks":
            self.assertTrue((found.size % 4 == 0).all())
        if maps == "square":
            self.assertTrue((found.size[:, 0] == found.size[:, 1]).all())
        self.assertEqual(found.bytes, found.size.prod(axis=1).sum())

    def test_half_the_texel_is_four_times_the_bytes(self) -> None:
        lit, limits = parts(200), Limits("powers", 1 << 16, 8.0, 1)
        self.assertAlmostEqual(at_texel(lit, 0.01, limits).bytes / at_texel(lit, 0.02, limits).bytes, 4.0, places=1)

    def test_a_bargain_is_what_it_says(self) -> None:
        # 96 walls that need 260 texels at 5 cm: 4 % coarser they fit 256
        area = np.full(96, (260 * 0.05) ** 2 * 0.8)
        lit = Lit(area, np.full(96, 0.8), np.ones(96), np.ones(96), area, np.zeros(96, np.int64))
        limits = Limits("powers", 4096, 8.0)
        (one,) = bargains(lit, 0.05, limits)
        self.assertAlmostEqual(one.coarser, 260 / 256 - 1, places=4)
        self.assertAlmostEqual(one.saved, 0.75, places=6)
        self.assertAlmostEqual(at_texel(lit, one.texel * 1.000001, limits).bytes, one.bytes)
        self.assertEqual(bargains(lit, 0.049, limits)[0].texel, one.texel)
        self.assertEqual(bargains(lit, 0.08, limits), [])


class Surfaces(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.integers(0, 10_000), st.sampled_from(["box", "cylinder", "ball"]), st.booleans())
    def test_surfaces_of_parts_are_as_large_as_another_library_measures_them(
        self, seed: int, shape: str, flat: bool
    ) -> None:
        rng = np.random.default_rng(seed)
        made = {
            "box": trimesh.creation.box(rng.uniform(0.1, 3, 3)), "cylinder": trimesh.creation.cylinder(0.4, 2),
            "ball": trimesh.creation.icosphere(3),
        }[shape]  # fmt: skip
        turns = [trimesh.transformations.random_rotation_matrix(rng.random(3)) for _ in range(2)]
        scale = np.diag([*10 ** rng.uniform(-1, 1, 3) * rng.choice([1, -1], 3), 1.0])
        scale[1, 1] *= 0 if flat else 1
        places = np.array([turns[0] @ scale @ turns[1], turns[0] @ (scale[0, 0] * np.eye(4)), np.eye(4)])
        scene = Scene(GLTF, make_nodes([-1] * 3, places, list("abc"), mesh=[0, 0, 0]), (as_mesh(made),))
        truth = [made.copy().apply_transform(m).area for m in places]
        np.testing.assert_allclose(surface_scales(scene, np.arange(3)) ** 2 * made.area, truth, rtol=2e-3)

    def test_a_sheet_stretched_along_one_axis_gets_a_map_as_long(self) -> None:
        sheet = as_mesh(trimesh.Trimesh([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], [[0, 1, 2], [0, 2, 3]]))
        sheet = replace(sheet, uvs=(sheet.positions[:, :2],) * 2)
        places = np.array([np.diag(d) for d in ([8.0, 1, 1, 1], [1.0, 4, 1, 1], [2.0, 2, 2, 1])])
        scene = Scene(GLTF, make_nodes([-1] * 3, places, list("abc"), mesh=[0, 0, 0]), (sheet,))
        _, lit = lit_parts(scene, METRE.model_copy(update={"lightmap_maps": "powers"}))
        np.testing.assert_allclose(lit.aspect, [1 / 8, 4, 1])
        np.testing.assert_allclose(lit.area, [8, 4, 4])


class Budgets(unittest.TestCase):
    @settings(max_examples=40, deadline=None)
    @given(st.integers(0, 10_000), st.integers(1, 5), st.floats(0, 1))
    def test_small_scenes_against_every_choice(self, seed: int, count: int, share: float) -> None:
        """No choice of sizes within the budget has all texels at most as coarse, relative to what is wanted, and one finer."""
        lit, limits = parts(count, seed), Limits("powers", 128, 1.0, 16)
        steps = np.array([16, 32, 64, 128])
        sizes = [sized(np.full(count, float(s)), lit.aspect, limits) for s in steps]
        cost = np.array([s.prod(axis=1) for s in sizes])
        low, high = float(cost[0].sum()), float(cost[-1].sum())
        budget = low + share * (high - low)
        found = at_budget(lit, budget, limits)
        self.assertLessEqual(found.bytes, budget + 1e-6)
        mine = [
            int(np.flatnonzero((np.array([s[i] for s in sizes]) == found.size[i]).all(axis=1))[0]) for i in range(count)
        ]
        best = max(
            sum(cost[c, i] for i, c in enumerate(choice))
            for choice in itertools.product(range(4), repeat=count)
            if sum(cost[c, i] for i, c in enumerate(choice)) <= budget
            and all(c >= m for c, m in zip(choice, mine, strict=True))
        )
        self.assertEqual(best, found.bytes, "something could still grow within the budget")

    def test_what_is_spent_is_within_two_hundredths_of_any_budget(self) -> None:
        for maps in ("powers", "blocks", "square"):
            lit, limits = parts(3000, 5), Limits(maps, 4096, 8.0, 16)  # type: ignore[arg-type]
            low = at_budget(lit, 0, limits).bytes
            for budget in np.geomspace(low * 1.5, low * 2000, 12):
                spent = at_budget(lit, float(budget), limits).bytes
                self.assertLessEqual(spent, budget)
                self.assertGreater(spent, 0.98 * budget, (maps, budget))

    def test_all_alike_grow_one_by_one_those_first_that_show_most(self) -> None:
        area = np.full(10, 4.0)
        lit = Lit(area, np.full(10, 0.8), np.ones(10), np.ones(10), np.arange(10.0), np.zeros(10, np.int64))
        limits = Limits("powers", 1024, 1.0, 16)
        found = at_budget(lit, 10 * 64**2 + 3 * (128**2 - 64**2), limits)
        self.assertEqual(found.size[:, 0].tolist(), [64] * 7 + [128] * 3)

    def test_what_padding_needs_is_kept_and_less_than_that_cannot_be_had(self) -> None:
        lit, limits = parts(50, 3, least=64), Limits("powers", 1024, 1.0, 16)
        found = at_budget(lit, 1, limits)
        self.assertTrue((found.size[:, 0] == 64).all())
        self.assertGreater(found.bytes, 1)

    def test_ten_thousand_parts_are_answered_at_once(self) -> None:
        lit, limits = parts(10_000), Limits("powers", 4096, 8.0, 16)
        took = []
        for _ in range(3):
            began = time.perf_counter()
            at_budget(lit, 200e6, limits)
            took.append(time.perf_counter() - began)
        self.assertLess(min(took), 0.25)  # what it takes where nothing else runs is in the benchmark of light
        part, texel, _ = stairs(lit, limits)
        self.assertEqual(len(part), 10_000 * 9)
        self.assertTrue((np.diff(texel[np.isfinite(texel)]) <= 1e-6).all())
        self.assertTrue(np.isfinite(widths(lit, 0.05)).all())


def hall() -> Scene:
    """A floor, a ceiling three metres up, four walls that share a mesh, a post twenty times."""
    slab, wall = trimesh.creation.box((8, 0.2, 6)), trimesh.creation.box((8, 3, 0.2))
    post = trimesh.creation.box((0.1, 1.2, 0.1))
    meshes = tuple(as_mesh(m, 0) for m in (slab, wall, post))
    local = [
        at(0, 0, 0),
        at(0, 3.2, 0),
        *(at(0, 1.7, 2 * k) for k in range(4)),
        *(at(k * 0.3, 0.7, -5) for k in range(20)),
    ]
    names = ["floor", "ceiling", *(f"wall_{k}" for k in range(4)), *(f"post_{k}" for k in range(20))]
    nodes = make_nodes([-1] * len(local), np.array(local), names, mesh=[0, 0, 1, 1, 1, 1, *[2] * 20])
    scene = Scene(GLTF, nodes, meshes, (Material("m"),))
    return parse_step({"kind": "lightmap_uvs"}).apply(scene, StepContext(METRE))[0]


def budgeted(
    scene: Scene, to: Destination = METRE, sets: list[PartSet] | None = None, **more: Any
) -> tuple[Scene, list[Change]]:
    context = StepContext(to, assignment=Assignment(scene, sets or []))
    return parse_step({"kind": "light_budget", **more}).apply(scene, context)


class Proportions(unittest.TestCase):
    def test_islands_have_their_own_again_whatever_map_they_were_laid_out_for(self) -> None:
        for shape in (trimesh.creation.box((3, 0.4, 1.1)), trimesh.creation.annulus(0.4, 0.9, 3.0, sections=18)):
            points = shape.vertices.astype(np.float32)
            made = unwrap(points, shape.faces.astype(np.uint32), 256, 2, "xatlas")
            mesh = Surface(points[made.source], made.indices)
            label = islands(made.indices, len(made.uv), made.uv, mesh.points)
            # as on maps that are thrice as wide as high, and the other way round
            low, high = (as_in_space((made.uv * by).astype(np.float32), mesh, label) for by in ([0.3, 1], [1, 0.3]))
            np.testing.assert_allclose(low, high, atol=1e-5)
            flat, solid = (x.astype(np.float64)[made.indices] for x in (low, mesh.points))
            share = [np.linalg.norm(x[:, [1, 2, 0]] - x, axis=2) for x in (flat, solid)]
            if len(shape.faces) == 12:
                np.testing.assert_allclose(share[0], share[1], rtol=1e-4)


class Step(unittest.TestCase):
    def setUp(self) -> None:
        self.scene = hall()

    def texels(self, scene: Scene) -> dict[str, tuple[int, int]]:
        return {n: tuple(scene.nodes.lightmap[i].tolist()) for i, n in enumerate(scene.nodes.names)}

    def test_sizes_hold_the_surface_and_padding_holds_at_them(self) -> None:
        out, changes = budgeted(self.scene, texelM=0.05)
        sizes = self.texels(out)
        for name, area in (
            ("floor", 2 * (48 + 1.6 + 1.2)),
            ("wall_0", 2 * (24 + 0.6 + 1.6)),
            ("post_3", 4 * 0.12 + 0.02),
        ):
            w, h = sizes[name]
            self.assertGreaterEqual(w * h, area / 0.05**2)
        for i in out.nodes.parts.tolist():
            mesh, (w, h) = out.meshes[out.nodes.mesh[i]], out.nodes.lightmap[i].tolist()
            report = measure(mesh.uvs[1], mesh.indices, w, positions=mesh.positions, height=h)
            self.assertTrue(report.clean)
            self.assertGreaterEqual(report.gap_texels, 4)
        self.assertEqual(len(out.meshes), 3, "copies still share their mesh")
        self.assertIn("26 lightmaps of", changes[0].text)

    def test_a_ceiling_is_proposed_coarser_than_walls(self) -> None:
        rows, _ = lit_parts(self.scene, METRE)
        found = [self.scene.nodes.names[i] for i in rows[ceilings(self.scene, rows)].tolist()]
        self.assertEqual(found, ["ceiling"])
        sizes = self.texels(budgeted(self.scene, texelM=0.02)[0])
        self.assertGreaterEqual(np.prod(sizes["floor"]), 2 * np.prod(sizes["ceiling"]))
        same = self.texels(budgeted(self.scene, texelM=0.02, ceilings=1)[0])
        self.assertEqual(same["floor"], same["ceiling"])

    def test_sets_weigh_and_leave_out(self) -> None:
        fine = PartSet.model_validate(
            {"id": "a", "name": "a", "rules": [{"names": ["wall_0"]}], "treatment": {"lightmapWeight": 4}}
        )
        out_ = PartSet.model_validate(
            {"id": "b", "name": "b", "rules": [{"names": ["post_*"]}], "treatment": {"lightmapped": False}}
        )
        sizes = self.texels(budgeted(self.scene, sets=[fine, out_], texelM=0.1)[0])
        self.assertEqual(np.prod(sizes["wall_0"]), 16 * np.prod(sizes["wall_1"]))
        out, _ = budgeted(self.scene, sets=[out_], by="megabytes", megabytes=1)
        spent = sum(
            int(np.prod(out.nodes.lightmap[i])) for i, n in enumerate(out.nodes.names) if not n.startswith("post")
        )
        self.assertLessEqual(spent * METRE.frame.light_bytes, 1e6)

    def test_a_budget_is_kept_or_what_is_missing_is_told(self) -> None:
        out, changes = budgeted(self.scene, by="megabytes", megabytes=2)
        self.assertLessEqual(out.nodes.lightmap.prod(axis=1).sum() * METRE.frame.light_bytes, 2e6)
        self.assertFalse(any(c.problem for c in changes))
        out, changes = budgeted(self.scene, by="megabytes", megabytes=0.01)
        self.assertTrue(any(c.problem and "not enough" in c.text for c in changes))

    def test_parts_that_share_a_mesh_and_are_not_asked_about_keep_their_padding(self) -> None:
        small, _ = budgeted(self.scene, texelM=0.2)
        sizes = self.texels(small)
        some, _ = budgeted(small, texelM=0.01, where={"names": ["wall_0"]})
        after = self.texels(some)
        self.assertEqual(after["wall_1"], sizes["wall_1"])
        self.assertGreater(np.prod(after["wall_0"]), 16 * np.prod(after["wall_1"]))
        i = some.nodes.names.index("wall_1")
        mesh, (w, h) = some.meshes[some.nodes.mesh[i]], after["wall_1"]
        report = measure(mesh.uvs[1], mesh.indices, w, positions=mesh.positions, height=h)
        self.assertGreaterEqual(report.gap_texels, 4)

    def test_so_many_megabytes_are_as_fine_as_they_can_be_and_a_second_time_nothing_changes(self) -> None:
        for megabytes in (0.3, 2.0, 9.0):
            first, _ = budgeted(self.scene, by="megabytes", megabytes=megabytes)
            again, _ = budgeted(first, by="megabytes", megabytes=megabytes)
            np.testing.assert_array_equal(first.nodes.lightmap, again.nodes.lightmap)
            self.assertEqual([m.id for m in first.meshes], [m.id for m in again.meshes])
            coarsest = lit_parts(first, METRE, Assignment(first, []))[1]
            texels = np.sqrt(coarsest.area / (coarsest.fill * first.nodes.lightmap.prod(axis=1)))
            # what a texel size asks for that is a sixth finer than the coarsest walls have weighs more
            walls = float(texels[2:6].max())
            finer, _ = budgeted(self.scene, texel_m=walls / 1.2)
            self.assertGreater(finer.nodes.lightmap.prod(axis=1).sum(), first.nodes.lightmap.prod(axis=1).sum())

    def test_a_second_time_nothing_changes(self) -> None:
        once, _ = budgeted(self.scene, texelM=0.04)
        twice, _ = budgeted(once, texelM=0.04)
        np.testing.assert_array_equal(once.nodes.lightmap, twice.nodes.lightmap)
        self.assertEqual([m.id for m in once.meshes], [m.id for m in twice.meshes])

    def test_parts_that_the_largest_map_is_not_enough_for_are_told(self) -> None:
        out, changes = budgeted(self.scene, texelM=0.005, largest=256)
        self.assertEqual(int(out.nodes.lightmap.max()), 256)
        told = next(c for c in changes if c.problem)
        self.assertIn("largest map, 256 texels", told.text)
        self.assertEqual(told.count, 6)  # floor, ceiling and the walls; posts have room enough
        self.assertFalse(any(c.problem for c in budgeted(self.scene, texelM=0.05)[1]))

    def test_what_fits_no_map_up_to_the_largest_keeps_its_own_and_is_told(self) -> None:
        crates = trimesh.util.concatenate(
            [trimesh.creation.box((0.2, 0.2, 0.2), transform=at(k % 6, k // 6, 0)) for k in range(30)]
        )
        nodes = make_nodes([-1] * 3, np.array([at(0, 0, 2 * k) for k in range(3)]), ["a", "b", "wall"], mesh=[0, 0, 1])
        meshes = (replace(as_mesh(crates, 0), name="crates"), as_mesh(trimesh.creation.box((4, 3, 0.2)), 0))
        scene = parse_step({"kind": "lightmap_uvs"}).apply(
            Scene(GLTF, nodes, meshes, (Material("m"),)), StepContext(METRE)
        )[0]
        for asked in ({"texelM": 0.5}, {"by": "megabytes", "megabytes": 1.1}):
            out, changes = budgeted(scene, largest=64, **asked)
            self.assertEqual(out.nodes.lightmap[:2].tolist(), scene.nodes.lightmap[:2].tolist())
            self.assertLessEqual(int(out.nodes.lightmap[2].max()), 64)
            problem = next(c for c in changes if c.problem and "crates" in c.text)
            self.assertRegex(problem.text, "“crates” keeps its map of 256 × .* do not fit 64 texels")
            self.assertEqual(problem.count, 2)
            if "by" in asked:
                self.assertLessEqual(METRE.frame.light_bytes * float(out.nodes.lightmap.prod(axis=1).sum()), 1.1e6)

    def test_square_maps_where_the_destination_wants_them(self) -> None:
        to = METRE.model_copy(update={"lightmap_maps": "square"})
        out, _ = budgeted(self.scene, to, texelM=0.05)
        lit = out.nodes.lightmap[out.nodes.parts]
        self.assertTrue((lit[:, 0] == lit[:, 1]).all())
        blocks = METRE.model_copy(update={"lightmap_maps": "blocks"})
        less = budgeted(self.scene, blocks, texelM=0.05)[0].nodes.lightmap.prod(axis=1).sum()
        self.assertLess(less, lit.prod(axis=1).sum())


if __name__ == "__main__":
    unittest.main()
