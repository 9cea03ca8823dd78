"""Kills at random moments, of every process that works: nothing may be lost, stuck or wrong afterwards."""

from __future__ import annotations

import contextlib
import hashlib
import io
import os
import random
import signal
import subprocess
import sys
import time
import zipfile
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import httpx
import psutil

from tests.support import trimesh_scene
from tidy_caravan.server.settings import ROOT

VICTIMS = ("server", "worker", "source of workers", "child", "postmaster", "backend")
STAGES = ("start", "import", "run", "pack", "arrive")
LONGEST = 180.0
"""Seconds in which everything must be done after a kill."""
ROUTE = {"steps": [{"kind": "match_units_axes"}, {"kind": "lightmap_uvs", "resolution": 128, "paddingTexels": 2}]}


@dataclass
class Outcome:
    kills: Counter[str] = field(default_factory=Counter)
    missed: int = 0
    lost: list[str] = field(default_factory=list)
    stuck: list[str] = field(default_factory=list)
    wrong: list[str] = field(default_factory=list)
    left: list[str] = field(default_factory=list)
    slowest: float = 0.0


class Application:
    """The start command's own process on one state folder, started again whenever it is gone.

    notes: where its output and log go, beside the state when nothing is said; store: another place for its files.
    """

    def __init__(self, state: Path, notes: Path | None = None, store: Path | None = None) -> None:
        self.state, self.address = state, ""
        self.process: subprocess.Popen[bytes] | None = None
        self.notes = notes or state.parent
        self.output = self.notes / "output.txt"
        self.environment = {"CARAVAN_PORT": "0", "CARAVAN_LOG": str(self.notes / "faults.log")}
        if store is not None:
            self.environment["CARAVAN_STORE"] = str(store)

    def start(self, wait: bool = True) -> None:
        if self.process is not None and self.process.poll() is None:
            if wait and not self.address:
                self.wait()
            return
        self.output.write_bytes(b"")
        with self.output.open("ab") as sink:
            self.process = subprocess.Popen(
                [sys.executable, "-m", "tidy_caravan.server.main", "--state", str(self.state)],
                stdout=sink, stderr=sink, cwd=ROOT,
                env={**os.environ, **self.environment},
            )  # fmt: skip
        self.address = ""
        if wait:
            self.wait()

    def wait(self, seconds: float = 90.0) -> bool:
        """Until it tells its address; False when its process ended first."""
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            for line in self.output.read_text(errors="replace").splitlines():
                if line.strip().startswith("http://"):
                    self.address = line.strip().rstrip("/")
                    return True
            if self.process is None or self.process.poll() is not None:
                return False
            time.sleep(0.05)
        return False

    def stop(self, number: int = signal.SIGTERM, seconds: float = 10.0) -> float:
        """Seconds until it was gone; more than `seconds` when it had to be killed."""
        began = time.monotonic()
        if self.process is not None and self.process.poll() is None:
            self.process.send_signal(number)
            try:
                self.process.wait(seconds)
            except subprocess.TimeoutExpired:
                self.process.kill()
                self.process.wait(10)
                return seconds + 1
        return time.monotonic() - began

    def call(self, method: str, path: str, **more: Any) -> httpx.Response | None:
        """An answer, or None while nobody answers."""
        try:
            return httpx.request(method, self.address + path, timeout=30, verify=False, **more)
        except httpx.HTTPError:
            return None

    def everything(self) -> list[psutil.Process]:
        """The server's process and all below it."""
        if self.process is None or self.process.poll() is not None:
            return []
        with contextlib.suppress(psutil.Error):
            top = psutil.Process(self.process.pid)
            return [top, *top.children(recursive=True)]
        return []


FORKED_FROM = "multiprocessing.forkserver"
"""In the command line of the process that workers are forked from, and so in theirs."""


def is_worker(process: psutil.Process) -> bool:
    above = process.parent()
    return above is not None and all(FORKED_FROM in " ".join(p.cmdline()) for p in (process, above))


def pick(application: Application, kind: str, rng: random.Random) -> psutil.Process | None:
    """A process of that kind, None when there is none at the moment."""
    found: list[psutil.Process] = []
    processes = application.everything()
    for process in processes:
        with contextlib.suppress(psutil.Error):
            words = " ".join(process.cmdline())
            top = processes[0].pid
            if (
                (kind == "server" and process.pid == top)
                or (kind == "worker" and is_worker(process))
                or (kind == "source of workers" and FORKED_FROM in words and not is_worker(process))
                or (kind == "child" and "work.nursery" in words)
                or (kind == "postmaster" and process.name() == "postgres" and process.ppid() == top)
                or (kind == "backend" and words.startswith("postgres: caravan"))
            ):
                found.append(process)
    return rng.choice(found) if found else None


def package_hash(application: Application, haul: dict[str, Any]) -> str:
    """Of all files of the newest package, whatever the archive around them."""
    answer = application.call("GET", f"/api/packages/{haul['package']['id']}/download")
    if answer is None or answer.status_code != 200:
        return "none"
    digest = hashlib.sha256()
    with zipfile.ZipFile(io.BytesIO(answer.content)) as archive:
        for name in sorted(archive.namelist()):
            digest.update(name.encode() + archive.read(name))
    return digest.hexdigest()


def settle(application: Application, haul: str, seconds: float = LONGEST) -> dict[str, Any] | None:
    """The haul once nothing is at work on it; the application is started again when it is gone."""
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        application.start()
        answer = application.call("GET", f"/api/hauls/{haul}")
        if answer is not None and answer.status_code == 404:
            return None
        if answer is not None and answer.status_code == 200:
            out: dict[str, Any] = answer.json()
            if out["job"] is None or out["job"]["state"] not in ("waiting", "running"):
                return out
        time.sleep(0.2)
    return {"stuck": True}


def begin(application: Application, data: bytes) -> str:
    answer = application.call("POST", "/api/hauls", files=[("files", ("scene.glb", data))])
    assert answer is not None and answer.status_code == 201, answer and answer.text
    return str(answer.json()["id"])


def ask(application: Application, haul: str, stage: str) -> bool:
    """Asks for a stage's work; True when it was acknowledged."""
    if stage == "run":
        now = application.call("GET", f"/api/hauls/{haul}")
        if now is None or now.status_code != 200:
            return False
        if now.json()["route"]["steps"] != ROUTE["steps"]:
            tag = {"If-Match": f'"{now.json()["version"]}"'}
            application.call("PATCH", f"/api/hauls/{haul}", json={"route": ROUTE}, headers=tag)
    body = {"json": {"format": "glb"}} if stage == "pack" else {}
    answer = application.call("POST", f"/api/hauls/{haul}/{stage}", **body)
    return answer is not None and answer.status_code == 202


def carry(application: Application, haul: str, stage: str, tries: int = 4) -> dict[str, Any] | None:
    """Sees a stage through, asking again where nobody heard; the haul, or None when it is lost."""
    for _ in range(tries):
        out = settle(application, haul)
        if out is None or "stuck" in out:
            return out
        if out[{"run": "run", "pack": "package", "arrive": "arrival"}[stage]] is not None:
            return out
        ask(application, haul, stage)
    return settle(application, haul)


def try_kills(count: int, folder: Path, seed: int = 1, tell: Any = None) -> Outcome:
    """That many kills that struck, over all victims and stages, each checked before the next; at most twice the tries."""
    rng = random.Random(seed)
    out = Outcome()
    application = Application(folder / "state")
    data = trimesh_scene(5, 12).export(file_type="glb")
    application.start()
    try:
        first = begin(application, data)
        for stage in ("run", "pack", "arrive"):
            carry(application, first, stage)
        done = settle(application, first)
        assert done and done["arrival"]["report"]["ok"], done and done["job"]
        truth = package_hash(application, done)
        hauls = [first]
        for k in range(2 * count):
            if out.kills.total() >= count:
                break
            victim_kind, stage = VICTIMS[k % len(VICTIMS)], STAGES[(k // len(VICTIMS)) % len(STAGES)]
            began = time.monotonic()
            haul = hauls[-1]
            if stage == "start":
                application.stop()
                application.start(wait=False)
                time.sleep(rng.uniform(0.2, 4.0))
            elif stage == "import":
                application.start()
                haul = begin(application, data)
                hauls.append(haul)
            else:
                haul = begin_until(application, hauls, data, stage)
                ask(application, haul, stage)
            time.sleep(rng.uniform(0.0, 1.5))
            victim = pick(application, victim_kind, rng)
            until = time.monotonic() + (3.0 if victim_kind == "child" else 12.0)
            while victim is None and time.monotonic() < until:  # some live for moments only
                time.sleep(0.02)
                victim = pick(application, victim_kind, rng)
            if victim is None:
                out.missed += 1
            else:
                with contextlib.suppress(psutil.Error):
                    victim.kill()
                out.kills[f"{victim_kind} in {stage}"] += 1
            check(application, hauls, haul, stage, truth, out)
            out.slowest = max(out.slowest, time.monotonic() - began)
            if tell:
                tell(f"{out.kills.total()} of {count}: {victim_kind} in {stage}, {time.monotonic() - began:.1f} s; "
                     f"lost {len(out.lost)}, stuck {len(out.stuck)}, wrong {len(out.wrong)}")  # fmt: skip
        postmasters = [p for p in application.everything() if _name(p) == "postgres"]
        if (took := application.stop()) > 10.0:
            out.left.append(f"TERM took {took:.0f} s")
        _, alive = psutil.wait_procs(postmasters, timeout=5)
        out.left += [f"PostgreSQL {p.pid}" for p in alive]
    finally:
        application.stop()
    return out


def begin_until(application: Application, hauls: list[str], data: bytes, stage: str) -> str:
    """A haul that stands right before a stage."""
    application.start()
    haul = begin(application, data)
    hauls.append(haul)
    settle(application, haul)
    for before in ("run", "pack", "arrive")[: ("run", "pack", "arrive").index(stage)]:
        carry(application, haul, before)
    return haul


def check(application: Application, hauls: list[str], haul: str, stage: str, truth: str, out: Outcome) -> None:
    """Every acknowledged haul is there, the one at work ends, and its package is the one that it should be."""
    for one in hauls[-6:]:
        now = settle(application, one)
        if now is None:
            out.lost.append(one)
        elif "stuck" in now:
            out.stuck.append(f"{one} after {stage}")
        elif now["job"] and now["job"]["state"] == "failed":
            out.stuck.append(f"{one} failed: {now['job']['problem']['title']}")
    if stage in ("run", "pack", "arrive"):
        for later in ("run", "pack"):
            carry(application, haul, later)
        now = settle(application, haul)
        if now and "stuck" not in now and now["package"] and (found := package_hash(application, now)) != truth:
            out.wrong.append(f"{haul} {found[:12]} for {truth[:12]}")


def _name(process: psutil.Process) -> str:
    try:
        return str(process.name())
    except psutil.Error:
        return ""
