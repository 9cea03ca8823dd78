"""What a source says of nodes beside what is seen: whether it arrived, and nothing else with it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import orjson

from tidy_caravan.core.formats.shared.received import FILE_DATA, VALUE
from tidy_caravan.core.formats.shared.written import NO_LETTER, ONE_VALUE, PAGE_KEY
from tidy_caravan.core.scene import SCATTER, Scene
from tidy_caravan.core.scene.arrays import I64, Bool

LISTED = 200
"""Sentences of one kind that are told one by one."""


def listed(sentences: list[str]) -> list[str]:
    """The first sentences, and how many more there are."""
    more = len(sentences) - LISTED
    return sentences if more <= 0 else [*sentences[:LISTED], f"and {more} more of the kind"]


def data_problems(
    before: Scene,
    after: Scene,
    called: tuple[Sequence[str], Sequence[str]],
    pairs: dict[int, int],
    kept: Mapping[int, Any] | None = None,
    texts: bool = False,
) -> list[str]:
    """What the source says of nodes, one sentence for each on which it differs.

    called: by node, what it is called on both sides. pairs: nodes known to belong together; others go by their path.
    kept: data of the nodes that are looked at; all of `before` without it. texts: values may stand as JSON text, and one by
    itself under ONE_VALUE, as in a format that has no other kind for them.
    """
    taken = set(pairs.values())
    where: dict[str, list[int]] = {}
    for j, path in enumerate(called[1]):
        if j not in taken:
            where.setdefault(path, []).append(j)
    out = []
    for i, told in (before.nodes.extras if kept is None else kept).items():
        said = by_names(told) if texts else of_object(told)
        if not said:
            continue
        j = pairs[i] if i in pairs else of_equals(where.get(called[0][i], []), said, after.nodes.extras)
        if j < 0 and (kept is not None or before.nodes.mesh[i] >= 0):
            continue  # a part is told as lost; what steps leave behind is in the manifest
        arrived = after.nodes.extras.get(j) if j >= 0 else None
        found = by_names(arrived) if texts else of_object(arrived)
        if not found:
            out.append(f"what the source says of “{called[0][i]}” did not arrive")
            continue
        held = before.nodes.page[i, 3] > 0  # what is said of its place on a page is judged with the part
        names = [k for k in {**said, **found} if not (held and k == PAGE_KEY)]
        odd = [k for k in names if k not in said or k not in found or not equal_data(said[k], found[k])]
        if texts:
            odd = [k for k in odd if k not in said or not stands_for(said[k], found.get(k))]
        if odd:
            out.append(f"“{called[0][i]}”: its data differ{keyed(' in ', odd)}")
    return listed(out)


def added_data(before: Scene, after: Scene, called: Sequence[str], origin: I64, free: Bool) -> list[str]:
    """What is said of nodes of which the source says nothing, one sentence for each.

    called: by node of `after`, its name. origin: (N,) the node of `before` that each is, -1 where it is none. free: by
    node of `before`, whether its data may change. O(nodes that have data).
    """
    out = []
    for j, found in after.nodes.extras.items():
        i = int(origin[j])
        if i < 0 or free[i]:
            continue
        names = [k for k in of_object(found) if not (k == PAGE_KEY and before.nodes.page[i, 3] > 0)]
        if names and not of_object(before.nodes.extras.get(i)):
            out.append(f"“{called[j]}”: data that the source has not{keyed(': ', names)}")
    return listed(out)


def keyed(lead: str, names: Sequence[str]) -> str:
    """The first of the names behind the lead; nothing where the data are one value without any."""
    told = [f"“{k}”" for k in names if k != VALUE]
    return lead + ", ".join(told[:3]) if told else ""


def file_problems(before: Scene, after: Scene) -> list[str]:
    """What a file says of itself as a whole, against what was packed."""
    found = after.extras.get(FILE_DATA, {})
    asset, there = before.extras.get("asset") or {}, found.get("asset") or {}
    out = []
    if (asset.get("copyright") or None) != (there.get("copyright") or None):
        out.append(
            f"the copyright of the file is “{there.get('copyright') or ''}” instead of “{asset.get('copyright') or ''}”"
        )
    pairs = ((before.extras.get("extras"), found.get("extras")), (asset.get("extras"), there.get("extras")))
    if not all(equal_data(of_object(a), of_object(b)) for a, b in pairs):
        out.append("what the source says of itself as a whole arrived otherwise")
    return out


def helper_problems(before: Scene, after: Scene, called: tuple[Sequence[str], Sequence[str]]) -> list[str]:
    """Nodes that carry nothing, of which one did not arrive or arrived though nobody sent it. called: by node, its path on
    both sides. O(nodes)."""
    plain = [  # a list of copies is told by them
        (s.nodes.mesh < 0) & (s.nodes.light < 0) & (s.nodes.camera < 0) & ((s.nodes.flags & SCATTER) == 0)
        for s in (before, after)
    ]
    here, there = (
        Counter(paths[i] for i in np.flatnonzero(p).tolist()) for paths, p in zip(called, plain, strict=True)
    )
    # one that lost what it carried, or got something to carry, is told of there
    lost, added = here - Counter(called[1]), there - Counter(called[0])
    out = [f"the node “{path}” did not arrive" for path in lost.elements()]
    return listed(out) + listed([f"a node “{path}” arrived that nobody sent" for path in added.elements()])


def of_equals(nodes: list[int], said: dict[str, Any], data: Mapping[int, Any]) -> int:
    """Which of the nodes that are called the same is meant, -1 where there is none left: one that says the same, or else
    something, or else the first. It is taken out of them."""

    def rank(told: Any) -> int:
        found = of_object(told)
        return int(not equal_data(said, found)) if found else 2

    best = min(range(len(nodes)), key=lambda k: rank(data.get(nodes[k])), default=-1)
    return nodes.pop(best) if best >= 0 else -1


def of_object(said: Any) -> dict[str, Any]:
    """What is said of a thing as receivers hold it: any value may stand for an object (VALUE), and so within it."""
    if said is None:
        return {}
    if isinstance(said, dict) and not speaks_of_extras(said):
        return said
    out: dict[str, Any] = inner(said) if isinstance(said, dict) else {VALUE: inner(said)}
    return out


def speaks_of_extras(said: dict[str, Any]) -> bool:
    """Whether the word stands anywhere in it: in nearly all there is nothing to put in another way."""
    try:
        return b'"extras"' in orjson.dumps(said)
    except TypeError:  # numbers beyond 64 bits
        return True


def inner(said: Any) -> Any:
    """The same for what is said inside of it."""
    if isinstance(said, dict):
        return {
            k: of_object(v) if k == "extras" else inner(v) for k, v in said.items() if k != "extras" or v is not None
        }
    return [inner(v) for v in said] if isinstance(said, list | tuple) else said


def by_names(said: Any) -> dict[str, Any]:
    """What is said of a thing where a format only has data with names."""
    if not isinstance(said, dict):
        return {} if said is None else {ONE_VALUE: said}
    return {key.replace("\0", NO_LETTER): value for key, value in said.items()}


def stands_for(value: object, text: object) -> bool:
    """Whether a text is a value as JSON, for which the format has no kind."""
    if not isinstance(text, str) or (isinstance(value, str) and "\0" not in value):
        return False
    try:
        return equal_data(value, orjson.loads(text))
    except orjson.JSONDecodeError:
        return False


def keys_apart(a: object, b: object) -> list[str]:
    """Names of what two objects, or lists of such, say differently; none where it is not told by names."""
    if isinstance(a, list) and isinstance(b, list) and len(a) == len(b):
        return sorted({key for one, other in zip(a, b, strict=True) for key in keys_apart(one, other)})
    if not isinstance(a, Mapping) or not isinstance(b, Mapping):
        return []
    return sorted(k for k in {*a, *b} - {VALUE} if k not in a or k not in b or not equal_data(a[k], b[k]))


def equal_data(a: object, b: object) -> bool:
    """Whether two JSON values are the same; numbers as double precision has them."""
    if isinstance(a, dict) and isinstance(b, dict):
        return a.keys() == b.keys() and all(equal_data(a[k], b[k]) for k in a)
    if isinstance(a, list | tuple) and isinstance(b, list | tuple):
        return len(a) == len(b) and all(map(equal_data, a, b))
    if isinstance(a, int | float) and isinstance(b, int | float) and isinstance(a, bool) == isinstance(b, bool):
        return float(a) == float(b)
    return type(a) is type(b) and a == b
