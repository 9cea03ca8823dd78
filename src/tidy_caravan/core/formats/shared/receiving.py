"""What stand-in receivers share: they read a package from disk with other people's readers, by the destination's rules."""

from __future__ import annotations

from pathlib import Path
from urllib.parse import unquote

from tidy_caravan.core.errors import UnusableInput


def beside(file: Path, uri: str) -> bytes:
    """A file that a document names, never outside its folder. Raises OSError, UnusableInput."""
    path = (file.parent / unquote(uri)).resolve()
    if not path.is_relative_to(file.parent.resolve()):
        raise UnusableInput("it names a file outside its folder", where=uri[:120])
    return path.read_bytes()
