"""Checks of surfaces that lie on each other, within parts and between them."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import numpy as np

from tidy_caravan.core.geometry.coplanar import Overlaps, outlines
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, I64
from tidy_caravan.core.surroundings.flicker import (
    APART_M,
    WHOLE,
    Flicker,
    between,
    covered_in,
    onto_itself,
    within,
)
from tidy_caravan.core.surroundings.world import by_size, scales
from tidy_caravan.core.survey.base import Finding, check, not_found_out, parts_with
from tidy_caravan.core.survey.context import Context
from tidy_caravan.core.survey.places import MOST_LINES, in_meshes, of_overlaps, rims
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.whole import asked_again

COVERED = "triangles that others cover"


@check("geometry", "Overlaps between parts")
def overlaps_between(context: Context) -> Iterable[Finding]:
    """Surfaces of two parts in one plane, within a millimetre and a tenth of a degree, that look the same way."""
    scene = context.scene
    found = between(scene, context.workshop, context.tell)
    if isinstance(found, str):
        yield not_found_out("flicker.unknown", "Overlaps not found out", "Which parts lie on each other", found)
        return
    if not len(found.first):
        return
    pairs, number = found.pairs
    area = np.bincount(number, found.area)
    worst = int(np.argmax(area))
    parts = np.unique(pairs).tolist()
    one, other = (scene.nodes.names[i][-80:] or "?" for i in pairs[worst].tolist())
    covered = asked_again(context.workshop, COVERED, 1, found.content, lambda: {"counts": covered_whole(scene, found)})
    gone, left = np.asarray(covered["counts"]).tolist()
    yield Finding(
        code="flicker.between",
        severity="warning",
        title="Parts that flicker",
        count=len(parts),
        value=float(area.sum()),
        limit=0.0,
        unit="m²",
        text=f"{plural(len(pairs), 'pair')} of parts share {small(float(area.sum()))} m² of surface in one plane, within {APART_M * 1000:g} mm; "
        f"most of it “{other}” on “{one}” ({small(float(area[worst]))} m²). Lifting moves {plural(len(np.unique(pairs[:, 1])), 'part')}; "
        f"removing would take {plural(gone, 'triangle')} that are covered whole and leave {left} that are covered in part.",
        parts=parts,
        places=of_overlaps(scene, found),
        mend={
            "kind": "mend_overlaps",
            "where": {"parts": scene.identities.given(scene.nodes.source[np.unique(pairs[:, 1])].tolist())},
        },
    )


def covered_whole(scene: Scene, found: Flicker) -> I64:
    """(2,) how many triangles of the smaller parts are covered whole, and how many in part."""
    node, triangle, area = found.covered(1)
    mesh = scene.nodes.mesh[node]
    whole = np.zeros(len(node))
    for i in np.unique(mesh).tolist():
        rows = mesh == i
        corners = scene.meshes[i].positions.astype(np.float64)[scene.meshes[i].indices[triangle[rows]]]
        moved = np.einsum("kij,kcj->kci", scene.nodes.world[node[rows], :3, :3], corners)
        crosses = np.cross(moved[:, 1] - moved[:, 0], moved[:, 2] - moved[:, 0])
        whole[rows] = np.linalg.norm(crosses, axis=1) / 2
    gone = int((area >= WHOLE * whole * scene.convention.metres_per_unit**2).sum())
    return np.array([gone, len(node) - gone], np.int64)


def small(value: float) -> str:
    return f"{value:.3g}" if value < 100 else f"{value:,.0f}".replace(",", " ")


@check("geometry", "Overlaps within a mesh")
def overlaps_within(context: Context) -> Iterable[Finding]:
    """The same within one mesh: of its shells, which can be lifted, and of a shell with itself. Triangles exactly on another
    that look the same way are the fault of repeated faces."""
    scene = by_size(context.scene)
    found, lost = within(scene, context.workshop, context.tell, scene.instance_counts > 0)
    if lost:
        own = {mesh.id: i for i, mesh in enumerate(context.scene.meshes)}
        context.unknown.update({own[scene.meshes[i].id]: text for i, text in lost.items()})
    shells: dict[int, Overlaps] = {}
    folds: dict[int, Overlaps] = {}
    for i, o in found.items():
        folded = onto_itself(scene.meshes[i], o)
        for kind, rows in ((shells, ~folded), (folds, folded)):
            if rows.any():
                kind[i] = o.some(rows)
    if shells:
        text = "of surface lying on itself in one plane"
        yield on_its_own(scene, shells, "flicker.within", "Surfaces of a part that flicker", text, list(shells))
    if folds:
        gone = [i for i, o in folds.items() if covered_in(scene.meshes[i], o).any()]
        text = "of surface folded onto itself within a shell, which cannot be lifted off itself"
        yield on_its_own(scene, folds, "flicker.folded", "Folded surfaces", text, gone, how="remove")


def on_its_own(
    scene: Scene, found: dict[int, Overlaps], code: str, title: str, what: str, mended: list[int], **how: str
) -> Finding:
    """The finding for overlaps by mesh. mended: the meshes that the step mends."""
    metres = scales(scene)
    area = {i: float(o.area.sum()) * float(metres[i]) ** 2 for i, o in found.items()}

    def drawn_with(meshes: list[int]) -> list[int]:
        marked = np.zeros(len(scene.meshes), np.bool_)
        marked[meshes] = True
        return parts_with(scene, marked)

    parts, mend = drawn_with(list(found)), None
    if mended:
        named = scene.identities.given(scene.nodes.source[drawn_with(mended)].tolist())
        mend = {"kind": "mend_overlaps", **how, "where": {"parts": named}}
    worst = max(area, key=lambda i: area[i])
    return Finding(
        code=code,
        severity="warning",
        title=title,
        count=len(parts),
        value=sum(area.values()),
        limit=0.0,
        unit="m²",
        text=f"{plural(len(found), 'mesh', 'meshes')} with {small(sum(area.values()))} m² {what}, most of it in "
        f"“{scene.meshes[worst].name or scene.meshes[worst].id[:8]}” ({small(area[worst])} m²), seen by {plural(len(parts), 'part')}.",
        parts=parts,
        places=in_meshes(
            scene, np.array([area.get(i, 0.0) for i in range(len(scene.meshes))]), "m²", patches(scene, found)
        ),
        mend=mend,
    )


def patches(scene: Scene, found: dict[int, Overlaps]) -> Callable[[Mesh], F64]:
    """Lines around what lies on its own surface in a mesh."""
    by_id: dict[str, Overlaps] = {}
    for i, o in found.items():
        by_id.setdefault(scene.meshes[i].id, o)  # the smallest that it is drawn comes first, and has all of them

    def lines(mesh: Mesh) -> F64:
        o = by_id[mesh.id]
        corners = mesh.positions.astype(np.float64)
        rows = np.argsort(-o.area, kind="stable")[:MOST_LINES]
        return rims(outlines(corners[mesh.indices[o.first[rows]]], corners[mesh.indices[o.second[rows]]])[0])

    return lines
