"""Trees without the levels that hold nothing, flattened, below one node; names with prefixes: nothing moves, all arrives."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

import numpy as np
import trimesh
from hypothesis import example, given, settings
from hypothesis import strategies as st

from tests.core.test_split import proven
from tests.trees import as_mesh, furthest_apart, random_tree
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.formats import writable
from tidy_caravan.core.scene import GLTF, Channel, Clip, Light, Root, Scene, make_nodes
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.core.steps.tidy_tree import groups, sheared

CONTEXT = StepContext(BUILT_IN[0])


def tidied(scene: Scene, **how: Any) -> tuple[Scene, list[str]]:
    out, changes = parse_step({"kind": "tidy_tree", **how}).apply(scene, CONTEXT)
    return out, [c.text for c in changes]


def named(scene: Scene, **how: Any) -> list[str]:
    return list(parse_step({"kind": "tidy_names", **how}).apply(scene, CONTEXT)[0].nodes.names)


def nested() -> Scene:
    """site / hall / (bench, empty / nothing, lone / post), lamp, cameras of nobody: the layers on groups."""
    parent = [-1, 0, 1, 1, 3, 1, 5, 0]
    names = ["site", "hall", "bench", "empty", "nothing", "lone", "post", "lamp"]
    local = np.tile(np.eye(4), (8, 1, 1))
    local[:, 0, 3] = np.arange(8)
    local[1] = trimesh.transformations.rotation_matrix(0.4, [0, 1, 0]) @ np.diag([2.0, 2, 2, 1])
    nodes = make_nodes(
        parent, local, names, mesh=[-1, -1, 0, -1, -1, -1, 0, -1], light=[-1] * 7 + [0], layer=[-1, 0, -1, -1, -1, 1, -1, -1]
    )  # fmt: skip
    mesh = as_mesh(trimesh.creation.box([1, 2, 3]))
    return Scene(GLTF, nodes, (mesh,), lights=(Light("point"),), layers=("hall", "posts"), roots=(Root((0,)),))


class Levels(unittest.TestCase):
    def test_prune_takes_out_what_leads_to_one_thing_or_to_nothing(self) -> None:
        out, told = tidied(nested())
        self.assertEqual(sorted(out.nodes.names), ["bench", "hall", "lamp", "post", "site"])
        self.assertEqual(told, ["3 groups taken out of the tree"])
        self.assertEqual(out.nodes.names[out.nodes.parent[out.nodes.names.index("post")]], "hall")
        self.assertLess(furthest_apart(nested(), out), 1e-12)
        self.assertEqual(tidied(out), (out, []))

    def test_flattened_parts_and_lights_stand_at_the_top_in_the_layers_of_their_groups(self) -> None:
        out, _ = tidied(nested(), by="flatten")
        self.assertEqual(
            dict(zip(out.nodes.names, out.nodes.layer.tolist(), strict=True)), {"bench": 0, "post": 1, "lamp": -1}
        )
        self.assertTrue((out.nodes.parent == -1).all())
        self.assertEqual([sorted(r.nodes) for r in out.roots], [[0, 1, 2]])
        lamp = [nested().nodes.world[7], out.nodes.world[out.nodes.names.index("lamp")]]
        np.testing.assert_allclose(*lamp, atol=1e-12)

    def test_below_one_node_all_is_placed_by_it(self) -> None:
        for at in ("base", "origin"):
            out, _ = tidied(nested(), by="root", name="terminal", at=at)
            top = out.nodes.names.index("terminal")
            self.assertEqual([r.nodes for r in out.roots], [(top,)])
            self.assertEqual(np.flatnonzero(out.nodes.parent < 0).tolist(), [top])
            self.assertLess(furthest_apart(nested(), out), 1e-12)
            low = nested().part_bounds[:, 0].min(axis=0)[1]
            self.assertAlmostEqual(out.nodes.local[top, 1, 3], low if at == "base" else 0.0)
            self.assertEqual(tidied(out, by="root", name="terminal", at=at), (out, []))

    @settings(max_examples=40, deadline=None)
    @given(st.integers(0, 10_000), st.sampled_from(["prune", "flatten", "root"]), st.booleans())
    def test_nothing_moves_whatever_hangs_below_what(self, seed: int, by: str, shear: bool) -> None:
        scene = random_tree(seed, shear=shear)
        scene = scene.but(roots=(Root(tuple(np.flatnonzero(scene.nodes.parent < 0).tolist())),))
        out, _ = tidied(scene, by=by)
        self.assertLess(furthest_apart(scene, out), 1e-9)
        tops = set(np.flatnonzero(out.nodes.parent < 0).tolist())
        self.assertEqual({i for r in out.roots for i in r.nodes}, tops)
        was = set(scene.nodes.source[sheared(scene.nodes.local)].tolist())
        self.assertLessEqual(set(out.nodes.source[sheared(out.nodes.local)].tolist()), was, "none is sheared by it")
        if not shear and by != "root":
            plain = groups(out)
            left = plain if by == "flatten" else plain & (out.nodes.children_count < 2)
            self.assertFalse(left.any())
        again, _ = tidied(out, by=by)
        self.assertEqual((again.nodes.names, again.nodes.parent.tolist()), (out.nodes.names, out.nodes.parent.tolist()))

    def test_what_moves_hangs_where_its_clip_says(self) -> None:
        still = nested()
        path = Channel(5, "translation", np.array([0.0, 1.0]), np.array([[0.0, 0, 0], [1, 0, 0]]))
        moving = still.but(clips=(Clip((path,), "slide"),))
        out, _ = tidied(moving, by="flatten")
        self.assertEqual(sorted(out.nodes.names), ["bench", "hall", "lamp", "lone", "post", "site"])
        self.assertEqual(out.nodes.names[out.clips[0].channels[0].node], "lone")
        np.testing.assert_array_equal(out.nodes.local[out.nodes.names.index("lone")], still.nodes.local[5])

    def test_groups_that_say_something_stay(self) -> None:
        told = nested()
        told = told.but(nodes=replace(told.nodes, extras={1: {"fire class": "A2"}}))
        self.assertIn("hall", tidied(told, by="flatten")[0].nodes.names)

    def test_it_arrives_in_every_format(self) -> None:
        for by in ("prune", "flatten", "root"):
            for fmt in sorted(writable()):
                with self.subTest(by=by, fmt=fmt):
                    ok, said, _ = proven(nested(), [{"kind": "tidy_tree", "by": by}], fmt)
                    self.assertTrue(ok, said)


class Prefixes(unittest.TestCase):
    def test_each_kind_has_its_own_once(self) -> None:
        how = {"partPrefix": "SM_", "lightPrefix": "L_", "groupPrefix": "G_"}
        names = named(nested(), **how)
        self.assertEqual(names, ["G_site", "G_hall", "SM_bench", "G_empty", "nothing", "G_lone", "SM_post", "L_lamp"])
        again = nested()
        self.assertEqual(named(again.but(nodes=replace(again.nodes, names=tuple(names))), **how), names)

    @settings(max_examples=120, deadline=None)
    @given(
        st.lists(st.sampled_from(["wall", "x_" * 30, "SM_wall", "a" * 70, "", "Wand ü", "sm_wall", "_x_"]), min_size=8, max_size=8),
        st.sampled_from(["SM_", "a b-", "__", "m" * 39, ""]), st.sampled_from(["number", "group"]),
    )  # fmt: skip
    @example(["wall"] * 2 + ["a" * 70, "wall", "SM_wall", "x_" * 30, "wall", "wall"], "SM_", "group")
    @example(["wall", "x_" * 30, "wall", "wall", "SM_wall", "a_" * 28, "SM_wall", "wall"], "SM", "group")
    def test_unique_and_the_same_a_second_time(self, names: list[str], prefix: str, repeated: str) -> None:
        scene = nested()
        how = {"partPrefix": prefix, "groupPrefix": "G_", "repeated": repeated}
        first = named(scene.but(nodes=replace(scene.nodes, names=tuple(names))), **how)
        self.assertEqual(len({n.lower() for n in first}), len(first))
        self.assertLessEqual(max(map(len, first)), BUILT_IN[0].name_length)
        self.assertEqual(named(scene.but(nodes=replace(scene.nodes, names=tuple(first))), **how), first)
        clean = prefix.replace(" ", "_").replace("__", "_")
        self.assertTrue(all(first[i].startswith(clean) for i in (2, 6)), first)
