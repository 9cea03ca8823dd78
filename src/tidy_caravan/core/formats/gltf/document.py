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

HALF = re.compile("[\ud800-\udfff]")
"""Half of a surrogate pair: a letter beyond the first 65,536 that an exporter cut in two."""


def open_document(bundle: Bundle, notes: list[Note]) -> tuple[dict[str, Any], memoryview | None]:
    """The JSON and the binary chunk, if any (4.4 of the specification). Raises UnusableInput."""
    data, chunk = bundle.data, None
    if data[:4] == b"glTF":
        text, chunk = glb_chunks(data, bundle.main)
    else:
        text = memoryview(data.removeprefix(b"\xef\xbb\xbf"))
    try:
        document = orjson.loads(text)
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
    """What JSON means that is not quite RFC 8259: another encoding than UTF-8, letters cut in half, numbers that are
    none. Each is told. None for what is broken."""
    told: list[Note] = []
    try:
        document = json.loads(in_utf8(text, "JSON", told))
    except (ValueError, RecursionError):
        return None
    notes += told
    halves: list[str] = []
    numbers: list[str] = []
    document = cleaned(document, "", halves, numbers)
    for places, said in (
        (halves, "hold half a letter (a lone surrogate), which no file can keep; it is shown as �"),
        (numbers, "hold NaN or an infinite number, which JSON does not have; they count as not given"),
    ):
        if places:
            listed = ", ".join(places[:3]) + (f" and {len(places) - 3} more" if len(places) > 3 else "")
            notes.append(Note("damaged", "import.json", places[0], f"{len(places)} values {said}: {listed}."))
    return document


def cleaned(value: Any, where: str, halves: list[str], numbers: list[str]) -> Any:
    """A copy that JSON can hold; the places of what it cannot are added to the lists."""
    if isinstance(value, str) and HALF.search(value):
        halves.append(where)
        return HALF.sub("\ufffd", value)
    if isinstance(value, float) and not math.isfinite(value):
        numbers.append(where)
        return None
    if isinstance(value, list):
        return [cleaned(v, f"{where}[{k}]", halves, numbers) for k, v in enumerate(value)]
    if isinstance(value, dict):
        return {
            cleaned(k, f"{where}.{k}"[:80].strip("."), halves, numbers): cleaned(
                v, f"{where}.{k}".strip("."), halves, numbers
            )
            for k, v in value.items()
        }
    return value
