"""Runs the steps of a route in order, with figures before and after each, progress and cancel."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from pydantic import BaseModel, ConfigDict, Field
from pydantic.alias_generators import to_camel

from tidy_caravan.core.conventions.destinations import Destination
from tidy_caravan.core.errors import BadRoute
from tidy_caravan.core.figures import Counts, count
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.selection import Assignment, PartSet
from tidy_caravan.core.steps import Change, MeshCache, Step, StepContext, parse_step
from tidy_caravan.core.steps.match_units import MatchUnits
from tidy_caravan.core.steps.texture_coordinates import LightmapUvs
from tidy_caravan.core.steps.what_travels import WhatTravels

MOST_STEPS = 200


class StepRecord(BaseModel):
    """What one step did: its figures before and after, and its changes."""

    model_config = ConfigDict(alias_generator=to_camel, populate_by_name=True)

    kind: str
    title: str
    before: Counts
    after: Counts
    changes: list[Change]


class Route(BaseModel):
    """An ordered list of steps as JSON; unknown kinds are refused when it is opened with `steps_of`.

    sets: saved selections with their treatments, in order of precedence.
    """

    model_config = ConfigDict(extra="forbid")

    steps: list[dict[str, Any]] = Field(default_factory=list, max_length=MOST_STEPS)
    sets: list[PartSet] = Field(default_factory=list, max_length=200)


def steps_of(route: Route) -> list[Step]:
    """The steps of a route. Raises BadRoute that names the step and the field."""
    return [parse_step(data, f"step {i + 1}") for i, data in enumerate(route.steps)]


def parse_route(data: Any) -> Route:
    """A route from JSON: {"steps": [...]} or the bare list. Raises BadRoute."""
    if isinstance(data, list):
        data = {"steps": data}
    if not isinstance(data, dict):
        raise BadRoute("a route is an object with “steps”, or a list of steps", where="route")
    try:
        route = Route.model_validate(data)
    except ValueError as error:
        errors: list[dict[str, Any]] = getattr(error, "errors", list)()
        detail = "; ".join(f"{'.'.join(map(str, e['loc']))}: {e['msg']}" for e in errors[:3])
        raise BadRoute(f"it must hold “steps” and may hold “sets” ({detail})"[:400], where="route") from error
    steps_of(route)
    return route


def default_route() -> Route:
    """What travels, units and axes, then a lightmap UV set on every part."""
    return Route(steps=[as_json(WhatTravels()), as_json(MatchUnits()), as_json(LightmapUvs())])


def as_json(step: Step) -> dict[str, Any]:
    return step.model_dump(by_alias=True, mode="json")


def run(
    scene: Scene,
    route: Route,
    destination: Destination,
    *,
    progress: Callable[[str, int, int], None] = lambda title, done, total: None,
    cache: MeshCache | None = None,
    workers: int | None = None,
) -> tuple[Scene, list[StepRecord]]:
    """The scene after all enabled steps, and a record of each. progress(title, done, total) may raise.

    Raises BadRoute; whatever else a step raises is passed on with nothing changed.
    """
    records: list[StepRecord] = []
    steps = [s for s in steps_of(route) if s.enabled]
    assignment = Assignment(read_convention(scene, route), route.sets)
    before = count(scene)
    for i, one in enumerate(steps):

        def tell(done: int, total: int, i: int = i, title: str = one.title) -> None:
            share = done / total if total else 0.0
            progress(title, round((i + share) * 1000), len(steps) * 1000)

        tell(0, 1)
        context = StepContext(destination, tell, cache or MeshCache(), workers, assignment)
        scene, changes = one.apply(scene, context)
        after = count(scene)
        records.append(StepRecord(kind=one.kind, title=one.title, before=before, after=after, changes=changes))
        before = after
    progress("done", len(steps) * 1000, len(steps) * 1000)
    return scene, records


def read_convention(scene: Scene, route: Route) -> Scene:
    """The source scene with the convention that the route's first unit step reads it in."""
    for one in steps_of(route):
        if isinstance(one, MatchUnits) and one.enabled:
            return scene.but(convention=one.read_as(scene.convention))
    return scene


def as_read(scene: Scene, route: Route, destination: Destination) -> Scene:
    """What the arrival is compared with: the source in its convention, with the conversions the route asks for."""
    assignment = Assignment(read_convention(scene, route), route.sets)
    for one in steps_of(route):
        if one.enabled and one.converts:
            scene, _ = one.apply(scene, StepContext(destination, assignment=assignment))
    return read_convention(scene, route)
