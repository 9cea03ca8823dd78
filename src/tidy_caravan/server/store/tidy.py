"""Frees what nothing points at: old runs beyond a number, what was deleted long enough ago, and files in the store
that no row names any more.

Files are only taken when they are older than a grace time and than all unfinished work: what is being put there now
is named by a row that is not committed yet. Putting what is there already makes it young again.
"""

from __future__ import annotations

import logging
from typing import Any

from sqlalchemy import text

from tidy_caravan.server.db.session import session_for
from tidy_caravan.server.store.blobs import Store
from tidy_caravan.server.store.scenes import keys_in

LOCK = 0x7C00000000000001
CACHE_FACTOR = 24 * 7
log = logging.getLogger("tidy_caravan.store")

OLD_RUNS = """
DELETE FROM run WHERE id IN (
  SELECT id FROM (
    SELECT r.id, r.haul_id, row_number() OVER (PARTITION BY r.haul_id ORDER BY r.created DESC, r.id) AS place FROM run r
  ) ranked
  WHERE place > :keep AND id NOT IN (SELECT run_id FROM haul WHERE run_id IS NOT NULL)
    AND NOT EXISTS (
      SELECT 1 FROM job j WHERE j.haul_id = ranked.haul_id AND j.state IN ('waiting', 'running'))
)
"""
LONELY_SCENES = """
DELETE FROM scene s WHERE
  NOT EXISTS (SELECT 1 FROM revision v WHERE v.scene_id = s.id)
  AND NOT EXISTS (SELECT 1 FROM run r WHERE r.scene_id = s.id OR r.read_scene_id = s.id)
  AND NOT EXISTS (SELECT 1 FROM arrival a WHERE a.scene_id = s.id)
"""
DELETED = "DELETE FROM {table} WHERE deleted < now() - :days * interval '1 day'"
OLD_FIGURES = "DELETE FROM kept_figures WHERE used < now() - interval '1 day' - :minutes * interval '1 minute'"
LONGEST_WORK = """
SELECT coalesce(extract(epoch FROM max(now() - created)) + 60, 0) FROM job WHERE state IN ('waiting', 'running')
"""


def tidy_store(
    database: str, address: str, keep_runs: int, keep_minutes: float, keep_deleted_days: float
) -> dict[str, int]:
    """Runs and files that were freed. One at a time, whatever the number of workers."""
    with session_for(database) as guard:
        if not guard.execute(text("SELECT pg_try_advisory_xact_lock(:n)"), {"n": LOCK}).scalar_one():
            return {"runs": 0, "files": 0}
        with session_for(database) as session:
            for table in ("haul", "destination"):
                session.execute(text(DELETED.format(table=table)), {"days": keep_deleted_days})
            runs: Any = session.execute(text(OLD_RUNS), {"keep": max(1, keep_runs)})
            session.execute(text(LONELY_SCENES))
            session.execute(text(OLD_FIGURES), {"minutes": max(1.0, keep_minutes) * CACHE_FACTOR})
        freed, gone = int(runs.rowcount), free_files(database, Store(address), keep_minutes * 60)
    if freed or gone:
        log.info("freed %d runs and %d files", freed, gone)
    return {"runs": freed, "files": gone}


def free_files(database: str, store: Store, grace: float) -> int:
    """Number of files that were taken. grace: seconds; work that began earlier makes it longer, since what it put
    into the store is named when it ends."""
    with session_for(database) as session:
        grace = max(grace, float(session.execute(text(LONGEST_WORK)).scalar_one()))
    # the files first, the names second: a file named by a row that came in between is found among the names
    old = store.older_than(grace)
    with session_for(database) as session:
        named = named_keys(session, store)
    # what steps keep per mesh is named by nobody; it goes when nobody asked for it for long
    seconds = {key: grace * (CACHE_FACTOR if key.startswith("cache/") else 1) for key in old if key not in named}
    return sum(store.remove_if_old(key, s) for key, s in seconds.items())


def named_keys(session: Any, store: Store) -> set[str]:
    """Every key that a row names, and those that the scenes in the store name in turn."""
    out: set[str] = set()
    for row in session.execute(text("SELECT store_key, view_key, picture_key FROM scene")):
        out.update(k for k in row if k)
    for query in (
        "SELECT f->>1 FROM revision, jsonb_array_elements(files) f",
        "SELECT f->>1 FROM scene, jsonb_array_elements(images) f",
        "SELECT f->>'key' FROM package, jsonb_array_elements(files) f",
        "SELECT f->>1 FROM job, jsonb_array_elements(CASE WHEN jsonb_typeof(arguments->'files') = 'array'"
        " THEN arguments->'files' ELSE '[]' END) f WHERE job.state IN ('waiting', 'running')",
        "SELECT unnest(ARRAY[arguments->>'view', arguments->>'before', arguments->>'answer']) FROM job"
        " WHERE kind = 'preview' AND created > now() - interval '1 day'",
        "SELECT unnest(ARRAY[p->>'exr', p->>'png']) FROM job, jsonb_array_elements("
        "CASE WHEN jsonb_typeof(arguments->'pages') = 'array' THEN arguments->'pages' ELSE '[]' END) p"
        " WHERE kind = 'preview' AND created > now() - interval '1 day'",
    ):
        out.update(key for (key,) in session.execute(text(query)) if key)
    for key in [k for k in out if k.startswith("scene/")]:
        try:
            out.update(keys_in(store.get(key)))
        except FileNotFoundError:
            log.warning("the scene %s is named and not there", key)
    return out
