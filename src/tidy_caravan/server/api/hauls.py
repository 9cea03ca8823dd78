"""Hauls: list, begin with a file, read, edit, delete, and start work on them."""

from __future__ import annotations

import uuid
from pathlib import PurePosixPath
from typing import Annotated, Any

from fastapi import APIRouter, BackgroundTasks, File, Form, Header, Response, UploadFile
from sqlalchemy import select
from sqlalchemy.orm import Session

from tidy_caravan.core.conventions.destinations import BUILT_IN, Destination
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.figures import Counts
from tidy_caravan.core.formats.bundle import safe_relative
from tidy_caravan.core.formats.registry import format_named
from tidy_caravan.core.route import Route, default_route, parse_route
from tidy_caravan.server.api.context import (
    SessionDep,
    State,
    StateDep,
    active_job,
    check_version,
    destination_named,
    found,
    new_job,
)
from tidy_caravan.server.api.schemas import (
    ArrivalOut,
    FileOut,
    HaulEdit,
    HaulOut,
    HaulSummary,
    JobOut,
    Open,
    PackageOut,
    PackRequest,
    RevisionOut,
    RunOut,
    SceneOut,
)
from tidy_caravan.server.db.models import Arrival, FindingRow, Haul, Job, PackageRow, Revision, Run, SceneRow
from tidy_caravan.server.db.session import clean
from tidy_caravan.server.problems import Problem

router = APIRouter(prefix="/api/hauls", tags=["hauls"])
IfMatch = Annotated[str | None, Header(alias="If-Match")]
MOST_FILES = 5000


def open_points(session: Session, haul: Haul) -> Open:
    """What is still open per station, counted from what is stored."""
    arrival = session.get(Arrival, haul.arrival_id) if haul.arrival_id else None
    run = session.get(Run, haul.run_id) if haul.run_id else None
    scene = run.scene_id if run else None
    if scene is None and haul.revision_id:
        revision = session.get(Revision, haul.revision_id)
        scene = revision.scene_id if revision else None
    findings: dict[str, int] = {}
    mendable = light = 0
    if scene is not None:
        rows = session.execute(
            select(FindingRow.severity, FindingRow.code, FindingRow.mend.is_not(None)).where(
                FindingRow.scene_id == scene
            )
        )
        for severity, code, has_mend in rows:
            findings[severity] = findings.get(severity, 0) + 1
            if severity != "info":
                mendable += bool(has_mend)
                light += code == "uv.second-missing"
    serious = findings.get("error", 0) + findings.get("warning", 0)
    faults = 0
    if arrival is not None:
        report = arrival.report
        faults = report["faulty"] + len(report["lost"]) + len(report["extra"]) + len(report["problems"])
    if haul.revision_id is None:
        state = "no source"
    elif arrival is not None:
        state = "arrived" if arrival.report["ok"] else "arrived with faults"
    elif haul.package_id is not None:
        state = "packed"
    elif haul.run_id is not None:
        state = "run"
    else:
        state = "surveyed"
    return Open(
        load=int(haul.revision_id is None),
        survey=serious,
        mend=mendable,
        light=light,
        pack=int(haul.package_id is None),
        arrive=faults if arrival is not None else int(haul.arrival_id is None),
        state=state,
    )


def last_job(session: Session, haul: uuid.UUID) -> JobOut | None:
    """The job at work, or else the last one, so that a failure stays to be read."""
    job = (
        active_job(session, haul)
        or session.scalars(select(Job).where(Job.haul_id == haul).order_by(Job.created.desc()).limit(1)).first()
    )
    return JobOut.model_validate(job) if job is not None else None


def whole(session: Session, haul: Haul) -> HaulOut:
    # the job first: it ends in one commit with what it made, so a haul read after it is never older
    job = last_job(session, haul.id)
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
        stale = run.route != haul.route or run.destination != haul.destination
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
        route=Route.model_validate(haul.route),
        revision=RevisionOut.model_validate(revision) if revision else None,
        source=scene(revision.scene_id if revision else None),
        run=run_out,
        result=scene(run.scene_id if run else None),
        package=package_out,
        arrival=ArrivalOut.model_validate(arrival) if arrival else None,
        open=open_points(session, haul),
        job=job,
    )


@router.get("")
def list_hauls(session: SessionDep) -> list[HaulSummary]:
    """All hauls, newest first."""
    out = []
    for haul in session.scalars(select(Haul).order_by(Haul.created.desc(), Haul.id).limit(500)):
        revision = session.get(Revision, haul.revision_id) if haul.revision_id else None
        scene = session.get(SceneRow, revision.scene_id) if revision else None
        out.append(
            HaulSummary(
                id=haul.id,
                name=haul.name,
                source_name=haul.source_name,
                destination_title=haul.destination["title"],
                created=haul.created,
                counts=Counts.model_validate(scene.counts) if scene else None,
                picture=f"/api/scenes/{scene.id}/picture.png" if scene else None,
                open=open_points(session, haul),
                job=last_job(session, haul.id),
            )
        )
    return out


def stored_files(state: State, uploads: list[UploadFile]) -> list[list[str]]:
    """[path, key] of every upload. Paths of folder drops are kept; escaping ones are refused."""
    if len(uploads) > MOST_FILES:
        raise Problem(413, "upload.too-many", f"More than {MOST_FILES} files at once. Send them as a zip.", "files")
    out = []
    total = 0
    for upload in uploads:
        try:
            path = safe_relative((upload.filename or "scene").replace("%", "%25"))
        except UnusableInput as error:
            raise Problem(422, "upload.path", f"{error.what}.", (upload.filename or "")[:200]) from error
        data = upload.file.read()
        total += len(data)
        if total > state.settings.upload_bytes:
            raise Problem(
                413,
                "upload.too-large",
                f"The upload is larger than {state.settings.upload_bytes >> 20} MiB.",
                path[:200],
            )
        out.append([clean(path), state.store.put_blob(data)])
    if not out or not any(path for path, _ in out):
        raise Problem(422, "upload.empty", "There is no file in the upload. Drop a scene file.", "files")
    return out


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
    return whole(session, haul)


@router.get("/{haul_id}")
def read_haul(haul_id: uuid.UUID, session: SessionDep, response: Response) -> HaulOut:
    haul = found(session, Haul, haul_id, "haul")
    response.headers["ETag"] = f'"{haul.version}"'
    return whole(session, haul)


@router.patch("/{haul_id}")
def edit_haul(
    haul_id: uuid.UUID, edit: HaulEdit, session: SessionDep, response: Response, if_match: IfMatch = None
) -> HaulOut:
    """Name, destination or route. Needs If-Match with the ETag that was read."""
    found(session, Haul, haul_id, "haul")
    haul = session.scalars(
        select(Haul).where(Haul.id == haul_id).with_for_update().execution_options(populate_existing=True)
    ).one()
    check_version(haul, if_match)
    if edit.name is not None:
        haul.name = clean(edit.name)
    if edit.destination is not None:
        haul.destination = destination_named(session, edit.destination).model_dump(by_alias=True, mode="json")
    if edit.route is not None:
        haul.route = parse_route(edit.route.model_dump(mode="json")).model_dump(by_alias=True, mode="json")
    haul.version += 1
    session.flush()
    response.headers["ETag"] = f'"{haul.version}"'
    return whole(session, haul)


@router.delete("/{haul_id}", status_code=204)
def delete_haul(haul_id: uuid.UUID, session: SessionDep, state: StateDep, if_match: IfMatch = None) -> None:
    """Deletes the haul with its runs; files in the store that others share stay."""
    haul = found(session, Haul, haul_id, "haul")
    check_version(haul, if_match)
    if active_job(session, haul_id) is not None:
        raise Problem(409, "job.busy", "Work on this haul is going on. Wait for it or cancel it first.", str(haul_id))
    session.delete(haul)


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
