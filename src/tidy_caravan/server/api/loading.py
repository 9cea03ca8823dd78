"""The Load station's calls: sets with live figures, shapes that can be made again, previews, further files."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from typing import Annotated, Any

import numpy as np
import orjson
from fastapi import BackgroundTasks, File, Query, Response, UploadFile

from tidy_caravan.core.errors import BadRoute
from tidy_caravan.core.figures import view_map
from tidy_caravan.core.formats import endings
from tidy_caravan.core.geometry.pose import at_rest
from tidy_caravan.core.selection import PartSet, SetFigures, figures_of
from tidy_caravan.core.steps import Step, UnknownStep, parse_step
from tidy_caravan.core.steps.make_shapes import MakeShapes, shapes_in
from tidy_caravan.server.api.context import SessionDep, State, StateDep, found, new_job
from tidy_caravan.server.api.hauls import stored_files
from tidy_caravan.server.api.reading import as_read
from tidy_caravan.server.api.requests import router as new_router
from tidy_caravan.server.api.schemas import JobOut, Picked, PreviewRequest, SetList, ShapesOut
from tidy_caravan.server.db.models import Haul, Revision, Run, SceneRow
from tidy_caravan.server.problems import Problem

router = new_router("/api", "loading")
MOST_SHAPES = 500
ARCHIVES = (".zip", ".zae", ".usdz", ".ifczip")


def scene_of(state: State, session: SessionDep, scene_id: uuid.UUID) -> Any:
    """The scene with its geometry. Raises a 404 problem for arrived ones, which are not kept whole."""
    return state.scene(whole_row(session, scene_id).store_key)


def whole_row(session: SessionDep, scene_id: uuid.UUID) -> SceneRow:
    """Raises a 404 problem for scenes that are not kept whole."""
    row = found(session, SceneRow, scene_id, "scene")
    if not row.store_key:
        raise Problem(404, "scene.not-whole", "Only sources and results are kept whole.", str(scene_id))
    return row


def read_by_route(state: State, session: SessionDep, scene_id: uuid.UUID) -> Any:
    """The same, a source in the unit and axes that the haul's route reads it in, as a run will see it."""
    return as_read(state, session, whole_row(session, scene_id))


@router.post("/scenes/{scene_id}/sets/figures")
def set_figures(scene_id: uuid.UUID, request: SetList, session: SessionDep, state: StateDep) -> list[SetFigures]:
    """What each set holds, in order of precedence; for figures while editing."""
    return figures_of(read_by_route(state, session, scene_id), request.sets)


@router.post("/scenes/{scene_id}/sets/members", responses={200: {"model": Picked}}, response_class=Response)
def set_members(scene_id: uuid.UUID, request: PartSet, session: SessionDep, state: StateDep) -> Response:
    """Ids in the source of a set's parts and the box around them where the view has them, in metres, Y up."""
    scene = read_by_route(state, session, scene_id)
    parts = scene.nodes.parts
    chosen = request.select(scene)[parts]
    corners = at_rest(scene).part_bounds[chosen] @ view_map(scene).T
    low, high = (corners.min(axis=(0, 1)), corners.max(axis=(0, 1))) if chosen.any() else (np.zeros(3), np.zeros(3))
    body = {"sources": scene.nodes.source[parts[chosen]].tolist(), "min": low.tolist(), "max": high.tolist()}
    return Response(orjson.dumps(body), media_type="application/json")


def shape_step(text: str) -> MakeShapes:
    """The step of a preview. Raises BadRoute."""
    try:
        return only_shapes(parse_step(orjson.loads(text), "step"))
    except orjson.JSONDecodeError as error:
        raise BadRoute("the step is no JSON", where="step") from error


def only_shapes(step: Step) -> MakeShapes:
    """Raises BadRoute for any other kind of step, and for what is none."""
    if isinstance(step, UnknownStep):
        step.refuse()
    if not isinstance(step, MakeShapes):
        raise BadRoute("only shapes can be looked at before a run", where="step")
    return step


StepText = Annotated[str, Query(max_length=20_000, description="A step of kind make_shapes as JSON")]


@router.get("/scenes/{scene_id}/shapes")
def shapes(scene_id: uuid.UUID, session: SessionDep, state: StateDep, step: StepText = "") -> ShapesOut:
    """What was no mesh in the source, with its triangles now and as a step would make it."""
    scene = read_by_route(state, session, scene_id)
    asked = shape_step(step) if step else None
    items = shapes_in(scene, asked)
    now, then = sum(s.triangles * s.parts for s in items), sum(s.then * s.parts for s in items)
    return ShapesOut(items=items[:MOST_SHAPES], total=len(items), triangles=now, then=then)


@router.post("/scenes/{scene_id}/preview", status_code=202)
def preview(
    scene_id: uuid.UUID, request: PreviewRequest, session: SessionDep, state: StateDep, after: BackgroundTasks
) -> JobOut:
    """The view file of the scene as a step would make it: a job like any other, with a worker's limits."""
    row = whole_row(session, scene_id)
    step = only_shapes(request.step)
    haul = found(session, Haul, row.haul_id, "haul")
    kept = step.model_dump(by_alias=True, mode="json")
    job = new_job(session, haul, "preview", {"scene": row.store_key, "step": kept})
    after.add_task(state.manager.submit, job.id)
    return JobOut.model_validate(job)


@router.post("/hauls/{haul_id}/steps/{number}/views", status_code=202)
def step_views(haul_id: uuid.UUID, number: int, session: SessionDep, state: StateDep, after: BackgroundTasks) -> JobOut:
    """View files of the newest run before and after one of its steps, counted from 1: a job, and then its two views."""
    haul = found(session, Haul, haul_id, "haul")
    run = session.get(Run, haul.run_id) if haul.run_id else None
    if run is None:
        raise Problem(409, "haul.not-run", "The route has not run yet. Run it first.", str(haul_id))
    if not 1 <= number <= len(run.records):
        raise Problem(404, "step.unknown", f"The last run had {len(run.records)} steps.", str(number)[:20])
    job = new_job(session, haul, "preview", {"run": str(run.id), "step": number})
    after.add_task(state.manager.submit, job.id)
    return JobOut.model_validate(job)


@router.post("/hauls/{haul_id}/files", status_code=202)
def add_files(
    haul_id: uuid.UUID,
    session: SessionDep,
    state: StateDep,
    after: BackgroundTasks,
    files: Annotated[list[UploadFile], File()],
) -> JobOut:
    """Further files for a haul: pictures that were missing are put in place, models are read into the same tree."""
    haul = found(session, Haul, haul_id, "haul")
    stored = stored_files(state, files)
    revision = session.get(Revision, haul.revision_id) if haul.revision_id else None
    if revision is not None and not any_model(stored):
        job = new_job(session, haul, "supply", {"files": stored})
    else:
        before = [f for f in (revision.files if revision else []) if f[0] not in {p for p, _ in stored}]
        job = new_job(session, haul, "import", {"files": [*before, *stored]})
    after.add_task(state.manager.submit, job.id)
    return JobOut.model_validate(job)


def any_model(files: Sequence[Sequence[str]]) -> bool:
    """Whether one of [path, key in the store] is a scene, or an archive that may hold one."""
    return any(path.lower().endswith((*endings(), *ARCHIVES)) for path, _ in files)


@router.delete("/hauls/{haul_id}/files", status_code=202)
def remove_file(
    haul_id: uuid.UUID,
    session: SessionDep,
    state: StateDep,
    after: BackgroundTasks,
    path: Annotated[str, Query(max_length=1000, description="As the newest revision names it")],
) -> JobOut:
    """Reads the source again without one of its files; what was there before stays until that is done."""
    haul = found(session, Haul, haul_id, "haul")
    revision = session.get(Revision, haul.revision_id) if haul.revision_id else None
    files = revision.files if revision else []
    left = [f for f in files if f[0] != path]
    if len(left) == len(files):
        raise Problem(404, "file.unknown", f"The haul has no file “{path[:200]}”.", "path")
    if not any_model(left):
        raise Problem(409, "file.only", "It is the only model of the haul. Delete the haul instead.", path[:200])
    job = new_job(session, haul, "import", {"files": left})
    after.add_task(state.manager.submit, job.id)
    return JobOut.model_validate(job)
