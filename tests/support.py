"""Builds glTF files by hand, independent of the project's writer, and other things tests share."""

from __future__ import annotations

import base64
import json
import struct
import subprocess
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from tidy_caravan.core.carry import package_of
from tidy_caravan.core.conventions.destinations import Destination, FormatName
from tidy_caravan.core.formats import bundle_from_files, load
from tidy_caravan.core.packing.pack import Package
from tidy_caravan.core.route import Route, run
from tidy_caravan.core.scene import Scene

ROOT = Path(__file__).resolve().parents[1]
CODES = {"i1": 5120, "u1": 5121, "i2": 5122, "u2": 5123, "u4": 5125, "f4": 5126}
SHAPES = {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4", 16: "MAT4"}
PNG = base64.b64decode(
    "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg=="
)


class Gltf:
    """A document under construction. Entries are plain JSON, to be bent at will by tests."""

    def __init__(self) -> None:
        self.json: dict[str, Any] = {"asset": {"version": "2.0"}}
        self.blob = b""

    def put(self, table: str, entry: dict[str, Any]) -> int:
        self.json.setdefault(table, []).append(entry)
        return len(self.json[table]) - 1

    def view(self, data: bytes, **more: Any) -> int:
        self.blob += b"\0" * (-len(self.blob) % 4)
        start = len(self.blob)
        self.blob += data
        return self.put("bufferViews", {"buffer": 0, "byteOffset": start, "byteLength": len(data), **more})

    def accessor(self, array: Any, normalized: bool = False, **more: Any) -> int:
        flat = np.ascontiguousarray(array).reshape(len(array), -1)
        entry = {
            "bufferView": self.view(flat.tobytes()),
            "componentType": CODES[flat.dtype.str[1:]],
            "count": len(flat),
            "type": SHAPES[flat.shape[1]],
        }
        if normalized:
            entry["normalized"] = True
        return self.put("accessors", entry | more)

    def mesh(self, positions: Any, indices: Any, **attributes: Any) -> int:
        made = {"POSITION": self.accessor(np.asarray(positions, np.float32))}
        made |= {
            k: v if isinstance(v, int) else self.accessor(np.asarray(v, np.float32)) for k, v in attributes.items()
        }
        return self.put(
            "meshes",
            {
                "primitives": [
                    {"attributes": made, "indices": self.accessor(np.asarray(indices, np.uint16).reshape(-1, 1))}
                ]
            },
        )

    def node(self, **entry: Any) -> int:
        return self.put("nodes", entry)

    def finish(self) -> dict[str, Any]:
        out = dict(self.json)
        if self.blob:
            out["buffers"] = [{"byteLength": len(self.blob)}]
        return out

    def glb(self) -> bytes:
        text = json.dumps(self.finish()).encode()
        text += b" " * (-len(text) % 4)
        body = self.blob + b"\0" * (-len(self.blob) % 4)
        chunks = struct.pack("<II", len(text), 0x4E4F534A) + text
        if body:
            chunks += struct.pack("<II", len(body), 0x004E4942) + body
        return struct.pack("<4sII", b"glTF", 2, 12 + len(chunks)) + chunks

    def scene(self) -> Scene:
        return read(self.glb())


TRIANGLE = [[0, 0, 0], [1, 0, 0], [0, 1, 0]]
CUBE = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)], np.float32)


def one_triangle() -> Gltf:
    g = Gltf()
    g.node(mesh=g.mesh(TRIANGLE, [0, 1, 2]), name="tri")
    return g


def read(data: bytes | dict[str, bytes], name: str = "test.glb") -> Scene:
    return load(bundle_from_files({name: data} if isinstance(data, bytes) else data))


def trimesh_scene(seed: int, count: int = 60, span: float = 100.0, odd: bool = True) -> trimesh.Scene:
    """Boxes, cylinders and balls at random places and turns over ±span metres, in a small tree.

    odd: some mirrored, some scaled, one parent stretched so that its children are sheared.
    """
    rng = np.random.default_rng(seed)
    t = trimesh.transformations
    shapes = {
        "box": trimesh.creation.box((1, 2, 3)),
        "post": trimesh.creation.cylinder(0.2, 4, sections=12),
        "ball": trimesh.creation.icosphere(subdivisions=1),
    }
    scene = trimesh.Scene()
    for g in range(4):
        matrix = t.translation_matrix(rng.uniform(-span / 4, span / 4, 3)) @ t.random_rotation_matrix(rng.random(3))
        if odd and g == 3:
            matrix = matrix @ np.diag([1.0, 2.0, 1.0, 1.0])
        scene.graph.update(frame_to=f"group {g}", frame_from=scene.graph.base_frame, matrix=matrix)
    for i in range(count):
        matrix = t.translation_matrix(rng.uniform(-span * 0.7, span * 0.7, 3)) @ t.random_rotation_matrix(rng.random(3))
        if odd and i % 5 == 0:
            matrix = matrix @ np.diag([-1.0, 1.0, 1.0, 1.0])
        if odd and i % 7 == 0:
            matrix = matrix @ np.diag([1.5, 1.5, 1.5, 1.0])
        shape = list(shapes)[i % 3]
        scene.add_geometry(
            shapes[shape],
            node_name=f"{shape} {i}",
            geom_name=shape,
            parent_node_name=f"group {i % 4}",
            transform=matrix,
        )
    return scene


def bent_balls(count: int, subdivisions: int, seed: int) -> bytes:
    """A GLB of balls in a row, each bent another way, none equal to any of another seed."""
    rng = np.random.default_rng(seed)
    out = trimesh.Scene()
    for i in range(count):
        ball = trimesh.creation.icosphere(subdivisions=subdivisions)
        ball.vertices *= rng.uniform(0.5, 2, 3) * (1 + 0.2 * np.sin(ball.vertices @ rng.normal(size=3) * 3))[:, None]
        place = trimesh.transformations.translation_matrix([3 * i, 0, 0])
        out.add_geometry(ball, node_name=f"ball {i}", transform=place)
    return bytes(out.export(file_type="glb"))


def sent(scene: Scene, name: str, sha256: str, to: Destination, route: Route, fmt: FormatName) -> tuple[Package, Scene]:
    """What `carry` packs, and the scene that was packed, without the survey between: for tests of what is written."""
    done, records = run(scene, route, to)
    return package_of(done, scene, name, sha256, to, route, fmt, records, []), done


def validate(*files: Path) -> list[dict[str, Any]]:
    """Reports of the standard's own validator (npm gltf-validator), one per file."""
    command = ["node", "validate-gltf.mjs", *(str(f) for f in files)]
    out = subprocess.run(command, cwd=ROOT / "web", capture_output=True, text=True, check=True, timeout=120)
    return [json.loads(line) for line in out.stdout.splitlines()]


def validate_bytes(files: dict[str, bytes]) -> dict[str, Any]:
    """The validator's report on the one model among files."""
    with tempfile.TemporaryDirectory() as folder:
        for name, data in files.items():
            target = Path(folder) / name
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(data)
        main = next(n for n in files if n.endswith((".glb", ".gltf")))
        return validate(Path(folder) / main)[0]


def same_places(a: np.ndarray[Any, Any], b: np.ndarray[Any, Any], tolerance: float) -> bool:
    """Two point sets (N, 3) are equal up to order."""
    order_a, order_b = np.lexsort(np.round(a, 4).T), np.lexsort(np.round(b, 4).T)
    return a.shape == b.shape and bool(np.abs(a[order_a] - b[order_b]).max(initial=0) <= tolerance)
