"""What a scene costs: objects, draw calls, triangles and bytes, and an estimate of a frame by weights that are shown.

A part is drawn when it is in view: as likely as the part of the scene that is seen at a time, and the likelier the
larger it is against the whole. So putting parts together saves calls, and loses what could have been left undrawn.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Literal

import numpy as np
from pydantic import Field

from tidy_caravan.core.conventions.destinations import CamelModel, Destination
from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.stretched import surface_scales
from tidy_caravan.core.scene import HIDDEN, NO_LIGHTMAP, Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, Bool
from tidy_caravan.core.scene.held import geometries

INSTANCE_BYTES = 64
"""A matrix of sixteen floats for each copy."""
FILL = 0.65
"""Part of a lightmap that islands cover."""
EDGES = (8, 4096)
"""Smallest and largest edge of a lightmap, in texels."""
MOST_ROWS = 50
Group = Literal["part", "mesh", "material", "layer"]


class Price(CamelModel):
    """drawCalls: one per part and material on it; drawCallsInstanced: one per mesh and material. Bytes of meshes once for
    all that share them. boundsM3: volume of a part's box, on average over triangles: what is drawn or left as a whole.
    frameUs: estimate by the destination's weights, with instancing where it has it."""

    objects: int
    draw_calls: int
    draw_calls_instanced: int
    unique_meshes: int
    triangles: int
    vertices: int
    vertex_bytes: int
    index_bytes: int
    instance_bytes: int
    texture_bytes: int
    lightmap_bytes: int
    bounds_m3: float
    frame_us: float


class Cost(CamelModel):
    """Of one part, mesh, material or layer. parts: how many; nodes: the first of them."""

    name: str
    parts: int
    nodes: list[int] = Field(default_factory=list)
    draw_calls: int
    triangles: int
    bytes: int
    frame_us: float


class Sheet:
    """Figures of all drawn parts of a scene, as arrays. rows: (P,) nodes."""

    def __init__(self, scene: Scene, destination: Destination, rows: AnyArray | None = None) -> None:
        self.scene, self.weights = scene, destination.frame
        self.instanced = destination.gpu_instancing
        nodes = scene.nodes
        shown = (nodes.mesh >= 0) & ((nodes.flags & HIDDEN) == 0)
        every = np.flatnonzero(shown)
        boxes = scene.part_bounds[np.searchsorted(nodes.parts, every)] * scene.convention.metres_per_unit
        whole = np.ptp(boxes.reshape(-1, 3), axis=0) if len(boxes) else np.zeros(3)
        keep = np.ones(len(every), np.bool_) if rows is None else np.isin(every, rows)
        self.rows: I64 = every[keep]
        self.mesh: I64 = nodes.mesh[self.rows].astype(np.int64)
        self.boxes: F64 = boxes[keep]
        size = np.linalg.norm(self.boxes[:, 1] - self.boxes[:, 0], axis=1)
        self.seen: F64 = np.minimum(1.0, self.weights.seen + size / max(float(np.linalg.norm(whole)), 1e-9))

    def by_mesh(self, figure: Callable[[Mesh], float]) -> F64:
        """(M,) a figure of the meshes that are drawn, 0 of others."""
        out = np.zeros(len(self.scene.meshes))
        for i in np.unique(self.mesh).tolist():
            out[i] = figure(self.scene.meshes[i])
        return out

    def lightmap(self) -> F64:
        """(P,) bytes of each part's own lightmap: as it was chosen, else the next power of two; 0 where it gets none."""
        area = self.by_mesh(lambda m: float(np.linalg.norm(face_vectors(m.positions, m.indices), axis=1).sum()) / 2)
        nodes = self.scene.nodes
        metres = area[self.mesh] * (surface_scales(self.scene, self.rows) * self.scene.convention.metres_per_unit) ** 2
        edge = np.sqrt(np.maximum(metres, 1e-12) / FILL) / self.weights.light_texel_m
        texels = np.clip(2 ** np.ceil(np.log2(np.maximum(edge, 1.0))), *EDGES) ** 2
        chosen = nodes.lightmap[self.rows].prod(axis=1)  # by a step of the route, where there is one
        texels = np.where(chosen > 0, chosen, texels)
        out: F64 = np.where((nodes.flags[self.rows] & NO_LIGHTMAP) > 0, 0.0, texels * self.weights.light_bytes)
        return out

    def micros(self) -> F64:
        """(P,) microseconds of a frame that each part costs; the calls of a batch are shared out among its parts."""
        w = self.weights
        slots = self.by_mesh(lambda m: len(m.slots))[self.mesh]
        triangles = self.by_mesh(lambda m: m.triangles)[self.mesh]
        calls = self.seen * slots * w.call_us
        if self.instanced:
            # a batch is drawn when any of its parts is in view
            unseen = np.bincount(
                self.mesh, np.log1p(-np.minimum(self.seen, 1 - 1e-12)), minlength=len(self.scene.meshes)
            )
            users = np.bincount(self.mesh, minlength=len(self.scene.meshes))
            drawn = -np.expm1(unseen) / np.maximum(users, 1)
            calls = drawn[self.mesh] * slots * w.call_us + self.seen * w.instance_us
        out: F64 = calls + self.seen * triangles * w.triangles_us / 1000
        return out


def price(scene: Scene, destination: Destination, rows: AnyArray | None = None) -> Price:
    """Of the drawn parts, or of those among nodes `rows`. O(parts + meshes + triangles of meshes)."""
    sheet = Sheet(scene, destination, rows)
    meshes = [scene.meshes[i] for i in np.unique(sheet.mesh).tolist()]
    slots, triangles, vertices = (
        sheet.by_mesh(f)[sheet.mesh] for f in (lambda m: len(m.slots), lambda m: m.triangles, lambda m: m.vertices)
    )
    users = np.bincount(sheet.mesh, minlength=len(scene.meshes))
    held = [meshes[i] for i in np.unique(geometries(meshes)).tolist()]
    indices = sum(m.triangles * 3 * index_size(m, destination) for m in held)
    volume = np.prod(sheet.boxes[:, 1] - sheet.boxes[:, 0], axis=1)
    total = float(triangles.sum())
    images = textures_of(scene, meshes)
    return Price(
        objects=len(sheet.rows),
        draw_calls=int(slots.sum()),
        draw_calls_instanced=sum(len(m.slots) for m in meshes),
        unique_meshes=len(meshes),
        triangles=int(total),
        vertices=int(vertices.sum()),
        vertex_bytes=sum(vertex_bytes(m) for m in held),
        index_bytes=indices,
        instance_bytes=int(users[users > 1].sum()) * INSTANCE_BYTES,
        texture_bytes=images,
        lightmap_bytes=int(sheet.lightmap().sum()),
        bounds_m3=float((volume * triangles).sum() / total) if total else 0.0,
        frame_us=float(sheet.micros().sum()),
    )


def index_size(mesh: Mesh, destination: Destination) -> int:
    return 2 if mesh.vertices <= 65_535 or destination.index_bits == 16 else 4


def vertex_bytes(mesh: Mesh) -> int:
    """Of what goes with the vertices to the receiver."""
    arrays = [mesh.positions, mesh.normals, mesh.tangents, *mesh.uvs, *mesh.colors, *mesh.attributes.values()]
    return sum(a.nbytes for a in arrays if a is not None)


def textures_of(scene: Scene, meshes: list[Mesh]) -> int:
    """Bytes of the image files that the materials of these meshes use, each once."""
    used = {s for m in meshes for s in m.slots if 0 <= s < len(scene.materials)}
    images = {
        scene.textures[use.texture].image
        for s in used
        for use in scene.materials[s].uses()
        if 0 <= use.texture < len(scene.textures)
    }
    files = [scene.images[i].data for i in images if i is not None and 0 <= i < len(scene.images)]
    return sum(len(data) for data in files if data is not None)


def costly(scene: Scene, destination: Destination, by: Group = "part", rows: AnyArray | None = None) -> list[Cost]:
    """What costs most of a frame, the dearest first."""
    sheet = Sheet(scene, destination, rows)
    nodes = scene.nodes
    micros = sheet.micros()
    slots, triangles = (sheet.by_mesh(f)[sheet.mesh] for f in (lambda m: len(m.slots), lambda m: m.triangles))
    size = (
        sheet.by_mesh(lambda m: m.nbytes)[sheet.mesh] / np.bincount(sheet.mesh, minlength=len(scene.meshes))[sheet.mesh]
    )
    part = np.arange(len(sheet.rows))
    if by == "material":  # a part has a share in each of its materials, by triangles
        pairs = [(m, s, float((scene.meshes[m].material == s).mean())) for m in np.unique(sheet.mesh).tolist() for s in scene.meshes[m].slots]  # fmt: skip
        order = np.argsort(sheet.mesh, kind="stable")
        begin = np.searchsorted(sheet.mesh[order], [m for m, _, _ in pairs])
        end = np.searchsorted(sheet.mesh[order], [m for m, _, _ in pairs], side="right")
        part = np.concatenate([np.zeros(0, np.int64), *(order[a:b] for a, b in zip(begin, end, strict=True))])
        count = end - begin
        label = np.repeat(np.array([s for _, s, _ in pairs], np.int64), count)
        share = np.repeat(np.array([f for _, _, f in pairs]), count)
        names = {i: m.name or f"material {i}" for i, m in enumerate(scene.materials)} | {-1: "no material"}
        calls = np.ones(len(part))
        weighted = micros[part] * share, triangles[part] * share, size[part] * share
    else:
        label = {"part": part, "mesh": sheet.mesh, "layer": nodes.layer[sheet.rows].astype(np.int64)}[by]
        calls, weighted = slots, (micros, triangles, size)
        names = {
            "part": {k: nodes.paths[i] for k, i in enumerate(sheet.rows.tolist())} if by == "part" else {},
            "mesh": {i: scene.meshes[i].name or f"mesh {i}" for i in np.unique(sheet.mesh).tolist()},
            "layer": dict(enumerate(scene.layers)) | {-1: "no layer"},
        }[by]
    kinds, number = np.unique(label, return_inverse=True)
    number = number.reshape(-1)
    total = [np.bincount(number, values, minlength=len(kinds)) for values in (calls, *weighted)]
    first = np.argsort(number, kind="stable")
    begins = np.searchsorted(number[first], np.arange(len(kinds) + 1))
    out = []
    for k in np.argsort(-total[1], kind="stable")[:MOST_ROWS].tolist():
        members = sheet.rows[part[first[begins[k] : begins[k + 1]]]]
        out.append(
            Cost(
                name=names[int(kinds[k])][-120:], parts=len(members), nodes=members[:1000].tolist(),
                draw_calls=int(total[0][k]), frame_us=float(total[1][k]), triangles=round(total[2][k]), bytes=round(total[3][k]),
            )
        )  # fmt: skip
    return out


def came_from(scene: Scene, ids: I64) -> Bool:
    """(N,) nodes that came from source nodes of these ids."""
    out: Bool = np.isin(scene.nodes.source, ids)
    for i, several in scene.nodes.sources.items():
        out[i] |= bool(np.isin(several, ids).any())
    return out
