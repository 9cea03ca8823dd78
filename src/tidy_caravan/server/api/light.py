"""What lightmaps weigh: sizes for a texel size, or for so many bytes, answered while a slider moves; and the preview bake."""

from __future__ import annotations

import uuid
from collections import OrderedDict
from threading import Lock
from typing import Annotated, Literal

from fastapi import BackgroundTasks, Query, Response

from tidy_caravan.core.bake.report import BakeAsk
from tidy_caravan.core.lightmap.report import Ask, Lamp, LightReport
from tidy_caravan.core.route import assignment_of, parse_route
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.selection import Assignment
from tidy_caravan.core.work.heavy import Workshop
from tidy_caravan.server.api.context import SessionDep, StateDep, found, new_job
from tidy_caravan.server.api.loading import scene_of
from tidy_caravan.server.api.requests import router as new_router
from tidy_caravan.server.api.schemas import JobOut
from tidy_caravan.server.db.models import Haul, Job, SceneRow
from tidy_caravan.server.db.naming import source_of
from tidy_caravan.server.jobs.tasks import destination_of
from tidy_caravan.server.problems import Problem

router = new_router("/api", "light")
LAMPS_KEPT = 8
lamps: OrderedDict[tuple[str, int], Lamp] = OrderedDict()
"""What was found out of the last few scenes that were asked about, by scene and version of the haul."""
lock = Lock()


def sets_of(state: StateDep, session: SessionDep, row: SceneRow, scene: Scene, haul: Haul) -> Assignment:
    """Which set decides each part of a scene: those that its parts were in at the source."""
    route = parse_route(haul.route)
    if not route.sets:
        return Assignment()
    source = source_of(session, row)
    return assignment_of(scene if source in (None, row.id) else scene_of(state, session, source), route)


@router.get("/scenes/{scene_id}/light")
def scene_light(
    scene_id: uuid.UUID,
    session: SessionDep,
    state: StateDep,
    texel_m: Annotated[float, Query(alias="texelM", ge=0.0005, le=100)] = 0.05,
    megabytes: Annotated[float | None, Query(ge=0.001, le=1_000_000)] = None,
    ceiling: Annotated[float, Query(gt=0, le=10, description="Weight of ceilings")] = 0.5,
    unseen: Annotated[
        float, Query(gt=0, le=10, description="Weight of what nobody sees; 1 does not look for it")
    ] = 1.0,
    largest: Annotated[int, Query(ge=16, le=8192)] = 2048,
) -> LightReport:
    """Lightmaps of a scene at a texel size, or the finest for so many megabytes, before anything is laid out for them."""
    row = found(session, SceneRow, scene_id, "scene")
    haul = found(session, Haul, row.haul_id, "haul")
    key = str(scene_id), haul.version
    with lock:
        lamp = lamps.get(key)
    if lamp is None:
        scene = scene_of(state, session, scene_id)
        lamp = Lamp.of(scene, destination_of(haul), sets_of(state, session, row, scene, haul))
        with lock:
            lamps[key] = lamp
            while len(lamps) > LAMPS_KEPT:
                lamps.popitem(last=False)
    if unseen != 1 and lamp.hidden is None:
        lamp = lamp.looked_for(scene_of(state, session, scene_id), Workshop())
        with lock:
            lamps[key] = lamp
    return lamp.report(Ask(texel_m, megabytes, ceiling, unseen, largest))


@router.post("/scenes/{scene_id}/bake", status_code=202)
def ask_for_light(
    scene_id: uuid.UUID, request: BakeAsk, session: SessionDep, state: StateDep, after: BackgroundTasks
) -> JobOut:
    """A job that traces light on all lightmaps; its answer has the figures. Asked again with more samples it goes on from what
    it has, also after it was cancelled or cut off."""
    row = found(session, SceneRow, scene_id, "scene")
    if not row.store_key:
        raise Problem(404, "scene.not-whole", "Only sources and results are kept whole.", str(scene_id))
    arguments = {"scene": row.store_key, "bake": request.model_dump(by_alias=True, mode="json")}
    job = new_job(session, found(session, Haul, row.haul_id, "haul"), "preview", arguments)
    after.add_task(state.manager.submit, job.id)
    return JobOut.model_validate(job)


@router.get("/jobs/{job_id}/light.{ending}", response_class=Response)
def baked_page(
    job_id: uuid.UUID,
    ending: Literal["exr", "png"],
    session: SessionDep,
    state: StateDep,
    page: Annotated[int, Query(ge=0, le=10_000, description="Which of the bake's pages, from 0")] = 0,
) -> Response:
    """A page of a bake: light in lux as 32-bit floats, or a picture of it."""
    job = found(session, Job, job_id, "job")
    pages = job.arguments.get("pages") if job.state == "done" else None
    if not isinstance(pages, list):
        raise Problem(409, "answer.not-ready", "There is no light yet. Wait for the job to end.", str(job_id))
    if page >= len(pages):
        raise Problem(404, "page.unknown", f"The bake has {len(pages)} pages, counted from 0.", str(page))
    try:
        data = state.store.get(pages[page][ending])
    except FileNotFoundError as error:
        raise Problem(404, "answer.gone", "The light was tidied away. Ask for it again.", str(job_id)) from error
    headers = {
        "Content-Disposition": f'attachment; filename="{pages[page]["name"]}.{ending}"',
        "Cache-Control": "no-store",
    }
    return Response(data, media_type="image/png" if ending == "png" else "image/x-exr", headers=headers)
