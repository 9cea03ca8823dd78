"""Checks of what travels: what stays behind, what is switched off, what is far heavier than the rest."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from tidy_caravan.core.scene import HIDDEN
from tidy_caravan.core.selection import HEAVY_ALONE, HEAVY_RATIO, heavy_meshes, usual_triangles
from tidy_caravan.core.survey.base import Finding, check, parts_with
from tidy_caravan.core.survey.context import Context
from tidy_caravan.core.words import counted, figure, plural

NAMED = 6


@check("travel", "Nothing to draw")
def draws_nothing(context: Context) -> Iterable[Finding]:
    """A scene without a triangle, or with none that is switched on: what is sent would look empty. One of lights alone may be meant
    so, and one of nothing at all is no fault."""
    scene = context.scene
    nodes = scene.nodes
    if not len(nodes):
        return
    rows = nodes.parts
    drawn = np.array([m.triangles > 0 for m in scene.meshes], np.bool_)
    rows = rows[drawn[nodes.mesh[rows]]]
    off = (nodes.flags[rows] & HIDDEN) > 0
    if off.all():
        why = "every part is switched off" if len(rows) else "it has no surfaces"
        yield Finding(
            code="travel.nothing",
            severity="info" if not len(rows) and (nodes.light >= 0).any() else "warning",
            title="Nothing to draw",
            count=len(rows),
            text=f"Nothing of this scene would be seen where it goes: {why}.",
            parts=[int(i) for i in rows],
        )


@check("travel", "What stays behind")
def stays_behind(context: Context) -> Iterable[Finding]:
    """The travel list's last part, so that it is seen before anything is sent."""
    scene = context.scene
    behind = [t for t in scene.travel if t.verdict == "behind"]
    if behind:
        named = "; ".join(f"{counted(t.count, t.kind)}: {t.why}" for t in behind[:NAMED])
        more = f"; and {len(behind) - NAMED} more kinds" if len(behind) > NAMED else ""
        yield Finding(
            code="travel.behind",
            severity="info",
            title="Does not travel",
            count=sum(t.count for t in behind),
            text=f"{named}{more}.",
        )


@check("travel", "Switched-off parts")
def switched_off(context: Context) -> Iterable[Finding]:
    """Parts that are switched off in the source: they stay behind unless asked for."""
    scene = context.scene
    nodes = scene.nodes
    rows = nodes.parts[(nodes.flags[nodes.parts] & HIDDEN) > 0]
    if len(rows):
        yield Finding(
            code="travel.hidden",
            severity="info",
            title="Switched off",
            count=len(rows),
            text=f"{plural(len(rows), 'part is', 'parts are')} switched off: not drawn, and left behind unless “What travels” takes such along.",
            parts=[int(i) for i in rows],
            mend={"kind": "what_travels"},
        )


@check("travel", "Heavy meshes")
def heavy_meshes_found(context: Context) -> Iterable[Finding]:
    """Meshes far above the rest in triangles, or of two million and more: to be kept as one shared mesh and never unwrapped."""
    scene = context.scene
    heavy = np.array(heavy_meshes(scene), np.bool_)
    if heavy.any():
        triangles = [m.triangles for m, h in zip(scene.meshes, heavy.tolist(), strict=True) if h]
        usual, much = usual_triangles(scene), f"up to {plural(max(triangles), 'triangle')}"
        above = max(triangles) >= HEAVY_RATIO * usual
        if above:
            much = f"far above the rest, {much} where half of all have {figure(round(usual))} or fewer"
        yield Finding(
            code="travel.heavy",
            severity="info",
            title="Heavy meshes",
            count=len(triangles),
            value=float(max(triangles)),
            limit=usual if above else float(HEAVY_ALONE),
            unit="triangles",
            guess=True,
            text=f"{plural(len(triangles), 'mesh is', 'meshes are')} heavy, {much}. Proposed: kept as {'one heavy mesh' if len(triangles) == 1 else 'heavy meshes'}, "
            "shared and never unwrapped.",
            parts=parts_with(scene, heavy),
            mend={
                "kind": "set",
                "name": "Heavy meshes",
                "rules": [{"kinds": ["heavy"]}],
                "treatment": {"heavy": True},
            },
        )
