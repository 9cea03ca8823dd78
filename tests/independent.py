"""Packages read by libraries that know nothing of ours: where every triangle stands, in the file's own numbers."""

from __future__ import annotations

import io
import tempfile
from pathlib import Path
from typing import Any

import collada
import numpy as np
import trimesh
from pxr import Gf, Usd, UsdGeom
from scipy.spatial import cKDTree

from tidy_caravan.core.scene.arrays import F64


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
    out: list[F64] = []

    def walk(node: Any, above: F64) -> None:
        if isinstance(node, collada.scene.GeometryNode):
            for primitive in node.geometry.primitives:
                triangles = primitive.triangleset() if hasattr(primitive, "triangleset") else primitive
                points = np.asarray(triangles.vertex, np.float64) @ above[:3, :3].T + above[:3, 3]
                out.append(points[triangles.vertex_index].mean(axis=1))
        if isinstance(node, collada.scene.Node):
            # the library keeps matrices as float32; the text has them whole
            here = above
            for one in node.transforms:
                here = here @ np.array(one.xmlnode.text.split(), np.float64).reshape(4, 4)
            for child in node.children:
                walk(child, here)

    for node in document.scene.nodes:
        walk(node, np.eye(4))
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
