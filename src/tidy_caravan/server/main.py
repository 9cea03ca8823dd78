"""Starts everything in the right order and stops it cleanly: database, schema, demo, server."""

from __future__ import annotations

import argparse
import dataclasses
import fcntl
import os
import signal
import socket
import sys
import time
from pathlib import Path
from typing import NoReturn

import uvicorn

from tidy_caravan.core.errors import CaravanError
from tidy_caravan.server.app import create_app
from tidy_caravan.server.db.cluster import Cluster
from tidy_caravan.server.db.session import engine_for, migrate
from tidy_caravan.server.settings import ROOT, Settings


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
    """Tells the address once it really answers."""

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
    """Runs until Ctrl-C or TERM. `state` holds database and store."""
    began = time.monotonic()
    state.mkdir(parents=True, exist_ok=True)
    lock = (state / "lock").open("w")
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        print(
            "Tidy Caravan is running already from this folder; stop it first (Ctrl-C in its window).", file=sys.stderr
        )
        return 1
    settings = Settings(store=os.environ.get("CARAVAN_STORE", str(state / "store")))
    if not settings.loopback and not settings.access_key:
        print(f"Binding to {settings.host} needs an access key: set CARAVAN_ACCESS_KEY.", file=sys.stderr)
        return 2
    cluster = None if settings.database else Cluster(state / "postgres")
    signal.signal(signal.SIGTERM, interrupted)
    try:
        if cluster is not None:
            say("starting the database")
            settings = dataclasses.replace(settings, database=cluster.start(say))
        migrate(settings.database)
        if demo:
            from tidy_caravan.demo.load import load_demo

            load_demo(settings, say)
        port = port_to_use(settings.host, settings.port)
        config = uvicorn.Config(
            create_app(settings),
            host=settings.host,
            port=port,
            log_level="warning",
            timeout_graceful_shutdown=2,
            access_log=False,
        )
        Server(config, began).run()
    except KeyboardInterrupt:
        pass
    finally:
        if settings.database:
            engine_for(settings.database).dispose()
        if cluster is not None:
            cluster.stop()
    return 0


def interrupted(*_: object) -> NoReturn:
    raise KeyboardInterrupt


def main() -> int:
    parser = argparse.ArgumentParser(prog="tidy-caravan-server", description=__doc__)
    parser.add_argument("--demo", action="store_true", help="load the demo hauls into an empty database")
    parser.add_argument("--state", type=Path, default=ROOT / ".state", help="folder of database and store")
    args = parser.parse_args()
    try:
        return serve(args.state, args.demo)
    except CaravanError as error:
        print(f"tidy-caravan: {error.sentence()}", file=sys.stderr)
        return 1


if __name__ == "__main__":
    raise SystemExit(main())
