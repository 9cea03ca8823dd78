"""Counts in sentences."""

from __future__ import annotations


def plural(count: int, one: str, many: str | None = None) -> str:
    """`1 mesh`, `2 meshes`, `20 000 parts` (thin groups of three)."""
    return f"{count:,}".replace(",", " ") + f" {one if count == 1 else many or one + 's'}"


def counted(count: int, kind: str) -> str:
    """The same for a kind that is said in the plural: `1 image`, `3 images`, `1 mesh`."""
    if count != 1:
        return plural(count, kind, kind)
    if kind.endswith("ies"):
        return f"1 {kind[:-3]}y"
    if kind.endswith(("shes", "ches", "xes")):
        return f"1 {kind[:-2]}"
    return f"1 {kind.removesuffix('s')}"
