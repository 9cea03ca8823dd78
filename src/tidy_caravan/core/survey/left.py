"""Findings that a person left as they are, with the reason, for all parts or for some, through later revisions."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

from pydantic import BaseModel, ConfigDict, Field
from pydantic.alias_generators import to_camel

MOST_PARTS = 100_000


class Left(BaseModel):
    """A finding of this code is left as it is, because of that. parts: identities; none for all that it may name."""

    model_config = ConfigDict(alias_generator=to_camel, populate_by_name=True, extra="forbid")

    code: str = Field(min_length=1, max_length=100)
    because: str = Field(min_length=1, max_length=500)
    parts: list[str] = Field(default_factory=list, max_length=MOST_PARTS)


def reasons(left: Iterable[Left], code: str, names: Callable[[], Sequence[str]]) -> tuple[str, set[str]]:
    """Why a finding of that code is left as a whole, empty if it is not, and the parts of it that are left.

    names: what its parts are called; those without a name are never left one by one.
    """
    mine = [one for one in left if one.code == code]
    if not mine:
        return "", set()
    whole = next((one.because for one in mine if not one.parts), "")
    if whole:
        return whole, set()
    every = names()
    gone = {name for one in mine for name in one.parts} & set(every)
    if every and all(name in gone for name in every):
        return "; ".join(dict.fromkeys(one.because for one in mine if set(one.parts) & gone)), gone
    return "", gone


def without(mend: dict[str, Any] | None, gone: set[str]) -> dict[str, Any] | None:
    """The mend for the parts that are not left; for all others it has no place to say so and stays."""
    if mend and gone and mend["kind"] == "set" and not mend.get("rules"):
        named = [name for name in mend.get("added", ()) if name not in gone]
        return {**mend, "added": named} if named else None
    if not mend or not gone or not isinstance(mend.get("where"), dict) or set(mend["where"]) != {"parts"}:
        return mend
    kept = [name for name in mend["where"]["parts"] if name not in gone]
    return {**mend, "where": {"parts": kept}} if kept else None
