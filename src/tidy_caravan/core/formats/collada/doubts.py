"""What a lenient reader of COLLADA passes over: lists that say another length or layout than they have."""

from __future__ import annotations

from typing import Any

from collada.common import tag

OPAQUE = ("A_ONE", "A_ZERO", "RGB_ONE", "RGB_ZERO")


def loose_sources(geometry: Any) -> list[str]:
    """Sentences about the lists of numbers of a geometry, and of its triangles, that are not what they say."""
    out = []
    for source in geometry.xmlnode.iter(tag("source")):
        array, accessor = source.find(tag("float_array")), source.find(f"{tag('technique_common')}/{tag('accessor')}")
        if array is None or accessor is None:
            continue
        held = geometry.sourceById.get(source.get("id"))
        size = int(held.data.size) if held is not None and hasattr(held, "data") else -1
        params = accessor.findall(tag("param"))
        stride, count = accessor.get("stride") or "1", accessor.get("count") or ""
        told = ""
        if array.get("count") != str(size):
            told = f"says it has {array.get('count')} numbers, and has {size}"
        elif accessor.get("source") != f"#{array.get('id')}":
            told = f"reads numbers of “{accessor.get('source')}”, which are not its own"
        elif not (stride.isdigit() and count.isdigit() and int(stride) * int(count) == size):
            told = f"reads {count} times {stride} of its {size} numbers"
        elif len(params) != int(stride) or any(p.get("type") != "float" or p.get("name") not in NAMES for p in params):
            told = "does not name its numbers as the format does"
        if told:
            out.append(f"a list of “{geometry.name or geometry.id}” ({source.get('id')}) {told}")
    for primitive in geometry.primitives:
        said = primitive.xmlnode.get("count")
        if said != str(len(primitive)):
            out.append(
                f"“{geometry.name or geometry.id}” says it has {said} triangles of a kind, and has {len(primitive)}"
            )
    return out


NAMES = frozenset(["X", "Y", "Z", "S", "T", "P", "U", "V", "R", "G", "B", "A"])
"""Names of parameters that mean something to a receiver; one without is passed over."""
