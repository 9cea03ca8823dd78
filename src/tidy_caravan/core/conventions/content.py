"""Which parts are meant to show one image exactly, by what they are named: screens, timetables, posters, projection walls."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from tidy_caravan.core.conventions.evidence import in_small_letters, name_stems, stems_of, words_pattern
from tidy_caravan.core.geometry.content import Shown, Unrolled, shown
from tidy_caravan.core.pace import Tell, nobody, paced
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import I64
from tidy_caravan.core.surroundings.content import Content, contents_of, main_use, stance_in, surface_in

WORDS = words_pattern(
    "screen|display|monitor|timetable|time_table|departure|arrival|projection|poster|billboard|television|tv|videowall|video_wall|"
    "ledwall|led_wall|signboard|noticeboard|scoreboard|fahrplan|anzeige|anzeigetafel|bildschirm|leinwand|plakat|écran|ecran|"
    "affiche|pantalla|cartel|schermo|orario|skärm|tidtabell|beeldscherm"
)
"""What names of parts, meshes or materials say of what shows content."""
MOST = 2.0
"""Repeats of an image up to which it may be meant to show once."""


def contents_meant(scene: Scene, tell: Tell = nobody) -> Iterator[tuple[Content, Unrolled | None, Shown | None]]:
    """Surfaces that show an image and are named for it, and how it lies on them, None where that cannot be told; those that
    it covers many times are none. tell hears how many were looked at."""
    stance = stance_in(scene)
    for content in paced(contents_of(scene, named(scene)), tell):
        mesh = scene.meshes[content.mesh]
        found = surface_in(mesh, content.linear, stance, content.slots)
        if found is None or not mesh.uvs or not (found[1].size > 0).all():
            yield content, None, None
            continue
        rows, surface = found
        image = mesh.uvs[0].astype(np.float64)[mesh.indices[rows]]
        slots = mesh.material[rows]
        for slot, matrix in zip(content.slots, content.places, strict=True):
            mine = slots == slot
            image[mine] = image[mine] @ matrix[:, :2].T + matrix[:, 2]
        if not np.isfinite(image).all() or np.ptp(image.reshape(-1, 2), axis=0).max() > MOST:
            continue
        yield content, surface, shown(surface, image)


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
