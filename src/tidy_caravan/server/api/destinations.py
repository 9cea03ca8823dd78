"""Destinations: those that come with the application, and the user's own, whose changes can be undone."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated

from fastapi import Header, Response
from sqlalchemy import select
from sqlalchemy.orm import Session

from tidy_caravan.core.conventions.destinations import BUILT_IN, Destination
from tidy_caravan.server.api.context import SessionDep, check_version, no_change
from tidy_caravan.server.api.requests import router as new_router
from tidy_caravan.server.api.schemas import Changes
from tidy_caravan.server.db.models import DestinationRow
from tidy_caravan.server.edits import keep, next_edit, next_of, state_of, turn_back
from tidy_caravan.server.problems import Problem

router = new_router("/api/destinations", "destinations")
IfMatch = Annotated[str | None, Header(alias="If-Match")]


@router.get("")
def destinations(session: SessionDep, deleted: bool = False) -> list[Destination]:
    """Built-in ones first, then the user's own; or, of the user's own, those that are deleted and can be restored."""
    there = DestinationRow.deleted.is_not(None) if deleted else DestinationRow.deleted.is_(None)
    rows = session.scalars(select(DestinationRow).where(there).order_by(DestinationRow.name))
    own = [Destination.model_validate(r.data) for r in rows]
    return own if deleted else [*BUILT_IN, *own]


@router.get("/{name}")
def read_destination(name: str, session: SessionDep, response: Response) -> Destination:
    """One destination; the user's own come with an ETag for changing or deleting them."""
    for known in BUILT_IN:
        if known.name == name:
            return known
    return answered(own_one(session, name, lock=False), response)


@router.get("/{name}/changes")
def changes_of_destination(name: str, session: SessionDep) -> Changes:
    """What would be undone, and what would be done again; of the user's own."""
    back, again = next_of(session, own_one(session, name, lock=False))
    return Changes(undo=back, redo=again)


@router.put("/{name}")
def put_destination(
    name: str, destination: Destination, session: SessionDep, response: Response, if_match: IfMatch = None
) -> Destination:
    """Creates a destination, or changes one of the user's own (then with If-Match)."""
    if destination.name != name:
        raise Problem(422, "destination.name", "The name in the address and in the document differ.", "name")
    if any(d.name == name for d in BUILT_IN):
        raise Problem(
            409,
            "destination.built-in",
            "Built-in destinations cannot be changed. Save a copy under another name.",
            name,
        )
    data = destination.model_copy(update={"built_in": False}).model_dump(by_alias=True, mode="json")
    row = session.get(DestinationRow, name, with_for_update=True, populate_existing=True)
    if row is None or row.deleted is not None:
        if if_match is not None:
            raise Problem(
                412, "version.stale", "Somebody deleted this destination meanwhile. Save it anew.", "If-Match"
            )
    else:
        check_version(row, if_match)
    if row is None:
        row = DestinationRow(name=name, data=data, version=0)
        session.add(row)
    else:
        before, row.data, row.deleted = state_of(row), data, None
        keep(session, row, before)
    return changed(session, row, response)


@router.delete("/{name}", status_code=204)
def delete_destination(name: str, session: SessionDep, if_match: IfMatch = None) -> None:
    """Deletes one of the user's own, which can be restored for some days; hauls keep the copy they carry."""
    row = own_one(session, name)
    check_version(row, if_match)
    row.deleted, row.version = datetime.now(UTC), row.version + 1


@router.post("/{name}/restore")
def restore_destination(name: str, session: SessionDep, response: Response) -> Destination:
    """Takes back that one of the user's own was deleted; it is as it was."""
    row = session.get(DestinationRow, name, with_for_update=True, populate_existing=True)
    if row is None:
        raise missing(name)
    if row.deleted is None:
        raise Problem(409, "destination.not-deleted", "It is not deleted; there is nothing to restore.", name[:80])
    row.deleted = None
    return changed(session, row, response)


@router.post("/{name}/undo")
def undo_destination(name: str, session: SessionDep, response: Response, if_match: IfMatch = None) -> Destination:
    """Takes back the newest change of one of the user's own. Needs If-Match with the ETag that was read."""
    return turned_back(session, name, response, if_match, again=False)


@router.post("/{name}/redo")
def redo_destination(name: str, session: SessionDep, response: Response, if_match: IfMatch = None) -> Destination:
    """Does again what was undone last, until something else is changed. Needs If-Match with the ETag that was read."""
    return turned_back(session, name, response, if_match, again=True)


def turned_back(session: Session, name: str, response: Response, if_match: str | None, again: bool) -> Destination:
    row = own_one(session, name)
    check_version(row, if_match)
    edit = next_edit(session, row, again)
    if edit is None:
        raise no_change("destination", name[:80], again)
    turn_back(session, row, edit)
    return changed(session, row, response)


def missing(name: str) -> Problem:
    return Problem(404, "destination.unknown", f"There is no destination of your own “{name[:80]}”.", name[:80])


def own_one(session: Session, name: str, lock: bool = True) -> DestinationRow:
    """The row of one of the user's own; with `lock` kept from everybody else until the transaction ends."""
    row = session.get(DestinationRow, name, with_for_update=lock or None, populate_existing=lock)
    if row is None or row.deleted is not None:
        raise missing(name)
    return row


def changed(session: Session, row: DestinationRow, response: Response) -> Destination:
    row.version += 1
    session.flush()
    return answered(row, response)


def answered(row: DestinationRow, response: Response) -> Destination:
    response.headers["ETag"] = f'"{row.version}"'
    return Destination.model_validate(row.data)
