"""Outcomes of heavy work that are kept: arrays in the store, plain figures as rows; whoever asks again finds them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import orjson
from sqlalchemy import text

from tidy_caravan.core.work.heavy import Done, Outcome, Results, Work
from tidy_caravan.core.work.isolation import Lost
from tidy_caravan.server.db.session import clean_json, engine_for
from tidy_caravan.server.store.blobs import Store
from tidy_caravan.server.store.scenes import from_bytes, to_bytes

AT_ONCE = 10_000
"""Rows of one statement."""


def outcome_bytes(outcome: Outcome) -> bytes:
    """One file, without any pickle in it."""
    if isinstance(outcome, Lost):
        return to_bytes({"lost": [outcome.reason, outcome.raised]}, {})
    return to_bytes({"figures": clean_json(dict(outcome.figures))}, dict(outcome.arrays))


def outcome_from(data: bytes) -> Outcome:
    meta, arrays = from_bytes(data)
    return Lost(*meta["lost"]) if "lost" in meta else Done(arrays, meta["figures"])


class StoreResults(Results):
    """Of every haul together: the same mesh with the same parameters is done once."""

    def __init__(self, store: Store, database: str) -> None:
        self.store, self.database = store, database

    def find(self, work: Work, keys: Sequence[str]) -> dict[str, Outcome]:
        if work.figures_only:
            return self._rows(list(keys))
        out: dict[str, Outcome] = self._rows(list(keys)) if work.together else {}
        for key in keys:
            if key in out:
                continue
            path = path_of(key)
            try:
                out[key] = outcome_from(self.store.get(path))
            except (FileNotFoundError, ValueError, KeyError):  # freed meanwhile, or damaged: it is done again
                continue
            self.store.touch(path)
        return out

    def keep(self, work: Work, made: Mapping[str, Outcome]) -> None:
        if not work.figures_only:
            # most meshes have nothing to tell, and a file for each of them costs more than they did
            quiet = {k for k, o in made.items() if isinstance(o, Done) and not o.arrays}
            files = {k: o for k, o in made.items() if not work.together or k not in quiet}
            for key, outcome in files.items():
                self.store.put(path_of(key), outcome_bytes(outcome), anew=work.replaced)
            made = {key: o for key, o in made.items() if key not in files}
            if not made:
                return
        told = {key: orjson.dumps(dict(o.figures)) for key, o in made.items() if isinstance(o, Done)}
        # a figure that is no number (NaN) has no JSON: it is found out again rather than kept as something else
        rows = [{"key": key, "figures": text_.decode()} for key, text_ in told.items() if b"null" not in text_]
        with engine_for(self.database).begin() as connection:
            for k in range(0, len(rows), AT_ONCE):
                connection.execute(
                    text(
                        "INSERT INTO kept_figures (key, figures) VALUES (:key, CAST(:figures AS jsonb))"
                        " ON CONFLICT (key) DO UPDATE SET figures = EXCLUDED.figures, used = now()"
                    ),
                    rows[k : k + AT_ONCE],
                )

    def _rows(self, keys: list[str]) -> dict[str, Outcome]:
        out: dict[str, Outcome] = {}
        with engine_for(self.database).begin() as connection:
            for k in range(0, len(keys), AT_ONCE):
                part = keys[k : k + AT_ONCE]
                found: Any = connection.execute(
                    text("SELECT key, figures FROM kept_figures WHERE key = ANY(:keys)"), {"keys": part}
                )
                out |= {key: Done({}, figures) for key, figures in found}
                connection.execute(
                    text(
                        "UPDATE kept_figures SET used = now() WHERE key = ANY(:keys) AND used < now() - interval '1 day'"
                    ),
                    {"keys": part},
                )
        return out


def path_of(key: str) -> str:
    return f"cache/{key[:2]}/{key}.done"
