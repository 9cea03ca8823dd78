"""A haul's unwrap over two worker processes against one: 200 different meshes, through the real server."""

from __future__ import annotations

import os
import time
from pathlib import Path

import httpx
from tests.harden.kills import Application
from tests.support import bent_balls

MESHES = 200
ROUTE = {"steps": [{"kind": "match_units_axes"}, {"kind": "lightmap_uvs", "resolution": 128, "paddingTexels": 2}]}


def seconds(folder: Path, workers: int, seed: int) -> float:
    """What the lightmap step of one run takes, from its first piece to its last, by the job's own clock."""
    application = Application(folder / f"state {workers}")
    application.environment["CARAVAN_WORKERS"] = str(workers)
    application.start()
    try:
        with httpx.Client(base_url=application.address, timeout=120) as c:
            until = time.monotonic() + 60
            while c.get("/api/health").json()["workers"] < workers and time.monotonic() < until:
                time.sleep(0.1)
            haul = c.post("/api/hauls", files=[("files", ("balls.glb", bent_balls(MESHES, 3, seed)))]).json()["id"]
            ended(c, haul)
            version = c.get(f"/api/hauls/{haul}").json()["version"]
            c.patch(
                f"/api/hauls/{haul}", json={"route": ROUTE}, headers={"If-Match": f'"{version}"'}
            ).raise_for_status()
            c.post(f"/api/hauls/{haul}/run").raise_for_status()
            first = last = 0.0
            while True:
                job = c.get(f"/api/hauls/{haul}").json()["job"]
                share = job["done"] / job["total"] if job["total"] else 0.0
                if job["state"] not in ("waiting", "running"):
                    break
                # the step is the second of two: it has the upper half of the progress
                if share >= 0.5 and job["title"].startswith("Lightmap"):
                    first = first or time.monotonic()
                    last = time.monotonic()
                time.sleep(0.5)  # asking is work for the same two processors
            assert job["state"] == "done", job
            return last - first
    finally:
        application.stop()


def ended(c: httpx.Client, haul: str) -> None:
    while c.get(f"/api/hauls/{haul}").json()["job"]["state"] in ("waiting", "running"):
        time.sleep(0.1)


def measure(folder: Path) -> list[tuple[str, float, str, float]]:
    if (os.cpu_count() or 1) < 2:
        print("     one processor only: nothing to share out")
        return []
    one, two = seconds(folder, 1, 1), seconds(folder, 2, 2)
    print(f"     {MESHES} meshes unwrapped by one worker in {one:.1f} s, by two in {two:.1f} s")
    return [("unwrap of 200 meshes, one worker / two workers", one / two, "≥", 1.7)]
