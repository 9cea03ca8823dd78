"""The travel list: every line against what the scene holds, from reading through the switches to the manifest."""

from __future__ import annotations

import unittest
from dataclasses import replace
from functools import lru_cache
from typing import Any

import numpy as np

from tests.support import PNG, TRIANGLE, one_triangle, read, sent
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.figures import count
from tidy_caravan.core.formats import bundles_from_files
from tidy_caravan.core.formats.merge import load_all
from tidy_caravan.core.formats.shared.travel import Travels, with_supplied
from tidy_caravan.core.manifest import Manifest
from tidy_caravan.core.route import Route
from tidy_caravan.core.scene import HIDDEN, Scene
from tidy_caravan.core.survey import survey
from tidy_caravan.core.words import counted
from tidy_caravan.demo.three_trades import three_trades_files


@lru_cache(maxsize=1)
def trades() -> Scene:
    return load_all(bundles_from_files(three_trades_files()))


def lines(scene: Scene, verdict: str) -> dict[str, int]:
    out: dict[str, int] = {}
    for t in scene.travel:
        if t.verdict == verdict:
            out[t.kind] = out.get(t.kind, 0) + t.count
    return out


def carried(scene: Scene, *steps: dict[str, Any]) -> Manifest:
    package, _ = sent(scene, "scene", "0" * 64, BUILT_IN[0], Route(steps=list(steps)), "glb")
    return Manifest.model_validate_json(package.files["manifest.json"])


def lit() -> Scene:
    """A part, a switched-off part, two lights, a camera, an empty that leads to nothing."""
    g = one_triangle()
    g.node(mesh=0, name="off")
    g.json["extensionsUsed"] = ["KHR_lights_punctual"]
    g.json["extensions"] = {"KHR_lights_punctual": {"lights": [{"type": "point"}, {"type": "directional"}]}}
    for k in range(2):
        g.node(name=f"lamp {k}", extensions={"KHR_lights_punctual": {"light": k}})
    g.json["cameras"] = [{"type": "perspective", "perspective": {"yfov": 1.0, "znear": 0.1}}]
    g.node(camera=0, name="view from the quay")
    g.node(name="nothing")
    g.json["scenes"] = [{"nodes": list(range(6))}]
    scene = g.scene()
    flags = scene.nodes.flags.copy()
    flags[1] |= HIDDEN
    return Travels().onto(scene.but(nodes=replace(scene.nodes, flags=flags)))


class Lines(unittest.TestCase):
    def test_figures_are_those_of_the_scene(self) -> None:
        scene = trades()
        travels, figures = lines(scene, "travels"), count(scene)
        hidden = int(((scene.nodes.flags[scene.nodes.parts] & HIDDEN) > 0).sum())
        self.assertEqual(travels["mesh parts"] + hidden, len(scene.nodes.parts))
        self.assertEqual(travels["shared meshes"], len(np.unique(scene.nodes.mesh[scene.nodes.parts])))
        self.assertEqual(travels["materials"], figures.materials)
        self.assertEqual(travels["layers"], len(scene.layers))
        self.assertEqual(travels.get("lights", 0), figures.lights)

    def test_every_line_says_what_its_fate_needs(self) -> None:
        for t in trades().travel:
            with self.subTest(line=t):
                self.assertGreater(t.count, 0)
                self.assertEqual(bool(t.into), t.verdict == "converted")
                self.assertEqual(bool(t.why), t.verdict == "behind")

    def test_fates_stand_in_order_and_no_line_twice(self) -> None:
        travel = trades().travel
        rank = [("travels", "converted", "behind").index(t.verdict) for t in travel]
        self.assertEqual(rank, sorted(rank))
        keys = [(t.kind, t.verdict, t.into, t.tolerance, t.why) for t in travel]
        self.assertEqual(len(keys), len(set(keys)))

    def test_what_was_no_mesh_is_converted_with_a_tolerance(self) -> None:
        scene = trades()
        recipes = [m.recipe for m in scene.meshes if m.recipe is not None]
        told = [t for t in scene.travel if t.verdict == "converted" and t.tolerance]
        self.assertGreaterEqual(sum(t.count for t in told), len(recipes))
        self.assertTrue(all("mm" in t.tolerance or "level" in t.tolerance for t in told), told)

    def test_pictures_move_from_behind_to_travelling_when_supplied(self) -> None:
        g = one_triangle()
        g.json |= {"images": [{"uri": "paint.png"}], "textures": [{"source": 0}]}
        g.json["materials"] = [{"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}}]
        g.json["meshes"][0]["primitives"][0]["material"] = 0
        scene = read(g.glb())
        self.assertEqual(lines(scene, "behind"), {"images": 1})
        self.assertNotIn("images", lines(scene, "travels"))
        supplied = with_supplied(read({"a.glb": g.glb(), "paint.png": PNG}))
        self.assertEqual(lines(supplied, "travels")["images"], 1)
        self.assertNotIn("images", lines(supplied, "behind"))

    def test_points_and_lines_stay_behind(self) -> None:
        g = one_triangle()
        g.node(mesh=g.mesh(TRIANGLE, [0, 1, 2]), name="lines")
        g.json["meshes"][1]["primitives"][0]["mode"] = 1
        behind = lines(read(g.glb()), "behind")
        self.assertEqual(behind["points and lines"], 1)


class Switches(unittest.TestCase):
    def kinds(self, **switches: Any) -> tuple[int, int, int, int, list[str]]:
        """(parts, lights, cameras, nodes, names dropped) of a package made with these switches."""
        scene = lit()
        manifest = carried(scene, {"kind": "what_travels", **switches})
        kept = [i for i in range(len(scene.nodes)) if i not in manifest.dropped]
        nodes = scene.nodes
        return (
            len(manifest.parts),
            int((nodes.light[kept] >= 0).sum()),
            int((nodes.camera[kept] >= 0).sum()),
            len(kept),
            sorted(nodes.names[i] for i in manifest.dropped),
        )

    def test_each_kind_has_one(self) -> None:
        self.assertEqual(self.kinds(), (1, 2, 1, 4, ["nothing", "off"]))
        self.assertEqual(self.kinds(hidden=True)[0], 2)
        self.assertEqual(self.kinds(helpers=True)[4], ["off"])
        self.assertEqual(self.kinds(lights=False)[1], 0)
        self.assertEqual(self.kinds(cameras=False)[2], 0)
        self.assertEqual(self.kinds(hidden=True, helpers=True), (2, 2, 1, 6, []))

    def test_the_manifest_has_the_list(self) -> None:
        scene = lit()
        manifest = carried(scene, {"kind": "what_travels"})
        told = {(t.kind, t.verdict, t.count) for t in manifest.travel}
        self.assertLessEqual(
            {("lights", "travels", 2), ("cameras", "travels", 1), ("switched-off parts", "behind", 1)}, told
        )


if __name__ == "__main__":
    unittest.main()


class Nothing(unittest.TestCase):
    """A scene that would look empty is told; one that has a single triangle is not."""

    def test_without_surfaces(self) -> None:
        g = one_triangle()
        g.json["meshes"][0]["primitives"][0]["mode"] = 0
        scene = g.scene()
        told = {f.code: f.text for f in survey(scene, BUILT_IN[0])}
        self.assertEqual(
            told["travel.nothing"], "Nothing of this scene would be seen where it goes: it has no surfaces."
        )
        lamp = lit().but(meshes=(), nodes=replace(lit().nodes, mesh=np.full(len(lit().nodes), -1, np.int32)))
        found = next(f for f in survey(lamp, BUILT_IN[0]) if f.code == "travel.nothing")
        self.assertEqual(found.severity, "info", "lights may come by themselves")
        self.assertEqual(told["travel.behind"], "1 point or line: only surfaces travel.")

    def test_with_all_switched_off(self) -> None:
        scene = one_triangle().scene()
        self.assertNotIn("travel.nothing", {f.code for f in survey(scene, BUILT_IN[0])})
        off = scene.but(nodes=replace(scene.nodes, flags=scene.nodes.flags | HIDDEN))
        found = next(f for f in survey(off, BUILT_IN[0]) if f.code == "travel.nothing")
        self.assertIn("switched off", found.text)
        self.assertEqual(found.parts, [0])

    def test_one_of_a_kind_is_said_in_the_singular(self) -> None:
        for kind, one in (
            ("points and lines", "point or line"),
            ("variants that are not selected", "variant that is not selected"), ("surfaces that are lights", "surface that is a light"),
            ("prims of purpose proxy", "prim of purpose proxy"),
            ("meshes without a stated scheme", "mesh without a stated scheme"),
            ("skinned and morphed surfaces", "skinned or morphed surface"),
            ("solids, sweeps and mapped representations", "solid, sweep or mapped representation"),
            ("scattered copies", "scattered copy"), ("vertex colours", "vertex colour"),
        ):  # fmt: skip
            self.assertEqual((counted(1, kind), counted(2, kind)), (f"1 {one}", f"2 {kind}"))
