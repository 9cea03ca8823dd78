"""Checks of surfaces that show one image exactly: screens, timetables, posters, projection walls."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from tidy_caravan.core.conventions.evidence import in_small_letters, name_stems, stems_of, words_pattern
from tidy_caravan.core.geometry.content import Shown, Unrolled, shown
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import I64
from tidy_caravan.core.surroundings.content import Content, contents_of, main_use, stance_in, surface_in
from tidy_caravan.core.survey.base import Finding, check
from tidy_caravan.core.survey.context import Context
from tidy_caravan.core.survey.places import Place, place
from tidy_caravan.core.words import plural

WORDS = words_pattern(
    "screen|display|monitor|timetable|time_table|departure|arrival|projection|poster|billboard|television|tv|videowall|video_wall|"
    "ledwall|led_wall|signboard|noticeboard|scoreboard|fahrplan|anzeige|anzeigetafel|bildschirm|leinwand|plakat|écran|ecran|"
    "affiche|pantalla|cartel|schermo|orario|skärm|tidtabell|beeldscherm"
)
"""What names of parts, meshes or materials say of what shows content."""
MOST = 2.0
"""Repeats of an image up to which it may be meant to show once."""
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
    where: dict[bool, list[int]] = {False: [], True: []}
    worst = 1.0
    for content, surface, lay in laid_contents(scene):
        users = content.users.tolist()
        faults = faults_of(lay, content)
        wide, high = surface.size
        if faults:
            off.append(told(content, f"{', '.join(faults)}; the surface measures {wide:.3g} × {high:.3g} m"))
            where[False] += users
        elif (stretch := stretch_of(lay, content)) > STRETCHED:
            pixels = content.pixels[0]
            best = f"{round(pixels[1] * wide / high)} × {pixels[1]} px" if high > 0 else ""
            text = f"{pixels[0]} × {pixels[1]} px on {wide:.3g} × {high:.3g} m; {best} would fit"
            uneven.append(told(content, text, stretch))
            where[True] += users
            worst = max(worst, stretch)
    if off:
        parts = sorted(where[False])
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
            places=off,
        )
    if uneven:
        parts = sorted(where[True])
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
            places=uneven,
        )


def laid_contents(scene: Scene) -> Iterable[tuple[Content, Unrolled, Shown]]:
    """Surfaces that show an image and are named for it, and how it lies on them; those that it covers many times are none."""
    stance = stance_in(scene)
    for content in contents_of(scene, named(scene)):
        mesh = scene.meshes[content.mesh]
        found = surface_in(mesh, content.linear, stance, content.slots)
        if found is None or not (found[1].size > 0).all() or not mesh.uvs:
            continue
        rows, surface = found
        image = mesh.uvs[0].astype(np.float64)[mesh.indices[rows]]
        slots = mesh.material[rows]
        for slot, matrix in zip(content.slots, content.places, strict=True):
            mine = slots == slot
            image[mine] = image[mine] @ matrix[:, :2].T + matrix[:, 2]
        if not np.isfinite(image).all() or np.ptp(image.reshape(-1, 2), axis=0).max() > MOST:
            continue
        lay = shown(surface, image)
        if lay is not None:
            yield content, surface, lay


def named(scene: Scene) -> I64:
    """Parts that show an image and that they, their mesh or their material are named for. O(parts)."""
    nodes, parts = scene.nodes, scene.nodes.parts
    seen = {i for i, m in enumerate(scene.materials) if main_use(m) is not None}
    if not seen:
        return parts[:0]
    boards = {i for i in seen if WORDS.search(in_small_letters(scene.materials[i].name))}
    pictured = scene.by_slots(lambda slots: bool(seen & set(slots)))
    known = scene.by_slots(lambda slots: bool(boards & set(slots)))
    rows = np.flatnonzero(pictured & ~known)
    stems = stems_of([scene.meshes[i].name for i in rows.tolist()])
    says = {stem: bool(WORDS.search(stem)) for stem in dict.fromkeys(stems)}
    known[rows] = [says[stem] for stem in stems]
    own, which = name_stems(scene)
    speaks = np.array([bool(WORDS.search(name)) for name in own], np.bool_)[which]
    mesh = nodes.mesh[parts]
    return parts[pictured[mesh] & (known[mesh] | speaks)]


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
