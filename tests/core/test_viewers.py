"""Cameras and lights below odd parents: they look where they looked, in every convention and every format."""

from __future__ import annotations

import io
import itertools
import tempfile
import unittest
from pathlib import Path
from typing import Any

import collada
import numpy as np
from pxr import Gf, Usd, UsdGeom, UsdLux

from tests.support import Gltf, sent
from tidy_caravan.core.conventions.destinations import BUILT_IN, Destination
from tidy_caravan.core.formats.gltf.receive import document_of, local_of
from tidy_caravan.core.route import Route
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import F64

AXES = ("X", "-X", "Y", "-Y", "Z", "-Z")
ROUTE = Route(steps=[{"kind": "match_units_axes"}])
TURN = [0.2, 0.4, -0.1, float(np.sqrt(1 - 0.21))]
PARENTS: dict[str, dict[str, Any]] = {
    "plain": {"rotation": TURN},
    "stretched": {"scale": [1.0, 3.0, 0.5], "rotation": TURN},
    "mirrored": {"scale": [-1.0, 1.0, 1.0], "rotation": TURN},
    "mirrored upwards": {"scale": [2.0, -2.0, 2.0]},
}
CHILD: dict[str, Any] = {"rotation": [0.1, -0.5, 0.3, float(np.sqrt(1 - 0.35))], "translation": [1.0, 2.0, 3.0]}


def matrix(entry: dict[str, Any]) -> F64:
    """By hand, from the standard's formulas."""
    x, y, z, w = entry.get("rotation", (0, 0, 0, 1))
    turn = np.array([
        [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
        [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
        [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
    ])  # fmt: skip
    out = np.eye(4)
    out[:3, :3] = turn * np.array(entry.get("scale", (1, 1, 1)))
    out[:3, 3] = entry.get("translation", (0, 0, 0))
    return out


def source(parent: dict[str, Any]) -> tuple[Scene, F64, F64, F64]:
    """The scene, and where its camera and light stand, look, and have their upper edge (camera)."""
    g = Gltf()
    g.put("cameras", {"type": "perspective", "perspective": {"yfov": 0.7, "znear": 0.1}})
    g.json["extensions"] = {"KHR_lights_punctual": {"lights": [{"type": "spot", "spot": {}}]}}
    g.json["extensionsUsed"] = ["KHR_lights_punctual"]
    eye = g.node(name="eye", camera=0, **CHILD)
    lamp = g.node(name="lamp", extensions={"KHR_lights_punctual": {"light": 0}}, **CHILD)
    g.node(name="parent", children=[eye, lamp], **parent)
    whole = matrix(parent) @ matrix(CHILD)
    ahead = -whole[:3, 2] / np.linalg.norm(whole[:3, 2])
    up = whole[:3, 1] - ahead * (whole[:3, 1] @ ahead)
    return g.scene(), whole[:3, 3], ahead, up / np.linalg.norm(up)


def towards(up: str, forward: str, handedness: str) -> F64:
    """(3, 3) map of glTF numbers: -Z goes ahead, Y up, and X to the side that the hand says."""

    def vector(axis: str) -> F64:
        out = np.zeros(3)
        out["XYZ".index(axis[-1])] = -1.0 if axis.startswith("-") else 1.0
        return out

    side = np.cross(vector(forward), vector(up)) * (1.0 if handedness == "right" else -1.0)
    return np.column_stack([side, vector(up), -vector(forward)])


def world(scene: Scene, name: str) -> F64:
    out: F64 = scene.nodes.world[scene.nodes.names.index(name)]
    return out


def every_convention() -> list[Destination]:
    plain = BUILT_IN[0].model_dump()
    out = []
    for up, forward in itertools.product(AXES, AXES):
        for hand in ("right", "left"):
            if up[-1] != forward[-1]:
                axes = {"metres_per_unit": 0.01, "up": up, "forward": forward, "handedness": hand}
                name = f"d-{up}-{forward}-{hand}".lower().replace("--", "-m")
                out.append(Destination.model_validate(plain | {"name": name, "world": axes}))
    return out


class Viewers(unittest.TestCase):
    def assert_looks(self, found: F64, place: F64, ahead: F64, up: F64, upright: bool, text: str) -> None:
        np.testing.assert_allclose(found[:3, 3], place, atol=1e-5, err_msg=text)
        np.testing.assert_allclose(-found[:3, 2], ahead, atol=1e-6, err_msg=text)
        if upright:
            np.testing.assert_allclose(found[:3, 1], up, atol=1e-6, err_msg=text)
        np.testing.assert_allclose(found[:3, :3].T @ found[:3, :3], np.eye(3), atol=1e-6, err_msg=text)
        self.assertGreater(np.linalg.det(found[:3, :3]), 0, text)

    def test_all_forty_eight_conventions(self) -> None:
        conventions = every_convention()
        self.assertEqual(len(conventions), 48)
        for label, parent in PARENTS.items():
            scene, place, ahead, up = source(parent)
            for d in conventions:
                p = towards(d.world.up, d.world.forward, d.world.handedness)
                _, done = sent(scene, "x.glb", "0" * 64, d, ROUTE, "glb")
                for name in ("eye", "lamp"):
                    self.assert_looks(
                        world(done, name), p @ place * 100, p @ ahead, p @ up, name == "eye", f"{label} {d.name} {name}"
                    )

    def test_as_other_libraries_read_the_files(self) -> None:
        for label, parent in PARENTS.items():
            scene, place, ahead, up = source(parent)
            for d in BUILT_IN:
                p = towards(d.world.up, d.world.forward, d.world.handedness)
                scale = 1.0 / d.world.metres_per_unit
                for kind in ("glb", "dae", "usdc"):
                    with self.subTest(parent=label, to=d.name, kind=kind):
                        package, _ = sent(scene, "x.glb", "0" * 64, d, ROUTE, kind)  # type: ignore[arg-type]
                        for found, upright in FOUND[kind](dict(package.files)):
                            self.assert_looks(found, p @ place * scale, p @ ahead, p @ up, upright, label)

    def test_a_light_on_the_node_of_a_part_stays_when_the_pivot_moves(self) -> None:
        g = Gltf()
        g.json["extensions"] = {"KHR_lights_punctual": {"lights": [{"type": "point"}]}}
        g.json["extensionsUsed"] = ["KHR_lights_punctual"]
        mesh = g.mesh([[50, 0, 0], [51, 0, 0], [50, 1, 0]], [0, 1, 2])
        g.node(name="lamp", mesh=mesh, extensions={"KHR_lights_punctual": {"light": 0}})
        route = Route(steps=[{"kind": "place_pivots"}])
        _, done = sent(g.scene(), "x.glb", "0" * 64, BUILT_IN[0], route, "glb")
        (lit,) = np.flatnonzero(done.nodes.light >= 0).tolist()
        np.testing.assert_allclose(done.nodes.world[lit, :3, 3], (0, 0, 0), atol=1e-9)
        (part,) = done.nodes.parts.tolist()
        self.assertGreater(float(done.nodes.world[part, 0, 3]), 49.0)


def in_gltf(files: dict[str, bytes]) -> list[tuple[F64, bool]]:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "x.glb"
        path.write_bytes(files["scene.glb"])
        document, _ = document_of(path)
    parent = {c: i for i, n in enumerate(document.nodes) for c in n.children or []}
    out = []
    for i, node in enumerate(document.nodes):
        if node.camera is not None or (node.extensions or {}).get("KHR_lights_punctual"):
            whole, at = local_of(node), i
            while at in parent:
                at = parent[at]
                whole = local_of(document.nodes[at]) @ whole
            out.append((whole, node.camera is not None))
    assert len(out) == 2
    return out


def in_collada(files: dict[str, bytes]) -> list[tuple[F64, bool]]:
    document = collada.Collada(io.BytesIO(files["scene.dae"]))
    out: list[tuple[F64, bool]] = []

    def walk(node: Any, above: F64) -> None:
        if isinstance(node, collada.scene.CameraNode | collada.scene.LightNode):
            out.append((above, isinstance(node, collada.scene.CameraNode)))
        if isinstance(node, collada.scene.Node):
            for child in node.children:
                walk(child, above @ np.array(node.matrix, np.float64))

    for node in document.scene.nodes:
        walk(node, np.eye(4))
    assert len(out) == 2
    return out


def in_usd(files: dict[str, bytes]) -> list[tuple[F64, bool]]:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "scene.usdc"
        path.write_bytes(files["scene.usdc"])
        stage = Usd.Stage.Open(str(path))
        cache = UsdGeom.XformCache()
        out = []
        for prim in stage.Traverse():
            if prim.IsA(UsdGeom.Camera) or prim.HasAPI(UsdLux.LightAPI):
                whole = np.asarray(Gf.Matrix4d(cache.GetLocalToWorldTransform(prim))).T
                out.append((whole, prim.IsA(UsdGeom.Camera)))
    assert len(out) == 2
    return out


FOUND = {"glb": in_gltf, "dae": in_collada, "usdc": in_usd}


if __name__ == "__main__":
    unittest.main()
