"""Which parts anybody sees: planted where nobody can look, and beside them what is in plain sight."""

from __future__ import annotations

import unittest
from dataclasses import replace

import numpy as np
import trimesh

from tests.core.test_bake import scene_of
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.lightmap.seen import unseen
from tidy_caravan.core.scene import Camera, Material, Scene, make_nodes
from tidy_caravan.core.space.convert import convert
from tidy_caravan.core.steps.base import StepContext
from tidy_caravan.core.steps.light_budget import LightBudget
from tidy_caravan.core.work.heavy import Workshop

PARTS = {
    "ground": ((60, 0.2, 60), (0, -0.1, 0)),
    "floor": ((10, 0.2, 8), (0, 0.1, 0)),
    "ceiling": ((10, 0.1, 8), (0, 3.25, 0)),
    "roof": ((10.4, 0.2, 8.4), (0, 4.1, 0)),
    "wall_n": ((10, 4, 0.2), (0, 2.0, -4)),
    "wall_s": ((10, 4, 0.2), (0, 2.0, 4)),
    "wall_w": ((0.2, 4, 8), (-5, 2.0, 0)),
    "wall_e": ((0.2, 4, 8), (5, 2.0, 0)),
    "bench": ((2, 0.45, 0.5), (1, 0.43, 1)),
    "pipe": ((8, 0.2, 0.2), (0, 3.6, 0)),
    "screen": ((0.05, 1, 1), (-4.8, 1.5, 2)),
    "cabinet": ((1.2, 2, 1.2), (-3, 1.2, -3)),
    "shelf": ((0.8, 0.05, 0.8), (-3, 1.2, -3)),
}
HIDDEN = {"pipe", "shelf"}


def room(cabinet: str = "OPAQUE") -> Scene:
    shapes = []
    for name, (size, middle) in PARTS.items():
        shape = trimesh.creation.box(size)
        shape.apply_translation(middle)
        shapes.append((shape, 1 if name == "cabinet" else 0))
    plain = Material("plain", (0.5, 0.5, 0.5, 1), metallic=0.0)
    scene = scene_of(shapes, [plain, replace(plain, alpha_mode=cabinet)])  # type: ignore[arg-type]
    return scene.but(nodes=replace(scene.nodes, names=tuple(PARTS)))


def hidden(scene: Scene) -> set[str]:
    rows = scene.nodes.parts
    found = unseen(scene, rows, Workshop())
    assert not isinstance(found, str), found
    return {scene.nodes.names[i] for i in rows[found].tolist()}


class Seen(unittest.TestCase):
    def test_what_is_above_a_ceiling_or_in_a_cabinet_is_seen_by_nobody(self) -> None:
        self.assertEqual(hidden(room()), HIDDEN)

    def test_glass_hides_nothing(self) -> None:
        self.assertEqual(hidden(room("BLEND")), {"pipe"})

    def test_a_camera_sees_as_well(self) -> None:
        scene = room()
        local = np.concatenate([scene.nodes.local, np.eye(4)[None]])
        local[-1, :3, 3] = 4, 3.6, 2
        count = len(PARTS)
        nodes = make_nodes(
            [-1] * (count + 1), local, [*PARTS, "camera"], mesh=[*range(count), -1], camera=[*[-1] * count, 0]
        )
        self.assertEqual(hidden(scene.but(nodes=nodes, cameras=(Camera("perspective"),))), {"shelf"})

    def test_units_axes_and_mirrors_do_not_matter(self) -> None:
        for destination in BUILT_IN[:4]:
            self.assertEqual(hidden(convert(room(), destination.world.convention())), HIDDEN, destination.name)
        mirrored = room()
        local = mirrored.nodes.local.copy()
        local[:, 0, 0] = -1  # every part by itself, and with it the whole
        self.assertEqual(hidden(mirrored.but(nodes=replace(mirrored.nodes, local=local))), HIDDEN)

    def test_nobody_to_look_means_nothing_is_hidden(self) -> None:
        wall = trimesh.creation.box((4, 3, 0.01))
        scene = scene_of([(wall, 0)], [Material("m")])
        self.assertEqual(hidden(scene), set())

    def test_the_budget_gives_them_coarser_texels(self) -> None:
        scene = room()
        plain, _ = LightBudget(texel_m=0.05).apply(scene, StepContext())
        weighed, changes = LightBudget(texel_m=0.05, unseen=0.25).apply(scene, StepContext())
        rows = scene.nodes.parts
        self.assertTrue(any("2 parts that no camera and no walkable place seems to see" in c.text for c in changes))
        smaller = weighed.nodes.lightmap[rows].prod(axis=1) < plain.nodes.lightmap[rows].prod(axis=1)
        self.assertEqual({scene.nodes.names[i] for i in rows[smaller].tolist()}, HIDDEN)


if __name__ == "__main__":
    unittest.main()
