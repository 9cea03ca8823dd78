"""First page of the ledger of a 100,000-part haul over HTTP, against a plain select on the same table."""

from __future__ import annotations

import contextlib
import subprocess
import sys
import time
import uuid
from collections.abc import Iterator
from pathlib import Path

import httpx
import numpy as np
import psycopg
import trimesh

from benchmarks.timing import in_turn
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.scene import GLTF, Mesh, Scene, make_nodes
from tidy_caravan.core.survey import survey
from tidy_caravan.server.db.cluster import Cluster, free_port
from tidy_caravan.server.db.models import Haul
from tidy_caravan.server.db.session import engine_for, migrate, session_for
from tidy_caravan.server.jobs.record import record_scene
from tidy_caravan.server.settings import Settings
from tidy_caravan.server.store.blobs import Store

PARTS, PAGE = 100_000, 200


def filled(settings: Settings) -> uuid.UUID:
    """Id of a stored scene of 100,000 boxes."""
    box = trimesh.creation.box()
    mesh = Mesh(box.vertices.astype(np.float32), box.faces.astype(np.uint32), np.full(12, -1, np.int32), name="box")
    local = np.tile(np.eye(4), (PARTS, 1, 1))
    local[:, 0, 3] = np.arange(PARTS)
    scene = Scene(
        GLTF, make_nodes(np.full(PARTS, -1), local, [f"part {i}" for i in range(PARTS)], mesh=np.zeros(PARTS)), (mesh,)
    )
    with session_for(settings.database) as session:
        haul = Haul(
            id=uuid.uuid4(),
            name="b",
            destination=BUILT_IN[0].model_dump(by_alias=True, mode="json"),
            route={"steps": []},
            version=1,
            source_name="b",
        )
        session.add(haul)
        session.flush()
        return record_scene(session, Store(settings.store), haul.id, "source", scene, survey(scene, BUILT_IN[0]))


SERVE = """
import sys, uvicorn
from tidy_caravan.server.app import create_app
from tidy_caravan.server.settings import Settings
settings = Settings(database=sys.argv[1], store=sys.argv[2])
uvicorn.run(create_app(settings, work=False), port=int(sys.argv[3]), log_level="error", access_log=False)
"""


@contextlib.contextmanager
def served(settings: Settings) -> Iterator[str]:
    """A server in a process of its own, as users have it."""
    port = free_port()
    process = subprocess.Popen([sys.executable, "-c", SERVE, settings.database, settings.store, str(port)])
    address = f"http://127.0.0.1:{port}"
    try:
        until = time.monotonic() + 30
        while time.monotonic() < until:
            with contextlib.suppress(httpx.TransportError):
                httpx.get(f"{address}/api/health", verify=False)
                break
            time.sleep(0.1)
        yield address
    finally:
        process.terminate()
        process.wait(20)


def measure(folder: Path) -> list[tuple[str, float, str, float]]:
    cluster = Cluster(folder / "postgres", durable=False)
    settings = Settings(database=cluster.start(), store=str(folder / "store"))
    try:
        migrate(settings.database)
        scene = filled(settings)
        plain = psycopg.connect(settings.database.replace("+psycopg", ""), autocommit=True)
        plain.execute("ANALYZE part")
        with served(settings) as address, httpx.Client() as client:
            ways = {
                "select": lambda: plain.execute(
                    "SELECT * FROM part WHERE scene_id = %s LIMIT %s", (scene, PAGE)
                ).fetchall(),
                "page": lambda: client.get(
                    f"{address}/api/scenes/{scene}/parts", params={"limit": PAGE}
                ).raise_for_status(),
            }
            taken = in_turn(ways, 60)
        plain.close()
        engine_for(settings.database).dispose()
    finally:
        cluster.stop()
    print(f"     ledger    select {taken['select'] * 1000:.2f} ms, page over HTTP {taken['page'] * 1000:.2f} ms")
    return [
        (
            f"first page of {PAGE} rows of {PARTS:,} parts against a plain select",
            taken["page"] / taken["select"],
            "≤",
            5.0,
        )
    ]
