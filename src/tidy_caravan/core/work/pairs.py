"""Work on pairs of things: what was found out about a pair is found again for as long as both stay as they were.

Rows of figures are kept per subject (a haul), all its pairs in one. A scene in which a tenth has changed asks for those
pairs alone that have something changed in them, wherever it stands.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from tidy_caravan.core.pace import Tell
from tidy_caravan.core.scene.arrays import I64, U64, AnyArray, ranges
from tidy_caravan.core.work.heavy import Done, Piece, Work, Workshop, key_of

Columns = Mapping[str, AnyArray]
AT_ONCE = 400_000
"""Size of what is asked in one piece: triangles, say; and the least of them, below which two pieces cost more than one."""
LEAST = 40_000
SEEDS = (0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F)


def fingerprints(columns: Sequence[AnyArray]) -> U64:
    """(N, 2) 128 bits that stand for a row of the columns (N, …), each of 8 bytes a value. O(N · values).

    After Steele, Lea and Flood, Fast Splittable Pseudorandom Number Generators, 2014 (their finalizer, chained).
    """
    if not len(columns[0]):
        return np.zeros((0, 2), np.uint64)
    words = [np.ascontiguousarray(c).reshape(len(c), -1).view(np.uint64) for c in columns]
    lanes = []
    for seed in SEEDS:
        state = np.full(len(words[0]), seed, np.uint64)
        for block in words:
            for k in range(block.shape[1]):
                state = state * np.uint64(0xD1342543DE82EF95) + (block[:, k] ^ np.uint64(seed))
                state ^= state >> np.uint64(30)
                state *= np.uint64(0xBF58476D1CE4E5B9)
                state ^= state >> np.uint64(27)
                state *= np.uint64(0x94D049BB133111EB)
                state ^= state >> np.uint64(31)
        lanes.append(state)
    return np.stack(lanes, axis=1)


def words_of(hashes: Sequence[str]) -> U64:
    """(N, 2) hexadecimal hashes of 128 bits as numbers."""
    data = bytes.fromhex("".join(hashes))
    return np.frombuffer(data, np.uint64).reshape(-1, 2) if data else np.zeros((0, 2), np.uint64)


def by_pair(
    workshop: Workshop,
    work: Work,
    keys: U64,
    size: AnyArray,
    portion: Callable[[I64], Piece],
    parameters: Mapping[str, Any],
    none: Columns,
    tell: Tell,
) -> dict[str, AnyArray] | str:
    """Rows about pairs, sorted by pair; a sentence where they could not be found out.

    keys: (K, 2) all that the answer about a pair depends on. size: (K,) what the time it takes grows with. portion: the
    piece of work that asks about some of the pairs; it gives columns, `pair` being the position among those asked.
    none: the columns of no row, without `pair`.
    """
    kept = replace(work, name=f"{work.name}, by pair", replaced=True)
    slot = key_of(kept, Piece(workshop.subject, {}, parameters))
    before = workshop.results.find(kept, [slot]).get(slot)
    known = before.arrays if isinstance(before, Done) else {"keys": np.zeros((0, 2), np.uint64), "begin": np.zeros(1, np.int64), **none}  # fmt: skip
    at = np.minimum(np.searchsorted(known["keys"][:, 0], keys[:, 0]), max(0, len(known["keys"]) - 1))
    there = (known["keys"][at] == keys).all(axis=1) if len(known["keys"]) else np.zeros(len(keys), np.bool_)
    missing = np.flatnonzero(~there)
    parts: list[tuple[I64, Columns]] = []
    if len(missing):
        portions = shares(size[missing])
        pieces = []
        for some in portions:
            tell(0, len(portions))
            pieces.append(portion(missing[some]))
        for some, outcome in zip(portions, workshop.do(work, pieces, tell, keep=False), strict=True):
            if not isinstance(outcome, Done):
                return outcome.reason
            parts.append((missing[some][np.asarray(outcome.arrays["pair"])], outcome.arrays))
    rows = np.flatnonzero(there)
    begin, count = known["begin"][at[rows]], np.diff(known["begin"])[at[rows]] if len(rows) else np.zeros(0, np.int64)
    taken = ranges(begin, count)
    parts.append((np.repeat(rows, count), {name: known[name][taken] for name in none}))
    pair = np.concatenate([p for p, _ in parts])
    order = np.argsort(pair, kind="stable")
    out: dict[str, AnyArray] = {name: np.concatenate([np.asarray(c[name]) for _, c in parts])[order] for name in none}
    pair = pair[order]
    if len(missing):
        workshop.results.keep(kept, {slot: Done(remembered(known, keys, pair, out), {})})
    return {"pair": pair, **out}


def shares(size: AnyArray) -> list[I64]:
    """Runs of pairs, of about one size; two at least where there is enough for that."""
    total = float(size.sum())
    pieces = max(1, min(2, int(total // LEAST)), int(np.ceil(total / AT_ONCE)))
    cuts = np.searchsorted(np.cumsum(size), total * np.arange(1, pieces) / pieces)
    return [part for part in np.split(np.arange(len(size)), cuts) if len(part)]


def remembered(known: Columns, keys: U64, pair: I64, rows: Columns) -> dict[str, AnyArray]:
    """What to keep: these pairs with their rows, and as many of before, for whoever takes the last change back."""
    unique, first = np.unique(keys[:, 0], return_index=True)
    count = np.bincount(pair, minlength=len(keys))
    start = np.cumsum(count) - count
    spare = ~np.isin(known["keys"][:, 0], unique)
    if spare.sum() > len(unique):
        spare[:] = False
    old = np.flatnonzero(spare)
    old_count = np.diff(known["begin"])[old]
    all_keys = np.concatenate([keys[first], known["keys"][old]])
    order = np.argsort(all_keys[:, 0], kind="stable")
    counts = np.concatenate([count[first], old_count])[order]
    # rows of both, one after the other, and where each pair has its own among them
    begins = np.concatenate([start[first], known["begin"][old] + len(pair)])[order]
    taken = ranges(begins, counts)
    out = {name: np.concatenate([values, known[name]])[taken] for name, values in rows.items()}
    return {"keys": all_keys[order], "begin": np.concatenate([[0], np.cumsum(counts)]).astype(np.int64), **out}
