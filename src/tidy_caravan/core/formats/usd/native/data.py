"""What is said of a node as the custom data of a prim, and back: JSON values as the kinds that a dictionary of the format has.

Texts, whole numbers of 64 bits, numbers, truth values, dictionaries, and lists of one such kind. A value that is another
(a list of lists or of several kinds, nothing) stands there as JSON text.
"""

from __future__ import annotations

import json
import math
from collections.abc import Mapping
from typing import Any

from pxr import Sdf, Tf, Vt

from tidy_caravan.core.formats.shared.written import NO_LETTER, ONE_VALUE

ARRAYS: dict[type, Any] = {bool: Vt.BoolArray, int: Vt.Int64Array, float: Vt.DoubleArray, str: Vt.StringArray}
OWN = "userProperties:"
"""Namespace of attributes that an artist adds."""
OURS = ("tidyCaravan", "userDocBrief")
"""Keys that say something of the prim as a prim."""

MOST_VALUES = 100_000
"""Values of a list that goes on as data: what is longer is an array of another program's, and said to be one."""


def as_custom(said: Any) -> tuple[dict[str, Any], bool]:
    """The dictionary of what is said, and whether any of it stands there as text. What is no object is one by itself."""
    out: dict[str, Any] = {}
    texts = False
    for name, value in (said if isinstance(said, Mapping) else {ONE_VALUE: said}).items():
        key = str(name).replace("\0", NO_LETTER)
        try:
            out[key] = native(value)
        except ValueError:
            out[key], texts = json.dumps(value, ensure_ascii=True), True
    return out, texts


def native(value: Any) -> Any:
    """The value as the format has it. Raises ValueError where it has no kind for it."""
    if isinstance(value, bool) or (isinstance(value, int) and -(2**63) <= value < 2**63):
        return value
    if (isinstance(value, float) and math.isfinite(value)) or (isinstance(value, str) and "\0" not in value):
        return value
    if isinstance(value, Mapping):
        if any(not isinstance(k, str) or "\0" in k for k in value):
            raise ValueError("a key that is no text")
        return {k: native(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        kinds = {type(v) for v in value}
        kind = float if kinds == {int, float} else next(iter(kinds)) if len(kinds) == 1 else str if not kinds else None
        if kind in ARRAYS:
            return ARRAYS[kind]([native(v) for v in value])
    raise ValueError("no kind of the format")


def from_custom(given: Mapping[str, Any]) -> dict[str, Any]:
    """JSON of a dictionary of the format, without what is said of the prim as a prim; what has no like in JSON as text."""
    return {k: plain(v) for k, v in given.items() if k not in OURS}


def plain(value: Any) -> Any:
    if value is None or isinstance(value, bool | int | str):
        return value
    if isinstance(value, float):
        return value if math.isfinite(value) else str(value)
    if isinstance(value, Mapping):
        return {str(k): plain(v) for k, v in value.items()}
    if isinstance(value, Sdf.AssetPath):
        return value.path
    if isinstance(value, Tf.Enum | Sdf.TimeCode):
        return str(value)
    try:
        if len(value) > MOST_VALUES:
            return f"{len(value)} values, more than data are kept of"
        return [plain(v) for v in value]  # arrays, vectors, and matrices row by row
    except TypeError:
        return str(value)[:200]
