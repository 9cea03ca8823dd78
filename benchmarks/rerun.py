"""A run after a change of the last step of the 20,000-part demo, against the whole run: jobs as the server does them."""

from __future__ import annotations

import time
import uuid
from pathlib import Path
from typing import Any

STEPS: list[dict[str, Any]] = [
    {"kind": kind} for kind in ("what_travels", "match_units_axes", "mend_normals", "first_uvs", "lightmap_uvs")
]


def measure(folder: Path) -> list[tuple[str, float, str, float]]:
    from tidy_caravan.demo.ferry_landing import large_files
    from tidy_caravan.demo.load import Demo, add, carry
    from tidy_caravan.server.db.cluster import Cluster
    from tidy_caravan.server.db.models import Haul, Job
    from tidy_caravan.server.db.session import migrate, session_for
    from tidy_caravan.server.jobs.tasks import perform
    from tidy_caravan.server.settings import Settings
    from tidy_caravan.server.store.blobs import Store

    folder.chmod(0o755)
    cluster = Cluster(folder / "postgres", durable=False)
    try:
        settings = Settings(database=cluster.start(), store=str(folder / "store"))
        migrate(settings.database)
        store = Store(settings.store)
        first = [*STEPS, {"kind": "tidy_names"}]
        imported = add(settings, store, Demo("Landing", "metre-y-up-right", large_files(), first, ["import"]))
        carry(settings, imported, "Landing")
        with session_for(settings.database) as session:
            haul = session.get_one(Job, imported).haul_id

        def run(last: dict[str, Any]) -> float:
            with session_for(settings.database) as session:
                session.get_one(Haul, haul).route = {"steps": [*STEPS, last], "sets": []}
                job = Job(
                    id=uuid.uuid4(), haul_id=haul, kind="run", state="waiting", title="", done=0, total=0, cancel=False,
                    attempts=0, arguments={},
                )  # fmt: skip
                session.add(job)
                session.flush()
                number = str(job.id)
            began = time.perf_counter()
            state = perform(number, settings.database, settings.store, settings.upload_bytes)
            if state != "done":
                raise RuntimeError(f"the run ended {state}")
            return time.perf_counter() - began

        whole = run({"kind": "tidy_names"})
        changed = [
            run(last)
            for last in (
                {"kind": "drop_empties"},
                {"kind": "place_pivots"},
                {"kind": "tidy_names", "where": {"names": ["p*"]}},
            )
        ]
    finally:
        cluster.stop()
    print(f"     rerun     whole {whole:.1f} s, last step changed {', '.join(f'{t:.2f}' for t in changed)} s")
    return [("20,000 parts, last step changed, against the whole run", sorted(changed)[1] / whole, "≤", 0.1)]
