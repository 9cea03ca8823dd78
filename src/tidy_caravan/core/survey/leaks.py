"""Check of gaps that light leaks through."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from tidy_caravan.core.scene import Scene
from tidy_caravan.core.surroundings.gap_users import users_of
from tidy_caravan.core.surroundings.gaps import LEAST_MM, MOST_MM, Gaps, gaps
from tidy_caravan.core.surroundings.seams import cover_for, modules, seams_of
from tidy_caravan.core.survey.base import Finding, check, not_found_out
from tidy_caravan.core.survey.context import Context
from tidy_caravan.core.survey.places import MOST_PLACES, of_gaps, place
from tidy_caravan.core.words import plural


@check("geometry", "Gaps that light leaks through")
def light_leaks(context: Context) -> Iterable[Finding]:
    """Vertices between a tenth of a millimetre and five off another piece, less for small ones, that touch it nowhere
    near; single ones where both pieces have a vertex and meet at the next; and cracks within a piece, between two runs of
    its border that end in the same two places. Labels that lie on a surface as a whole are none. Straight ones between
    modular pieces are told as seams too."""
    scene = context.scene
    found = gaps(scene, context.workshop, context.tell)
    if isinstance(found, str):
        yield not_found_out("gaps.unknown", "Gaps not found out", "Where parts leave a gap", found)
        return
    yield from open_seams(scene, found, context.destination.grid_cell)
    if not len(found.part):
        return
    parts = np.unique(np.concatenate([found.part, found.other, users_of(scene, found)]))
    pairs = np.unique(np.sort(found.piece, axis=1), axis=0)
    worst = int(np.argmax(found.distance))
    one, other = (scene.nodes.names[i][-80:] or "?" for i in (int(found.part[worst]), int(found.other[worst])))
    widest, narrowest = float(found.distance.max()) * 1000, float(found.distance.min()) * 1000
    wide = " to ".join(dict.fromkeys((f"{narrowest:.2g}", f"{widest:.2g}")))
    between = f"between “{one}” and “{other}”" if one != other else f"between two pieces of “{one}”"
    if found.piece[worst, 0] == found.piece[worst, 1]:
        between = f"within “{one}”"
    cracked = int((pairs[:, 0] == pairs[:, 1]).sum())
    apart = plural(len(pairs) - cracked, "pair of pieces leaves", "pairs of pieces leave") + " a gap"
    within = plural(
        cracked, "piece has a crack between edges of its own", "pieces have cracks between edges of their own"
    )
    what = " and ".join([apart] * (cracked < len(pairs)) + [within] * (cracked > 0))
    moving = len(np.unique(np.column_stack([found.part, found.vertex]), axis=0))
    yield Finding(
        code="gaps.leak",
        severity="warning",
        title="Gaps that light leaks through",
        count=len(parts),
        value=widest,
        limit=LEAST_MM,
        unit="mm",
        text=f"{what}, {wide} mm wide (looked for from {LEAST_MM:g} to {MOST_MM:g} mm), or are meant to stay clear by as much, as a "
        f"door leaf is of its frame; the widest {between}. Closing them moves {plural(moving, 'vertex', 'vertices')} at most.",
        parts=parts.tolist(),
        places=of_gaps(scene, found),
        guess=True,
        mend={"kind": "close_gaps", "where": {"parts": scene.identities.given(scene.nodes.source[parts].tolist())}},
    )


def open_seams(scene: Scene, found: Gaps, cell: float) -> Iterable[Finding]:
    """Straight seams between modular pieces that do not meet or go into each other, and the piece of the scene's own that
    would hide most of them."""
    pieces, meshes, most = modules(scene, cell)
    seams = seams_of(scene, found, meshes, most) if len(meshes) else []
    if not seams:
        return
    fitting = [m for m in (cover_for(scene, pieces, s) for s in seams) if m >= 0]
    parts = np.unique([list(s.parts) for s in seams])
    mend = None
    hides = "No piece of the scene is of a length and width to cover them."
    if fitting:
        kinds, times = np.unique(fitting, return_counts=True)
        best = int(kinds[np.argmax(times)])
        user = int(scene.nodes.parts[scene.nodes.mesh[scene.nodes.parts] == best][0])
        hides = f"“{scene.nodes.names[user]}” would cover {int(times.max())} of them."
        wide = {"mostMm": float(np.ceil(max(s.width for s in seams) * 1000))}
        mend = {
            "kind": "cover_seams",
            **(wide if wide["mostMm"] > MOST_MM else {}),
            "where": {"parts": scene.identities.given(scene.nodes.source[parts].tolist())},
        }
    metres = scene.convention.metres_per_unit
    order = sorted(seams, key=lambda s: -s.width)
    told = [
        f"{plural(len(own), 'pair')} of modular pieces side by side {what}, by {own[0].width * 1000:.2g} mm at worst, on a seam {own[0].length:.3g} m long"
        for what, own in (
            ("do not quite meet" if sum(not s.overlaps for s in order) > 1 else "does not quite meet", [s for s in order if not s.overlaps]),
            ("go into each other" if sum(s.overlaps for s in order) > 1 else "goes into each other", [s for s in order if s.overlaps]),
        )
        if own
    ]  # fmt: skip
    yield Finding(
        code="grid.seam",
        severity="warning",
        title="Seams between modular pieces",
        count=len(parts),
        value=order[0].width * 1000,
        limit=LEAST_MM,
        unit="mm",
        text=f"{'; '.join(told)}. Fitting them to the grid stretches the pieces; a cover hides it. {hides}",
        parts=parts.tolist(),
        places=[place(s.parts, s.lines(metres), s.width * 1000, "mm") for s in order[:MOST_PLACES]],
        guess=True,
        mend=mend,
    )
