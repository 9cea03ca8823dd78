"""COLLADA 1.4 and 1.5: read and written by our own code, received through pycollada."""

import contextlib
import re
from collections.abc import Mapping
from pathlib import PurePosixPath

from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.abilities import LENSES, NAMES, Ability
from tidy_caravan.core.formats.registry import Format, Writable, later, register
from tidy_caravan.core.formats.shared.bundle import safe_relative

ABILITY = Ability(
    look="collada",
    labels=frozenset({NAMES, "copyright"}),
    layers=True,
    filters=True,
    declares=True,
    scenes=True,
    encoded_lights=True,
    lights=frozenset({"kind", "light", "cone"}),
    cameras=LENSES,
)


def sniff(head: bytes) -> bool:
    """The name of the root element, in one byte or two a letter."""
    return b"<COLLADA" in head or b"<\0C\0O\0L\0L\0A\0D\0A" in head


def main_in(name: str, files: Mapping[str, bytes], folder: str) -> str:
    """A .zae names its main document in its manifest (COLLADA 1.5, 3.4)."""
    manifest = files.get(f"{folder}manifest.xml", b"") if PurePosixPath(name).suffix.lower() == ".zae" else b""
    found = re.search(rb"<(?:\w+:)?dae_root[^>]*>\s*([^<#]+)", manifest[:100_000])
    if found:
        with contextlib.suppress(UnusableInput):
            path = folder + safe_relative(found.group(1).decode("utf-8", "replace").strip())
            return path if path in files else ""
    return ""


FORMAT = register(
    Format(
        name="dae",
        endings=(".dae", ".zae"),
        sniff=sniff,
        read=later(__name__, "read:read"),
        writable=(
            Writable(
                "dae",
                "COLLADA, tree and sharing kept; loose textures",
                ABILITY,
                later(__name__, "write:write_dae"),
                later(__name__, "receive:receive_dae"),
            ),
        ),
        main_in=main_in,
    )
)
