"""Faults: which disk is full, said in one sentence, and a rotating log that keeps what nobody should see on a page."""

from __future__ import annotations

import errno
import logging
import logging.handlers
from pathlib import Path
from typing import Any

import psycopg
from sqlalchemy.exc import DBAPIError

LOG_BYTES = 4 << 20
LOG_FILES = 5
FULL = {errno.ENOSPC, errno.EDQUOT, errno.EROFS, errno.EACCES, errno.EPERM}
_kept: set[str] = set()


def keep_log(path: str) -> None:
    """Warnings and faults of this process go to a file that turns over at LOG_BYTES; once per process and file."""
    if not path or path in _kept:
        return
    _kept.add(path)
    try:
        Path(path).parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        handler = logging.handlers.RotatingFileHandler(path, maxBytes=LOG_BYTES, backupCount=LOG_FILES, delay=True)
    except OSError:
        return  # the application goes on without its log where the disk takes nothing
    handler.setFormatter(logging.Formatter("%(asctime)s %(process)d %(levelname)s %(name)s: %(message)s"))
    handler.setLevel(logging.WARNING)
    handler.handleError = lambda record: None  # type: ignore[method-assign]
    logger = logging.getLogger("tidy_caravan")
    logger.addHandler(handler)
    if logger.level == logging.NOTSET:
        logger.setLevel(logging.INFO)


def disk_full(error: BaseException) -> dict[str, Any] | None:
    """A problem that says which disk is full or takes nothing; None for everything else."""
    seen: BaseException | None = error
    while seen is not None:
        original = seen.orig if isinstance(seen, DBAPIError) else seen
        if isinstance(original, psycopg.errors.DiskFull) or (
            isinstance(original, psycopg.Error) and "No space left" in str(original)
        ):
            return problem("the database's disk is full", "database")
        if isinstance(original, OSError) and original.errno in FULL:
            place = str(original.filename or "the temporary folder")
            what = (
                "takes no files (read-only or not ours)"
                if original.errno in (errno.EROFS, errno.EACCES, errno.EPERM)
                else "is full"
            )
            return problem(f"the disk of {shortened(place)} {what}", shortened(place))
        seen = seen.__cause__ or seen.__context__
    return None


def problem(what: str, where: str) -> dict[str, Any]:
    return {
        "code": "disk.full",
        "title": f"Nothing could be written: {what}. Make room there and try again; nothing was lost.",
        "where": where,
    }


def shortened(place: str) -> str:
    """The folder of a file, since names of temporary files tell nobody anything."""
    return str(Path(place).parent)[-200:] if place.startswith("/") else place[-200:]
