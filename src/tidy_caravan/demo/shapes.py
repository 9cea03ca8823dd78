"""Plain shapes in metres, Z up, from which the demo scene is put together."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.geometry.normals import face_normals
from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import F64, I64


@dataclass(frozen=True)
class Shape:
    """Triangles with a flat normal each. points (F, 3, 3), slot (F,) material number."""

    points: F64
    slot: I64

    def __add__(self, other: Shape) -> Shape:
        return Shape(np.concatenate([self.points, other.points]), np.concatenate([self.slot, other.slot]))

    def at(self, x: float = 0.0, y: float = 0.0, z: float = 0.0, turn: float = 0.0) -> Shape:
        """Turned about Z by degrees, then moved."""
        c, s = np.cos(np.radians(turn)), np.sin(np.radians(turn))
        rotation = np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]])
        return Shape(self.points @ rotation.T + (x, y, z), self.slot)

    def painted(self, slot: int) -> Shape:
        return Shape(self.points, np.full(len(self.slot), slot))

    def mesh(
        self, name: str, *, smooth: bool = False, uv: bool = True, normals: bool = True, scale: float = 1.0
    ) -> Mesh:
        """A mesh in glTF axes (Y up), vertices shared where position and normal agree; box-projected UVs."""
        y_up = np.stack([self.points[..., 0], self.points[..., 2], -self.points[..., 1]], axis=-1)
        corners = y_up.reshape(-1, 3)
        flat = face_normals(corners, np.arange(len(corners), dtype=np.uint32).reshape(-1, 3))
        normal: F64 = np.repeat(flat, 3, axis=0).astype(np.float64)
        if smooth:
            normal = smoothed(corners, normal)
        axis = np.argmax(np.abs(np.repeat(flat, 3, axis=0)), axis=1)
        u = np.where(axis == 0, corners[:, 2], corners[:, 0])
        v = np.where(axis == 1, corners[:, 2], -corners[:, 1])
        table = np.column_stack([corners, normal, u, v]).astype(np.float32)
        _, first, inverse = np.unique(np.round(table, 5), axis=0, return_index=True, return_inverse=True)
        rank = np.argsort(np.argsort(first))
        chosen = table[np.sort(first)]
        indices = rank[inverse.reshape(-1)].reshape(-1, 3).astype(np.uint32)
        return Mesh(
            np.ascontiguousarray(chosen[:, :3] * np.float32(scale)),
            indices,
            self.slot.astype(np.int32),
            normals=np.ascontiguousarray(chosen[:, 3:6]) if normals else None,
            uvs=(np.ascontiguousarray(chosen[:, 6:8]),) if uv else (),
            name=name,
        )


def smoothed(corners: F64, normal: F64) -> F64:
    """Corner normals averaged over faces that meet within 40 degrees at a place."""
    _, place = np.unique(np.round(corners, 6), axis=0, return_inverse=True)
    total = np.zeros((int(place.max()) + 1, 3))
    np.add.at(total, place.reshape(-1), normal)
    out = total[place.reshape(-1)]
    out /= np.linalg.norm(out, axis=1, keepdims=True)
    keep = np.einsum("ij,ij->i", out, normal) < np.cos(np.radians(40))
    out[keep] = normal[keep]
    return out


def quads(corners: F64, faces: list[list[int]], slot: int = 0) -> Shape:
    """Quads (four corner numbers each, counter-clockwise from outside) as triangles."""
    q = np.array(faces)
    triangles = np.concatenate([q[:, [0, 1, 2]], q[:, [0, 2, 3]]], axis=1).reshape(-1, 3)
    return Shape(np.asarray(corners, np.float64)[triangles], np.full(len(triangles), slot))


def box(x: float, y: float, z: float, slot: int = 0) -> Shape:
    """Standing on z = 0, centred in x and y."""
    c = np.array([[a, b, h] for h in (0, z) for b in (-y / 2, y / 2) for a in (-x / 2, x / 2)])
    return quads(c, [[0, 2, 3, 1], [4, 5, 7, 6], [0, 1, 5, 4], [2, 6, 7, 3], [0, 4, 6, 2], [1, 3, 7, 5]], slot)


def beam(a: tuple[float, float, float], b: tuple[float, float, float], width: float, slot: int = 0) -> Shape:
    """A square bar between two points."""
    start, end = np.array(a), np.array(b)
    along = (end - start) / np.linalg.norm(end - start)
    helper = np.array([0.0, 1.0, 0.0]) if abs(along[1]) < 0.9 else np.array([1.0, 0.0, 0.0])
    side = np.cross(along, helper)
    side /= np.linalg.norm(side)
    third = np.cross(along, side)
    bar = box(width, width, float(np.linalg.norm(end - start)), slot)
    frame = np.stack([side, third, along], axis=1)
    return Shape(bar.points @ frame.T + start, bar.slot)


def lathe(profile: list[tuple[float, float]], segments: int = 16, slot: int = 0) -> Shape:
    """A closed solid of revolution about Z; profile of (radius, z) from bottom to top, caps added."""
    rings = []
    angle = np.linspace(0, 2 * np.pi, segments, endpoint=False)
    for radius, z in profile:
        rings.append(np.column_stack([radius * np.cos(angle), radius * np.sin(angle), np.full(segments, z)]))
    triangles = []
    nxt = (np.arange(segments) + 1) % segments
    for low, high in zip(rings[:-1], rings[1:], strict=True):
        triangles.append(np.stack([low, low[nxt], high[nxt]], axis=1))
        triangles.append(np.stack([low, high[nxt], high], axis=1))
    for ring, up in ((rings[0], False), (rings[-1], True)):
        centre = np.broadcast_to(ring.mean(axis=0), ring.shape)
        triangles.append(np.stack([centre, ring, ring[nxt]] if up else [centre, ring[nxt], ring], axis=1))
    points = np.concatenate(triangles)
    area = np.linalg.norm(np.cross(points[:, 1] - points[:, 0], points[:, 2] - points[:, 0]), axis=1)
    points = points[area > 1e-12]
    return Shape(points, np.full(len(points), slot))


def stone(seed: int, size: float) -> Shape:
    """A pebble: a subdivided octahedron, flattened and dented."""
    rng = np.random.default_rng(seed)
    corner = np.array([[1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1], [0, 0, -1]], dtype=np.float64)
    faces = [[0, 2, 4], [2, 1, 4], [1, 3, 4], [3, 0, 4], [2, 0, 5], [1, 2, 5], [3, 1, 5], [0, 3, 5]]
    points = corner[np.array(faces)]
    for _ in range(2):
        a, b, c = points[:, 0], points[:, 1], points[:, 2]
        ab, bc, ca = (a + b) / 2, (b + c) / 2, (c + a) / 2
        points = np.concatenate([np.stack(t, axis=1) for t in ((a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca))])
        points /= np.linalg.norm(points, axis=2, keepdims=True)
    waves = rng.normal(size=(4, 3))
    dent = 1 + 0.08 * np.sin(points @ waves.T * 2.0).sum(axis=2)
    stretch = size * np.array([1.0, rng.uniform(0.7, 0.9), rng.uniform(0.35, 0.5)])
    return Shape(points * dent[..., None] * stretch, np.zeros(len(points), np.int64))


def hull(length: float, width: float, height: float, along: int, around: int) -> Shape:
    """A ship's hull, pointed at the bow and cut at the stern: many small triangles, as heavy meshes have."""
    t = np.linspace(0, 1, along + 1)
    s = np.linspace(0, np.pi, around + 1)
    half = width / 2 * np.minimum(1.0, 1.6 * (1 - t) ** 0.6)
    depth = height * (0.75 + 0.25 * (1 - t) ** 0.3)
    x = np.repeat(t[:, None] * length, around + 1, axis=1)
    y = half[:, None] * np.cos(s)[None] * (1 - 0.15 * np.sin(s)[None])
    z = height - depth[:, None] * np.sin(s)[None] ** 0.7
    grid = np.stack([x, y, z], axis=2)
    a, b, c, d = grid[:-1, :-1], grid[1:, :-1], grid[1:, 1:], grid[:-1, 1:]
    skin = np.concatenate([np.stack([a, b, c], axis=2), np.stack([a, c, d], axis=2)]).reshape(-1, 3, 3)
    deck = np.stack([grid[:-1, -1], grid[1:, 0], grid[:-1, 0]], axis=1)
    deck2 = np.stack([grid[:-1, -1], grid[1:, -1], grid[1:, 0]], axis=1)
    centre = np.broadcast_to(grid[0].mean(axis=0), (around, 3))
    stern = np.stack([centre, grid[0, :-1], grid[0, 1:]], axis=1)
    points = np.concatenate([skin, deck[:, [0, 2, 1]], deck2[:, [0, 2, 1]], stern])
    area = np.linalg.norm(np.cross(points[:, 1] - points[:, 0], points[:, 2] - points[:, 0]), axis=1)
    points = points[area > 1e-9]
    volume = np.einsum(
        "fi,fi->f",
        points[:, 0] - points.mean(axis=(0, 1)),
        np.cross(points[:, 1] - points[:, 0], points[:, 2] - points[:, 0]),
    ).sum()
    return Shape(points if volume > 0 else points[:, [0, 2, 1]], np.zeros(len(points), np.int64))
