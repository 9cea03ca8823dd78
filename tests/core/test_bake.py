"""Light against closed forms: lamps, skies, rectangles that glow, a closed white room; texels, noise, and going on."""

from __future__ import annotations

import io
import unittest
from dataclasses import replace
from typing import Any

import numpy as np
import PIL.Image
import trimesh

from tests.core.test_light_budget import hall
from tests.core.test_sides import as_mesh, at
from tidy_caravan.core.bake.baking import Ask, bake, noise_of
from tidy_caravan.core.bake.denoising import DENOISE, denoised
from tidy_caravan.core.bake.lamps import Powers, powers
from tidy_caravan.core.bake.look import look_at
from tidy_caravan.core.bake.mix import GROUPS, Mix
from tidy_caravan.core.bake.report import BakeAsk, doubtful
from tidy_caravan.core.bake.texels import dilated, texels_of
from tidy_caravan.core.bake.trace import traced
from tidy_caravan.core.bake.world import World, unread, world_arrays
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.scene import (
    GLTF,
    Convention,
    Image,
    Light,
    Material,
    Sampler,
    Scene,
    Texture,
    TextureUse,
    make_nodes,
)
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.selection import Assignment, PartSet, Rule, Treatment
from tidy_caravan.core.space.convert import convert, keep_nodes
from tidy_caravan.core.space.srgb import linear
from tidy_caravan.core.steps import StepContext
from tidy_caravan.core.steps.light_budget import LightBudget
from tidy_caravan.core.steps.match_units import MatchUnits
from tidy_caravan.core.steps.texture_coordinates import LightmapUvs
from tidy_caravan.core.work.heavy import Remembered, Workshop
from tidy_caravan.core.work.isolation import Lost
from tidy_caravan.demo import ferry_landing

DOWN = trimesh.transformations.rotation_matrix(-np.pi / 2, [1, 0, 0])
"""A light's own −Z onto −Y."""
GREY = Material("grey", (0.5, 0.5, 0.5, 1.0), metallic=0.0)
DAY = Mix(sky=(10.0, 10.0, 10.0))
UP = np.array([[0.0, 1.0, 0.0]])


def scene_of(shapes: list[tuple[Any, int]], materials: list[Material], lights: list[tuple[Light, F64]] = []) -> Scene:  # noqa: B006
    meshes = tuple(as_mesh(shape, slot) for shape, slot in shapes)
    local = np.array([*(np.eye(4) for _ in shapes), *(m for _, m in lights)]).reshape(-1, 4, 4)
    count = len(shapes)
    nodes = make_nodes(
        [-1] * len(local), local, [f"n{k}" for k in range(len(local))], mesh=[*range(count), *[-1] * len(lights)],
        light=[*[-1] * count, *range(len(lights))],
    )  # fmt: skip
    return Scene(GLTF, nodes, meshes, tuple(materials), lights=tuple(light for light, _ in lights))


def closed_up(parent: Any, keep: Any) -> Any:
    """(N,) what is kept, and all above it."""
    out = keep.copy()
    for i in range(len(parent) - 1, -1, -1):
        if out[i] and parent[i] >= 0:
            out[parent[i]] = True
    return out


def plane(size: float = 40.0) -> Any:
    return trimesh.Trimesh(
        [[-size, 0, -size], [size, 0, -size], [size, 0, size], [-size, 0, size]], [[0, 2, 1], [0, 3, 2]], process=False
    )


def lux(scene: Scene, place: Any, samples: int, seed: int = 1, facing: F64 = UP, bounces: int = 64, **sky: Any) -> F64:
    """(N, 3) samples of the light at one place. sky: see Mix."""
    arrays = world_arrays(scene)
    world = World(arrays)
    places = np.tile(np.array(place, np.float64) - arrays["centre"], (samples, 1))
    return Mix(**sky).of(traced(world, places, np.tile(facing, (samples, 1)), seed, bounces).light)


class ClosedForm(unittest.TestCase):
    def test_a_point_light(self) -> None:
        lamp = Light("point", intensity=100.0, color=(1.0, 0.5, 0.25))
        scene = scene_of([(plane(), 0)], [GREY], [(lamp, at(1, 2, 0))])
        for x in (0.0, 1.0, 4.0):
            far = np.hypot(2, x - 1)
            wanted = 100 * (2 / far) / far**2 * np.array([1, 0.5, 0.25])
            np.testing.assert_allclose(lux(scene, [x, 0, 0], 4).mean(axis=0), wanted, rtol=1e-3)

    def test_the_sun_and_a_spot(self) -> None:
        turned = trimesh.transformations.rotation_matrix(np.radians(30), [0, 0, 1]) @ DOWN
        sun = scene_of([(plane(), 0)], [GREY], [(Light("directional", intensity=50_000.0), turned)])
        np.testing.assert_allclose(lux(sun, [0, 0, 0], 2).mean(axis=0), 50_000 * np.cos(np.radians(30)), rtol=1e-4)
        spot = Light("spot", intensity=80.0, inner_cone=0.2, outer_cone=0.5)
        scene = scene_of([(plane(), 0)], [GREY], [(spot, at(0, 3, 0) @ DOWN)])
        self.assertAlmostEqual(lux(scene, [0, 0, 0], 1)[0, 0], 80 / 9, places=3)
        angle = 0.35
        x = 3 * np.tan(angle)
        cone = ((np.cos(angle) - np.cos(0.5)) / (np.cos(0.2) - np.cos(0.5))) ** 2
        self.assertAlmostEqual(lux(scene, [x, 0, 0], 1)[0, 0], 80 * np.cos(angle) ** 3 / 9 * cone, places=3)
        self.assertEqual(lux(scene, [3 * np.tan(0.51), 0, 0], 1)[0, 0], 0)

    def test_a_uniform_sky_over_an_open_plane(self) -> None:
        scene = scene_of([(plane(), 0)], [GREY])
        found = lux(scene, [0, 0, 0], 2000, sky=(100.0, 200.0, 300.0)).mean(axis=0)
        np.testing.assert_allclose(found, np.pi * np.array([100, 200, 300]), rtol=1e-9)
        # a wall without end takes half of it away, and gives a part back
        wall = trimesh.Trimesh(
            [[0, 0, -400], [0, 400, -400], [0, 400, 400], [0, 0, 400]], [[0, 1, 2], [0, 2, 3]], process=False
        )
        black = replace(GREY, base_color=(0, 0, 0, 1))
        scene = scene_of([(plane(400), 0), (wall, 1)], [GREY, black])
        found = lux(scene, [0.05, 0, 0], 20_000, sky=(100.0,) * 3)[:, 0].mean()
        self.assertAlmostEqual(found, np.pi * 50, delta=np.pi * 1.0)

    def test_a_rectangle_that_glows(self) -> None:
        """Form factor of a small surface and a parallel rectangle over its corner (Howell, catalogue B-3), four times."""
        a, b, h, luminance = 1.5, 0.8, 2.0, 1000.0
        glow = trimesh.Trimesh([[-a, h, -b], [a, h, -b], [a, h, b], [-a, h, b]], [[0, 1, 2], [0, 2, 3]], process=False)
        lamp = Material("lamp", (0, 0, 0, 1), metallic=0.0, emissive=(1.0, 1.0, 1.0), emissive_strength=luminance)
        scene = scene_of([(plane(), 0), (glow, 1)], [replace(GREY, base_color=(0, 0, 0, 1)), lamp])
        x, y = a / h, b / h
        corner = (x / np.sqrt(1 + x * x) * np.arctan(y / np.sqrt(1 + x * x)) + y / np.sqrt(1 + y * y) * np.arctan(x / np.sqrt(1 + y * y))) / (2 * np.pi)  # fmt: skip
        wanted = np.pi * luminance * 4 * corner
        found = lux(scene, [0, 0, 0], 40_000)[:, 0]
        self.assertAlmostEqual(found.mean() / wanted, 1.0, delta=0.01)
        # from behind it is dark
        self.assertEqual(lux(scene, [0, h + 1, 0], 100, facing=-UP)[:, 0].max(), 0)

    def test_lamps_that_are_surfaces(self) -> None:
        """Over a plane: the form factor of a rectangle and of a disk r² / (r² + h²) (Howell, catalogue B-3, B-12), a cylinder far
        off as its candela; and nothing is met by rays."""
        black, h = replace(GREY, base_color=(0, 0, 0, 1)), 2.0
        x, y = 1.5 / h, 0.8 / h
        corner = (x / np.sqrt(1 + x * x) * np.arctan(y / np.sqrt(1 + x * x)) + y / np.sqrt(1 + y * y) * np.arctan(x / np.sqrt(1 + y * y))) / (2 * np.pi)  # fmt: skip
        for surface, size, area, wanted in (
            ("rectangle", (3.0, 1.6), 4.8, np.pi * 4 * corner),
            ("disk", (2.0, 2.0), np.pi, np.pi / (1 + h * h)),
            ("cylinder", (0.02, 0.02), 4e-4, 4e-4 / h**2),
        ):
            with self.subTest(surface):
                lamp = Light("spot" if size[0] > 1 else "point", intensity=1000.0 * area, surface=surface, size=size)  # type: ignore[arg-type]
                above = at(0, h, 0) @ DOWN
                scene = scene_of([(plane(), 0)], [black], [(lamp, above)])
                found = lux(scene, [0, 0, 0], 40_000)[:, 0].mean()
                self.assertAlmostEqual(found / (1000 * wanted), 1.0, delta=0.012 if surface == "disk" else 0.01)
                whole = {"rectangle": np.pi, "disk": np.pi, "cylinder": np.pi**2}[surface]
                self.assertAlmostEqual(powers(world_arrays(scene)).lamps / (1000 * area * whole), 1.0, delta=0.001)
                # the same in centimetres, mirrored, and under a lamp that stands in the way of none
                small = convert(scene, Convention(0.01, "Z", "Y", "right"))
                local = scene.nodes.local.copy()
                local[-1] = local[-1] @ np.diag([-1.0, 1, 1, 1])
                for other in (small, scene.but(nodes=replace(scene.nodes, local=local))):
                    self.assertAlmostEqual(
                        powers(world_arrays(other)).lamps / powers(world_arrays(scene)).lamps, 1.0, places=4
                    )
                mirrored = lux(scene.but(nodes=replace(scene.nodes, local=local)), [0, 0, 0], 40_000)[:, 0].mean()
                self.assertAlmostEqual(mirrored / found, 1.0, delta=0.02)
                if surface in ("rectangle", "disk"):
                    self.assertEqual(lux(scene, [0, h + 1, 0], 100, facing=-UP)[:, 0].max(), 0)
                sky = lux(scene, [0, 0, 0], 500, sky=(1.0, 1.0, 1.0)) - lux(scene, [0, 0, 0], 500)
                np.testing.assert_allclose(sky.mean(axis=0), np.pi, rtol=1e-9)

    def test_many_lamps_that_are_surfaces_are_as_one_of_their_power(self) -> None:
        """As few as are all asked and as many as are asked by chance, beside a point and something that glows."""
        black = replace(GREY, base_color=(0, 0, 0, 1))
        point = (Light("point", intensity=100.0), at(1, 2, 0))
        wanted = {}
        for count in (1, 3, 12):
            panel = Light("spot", intensity=900.0 / count, surface="rectangle", size=(1.0, 0.5))
            scene = scene_of([(plane(), 0)], [black], [*[(panel, at(0, 2, 0) @ DOWN)] * count, point])
            wanted[count] = lux(scene, [0, 0, 0], 60_000)[:, 0].mean()
            self.assertAlmostEqual(wanted[count] / wanted[1], 1.0, delta=0.01)
            self.assertAlmostEqual(powers(world_arrays(scene)).lamps, 900 * np.pi + 400 * np.pi, delta=1e-6)
        self.assertGreater(wanted[1], 100 * 2 / 5**1.5)
        # what is switched to nothing, flattened or nowhere gives none, alone or beside others
        off, flat = replace(panel, intensity=0.0), at(0, 2, 0) @ DOWN @ np.diag([1.0, 0, 1, 1])
        nowhere = at(np.nan, 2, 0)
        for lamps in ([(off, at(0, 2, 0) @ DOWN)], [(panel, flat)], [(panel, nowhere)]):
            alone = lux(scene_of([(plane(), 0)], [black], lamps * 3), [0, 0, 0], 500)
            self.assertEqual(float(alone.max()), 0.0)
            both = lux(scene_of([(plane(), 0)], [black], [*lamps, point]), [0, 0, 0], 4)
            np.testing.assert_allclose(both[:, 0], 100 * 2 / 5**1.5, rtol=1e-4)

    def test_a_mirrored_lamp_shines_the_way_its_copy_does(self) -> None:
        glow = trimesh.Trimesh([[1, 2, -1], [3, 2, -1], [3, 2, 1], [1, 2, 1]], [[0, 1, 2], [0, 2, 3]], process=False)
        lamp = Material("lamp", (0, 0, 0, 1), metallic=0.0, emissive=(1.0, 1.0, 1.0), emissive_strength=100.0)
        one = scene_of([(plane(), 0), (glow, 1)], [replace(GREY, base_color=(0, 0, 0, 1)), lamp])
        local = one.nodes.local.copy()
        local[1] = np.diag([-1.0, 1, 1, 1])
        other = one.but(nodes=replace(one.nodes, local=local))
        light = lux(one, [2, 0, 0], 4000)[:, 0].mean()
        self.assertGreater(light, 10)
        self.assertAlmostEqual(lux(other, [-2, 0, 0], 4000)[:, 0].mean() / light, 1.0, delta=0.05)
        self.assertEqual(lux(other, [-2, 3, 0], 100, facing=-UP)[:, 0].max(), 0)

    def test_a_closed_white_room(self) -> None:
        """Every wall gives and reflects alike: the light is what is given, by one less what is reflected."""
        room = trimesh.creation.box((3, 3, 3))
        room.invert()
        for albedo in (0.0, 0.5, 0.8):
            walls = Material(
                "w", (albedo, albedo, albedo, 1), metallic=0.0, emissive=(1.0, 1.0, 1.0), emissive_strength=10.0
            )
            found = lux(scene_of([(room, 0)], [walls]), [0.2, -1.5, 0.4], 30_000)[:, 0]
            self.assertAlmostEqual(found.mean() / (10 * np.pi / (1 - albedo)), 1.0, delta=0.01)

    def test_the_error_falls_with_the_root_of_the_samples(self) -> None:
        room = trimesh.creation.box((3, 3, 3))
        room.invert()
        walls = Material("w", (0.6, 0.6, 0.6, 1), metallic=0.0, emissive=(1.0, 1.0, 1.0))
        scene = scene_of([(room, 0)], [walls])
        wanted = np.pi / 0.4
        errors = []
        for samples in (64, 1024):
            found = lux(scene, [0.2, -1.5, 0.4], 64 * samples)[:, 0].reshape(64, samples).mean(axis=1)
            errors.append(float(np.sqrt(((found - wanted) ** 2).mean())))
        self.assertAlmostEqual(errors[0] / errors[1], 4.0, delta=1.0)

    def test_what_is_transparent_lets_its_part_through(self) -> None:
        pane = trimesh.Trimesh([[-9, 1, -9], [9, 1, -9], [9, 1, 9], [-9, 1, 9]], [[0, 2, 1], [0, 3, 2]], process=False)
        lamp = (Light("point", intensity=100.0), at(0, 2, 0))
        for alpha, mode, part in ((0.25, "BLEND", 0.75), (0.2, "MASK", 1.0), (0.9, "MASK", 0.0), (0.25, "OPAQUE", 0.0)):
            glass = Material("g", (0, 0, 0, alpha), metallic=0.0, alpha_mode=mode)  # type: ignore[arg-type]
            scene = scene_of([(plane(), 0), (pane, 1)], [replace(GREY, base_color=(0, 0, 0, 1)), glass], [lamp])
            found = lux(scene, [0, 0, 0], 8000, bounces=0)[:, 0].mean()
            self.assertAlmostEqual(found / 25, part, delta=0.02)


def picture(grey: Any, alpha: Any = 255) -> bytes:
    """PNG with these numbers in red, green and blue, and an alpha."""
    grey = np.uint8(grey)
    out = io.BytesIO()
    PIL.Image.fromarray(np.dstack([grey, grey, grey, np.broadcast_to(np.uint8(alpha), grey.shape)])).save(out, "PNG")
    return out.getvalue()


class Leaks(unittest.TestCase):
    def room(self, lid: float, thick: float = 0.2) -> Scene:
        """A room of boxes without a lamp, its lid so far above the walls."""
        wide, off = 4 + 2 * thick, 2 + thick / 2
        sizes = {
            (0, -thick / 2, 0): (wide, thick, wide), (off, 1.5, 0): (thick, 3, wide), (-off, 1.5, 0): (thick, 3, wide),
            (0, 1.5, off): (wide, 3, thick), (0, 1.5, -off): (wide, 3, thick), (0, 3 + thick / 2 + lid, 0): (wide, thick, wide),
        }  # fmt: skip
        boxes = []
        for middle, size in sizes.items():
            box = trimesh.creation.box(size)
            box.apply_translation(middle)
            boxes.append(box)
        return scene_of([(b, 0) for b in boxes], [GREY])

    def test_a_gap_of_three_millimetres_lets_the_sky_in_and_a_closed_room_is_dark(self) -> None:
        inwards = np.array([[-1.0, 0.0, 0.0]])
        for gap, dark in ((0.0, True), (0.003, False)):
            found = lux(
                self.room(gap), [2.0, 2.995, 0.3], 60_000, facing=inwards, sky=(1000.0,) * 3, ground=(1000.0,) * 3
            )
            self.assertEqual(float(found.max()) == 0, dark, gap)
            below = lux(
                self.room(gap), [2.0, 1.0, 0.3], 60_000, facing=inwards, sky=(1000.0,) * 3, ground=(1000.0,) * 3
            )
            if dark:
                self.assertEqual(float(below.max()), 0)
            else:  # a bright line under the lid
                self.assertGreater(found.mean(), 20 * below.mean())

    def test_what_lies_far_away_takes_no_precision_from_the_room(self) -> None:
        """About the middle of both it would be rounded to three hundredths of a metre: the closed room would leak."""
        lost = scene_of([(trimesh.creation.box((1, 1, 1)).apply_translation((6e5, 2e5, -5e5)), 0)], [GREY])
        inwards = np.array([[-1.0, 0.0, 0.0]])
        for gap in (0.0, 0.003):
            alone, beside = (
                lux(scene, [2.0, 2.995, 0.3], 20_000, facing=inwards, sky=(1000.0,) * 3, ground=(1000.0,) * 3).mean()
                for scene in (self.room(gap), with_more(self.room(gap), lost))
            )
            self.assertAlmostEqual(alone, beside, delta=0.05 * alone)

    def leaks(self, scene: Scene, sun: bool) -> int:
        """Texels with a leak, of a card that stands in the room before a wall, its map over all of it."""
        card = trimesh.Trimesh(
            [[1.9, 2.6, -1.9], [1.9, 2.6, 1.9], [1.9, 2.99, 1.9], [1.9, 2.99, -1.9]],
            [[0, 1, 2], [0, 2, 3]],
            process=False,
        )
        turned = trimesh.transformations.rotation_matrix(np.radians(89.9), [0, 0, 1]) @ DOWN
        more = scene_of([(card, 0)], [GREY], [(Light("directional", intensity=1e4), turned)] if sun else [])
        own = np.column_stack(
            [more.meshes[0].positions[:, 2] / 3.8 + 0.5, (more.meshes[0].positions[:, 1] - 2.6) / 0.39]
        )
        uv = own.astype(np.float32)
        grown = with_more(scene, more.but(meshes=(replace(more.meshes[0], uvs=(uv, uv)),)))
        sizes = np.zeros((len(grown.nodes), 2), np.int32)
        sizes[len(scene.nodes)] = 96
        grown = grown.but(nodes=replace(grown.nodes, lightmap=sizes))
        return look_at(grown, 1, BakeAsk(samples=16, divide=1, bounces=0), Workshop()).report.parts[0].leaks

    def test_light_through_a_gap_is_named_and_that_through_openings_or_past_edges_is_not(self) -> None:
        for sun in (False, True):
            self.assertEqual(self.leaks(self.room(0.0, 0.01), sun), 0, "a closed room leaks")
            self.assertGreater(self.leaks(self.room(0.003, 0.01), sun), 5, sun)
            self.assertEqual(self.leaks(self.room(0.08, 0.01), sun), 0, "a slot of eight centimetres is an opening")
            outdoors = scene_of([(plane(4), 0), (trimesh.creation.box((1, 1, 1)), 0)], [GREY])
            self.assertEqual(self.leaks(outdoors, sun), 0)


class Planted(unittest.TestCase):
    """The net store of the landing has a slit in its roof, on purpose."""

    def found(self, gap: float) -> set[str]:
        """Parts with leaks of the store, and of a bay of the hall, whose posts stand beside those of others."""
        scene = ferry_landing.landing(gap)
        scene = scene.but(convention=replace(scene.convention, metres_per_unit=0.01))
        keep = np.array([n.startswith(("net_store", "glazing_west", "quay deck", "sun")) for n in scene.nodes.names])
        scene = keep_nodes(scene, closed_up(scene.nodes.parent, keep))
        route = [MatchUnits(), LightmapUvs(padding_texels=2), LightBudget(texel_m=0.06, padding_texels=2)]
        for step in route:
            scene, _ = step.apply(scene, StepContext(BUILT_IN[0]))
        lit = [n.startswith(("net_store", "glazing_west_05")) for n in scene.nodes.names]
        sizes = np.where(np.array(lit)[:, None], scene.nodes.lightmap, 0)
        scene = scene.but(nodes=replace(scene.nodes, lightmap=sizes))
        report = look_at(scene, 1, BakeAsk(samples=32, divide=1), Workshop()).report
        return {p.name for p in report.parts if p.leaks}

    def test_the_slit_is_found_and_nothing_where_it_is_closed(self) -> None:
        inside = {f"net_store_{n}" for n in ("floor", "north", "south", "east", "west")}
        leaks = self.found(ferry_landing.LEAK_M)
        self.assertGreaterEqual(len(leaks & inside), 4, leaks)
        self.assertLessEqual(leaks, inside)
        self.assertEqual(self.found(0.0), set())


class Doubted(unittest.TestCase):
    def test_a_sun_of_three_is_doubted_and_one_of_daylight_is_not(self) -> None:
        self.assertEqual([len(doubtful(Powers(sun=lux))) for lux in (0, 3, 30_000)], [0, 1, 0])
        self.assertIn("3 lx", doubtful(Powers(sun=3.0))[0])


class Textured(unittest.TestCase):
    """What a texture says at a place, and not its mean, nor the factor alone."""

    def dressed(self, scene: Scene, slot: int, data: bytes, wrap: int = 10497) -> Scene:
        """The meshes of a material with coordinates x, z of their places, and an image."""
        meshes = tuple(
            replace(m, uvs=(m.positions[:, [0, 2]].astype(np.float32),)) if slot in m.slots else m for m in scene.meshes
        )
        return scene.but(
            meshes=meshes, textures=(Texture(0, Sampler(wrap_s=wrap, wrap_t=wrap)),), images=(Image(data=data),)
        )

    def test_a_cut_out_lets_light_through_where_its_image_is_clear(self) -> None:
        pane = trimesh.Trimesh([[-9, 1, -9], [9, 1, -9], [9, 1, 9], [-9, 1, 9]], [[0, 2, 1], [0, 3, 2]], process=False)
        sun = (Light("directional", intensity=100.0), DOWN)
        black = replace(GREY, base_color=(0, 0, 0, 1))
        # solid on the left half of each metre; by the same numbers, half a metre on, on the right half
        image = picture([[255, 255]], [[255, 0]])
        for use, first in ((TextureUse(0), 0.0), (TextureUse(0, offset=(0.5, 0.0)), 100.0)):
            leaf = Material("leaf", (0, 0, 0, 1), metallic=0.0, alpha_mode="MASK", base_color_texture=use)
            scene = self.dressed(scene_of([(plane(), 0), (pane, 1)], [black, leaf], [sun]), 1, image)
            for x, wanted in ((0.2, first), (0.7, 100 - first), (3.2, first), (-0.3, 100 - first)):
                self.assertAlmostEqual(lux(scene, [x, 0, 0.1], 4, bounces=0)[:, 0].mean(), wanted, places=3)
            edge = self.dressed(scene_of([(plane(), 0), (pane, 1)], [black, leaf], [sun]), 1, image, 33071)
            self.assertAlmostEqual(lux(edge, [3.2, 0, 0.1], 4, bounces=0)[:, 0].mean(), 100.0, places=3)
        glass = Material("glass", (0, 0, 0, 0.5), metallic=0.0, alpha_mode="BLEND", base_color_texture=TextureUse(0))
        scene = self.dressed(scene_of([(plane(), 0), (pane, 1)], [black, glass], [sun]), 1, picture([[255]], [[128]]))
        self.assertAlmostEqual(
            lux(scene, [0, 0, 0], 9000, bounces=0)[:, 0].mean(), 100 * (1 - 0.5 * 128 / 255), delta=2.0
        )

    def test_a_room_reflects_what_its_image_says(self) -> None:
        room = trimesh.creation.box((3, 3, 3))
        room.invert()
        glow = {"emissive": (1.0, 1.0, 1.0), "emissive_strength": 10.0}
        albedo = float(linear(188 / 255))
        walls = Material("w", (1, 1, 1, 1), metallic=0.0, base_color_texture=TextureUse(0), **glow)  # type: ignore[arg-type]
        scene = self.dressed(scene_of([(room, 0)], [walls]), 0, picture([[188]]))
        found = lux(scene, [0.2, -1.5, 0.4], 30_000)[:, 0]
        self.assertAlmostEqual(found.mean() / (10 * np.pi / (1 - albedo)), 1.0, delta=0.01)
        # a texture that says how metallic: a quarter, of a factor of one
        steel = Material("s", (0.8, 0.8, 0.8, 1), metallic=1.0, metallic_roughness_texture=TextureUse(0), **glow)  # type: ignore[arg-type]
        scene = self.dressed(scene_of([(room, 0)], [steel]), 0, picture([[51]]))
        found = lux(scene, [0.2, -1.5, 0.4], 30_000)[:, 0]
        self.assertAlmostEqual(found.mean() / (10 * np.pi / (1 - 0.8 * 0.8)), 1.0, delta=0.01)

    def test_colours_of_vertices_multiply_what_is_reflected_and_how_solid_it_is(self) -> None:
        room = trimesh.creation.box((3, 3, 3))
        room.invert()
        glow = {"emissive": (1.0, 1.0, 1.0), "emissive_strength": 10.0}
        scene = scene_of([(room, 0)], [Material("w", (0.8, 0.8, 0.8, 1), metallic=0.0, **glow)])  # type: ignore[arg-type]
        tint = np.array([0.9, 0.5, 0.1, 1.0], np.float32)
        scene = scene.but(meshes=(replace(scene.meshes[0], colors=(np.tile(tint, (scene.meshes[0].vertices, 1)),)),))
        self.assertEqual(unread(scene), [])
        found = lux(scene, [0.2, -1.5, 0.4], 30_000).mean(axis=0)
        np.testing.assert_allclose(found, 10 * np.pi / (1 - 0.8 * tint[:3]), rtol=0.01)
        pane = trimesh.Trimesh([[-9, 1, -9], [9, 1, -9], [9, 1, 9], [-9, 1, 9]], [[0, 2, 1], [0, 3, 2]], process=False)
        lamp = (Light("point", intensity=100.0), at(0, 2, 0))
        for mode, left, right in (("BLEND", 0.75, 0.0), ("MASK", 1.0, 0.0), ("OPAQUE", 0.0, 0.0)):
            glass = Material("g", (0, 0, 0, 1), metallic=0.0, alpha_mode=mode)  # type: ignore[arg-type]
            scene = scene_of([(plane(), 0), (pane, 1)], [replace(GREY, base_color=(0, 0, 0, 1)), glass], [lamp])
            seen = {}
            for alpha, wanted in ((0.25, left), (1.0, right)):
                colours = np.tile(np.float32([1, 1, 1, alpha]), (4, 1))
                one = scene.but(meshes=(scene.meshes[0], replace(scene.meshes[1], colors=(colours,))))
                seen[alpha] = lux(one, [0, 0, 0], 8000, bounces=0)[:, 0].mean() / 25
                self.assertAlmostEqual(seen[alpha], wanted, delta=0.02)
        many = scene.but(meshes=(scene.meshes[0], replace(scene.meshes[1], colors=(np.float32(np.eye(4)),))))
        self.assertIn("mean on each triangle", " ".join(unread(many)))

    def test_what_glows_gives_as_much_as_its_image_on_the_whole(self) -> None:
        panel = trimesh.Trimesh([[-1, 2, -1], [1, 2, -1], [1, 2, 1], [-1, 2, 1]], [[0, 1, 2], [0, 2, 3]], process=False)
        black = replace(GREY, base_color=(0, 0, 0, 1))
        lamp = Material("l", (0, 0, 0, 1), metallic=0.0, emissive=(1.0, 1.0, 1.0), emissive_strength=100.0)
        whole = lux(scene_of([(plane(), 0), (panel, 1)], [black, lamp]), [0, 0, 0], 20_000)[:, 0].mean()
        dim = replace(lamp, emissive_texture=TextureUse(0))
        scene = self.dressed(scene_of([(plane(), 0), (panel, 1)], [black, dim]), 1, picture([[0, 255], [255, 0]]))
        self.assertAlmostEqual(lux(scene, [0, 0, 0], 20_000)[:, 0].mean() / whole, 0.5, delta=0.02)
        # x from 1.5 to 2.25, where white and black each take half a metre: by how the image goes on beyond its border
        panel.vertices[:, 0] = [1.5, 2.25, 2.25, 1.5]
        for wrap, share in ((10497, 1 / 3), (33648, 1.0), (33071, 0.0)):
            scene = self.dressed(scene_of([(plane(), 0), (panel, 1)], [black, dim]), 1, picture([[255, 0]]), wrap)
            found = powers(world_arrays(scene)).glow
            self.assertAlmostEqual(found, share * 100 * np.pi * 0.75 * 2, delta=3)


class Mixed(unittest.TestCase):
    def test_powers_and_colours_changed_afterwards_are_those_of_another_trace(self) -> None:
        """Of the very same paths, so to the last digits; a coloured wall reflects into a corner."""
        wall = trimesh.creation.box((0.2, 4, 8))
        panel = trimesh.Trimesh([[1, 3, -1], [3, 3, -1], [3, 3, 1], [1, 3, 1]], [[0, 1, 2], [0, 2, 3]], process=False)
        red = Material("red", (0.9, 0.2, 0.1, 1), metallic=0.0)

        def scene(sun: float, lamp: float, colour: Any, glow: float) -> Scene:
            panel_ = Material("p", (0, 0, 0, 1), metallic=0.0, emissive=(1.0, 0.5, 0.2), emissive_strength=glow)
            turned = trimesh.transformations.rotation_matrix(np.radians(-30), [0, 0, 1]) @ DOWN
            lights = [
                (Light("directional", intensity=sun), turned),
                (Light("point", intensity=lamp, color=colour), at(1, 2, 0)),
            ]
            return scene_of([(plane(), 0), (wall, 1), (panel, 2)], [GREY, red, panel_], lights)

        place, plain = [0.6, 0, 0.3], scene(100.0, 50.0, (1.0, 1.0, 1.0), 30.0)
        mixed = lux(plain, place, 3000, sun=(3.0,) * 3, lamps=(2.0, 1.0, 0.5), glow=(0.5,) * 3, sky=(7.0, 8.0, 9.0))
        other = lux(scene(300.0, 100.0, (1.0, 0.5, 0.25), 15.0), place, 3000, sky=(7.0, 8.0, 9.0))
        np.testing.assert_allclose(mixed, other, rtol=1e-6, atol=1e-9)
        dark = lux(plain, place, 100, sun=(0.0,) * 3, lamps=(0.0,) * 3, glow=(0.0,) * 3)
        self.assertEqual(dark.max(), 0)

    def test_powers_in_photometric_units(self) -> None:
        panel = trimesh.Trimesh([[0, 3, 0], [2, 3, 0], [2, 3, 3], [0, 3, 3]], [[0, 1, 2], [0, 2, 3]], process=False)
        glow = Material("p", emissive=(1.0, 1.0, 1.0), emissive_strength=50.0)
        lights = [
            (Light("directional", intensity=80_000.0), DOWN),
            (Light("point", intensity=10.0, color=(0.0, 1.0, 0.0)), at(1, 2, 0)),
            (Light("spot", intensity=100.0, inner_cone=0.4, outer_cone=0.4001), at(0, 3, 0) @ DOWN),
        ]
        found = powers(world_arrays(scene_of([(plane(), 0), (panel, 1)], [GREY, glow], lights)))
        self.assertAlmostEqual(found.sun, 80_000)
        cone = 100 * 2 * np.pi * (1 - np.cos(0.4))
        self.assertAlmostEqual(found.lamps / (4 * np.pi * 10 * 0.7152 + cone), 1.0, places=3)
        self.assertAlmostEqual(found.glow / (6 * np.pi * 50), 1.0, places=6)
        # a spot's light, all round on a sphere about it, is what it is said to give
        spot = Light("spot", intensity=100.0, inner_cone=0.3, outer_cone=0.7)
        told = powers(world_arrays(scene_of([(plane(), 0)], [GREY], [(spot, at(0, 3, 0) @ DOWN)]))).lamps
        angle = np.linspace(0, 0.7, 20_001)
        fades = np.clip((np.cos(angle) - np.cos(0.7)) / (np.cos(0.3) - np.cos(0.7)), 0, 1) ** 2
        self.assertAlmostEqual(told / (200 * np.pi * np.trapezoid(fades * np.sin(angle), angle)), 1.0, places=4)


class Keeping(unittest.TestCase):
    """Parts that did not change keep their light; what stands near a change is traced anew."""

    def setUp(self) -> None:
        posts = [trimesh.creation.box((0.4, 1.0, 0.4)) for _ in range(6)]
        for k, post in enumerate(posts):
            post.apply_translation((6.0 * k, 0.5, 0))
        self.scene = self.lit(scene_of([(post, 0) for post in posts], [GREY]))
        self.shop = Workshop(results=Remembered())

    def lit(self, scene: Scene) -> Scene:
        meshes = tuple(replace(m, uvs=(box_uv(m), box_uv(m))) for m in scene.meshes)
        return scene.but(
            meshes=meshes, nodes=replace(scene.nodes, lightmap=np.full((len(scene.nodes), 2), 24, np.int32))
        )

    def moved(self, k: int, x: float) -> Scene:
        local = self.scene.nodes.local.copy()
        local[k, 0, 3] += x
        return self.scene.but(nodes=replace(self.scene.nodes, local=local))

    def light(self, scene: Scene, **more: Any) -> Any:
        return bake(scene, 1, Ask(samples=2, each=2, bounces=2, **more), self.shop)

    def test_what_did_not_change_keeps_its_light_and_says_so(self) -> None:
        first = self.light(self.scene)
        self.assertEqual(first.before, [False] * 6)
        again = self.light(self.scene)
        self.assertEqual((again.before, again.rays), ([False] * 6, 0))
        one = self.light(self.moved(0, 0.3))
        self.assertEqual(one.before, [False] + [True] * 5)
        self.assertLess(one.rays, first.rays / 3)
        for k in range(1, 6):
            np.testing.assert_array_equal(one.light[k], first.light[k])
        self.assertTrue((one.light[0] != first.light[0]).any())
        # a neighbour within reach of a larger thing that came
        pillar = trimesh.creation.box((0.4, 9, 0.4))
        pillar.apply_translation((9.0, 4.5, 0))
        more = scene_of([(pillar, 0)], [GREY])
        scene = self.lit(with_more(self.scene, more))
        grown = self.light(scene)
        self.assertEqual(grown.before[:6], [False, False, False, False, True, True])

    def test_what_stood_near_a_change_is_not_kept_because_another_part_was_asked_for_in_between(self) -> None:
        self.light(self.scene)
        pillar = trimesh.creation.box((0.4, 9, 0.4))
        pillar.apply_translation((9.0, 4.5, 0))
        grown = self.lit(with_more(self.scene, scene_of([(pillar, 0)], [GREY])))
        last = np.array([n == "n5" for n in grown.nodes.names])
        self.assertEqual(self.light(grown, nodes=last, keep=False).before, [False])
        self.assertEqual(self.light(grown).before, [False] * 4 + [True, False, False])

    def test_chosen_parts_are_shown_among_the_light_that_others_have(self) -> None:
        """Pages are not black beside what is traced anew; what stands near to a change has no light until it is asked for."""
        whole = self.light(self.scene)
        second = np.array([n == "n1" for n in self.scene.nodes.names])
        one = bake(self.scene, 1, Ask(samples=8, each=4, bounces=2, nodes=second), self.shop)
        self.assertEqual([self.scene.nodes.names[s.node] for s in one.sheets], ["n1", "n0", "n2", "n3", "n4", "n5"])
        self.assertEqual((one.chosen, one.samples), (1, [8, 2, 2, 2, 2, 2]))
        self.assertLess(one.rays, whole.rays)
        for k in range(2, 6):
            np.testing.assert_array_equal(one.light[k], whole.light[k])
        look = look_at(
            self.scene, 1, BakeAsk(samples=8, bounces=2, divide=1, parts=[self.scene.identities.names[1]]), self.shop
        )
        self.assertEqual(
            (look.report.maps, look.report.beside, look.report.samples, len(look.report.parts)), (1, 5, 8, 1)
        )
        self.assertEqual(len(look.for_view()[0]), 6)
        pillar = trimesh.creation.box((0.4, 9, 0.4))
        pillar.apply_translation((9.0, 4.5, 0))
        grown = self.lit(with_more(self.scene, scene_of([(pillar, 0)], [GREY])))
        first = np.array([n == "n0" for n in grown.nodes.names[:6]] + [False])
        beside = bake(grown, 1, Ask(samples=2, each=2, bounces=2, nodes=first), self.shop)
        self.assertEqual([s.node for s in beside.sheets], [0, 4, 5])
        self.assertEqual(len(bake(grown, 1, Ask(samples=2, each=2, bounces=2, nodes=first), Workshop()).sheets), 1)

    def test_asked_for_anew_or_with_more_samples_nothing_is_kept(self) -> None:
        self.light(self.scene)
        changed = self.moved(0, 0.3)
        self.assertEqual(self.light(changed, keep=False).before, [False] * 6)
        self.light(self.scene)
        more = bake(changed, 1, Ask(samples=8, each=4, bounces=2), self.shop)
        self.assertEqual((more.before, more.samples), ([False] * 6, [8] * 6))

    def test_another_lamp_or_colour_leaves_no_light_from_before(self) -> None:
        self.light(self.scene)
        lamp = scene_of([], [], [(Light("point", intensity=9.0), at(2, 3, 1))])
        self.assertFalse(any(self.light(self.lit(with_more(self.scene, lamp))).before))
        self.light(self.scene)
        painted = self.scene.but(materials=(replace(GREY, base_color=(0.9, 0.1, 0.1, 1.0)),))
        # all stand near something that was painted: themselves
        self.assertFalse(any(self.light(painted).before))


def box_uv(mesh: Any) -> Any:
    """A set for a mesh: every triangle a cell of its own."""
    return np.random.default_rng(0).uniform(0.05, 0.95, (mesh.vertices, 2)).astype(np.float32)


def with_more(scene: Scene, more: Scene) -> Scene:
    """A scene with the parts and lights of another behind its own."""
    nodes, others = scene.nodes, more.nodes
    mesh = [*nodes.mesh.tolist(), *(i + len(scene.meshes) if i >= 0 else -1 for i in others.mesh.tolist())]
    light = [*nodes.light.tolist(), *(i + len(scene.lights) if i >= 0 else -1 for i in others.light.tolist())]
    local = np.concatenate([nodes.local, others.local])
    names = [f"n{k}" for k in range(len(mesh))]
    made = make_nodes([-1] * len(mesh), local, names, mesh=mesh, light=light)
    return scene.but(nodes=made, meshes=scene.meshes + more.meshes, lights=scene.lights + more.lights)


class Denoised(unittest.TestCase):
    def test_noise_goes_and_what_is_there_stays(self) -> None:
        rng = np.random.default_rng(4)
        truth = np.full((192, 192, 3), 200.0, np.float32)
        truth[:, 96:] = 20.0  # a shadow's edge
        truth *= (1 + 0.5 * np.linspace(0, 1, 192, dtype=np.float32))[:, None, None]
        noisy = (truth * rng.gamma(4.0, 0.25, truth.shape)).astype(np.float32)
        clean = denoised(noisy, Workshop())
        assert not isinstance(clean, str), clean
        before, after = np.abs(noisy / truth - 1).mean(), np.abs(clean / truth - 1)
        self.assertLess(after.mean(), before / 5)
        self.assertLess(after[:, 100:].mean(), before / 4)
        self.assertAlmostEqual(float(clean[:, :80].mean() / truth[:, :80].mean()), 1.0, delta=0.03)
        self.assertGreater(clean[:, 92].mean() / clean[:, 100].mean(), 6)

    def test_a_failure_leaves_the_light_and_is_told(self) -> None:
        class Lame(Workshop):
            def do(self, work: Any, pieces: Any, *more: Any, **named: Any) -> Any:
                return [Lost("it crashed")] if work is DENOISE else super().do(work, pieces, *more, **named)

        scene = hall()
        lit = scene.but(nodes=replace(scene.nodes, lightmap=scene.nodes.lightmap // 16))
        ask = BakeAsk(samples=1, divide=1, bounces=0, denoise=True)
        found, plain = (
            look_at(lit, 1, ask, Lame()),
            look_at(lit, 1, ask.model_copy(update={"denoise": False}), Workshop()),
        )
        self.assertIn("the noise could not be taken out (it crashed)", found.report.lost)
        np.testing.assert_array_equal(found.pages[0].light, plain.pages[0].light)
        clean = look_at(lit, 1, ask, Workshop())
        self.assertEqual(clean.report.lost, [])
        self.assertTrue((clean.pages[0].light != plain.pages[0].light).any())


class Texels(unittest.TestCase):
    def test_middles_lie_on_their_triangles_and_borders_are_covered(self) -> None:
        uv = np.float32([[0.1, 0.1], [0.8, 0.15], [0.3, 0.9]])
        faces = np.uint32([[0, 1, 2]])
        found = texels_of(uv, faces, 32, 16)
        spot = np.stack([found.index % 32 + 0.5, found.index // 32 + 0.5], axis=1)
        back = np.einsum("tk,tki->ti", found.bary, uv[faces[found.triangle]].astype(float) * [32, 16])
        off = np.linalg.norm(spot - back, axis=1)
        self.assertLess(off.max(), 0.76)
        self.assertTrue((found.bary > -1e-9).all() and np.allclose(found.bary.sum(axis=1), 1))
        area = 0.5 * abs(np.linalg.det(np.diff(uv.astype(float) * [32, 16], axis=0)))
        self.assertAlmostEqual(int((off < 1e-6).sum()), area, delta=6)
        self.assertTrue((np.diff(found.index) > 0).all())

    def test_light_is_carried_into_the_padding(self) -> None:
        image, there = np.zeros((9, 9, 3)), np.zeros((9, 9), bool)
        image[4, 4], there[4, 4] = [3, 2, 1], True
        out = dilated(image, there, 2)
        np.testing.assert_allclose(out[2, 6], [3, 2, 1])
        self.assertEqual(out[0, 0].max(), 0)


class Bakes(unittest.TestCase):
    def setUp(self) -> None:
        scene = hall()
        lamp = (Light("point", intensity=200.0), at(0, 2.5, 1.0))
        nodes = scene.nodes
        light = np.full(len(nodes) + 1, -1, np.int32)
        light[-1] = 0
        grown = make_nodes(
            [*nodes.parent.tolist(), -1], np.concatenate([nodes.local, lamp[1][None]]), [*nodes.names, "lamp"],
            mesh=[*nodes.mesh.tolist(), -1], light=light, lightmap=np.concatenate([nodes.lightmap // 8, [[0, 0]]]).astype(np.int32),
        )  # fmt: skip
        self.scene = scene.but(nodes=grown, lights=(lamp[0],), materials=(GREY,))

    def test_every_part_gets_light_and_more_samples_less_noise(self) -> None:
        few = bake(self.scene, 1, Ask(samples=4, each=4), Workshop())
        more = bake(self.scene, 1, Ask(samples=32, each=4), Workshop())
        self.assertEqual(len(few.sheets), 26)
        self.assertEqual((set(few.samples), set(more.samples), few.lost), ({4}, {32}, []))
        self.assertGreater(more.rays, 7 * few.rays)
        floor = next(k for k, s in enumerate(more.sheets) if self.scene.nodes.names[s.node] == "floor")
        self.assertLess(more.noise(floor, DAY), 0.5 * few.noise(floor, DAY))
        image, there = more.image(floor, DAY)
        self.assertEqual(image.shape[:2], tuple(self.scene.nodes.lightmap[more.sheets[floor].node][::-1]))
        self.assertGreater(there.mean(), 0.5)
        self.assertGreater(image[there].mean(), 1.0)

    def test_what_was_traced_is_not_traced_again(self) -> None:
        kept = Remembered()
        asked = [0]

        class Counting(Workshop):
            def do(self, work: Any, pieces: Any, *more: Any, **named: Any) -> Any:
                before = len(kept.made)
                out = super().do(work, pieces, *more, **named)
                asked[0] = len(kept.made) - before
                return out

        first = bake(self.scene, 1, Ask(samples=8, each=4), Counting(results=kept))
        self.assertEqual(asked[0], 2)
        again = bake(self.scene, 1, Ask(samples=8, each=4), Counting(results=kept))
        self.assertEqual(asked[0], 0)
        np.testing.assert_array_equal(first.light[0], again.light[0])
        bake(self.scene, 1, Ask(samples=16, each=4), Counting(results=kept))
        self.assertEqual(asked[0], 2)

    def test_chosen_parts_alone_and_a_smaller_first_look(self) -> None:
        chosen = np.array([n == "wall_1" for n in self.scene.nodes.names])
        one = bake(self.scene, 1, Ask(samples=2, each=2, nodes=chosen), Workshop())
        self.assertEqual([self.scene.nodes.names[s.node] for s in one.sheets], ["wall_1"])
        small = bake(self.scene, 1, Ask(samples=2, each=2, divide=2, nodes=chosen), Workshop())
        self.assertEqual(small.sheets[0].width * 2, one.sheets[0].width)

    def test_texels_that_look_into_a_wall_are_told(self) -> None:
        # a box pushed a little into another: the texels of its foot see the inside of the other
        box, block = trimesh.creation.box((1, 1, 1)), trimesh.creation.box((3, 3, 3))
        scene = scene_of([(box, 0), (block, 0)], [GREY])
        local = scene.nodes.local.copy()
        local[0, 1, 3] = 1.6
        uvs = [
            np.float32(m.positions[:, :2] * 0 + np.random.default_rng(0).uniform(0.1, 0.9, (m.vertices, 2)))
            for m in scene.meshes
        ]
        meshes = tuple(replace(m, uvs=(u, u)) for m, u in zip(scene.meshes, uvs, strict=True))
        nodes = replace(scene.nodes, local=local, lightmap=np.full((2, 2), 16, np.int32))
        found = bake(scene.but(nodes=nodes, meshes=meshes), 1, Ask(samples=8, each=8), Workshop())
        sheet = found.sheets[0]
        self.assertGreater(found.behind[0].max(), 0.9)
        self.assertTrue((found.behind[0][sheet.normals[:, 1] > 0.9] == 0).all())

    def test_parts_for_their_shadow_alone_throw_it_and_have_no_map(self) -> None:
        board = trimesh.creation.box((2, 0.1, 2), transform=at(0, 2, 0))
        scene = scene_of([(plane(5), 0), (board, 0)], [GREY], [(Light("directional", intensity=1e4), DOWN)])
        only = PartSet(id="s", name="S", rules=[Rule(names=["n1"])], treatment=Treatment(shadow_only=True))
        context = StepContext(BUILT_IN[0], assignment=Assignment(scene, [only]))
        lit, _ = LightmapUvs(resolution=64).apply(scene, context)
        report = look_at(lit, 1, BakeAsk(samples=4, divide=1, bounces=0), Workshop()).report
        self.assertEqual([p.name for p in report.parts], ["n0"])
        self.assertEqual(lux(lit, [0, 0, 0], 4, bounces=0).max(), 0)
        np.testing.assert_allclose(lux(lit, [4, 0, 0], 4, bounces=0), 1e4, rtol=1e-4)

    def test_what_is_taken_another_way_than_materials_say_is_told(self) -> None:
        glow = Material("screen", emissive=(1.0, 1.0, 1.0), emissive_texture=TextureUse(0))
        steel = Material("steel", metallic_roughness_texture=TextureUse(0))
        leaf = Material("leaf", alpha_mode="MASK", base_color_texture=TextureUse(1))
        scene = scene_of([(plane(), 0), (plane(), 1), (plane(), 2), (plane(), 3)], [GREY, glow, steel, leaf])
        scene = scene.but(
            textures=(Texture(0), Texture(1)), images=(Image(data=picture([[128]])), Image(data=b"no picture"))
        )
        told = " / ".join(unread(scene))
        self.assertIn("of what glows, the mean of its texture on each triangle (screen)", told)
        self.assertIn("how metallic a surface is, by the mean of its texture (steel)", told)
        self.assertIn("no texture, since the image is missing or cannot be read (leaf)", told)
        self.assertEqual(unread(scene_of([(plane(), 0)], [GREY])), [])

    def test_odd_numbers_give_no_light_and_are_told(self) -> None:
        nan = float("nan")
        glow = Material("glow", metallic=0.0, emissive=(nan, 1.0, 1.0), emissive_strength=1e9)
        wall = Material("wall", (-1.0, 0.5, nan, 1.0), metallic=0.0, base_color_texture=TextureUse(7))
        lamps = [
            (Light("point", name="lamp", intensity=nan), at(0, 2, 0)),
            (Light("spot", name="spot", intensity=-5.0), at(0, 2, 0)),
        ]
        box = trimesh.creation.box((1, 1, 1))
        scene = scene_of([(plane(5), 0), (box, 1), (box, 2)], [GREY, replace(glow, emissive_strength=nan), wall], lamps)
        meshes = tuple(replace(m, uvs=(box_uv(m), box_uv(m))) for m in scene.meshes)
        sizes = np.where(scene.nodes.mesh[:, None] >= 0, [[16, 16]], 0).astype(np.int32)
        lit = scene.but(meshes=meshes, nodes=replace(scene.nodes, lightmap=sizes))
        found = look_at(lit, 1, BakeAsk(samples=1, divide=1, bounces=1), Workshop())
        self.assertTrue(np.isfinite(found.pages[0].light).all())
        self.assertGreater(found.pages[0].light.max(), 0)
        told = " / ".join(found.report.unread)
        self.assertIn("negative or no number (lamp, spot, glow and 1 more)", told)
        self.assertIn("the image is missing or cannot be read (wall)", told)
        self.assertEqual((found.report.lamps_lumen, found.report.glow_lumen), (0, 0))

    def test_noise_of_equal_texels_is_none(self) -> None:
        mean = np.full((50, GROUPS, 3), 2.0)
        self.assertLess(noise_of(mean, np.full((50, GROUPS), 4.0), 8, DAY), 1e-6)


if __name__ == "__main__":
    unittest.main()
