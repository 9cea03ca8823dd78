"""Counts in sentences."""

from __future__ import annotations

import re
from collections.abc import Sequence

CLAUSE = re.compile(r"(?= (?:of|that|without|whose|said|with) )")
"""Where a kind goes on after the word that is in the plural."""


def figure(count: int) -> str:
    """`20 000`: thin groups of three."""
    return f"{count:,}".replace(",", " ")


def plural(count: int, one: str, many: str | None = None) -> str:
    """`1 mesh`, `2 meshes`, `20 000 parts`."""
    return f"{figure(count)} {one if count == 1 else many or one + 's'}"


def few(names: Sequence[str], most: int = 3) -> str:
    """`“a”`, `“a” and “b”`, `“a”, “b”, “c” and 20 more`."""
    shown = [f"“{name[:80]}”" for name in names[:most]]
    rest = [f"{figure(len(names) - most)} more"] if len(names) > most else []
    *head, last = [*shown, *rest]
    return f"{', '.join(head)} and {last}" if head else last


def weight(size: float) -> str:
    """Bytes as `2.88 kB`, `3.4 MB`."""
    unit, name = next(((u, n) for u, n in ((1e9, "GB"), (1e6, "MB"), (1e3, "kB")) if abs(size) >= u), (1.0, "bytes"))
    return f"{size / unit:.3g} {name}"


def counted(count: int, kind: str) -> str:
    """The same for a kind that is said in the plural: `1 image`, `3 images`, `1 mesh`, `1 point or line`, `1 prim of purpose proxy`."""
    if count != 1:
        return plural(count, kind, kind)
    head = CLAUSE.split(kind, maxsplit=1)[0]
    words = re.split(r"(, | and )", head)
    alone = "".join(" or " if w == " and " else one_of(w) for w in words)
    rest = re.sub(r"^ that are (\w+)s$", r" that is a \1", kind[len(head) :]).replace(" that are ", " that is ", 1)
    return f"1 {alone}{rest}"


def one_of(word: str) -> str:
    """Of a plural the singular: `copy`, `mesh`, `light`; what is none stays."""
    if word.endswith("ies"):
        return f"{word[:-3]}y"
    if word.endswith(("shes", "ches", "xes")):
        return word[:-2]
    return word if word.endswith("ss") else word.removesuffix("s")
