"""Random scenes through every writer, read back by libraries that know nothing of ours, triangle by triangle."""

from __future__ import annotations

import re
import time
import unittest
from dataclasses import replace
from functools import lru_cache
from pathlib import Path
from tempfile import TemporaryDirectory
from threading import Event
from typing import Any
from unittest.mock import patch

import numpy as np
import trimesh
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.core.test_sides import scene_of
from tests.independent import independent, middles, same
from tests.support import read, trimesh_scene
from tidy_caravan.core.conventions.destinations import BUILT_IN, Destination
from tidy_caravan.core.errors import Cancelled, TooLarge
from tidy_caravan.core.figures import count
from tidy_caravan.core.formats import bundle_from_files, load, writable, write
from tidy_caravan.core.formats.registry import receive
from tidy_caravan.core.formats.shared.pace import aside
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.scene import HIDDEN, Scene, make_nodes
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

    def test_a_shared_part_with_others_below_it_keeps_its_surface(self) -> None:
        """Also where another program moved or hid the prim that holds it, which is then one of its own."""
        scene = read(trimesh_scene(3, 1, 1.0, False).export(file_type="glb"))
        part = int(scene.nodes.parts[0])
        nodes = make_nodes(
            [-1, 0, 0, 1], np.tile(np.eye(4), (4, 1, 1)), ["top", "post", "other", "arm"],
            mesh=np.array([-1, scene.nodes.mesh[part], scene.nodes.mesh[part], -1]),
        )  # fmt: skip
        scene = scene.but(nodes=nodes, identity=None)
        for kind in ("usda", "usdc", "usdz"):
            back = read(dict(write(scene, kind, "scene").files))
            self.assertEqual([back.nodes.names[i] for i in back.nodes.parts], ["post", "other"], kind)
        text = write(scene, "usda", "scene").files["scene.usda"].decode()
        own = re.search(r'def Xform "mesh" \(.*?\)\s*\{', text, re.S)
        assert own is not None
        for more, x, flags in (
            ('double3 xformOp:translate = (5, 0, 0)\nuniform token[] xformOpOrder = ["xformOp:translate"]', 5, 0),
            ('token visibility = "invisible"', 0, HIDDEN),
        ):
            edited = text[: own.end()] + "\n" + more + text[own.end() :]
            back = read(edited.encode(), "scene.usda")
            own_part = next(i for i in back.nodes.parts.tolist() if back.nodes.names[i] != "other")
            self.assertEqual(len(back.nodes.parts), 2)
            self.assertEqual((back.nodes.world[own_part, 0, 3], back.nodes.flags[own_part] & HIDDEN), (x, flags), more)

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


class Stopped(unittest.TestCase):
    """Writers and receivers tell how far they are, and end where whoever listens wants them to."""

    def test_every_writer_and_receiver(self) -> None:
        scene, to = read(authored(5, 700, True)[1]), BUILT_IN[0]
        with TemporaryDirectory() as folder:
            for kind in writable():
                heard: list[tuple[int, int]] = []
                save(dict(write(scene, kind, "x", tell=lambda *how, told=heard: told.append(how)).files), Path(folder))  # type: ignore[misc]
                self.assertGreater(len(heard), 2, kind)
                self.assertGreater(max(done / total for done, total in heard if total), 0.5, kind)
                with self.assertRaisesRegex(Cancelled, "^2$", msg=kind):
                    write(scene, kind, "x", tell=Listener(2, Cancelled))
                if kind == "ply":  # one call of a library, and over before anybody asks
                    continue
                for why in (Cancelled, ConnectionError):  # what ends a job is not taken for a fault of the file
                    with self.assertRaisesRegex(why, "^2$", msg=kind):
                        receive(Path(folder) / f"x.{kind}", to, kind, Listener(2, why))  # type: ignore[arg-type]

    def test_nobody_waits_for_a_library_that_was_told_to_stop(self) -> None:
        free = Event()
        began = time.monotonic()
        with self.assertRaises(Cancelled):
            aside(lambda _: free.wait(30), Listener(2, Cancelled))
        self.assertLess(time.monotonic() - began, 10)
        free.set()
        self.assertEqual(aside(lambda _: 7, Listener(1, Cancelled)), 7)
        with self.assertRaises(ZeroDivisionError):
            aside(lambda _: 1 // 0, Listener(1, Cancelled))

    def test_every_reader(self) -> None:
        scene = read(authored(5, 700, True)[1])
        with patch("tidy_caravan.core.formats.shared.pace.PATIENCE", 0.001):
            for kind in sorted({*writable()} - {"glb", "gltf", "ply"}):  # these are over before anybody asks
                bundle = bundle_from_files(dict(write(scene, kind, "x").files))
                heard: list[tuple[Any, ...]] = []
                whole = load(replace(bundle, tell=lambda *facts, told=heard: told.append(facts)))  # type: ignore[misc]
                self.assertEqual(len(whole.nodes.parts), 700, kind)
                self.assertGreater(len(heard), 0, kind)
                with self.assertRaisesRegex(Cancelled, "^1$", msg=kind):
                    load(replace(bundle, tell=Listener(1, Cancelled)))

    def test_what_goes_on_by_itself_ends_at_its_next_word(self) -> None:
        ended = Event()

        def endless(say: Any) -> None:
            try:
                while True:
                    say("reading", 1, 2)
            finally:
                ended.set()

        heard = Listener(2, Cancelled)
        with self.assertRaises(Cancelled):
            aside(endless, heard)
        self.assertTrue(ended.wait(10))
        self.assertEqual(heard.told, ("reading", 1, 2))


class Crowds(unittest.TestCase):
    def test_formats_that_hold_each_copy_anew_refuse_what_would_fill_the_memory(self) -> None:
        ball = trimesh.creation.icosphere(5)
        many = np.full(3000, 1)
        scene = scene_of({"ball": (ball, np.eye(4))})
        nodes = make_nodes(np.full(len(many), -1), np.tile(np.eye(4), (len(many), 1, 1)), ["ball"] * len(many), mesh=many - 1)  # fmt: skip
        crowd = scene.but(nodes=nodes)
        for kind in ("obj", "ply", "stl"):
            with self.assertRaisesRegex(
                TooLarge, r"61 440 000 triangles come to about [\d.]+ GB.*such as GLB"
            ) as refused:
                write(crowd, kind, "x")
            self.assertEqual(refused.exception.code, "package.too-large")
            # what it says of the size is so, give or take what digits make of it
            told = float(re.findall(r"about ([\d.]+) GB", str(refused.exception))[0]) * 1e9 / len(many)
            self.assertLess(abs(np.log(told / len(write(scene, kind, "x").files[f"x.{kind}"]))), np.log(1.6), kind)
        self.assertLess(len(write(crowd, "glb", "x").files["x.glb"]), 2e6)


class Listener:
    """Raises at the call of a number, with that number."""

    def __init__(self, last: int, why: type[Exception]) -> None:
        self.calls, self.last, self.why = 0, last, why
        self.told: tuple[Any, ...] = ()

    def __call__(self, *told: Any) -> None:
        self.calls += 1
        self.told = told
        if self.calls >= self.last:
            raise self.why(str(self.calls))
