"""Reading OpenUSD, IFC and COLLADA against the format libraries' own plain read of the same file.

A plain read opens the file and takes every array and matrix of its geometry through the library's own calls,
in a fresh process, as ours does. Nothing is made of them.
"""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from benchmarks.timing import in_turn
from tidy_caravan.core.formats import bundle_from_files, load, write

PRIMS, COPIES = 4000, 100_000
PLAIN_USD = """
import sys, numpy as np
from pxr import Usd, UsdGeom
stage = Usd.Stage.Open(sys.argv[1])
cache = UsdGeom.XformCache()
for prim in stage.Traverse():
    if prim.IsA(UsdGeom.Xformable):
        np.array(cache.GetLocalTransformation(prim)[0])
    if prim.IsA(UsdGeom.Mesh):
        mesh = UsdGeom.Mesh(prim)
        np.array(mesh.GetPointsAttr().Get()); np.array(mesh.GetFaceVertexCountsAttr().Get())
        np.array(mesh.GetFaceVertexIndicesAttr().Get())
        for primvar in UsdGeom.PrimvarsAPI(prim).GetPrimvarsWithValues():
            np.array(primvar.ComputeFlattened())
    elif prim.IsA(UsdGeom.PointInstancer):
        pi = UsdGeom.PointInstancer(prim)
        np.array(pi.ComputeInstanceTransformsAtTime(0, 0))
"""
PLAIN_IFC = """
import sys, multiprocessing, numpy as np, ifcopenshell, ifcopenshell.geom
file = ifcopenshell.open(sys.argv[1])
settings = ifcopenshell.geom.settings()
hidden = {e.id() for e in file.by_type("IfcOpeningElement")}
walker = ifcopenshell.geom.iterator(settings, file, multiprocessing.cpu_count(),
    include=[p for p in file.by_type("IfcProduct") if p.Representation and p.id() not in hidden])
if walker.initialize():
    while True:
        shape = walker.get()
        np.frombuffer(shape.geometry.verts_buffer); np.frombuffer(shape.geometry.faces_buffer, np.int32)
        np.frombuffer(shape.transformation_buffer)
        if not walker.next():
            break
"""
PLAIN_DAE = """
import sys, collada
document = collada.Collada(sys.argv[1])
"""
OURS = """
import sys
from pathlib import Path
from tidy_caravan.core.formats import bundle_from_path, load
load(bundle_from_path(Path(sys.argv[1])))
"""


def usd_file(folder: Path) -> Path:
    """Meshes of 200 triangles with UVs under transforms, and a point instancer of a hundred thousand copies."""
    from pxr import Sdf, Usd, UsdGeom, Vt

    path = folder / "scene.usdc"
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    rng = np.random.default_rng(0)
    for i in range(PRIMS):
        mesh = UsdGeom.Mesh.Define(stage, f"/hall/group_{i // 100}/part_{i}")
        mesh.AddTranslateOp().Set(tuple(rng.uniform(-50, 50, 3).tolist()))
        mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(rng.random((121, 3)).astype(np.float32)))
        grid = (np.arange(10)[:, None] * 11 + np.arange(10)).ravel()
        quads = np.stack([grid, grid + 1, grid + 12, grid + 11], axis=1).astype(np.int32)
        mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(100, 4, np.int32)))
        mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(quads.ravel()))
        mesh.CreateSubdivisionSchemeAttr("none")
        uv = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, "vertex")
        uv.Set(Vt.Vec2fArray.FromNumpy(rng.random((121, 2)).astype(np.float32)))
    pi = UsdGeom.PointInstancer.Define(stage, "/stones")
    stone = UsdGeom.Sphere.Define(stage, "/stones/prototypes/stone")
    pi.CreatePrototypesRel().SetTargets([stone.GetPath()])
    pi.CreateProtoIndicesAttr(Vt.IntArray.FromNumpy(np.zeros(COPIES, np.int32)))
    pi.CreatePositionsAttr(Vt.Vec3fArray.FromNumpy(rng.random((COPIES, 3)).astype(np.float32)))
    stage.GetRootLayer().Save()
    return path


def ifc_file(folder: Path) -> Path:
    """The demo's hall eight times side by side, every wall with its openings."""
    from tidy_caravan.demo.three_trades import hall_ifc

    path = folder / "hall.ifc"
    path.write_bytes(hall_ifc(copies=8))
    return path


def dae_file(folder: Path) -> Path:
    """Three hundred meshes in three thousand places."""
    import trimesh

    scene = trimesh.Scene()
    rng = np.random.default_rng(1)
    shapes: list[Any] = []
    for i in range(300):
        ball = trimesh.creation.icosphere(subdivisions=3, radius=1 + i / 100)
        shapes.append(ball)
    for i in range(3000):
        matrix = trimesh.transformations.translation_matrix(rng.uniform(-50, 50, 3))
        scene.add_geometry(shapes[i % 300], node_name=f"n{i}", geom_name=f"g{i % 300}", transform=matrix)
    made = load(bundle_from_files({"a.glb": scene.export(file_type="glb")}))
    path = folder / "scene.dae"
    path.write_bytes(write(made, "dae", "scene").files["scene.dae"])
    return path


def read_by(program: str, file: Path) -> Callable[[], object]:
    def once() -> object:
        return subprocess.run([sys.executable, "-c", program, str(file)], check=True, stderr=subprocess.DEVNULL)

    return once


def peak(file: Path) -> str:
    """Peak memory of our whole read, with its child, as the operating system counts it."""
    program = OURS + (
        "\nimport resource\n"
        "own, child = (resource.getrusage(w).ru_maxrss for w in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))\n"
        "print(own // 1024, child // 1024)"
    )
    out = subprocess.run([sys.executable, "-c", program, str(file)], check=True, capture_output=True, text=True)
    own, child = out.stdout.split()
    return f"{own} MiB, {child} MiB in its child"


def measure(folder: Path) -> list[tuple[str, float, str, float]]:
    out = []
    for title, make, plain, limit in (
        (f"OpenUSD, {PRIMS} meshes and {COPIES} copies", usd_file, PLAIN_USD, 2.0),
        ("IFC, eight halls with openings", ifc_file, PLAIN_IFC, 2.0),
        ("COLLADA, 300 meshes in 3,000 places", dae_file, PLAIN_DAE, 1.5),
    ):
        file = make(folder)
        taken = in_turn({"plain": read_by(plain, file), "ours": read_by(OURS, file)}, 3)
        size = file.stat().st_size / 2**20
        print(
            f"     formats   {title}, {size:.1f} MiB: plain {taken['plain']:.2f} s, ours {taken['ours']:.2f} s, peak {peak(file)}"
        )
        out.append((f"{title}, against the library's plain read", taken["ours"] / taken["plain"], "≤", limit))
    return out
