"""Hands jobs to the workers and hears from them; starts the workers, and starts them again when they are lost."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import threading
import time
import uuid
from typing import Any

import orjson
import psycopg
from sqlalchemy import select
from sqlalchemy.exc import SQLAlchemyError

from tidy_caravan.core.errors import CaravanError
from tidy_caravan.server.db.models import Job
from tidy_caravan.server.db.session import session_for
from tidy_caravan.server.jobs.claims import CHANNEL
from tidy_caravan.server.jobs.entry import perform_job, tidy
from tidy_caravan.server.settings import Settings

MOST_ATTEMPTS = 5
"""Times that a job is begun before it is given up: workers that die with it, not lines that break."""
LOOK_SECONDS = 2.0
LONGEST_PAUSE = 60.0
EMPTY_SECONDS = 45.0
"""How long a cluster may be without any worker before it is made anew."""
TIDY_SECONDS = 3600.0
log = logging.getLogger("tidy_caravan.jobs")


class Bus:
    """Passes events to everyone who listens; a slow listener loses old events, not new ones."""

    def __init__(self) -> None:
        self.queues: set[asyncio.Queue[dict[str, Any]]] = set()
        self.loop: asyncio.AbstractEventLoop | None = None

    def send(self, event: dict[str, Any]) -> None:
        """From any thread."""
        if self.loop is not None and not self.loop.is_closed():
            with contextlib.suppress(RuntimeError):  # closed in between
                self.loop.call_soon_threadsafe(self._deliver, event)

    def _deliver(self, event: dict[str, Any]) -> None:
        for queue in self.queues:
            if queue.full():
                queue.get_nowait()
            queue.put_nowait(event)


class Manager:
    """Owns the workers. Every job that is not over is in somebody's hands, or is given into them again."""

    def __init__(self, settings: Settings, bus: Bus) -> None:
        self.settings, self.bus = settings, bus
        self.workers: Any = None
        self.trouble = ""
        self.stopping = threading.Event()
        self.wake = threading.Event()
        self.tidy_at = time.monotonic() + 60.0
        self._handed: dict[uuid.UUID, Any] = {}
        self._tidying: Any = None
        self._kills_at: dict[uuid.UUID, int] = {}
        self._listener = threading.Thread(target=self._listen, name="job events", daemon=True)
        self._keeper = threading.Thread(target=self._keep, name="job keeper", daemon=True)

    def start(self) -> None:
        """Returns at once; the workers come up in the background and take what waits."""
        self._listener.start()
        self._keeper.start()

    def submit(self, job: uuid.UUID) -> None:
        """Call after the job's row is committed."""
        self.wake.set()

    def tidy_soon(self) -> None:
        """The store is looked through for what nothing points at, once the workers have time."""
        self.tidy_at = 0.0
        self.wake.set()

    def health(self) -> tuple[int, str]:
        """Workers that can take work, and what is wrong, in one sentence; empty when nothing is."""
        workers = self.workers
        return (workers.count() if workers is not None else 0), self.trouble

    # the keeper: one thread that starts workers, hands out jobs and looks after both

    def _keep(self) -> None:
        pause, empty_since = 1.0, 0.0
        while not self.stopping.is_set():
            if self.workers is None and not self._start_workers():
                self.stopping.wait(pause)
                pause = min(pause * 2, LONGEST_PAUSE)
                continue
            pause = 1.0
            try:
                self._look()
            except (SQLAlchemyError, psycopg.Error) as error:
                log.warning("the database does not answer: %s", error)
            except Exception:  # the keeper must outlive everything that it looks after
                log.exception("looking after the jobs failed")
            if self.workers.count():
                empty_since = 0.0
                self.trouble = ""
            else:
                empty_since = empty_since or time.monotonic()
                self.trouble = "No worker is there to take the work; new ones are being started."
                if time.monotonic() - empty_since > EMPTY_SECONDS:
                    lost, self.workers, empty_since = self.workers, None, 0.0
                    lost.close(2)
                    self._handed.clear()
            self.wake.wait(LOOK_SECONDS)
            self.wake.clear()

    def _start_workers(self) -> bool:
        from tidy_caravan.server.jobs.workers import Workers

        try:
            made = Workers(self.settings)
        except CaravanError as error:
            self.trouble = f"Work cannot begin: {error.what}. It is tried again and again."
            log.warning("%s", self.trouble)
            return False
        if self.stopping.is_set():
            made.close(2)
            return False
        self.workers, self.trouble = made, ""
        return True

    def _look(self) -> None:
        """Every unfinished job without a live hand is given into one; those begun too often are given up."""
        with session_for(self.settings.database) as session:
            rows = session.execute(
                select(Job.id, Job.attempts).where(Job.state.in_(("waiting", "running"))).order_by(Job.created)
            ).all()
        unfinished = {row.id for row in rows}
        for job in [j for j in self._handed if j not in unfinished]:
            self._handed.pop(job, None)
            self._kills_at.pop(job, None)
        for job, attempts in rows:
            future = self._handed.get(job)
            if future is not None and not future.done():
                continue
            if future is not None:
                self._handed.pop(job, None)
                if future.status == "finished" and future.result() == "held":
                    continue  # another worker has it; looked at again next time
                if future.status == "error":
                    attempts = max(attempts, MOST_ATTEMPTS)  # the scheduler gave it up by itself
            if attempts >= MOST_ATTEMPTS:
                self._give_up(job)
            else:
                self._hand_over(job)
        if time.monotonic() > self.tidy_at:
            self.tidy_at = time.monotonic() + TIDY_SECONDS
            s = self.settings
            self._tidying = self.workers.client.submit(
                tidy,
                s.database,
                s.store,
                s.keep_runs,
                s.keep_minutes,
                s.keep_deleted_days,
                key=f"tidy-{uuid.uuid4().hex[:8]}",
                pure=False,
            )

    def _hand_over(self, job: uuid.UUID) -> None:
        s = self.settings
        self._kills_at.setdefault(job, self.workers.kills.count)
        self._handed[job] = self.workers.client.submit(
            perform_job,
            str(job),
            s.database,
            s.store,
            s.upload_bytes,
            s.log,
            key=f"job-{job}-{uuid.uuid4().hex[:6]}",
            pure=False,
            retries=0,
        )

    def _give_up(self, job: uuid.UUID) -> None:
        killed = self.workers is not None and self.workers.kills.count > self._kills_at.get(job, 0)
        if killed:
            from tidy_caravan.server.jobs.workers import MEMORY

            sentence = f"The work needed more than the {MEMORY} of memory that a worker may have. Send the scene in smaller pieces."
        else:
            sentence = (
                "The workers were lost with this work again and again, and it is not tried any more. The log says more."
            )
        self._fail(job, sentence)

    def _fail(self, job: uuid.UUID, sentence: str) -> None:
        problem = {"code": "job.lost", "title": sentence, "where": "worker"}
        with session_for(self.settings.database) as session:
            row = session.get(Job, job, with_for_update=True)
            if row is None or row.state in ("done", "failed", "cancelled"):
                return
            row.state, row.problem = "failed", problem
            haul, kind = str(row.haul_id), row.kind
        self.bus.send(
            {"job": str(job), "haul": haul, "state": "failed", "title": kind, "done": 0, "total": 0, "problem": problem}
        )

    def _listen(self) -> None:
        address = self.settings.database.replace("+psycopg", "")
        while not self.stopping.is_set():
            try:
                with psycopg.connect(address, autocommit=True, connect_timeout=5) as connection:
                    connection.execute(f"LISTEN {CHANNEL}")
                    while not self.stopping.is_set():
                        for notice in connection.notifies(timeout=0.5):
                            with contextlib.suppress(orjson.JSONDecodeError):
                                self.bus.send(orjson.loads(notice.payload))
            except psycopg.Error as error:
                if not self.stopping.wait(1.0):
                    log.warning("lost the line to the database: %s", error)

    def stop(self) -> None:
        """Ends the workers; returns within some seconds whatever they do."""
        self.stopping.set()
        self.wake.set()
        self._keeper.join(1.0)
        workers = self.workers
        if workers is not None:
            workers.close(3)
        self._listener.join(1.0)
