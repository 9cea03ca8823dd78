"""How far points are from the nearest of many triangles: a tree of boxes and its search, compiled."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.compiled import compiled

LEAF = 4
"""Triangles in a box that is not divided further."""
DEPTH = 64
SLIVER = 1e-12
"""Square of the sine between the edges of a triangle below which it counts as a line."""


@compiled
def boxes_over(corners, leaves):  # type: ignore[no-untyped-def]
    """(2 L, 6) boxes of a full binary tree over triangles (T, 3, 3) in their order, LEAF to each of its L leaves, a power of
    two: the root is 1, below k are 2 k and 2 k + 1. O(T)."""
    boxes = np.empty((2 * leaves, 6))
    boxes[:, :3] = np.inf
    boxes[:, 3:] = -np.inf
    for t in range(corners.shape[0]):
        box = boxes[leaves + t // LEAF]
        for i in range(3):
            for k in range(3):
                box[k] = min(box[k], corners[t, i, k])
                box[3 + k] = max(box[3 + k], corners[t, i, k])
    for at in range(leaves - 1, 0, -1):
        for k in range(3):
            boxes[at, k] = min(boxes[2 * at, k], boxes[2 * at + 1, k])
            boxes[at, 3 + k] = max(boxes[2 * at, 3 + k], boxes[2 * at + 1, 3 + k])
    return boxes


@compiled
def nearest(points, triangles, boxes, reach):  # type: ignore[no-untyped-def]
    """(N,) distance of points (N, 3) from the nearest of triangles (T, 9), first corner and edges from it, infinite beyond
    `reach`."""
    out = np.empty(points.shape[0])
    leaves = boxes.shape[0] // 2
    waiting, distance = np.empty(2 * DEPTH, np.int64), np.empty(2 * DEPTH)
    last = 0
    for n in range(points.shape[0]):
        px, py, pz = points[n, 0], points[n, 1], points[n, 2]
        # what was nearest to the point before is often near to this one
        best = min(reach * reach, to_triangle(px, py, pz, triangles[last]))
        count = 1
        waiting[0], distance[0] = 1, to_box(px, py, pz, boxes[1])
        while count:
            count -= 1
            at = waiting[count]
            if distance[count] > best:
                continue
            if at >= leaves:
                begin = (at - leaves) * LEAF
                for t in range(begin, min(begin + LEAF, triangles.shape[0])):
                    far = to_triangle(px, py, pz, triangles[t])
                    if far < best:
                        best, last = far, t
                continue
            left, right = to_box(px, py, pz, boxes[2 * at]), to_box(px, py, pz, boxes[2 * at + 1])
            first = 2 * at if left <= right else 2 * at + 1
            for child, far in ((first ^ 1, max(left, right)), (first, min(left, right))):
                if far <= best:
                    waiting[count], distance[count] = child, far
                    count += 1
        out[n] = np.sqrt(best) if to_triangle(px, py, pz, triangles[last]) <= best else np.inf
    return out


@compiled
def to_box(px, py, pz, box):  # type: ignore[no-untyped-def]
    """The square of the distance from a box, infinite from none."""
    x = max(box[0] - px, px - box[3], 0.0)
    y = max(box[1] - py, py - box[4], 0.0)
    z = max(box[2] - pz, pz - box[5], 0.0)
    return x * x + y * y + z * z


@compiled
def to_triangle(px, py, pz, corner):  # type: ignore[no-untyped-def]
    """The square of the distance from a triangle: corner, first and second edge (9,); it may be a line or a point."""
    x, y, z = px - corner[0], py - corner[1], pz - corner[2]
    ux, uy, uz, wx, wy, wz = corner[3], corner[4], corner[5], corner[6], corner[7], corner[8]
    uu, uw, ww = ux * ux + uy * uy + uz * uz, ux * wx + uy * wy + uz * wz, wx * wx + wy * wy + wz * wz
    pu, pw = x * ux + y * uy + z * uz, x * wx + y * wy + z * wz
    whole = uu * ww - uw * uw
    # a sliver may seem to have the point above it by rounding; then one of its edges is nearer
    if whole > SLIVER * uu * ww:
        s, t = (pu * ww - pw * uw) / whole, (pw * uu - pu * uw) / whole
        if s > 0 and t > 0 and s + t < 1:
            qx, qy, qz = x - s * ux - t * wx, y - s * uy - t * wy, z - s * uz - t * wz
            return qx * qx + qy * qy + qz * qz
    s = min(max(pu / uu, 0.0), 1.0) if uu > 0 else 0.0
    t = min(max(pw / ww, 0.0), 1.0) if ww > 0 else 0.0
    qx, qy, qz = x - s * ux, y - s * uy, z - s * uz
    rx, ry, rz = x - t * wx, y - t * wy, z - t * wz
    vx, vy, vz = wx - ux, wy - uy, wz - uz
    x, y, z = x - ux, y - uy, z - uz
    vv = vx * vx + vy * vy + vz * vz
    s = min(max((x * vx + y * vy + z * vz) / vv, 0.0), 1.0) if vv > 0 else 0.0
    x, y, z = x - s * vx, y - s * vy, z - s * vz
    return min(qx * qx + qy * qy + qz * qz, rx * rx + ry * ry + rz * rz, x * x + y * y + z * z)
