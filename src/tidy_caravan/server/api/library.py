"""What the application knows: destinations, kinds of steps, checks; and whether it is well."""

from __future__ import annotations

from functools import lru_cache
from typing import Annotated

from fastapi import Header, Response
from sqlalchemy import select

from tidy_caravan import __version__
from tidy_caravan.core.conventions.destinations import BUILT_IN, Destination
from tidy_caravan.core.formats import endings, writable
from tidy_caravan.core.steps import known_steps
from tidy_caravan.core.survey import known_checks
from tidy_caravan.server.api.context import SessionDep, StateDep
from tidy_caravan.server.api.requests import MOST_FILES
from tidy_caravan.server.api.requests import router as new_router
from tidy_caravan.server.api.schemas import CheckKind, FormatOut, Health, StepKind
from tidy_caravan.server.db.models import DestinationRow
from tidy_caravan.server.problems import Problem

router = new_router("/api", "library")


@router.get("/health")
def health(state: StateDep) -> Health:
    """ok: work that is asked for can be done; trouble says what stands in its way."""
    workers, trouble = state.manager.health()
    return Health(
        ok=not trouble,
        version=__version__,
        endings=list(endings()),
        upload_bytes=state.settings.upload_bytes,
        most_files=MOST_FILES,
        workers=workers,
        trouble=trouble,
    )


@router.get("/steps")
def steps() -> list[StepKind]:
    """All kinds of steps with their parameters, in the order of a route."""
    return described_steps()


@lru_cache(maxsize=1)
def described_steps() -> list[StepKind]:
    """Kept: to write all their schemas takes most of a second, and every page asks for them."""
    out = []
    for kind, cls in known_steps().items():
        schema = cls.model_json_schema(by_alias=True)
        parameters = {k: v for k, v in schema["properties"].items() if k not in ("kind", "enabled", "where")}
        out.append(
            StepKind(
                kind=kind,
                title=cls.title,
                summary=cls.summary,
                phase=cls.phase.value,
                rank=cls.phase.rank,
                once=cls.once,
                parameters=parameters,
                defaults=cls(kind=kind),
            )
        )
    return out


@router.get("/checks")
def checks() -> list[CheckKind]:
    """All checks of the survey, by family."""
    return [CheckKind(name=name, family=c.family, title=c.title) for name, c in known_checks().items()]


@router.get("/destinations")
def destinations(session: SessionDep) -> list[Destination]:
    """Built-in ones first, then the user's own."""
    own = [
        Destination.model_validate(r.data)
        for r in session.scalars(select(DestinationRow).order_by(DestinationRow.name))
    ]
    return [*BUILT_IN, *own]


@router.get("/formats")
def formats() -> list[FormatOut]:
    """Formats that can be written."""
    return [FormatOut(name=f.name, title=f.title, flat=f.ability.flat) for f in writable().values()]


@router.get("/destinations/{name}")
def read_destination(name: str, session: SessionDep, response: Response) -> Destination:
    """One destination; the user's own come with an ETag for changing or deleting them."""
    for known in BUILT_IN:
        if known.name == name:
            return known
    row = session.get(DestinationRow, name)
    if row is None:
        raise Problem(404, "destination.unknown", f"There is no destination “{name[:80]}”.", name[:80])
    response.headers["ETag"] = f'"{row.version}"'
    return Destination.model_validate(row.data)


@router.delete("/destinations/{name}", status_code=204)
def delete_destination(
    name: str, session: SessionDep, if_match: Annotated[str | None, Header(alias="If-Match")] = None
) -> None:
    """Deletes one of the user's own; hauls keep the copy they carry."""
    row = session.get(DestinationRow, name, with_for_update=True)
    if row is None:
        raise Problem(404, "destination.unknown", "Only destinations of your own can be deleted.", name[:80])
    if if_match is None or if_match.strip('W/"') != str(row.version):
        raise Problem(
            412 if if_match else 428, "version.stale", "Reload the destination and delete it again.", "If-Match"
        )
    session.delete(row)


@router.put("/destinations/{name}")
def put_destination(
    name: str,
    destination: Destination,
    session: SessionDep,
    response: Response,
    if_match: Annotated[str | None, Header(alias="If-Match")] = None,
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
    data = destination.model_copy(update={"built_in": False})
    row = session.get(DestinationRow, name, with_for_update=True)
    if row is None:
        if if_match is not None:
            raise Problem(
                412, "version.stale", "Somebody deleted this destination meanwhile. Save it anew.", "If-Match"
            )
        row = DestinationRow(name=name, data={}, version=0)
        session.add(row)
    elif if_match is None:
        raise Problem(
            428,
            "version.missing",
            "There is a destination of that name. Send the ETag that you read as If-Match.",
            "If-Match",
        )
    elif if_match.strip('W/"') != str(row.version):
        raise Problem(412, "version.stale", "Somebody changed this destination meanwhile. Reload it first.", "If-Match")
    row.data = data.model_dump(by_alias=True, mode="json")
    row.version += 1
    response.headers["ETag"] = f'"{row.version}"'
    return data
