"""What a worker process does for each kind of job. Arguments and results are keys and rows, not arrays."""

from __future__ import annotations

import hashlib
import tempfile
import time
import uuid
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import orjson
import psycopg
from sqlalchemy import text
from sqlalchemy.orm import Session

from tidy_caravan.core.arrival.compare import arrive
from tidy_caravan.core.carry import package_of
from tidy_caravan.core.conventions.destinations import Destination
from tidy_caravan.core.errors import Cancelled, CaravanError
from tidy_caravan.core.formats import Bundle, Limits, bundles_from_files
from tidy_caravan.core.formats.merge import load_all
from tidy_caravan.core.formats.pictures import supply
from tidy_caravan.core.formats.travel import with_supplied
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import Route, StepRecord, as_read, run
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.survey import Finding, survey
from tidy_caravan.server.db.models import Arrival, FindingRow, Haul, Job, PackageRow, Revision, Run, SceneRow
from tidy_caravan.server.db.session import clean_json, session_for
from tidy_caravan.server.jobs.record import record_arrival_rows, record_scene
from tidy_caravan.server.store.blobs import Store
from tidy_caravan.server.store.scenes import StoreCache, load_scene

CHANNEL = "caravan"
TELL_SECONDS = 0.25


class Progress:
    """Tells how far a job is, and raises Cancelled when the user stopped it. One connection of its own."""

    def __init__(self, database: str, job: uuid.UUID, haul: uuid.UUID) -> None:
        self.connection = psycopg.connect(database.replace("+psycopg", ""), autocommit=True)
        self.job, self.haul, self.last = job, haul, 0.0

    def __call__(self, title: str, done: int, total: int) -> None:
        now = time.monotonic()
        if now - self.last < TELL_SECONDS:
            return
        self.last = now
        row = self.connection.execute(
            "UPDATE job SET title = %s, done = %s, total = %s WHERE id = %s RETURNING cancel",
            (title, done, total, self.job),
        ).fetchone()
        self.tell(state="running", title=title, done=done, total=total)
        if row is None or row[0]:
            raise Cancelled("stopped by the user")

    def tell(self, **facts: Any) -> None:
        message = orjson.dumps({"job": str(self.job), "haul": str(self.haul), **facts}).decode()
        self.connection.execute("SELECT pg_notify(%s, %s)", (CHANNEL, message[:7900]))


def perform(job_id: str, database: str, store_address: str, upload_bytes: int) -> str:
    """Runs one job from its row to its end; returns the final state. Everything it makes is committed at once."""
    job_key = uuid.UUID(job_id)
    with session_for(database) as session:
        job = session.get(Job, job_key)
        if job is None or job.state not in ("waiting", "running"):
            return "gone"
        job.state, job.attempts = "running", job.attempts + 1
        kind, haul_id, arguments = job.kind, job.haul_id, dict(job.arguments)
    progress = Progress(database, job_key, haul_id)
    work = {"import": do_import, "supply": do_supply, "run": do_run, "pack": do_pack, "arrive": do_arrive}
    problem: dict[str, Any] | None = None
    try:
        progress.tell(state="running", title=kind, done=0, total=0)
        with session_for(database) as session:
            haul = session.get(Haul, haul_id)
            if haul is None:
                raise CaravanError("the haul was deleted meanwhile", code="haul.gone")
            for one in arguments.get("chain", [kind]):
                work[one](session, Store(store_address), haul, arguments, progress, Limits(upload_bytes=upload_bytes))
                session.flush()
            finished = session.get(Job, job_key)
            if finished is not None:
                finished.state, finished.done, finished.total = "done", 1, 1
        state = "done"
    except Cancelled:
        state = "cancelled"
    except CaravanError as error:
        state, problem = "failed", {"code": error.code, "title": error.sentence(), "where": error.where}
    except MemoryError:
        state, problem = (
            "failed",
            {"code": "job.memory", "title": "The scene needs more memory than a worker may have.", "where": kind},
        )
    except Exception as error:  # a fault of ours must end as a sentence, not as a lost job
        state = "failed"
        problem = {
            "code": "job.fault",
            "title": f"An unexpected fault stopped the work ({type(error).__name__}: {error})."[:500],
            "where": kind,
        }
    if state != "done":
        with session_for(database) as session:
            session.execute(
                text("UPDATE job SET state = :state, problem = CAST(:problem AS jsonb) WHERE id = :id"),
                {"state": state, "problem": orjson.dumps(clean_json(problem)).decode(), "id": job_key},
            )
    progress.tell(state=state, title=kind, done=1, total=1, problem=problem)
    progress.connection.close()
    return state


def destination_of(haul: Haul) -> Destination:
    return Destination.model_validate(haul.destination)


def do_import(
    session: Session, store: Store, haul: Haul, arguments: dict[str, Any], progress: Progress, limits: Limits
) -> None:
    """Reads the uploaded files into a revision."""
    progress("reading the file", 0, 4)
    files = {name: store.get(key) for name, key in arguments["files"]}

    def tell(what: str = "", done: int = 0, total: int = 0) -> None:
        # native readers say how far they are, and now and then nothing, which still lets cancel through
        progress(what or "reading the file", done, total)

    bundles = bundles_from_files(files, limits, tell)
    bundle = bundles[0]
    scene = load_all(bundles, lambda name: progress(f"reading {name}", 0, len(bundles)))
    keep_revision(session, store, haul, scene, progress, bundle, arguments["files"], [b.main for b in bundles])


def do_supply(
    session: Session, store: Store, haul: Haul, arguments: dict[str, Any], progress: Progress, limits: Limits
) -> None:
    """Puts pictures that were missing into a new revision; the model is not read again."""
    progress("looking for the missing pictures", 0, 4)
    revision, row = revision_of(session, haul)
    files = {name: store.get(key) for name, key in arguments["files"]}
    scene, filled = supply(load_scene(store, row.store_key), files)
    if not filled:
        raise CaravanError(
            "none of the files bears the name of a missing picture; the travel list names them", code="supply.nothing"
        )
    names = {name for name, _ in arguments["files"]}
    together = [*(f for f in revision.files if f[0] not in names), *arguments["files"]]
    keep_revision(session, store, haul, with_supplied(scene), progress, revision, together)


def keep_revision(
    session: Session,
    store: Store,
    haul: Haul,
    scene: Scene,
    progress: Progress,
    origin: Bundle | Revision,
    files: list[Any],
    mains: Sequence[str] = (),
) -> None:
    """Surveys a source and stores it as the haul's newest revision."""
    progress("surveying", 1, 4)
    findings = survey(scene, destination_of(haul))
    progress("storing parts", 2, 4)
    scene_id = record_scene(session, store, haul.id, "source", scene, findings)
    progress("done", 4, 4)
    if isinstance(origin, Bundle):
        digest = hashlib.sha256(origin.data).hexdigest()
        name = ", ".join(mains) if mains else origin.main
    else:
        name, digest = origin.name, origin.sha256
    revision = Revision(
        id=uuid.uuid4(), haul_id=haul.id, scene_id=scene_id, name=name, sha256=digest, files=clean_json(files)
    )
    session.add(revision)
    haul.revision_id, haul.source_name = revision.id, name[:300]
    haul.run_id = haul.package_id = haul.arrival_id = None


def revision_of(session: Session, haul: Haul) -> tuple[Revision, SceneRow]:
    revision = session.get(Revision, haul.revision_id) if haul.revision_id else None
    scene = session.get(SceneRow, revision.scene_id) if revision else None
    if revision is None or scene is None:
        raise CaravanError("there is no source yet; drop a scene file first", code="haul.empty")
    return revision, scene


def do_run(
    session: Session, store: Store, haul: Haul, arguments: dict[str, Any], progress: Progress, limits: Limits
) -> None:
    """Executes the route over the newest revision and surveys the result."""
    revision, row = revision_of(session, haul)
    started = time.monotonic()
    progress("loading the source", 0, 1)
    scene = load_scene(store, row.store_key)
    route, destination = Route.model_validate(haul.route), destination_of(haul)
    result, records = run(scene, route, destination, progress=progress, cache=StoreCache(store))
    progress("surveying", 1, 1)
    findings = survey(result, destination)
    scene_id = record_scene(session, store, haul.id, "run", result, findings)
    reference = as_read(scene, route, destination)
    read_id = row.id
    if reference.convention != scene.convention or reference.meshes is not scene.meshes:
        read_id = record_scene(session, store, haul.id, "source", reference, [], whole=False)
    one = Run(
        id=uuid.uuid4(),
        haul_id=haul.id,
        revision_id=revision.id,
        scene_id=scene_id,
        read_scene_id=read_id,
        destination=haul.destination,
        route=haul.route,
        records=clean_json([r.model_dump(by_alias=True, mode="json") for r in records]),
        seconds=time.monotonic() - started,
    )
    session.add(one)
    session.flush()
    haul.run_id, haul.package_id, haul.arrival_id = one.id, None, None


def do_pack(
    session: Session, store: Store, haul: Haul, arguments: dict[str, Any], progress: Progress, limits: Limits
) -> None:
    """Writes the newest run as files with their manifest."""
    done = session.get(Run, haul.run_id) if haul.run_id else None
    if done is None:
        raise CaravanError("there is no run yet; run the route first", code="haul.not-run")
    revision, source_row = revision_of(session, haul)
    scene_row = session.get_one(SceneRow, done.scene_id)
    progress("loading", 0, 3)
    source, scene = load_scene(store, source_row.store_key), load_scene(store, scene_row.store_key)
    findings = [
        Finding(code=f.code, severity=f.severity, title=f.title, text=f.text, count=f.count)  # type: ignore[arg-type]
        for f in session.query(FindingRow).where(FindingRow.scene_id == scene_row.id).order_by(FindingRow.rank)
    ]
    progress("writing", 1, 3)
    package = package_of(
        scene,
        source,
        revision.name,
        revision.sha256,
        Destination.model_validate(done.destination),
        Route.model_validate(done.route),
        arguments.get("format", "glb"),
        [StepRecord.model_validate(r) for r in done.records],
        findings,
    )
    progress("storing", 2, 3)
    files = [{"path": k, "bytes": len(v), "key": store.put_blob(v)} for k, v in package.files.items()]
    row = PackageRow(
        id=uuid.uuid4(),
        haul_id=haul.id,
        run_id=done.id,
        format=package.manifest.format,
        files=clean_json(files),
        remarks=clean_json(package.manifest.remarks),
        behind=clean_json(package.manifest.behind),
    )
    session.add(row)
    session.flush()
    haul.package_id, haul.arrival_id = row.id, None


def do_arrive(
    session: Session, store: Store, haul: Haul, arguments: dict[str, Any], progress: Progress, limits: Limits
) -> None:
    """Lays the package on disk, lets the stand-in receiver read it and compares."""
    package = session.get(PackageRow, haul.package_id) if haul.package_id else None
    if package is None:
        raise CaravanError("there is no package yet; pack first", code="haul.not-packed")
    done = session.get_one(Run, package.run_id)
    _, source_row = revision_of(session, haul)
    progress("loading", 0, 4)
    source = as_read(
        load_scene(store, source_row.store_key),
        Route.model_validate(done.route),
        Destination.model_validate(done.destination),
    )
    with tempfile.TemporaryDirectory(prefix="caravan-arrival-") as folder:
        progress("laying the package out", 1, 4)
        contents = {f["path"]: store.get(f["key"]) for f in package.files}
        save(contents, Path(folder))
        progress("reading as the destination reads", 2, 4)
        report, arrived = arrive(Path(folder), source)
    origin = np.full(len(arrived.nodes), -1, np.int64)
    origin[[r.node for r in report.rows]] = [r.source_id for r in report.rows]
    arrived = arrived.but(nodes=replace(arrived.nodes, source=origin))
    progress("storing", 3, 4)
    scene_id = record_scene(session, store, haul.id, "arrived", arrived, [], whole=False)
    row = Arrival(
        id=uuid.uuid4(),
        haul_id=haul.id,
        package_id=package.id,
        scene_id=scene_id,
        report=clean_json(report.model_copy(update={"rows": []}).model_dump(by_alias=True, mode="json")),
    )
    session.add(row)
    session.flush()
    record_arrival_rows(session, row.id, report)
    haul.arrival_id = row.id
