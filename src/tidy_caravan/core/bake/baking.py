"""A bake: texels of all lightmaps in tiles, passes of samples over them, and what each part has of it so far.

A tile and pass that was traced before is found again, in whatever run: a bake that was paused, cancelled or cut off goes
on from there, and one with more samples adds to them. Work is spread tile by tile.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from tidy_caravan.core.bake.keeping import Kept, Shelf
from tidy_caravan.core.bake.lamps import Powers, powers
from tidy_caravan.core.bake.mix import BRIGHTNESS, GROUPS, Mix
from tidy_caravan.core.bake.texels import Texels, texels_of
from tidy_caravan.core.bake.trace import traced
from tidy_caravan.core.bake.world import World, world_arrays
from tidy_caravan.core.geometry.normals import face_vectors
from tidy_caravan.core.geometry.pose import at_rest
from tidy_caravan.core.pace import Tell
from tidy_caravan.core.scene import HIDDEN, NO_LIGHTMAP, Mesh, Scene
from tidy_caravan.core.scene.arrays import F32, F64, I64, AnyArray, Bool
from tidy_caravan.core.space.convert import cofactors
from tidy_caravan.core.work.heavy import Done, Piece, Work, Workshop

LOADS = (
    "embreex.rtcore_scene",
    "embreex.mesh_construction",
    "tidy_caravan.core.bake.kernels",
    "tidy_caravan.core.compiled",
)
TILE, MOST_TILE = 1 << 16, 1 << 20
"""Texels of a tile; more where the scene has more than so many triangles, since every tile is sent the whole of it."""
TRIANGLES = 100_000
SAMPLE = 0x9E3779B97F4A7C15
"""What the seeds of one sample and the next differ by."""
TRACE = Work("light traced", 5, f"{__name__}:tile", memory=6 << 30)
LEAST_MAP = 4
BURIED = 0.5
"""Part of a texel's first rays that meet backs from which on it looks into a wall."""


def tile(
    arrays: Mapping[str, AnyArray], *, samples: int, seed: int, bounces: int
) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on places (T, 3) and normals (T, 3) in a world: the sum of so many samples, by group, that of the squares of their
    brightness, how often the first ray met the back of a one-sided surface, and which places light reached through a gap.
    Groups that give nothing are left out."""
    world = World(arrays)
    places, normals = arrays["places"], arrays["normals"]
    light, squares = np.zeros((len(places), GROUPS, 3)), np.zeros((len(places), GROUPS))
    behind, leaks, rays = np.zeros(len(places)), np.zeros(len(places)), 0
    for number in range(samples):
        one = traced(world, places, normals, seed + number * SAMPLE, bounces, watch=number == 0)
        leaks = np.maximum(leaks, one.leaks)
        light += one.light
        squares += (one.light @ BRIGHTNESS) ** 2
        behind += one.behind
        rays += one.rays
    there = np.flatnonzero(squares.any(axis=0))
    return {
        "groups": there, "light": light[:, there].astype(np.float32), "squares": squares[:, there].astype(np.float32),
        "behind": behind.astype(np.float32), "leaks": leaks.astype(np.bool_),
    }, {"rays": rays}  # fmt: skip


@dataclass(frozen=True)
class Ask:
    """samples: of each texel. each: of them in one pass, so that as many are taken as fill passes. divide: maps that many
    times smaller each way, for a first look. nodes: those to be baked, all when it is None. keep: parts that did not
    change, nor stand near one that did, keep the light that they have."""

    samples: int = 16
    each: int = 4
    divide: int = 1
    bounces: int = 8
    nodes: Bool | None = None
    keep: bool = True


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
    """Of each sheet the light (T, groups, 3), the mean of its samples so far; squares: (T, groups) that of the squares of
    their brightness; behind: (T,) part of first rays that met backs: texels that look into a wall; leaks: (T,) those that
    light reached through a gap; samples: of each, the least of its texels; before: whether it is from before something
    else changed, of those that were asked for. powers: what the lights of the file come to."""

    sheets: list[Sheet]
    light: list[F32]
    squares: list[F32]
    behind: list[F32]
    leaks: list[Bool]
    samples: list[int]
    before: list[bool]
    rays: int
    lost: list[str]
    powers: Powers
    chosen: int
    """Sheets that were asked for; those behind them show what they had."""

    def lux(self, k: int, mix: Mix) -> F64:
        """(T, 3) light of a sheet."""
        return mix.of(self.light[k])

    def buried(self, k: int) -> Bool:
        """(T,) texels that look into a wall."""
        out: Bool = self.behind[k] > BURIED
        return out

    def leaking(self, k: int) -> Bool:
        """(T,) texels with a leak; in a closed joint of two parts there is none, whatever gets in at its border."""
        return self.leaks[k] & ~self.buried(k)

    def noise(self, k: int, mix: Mix) -> float:
        """Standard error of its texels by its mean brightness: 0.1 is a tenth."""
        return noise_of(self.light[k], self.squares[k], self.samples[k], mix)

    def image(self, k: int, mix: Mix) -> tuple[AnyArray, Bool]:
        """(H, W, 3) light of a part, 0 where no island is, and (H, W) where there is one."""
        sheet = self.sheets[k]
        out = np.zeros((sheet.height * sheet.width, 3), np.float32)
        there = np.zeros(sheet.height * sheet.width, np.bool_)
        out[sheet.index], there[sheet.index] = self.lux(k, mix), True
        return out.reshape(sheet.height, sheet.width, 3), there.reshape(sheet.height, sheet.width)


def mapped(scene: Scene, channel: int, divide: int, among: Bool | None = None) -> tuple[I64, I64]:
    """(K,) nodes that have a map and a set, and (K, 2) texels of their maps, so many times smaller. among: only these."""
    nodes = scene.nodes
    wanted = (nodes.mesh >= 0) & ((nodes.flags & (HIDDEN | NO_LIGHTMAP)) == 0) & (nodes.lightmap[:, 0] > 0)
    if among is not None:
        wanted &= among
    has = np.array([len(m.uvs) > channel for m in scene.meshes] + [False])
    rows = np.flatnonzero(wanted & has[nodes.mesh])
    return rows, np.maximum(LEAST_MAP, nodes.lightmap[rows].astype(np.int64) // divide)


def sheets_of(scene: Scene, channel: int, centre: F64, divide: int, among: Bool | None) -> list[Sheet]:
    """The texels of all parts that have a map and a set, or of some. O(texels)."""
    nodes, metre = scene.nodes, scene.convention.metres_per_unit
    cut: dict[tuple[int, int, int], tuple[Texels, F64, F64]] = {}
    out = []
    for i, (width, height) in zip(*(a.tolist() for a in mapped(scene, channel, divide, among)), strict=True):
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
    return Begun.of(scene, channel, ask, workshop).traced(tell)


@dataclass(frozen=True)
class Begun:
    """A bake before anything is traced. sheets: those that are asked for, and behind them, where only some are, others that
    have light from before. chosen: how many are asked for. found: what light there is of each."""

    sheets: list[Sheet]
    chosen: int
    found: list[Kept | None]
    arrays: dict[str, AnyArray]
    world: bytes
    shelf: Shelf
    ask: Ask
    workshop: Workshop

    @classmethod
    def of(cls, scene: Scene, channel: int, ask: Ask, workshop: Workshop) -> Begun:
        scene = at_rest(scene)
        arrays = world_arrays(scene)
        centre, world = arrays["centre"], digest_of(arrays)
        shelf = Shelf.of(scene, arrays, world, workshop, ask.divide, ask.bounces)
        sheets = sheets_of(scene, channel, centre, ask.divide, ask.nodes)
        found = shelf.find([(s.places, s.normals) for s in sheets], ask.samples, ask.keep)
        chosen = len(sheets)
        if ask.nodes is not None and shelf.entries:
            others = sheets_of(scene, channel, centre, ask.divide, ~ask.nodes)
            for sheet, one in zip(others, shelf.had([(s.places, s.normals) for s in others]), strict=True):
                if one is not None:
                    sheets.append(sheet)
                    found.append(one)
        return cls(sheets, chosen, found, arrays, world, shelf, ask, workshop)

    def alone(self) -> Begun:
        """Without the parts that are not asked for."""
        return replace(self, sheets=self.sheets[: self.chosen], found=self.found[: self.chosen])

    def sizes(self) -> tuple[I64, I64]:
        """(K,) nodes and (K, 2) texels of their maps."""
        return (
            np.array([s.node for s in self.sheets], np.int64),
            np.array([(s.width, s.height) for s in self.sheets], np.int64).reshape(-1, 2),
        )

    def traced(self, tell: Tell = lambda done, total: None) -> Baked:
        """What is asked for and not there yet, traced."""
        found = list(self.found)
        asked = [k for k, one in enumerate(found) if one is None]
        sheets = [self.sheets[k] for k in asked]
        made, rays, lost = trace_all(sheets, self.arrays, self.world, self.ask, self.workshop, tell)
        for k, one in zip(asked, made, strict=True):
            found[k] = one
        every = [one for one in found if one is not None]
        if made:  # other powers of the same light are no news
            self.shelf.keep(every[: self.chosen])
        return Baked(
            self.sheets,
            [(one.light / max(one.samples, 1)).astype(np.float32) for one in every],
            [(one.squares / max(one.samples, 1)).astype(np.float32) for one in every],
            [(one.behind / max(one.samples, 1)).astype(np.float32) for one in every],
            [one.leaks for one in every],
            [one.samples for one in every],
            [one.world != self.world for one in every[: self.chosen]],
            rays,
            lost,
            powers(self.arrays),
            self.chosen,
        )


def digest_of(arrays: Mapping[str, AnyArray]) -> bytes:
    digest = hashlib.blake2b(digest_size=16)
    for name in sorted(arrays):
        digest.update(name.encode())
        digest.update(np.ascontiguousarray(arrays[name]).tobytes())
    return digest.digest()


def trace_all(
    sheets: list[Sheet], arrays: Mapping[str, AnyArray], world: bytes, ask: Ask, workshop: Workshop, tell: Tell
) -> tuple[list[Kept], int, list[str]]:
    """Light of sheets, traced tile by tile and pass by pass; the rays cast, and why tiles are missing."""
    places = np.concatenate([np.zeros((0, 3)), *(s.places for s in sheets)])
    normals = np.concatenate([np.zeros((0, 3)), *(s.normals for s in sheets)])
    tiles, texels = [], min(MOST_TILE, TILE * max(1, len(arrays["faces"]) // TRIANGLES))
    for at in range(0, len(places), texels):
        rows = slice(at, min(at + texels, len(places)))
        own = hashlib.blake2b(world + places[rows].tobytes() + normals[rows].tobytes(), digest_size=16)
        tiles.append((rows, own.digest(), {**arrays, "places": places[rows], "normals": normals[rows]}))
    pieces, spans = [], []
    for number in range(max(1, -(-ask.samples // ask.each))):
        for rows, own_digest, work in tiles:
            salt = hashlib.blake2b(own_digest + number.to_bytes(4, "little"), digest_size=8)
            parameters = {
                "samples": ask.each, "seed": int.from_bytes(salt.digest(), "little"), "bounces": ask.bounces,
            }  # fmt: skip
            size = ask.each * (rows.stop - rows.start)
            pieces.append(Piece(own_digest.hex(), work, parameters, 60 + size / 2_000, size))
            spans.append(rows)
    light = np.zeros((len(places), GROUPS, 3), np.float32)
    squares, behind = np.zeros((len(places), GROUPS), np.float32), np.zeros(len(places), np.float32)
    leaks = np.zeros(len(places), np.bool_)
    count, rays, lost = np.zeros(len(places), np.int64), 0, []
    for rows, outcome in zip(spans, workshop.do(TRACE, pieces, tell), strict=True):
        if not isinstance(outcome, Done):
            lost.append(outcome.reason)
            continue
        there = outcome.arrays["groups"]
        light[rows, there] += outcome.arrays["light"]
        squares[rows, there] += outcome.arrays["squares"]
        behind[rows] += outcome.arrays["behind"]
        leaks[rows] |= outcome.arrays["leaks"]
        count[rows] += ask.each
        rays += int(outcome.figures["rays"])
    ends, out = np.cumsum([0, *(len(s.index) for s in sheets)]), []
    for a, b in zip(ends[:-1], ends[1:], strict=True):
        # tiles that are missing leave some texels with fewer samples: all are brought to those of the least
        least = int(count[a:b].min(initial=count[a:b].max(initial=0)))
        part = (least / np.maximum(count[a:b], 1)).astype(np.float32)
        out.append(Kept(
            light[a:b] * part[:, None, None], squares[a:b] * part[:, None], behind[a:b] * part, leaks[a:b], least, world,
            box_of(places[a:b]),
        ))  # fmt: skip
    return out, rays, sorted(set(lost))


def box_of(places: F64) -> F64:
    """(2, 3) lowest and highest; of no places a box that nothing is near to."""
    return np.array([places.min(axis=0, initial=np.inf), places.max(axis=0, initial=-np.inf)])


def noise_of(mean: AnyArray, squares: AnyArray, samples: int, mix: Mix) -> float:
    """Standard error of texels by the mean brightness of their part: 0.1 is a tenth. mean: (T, groups, 3). squares: (T, groups);
    what different groups are off by is taken to be independent."""
    bright = mix.of(mean) @ BRIGHTNESS
    if not len(bright) or bright.mean() <= 0:
        return 0.0
    if samples < 2:  # of one sample each, what they differ by is all there is to go by
        return float(bright.std() / bright.mean())
    spread = np.maximum(squares - (mean.astype(np.float64) @ BRIGHTNESS) ** 2, 0.0) / (samples - 1)
    return float(np.sqrt((spread @ (mix.gains @ BRIGHTNESS) ** 2).mean()) / bright.mean())
