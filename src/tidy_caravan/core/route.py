"""Runs the steps of a route in order, with figures before and after each, progress and cancel."""

from __future__ import annotations

import hashlib
import time
from collections.abc import Callable
from typing import Any

import orjson
from pydantic import BaseModel, ConfigDict, Field
from pydantic.alias_generators import to_camel

from tidy_caravan import __version__
from tidy_caravan.core.aspects import Declared
from tidy_caravan.core.conventions.destinations import Destination
from tidy_caravan.core.errors import BadRoute
from tidy_caravan.core.figures import Counts, count
from tidy_caravan.core.scene import Scene, Touched
from tidy_caravan.core.scene.scene import with_all_roots
from tidy_caravan.core.selection import Assignment, PartSet
from tidy_caravan.core.space.files import STATED
from tidy_caravan.core.steps import AnyStep, Change, Step, StepContext, UnknownStep, known_steps
from tidy_caravan.core.steps.match_units import MatchUnits
from tidy_caravan.core.steps.texture_coordinates import LightmapUvs
from tidy_caravan.core.steps.what_travels import WhatTravels
from tidy_caravan.core.survey.left import Left
from tidy_caravan.core.work.heavy import Workshop

MOST_STEPS = 200
KEPT_FORM = 5
"""Grows when scenes between steps get to know more: what was kept before is not taken up again."""
KEPT_SECONDS = 0.1
"""Work from which on the scene after a step is kept: below, doing it again is cheaper."""


class StepRecord(BaseModel):
    """What one step did: its figures before and after, and its changes."""

    model_config = ConfigDict(alias_generator=to_camel, populate_by_name=True)

    kind: str
    title: str
    before: Counts
    after: Counts
    changes: list[Change]


class StepScenes:
    """Keeps the scene after a step by what went into it; this one keeps nothing.

    source: a key of the scene that the route begins with, equal for equal scenes only.
    """

    source = ""

    def get(self, key: str) -> tuple[Scene, list[StepRecord]] | None:
        return None

    def put(self, key: str, scene: Scene, records: list[StepRecord]) -> None:
        return None


class Route(BaseModel):
    """An ordered list of steps; those that this version does not know are kept, and refused by `steps_of`.

    sets: saved selections with their treatments, in order of precedence. left: findings that were left as they are.
    """

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)

    steps: list[AnyStep] = Field(default_factory=list, max_length=MOST_STEPS)
    sets: list[PartSet] = Field(default_factory=list, max_length=200)
    left: list[Left] = Field(default_factory=list, max_length=1000)


def steps_of(route: Route) -> list[Step]:
    """The steps of a route. Raises BadRoute that names the step and the field; what is switched off may be unknown."""
    for i, one in enumerate(route.steps):
        if isinstance(one, UnknownStep) and one.enabled:
            one.refuse(f"step {i + 1}")
    return list(route.steps)


def parse_route(data: Any, before: Route | None = None) -> Route:
    """A route from JSON: {"steps": [...]} or the bare list. Raises BadRoute.

    before: the route that it takes the place of, where there is one; a step of a known kind that cannot be understood, and
    was not there already, is refused then even while it is switched off: somebody has just given it.
    """
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
    if before is not None:
        known = [one.given for one in before.steps if isinstance(one, UnknownStep)]
        for i, one in enumerate(route.steps):
            if isinstance(one, UnknownStep) and one.kind in known_steps() and one.given not in known:
                one.refuse(f"step {i + 1}")
    return route


def default_route() -> Route:
    """What travels, units and axes, then a lightmap UV set on every part."""
    return Route(steps=[WhatTravels(), MatchUnits(), LightmapUvs()])


def as_json(step: Step) -> dict[str, Any]:
    return step.model_dump(by_alias=True, mode="json")


def run(
    scene: Scene,
    route: Route,
    destination: Destination,
    *,
    progress: Callable[[str, int, int], None] = lambda title, done, total: None,
    workshop: Workshop | None = None,
    kept: StepScenes | None = None,
) -> tuple[Scene, list[StepRecord]]:
    """The scene after all enabled steps, and a record of each. progress(title, done, total) may raise.

    Begins behind the last step whose scene is kept. Raises BadRoute; whatever else a step raises is passed on with
    nothing changed.
    """
    records: list[StepRecord] = []
    steps = [s for s in steps_of(route) if s.enabled]
    scene = start = read_convention(scene, route)
    assignment = Assignment(start, route.sets)
    kept = kept or StepScenes()
    keys = chain(steps, route, destination, start, kept.source)
    first = 0
    for i in reversed(range(len(keys))):
        found = kept.get(keys[i])
        if found is not None:
            (scene, records), first = found, i + 1
            break
    if steps:
        scene = scene.but(touched=scene.touched or Touched.none(len(start.nodes)), identity=start.identities)
    before = records[-1].after if records else count(scene)
    worked = 0.0
    for i, one in enumerate(steps[first:], first):

        def tell(done: int, total: int, i: int = i, title: str = one.title) -> None:
            share = done / total if total else 0.0
            progress(title, round((i + share) * 1000), len(steps) * 1000)

        tell(0, 1)
        context = StepContext(destination, tell, workshop or Workshop(), assignment)
        began = time.monotonic()
        # what hangs below a part goes where it goes and is called by its path
        chosen = scene.nodes.came_from(scene.nodes.under(one.reach(scene, context)))
        touched = (scene.touched or Touched.none(len(start.nodes))).by(i, chosen)
        scene, changes = one.apply(scene, context)
        scene = with_all_roots(scene).but(touched=touched)
        after = count(scene)
        records.append(StepRecord(kind=one.kind, title=one.title, before=before, after=after, changes=changes))
        before = after
        worked += time.monotonic() - began
        if worked > KEPT_SECONDS:
            kept.put(keys[i], scene, records)
            worked = 0.0
    progress("done", len(steps) * 1000, len(steps) * 1000)
    return scene, records


def first_steps(route: Route, count: int) -> Route:
    """The route up to the first `count` of its enabled steps. Raises BadRoute where it has fewer."""
    enabled = [s for s in steps_of(route) if s.enabled]
    if not 0 <= count <= len(enabled):
        raise BadRoute(f"the route has {len(enabled)} steps that are switched on, and no step {count}", where="steps")
    return route.model_copy(update={"steps": enabled[:count]})


def chain(steps: list[Step], route: Route, destination: Destination, start: Scene, source: str) -> list[str]:
    """A key for the scene after each step: of all that it depends on, and of nothing else."""
    c = start.convention
    digest = hashlib.sha256()
    sets = [s.model_dump(mode="json") for s in route.sets]
    read = [c.metres_per_unit, c.up, c.forward, c.handedness, c.declared, start.extras.get(STATED)]
    about = [__version__, KEPT_FORM, source, *read, sets]
    digest.update(orjson.dumps([*about, destination.model_dump(mode="json")]))
    out = []
    for one in steps:
        digest.update(orjson.dumps(one.model_dump(mode="json")))
        out.append(digest.hexdigest())
    return out


def read_convention(scene: Scene, route: Route) -> Scene:
    """The source scene in the convention that the route reads it in, and each of its files."""
    for one in steps_of(route):
        if one.enabled:
            scene = one.read(scene)
    return scene


def reading_of(route: Route) -> str:
    """Stands for how the route reads a source; empty where that is as its files say."""
    given = [said for one in steps_of(route) if one.enabled and (said := one.reading())]
    return hashlib.blake2b(orjson.dumps(given), digest_size=8).hexdigest() if given else ""


def assignment_of(source: Scene, route: Route) -> Assignment:
    """Which set decides each part of the source, for what steps make of it: asked of a result itself, it would be of others."""
    return Assignment(read_convention(source, route), route.sets)


def declared_by(route: Route) -> Declared:
    """What the enabled steps of a route declare together."""
    return Declared(tuple(one.effects() for one in steps_of(route) if one.enabled))


def as_read(scene: Scene, route: Route, destination: Destination) -> Scene:
    """What the arrival is compared with: the source in its convention, with the conversions the route asks for. As in a run,
    it is read first: steps have lengths in metres, and those of a file that lies are others."""
    scene = read_convention(scene, route)
    assignment = Assignment(scene, route.sets)
    for one in steps_of(route):
        if one.enabled:
            scene = one.as_source(scene, StepContext(destination, assignment=assignment))
    return scene
