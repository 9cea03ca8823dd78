"""Check of modular pieces: sizes that are not quite whole cells, pivots that are not quite on a corner of one."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import numpy as np

from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.surroundings.grid import (
    EXACT_M,
    Drawn,
    Pieces,
    cell_of,
    cells_around,
    drawn_off,
    modular,
    off_by,
    pieces_of,
    put_together,
)
from tidy_caravan.core.surroundings.world import middle_stretch
from tidy_caravan.core.survey.base import Finding, check, parts_with
from tidy_caravan.core.survey.context import Context
from tidy_caravan.core.survey.places import box_lines, in_meshes
from tidy_caravan.core.words import plural

SHOWN = 4


@check("structure", "Modular pieces off their grid", sees="shapes")
def off_the_grid(context: Context) -> Iterable[Finding]:
    """Where most pieces are whole cells, those that are not quite; the cell is the destination's, or inferred from the
    pieces."""
    scene = context.scene
    pieces = pieces_of(scene)
    given = context.destination.grid_cell
    cell = given or cell_of(pieces)
    if not cell:
        return
    mine = modular(pieces, cell)
    if not given and not put_together(scene, pieces, mine, cell):
        return
    off, counted = off_by(pieces.size, cell)
    worst = np.where(counted, np.abs(off), 0.0).max(axis=1)
    hit = mine & (worst > EXACT_M)
    drawn = drawn_off(scene, pieces, cell)
    # one for both findings, so that one step mends both; rounding must not leave the worst
    most_mm = float(np.ceil(1000 * max(worst.max(where=hit, initial=0.0), drawn.off.max(initial=0.0))) + 1)
    if hit.any():
        rows = np.flatnonzero(hit)
        marked = np.zeros(len(scene.meshes), np.bool_)
        marked[pieces.mesh[rows]] = True
        parts = parts_with(scene, marked)
        order = rows[np.argsort(-worst[rows])][:SHOWN]
        told = ", ".join(
            f"“{scene.meshes[pieces.mesh[k]].name or pieces.mesh[k]}” {'+' if off[k][np.argmax(np.where(counted[k], np.abs(off[k]), 0))] > 0 else '−'}{worst[k] * 1000:.1f} mm"
            for k in order.tolist()
        )
        stretch = 100 * float((np.where(counted, np.abs(off), 0.0) / np.maximum(pieces.size, 1e-12))[rows].max())
        yield Finding(
            code="grid.size",
            severity="warning",
            title="Modular pieces off their size",
            count=len(parts),
            value=float(worst.max(where=hit, initial=0.0)) * 1000,
            limit=EXACT_M * 1000,
            unit="mm",
            text=f"{int(mine.sum())} pieces go by a cell of {cell:g} m; {plural(len(rows), 'of them is', 'of them are')} not whole cells: {told}. "
            f"Side by side, {plural(len(parts), 'part leaves', 'parts leave')} seams or overlaps. Fitted by the border, what is near an end moves by as "
            f"much and profiles keep their thickness; fitted as a whole, the piece is stretched by up to {stretch:.2g} %.",
            parts=parts,
            places=in_meshes(scene, per_mesh(scene, pieces, worst * hit * 1000), "mm", cells(scene, pieces, cell)),
            mend={
                "kind": "fit_grid",
                "cell": cell,
                "mostMm": most_mm,
                "where": {"parts": scene.identities.given(scene.nodes.source[parts].tolist())},
            },
        )
    yield from drawn_otherwise(scene, drawn, cell, most_mm)
    yield from off_the_corner(context, cell)


def drawn_otherwise(scene: Scene, found: Drawn, cell: float, most_mm: float) -> Iterable[Finding]:
    """Parts of pieces that are whole cells, whose node draws them a little larger or smaller than others of their mesh."""
    if not len(found.parts):
        return
    nodes, worst = scene.nodes, int(np.argmax(found.off))
    yield Finding(
        code="grid.scale",
        severity="warning",
        title="Modules drawn off their size",
        count=len(found.parts),
        value=float(found.off[worst]) * 1000,
        limit=EXACT_M * 1000,
        unit="mm",
        text=f"{plural(len(found.parts), 'part of a module is', 'parts of modules are')} drawn a little larger or smaller than the whole cells of {cell:g} m that the module fills "
        f"elsewhere, by {found.off[worst] * 1000:.1f} mm at worst, “{nodes.names[int(found.parts[worst])][-60:] or '?'}”: side by side they leave seams or overlaps. The scale "
        "is that of the node; Fit to the grid sets it back to what it is elsewhere, about the pivot, and the mesh stays shared.",
        parts=found.parts.tolist(),
        mend={
            "kind": "fit_grid",
            "cell": cell,
            "mostMm": most_mm,
            "where": {"parts": scene.identities.given(nodes.source[found.parts].tolist())},
        },
    )


def off_the_corner(context: Context, cell: float) -> Iterable[Finding]:
    """Pivots of modular pieces a little off the corner of a cell, where most of them are on one."""
    scene = context.scene
    pieces = pieces_of(scene)
    mine = modular(pieces, cell)
    _, counted = off_by(pieces.size, cell)
    # either end may be the one at the pivot: of a piece that is too short the other is off
    ends = np.abs(pieces.box - np.rint(pieces.box / cell) * cell).min(axis=1)
    away = np.where(counted, ends, 0.0).max(axis=1)
    on = mine & (away <= EXACT_M)
    hit = mine & ~on
    if not hit.any() or on.sum() * 2 < mine.sum():
        return
    rows = np.flatnonzero(hit)
    marked = np.zeros(len(scene.meshes), np.bool_)
    marked[pieces.mesh[rows]] = True
    parts = [i for i in parts_with(scene, marked) if not context.pinned[i]]
    if not parts:
        return
    yield Finding(
        code="grid.pivot",
        severity="warning",
        title="Pivots off the corner of a cell",
        count=len(parts),
        value=float(away[rows].max()) * 1000,
        limit=EXACT_M * 1000,
        unit="mm",
        guess=True,
        text=f"{int(on.sum())} of {plural(int(mine.sum()), 'modular piece')} {'has its' if on.sum() == 1 else 'have their'} pivot on a corner of a cell of {cell:g} m; "
        f"{plural(len(rows), 'has', 'have')} it elsewhere, by up to {away[rows].max() * 1000:.1f} mm: snapped to the grid, they stand off it.",
        parts=parts,
        places=in_meshes(scene, per_mesh(scene, pieces, away * hit * 1000), "mm", cells(scene, pieces, cell)),
        mend={
            "kind": "place_pivots",
            "at": "corner",
            "onlyFar": False,
            "where": {"parts": scene.identities.given(scene.nodes.source[parts].tolist())},
        },
    )


def per_mesh(scene: Scene, pieces: Pieces, values: F64) -> F64:
    """(M,) of values of pieces (K,), nought for meshes that are none."""
    out = np.zeros(len(scene.meshes))
    out[pieces.mesh] = values
    return out


def cells(scene: Scene, pieces: Pieces, cell: float) -> Callable[[Mesh], F64]:
    """Lines around the whole cells that a piece is meant to fill."""
    metres = middle_stretch(scene)
    row_of = {scene.meshes[i].id: k for k, i in enumerate(pieces.mesh.tolist())}

    def lines(mesh: Mesh) -> F64:
        row = row_of[mesh.id]
        return box_lines(cells_around(pieces, row, cell) / metres[pieces.mesh[row]])

    return lines
