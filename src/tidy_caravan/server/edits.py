"""Changes of a haul, each with the state on its other side: before it, or, once it is undone, after it."""

from __future__ import annotations

import uuid
from collections import Counter
from typing import Any

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from tidy_caravan.core.steps import known_steps
from tidy_caravan.server.db.models import Edit, Haul

MOST_KEPT = 50
"""Changes of one haul that can be undone."""
State = tuple[str, dict[str, Any], dict[str, Any]]
"""Name, destination and route."""


def state_of(haul: Haul) -> State:
    return haul.name, haul.destination, haul.route


def keep(session: Session, haul: Haul, before: State) -> None:
    """Notes that the haul was changed; what had been undone cannot be done again then."""
    now = state_of(haul)
    if before == now:
        return
    session.execute(delete(Edit).where(Edit.haul_id == haul.id, Edit.undone))
    kept = edits_of(session, haul.id)
    for old in kept[: max(0, len(kept) + 1 - MOST_KEPT)]:
        session.delete(old)
    name, destination, route = before
    number = kept[-1].number + 1 if kept else 1
    session.add(
        Edit(
            id=uuid.uuid4(), haul_id=haul.id, number=number, undone=False, what=told(before, now), name=name,
            destination=destination, route=route,
        )
    )  # fmt: skip


def turn_back(session: Session, haul: Haul, again: bool) -> bool:
    """Undoes the newest change, or does again the one that was undone last; whether there was one."""
    kept = [e for e in edits_of(session, haul.id) if e.undone == again]
    if not kept:
        return False
    edit = kept[0] if again else kept[-1]
    other = edit.name, edit.destination, edit.route
    edit.name, edit.destination, edit.route = state_of(haul)
    haul.name, haul.destination, haul.route = other
    edit.undone = not again
    return True


def edits_of(session: Session, haul: uuid.UUID) -> list[Edit]:
    """All that are kept, the oldest first; those that were undone are at the end."""
    return list(session.scalars(select(Edit).where(Edit.haul_id == haul).order_by(Edit.number)))


def next_of(session: Session, haul: uuid.UUID) -> tuple[str, str]:
    """What would be undone, and what would be done again; empty where there is nothing."""
    rows = session.execute(select(Edit.undone, Edit.what).where(Edit.haul_id == haul).order_by(Edit.number)).all()
    back = [r.what for r in rows if not r.undone]
    again = [r.what for r in rows if r.undone]
    return (back[-1] if back else ""), (again[0] if again else "")


def told(before: State, after: State) -> str:
    """What was changed, in a few words."""
    if before[2] != after[2]:
        return told_of_routes(before[2], after[2])
    return "Change of destination" if before[1] != after[1] else "Rename"


def told_of_routes(before: dict[str, Any], after: dict[str, Any]) -> str:
    steps, now = before.get("steps") or [], after.get("steps") or []
    if steps == now:
        return "Change of sets" if before.get("sets") != after.get("sets") else "Change of what is left as it is"
    gone = list((Counter(s["kind"] for s in steps) - Counter(s["kind"] for s in now)).elements())
    new = list((Counter(s["kind"] for s in now) - Counter(s["kind"] for s in steps)).elements())
    if gone or new:
        if len(gone) + len(new) > 1:
            return "Change of the route"
        return f"Remove {title_of(gone[0])}" if gone else f"Add {title_of(new[0])}"
    if [s["kind"] for s in steps] != [s["kind"] for s in now] or sorted(map(repr, steps)) == sorted(map(repr, now)):
        return "Move of a step"
    changed = [(a, b) for a, b in zip(steps, now, strict=True) if a != b]
    if len(changed) > 1:
        return "Change of several steps"
    one, other = changed[0]
    if {**one, "enabled": True} == {**other, "enabled": True}:
        return f"Switch {'on' if other.get('enabled', True) else 'off'} {title_of(other['kind'])}"
    return f"Change of {title_of(other['kind'])}"


def title_of(kind: str) -> str:
    known = known_steps().get(kind)
    return known.title if known else kind
