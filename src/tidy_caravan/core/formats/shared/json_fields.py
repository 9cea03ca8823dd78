"""Typed access to untrusted JSON: every getter checks type and range, and says where it failed."""

from __future__ import annotations

import math
from typing import Any

from tidy_caravan.core.errors import UnusableInput


class Damage(UnusableInput):
    """One piece of a file is not usable; the rest may be."""

    code = "import.damaged"


def kind_of(value: Any) -> str:
    names = {
        dict: "an object",
        list: "a list",
        str: "a text",
        bool: "true/false",
        int: "a number",
        float: "a number",
        type(None): "null",
    }
    return names.get(type(value), type(value).__name__)


def as_object(value: Any, where: str) -> dict[str, Any]:
    if not isinstance(value, dict):
        raise Damage(f"should be an object and is {kind_of(value)}", where=where)
    return value


def as_list(value: Any, where: str) -> list[Any]:
    if not isinstance(value, list):
        raise Damage(f"should be a list and is {kind_of(value)}", where=where)
    return value


def get_object(data: dict[str, Any], key: str, where: str) -> dict[str, Any]:
    return as_object(data[key], f"{where}.{key}") if key in data else {}


def get_list(data: dict[str, Any], key: str, where: str) -> list[Any]:
    return as_list(data[key], f"{where}.{key}") if key in data else []


def get_text(data: dict[str, Any], key: str, where: str, default: str = "") -> str:
    value = data.get(key, default)
    if not isinstance(value, str):
        raise Damage(f"should be a text and is {kind_of(value)}", where=f"{where}.{key}")
    return value


def as_int(value: Any, where: str, low: int = 0, high: int = 2**53) -> int:
    if isinstance(value, float) and value.is_integer() and abs(value) < 2**53:
        value = int(value)
    if isinstance(value, bool) or not isinstance(value, int):
        raise Damage(f"should be a whole number and is {kind_of(value)}", where=where)
    if not low <= value <= high:
        raise Damage(f"is {value}, outside {low} to {high}", where=where)
    return value


def get_int(data: dict[str, Any], key: str, where: str, default: int, low: int = 0, high: int = 2**53) -> int:
    return as_int(data[key], f"{where}.{key}", low, high) if key in data else default


def as_number(value: Any, where: str) -> float:
    if isinstance(value, bool) or not isinstance(value, (int, float)):
        raise Damage(f"should be a number and is {kind_of(value)}", where=where)
    try:
        number = float(value)
    except OverflowError as error:
        raise Damage("is too large a number", where=where) from error
    if not math.isfinite(number):
        raise Damage("is not a finite number", where=where)
    return number


def get_number(
    data: dict[str, Any], key: str, where: str, default: float, low: float = -math.inf, high: float = math.inf
) -> float:
    if key not in data:
        return default
    value = as_number(data[key], f"{where}.{key}")
    if not low <= value <= high:
        raise Damage(f"is {value:g}, outside {low:g} to {high:g}", where=f"{where}.{key}")
    return value


def get_bool(data: dict[str, Any], key: str, where: str, default: bool = False) -> bool:
    value = data.get(key, default)
    if not isinstance(value, bool):
        raise Damage(f"should be true or false and is {kind_of(value)}", where=f"{where}.{key}")
    return value


def get_vector(data: dict[str, Any], key: str, where: str, default: tuple[float, ...]) -> tuple[float, ...]:
    if key not in data:
        return default
    values = as_list(data[key], f"{where}.{key}")
    if len(values) != len(default):
        raise Damage(f"should hold {len(default)} numbers and holds {len(values)}", where=f"{where}.{key}")
    return tuple(as_number(v, f"{where}.{key}") for v in values)
