"""Check of gaps that light leaks through."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from tidy_caravan.core.surroundings.gaps import LEAST_MM, MOST_MM, gaps
from tidy_caravan.core.survey.base import Finding, check, not_found_out
from tidy_caravan.core.survey.context import Context
from tidy_caravan.core.survey.places import of_gaps
from tidy_caravan.core.words import plural


@check("geometry", "Gaps that light leaks through")
def light_leaks(context: Context) -> Iterable[Finding]:
    """Vertices between a tenth of a millimetre and five off another piece, less for small ones, that touch it nowhere
    near. Labels that lie on a surface as a whole are none."""
    scene = context.scene
    found = gaps(scene, context.workshop, context.tell)
    if isinstance(found, str):
        yield not_found_out("gaps.unknown", "Gaps not found out", "Where parts leave a gap", found)
        return
    if not len(found.part):
        return
    parts = np.unique(np.concatenate([found.part, found.other]))
    pairs = np.unique(np.sort(found.piece, axis=1), axis=0)
    worst = int(np.argmax(found.distance))
    one, other = (scene.nodes.names[i][-80:] or "?" for i in (int(found.part[worst]), int(found.other[worst])))
    widest, narrowest = float(found.distance.max()) * 1000, float(found.distance.min()) * 1000
    between = f"“{one}” and “{other}”" if one != other else f"two pieces of “{one}”"
    yield Finding(
        code="gaps.leak",
        severity="warning",
        title="Gaps that light leaks through",
        count=len(parts),
        value=widest,
        limit=LEAST_MM,
        unit="mm",
        text=f"{plural(len(pairs), 'pair')} of pieces leave a gap of {narrowest:.2g} to {widest:.2g} mm (looked for from {LEAST_MM:g} to {MOST_MM:g} mm), or "
        f"are meant to stay clear by as much, as a door leaf is of its frame; "
        f"the widest between {between}. Closing them moves {plural(len(np.unique(np.column_stack([found.part, found.vertex]), axis=0)), 'vertex', 'vertices')} at most.",
        parts=parts.tolist(),
        places=of_gaps(scene, found),
        guess=True,
        mend={"kind": "close_gaps", "where": {"parts": scene.identities.given(scene.nodes.source[parts].tolist())}},
    )
