"""PLY: one mesh; received through trimesh."""

from tidy_caravan.core.formats.abilities import Ability
from tidy_caravan.core.formats.registry import Format, Writable, later, register

ABILITY = Ability(tree=False, sharing=False, pivots=False, names=False, parts=False, uv_sets=1, look="none")


def sniff(head: bytes) -> bool:
    """The word of the first line."""
    return head[:4] in (b"ply\n", b"ply\r")


FORMAT = register(
    Format(
        name="ply",
        endings=(".ply",),
        sniff=sniff,
        read=later(__name__, "read:read"),
        writable=(
            Writable(
                "ply",
                "PLY, one mesh with part numbers; no tree, no sharing, one UV set",
                ABILITY,
                later(__name__, "write:write_ply"),
                later(__name__, "receive:receive_ply"),
            ),
        ),
    )
)
