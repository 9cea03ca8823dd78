"""A source as the route of its haul reads it: where its files lie about their units, its parts are of other sizes and stand
elsewhere than the rows say that were made when it came."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from typing import Annotated, Any

import numpy as np
from fastapi import Query
from sqlalchemy.orm import Session

from tidy_caravan.core.errors import BadRoute
from tidy_caravan.core.route import Route, read_convention, reading_of
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import F64, I64
from tidy_caravan.server.api.context import State, found
from tidy_caravan.server.columns import PartFacts
from tidy_caravan.server.db.models import Haul, SceneRow
from tidy_caravan.server.problems import Problem

ReadAs = Annotated[
    str,
    Query(
        max_length=64,
        description="What the haul says under `reading`: a source is then told as the route reads it, not as its files say",
    ),
]
MEASURED = ("x", "y", "z", "sizeX", "sizeY", "sizeZ")
"""Columns that are other ones then, as `Boxes` has them."""
STORED = ("x", "y", "z", "size_x", "size_y", "size_z")
"""The same as the database calls them."""
SORTED = (*MEASURED, "size")
"""What parts are sorted by that is another then."""


def as_read(state: State, session: Session, row: SceneRow) -> Scene:
    """The scene with its geometry, a source in the unit and axes that its haul's route reads it in, as a run will see it."""
    scene = state.scene(row.store_key)
    if row.kind != "source":
        return scene
    route = Route.model_validate(found(session, Haul, row.haul_id, "haul").route)
    if not (said := reading_of(route)):
        return scene
    try:
        return state.derived(f"{row.store_key} {said}", lambda: read_convention(scene, route))
    except BadRoute:  # what cannot be run cannot be read either: it is told where it is run
        return scene


class Boxes:
    """Boxes of the parts of a source as the route reads it. figures: (P, 6) by part row, middle and size in metres, Y up."""

    def __init__(self, scene: Scene) -> None:
        low, high = PartFacts(scene, ()).box
        self.figures: F64 = np.column_stack([(low + high) / 2, high - low])
        self.row = np.full(len(scene.nodes), -1, np.int64)
        self.row[scene.nodes.parts] = np.arange(len(scene.nodes.parts))

    @classmethod
    def asked(cls, state: State, session: Session, scene_id: uuid.UUID, read: str) -> Boxes | None:
        """None where they are as the rows say. Raises a 409 problem where the route reads the source otherwise by now."""
        if not read:
            return None
        row = found(session, SceneRow, scene_id, "scene")
        check(session, row, read)
        return cls(as_read(state, session, row))

    def of(self, nodes: Sequence[int] | I64) -> F64:
        """(K, 6) of these nodes."""
        return self.figures[self.row[np.asarray(nodes, np.int64)]]

    def around(self, nodes: Sequence[int]) -> tuple[F64, F64]:
        """Smallest and largest corner of these nodes together, (3,) each; noughts of none."""
        if not len(nodes):
            return np.zeros(3), np.zeros(3)
        middle, half = np.hsplit(self.of(nodes) * (1, 1, 1, 0.5, 0.5, 0.5), 2)
        return (middle - half).min(axis=0), (middle + half).max(axis=0)

    def order(self, nodes: Sequence[int], by: str, descending: bool) -> list[int]:
        """The nodes in the order of one of SORTED, equals by number."""
        asked = np.sort(np.asarray(nodes, np.int64))
        figures = self.of(asked)
        values = figures[:, 3:].max(axis=1, initial=0.0) if by == "size" else figures[:, MEASURED.index(by)]
        out: list[int] = asked[np.argsort(-values if descending else values, kind="stable")].tolist()
        return out

    def put(self, items: Sequence[dict[str, Any]]) -> None:
        """Into rows, as the API or the database has them."""
        names = STORED if items and STORED[-1] in items[0] else MEASURED
        for item, values in zip(items, self.of([i["node"] for i in items]).tolist(), strict=True):
            item.update(zip(names, values, strict=True))


def check(session: Session, row: SceneRow, read: str) -> None:
    """Raises a 409 problem where `read` is not how the route of the haul reads the scene."""
    now = reading_of(Route.model_validate(found(session, Haul, row.haul_id, "haul").route))
    if row.kind != "source" or not row.store_key or read != now:
        raise Problem(
            409, "reading.changed", "The route reads the source otherwise by now. Ask for the haul again.", str(row.id)
        )
