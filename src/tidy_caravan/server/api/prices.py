"""What a scene costs: totals, what costs most, ways to let parts travel side by side, and steps that meet a budget."""

from __future__ import annotations

import uuid
from typing import Annotated

import orjson
from fastapi import BackgroundTasks
from pydantic import Field

from tidy_caravan.core.bake.report import BakeReport
from tidy_caravan.core.conventions.destinations import FrameWeights
from tidy_caravan.core.plans import Alternative, Budget, By, Plan
from tidy_caravan.core.price import Cost, Group, Price, costly, price
from tidy_caravan.core.steps import Where
from tidy_caravan.server.api.context import SessionDep, StateDep, found, new_job
from tidy_caravan.server.api.loading import scene_of
from tidy_caravan.server.api.requests import router as new_router
from tidy_caravan.server.api.schemas import Camel, JobOut
from tidy_caravan.server.db.models import Haul, Job, SceneRow
from tidy_caravan.server.jobs.tasks import destination_of
from tidy_caravan.server.problems import Problem

router = new_router("/api", "prices")


class PriceOut(Price):
    """instanced: whether the estimate counts batches, as the destination has instancing. weights: what it goes by."""

    instanced: bool
    weights: FrameWeights


class CostOut(Cost):
    """sources: ids in the source of the first of the parts."""

    sources: list[int]


class WaysRequest(Camel):
    """where: which parts; by: what parts of a group have in common."""

    where: Where = Field(default_factory=Where)
    by: By = "parent"
    cell_m: Annotated[float, Field(ge=0.1, le=100_000)] = 10.0


class AnswerOut(Camel):
    """What was asked for; the others are null."""

    alternatives: list[Alternative] | None = None
    plan: Plan | None = None
    bake: BakeReport | None = None


@router.get("/scenes/{scene_id}/price")
def scene_price(scene_id: uuid.UUID, session: SessionDep, state: StateDep) -> PriceOut:
    """Totals of a scene, and an estimate of a frame by the weights of the haul's destination."""
    scene = scene_of(state, session, scene_id)
    target = destination_of(session.get_one(Haul, found(session, SceneRow, scene_id, "scene").haul_id))
    return PriceOut(**price(scene, target).model_dump(), instanced=target.gpu_instancing, weights=target.frame)


@router.get("/scenes/{scene_id}/costly")
def most_costly(scene_id: uuid.UUID, session: SessionDep, state: StateDep, by: Group = "part") -> list[CostOut]:
    """What costs most of a frame, the dearest first."""
    scene = scene_of(state, session, scene_id)
    target = destination_of(session.get_one(Haul, found(session, SceneRow, scene_id, "scene").haul_id))
    own = scene.nodes.source
    return [CostOut(**c.model_dump(), sources=own[c.nodes].tolist()) for c in costly(scene, target, by)]


@router.post("/scenes/{scene_id}/alternatives", status_code=202)
def ask_for_alternatives(
    scene_id: uuid.UUID, request: WaysRequest, session: SessionDep, state: StateDep, after: BackgroundTasks
) -> JobOut:
    """A job that tries the ways to let parts travel; then its answer."""
    return asked(scene_id, request.model_dump(by_alias=True, mode="json"), session, state, after)


@router.post("/scenes/{scene_id}/plan", status_code=202)
def ask_for_a_plan(
    scene_id: uuid.UUID, request: Budget, session: SessionDep, state: StateDep, after: BackgroundTasks
) -> JobOut:
    """A job that looks for steps which bring the scene under a budget; then its answer."""
    return asked(scene_id, {"budget": request.model_dump(by_alias=True, mode="json")}, session, state, after)


def asked(
    scene_id: uuid.UUID, ask: dict[str, object], session: SessionDep, state: StateDep, after: BackgroundTasks
) -> JobOut:
    row = found(session, SceneRow, scene_id, "scene")
    if not row.store_key:
        raise Problem(404, "scene.not-whole", "Only sources and results are kept whole.", str(scene_id))
    job = new_job(session, found(session, Haul, row.haul_id, "haul"), "preview", {"scene": row.store_key, "ask": ask})
    after.add_task(state.manager.submit, job.id)
    return JobOut.model_validate(job)


@router.get("/jobs/{job_id}/answer")
def answer(job_id: uuid.UUID, session: SessionDep, state: StateDep) -> AnswerOut:
    """What a job that tried ways, or looked for a plan, found."""
    job = found(session, Job, job_id, "job")
    key = job.arguments.get("answer") if job.state == "done" else None
    if not isinstance(key, str):
        raise Problem(409, "answer.not-ready", "There is no answer yet. Wait for the job to end.", str(job_id))
    try:
        return AnswerOut.model_validate(orjson.loads(state.store.get(key)))
    except FileNotFoundError as error:
        raise Problem(404, "answer.gone", "The answer was tidied away. Ask for it again.", str(job_id)) from error
