"""Irradiance on points of surfaces by tracing rays: lamps, glowing surfaces, sky, and light that was reflected before.

Surfaces reflect alike in all directions. One sample of a point is a path: at each of its places lamps and one place of a
glowing surface are asked directly, and the path goes on in a direction chosen as light falls in (cosine-weighted), its
weight multiplied by what the surface reflects (Kajiya, 1986); where that meets what glows, both ways are weighed against
each other. Without bias but for what `BOUNCES` leaves out.
"""

from __future__ import annotations

import threading
from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.bake.leaks import leaking
from tidy_caravan.core.bake.mix import GLOW, GROUPS, LAMPS, SUN
from tidy_caravan.core.bake.world import World
from tidy_caravan.core.geometry.rays import Caster
from tidy_caravan.core.scene.arrays import F32, F64, I32, I64, AnyArray

BOUNCES = 64
"""Most reflections of a path; those that carry little end by chance long before."""
SURE = 3
"""Reflections from which on a path may end by chance."""
MOST_ALBEDO = 0.95
"""Of a white that reflects everything, light would never end."""
ALL_LAMPS = 8
"""Lamps up to which all are asked at the first place of a path; of more, and later on, one by chance."""
PASSES = 16
"""Transparent surfaces one after the other that a ray goes through."""
CHUNK = 1 << 16
"""Paths that are followed together."""


@dataclass
class Traced:
    """light: (N, groups, 3) lux of each point by one sample, a sky of one candela per m² (see mix.py). rays: how many were cast.
    behind: (N,) whether the first ray met the back of a surface that has one side alone. leaks: (N,) whether light of the sky
    or a sun came straight through a gap."""

    light: F64
    rays: int
    behind: F64
    leaks: F64


def traced(world: World, places: F64, normals: F64, seed: int, bounces: int = BOUNCES, watch: bool = False) -> Traced:
    """One sample of the light on places (N, 3) of surfaces that face along normals (N, 3); the same for the same seed. watch:
    looks for leaks as well."""
    parts, rays = [], 0
    for at in range(0, max(len(places), 1), CHUNK):
        rows = slice(at, at + CHUNK)
        paths = Paths(world, places[rows], normals[rows], seed, at)
        paths.watch = watch
        paths.follow(bounces)
        parts.append((paths.light.swapaxes(0, 1), paths.behind, paths.leaks))
        rays += paths.rays
    light, behind, leaks = parts[0] if len(parts) == 1 else map(np.concatenate, zip(*parts, strict=True))
    return Traced(light, rays, behind, leaks)


class Room(threading.local):
    """Arrays of a thread that are written before they are read, used again by the next paths: new memory costs as much as
    what is done with it."""

    def __init__(self) -> None:
        self.arrays: dict[str, AnyArray] = {}

    def array(self, name: str, count: int, kind: type[np.generic], width: int = 0) -> AnyArray:
        """(count,) or (count, width), with whatever is in it."""
        kept = self.arrays.get(name)
        if kept is None or len(kept) < count:
            kept = self.arrays[name] = np.empty((max(count, CHUNK), width) if width else max(count, CHUNK), kind)
        return kept[:count]


ROOM = Room()


class Paths:
    """Paths under way, those that go on in front: at, facing, weight (N, 3), the row of the light that each is of, and the
    state of its random numbers. start, way, reach, gift, who: room for the rays that are cast next."""

    def __init__(self, world: World, places: F64, normals: F64, seed: int, first: int) -> None:
        from tidy_caravan.core.bake import kernels  # compiled when it is first called

        n = len(places)
        self.world, self.kernels, self.count = world, kernels, n
        self.light, self.behind, self.rays = np.zeros((GROUPS, n, 3)), np.zeros(n), 0
        self.watch, self.leaks = False, np.zeros(n)
        self.at, self.facing = ROOM.array("at", n, np.float64, 3), ROOM.array("facing", n, np.float64, 3)
        self.at[:], self.facing[:] = places, normals
        self.weight, self.row = ROOM.array("weight", n, np.float64, 3), np.arange(n)
        self.weight[:] = 1
        self.state = ROOM.array("state", n, np.uint64)
        kernels.begin(self.state, np.uint64(seed & (2**64 - 1)), first)
        self.start, self.way = ROOM.array("start", n, np.float32, 3), ROOM.array("way", n, np.float32, 3)
        self.reach, self.gift = ROOM.array("reach", n, np.float32), ROOM.array("gift", n, np.float64, 3)
        self.who = ROOM.array("who", n, np.int64)

    def follow(self, bounces: int) -> None:
        w, k = self.world, self.kernels
        for bounce in range(bounces + 1):
            if not self.count:
                break
            self.ask_lamps(bounce)
            panels = w.each_panel if len(w.each_panel) <= ALL_LAMPS and not bounce else [w.panels]
            for group, some, met in ((GLOW, w.glow, True), *((LAMPS, one, False) for one in panels)):
                if len(some):
                    self.given(group, k.towards_glow(
                        some.corners, some.chances, some.guide, some.normal, some.emission, some.density, some.both, met,
                        self.count, self.at, self.facing, self.weight, self.state, *self.room(),
                    ))  # fmt: skip
            k.scattered(self.at, self.facing, self.state, self.count, self.start, self.way)
            far, hit, u, v = self.cast()
            if self.watch:
                self.look_for_leaks(np.flatnonzero(hit < 0), self.row)
            self.count = k.arrived(
                bounce, SURE, far, hit, u, v, self.start, self.way, self.count, self.at, self.facing, self.weight,
                self.row, self.state, self.light, self.behind, w.normal, w.material, w.albedo, w.emission, w.density,
                w.both, w.texture, w.coordinates, w.pixels, w.tint, w.up, MOST_ALBEDO,
            )  # fmt: skip
            self.watch = False  # what light does after it was reflected is no matter of where it came in

    def room(self) -> tuple[AnyArray, ...]:
        return self.start, self.way, self.reach, self.gift, self.who

    def ask_lamps(self, bounce: int) -> None:
        for group, lamps in ((SUN, self.world.suns), (LAMPS, self.world.lamps)):
            kind, place, way, power, limits = lamps
            number, places = len(kind), (self.at, self.facing)
            each = [(int(kind[k]), *map(float, (*place[k], *way[k], *limits[k]))) for k in range(number)]
            if number == 1 or (number <= ALL_LAMPS and not bounce):
                for k, lamp in enumerate(each):
                    one = (*lamp, *map(float, power[k]))
                    self.given(group, self.kernels.towards_lamp(*one, self.count, *places, self.weight, *self.room()))
            elif number:
                total, own, chosen = np.zeros(self.count), np.zeros(self.count), np.full(self.count, -1)
                for k, lamp in enumerate(each):
                    bright = float(power[k].sum())
                    self.kernels.weighed(k, *lamp, bright, self.count, *places, self.state, total, own, chosen)
                self.given(group, self.kernels.towards_chosen(
                    *lamps, self.count, total, own, chosen, *places, self.weight, *self.room()
                ))  # fmt: skip

    def given(self, group: int, count: int) -> None:
        """Casts the rays that were laid out, and takes what those bring that arrive."""
        if not count:
            return
        w = self.world
        blocked = self.stopped(w.solid, count)
        if w.clear:  # what no solid surface stops may be stopped by others, by chance
            rows = np.flatnonzero(blocked < 0)
            rows = rows[self.stopped(w.glass, rows) >= 0]
            if len(rows):
                far, hit, *_ = self.through(w.glass, rows, self.who[rows])
                blocked[rows] = np.where((hit >= 0) & (far < self.reach[rows]), 0, -1)
        if self.watch and group == SUN:
            self.look_for_leaks(np.flatnonzero(blocked < 0), self.row[self.who[:count]])
        self.kernels.given(self.light, group, self.row, self.who, self.gift, blocked, count)

    def look_for_leaks(self, rays: I64, row: AnyArray) -> None:
        """Marks the points (rows of each ray) whose rays came through a gap."""
        found = leaking(self.world.solid, self.start[rays], self.way[rays], self.world.reach)
        self.leaks[row[rays[found]]] = 1.0

    def stopped(self, caster: Caster, rows: AnyArray | int) -> I32:
        """Nought for rays that something stops within their reach, −1 for the others."""
        chosen = slice(0, rows) if isinstance(rows, int) else rows
        reach = self.reach[chosen]
        if caster.empty or not len(reach):
            return np.full(len(reach), -1, np.int32)
        self.rays += len(reach)
        found: I32 = caster.scene.run(self.start[chosen], self.way[chosen], reach, query="OCCLUDED")
        return found

    def cast(self) -> tuple[F32, I32, F32, F32]:
        """First surfaces that stop the rays of all paths: distance, triangle (−1 for none) and the place on it."""
        return self.through(self.world.caster, slice(0, self.count), np.arange(self.count))

    def through(self, caster: Caster, rows: AnyArray | slice, who: AnyArray) -> tuple[F32, I32, F32, F32]:
        """The same for some rays, which are of paths `who`. What is transparent lets as many through as its alpha says, by
        chance."""
        w, count = self.world, len(who)
        if caster.empty:
            none = np.zeros(count, np.float32)
            return none, np.full(count, -1, np.int32), none, none
        start, way = self.start[rows], self.way[rows]
        far, hit, u, v = self.first(caster, start, way)
        if not w.clear:
            return far, hit, u, v
        gone, out = np.zeros(count, np.float32), ROOM.array("out", count, np.int64)
        asked, found = np.arange(count), (hit, u, v)
        new_start, new_way = ROOM.array("new_start", count, np.float32, 3), ROOM.array("new_way", count, np.float32, 3)
        for _ in range(PASSES):
            on = self.kernels.let_through(
                *found,
                w.alpha,
                w.cutoff,
                w.material,
                w.texture,
                w.coordinates,
                w.pixels,
                w.tint,
                self.state,
                who,
                len(asked),
                out,
            )
            if not on:
                break
            asked, who = asked[out[:on]], who[out[:on]]
            self.kernels.beyond(start, way, far, gone, asked, new_start, new_way)
            length, *_ = more = self.first(caster, new_start[:on], new_way[:on])
            found = more[1:]
            far[asked], (hit[asked], u[asked], v[asked]) = length, found
        return far + gone, hit, u, v

    def first(self, caster: Caster, start: F32, way: F32) -> tuple[F32, I32, F32, F32]:
        """What rays meet first, whatever it is."""
        found = caster.scene.run(start, way, output=1)
        self.rays += len(start)
        hit = found["primID"]
        if caster is self.world.glass:
            hit = np.where(hit >= 0, self.world.of_glass[hit], -1).astype(np.int32)
        return found["tfar"], hit, found["u"], found["v"]
