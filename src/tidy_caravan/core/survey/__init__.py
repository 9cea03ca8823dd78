"""All checks over a scene; importing this package registers them."""

import importlib
import pkgutil
from collections.abc import Callable, Iterable, Sequence

import numpy as np

from tidy_caravan.core.conventions.destinations import Destination
from tidy_caravan.core.geometry.pose import at_rest
from tidy_caravan.core.geometry.stretched import other_shapes, put_apart, shapes_of, unstretched
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.surroundings.world import pinned
from tidy_caravan.core.survey.base import Finding, Sees, Severity, known_checks, parts_with
from tidy_caravan.core.survey.context import Context
from tidy_caravan.core.survey.left import Left, reasons, without
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.heavy import Workshop

RANK: dict[Severity, int] = {"error": 0, "warning": 1, "info": 2}

MOST_SHAPES = 5_000
"""Shapes of single meshes up to which each is looked at by itself: as many fence posts, each of its own height, are no pieces
of a kit."""


def survey(
    scene: Scene,
    destination: Destination,
    workshop: Workshop | None = None,
    progress: Callable[[str, int, int], None] = lambda title, done, total: None,
) -> list[Finding]:
    """Findings of all checks, worst first. Checks never change anything.

    workshop: where facts about meshes are found out and kept. progress(title, done, total) in thousandths of a check;
    it may raise to stop.
    """
    checks = known_checks()
    found: list[Finding] = []
    rest = at_rest(scene)
    held = pinned(scene)
    context = Context(unstretched(rest), destination, workshop or Workshop(), pinned=held)
    seen: dict[Sees, Context] = {"baked": context}
    seen["stored"] = context if context.scene is rest else Context(rest, destination, context.workshop, pinned=held)
    hit = other_shapes(context.scene)
    few = len(shapes_of(context.scene, hit).mesh) <= MOST_SHAPES
    shapes = put_apart(context.scene, hit) if few else context.scene
    seen["shapes"] = context if shapes is context.scene else Context(shapes, destination, context.workshop, pinned=held)
    for i, entry in enumerate(checks.values()):

        def tell(done: int, total: int, i: int = i, title: str = entry.title) -> None:
            progress(f"surveying: {title}", i * 1000 + 1000 * done // max(1, total), len(checks) * 1000)

        mine = seen[entry.sees]
        mine.tell = tell
        tell(0, 1)
        found += entry.run(mine)
    unknown = next((c for c in (context, seen["shapes"]) if c.unknown), None)
    if unknown is not None:
        found.append(not_surveyed(unknown))
    return sorted(found, key=lambda f: (RANK[f.severity], -f.count, f.code))


def leave(findings: Iterable[Finding], scene: Scene, left: Sequence[Left]) -> list[Finding]:
    """The findings with what a person left as it is marked as such, and their mends for the other parts."""
    out = []
    for finding in findings:
        why, gone = reasons(left, finding.code, lambda f=finding: names_of(scene, f.parts))  # type: ignore[misc]
        if why or gone:
            change = {"left": why, "left_parts": len(gone), "mend": without(finding.mend, gone)}
            finding = finding.model_copy(update=change)
        out.append(finding)
    return out


def names_of(scene: Scene, parts: Sequence[int]) -> list[str]:
    """What each of the parts is called in the source, empty for what a step made."""
    names, source = scene.identities.names, scene.nodes.source
    return [names[i] if 0 <= i < len(names) else "" for i in source[np.asarray(parts, np.int64)].tolist()]


def not_surveyed(context: Context) -> Finding:
    """Says of which meshes something could not be found out, so that silence about them is not taken for praise."""
    lost = context.unknown
    marked = np.zeros(len(context.scene.meshes), np.bool_)
    marked[list(lost)] = True
    parts = parts_with(context.scene, marked)
    return Finding(
        code="survey.unknown",
        severity="error",
        title="Could not be surveyed",
        count=len(parts),
        value=float(len(lost)),
        limit=0.0,
        unit="meshes",
        text=f"{plural(len(lost), 'mesh', 'meshes')} could not be looked through whole ({'; '.join(list(lost.values())[:3])}); "
        "no check says anything about what was not found out there.",
        parts=parts,
    )


for _module in pkgutil.iter_modules(__path__):
    importlib.import_module(f"{__name__}.{_module.name}")

__all__ = ["Finding", "Left", "known_checks", "leave", "survey"]
