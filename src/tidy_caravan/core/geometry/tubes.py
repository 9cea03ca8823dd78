"""Curves as tubes or ribbons: cubic and linear basis curves swept with a frame that does not twist."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.geometry.shapes import Triangles
from tidy_caravan.core.scene.arrays import F64

BASES: dict[str, F64] = {
    "bezier": np.array([[-1, 3, -3, 1], [3, -6, 3, 0], [-3, 3, 0, 0], [1, 0, 0, 0]], np.float64),
    "bspline": np.array([[-1, 3, -3, 1], [3, -6, 3, 0], [-3, 0, 3, 0], [1, 4, 1, 0]], np.float64) / 6,
    "catmullRom": np.array([[-1, 3, -3, 1], [2, -5, 4, -1], [-1, 0, 1, 0], [0, 2, 0, 0]], np.float64) / 2,
}
"""Rows are the coefficients of t³, t², t, 1 for the four control points of a segment."""


def windows(count: int, basis: str, closed: bool) -> np.ndarray[tuple[int, int], np.dtype[np.int64]]:
    """(S, 4) control points of each cubic segment; Bézier segments share ends, the others overlap by three."""
    step = 3 if basis == "bezier" else 1
    if closed:
        segments = count // step
        return (np.arange(segments)[:, None] * step + np.arange(4)) % count
    segments = (count - 4) // step + 1 if count >= 4 else 0
    return np.arange(segments)[:, None] * step + np.arange(4)


def along(points: F64, basis: str, closed: bool, samples: int) -> F64:
    """(N, W) points on the curve, `samples` per cubic segment; linear ones as they are."""
    if basis == "linear":
        return np.concatenate([points, points[:1]]) if closed else points
    window = windows(len(points), basis, closed)
    if not len(window):
        return points
    t = np.arange(samples) / samples
    powers = np.stack([t**3, t**2, t, np.ones_like(t)], axis=1)
    weights = powers @ BASES[basis]
    inner = np.einsum("sk,wkd->wsd", weights, points[window]).reshape(-1, points.shape[1])
    last = np.ones(4) @ BASES[basis] @ points[window[-1]]
    return np.concatenate([inner, last[None]])


def samples_for(points: F64, basis: str, closed: bool, tolerance: float) -> int:
    """Samples per segment that keep the chord within `tolerance` (same unit as the points).

    A cubic's chord over 1/n of it strays by at most |second difference|·6/8/n² (Filip et al., 1986).
    """
    if basis == "linear":
        return 1
    window = windows(len(points), basis, closed)
    if not len(window) or not tolerance > 0:
        return 4
    coefficients = np.einsum("ck,wkd->wcd", BASES[basis], points[window][:, :, :3])
    bend = np.linalg.norm(6 * coefficients[:, 0] + 2 * coefficients[:, 1], axis=1)
    bend = np.maximum(bend, np.linalg.norm(2 * coefficients[:, 1], axis=1)).max()
    return int(np.clip(np.ceil(np.sqrt(bend / 8 / tolerance)), 1, 64))


def frames(line: F64, closed: bool) -> tuple[F64, F64]:
    """(N, 3) tangents and (N, 3) normals carried along without twist (double reflection, Wang et al. 2008)."""
    count = len(line)
    step = np.diff(line, axis=0)
    tangent = np.empty_like(line)
    tangent[0], tangent[-1] = step[0], step[-1]
    tangent[1:-1] = step[1:] + step[:-1]
    if closed:
        tangent[0] = tangent[-1] = step[0] + step[-1]
    length = np.linalg.norm(tangent, axis=1, keepdims=True)
    tangent = tangent / np.where(length > 0, length, 1.0)
    normal = np.empty_like(line)
    seed = np.eye(3)[int(np.argmin(np.abs(tangent[0])))]
    first = seed - tangent[0] * (seed @ tangent[0])
    normal[0] = first / (np.linalg.norm(first) or 1.0)
    for i in range(count - 1):  # sequential by nature; curves are short
        v1 = step[i]
        c1 = float(v1 @ v1)
        if c1 <= 0:
            normal[i + 1] = normal[i]
            continue
        r = normal[i] - v1 * (2 / c1 * float(v1 @ normal[i]))
        t = tangent[i] - v1 * (2 / c1 * float(v1 @ tangent[i]))
        v2 = tangent[i + 1] - t
        c2 = float(v2 @ v2)
        normal[i + 1] = r - v2 * (2 / c2 * float(v2 @ r)) if c2 > 1e-24 else r
    return tangent, normal


def tube(line: F64, radius: F64, closed: bool, segments: int) -> Triangles:
    """Round tube around a line (N, 3) with a radius (N,) at each point; open ends are capped."""
    tangent, normal = frames(line, closed)
    side = np.cross(tangent, normal)
    angle = np.linspace(0, 2 * np.pi, segments + 1)
    turn = np.cos(angle)[None, :, None] * normal[:, None] + np.sin(angle)[None, :, None] * side[:, None]
    turn[:, -1] = turn[:, 0]
    positions = line[:, None] + radius[:, None, None] * turn
    if closed:
        positions[-1], turn[-1] = positions[0], turn[0]
    rows, columns = len(line), segments + 1
    grid = (np.arange(rows - 1)[:, None] * columns + np.arange(segments)).ravel()
    indices = [
        np.stack([grid, grid + 1, grid + columns + 1], axis=1),
        np.stack([grid, grid + columns + 1, grid + columns], axis=1),
    ]
    run = np.append(0.0, np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1)))
    u, v = np.meshgrid(np.linspace(0, 1, columns), run / (run[-1] or 1.0))
    all_positions, all_normals = [positions.reshape(-1, 3)], [turn.reshape(-1, 3)]
    all_uvs = [np.stack([u, v], axis=2).reshape(-1, 2)]
    base = rows * columns
    if not closed:
        for row, sign in ((0, -1.0), (rows - 1, 1.0)):
            all_positions.append(positions[row, :-1])
            all_normals.append(np.tile(tangent[row] * sign, (segments, 1)))
            all_uvs.append(np.stack([np.cos(angle[:-1]), np.sin(angle[:-1])], axis=1) / 2 + 0.5)
            fan = np.stack([np.zeros(segments - 2), np.arange(1, segments - 1), np.arange(2, segments)], axis=1).astype(
                np.int64
            )
            indices.append((fan if sign > 0 else fan[:, [0, 2, 1]]) + base)
            base += segments
    return Triangles(
        np.concatenate(all_positions),
        np.concatenate(indices).astype(np.uint32),
        np.concatenate(all_normals).astype(np.float32),
        np.concatenate(all_uvs).astype(np.float32),
    )


def ribbon(line: F64, width: F64, facing: F64) -> Triangles:
    """Flat strip along a line (N, 3), `width` (N,) across, facing (N, 3)."""
    tangent, _ = frames(line, False)
    across = np.cross(facing, tangent)
    length = np.linalg.norm(across, axis=1, keepdims=True)
    across = across / np.where(length > 0, length, 1.0) * width[:, None] / 2
    rows = len(line)
    grid = np.arange(rows - 1) * 2
    run = np.append(0.0, np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1)))
    v = np.repeat(run / (run[-1] or 1.0), 2)
    unit = np.cross(tangent, across)
    size = np.linalg.norm(unit, axis=1, keepdims=True)
    return Triangles(
        np.stack([line - across, line + across], axis=1).reshape(-1, 3),
        np.concatenate(
            [np.stack([grid, grid + 2, grid + 3], axis=1), np.stack([grid, grid + 3, grid + 1], axis=1)]
        ).astype(np.uint32),
        np.repeat(unit / np.where(size > 0, size, 1.0), 2, axis=0).astype(np.float32),
        np.stack([np.tile((0.0, 1.0), rows), v], axis=1).astype(np.float32),
    )
