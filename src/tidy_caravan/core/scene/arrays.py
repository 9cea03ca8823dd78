"""Array types of the scene model, and the one way to make an array read-only."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, TypeVar

import numpy as np
import numpy.typing as npt

F32 = npt.NDArray[np.float32]
F64 = npt.NDArray[np.float64]
I32 = npt.NDArray[np.int32]
I64 = npt.NDArray[np.int64]
U8 = npt.NDArray[np.uint8]
U32 = npt.NDArray[np.uint32]
U64 = npt.NDArray[np.uint64]
Bool = npt.NDArray[np.bool_]
AnyArray = npt.NDArray[Any]
A = TypeVar("A", bound=AnyArray)
WIDE = 64
LARGEST = 1e15
"""In the scene's unit: a coordinate beyond is damage. Its square, and a step up in unit, still fit float32."""


def usable_rows(points: AnyArray) -> Bool:
    """(N,) which of the (N, 3) points are numbers of a size that scenes have."""
    out: Bool = np.ones(len(points), np.bool_)
    for k in range(points.shape[1]):  # false for NaN as well; a column at a time is several times quicker
        out &= np.abs(points[:, k]) <= LARGEST
    return out


def extremes(rows: A) -> tuple[A, A]:
    """(K,) smallest and (K,) largest of each column of (N, K), N > 0.

    Rows are taken many at once: along few columns numpy's own reduction is several times slower.
    """
    many = len(rows) // WIDE * WIDE
    block = rows[:many].reshape(many // WIDE, -1) if many else None
    tail = rows[many:]
    low = [block.min(axis=0).reshape(WIDE, -1), tail] if block is not None else [tail]
    high = [block.max(axis=0).reshape(WIDE, -1), tail] if block is not None else [tail]
    return np.concatenate(low).min(axis=0), np.concatenate(high).max(axis=0)


def determinants(matrices: AnyArray) -> F64:
    """(N,) of (N, 3, 3), by Sarrus' rule: of many small matrices ten times quicker than by elimination."""
    a = matrices.astype(np.float64, copy=False)
    with np.errstate(invalid="ignore", over="ignore"):
        out: F64 = (
            a[:, 0, 0] * (a[:, 1, 1] * a[:, 2, 2] - a[:, 1, 2] * a[:, 2, 1])
            - a[:, 0, 1] * (a[:, 1, 0] * a[:, 2, 2] - a[:, 1, 2] * a[:, 2, 0])
            + a[:, 0, 2] * (a[:, 1, 0] * a[:, 2, 1] - a[:, 1, 1] * a[:, 2, 0])
        )
    return out


def stored32(values: AnyArray) -> F32:
    """As float32, what is no number or beyond LARGEST put right, so that the cast cannot overflow."""
    out: F32 = np.clip(np.nan_to_num(values), -LARGEST, LARGEST).astype(np.float32)
    return out


def frozen(array: A) -> A:
    """The same array, C-contiguous and read-only."""
    out = np.ascontiguousarray(array)
    if out.flags.writeable:
        if out is not array or out.base is None:
            out.flags.writeable = False
        else:
            out = out.view()
            out.flags.writeable = False
    return out  # type: ignore[return-value]


def ranges(begin: I64, count: I64) -> I64:
    """begin[0], begin[0] + 1, … count[0] of them, and so on: (sum of count,)."""
    total = int(count.sum())
    steps = np.arange(total) - np.repeat(np.cumsum(count) - count, count)
    out: I64 = np.repeat(begin, count) + steps
    return out


def chunks(sizes: AnyArray, most: int) -> Iterator[I64]:
    """Runs of rows whose sizes (N,) add up to about `most`; a larger one stands alone."""
    ends = np.cumsum(sizes, dtype=np.int64)
    at = 0
    while at < len(ends):
        before = int(ends[at - 1]) if at else 0
        stop = max(at + 1, int(np.searchsorted(ends, before + most, side="right")))
        yield np.arange(at, stop)
        at = stop
