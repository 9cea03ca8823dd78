"""Checks of surfaces that show one image exactly: screens, timetables, posters, projection walls."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from tidy_caravan.core.conventions.content import contents_meant
from tidy_caravan.core.geometry.content import Shown
from tidy_caravan.core.surroundings.content import Content
from tidy_caravan.core.survey.base import Finding, check
from tidy_caravan.core.survey.context import Context
from tidy_caravan.core.survey.places import MOST_PLACES, Place, place
from tidy_caravan.core.words import plural

EDGE = 0.02
"""Part of the image by which its edge may be off that of the surface."""
TURNED = 2.0
"""Degrees by which it may be turned."""
STRETCHED = 1.03
"""Times by which it may be wider or narrower than its pixels are."""
SCATTERED = 0.02
"""Part of the image by which its pieces may be off each other."""


@check("texture coordinates", "Content that does not lie as it should")
def content_laid(context: Context) -> Iterable[Finding]:
    """Screens, timetables, posters and the like, by their names, whose image does not show once, upright and not mirrored, as
    seen from the front, or is stretched."""
    scene = context.scene
    off: list[Place] = []
    uneven: list[Place] = []
    wrong: list[int] = []
    stretched: list[int] = []
    worst = 1.0
    for content, surface, lay in contents_meant(scene, context.tell):
        if surface is None or lay is None:
            continue  # other findings tell of sets that are missing or have no area
        users = content.users.tolist()
        faults = faults_of(lay, content)
        wide, high = surface.size
        if faults:
            off.append(told(content, f"{', '.join(faults)}; the surface measures {wide:.3g} × {high:.3g} m"))
            wrong += users
        elif (stretch := stretch_of(lay, content)) > STRETCHED:
            pixels = content.pixels[0]
            best = f"{round(pixels[1] * wide / high)} × {pixels[1]} px"
            text = f"{pixels[0]} × {pixels[1]} px on {wide:.3g} × {high:.3g} m; {best} would fit"
            uneven.append(told(content, text, stretch))
            stretched += users
            worst = max(worst, stretch)
    if off:
        parts = sorted(wrong)
        yield Finding(
            code="uv.content",
            severity="warning",
            title="Content lies wrongly",
            count=len(parts),
            value=float(len(off)),
            limit=0.0,
            unit="surfaces",
            text=f"{plural(len(parts), 'part is', 'parts are')} named for one image to show, which does not lie there once and upright: {off[0].text}.",
            parts=parts,
            guess=True,
            mend={
                "kind": "fit_content",
                "where": {"parts": scene.identities.given(scene.nodes.source[parts].tolist())},
            },
            places=off[:MOST_PLACES],
        )
    if uneven:
        uneven.sort(key=lambda p: -(p.value or 0.0))
        parts = sorted(stretched)
        yield Finding(
            code="uv.content-shape",
            severity="info",
            title="Content of another shape than its surface",
            count=len(parts),
            value=worst,
            limit=STRETCHED,
            unit="×",
            text=f"On {plural(len(parts), 'part')} the image is stretched to its surface: {uneven[0].text}.",
            parts=parts,
            places=uneven[:MOST_PLACES],
        )


def faults_of(lay: Shown, content: Content) -> list[str]:
    """What is wrong with how an image lies, but for its shape."""
    out = []
    if lay.scattered > SCATTERED:
        return ["the image lies in several pieces"]
    if lay.mirrored:
        out.append("mirrored")
    if abs(lay.turned) > TURNED:
        out.append(f"turned by {abs(lay.turned):.0f}°" if abs(lay.turned) > 179 else f"turned by {lay.turned:.0f}°")
    if not covers(lay, content):
        (u, v), (right, down) = lay.low, lay.high
        out.append(
            f"{100 * u:.0f} to {100 * right:.0f} % of its width and {100 * v:.0f} to {100 * down:.0f} % of its height show"
        )
    return out


def covers(lay: Shown, content: Content) -> bool:
    """Whether it shows once: whole; or in its own shape, whole or cut along one way."""
    full = (np.abs(lay.low) <= EDGE) & (np.abs(lay.high - 1) <= EDGE)
    if full.all():
        return True
    known = bool(content.pixels[0][0] and content.pixels[0][1])
    middle = np.abs(lay.low + lay.high - 1) <= 2 * EDGE
    return bool(known and full.any() and middle.all() and stretch_of(lay, content) <= STRETCHED)


def stretch_of(lay: Shown, content: Content) -> float:
    """How many times wider or narrower than its pixels it is; 1 where their number is not known."""
    aspect = content.aspects[0]
    if not aspect:
        return 1.0
    ratio = float(lay.size[0] / lay.size[1]) / aspect
    return max(ratio, 1 / ratio)


def told(content: Content, text: str, value: float | None = None) -> Place:
    """A place with what there is to say of it."""
    made = place(content.users.tolist(), np.zeros((0, 2, 3)), value, "×" if value is not None else "")
    return made.model_copy(update={"text": text})
