"""What is handed to the workers, by name: light to import here, heavy only where the work is done."""

from __future__ import annotations


def perform_job(job: str, database: str, store: str, upload_bytes: int, log: str) -> str:
    """As tasks.perform."""
    from tidy_caravan.server.jobs.tasks import perform

    return perform(job, database, store, upload_bytes, log)


def tidy(database: str, store: str, keep_runs: int, keep_minutes: float, keep_deleted_days: float) -> dict[str, int]:
    """As store.tidy.tidy_store."""
    from tidy_caravan.server.store.tidy import tidy_store

    return tidy_store(database, store, keep_runs, keep_minutes, keep_deleted_days)
