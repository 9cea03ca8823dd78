"""What lightmaps weigh: sizes for a texel size, or for so many bytes, answered while a slider moves."""

from __future__ import annotations

import uuid
from collections import OrderedDict
from threading import Lock
from typing import Annotated

from fastapi import Query

from tidy_caravan.core.lightmap.report import Ask, Lamp, LightReport
from tidy_caravan.core.route import parse_route
from tidy_caravan.core.selection import Assignment
from tidy_caravan.server.api.context import SessionDep, StateDep, found
from tidy_caravan.server.api.loading import scene_of
from tidy_caravan.server.api.requests import router as new_router
from tidy_caravan.server.db.models import Haul, SceneRow
from tidy_caravan.server.jobs.tasks import destination_of

router = new_router("/api", "light")
LAMPS_KEPT = 8
lamps: OrderedDict[tuple[str, int], Lamp] = OrderedDict()
"""What was found out of the last few scenes that were asked about, by scene and version of the haul."""
lock = Lock()


@router.get("/scenes/{scene_id}/light")
def scene_light(
    scene_id: uuid.UUID,
    session: SessionDep,
    state: StateDep,
    texel_m: Annotated[float, Query(alias="texelM", ge=0.0005, le=100)] = 0.05,
    megabytes: Annotated[float | None, Query(ge=0.001, le=1_000_000)] = None,
    ceiling: Annotated[float, Query(gt=0, le=10, description="Weight of ceilings")] = 0.5,
    largest: Annotated[int, Query(ge=16, le=8192)] = 2048,
) -> LightReport:
    """Lightmaps of a scene at a texel size, or the finest for so many megabytes, before anything is laid out for them."""
    haul = found(session, Haul, found(session, SceneRow, scene_id, "scene").haul_id, "haul")
    key = str(scene_id), haul.version
    with lock:
        lamp = lamps.get(key)
    if lamp is None:
        scene = scene_of(state, session, scene_id)
        lamp = Lamp.of(scene, destination_of(haul), Assignment(scene, parse_route(haul.route).sets))
        with lock:
            lamps[key] = lamp
            while len(lamps) > LAMPS_KEPT:
                lamps.popitem(last=False)
    return lamp.report(Ask(texel_m, megabytes, ceiling, largest))
