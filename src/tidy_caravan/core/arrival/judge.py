"""What is wrong with each part, in short and in sentences: against what was packed, and against the source."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from tidy_caravan.core.arrival.contact import Contact
from tidy_caravan.core.arrival.placed import Placed, drawn_from, hidden, keys
from tidy_caravan.core.arrival.report import Tolerances, Worst
from tidy_caravan.core.arrival.surfaces import UNIT_LENGTH, Difference
from tidy_caravan.core.arrival.traced import Traced
from tidy_caravan.core.aspects import Allowed, Aspect, uv_aspect
from tidy_caravan.core.formats.abilities import Ability
from tidy_caravan.core.formats.shared.received import LIGHTMAP_PLACES, ODD
from tidy_caravan.core.formats.shared.written import on_pages
from tidy_caravan.core.manifest import Manifest
from tidy_caravan.core.scene import Nodes
from tidy_caravan.core.scene.arrays import F64, I64, Bool, determinants
from tidy_caravan.core.space.transforms import angle_deg, polar
from tidy_caravan.core.words import plural

LEAST_POSITION_MM = 0.1
STEPS = 2.0**-21
"""Part of a part's distance from the origin that float32 may cost it, in four steps."""
SIZE_LIMIT_MM = 1e-3
"""Extents that differ by less are the same, whatever their ratio: a sheet has hardly any across."""
SIZE_FLOOR_M = 1e-5
"""Extents below this are no sizes to compare: flat sheets have none across."""
TANGENT_LIMIT_DEG = 0.1
COLOR_LIMIT = 0.6 / 255
"""Difference of vertex colours: what eight bits round, with a fifth to spare."""
PAGE_LIMIT = 1e-6
"""Of a page's side: a hundredth of a texel on the largest."""


@dataclass
class Judged:
    """What is wrong with each of K parts, in short and in sentences, and by how much in multiples of a limit."""

    count: int
    faults: list[list[str]] = field(init=False)
    told: list[list[str]] = field(init=False)
    badness: F64 = field(init=False)

    def __post_init__(self) -> None:
        self.faults = [[] for _ in range(self.count)]
        self.told = [[] for _ in range(self.count)]
        self.badness = np.zeros(self.count)

    def measured(self, fault: str, values: F64, limits: F64, sentence: str) -> None:
        """Where values (K,) exceed limits (K,). sentence: with {value} and {limit}."""
        values = np.nan_to_num(values, nan=1e9, posinf=1e9)
        self.badness = np.maximum(self.badness, values / limits)
        for k in np.flatnonzero(values > limits).tolist():
            self.say(k, fault, sentence.format(value=f"{values[k]:.4g}", limit=f"{limits[k]:.4g}"))

    def say(self, k: int, fault: str, sentence: str, weight: float = 1e6) -> None:
        if fault not in self.faults[k]:
            self.faults[k].append(fault)
        self.told[k].append(sentence)
        self.badness[k] = max(self.badness[k], weight) if weight > 1 else self.badness[k]


def reach(side: Placed, nodes: I64) -> F64:
    """(K,) metres from the origin to the farthest corner of each part."""
    boxes = side.boxes[side.row_of[nodes]]
    return np.asarray(np.abs(boxes).max(axis=(1, 2), initial=0.0))


@dataclass
class Figures:
    """What is measured of each pair, (K,) each."""

    position: F64
    ratio: F64
    rotation: F64
    pivot: F64
    normal: F64
    surface: F64

    def worst(self) -> Worst:
        return Worst(
            position_mm=float(self.position.max(initial=0.0)),
            size_ratio=float(self.ratio.max(initial=1.0)),
            rotation_deg=float(self.rotation.max(initial=0.0)),
            normal_deg=float(self.normal.max(initial=0.0)),
            pivot_mm=float(self.pivot.max(initial=0.0)),
            surface_mm=float(self.surface.max(initial=0.0)),
        )


def measured(
    here: Placed, mid: Placed, there: Placed, origin: I64, middle: I64, end: I64, known: Bool,
    limits: F64, allowed: Allowed, ability: Ability, judged: Judged,
) -> Figures:  # fmt: skip
    """Place, size, turn and pivot of every part against the source, or against the result where a step may move it.

    allowed: what the steps declare of each part.
    """
    moving = allowed.free(Aspect.POSITIONS)
    box, other = mid.boxes[mid.row_of[middle]].copy(), there.boxes[there.row_of[end]]
    as_source = known & ~moving & ~allowed.free(Aspect.TRIANGLES)
    box[as_source] = here.boxes[here.row_of[origin[as_source]]]
    world, found = mid.worlds[middle], there.worlds[end]
    before = world.copy()
    before[known] = here.worlds[origin[known]]
    turn = np.where((moving | allowed.free(Aspect.ROTATION))[:, None, None], world, before)
    pivots = np.where((moving | allowed.free(Aspect.PIVOTS))[:, None, None], world, before)
    position = np.linalg.norm(box.mean(axis=1) - other.mean(axis=1), axis=1) * 1000
    size, got = box[:, 1] - box[:, 0], other[:, 1] - other[:, 0]
    ratio = np.maximum((size + SIZE_FLOOR_M) / (got + SIZE_FLOOR_M), (got + SIZE_FLOOR_M) / (size + SIZE_FLOOR_M))
    apart = np.abs(size - got) * 1000
    # what may move by a bound may be that much larger on either side
    spare = np.maximum(SIZE_LIMIT_MM, limits / 10) + 2 * allowed.within(Aspect.POSITIONS)
    ratio = np.where(apart <= spare[:, None], 1.0, ratio).max(axis=1, initial=1.0)
    pivot = np.linalg.norm(pivots[:, :3, 3] - found[:, :3, 3], axis=1) * 1000
    shown = np.linalg.norm(before[:, :3, 3] - found[:, :3, 3], axis=1) * 1000
    rotation = angle_deg(polar(turn[:, :3, :3])[0], polar(found[:, :3, :3])[0]) if len(turn) else np.zeros(0)
    solid = np.abs(determinants(turn[:, :3, :3])) > 1e-30
    rotation = np.where(solid, rotation, 0.0)
    bounds = Tolerances(position_mm=1.0)
    reached = limits + allowed.within(Aspect.POSITIONS)
    judged.measured("position", position, reached, "stands {value} mm off, limit {limit} mm")
    judged.measured(
        "size", ratio - 1, np.full(len(ratio), bounds.size_ratio - 1), "its size is off by {value} times, limit {limit}"
    )
    if not ability.pivots:
        rotation, pivot, shown = np.zeros_like(rotation), np.zeros_like(pivot), np.zeros_like(pivot)
    judged.measured(
        "rotation", rotation, np.full(len(rotation), bounds.rotation_deg), "is turned by {value}°, limit {limit}°"
    )
    judged.measured("pivot", pivot, limits, "its pivot lies {value} mm off, limit {limit} mm")
    return Figures(position, ratio, rotation, shown, np.zeros(len(position)), np.zeros(len(position)))


def judge_delivery(
    judged: Judged, found: Contact, mid: Placed, there: Placed, middle: I64, end: I64,
    called: tuple[list[str], list[str]], limits: F64, manifest: Manifest, ability: Ability,
) -> None:  # fmt: skip
    """The arrived part against the one that was packed. called: by node, what it should be called and what it is."""
    result, arrived = mid.scene, there.scene
    judged.measured("surface", found.surface_mm, limits, "its surface is {value} mm off, limit {limit} mm")
    degrees = np.full(len(middle), Tolerances(position_mm=1.0).normal_deg)
    judged.measured("normals", found.normal_deg, degrees, "its normals are {value}° off, limit {limit}°")
    for members, d in found.meshes:
        for k in members.tolist():
            if d.failed:
                judged.say(k, "not compared", f"it could not be compared with what was packed: {d.failed}")
                continue
            triangles(judged, k, d)
            if d.normals_lost and ability.normals:
                judged.say(k, "normals", "its normals did not arrive")
            if d.length > UNIT_LENGTH and ability.normals:
                judged.say(k, "normals", f"its normals are not of length one: up to {d.length:.3g} off")
            for sentence in tangents_told(d):
                judged.say(k, "tangents", f"its {sentence}")
            if d.colors_lost:
                judged.say(k, "vertex colours", "its vertex colours did not arrive")
            if d.color > COLOR_LIMIT:
                judged.say(
                    k, "vertex colours", f"its vertex colours differ by {d.color:.3g} of 1, limit {COLOR_LIMIT:.3g}"
                )
            if d.colors_added:
                judged.say(k, "vertex colours", "it has vertex colours that nobody sent")
            if d.normals_added and ability.normals:
                judged.say(k, "normals", "it has smooth normals that nobody sent")
            for number in d.uvs_added:
                judged.say(k, "UV sets", f"UV set {number} arrived that nobody sent")
            for number in d.uvs_lost:
                judged.say(k, "UV sets", f"UV set {number} did not arrive")
            for number, times in d.uv.items():
                if times > 1:
                    judged.say(k, set_name(number, manifest), coordinates_told(number, times, manifest), times)
    wanted, held = called
    visible_a, visible_b = ~hidden(result.nodes), ~hidden(arrived.nodes)
    drawn_a, drawn_b = drawn_from(result, result.default_root), drawn_from(arrived, arrived.default_root)
    odd = arrived.extras.get(ODD) or {}
    for k, (i, j) in enumerate(zip(middle.tolist(), end.tolist(), strict=True)):
        if ability.names and held[j] != wanted[i]:
            judged.say(k, "tree path" if ability.tree else "name", f"it is called “{held[j]}” instead of “{wanted[i]}”")
        if ability.visible and visible_a[i] != visible_b[j]:
            judged.say(k, "visibility", "it is switched off" if visible_a[i] else "it is switched on")
        if ability.scenes and drawn_a[i] and not drawn_b[j]:
            judged.say(k, "scene", "nothing draws it: it is not in the file's default scene")
        if ability.two_sided_meshes:
            slots = result.meshes[result.nodes.mesh[i]].slots
            both = any(result.materials[s].double_sided for s in slots if s >= 0)
            extras = arrived.meshes[arrived.nodes.mesh[j]].extras or {}
            if both != bool(extras.get("twoSided")):
                judged.say(k, "two-sided", "it is seen from one side only" if both else "it is seen from both sides")
        for sentence in odd.get(j, []):
            judged.say(k, "surface kind", f"it {sentence}")
    if ability.pages:
        judge_pages(judged, result.nodes, middle, end, arrived.extras.get(LIGHTMAP_PLACES, {}))


def judge_pages(judged: Judged, packed: Nodes, middle: I64, end: I64, found: Mapping[int, Sequence[float]]) -> None:
    """Where the lightmaps of parts lie on shared pages, as packed (the nodes `middle`) and as found (the nodes `end`)."""
    rows = np.flatnonzero(packed.page[middle, 3] > 0)
    wanted = on_pages(packed, middle[rows]).tolist()
    for k, said in zip(rows.tolist(), wanted, strict=True):
        place = found.get(int(end[k]))
        if place is None and not isinstance(packed.extras.get(int(middle[k]), {}), dict):
            continue  # its data are no object that could hold it beside them: the manifest alone says it
        if place is None:
            judged.say(k, "lightmap page", "where its lightmap lies on its page did not arrive")
        elif len(place) != len(said) or np.abs(np.subtract(place, said)).max() > PAGE_LIMIT or np.isnan(place).any():
            told = ", ".join(f"{n:.4g}" for n in place[:4])
            right = ", ".join(f"{n:.4g}" for n in said[:4])
            judged.say(
                k, "lightmap page",
                f"its lightmap is said to lie at scale and offset {told} on page {place[-1]:.0f} instead of {right} on page {said[-1]:.0f}",
            )  # fmt: skip


def hung_from(before: Nodes, after: Nodes) -> tuple[I64, I64]:
    """(N,) and (M,): the id in the source of the nearest node above each that is there on both sides, -1 for none."""
    there = np.zeros(len(before), np.bool_)
    there[after.source[after.source >= 0]] = True
    return nearest_above(before, np.where(there, np.arange(len(before)), -1)), nearest_above(after, after.source)


def nearest_above(nodes: Nodes, label: I64) -> I64:
    """(N,) the label of the nearest node above each that has one (not negative), -1 for none. O(N log depth)."""
    count = len(nodes)
    jump = np.append(np.where(nodes.parent < 0, count, nodes.parent), count).astype(np.int64)
    held = np.append(label, -1)
    while True:
        waiting = (jump < count) & (held[jump] < 0)
        if not waiting.any():
            break
        jump[waiting] = jump[jump[waiting]]
    return np.where(jump < count, held[jump], -1)[:count]


def tangents_told(d: Difference) -> list[str]:
    if d.tangents_lost:
        return ["tangents did not arrive"]
    out = []
    if d.tangent > TANGENT_LIMIT_DEG:
        out.append(f"tangents are {d.tangent:.4g}° off, limit {TANGENT_LIMIT_DEG}°")
    if d.handed:
        out.append(f"bitangents point the other way at {plural(d.handed, 'corner')}")
    return out


def triangles(judged: Judged, k: int, d: Difference, allowed_mm: float = 0.0) -> None:
    """What of the triangles themselves is wrong. allowed_mm: height up to which they may be missing."""
    if d.missing and (d.missing_height > allowed_mm or not allowed_mm):
        judged.say(k, "triangle count", f"{plural(d.missing, 'triangle')} missing")
    if d.extra:
        judged.say(k, "triangle count", f"{plural(d.extra, 'triangle')} too many")
    if d.turned:
        judged.say(k, "winding", f"{plural(d.turned, 'triangle')} turned over")


def set_name(number: int, manifest: Manifest) -> str:
    if number == 0:
        return "first UV set"
    return "lightmap UV set" if number == manifest.lightmap_channel else f"UV set {number}"


def coordinates_told(number: int, times: float, manifest: Manifest) -> str:
    if times == np.inf:
        return f"its {set_name(number, manifest)} has no numbers in places"
    return f"its {set_name(number, manifest)} differs, by {times:.3g} times the limit"


def judge_route(
    judged: Judged, found: Contact, rows: I64, here: Placed, mid: Placed, traces: Traced, middle: I64,
    limits: F64, allowed: Allowed, manifest: Manifest,
) -> None:  # fmt: skip
    """The packed part against the source, in what no step declares of it. allowed: of all parts, like `middle`."""
    of = allowed.of(rows)
    free = {a: of.free(a) for a in Aspect}
    within = of.within(Aspect.TRIANGLES)
    placed = ~free[Aspect.POSITIONS]
    comparable = placed | ~free[Aspect.TRIANGLES] | traces.exact[rows]
    origin = traces.first
    by_route = Judged(len(rows))
    by_route.measured(
        "surface",
        np.where(placed & (~free[Aspect.TRIANGLES] | traces.exact[rows]), found.surface_mm, 0.0),
        limits[rows] + of.within(Aspect.POSITIONS),
        "the route moved its surface by {value} mm, limit {limit} mm, and declares nothing of the kind",
    )
    by_route.measured(
        "normals",
        np.where(comparable & ~free[Aspect.NORMALS], found.normal_deg, 0.0),
        Tolerances(position_mm=1.0).normal_deg + of.within(Aspect.NORMALS),
        "the route turned its normals by {value}°, limit {limit}°, and declares nothing of the kind",
    )
    made, missing, height = traces.made[rows], traces.missing[rows], traces.height[rows] * 1000
    for k in np.flatnonzero(((made > 0) | (missing > 0)) & ~free[Aspect.TRIANGLES]).tolist():
        if made[k]:
            by_route.say(k, "triangle count", f"{plural(int(made[k]), 'triangle')} too many, by the route")
        if missing[k] and (height[k] > within[k] or not within[k]):
            by_route.say(k, "triangle count", f"{plural(int(missing[k]), 'triangle')} missing, by the route")
    channel = manifest.lightmap_channel
    for members, d in found.meshes:
        for k in members.tolist():
            if d.failed:
                by_route.say(k, "not compared", f"it could not be compared with the source: {d.failed}")
                continue
            if not free[Aspect.TRIANGLES][k]:
                triangles(by_route, k, replace(d, turned=0) if free[Aspect.WINDING][k] else d, within[k])
            elif traces.exact[rows[k]] and d.turned and not free[Aspect.WINDING][k]:
                # triangles may come and go; those that stayed did not turn
                by_route.say(k, "winding", f"{plural(d.turned, 'triangle')} turned over")
            if d.normals_lost and not free[Aspect.NORMALS][k]:
                by_route.say(k, "normals", "the route lost its normals")
            if not comparable[k]:
                continue
            if not free[Aspect.TANGENTS][k]:
                for sentence in tangents_told(d):
                    by_route.say(k, "tangents", f"by the route, its {sentence}")
            if d.normals_added and not free[Aspect.NORMALS][k]:
                by_route.say(k, "normals", "the route gave it smooth normals, and declares nothing of the kind")
            for number in d.uvs_added:
                # a set needs those below it, whatever is in them
                if not any(free[uv_aspect(above, channel)][k] for above in d.uvs_added if above >= number):
                    by_route.say(k, "UV sets", f"the route added UV set {number}, and declares nothing of the kind")
            if d.colors_lost or d.colors_added or d.color > COLOR_LIMIT:
                by_route.say(
                    k, "vertex colours", "the route changed its vertex colours and declares nothing of the kind"
                )
            for number in d.uvs_lost:
                if not free[uv_aspect(number, channel)][k]:
                    by_route.say(k, "UV sets", f"the route lost UV set {number}")
            for number, times in d.uv.items():
                if times > 1 and not free[uv_aspect(number, channel)][k]:
                    name = set_name(number, manifest)
                    by_route.say(k, name, f"the route changed its {name} and declares nothing of the kind", times)
    shown, still = (drawn_from(s, s.default_root) & ~hidden(s.nodes) for s in (here.scene, mid.scene))
    # what a step leaves out it has to switch off or take out
    for k in np.flatnonzero(
        shown[origin[rows]] & ~still[middle[rows]] & ~hidden(mid.scene.nodes)[middle[rows]]
    ).tolist():
        by_route.say(k, "scene", "nothing draws it: the route left it out of the scene that is shown")
    off, gone = hidden(here.scene.nodes)[origin[rows]], hidden(mid.scene.nodes)[middle[rows]]
    for k in np.flatnonzero((off != gone) & ~free[Aspect.PARTS]).tolist():
        by_route.say(
            k, "visibility", f"the route switched it {'on' if off[k] else 'off'}, and declares nothing of the kind"
        )
    names, tree = free[Aspect.NAMES], free[Aspect.TREE]
    layers = [np.array([*s.layers, ""], object)[s.nodes.layer] for s in (here.scene, mid.scene)]
    for k in np.flatnonzero((layers[0][origin[rows]] != layers[1][middle[rows]]) & ~tree).tolist():
        found_on, was_on = (one or "no layer" for one in (layers[1][middle[rows[k]]], layers[0][origin[rows[k]]]))
        by_route.say(k, "layer", f"the route puts it on “{found_on}” instead of “{was_on}”")
    before, after = keys(here.scene.nodes), keys(mid.scene.nodes)
    own, called = here.scene.nodes.names, mid.scene.nodes.names
    wanted, held = hung_from(here.scene.nodes, mid.scene.nodes)
    rehung = wanted[origin[rows]] != held[middle[rows]]
    for k, row in enumerate(rows.tolist()):
        if not names[k] and not tree[k]:
            if before[origin[row]] != after[middle[row]]:
                by_route.say(
                    k, "tree path", f"the route calls it “{after[middle[row]]}” instead of “{before[origin[row]]}”"
                )
        elif not tree[k]:  # names may differ: what it hangs below may not
            if rehung[k]:
                by_route.say(k, "tree path", "the route hung it below another node, and declares nothing of the kind")
        elif not names[k] and own[origin[row]] != called[middle[row]]:
            by_route.say(k, "name", f"the route calls it “{called[middle[row]]}” instead of “{own[origin[row]]}”")
    for k, row in enumerate(rows.tolist()):
        for fault in by_route.faults[k]:
            if fault not in judged.faults[row]:
                judged.faults[row].append(fault)
        judged.told[row] += by_route.told[k]
        judged.badness[row] = max(judged.badness[row], by_route.badness[k])
