"""Random scenes through every writer, read back by libraries that know nothing of ours, triangle by triangle."""

from __future__ import annotations

import unittest
from functools import lru_cache

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.independent import independent, middles, same
from tests.support import read, trimesh_scene
from tidy_caravan.core.conventions.destinations import BUILT_IN, Destination
from tidy_caravan.core.figures import count
from tidy_caravan.core.formats import writable, write
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.steps import StepContext, parse_step

SPAN = 50.0
TOLERANCE = 1e-4
"""Metres: what float32 leaves of a point 50 m from the origin, and the six decimals of the text formats."""


@lru_cache(maxsize=4)
def authored(seed: int, parts: int, odd: bool) -> tuple[F64, bytes]:
    """Middles of all triangles as trimesh sees them, and the file it wrote."""
    scene = trimesh_scene(seed, parts, SPAN, odd)
    return middles(scene.to_geometry()), scene.export(file_type="glb")


def brought_to(scene: Scene, to: Destination) -> Scene:
    out, _ = parse_step({"kind": "match_units_axes"}).apply(scene, StepContext(to))
    return out


class Random(unittest.TestCase):
    """Property: whatever the tree, every triangle is where its author put it."""

    def check(self, kind: str, seed: int, parts: int, odd: bool) -> None:
        known, data = authored(seed, parts, odd)
        written = write(read(data), kind, "scene")
        self.assertTrue(same(independent(dict(written.files), kind), known, TOLERANCE), f"{kind} {seed} {parts} {odd}")

    @settings(max_examples=12, deadline=None, suppress_health_check=list(HealthCheck))
    @given(st.integers(0, 10_000), st.integers(1, 40), st.booleans())
    def test_text_and_binary_formats(self, seed: int, parts: int, odd: bool) -> None:
        for kind in ("glb", "gltf", "obj", "ply", "stl", "dae"):
            self.check(kind, seed, parts, odd)

    @settings(max_examples=3, deadline=None, suppress_health_check=list(HealthCheck))
    @given(st.integers(0, 10_000), st.integers(1, 40), st.booleans())
    def test_usd(self, seed: int, parts: int, odd: bool) -> None:
        for kind in ("usda", "usdc", "usdz"):
            self.check(kind, seed, parts, odd)

    def test_every_written_format_is_among_them(self) -> None:
        self.assertEqual(
            set(writable()), {"glb", "gltf", "obj", "ply", "stl", "dae", "usda", "usdc", "usdz"}
        )  # a new one wants an independent reader above

    @settings(max_examples=8, deadline=None, suppress_health_check=list(HealthCheck))
    @given(st.integers(0, 10_000), st.sampled_from(BUILT_IN), st.sampled_from(["glb", "obj", "stl"]))
    def test_in_the_numbers_of_a_destination(self, seed: int, to: Destination, kind: str) -> None:
        """Known by the map of the axes written out: column = where a unit along X, Y, Z of the source ends."""
        known, data = authored(seed, 10, False)
        scene = brought_to(read(data), to)
        got = independent(dict(write(scene, kind, "scene").files), kind)
        metres = to.world.metres_per_unit
        basis = {"X": 0, "Y": 1, "Z": 2}
        up, ahead = np.zeros(3), np.zeros(3)
        up[basis[to.world.up[-1]]] = -1.0 if to.world.up.startswith("-") else 1.0
        ahead[basis[to.world.forward[-1]]] = -1.0 if to.world.forward.startswith("-") else 1.0
        side = np.cross(ahead, up) if to.world.handedness == "right" else np.cross(up, ahead)
        # a camera of the source looks along -Z with X on its right
        expected = (known[:, [1]] * up - known[:, [2]] * ahead + known[:, [0]] * side) / metres
        self.assertTrue(same(got, expected, TOLERANCE / metres), f"{to.name} {kind} {seed}")


class Own(unittest.TestCase):
    """Our own readers on what we wrote: what no independent reader tells."""

    def test_sharing_and_tree_survive_where_the_format_can_hold_them(self) -> None:
        scene = read(authored(7, 30, False)[1])
        before = count(scene)
        for kind in ("glb", "gltf", "dae", "usda", "usdc", "usdz"):
            with self.subTest(kind=kind):
                back = read(dict(write(scene, kind, "scene").files))
                after = count(back)
                self.assertEqual(
                    (after.parts, after.unique_meshes, after.triangles),
                    (before.parts, before.unique_meshes, before.triangles),
                )
                for part in scene.nodes.parts.tolist():
                    name = scene.nodes.names[part]
                    own = [i for i in back.nodes.parts.tolist() if plain(back.nodes.names[i]) == plain(name)]
                    self.assertEqual(len(own), 1, name)
                    parent = back.nodes.parent[own[0]]
                    self.assertEqual(
                        plain(back.nodes.names[parent]), plain(scene.nodes.names[scene.nodes.parent[part]])
                    )

    def test_writing_what_was_read_again_changes_nothing_more(self) -> None:
        """The first writing may tidy names; the second must find nothing left to tidy."""
        scene = read(authored(8, 12, True)[1])
        for kind in sorted(writable()):
            with self.subTest(kind=kind):
                once = read(dict(write(scene, kind, "scene").files))
                twice = read(dict(write(once, kind, "scene").files))
                self.assertEqual(once.nodes.names, twice.nodes.names)
                np.testing.assert_allclose(once.nodes.world, twice.nodes.world, atol=1e-9)
                self.assertEqual(count(once), count(twice))


def plain(name: str) -> str:
    """Formats differ in the characters they allow; letters and figures are the same in all."""
    return "".join(c for c in name if c.isalnum())


if __name__ == "__main__":
    unittest.main()
