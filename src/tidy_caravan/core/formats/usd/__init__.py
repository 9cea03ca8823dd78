"""OpenUSD: layers and packages; the library (usd-core) runs in child processes, for reading, writing and receiving."""

from collections.abc import Mapping
from pathlib import PurePosixPath

from tidy_caravan.core.formats.abilities import LENSES, Ability
from tidy_caravan.core.formats.registry import Format, Writable, later, register

ABILITY = Ability(
    data=True,
    lists=True,
    pages=True,
    color_channels=3,
    look="usd",
    two_sided_meshes=True,
    visible=True,
    declares=True,
    lights=frozenset({"kind", "light", "inner cone", "cone", "surface", "surface size"}),
    cameras=LENSES,
)


def sniff(head: bytes) -> bool:
    """The magic of a binary or of a text layer."""
    return head[:8] == b"PXR-USDC" or head[:5] == b"#usda"


def main_in(name: str, files: Mapping[str, bytes], folder: str) -> str:
    """A .usdz begins with its main layer (OpenUSD, “Usdz File Format”)."""
    if PurePosixPath(name).suffix.lower() != ".usdz":
        return ""
    return next((n for n in files if PurePosixPath(n).suffix.lower() in (".usd", ".usda", ".usdc")), "")


RECEIVE = later(__name__, "receive:receive_usd")
WORDS = {
    "usda": "OpenUSD as text; tree kept, instances as instances",
    "usdc": "OpenUSD as binary; tree kept, instances as instances",
    "usdz": "OpenUSD package, one file with everything inside",
}
FORMAT = register(
    Format(
        name="usd",
        endings=(".usd", ".usda", ".usdc", ".usdz"),
        sniff=sniff,
        read=later(__name__, "read:read"),
        writable=tuple(
            Writable(kind, title, ABILITY, later(__name__, f"write:write_{kind}"), RECEIVE)
            for kind, title in WORDS.items()
        ),
        main_in=main_in,
        parts_named=later(__name__, "layers:parts_named"),
    )
)
