"""Engine, sessions and bulk loading."""

from __future__ import annotations

import uuid
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from functools import lru_cache
from pathlib import Path
from typing import Any

import orjson
from psycopg.rows import dict_row
from sqlalchemy import Engine, create_engine, text
from sqlalchemy.orm import Session, sessionmaker

ROWS_AT_ONCE = 4000
SPECIAL = (b"\\", b"\n", b"\r", b"\0")
"""What COPY's text cannot have as it is, besides the tab between values."""
ESCAPES = str.maketrans({"\\": "\\\\", "\t": "\\t", "\n": "\\n", "\r": "\\r"})


@lru_cache(maxsize=4)
def engine_for(address: str) -> Engine:
    # all stay open: opening one costs more than most questions do
    return create_engine(address, pool_size=24, max_overflow=0, pool_pre_ping=True, pool_recycle=600)


@contextmanager
def session_for(address: str) -> Iterator[Session]:
    """A session in one transaction: committed at the end, rolled back on any error."""
    with sessionmaker(engine_for(address), expire_on_commit=False).begin() as session:
        yield session


def fetch(session: Session, query: str, values: dict[str, Any]) -> list[dict[str, Any]]:
    """Rows as dictionaries straight from the driver, in the session's transaction; for pages of many rows.

    Parameters as %(name)s. Building result objects would cost more than the query itself.
    """
    connection: Any = session.connection().connection.driver_connection
    with connection.cursor(row_factory=dict_row) as cursor:
        rows: list[dict[str, Any]] = cursor.execute(query, values).fetchall()
    return rows


def fetch_page(session: Session, query: str, values: dict[str, Any]) -> tuple[int, list[dict[str, Any]]]:
    """Number of all rows and one page of them, in one look at the tables.

    The query has a column `_all` (`count(*) OVER ()`), and `OFFSET %(offset)s LIMIT %(limit)s`.
    """
    rows = fetch(session, query, values)
    if not rows and values["offset"]:  # beyond the end: the number is asked for from the beginning
        first = fetch(session, query, {**values, "offset": 0, "limit": 1})
        return (first[0]["_all"] if first else 0), []
    total = rows[0]["_all"] if rows else 0
    for row in rows:
        del row["_all"]
    return total, rows


def copy_columns(session: Session, table: str, columns: Mapping[str, Sequence[Any]]) -> None:
    """Bulk load with COPY inside the session's transaction, from columns of equal length of numbers, truths and texts.

    Written a column at a time: a value at a time costs several times as much. Some thousand rows at a time, so that the
    database takes those in while the next are written.
    """
    connection: Any = session.connection().connection.driver_connection
    names = ", ".join(f'"{c}"' for c in columns)
    count = max(map(len, columns.values()))
    with connection.cursor() as cursor, cursor.copy(f'COPY "{table}" ({names}) FROM STDIN') as copy:
        for at in range(0, count, ROWS_AT_ONCE):
            some = [as_copied(values[at : at + ROWS_AT_ONCE]) for values in columns.values()]
            copy.write(b"\n".join(map(b"\t".join, zip(*some, strict=True))) + b"\n")


@contextmanager
def copying(session: Session, table: str, columns: Mapping[str, Sequence[Any]]) -> Iterator[None]:
    """The same beside what is done within: it must leave the session alone. Raises what the load raised, at the end."""
    session.connection()  # begun here, and not in a thread
    with ThreadPoolExecutor(1) as pool:
        load = pool.submit(copy_columns, session, table, columns)
        yield
        load.result()


def as_copied(values: Sequence[Any]) -> list[bytes]:
    """Values of one column as COPY's text format has them."""
    kinds = set(map(type, values))
    if kinds == {str}:
        joined = "\t".join(values).encode("utf-8", "backslashreplace")  # what UTF-8 cannot say shows by its backslash
        if joined.count(b"\t") == len(values) - 1 and not any(letter in joined for letter in SPECIAL):
            return joined.split(b"\t")
        return [str(clean(v)).translate(ESCAPES).encode() for v in values]
    if kinds and kinds <= {int, float}:
        numbers = orjson.dumps(list(values))
        if b"null" not in numbers:  # as it writes what is no number
            return numbers[1:-1].split(b",")
        return [repr(v).encode() for v in values]
    if kinds == {bool}:
        return [b"t" if v else b"f" for v in values]
    return [b"\\N" if v is None else as_copied([v])[0] for v in values]


def clean(value: Any) -> Any:
    """PostgreSQL text cannot hold a zero character, nor lone surrogates."""
    if isinstance(value, str):
        return value.replace("\0", "�").encode("utf-8", "replace").decode("utf-8")
    if isinstance(value, uuid.UUID):
        return str(value)
    return value


def clean_json(value: Any) -> Any:
    """The same for JSON documents."""
    if isinstance(value, str):
        return clean(value)
    if isinstance(value, list):
        return [clean_json(v) for v in value]
    if isinstance(value, dict):
        return {clean(k): clean_json(v) for k, v in value.items()}
    return value


def migrate(address: str) -> None:
    """Brings the schema to the newest version."""
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.set_main_option("sqlalchemy.url", address.replace("%", "%%"))
    command.upgrade(config, "head")
    add_declared_columns(address)


def add_declared_columns(address: str) -> None:
    """Columns of parts that were declared since: added empty, nothing is ever taken away."""
    from sqlalchemy import inspect

    from tidy_caravan.server.db.models import part

    engine = engine_for(address)
    there = {c["name"] for c in inspect(engine).get_columns(part.name)}
    with engine.begin() as connection:
        for column in part.columns:
            if column.name not in there:
                kind = column.type.compile(engine.dialect)
                connection.execute(text(f'ALTER TABLE part ADD COLUMN IF NOT EXISTS "{column.name}" {kind}'))
