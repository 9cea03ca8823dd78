"""The JSON of a glTF file and its binary chunk; JSON of careless exporters is read where its meaning is clear."""

from __future__ import annotations

import json
import math
import re
import struct
from typing import Any

import orjson

from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.shared.bundle import Bundle
from tidy_caravan.core.formats.shared.encoding import in_utf8
from tidy_caravan.core.scene import Note
from tidy_caravan.core.words import plural

HALF = re.compile("[\ud800-\udfff]")
"""Half of a surrogate pair: a letter beyond the first 65,536 that an exporter cut in two."""
LONG = re.compile(rb"[:,\[\s]-?\d{19,}[,\]}\s]")
"""A whole number that may need more than 64 bits; a quick reader of JSON takes it for the nearest number it knows."""
EXTRAS = re.compile(r"(^|\.)extras[.[]")


class Digits(str):
    """A whole number of more than 64 bits as the file has it."""


def open_document(bundle: Bundle, notes: list[Note]) -> tuple[dict[str, Any], memoryview | None]:
    """The JSON and the binary chunk, if any (4.4 of the specification). Raises UnusableInput."""
    data, chunk = bundle.data, None
    if data[:4] == b"glTF":
        text, chunk = glb_chunks(data, bundle.main)
    else:
        text = memoryview(data.removeprefix(b"\xef\xbb\xbf"))
    try:
        document = orjson.loads(text)
        if b'"extras"' in (whole := bytes(text)) and LONG.search(whole):
            document = understood(whole, notes) or document
    except orjson.JSONDecodeError as error:
        document = understood(bytes(text), notes)
        if document is None:
            place = f"line {error.lineno}, column {error.colno}"
            raise UnusableInput(f"the JSON is broken at {place}; export the file again", where=bundle.main) from error
    if not isinstance(document, dict):
        raise UnusableInput("the JSON is not an object; this is no glTF file", where=bundle.main)
    asset = document.get("asset")
    version = asset.get("version") if isinstance(asset, dict) else None
    if not isinstance(version, str):
        raise UnusableInput("there is no asset.version; this is no glTF 2.0 file", where=bundle.main)
    if version.split(".")[0] != "2":
        raise UnusableInput(
            f"this is glTF {version[:20]}; only version 2 can be read, export it as 2.0", where=bundle.main
        )
    return document, chunk


def glb_chunks(data: bytes, name: str) -> tuple[memoryview, memoryview | None]:
    if len(data) < 20:
        raise UnusableInput(f"the file is cut off after {len(data)} bytes", where=name)
    version, length = struct.unpack_from("<II", data, 4)
    if version != 2:
        raise UnusableInput(f"this is GLB version {version}; only version 2 can be read", where=name)
    if length > len(data):
        raise UnusableInput(
            f"the header claims {length} bytes and there are {len(data)}; the file is cut off", where=name
        )
    view, at = memoryview(data)[:length], 12
    text: memoryview | None = None
    binary: memoryview | None = None
    while at + 8 <= length:
        size, kind = struct.unpack_from("<II", view, at)
        if at + 8 + size > length:
            raise UnusableInput(
                f"the chunk at byte {at} claims {size} bytes and {length - at - 8} are left", where=name
            )
        body = view[at + 8 : at + 8 + size]
        if kind == 0x4E4F534A and text is None:
            text = body
        elif kind == 0x004E4942 and binary is None:
            binary = body
        at += 8 + size
    if text is None:
        raise UnusableInput("there is no JSON chunk; this is no GLB file", where=name)
    return text, binary


def understood(text: bytes, notes: list[Note]) -> Any:
    """What JSON means that is not quite RFC 8259, or more than others agree on: another encoding than UTF-8, letters
    cut in half, numbers that are none, whole numbers of more than 64 bits. Each is told. None for what is broken."""
    told: list[Note] = []
    try:
        document = json.loads(in_utf8(text, "JSON", told), parse_int=whole_number)
    except (ValueError, RecursionError):
        return None
    notes += told
    halves: list[str] = []
    numbers: list[str] = []
    digits: list[str] = []
    document = cleaned(document, "", halves, numbers, digits)
    if digits:
        notes.append(
            Note(
                "converted",
                "import.long-numbers",
                digits[0],
                f"{plural(len(digits), 'value')} of extras are whole numbers of more than 64 bits, which few programs can hold; "
                f"they are kept as text: {listed(digits)}.",
            )
        )
    for places, said in (
        (halves, "hold half a letter (a lone surrogate), which no file can keep; it is shown as �"),
        (numbers, "hold NaN or an infinite number, which JSON does not have; they count as not given"),
    ):
        if places:
            notes.append(Note("damaged", "import.json", places[0], f"{len(places)} values {said}: {listed(places)}."))
    return document


def listed(places: list[str]) -> str:
    return ", ".join(places[:3]) + (f" and {len(places) - 3} more" if len(places) > 3 else "")


def whole_number(digits: str) -> int | Digits:
    if len(digits) < 19 or (len(digits) < 22 and -(2**63) <= int(digits) < 2**64):
        return int(digits)
    return Digits(digits)


def cleaned(value: Any, where: str, halves: list[str], numbers: list[str], digits: list[str]) -> Any:
    """A copy that JSON can hold; the places of what it cannot are added to the lists."""
    if isinstance(value, Digits):
        if EXTRAS.search(where):
            digits.append(where)
            return str(value)
        value = float(value)
    if isinstance(value, str) and HALF.search(value):
        halves.append(where)
        return HALF.sub("\ufffd", value)
    if isinstance(value, float) and not math.isfinite(value):
        numbers.append(where)
        return None
    if isinstance(value, list):
        return [cleaned(v, f"{where}[{k}]", halves, numbers, digits) for k, v in enumerate(value)]
    if isinstance(value, dict):
        return {
            cleaned(k, f"{where}.{k}"[:80].strip("."), halves, numbers, digits): cleaned(
                v, f"{where}.{k}".strip("."), halves, numbers, digits
            )
            for k, v in value.items()
        }
    return value
