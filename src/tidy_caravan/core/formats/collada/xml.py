"""COLLADA as XML: parsed without entities, external files or network, and helpers to find and read pieces."""

from __future__ import annotations

import re
from contextlib import suppress
from typing import Any

import numpy as np
from lxml import etree

from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.shared.encoding import MARKS, in_utf8
from tidy_caravan.core.scene import Note
from tidy_caravan.core.scene.arrays import F64, I64, AnyArray

ENCODINGS = re.compile(rb"""<\?xml[^>]*encoding\s*=\s*["']([A-Za-z0-9._\-]+)["']""")
SAFE = ("utf-8", "utf8", "utf-16", "us-ascii", "ascii")
SAFE_STARTS = ("iso-8859-", "windows-125", "cp125", "latin")
NAMESPACES = ("http://www.collada.org/2005/11/COLLADASchema", "http://www.collada.org/2008/03/COLLADASchema")
DEEPEST = 2000
ROOT_TAG = 4096
"""Bytes at the beginning among which the document element is looked for."""
MANY = 1000
"""Letters from which on numbers are worth another parser."""
COMMAS = bytes.maketrans(b" \t\r\n", b",,,,")
Element = Any


def parse(data: bytes, where: str, notes: list[Note]) -> Element:
    """The document element with all tags reduced to their local names. Raises UnusableInput.

    Entities are refused before parsing, whatever they would expand to; huge number lists are allowed.
    """
    if b"<!ENTITY" in data or b"<\0!\0E\0N\0T\0I\0T\0Y" in data:
        raise UnusableInput("the file declares XML entities, which are not read; export it without", where=where)
    declared = ENCODINGS.search(data[:200])
    if declared:
        name = declared.group(1).decode("ascii").lower()
        if name not in SAFE and not name.startswith(SAFE_STARTS):
            raise UnusableInput(f"the text encoding {name[:40]} is not read; export it as UTF-8", where=where)
    if data.count(b"xmlns") == 1:
        # without its one namespace no tag has to be written anew, which takes as long as the parsing
        head = data[:ROOT_TAG]
        for namespace in NAMESPACES:
            head = head.replace(b' xmlns="' + namespace.encode() + b'"', b"", 1)
        data = head + data[ROOT_TAG:]
    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, huge_tree=True, remove_comments=True, remove_pis=True
    )
    if (not declared or name.startswith("utf")) and not data.startswith(MARKS):
        data = in_utf8(data, where, notes)
    try:
        root = etree.fromstring(data, parser)
    except etree.XMLSyntaxError as error:
        line = error.lineno or 0
        raise UnusableInput(f"the XML is broken at line {line}; export it again", where=where) from error
    except (ValueError, etree.LxmlError) as error:
        raise UnusableInput(f"the XML cannot be read ({error})"[:200], where=where) from error
    if root is None or etree.QName(root).localname != "COLLADA":
        raise UnusableInput("the document element is not COLLADA; this is another kind of file", where=where)
    return root


FILTERS = {
    "NEAREST": 9728, "LINEAR": 9729, "NEAREST_MIPMAP_NEAREST": 9984, "LINEAR_MIPMAP_NEAREST": 9985,
    "NEAREST_MIPMAP_LINEAR": 9986, "LINEAR_MIPMAP_LINEAR": 9987,
}  # fmt: skip
"""Words of COLLADA 1.4.1 (fx_sampler_filter_common) for the codes of glTF 2.0, 5.26."""


class Document:
    """A parsed file with its elements by id. Tags are compared by local name."""

    def __init__(self, root: Element, name: str) -> None:
        self.root, self.name = root, name
        self.by_id: dict[str, Element] = {}
        for element in root.iter(etree.Element):
            key = element.get("id")
            if key:
                self.by_id.setdefault(key, element)
            if isinstance(element.tag, str) and element.tag[0] == "{":
                element.tag = element.tag[element.tag.index("}") + 1 :]

    def target(self, url: str | None) -> Element | None:
        """Element of a local address such as `#box`."""
        return self.by_id.get(url[1:]) if url and url.startswith("#") else None


def text_of(element: Element | None) -> str:
    return (element.text or "").strip() if element is not None else ""


def parsed(text: str) -> F64:
    """All numbers in a text. Raises ValueError for a word that is no number."""
    return values_in(text, np.float64)


def values_in(text: str, kind: type[Any]) -> AnyArray:
    """The same, of float64 or int64."""
    if not text or text.isspace():
        return np.zeros(0, kind)
    if len(text) >= MANY:
        with suppress(ValueError, TypeError, RuntimeError):  # what is a number here and none in JSON
            return values_quickly(text, kind)
    return np.fromstring(text, kind, sep=" ")


def values_quickly(text: str, kind: type[Any]) -> AnyArray:
    """Plain decimal numbers, three times as fast as the other way: as the list of a JSON document. Raises ValueError,
    TypeError or RuntimeError where they are none for that."""
    import simdjson

    if "[" in text or "," in text:  # would be taken for what a list is made of
        raise ValueError
    # kinds of blanks between the numbers, several of them or a line's indentation
    body = text.strip().encode().translate(COMMAS)
    if b",," in body:
        body = ",".join(text.split()).encode()
    found: Any = simdjson.Parser().parse(b"[" + body + b"]")
    code = "d" if kind is np.float64 else "i"
    return np.array(np.frombuffer(found.as_buffer(of_type=code), kind))  # one that can be written to


def numbers(element: Element | None) -> F64:
    """All numbers in an element's text. Raises ValueError for a word that is no number."""
    return parsed((element.text or "") if element is not None else "")


def whole_numbers(element: Element | None) -> I64:
    """All whole numbers in an element's text. Raises ValueError."""
    return values_in((element.text or "") if element is not None else "", np.int64)


def number(element: Element | None, spare: float) -> float:
    try:
        value = float(text_of(element))
    except ValueError:
        return spare
    return value if np.isfinite(value) else spare


def label(element: Element) -> str:
    """Name, else id, cut to a sane length."""
    return str(element.get("name") or element.get("id") or "")[:10_000]
