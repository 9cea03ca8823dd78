"""Which thing on the other side is which one here: by tree path, among equals by place, and by place alone last."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
from scipy.spatial import cKDTree

from tidy_caravan.core.arrival.surfaces import pick
from tidy_caravan.core.scene.arrays import F64, I64

NEAR = 12


@dataclass
class Side:
    """Things to be matched: keys (tree paths), own names, and what can be measured of each (K, D)."""

    keys: Sequence[str]
    names: Sequence[str]
    measures: F64
    kinds: Sequence[object] = field(default_factory=tuple)
    """What must agree for a match by place alone, such as the number of triangles."""


def pairs(here: Side, there: Side, limit: float) -> tuple[I64, I64]:
    """Rows of both sides that belong together, each used once. limit: measures that differ less are the same.

    O(K log K). Among several of one path the place decides, so that one that is missing does not shift the others.
    """
    groups_a, groups_b = grouped(here.keys), grouped(there.keys)
    found_a: list[int] = []
    found_b: list[int] = []
    several: list[tuple[list[int], list[int]]] = []
    for key, rows in groups_a.items():
        others = groups_b.get(key)
        if others is None:
            continue
        if len(rows) == len(others) == 1:
            found_a.append(rows[0])
            found_b.append(others[0])
        else:
            several.append((rows, others))
    for rows, others in several:
        first, second = by_measure(here.measures[rows], there.measures[others], limit)
        a, b = [rows[i] for i in first], [others[i] for i in second]
        rest_a, rest_b = without(rows, a), without(others, b)
        if len(rest_a) == len(rest_b):  # all are there, some elsewhere
            a, b = a + rest_a, b + rest_b
        found_a += a
        found_b += b
    for match in (same_place, same_name):
        rest_a, rest_b = without(range(len(here.keys)), found_a), without(range(len(there.keys)), found_b)
        if not rest_a or not rest_b:
            break
        a, b = match(here, there, rest_a, rest_b, limit)
        found_a += a
        found_b += b
    order = np.argsort(np.array(found_a, np.int64), kind="stable")
    return np.array(found_a, np.int64)[order], np.array(found_b, np.int64)[order]


Match = Callable[[Side, Side, list[int], list[int], float], tuple[list[int], list[int]]]


def same_place(
    here: Side, there: Side, rows: list[int], others: list[int], limit: float
) -> tuple[list[int], list[int]]:
    """Renamed or hung elsewhere: what is of one kind and stands in one place."""
    by_kind: dict[object, tuple[list[int], list[int]]] = defaultdict(lambda: ([], []))
    for i in rows:
        by_kind[here.kinds[i] if here.kinds else None][0].append(i)
    for j in others:
        by_kind[there.kinds[j] if there.kinds else None][1].append(j)
    a: list[int] = []
    b: list[int] = []
    for first, second in by_kind.values():
        x, y = by_measure(here.measures[first], there.measures[second], limit)
        a += [first[i] for i in x]
        b += [second[i] for i in y]
    return a, b


def same_name(here: Side, there: Side, rows: list[int], others: list[int], limit: float) -> tuple[list[int], list[int]]:
    """Moved and hung elsewhere at once: the only one of its name on both sides."""
    first, second = grouped([here.names[i] for i in rows]), grouped([there.names[j] for j in others])
    a: list[int] = []
    b: list[int] = []
    for name, at in first.items():
        if name and len(at) == 1 and len(second.get(name, ())) == 1:
            a.append(rows[at[0]])
            b.append(others[second[name][0]])
    return a, b


def by_measure(a: F64, b: F64, limit: float) -> tuple[list[int], list[int]]:
    """Rows whose measures agree within the limit, closest first, each used once."""
    if not len(a) or not len(b):
        return [], []
    k = min(NEAR, len(b))
    if len(a) == len(b) and np.abs(a - b).max() <= limit:
        return list(range(len(a))), list(range(len(b)))
    far, found = cKDTree(b).query(a, k=k, distance_upper_bound=limit)
    found = np.asarray(found).reshape(len(a), k)
    first = np.repeat(np.arange(len(a)), k)
    real = found.ravel() < len(b)
    x, y = pick(first[real], found.ravel()[real], np.asarray(far).ravel()[real], len(a), len(b))
    return x.tolist(), y.tolist()


def grouped(words: Sequence[str]) -> dict[str, list[int]]:
    out: dict[str, list[int]] = defaultdict(list)
    for i, word in enumerate(words):
        out[word].append(i)
    return out


def without(rows: Sequence[int], taken: Sequence[int]) -> list[int]:
    gone = set(taken)
    return [i for i in rows if i not in gone]
