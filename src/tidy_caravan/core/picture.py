"""A small still picture of a scene without any graphics card: shaded surface points in a depth buffer."""

from __future__ import annotations

import io
from dataclasses import replace

import numpy as np
from PIL import Image

from tidy_caravan.core.figures import view_map
from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.pose import at_rest
from tidy_caravan.core.geometry.stretched import surface_scales
from tidy_caravan.core.scene import HIDDEN, Scene
from tidy_caravan.core.scene.arrays import F32, I64, U32, AnyArray
from tidy_caravan.core.space.site import near_parts

POINTS = 400_000
PAPER = (244, 240, 232)
FINE = 2
SHADES = 256
"""Brightnesses of a material that are told apart."""


def picture(scene: Scene, width: int = 480, height: int = 270) -> bytes:
    """PNG of what stands together in a scene, seen from above at an angle. O(POINTS + parts); empty scenes give paper.

    Surface points are drawn in proportion to projected area, the nearest one wins, as in splatting.
    """
    w, h = width * FINE, height * FINE
    canvas = np.full(h * w, packed(np.array(PAPER)), np.uint32)
    points, normals, material = sample(without_far_ones(scene))
    if len(points):
        turn, tilt = np.radians(32.0), np.radians(28.0)
        around = np.array([[np.cos(turn), 0, -np.sin(turn)], [0, 1, 0], [np.sin(turn), 0, np.cos(turn)]])
        down = np.array([[1, 0, 0], [0, np.cos(tilt), -np.sin(tilt)], [0, np.sin(tilt), np.cos(tilt)]])
        seen = points @ (down @ around).T.astype(np.float32)
        few = seen[:: max(1, len(seen) // 20_000), :2]
        low, high = np.percentile(few, 0.2, axis=0), np.percentile(few, 99.8, axis=0)
        scale = np.float32(0.92 * min(w / max(high[0] - low[0], 1e-9), h / max(high[1] - low[1], 1e-9)))
        middle = ((low + high) / 2).astype(np.float32)
        x = np.clip((seen[:, 0] - middle[0]) * scale + w / 2, -1, w).astype(np.int32)
        y = np.clip(h / 2 - (seen[:, 1] - middle[1]) * scale, -1, h).astype(np.int32)
        inside = np.flatnonzero((x >= 0) & (x < w) & (y >= 0) & (y < h))
        order = inside[np.argsort(seen[inside, 2])]  # the nearest is written last
        cell = np.take(y * w + x, order)
        light = np.abs(normals @ np.array([0.35, 0.85, 0.4], np.float32))
        shade = np.minimum(light * SHADES, SHADES - 1).astype(np.int32)
        ink = np.take(inks(scene), np.take(material * SHADES + shade, order))
        for step in (w + 1, w, 1, 0):  # each point covers two by two cells
            canvas[np.minimum(cell + step, w * h - 1)] = ink
    out = io.BytesIO()
    colors = canvas.view(np.uint8).reshape(h, w, 4)[:, :, :3]
    Image.fromarray(colors).resize((width, height), Image.Resampling.BOX).save(out, "PNG")
    return out.getvalue()


def without_far_ones(scene: Scene) -> Scene:
    """The scene without what lies so far from all the rest that this would be a dot."""
    near = near_parts(scene)
    if near.all():
        return scene
    mesh = scene.nodes.mesh.copy()
    mesh[scene.nodes.parts[~near]] = -1
    return scene.but(nodes=replace(scene.nodes, mesh=mesh))


def packed(color: AnyArray) -> U32:
    """(..., 3) bytes as one number each, red in the byte that comes first in memory."""
    out = np.zeros((*color.shape[:-1], 4), np.uint8)
    out[..., :3] = color
    numbers: U32 = out.view(np.uint32)[..., 0]
    return numbers


def inks(scene: Scene) -> U32:
    """Packed sRGB colours of all materials, and of none, in all shades: (materials + 1) · SHADES of them."""
    palette = np.array([m.base_color[:3] for m in scene.materials] + [(0.7, 0.7, 0.7)], np.float64)
    light = (np.arange(SHADES) + 0.5) / SHADES
    shade = np.clip(palette[:, None, :] * (0.35 + 0.75 * light)[None, :, None], 0, 1)
    return packed((255 * shade ** (1 / 2.2)).astype(np.uint8)).reshape(-1)


def sample(scene: Scene) -> tuple[F32, F32, I64]:
    """(K, 3) points about the middle of them all, unit normals and materials, the last for none, spread over all visible
    surfaces.

    Deterministic, and even: along the triangles of a mesh, laid end to end by area, its parts take turns.
    """
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
            along = np.cumsum(np.linalg.norm(vectors, axis=1))
            size = surface_scales(scene, rows) ** 2
            if along[-1] > 0 and np.isfinite(along[-1]):
                per_mesh.append((mesh, rows, vectors, along, float(along[-1] * size.sum())))
    total = sum(p[4] for p in per_mesh)
    if not total:
        none = np.zeros((0, 3), np.float32)
        return none, none, np.zeros(0, np.int64)
    drawn = np.concatenate([p[1] for p in per_mesh])
    middle = nodes.world[drawn, :3, 3].mean(axis=0)
    points, normals, materials = [], [], []
    for mesh, rows, vectors, along, share in per_mesh:
        each = max(1, min(POINTS, int(POINTS * share / total)) // len(rows))
        count = each * len(rows)
        # how many of the evenly spaced points lie before the end of each triangle
        before = np.minimum((along * (count / along[-1]) + 0.5).astype(np.int64), count)
        before[-1] = count
        face = np.repeat(np.arange(len(along)), np.diff(before, prepend=0))
        u, v = rng.random((2, count, 1), np.float32)
        over = u + v > 1
        u, v = np.where(over, 1 - u, u), np.where(over, 1 - v, v)
        a, b, c = (np.take(np.take(mesh.positions, mesh.indices[:, k], axis=0), face, axis=0) for k in range(3))
        local = (a + (b - a) * u + (c - a) * v).reshape(each, len(rows), 3).transpose(1, 2, 0)
        world = linear @ nodes.world[rows, :3, :3]
        place = (nodes.world[rows, :3, 3] - middle) @ linear.T
        turned = np.matmul(world.astype(np.float32), local) + place[:, :, None].astype(np.float32)
        points.append(turned.transpose(2, 0, 1).reshape(-1, 3))
        across = np.take((vectors / along[-1]).astype(np.float32), face, axis=0)
        across = across.reshape(each, len(rows), 3).transpose(1, 2, 0)
        normal = np.matmul(world.astype(np.float32), across)
        length = np.sqrt(np.einsum("rin,rin->rn", normal, normal))[:, None, :]
        normal /= np.where(length > 0, length, 1)
        normals.append(normal.transpose(2, 0, 1).reshape(-1, 3))
        materials.append(np.take(mesh.material, face).astype(np.int64))
    material = np.concatenate(materials)
    return np.concatenate(points), np.concatenate(normals), np.where(material < 0, len(scene.materials), material)
