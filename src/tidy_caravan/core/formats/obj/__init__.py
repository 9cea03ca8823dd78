"""OBJ with MTL: placed parts, one UV set; received through trimesh."""

from tidy_caravan.core.formats.abilities import Ability
from tidy_caravan.core.formats.registry import Format, Writable, later, register

ABILITY = Ability(tree=False, sharing=False, pivots=False, uv_sets=1, color_channels=3, look="obj", laid_out=True)

WORDS = {b"v", b"vt", b"vn", b"f", b"o", b"g", b"s", b"usemtl", b"mtllib", b"l", b"p"}


def sniff(head: bytes) -> bool:
    """Text with a line that begins as its lines do."""
    if b"\0" in head:
        return False
    lines = [line.split(None, 1)[0] for line in head.splitlines()[:400] if line.split()]
    return any(word in WORDS for word in lines) and head.lstrip()[:1] != b"{"


FORMAT = register(
    Format(
        name="obj",
        endings=(".obj",),
        sniff=sniff,
        read=later(__name__, "read:read"),
        members=(".mtl",),
        writable=(
            Writable(
                "obj",
                "OBJ with MTL; no tree, no sharing, one UV set",
                ABILITY,
                later(__name__, "write:write_obj"),
                later(__name__, "receive:receive_obj"),
            ),
        ),
        weak=True,
    )
)
