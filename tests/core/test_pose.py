"""Skins and morph weights without clips: what arrives stands where bones and weights put it, in every format."""

from __future__ import annotations

import unittest
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np
import trimesh

from tests.core.test_arrival import deliver
from tests.independent import independent, same
from tests.planted import GltfFile
from tests.support import Gltf, read, sent, validate_bytes
from tests.trees import as_mesh
from tidy_caravan.core.carry import carry, prove
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.figures import bounds_metres
from tidy_caravan.core.formats import writable
from tidy_caravan.core.geometry.pose import at_rest
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import Route, default_route
from tidy_caravan.core.scene import GLTF, Scene, Skin, make_nodes
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.steps import StepContext, parse_step

PLAIN = next(d for d in BUILT_IN if d.world.metres_per_unit == 1.0 and d.world.up == "Y")
ROUTE = Route(steps=default_route().steps[:2])
FIGURE = trimesh.creation.box((0.5, 1.8, 0.3))
OFFSETS = np.where(np.asarray(FIGURE.vertices)[:, [1]] > 0, [[0.0, 0.4, 0.1]], 0.0)


def turn(degrees: float) -> list[float]:
    """Quaternion xyzw of a turn about Y."""
    half = np.radians(degrees) / 2
    return [0.0, float(np.sin(half)), 0.0, float(np.cos(half))]


def rig(g: Gltf, mesh: int, bones: list[int], **node: Any) -> int:
    """A node with a skin on joints that stand at the origin when bound."""
    inverse = np.tile(np.eye(4), (len(bones), 1, 1)).transpose(0, 2, 1)
    skin = g.put("skins", {"joints": bones, "inverseBindMatrices": g.accessor(inverse.reshape(-1, 16).astype("f4"))})
    return g.node(name="figure", mesh=mesh, skin=skin, **node)


def weighted(g: Gltf, weights: Any = (1.0, 0.0, 0.0, 0.0)) -> int:
    count = len(FIGURE.vertices)
    joints = np.tile(np.array([[0, 1, 0, 0]], np.uint16), (count, 1))
    table = np.broadcast_to(np.asarray(weights, np.float32), (count, 4)).copy()
    return g.mesh(FIGURE.vertices, np.asarray(FIGURE.faces).ravel(), JOINTS_0=g.accessor(joints), WEIGHTS_0=table)


def drawn(points: F64) -> F64:
    return np.asarray(points)[FIGURE.faces].mean(axis=1)


def scaled_rig() -> tuple[Scene, F64]:
    """Bones a hundred times larger below a node a hundredth: drawn 1.8 m tall, at the bones' place."""
    g = Gltf()
    bone = g.node(name="bone", translation=[3.0, 0.9, -2.0], rotation=turn(30))
    idle = g.node(name="idle", translation=[50.0, 0.0, 0.0])
    g.node(name="bones", children=[bone, idle])
    rig(g, weighted(g), [bone, idle], scale=[0.01, 0.01, 0.01], translation=[0.0, 100.0, 0.0])
    matrix = trimesh.transformations.rotation_matrix(np.radians(30), (0, 1, 0))[:3, :3]
    return g.scene(), drawn(np.asarray(FIGURE.vertices) @ matrix.T + (3.0, 0.9, -2.0))


def blended_rig() -> tuple[Scene, F64]:
    """Half of each of two bones, one of them mirrored in nothing: linear blending by hand."""
    g = Gltf()
    one, two = g.node(name="one", translation=[1.0, 0.0, 0.0]), g.node(name="two", rotation=turn(90))
    rig(g, weighted(g, (1.5, 1.5, 0.0, 0.0)), [one, two], rotation=turn(77))
    matrix = trimesh.transformations.rotation_matrix(np.radians(90), (0, 1, 0))[:3, :3]
    points = np.asarray(FIGURE.vertices)
    return g.scene(), drawn(0.5 * (points + (1.0, 0.0, 0.0)) + 0.5 * points @ matrix.T)


def bent() -> tuple[Scene, F64]:
    """Three figures on one mesh: its own weight, a node's weight, a node's weight of nought."""
    g = Gltf()
    mesh = g.mesh(FIGURE.vertices, np.asarray(FIGURE.faces).ravel())
    g.json["meshes"][mesh]["primitives"][0]["targets"] = [{"POSITION": g.accessor(OFFSETS.astype(np.float32))}]
    g.json["meshes"][mesh]["weights"] = [0.25]
    g.node(name="mesh weight", mesh=mesh)
    g.node(name="own weight", mesh=mesh, translation=[2.0, 0.0, 0.0], weights=[1.0])
    g.node(name="none", mesh=mesh, translation=[4.0, 0.0, 0.0], weights=[0.0])
    points = np.asarray(FIGURE.vertices)
    places = [points + weight * OFFSETS + (x, 0.0, 0.0) for weight, x in ((0.25, 0.0), (1.0, 2.0), (0.0, 4.0))]
    return g.scene(), np.concatenate([drawn(p) for p in places])


class Poses(unittest.TestCase):
    def test_known_places_through_every_format(self) -> None:
        for make in (scaled_rig, blended_rig, bent):
            scene, known = make()
            for kind in sorted(writable()):
                with self.subTest(source=make.__name__, kind=kind):
                    package, _ = sent(scene, "x.glb", "0" * 64, PLAIN, ROUTE, kind)  # type: ignore[arg-type]
                    got = independent({k: v for k, v in package.files.items() if k != "manifest.json"}, kind)
                    self.assertTrue(same(got, known, 1e-5), f"{np.ptp(got, axis=0)} for {np.ptp(known, axis=0)}")

    def test_every_arrival_agrees(self) -> None:
        for make in (scaled_rig, blended_rig, bent):
            scene, _ = make()
            for d in BUILT_IN:
                for kind in ("glb", "obj", "usdc", "dae"):
                    with self.subTest(source=make.__name__, to=d.name, kind=kind), TemporaryDirectory() as folder:
                        report = deliver(scene, d, Path(folder), ROUTE, kind)  # type: ignore[arg-type]
                        self.assertTrue(report.ok, (report.problems, [r.faults for r in report.rows]))

    def test_bones_that_travel_are_compared_as_they_are_drawn(self) -> None:
        """Kept as skin and targets in a GLB; a package whose bone was moved is noticed."""
        route = Route(steps=[{"kind": "what_travels", "bones": True, "morphs": True}, {"kind": "match_units_axes"}])
        scene, _ = scaled_rig()
        with TemporaryDirectory() as folder:
            self.assertTrue(deliver(scene, PLAIN, Path(folder), route).ok)
            path = Path(folder) / "scene.glb"
            data = path.read_bytes()
            self.assertIn(b'"skins"', data)
            self.assertEqual(validate_bytes({"scene.glb": data})["errors"], 0)
            self.assertEqual(data.count(b"[3.0,0.9,-2.0]"), 1)
            path.write_bytes(data.replace(b"[3.0,0.9,-2.0]", b"[3.1,0.9,-2.0]"))
            report, _ = prove(Path(folder), scene)
            self.assertFalse(report.ok)
            self.assertAlmostEqual(report.worst.position_mm, 100.0, places=2)

    def test_skins_and_targets_that_nothing_moves_are_missed_as_well(self) -> None:
        def gone(name: str, key: str) -> Callable[[dict[str, Any]], Any]:
            return lambda j: [m["primitives"][0].get("attributes", {}).pop(key, None) for m in j[name]]

        def joints(f: GltfFile) -> None:
            f.array(next(p for m in f.json["meshes"] for p in m["primitives"])["attributes"]["WEIGHTS_0"])[:, :2] = (
                0,
                1,
            )

        def further(f: GltfFile) -> None:
            target = next(p for m in f.json["meshes"] for p in m["primitives"] if "targets" in p)["targets"][0]
            f.array(target["POSITION"])[:] *= 1.1

        def renamed(f: GltfFile) -> None:
            for m in f.json["meshes"]:
                self.assertEqual(m["extras"]["targetNames"], ["leaning"])  # none stood in the extras of the source
                m["extras"]["targetNames"] = ["bowing"]

        skinned, shaped = scaled_rig()[0], bent()[0]
        named = tuple(replace(m, morphs=tuple(replace(t, name="leaning") for t in m.morphs)) for m in shaped.meshes)
        kept = Route(steps=[{"kind": "match_units_axes"}])
        for name, scene, change, wanted in (
            ("skin", skinned, lambda f: [n.pop("skin", None) for n in f.json["nodes"]], "its skin did not arrive"),
            ("influences", skinned, lambda f: gone("meshes", "WEIGHTS_0")(f.json), "its skin did not arrive"),
            ("other joints", skinned, joints, "its vertices hang on other joints"),
            ("targets", shaped, lambda f: [p.pop("targets", None) for m in f.json["meshes"] for p in m["primitives"]],
             "0 of 1 morph target arrived"),
            ("further", shaped, further, "morph target 0 moves"),
            ("name", shaped.but(meshes=named), renamed,
             "morph target 0 is called “bowing” instead of “leaning”"),
        ):  # fmt: skip
            with self.subTest(fault=name), TemporaryDirectory() as folder:
                package, result = sent(scene, "figure", "0" * 64, PLAIN, kept, "glb")
                save(package.files, Path(folder))
                self.assertTrue(prove(Path(folder), scene, result)[0].ok)
                file = GltfFile(Path(folder))
                change(file)
                file.save()
                self.assertIn(wanted, " | ".join(prove(Path(folder), scene, result)[0].problems))

    def test_figures_are_of_what_is_drawn(self) -> None:
        scene, known = scaled_rig()
        box = bounds_metres(scene)
        self.assertAlmostEqual(float(box[1, 1] - box[0, 1]), 1.8, places=5)
        self.assertGreater(float(box[0, 0]), 2.0)
        self.assertEqual(len(known), 12)

    def test_figures_on_one_mesh_with_one_weight_go_on_sharing_it(self) -> None:
        scene, _ = bent()
        _, done = sent(scene, "x.glb", "0" * 64, PLAIN, ROUTE, "glb")
        self.assertEqual(int((done.instance_counts > 0).sum()), 3)
        g = Gltf()
        mesh = g.mesh(FIGURE.vertices, np.asarray(FIGURE.faces).ravel())
        g.json["meshes"][mesh]["primitives"][0]["targets"] = [{"POSITION": g.accessor(OFFSETS.astype(np.float32))}]
        for k in range(5):
            g.node(name=f"f{k}", mesh=mesh, translation=[k, 0, 0], weights=[0.5 if k % 2 else 0.25])
        _, done, records, _ = carry(g.scene(), "x.glb", "0" * 64, PLAIN, ROUTE, "glb")
        self.assertEqual(sorted(done.instance_counts.tolist()), [2, 3])
        said = " ".join(c.text for r in records for c in r.changes)
        self.assertIn("morph weights", said)

    def test_a_rig_whose_bones_hang_below_a_moving_node_keeps_them(self) -> None:
        g = Gltf()
        bone = g.node(name="bone")
        above = g.node(name="above", children=[bone])
        rig(g, weighted(g), [bone, bone])
        times, places = np.array([0.0, 1.0], np.float32), np.array([[0, 0, 0], [1, 0, 0]], np.float32)
        g.put(
            "animations",
            {
                "samplers": [
                    {
                        "input": g.accessor(times.reshape(-1, 1), min=[0.0], max=[1.0]),
                        "output": g.accessor(places),
                    }
                ],
                "channels": [{"sampler": 0, "target": {"node": above, "path": "translation"}}],
            },
        )
        _, done = sent(read(g.glb()), "x.glb", "0" * 64, PLAIN, ROUTE, "glb")
        self.assertEqual(len(done.skins), 1)

    def test_a_frame_is_compared_with_the_source_at_that_time(self) -> None:
        g = Gltf()
        node = g.node(name="leaf", mesh=g.mesh(FIGURE.vertices, np.asarray(FIGURE.faces).ravel()))
        times, places = np.array([0.0, 2.0], np.float32), np.array([[0, 0, 0], [4, 0, 0]], np.float32)
        sampler = {"input": g.accessor(times.reshape(-1, 1), min=[0.0], max=[2.0]), "output": g.accessor(places)}
        g.put(
            "animations",
            {"samplers": [sampler], "channels": [{"sampler": 0, "target": {"node": node, "path": "translation"}}]},
        )
        route = Route(
            steps=[{"kind": "what_travels", "animation": "frame", "start": 1.0}, {"kind": "match_units_axes"}]
        )
        with TemporaryDirectory() as folder:
            report = deliver(read(g.glb()), PLAIN, Path(folder), route)
            self.assertTrue(report.ok, [r.faults for r in report.rows])
            got = independent({"scene.glb": (Path(folder) / "scene.glb").read_bytes()}, "glb")
            self.assertAlmostEqual(float(got[:, 0].mean()), 2.0, places=5)


def bent_tube(unit: float) -> Scene:
    """Three metres of tube on three bones, its vertices in `unit` metres: the bones make up for it, its node does not."""
    made = trimesh.creation.cylinder(0.2, 3, sections=24)
    for _ in range(2):
        made = made.subdivide()
    points = made.vertices + np.random.default_rng(1).normal(scale=1e-4, size=made.vertices.shape)
    along = np.clip((points[:, 2] + 1.5) / 1.5, 0, 2)
    low = np.minimum(along.astype(np.int64), 1)
    none = np.zeros(len(points))
    joints = np.column_stack([low, low + 1, none, none]).astype(np.uint16)
    weights = np.column_stack([1 - (along - low), along - low, none, none]).astype(np.float32)
    mesh = replace(as_mesh(made), positions=(points / unit).astype(np.float32), attributes={"JOINTS_0": joints, "WEIGHTS_0": weights})  # fmt: skip
    local = np.tile(np.eye(4), (4, 1, 1))
    local[:3, 2, 3] = (-1.5, 1.5, 1.5)
    bind = np.tile(np.diag([unit, unit, unit, 1.0]), (3, 1, 1))
    bind[:, 2, 3] = (1.5, 0.0, -1.5)
    nodes = make_nodes(
        [-1, 0, 1, -1], local, ["foot", "middle", "top", "tube"], mesh=[-1, -1, -1, 0], skin=[-1, -1, -1, 0]
    )
    return Scene(GLTF, nodes, (mesh,), skins=(Skin((0, 1, 2), bind),))


class Units(unittest.TestCase):
    """What bones draw has the size that they give it, whatever unit its vertices are in and however its node is scaled."""

    def test_steps_in_millimetres_mean_those_that_are_drawn(self) -> None:
        steps: tuple[dict[str, Any], ...] = (
            {"kind": "simplify", "errorMm": 5},
            {"kind": "subdivide", "edgeMm": 150},
            {"kind": "first_uvs", "by": "box", "anew": True},
            {"kind": "clean_vertices", "joinMm": 1},
        )
        for step in steps:
            told = {}
            for unit in (1.0, 0.01, 100.0):
                scene = bent_tube(unit)
                route = Route.model_validate({"steps": [step]})
                with TemporaryDirectory() as folder:
                    package, done, *_ = carry(scene, "tube", "0" * 64, PLAIN, route, "glb")
                    save(package.files, Path(folder))
                    self.assertTrue(prove(Path(folder), scene, done)[0].ok, (step, unit))
                mesh = done.meshes[0]
                told[unit] = (mesh.triangles, np.round(np.ptp(mesh.uvs[0], axis=0), 3).tolist() if mesh.uvs else [])
            with self.subTest(step=step["kind"]):
                self.assertEqual(told[0.01], told[1.0])
                self.assertEqual(told[100.0], told[1.0])
        self.assertEqual(told[1.0][0], bent_tube(1.0).meshes[0].triangles)

    def test_a_simplified_one_stays_within_the_bound_where_it_is_drawn(self) -> None:
        scene = bent_tube(100.0)
        out, changes = parse_step({"kind": "simplify", "errorMm": 5}).apply(scene, StepContext(PLAIN))
        self.assertLess(out.meshes[0].triangles, scene.meshes[0].triangles / 4, changes)
        before, after = (at_rest(s).meshes[0] for s in (scene, out))
        triangles = after.positions.astype(np.float64)[after.indices]
        for point in before.positions.astype(np.float64):
            near = trimesh.triangles.closest_point(triangles, np.tile(point, (len(triangles), 1)))
            self.assertLess(float(np.linalg.norm(near - point, axis=1).min()), 0.005)

    def test_steps_of_neighbours_meet_it_where_it_is_drawn_and_leave_it(self) -> None:
        """Its vertices as they are stored lie in a board, off which nothing is to be lifted; where it is drawn a plate is."""
        scene = bent_tube(1.0)
        bones = scene.nodes.local.copy()
        bones[0, :3, 3] += (50.0, 0.0, 0.0)
        board = as_mesh(trimesh.creation.box((2, 2, 3.0)))
        nodes = make_nodes(
            [-1, 0, 1, -1, -1], np.concatenate([bones, np.eye(4)[None]]), [*scene.nodes.names, "board"],
            mesh=[-1, -1, -1, 0, 1], skin=[-1, -1, -1, 0, -1],
        )  # fmt: skip
        there = scene.but(nodes=nodes, meshes=(*scene.meshes, board))
        for step in ({"kind": "mend_overlaps"}, {"kind": "mend_overlaps", "how": "remove"}, {"kind": "close_gaps"}):
            self.assertIs(parse_step(step).apply(there, StepContext(PLAIN))[0], there, step)

        place = np.eye(4)
        place[0, 3] = 50.0
        here = there.but(nodes=replace(nodes, local=np.concatenate([bones, place[None]])))
        out, changes = parse_step({"kind": "mend_overlaps", "where": {"names": ["tube"]}}).apply(
            here, StepContext(PLAIN)
        )
        self.assertIs(out, here)
        self.assertEqual([c.text for c in changes], ["1 part that bones bend stays on others, being where they are"])
        out, _ = parse_step({"kind": "mend_overlaps"}).apply(here, StepContext(PLAIN))
        moved = np.abs(out.nodes.world[:, :3, 3] - here.nodes.world[:, :3, 3]).max(axis=1)
        self.assertEqual(np.flatnonzero(moved > 0).tolist(), [4], "the board gives way")

    def test_only_bent_parts_can_be_chosen_to_split(self) -> None:
        scene = bent_tube(1.0)
        for by in ("shells", "material", "storey", "cell", "vertices", "size", "plane", "picked"):
            out, changes = parse_step({"kind": "split_parts", "by": by, "points": [[0, 0, 0]]}).apply(
                scene, StepContext()
            )
            self.assertIs(out, scene)
            self.assertEqual([c.count for c in changes if "stays whole" in c.text], [1])


if __name__ == "__main__":
    unittest.main()
