"""Reading a GLB of 100,000 nodes over 200 meshes, against the floor (parse the JSON, view the buffers) and trimesh."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
import orjson
import trimesh

from benchmarks.timing import in_turn
from tidy_caravan.core.formats import bundle_from_files, load, write
from tidy_caravan.core.formats.gltf.document import glb_chunks
from tidy_caravan.core.scene import GLTF, Material, Mesh, Scene, make_nodes
from tidy_caravan.core.space.transforms import compose

NODES, MESHES = 100_000, 200


def large_file() -> bytes:
    """Random places, turns and sizes; 200 balls of 1,280 triangles with normals and a UV set."""
    rng = np.random.default_rng(0)
    ball = trimesh.creation.icosphere(subdivisions=3)
    meshes = []
    for i in range(MESHES):
        points = (ball.vertices * rng.uniform(0.5, 2, 3)).astype(np.float32)
        meshes.append(Mesh(points, ball.faces.astype(np.uint32), np.zeros(len(ball.faces), np.int32), ball.vertex_normals.astype(np.float32),
                           uvs=(points[:, :2].copy(),), name=f"mesh {i}"))  # fmt: skip
    local = compose(
        rng.uniform(-500, 500, (NODES, 3)),
        rng.normal(size=(NODES, 4)),
        np.repeat(rng.uniform(0.5, 2, (NODES, 1)), 3, axis=1),
    )
    nodes = make_nodes(
        np.full(NODES, -1), local, [f"part {i:06}" for i in range(NODES)], mesh=rng.integers(0, MESHES, NODES)
    )
    return write(Scene(GLTF, nodes, tuple(meshes), (Material("m"),)), "glb", "x").files["x.glb"]


def floor(data: bytes) -> object:
    """The least any reader has to do: parse the JSON and view every accessor's bytes."""
    text, chunk = glb_chunks(data, "x")
    document = orjson.loads(text)
    kinds = {5126: np.float32, 5125: np.uint32, 5123: np.uint16}
    widths = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}
    assert chunk is not None
    return document, [
        np.frombuffer(
            chunk,
            kinds[a["componentType"]],
            a["count"] * widths[a["type"]],
            document["bufferViews"][a["bufferView"]]["byteOffset"],
        )
        for a in document["accessors"]
    ]


def measure(folder: Path) -> list[tuple[str, float, str, float]]:
    data = large_file()
    ways = {
        "floor": lambda: floor(data),
        "ours": lambda: load(bundle_from_files({"x.glb": data})).nodes.world,
        "trimesh": lambda: trimesh.load(io.BytesIO(data), file_type="glb"),
    }
    taken = in_turn(ways, 3)
    ours = taken["ours"]
    print(
        f"     reading   {len(data) >> 20} MiB: floor {taken['floor']:.2f} s, ours {ours:.2f} s, trimesh {taken['trimesh']:.2f} s"
    )
    return [
        ("100,000 nodes over 200 meshes, world matrices too, against the floor", ours / taken["floor"], "≤", 2.5),
        ("the same, times faster than trimesh", taken["trimesh"] / ours, "≥", 3.0),
    ]
