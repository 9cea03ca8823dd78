"""Starts everything in the right order and stops it cleanly: database, schema, demo, server."""

from __future__ import annotations

import contextlib
import fcntl
import os
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NoReturn

import uvicorn
from pydantic import ValidationError

from tidy_caravan.core.errors import CaravanError
from tidy_caravan.server.app import create_app
from tidy_caravan.server.db.cluster import Cluster
from tidy_caravan.server.db.naming import name_parts
from tidy_caravan.server.db.session import engine_for, migrate, session_for
from tidy_caravan.server.faults import keep_log
from tidy_caravan.server.settings import Settings, told
from tidy_caravan.server.store.blobs import Store

KEPT_OPEN_S = 75
"""Seconds that an idle connection stays open. Longer than clients wait between two requests, or one that asks again just then
finds its connection closed under it."""


def say(text: str) -> None:
    print(f"  {text}", flush=True)


def port_to_use(host: str, wanted: int) -> int:
    """The wanted port, or a free one when it is taken."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    for port in (wanted, 0):
        with socket.socket(family) as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind((host, port))
                return int(probe.getsockname()[1])
            except OSError:
                continue
    raise CaravanError(f"no port can be opened on {host}", code="server.port")


class Server(uvicorn.Server):
    """Tells the address once it really answers. Signals are ours (see Ending), not uvicorn's."""

    @contextlib.contextmanager
    def capture_signals(self) -> Iterator[None]:
        yield

    def __init__(self, config: uvicorn.Config, began: float) -> None:
        super().__init__(config)
        self.began = began

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        await super().startup(sockets)
        if self.started:
            host = f"[{self.config.host}]" if ":" in self.config.host else self.config.host
            print(
                f"\nTidy Caravan is ready after {time.monotonic() - self.began:.1f} s:\n\n    http://{host}:{self.config.port}/\n\nCtrl-C stops it.",
                flush=True,
            )


def serve(state: Path, demo: bool) -> int:
    """Runs until Ctrl-C, TERM or HUP; ten seconds later at most everything is gone. `state` holds database and store."""
    began = time.monotonic()
    ending = Ending()
    for number in (signal.SIGTERM, signal.SIGHUP, signal.SIGINT):
        signal.signal(number, ending.begin)
    state.mkdir(parents=True, exist_ok=True, mode=0o700)
    # PostgreSQL's own user has to get through, and to see nothing on its way
    state.chmod(0o711 if os.geteuid() == 0 else 0o700)
    lock = (state / "lock").open("w")
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        print(
            "Tidy Caravan is running already from this folder; stop it first (Ctrl-C in its window).", file=sys.stderr
        )
        return 1
    try:
        settings = Settings()
    except ValidationError as error:
        print(told(error), file=sys.stderr)
        return 2
    log = settings.log or str(state / "log" / "tidy-caravan.log")
    given = "store" in settings.model_fields_set
    settings = settings.but(log=log, store=settings.store if given else str(state / "store"))
    if not settings.loopback and not settings.access_key:
        print(f"Binding to {settings.host} needs an access key: set CARAVAN_ACCESS_KEY.", file=sys.stderr)
        return 2
    if settings.scheduler:
        from tidy_caravan.server.jobs.workers import security_of

        security_of(settings)
    keep_log(log)
    cluster = None if settings.database else Cluster(state / "postgres")
    ending.cluster = cluster
    try:
        if cluster is not None:
            say("starting the database")
            settings = settings.but(database=cluster.start(say))
        migrate(settings.database)
        with session_for(settings.database) as session:
            name_parts(session, Store(settings.store))
        if cluster is not None:
            cluster.watch()
        if demo:
            from tidy_caravan.demo.load import load_demo

            load_demo(settings, say)
        port = port_to_use(settings.host, settings.port)
        app = create_app(settings)
        ending.manager = app.state.caravan.manager
        config = uvicorn.Config(
            app,
            host=settings.host,
            port=port,
            log_level="warning",
            timeout_graceful_shutdown=2,
            timeout_keep_alive=KEPT_OPEN_S,
            access_log=False,
        )
        say(f"faults are kept in {log}")
        server = Server(config, began)
        ending.server = server
        server.run()
    except KeyboardInterrupt:
        pass
    finally:
        ending.watch()
        if settings.database:
            engine_for(settings.database).dispose()
        if cluster is not None:
            cluster.stop()
    return 0


class Ending:
    """Ends in order when asked to, and without order when that takes too long."""

    SECONDS = 6.0
    """Ten are promised; the rest is for a machine that is busy with other things."""

    def __init__(self) -> None:
        self.cluster: Cluster | None = None
        self.manager: Any = None
        self.server: uvicorn.Server | None = None
        self._watching = False

    def begin(self, *_: object) -> None:
        """The handler of TERM, HUP and INT."""
        self.watch()
        if self.server is not None and self.server.started:
            self.server.should_exit = True
            return
        raise KeyboardInterrupt

    def watch(self) -> None:
        """From now on there are SECONDS left; then workers and database are ended one by one, and so are we."""
        if self._watching:
            return
        self._watching = True
        timer = threading.Timer(self.SECONDS, self._now)
        timer.daemon = True
        timer.start()

    def _now(self) -> None:
        workers = getattr(self.manager, "workers", None)
        if workers is not None:
            workers.kill()
        process = self.cluster.process if self.cluster is not None else None
        if process is not None and process.poll() is None:
            process.send_signal(signal.SIGQUIT)
            with contextlib.suppress(subprocess.TimeoutExpired):
                process.wait(1.0)
        end_now(0)


def end_now(code: int) -> NoReturn:
    """Ends this process and all below it, those too that were just being started, and takes their meeting place away."""
    import multiprocessing.util
    import shutil

    import psutil

    for _ in range(2):  # a process may have started another one in between
        for process in psutil.Process().children(recursive=True):
            with contextlib.suppress(psutil.Error):
                process.kill()
    shutil.rmtree(multiprocessing.util.get_temp_dir(), ignore_errors=True)
    os._exit(code)
