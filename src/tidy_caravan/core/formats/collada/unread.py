"""What a document says that nothing here reads: counted by what it is, so that none of it stays behind unnamed."""

from __future__ import annotations

from collections import Counter
from typing import Any

import numpy as np

from tidy_caravan.core.formats.collada.xml import Document, text_of
from tidy_caravan.core.formats.shared.travel import Travels

LIBRARIES = {
    "library_visual_scenes", "library_nodes", "library_geometries", "library_materials", "library_effects", "library_images",
    "library_lights", "library_cameras", "library_controllers", "library_animations", "library_physics_models", "library_force_fields",
}  # fmt: skip
"""Read, or told elsewhere."""
ELSEWHERE = {"asset", "scene", "extra"}
ABOUT = (
    "title", "subject", "keywords", "revision", "contributor/author", "contributor/comments", "contributor/author_email",
)  # fmt: skip
SAMPLING = (
    "border_color", "mipfilter", "mipmap_bias", "mipmap_maxlevel", "mip_bias", "mip_min_level", "mip_max_level", "max_anisotropy",
)  # fmt: skip
TAKEN = ("double_sided", "bump")
"""What is read of what programs add on their own."""


def tell_unread(document: Document, travels: Travels) -> None:
    """A line of the travel list for each kind; O(elements), in the library that holds them."""
    root = document.root
    for library in root:
        if isinstance(library.tag, str) and library.tag not in LIBRARIES | ELSEWHERE:
            what = library.tag.removeprefix("library_").replace("_", " ")
            travels.behind(what, max(1, sum(c.tag not in ELSEWHERE for c in library)), "nothing here reads them")
    about = sum(bool(text_of(root.find(f"asset/{word}"))) for word in ABOUT)
    travels.behind("words about the file", about, "only the copyright goes on")
    added: Counter[str] = Counter()
    for technique in root.iterfind(".//extra/technique"):
        if not any(technique.find(f".//{word}") is not None for word in TAKEN):
            added[technique.get("profile") or ""] += 1
    for profile, count in added.items():
        travels.behind(f"additions of “{profile[:60]}”", count, "what a program keeps for itself")
    for path, what, why in (
        (".//evaluate_scene", "settings of pictures", "they are for another renderer"),
        ("scene/instance_physics_scene", "physics scenes in use", "solver data"),
    ):
        travels.behind(what, sum(1 for _ in root.iterfind(path)), why)
    for path, usual, what, why in (
        (".//index_of_refraction", (0.0, 1.0), "indices of refraction", "the portable material has none"),
        (".//falloff_exponent", (0.0, 1.0), "softness of spots", "they fade evenly towards their edge"),
        (".//linear_attenuation", (0.0,), "lights that fade by another law", "light fades with the square of the distance"),
    ):  # fmt: skip
        travels.behind(what, sum(not numbers_are(e, usual) for e in root.iterfind(path)), why)
    settings = sum(1 for s in root.iterfind(".//sampler2D") if any(s.find(word) is not None for word in SAMPLING))
    travels.behind("further settings of images", settings, "receivers choose them")
    ambient = sum(not numbers_are(e, (0.0, 0.0, 0.0, 1.0), whole=True) for e in root.iterfind(".//technique/*/ambient"))
    travels.behind("ambient colours", ambient, "receivers light the surroundings by their sky")
    if root.find("library_controllers") is None:
        shown = {e.get("url") for e in root.iter("instance_geometry")}
        ids = [e.get("id") for e in root.iterfind("library_geometries/geometry")]
        travels.behind(
            "geometries that no node shows",
            sum(f"#{i}" not in shown for i in ids) if shown else 0,
            "nothing draws them",
        )
    others = sum(1 for e in root.iterfind("library_effects/effect/*") if str(e.tag).startswith("profile_") and e.tag != "profile_COMMON")  # fmt: skip
    travels.behind("surfaces for single renderers", others, "the common profile of each goes on")


def numbers_are(element: Any, usual: tuple[float, ...], whole: bool = False) -> bool:
    """Whether an element says nothing: its only number, or in `whole` all of them, are the usual ones."""
    text = " ".join(element.itertext()).split()
    try:
        values = np.array(text, np.float64)
    except ValueError:
        return False
    if whole:
        return len(values) == len(usual) and bool(np.allclose(values, usual))
    return len(values) == 1 and values[0] in usual
