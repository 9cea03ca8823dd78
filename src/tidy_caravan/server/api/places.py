"""The places of a finding: where they are, for the view to go there, and a picture of each."""

from __future__ import annotations

import uuid
from dataclasses import dataclass
from typing import Any

import numpy as np
from fastapi import Response
from sqlalchemy.orm import Session

from tidy_caravan.core.closeup import closeup
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.server.api.context import SessionDep, StateDep, found, unknown
from tidy_caravan.server.api.reading import Boxes, ReadAs
from tidy_caravan.server.api.requests import router as new_router
from tidy_caravan.server.api.scenes import FOREVER
from tidy_caravan.server.api.schemas import ConventionOut, PlaceOut
from tidy_caravan.server.db.models import FindingRow, SceneRow
from tidy_caravan.server.db.session import fetch
from tidy_caravan.server.problems import Problem

router = new_router("/api/scenes/{scene_id}/findings/{finding_id}/places", "scenes")
MOST_PARTS = 20
"""Parts that stand for the places of a finding that keeps none."""


@dataclass(frozen=True)
class Asked:
    """A finding of a scene with its places."""

    scene: SceneRow
    places: list[dict[str, Any]]

    @classmethod
    def of(cls, session: Session, scene_id: uuid.UUID, finding_id: uuid.UUID) -> Asked:
        """Raises a 404 for a scene or finding that is not there."""
        scene, row = found(session, SceneRow, scene_id, "scene"), session.get(FindingRow, finding_id)
        if row is None or row.scene_id != scene_id:
            raise unknown("finding", finding_id)
        parts = [{"parts": [p], "lines": [], "value": None, "unit": "", "text": ""} for p in row.parts[:MOST_PARTS]]
        return cls(scene, row.places or parts)

    def map(self) -> F64:
        """(3, 3) from the scene's numbers to metres, Y up."""
        return ConventionOut.model_validate(self.scene.convention).to_view()


@router.get("")
def list_places(
    scene_id: uuid.UUID, finding_id: uuid.UUID, session: SessionDep, state: StateDep, read: ReadAs = ""
) -> list[PlaceOut]:
    """Where the finding is, the worst first; of one that keeps no places its first parts. Of a source that is read otherwise
    than it was surveyed its parts stand for the places."""
    asked = Asked.of(session, scene_id, finding_id)
    nodes = sorted({p for place in asked.places for p in place["parts"]})
    query = (
        "SELECT node, source, identity, name, x, y, z, size_x, size_y, size_z FROM part"
        " WHERE scene_id = %(scene)s AND node = ANY(%(nodes)s)"
    )
    rows = {r["node"]: r for r in fetch(session, query, {"scene": scene_id, "nodes": nodes})}
    places = asked.places
    if boxes := Boxes.asked(state, session, scene_id, read):
        boxes.put(list(rows.values()))
        places = [{**p, "lines": []} for p in places]
    return [place_out(p, [rows[n] for n in p["parts"] if n in rows], asked.map()) for p in places]


def place_out(place: dict[str, Any], parts: list[dict[str, Any]], linear: F64) -> PlaceOut:
    lines = np.array(place["lines"], np.float64).reshape(-1, 2, 3) @ linear.T
    centres = np.array([[r[c] for c in "xyz"] for r in parts], np.float64).reshape(-1, 3)
    half = np.array([[r[f"size_{c}"] for c in "xyz"] for r in parts], np.float64).reshape(-1, 3) / 2
    ends = lines.reshape(-1, 3) if len(lines) else np.concatenate([centres - half, centres + half])
    low, high = (ends.min(axis=0), ends.max(axis=0)) if len(ends) else (np.zeros(3), np.zeros(3))
    return PlaceOut(
        sources=[r["source"] for r in parts],
        names=[r["name"] for r in parts],
        identities=[r["identity"] for r in parts],
        lines=lines.reshape(-1, 6).tolist(),
        value=place["value"],
        unit=place["unit"],
        text=place.get("text", ""),
        centre=((low + high) / 2).tolist(),
        size=float(np.linalg.norm(high - low)) / 2,
    )


@router.get("/{index}/picture.png", response_class=Response)
def picture_of_place(
    scene_id: uuid.UUID, finding_id: uuid.UUID, index: int, session: SessionDep, state: StateDep
) -> Response:
    """What is there: its parts in teal, the lines of the fault over them, faces seen from behind hatched."""
    asked = Asked.of(session, scene_id, finding_id)
    if not 0 <= index < len(asked.places) or not asked.scene.store_key:
        raise Problem(404, "place.unknown", "The finding keeps no such place.", str(index))
    place = asked.places[index]

    def draw() -> bytes:
        return closeup(state.scene(asked.scene.store_key), place["parts"], place["lines"])

    data = state.answers.once(f"{finding_id}/{index}.png", draw)
    return Response(data, media_type="image/png", headers=FOREVER)
