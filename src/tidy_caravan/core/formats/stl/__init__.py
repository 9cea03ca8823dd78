"""STL: triangles, solid by solid; received through trimesh."""

from tidy_caravan.core.formats.abilities import Ability
from tidy_caravan.core.formats.registry import Format, Writable, later, register

ABILITY = Ability(tree=False, sharing=False, pivots=False, normals=False, uv_sets=0, color_channels=0, look="none")


def sniff(head: bytes) -> bool:
    """Text files say `solid` and soon `facet`; a binary one's triangle count is checked when it is read."""
    if head.lstrip()[:5].lower() == b"solid" and (b"facet" in head or b"endsolid" in head or endless_name(head)):
        return True
    return len(head) >= 84 and b"\0" in head[:84] and head[:4] not in (b"glTF", b"PK\x03\x04", b"\x89PNG")


def endless_name(head: bytes) -> bool:
    """The name of a solid fills all that is seen of the file: text, and no line ends in it."""
    return b"\n" not in head and b"\0" not in head


FORMAT = register(
    Format(
        name="stl",
        endings=(".stl",),
        sniff=sniff,
        read=later(__name__, "read:read"),
        writable=(
            Writable(
                "stl",
                "STL, triangles only; no tree, no sharing, no materials, no UV sets",
                ABILITY,
                later(__name__, "write:write_stl"),
                later(__name__, "receive:receive_stl"),
            ),
        ),
        weak=True,
    )
)
