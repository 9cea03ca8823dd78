"""Rules, sets and treatments; what travels and what stays behind."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

import numpy as np

from tests.support import CUBE, TRIANGLE, Gltf, sent
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.errors import BadRoute
from tidy_caravan.core.geometry.animation import cropped, posed, slerp, value_at
from tidy_caravan.core.route import Route, parse_route, run
from tidy_caravan.core.scene import HIDDEN, NO_LIGHTMAP, Channel, Clip, Mesh, Scene, make_nodes
from tidy_caravan.core.selection import Assignment, Box, PartSet, Rule, Treatment, figures_of, heavy_meshes
from tidy_caravan.core.steps import StepContext
from tidy_caravan.core.steps.base import Where
from tidy_caravan.core.steps.texture_coordinates import LightmapUvs
from tidy_caravan.core.steps.what_travels import WhatTravels
from tidy_caravan.core.survey import survey
from tidy_caravan.core.survey.context import Context
from tidy_caravan.core.survey.travel import heavy_meshes_found
from tidy_caravan.demo.ferry_landing import landing
from tidy_caravan.demo.load import sets as demo_sets

FACES = [0, 1, 3, 0, 3, 2, 4, 7, 5, 4, 6, 7, 0, 4, 5, 0, 5, 1, 2, 3, 7, 2, 7, 6, 0, 2, 6, 0, 6, 4, 1, 5, 7, 1, 7, 3]


def station() -> Scene:
    """Two benches of one mesh, a lamp with a light, a door with data, an empty, on two layers."""
    g = Gltf()
    wood = g.put("materials", {"name": "larch"})
    cube, tri = g.mesh(CUBE, FACES), g.mesh(TRIANGLE, [0, 1, 2])
    g.json["meshes"][cube]["primitives"][0]["material"] = wood
    g.node(name="hall", children=[1, 2, 3, 4])
    g.node(name="Bench_1", mesh=cube)
    g.node(name="bench_2", mesh=cube, translation=[10, 0, 0], scale=[3, 3, 3])
    g.node(name="door", mesh=tri, translation=[0, 5, 0], extras={"ifc": {"class": "IfcDoor", "type": "D-01"}})
    g.node(name="marker")
    scene = g.scene()
    layer = np.array([-1, 0, 0, 1, -1], np.int32)
    return scene.but(layers=("furniture", "Level 1"), nodes=replace(scene.nodes, layer=layer))


class Rules(unittest.TestCase):
    def chosen(self, rule: Rule) -> list[str]:
        scene = station()
        return [scene.nodes.names[i] for i in np.flatnonzero(rule.select(scene))]

    def test_every_condition_by_itself(self) -> None:
        cases: list[tuple[dict[str, Any], list[str]]] = [
            ({"names": ["bench_?"]}, ["Bench_1", "bench_2"]),
            ({"paths": ["hall/b*"]}, ["Bench_1", "bench_2"]),
            ({"layers": ["level*"]}, ["door"]),
            ({"types": ["IfcDoor"]}, ["door"]),
            ({"types": ["d-01"]}, ["door"]),
            ({"materials": ["larch"]}, ["Bench_1", "bench_2"]),
            ({"kinds": ["helper"]}, ["marker"]),
            ({"kinds": ["instanced"]}, ["Bench_1", "bench_2"]),
            ({"kinds": ["unique"]}, ["door"]),
            ({"leastTriangles": 2}, ["Bench_1", "bench_2"]),
            ({"mostTriangles": 1}, ["door"]),
            ({"leastSize": 2.0}, ["bench_2"]),
            ({"mostSize": 1.0}, ["Bench_1", "door"]),
            ({"mostInstances": 1}, ["door"]),
            ({"inside": {"min": [9, -1, -1], "max": [14, 4, 4]}}, ["bench_2"]),
            ({"parts": [station().identities.names[3]]}, ["door"]),
        ]
        for data, names in cases:
            with self.subTest(data):
                self.assertEqual(self.chosen(Rule.model_validate(data)), names)

    def test_conditions_hold_together_and_an_empty_rule_is_everything(self) -> None:
        self.assertEqual(self.chosen(Rule(names=["bench_*"], least_size=2.0)), ["bench_2"])
        self.assertEqual(len(self.chosen(Rule())), 5)

    def test_a_box_takes_middles_or_only_whole_parts(self) -> None:
        box = {"min": (9.0, 0.0, 0.0), "max": (12.0, 3.0, 3.0)}
        self.assertEqual(self.chosen(Rule(inside=Box(**box))), ["bench_2"])
        self.assertEqual(self.chosen(Rule(inside=Box(**box, whole=True))), [])

    def test_boxes_are_in_metres_and_y_up_whatever_the_scene(self) -> None:
        from tidy_caravan.core.space.convert import convert

        other = convert(station(), BUILT_IN[2].world.convention())
        rule = Rule(inside=Box(min=(9, -1, -1), max=(14, 4, 4)))
        self.assertEqual([other.nodes.names[i] for i in np.flatnonzero(rule.select(other))], ["bench_2"])

    def test_heavy_is_far_above_the_rest(self) -> None:
        scene = landing()
        heavy = [m.name for m, h in zip(scene.meshes, heavy_meshes(scene), strict=True) if h]
        self.assertEqual(heavy, [], "the demo's hull stays below the least number of triangles")
        self.assertEqual(heavy_meshes(station()), [False, False])

    def test_a_tree_beside_one_wall_is_heavy_and_two_million_triangles_are_by_themselves(self) -> None:
        """The tree of two million triangles must not be unwrapped, whatever stands beside it."""

        def made(*triangles: int) -> Scene:
            corners = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
            meshes = tuple(
                Mesh(corners, np.zeros((n, 3), np.uint32) + np.arange(3, dtype=np.uint32), np.zeros(n, np.int32))
                for n in triangles
            )
            places = np.tile(np.eye(4), (len(meshes), 1, 1))
            rows = make_nodes([-1] * len(meshes), places, list("abcd")[: len(meshes)], mesh=range(len(meshes)))
            return Scene(station().convention, rows, meshes)

        def heavy(*triangles: int) -> list[bool]:
            return heavy_meshes(made(*triangles))

        def told(*triangles: int) -> tuple[str, float | None]:
            scene = made(*triangles)
            (found,) = [f for f in heavy_meshes_found(Context(scene, BUILT_IN[0])) if f.code == "travel.heavy"]
            return found.text, found.limit

        self.assertEqual(heavy(12, 30_000), [False, True])
        self.assertEqual(heavy(12, 19_999), [False, False])
        self.assertEqual(heavy(30_000, 30_000), [False, False])
        self.assertEqual(heavy(1_999_999), [False])
        self.assertEqual(heavy(2_000_000), [True])
        self.assertEqual(heavy(1_000_000, 1_000_000, 1_000_000, 2_000_000), [False, False, False, True])
        text, limit = told(12, 30_000)
        self.assertIn("up to 30 000 triangles where half of all have 12 or fewer", text)
        self.assertEqual(limit, 12)
        text, limit = told(2_000_000)
        self.assertIn("1 mesh is heavy, up to 2 000 000 triangles. Proposed", text)
        self.assertEqual(limit, 2_000_000)

    def test_names_and_parts_of_a_step_add_up_and_sets_narrow(self) -> None:
        scene = station()
        where = Where(names=["door"], parts=[scene.identities.names[1]])
        self.assertEqual(np.flatnonzero(where.select(scene)).tolist(), [1, 3])
        sets = [PartSet(id="a", name="Furniture", rules=[Rule(layers=["furniture"])])]
        context = StepContext(assignment=Assignment(scene, sets))
        self.assertEqual(np.flatnonzero(context.selected(Where(sets=["Furniture"]), scene)).tolist(), [1, 2])


class Sets(unittest.TestCase):
    def sets(self) -> list[PartSet]:
        names = station().identities.names
        return [
            PartSet(id="big", name="Big", rules=[Rule(least_size=2.0)], treatment=Treatment(shadow_only=True)),
            PartSet(
                id="benches", name="Benches", rules=[Rule(names=["bench_*"])], added=names[3:4], removed=names[1:2]
            ),
        ]

    def test_by_rule_and_by_hand_and_the_first_wins(self) -> None:
        scene = station()
        big, benches = self.sets()
        self.assertEqual(np.flatnonzero(benches.select(scene)).tolist(), [2, 3])
        winner = Assignment(scene, [big, benches]).of(scene).tolist()
        self.assertEqual(winner, [-1, -1, 0, 1, -1])
        first, second = figures_of(scene, [big, benches])
        self.assertEqual((first.parts, first.triangles, first.meshes, first.taken), (1, 12, 1, 0))
        self.assertEqual((second.parts, second.triangles, second.taken), (2, 13, 1))

    def test_a_set_of_empty_rules_holds_nothing(self) -> None:
        self.assertFalse(PartSet(id="x", name="x", rules=[Rule()]).select(station()).any())

    def test_they_survive_renaming_and_are_written_down(self) -> None:
        scene, to = station(), BUILT_IN[0]
        route = Route(steps=[{"kind": "tidy_names"}, {"kind": "match_units_axes"}], sets=self.sets())
        package, _ = sent(scene, "a.glb", "0" * 64, to, route, "glb")
        by_path = {p.source_path: p for p in package.manifest.parts}
        self.assertEqual(by_path["hall/bench_2"].set, "Big")
        treatment = by_path["hall/bench_2"].treatment
        assert treatment is not None
        self.assertTrue(treatment.shadow_only)
        self.assertEqual(by_path["hall/Bench_1"].set, "")
        self.assertEqual([s.name for s in package.manifest.sets], ["Big", "Benches"])
        self.assertEqual(by_path["hall/door"].data, {"class": "IfcDoor", "type": "D-01"})

    def test_routes_take_sets_as_json_and_say_what_is_wrong(self) -> None:
        text = {
            "steps": [],
            "sets": [{"id": "a", "name": "A", "rules": [{"names": ["x*"]}], "treatment": {"leaveOut": True}}],
        }
        self.assertTrue(parse_route(text).sets[0].treatment.leave_out)
        for bad in (
            {"steps": [], "sets": [{"id": "a"}]},
            {"steps": [], "sets": [{"id": "a", "name": "A", "rules": [{"leastTriangles": -1}]}]},
            {"steps": [], "sets": [{"id": "a", "name": "A", "rules": [{"colour": "red"}]}]},
            {"steps": [], "rules": []},
        ):
            with self.subTest(bad), self.assertRaises(BadRoute) as caught:
                parse_route(bad)
            self.assertIn("route", caught.exception.sentence())


class Treatments(unittest.TestCase):
    def test_what_a_set_spares_is_not_unwrapped_and_not_missed(self) -> None:
        scene, to = station(), BUILT_IN[0]
        sets = [PartSet(id="d", name="Doors", rules=[Rule(types=["IfcDoor"])], treatment=Treatment(may_move=True))]
        out, _ = run(scene, Route(steps=[{"kind": "lightmap_uvs", "resolution": 64}], sets=sets), to)
        uvs = {out.nodes.names[i]: len(out.meshes[out.nodes.mesh[i]].uvs) for i in out.nodes.parts}
        self.assertEqual(uvs, {"Bench_1": 2, "bench_2": 2, "door": 0})
        self.assertTrue(out.nodes.flags[3] & NO_LIGHTMAP)
        self.assertNotIn("uv.second-missing", {f.code for f in survey(out, to)})

    def test_sharing_is_kept_when_one_user_of_a_mesh_is_spared(self) -> None:
        scene = station()
        sets = [
            PartSet(id="b", name="One bench", rules=[Rule(names=["bench_2"])], treatment=Treatment(lightmapped=False))
        ]
        out, _ = run(scene, Route(steps=[{"kind": "lightmap_uvs", "resolution": 64}], sets=sets), BUILT_IN[0])
        self.assertEqual(out.nodes.mesh[1], out.nodes.mesh[2])

    def test_heavy_stand_ins_are_left_unless_asked_for(self) -> None:
        scene = landing()
        hull = next(i for i, m in enumerate(scene.meshes) if m.name == "ferry hull")
        rich = scene.meshes[hull]
        many = replace(rich, indices=np.tile(rich.indices, (3, 1)), material=np.tile(rich.material, 3))
        small = [m for i, m in enumerate(scene.meshes) if i != hull][:4]
        local = np.tile(np.eye(4), (5, 1, 1))

        scene = Scene(
            scene.convention, make_nodes([-1] * 5, local, ["hull", "a", "b", "c", "d"], mesh=range(5)), (many, *small)
        )
        self.assertEqual(heavy_meshes(scene)[0], True)
        context = StepContext(BUILT_IN[0])
        rows, _, changes = LightmapUvs()._rows(scene, context)
        self.assertEqual(rows.tolist(), [1, 2, 3, 4])
        self.assertIn("heavy", changes[0].text)
        self.assertEqual(LightmapUvs(heavy=True)._rows(scene, context)[0].tolist(), [0, 1, 2, 3, 4])
        asked = [PartSet(id="h", name="Hull", rules=[Rule(names=["hull"])])]
        context = StepContext(BUILT_IN[0], assignment=Assignment(scene, asked))
        self.assertEqual(LightmapUvs()._rows(scene, context)[0].tolist(), [0, 1, 2, 3, 4])
        mend = next(f.mend for f in survey(scene, BUILT_IN[0]) if f.code == "travel.heavy")
        assert mend is not None
        self.assertEqual(
            PartSet.model_validate({"id": "p", **{k: v for k, v in mend.items() if k != "kind"}}).treatment.heavy, True
        )

    def test_the_demos_sets_hold_what_they_say(self) -> None:
        self.assertEqual([s.name for s in demo_sets()], ["Doors", "Strewn shingle", "Gallery"])


def moving() -> Scene:
    g = Gltf()
    g.node(name="leaf", mesh=g.mesh(TRIANGLE, [0, 1, 2]))
    times = g.accessor(np.array([[0], [1], [2]], np.float32), min=[0], max=[2])
    turns = g.accessor(np.array([[0, 0, 0, 1], [0, 0.70710678, 0, 0.70710678], [0, 1, 0, 0]], np.float32))
    g.put(
        "animations",
        {
            "channels": [{"sampler": 0, "target": {"node": 0, "path": "rotation"}}],
            "samplers": [{"input": times, "output": turns}],
        },
    )
    return g.scene()


class Travelling(unittest.TestCase):
    def test_hidden_parts_and_helpers_stay_behind_unless_asked_for(self) -> None:
        scene = station()
        flags = scene.nodes.flags.copy()
        flags[2] = HIDDEN
        scene = scene.but(nodes=replace(scene.nodes, flags=flags))
        out, changes = WhatTravels().apply(scene, StepContext())
        self.assertEqual(out.nodes.names, ("hall", "Bench_1", "door"))
        self.assertEqual([c.count for c in changes], [1, 1])
        out, changes = WhatTravels(hidden=True, helpers=True).apply(scene, StepContext())
        self.assertEqual(len(out.nodes), 5)
        self.assertEqual(changes, [])

    def test_a_set_that_is_left_out_goes_and_its_group_stays_while_something_is_in_it(self) -> None:
        scene = station()
        sets = [PartSet(id="b", name="Benches", rules=[Rule(names=["bench_*"])], treatment=Treatment(leave_out=True))]
        out, _ = WhatTravels().apply(scene, StepContext(assignment=Assignment(scene, sets)))
        self.assertEqual(out.nodes.names, ("hall", "door"))
        sets = [PartSet(id="a", name="All", rules=[Rule(kinds=["mesh"])], treatment=Treatment(leave_out=True))]
        out, _ = WhatTravels().apply(scene, StepContext(assignment=Assignment(scene, sets)))
        self.assertEqual(len(out.nodes), 0)

    def test_lights_and_cameras_have_switches(self) -> None:
        scene = landing()
        self.assertTrue((scene.nodes.light >= 0).any() and (scene.nodes.camera >= 0).any())
        out, _ = WhatTravels(lights=False, cameras=False).apply(scene, StepContext())
        self.assertFalse((out.nodes.light >= 0).any() or (out.nodes.camera >= 0).any())
        self.assertEqual((out.lights, out.cameras), ((), ()))
        self.assertEqual(len(out.nodes.parts), len(scene.nodes.parts))

    def test_unmoved_bones_and_morph_targets_stay_behind_and_moved_ones_travel(self) -> None:
        g = Gltf()
        mesh = g.mesh(
            TRIANGLE, [0, 1, 2],
            JOINTS_0=g.accessor(np.zeros((3, 4), np.uint8)),
            WEIGHTS_0=g.accessor(np.tile(np.array([[1, 0, 0, 0]], np.float32), (3, 1))),
        )  # fmt: skip
        g.json["meshes"][mesh]["primitives"][0]["targets"] = [{"POSITION": g.accessor(np.ones((3, 3), np.float32))}]
        g.node(name="skinned", mesh=mesh, skin=0)
        g.node(name="bone")
        g.put("skins", {"joints": [1]})
        out, _ = WhatTravels().apply(g.scene(), StepContext())
        self.assertEqual((out.nodes.names, out.skins), (("skinned",), ()))
        self.assertEqual((dict(out.meshes[0].attributes), out.meshes[0].morphs), ({}, ()))
        out, _ = WhatTravels(bones=True, morphs=True).apply(g.scene(), StepContext())
        self.assertEqual((len(out.skins), len(out.meshes[0].morphs), len(out.nodes)), (1, 1, 2))
        times = g.accessor(np.array([[0], [1]], np.float32), min=[0], max=[1])
        values = g.accessor(np.array([[0, 0, 0, 1], [0, 0, 1, 0]], np.float32))
        g.put(
            "animations",
            {
                "channels": [{"sampler": 0, "target": {"node": 1, "path": "rotation"}}],
                "samplers": [{"input": times, "output": values}],
            },
        )
        out, _ = WhatTravels().apply(g.scene(), StepContext())
        self.assertEqual((len(out.skins), out.nodes.names), (1, ("skinned", "bone")))

    def test_animation_all_a_range_a_frame_or_none(self) -> None:
        scene = moving()
        self.assertEqual(len(WhatTravels().apply(scene, StepContext())[0].clips), 1)
        rest, _ = WhatTravels(animation="rest").apply(scene, StepContext())
        np.testing.assert_allclose(rest.nodes.local[0], np.eye(4))
        self.assertEqual(rest.clips, ())
        frame, _ = WhatTravels(animation="frame", start=1.0).apply(scene, StepContext())
        np.testing.assert_allclose(frame.nodes.local[0][:3, :3] @ (1, 0, 0), (0, 0, -1), atol=1e-6)
        cut, _ = WhatTravels(animation="range", start=0.5, end=1.5).apply(scene, StepContext())
        channel = cut.clips[0].channels[0]
        np.testing.assert_allclose(channel.times, (0, 0.5, 1))
        np.testing.assert_allclose(channel.values[0], (0, np.sin(np.pi / 8), 0, np.cos(np.pi / 8)), atol=1e-6)


class Interpolation(unittest.TestCase):
    def channel(self, interpolation: Any, values: Any, path: Any = "translation") -> Channel:
        return Channel(0, path, np.array([0, 1], np.float32), np.array(values, np.float32), interpolation)

    def test_linear_step_cubic_and_the_shortest_arc(self) -> None:
        self.assertEqual(value_at(self.channel("LINEAR", [[0, 0, 0], [2, 4, 6]]), 0.5).tolist(), [1, 2, 3])
        self.assertEqual(value_at(self.channel("STEP", [[0, 0, 0], [2, 4, 6]]), 0.9).tolist(), [0, 0, 0])
        # cubic with the slopes of the straight line is the straight line
        cubic = [[0, 0, 0], [0, 0, 0], [2, 2, 2], [2, 2, 2], [2, 2, 2], [0, 0, 0]]
        np.testing.assert_allclose(value_at(self.channel("CUBICSPLINE", cubic), 0.25), (0.5, 0.5, 0.5))
        a, b = np.array([0, 0, 0, 1.0]), np.array([0, 0, -np.sin(0.5), -np.cos(0.5)])
        np.testing.assert_allclose(slerp(a, b, 0.5), (0, 0, np.sin(0.25), np.cos(0.25)), atol=1e-9)

    def test_cuts_outside_the_clip_hold_its_ends(self) -> None:
        clip = Clip((self.channel("LINEAR", [[0, 0, 0], [1, 1, 1]]),))
        cut = cropped(clip, 5.0, 6.0).channels[0]
        np.testing.assert_allclose(cut.values, [[1, 1, 1], [1, 1, 1]])
        self.assertEqual(posed(moving(), 99.0).nodes.local.shape, (1, 4, 4))


if __name__ == "__main__":
    unittest.main()
