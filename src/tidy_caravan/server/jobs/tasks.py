"""What a worker process does for each kind of job. Arguments and results are keys and rows, not arrays."""

from __future__ import annotations

import logging
import tempfile
import time
import uuid
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
import orjson
import psycopg
from sqlalchemy import select, text
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session

from tidy_caravan.core.carry import package_of, prove
from tidy_caravan.core.conventions.destinations import Destination
from tidy_caravan.core.errors import Cancelled, CaravanError
from tidy_caravan.core.formats import Limits, bundles_from_files, digest_of
from tidy_caravan.core.formats.merge import load_all
from tidy_caravan.core.formats.opening import told_unknown, unknown_among
from tidy_caravan.core.formats.shared.images import supply
from tidy_caravan.core.formats.shared.travel import with_supplied
from tidy_caravan.core.identity import (
    Followed,
    follow,
    labels_now,
    moved,
    notes_of_gone,
    path_of_lead,
    picked_by_hand,
    set_after,
    under_one_label,
)
from tidy_caravan.core.loading import seldom
from tidy_caravan.core.packing.pack import save
from tidy_caravan.core.route import Route, StepRecord, as_read, assignment_of, first_steps, read_convention, run
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.identity import spans_of
from tidy_caravan.core.space.site import as_before
from tidy_caravan.core.steps import Step, StepContext, parse_step
from tidy_caravan.core.survey import Finding, survey
from tidy_caravan.core.work.heavy import Workshop
from tidy_caravan.server.db.models import Arrival, FindingRow, Haul, PackageRow, Revision, Run, SceneRow
from tidy_caravan.server.db.naming import source_of
from tidy_caravan.server.db.session import clean_json, engine_for, session_for
from tidy_caravan.server.edits import keep, state_of, told_of_files
from tidy_caravan.server.faults import disk_full, keep_log
from tidy_caravan.server.jobs.claims import CHANNEL, claim, notice, still_ours
from tidy_caravan.server.jobs.crew import ClusterCrew
from tidy_caravan.server.jobs.record import record_arrival_rows, record_scene
from tidy_caravan.server.store.blobs import Store
from tidy_caravan.server.store.results import StoreResults
from tidy_caravan.server.store.scenes import StoreSteps, load_scene
from tidy_caravan.server.view import view_bytes

TELL_SECONDS = 0.25
log = logging.getLogger("tidy_caravan.jobs")


class Progress:
    """Tells how far a job is, and raises Cancelled when the user stopped it. One connection of its own."""

    def __init__(self, connection: psycopg.Connection[Any], job: uuid.UUID, haul: uuid.UUID) -> None:
        self.connection = connection
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
        self.connection.execute("SELECT pg_notify(%s, %s)", (CHANNEL, notice(self.job, self.haul, **facts)))


class LostClaim(Exception):
    """Another worker took the job over meanwhile; nothing of this attempt is kept."""


def perform(job_id: str, database: str, store_address: str, upload_bytes: int, log_file: str = "") -> str:
    """Runs one job from its row to its end; returns the final state. Everything it makes is committed at once.

    `held` when another worker has it, `gone` when there is nothing to do, `again` when the line to the database broke:
    the job is then as it was, and is taken up again.
    """
    job_key = uuid.UUID(job_id)
    keep_log(log_file)
    seldom()
    try:
        with psycopg.connect(database.replace("+psycopg", ""), autocommit=True, connect_timeout=10) as connection:
            claimed = claim(connection, job_key)
            if claimed is None:
                held = connection.execute(
                    "SELECT 1 FROM job WHERE id = %s AND state IN ('waiting', 'running')", (job_key,)
                ).fetchone()
                return "held" if held else "gone"
            return _perform(connection, job_key, claimed, database, store_address, upload_bytes)
    except (psycopg.OperationalError, psycopg.InterfaceError, DBAPIError, LostClaim) as error:
        if isinstance(error, DBAPIError) and not broken_line(error):
            raise
        log.warning("the line to the database broke in job %s: %s", job_id, error)
        engine_for(database).dispose()
        time.sleep(0.5)
        return "again"


def broken_line(error: DBAPIError) -> bool:
    """Whether an error is about the connection, not about what was asked."""
    return error.connection_invalidated or isinstance(error.orig, (psycopg.OperationalError, psycopg.InterfaceError))


def _perform(
    connection: psycopg.Connection[Any],
    job_key: uuid.UUID,
    claimed: tuple[int, str, uuid.UUID, dict[str, Any]],
    database: str,
    store_address: str,
    upload_bytes: int,
) -> str:
    attempt, kind, haul_id, arguments = claimed
    progress = Progress(connection, job_key, haul_id)
    work = {
        "import": do_import, "supply": do_supply, "run": do_run, "pack": do_pack, "arrive": do_arrive,
        "preview": do_preview,
    }  # fmt: skip
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
            if not still_ours(session, job_key, attempt):
                raise LostClaim
            session.execute(
                text(
                    "UPDATE job SET state = 'done', done = 1, total = 1, arguments = CAST(:a AS jsonb) WHERE id = :id"
                ),
                {"id": job_key, "a": orjson.dumps(clean_json(arguments)).decode()},
            )
        state = "done"
    except Cancelled:
        state = "cancelled"
    except (psycopg.OperationalError, psycopg.InterfaceError, DBAPIError, LostClaim) as error:
        if disk := disk_full(error):
            state, problem = "failed", disk
        elif isinstance(error, DBAPIError) and not broken_line(error):
            state, problem = "failed", fault(error, kind)
        else:
            raise
    except CaravanError as error:
        state, problem = "failed", {"code": error.code, "title": error.sentence(), "where": error.where}
    except MemoryError:
        state, problem = (
            "failed",
            {"code": "job.memory", "title": "The scene needs more memory than a worker may have.", "where": kind},
        )
    except Exception as error:  # a fault of ours must end as a sentence, not as a lost job
        state, problem = "failed", disk_full(error) or fault(error, kind)
    if state != "done":
        with session_for(database) as session:
            session.execute(
                text(
                    "UPDATE job SET state = :state, problem = CAST(:problem AS jsonb)"
                    " WHERE id = :id AND state = 'running' AND attempts = :attempt"
                ),
                {
                    "state": state,
                    "problem": orjson.dumps(clean_json(problem)).decode(),
                    "id": job_key,
                    "attempt": attempt,
                },
            )
    progress.tell(state=state, title=kind, done=1, total=1, problem=problem)
    return state


def fault(error: BaseException, kind: str) -> dict[str, Any]:
    """A fault of ours as a problem that names its entry in the log."""
    entry = uuid.uuid4().hex[:8]
    log.error("entry %s: unexpected fault in %s", entry, kind, exc_info=error)
    return {
        "code": "job.fault",
        "title": f"An unexpected fault stopped the work; nothing was changed. The log has it as entry {entry}.",
        "where": kind,
    }


def workshop_of(session: Session, store: Store, haul: uuid.UUID | None = None) -> Workshop:
    """Heavy work of a job: shared out over the cluster, kept for everybody."""
    address = session.get_bind().engine.url.render_as_string(hide_password=False)  # as the job was told it
    return Workshop(ClusterCrew(store), StoreResults(store, address), str(haul or ""))


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
    lead = ""
    if haul.revision_id and len(bundles) > 1:
        lead = path_of_lead(load_scene(store, revision_of(session, haul)[1].store_key))
    scene = load_all(bundles, lambda name: progress(f"reading {name}", 0, len(bundles)), lead)
    origin = ", ".join(b.main for b in bundles), digest_of(bundles)
    keep_revision(session, store, haul, scene, progress, origin, arguments["files"])


def do_supply(
    session: Session, store: Store, haul: Haul, arguments: dict[str, Any], progress: Progress, limits: Limits
) -> None:
    """Puts pictures that were missing into a new revision; the model is not read again."""
    progress("looking for the missing images", 0, 4)
    revision, row = revision_of(session, haul)
    files = {name: store.get(key) for name, key in arguments["files"]}
    scene, filled = supply(load_scene(store, row.store_key), files)
    if not filled:
        if unknown := unknown_among(files):
            told = told_unknown(unknown)
            raise CaravanError(told.text, where=told.where, code="supply.unknown")
        raise CaravanError(
            "none of the files bears the name of a missing image; the travel list names them", code="supply.nothing"
        )
    names = {name for name, _ in arguments["files"]}
    together = [*(f for f in revision.files if f[0] not in names), *arguments["files"]]
    origin = revision.name, revision.sha256
    keep_revision(session, store, haul, with_supplied(scene), progress, origin, together)


def keep_revision(
    session: Session,
    store: Store,
    haul: Haul,
    scene: Scene,
    progress: Progress,
    origin: tuple[str, str],
    files: list[Any],
) -> None:
    """Surveys a source and stores it as the haul's newest revision; what was picked by hand follows its parts.

    origin: names of its models, and what stands for their content.
    """
    before = session.get(Revision, haul.revision_id) if haul.revision_id else None
    old = load_scene(store, session.get_one(SceneRow, before.scene_id).store_key) if before else None
    if old is not None:
        scene = as_before(under_one_label(old, scene), old)
    if old is not None and (picked := picked_in(Route.model_validate(haul.route))):
        scene = scene.but(notes=(*notes_of_gone(follow(old, scene, picked), picked), *scene.notes))
    scene = scene.but(identity=scene.identities)  # kept with it, so that nobody has to find them out again
    progress("surveying", 1, 4)
    findings = survey(scene, destination_of(haul), workshop_of(session, store, haul.id), progress)
    progress("storing parts", 2, 4)
    scene_id = record_scene(session, store, haul.id, "source", scene, findings)
    progress("done", 4, 4)
    name, digest = origin
    revision = Revision(
        id=uuid.uuid4(), haul_id=haul.id, scene_id=scene_id, name=name, sha256=digest, files=clean_json(files)
    )
    session.add(revision)
    # read once more, and kept from everybody else until the end: somebody may have edited it meanwhile
    session.refresh(haul, with_for_update=True)
    state = state_of(haul)
    if old is not None:
        route_follows(haul, old, scene)
    haul.revision_id, haul.source_name = revision.id, name[:300]
    haul.run_id = haul.package_id = haul.arrival_id = None
    if before is not None:
        keep(session, haul, state, told_of_files(before.files, files))
        haul.version += 1


def picked_in(route: Route) -> dict[str, list[str]]:
    """By identity, the sets and steps that name the part by hand."""
    out: dict[str, list[str]] = {}
    for one in route.sets:
        for i in picked_by_hand(one):
            out.setdefault(i, []).append(f"set “{one.name}”")
    for left in route.left:
        for i in left.parts:
            out.setdefault(i, []).append(f"left as it is: {left.code}")
    for step in route.steps:
        for i in step.where.parts:
            out.setdefault(i, []).append(f"step {step.title}")
    return out


def route_follows(haul: Haul, old: Scene, scene: Scene) -> None:
    """Gives sets and steps of the route the names that their hand-picked parts have in the new source. What was known of a
    file goes on being known of it."""
    route = before = Route.model_validate(haul.route)
    if picked := picked_in(route):
        route = with_followed(route, follow(old, scene, picked))
    were, are = ([label for label, _, _ in spans_of(s.extras)] for s in (old, scene))
    if were != are:
        labels = labels_now(old, scene)
        route = route.model_copy(update={"steps": [s.with_files(were, are, labels) for s in route.steps]})
    if route is not before:
        haul.route = route.model_dump(by_alias=True, mode="json")


def with_followed(route: Route, followed: Followed) -> Route:
    """The route whose sets, steps and what was left name their hand-picked parts as they are called now."""
    steps: list[Step] = []
    for step in route.steps:
        if step.where.parts:
            now = moved(step.where.parts, followed)
            # a step whose parts are all gone would be for every part: it is switched off instead
            where = step.where.model_copy(update={"parts": now})
            step = step.model_copy(update={"where": where, **({} if now else {"enabled": False})})
        steps.append(step)
    # what was said of parts that are all gone would be said of all: it goes with them
    left = [one.model_copy(update={"parts": moved(one.parts, followed)}) for one in route.left]
    left = [now for now, was in zip(left, route.left, strict=True) if now.parts or not was.parts]
    return Route(steps=steps, sets=[set_after(s, followed) for s in route.sets], left=left)


def revision_of(session: Session, haul: Haul) -> tuple[Revision, SceneRow]:
    revision = session.get(Revision, haul.revision_id) if haul.revision_id else None
    scene = session.get(SceneRow, revision.scene_id) if revision else None
    if revision is None or scene is None:
        raise CaravanError("there is no source yet; drop a scene file first", code="haul.empty")
    return revision, scene


def do_preview(
    session: Session, store: Store, haul: Haul, arguments: dict[str, Any], progress: Progress, limits: Limits
) -> None:
    """The view file of a scene as a step would make it, or of what a run was before and after one of its steps; keys
    are left in the job's arguments, nothing else is kept."""
    progress("loading the source", 0, 2)
    if "run" in arguments:
        done = session.get(Run, uuid.UUID(arguments["run"]))
        row = session.get(SceneRow, session.get_one(Revision, done.revision_id).scene_id) if done else None
        if done is None or row is None:
            raise CaravanError("the run was replaced meanwhile", code="run.gone")
        source, route = load_scene(store, row.store_key), Route.model_validate(done.route)
        destination = Destination.model_validate(done.destination)
        kept, workshop = StoreSteps(store, row.store_key), workshop_of(session, store, haul.id)
        for name, count in (("before", arguments["step"] - 1), ("view", arguments["step"])):
            made, _ = run(
                source, first_steps(route, count), destination, progress=progress, workshop=workshop, kept=kept
            )
            arguments[name] = store.put_blob(view_bytes(made))
        return
    scene = load_scene(store, arguments["scene"])
    if "bake" in arguments:
        do_bake(session, store, haul, scene, arguments, progress)
        return
    if "ask" in arguments:
        arguments["answer"] = store.put_blob(
            answer_to(arguments["ask"], scene, arguments["scene"], session, store, haul, progress)
        )
        return
    step = parse_step(arguments["step"])
    progress("making the shapes", 1, 2)
    made, _ = step.apply(read_convention(scene, Route.model_validate(haul.route)), StepContext())
    # shown beside the source as it stands: in its numbers
    arguments["view"] = store.put_blob(view_bytes(made.but(convention=scene.convention)))


def do_bake(
    session: Session, store: Store, haul: Haul, scene: Scene, arguments: dict[str, Any], progress: Progress
) -> None:
    """Bakes the light of a scene: figures, its pages as floats and as pictures, and a view with them."""
    from tidy_caravan.core.bake.look import look_at
    from tidy_caravan.core.bake.report import BakeAsk

    look = look_at(
        scene, destination_of(haul).lightmap_channel, BakeAsk.model_validate(arguments["bake"]),
        workshop_of(session, store, haul.id), lambda done, total: progress("tracing light", done, total),
    )  # fmt: skip
    arguments["answer"] = store.put_blob(orjson.dumps({"bake": look.report.model_dump(by_alias=True, mode="json")}))
    keys = {name: store.put_blob(data) for name, data in look.files().items()}
    arguments["pages"] = [
        {"name": p.name, "exr": keys[f"{p.name}.exr"], "png": keys[f"{p.name}.png"]} for p in look.report.pages
    ]
    arguments["view"] = store.put_blob(view_bytes(scene, look.for_view()))


def answer_to(
    ask: dict[str, Any], scene: Scene, key: str, session: Session, store: Store, haul: Haul, progress: Progress
) -> bytes:
    """What a question about the price of a scene comes to, as JSON."""
    from tidy_caravan.core.plans import Budget, alternatives, plan_for
    from tidy_caravan.core.selection import Assignment
    from tidy_caravan.core.steps import Where

    route = Route.model_validate(haul.route)
    assignment = Assignment()
    if route.sets:  # parts are in the sets that they were in at the source
        row = session.scalar(select(SceneRow).where(SceneRow.haul_id == haul.id, SceneRow.store_key == key))
        source = session.get(SceneRow, source_of(session, row)) if row is not None else None
        assignment = assignment_of(load_scene(store, source.store_key) if source is not None else scene, route)
    context = StepContext(
        destination_of(haul), lambda done, total: progress("trying ways", done, total),
        workshop_of(session, store, haul.id), assignment,
    )  # fmt: skip
    if "budget" in ask:
        plan = plan_for(scene, context, Budget.model_validate(ask["budget"]))
        return orjson.dumps({"plan": plan.model_dump(by_alias=True, mode="json")})
    ways = alternatives(scene, context, Where.model_validate(ask["where"]), ask["by"], ask["cellM"])
    return orjson.dumps({"alternatives": [w.model_dump(by_alias=True, mode="json") for w in ways]})


def do_run(
    session: Session, store: Store, haul: Haul, arguments: dict[str, Any], progress: Progress, limits: Limits
) -> None:
    """Executes the route over the newest revision and surveys the result."""
    revision, row = revision_of(session, haul)
    started = time.monotonic()
    progress("loading the source", 0, 1)
    scene = load_scene(store, row.store_key)
    route, destination = Route.model_validate(haul.route), destination_of(haul)
    kept, workshop = StoreSteps(store, row.store_key), workshop_of(session, store, haul.id)
    result, records = run(scene, route, destination, progress=progress, workshop=workshop, kept=kept)
    progress("surveying", 1, 1)
    findings = survey(result, destination, workshop, progress)
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
        partial(progress, "writing"),
    )
    progress("storing", 2, 3)
    files = [{"path": k, "bytes": len(v), "key": store.put_blob(v)} for k, v in package.files.items()]
    row = PackageRow(
        id=uuid.uuid4(),
        haul_id=haul.id,
        run_id=done.id,
        format=package.manifest.format,
        files=clean_json(files),
        remarks=clean_json([*package.manifest.losses, *package.manifest.remarks]),
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
    source = load_scene(store, source_row.store_key)
    result = load_scene(store, session.get_one(SceneRow, done.scene_id).store_key)
    with tempfile.TemporaryDirectory(prefix="caravan-arrival-") as folder:
        progress("laying the package out", 1, 4)
        contents = {f["path"]: store.get(f["key"]) for f in package.files}
        save(contents, Path(folder))
        progress("reading", 2, 4)
        report, arrived = prove(
            Path(folder),
            source,
            result,
            workshop_of(session, store, haul.id),
            partial(progress, "comparing"),
            partial(progress, "reading"),
        )
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
