"""Texel budgets and the preview bake: the answer for 10,000 parts, the bake's rays beside the ray library's own, two processes
against one."""

from __future__ import annotations

import time
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from tidy_caravan.core.bake.trace import traced
from tidy_caravan.core.bake.world import World, world_arrays
from tidy_caravan.core.lightmap.budget import Limits, Lit, at_budget, at_texel
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.demo.ferry_landing import landing

PARTS = 10_000
POINTS = 60_000
BOUNCES = 6


def parts() -> Lit:
    rng = np.random.default_rng(3)
    area: F64 = rng.lognormal(1, 1.5, PARTS)
    none = np.zeros(PARTS, np.int64)
    weight: F64 = 2.0 ** rng.integers(-3, 2, PARTS).astype(np.float64)
    return Lit(area, rng.uniform(0.5, 0.95, PARTS), weight, np.ones(PARTS), area, none)


def points(world: World) -> tuple[F64, F64]:
    """Places spread over the landing by area, and which way they face."""
    rng = np.random.default_rng(1)
    which = rng.choice(len(world.faces), POINTS, p=world.area / world.area.sum())
    return world.points[world.faces[which]].mean(axis=1), world.normal[which]


def landing_world() -> World:
    """The landing, which is given in centimetres and says metres."""
    scene = landing()
    return World(world_arrays(scene.but(convention=replace(scene.convention, metres_per_unit=0.01))))


def rays_a_second(seed: int) -> float:
    """Of one process that traces the landing; a few seconds of it."""
    world = landing_world()
    places, normals = points(world)
    traced(world, places[:100], normals[:100], seed, BOUNCES)  # compiled by now
    rays, began = 0, time.perf_counter()
    while time.perf_counter() - began < 3:
        rays += traced(world, places, normals, seed + rays, BOUNCES).rays
    return rays / (time.perf_counter() - began)


class Listening:
    """The library's tree, which keeps the rays that it is asked about."""

    def __init__(self, scene: Any) -> None:
        self.scene = scene
        self.asked: list[Any] = []

    def run(self, *args: Any, **how: Any) -> Any:
        self.asked.append((self.scene, tuple(a.copy() for a in args), how))
        return self.scene.run(*args, **how)


def raw() -> float:
    """Rays a second of the library by itself, of the very rays that a bake casts, in the same portions."""
    world = landing_world()
    places, normals = points(world)
    heard = [Listening(c.scene) for c in {id(c): c for c in (world.caster, world.solid, world.glass)}.values()]
    for caster in (world.caster, world.solid, world.glass):
        caster.scene = next((h for h in heard if caster.scene in (h, h.scene)), caster.scene)
    traced(world, places, normals, 1, BOUNCES)
    calls = [call for h in heard for call in h.asked]
    rays, began = 0, time.perf_counter()
    while time.perf_counter() - began < 3:
        for scene, args, how in calls:
            scene.run(*args, **how)
            rays += len(args[0])
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
    in_turn = [(rays_a_second(k), raw()) for k in range(3)]
    one, library = (float(np.median(figures)) for figures in zip(*in_turn, strict=True))
    with ProcessPoolExecutor(2) as pool:
        two = sum(pool.map(rays_a_second, (1, 2)))
    print(
        f"     light     10,000 parts: {min(passes) * 1e3:.1f} ms a pass, {min(answers) * 1e3:.0f} ms a budget; "
        f"{one / 1e6:.2f} million rays a second by the bake, {library / 1e6:.2f} by the library, {two / 1e6:.2f} by two processes",
        flush=True,
    )
    return [
        ("seconds of a budget for 10,000 parts beside one pass", min(answers) - min(passes), "≤", 0.1),
        ("rays a second of the bake / of the ray library", float(np.median([a / b for a, b in in_turn])), "≥", 0.5),
        ("the same by two processes / by one", two / one, "≥", 1.7),
    ]
