"""IFC: buildings as their spatial tree; read by ifcopenshell in a child process. It is not written."""

from tidy_caravan.core.formats.registry import Format, later, register


def sniff(head: bytes) -> bool:
    """The header of ISO 10303-21."""
    return head.lstrip()[:13].upper().startswith(b"ISO-10303-21;")


FORMAT = register(Format(name="ifc", endings=(".ifc", ".ifczip"), sniff=sniff, read=later(__name__, "read:read")))
