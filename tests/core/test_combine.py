"""Parts put together: the same triangles at the same places, in as many batches as promised, and never across what differs."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any
from unittest import mock

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial import KDTree
from scipy.spatial.transform import Rotation

from tests.core.test_sides import as_mesh, at
from tests.core.test_split import proven, same_soup
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.figures import count
from tidy_caravan.core.formats import writable
from tidy_caravan.core.scene import GLTF, Clip, Material, Scene, make_nodes
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.scene.things import Channel, Root
from tidy_caravan.core.selection import Assignment, PartSet, Rule, Treatment
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.demo.ferry_landing import landing

BOX = trimesh.creation.box([1, 1, 1])


def benches(count_: int = 4, turn: bool = False, seed: int = 0) -> Scene:
    """Benches of two materials that share a mesh, in two rows (parents) and layers."""
    rng = np.random.default_rng(seed)
    mesh = as_mesh(trimesh.util.concatenate([BOX, BOX.copy().apply_translation([0, 1.2, 0])]), 0)
    mesh = replace(mesh, material=np.repeat([0, 1], 12).astype(np.int32), uvs=(rng.random((16, 2)).astype(np.float32),))
    local = [np.eye(4), at(0, 0, 20)]
    for k in range(count_):
        one = at(3 * (k // 2), 0, 0)
        if turn:
            scale = rng.uniform(0.5, 2, 3) * np.where(rng.random(3) < 0.4, -1, 1)
            one[:3, :3] = Rotation.random(random_state=seed + k).as_matrix() * scale
        local.append(one)
    names = ["row a", "row b", *(f"bench {k}" for k in range(count_))]
    parent = [-1, -1, *(k % 2 for k in range(count_))]
    nodes = make_nodes(parent, np.array(local), names, mesh=[-1, -1, *[0] * count_], layer=[-1, -1, *(k % 2 for k in range(count_))])  # fmt: skip
    return Scene(GLTF, nodes, (mesh,), (Material("oak"), Material("steel")), layers=("hall", "quay"))


def corners(scene: Scene, node: int) -> F64:
    """(F, 3, 3) corners of what a node draws, in the world."""
    mesh, world = scene.meshes[scene.nodes.mesh[node]], scene.nodes.world[node]
    out: F64 = (mesh.positions.astype(np.float64) @ world[:3, :3].T + world[:3, 3])[mesh.indices]
    return out


def apply(scene: Scene, context: StepContext | None = None, **more: Any) -> Scene:
    return parse_step({"kind": "combine_parts", **more}).apply(scene, context or StepContext(BUILT_IN[0]))[0]


class Combined(unittest.TestCase):
    def test_by_each_way_there_are_as_many_parts_and_draw_calls_as_there_should_be(self) -> None:
        scene = benches(6)
        for more, parts, calls in (
            ({"by": "parent"}, 2, 4),
            ({"by": "layer"}, 2, 4),
            ({"by": "material"}, 1, 2),
            ({"by": "all"}, 1, 2),
            ({"by": "cell", "cellM": 10}, 2, 4),
            ({"by": "parent", "to": "mesh_per_material"}, 4, 4),
            ({"by": "all", "vertices": 100}, 1, 2),
            ({"by": "all", "vertices": 40 + 60}, 1, 2),
        ):
            with self.subTest(**more):
                out = apply(scene, **more)
                figures = count(out)
                self.assertEqual((figures.parts, figures.draw_calls), (parts, calls))
                self.assertTrue(same_soup(out, scene))
        small = apply(benches(14), by="all", vertices=100)
        self.assertEqual(sorted(small.meshes[m].vertices for m in small.nodes.mesh[small.nodes.parts]), [32, 96, 96])

    @settings(max_examples=20, deadline=None)
    @given(st.integers(0, 10_000))
    def test_turned_scaled_and_mirrored_parts_stay_where_they_are(self, seed: int) -> None:
        scene = benches(5, turn=True, seed=seed)
        for to in ("mesh", "mesh_per_material", "node"):
            out = apply(scene, by="all", to=to)
            self.assertTrue(same_soup(out, scene), to)
        head = out.nodes.names.index("bench 0")
        np.testing.assert_allclose(out.nodes.world[head], scene.nodes.world[2], atol=1e-12)

    def test_the_head_gives_name_and_transform_and_the_others_are_gone(self) -> None:
        out = apply(benches(4), by="parent")
        self.assertEqual(out.nodes.names, ("row a", "row b", "bench 0", "bench 1"))
        np.testing.assert_array_equal(out.nodes.world[2], benches(4).nodes.world[2])
        self.assertEqual(sorted(out.nodes.sources), [2, 3])
        self.assertEqual(out.nodes.sources[2].tolist(), [2, 4])

    def test_data_of_what_is_no_more_by_itself_are_told(self) -> None:
        scene = benches(6)
        said = {2: {"row": "a"}, 4: {"row": "b"}, 5: {"row": "c"}}
        scene = scene.but(nodes=replace(scene.nodes, extras=said))
        for to, lost in (("mesh", 2), ("node", 0)):
            step = parse_step({"kind": "combine_parts", "by": "parent", "to": to})
            out, changes = step.apply(scene, StepContext(BUILT_IN[0]))
            self.assertEqual(sum(c.count for c in changes if c.text.startswith("data of")), lost)
            self.assertEqual(len(out.nodes.extras), 3 - lost)

    def test_never_across_treatments_data_or_what_moves(self) -> None:
        scene = benches(6)
        doors = PartSet(
            id="d", name="Doors", rules=[Rule(names=["bench 0", "bench 1"])], treatment=Treatment(may_move=True)
        )
        context = StepContext(BUILT_IN[0], assignment=Assignment(scene, [doors]))
        self.assertEqual(count(apply(scene, context, by="all")).parts, 2)
        combined_set = doors.model_copy(update={"treatment": Treatment(joined="combined")})
        context = StepContext(BUILT_IN[0], assignment=Assignment(scene, [combined_set]))
        self.assertEqual(count(apply(scene, context, by="all")).parts, 1, "that they are combined is no difference")
        bare = replace(scene.meshes[0], uvs=())
        column = np.where(np.arange(8) == 3, 1, scene.nodes.mesh).astype(np.int32)
        other = scene.but(meshes=(scene.meshes[0], bare), nodes=replace(scene.nodes, mesh=column))
        self.assertEqual(count(apply(other, by="all")).parts, 2)
        channel = Channel(1, "translation", np.array([0.0, 1.0], np.float32), np.zeros((2, 3), np.float32))
        moving = apply(scene.but(clips=(Clip((channel,), "slide"),)), by="all")
        self.assertEqual(count(moving).parts, 4, "what hangs below a node that moves goes its own way")
        hidden = scene.but(nodes=replace(scene.nodes, flags=np.where(np.arange(8) == 2, 1, 0).astype(np.uint8)))
        self.assertEqual(count(apply(hidden, by="all")).parts, 2)

    def test_a_second_time_there_is_nothing_left_to_do(self) -> None:
        for more in ({"by": "parent"}, {"by": "all", "to": "mesh_per_material"}):
            out = apply(benches(6), **more)
            again = apply(out, **more)
            self.assertEqual(count(again), count(out))

    @settings(max_examples=30, deadline=None)
    @given(st.integers(0, 10_000))
    def test_no_vertex_is_rounded_by_more_than_was_said_and_a_second_time_nothing_is_done(self, seed: int) -> None:
        """Benches strewn over kilometres, some drawn far from their own pivots: in one mesh they would lose millimetres."""
        rng = np.random.default_rng(seed)
        scene = benches(24, turn=True, seed=seed)
        local = scene.nodes.local.copy()
        local[8:, :3, 3] += rng.choice([0.0, 700.0, 2500.0, 4e5], (18, 3)) * rng.normal(size=(18, 3))
        far = replace(scene.meshes[0], positions=scene.meshes[0].positions + np.float32(3000))
        column = np.where(np.arange(26) < 2, -1, (rng.random(26) < 0.2) & (np.arange(26) > 7)).astype(np.int32)
        scene = scene.but(meshes=(scene.meshes[0], far), nodes=replace(scene.nodes, local=local, mesh=column))
        how = {"by": "all", "to": str(rng.choice(["mesh", "mesh_per_material"]))}
        out = apply(scene, **how)
        self.assertLess(count(out).parts, 24)
        before, after = (np.concatenate([corners(s, i) for i in s.nodes.parts.tolist()]) for s in (scene, out))
        # float32 had rounded what is far from its own pivot as much before
        own = max(
            np.linalg.norm(corners(scene, i) - scene.nodes.world[i, :3, 3], axis=-1).max() for i in scene.nodes.parts
        )
        nearest = KDTree(after.reshape(-1, 3)).query(before.reshape(-1, 3))[0]
        self.assertLess(nearest.max() * 1000, 0.11 * max(1.0, own / 1000))
        self.assertEqual(count(apply(out, **how)).parts, count(out).parts)

    def test_what_is_too_far_to_go_along_is_told(self) -> None:
        scene = benches(6)
        local = scene.nodes.local.copy()
        local[4, 0, 3] += 40_000
        step = parse_step({"kind": "combine_parts", "by": "all"})
        out, changes = step.apply(scene.but(nodes=replace(scene.nodes, local=local)), StepContext(BUILT_IN[0]))
        self.assertEqual(count(out).parts, 2)
        told = next(c for c in changes if "from the others" in c.text)
        self.assertEqual((told.count, told.parts), (1, list(scene.identities.given([4]))))


class Arrives(unittest.TestCase):
    def test_in_every_format(self) -> None:
        for to in ("mesh", "mesh_per_material", "node"):
            step = {"kind": "combine_parts", "by": "parent", "to": to}
            for fmt in sorted(writable()):
                with self.subTest(to=to, format=fmt):
                    ok, said, _ = proven(benches(6, turn=True, seed=3), [step], fmt)
                    self.assertTrue(ok, said)

    def test_parts_that_hang_below_nothing_stand_in_the_scene_that_is_drawn(self) -> None:
        """A glTF or COLLADA file draws what its scene lists: a second mesh beside its head has to be in that list."""
        nodes = make_nodes([-1] * 4, np.array([at(3 * k, 0, 0) for k in range(4)]), [f"bench {k}" for k in range(4)], mesh=[0] * 4)  # fmt: skip
        scene = replace(benches(), nodes=nodes, roots=(Root((0, 1, 2, 3), "quay"), Root((), "empty")), layers=())
        step = {"kind": "combine_parts", "by": "all", "to": "mesh_per_material"}
        for fmt in ("glb", "dae"):
            ok, said, result = proven(scene, [step], fmt)
            self.assertTrue(ok, said)
            self.assertEqual((len(result.nodes), len(result.roots[0].nodes)), (2, 2))
        apart = replace(scene, roots=(Root((), "empty"), Root((0, 1, 2, 3), "quay")))
        _, _, result = proven(apart, [step])
        self.assertEqual(
            [len(r.nodes) for r in result.roots], [0, 2]
        )  # beside its head, in the scene that is not drawn
        with mock.patch("tidy_caravan.core.route.with_all_roots", lambda scene: scene):
            ok, said, _ = proven(scene, [step])
            self.assertFalse(ok)
            self.assertIn("nothing draws it", said[0])

    def test_split_shared_and_combined_again_the_demo_arrives(self) -> None:
        scene = landing()
        steps = [
            {"kind": "split_parts", "where": {"names": ["bench_*", "ticket_gate_*"]}},
            {"kind": "share_copies"},
            {"kind": "combine_parts", "by": "parent", "where": {"names": ["bench_*", "truss_*", "roof_panel_*"]}},
        ]
        ok, said, result = proven(scene, steps)
        self.assertTrue(ok, said[:5])
        self.assertLess(count(result).draw_calls, count(scene).draw_calls)
