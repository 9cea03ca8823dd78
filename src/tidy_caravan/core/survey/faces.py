"""Checks of which way faces look: shells turned inside out, by themselves or among others."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np

from tidy_caravan.core.geometry.lots import Lot
from tidy_caravan.core.geometry.winding import agreed_shells
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import F64, Bool, determinants
from tidy_caravan.core.surroundings.sides import FAR_M, Reason, SeenSides, Verdict, open_sheets, seen
from tidy_caravan.core.survey.base import Finding, Severity, check, not_found_out, parts_with
from tidy_caravan.core.survey.context import Context, mesh_fact
from tidy_caravan.core.words import plural

ROOM_M = (2.0, 1.9)
"""Width and height in metres from which on a closed shell may be a room that is seen from inside."""
LARGEST_ROOM_M = 500.0
MOST_ROOMS = 2000
"""Shells that are asked whether something stands in them; each costs a look at all parts."""


def inwards_of(lot: Lot) -> list[int | None]:
    """Shells of ordinary meshes that look inwards; whether one is within another is seen of each mesh by itself."""
    s = lot.shells
    found, shells = lot.counted(s.owner[s.inwards]), lot.counted(s.owner)
    return [n if not n or count == 1 else None for n, count in zip(found, shells, strict=True)]


def open_of(lot: Lot) -> list[int]:
    """Open sheets of ordinary meshes; two triangles without an open edge stand back to back."""
    s = lot.shells
    return lot.counted(s.owner[~s.closed & ~((s.triangles == 2) & s.shut)])


INVERTED = mesh_fact("shells inside out", lambda m: int(agreed_shells(m).inverted.sum()), surface=True, many=inwards_of)
SHELLS = mesh_fact(
    "shells",
    lambda m: len(agreed_shells(m).inverted),
    surface=True,
    many=lambda lot: lot.counted(lot.shells.owner),
)
OPEN = mesh_fact("open sheets", lambda m: open_sheets(m)[1], version=3, surface=True, many=open_of)


@check("geometry", "Closed shells inside out")
def inside_out(context: Context) -> Iterable[Finding]:
    """Closed shells whose signed volume is negative: every face is seen from behind.

    A shell around cameras, lights or other parts is a room and meant to be seen from inside; an empty one of a
    room's size may be one. Below a mirroring node that stays one, two turns may cancel out, depending on the receiver.
    """
    scene = context.scene
    shells = np.append(context.numbers(INVERTED), 0)
    hit = shells > 0
    parts = scene.nodes.parts
    rows = np.flatnonzero(hit[scene.nodes.mesh[parts]])
    if not len(rows):
        return
    nodes = parts[rows]
    # where the mirror goes into the mesh, as it was drawn, there is nothing left to cancel out
    mirrored = (determinants(scene.nodes.world[nodes, :3, :3]) < 0) & context.destination.negative_scale
    whole = np.append(shells[:-1] == context.numbers(SHELLS), False)[scene.nodes.mesh[nodes]]
    large = whole & room_sized(scene, rows)
    lived_in = np.zeros(len(rows), np.bool_)
    asked = np.flatnonzero(large)[:MOST_ROOMS]
    lived_in[asked] = holds_something(scene, rows[asked])
    span = (scene.part_bounds[rows, 1] - scene.part_bounds[rows, 0]).max(axis=1) * scene.convention.metres_per_unit
    roomy = large & ~lived_in & (span < LARGEST_ROOM_M)
    wrong = ~mirrored & ~lived_in & ~roomy
    if wrong.any():
        chosen = nodes[wrong]
        meshes = np.unique(scene.nodes.mesh[chosen])
        count = int(shells[meshes].sum())
        yield Finding(
            code="faces.inside-out",
            severity="error",
            title="Inside out",
            count=len(chosen),
            value=float(count),
            limit=0.0,
            unit="shells",
            text=f"{plural(count, 'closed shell has', 'closed shells have')} all faces turned inwards, in {plural(len(meshes), 'mesh', 'meshes')} ({plural(len(chosen), 'part')}).",
            parts=chosen.tolist(),
            mend={
                "kind": "turn_faces",
                "how": "outwards",
                "where": {"parts": scene.identities.given(scene.nodes.source[chosen].tolist())},
            },
        )
    for mask, code, text in (
        (
            roomy & ~mirrored,
            "faces.room-or-inside-out",
            "closed and turned inwards, of a room's size and empty: rooms to be seen from inside, or inside out.",
        ),
        (
            lived_in & ~mirrored,
            "faces.room",
            "closed, turned inwards and around something: taken for rooms that are seen from inside.",
        ),
        (
            mirrored,
            "faces.turned-twice",
            "turned inwards below a mirroring node: right where the receiver leaves the winding alone, inside out where it turns it with the mirror.",
        ),
    ):
        if mask.any():
            chosen = nodes[mask]
            yield Finding(
                code=code,
                severity="warning" if code == "faces.room-or-inside-out" else "info",
                title="Room, or inside out?" if "room" in code else "Turned twice",
                count=len(chosen),
                guess=True,
                text=f"{plural(len(chosen), 'part is', 'parts are')} {text}",
                parts=chosen.tolist(),
            )


def holds_something(scene: Scene, rows: np.ndarray[tuple[int], np.dtype[np.int64]]) -> Bool:
    """(K,) True for the part rows whose box holds a camera, a light, or the middle of another, smaller part."""
    nodes = scene.nodes
    boxes: F64 = scene.part_bounds
    middles = boxes.mean(axis=1)
    viewers = nodes.world[(nodes.camera >= 0) | (nodes.light >= 0), :3, 3]
    size = np.linalg.norm(boxes[:, 1] - boxes[:, 0], axis=1)
    out = np.zeros(len(rows), np.bool_)
    for k, row in enumerate(rows.tolist()):
        low, high = boxes[row]
        inside = ((middles > low) & (middles < high)).all(axis=1) & (size < 0.9 * size[row])
        inside[row] = False
        out[k] = inside.any() or bool(((viewers > low) & (viewers < high)).all(axis=1).any())
    return out


def room_sized(scene: Scene, rows: np.ndarray[tuple[int], np.dtype[np.int64]]) -> Bool:
    """(K,) True for the part rows that people could stand in."""
    up = "XYZ".index(scene.convention.up[-1])
    size = (scene.part_bounds[rows, 1] - scene.part_bounds[rows, 0]) * scene.convention.metres_per_unit
    across = np.delete(size, up, axis=1).min(axis=1)
    out: Bool = (across >= ROOM_M[0]) & (size[:, up] >= ROOM_M[1])
    return out


@check("geometry", "Open sheets that are seen from behind")
def seen_from_behind(context: Context) -> Iterable[Finding]:
    """Rays from both sides of every open sheet: the side that sees open space, cameras, or what stands in a room is the
    front. Sheets that nobody sees, and those of two-sided materials, are not asked."""
    scene = context.scene
    found = seen(scene, context.workshop, context.tell, context.numbers(OPEN) > 0)
    if isinstance(found, str):
        yield not_found_out(
            "faces.sides-unknown", "Visible sides not found out", "Which sides of open sheets can be seen", found
        )
        return
    told: tuple[tuple[Verdict, str, Severity, str, str], ...] = (
        (
            Verdict.WRONG,
            "faces.seen-from-behind",
            "error",
            "Seen from behind",
            "can be seen only from behind, where nothing is drawn",
        ),
        (
            Verdict.UNCLEAR,
            "faces.side-unclear",
            "warning",
            "Room, or building?",
            "of a room's size and with little or nothing inside would show more from the other side",
        ),
        (
            Verdict.BOTH,
            "faces.seen-from-both",
            "info",
            "Thin sheets seen from both sides",
            "can be seen from both sides, and are drawn from one",
        ),
    )
    for verdict, code, severity, title, text in told:
        sheets = found.of(verdict)
        if sheets.any():
            yield sides_finding(scene, found, sheets, verdict, code, severity, title, text)


SAID = {
    Reason.WAYS: "",
    Reason.CONTENT: " What stands in it, or looks out of it, makes it a room.",
    Reason.WALKED: " Who walks about sees it from within, and nobody from around it.",
    Reason.CAMERA: " Cameras see that side alone.",
    Reason.TOGETHER: " The sheets that it encloses a room with show the other side to it.",
    Reason.BESIDE: " Who stands beside it sees its outside alone.",
}


def sides_finding(
    scene: Scene, found: SeenSides, sheets: Bool, verdict: Verdict, code: str, severity: Severity, title: str, text: str
) -> Finding:
    """One finding over the sheets (K,), with the rays of the one that has the most triangles as evidence."""
    meshes = np.unique(found.mesh[sheets])
    marked = np.zeros(len(scene.meshes), np.bool_)
    marked[found.mesh[sheets & (found.part < 0)]] = True
    parts = sorted({*parts_with(scene, marked), *found.part[sheets & (found.part >= 0)].tolist()})
    largest = np.flatnonzero(sheets)[np.argmax(found.triangles[sheets])]
    one = int(found.part[largest])
    one = one if one >= 0 else parts[int(np.argmax(scene.nodes.mesh[parts] == found.mesh[largest]))]
    example = scene.nodes.paths[one][-80:]
    front, behind = (f"{w:.2g} m{' or more' if w > 0.95 * FAR_M else ''}" for w in found.way[largest].tolist())
    reason = SAID[Reason(int(found.why[largest]))]
    where = {"parts": scene.identities.given(scene.nodes.source[parts].tolist())}
    turn = {"kind": "turn_faces", "how": "seen", "where": where}
    mends: dict[Verdict, dict[str, Any]] = {
        Verdict.WRONG: turn,
        Verdict.UNCLEAR: {**turn, "unsure": True},
        Verdict.BOTH: {"kind": "two_sided", "where": where},
    }
    count = int(sheets.sum())
    left = (
        f" {plural(found.left_out, 'smaller sheet was', 'smaller sheets were')} not looked at."
        if found.left_out
        else ""
    )
    return Finding(
        code=code,
        severity=severity,
        title=title,
        count=len(parts),
        value=float(count),
        limit=0.0,
        unit="sheets",
        text=f"{plural(count, 'open sheet')} in {plural(len(meshes), 'mesh', 'meshes')} {text} ({plural(len(parts), 'part')}). "
        f"Of {int(found.rays[largest])} rays from either side of one in “{example}”, those from the front go {front} on average, "
        f"those from behind {behind}.{reason}{left}",
        parts=parts,
        mend=mends[verdict],
        guess=verdict is not Verdict.WRONG,
    )
