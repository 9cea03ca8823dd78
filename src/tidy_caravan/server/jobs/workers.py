"""The workers: an embedded cluster of processes that only speaks mutual TLS and opens no web page, or an existing one.

Whoever reaches a scheduler runs code in its workers, so the credentials are made anew at every start and are in
memory only, and the HTTP servers that its nodes would open are never bound.
"""

from __future__ import annotations

import contextlib
import logging
import os
import signal
import sys
import threading
from typing import Any

import dask
from distributed import Client, Nanny, Scheduler, SpecCluster, Worker
from distributed.http.routing import RoutingApplication
from distributed.security import Security
from distributed.utils import get_mp_context
from tornado.httpserver import HTTPServer

from tidy_caravan.core.errors import CaravanError
from tidy_caravan.server.settings import Settings

MEMORY = "8GiB"
SECONDS_TO_START = 60.0
NICE = 10
MEMORY_LOG = "distributed.worker.memory"
METHOD = "forkserver" if sys.version_info >= (3, 11, 1) else "spawn"
"""Before 3.11.1 whoever was on the machine could have code run by the process that others are forked from (CVE-2022-42919)."""
PRELOADED = ["tidy_caravan.server.jobs.preloaded"]
"""Instead of what the library would have the process load that worker processes are forked from."""


class Silent:
    """A node of the cluster whose web pages exist as objects only: nothing listens."""

    http_application: Any
    http_server: Any

    def start_http_server(self, *_: Any, **__: Any) -> None:
        self.http_application = RoutingApplication([])
        self.http_server = HTTPServer(self.http_application)


class SilentScheduler(Silent, Scheduler):  # type: ignore[misc]
    pass


class SilentWorker(Silent, Worker):  # type: ignore[misc]
    """Made in the worker's own process, which steps back: on a machine with few cores, answers go before heavy work."""

    def __init__(self, *given: Any, **named: Any) -> None:
        os.nice(max(0, NICE - os.nice(0)))
        super().__init__(*given, **named)


class MemoryKills(logging.Handler):
    """Hears when a worker is ended because it took too much memory: the log is the only place that says so."""

    def __init__(self) -> None:
        super().__init__(logging.WARNING)
        self.count = 0

    def emit(self, record: logging.LogRecord) -> None:
        if "memory budget. Restarting" in record.getMessage():
            self.count += 1


def security_of(settings: Settings) -> Security | None:
    """TLS of an existing scheduler; None only where the network was said to be private. Raises CaravanError."""
    files = (settings.scheduler_ca, settings.scheduler_cert, settings.scheduler_key)
    if all(files):
        return Security(
            require_encryption=True,
            tls_ca_file=files[0],
            tls_client_cert=files[1],
            tls_client_key=files[2],
        )
    if settings.scheduler_private:
        return None
    raise CaravanError(
        "an existing scheduler runs code for everyone who reaches it: set CARAVAN_SCHEDULER_CA, CARAVAN_SCHEDULER_CERT "
        "and CARAVAN_SCHEDULER_KEY, or CARAVAN_SCHEDULER_PRIVATE=1 if nobody else is on that network",
        where=settings.scheduler,
        code="scheduler.open",
    )


class Workers:
    """A client and, unless there is a scheduler already, a cluster of its own. Raises when it cannot be started."""

    def __init__(self, settings: Settings) -> None:
        self.client: Any = None
        self.cluster: Any = None
        self.kills = MemoryKills()
        dask.config.set(
            {
                "distributed.worker.daemon": False,
                "distributed.worker.multiprocessing-method": METHOD,
                "distributed.admin.low-level-log-length": 0,
                "distributed.scheduler.http.routes": [],
                "distributed.worker.http.routes": [],
                "distributed.comm.timeouts.connect": "20s",
                # looking at itself takes a tenth of a processor from the work, and nobody reads what it sees
                "distributed.worker.profile.enabled": False,
                "distributed.worker.profile.interval": "5s",
                "distributed.worker.profile.cycle": "60s",
                "distributed.admin.tick.interval": "1s",
                "distributed.admin.tick.cycle": "5s",
                "distributed.admin.system-monitor.interval": "5s",
                "distributed.admin.system-monitor.gil.enabled": False,
            }
        )
        # a start that hangs must not hold up the next attempt
        failure: list[BaseException] = []

        def attempt() -> None:
            try:
                self._start(settings)
            except BaseException as error:
                failure.append(error)

        thread = threading.Thread(target=attempt, name="cluster start", daemon=True)
        thread.start()
        thread.join(SECONDS_TO_START)
        if thread.is_alive() or failure or self.client is None:
            self.close(1)
            raise CaravanError(
                f"the workers did not start ({failure[0] if failure else f'no answer in {SECONDS_TO_START:.0f} s'})"[
                    :300
                ],
                code="workers.unavailable",
            )

    def _start(self, settings: Settings) -> None:
        if settings.scheduler:
            self.client = Client(settings.scheduler, security=security_of(settings), timeout=20, set_as_default=False)
            return
        if METHOD == "forkserver":
            get_mp_context().set_forkserver_preload(PRELOADED)
        security = Security.temporary()
        common = {"host": "127.0.0.1", "protocol": "tls://", "security": security}
        logger = logging.getLogger(MEMORY_LOG)
        logger.addHandler(self.kills)
        logger.setLevel(logging.WARNING)
        logger.propagate = False
        worker = {
            "cls": Nanny,
            "options": {
                **common,
                "worker_class": SilentWorker,
                "nthreads": 1,
                "memory_limit": MEMORY,
                "dashboard": False,
                "silence_logs": logging.ERROR,
            },
        }
        self.cluster = SpecCluster(
            scheduler={"cls": SilentScheduler, "options": {**common, "port": 0, "dashboard": False}},
            workers=dict.fromkeys(range(settings.workers), worker),
            security=security,
            silence_logs=logging.ERROR,
        )
        self.client = Client(self.cluster, timeout=20, set_as_default=False)
        self.client.wait_for_workers(1, timeout=40)
        logger.setLevel(logging.WARNING)

    def count(self) -> int:
        """Workers that can take work now; 0 when the scheduler does not answer."""
        try:
            if self.client is None or self.client.status != "running":
                return 0
            return len(self.client.scheduler_info(n_workers=-1)["workers"])
        except Exception:  # whatever a broken line raises: then nobody can take work
            return 0

    def kill(self) -> None:
        """Ends our own worker processes at once, and for good. What they were at is begun again at the next start:
        every stage of every job survives a kill, so nothing is gained by asking them first."""
        for nanny in list(getattr(self.cluster, "workers", {}).values()) if self.cluster is not None else []:
            nanny.auto_restart = False
            process = getattr(getattr(nanny, "process", None), "process", None)
            if process is not None and process.pid:
                with contextlib.suppress(ProcessLookupError):
                    os.kill(int(process.pid), signal.SIGKILL)

    def close(self, seconds: float = 5.0) -> None:
        """Ends client and cluster; whatever takes longer is left to a thread of its own."""
        self.kill()

        def end() -> None:
            for thing in (self.client, self.cluster):
                if thing is not None:
                    try:
                        thing.close(timeout=seconds)
                    except Exception:  # closing what is broken may raise anything, and is all we want
                        logging.getLogger("tidy_caravan.jobs").debug("closing the workers", exc_info=True)

        thread = threading.Thread(target=end, name="cluster stop", daemon=True)
        thread.start()
        thread.join(seconds)
        logging.getLogger(MEMORY_LOG).removeHandler(self.kills)
