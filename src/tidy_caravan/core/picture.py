"""A small still picture of a scene without any graphics card: shaded surface points in a depth buffer."""

from __future__ import annotations

import io

import numpy as np
from PIL import Image

from tidy_caravan.core.figures import view_map
from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.pose import at_rest
from tidy_caravan.core.scene import HIDDEN, Scene
from tidy_caravan.core.scene.arrays import F64

POINTS = 400_000
PAPER = (244, 240, 232)
FINE = 2


def picture(scene: Scene, width: int = 480, height: int = 270) -> bytes:
    """PNG of the whole scene seen from above at an angle. O(POINTS + parts); empty scenes give paper.

    Surface points are drawn in proportion to projected area, the nearest one wins, as in splatting.
    """
    w, h = width * FINE, height * FINE
    canvas = np.empty((h, w, 3), np.uint8)
    canvas[:] = PAPER
    points, normals, colors = sample(scene)
    if len(points):
        turn, tilt = np.radians(32.0), np.radians(28.0)
        around = np.array([[np.cos(turn), 0, -np.sin(turn)], [0, 1, 0], [np.sin(turn), 0, np.cos(turn)]])
        down = np.array([[1, 0, 0], [0, np.cos(tilt), -np.sin(tilt)], [0, np.sin(tilt), np.cos(tilt)]])
        seen = points @ (down @ around).T
        low, high = np.percentile(seen[:, :2], 0.2, axis=0), np.percentile(seen[:, :2], 99.8, axis=0)
        scale = 0.92 * min(w / max(high[0] - low[0], 1e-9), h / max(high[1] - low[1], 1e-9))
        middle = (low + high) / 2
        x = np.floor((seen[:, 0] - middle[0]) * scale + w / 2).astype(np.int64)
        y = np.floor(h / 2 - (seen[:, 1] - middle[1]) * scale).astype(np.int64)
        inside = (x >= 0) & (x < w) & (y >= 0) & (y < h)
        cell, depth = (y * w + x)[inside], seen[inside, 2]
        order = np.argsort(depth, kind="stable")  # the nearest is written last
        light = np.abs(normals @ np.array([0.35, 0.85, 0.4]))[inside]
        shade = np.clip(colors[inside] * (0.35 + 0.75 * light[:, None]), 0, 1) ** (1 / 2.2)
        flat, ink = canvas.reshape(-1, 3), (shade[order] * 255).astype(np.uint8)
        for step in (w + 1, w, 1, 0):  # each point covers two by two cells
            flat[np.minimum(cell[order] + step, w * h - 1)] = ink
    out = io.BytesIO()
    Image.fromarray(canvas).resize((width, height), Image.Resampling.BOX).save(out, "PNG")
    return out.getvalue()


def sample(scene: Scene) -> tuple[F64, F64, F64]:
    """(K, 3) points, unit normals and linear colours spread over all visible surfaces; deterministic."""
    scene = at_rest(scene)
    linear = view_map(scene)
    nodes = scene.nodes
    rng = np.random.default_rng(1)
    order, runs = scene.parts_by_mesh
    per_mesh = []
    for index, begin, end in runs:
        rows = nodes.parts[order[begin:end]]
        rows = rows[(nodes.flags[rows] & HIDDEN) == 0]
        mesh = scene.meshes[index]
        if mesh.triangles and len(rows):
            vectors = face_vectors(mesh.positions, mesh.indices)
            area = np.linalg.norm(vectors, axis=1)
            size = np.abs(np.linalg.det(nodes.world[rows, :3, :3])) ** (2 / 3)
            if area.sum() > 0:
                per_mesh.append((mesh, rows, vectors, area, float(area.sum() * size.sum())))
    total = sum(p[4] for p in per_mesh)
    if not total:
        none = np.zeros((0, 3))
        return none, none, none
    points, normals, colors = [], [], []
    palette = np.array([m.base_color[:3] for m in scene.materials] + [(0.7, 0.7, 0.7)])
    for mesh, rows, vectors, area, share in per_mesh:
        count = max(len(rows), min(POINTS, int(POINTS * share / total)))
        who = rows[np.arange(count) % len(rows)]
        face = rng.choice(len(area), count, p=area / area.sum())
        u, v = rng.random((2, count, 1))
        over = u + v > 1
        u, v = np.where(over, 1 - u, u), np.where(over, 1 - v, v)
        corner = mesh.positions.astype(np.float64)[mesh.indices[face]]
        local = corner[:, 0] * (1 - u - v) + corner[:, 1] * u + corner[:, 2] * v
        world = linear @ nodes.world[who, :3, :3]
        points.append(np.einsum("nij,nj->ni", world, local) + nodes.world[who, :3, 3] @ linear.T)
        normal = np.einsum("nij,nj->ni", world, vectors[face])
        normals.append(normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-30))
        colors.append(palette[mesh.material[face]])
    return np.concatenate(points), np.concatenate(normals), np.concatenate(colors)
