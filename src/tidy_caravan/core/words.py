"""Counts in sentences."""

from __future__ import annotations


def plural(count: int, one: str, many: str | None = None) -> str:
    """`1 mesh`, `2 meshes`, `20 000 parts` (thin groups of three)."""
    return f"{count:,} {one if count == 1 else many or one + 's'}".replace(",", " ")
