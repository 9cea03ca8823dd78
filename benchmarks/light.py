"""Texel budgets and the preview bake: the answer for 10,000 parts, the bake's rays beside the ray library's own, two processes
against one."""

from __future__ import annotations

import time
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np

from tidy_caravan.core.bake.trace import scattered, traced
from tidy_caravan.core.bake.world import Sky, World, shift, world_arrays
from tidy_caravan.core.lightmap.budget import Limits, Lit, at_budget, at_texel
from tidy_caravan.demo.ferry_landing import landing

PARTS = 10_000
POINTS = 60_000
BOUNCES = 6


def parts() -> Lit:
    rng = np.random.default_rng(3)
    area = rng.lognormal(1, 1.5, PARTS)
    none = np.zeros(PARTS, np.int64)
    return Lit(area, rng.uniform(0.5, 0.95, PARTS), 2.0 ** rng.integers(-3, 2, PARTS), np.ones(PARTS), area, none)


def points(world: World) -> tuple[np.ndarray, np.ndarray]:  # type: ignore[type-arg]
    """Places spread over the landing by area, and which way they face."""
    rng = np.random.default_rng(1)
    which = rng.choice(len(world.faces), POINTS, p=world.area / world.area.sum())
    return world.points[world.faces[which]].mean(axis=1), world.normal[which]


def rays_a_second(seed: int) -> float:
    """Of one process that traces the landing; a few seconds of it."""
    arrays = world_arrays(landing(), Sky((2300.0,) * 3))
    arrays["points"] = arrays["points"] * 0.01  # it is given in centimetres
    world = World(arrays)
    places, normals = points(world)
    rng, rays, began = np.random.default_rng(seed), 0, time.perf_counter()
    while time.perf_counter() - began < 4:
        rays += traced(world, places, normals, rng, BOUNCES).rays
    return rays / (time.perf_counter() - began)


def raw() -> float:
    """Rays a second of the library by itself, from the same places in directions as paths take them."""
    arrays = world_arrays(landing(), Sky())
    world = World({**arrays, "points": arrays["points"] * 0.01})
    places, normals = points(world)
    way = scattered(normals, np.random.default_rng(2))
    start, way32 = (places + normals * shift(places)[:, None]).astype(np.float32), way.astype(np.float32)
    rays, began = 0, time.perf_counter()
    while time.perf_counter() - began < 3:
        world.caster.scene.run(start, way32, output=1)
        rays += len(start)
    return rays / (time.perf_counter() - began)


def measure(folder: Path) -> list[tuple[str, float, str, float]]:
    lit, limits = parts(), Limits("powers", 4096, 8.0)
    passes, answers = [], []
    for _ in range(5):
        began = time.perf_counter()
        at_texel(lit, 0.05, limits)
        passes.append(time.perf_counter() - began)
        began = time.perf_counter()
        at_budget(lit, 400e6, limits)
        answers.append(time.perf_counter() - began)
    one, library = rays_a_second(1), raw()
    with ProcessPoolExecutor(2) as pool:
        two = sum(pool.map(rays_a_second, (1, 2)))
    print(
        f"     light     10,000 parts: {min(passes) * 1e3:.1f} ms a pass, {min(answers) * 1e3:.0f} ms a budget; "
        f"{one / 1e6:.2f} million rays a second by the bake, {library / 1e6:.2f} by the library, {two / 1e6:.2f} by two processes",
        flush=True,
    )
    return [
        ("seconds of a budget for 10,000 parts beside one pass", min(answers) - min(passes), "≤", 0.1),
        ("rays a second of the bake / of the ray library", one / library, "≥", 0.5),
        ("the same by two processes / by one", two / one, "≥", 1.7),
    ]
