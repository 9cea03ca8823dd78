"""Notes about many places alike: the first of each code one by one, the rest in one line, so that none goes untold."""

from __future__ import annotations

from tidy_caravan.core.scene import Note
from tidy_caravan.core.words import plural

MANY = 20
"""Notes of one code that are told one by one."""


def tell(notes: list[Note], told: dict[str, int], note: Note) -> None:
    """Adds a note as long as there are few of its code, and counts it."""
    told[note.code] = told.get(note.code, 0) + 1
    if told[note.code] <= MANY:
        notes.append(note)


def tell_rest(notes: list[Note], told: dict[str, int], where: str) -> None:
    """How many more there were of each code, after the last was told."""
    for code, count in told.items():
        if count > MANY:
            kind = next(n.kind for n in notes if n.code == code)
            notes.append(Note(kind, code, where[:120], f"And {count - MANY} more of these, in other places."))


def astray(count: int, what: str) -> str:
    """Says of so many corners that what they point at (normals, texture coordinates) is not there."""
    return f"{plural(count, 'corner points', 'corners point')} at {what} that are not there, and {'has' if count == 1 else 'have'} none."
