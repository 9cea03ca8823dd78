"""Parametric primitives as triangles: box, plane, and everything that is a profile turned about an axis."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.scene.arrays import F32, F64, U32

MOST_SEGMENTS = 1024


@dataclass(frozen=True)
class Triangles:
    """positions (V, 3), indices (F, 3), normals (V, 3) unit, uv (V, 2) with v downwards."""

    positions: F64
    indices: U32
    normals: F32
    uv: F32


def segments_for(radius: float, tolerance: float) -> int:
    """Segments of a full circle whose chords stay within `tolerance` of it: s = r·(1 − cos(π/n)).

    Both in the same unit; a multiple of four, at least eight, at most MOST_SEGMENTS.
    """
    if not radius > 0 or not tolerance > 0 or tolerance >= radius:
        return 8
    count = math.pi / math.acos(1.0 - tolerance / radius)
    return min(MOST_SEGMENTS, max(8, 4 * math.ceil(count / 4)))


def box(size: tuple[float, float, float]) -> Triangles:
    """Around the origin, hard edges, every face covered once by the UV set."""
    half = np.array(size) / 2
    positions, normals, uv, indices = [], [], [], []
    for axis in range(3):
        for sign in (1.0, -1.0):
            u, v = (axis + 1) % 3, (axis + 2) % 3
            for k, (s, t) in enumerate(((-1, -1), (1, -1), (1, 1), (-1, 1))):
                corner = np.zeros(3)
                corner[axis], corner[u], corner[v] = sign, s * sign, t
                positions.append(corner * half)
                normals.append(np.eye(3)[axis] * sign)
                uv.append(((0.0, 1.0), (1.0, 1.0), (1.0, 0.0), (0.0, 0.0))[k])
            base = len(positions) - 4
            indices += [(base, base + 1, base + 2), (base, base + 2, base + 3)]
    return Triangles(
        np.array(positions), np.array(indices, np.uint32), np.array(normals, np.float32), np.array(uv, np.float32)
    )


def plane(width: float, length: float) -> Triangles:
    """In X (width) and Y (length) around the origin, facing +Z."""
    x, y = width / 2, length / 2
    return Triangles(
        np.array([(-x, -y, 0), (x, -y, 0), (x, y, 0), (-x, y, 0)], np.float64),
        np.array([(0, 1, 2), (0, 2, 3)], np.uint32),
        np.tile(np.array((0, 0, 1), np.float32), (4, 1)),
        np.array([(0, 1), (1, 1), (1, 0), (0, 0)], np.float32),
    )


@dataclass(frozen=True)
class Profile:
    """A line in the (radius, height) half-plane with its normal; v runs along it from 1 (start) to 0."""

    radius: F64
    height: F64
    normal_radius: F64
    normal_height: F64


def sphere_profile(radius: float, segments: int) -> Profile:
    angle = np.linspace(-np.pi / 2, np.pi / 2, max(2, segments // 2) + 1)
    c, s = np.cos(angle), np.sin(angle)
    c[[0, -1]] = 0.0
    return Profile(radius * c, radius * s, c, s)


def capsule_profile(radius: float, height: float, segments: int) -> Profile:
    ball = sphere_profile(radius, segments - segments % 4)
    middle = len(ball.radius) // 2
    shift = np.where(np.arange(len(ball.radius)) <= middle, -height / 2, height / 2)
    cut = [slice(0, middle + 1), slice(middle, None)]
    shifts = [np.full(middle + 1, -height / 2), np.append(height / 2, shift[middle + 1 :])]
    pieces = [
        (ball.radius[c], ball.height[c] + s, ball.normal_radius[c], ball.normal_height[c])
        for c, s in zip(cut, shifts, strict=True)
    ]
    r, h, nr, nh = (np.concatenate(p) for p in zip(*pieces, strict=True))
    return Profile(r, h, nr, nh)


def straight(r0: float, h0: float, r1: float, h1: float) -> Profile:
    """One straight piece; its normal is on the right when walking from the first end to the second."""
    along = np.array([r1 - r0, h1 - h0])
    length = float(np.linalg.norm(along)) or 1.0
    normal = np.array([along[1], -along[0]]) / length
    return Profile(np.array([r0, r1]), np.array([h0, h1]), np.full(2, normal[0]), np.full(2, normal[1]))


def turned(profiles: list[Profile], segments: int) -> Triangles:
    """Profiles turned about Z, hard edges between them; triangles without area at the axis are left out."""
    angle = np.linspace(0, 2 * np.pi, segments + 1)
    c, s = np.cos(angle), np.sin(angle)
    c[-1], s[-1] = c[0], s[0]  # the seam closes exactly
    positions, normals, uvs, indices = [], [], [], []
    base = 0
    for p in profiles:
        rows = len(p.radius)
        ring = np.stack(
            [np.outer(p.radius, c), np.outer(p.radius, s), np.repeat(p.height[:, None], segments + 1, 1)], 2
        )
        turn = np.stack(
            [
                np.outer(p.normal_radius, c),
                np.outer(p.normal_radius, s),
                np.repeat(p.normal_height[:, None], segments + 1, 1),
            ],
            2,
        )
        u, v = np.meshgrid(np.linspace(0, 1, segments + 1), np.linspace(1, 0, rows))
        grid = (np.arange(rows - 1)[:, None] * (segments + 1) + np.arange(segments)).ravel() + base
        up = segments + 1
        lower = np.stack([grid, grid + 1, grid + up + 1], axis=1)
        upper = np.stack([grid, grid + up + 1, grid + up], axis=1)
        on_axis = np.repeat(p.radius <= 0, segments)
        indices += [lower[~on_axis[: len(lower)]], upper[~on_axis[segments:]]]
        positions.append(ring.reshape(-1, 3))
        normals.append(turn.reshape(-1, 3))
        uvs.append(np.stack([u, v], axis=2).reshape(-1, 2))
        base += rows * up
    return Triangles(
        np.concatenate(positions),
        np.concatenate(indices).astype(np.uint32),
        np.concatenate(normals).astype(np.float32),
        np.concatenate(uvs).astype(np.float32),
    )


def primitive(kind: str, values: dict[str, float], segments: int) -> Triangles:
    """One of box, plane, sphere, cylinder, cone, capsule along Z around the origin. Raises KeyError."""
    if kind == "box":
        return box((values["x"], values["y"], values["z"]))
    if kind == "plane":
        return plane(values["width"], values["length"])
    r = values["radius"]
    if kind == "sphere":
        return turned([sphere_profile(r, segments)], segments)
    h = values["height"]
    if kind == "capsule":
        return turned([capsule_profile(r, h, segments)], segments)
    bottom = straight(0.0, -h / 2, r, -h / 2)
    if kind == "cone":
        return turned([bottom, straight(r, -h / 2, 0.0, h / 2)], segments)
    if kind == "cylinder":
        return turned([bottom, straight(r, -h / 2, r, h / 2), straight(r, h / 2, 0.0, h / 2)], segments)
    raise KeyError(kind)
