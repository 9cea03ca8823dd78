"""Checks of pivots: far from their part, many of them at one place, off the hinge of a leaf."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from tidy_caravan.core.conventions.evidence import name_stems, words_pattern
from tidy_caravan.core.geometry.corners import first_equals
from tidy_caravan.core.geometry.doors import UPRIGHT, door_of
from tidy_caravan.core.geometry.leaf import Leaf, leaf_of
from tidy_caravan.core.geometry.stretched import uneven, uneven_stretch
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.space.axes import axis_vector
from tidy_caravan.core.surroundings.world import outside
from tidy_caravan.core.survey.base import Finding, check
from tidy_caravan.core.survey.context import Context
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.pairs import fingerprints

LEAF_WORDS = "leaf|doorleaf|flap|sash|shutter|hatch|türblatt|tuerblatt|türflügel|vantail|deurblad"
"""Names of what turns on a hinge."""
DOOR_WORDS = "door|tür(?:en)?|tuer(?:en)?|porte|puerta|porta|deur(?:en)?|dörr(?:ar)?"
"""Names of a door, which is a leaf where it is a plate that fills its outline and stands in no frame …"""
FILLS = 0.35
"""… part of it that a leaf of bars fills, and a frame does not; its pane may be a part of its own."""
NO_LEAF_WORDS = (
    "frame|jamb|casing|lining|architrave|lintel|head|sill|threshold|handle|knob|lever|lock|closer|stop|hinge|bell|mat|"
    "sign|label|plate|glass|glazing|pane|rail|track|opening|zarge|rahmen|griff|schwelle|glas|cadre|poignée|marco|telaio|"
    "kozijn|karm|sliding|slide|automatic|revolving|roller|shutter|overhead|lift|elevator|schiebe|coulissante|corredera|"
    "scorrevole|schuif"
)
"""Names of what belongs to a door and does not turn with it, or of doors that do not turn."""
LEAF_M = (0.3, 3.0)
"""Width of leaves that people walk or look through."""
TOGETHER = 8
"""Parts with one pivot from which on that is no assembly any more …"""
SPREAD = 5.0
"""… when their middles are spread so many times as far as the typical one of them is large."""


@check("transforms", "Pivots far from their part")
def far_pivots(context: Context) -> Iterable[Finding]:
    """The node's origin lies further from the part's box than the box is large. What a clip moves is turned about its pivot on
    purpose, and what bones bend has none."""
    scene = context.scene
    nodes = scene.nodes
    parts = nodes.parts
    if not len(parts):
        return
    origin = nodes.world[parts, :3, 3]
    distance, far = outside(scene)
    far = far & ~context.pinned[parts]
    if far.any():
        rows = parts[far]
        at_zero = int((np.linalg.norm(origin[far], axis=1) < 1e-9).sum())
        metres = float(distance[far].max()) * scene.convention.metres_per_unit
        note = f" {at_zero} of them sit on the world origin, the sign of a flattened export." if at_zero else ""
        yield Finding(
            code="pivot.far",
            severity="warning",
            title="Pivots far away",
            count=len(rows),
            value=metres,
            limit=0.0,
            unit="m",
            text=f"{plural(len(rows), 'pivot lies', 'pivots lie')} outside the own part by more than its size, {metres:.{0 if metres >= 100 else 2}f} m at worst.{note}",
            parts=[int(i) for i in rows],
            mend=mend_of(scene, rows),
        )


def mend_of(scene: Scene, rows: np.ndarray[tuple[int], np.dtype[np.int64]], **how: object) -> dict[str, object]:
    return {
        "kind": "place_pivots",
        **how,
        "where": {"parts": scene.identities.given(scene.nodes.source[rows].tolist())},
    }


@check("transforms", "Pivots at one place")
def pivots_together(context: Context) -> Iterable[Finding]:
    """Many parts, spread wide, that all have their pivot at one point: as good as none, even where it is near some."""
    scene = context.scene
    nodes = scene.nodes
    parts = nodes.parts
    if len(parts) < TOGETHER:
        return
    box = scene.part_bounds
    origin = nodes.world[parts, :3, 3]
    size = np.linalg.norm(box[:, 1] - box[:, 0], axis=1)
    near = ~outside(scene)[1] & ~context.pinned[parts]
    step = max(float(np.median(size)) * 1e-6, 1e-12)
    group = first_equals(fingerprints([np.rint(origin / step) + 0.0])[:, 0])
    counts = np.bincount(group)
    middle = box.mean(axis=1)
    hit = np.zeros(len(parts), np.bool_)
    for k in np.flatnonzero(counts >= TOGETHER).tolist():
        rows = np.flatnonzero(group == k)
        spread = float(np.linalg.norm(np.ptp(middle[rows], axis=0)))
        hit[rows] = spread > SPREAD * float(np.median(size[rows])) and spread > 0
    hit &= near
    if hit.any():
        rows = parts[hit]
        yield Finding(
            code="pivot.together",
            severity="warning",
            title="Pivots at one place",
            count=len(rows),
            value=float(len(rows)),
            limit=float(TOGETHER - 1),
            unit="pivots",
            text=f"{plural(len(rows), 'part has its', 'parts have their')} pivot at a point that many others share, though they are spread wide: "
            "the sign of a flattened export. None of them can be turned or placed by it.",
            parts=rows.tolist(),
            mend=mend_of(scene, rows, onlyFar=False),
        )


def upright(leaf: Leaf) -> bool:
    """Whether it is higher than wide, as doors are."""
    size = leaf.box[1] - leaf.box[0]
    return bool(size[leaf.upright] >= UPRIGHT * size[leaf.width])


@check("transforms", "Pivots off the hinge")
def off_the_hinge(context: Context) -> Iterable[Finding]:
    """Leaves and doors, by name and as thin upright plates, whose pivot does not lie on their hinge: the upright edge away from
    the handle, or either of both where none stands out. What is named after a frame or a handle is asked nothing, nor is
    a door in one mesh with its frame."""
    scene = context.scene
    nodes = scene.nodes
    parts = nodes.parts
    if not len(parts):
        return
    stems, which = name_stems(scene)
    leaves, doors, others = (words_pattern(w) for w in (LEAF_WORDS, DOOR_WORDS, NO_LEAF_WORDS))
    as_leaf = np.array([leaves.search(n) is not None for n in stems], np.bool_)[which]
    as_door = np.array([bool(doors.search(n)) and not others.search(n) for n in stems], np.bool_)[which]
    named = as_leaf | as_door
    metres = scene.convention.metres_per_unit
    up = axis_vector(scene.convention.up)
    rows: list[int] = []
    worst = 0.0
    seen: dict[tuple[int, bool, bytes], tuple[float, float]] = {}
    rest = parts[named]
    stretched = uneven(nodes.world[rest, :3, :3]).tolist()
    for i, sure, odd in zip(rest.tolist(), as_leaf[named].tolist(), stretched, strict=True):
        # one box may be the mesh of many leaves, each stretched in its own way
        stretch = uneven_stretch(nodes.world[i, :3, :3]) if odd else np.eye(3)
        linear = nodes.world[i, :3, :3] @ (np.linalg.inv(stretch) if odd else stretch)
        way = linear.T @ up
        key = int(nodes.mesh[i]), sure, np.round(np.append(way, stretch), 3).tobytes()
        if key not in seen:
            mesh = scene.meshes[key[0]]
            leaf = leaf_of(mesh, way, stretch)
            if leaf is not None and not sure and (leaf.fill < FILLS or not upright(leaf) or door_of(mesh, way)):
                leaf = None
            size = np.ptp(leaf.box, axis=0) if leaf else np.zeros(3)
            allowed = max(leaf.thick, 0.05 * float(size[leaf.width])) if leaf else 0.0
            off = leaf.off_hinge(np.zeros(3)) if leaf else 0.0
            seen[key] = (off if off > allowed else 0.0), float(size[leaf.width]) if leaf else 0.0
        off, width = seen[key]
        scale = float(np.abs(np.linalg.det(linear)) ** (1 / 3)) * metres
        if off > 0 and LEAF_M[0] <= width * scale <= LEAF_M[1]:
            rows.append(i)
            worst = max(worst, off * scale)
    if rows:
        found = np.array(rows, np.int64)
        free = found[~context.pinned[found]]
        note = ""
        if len(free) < len(found):
            count = len(found) - len(free)
            note = f" {plural(count, 'is', 'are')} swung so by a clip, which is to be mended where it was made."
        yield Finding(
            code="pivot.hinge",
            severity="warning",
            title="Pivots off the hinge",
            count=len(rows),
            value=worst,
            limit=0.0,
            unit="m",
            guess=True,
            text=f"{plural(len(rows), 'leaf has', 'leaves have')} the pivot off the edge that {'it hangs' if len(rows) == 1 else 'they hang'} on, {worst:.2f} m at worst: turned by it, "
            f"{'it would swing through its' if len(rows) == 1 else 'they would swing through their'} frame.{note}",
            parts=rows,
            mend=mend_of(scene, free, at="hinge", onlyFar=False) if len(free) else None,
        )
