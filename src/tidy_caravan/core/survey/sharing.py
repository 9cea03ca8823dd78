"""Checks of what could be shared, and is not."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from tidy_caravan.core.copies.search import TOLERANCE_MM, Shared, copies_in, movable, share
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import F64, I32, I64
from tidy_caravan.core.scene.held import held_bytes, shapes
from tidy_caravan.core.survey.base import Finding, check, not_found_out
from tidy_caravan.core.survey.context import Context
from tidy_caravan.core.survey.places import MOST_PLACES, Place, box_lines, place, within_budget
from tidy_caravan.core.words import plural, weight

MANY, UNSHARED = 20, 0.8
"""Parts from which on it is told when so many shapes for each of them are there."""
BOXES = 12
"""Parts of a family that are outlined."""


@check("sharing", "Unique meshes against instances")
def sharing(context: Context) -> Iterable[Finding]:
    """Loose copies: meshes that can be laid on each other by turn, move and uniform scale, with all that is on them.

    Mirrored ones count where the destination takes negative scale.
    """
    scene = context.scene
    drawn = scene.instance_counts > 0
    used = int(drawn.sum())
    parts = len(scene.nodes.parts)
    chosen = movable(scene)
    found = copies_in(scene, context.workshop, context.tell, chosen, mirror=context.destination.negative_scale)
    if found.lost:
        yield not_found_out(
            "sharing.unknown", "Copies not found out", "Which meshes are copies", "; ".join(found.lost)[:300]
        )
    done = share(scene, found, chosen)
    if done.parts.any():
        rows = np.flatnonzero(done.parts)
        before, after = done.fewer(scene)
        families = len(np.unique(done.family[rows]))
        yield Finding(
            code="sharing.loose-copies",
            severity="warning",
            title="Loose copies",
            count=before,
            value=float(before),
            limit=float(after),
            unit="meshes",
            text=f"{plural(before, 'mesh', 'meshes')}{' or more' if found.vain else ''} of {plural(len(rows), 'part')} are copies within "
            f"{TOLERANCE_MM:g} mm, in {plural(families, 'family', 'families')}; sharing them would save {plural(before - after, 'mesh', 'meshes')} "
            f"and {weight(saved(scene, done.scene))}.",
            parts=rows.tolist(),
            places=told(scene, done),
            mend={
                "kind": "share_copies",
                "where": {"parts": scene.identities.given(scene.nodes.source[rows].tolist())},
            },
        )
    if parts > MANY and used > UNSHARED * parts:
        # what differs in its material alone is one shape, and cannot be shared further
        used = len(np.unique(shapes(scene)[drawn]))
    if parts > MANY and used > UNSHARED * parts:
        yield Finding(
            code="sharing.none",
            severity="warning",
            title="Nothing is shared",
            count=used,
            value=float(used),
            limit=float(parts),
            unit="shapes",
            text=f"{plural(used, 'shape')} for {plural(parts, 'part')}: repeated pieces have probably lost their sharing on the way here.",
        )


def saved(before: Scene, after: Scene) -> int:
    """Bytes of meshes that are there no more."""
    return held_bytes(before.meshes) - held_bytes(after.meshes)


def told(scene: Scene, done: Shared) -> list[Place]:
    """A place for each family, those that save most first, with what sharing it is worth."""
    nodes, after = scene.nodes, done.scene
    rows = np.flatnonzero(done.parts)
    kinds, family = np.unique(done.family[rows], return_inverse=True)
    size = np.array([m.nbytes for m in scene.meshes], np.int64)
    size_after = np.array([m.nbytes for m in after.meshes], np.int64)
    slots, slots_after = scene.slot_counts, after.slot_counts

    def per_family(mesh: I32 | I64, weight: I64) -> F64:
        pairs = np.unique(np.column_stack([family.reshape(-1), mesh[rows]]), axis=0)
        return np.bincount(pairs[:, 0], weight[pairs[:, 1]], minlength=len(kinds)).astype(np.float64)

    held, held_after = shapes(scene)[nodes.mesh], shapes(after)[after.nodes.mesh]
    bytes_ = per_family(held, size) - per_family(held_after, size_after)
    batches = per_family(nodes.mesh, slots) - per_family(after.nodes.mesh, slots_after)
    off = np.zeros(len(kinds))
    np.maximum.at(off, family.reshape(-1), done.off[rows])
    boxes = scene.part_bounds[np.searchsorted(nodes.parts, rows)]
    out = []
    for k in np.argsort(-bytes_, kind="stable")[:MOST_PLACES].tolist():
        mine = np.flatnonzero(family.reshape(-1) == k)
        lines = np.concatenate([box_lines(boxes[i]) for i in mine[:BOXES].tolist()])
        one = place(rows[mine].tolist(), lines, float(len(mine)), "copies")
        name = nodes.names[int(rows[mine[0]])][-60:] or "?"
        text = (
            f"{plural(len(mine), 'copy', 'copies')} of “{name}”, {off[k] * 1000:.2g} mm off at most; sharing saves "
            f"{weight(float(bytes_[k]))} and {plural(int(batches[k]), 'instanced draw call')}"
        )
        out.append(one.model_copy(update={"text": text}))
    return within_budget(out)
