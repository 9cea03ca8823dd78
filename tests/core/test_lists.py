"""Copies that travel as lists of transforms, and groups that are written once: read by libraries that know nothing of us."""

from __future__ import annotations

import json
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pygltflib
from pxr import Gf, Usd, UsdGeom
from scipy.spatial.transform import Rotation

from tests.core.test_compounds import apply as find_compounds
from tests.core.test_compounds import village
from tests.support import read, sent
from tidy_caravan.core.arrival.report import ArrivalReport
from tidy_caravan.core.carry import prove
from tidy_caravan.core.conventions.destinations import BUILT_IN, Destination
from tidy_caravan.core.packing.pack import Package, save
from tidy_caravan.core.route import Route
from tidy_caravan.core.scene import HIDDEN, SCATTER, Channel, Clip, Scene, make_nodes
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.selection import PartSet


def target(least: int, instancing: bool = True) -> Destination:
    """Metres, Y up, right-handed, as glTF has it."""
    own = next(d for d in BUILT_IN if d.world.convention().metres_per_unit == 1 and d.world.up == "Y")
    return own.model_copy(update={"gpu_instancing": instancing, "instancing_from": least})


def delivered(scene: Scene, fmt: str, least: int, sets: list[PartSet] | None = None) -> tuple[Package, ArrivalReport]:
    route = Route.model_validate({"steps": [{"kind": "match_units_axes", "bakeScale": False}], "sets": sets or []})
    package, result = sent(scene, "s", "0" * 64, target(least), route, fmt)  # type: ignore[arg-type]
    with tempfile.TemporaryDirectory() as folder:
        save(package.files, Path(folder) / "p")
        report, _ = prove(Path(folder) / "p", scene, result)
    return package, report


def by_pygltflib(data: bytes) -> tuple[F64, int]:
    """World matrices of everything that is drawn, and how many nodes are lists."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "scene.glb"
        path.write_bytes(data)
        document = pygltflib.GLTF2().load(str(path))
    blob = document.binary_blob()
    found: list[F64] = []
    lists = 0

    def numbers(index: int) -> F64:
        accessor = document.accessors[index]
        view = document.bufferViews[accessor.bufferView]
        begin = (view.byteOffset or 0) + (accessor.byteOffset or 0)
        width = {"VEC3": 3, "VEC4": 4}[accessor.type]
        return np.frombuffer(blob, np.float32, accessor.count * width, begin).reshape(-1, width).astype(np.float64)

    def matrix(t: Any, r: Any, s: Any) -> F64:
        out = np.eye(4)
        out[:3, :3] = Rotation.from_quat(r).as_matrix() * np.asarray(s)
        out[:3, 3] = t
        return out

    def walk(index: int, above: F64) -> None:
        nonlocal lists
        node = document.nodes[index]
        own = np.array(node.matrix).reshape(4, 4).T if node.matrix else matrix(
            node.translation or [0, 0, 0], node.rotation or [0, 0, 0, 1], node.scale or [1, 1, 1]
        )  # fmt: skip
        here = above @ own
        extension = (node.extensions or {}).get("EXT_mesh_gpu_instancing")
        if extension:
            lists += 1
            a = extension["attributes"]
            for t, r, s in zip(*(numbers(a[k]) for k in ("TRANSLATION", "ROTATION", "SCALE")), strict=True):
                found.append(here @ matrix(t, r, s))
        elif node.mesh is not None:
            found.append(here)
        for child in node.children or []:
            walk(child, here)

    for index in document.scenes[document.scene].nodes:
        walk(index, np.eye(4))
    return np.array(found), lists


def by_usd_core(files: dict[str, bytes]) -> tuple[F64, int, int]:
    """World matrices of everything that is drawn, how many prims are lists, and how many instances hold several meshes."""
    with tempfile.TemporaryDirectory() as folder:
        for name, data in files.items():
            (Path(folder) / name).write_bytes(data)
        stage = Usd.Stage.Open(str(Path(folder) / next(n for n in files if ".usd" in n)))
        cache, found, lists, groups = UsdGeom.XformCache(), [], 0, 0
        prims = iter(Usd.PrimRange(stage.GetPseudoRoot(), Usd.TraverseInstanceProxies()))
        for prim in prims:
            if prim.IsA(UsdGeom.PointInstancer):
                lists += 1
                own = np.array(Gf.Matrix4d(cache.GetLocalToWorldTransform(prim))).T
                moves = UsdGeom.PointInstancer(prim).ComputeInstanceTransformsAtTime(0, 0)
                found += [own @ np.array(m).T for m in moves]
                prims.PruneChildren()
            elif prim.IsA(UsdGeom.Mesh):
                found.append(np.array(Gf.Matrix4d(cache.GetLocalToWorldTransform(prim))).T)
            if prim.IsInstance():
                below = Usd.PrimRange(prim, Usd.TraverseInstanceProxies())
                groups += sum(p.IsA(UsdGeom.Mesh) or p.IsA(UsdGeom.PointInstancer) for p in below) > 1
        return np.array(found), lists, groups


def agree(found: F64, known: F64) -> bool:
    """Whether the matrices are the same ones, in whatever order, to a hundredth of a millimetre."""
    if found.shape != known.shape:
        return False
    near = np.abs(found[:, None] - known[None]).reshape(len(found), len(known), 16).max(axis=2)
    return bool(near.min(axis=0).max() < 1e-5 and len(set(near.argmin(axis=0).tolist())) == len(known))


class Lists(unittest.TestCase):
    def setUp(self) -> None:
        self.scene = find_compounds(village(pieces=24, kinds=3, places=5, strays=4, seed=3))
        self.known = self.scene.nodes.world[self.scene.nodes.parts]

    def test_compounds_come_with_a_list_for_each_mesh_and_the_same_matrices(self) -> None:
        package, report = delivered(self.scene, "glb", 6)
        found, lists = by_pygltflib(package.files["scene.glb"])
        self.assertEqual(lists, 5 * 3)
        self.assertTrue(agree(found, self.known))
        self.assertTrue(report.ok, report.problems)
        self.assertIn("120 parts travel as 15 lists", " ".join(package.manifest.remarks))
        # every part is still told by its name, and which of them are in lists
        self.assertEqual(len(package.manifest.parts), len(self.known))
        self.assertEqual(sum(p.node < 0 for p in package.manifest.parts), 120)
        self.assertEqual(
            {p.name for p in package.manifest.parts}, {self.scene.nodes.names[i] for i in self.scene.nodes.parts}
        )

    def test_fewer_copies_than_asked_for_and_none_asked_for_stay_nodes(self) -> None:
        for least in (9, 0):
            package, report = delivered(self.scene, "glb", least)
            found, lists = by_pygltflib(package.files["scene.glb"])
            self.assertEqual(lists, 0)
            self.assertTrue(agree(found, self.known))
            self.assertTrue(report.ok, report.problems)

    def test_openusd_has_the_group_once_and_point_instancers_in_it(self) -> None:
        for fmt in ("usda", "usdc", "usdz"):
            for least, lists in ((6, 15), (0, 0)):
                with self.subTest(fmt, least=least):
                    package, report = delivered(self.scene, fmt, least)
                    found, instancers, groups = by_usd_core(package.files)
                    self.assertEqual((instancers, groups), (lists, 5))
                    self.assertTrue(agree(found, self.known))
                    self.assertTrue(report.ok, [report.problems, [r.told for r in report.rows if r.faults][:3]])

    def test_a_group_written_once_makes_the_file_smaller(self) -> None:
        many = find_compounds(village(pieces=60, kinds=10, places=30, seed=4))
        once = len(delivered(many, "usda", 0)[0].files["scene.usda"])
        route = Route.model_validate({"steps": [{"kind": "match_units_axes", "bakeScale": False}]})
        plain, _ = sent(many, "s", "0" * 64, target(0, instancing=False), route, "usda")
        self.assertLess(once, 0.2 * len(plain.files["scene.usda"]))

    def test_what_came_back_is_the_same_scene(self) -> None:
        for fmt in ("glb", "usdc"):
            package, _ = delivered(self.scene, fmt, 6)
            again = read(package.files[f"scene.{fmt}"], f"scene.{fmt}")
            with self.subTest(fmt):
                self.assertTrue(agree(again.nodes.world[again.nodes.parts], self.known))
                self.assertEqual(len({again.meshes[m].id for m in again.nodes.mesh[again.nodes.parts]}), 3)

    def test_what_moves_has_data_or_is_dealt_with_otherwise_is_in_no_list(self) -> None:
        count = 30
        local = np.tile(np.eye(4), (count + 1, 1, 1))
        local[1:, 0, 3] = np.arange(count)
        nodes = make_nodes(
            [-1, *[0] * count], local, ["row", *(f"bollard_{k}" for k in range(count))], mesh=[-1, *[0] * count],
            extras={3: {"note": "painted"}}, rest={4: ((3.0, 0, 0), (0, 0, 0, 1), (1, 1, 1))},
        )  # fmt: skip
        nodes = replace(nodes, flags=np.where(np.arange(count + 1) == 5, HIDDEN, 0).astype(np.uint8))
        turned = np.array([[0, 0, 0, 1], [0, 1, 0, 0]], np.float32)
        clip = Clip((Channel(4, "rotation", np.array([0.0, 1], np.float32), turned),), "turn")
        scene = self.scene.but(nodes=nodes, clips=(clip,), roots=(), meshes=self.scene.meshes[:1])
        moving = PartSet.model_validate(
            {"id": "a", "name": "gates", "rules": [{"names": ["bollard_2?"]}], "treatment": {"mayMove": True}}
        )
        shade = PartSet.model_validate(
            {"id": "b", "name": "shade", "rules": [{"names": ["bollard_1?"]}], "treatment": {"shadowOnly": True}}
        )
        package, report = delivered(scene, "glb", 5, [moving, shade])
        listed = {p.name for p in package.manifest.parts if p.node < 0}
        self.assertEqual(listed, {f"bollard_{k}" for k in range(count) if k not in (2, 3, 4) and not 20 <= k < 30})
        _, lists = by_pygltflib(package.files["scene.glb"])
        self.assertEqual(lists, 2)  # shadow only ones have their own
        self.assertTrue(report.ok, report.problems)

    def test_a_moved_copy_of_a_list_is_found_by_the_arrival(self) -> None:
        package, _ = delivered(self.scene, "glb", 6)
        data = bytearray(package.files["scene.glb"])
        length = int.from_bytes(data[12:16], "little")
        document = json.loads(data[20 : 20 + length])
        node = next(n for n in document["nodes"] if "EXT_mesh_gpu_instancing" in n.get("extensions", {}))
        accessor = document["accessors"][node["extensions"]["EXT_mesh_gpu_instancing"]["attributes"]["TRANSLATION"]]
        at = 20 + length + 8 + document["bufferViews"][accessor["bufferView"]].get("byteOffset", 0)
        places = np.frombuffer(data, np.float32, 3, at).copy()
        places[1] += 0.02
        data[at : at + 12] = places.tobytes()
        route = Route.model_validate({"steps": [{"kind": "match_units_axes", "bakeScale": False}]})
        _, result = sent(self.scene, "s", "0" * 64, target(6), route, "glb")
        with tempfile.TemporaryDirectory() as folder:
            save({**package.files, "scene.glb": bytes(data)}, Path(folder) / "p")
            report, _ = prove(Path(folder) / "p", self.scene, result)
        self.assertFalse(report.ok)
        self.assertAlmostEqual(max(r.position_mm for r in report.rows), 20, delta=0.1)

    def test_top_level_copies_of_a_scene_get_a_list_there(self) -> None:
        count = 12
        local = np.tile(np.eye(4), (count, 1, 1))
        local[:, 2, 3] = np.arange(count)
        nodes = make_nodes([-1] * count, local, [f"post_{k}" for k in range(count)], mesh=[0] * count)
        scene = self.scene.but(nodes=nodes, roots=(), meshes=self.scene.meshes[:1])
        package, report = delivered(scene, "glb", 10)
        found, lists = by_pygltflib(package.files["scene.glb"])
        self.assertEqual(lists, 1)
        self.assertTrue(agree(found, nodes.world))
        self.assertTrue(report.ok, report.problems)
        self.assertFalse((scene.nodes.flags & SCATTER).any())


if __name__ == "__main__":
    unittest.main()
