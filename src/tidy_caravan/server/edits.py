"""Changes of a haul or of a destination, each with the state on its other side: before it, or, once undone, after it.

They are undone in the order in which they were made, so that every state fits the source that was there with it.
"""

from __future__ import annotations

import uuid
from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import ColumnElement, delete, select
from sqlalchemy.orm import Session

from tidy_caravan.core.steps import known_steps
from tidy_caravan.server.db.models import Arrival, DestinationRow, Edit, Haul, PackageRow, Run

MOST_KEPT = 50
"""Changes of one haul, or of one destination, that can be undone."""
Edited = Haul | DestinationRow
State = dict[str, Any]


def state_of(one: Edited) -> State:
    """What can be changed of it, as JSON."""
    if isinstance(one, DestinationRow):
        return {"data": one.data}
    revision = str(one.revision_id) if one.revision_id else None
    return {"name": one.name, "destination": one.destination, "route": one.route, "revision": revision,
            "source_name": one.source_name}  # fmt: skip


def changes_of(one: Edited) -> ColumnElement[bool]:
    return Edit.own == one.name if isinstance(one, DestinationRow) else Edit.haul_id == one.id


def edits_of(session: Session, one: Edited) -> list[Edit]:
    """All that are kept, the oldest first; those that were undone are at the end."""
    return list(session.scalars(select(Edit).where(changes_of(one)).order_by(Edit.number)))


def keep(session: Session, one: Edited, before: State, what: str = "") -> None:
    """Notes that it was changed; what had been undone cannot be done again then. what: in a few words, if not by what
    differs."""
    now = state_of(one)
    if before == now:
        return
    session.execute(delete(Edit).where(changes_of(one), Edit.undone))
    kept = edits_of(session, one)
    for old in kept[: max(0, len(kept) + 1 - MOST_KEPT)]:
        session.delete(old)
    owner = {"own": one.name} if isinstance(one, DestinationRow) else {"haul_id": one.id}
    number = kept[-1].number + 1 if kept else 1
    session.add(
        Edit(id=uuid.uuid4(), number=number, undone=False, what=what or told(before, now), state=before, **owner)
    )


def next_edit(session: Session, one: Edited, again: bool) -> Edit | None:
    """The change that would be undone now, or done again."""
    kept = [e for e in edits_of(session, one) if e.undone == again]
    return (kept[0] if again else kept[-1]) if kept else None


def turn_back(session: Session, one: Edited, edit: Edit) -> None:
    """Undoes `edit`, or does it again when it was undone."""
    other, edit.state = edit.state, state_of(one)
    edit.undone = not edit.undone
    if isinstance(one, DestinationRow):
        one.data = other["data"]
        return
    one.name, one.destination, one.route = other["name"], other["destination"], other["route"]
    if moves_source(one, other):
        one.revision_id, one.source_name = uuid.UUID(other["revision"]), other["source_name"]
        put_back_work(session, one)


def moves_source(haul: Haul, other: State) -> bool:
    """Whether that state has another source. States from before there was one, or before that was noted, have none."""
    revision = other.get("revision")
    return revision is not None and revision != str(haul.revision_id)


def put_back_work(session: Session, haul: Haul) -> None:
    """What was made last of the haul's source, as far as it was not freed meanwhile."""

    def newest(table: type[Run | PackageRow | Arrival], made_of: ColumnElement[bool]) -> uuid.UUID | None:
        return session.scalars(select(table.id).where(made_of).order_by(table.created.desc()).limit(1)).first()

    haul.run_id = newest(Run, Run.revision_id == haul.revision_id)
    haul.package_id = newest(PackageRow, PackageRow.run_id == haul.run_id)
    haul.arrival_id = newest(Arrival, Arrival.package_id == haul.package_id)


def next_of(session: Session, one: Edited) -> tuple[str, str]:
    """What would be undone, and what would be done again; empty where there is nothing."""
    rows = session.execute(select(Edit.undone, Edit.what).where(changes_of(one)).order_by(Edit.number)).all()
    back = [r.what for r in rows if not r.undone]
    again = [r.what for r in rows if r.undone]
    return (back[-1] if back else ""), (again[0] if again else "")


def told(before: State, after: State) -> str:
    """What was changed, in a few words."""
    if "data" in after:
        return told_of_destinations(before["data"], after["data"])
    if before["route"] != after["route"]:
        return told_of_routes(before["route"], after["route"])
    return "Change of destination" if before["destination"] != after["destination"] else "Rename"


def told_of_destinations(before: Mapping[str, Any], after: Mapping[str, Any]) -> str:
    keys = [key for key in after if before.get(key) != after[key]]
    if keys == ["title"]:
        return "Rename"
    if keys == ["importers"]:
        return "Change of an importer’s habits"
    return "Change of conventions"


def told_of_files(before: Sequence[Sequence[str]], after: Sequence[Sequence[str]]) -> str:
    """What was done to the source. before, after: [path, key in the store] of its files."""
    was, now = ({str(path): str(key) for path, key, *_ in files} for files in (before, after))
    new, gone = [p for p in now if p not in was], [p for p in was if p not in now]
    anew = [p for p in now if p in was and now[p] != was[p]]

    def named(paths: list[str]) -> str:
        return paths[0].rsplit("/", 1)[-1][:60] if len(paths) == 1 else f"{len(paths)} files"

    if new and not gone and not anew:
        return f"Add {named(new)}"
    if gone and not new and not anew:
        return f"Remove {named(gone)}"
    return f"New version of {named(anew)}" if anew and not new and not gone else "New version of the source"


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
