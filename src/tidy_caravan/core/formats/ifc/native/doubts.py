"""What the geometry library said while it worked: pieces that it lost although the element came, openings it did not cut."""

from __future__ import annotations

import json
import re
from typing import Any

from tidy_caravan.core.scene import Note

LOST = "Failed to convert:"
NOT_CUT = re.compile(r"Opening subtraction failed|Failed to process boolean|Invalid operands|Boolean result discarded")
BESIDE = re.compile(r"Eliminated [1-9]\d* (disjoint|touching|narrow) operands")
NUMBER = re.compile(r"#(\d+)\s*=")
NO_SURFACE = {"Axis", "FootPrint", "Box", "Annotation", "Reference", "Clearance", "Lighting", "CoG", "Profile", "Plan"}
"""Representations that are not drawn."""
MOST_STEPS = 20_000
"""Entities that are looked at on the way from a piece to the elements that are made of it."""
MOST_NOTED = 200


def doubts_of(file: Any, log: str, whole: set[int]) -> list[Note]:
    """Notes on elements that did come, but not as the file has them.

    log: one JSON document a line, as the library writes it. whole: elements that are told as lost anyway.
    """
    pieces: dict[int, str] = {}
    uncut: set[int] = set()
    beside: set[int] = set()
    for line in log.splitlines():
        try:
            entry = json.loads(line)
        except ValueError:
            continue
        message, product = str(entry.get("message", "")), number_of(entry.get("product"))
        if LOST in message and (piece := number_of(entry.get("instance"))):
            pieces.setdefault(piece, " ".join(message.split(LOST)[0].split())[:80])
        elif product and NOT_CUT.search(message):
            uncut.add(product)
        elif product and BESIDE.search(message) and only_opened(file.by_id(product)):
            beside.add(product)
    out, opened = lost_pieces(file, pieces, whole)
    if uncut := (uncut | opened) - whole:
        text = f"An opening could not be cut out of {names_of(file, uncut)}; it came without that hole."
        out.append(Note("damaged", "import.opening", first_of(file, uncut), text))
    if beside := beside - uncut - whole:
        text = f"An opening of {names_of(file, beside)} does not reach into the element and cuts nothing out of it."
        out.append(Note("guess", "import.opening", first_of(file, beside), text))
    return out


def only_opened(product: Any) -> bool:
    """Whether what is cut out of an element is its openings, and nothing that its body says itself."""
    items = [i for r in product.Representation.Representations for i in r.Items or ()]
    items += [i for m in items if m.is_a("IfcMappedItem") for i in m.MappingSource.MappedRepresentation.Items or ()]
    return bool(getattr(product, "HasOpenings", None)) and not any(i.is_a("IfcBooleanResult") for i in items)


def number_of(told: Any) -> int:
    """The number of the entity that a line of the log is about, 0 for none."""
    found = NUMBER.match(str(told or ""))
    return int(found.group(1)) if found else 0


def lost_pieces(file: Any, pieces: dict[int, str], whole: set[int]) -> tuple[list[Note], set[int]]:
    """A note for each piece that elements miss, and the elements whose openings could not be made."""
    out: list[Note] = []
    opened: set[int] = set()
    more = 0
    for number, why in sorted(pieces.items()):
        piece = file.by_id(number)
        if not piece.is_a("IfcRepresentationItem") or piece.is_a("IfcLightSource"):
            continue
        users = elements_of(file, piece)
        for opening in [u for u in users if u.is_a("IfcOpeningElement")]:
            opened |= {r.RelatingBuildingElement.id() for r in getattr(opening, "VoidsElements", None) or ()}
        missing = {u.id() for u in users if not u.is_a("IfcOpeningElement")} - whole
        if missing and len(out) < MOST_NOTED:
            because = f": {why}" if why else ""
            text = (
                f"A piece of {names_of(file, missing)} could not be converted ({piece.is_a()} #{number}{because}); "
                "the rest of it was read."
            )
            out.append(Note("damaged", "import.element", first_of(file, missing), text))
        elif missing:
            more += 1
    if more:
        text = f"And {more} more pieces of elements could not be converted."
        out.append(Note("damaged", "import.element", "IfcProduct", text))
    return out, opened


def elements_of(file: Any, piece: Any) -> list[Any]:
    """Products that draw a piece, directly or by what they map."""
    found: dict[int, Any] = {}
    seen = {piece.id()}
    waiting = [piece]
    while waiting and len(seen) < MOST_STEPS:
        entity = waiting.pop()
        for user in file.get_inverse(entity):
            if user.id() in seen:
                continue
            seen.add(user.id())
            if user.is_a("IfcProduct"):
                found[user.id()] = user
            elif user.is_a("IfcShapeRepresentation"):
                if str(user.RepresentationIdentifier or "") not in NO_SURFACE:
                    waiting.append(user)
            elif user.is_a("IfcRepresentationItem") or user.is_a() in (
                "IfcRepresentationMap", "IfcProductDefinitionShape"
            ):  # fmt: skip
                waiting.append(user)
    return [found[i] for i in sorted(found)]


def names_of(file: Any, numbers: set[int]) -> str:
    first = file.by_id(min(numbers))
    more = f" and {len(numbers) - 1} more" if len(numbers) > 1 else ""
    return f"“{str(first.Name or first.is_a())[:60]}”{more}"


def first_of(file: Any, numbers: set[int]) -> str:
    first = file.by_id(min(numbers))
    return f"{first.is_a()} {first.GlobalId}"
