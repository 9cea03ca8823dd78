"""Reading OpenUSD, IFC and COLLADA against the format libraries' own plain read of the same file.

A plain read opens the file and takes what a loader needs through the library's own calls, in a fresh process, as
ours does: arrays, matrices, visibility, bound materials. Nothing is made of them.
"""

from __future__ import annotations

import io
import subprocess
import sys
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from benchmarks.timing import in_turn
from tidy_caravan.core.formats import bundle_from_files, load, write

MESHES, INSTANCES, COPIES = 600, 6_000, 100_000
WRITTEN = 5_000
PLAIN_USD = """
import sys, numpy as np
from pxr import Usd, UsdGeom, UsdShade
stage = Usd.Stage.Open(sys.argv[1])
cache = UsdGeom.XformCache()
for prim in stage.Traverse(Usd.TraverseInstanceProxies()):
    image = UsdGeom.Imageable(prim)
    if image:
        image.ComputeVisibility(); image.ComputePurpose()
        np.array(cache.GetLocalToWorldTransform(prim))
    if prim.IsA(UsdGeom.Mesh):
        mesh = UsdGeom.Mesh(prim)
        np.array(mesh.GetPointsAttr().Get()); np.array(mesh.GetFaceVertexCountsAttr().Get())
        np.array(mesh.GetFaceVertexIndicesAttr().Get()); mesh.GetNormalsAttr().Get()
        for primvar in UsdGeom.PrimvarsAPI(prim).GetPrimvarsWithValues():
            np.array(primvar.ComputeFlattened())
        UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()
    elif prim.IsA(UsdGeom.PointInstancer):
        np.array(UsdGeom.PointInstancer(prim).ComputeInstanceTransformsAtTime(0, 0))
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
placed = [(bound.matrix, bound.original) for bound in document.scene.objects("geometry")]
"""
OURS = """
import sys
from pathlib import Path
from tidy_caravan.core.formats import bundle_from_path, load
load(bundle_from_path(Path(sys.argv[1])))
"""


def usd_file(folder: Path) -> Path:
    """Meshes of 2,048 quads with UVs, forty of them as benches of two pieces in thousands of instances, and a
    point instancer of a hundred thousand copies."""
    from pxr import Sdf, Usd, UsdGeom, UsdShade, Vt

    path = folder / "scene.usdc"
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    rng = np.random.default_rng(0)
    oak = UsdShade.Material.Define(stage, "/Looks/oak")
    shader = UsdShade.Shader.Define(stage, "/Looks/oak/surface")
    shader.CreateIdAttr("UsdPreviewSurface")
    oak.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
    side = 45
    grid = (np.arange(side)[:, None] * (side + 1) + np.arange(side)).ravel()
    quads = np.stack([grid, grid + 1, grid + side + 2, grid + side + 1], axis=1).astype(np.int32)
    points = (side + 1) ** 2

    def mesh(where: str) -> None:
        made = UsdGeom.Mesh.Define(stage, where)
        made.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(rng.random((points, 3)).astype(np.float32)))
        made.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(len(quads), 4, np.int32)))
        made.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(quads.ravel()))
        made.CreateSubdivisionSchemeAttr("none")
        uv = UsdGeom.PrimvarsAPI(made).CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, "vertex")
        uv.Set(Vt.Vec2fArray.FromNumpy(rng.random((points, 2)).astype(np.float32)))
        UsdShade.MaterialBindingAPI.Apply(made.GetPrim()).Bind(oak)

    stage.CreateClassPrim("/pieces")
    benches = 40
    for i in range(benches):
        UsdGeom.Xform.Define(stage, f"/pieces/bench_{i}")
        for piece in ("seat", "frame"):
            mesh(f"/pieces/bench_{i}/{piece}")
    for i in range(MESHES - 2 * benches):
        mesh(f"/hall/group_{i // 100}/part_{i}")
    for i in range(INSTANCES):
        bench = UsdGeom.Xform.Define(stage, f"/hall/row_{i // 100}/bench_{i}")
        bench.AddTranslateOp().Set(tuple(rng.uniform(-50, 50, 3).tolist()))
        bench.GetPrim().GetReferences().AddInternalReference(f"/pieces/bench_{i % benches}")
        bench.GetPrim().SetInstanceable(True)
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
    """Nine hundred meshes in six thousand places."""
    import trimesh

    scene = trimesh.Scene()
    rng = np.random.default_rng(1)
    shapes: list[Any] = []
    for i in range(900):
        ball = trimesh.creation.icosphere(subdivisions=3, radius=1 + i / 300)
        shapes.append(ball)
    for i in range(6000):
        matrix = trimesh.transformations.translation_matrix(rng.uniform(-50, 50, 3))
        scene.add_geometry(shapes[i % 900], node_name=f"n{i}", geom_name=f"g{i % 900}", transform=matrix)
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
        "\nimport resource, time\n"
        "from tidy_caravan.core.work.isolation import nursery\n"
        "time.sleep(0.5)\n"  # what a child took is known once it ended, and what it was forked from as well
        "nursery().close()\n"
        "own = int(Path('/proc/self/status').read_text().split('VmHWM:')[1].split()[0])\n"  # of this program alone
        "print(own // 1024, resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss // 1024)"
    )
    out = subprocess.run([sys.executable, "-c", program, str(file)], check=True, capture_output=True, text=True)
    own, child = out.stdout.split()
    return f"{own} MiB, {child} MiB in its child"


def measure(folder: Path) -> list[tuple[str, float, str, float]]:
    out = []
    for title, make, plain, limit in (
        (f"OpenUSD, {MESHES} meshes, {INSTANCES} instances, {COPIES} copies", usd_file, PLAIN_USD, 2.0),
        ("IFC, eight halls with openings", ifc_file, PLAIN_IFC, 2.0),
        ("COLLADA, 900 meshes in 6,000 places", dae_file, PLAIN_DAE, 1.5),
    ):
        file = make(folder)
        taken = in_turn({"plain": read_by(plain, file), "ours": read_by(OURS, file)}, 3)
        size = file.stat().st_size / 2**20
        print(
            f"     formats   {title}, {size:.1f} MiB: plain {taken['plain']:.2f} s, ours {taken['ours']:.2f} s, peak {peak(file)}"
        )
        out.append((f"{title}, against the library's plain read", taken["ours"] / taken["plain"], "≤", limit))
    return out + loose_triangles() + written()


def written() -> list[tuple[str, float, str, float]]:
    """Writing four times as many instances of one mesh."""
    import trimesh

    def scene_of(count: int) -> Any:
        scene = trimesh.Scene()
        places = np.random.default_rng(2).uniform(-500, 500, (count, 3))
        scene.add_geometry(trimesh.creation.box((1, 2, 3)), node_name="n0", geom_name="crate")
        for k, place in enumerate(places):
            matrix = trimesh.transformations.translation_matrix(place)
            scene.graph.update(frame_to=f"n{k}", matrix=matrix, geometry="crate")
        return load(bundle_from_files({"a.glb": scene.export(file_type="glb")}))

    few, many = scene_of(WRITTEN), scene_of(4 * WRITTEN)
    out = []
    for kind in ("usdc", "dae", "glb"):
        ways: dict[str, Callable[[], object]] = {
            "few": partial(write, few, kind, "x"),
            "many": partial(write, many, kind, "x"),
        }
        taken = in_turn(ways, 2)
        print(f"     formats   {4 * WRITTEN} parts written as {kind}: {taken['many']:.2f} s")
        out.append((f"four times as many parts written as {kind}", taken["many"] / taken["few"], "≤", 6.0))
    return out


def loose_triangles() -> list[tuple[str, float, str, float]]:
    """A ball of 327,680 triangles, against the fastest reader there is with equal corners joined, as a mesh needs it."""
    import trimesh

    ball = trimesh.creation.icosphere(subdivisions=7)
    out = []
    for kind, limit in (("obj", 1.0), ("ply", 1.0), ("stl", 1.0)):
        data = ball.export(file_type=kind)
        data = data.encode() if isinstance(data, str) else data

        def plain(data: bytes = data, kind: str = kind) -> object:
            return trimesh.load(io.BytesIO(data), file_type=kind, process=True)

        def ours(data: bytes = data, kind: str = kind) -> object:
            return load(bundle_from_files({f"ball.{kind}": data}))

        taken = in_turn({"plain": plain, "ours": ours}, 5)
        out.append(
            (f"327,680 triangles as {kind.upper()}, against trimesh", taken["ours"] / taken["plain"], "≤", limit)
        )
    return out
