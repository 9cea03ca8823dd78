"""Who works on a job: exactly one worker, told by a lock in the database that goes with its connection.

A worker that dies, or whose line to the database breaks, loses the lock; the job can then be claimed again. The
number of the attempt tells an earlier claimant, which may not know that it lost, from the present one.
"""

from __future__ import annotations

import uuid
from typing import Any

import orjson
import psycopg
from sqlalchemy import text
from sqlalchemy.orm import Session

CHANNEL = "caravan"
SPACE = 0x7C
"""First half of all our advisory lock numbers, so that they meet nobody else's."""


def lock_number(job: uuid.UUID) -> int:
    """A 64-bit number of a job for PostgreSQL's advisory locks."""
    return int.from_bytes(bytes([SPACE]) + job.bytes[:7], "big", signed=True)


def claim(connection: psycopg.Connection[Any], job: uuid.UUID) -> tuple[int, str, uuid.UUID, dict[str, Any]] | None:
    """Claims a job for the life of the connection: number of the attempt, kind, haul and arguments of the job.

    None when another worker has it, or there is nothing left to do.
    """
    row = connection.execute("SELECT pg_try_advisory_lock(%s)", (lock_number(job),)).fetchone()
    if row is None or not row[0]:
        return None
    with connection.transaction():
        found = connection.execute(
            "SELECT state, kind, haul_id, arguments, attempts FROM job WHERE id = %s FOR UPDATE", (job,)
        ).fetchone()
        if found is None or found[0] not in ("waiting", "running"):
            connection.execute("SELECT pg_advisory_unlock(%s)", (lock_number(job),))
            return None
        attempt = int(found[4]) + 1
        connection.execute("UPDATE job SET state = 'running', attempts = %s WHERE id = %s", (attempt, job))
    return attempt, str(found[1]), found[2], dict(found[3])


def still_ours(session: Session, job: uuid.UUID, attempt: int) -> bool:
    """Whether the job is still at that attempt; locks its row until the transaction ends."""
    row = session.execute(text("SELECT state, attempts FROM job WHERE id = :id FOR UPDATE"), {"id": job}).first()
    return row is not None and row[0] == "running" and row[1] == attempt


def notice(job: uuid.UUID, haul: uuid.UUID, **facts: Any) -> str:
    """What listeners on CHANNEL hear of a job; its last one has the kind of the job as title."""
    return orjson.dumps({"job": str(job), "haul": str(haul), **facts}).decode()[:7900]


def unclaimed(session: Session, job: uuid.UUID) -> bool:
    """Whether nobody works on the job now; while the transaction lasts nobody can begin."""
    query = text("SELECT pg_try_advisory_xact_lock(:number)")
    return bool(session.execute(query, {"number": lock_number(job)}).scalar_one())
