"""Random scenes through every writer, read back by libraries that know nothing of ours, triangle by triangle."""

from __future__ import annotations

import io
import tempfile
import unittest
from functools import lru_cache
from pathlib import Path
from typing import Any

import collada
import numpy as np
import trimesh
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from pxr import Gf, Usd, UsdGeom
from scipy.spatial import cKDTree

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


def middles(mesh: Any) -> F64:
    return np.asarray(mesh.triangles, np.float64).mean(axis=1)


def by_trimesh(files: dict[str, bytes], kind: str) -> F64:
    if kind == "gltf":
        main = next(n for n in files if n.endswith(".gltf"))
        with tempfile.TemporaryDirectory() as folder:
            for name, data in files.items():
                (Path(folder) / name).parent.mkdir(parents=True, exist_ok=True)
                (Path(folder) / name).write_bytes(data)
            return middles(trimesh.load_scene(Path(folder) / main).to_geometry())
    data = next(d for n, d in files.items() if n.endswith(f".{kind}"))
    return middles(trimesh.load_scene(io.BytesIO(data), file_type=kind, process=False).to_geometry())


def by_pycollada(files: dict[str, bytes]) -> F64:
    document = collada.Collada(io.BytesIO(next(d for n, d in files.items() if n.endswith(".dae"))))
    out = []
    for bound in document.scene.objects("geometry"):
        for primitive in bound.primitives():
            triangles = primitive.triangleset() if hasattr(primitive, "triangleset") else primitive
            out.append(np.asarray(triangles.vertex, np.float64)[triangles.vertex_index].mean(axis=1))
    return np.concatenate(out) * float(document.assetInfo.unitmeter)


def by_usd_core(files: dict[str, bytes]) -> F64:
    """Points through the library's own matrices; every face of the packages is a triangle."""
    with tempfile.TemporaryDirectory() as folder:
        for name, data in files.items():
            (Path(folder) / name).write_bytes(data)
        stage = Usd.Stage.Open(str(Path(folder) / next(n for n in files if ".usd" in n)))
        cache, out = UsdGeom.XformCache(), []
        for prim in stage.Traverse(Usd.TraverseInstanceProxies()):
            if prim.IsA(UsdGeom.Mesh):
                mesh = UsdGeom.Mesh(prim)
                world = np.asarray(Gf.Matrix4d(cache.GetLocalToWorldTransform(prim)))
                points = np.asarray(mesh.GetPointsAttr().Get(), np.float64)
                faces = np.asarray(mesh.GetFaceVertexIndicesAttr().Get()).reshape(-1, 3)
                out.append((points @ world[:3, :3] + world[3, :3])[faces].mean(axis=1))
        return np.concatenate(out) * UsdGeom.GetStageMetersPerUnit(stage)


def same(got: F64, known: F64, tolerance: float) -> bool:
    """Every middle is one of the known ones, each taken once."""
    if got.shape != known.shape:
        return False
    far, which = cKDTree(known).query(got)
    # equal triangles may lie on each other; then the nearest is any of them
    places = np.unique(np.round(known, 3), axis=0)
    return bool(far.max() <= tolerance) and len(np.unique(np.round(known[which], 3), axis=0)) == len(places)


def independent(files: dict[str, bytes], kind: str) -> F64:
    if kind == "dae":
        return by_pycollada(files)
    return by_usd_core(files) if kind.startswith("usd") else by_trimesh(files, kind)


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
