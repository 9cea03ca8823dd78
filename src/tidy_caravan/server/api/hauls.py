"""Hauls: list, begin with a file, read, edit, delete, and start work on them."""

from __future__ import annotations

import uuid
from datetime import UTC, datetime
from pathlib import PurePosixPath
from typing import Annotated, Any, Literal

from fastapi import BackgroundTasks, File, Form, Header, Query, Response, UploadFile
from sqlalchemy import select
from sqlalchemy.orm import Session

from tidy_caravan.core.conventions.destinations import BUILT_IN, Destination
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.registry import format_named
from tidy_caravan.core.formats.shared.bundle import path_inside
from tidy_caravan.core.proposal import propose
from tidy_caravan.core.route import Route, default_route, parse_route, reading_of
from tidy_caravan.core.survey import Finding
from tidy_caravan.server.api.context import (
    SessionDep,
    State,
    StateDep,
    active_job,
    busy,
    check_version,
    destination_named,
    found,
    new_job,
    no_change,
    stop,
    unknown,
)
from tidy_caravan.server.api.findings import findings_of
from tidy_caravan.server.api.requests import MOST_FILES
from tidy_caravan.server.api.requests import router as new_router
from tidy_caravan.server.api.scenes import like
from tidy_caravan.server.api.schemas import (
    ArrivalOut,
    FileOut,
    FindingOut,
    HaulEdit,
    HaulOut,
    HaulsPage,
    JobOut,
    PackageOut,
    PackRequest,
    ProposedOut,
    RevisionOut,
    RunOut,
    SceneOut,
)
from tidy_caravan.server.api.summaries import hauls_page, summary_of
from tidy_caravan.server.db.models import Arrival, Haul, Job, PackageRow, Revision, Run, SceneRow
from tidy_caravan.server.db.session import clean
from tidy_caravan.server.edits import keep, moves_source, next_edit, next_of, state_of, turn_back
from tidy_caravan.server.jobs.claims import unclaimed
from tidy_caravan.server.problems import Problem

router = new_router("/api/hauls", "hauls")
IfMatch = Annotated[str | None, Header(alias="If-Match")]


def done_by(route: dict[str, Any]) -> dict[str, Any]:
    """What of a route a run depends on: what was left as it is does not change it."""
    return {k: v for k, v in route.items() if k != "left"}


def haul_out(session: Session, haul: Haul) -> HaulOut:
    # the job first: it ends in one commit with what it made, so a haul read after it is never older
    session.flush()
    brief = summary_of(session, haul.id)
    session.refresh(haul)
    revision = session.get(Revision, haul.revision_id) if haul.revision_id else None
    run = session.get(Run, haul.run_id) if haul.run_id else None
    package = session.get(PackageRow, haul.package_id) if haul.package_id else None
    arrival = session.get(Arrival, haul.arrival_id) if haul.arrival_id else None

    def scene(key: uuid.UUID | None) -> SceneOut | None:
        row = session.get(SceneRow, key) if key else None
        return SceneOut.model_validate(row) if row else None

    run_out = None
    if run is not None:
        stale = done_by(run.route) != done_by(haul.route) or run.destination != haul.destination
        run_out = RunOut(
            id=run.id,
            revision_id=run.revision_id,
            scene_id=run.scene_id,
            read_scene_id=run.read_scene_id,
            records=run.records,
            seconds=run.seconds,
            created=run.created,
            stale=stale,
        )
    route = Route.model_validate(haul.route)
    back, again = next_of(session, haul)
    package_out = None
    if package is not None:
        files = [FileOut(path=f["path"], bytes=f["bytes"]) for f in package.files]
        package_out = PackageOut(
            id=package.id,
            format=package.format,
            files=files,
            remarks=package.remarks,
            behind=package.behind,
            created=package.created,
        )
    return HaulOut(
        id=haul.id,
        name=haul.name,
        version=haul.version,
        source_name=haul.source_name,
        created=haul.created,
        destination=Destination.model_validate(haul.destination),
        route=route,
        revision=RevisionOut.model_validate(revision) if revision else None,
        source=scene(revision.scene_id if revision else None),
        reading=reading_of(route),
        run=run_out,
        result=scene(run.scene_id if run else None),
        package=package_out,
        arrival=ArrivalOut.model_validate(arrival) if arrival else None,
        open=brief.open,
        job=brief.job,
        undo=back,
        redo=again,
    )


@router.get("")
def list_hauls(
    session: SessionDep,
    search: Annotated[str, Query(max_length=200)] = "",
    offset: Annotated[int, Query(ge=0, le=100_000_000)] = 0,
    limit: Annotated[int, Query(ge=1, le=500)] = 50,
    deleted: bool = False,
) -> HaulsPage:
    """Hauls by page, newest first; those that are deleted and can be restored, or all others."""
    return hauls_page(session, like(search) if search else "", offset, limit, deleted)


def stored_files(state: State, uploads: list[UploadFile]) -> list[list[str]]:
    """[path, key] of every upload, streamed into the store. Paths of folder drops are kept; escaping ones are refused."""
    if len(uploads) > MOST_FILES:
        raise Problem(413, "upload.too-many", f"More than {MOST_FILES} files at once. Send them as a zip.", "files")
    out: dict[str, str] = {}
    left = state.settings.upload_bytes
    for upload in uploads:
        try:
            path = clean(path_inside(upload.filename or "scene"))
        except UnusableInput as error:
            raise Problem(422, "upload.path", f"{error.what}.", clean(upload.filename or "")[:200]) from error
        try:
            key, size = state.store.put_stream(upload.file, left)
        except OverflowError as error:
            raise Problem(
                413,
                "upload.too-large",
                f"The upload is larger than {state.settings.upload_bytes >> 20} MiB.",
                path[:200],
            ) from error
        left -= size
        if out.get(path, key) != key:
            raise Problem(
                422, "upload.twice", "Two files of that name came in one upload. Send one of them.", path[:200]
            )
        out[path] = key
    if not any(out):
        raise Problem(422, "upload.empty", "There is no file in the upload. Drop a scene file.", "files")
    return [[path, key] for path, key in out.items() if path]


@router.post("", status_code=201)
def begin(
    session: SessionDep,
    state: StateDep,
    after: BackgroundTasks,
    files: Annotated[list[UploadFile], File()],
    name: Annotated[str, Form(max_length=200)] = "",
    destination: Annotated[str, Form()] = BUILT_IN[0].name,
) -> HaulOut:
    """A new haul from one file, several, or a zip; reading it is a job."""
    target = destination_named(session, destination)
    stored = stored_files(state, files)
    title = clean(name.strip() or PurePosixPath(stored[0][0]).stem)[:200] or "Unnamed haul"
    haul = Haul(
        id=uuid.uuid4(),
        name=title,
        destination=target.model_dump(by_alias=True, mode="json"),
        source_name=stored[0][0][:300],
        route=default_route().model_dump(by_alias=True, mode="json"),
        version=1,
    )
    session.add(haul)
    session.flush()
    job = new_job(session, haul, "import", {"files": stored})
    after.add_task(state.manager.submit, job.id)
    session.refresh(haul)
    return haul_out(session, haul)


@router.get("/{haul_id}")
def read_haul(haul_id: uuid.UUID, session: SessionDep, response: Response) -> HaulOut:
    """A haul with its source, route, newest run, package and arrival, and the ETag that a change needs."""
    haul = found(session, Haul, haul_id, "haul")
    response.headers["ETag"] = f'"{haul.version}"'
    return haul_out(session, haul)


@router.get("/{haul_id}/proposal")
def propose_route(haul_id: uuid.UUID, session: SessionDep) -> list[ProposedOut]:
    """The whole route that the survey of the source proposes, in order, with the reasons for each step."""
    haul = found(session, Haul, haul_id, "haul")
    revision = session.get(Revision, haul.revision_id) if haul.revision_id else None
    if revision is None:
        raise Problem(409, "haul.empty", "There is no source yet. Drop a scene file first.", str(haul_id))
    told = ("code", "severity", "title", "text", "count", "mend", "guess", "left", "left_parts")
    rows = findings_of(session, revision.scene_id, Route.model_validate(haul.route).left)
    findings = [Finding.model_validate({name: r[name] for name in told}) for r in rows]
    proposed = propose(findings, Destination.model_validate(haul.destination))
    return [ProposedOut.model_validate(p.model_dump(by_alias=True, mode="json")) for p in proposed]


@router.get("/{haul_id}/findings")
def haul_findings(
    haul_id: uuid.UUID, session: SessionDep, of: Annotated[Literal["source", "result"], Query()] = "source"
) -> list[FindingOut]:
    """Findings of the source or of what the route made of it, with what was left as it is and why."""
    haul = found(session, Haul, haul_id, "haul")
    revision = session.get(Revision, haul.revision_id) if haul.revision_id else None
    run = session.get(Run, haul.run_id) if haul.run_id else None
    scene = (run.scene_id if run else None) if of == "result" else (revision.scene_id if revision else None)
    if scene is None:
        raise Problem(
            409, "haul.empty", "There is no such scene yet: drop a scene file, or run the route.", str(haul_id)
        )
    rows = findings_of(session, scene, Route.model_validate(haul.route).left)
    return [FindingOut.model_validate(r) for r in rows]


@router.patch("/{haul_id}")
def edit_haul(
    haul_id: uuid.UUID, edit: HaulEdit, session: SessionDep, response: Response, if_match: IfMatch = None
) -> HaulOut:
    """Name, destination or route. Needs If-Match with the ETag that was read."""
    haul = found(session, Haul, haul_id, "haul", lock=True)
    check_version(haul, if_match)
    before = state_of(haul)
    if edit.name is not None:
        haul.name = clean(edit.name)
    if edit.destination is not None:
        haul.destination = destination_named(session, edit.destination).model_dump(by_alias=True, mode="json")
    if edit.route is not None:
        route = parse_route(edit.route.model_dump(mode="json"), Route.model_validate(haul.route))
        haul.route = route.model_dump(by_alias=True, mode="json")
    keep(session, haul, before)
    return changed(session, haul, response)


@router.post("/{haul_id}/undo")
def undo(haul_id: uuid.UUID, session: SessionDep, response: Response, if_match: IfMatch = None) -> HaulOut:
    """Takes back the newest change of name, destination, route or source. Needs If-Match with the ETag that was read."""
    return turned_back(session, haul_id, response, if_match, again=False)


@router.post("/{haul_id}/redo")
def redo(haul_id: uuid.UUID, session: SessionDep, response: Response, if_match: IfMatch = None) -> HaulOut:
    """Does again what was undone last, until something else is changed. Needs If-Match with the ETag that was read."""
    return turned_back(session, haul_id, response, if_match, again=True)


def turned_back(session: Session, haul_id: uuid.UUID, response: Response, if_match: str | None, again: bool) -> HaulOut:
    haul = found(session, Haul, haul_id, "haul", lock=True)
    check_version(haul, if_match)
    edit = next_edit(session, haul, again)
    if edit is None:
        raise no_change("haul", str(haul_id), again)
    # work that is going on belongs to the source that is there
    if moves_source(haul, edit.state) and active_job(session, haul.id) is not None:
        raise busy(haul_id)
    turn_back(session, haul, edit)
    return changed(session, haul, response)


def changed(session: Session, haul: Haul, response: Response) -> HaulOut:
    """The haul after a change, with the version that the next one needs."""
    haul.version += 1
    session.flush()
    response.headers["ETag"] = f'"{haul.version}"'
    return haul_out(session, haul)


@router.delete("/{haul_id}", status_code=204)
def delete_haul(
    haul_id: uuid.UUID,
    session: SessionDep,
    state: StateDep,
    response: Response,
    for_good: Annotated[bool, Query(alias="forGood")] = False,
    if_match: IfMatch = None,
) -> None:
    """Deletes the haul with its runs. Work that waits is cancelled. It can be restored for some days, unless it is
    deleted for good; files that nothing points at any more are freed then."""
    haul = session.get(Haul, haul_id, with_for_update=True, populate_existing=True)
    if haul is None or (haul.deleted is not None and not for_good):
        raise unknown("haul", haul_id)
    check_version(haul, if_match)
    unfinished = select(Job).where(Job.haul_id == haul_id, Job.state.in_(("waiting", "running")))
    for job in session.scalars(unfinished.with_for_update()):
        if not unclaimed(session, job.id) and job.kind != "preview":
            raise busy(haul_id)
        stop(session, job)
    if for_good:
        session.delete(haul)
        state.manager.tidy_soon()
        return
    haul.deleted, haul.version = datetime.now(UTC), haul.version + 1
    response.headers["ETag"] = f'"{haul.version}"'


@router.post("/{haul_id}/restore")
def restore_haul(haul_id: uuid.UUID, session: SessionDep, response: Response) -> HaulOut:
    """Takes back that a haul was deleted; it is as it was."""
    haul = session.get(Haul, haul_id, with_for_update=True, populate_existing=True)
    if haul is None:
        raise unknown("haul", haul_id)
    if haul.deleted is None:
        raise Problem(409, "haul.not-deleted", "The haul is not deleted; there is nothing to restore.", str(haul_id))
    haul.deleted = None
    return changed(session, haul, response)


def start(
    kind: str,
    haul_id: uuid.UUID,
    session: Session,
    state: State,
    after: BackgroundTasks,
    arguments: dict[str, Any] | None = None,
) -> JobOut:
    haul = found(session, Haul, haul_id, "haul")
    if haul.revision_id is None:
        raise Problem(409, "haul.empty", "There is no source yet. Drop a scene file first.", str(haul_id))
    if kind == "pack" and haul.run_id is None:
        raise Problem(409, "haul.not-run", "The route has not run yet. Run it first.", str(haul_id))
    if kind == "arrive" and haul.package_id is None:
        raise Problem(409, "haul.not-packed", "There is no package yet. Pack first.", str(haul_id))
    job = new_job(session, haul, kind, arguments)
    after.add_task(state.manager.submit, job.id)
    return JobOut.model_validate(job)


@router.post("/{haul_id}/run", status_code=202)
def run_route(haul_id: uuid.UUID, session: SessionDep, state: StateDep, after: BackgroundTasks) -> JobOut:
    """Executes the route over the newest revision."""
    return start("run", haul_id, session, state, after)


@router.post("/{haul_id}/pack", status_code=202)
def pack_haul(
    haul_id: uuid.UUID, request: PackRequest, session: SessionDep, state: StateDep, after: BackgroundTasks
) -> JobOut:
    """Writes the newest run as a package."""
    format_named(request.format)
    return start("pack", haul_id, session, state, after, {"format": request.format})


@router.post("/{haul_id}/arrive", status_code=202)
def arrive_haul(haul_id: uuid.UUID, session: SessionDep, state: StateDep, after: BackgroundTasks) -> JobOut:
    """Lets the stand-in receiver read the package and compares it with the source."""
    return start("arrive", haul_id, session, state, after)
