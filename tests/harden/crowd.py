"""Fifty people on one large ledger while a job runs: how long their answers take."""

from __future__ import annotations

import random
import threading
import time
from dataclasses import dataclass
from pathlib import Path

import httpx
import numpy as np

from tests.harden.kills import Application, settle
from tidy_caravan.core.formats import write
from tidy_caravan.demo.ferry_landing import large

SORTS = ("node", "name", "triangles", "size", "x", "findings", "meshName", "instances")


@dataclass
class Outcome:
    """Seconds of all answers; failed: those that were no answer."""

    parts: int
    answers: int
    failed: int
    median: float
    p99: float
    worst: float


def try_crowd(folder: Path, people: int = 50, seconds: float = 20.0) -> Outcome:
    """Pages, searches and groups of a 20,000-part scene, each person asking again half a second after an answer."""
    application = Application(folder / "state")
    application.start()
    try:
        data = write(large(), "glb", "large").files["large.glb"]
        answer = application.call("POST", "/api/hauls", files=[("files", ("large.glb", data))])
        assert answer is not None and answer.status_code == 201
        haul = settle(application, str(answer.json()["id"]))
        assert haul and haul["source"], haul
        scene, parts = haul["source"]["id"], int(haul["source"]["counts"]["parts"])
        application.call("POST", f"/api/hauls/{haul['id']}/run")
        took: list[float] = []
        failed = 0
        until = time.monotonic() + seconds
        lock = threading.Lock()

        def person(number: int) -> None:
            nonlocal failed
            rng = random.Random(number)
            with httpx.Client(base_url=application.address, timeout=60, verify=False) as c:
                while time.monotonic() < until:
                    query = rng.choice(
                        (
                            f"parts?sort={rng.choice(SORTS)}&offset={rng.randrange(0, parts, 200)}&limit=200",
                            f"parts?search=b{rng.randrange(10)}&limit=200",
                            "groups?by=layer",
                            "meshes?limit=100",
                            "findings",
                        )
                    )
                    began = time.monotonic()
                    good = c.get(f"/api/scenes/{scene}/{query}").status_code == 200
                    with lock:
                        took.append(time.monotonic() - began)
                        failed += not good
                    time.sleep(0.5)

        threads = [threading.Thread(target=person, args=(k,)) for k in range(people)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(seconds + 90)
        values = np.array(took)
        return Outcome(
            parts, len(values), failed, float(np.median(values)), float(np.quantile(values, 0.99)), float(values.max())
        )
    finally:
        application.stop()
