"""What is done with each ray of a path of light, compiled: where it goes next, what lamps and glowing surfaces give it, and
what it takes from where it arrives. Arrays in, arrays filled; the rays themselves are cast elsewhere.

`state` are random numbers, one generator for each path: SplitMix64 (Steele, Lea and Flood, 2014).
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from tidy_caravan.core.bake.lamps import DIRECTIONAL, SPOT
from tidy_caravan.core.bake.mix import GLOW, GROUND, SKY
from tidy_caravan.core.bake.textures import LINEAR
from tidy_caravan.core.compiled import compiled, inlined

Array = Any
"""Compiled code is given arrays of one kind each; see the callers for their shapes."""
GOLDEN = np.uint64(0x9E3779B97F4A7C15)
FIRST, SECOND = np.uint64(0xBF58476D1CE4E5B9), np.uint64(0x94D049BB133111EB)
S30, S27, S31, S11 = np.uint64(30), np.uint64(27), np.uint64(31), np.uint64(11)
UNIT = 1.0 / (1 << 53)
TINY = 1e-30
OFF = 1e-4
"""Metres that rays begin off their surface …"""
ROUNDING = 2.0**-20
"""… and this part of how far off the middle it lies, for what float32 leaves of a place."""
SHORT = 1e-6
"""Part of its length that a ray to a lamp is short of it …"""
SHORT_OF_SURFACE = 1e-4
"""… and one to a surface that gives light, which stops rays itself."""


@inlined
def random(state: Array, i: int) -> float:
    """The next number of path i, 0 to 1."""
    state[i] += GOLDEN
    z = state[i]
    z = (z ^ (z >> S30)) * FIRST
    z = (z ^ (z >> S27)) * SECOND
    return float((z ^ (z >> S31)) >> S11) * UNIT


@compiled
def begin(state: Array, seed: int, first: int) -> None:
    """Generators of paths first, first + 1, …"""
    for i in range(len(state)):
        z = np.uint64(seed) + np.uint64(first + i) * SECOND
        z = (z ^ (z >> S30)) * FIRST
        z = (z ^ (z >> S27)) * SECOND
        state[i] = z ^ (z >> S31)


@inlined
def off_surface(start: Array, n: int, at: Array, facing: Array, i: int) -> None:
    """Where a ray from a place begins."""
    shift = OFF + max(abs(at[i, 0]), abs(at[i, 1]), abs(at[i, 2])) * ROUNDING
    for c in range(3):
        start[n, c] = at[i, c] + facing[i, c] * shift


@inlined
def falls_from(
    kind: int, px: float, py: float, pz: float, sx: float, sy: float, sz: float, limit: float, inner: float, outer: float,
    ax: float, ay: float, az: float, fx: float, fy: float, fz: float,
) -> tuple[float, float, float, float, float]:  # fmt: skip
    """What each unit of a lamp's power gives at a place a that faces along f, nothing in the way, the direction to it and how
    far it is. p, s: where it is and shines; cones and ranges as KHR_lights_punctual has them."""
    falls, x, y, z, far = 0.0, -sx, -sy, -sz, 1e30
    if kind == DIRECTIONAL:
        falls = max(fx * x + fy * y + fz * z, 0.0)
    else:
        x, y, z = px - ax, py - ay, pz - az
        square = x * x + y * y + z * z + 1e-12
        here = fx * x + fy * y + fz * z
        if here > 0 and square < limit * limit:
            shorter = 1 / math.sqrt(square)
            x, y, z, far = x * shorter, y * shorter, z * shorter, square * shorter
            part = square / (limit * limit)
            falls = here * shorter * shorter * shorter * (1 - part * part)
            if kind == SPOT:
                inside = (-(x * sx + y * sy + z * sz) - outer) / max(0.001, inner - outer)
                inside = min(max(inside, 0.0), 1.0)
                falls *= inside * inside
    return falls, x, y, z, far


@compiled
def towards_lamp(
    kind: int, px: float, py: float, pz: float, sx: float, sy: float, sz: float, limit: float, inner: float, outer: float,
    red: float, green: float, blue: float, count: int,
    at: Array, facing: Array, weight: Array, start: Array, way: Array, reach: Array, gift: Array, who: Array,
) -> int:  # fmt: skip
    """Rays from `count` places to a lamp, and what each brings when nothing is in the way; how many there are."""
    n = 0
    for i in range(count):
        falls, x, y, z, far = falls_from(
            kind, px, py, pz, sx, sy, sz, limit, inner, outer,
            at[i, 0], at[i, 1], at[i, 2], facing[i, 0], facing[i, 1], facing[i, 2],
        )  # fmt: skip
        if falls > 0:
            off_surface(start, n, at, facing, i)
            way[n, 0], way[n, 1], way[n, 2] = x, y, z
            reach[n] = max(far * (1 - SHORT) - OFF, TINY)
            gift[n, 0], gift[n, 1], gift[n, 2] = (
                weight[i, 0] * falls * red, weight[i, 1] * falls * green, weight[i, 2] * falls * blue,
            )  # fmt: skip
            who[n] = i
            n += 1
    return n


@compiled
def weighed(
    k: int, kind: int, px: float, py: float, pz: float, sx: float, sy: float, sz: float, limit: float, inner: float,
    outer: float, power: float, count: int, at: Array, facing: Array, state: Array, total: Array, own: Array, chosen: Array,
) -> None:  # fmt: skip
    """Lets each place choose between lamp k and the one it chose of those before, as likely as what they would give (weighted
    reservoir sampling; Chao, 1982). total: what all would give so far; own: the chosen one."""
    for i in range(count):
        falls, _, _, _, _ = falls_from(
            kind, px, py, pz, sx, sy, sz, limit, inner, outer,
            at[i, 0], at[i, 1], at[i, 2], facing[i, 0], facing[i, 1], facing[i, 2],
        )  # fmt: skip
        mine = falls * power
        if mine > 0:
            total[i] += mine
            if total[i] == mine or random(state, i) * total[i] < mine:
                own[i], chosen[i] = mine, k


@compiled
def towards_chosen(
    kind: Array, place: Array, shine: Array, power: Array, limits: Array, count: int, total: Array, own: Array, chosen: Array,
    at: Array, facing: Array, weight: Array, start: Array, way: Array, reach: Array, gift: Array, who: Array,
) -> int:  # fmt: skip
    """Rays from places to the lamps that they chose, which bring as much more as they were unlikely; how many there are."""
    n = 0
    for i in range(count):
        k = chosen[i]
        if k >= 0:
            falls, x, y, z, far = falls_from(
                kind[k], place[k, 0], place[k, 1], place[k, 2], shine[k, 0], shine[k, 1], shine[k, 2],
                limits[k, 0], limits[k, 1], limits[k, 2],
                at[i, 0], at[i, 1], at[i, 2], facing[i, 0], facing[i, 1], facing[i, 2],
            )  # fmt: skip
            falls *= total[i] / own[i]
            off_surface(start, n, at, facing, i)
            way[n, 0], way[n, 1], way[n, 2] = x, y, z
            reach[n] = max(far * (1 - SHORT) - OFF, TINY)
            for c in range(3):
                gift[n, c] = weight[i, c] * falls * power[k, c]
            who[n] = i
            n += 1
    return n


@compiled
def towards_glow(
    corners: Array, chances: Array, guide: Array, normal: Array, emission: Array, density: Array, both: Array, met: bool, count: int,
    at: Array, facing: Array, weight: Array, state: Array, start: Array, way: Array, reach: Array, gift: Array, who: Array,
) -> int:  # fmt: skip
    """Rays from places to one place each on a surface that gives light, chosen by power (guide: where the search among their
    chances begins; Chen and Asau, 1974); where rays meet such surfaces by themselves (met), weighed against those (multiple
    importance sampling, balance heuristic; Veach, 1997)."""
    n, last = 0, len(corners) - 1
    for i in range(count):
        wanted = random(state, i)
        g = guide[int(wanted * len(guide))]
        while g < last and chances[g] < wanted:
            g += 1
        root, v = math.sqrt(random(state, i)), random(state, i)
        a, b, c_ = 1 - root, root * (1 - v), root * v
        off_surface(start, n, at, facing, i)
        x = a * corners[g, 0, 0] + b * corners[g, 1, 0] + c_ * corners[g, 2, 0] - start[n, 0]
        y = a * corners[g, 0, 1] + b * corners[g, 1, 1] + c_ * corners[g, 2, 1] - start[n, 1]
        z = a * corners[g, 0, 2] + b * corners[g, 1, 2] + c_ * corners[g, 2, 2] - start[n, 2]
        far = max(math.sqrt(x * x + y * y + z * z), TINY)
        x, y, z = x / far, y / far, z / far
        here = facing[i, 0] * x + facing[i, 1] * y + facing[i, 2] * z
        there = -(normal[g, 0] * x + normal[g, 1] * y + normal[g, 2] * z)
        if both[g]:
            there = abs(there)
        if here <= 0 or there <= 0:
            continue
        falls = here / max(density[g] * far * far / max(there, 1e-12) + (here / math.pi if met else 0.0), 1e-300)
        way[n, 0], way[n, 1], way[n, 2] = x, y, z
        reach[n] = max(far * (1 - SHORT_OF_SURFACE) - OFF, TINY)
        for c in range(3):
            gift[n, c] = weight[i, c] * falls * emission[g, c]
        who[n] = i
        n += 1
    return n


@compiled
def given(light: Array, group: int, row: Array, who: Array, gift: Array, blocked: Array, count: int) -> None:
    """Adds what rays bring that nothing stopped. light: (groups, N, 3). row: which point of it each path is of."""
    for n in range(count):
        if blocked[n] < 0:
            for c in range(3):
                light[group, row[who[n]], c] += gift[n, c]


@compiled
def scattered(at: Array, facing: Array, state: Array, count: int, start: Array, way: Array) -> None:
    """Rays from places, in directions about normals, as likely as light falls in from there (Malley's method, from a disk met
    by trying, which takes less time than sines; frames after Duff et al., 2017)."""
    for i in range(count):
        off_surface(start, i, at, facing, i)
        p, q, square = 1.0, 1.0, 2.0
        while square >= 1:
            p, q = 2 * random(state, i) - 1, 2 * random(state, i) - 1
            square = p * p + q * q
        up = math.sqrt(1 - square)
        x, y, z = facing[i, 0], facing[i, 1], facing[i, 2]
        sign = 1.0 if z >= 0 else -1.0
        a = -1 / (sign + z)
        b = x * y * a
        way[i, 0] = p * (1 + sign * x * x * a) + q * b + up * x
        way[i, 1] = p * sign * b + q * (sign + y * y * a) + up * y
        way[i, 2] = -p * sign * x - q * y + up * z


@inlined
def wrapped(at: int, size: int, how: int) -> int:
    """A texel's number by the way a texture goes on beyond its border: 0 repeated, 1 mirrored, 2 its border."""
    if how == 2:
        return min(max(at, 0), size - 1)
    if how == 1:
        at = at % (2 * size)
        return at if at < size else 2 * size - 1 - at
    return at % size


@inlined
def texel(t: int, u: float, v: float, material: Array, texture: Array, coordinates: Array) -> int:
    """The texel that a place of a triangle shows, -1 where it has no texture. texture: (M, 5) begin, width, height and how
    it goes on across and down. coordinates: (F, 3, 2)."""
    m = material[t]
    begin: int = texture[m, 0]
    if begin < 0:
        return -1
    w = 1 - u - v
    s = w * coordinates[t, 0, 0] + u * coordinates[t, 1, 0] + v * coordinates[t, 2, 0]
    r = w * coordinates[t, 0, 1] + u * coordinates[t, 1, 1] + v * coordinates[t, 2, 1]
    if not (abs(s) < 1e9 and abs(r) < 1e9):
        return begin
    x = wrapped(math.floor(s * texture[m, 1]), texture[m, 1], texture[m, 3])
    y = wrapped(math.floor(r * texture[m, 2]), texture[m, 2], texture[m, 4])
    return begin + int(y * texture[m, 1] + x)


@compiled
def let_through(
    hit: Array, u: Array, v: Array, alpha: Array, cutoff: Array, material: Array, texture: Array, coordinates: Array,
    pixels: Array, tint: Array, state: Array, who: Array, count: int, out: Array,
) -> int:  # fmt: skip
    """Which of the rays go on through what they hit, by chance as its alpha says, or by its cut-out; how many. alpha,
    cutoff: (M,) by material, a cutoff of −1 where there is none. tint: (F, 4) what each triangle multiplies colour and alpha
    with, None for nothing: compiled code is another one then."""
    n = 0
    for i in range(count):
        if hit[i] < 0:
            continue
        m = material[hit[i]]
        if cutoff[m] < -1.5:  # opaque, whatever its numbers say
            continue
        solid = alpha[m]
        if tint is not None:
            solid *= tint[hit[i], 3]
        at = texel(hit[i], u[i], v[i], material, texture, coordinates)
        if at >= 0:
            solid *= pixels[at, 3] / 255
        if cutoff[m] >= 0:
            solid = 1.0 if solid >= cutoff[m] else 0.0
        if solid < 1 and random(state, who[i]) >= solid:
            out[n] = i
            n += 1
    return n


@compiled
def beyond(start: Array, way: Array, far: Array, gone: Array, asked: Array, new_start: Array, new_way: Array) -> None:
    """Where rays `asked` go on behind what they met: `far` more than they have gone, and off its surface."""
    for i in range(len(asked)):
        k = asked[i]
        shift = OFF + max(abs(start[k, 0]), abs(start[k, 1]), abs(start[k, 2])) * ROUNDING
        gone[k] += far[k] + shift
        for c in range(3):
            new_start[i, c] = start[k, c] + way[k, c] * gone[k]
            new_way[i, c] = way[k, c]


@compiled
def arrived(
    bounce: int, sure: int, far: Array, hit: Array, u: Array, v: Array, start: Array, way: Array, count: int,
    at: Array, facing: Array, weight: Array, row: Array, state: Array, light: Array, behind: Array,
    normal: Array, material: Array, albedo: Array, emission: Array, density: Array, both: Array, texture: Array,
    coordinates: Array, pixels: Array, tint: Array, up: Array, most: float,
) -> int:  # fmt: skip
    """Takes the light of the sky, or of what glows, where each path arrived, and puts those that go on in front, with what
    they carry; how many there are."""
    n = 0
    for i in range(count):
        t = hit[i]
        x, y, z = way[i, 0], way[i, 1], way[i, 2]
        if t < 0:
            above = x * up[0] + y * up[1] + z * up[2] > 0
            for c in range(3):
                light[SKY if above else GROUND, row[i], c] += weight[i, c] * math.pi
            continue
        along = normal[t, 0] * x + normal[t, 1] * y + normal[t, 2] * z
        front = along < 0
        if density[t] > 0 and (front or both[t]):
            here = max(facing[i, 0] * x + facing[i, 1] * y + facing[i, 2] * z, 0.0) / math.pi
            asked = density[t] * far[i] * far[i] / max(abs(along), 1e-12)
            part = math.pi * here / max(here + asked, 1e-300)
            for c in range(3):
                light[GLOW, row[i], c] += weight[i, c] * part * emission[t, c]
        if bounce == 0 and not front and not both[t]:
            behind[row[i]] = 1.0
        texture_at = texel(t, u[i], v[i], material, texture, coordinates)
        m = material[t]
        largest = 0.0
        kept = weight[i, 0], weight[i, 1], weight[i, 2]
        for c in range(3):
            part = albedo[m, c] if texture_at < 0 else albedo[m, c] * LINEAR[pixels[texture_at, c]]
            if tint is not None:
                part *= tint[t, c]
            weight[n, c] = kept[c] * min(part, most)
            largest = max(largest, weight[n, c])
        if largest <= 0:
            continue
        own = state[i]
        if bounce >= sure:  # the rest is carried on by those that stay
            stays = min(max(largest, 0.05), 0.95)
            if random(state, i) >= stays:
                continue
            own = state[i]
            for c in range(3):
                weight[n, c] /= stays
        side = 1.0 if front else -1.0
        for c in range(3):
            at[n, c] = start[i, c] + way[i, c] * far[i]
        facing[n, 0], facing[n, 1], facing[n, 2] = normal[t, 0] * side, normal[t, 1] * side, normal[t, 2] * side
        state[n], row[n] = own, row[i]
        n += 1
    return n
