"""Which part that arrived is which one that was sent, by what the manifest says it is called and by where it is."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace

import numpy as np

from tidy_caravan.core.arrival.judge import LEAST_POSITION_MM, STEPS, reach
from tidy_caravan.core.arrival.pairing import Side, pairs
from tidy_caravan.core.arrival.placed import Placed, keys, nameless
from tidy_caravan.core.formats.abilities import Ability
from tidy_caravan.core.manifest import Manifest
from tidy_caravan.core.scene import SCATTER, Scene
from tidy_caravan.core.scene.arrays import I64


def written_paths(result: Scene, manifest: Manifest) -> list[str]:
    """Tree path of every node of the result as the manifest says it was written; its own where it says nothing."""
    nodes = result.nodes
    if not all(nodes.names):  # what a format cannot leave without a name got one
        own = nodes.source.tolist()
        alone = Counter(own)
        named = (manifest.renamed.get(str(s), "") if alone[s] == 1 else "" for s in own)
        nodes = replace(nodes, names=tuple(n or other for n, other in zip(nodes.names, named, strict=True)))
    out = list(keys(nodes))
    parts = nodes.parts.tolist()
    listed = [p.source_id for p in manifest.parts]
    # several parts may have come from one of the source: then only their order tells them apart
    in_order = nodes.source[parts].tolist() == listed
    times = Counter(listed)
    by_source = {p.source_id: p for p in manifest.parts if p.source_id >= 0 and times[p.source_id] == 1}
    for k, i in enumerate(parts):
        part = manifest.parts[k] if in_order else by_source.get(int(nodes.source[i]))
        if part is None:
            continue
        out[i] = nameless(part.name if manifest.flat else part.path)
        if part.node < 0 and not manifest.flat:  # a copy of a scatter: the place is kept, the name is not
            out[i] = out[i].rpartition("/")[0] + "/*"
    return out


def matched(
    mid: Placed, there: Placed, sent: I64, paths: list[str], ability: Ability
) -> tuple[I64, I64, list[str], list[str], list[str], dict[int, int]]:
    """Nodes of the result and of the arrived scene that belong together, paths of lost and of extra ones, by
    node what everything that arrived is called, and by part that hangs below it the node that bears its name."""
    result, arrived = mid.scene, there.scene
    parts = np.array(
        [i for i in arrived.nodes.parts.tolist() if arrived.meshes[arrived.nodes.mesh[i]].triangles], np.int64
    )
    found = list(keys(arrived.nodes))
    scatter = (arrived.nodes.flags & SCATTER) > 0
    for j in np.flatnonzero(scatter[arrived.nodes.parent] & (arrived.nodes.parent >= 0)).tolist():
        found[j] = found[j].rpartition("/")[0] + "/*"
    wanted = {paths[i] for i in sent.tolist()}
    heads = hung_below(arrived, found, parts, wanted)
    if not ability.parts:  # cut by place already, one node for each part in order
        there_too = arrived.nodes.mesh[: len(sent)] >= 0
        gone = [result.nodes.paths[i] for i in sent[~there_too].tolist()]
        return sent[there_too], np.flatnonzero(there_too), gone, [], found, heads
    sides = []
    for side, rows, named in ((mid, sent, paths), (there, parts, found)):
        boxes = side.boxes[side.row_of[rows]]
        measures = np.column_stack([boxes.mean(axis=1), boxes[:, 1] - boxes[:, 0]]).reshape(-1, 6)
        scene = side.scene
        kinds = [scene.meshes[m].triangles for m in scene.nodes.mesh[rows].tolist()]
        sides.append(
            Side(
                [named[i] for i in rows.tolist()], [named[i].rpartition("/")[2] for i in rows.tolist()], measures, kinds
            )
        )
    limit = 2 * max(LEAST_POSITION_MM / 1000, float(reach(mid, sent).max(initial=0.0)) * STEPS)
    a, b = pairs(sides[0], sides[1], limit)
    lost = [result.nodes.paths[i] for i in np.delete(sent, a).tolist()]
    extra = [found[j] for j in np.delete(parts, b).tolist()]
    return sent[a], parts[b], lost, extra, found, heads


def hung_below(arrived: Scene, found: list[str], parts: I64, wanted: set[str]) -> dict[int, int]:
    """Where a surface hangs unmoved below its transform, as OpenUSD has it, the transform's path is the part's. The
    transform's row by that of the surface.

    Climbs as long as nothing else hangs there, up to a path that is wanted.
    """
    nodes = arrived.nodes
    unmoved = np.abs(nodes.local - np.eye(4)).max(axis=(1, 2)) == 0 if len(nodes) else np.zeros(0, np.bool_)
    taken: set[int] = set()
    heads: dict[int, int] = {}
    for j in parts.tolist():
        at, name = j, found[j]
        while name not in wanted and unmoved[at]:
            up = int(nodes.parent[at])
            if up < 0 or up in taken or nodes.mesh[up] >= 0:
                break
            if found[up] not in wanted and nodes.children_count[up] != 1:
                break
            at, name = up, found[up]
        if at != j:
            found[j] = name
            taken.add(at)
            heads[j] = at
    return heads
