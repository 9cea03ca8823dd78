"""What every route module needs: settings, store, sessions, and looking things up."""

from __future__ import annotations

import inspect
import threading
import uuid
from collections import OrderedDict
from collections.abc import Callable, Coroutine, Iterator
from contextlib import contextmanager
from typing import Annotated, Any, TypeVar

from fastapi import Depends, Request
from sqlalchemy import select, text
from sqlalchemy.orm import Session

from tidy_caravan.core.conventions.destinations import BUILT_IN, Destination
from tidy_caravan.core.scene import Scene
from tidy_caravan.server.db.models import Base, DestinationRow, Haul, Job
from tidy_caravan.server.db.session import session_for
from tidy_caravan.server.jobs.claims import CHANNEL, notice, unclaimed
from tidy_caravan.server.jobs.manager import Bus, Manager
from tidy_caravan.server.problems import Problem
from tidy_caravan.server.settings import Settings
from tidy_caravan.server.store.blobs import Store
from tidy_caravan.server.store.scenes import load_scene

SCENES_KEPT = 2
ANSWER_BYTES = 64 << 20
V = TypeVar("V")


class Answers:
    """Finished answers about scenes, which never change once they are written; those not asked for longest go first."""

    def __init__(self, most: int = ANSWER_BYTES) -> None:
        self.most, self.bytes = most, 0
        self._kept: OrderedDict[str, bytes] = OrderedDict()
        self._lock = threading.Lock()
        self._made: dict[str, list[Any]] = {}

    def get(self, key: str) -> bytes | None:
        with self._lock:
            if key not in self._kept:
                return None
            self._kept.move_to_end(key)
            return self._kept[key]

    def once(self, key: str, make: Callable[[], bytes]) -> bytes:
        """The kept answer, or what `make` returns; of many who ask for the same at once, one makes it."""
        kept = self.get(key)
        if kept is not None:
            return kept
        with self._lock:
            turn = self._made.setdefault(key, [threading.Lock(), 0])
            turn[1] += 1
        try:
            with turn[0]:
                kept = self.get(key)
                if kept is None:
                    kept = make()
                    self.put(key, kept)
                return kept
        finally:
            with self._lock:
                turn[1] -= 1
                if not turn[1]:
                    del self._made[key]

    def put(self, key: str, answer: bytes) -> None:
        if len(answer) > self.most // 8:
            return
        with self._lock:
            self.bytes += len(answer) - len(self._kept.pop(key, b""))
            self._kept[key] = answer
            while self.bytes > self.most:
                self.bytes -= len(self._kept.popitem(last=False)[1])


class State:
    """One per application."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        self.store = Store(settings.store)
        self.bus = Bus()
        self.manager = Manager(settings, self.bus)
        self.answers = Answers()
        self._scenes: OrderedDict[str, Scene] = OrderedDict()
        self._derived: OrderedDict[str, Scene] = OrderedDict()
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

    def derived(self, key: str, make: Callable[[], Scene]) -> Scene:
        """What `make` returns, which follows from its key; the last few are kept. Raises what it raises."""
        with self._scene_lock:
            if key not in self._derived:
                self._derived[key] = make()
            self._derived.move_to_end(key)
            while len(self._derived) > SCENES_KEPT:
                self._derived.popitem(last=False)
            return self._derived[key]


def state_of(request: Request) -> State:
    state: State = request.app.state.caravan
    return state


async def ready_state(request: Request) -> State:
    """The same without a turn in the thread pool, which would cost more than the look-up."""
    return state_of(request)


def at_once(kind: type[V]) -> Callable[..., Coroutine[Any, Any, V]]:
    """A class of request parameters as a dependency that is made in the event loop, not in the thread pool."""

    async def make(**given: Any) -> V:
        return kind(**given)

    make.__signature__ = inspect.signature(kind, eval_str=True)  # type: ignore[attr-defined]
    return make


@contextmanager
def looking(state: State) -> Iterator[Session]:
    """A session that cannot change anything."""
    with session_for(state.settings.database) as session:
        session.connection(execution_options={"postgresql_readonly": True})
        yield session


def session_of(request: Request) -> Iterator[Session]:
    state = state_of(request)
    with looking(state) if request.method in ("GET", "HEAD") else session_for(state.settings.database) as session:
        yield session


StateDep = Annotated[State, Depends(ready_state)]
# committed before the answer goes out: what a client was told is there when it asks again, and a job's
# row is there when the job is handed to the workers
SessionDep = Annotated[Session, Depends(session_of, scope="function")]
T = TypeVar("T", bound=Base)


def unknown(what: str, key: uuid.UUID) -> Problem:
    return Problem(404, f"{what}.unknown", f"There is no such {what}. It may have been deleted.", str(key))


def busy(haul: uuid.UUID) -> Problem:
    return Problem(409, "job.busy", "Work on this haul is going on. Wait for it or cancel it first.", str(haul))


def no_change(what: str, name: str, again: bool) -> Problem:
    title = "Nothing was undone that could be done again." if again else "There is no change to undo."
    return Problem(409, f"{what}.no-change", title, name)


def found(session: Session, table: type[T], key: uuid.UUID, what: str, lock: bool = False) -> T:
    """The row, or a 404 problem that says what is missing; a deleted haul is. With `lock` it is read anew, and kept from
    everybody else until the transaction ends."""
    row = session.get(table, key, with_for_update=lock or None, populate_existing=lock)
    if row is None or (isinstance(row, Haul) and row.deleted is not None):
        raise unknown(what, key)
    return row


def destination_named(session: Session, name: str) -> Destination:
    for known in BUILT_IN:
        if known.name == name:
            return known
    row = session.get(DestinationRow, name)
    if row is None or row.deleted is not None:
        raise Problem(
            422, "destination.unknown", f"There is no destination “{name[:80]}”. Choose one of the list.", "destination"
        )
    return Destination.model_validate(row.data)


def check_version(one: Haul | DestinationRow, given: str | None) -> None:
    """Optimistic locking: If-Match must name the version that was read."""
    if given is None:
        raise Problem(428, "version.missing", "Send the ETag that you read as If-Match.", "If-Match")
    if given.strip('W/"') != str(one.version):
        what = "haul" if isinstance(one, Haul) else "destination"
        raise Problem(
            412,
            "version.stale",
            f"Somebody changed this {what} meanwhile. Reload it and make the change again.",
            "If-Match",
        )


def active_job(session: Session, haul: uuid.UUID) -> Job | None:
    return session.scalars(
        select(Job)
        .where(Job.haul_id == haul, Job.kind != "preview", Job.state.in_(("waiting", "running")))
        .order_by(Job.created)
        .limit(1)
    ).first()


def stop(session: Session, job: Job) -> None:
    """Cancels a locked job: at once when nobody works on it, at the next safe place otherwise."""
    job.cancel = True
    if unclaimed(session, job.id):
        job.state = "cancelled"
        facts = notice(job.id, job.haul_id, state="cancelled", title=job.kind, done=1, total=1, problem=None)
        session.execute(text("SELECT pg_notify(:channel, :facts)"), {"channel": CHANNEL, "facts": facts})
    session.flush()


def new_job(session: Session, haul: Haul, kind: str, arguments: dict[str, Any] | None = None) -> Job:
    """A row for a job. Raises a 409 problem when another is at work on the haul. Previews are in nobody's way: there
    is one per haul, and a new one ends the one before."""
    there = select(Haul.id).where(Haul.id == haul.id, Haul.deleted.is_(None))
    if session.scalars(there.with_for_update()).first() is None:
        raise unknown("haul", haul.id)
    if kind == "preview":
        older = select(Job).where(Job.haul_id == haul.id, Job.kind == "preview", Job.state.in_(("waiting", "running")))
        for job in session.scalars(older.with_for_update()):
            stop(session, job)
    elif active_job(session, haul.id) is not None:
        raise busy(haul.id)
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
