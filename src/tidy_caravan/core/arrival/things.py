"""Lights, cameras and clips on both sides, in metres and seconds."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np

from tidy_caravan.core.arrival.data import equal_data, of_object
from tidy_caravan.core.arrival.looks import told
from tidy_caravan.core.arrival.pairing import Side, pairs
from tidy_caravan.core.arrival.placed import Placed, keys
from tidy_caravan.core.geometry.animation import value_at, worlds_at
from tidy_caravan.core.scene import GLTF, Camera, Clip, Light, Scene
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, Bool
from tidy_caravan.core.space.axes import linear_map

NUMBER_LIMIT = 1e-4
"""Relative difference of a number that is the same."""
TURN_LIMIT_DEG = 0.01
BENT_LIMIT = 1e-4
"""Part of its largest stretch by which the frame of a camera may be stretched otherwise."""
UNITS = {
    "light": " cd",
    "range": " m",
    "inner cone": "°",
    "cone": "°",
    "angle": "°",
    "width": " m",
    "height": " m",
    "near": " m",
    "surface size": " m",
    "far": " m",
}
MOVED_MM, MOVED_SHARE = 1.0, 1e-3
"""What a clip moves may be that far elsewhere, or that part of how far it goes from its node, if that is less."""
WEIGHT_LIMIT = 1e-4
"""Difference of a morph weight that is the same."""
MOMENTS = 65
"""Times at which clips are looked at, at most: all keys of both sides and the middles between them come first."""


def light_facts(light: Light, metre: float) -> dict[str, Any]:
    return {
        "kind": light.kind,
        "light": tuple(c * light.intensity for c in light.color),
        "range": (light.range or 0.0) * metre if light.kind != "directional" else 0.0,
        "inner cone": float(np.degrees(light.inner_cone)) if light.kind == "spot" else 0.0,
        "cone": float(np.degrees(light.outer_cone)) if light.kind == "spot" else 0.0,
        "surface": light.surface or "none",
        "surface size": tuple(s * metre for s in light.size),
    }


def camera_facts(camera: Camera, metre: float) -> dict[str, Any]:
    wide = camera.kind == "perspective"
    return {
        "kind": camera.kind,
        "angle": float(np.degrees(camera.yfov)) if wide else 0.0,
        "aspect": (camera.aspect or 0.0) if wide else 0.0,
        "width": 0.0 if wide else camera.xmag * metre,
        "height": 0.0 if wide else camera.ymag * metre,
        "near": camera.znear * metre,
        "far": camera.zfar * metre if camera.zfar is not None and camera.zfar > camera.znear else 0.0,
    }


def compare_things(
    here: Placed,
    there: Placed,
    what: str,
    holds: frozenset[str],
    position_mm: float,
    encode: Callable[[float], Any] | None = None,
    without: Bool | None = None,
    without_there: Bool | None = None,
    named: bool = False,
    framed: bool = False,
) -> list[str]:
    """Sentences about lights or cameras that are not as they left. encode: how the format keeps colours of lights.

    without, without_there: (N,) nodes of each side that are not looked at. named: by the same tree path on both, and what
    they are called themselves and what is said of them. framed: cameras stretch what they see in the same way.
    """
    column = "light" if what == "light" else "camera"
    wanted = getattr(here.scene.nodes, column) >= 0
    rows_a: I64 = np.flatnonzero(wanted if without is None else wanted & ~without)
    held = getattr(there.scene.nodes, column) >= 0
    rows_b: I64 = np.flatnonzero(held if without_there is None else held & ~without_there)
    names_a, names_b = keys(here.scene.nodes), keys(there.scene.nodes)
    sides = []
    for side, rows, names in ((here, rows_a, names_a), (there, rows_b, names_b)):
        places = side.worlds[rows][:, :3, 3] if len(rows) else np.zeros((0, 3))
        sides.append(
            Side([names[i] for i in rows.tolist()], [side.scene.nodes.names[i] for i in rows.tolist()], places)
        )
    first, second = pairs(sides[0], sides[1], position_mm / 500)
    out = [f"{what} “{names_a[i]}” did not arrive" for i in np.delete(rows_a, first).tolist()]
    out += [f"{what} “{names_b[i]}” arrived that nobody sent" for i in np.delete(rows_b, second).tolist()]
    for i, j in zip(rows_a[first].tolist(), rows_b[second].tolist(), strict=True):
        faults = seen_apart(here, there, i, j, what, position_mm)
        if framed and what == "camera" and (bent := bent_by(here.worlds[i], there.worlds[j])) > BENT_LIMIT:
            faults.append(f"is stretched or sheared by {bent:.3g} of its size, limit {BENT_LIMIT:g}")
        if named and names_a[i] != names_b[j]:
            faults.append(f"is called “{names_b[j]}”")
        if named:
            faults += told_apart(thing_of(here, i, what), thing_of(there, j, what))
        a, b = facts_of(here, i, what), facts_of(there, j, what)
        if encode is not None and what == "light":
            light = here.scene.lights[here.scene.nodes.light[i]]
            a["light"] = tuple(float(encode(c)) * light.intensity for c in light.color)
        for key in sorted(holds):
            if key in ("aspect", "far") and not a[key]:
                continue  # left to the receiver
            if not same(a[key], b[key]):
                unit = UNITS.get(key, "") if key != "light" or a["kind"] != "directional" else " lx"
                faults.append(f"{key} is {told(b[key])}{unit} instead of {told(a[key])}{unit}")
        if faults:
            out.append(f"{what} “{names_a[i]}”: {'; '.join(faults)}")
    return out


def thing_of(side: Placed, node: int, what: str) -> Light | Camera:
    """What the node bears."""
    scene = side.scene
    if what == "light":
        return scene.lights[int(scene.nodes.light[node])]
    return scene.cameras[int(scene.nodes.camera[node])]


def facts_of(side: Placed, node: int, what: str) -> dict[str, Any]:
    thing = thing_of(side, node, what)
    return light_facts(thing, side.metre) if isinstance(thing, Light) else camera_facts(thing, side.metre)


def told_apart(sent: Light | Camera, found: Light | Camera) -> list[str]:
    """A light or camera may be shared by nodes, and has a name and data of its own."""
    out = []
    if sent.name != found.name:
        out.append(f"its own name is “{found.name}” instead of “{sent.name}”")
    if not equal_data(of_object(sent.extras), of_object(found.extras)):
        out.append("its own data differ")
    return out


def seen_apart(here: Placed, there: Placed, i: int, j: int, what: str, position_mm: float) -> list[str]:
    out = []
    far = float(np.linalg.norm(here.worlds[i][:3, 3] - there.worlds[j][:3, 3])) * 1000
    if far > position_mm:
        out.append(f"stands {far:.3g} mm off, limit {position_mm:.3g} mm")
    kind = here.scene.lights[here.scene.nodes.light[i]].kind if what == "light" else ""
    if kind == "point":
        return out
    (ahead_a, up_a), (ahead_b, up_b) = here.facing(i), there.facing(j)
    turn = angle(ahead_a, ahead_b)
    if turn > TURN_LIMIT_DEG:
        out.append(f"looks {turn:.3g}° off, limit {TURN_LIMIT_DEG}°")
    elif what == "camera" and (roll := angle(across(up_a, ahead_a), across(up_b, ahead_b))) > TURN_LIMIT_DEG:
        out.append(f"is rolled by {roll:.3g}°, limit {TURN_LIMIT_DEG}°")
    return out


def bent_by(a: F64, b: F64) -> float:
    """How differently two placements (4, 4) stretch what they hold, of the larger stretch; sizes as a whole are no difference."""
    first, second = (np.linalg.svd(m[:3, :3], compute_uv=False) for m in (a, b))
    return float(np.abs(first / max(first[0], 1e-300) - second / max(second[0], 1e-300)).max())


def across(up: F64, ahead: F64) -> F64:
    """The part of `up` that is upright to where one looks."""
    out: F64 = up - ahead * float(up @ ahead)
    return out / max(float(np.linalg.norm(out)), 1e-300)


def angle(a: F64, b: F64) -> float:
    return float(np.degrees(2 * np.arcsin(min(1.0, float(np.linalg.norm(a - b)) / 2))))


def same(a: Any, b: Any) -> bool:
    if isinstance(a, str):
        return bool(a == b)
    x, y = np.atleast_1d(np.array(a, float)), np.atleast_1d(np.array(b, float))
    size = max(float(np.abs(x).max()), float(np.abs(y).max()), 1e-12)
    return bool(np.abs(x - y).max() <= NUMBER_LIMIT * size)


def compare_clips(
    source: Scene,
    arrived: Scene,
    key_a: Sequence[str],
    key_b: Sequence[str],
    position_mm: float,
    said: bool = False,
) -> list[str]:
    """Sentences about clips: those that are gone, and those that move nodes elsewhere at one of several times.

    key_a, key_b: by node, what the same node is called on both sides. said: what is said of the clips as well.
    """
    out = []
    names = [c.name for c in arrived.clips]
    for number, clip in enumerate(source.clips):
        found = names.index(clip.name) if names.count(clip.name) == 1 else number
        if found >= len(arrived.clips) or arrived.clips[found].name != clip.name:
            out.append(f"clip “{clip.name or number}” did not arrive")
            continue
        if said and not equal_data(of_object(clip.extras), of_object(arrived.clips[found].extras)):
            out.append(f"clip “{clip.name or number}”: its data differ")
        out += one_clip(source, arrived, clip, arrived.clips[found], key_a, key_b, position_mm)
    left = Counter(c.name for c in source.clips)
    for k, c in enumerate(arrived.clips):
        left[c.name] -= 1
        if left[c.name] < 0:
            out.append(f"clip “{c.name or k}” arrived that nobody sent")
    return out


def moments(times: Sequence[AnyArray]) -> F64:
    """Sorted times in seconds at which two clips are compared: keys and middles, thinned evenly to MOMENTS."""
    keys = np.unique(np.concatenate([np.zeros(0), *(t.astype(np.float64) for t in times)]))
    if not len(keys):
        return np.zeros(1)
    every = np.sort(np.concatenate([keys, (keys[1:] + keys[:-1]) / 2]))
    chosen = np.unique(np.linspace(0, len(every) - 1, min(MOMENTS, len(every))).round().astype(np.int64))
    out: F64 = every[chosen]
    return out


def one_clip(
    source: Scene, arrived: Scene, a: Clip, b: Clip, key_a: Sequence[str], key_b: Sequence[str], position_mm: float
) -> list[str]:
    """The worst place of what hangs on the moved nodes, over the length of the clip, by its own limit; weights as numbers."""
    paths_a = sorted((key_a[c.node], c.path) for c in a.channels)
    paths_b = sorted((key_b[c.node], c.path) for c in b.channels)
    if paths_a != paths_b:
        odd = sorted(set(paths_a) ^ set(paths_b))[:1]
        where = f", such as {odd[0][1]} of “{odd[0][0]}”" if odd else ""
        return [f"clip “{a.name}” moves {len(paths_b)} things instead of {len(paths_a)}{where}"]
    times = moments([c.times for c in (*a.channels, *b.channels)])
    row_b = {key_b[c.node]: c.node for c in b.channels}
    moved = sorted({c.node for c in a.channels if c.path != "weights"})
    here, there = (
        Moved(side, clip, rows, times)
        for side, clip, rows in ((source, a, moved), (arrived, b, [row_b[key_a[i]] for i in moved]))
    )
    reach = reaches(source, moved)
    worst, at, where = 1.0, 0.0, ""
    for i in moved:
        one, other = here.of(i), there.of(row_b[key_a[i]])
        # as far from the node as its things go, and a metre where it has none
        stretch = np.linalg.norm(one[:, :3, :3], axis=1).max(axis=0)
        corner = np.column_stack([np.zeros(3), np.diag(reach[i] / np.where(stretch > 0, stretch, 1.0))])
        apart = (one - other)[:, :3, :3] @ corner + (one - other)[:, :3, 3:]
        far = np.linalg.norm(apart, axis=1).max(axis=1) * 1000
        rounding = 1000 * float(np.spacing(np.float32(np.abs(one[:, :3, 3]).max() + reach[i])))
        limit = max(position_mm, min(MOVED_MM, 1000 * MOVED_SHARE * reach[i])) + 8 * rounding
        k = int(np.argmax(far))
        if far[k] > worst * limit:
            worst, at, where = far[k] / limit, float(times[k]), f"“{key_a[i]}” {far[k]:.3g} mm"
    if where:
        return [f"clip “{a.name}” holds {where} elsewhere at {at:.3g} s"]
    weights_a = {key_a[c.node]: c for c in a.channels if c.path == "weights"}
    for c in b.channels:
        if c.path == "weights":
            w = weights_a[key_b[c.node]]
            if any(different(value_at(w, t), value_at(c, t)) for t in moments([w.times, c.times]).tolist()):
                return [f"clip “{a.name}” gives “{key_b[c.node]}” other morph weights"]
    return []


def different(a: F64, b: F64) -> bool:
    return a.size != b.size or not np.allclose(a.ravel(), b.ravel(), atol=WEIGHT_LIMIT)


class Moved:
    """Nodes of a scene in the common space, at times of a clip."""

    def __init__(self, scene: Scene, clip: Clip, rows: Sequence[int], times: F64) -> None:
        self.worlds = worlds_at(scene, clip, rows, times)
        self.linear = linear_map(scene.convention, GLTF)
        self.inverse = np.linalg.inv(self.linear)

    def of(self, node: int) -> F64:
        """(T, 4, 4)"""
        out = self.worlds[node].copy()
        out[:, :3, :3] = self.linear @ out[:, :3, :3] @ self.inverse
        out[:, :3, 3] = out[:, :3, 3] @ self.linear.T
        return out


def reaches(scene: Scene, rows: Sequence[int]) -> dict[int, float]:
    """Metres from nodes to the furthest corner of what hangs below them or bears a skin of theirs, at rest; one metre where
    that is nothing."""
    nodes, metre = scene.nodes, scene.convention.metres_per_unit
    low, high = np.full((len(nodes), 3), np.inf), np.full((len(nodes), 3), -np.inf)
    boxes = scene.part_bounds
    low[nodes.parts], high[nodes.parts] = boxes[:, 0], boxes[:, 1]
    for i in np.flatnonzero((nodes.skin >= 0) & (nodes.mesh >= 0)).tolist():
        for joint in scene.skins[nodes.skin[i]].joints:
            low[joint], high[joint] = np.minimum(low[joint], low[i]), np.maximum(high[joint], high[i])
    ends = np.cumsum(np.bincount(nodes.depth, minlength=1))
    order = np.argsort(nodes.depth, kind="stable")
    for below in reversed(np.split(order, ends[:-1])[1:]):  # the deepest first
        np.minimum.at(low, nodes.parent[below], low[below])
        np.maximum.at(high, nodes.parent[below], high[below])
    out = {}
    for i in rows:
        far = np.maximum(high[i] - nodes.world[i, :3, 3], nodes.world[i, :3, 3] - low[i])
        length = float(np.linalg.norm(np.maximum(far, 0.0))) * metre if np.isfinite(far).all() else 0.0
        out[i] = length or 1.0
    return out
