"""Check: what the reader had to leave out, convert or guess becomes findings."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from tidy_caravan.core.scene import Note
from tidy_caravan.core.survey.base import Finding, Severity, check
from tidy_caravan.core.survey.context import Context

SEVERITY: dict[str, Severity] = {"damaged": "error", "behind": "info", "converted": "info", "guess": "info"}
TITLE = {"damaged": "Damaged in the file", "behind": "Stays behind", "converted": "Converted", "guess": "Assumed"}
OF_CODE: dict[str, tuple[Severity, str]] = {
    "texture.format": ("info", "Images taken as PNG"),
    "texture.unreadable": ("error", "Images that cannot be read"),
    "faces.folded": ("info", "Polygons in no plane"),
    "faces.crossing": ("warning", "Polygons that cross themselves"),
}
"""What is said better than by the kind of a note."""
SHOWN = 4


@check("reading", "Notes of the reader")
def reading_notes(context: Context) -> Iterable[Finding]:
    """What the reader left out, converted or guessed, polygons in no plane or across themselves among it: one finding per
    code, with the first few places spelled out."""
    scene = context.scene
    groups: dict[tuple[str, str], list[Note]] = {}
    for note in scene.notes:
        if note.code != "texture.missing" and note.code != "import.convention":  # these have checks of their own
            groups.setdefault((note.kind, note.code), []).append(note)
    for (kind, code), notes in groups.items():
        shown = " ".join(f"{n.where}: {n.text}" for n in notes[:SHOWN])
        more = f" And {len(notes) - SHOWN} more." if len(notes) > SHOWN else ""
        severity, title = OF_CODE.get(code, (SEVERITY[kind], TITLE[kind]))
        yield Finding(
            code=code,
            severity=severity,
            title=title,
            text=shown + more,
            count=len(notes),
            guess=kind == "guess",
            parts=scene.nodes.made_of(np.array(sorted({i for n in notes for i in n.nodes}), np.int64)).tolist(),
        )
