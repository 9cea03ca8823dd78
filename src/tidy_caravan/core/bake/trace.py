"""Irradiance on points of surfaces by tracing rays: lamps, glowing surfaces, sky, and light that was reflected before.

Surfaces reflect alike in all directions. One sample of a point is a path: at each of its places all lamps and one place
of a glowing surface are asked directly, and the path goes on in a direction chosen as light falls in (cosine-weighted),
its weight multiplied by what the surface reflects (Kajiya, 1986); where that meets what glows, both ways are weighed
against each other. Without bias but for what `BOUNCES` leaves out.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.bake.world import DIRECTIONAL, SPOT, World, shift
from tidy_caravan.core.geometry.normals import frame_across
from tidy_caravan.core.scene.arrays import F64, I64

BOUNCES = 64
"""Most reflections of a path; those that carry little end by chance long before."""
SURE = 3
"""Reflections from which on a path may end by chance."""


@dataclass
class Traced:
    """light: (N, 3) lux of each point by one sample. rays: how many were cast. behind: (N,) whether the first ray met the
    back of a surface that has one side alone."""

    light: F64
    rays: int
    behind: F64


def traced(world: World, places: F64, normals: F64, rng: np.random.Generator, bounces: int = BOUNCES) -> Traced:
    """One sample of the light on places (N, 3) of surfaces that face along normals (N, 3)."""
    light = np.zeros((len(places), 3))
    behind = np.zeros(len(places))
    rays = 0
    alive = np.arange(len(places))
    at, facing, weight = places, normals, np.ones((len(places), 3))
    for bounce in range(bounces + 1):
        if not len(alive):
            break
        found, cast = direct(world, at, facing, rng)
        light[alive] += weight * found
        way = scattered(facing, rng)
        start = at + facing * shift(at)[:, None]
        far, hit = world.hits(start, way, rng)
        rays += cast + len(alive)
        out = hit < 0
        above = (way @ world.up) > 0
        open_ = np.where(above[:, None], world.sky, world.ground)
        light[alive[out]] += weight[out] * np.pi * open_[out]
        inside = ~out
        front = (world.normal[hit] * way).sum(axis=1) < 0
        if len(world.glowing):
            shines = np.flatnonzero(inside & (world.density[hit] > 0))
            shines = shines[front[shines] | world.two_sided[world.material[hit[shines]]]]
            light[alive[shines]] += weight[shines] * met(world, facing[shines], way[shines], far[shines], hit[shines])
        if bounce == 0:
            behind[alive] = inside & ~front & ~world.two_sided[world.material[hit]]
        alive, weight = alive[inside], weight[inside] * world.albedo[world.material[hit[inside]]]
        at = start[inside] + way[inside] * far[inside, None]
        facing = np.where(front[inside, None], world.normal[hit[inside]], -world.normal[hit[inside]])
        if bounce >= SURE:  # the rest is carried on by those that stay
            stays = np.clip(weight.max(axis=1), 0.05, 0.95)
            kept = rng.random(len(alive)) < stays
            alive, at, facing = alive[kept], at[kept], facing[kept]
            weight = weight[kept] / stays[kept, None]
        dark = weight.max(axis=1, initial=0.0) <= 0
        if dark.any():
            alive, at, facing, weight = alive[~dark], at[~dark], facing[~dark], weight[~dark]
    return Traced(light, rays, behind)


def met(world: World, facing: F64, way: F64, far: F64, hit: I64) -> F64:
    """(N, 3) lux by rays that were sent out as light falls in, and met a glowing surface: the part of it that asking such a
    surface directly is not answerable for (multiple importance sampling, balance heuristic; Veach, 1997)."""
    mine = np.maximum((facing * way).sum(axis=1), 0.0) / np.pi
    there = np.abs((world.normal[hit] * way).sum(axis=1))
    asked = world.density[hit] * far**2 / np.maximum(there, 1e-12)
    out: F64 = (np.pi * mine / np.maximum(mine + asked, 1e-300))[:, None] * world.emission[world.material[hit]]
    return out


def scattered(normals: F64, rng: np.random.Generator) -> F64:
    """(N, 3) directions about normals, as likely as light falls in from there (Malley's method)."""
    u, v = rng.random((2, len(normals)))
    radius, turn = np.sqrt(u), 2 * np.pi * v
    across, along = frame_across(normals)
    out: F64 = (
        (radius * np.cos(turn))[:, None] * across
        + (radius * np.sin(turn))[:, None] * along
        + np.sqrt(1 - u)[:, None] * normals
    )
    return out


def direct(world: World, at: F64, facing: F64, rng: np.random.Generator) -> tuple[F64, int]:
    """(N, 3) lux that come straight from lamps and from one place of a glowing surface, and the rays cast for it."""
    light = np.zeros((len(at), 3))
    start = at + facing * shift(at)[:, None]
    rays = 0
    for k in range(len(world.lamps["kind"])):
        way, reach, falls = from_lamp(world, k, at, facing)
        lit = np.flatnonzero(falls > 0)
        if len(lit):
            clear = seen(world, start[lit], way[lit], reach[lit], rng)
            light[lit[clear]] += falls[lit[clear], None] * world.lamps["power"][k]
            rays += len(lit)
    if len(world.glowing):
        asked = np.searchsorted(world.chances, rng.random(len(at)))
        which = world.glowing[np.minimum(asked, len(world.glowing) - 1)]
        place = on_triangles(world, which, rng)
        way = place - start
        reach = np.linalg.norm(way, axis=1)
        way /= np.maximum(reach, 1e-30)[:, None]
        here = (facing * way).sum(axis=1)
        there = -(world.normal[which] * way).sum(axis=1)
        there = np.where(world.two_sided[world.material[which]], np.abs(there), there)
        chance = world.density[which] * reach**2 / np.maximum(there, 1e-12)
        mine = np.maximum(here, 0.0) / np.pi
        falls = np.where((here > 0) & (there > 0), here / np.maximum(chance + mine, 1e-300), 0.0)
        lit = np.flatnonzero(falls > 0)
        clear = seen(world, start[lit], way[lit], reach[lit] * (1 - 1e-4), rng)
        light[lit[clear]] += falls[lit[clear], None] * world.emission[world.material[which[lit[clear]]]]
        rays += len(lit)
    return light, rays


def from_lamp(world: World, k: int, at: F64, facing: F64) -> tuple[F64, F64, F64]:
    """(N, 3) directions to a lamp, (N,) how far it is, and (N,) what each unit of its power gives, nothing in the way. Cones and
    ranges as KHR_lights_punctual has them."""
    kind, place, way = world.lamps["kind"][k], world.lamps["place"][k], world.lamps["way"][k]
    limit, inner, outer = world.lamps["limits"][k]
    if kind == DIRECTIONAL:
        to = np.broadcast_to(-way, at.shape)
        return to, np.full(len(at), np.inf), np.maximum((facing * to).sum(axis=1), 0.0)
    to = place - at
    far = np.linalg.norm(to, axis=1)
    to = to / np.maximum(far, 1e-30)[:, None]
    falls = np.maximum((facing * to).sum(axis=1), 0.0) / np.maximum(far**2, 1e-12)
    if np.isfinite(limit):
        falls *= np.clip(1 - (far / limit) ** 4, 0, 1)
    if kind == SPOT:
        scale = 1 / max(0.001, inner - outer)
        falls *= np.clip((-(to @ way) - outer) * scale, 0, 1) ** 2
    return to, far, falls


def seen(world: World, start: F64, way: F64, reach: F64, rng: np.random.Generator) -> I64:
    """Rows of the rays that nothing stops within their reach."""
    far, _ = world.hits(start, way, rng)
    return np.flatnonzero(far >= reach * (1 - 1e-6) - 1e-4)


def on_triangles(world: World, which: I64, rng: np.random.Generator) -> F64:
    """(N, 3) a place on each of some triangles, all as likely."""
    u, v = rng.random((2, len(which)))
    root = np.sqrt(u)
    corners = world.points[world.faces[which]]
    out: F64 = (
        (1 - root)[:, None] * corners[:, 0]
        + (root * (1 - v))[:, None] * corners[:, 1]
        + (root * v)[:, None] * corners[:, 2]
    )
    return out
