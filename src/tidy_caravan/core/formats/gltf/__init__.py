"""glTF 2.0: loose or as one GLB; read and written by our own code, received through pygltflib."""

from dataclasses import replace

from tidy_caravan.core.formats.abilities import EVERYTHING, POINTS
from tidy_caravan.core.formats.registry import Format, Writable, later, register

ABILITY = replace(EVERYTHING, lights=POINTS, layers=False)
"""It holds as much as a scene in memory does, but for layers and lamps that are surfaces."""


def sniff(head: bytes) -> bool:
    """The magic of GLB, or a JSON object, in UTF-8 or in UTF-16 with its mark."""
    text = head.lstrip(b"\xef\xbb\xbf \t\r\n")
    return head[:4] == b"glTF" or text[:1] == b"{" or text.startswith((b"\xff\xfe{", b"\xfe\xff\0{"))


RECEIVE = later(__name__, "receive:receive_gltf")
FORMAT = register(
    Format(
        name="gltf",
        endings=(".glb", ".gltf"),
        sniff=sniff,
        read=later(__name__, "read:read"),
        members=(".bin",),
        writable=(
            Writable(
                "glb", "GLB, one file with everything inside", ABILITY, later(__name__, "write:write_glb"), RECEIVE
            ),
            Writable(
                "gltf", "glTF with loose files and textures", ABILITY, later(__name__, "write:write_gltf"), RECEIVE
            ),
        ),
    )
)
