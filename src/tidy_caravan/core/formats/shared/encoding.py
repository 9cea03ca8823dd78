"""Text of any encoding as UTF-8: with its mark for what it says, else as a guess that is told."""

from __future__ import annotations

from codecs import BOM_UTF8, BOM_UTF16_BE, BOM_UTF16_LE

from tidy_caravan.core.scene import Note

MARKS = (BOM_UTF16_LE, BOM_UTF16_BE)
"""What UTF-16 begins with where it says so."""


SEEN = 256
"""Bytes by which a text is told from numbers that happen to begin with a mark."""


def unmarked(data: bytes) -> bytes:
    """A text without the mark of its encoding, in UTF-8; all else as it is, and XML, which says more of its encoding."""
    if data.startswith(BOM_UTF8) and b"\0" not in data[:SEEN]:
        return data.removeprefix(BOM_UTF8)
    if data.startswith(MARKS):
        head = data[:SEEN].decode("utf-16", errors="ignore")
        latin = sum(map(str.isascii, head)) > len(head) / 2  # of pairs of random bytes it is one in 500
        if latin and head.lstrip()[:1] != "<" and "\0" not in head:
            return data.decode("utf-16", errors="replace").encode()
    return data


def is_utf8(data: bytes) -> bool:
    try:
        return data.isascii() or data.decode("utf-8") is not None
    except UnicodeDecodeError:
        return False


def in_utf8(data: bytes, where: str, notes: list[Note]) -> bytes:
    """The same text in UTF-8 without a mark. What is neither that nor UTF-16 with its mark is taken for Windows-1252,
    in which most older programs write names."""
    if data.startswith(MARKS):
        return data.decode("utf-16", errors="replace").encode()
    if not is_utf8(data):
        text = "The text is not UTF-8; it was taken for Windows-1252. Check names with accents and other letters."
        notes.append(Note("guess", "import.encoding", where[:120], text))
        data = data.decode("cp1252", errors="replace").encode()
    return data.removeprefix(b"\xef\xbb\xbf")
