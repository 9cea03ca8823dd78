"""What every route module needs: settings, store, sessions, and looking things up."""

from __future__ import annotations

import threading
import uuid
from collections import OrderedDict
from collections.abc import Iterator
from typing import Annotated, Any, TypeVar

from fastapi import Depends, Request
from sqlalchemy import select
from sqlalchemy.orm import Session

from tidy_caravan.core.conventions.destinations import BUILT_IN, Destination
from tidy_caravan.core.scene import Scene
from tidy_caravan.server.db.models import Base, DestinationRow, Haul, Job
from tidy_caravan.server.db.session import session_for
from tidy_caravan.server.jobs.manager import Bus, Manager
from tidy_caravan.server.problems import Problem
from tidy_caravan.server.settings import Settings
from tidy_caravan.server.store.blobs import Store
from tidy_caravan.server.store.scenes import load_scene

SCENES_KEPT = 2


class State:
    """One per application."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        self.store = Store(settings.store)
        self.bus = Bus()
        self.manager = Manager(settings, self.bus)
        self._scenes: OrderedDict[str, Scene] = OrderedDict()
        self._scene_lock = threading.Lock()

    def scene(self, key: str) -> Scene:
        """A stored scene; the last few are kept, because figures are asked for while somebody edits."""
        with self._scene_lock:
            if key not in self._scenes:
                self._scenes[key] = load_scene(self.store, key)
            self._scenes.move_to_end(key)
            while len(self._scenes) > SCENES_KEPT:
                self._scenes.popitem(last=False)
            return self._scenes[key]


def state_of(request: Request) -> State:
    state: State = request.app.state.caravan
    return state


def session_of(request: Request) -> Iterator[Session]:
    with session_for(state_of(request).settings.database) as session:
        yield session


StateDep = Annotated[State, Depends(state_of)]
# committed before the answer goes out: what a client was told is there when it asks again, and a job's
# row is there when the job is handed to the workers
SessionDep = Annotated[Session, Depends(session_of, scope="function")]
T = TypeVar("T", bound=Base)


def found(session: Session, table: type[T], key: uuid.UUID, what: str) -> T:
    """The row, or a 404 problem that says what is missing."""
    row = session.get(table, key)
    if row is None:
        raise Problem(404, f"{what}.unknown", f"There is no such {what}. It may have been deleted.", str(key))
    return row


def destination_named(session: Session, name: str) -> Destination:
    for known in BUILT_IN:
        if known.name == name:
            return known
    row = session.get(DestinationRow, name)
    if row is None:
        raise Problem(
            422, "destination.unknown", f"There is no destination “{name[:80]}”. Choose one of the list.", "destination"
        )
    return Destination.model_validate(row.data)


def check_version(haul: Haul, given: str | None) -> None:
    """Optimistic locking: If-Match must name the version that was read."""
    if given is None:
        raise Problem(428, "version.missing", "Send the ETag that you read as If-Match.", "If-Match")
    if given.strip('W/"') != str(haul.version):
        raise Problem(
            412,
            "version.stale",
            "Somebody changed this haul meanwhile. Reload it and make the change again.",
            "If-Match",
        )


def active_job(session: Session, haul: uuid.UUID) -> Job | None:
    return session.scalars(
        select(Job).where(Job.haul_id == haul, Job.state.in_(("waiting", "running"))).order_by(Job.created).limit(1)
    ).first()


def new_job(session: Session, haul: Haul, kind: str, arguments: dict[str, Any] | None = None) -> Job:
    """A row for a job. Raises a 409 problem when another is at work on the haul."""
    session.execute(select(Haul.id).where(Haul.id == haul.id).with_for_update())
    if active_job(session, haul.id) is not None:
        raise Problem(409, "job.busy", "Work on this haul is going on. Wait for it or cancel it first.", str(haul.id))
    job = Job(
        id=uuid.uuid4(),
        haul_id=haul.id,
        kind=kind,
        state="waiting",
        title=kind,
        done=0,
        total=0,
        arguments=arguments or {},
        attempts=0,
        cancel=False,
    )
    session.add(job)
    session.flush()
    return job
