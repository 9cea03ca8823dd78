"""Hands jobs to the cluster and hears from them: an embedded dask cluster, or an existing scheduler."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import threading
import uuid
from collections.abc import Callable
from typing import Any

import dask
import orjson
import psycopg
from distributed import Client, LocalCluster
from sqlalchemy import select

from tidy_caravan.server.db.models import Job
from tidy_caravan.server.db.session import session_for
from tidy_caravan.server.jobs.tasks import CHANNEL, perform
from tidy_caravan.server.settings import Settings

MOST_ATTEMPTS = 3
log = logging.getLogger("tidy_caravan.jobs")


class Bus:
    """Passes events to everyone who listens; a slow listener loses old events, not new ones."""

    def __init__(self) -> None:
        self.queues: set[asyncio.Queue[dict[str, Any]]] = set()
        self.loop: asyncio.AbstractEventLoop | None = None

    def send(self, event: dict[str, Any]) -> None:
        """From any thread."""
        if self.loop is not None and not self.loop.is_closed():
            self.loop.call_soon_threadsafe(self._deliver, event)

    def _deliver(self, event: dict[str, Any]) -> None:
        for queue in self.queues:
            if queue.full():
                queue.get_nowait()
            queue.put_nowait(event)


class Manager:
    """Owns the cluster. Jobs that a crash or restart interrupted are started again."""

    def __init__(self, settings: Settings, bus: Bus) -> None:
        self.settings, self.bus = settings, bus
        self.client: Any = None
        self.cluster: Any = None
        self.stopping = threading.Event()
        self.listener = threading.Thread(target=self._listen, name="job events", daemon=True)
        self.ready = threading.Event()
        self.starter = threading.Thread(target=self._start, name="cluster start", daemon=True)

    def start(self) -> None:
        """Returns at once; the cluster comes up in the background and takes what waits."""
        self.listener.start()
        self.starter.start()

    def _start(self) -> None:
        if self.settings.scheduler:
            self.client = Client(self.settings.scheduler)
        else:
            dask.config.set({"distributed.worker.daemon": False, "distributed.admin.low-level-log-length": 0})
            self.cluster = LocalCluster(
                n_workers=self.settings.workers,
                threads_per_worker=1,
                processes=True,
                dashboard_address=None,
                host="127.0.0.1",
                memory_limit="8GiB",
                silence_logs=logging.ERROR,
            )
            self.client = Client(self.cluster)
        self.ready.set()
        with session_for(self.settings.database) as session:
            waiting = session.scalars(
                select(Job).where(Job.state.in_(("waiting", "running"))).order_by(Job.created)
            ).all()
        for job in waiting:
            if job.attempts >= MOST_ATTEMPTS:
                self._fail(job.id, f"The work was interrupted {job.attempts} times and is not tried again.")
            else:
                self._hand_over(job.id)

    def submit(self, job: uuid.UUID) -> None:
        """Call after the job's row is committed."""
        if self.ready.is_set():
            self._hand_over(job)

    def _hand_over(self, job: uuid.UUID) -> None:
        s = self.settings
        future = self.client.submit(
            perform,
            str(job),
            s.database,
            s.store,
            s.upload_bytes,
            key=f"job-{job}-{uuid.uuid4().hex[:6]}",
            pure=False,
            retries=0,
        )
        future.add_done_callback(self._after(job))

    def _after(self, job: uuid.UUID) -> Callable[[Any], None]:
        def done(future: Any) -> None:
            if not self.stopping.is_set() and future.status == "error":
                self._fail(job, "The worker was lost; the scene may need more memory than there is.")

        return done

    def _fail(self, job: uuid.UUID, sentence: str) -> None:
        problem = {"code": "job.lost", "title": sentence, "where": "worker"}
        with session_for(self.settings.database) as session:
            row = session.get(Job, job)
            if row is None or row.state in ("done", "failed", "cancelled"):
                return
            row.state, row.problem = "failed", problem
            haul = str(row.haul_id)
        self.bus.send(
            {"job": str(job), "haul": haul, "state": "failed", "title": "", "done": 0, "total": 0, "problem": problem}
        )

    def _listen(self) -> None:
        address = self.settings.database.replace("+psycopg", "")
        while not self.stopping.is_set():
            try:
                with psycopg.connect(address, autocommit=True) as connection:
                    connection.execute(f"LISTEN {CHANNEL}")
                    while not self.stopping.is_set():
                        for notice in connection.notifies(timeout=0.5):
                            with contextlib.suppress(orjson.JSONDecodeError):
                                self.bus.send(orjson.loads(notice.payload))
            except psycopg.Error as error:
                if not self.stopping.wait(1.0):
                    log.warning("lost the line to the database: %s", error)

    def stop(self) -> None:
        self.stopping.set()
        self.starter.join(20)
        for thing in (self.client, self.cluster):
            if thing is not None:
                with contextlib.suppress(Exception):
                    thing.close(timeout=5)
        self.listener.join(3)
