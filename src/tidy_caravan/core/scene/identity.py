"""What a part is called, whatever its row: file, the format's own id or tree path, and a counter among equals.

An identity is a line of text, `file|own|number`: the label of the file that the part came in, the format's own id
where there is one (IFC GlobalId, COLLADA id) or its tree path in that file, which for OpenUSD is the prim path, and
1 for the first of several that are called the same. It is made once for a source; whatever a route does, parts of the
result keep the identities of the source nodes that they came from.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from tidy_caravan.core.scene.arrays import I64
from tidy_caravan.core.scene.nodes import Nodes

FILES = "files"
"""Key of the scene's extras: [label, first node, number of nodes] for each file that the scene was read from."""


LEAD = "lead"
"""And the label of the one of several whose unit and axes the scene has."""


@dataclass(frozen=True, eq=False)
class Identities:
    """One for every node of a source, in order; all different."""

    names: tuple[str, ...]

    @classmethod
    def of(cls, nodes: Nodes, extras: Mapping[str, Any]) -> Identities:
        """Of a source as it was read. O(nodes)."""
        labels, names = labels_and_names(nodes, extras)
        seen: dict[tuple[str, str], int] = {}
        out = []
        for key in zip(storable(labels), storable(names), strict=True):
            seen[key] = number = seen.get(key, 0) + 1
            out.append(f"{key[0]}|{key[1]}|{number}")
        return cls(tuple(out))

    @cached_property
    def row(self) -> dict[str, int]:
        """Source node by identity."""
        return {name: i for i, name in enumerate(self.names)}

    def rows(self, names: Iterable[str]) -> I64:
        """Source nodes of those that are there, in the order given."""
        found = (self.row.get(name, -1) for name in names)
        return np.array([i for i in found if i >= 0], np.int64)

    def given(self, ids: Iterable[int]) -> list[str]:
        """Names of source nodes, without those that no source has."""
        return [self.names[i] for i in ids if 0 <= i < len(self.names)]


def storable(texts: Sequence[str]) -> list[str]:
    """Without what neither files nor the database hold: line ends, nought, and half of a surrogate pair."""
    whole = "\n".join(t.replace("\n", " ") for t in texts)
    return whole.encode("utf-8", "replace").decode().replace("\0", "?").split("\n")[: len(texts)]


def labels_and_names(nodes: Nodes, extras: Mapping[str, Any]) -> tuple[list[str], list[str]]:
    """Per node the label of its file, and its own id or its path in that file; equal ones are told apart elsewhere."""
    paths = nodes.paths
    names, labels = list(paths), [""] * len(paths)
    for label, begin, count in extras.get(FILES) or []:
        top = begin > 0 and nodes.parent[begin - 1] < 0 and nodes.names[begin - 1] == label
        skip = len(label) + 1 if top else 0
        labels[begin : begin + count] = [label.replace("|", "¦")] * count
        names[begin : begin + count] = [p[skip:] for p in paths[begin : begin + count]]
    for i, own in nodes.ids.items():
        names[i] = own
    for i, extra in nodes.extras.items():  # as older scenes keep it
        ifc = extra.get("ifc") if isinstance(extra, dict) else None
        if isinstance(ifc, dict) and isinstance(ifc.get("id"), str):
            names[i] = ifc["id"]
    return labels, names


def called(identity: str) -> str:
    """The last word of what an identity names, for people."""
    label, _, rest = identity.partition("|")
    return rest.rpartition("|")[0].rpartition("/")[2] or label


def lead_of(extras: Mapping[str, Any]) -> str:
    """The label of the file whose unit and axes a scene has; of scenes that do not say so the first."""
    spans = spans_of(extras)
    return str(extras.get(LEAD) or (spans[0][0] if spans else ""))


def spans_of(extras: Mapping[str, Any]) -> Sequence[tuple[str, int, int]]:
    return [(str(label), int(begin), int(count)) for label, begin, count in extras.get(FILES) or []]
