"""Steps that meet a budget: no more of the scene is given up than that takes, by figures that can be counted by hand."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
import trimesh

from tests.trees import as_mesh
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.plans import Budget, Plan, plan_for
from tidy_caravan.core.price import price
from tidy_caravan.core.scene import GLTF, Material, Scene, make_nodes
from tidy_caravan.core.steps import StepContext, parse_step

BOX = trimesh.creation.box((1.0, 0.2, 0.4))


def rows_of(counts: list[int]) -> Scene:
    """Groups of so many different boxes each."""
    parent, names, mesh, local = [], [], [], []
    made: list[Any] = []
    for g, count in enumerate(counts):
        head = len(parent)
        parent.append(-1)
        names.append(f"row {g}")
        mesh.append(-1)
        local.append(np.eye(4))
        for k in range(count):
            parent.append(head)
            names.append(f"box {g} {k}")
            mesh.append(len(made))
            made.append(as_mesh(BOX.copy().apply_scale([1 + 0.1 * len(made), 1, 1]), 0))
            local.append(trimesh.transformations.translation_matrix([0, g * 3, k * 2]))
    return Scene(GLTF, make_nodes(parent, np.array(local), names, mesh=mesh), tuple(made), (Material("a"),))


def balls() -> Scene:
    """Three balls of 5,120 triangles and one of 20,480, each twice."""
    made = [as_mesh(trimesh.creation.icosphere(4, 1 + 0.1 * k), 0) for k in range(3)]
    made.append(as_mesh(trimesh.creation.icosphere(5, 2.0), 0))
    local = np.array([trimesh.transformations.translation_matrix([k * 5, 0, 0]) for k in range(8)])
    nodes = make_nodes(np.full(8, -1), local, [f"ball {k}" for k in range(8)], mesh=np.arange(8) % 4)
    return Scene(GLTF, nodes, tuple(made), (Material("a"),))


class Plans(unittest.TestCase):
    def planned(self, scene: Scene, **most: Any) -> tuple[Plan, Scene]:
        """The plan, and the scene after its steps, which must be as it was priced."""
        context = StepContext(BUILT_IN[0])
        plan = plan_for(scene, context, Budget(**most))
        made = scene
        for step in plan.steps:
            made, _ = parse_step(step).apply(made, context)
        self.assertEqual(price(made, BUILT_IN[0]), plan.prices[-1])
        return plan, made

    def test_only_the_groups_that_it_takes_are_combined(self) -> None:
        scene = rows_of([3, 12, 2, 20, 4, 9])  # 50 calls; the two largest groups give 30 of them
        plan, made = self.planned(scene, draw_calls=21)
        self.assertTrue(plan.met)
        self.assertEqual(len(plan.steps), 1)
        self.assertEqual(plan.prices[-1].draw_calls, 20)
        self.assertEqual(len(plan.steps[0]["where"]["parts"]), 32)
        self.assertIn("for the 2 of 6 groups that save most", plan.reasons[0])
        self.assertEqual(
            sum(n.startswith("box") for n in made.nodes.names), 3 + 2 + 4 + 9 + 2
        )  # heads keep their names

    def test_all_of_it_where_it_takes_all(self) -> None:
        plan, _ = self.planned(rows_of([3, 12, 2, 20, 4, 9]), draw_calls=6)
        self.assertEqual((plan.met, plan.prices[-1].draw_calls), (True, 6))
        self.assertNotIn("where", plan.steps[0])

    def test_only_the_mesh_that_it_takes_is_simplified(self) -> None:
        scene = balls()
        plan, made = self.planned(scene, triangles=45_000)
        self.assertTrue(plan.met)
        self.assertEqual([s["kind"] for s in plan.steps], ["simplify"])
        self.assertIn("for the 1 of ", plan.reasons[0])
        for k in (0, 1, 2):
            self.assertEqual(made.meshes[made.nodes.mesh[k]].id, scene.meshes[k].id)
        self.assertLess(made.meshes[made.nodes.mesh[3]].triangles, 15_000)

    def test_a_figure_that_cannot_be_met_takes_no_more_of_another(self) -> None:
        """Boxes have no triangle to spare; their draw calls are brought down as far as asked, and no further."""
        plan, _ = self.planned(rows_of([3, 12, 2, 20, 4, 9]), draw_calls=21, triangles=100)
        self.assertEqual((plan.met, len(plan.steps), plan.prices[-1].draw_calls), (False, 1, 20))
        self.assertEqual(plan.over, ["triangles are still 6 times what they may be"])
        # without groups the whole is none: cells, as many as that takes
        flat = rows_of([3, 12, 2, 20, 4, 9])
        alone = flat.nodes.parts
        loose = flat.but(nodes=make_nodes(np.full(len(alone), -1), flat.nodes.world[alone], [flat.nodes.names[i] for i in alone], mesh=flat.nodes.mesh[alone]))  # fmt: skip
        plan, _ = self.planned(loose, draw_calls=21, triangles=100)
        self.assertEqual([s["by"] for s in plan.steps], ["cell"])
        self.assertTrue(15 <= plan.prices[-1].draw_calls <= 21, plan.prices[-1])

    def test_a_budget_that_is_met_takes_nothing(self) -> None:
        plan, made = self.planned(balls(), triangles=80_000)
        self.assertEqual((plan.met, plan.steps, len(plan.prices)), (True, [], 1))
        self.assertEqual(len(made.meshes), 4)


if __name__ == "__main__":
    unittest.main()
