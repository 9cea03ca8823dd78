"""Random routes over random scenes, some steps for some of the parts: whatever the arrival says is a false alarm, or a step
does what it does not declare."""

from __future__ import annotations

import random
import tempfile
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from tests.planted import box, kiosk
from tidy_caravan.core.carry import package_of, prove
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.formats import writable
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import Route, run
from tidy_caravan.core.scene import GLTF, Mesh, Root, Scene, make_nodes
from tidy_caravan.core.steps import known_steps

NAMES = ("bench", "bench", "pfahl ä", "Lamp post 7", "", "gate/leaf", "x" * 70, "door leaf", "bollard.001")
WIDE = 1e6
"""Range of a parameter from which on it says where something is, and is left as it is."""


def shape(rng: np.random.Generator) -> Mesh:
    """A box of two materials, or something round, hollow or in pieces; with or without normals, coordinates, colours."""
    kind = int(rng.integers(0, 7))
    if kind < 2:
        made = box(tuple(rng.uniform(0.1, 3, 3).tolist()), 1)
        return replace(made, material=np.minimum(made.material + int(rng.integers(0, 4)), 3).astype(np.int32))
    some = (
        lambda: trimesh.creation.icosphere(int(rng.integers(0, 3)), rng.uniform(0.2, 1)),
        lambda: trimesh.creation.cylinder(0.3, rng.uniform(0.5, 3), sections=int(rng.integers(3, 16))),
        lambda: trimesh.creation.annulus(0.2, 0.5, 1, sections=8),
        lambda: trimesh.util.concatenate(
            [trimesh.creation.box(rng.uniform(0.1, 1, 3)).apply_translation(rng.uniform(-2, 2, 3)) for _ in range(3)]
        ),
        lambda: trimesh.creation.capsule(1, 0.3, count=(6, 6)),
    )
    solid = some[kind - 2]()
    if rng.random() < 0.5:
        solid.apply_translation(rng.uniform(-3, 3, 3))
    faces, points = np.asarray(solid.faces, np.uint32), np.asarray(solid.vertices, np.float32)
    faces = faces[:, ::-1] if rng.random() < 0.2 else faces
    more: dict[str, Any] = {}
    if rng.random() < 0.6:
        more["normals"] = np.asarray(solid.vertex_normals, np.float32)
    if rng.random() < 0.6:
        flat = np.column_stack([np.arctan2(points[:, 1], points[:, 0]) / 6.28, points[:, 2]]).astype(np.float32)
        more["uvs"] = (flat, flat * np.float32(0.3)) if rng.random() < 0.4 else (flat,)
    if rng.random() < 0.2:
        more["colors"] = (np.clip(np.column_stack([points, np.ones(len(points))]), 0, 1).astype(np.float32),)
    slots = np.full(len(faces), int(rng.integers(-1, 4)), np.int32)
    slots[len(slots) // 2 :] = int(rng.integers(-1, 4))
    return Mesh(points, faces, slots, **more)


def copied(mesh: Mesh, rng: np.random.Generator) -> Mesh:
    """The mesh turned and moved in its vertices, its vertices and triangles in the same order or in another."""
    turn = trimesh.transformations.random_rotation_matrix(rng.random(3))[:3, :3]
    normals = None if mesh.normals is None else (mesh.normals @ turn.T).astype(np.float32)
    points = (mesh.positions.astype(np.float64) @ turn.T + rng.uniform(-8, 8, 3)).astype(np.float32)
    out = replace(mesh, positions=points, normals=normals, tangents=None)
    if rng.random() < 0.5:
        order = rng.permutation(mesh.triangles)
        out = replace(out, indices=np.roll(out.indices[order], 1, axis=1), material=out.material[order])
        vertices = rng.permutation(mesh.vertices)
        out = out.with_vertices(vertices, indices=np.argsort(vertices)[out.indices].astype(np.uint32))
    return out


def random_scene(seed: int) -> Scene:
    """A tree of shared, mirrored, stretched and copied things, called alike, in one root or the other."""
    rng = np.random.default_rng(seed)
    meshes = [shape(rng) for _ in range(int(rng.integers(3, 9)))]
    meshes += [copied(m, rng) for m in meshes if rng.random() < 0.5]
    count = int(rng.integers(8, 40))
    parent = [int(rng.integers(-1, k)) if k and rng.random() < 0.8 else -1 for k in range(count)]
    local = np.tile(np.eye(4), (count, 1, 1))
    for one in local:
        if rng.random() < 0.6:
            one[:] = trimesh.transformations.rotation_matrix(np.pi / 2 * int(rng.integers(4)), [0, 1, 0])
        scales = (np.ones(3), np.full(3, rng.uniform(0.3, 3)), np.array([-1.0, 1, 1]), rng.uniform(0.5, 2, 3))
        one[:3, :3] *= scales[int(rng.choice(4, p=[0.65, 0.12, 0.12, 0.11]))]
        one[:3, 3] = np.round(rng.uniform(-6, 6, 3), int(rng.integers(0, 3)))
    names = [str(rng.choice(NAMES)) for _ in range(count)]
    data = {
        k: {"berth": int(rng.integers(9)), "kind": ["quay", None, True]} for k in range(count) if rng.random() < 0.15
    }
    nodes = make_nodes(
        parent, local, names, mesh=np.where(rng.random(count) < 0.75, rng.integers(0, len(meshes), count), -1),
        layer=rng.integers(-1, 2, count), extras=data,
    )  # fmt: skip
    tops = tuple(k for k in range(count) if parent[k] < 0)
    roots = (Root(tops, "landing"),) if rng.random() < 0.5 else ()
    looks = kiosk()
    return Scene(
        GLTF, nodes, tuple(meshes), looks.materials, looks.textures, looks.images, layers=("quay", "hall"), roots=roots
    )


def random_value(draw: random.Random, given: dict[str, Any]) -> Any:
    """A value of a parameter by its schema, None to leave it."""
    if "enum" in given:
        return draw.choice(given["enum"])
    if given.get("type") == "boolean":
        return draw.random() < 0.5
    low = given.get("minimum", given.get("exclusiveMinimum"))
    high = given.get("maximum", given.get("exclusiveMaximum"))
    if low is None or high is None or high - low > WIDE or draw.random() < 0.4:
        return None
    usual = given.get("default", low)
    value = min(max(draw.choice([usual * 0.5, usual * 2, usual * 5, low + (high - low) * 1e-3]), low), high)
    value = usual if "exclusiveMinimum" in given and value <= low else value
    return round(value) if given["type"] == "integer" else value


def random_route(draw: random.Random, scene: Scene) -> Route:
    """Up to four steps in the order of a route, each for all or for half of the parts."""
    kinds = list(known_steps())
    chosen = draw.sample([k for k in kinds if k not in ("match_units_axes", "subdivide")], draw.randrange(1, 5))
    steps: list[dict[str, Any]] = [{"kind": "match_units_axes", "bakeScale": draw.random() < 0.5, **correction(draw)}]
    for kind in sorted(chosen, key=kinds.index):
        schema = known_steps()[kind].model_json_schema()
        step: dict[str, Any] = {"kind": kind}
        for name, given in schema["properties"].items():
            if name not in ("kind", "where", "enabled", "id") and draw.random() < 0.5:
                value = random_value(draw, given)
                step |= {} if value is None else {name: value}
        parts = [i for i in scene.nodes.parts.tolist() if draw.random() < 0.5]
        if parts and draw.random() < 0.4:
            step["where"] = {"parts": scene.identities.given(parts)}
        steps.append(step)
    if draw.random() < 0.3:
        steps.append({"kind": "recentre", **{k: draw.uniform(-9, 9) for k in ("east", "north", "up")}})
    if draw.random() < 0.3:  # also not in the order that the page puts them in
        steps.insert(draw.randrange(len(steps)), steps.pop(0))
    return Route.model_validate({"steps": steps})


def correction(draw: random.Random) -> dict[str, Any]:
    """What is known better of the source's unit and axes than the file says, more often than not nothing."""
    if draw.random() < 0.6:
        return {}
    up, forward = draw.sample("XYZ", 2)
    return {
        "sourceMetresPerUnit": draw.choice([0.001, 0.01, 0.0254, 1.0, None]),
        "sourceUp": draw.choice(["", "-"]) + up,
        "sourceForward": draw.choice(["", "-"]) + forward,
        "sourceHandedness": draw.choice(["right", "left", None]),
    }


@dataclass
class Routes:
    tried: int = 0
    faults: list[str] = field(default_factory=list)


def try_routes(count: int, seed: int, tell: Callable[[str], None] = lambda text: None) -> Routes:
    out = Routes()
    for number in range(seed, seed + count):
        draw = random.Random(number)
        scene, destination = random_scene(number), draw.choice(BUILT_IN)
        route, fmt = random_route(draw, scene), draw.choice(list(writable()))
        out.tried += 1
        with tempfile.TemporaryDirectory() as folder:
            result, records = run(scene, route, destination)
            package = package_of(result, scene, "scene", "0" * 64, destination, route, fmt, records, [])
            save(package.files, Path(folder) / "p")
            report, _ = prove(Path(folder) / "p", scene, result)
        if not report.ok:
            said = [*report.problems, *report.lost, *(str(r.told) for r in report.rows if r.faults)]
            kinds = ", ".join(s.get("kind", "?") if isinstance(s, dict) else s.kind for s in route.steps)
            out.faults.append(f"seed {number}, {fmt} for {destination.name}, {kinds}: {said[0] if said else 'refused'}")
            tell(out.faults[-1])
    return out
