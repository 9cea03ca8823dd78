"""A bake: texels of all lightmaps in tiles, passes of samples over them, and what each part has of it so far.

A tile and pass that was traced before is found again, in whatever run: a bake that was paused, cancelled or cut off goes
on from there, and one with more samples adds to them. Work is spread tile by tile.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from tidy_caravan.core.bake.texels import Texels, texels_of
from tidy_caravan.core.bake.trace import traced
from tidy_caravan.core.bake.world import Sky, World, world_arrays
from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.pose import at_rest
from tidy_caravan.core.scene import HIDDEN, NO_LIGHTMAP, Mesh, Scene
from tidy_caravan.core.scene.arrays import F32, F64, I64, AnyArray, Bool
from tidy_caravan.core.space.convert import cofactors
from tidy_caravan.core.work.heavy import Done, Piece, Tell, Work, Workshop

LOADS = ("embreex.rtcore_scene", "embreex.mesh_construction", "tidy_caravan.core.bake.kernels")
TILE = 1 << 16
"""Texels of a tile."""
SAMPLE = 0x9E3779B97F4A7C15
"""What the seeds of one sample and the next differ by."""
TRACE = Work("light traced", 2, f"{__name__}:tile", memory=6 << 30)
BRIGHTNESS = np.array([0.2126, 0.7152, 0.0722])
"""Luminance of linear colours (ITU-R BT.709)."""
LEAST_MAP = 4


def tile(
    arrays: Mapping[str, AnyArray], *, samples: int, seed: int, bounces: int
) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on places (T, 3) and normals (T, 3) in a world: the sum of so many samples, that of the squares of their
    brightness, and how often the first ray met the back of a one-sided surface."""
    world = World(arrays)
    places, normals = arrays["places"], arrays["normals"]
    light, squares, behind = np.zeros((len(places), 3)), np.zeros(len(places)), np.zeros(len(places))
    rays = 0
    for number in range(samples):
        one = traced(world, places, normals, seed + number * SAMPLE, bounces)
        light += one.light
        squares += (one.light @ BRIGHTNESS) ** 2
        behind += one.behind
        rays += one.rays
    return {
        "light": light.astype(np.float32), "squares": squares, "behind": behind.astype(np.float32)
    }, {"rays": rays}  # fmt: skip


@dataclass(frozen=True)
class Ask:
    """samples: of each texel. each: of them in one pass, so that as many are taken as fill passes. divide: maps that many
    times smaller each way, for a first look. nodes: those to be baked, all when it is None."""

    samples: int = 16
    each: int = 4
    divide: int = 1
    bounces: int = 8
    sky: Sky = field(default_factory=Sky)
    lamps: float = 1.0
    nodes: Bool | None = None


@dataclass(frozen=True)
class Sheet:
    """The texels of one part. index: (T,) row · width + column. places, normals: (T, 3) in the world, metres about its middle."""

    node: int
    width: int
    height: int
    index: I64
    places: F64
    normals: F64


@dataclass
class Baked:
    """Of each sheet the light (T, 3) in lux, the mean of its samples so far; noise: standard error by the mean, of a part as a
    whole; behind: (T,) part of first rays that met backs: texels that look into a wall."""

    sheets: list[Sheet]
    light: list[F32]
    noise: list[float]
    behind: list[F32]
    samples: int
    rays: int
    lost: list[str]

    def image(self, k: int) -> tuple[AnyArray, Bool]:
        """(H, W, 3) light of a part, 0 where no island is, and (H, W) where there is one."""
        sheet = self.sheets[k]
        out = np.zeros((sheet.height * sheet.width, 3), np.float32)
        there = np.zeros(sheet.height * sheet.width, np.bool_)
        out[sheet.index], there[sheet.index] = self.light[k], True
        return out.reshape(sheet.height, sheet.width, 3), there.reshape(sheet.height, sheet.width)


def mapped(scene: Scene, channel: int, ask: Ask) -> tuple[I64, I64]:
    """(K,) nodes that have a map and a set, and (K, 2) texels of their maps as they are asked for."""
    nodes = scene.nodes
    wanted = (nodes.mesh >= 0) & ((nodes.flags & (HIDDEN | NO_LIGHTMAP)) == 0) & (nodes.lightmap[:, 0] > 0)
    if ask.nodes is not None:
        wanted &= ask.nodes
    has = np.array([len(m.uvs) > channel for m in scene.meshes] + [False])
    rows = np.flatnonzero(wanted & has[nodes.mesh])
    return rows, np.maximum(LEAST_MAP, nodes.lightmap[rows].astype(np.int64) // ask.divide)


def sheets_of(scene: Scene, channel: int, centre: F64, ask: Ask) -> list[Sheet]:
    """The texels of all parts that have a map and a set. O(texels)."""
    nodes, metre = scene.nodes, scene.convention.metres_per_unit
    cut: dict[tuple[int, int, int], tuple[Texels, F64, F64]] = {}
    out = []
    for i, (width, height) in zip(*(a.tolist() for a in mapped(scene, channel, ask)), strict=True):
        mesh = scene.meshes[nodes.mesh[i]]
        key = int(nodes.mesh[i]), width, height
        if key not in cut:
            cut[key] = on_surface(mesh, channel, width, height)
        texels, places, normals = cut[key]
        world = nodes.world[i]
        turned = normals @ cofactors(world[None, :3, :3])[0].T * np.sign(np.linalg.det(world[:3, :3]) or 1.0)
        turned /= np.maximum(np.linalg.norm(turned, axis=1, keepdims=True), 1e-300)
        moved = (places @ world[:3, :3].T + world[:3, 3]) * metre - centre
        out.append(Sheet(i, width, height, texels.index, moved, turned))
    return out


def on_surface(mesh: Mesh, channel: int, width: int, height: int) -> tuple[Texels, F64, F64]:
    """The texels of a mesh's map, their places and normals in its own space: those of its triangles, which rays begin off."""
    texels = texels_of(mesh.uvs[channel], mesh.indices, width, height)
    corners = mesh.positions.astype(np.float64)[mesh.indices[texels.triangle]]
    normal = face_vectors(mesh.positions, mesh.indices)[texels.triangle]
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    return texels, np.einsum("tk,tki->ti", texels.bary, corners), normal


def bake(scene: Scene, channel: int, ask: Ask, workshop: Workshop, tell: Tell = lambda done, total: None) -> Baked:
    """The light on all lightmaps of a scene as it is drawn. O(samples · texels · rays log triangles)."""
    scene = at_rest(scene)
    arrays = world_arrays(scene, ask.sky, ask.lamps)
    sheets = sheets_of(scene, channel, arrays["centre"], ask)
    digest = hashlib.blake2b(digest_size=16)
    for name in sorted(arrays):
        digest.update(name.encode())
        digest.update(np.ascontiguousarray(arrays[name]).tobytes())
    places = np.concatenate([np.zeros((0, 3)), *(s.places for s in sheets)])
    normals = np.concatenate([np.zeros((0, 3)), *(s.normals for s in sheets)])
    tiles = []
    for at in range(0, len(places), TILE):
        rows = slice(at, min(at + TILE, len(places)))
        own = hashlib.blake2b(digest.digest() + places[rows].tobytes() + normals[rows].tobytes(), digest_size=16)
        tiles.append((rows, own.digest(), {**arrays, "places": places[rows], "normals": normals[rows]}))
    pieces, spans = [], []
    passes = max(1, -(-ask.samples // ask.each))
    for number in range(passes):
        for rows, own_digest, work in tiles:
            salt = hashlib.blake2b(own_digest + number.to_bytes(4, "little"), digest_size=8)
            parameters = {
                "samples": ask.each, "seed": int.from_bytes(salt.digest(), "little"), "bounces": ask.bounces,
            }  # fmt: skip
            size = ask.each * (rows.stop - rows.start)
            pieces.append(Piece(own_digest.hex(), work, parameters, 60 + size / 2_000, size))
            spans.append(rows)
    light, squares, behind = np.zeros((len(places), 3)), np.zeros(len(places)), np.zeros(len(places))
    number_of, rays, lost = np.zeros(len(places)), 0, []
    for rows, outcome in zip(spans, workshop.do(TRACE, pieces, tell), strict=True):
        if not isinstance(outcome, Done):
            lost.append(outcome.reason)
            continue
        light[rows] += outcome.arrays["light"]
        squares[rows] += outcome.arrays["squares"]
        behind[rows] += outcome.arrays["behind"]
        number_of[rows] += ask.each
        rays += int(outcome.figures["rays"])
    count = np.maximum(number_of, 1)
    mean, ends = light / count[:, None], np.cumsum([0, *(len(s.index) for s in sheets)])
    return Baked(
        sheets,
        [mean[a:b].astype(np.float32) for a, b in zip(ends[:-1], ends[1:], strict=True)],
        [noise_of(mean[a:b], squares[a:b], count[a:b]) for a, b in zip(ends[:-1], ends[1:], strict=True)],
        [(behind[a:b] / count[a:b]).astype(np.float32) for a, b in zip(ends[:-1], ends[1:], strict=True)],
        passes * ask.each,
        rays,
        sorted(set(lost)),
    )


def noise_of(mean: F64, squares: F64, count: F64) -> float:
    """Standard error of texels by the mean brightness of their part: 0.1 is a tenth."""
    bright = mean @ BRIGHTNESS
    if not len(bright) or bright.mean() <= 0:
        return 0.0
    if count.max() < 2:  # of one sample each, what they differ by is all there is to go by
        return float(bright.std() / bright.mean())
    spread = np.maximum(squares / count - bright**2, 0.0) / np.maximum(count - 1, 1)
    return float(np.sqrt(spread.mean()) / bright.mean())
