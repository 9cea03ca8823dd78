"""A picture of one place in a scene: what is near it, the marked parts hatched, and the lines of a fault over them.

Triangles are drawn exactly into a depth buffer in numpy, from the side that shows most of the place.
"""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike
from PIL import Image

from tidy_caravan.core.figures import view_map
from tidy_caravan.core.geometry.pose import at_rest
from tidy_caravan.core.scene import HIDDEN, Scene
from tidy_caravan.core.scene.arrays import F32, F64, I64, AnyArray, Bool, ranges
from tidy_caravan.core.surroundings.world import two_sided_slots

WIDTH, HEIGHT = 320, 180
FINE = 2
OPENING = np.tan(np.radians(20.0))
"""Of half the height of the picture."""
MOST_TRIANGLES = 150_000
CHUNK = 1 << 19
"""Cells looked at at once."""
AROUND = 6.0
"""What is within so many sizes of the place may stand before it or behind."""
FARTHEST = 1e12
"""Metres from which on nothing is drawn."""
ENOUGH = 0.98
"""Part of a place that a direction has to show to be taken at once."""
CONTEXT = 0.12
"""Part of its parts' size that a place is shown with at least."""
PAPER, INK, SAFFRON, TEAL = (244, 240, 232), (31, 41, 48), (214, 120, 8), (13, 110, 105)
DIRECTIONS = [
    (
        np.cos(np.radians(a)) * np.cos(np.radians(e)),
        np.sin(np.radians(e)),
        np.sin(np.radians(a)) * np.cos(np.radians(e)),
    )
    for e in (28.0, -20.0, 75.0)
    for a in (125.0, 35.0, 215.0, 305.0)
]


@dataclass(frozen=True)
class Near:
    """Triangles near a place, about it. corners: (T, 3, 3) m. marked: (T,) of the parts that the place is of. turned:
    (T,) mirrored, so that their winding is the other way round. two_sided: (T,). color: (T, 3) linear."""

    corners: F64
    marked: Bool
    turned: Bool
    two_sided: Bool
    color: F32


def closeup(scene: Scene, parts: Sequence[int], lines: ArrayLike, width: int = WIDTH, height: int = HEIGHT) -> bytes:
    """PNG of a place: of nodes, with lines (L, 6) in the scene's own numbers. O(parts + triangles near it)."""
    scene = at_rest(scene)
    linear = view_map(scene)
    ends = np.asarray(lines, np.float64).reshape(-1, 2, 3) @ linear.T
    rows = np.flatnonzero(np.isin(scene.nodes.parts, np.asarray(parts, np.int64)))
    boxes = boxes_in_view(scene, linear)
    own = boxes[rows] if len(rows) else boxes
    around = ends.reshape(-1, 3) if len(ends) else own.reshape(-1, 3)
    around = around[(np.abs(around) < FARTHEST).all(axis=1)]
    if not len(around):
        return png(np.full((height, width, 3), PAPER, np.uint8))
    low, high = around.min(axis=0), around.max(axis=0)
    middle = (low + high) / 2
    whole = float(np.linalg.norm(np.ptp(own.reshape(-1, 3), axis=0))) if len(own) else 0.0
    size = max(float(np.linalg.norm(high - low)) / 2, CONTEXT * whole / 2 if len(ends) else 0.0, 1e-6)
    near = near_by(scene, linear, boxes, middle, size, set(np.asarray(parts).tolist()))
    along = dots(ends - middle, size / 60) if len(ends) else np.zeros((0, 3))
    wanted = along if len(along) else near.corners[near.marked].mean(axis=1)
    return png(
        drawn(near, along, size, best_direction(near, wanted, size), width * FINE, height * FINE), (width, height)
    )


def best_direction(near: Near, wanted: F64, size: float) -> Sequence[float]:
    """The direction from which most of the points (N, 3) are seen; the first that shows them all is good enough."""
    wanted = wanted[:: max(1, len(wanted) // 2000)]
    best, most = DIRECTIONS[0], -1
    for direction in DIRECTIONS:
        count = seen(near, wanted, size, direction)
        if count > most:
            best, most = direction, count
        if count >= ENOUGH * len(wanted):
            break
    return best


def boxes_in_view(scene: Scene, linear: F64) -> F64:
    """(P, 2, 3) boxes of the parts in metres, Y up."""
    corners = scene.part_bounds @ linear.T
    return np.stack([corners.min(axis=1), corners.max(axis=1)], axis=1)


def near_by(scene: Scene, linear: F64, boxes: F64, middle: F64, size: float, marked: set[int]) -> Near:
    """What is shown about a place: the parts within some of its sizes, the nearest first, as many as can be drawn."""
    nodes = scene.nodes
    away = np.linalg.norm(np.maximum(np.maximum(boxes[:, 0] - middle, middle - boxes[:, 1]), 0.0), axis=1)
    shown = (nodes.flags[nodes.parts] & HIDDEN) == 0
    mine = np.isin(nodes.parts, list(marked))
    order = np.flatnonzero((shown & (away <= AROUND * size)) | mine)
    order = order[np.lexsort((away[order], ~mine[order]))]
    two_sided = two_sided_slots(scene)
    palette = np.array([m.base_color[:3] for m in scene.materials] + [(0.7, 0.7, 0.7)], np.float32)
    corners, flags, colors = [], [], []
    left = MOST_TRIANGLES
    for row in order.tolist():
        node = int(nodes.parts[row])
        mesh = scene.meshes[nodes.mesh[node]]
        if mesh.triangles > left and not mine[row]:
            continue
        world = linear @ nodes.world[node, :3, :3]
        points = mesh.positions.astype(np.float64) @ world.T + (linear @ nodes.world[node, :3, 3] - middle)
        own = points[mesh.indices]
        good = np.flatnonzero(np.isfinite(own).all(axis=(1, 2)))
        if len(good) > left:  # of a heavy mesh that the place is of, what is nearest to it
            far = np.linalg.norm(own[good].mean(axis=1), axis=1)
            good = np.sort(good[np.argpartition(far, max(left, 1) - 1)[: max(left, 1)]])
        left = max(0, left - len(good))
        corners.append(own[good])
        slots = mesh.material[good]
        flag = np.zeros((len(slots), 3), np.bool_)
        flag[:, 0], flag[:, 1], flag[:, 2] = mine[row], np.linalg.det(world) < 0, two_sided[slots]
        flags.append(flag)
        colors.append(palette[slots])
    if not corners:
        none = np.zeros(0, np.bool_)
        return Near(np.zeros((0, 3, 3)), none, none, none, np.zeros((0, 3), np.float32))
    flag = np.concatenate(flags)
    return Near(np.concatenate(corners), flag[:, 0], flag[:, 1], flag[:, 2], np.concatenate(colors))


def dots(ends: F64, apart: float) -> F64:
    """(N, 3) points along lines (L, 2, 3), so far apart."""
    count = np.clip(np.ceil(np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1) / apart), 1, 400).astype(np.int64) + 1
    line = np.repeat(np.arange(len(ends)), count)
    share = ranges(np.zeros(len(count), np.int64), count) / np.maximum(count - 1, 1)[line]
    out: F64 = ends[line, 0] + (ends[line, 1] - ends[line, 0]) * share[:, None]
    return out


def camera(points: F64, size: float, direction: Sequence[float], width: int, height: int) -> tuple[F64, float]:
    """(…, 3) points as across, down and depth, and cells for each metre at depth one."""
    back = np.asarray(direction)
    across = np.cross([0.0, 1.0, 0.0], back)
    across /= np.linalg.norm(across)
    up = np.cross(back, across)
    distance = 1.15 * size / OPENING
    turned = points @ np.stack([across, -up, -back]).T
    turned[..., 2] += distance
    return turned, height / 2 / OPENING


def raster(corners: F64, scale: float, width: int, height: int, closest: float) -> tuple[F64, I64]:
    """(H·W,) depth and number of the nearest triangle of (T, 3, 3) seen by a camera; infinite and -1 where there is none.

    O(T + cells covered); what is nearer than `closest` is cut off.
    """
    depth, which = np.full(width * height, np.inf), np.full(width * height, -1, np.int64)
    corners, number = cut_near(corners, closest)
    x = corners[..., 0] / corners[..., 2] * scale + width / 2
    y = corners[..., 1] / corners[..., 2] * scale + height / 2
    inverse = 1 / corners[..., 2]
    left = np.clip(np.floor(x.min(axis=1)), 0, width).astype(np.int64)
    right = np.clip(np.ceil(x.max(axis=1)) + 1, 0, width).astype(np.int64)
    top = np.clip(np.floor(y.min(axis=1)), 0, height).astype(np.int64)
    bottom = np.clip(np.ceil(y.max(axis=1)) + 1, 0, height).astype(np.int64)
    double = (x[:, 1] - x[:, 0]) * (y[:, 2] - y[:, 0]) - (x[:, 2] - x[:, 0]) * (y[:, 1] - y[:, 0])
    cells = (right - left) * (bottom - top)
    rows = np.flatnonzero((cells > 0) & (np.abs(double) > 1e-12))
    rows = rows[
        np.argsort(corners[rows, :, 2].min(axis=1), kind="stable")
    ]  # the nearest first: what they hide is dropped at once
    closest_of = corners[:, :, 2].min(axis=1)
    ends = np.cumsum(cells[rows])
    at = 0
    while at < len(rows):
        stop = max(at + 1, int(np.searchsorted(ends, (ends[at - 1] if at else 0) + CHUNK, side="right")))
        some = rows[at:stop]
        at = stop
        t = np.repeat(some, cells[some])
        k = ranges(np.zeros(len(some), np.int64), cells[some])
        wide = (right - left)[t]
        px, py = left[t] + k % wide, top[t] + k // wide
        open_ = closest_of[t] < depth[py * width + px]
        t, px, py = t[open_], px[open_], py[open_]
        cx, cy = px + 0.5, py + 0.5
        b = ((cx - x[t, 0]) * (y[t, 2] - y[t, 0]) - (x[t, 2] - x[t, 0]) * (cy - y[t, 0])) / double[t]
        c = ((x[t, 1] - x[t, 0]) * (cy - y[t, 0]) - (cx - x[t, 0]) * (y[t, 1] - y[t, 0])) / double[t]
        inside = (b >= -1e-9) & (c >= -1e-9) & (b + c <= 1 + 1e-9)
        t, b, c = t[inside], b[inside], c[inside]
        cell = (py * width + px)[inside]
        z = 1 / (inverse[t, 0] * (1 - b - c) + inverse[t, 1] * b + inverse[t, 2] * c)
        better = z < depth[cell]
        z, cell, t = z[better], cell[better], t[better]
        np.minimum.at(depth, cell, z)
        first = z == depth[cell]
        which[cell[first]] = number[t[first]]
    return depth, which


def cut_near(corners: F64, closest: float) -> tuple[F64, I64]:
    """Triangles (T, 3, 3) without what is nearer than `closest`, and which of them each was."""
    before = corners[..., 2] >= closest
    whole = before.all(axis=1)
    out, number = [corners[whole]], [np.flatnonzero(whole)]
    for kept in (1, 2):
        rows = np.flatnonzero(before.sum(axis=1) == kept)
        if not len(rows):
            continue
        # turned so that the lone corner is first
        lone = (before[rows] if kept == 1 else ~before[rows]).argmax(axis=1)
        a, b, c = (corners[rows, (lone + k) % 3] for k in range(3))
        p, q = (a + (other - a) * ((closest - a[:, 2]) / (other[:, 2] - a[:, 2]))[:, None] for other in (b, c))
        pieces = [(a, p, q)] if kept == 1 else [(p, b, c), (p, c, q)]
        out += [np.stack(piece, axis=1) for piece in pieces]
        number += [rows] * len(pieces)
    return np.concatenate(out), np.concatenate(number)


def seen(near: Near, wanted: F64, size: float, direction: Sequence[float]) -> int:
    """How many of the points (N, 3) are not hidden, looked at from a direction."""
    width, height = WIDTH // 4, HEIGHT // 4
    turned, scale = camera(near.corners, size, direction, width, height)
    depth, _ = raster(turned, scale, width, height, size * 0.05)
    points, _ = camera(wanted, size, direction, width, height)
    cell, there = cells_of(points, scale, width, height)
    return int((points[there, 2] <= depth[cell[there]] + size * 0.05).sum())


def cells_of(points: F64, scale: float, width: int, height: int) -> tuple[I64, Bool]:
    """(N,) cells of seen points, and (N,) whether they are in the picture."""
    z = np.where(points[:, 2] > 0, points[:, 2], 1.0)
    x = np.floor(points[:, 0] / z * scale + width / 2)
    y = np.floor(points[:, 1] / z * scale + height / 2)
    there = (points[:, 2] > 0) & (x >= 0) & (x < width) & (y >= 0) & (y < height)
    return np.where(there, y * width + x, 0).astype(np.int64), there


def drawn(near: Near, along: F64, size: float, direction: Sequence[float], width: int, height: int) -> AnyArray:
    """(H, W, 3) the picture: paper, shaded surfaces, those seen from behind hatched, marked parts in teal, lines over."""
    turned, scale = camera(near.corners, size, direction, width, height)
    depth, which = raster(turned, scale, width, height, size * 0.05)
    out = np.full((height * width, 3), PAPER, np.float64)
    hit = np.flatnonzero(which >= 0)
    t = which[hit]
    normal = np.cross(near.corners[:, 1] - near.corners[:, 0], near.corners[:, 2] - near.corners[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None]
    light = 0.45 + 0.55 * np.abs(normal @ np.array([0.35, 0.85, 0.4]))[t]
    tone = 0.35 + 0.65 * (near.color[t].astype(np.float64) ** (1 / 2.2)).mean(axis=1)
    color = np.repeat((light * tone * 235)[:, None], 3, axis=1)
    mine = near.marked[t]
    color[mine] = color[mine] * 0.55 + np.array(TEAL) * 0.45
    # the eye is at depth nought: a face is seen from behind where its normal looks away from it
    facing = np.einsum("ti,ti->t", np.cross(turned[:, 1] - turned[:, 0], turned[:, 2] - turned[:, 0]), turned[:, 0])
    behind = ((facing > 0) != near.turned)[t] & ~near.two_sided[t]
    x, y = hit % width, hit // width
    hatched = behind & ((x + y) // 3 % 4 == 0)
    color[hatched] = np.array(INK)
    out[hit] = color
    if len(along):
        points, _ = camera(along, size, direction, width, height)
        cell, there = cells_of(points, scale, width, height)
        cell, z = cell[there], points[there, 2]
        plain = z <= depth[cell] + size * 0.02
        for some, ink in ((cell[~plain], np.array(SAFFRON) * 0.5 + 120), (cell[plain], np.array(SAFFRON))):
            for step in (0, 1, 2, width, width + 1, 2 * width):
                out[np.minimum(some + step, width * height - 1)] = ink
    return out.reshape(height, width, 3).astype(np.uint8)


def png(canvas: AnyArray, size: tuple[int, int] | None = None) -> bytes:
    image = Image.fromarray(canvas)
    if size:
        image = image.resize(size, Image.Resampling.BOX)
    out = io.BytesIO()
    image.save(out, "PNG")
    return out.getvalue()
