"""Jobs, packages and arrivals."""

from __future__ import annotations

import io
import uuid
import zipfile
from collections.abc import Callable, Iterator
from typing import Annotated, Any, Literal
from urllib.parse import quote

import orjson
from fastapi import Query, Response
from fastapi.responses import StreamingResponse
from sqlalchemy import text

from tidy_caravan.server.api.context import SessionDep, StateDep, found, stop
from tidy_caravan.server.api.requests import router as new_router
from tidy_caravan.server.api.schemas import ArrivalOut, ArrivalPage, ArrivalRowOut, JobOut
from tidy_caravan.server.db.models import Arrival, Haul, Job, PackageRow, Run
from tidy_caravan.server.problems import Problem

router = new_router("/api", "deliveries")
FIXED_TIME = (1980, 1, 1, 0, 0, 0)
FIELDS = {(f.alias or name): name for name, f in ArrivalRowOut.model_fields.items()}
PACKED = "coalesce((SELECT p.name FROM part p WHERE p.scene_id = :packed AND p.node = r.node LIMIT 1), '')"
"""What a row's part was called when it was packed."""
SELECTED = ", ".join(f'{PACKED if name == "name" else name} AS "{alias}"' for alias, name in FIELDS.items())


@router.get("/jobs/{job_id}")
def read_job(job_id: uuid.UUID, session: SessionDep) -> JobOut:
    """How far a job is, or how it ended."""
    return JobOut.model_validate(found(session, Job, job_id, "job"))


@router.post("/jobs/{job_id}/cancel", status_code=202)
def cancel_job(job_id: uuid.UUID, session: SessionDep) -> JobOut:
    """Asks the job to stop at the next safe place; what is there already stays."""
    job = found(session, Job, job_id, "job", lock=True)
    if job.state in ("done", "failed", "cancelled"):
        raise Problem(409, "job.over", "The work is over already.", str(job_id))
    stop(session, job)
    return JobOut.model_validate(job)


@router.get("/jobs/{job_id}/view", response_class=Response)
def preview_view(
    job_id: uuid.UUID, session: SessionDep, state: StateDep, side: Literal["before", "after"] = "after"
) -> Response:
    """The view file that a preview made; of a step of a run there are two."""
    job = found(session, Job, job_id, "job")
    key = (
        job.arguments.get("before" if side == "before" else "view")
        if job.kind == "preview" and job.state == "done"
        else None
    )
    if not isinstance(key, str):
        raise Problem(
            409, "preview.not-ready", "There is nothing to look at yet. Wait for the job to end.", str(job_id)
        )
    try:
        data = state.store.get(key)
    except FileNotFoundError as error:
        raise Problem(404, "preview.gone", "The preview was tidied away. Ask for it again.", str(job_id)) from error
    return Response(data, media_type="application/octet-stream", headers={"Cache-Control": "no-store"})


@router.get("/packages/{package_id}/download", response_class=Response)
def download(package_id: uuid.UUID, session: SessionDep, state: StateDep) -> Response:
    """All files and the manifest as one zip; the same package gives the same bytes."""
    package = found(session, PackageRow, package_id, "package")
    haul = session.get_one(Haul, package.haul_id)
    files = [(f["path"], f["key"]) for f in package.files]
    plain = (
        "".join(c if c.isalnum() or c in "-_" else "-" for c in haul.name)[:80].encode("ascii", "ignore").decode()
        or "package"
    )
    name = f"{plain}-{haul.destination['name']}-{package.format}.zip"
    disposition = f"attachment; filename=\"{name}\"; filename*=UTF-8''{quote(name)}"
    return StreamingResponse(
        zipped(files, state.store.get), media_type="application/zip", headers={"Content-Disposition": disposition}
    )


def zipped(files: list[tuple[str, str]], get: Callable[[str], bytes]) -> Iterator[bytes]:
    """A zip of (path, key) piece by piece; one file is in memory at a time, and every time has the same date."""
    out = Outgoing()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=4) as archive:
        for path, key in files:
            entry = zipfile.ZipInfo(path, FIXED_TIME)
            entry.compress_type = zipfile.ZIP_DEFLATED
            entry.external_attr = 0o644 << 16
            archive.writestr(entry, get(key))
            yield out.taken()
    yield out.taken()


class Outgoing(io.RawIOBase):
    """A file that cannot be wound back, whose bytes are taken as they come."""

    def __init__(self) -> None:
        self.pieces: list[bytes] = []

    def writable(self) -> bool:
        return True

    def write(self, data: Any) -> int:
        self.pieces.append(bytes(data))
        return len(data)

    def taken(self) -> bytes:
        out = b"".join(self.pieces)
        self.pieces.clear()
        return out


@router.get("/packages/{package_id}/manifest", response_class=Response)
def manifest(package_id: uuid.UUID, session: SessionDep, state: StateDep) -> Response:
    """What is in the package and what was done to it, as it lies beside its files."""
    package = found(session, PackageRow, package_id, "package")
    keys = {f["path"]: f["key"] for f in package.files}
    return Response(state.store.get(keys["manifest.json"]), media_type="application/json")


@router.get("/arrivals/{arrival_id}")
def read_arrival(arrival_id: uuid.UUID, session: SessionDep) -> ArrivalOut:
    """What the comparison came to: the verdict, its reasons, and how many parts are right."""
    return ArrivalOut.model_validate(found(session, Arrival, arrival_id, "arrival"))


@router.get("/arrivals/{arrival_id}/rows", responses={200: {"model": ArrivalPage}}, response_class=Response)
def arrival_rows(
    arrival_id: uuid.UUID,
    session: SessionDep,
    sort: Literal[
        "rank", "path", "positionMm", "sizeRatio", "rotationDeg", "normalDeg", "pivotMm", "surfaceMm"
    ] = "rank",
    descending: bool = False,
    search: Annotated[str, Query(max_length=200)] = "",
    offset: Annotated[int, Query(ge=0, le=100_000_000)] = 0,
    limit: Annotated[int, Query(ge=1, le=1000)] = 200,
) -> Response:
    """Compared parts, worst first."""
    arrival = found(session, Arrival, arrival_id, "arrival")
    run = session.get_one(Run, session.get_one(PackageRow, arrival.package_id).run_id)
    escaped = search.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_").replace("\0", "")
    values: dict[str, Any] = {
        "id": arrival_id, "search": f"%{escaped}%", "offset": offset, "limit": limit, "packed": run.scene_id,
    }  # fmt: skip
    where = "arrival_id = :id" + (" AND path ILIKE :search" if search else "")
    direction = "DESC" if descending else "ASC"
    query = f'SELECT {SELECTED} FROM arrival_row r WHERE {where} ORDER BY "{FIELDS[sort]}" {direction}, rank OFFSET :offset LIMIT :limit'
    items = [dict(r) for r in session.execute(text(query), values).mappings()]
    total = session.execute(text(f"SELECT count(*) FROM arrival_row WHERE {where}"), values).scalar_one()
    return Response(orjson.dumps({"total": total, "items": items}), media_type="application/json")
