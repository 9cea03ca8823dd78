"""Stand-in receivers: read a package from disk with third-party readers, by the destination's rules.

Nothing of our own readers or writers is used, so that a fault there cannot hide itself.
"""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from typing import TypeVar
from urllib.parse import unquote

from tidy_caravan.core.conventions.destinations import Destination, FormatName
from tidy_caravan.core.errors import CaravanError, UnusableInput
from tidy_caravan.core.scene import Scene

Receiver = Callable[[Path, Destination, FormatName], Scene]
_receivers: dict[str, Receiver] = {}
R = TypeVar("R", bound=Receiver)
MODULES = {
    "glb": "receive_gltf",
    "gltf": "receive_gltf",
    "dae": "receive_dae",
    "usda": "receive_usd",
    "usdc": "receive_usd",
    "usdz": "receive_usd",
    "obj": "receive_flat",
    "ply": "receive_flat",
    "stl": "receive_flat",
}


def receiver(*formats: str) -> Callable[[R], R]:
    """Registers a receiver for formats. Raises ValueError for a second one of the same format."""

    def register(function: R) -> R:
        for fmt in formats:
            if fmt in _receivers:
                raise ValueError(f"there are two receivers for {fmt}")
            _receivers[fmt] = function
        return function

    return register


def receive(file: Path, destination: Destination, fmt: FormatName) -> Scene:
    """The scene as the destination's importer takes it. Raises UnusableInput when it cannot be read."""
    if fmt not in MODULES:
        raise UnusableInput(f"there is no receiver for “{fmt}”", where=file.name)
    import_module(f"{__package__}.{MODULES[fmt]}")
    try:
        return _receivers[fmt](file, destination, fmt)
    except CaravanError:
        raise
    except Exception as error:  # third-party readers raise anything on damaged files
        raise UnusableInput(
            "the receiver cannot read it: the file is cut short, damaged or names files that are not there; pack again",
            where=file.name,
            code="arrival.unreadable",
        ) from error


def beside(file: Path, uri: str) -> bytes:
    """A file that a document names, never outside its folder. Raises OSError, UnusableInput."""
    path = (file.parent / unquote(uri)).resolve()
    if not path.is_relative_to(file.parent.resolve()):
        raise UnusableInput("it names a file outside its folder", where=uri[:120])
    return path.read_bytes()
