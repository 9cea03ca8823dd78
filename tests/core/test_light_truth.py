"""Light beside an independent renderer: the same room in both, lit by lamps, the sun, a panel and the sky, with a block in it."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
import trimesh

from tests.core.test_bake import DOWN, scene_of
from tests.core.test_sides import at
from tidy_caravan.core.bake.mix import Mix
from tidy_caravan.core.bake.trace import traced
from tidy_caravan.core.bake.world import World, world_arrays
from tidy_caravan.core.scene import Light, Material
from tidy_caravan.core.scene.arrays import F64

FLOOR, WALL, BLOCK = (0.6, 0.6, 0.6), (0.7, 0.3, 0.2), (0.2, 0.5, 0.7)
PANEL = 400.0
SKY = 120.0
SUN = 300.0
MIX = Mix(sky=(SKY,) * 3, ground=(SKY,) * 3)
LAMP = (90.0, 60.0, 30.0)
TILES = ((0.0, 0.0), (-1.2, 0.4), (1.3, -1.2), (0.55, 0.9))
HALF = 0.1
"""Half a side of the tiles of the floor that are measured."""
SUN_WAY = np.array([0.3, -1.0, 0.2])
SAMPLES = 200_000


def ours() -> list[tuple[F64, F64]]:
    """Light on each tile, and its standard error."""
    floor = trimesh.creation.box((4, 0.2, 4))
    floor.apply_translation((0, -0.1, 0))
    walls = [trimesh.creation.box(size) for size in ((0.2, 3, 4), (4, 3, 0.2))]
    walls[0].apply_translation((-2.1, 1.5, 0))
    walls[1].apply_translation((0, 1.5, -2.1))
    block = trimesh.creation.box((0.6, 0.8, 0.5))
    block.apply_translation((0.6, 0.4, 0.2))
    panel = trimesh.Trimesh(
        [[-0.5, 2, 0.5], [0.3, 2, 0.5], [0.3, 2, 1.3], [-0.5, 2, 1.3]], [[0, 1, 2], [0, 2, 3]], process=False
    )

    def matt(colour: tuple[float, ...]) -> Material:
        return Material("m", (*colour, 1.0), metallic=0.0)  # type: ignore[arg-type]

    glow = Material(
        "g", (0, 0, 0, 1), metallic=0.0, emissive=(1.0, 1.0, 1.0), emissive_strength=PANEL, double_sided=False
    )
    lamp = (Light("point", color=tuple(np.array(LAMP) / max(LAMP)), intensity=max(LAMP)), at(-1, 1.8, -1))  # type: ignore[arg-type]
    turned = trimesh.geometry.align_vectors([0, -1, 0], SUN_WAY / np.linalg.norm(SUN_WAY)) @ DOWN
    scene = scene_of(
        [(floor, 0), (walls[0], 1), (walls[1], 1), (block, 2), (panel, 3)],
        [matt(FLOOR), matt(WALL), matt(BLOCK), glow],
        [lamp, (Light("directional", intensity=SUN), turned)],
    )
    arrays = world_arrays(scene)
    world, out = World(arrays), []
    for k, (x, z) in enumerate(TILES):
        spread = np.random.default_rng(k).uniform(-HALF, HALF, (SAMPLES, 2))
        places = np.column_stack([x + spread[:, 0], np.zeros(SAMPLES), z + spread[:, 1]]) - arrays["centre"]
        light = MIX.of(traced(world, places, np.tile([0.0, 1.0, 0.0], (SAMPLES, 1)), k).light)
        out.append((light.mean(axis=0), light.std(axis=0) / np.sqrt(SAMPLES)))
    return out


def theirs() -> list[tuple[F64, F64]]:
    """The same by the other: radiance of each tile seen from just above, which is its light times what it reflects, by π."""
    import mitsuba

    mitsuba.set_variant("scalar_rgb")
    turn = mitsuba.ScalarTransform4f

    def matt(colour: Any) -> dict[str, Any]:
        return {"type": "diffuse", "reflectance": {"type": "rgb", "value": list(colour)}}

    def box(size: Any, middle: Any, colour: Any) -> dict[str, Any]:
        place = turn().translate(list(middle)).scale([s / 2 for s in size])
        return {"type": "cube", "to_world": place, "bsdf": matt(colour)}

    def rgb(*value: float) -> dict[str, Any]:
        return {"type": "rgb", "value": list(value)}

    scene = {
        "type": "scene",
        "integrator": {"type": "path", "max_depth": -1},
        "floor": box((4, 0.2, 4), (0, -0.1, 0), FLOOR),
        "wall": box((0.2, 3, 4), (-2.1, 1.5, 0), WALL),
        "other": box((4, 3, 0.2), (0, 1.5, -2.1), WALL),
        "block": box((0.6, 0.8, 0.5), (0.6, 0.4, 0.2), BLOCK),
        "panel": {
            "type": "rectangle",
            "to_world": turn().translate([-0.1, 2, 0.9]).rotate([1, 0, 0], 90).scale([0.4, 0.4, 1]),
            "bsdf": matt((0, 0, 0)),
            "emitter": {"type": "area", "radiance": rgb(PANEL, PANEL, PANEL)},
        },
        "lamp": {"type": "point", "position": [-1, 1.8, -1], "intensity": rgb(*LAMP)},
        "sun": {"type": "directional", "direction": SUN_WAY.tolist(), "irradiance": rgb(SUN, SUN, SUN)},
        "sky": {"type": "constant", "radiance": rgb(SKY, SKY, SKY)},
    }
    made, out = mitsuba.load_dict(scene), []
    for k, (x, z) in enumerate(TILES):
        view = turn().look_at(origin=[x, 0.02, z], target=[x, 0, z], up=[0, 0, 1]).scale([HALF, HALF, 1])
        film = {"type": "hdrfilm", "width": 1, "height": 1, "rfilter": {"type": "box"}, "pixel_format": "rgb"}
        sensor = mitsuba.load_dict({
            "type": "orthographic", "to_world": view, "near_clip": 1e-3, "far_clip": 10.0, "film": film,
            "sampler": {"type": "independent", "sample_count": 16_000},
        })  # fmt: skip
        looks = [np.array(mitsuba.render(made, sensor=sensor, seed=8 * k + j), np.float64).reshape(3) for j in range(8)]
        seen = np.array(looks) * np.pi / np.array(FLOOR)
        out.append((seen.mean(axis=0), seen.std(axis=0, ddof=1) / np.sqrt(8)))
    return out


class BesideAnother(unittest.TestCase):
    def test_the_light_on_a_floor_is_that_of_an_independent_renderer(self) -> None:
        for (mine, error), (other, theirs_error), tile in zip(ours(), theirs(), TILES, strict=True):
            apart, spread = np.abs(mine - other), np.hypot(error, theirs_error)
            self.assertLess((spread / other).max(), 0.005, tile)
            self.assertTrue((apart <= 0.01 * other + 2 * spread).all(), (tile, mine, other, spread))


if __name__ == "__main__":
    unittest.main()
