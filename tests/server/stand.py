"""A database cluster and a running server for tests; one per test process, started when first needed."""

from __future__ import annotations

import atexit
import contextlib
import os
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path
from typing import Any

import httpx
import uvicorn

from tidy_caravan.server.app import create_app
from tidy_caravan.server.db.cluster import Cluster
from tidy_caravan.server.db.session import engine_for, migrate
from tidy_caravan.server.settings import ROOT, Settings


@lru_cache(maxsize=1)
def database() -> str:
    """Address of a fresh, migrated database that goes away with the process."""
    holder = tempfile.TemporaryDirectory(prefix="caravan-tests-", dir="/var/tmp")
    os.chmod(holder.name, 0o755)
    cluster = Cluster(Path(holder.name) / "postgres", durable=False)
    address = cluster.start()

    def close() -> None:
        engine_for(address).dispose()
        cluster.stop()
        with contextlib.suppress(OSError):
            holder.cleanup()

    atexit.register(close)
    migrate(address)
    return address


@lru_cache(maxsize=1)
def settings() -> Settings:
    store = tempfile.TemporaryDirectory(prefix="caravan-store-")
    atexit.register(store.cleanup)
    return Settings(database=database(), store=store.name, upload_bytes=64 << 20)


@lru_cache(maxsize=1)
def running() -> str:
    """Address of a real server with its cluster of workers."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    server = uvicorn.Server(
        uvicorn.Config(create_app(settings()), port=port, log_level="error", timeout_graceful_shutdown=1)
    )
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    until = time.monotonic() + 30
    while not server.started and time.monotonic() < until:
        time.sleep(0.05)

    def close() -> None:
        server.should_exit = True
        thread.join(30)

    atexit.register(close)
    return f"http://127.0.0.1:{port}"


def client() -> httpx.Client:
    return httpx.Client(base_url=running(), timeout=60, verify=False)


def begin(
    c: httpx.Client, data: bytes | dict[str, bytes], name: str = "scene.glb", to: str = "metre-y-up-right"
) -> dict[str, Any]:
    """A new haul whose import has ended; the haul as JSON."""
    files = {name: data} if isinstance(data, bytes) else data
    answer = c.post("/api/hauls", files=[("files", (k, v)) for k, v in files.items()], data={"destination": to})
    assert answer.status_code == 201, answer.text
    return finished(c, answer.json()["id"])


def finished(c: httpx.Client, haul: str, seconds: float = 240) -> dict[str, Any]:
    """The haul once no work on it is going on."""
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        out: dict[str, Any] = c.get(f"/api/hauls/{haul}").json()
        if out["job"]["state"] not in ("waiting", "running"):
            return out
        time.sleep(0.1)
    raise AssertionError(f"still at work after {seconds} s: {out['job']}")


def work(c: httpx.Client, haul: str, what: str, **body: Any) -> dict[str, Any]:
    answer = c.post(f"/api/hauls/{haul}/{what}", **({"json": body} if body or what == "pack" else {}))
    assert answer.status_code == 202, answer.text
    return finished(c, haul)


@contextlib.contextmanager
def whole_application(state: Path, *arguments: str) -> Iterator[tuple[subprocess.Popen[str], str]]:
    """The start command's own process, as a user starts it; yields it with its address."""
    environment = {**os.environ, "CARAVAN_PORT": "0"}
    process = subprocess.Popen(
        [sys.executable, "-m", "tidy_caravan.server.main", "--state", str(state), *arguments],
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
        cwd=ROOT,
        env=environment,
    )
    try:
        assert process.stdout
        address = ""
        for line in process.stdout:
            if line.strip().startswith("http://"):
                address = line.strip().rstrip("/")
                break
        yield process, address
    finally:
        if process.poll() is None:
            process.send_signal(signal.SIGTERM)
            try:
                process.wait(30)
            except subprocess.TimeoutExpired:
                process.kill()
        if process.stdout:
            process.stdout.close()
