"""Untouched packages of many sources in every format for every destination: whatever the arrival says is a false alarm."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from tests.core import test_pose, test_usd
from tests.core.test_gltf import everything
from tests.core.test_ifc import Model, at
from tests.planted import box, kiosk
from tests.support import read, trimesh_scene
from tidy_caravan.core.carry import carry, prove
from tidy_caravan.core.conventions.destinations import BUILT_IN, Destination
from tidy_caravan.core.formats import writable
from tidy_caravan.core.geometry.tangents import with_tangents
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import Route, default_route
from tidy_caravan.core.scene import HIDDEN, Material, Mesh, Scene, make_nodes
from tidy_caravan.core.scene.convention import GLTF, Convention
from tidy_caravan.demo.ferry_landing import landing

Make = Callable[[], Scene]
UNITS = Route(steps=default_route().steps[:2])
TIDY = Route(
    steps=[
        *default_route().steps[:2],
        {"kind": "mend_normals"},
        {"kind": "drop_degenerates"},
        {"kind": "place_pivots"},
        {"kind": "tidy_names"},
        {"kind": "drop_empties"},
        {"kind": "first_uvs"},
    ]
)
SHIFT = 4_321_987.654


def from_trimesh(seed: int, count: int, span: float, odd: bool, kind: str) -> Make:
    return lambda: read(trimesh_scene(seed, count, span, odd).export(file_type=kind), f"random.{kind}")


def lump(kind: str, shape: str) -> Make:
    """One mesh by one of the library's own writers, with a picture where the format takes one."""

    def make() -> Scene:
        meshes = {
            "torus": trimesh.creation.torus(2.0, 0.5),
            "annulus": trimesh.creation.annulus(0.4, 1.0, 0.2),
            "ball": trimesh.creation.icosphere(subdivisions=2),
            "capsule": trimesh.creation.capsule(2.0, 0.5),
        }
        data: Any = meshes[shape].export(file_type=kind)
        return read(data.encode() if isinstance(data, str) else data, f"{shape}.{kind}")

    return make


def boxes(count: int, change: Callable[[int], dict[str, Any]], matrix: Callable[[int], Any] | None = None) -> Scene:
    """A row of boxes of their own; `change` says what is different about the mesh of each."""
    meshes = [replace(box((1, 1 + 0.1 * k, 1)), **change(k)) for k in range(count)]
    local = np.tile(np.eye(4), (count, 1, 1))
    local[:, 0, 3] = np.arange(count) * 3
    if matrix is not None:
        local = np.array([matrix(k) @ m for k, m in enumerate(local)])
    nodes = make_nodes(np.full(count, -1), local, [f"box {k}" for k in range(count)], mesh=np.arange(count))
    return Scene(GLTF, nodes, tuple(meshes), (Material("plain"),))


def named(names: list[str]) -> Make:
    def make() -> Scene:
        scene = kiosk()
        known = list(scene.nodes.names)
        known[: len(names)] = names
        return scene.but(nodes=replace(scene.nodes, names=tuple(known)), clips=())

    return make


def with_unused_vertices() -> Scene:
    plain = box((1, 2, 1))
    more = np.concatenate([plain.positions, [[90, 90, 90]] * 3]).astype(np.float32)
    tail = np.zeros((3, 2), np.float32)
    normals = np.concatenate([plain.normals if plain.normals is not None else [], [[0, 1, 0]] * 3]).astype(np.float32)
    return boxes(
        3, lambda k: {"positions": more, "normals": normals, "uvs": tuple(np.concatenate([u, tail]) for u in plain.uvs)}
    )


def thin() -> Scene:
    scene = boxes(4, lambda k: {})
    sheets = [trimesh.creation.box((2.0, 3.0, t)) for t in (5e-6, 1e-5, 1e-4, 1e-3)]
    meshes = [
        Mesh(np.asarray(s.vertices, np.float32), np.asarray(s.faces, np.uint32), np.zeros(12, np.int32)) for s in sheets
    ]
    return scene.but(meshes=tuple(meshes))


def mirrored(k: int) -> Any:
    return np.diag([(-1.0) ** k, 1.0, 1.0, 1.0])


def sheared(k: int) -> Any:
    return np.array([[1, 0.3 * k, 0, 0], [0, 1, 0.1, 0], [0, 0, 1, 0], [0, 0, 0, 1.0]])


def far_off(metres: float) -> Make:
    def make() -> Scene:
        text = []
        base = 1
        for k in range(3):
            points = np.asarray(trimesh.creation.box((2, 3, 1)).vertices) + (metres + 5 * k, 20.0, metres / 2)
            text.append(f"o block {k}")
            text += [f"v {x!r} {y!r} {z!r}" for x, y, z in points.tolist()]
            text += [f"f {a} {b} {c}" for a, b, c in (np.asarray(trimesh.creation.box().faces) + base).tolist()]
            base += 8
        return read("\n".join(text).encode(), "far.obj")

    return make


def from_usd(up: str, metres: float, mirrored_: bool) -> Make:
    def make() -> Scene:
        from pxr import Gf, UsdGeom, UsdShade

        stage = test_usd.Stage(metres=metres, up=up)
        looks = [stage.material(f"/Looks/m{k}", (0.2 * k, 0.5, 0.1)) for k in range(3)]
        for k in range(5):
            group = UsdGeom.Xform.Define(stage.stage, f"/world/group_{k % 2}/part_{k}")
            scale = Gf.Matrix4d(1).SetScale(Gf.Vec3d(-1 if mirrored_ and k % 2 else 1, 1, 1))
            group.MakeMatrixXform().Set(scale * Gf.Matrix4d(1).SetTranslate(Gf.Vec3d(2.5 * k, k, 0.5)))
            mesh = stage.quad(f"/world/group_{k % 2}/part_{k}/surface")
            UsdGeom.PrimvarsAPI(mesh).CreatePrimvar("st", test_usd.Sdf.ValueTypeNames.TexCoord2fArray, "vertex").Set(
                [(0, 0), (1, 0), (1, 1), (0, 1)]
            )
            UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(looks[k % 3])
        return stage.read()

    return make


def from_ifc(length: str, count: int) -> Make:
    def make() -> Scene:
        model = Model(length=length)
        for s in range(2):
            storey = model.storey(f"Storey {s}", 3.0 * s)
            for k in range(count):
                model.element(f"wall {s}.{k}", storey, at(4 * k, s, 3 * s, 15 * k), model.block())
        return model.read()

    return make


def in_convention(convention: Convention, make: Make) -> Make:
    """The same numbers, said to be in another convention."""
    return lambda: make().but(convention=convention)


def tangent_boxes(matrix: Callable[[int], Any]) -> Scene:
    scene = boxes(4, lambda k: {}, matrix)
    return scene.but(meshes=tuple(with_tangents(m, 0) for m in scene.meshes))


def hidden_and_empty() -> Scene:
    scene = kiosk()
    flags = scene.nodes.flags.copy()
    flags[[3, 5]] = HIDDEN
    empty = Mesh(np.zeros((0, 3), np.float32), np.zeros((0, 3), np.uint32), np.zeros(0, np.int32), name="nothing")
    mesh = scene.nodes.mesh.copy()
    mesh[6] = len(scene.meshes)
    return scene.but(meshes=(*scene.meshes, empty), nodes=replace(scene.nodes, flags=flags, mesh=mesh))


def without_materials() -> Scene:
    """One part with, the next without a material, then one with half of each."""
    half = np.array([0] * 6 + [-1] * 6, np.int32)
    return boxes(3, lambda k: {"material": (np.zeros(12, np.int32), np.full(12, -1, np.int32), half)[k]})


def colored(k: int) -> dict[str, Any]:
    """None, opaque ones, some that are clear, and numbers above one."""
    tints = np.linspace(0, (1, 1, 1, 1.5)[k], 96).reshape(24, 4)
    return {"colors": () if k == 0 else (tints.astype(np.float32),)}


def in_one_place() -> Scene:
    """Equal parts of one name in one place, and of one name elsewhere."""
    scene = boxes(6, lambda k: {})
    local = scene.nodes.local.copy()
    local[:3] = local[0]
    nodes = replace(scene.nodes, names=("same",) * 6, local=local, mesh=np.zeros(6, np.int32))
    return scene.but(nodes=nodes, meshes=scene.meshes[:1])


def sources() -> Iterator[tuple[str, Make]]:
    """Names and makers of the scenes, each by a library or a hand that is not ours where there is one."""
    for seed in range(12):
        yield f"random {seed}", from_trimesh(seed, 6 + 3 * seed, 5.0 * 4 ** (seed % 4), seed % 2 == 0, "glb")
    for kind in ("obj", "ply", "stl", "dae", "glb"):
        for shape in ("torus", "annulus", "ball", "capsule"):
            yield f"{shape} as {kind}", lump(kind, shape)
    for up, metres, turned in (("Z", 1.0, False), ("Y", 0.01, False), ("Z", 0.01, True), ("Y", 1.0, True)):
        yield f"OpenUSD {up} {metres} {turned}", from_usd(up, metres, turned)
    for length, count in (("METERS", 2), ("MILLIMETERS", 4)):
        yield f"IFC in {length}", from_ifc(length, count)
    yield "kiosk", kiosk
    yield "everything", lambda: everything().scene()
    yield "demo", landing
    for make in (test_pose.scaled_rig, test_pose.blended_rig, test_pose.bent):
        yield make.__name__, lambda make=make: make()[0]  # type: ignore[misc]
    yield "unnamed", named([""] * 12)
    yield (
        "blanks",
        named(["a b", " lead", "trail ", "a  b", "tab\there", "käse & brot", "木", "x/y", "(12)", "#1", "a.b", "é"]),
    )
    yield "equal names", named(["same"] * 12)
    yield "digits first", named(["1", "2nd", "3", "-4", "_", "__", "5 5", "6.0", "7", "8", "9", "10"])
    yield "unused vertices", with_unused_vertices
    yield "thin sheets", thin
    yield "mirrored", lambda: boxes(4, lambda k: {}, mirrored)
    yield "sheared", lambda: boxes(4, lambda k: {}, sheared)
    yield "tangents, mirrored", lambda: tangent_boxes(mirrored)
    yield "tangents, sheared", lambda: tangent_boxes(sheared)
    yield "tangents, flat", lambda: tangent_boxes(lambda k: np.diag([1.0, 1.0, 0.0 if k == 1 else 1.0, 1.0]))
    yield "without normals", lambda: boxes(3, lambda k: {"normals": None})
    yield "without coordinates", lambda: boxes(3, lambda k: {"uvs": ()})
    yield "some without coordinates", lambda: boxes(4, lambda k: {"uvs": ()} if k % 2 else {})
    yield "vertex colours", lambda: boxes(4, colored)
    yield "without materials", without_materials
    yield "equal parts in one place", in_one_place
    yield "no parts", lambda: Scene(GLTF, make_nodes([-1, 0], np.tile(np.eye(4), (2, 1, 1)), ["empty", "below"]))
    yield "hidden and empty", hidden_and_empty
    yield "flat scale", lambda: boxes(3, lambda k: {}, lambda k: np.diag([1.0, 1.0, 0.0 if k == 1 else 1.0, 1.0]))
    yield "large numbers", lambda: boxes(3, lambda k: {}, lambda k: np.diag([1e4, 1e4, 1e4, 1.0]))
    yield "small numbers", lambda: boxes(3, lambda k: {}, lambda k: np.diag([1e-3, 1e-3, 1e-3, 1.0]))
    for metres in (9_000.0, SHIFT):
        yield f"{metres:.0f} m off", far_off(metres)
    for convention in (
        Convention(0.01, "Z", "Y", "left"),
        Convention(0.0254, "Z", "-Y"),
        Convention(1.0, "X", "Y", "left"),
    ):
        yield f"kiosk in {convention.label()}", in_convention(convention, kiosk)


@dataclass
class Outcome:
    """alarms: what was said of packages that are as they were written."""

    sources: int = 0
    packages: int = 0
    alarms: list[str] = field(default_factory=list)
    seconds: float = 0.0


def try_arrivals(
    most: int = 1000,
    formats: tuple[str, ...] = tuple(sorted(writable())),
    destinations: tuple[Destination, ...] = tuple(BUILT_IN),
    tell: Callable[[str], None] = lambda text: None,
    every: int = 1,
) -> Outcome:
    """Carries `most` sources (each `every`-th) in all formats to all destinations, by two routes in turn."""
    out = Outcome()
    began = time.monotonic()
    chosen = list(sources())[::every][:most]
    for number, (name, make) in enumerate(chosen):
        scene = make()
        out.sources += 1
        for k, to in enumerate(destinations):
            route = TIDY if (number + k) % 2 else UNITS
            for fmt in formats:
                out.packages += 1
                alarm = one(scene, to, route, fmt)
                if alarm:
                    out.alarms.append(
                        f"{name}, {to.name}, {fmt}, {'tidied' if route is TIDY else 'as it is'}: {alarm}"[:400]
                    )
                    tell(out.alarms[-1])
        tell(f"{out.sources} of {len(chosen)}: {name}; {out.packages} packages, {len(out.alarms)} alarms")
    out.seconds = time.monotonic() - began
    return out


def one(scene: Scene, to: Destination, route: Route, fmt: Any) -> str:
    with tempfile.TemporaryDirectory() as folder:
        package, result, *_ = carry(scene, "source", "0" * 64, to, route, fmt)
        save(package.files, Path(folder))
        report, _ = prove(Path(folder), scene, result)
    if report.ok:
        return ""
    rows = [f"{r.path}: {r.told}" for r in report.rows if r.faults]
    said = [*report.problems, *rows, *(f"lost {p}" for p in report.lost), *(f"extra {p}" for p in report.extra)]
    return f"{len(said)} alarms, such as {said[0]}"
