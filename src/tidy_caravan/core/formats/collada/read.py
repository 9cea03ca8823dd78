"""Reads COLLADA 1.4 and 1.5 (Khronos, ISO/PAS 17506), as .dae or packed as .zae."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.collada.looks import Looks
from tidy_caravan.core.formats.collada.nodes import Builder
from tidy_caravan.core.formats.collada.unread import tell_unread
from tidy_caravan.core.formats.collada.xml import Document, Element, label, parse, text_of
from tidy_caravan.core.formats.shared.bundle import Budget, Bundle
from tidy_caravan.core.formats.shared.folded import tell_folds
from tidy_caravan.core.formats.shared.travel import Travels
from tidy_caravan.core.scene import Convention, Note, Root, Scene
from tidy_caravan.core.scene.convention import Axis
from tidy_caravan.core.words import plural

UPS: dict[str, tuple[Axis, Axis]] = {"X_UP": ("X", "-Z"), "Y_UP": ("Y", "-Z"), "Z_UP": ("Z", "Y")}


def read(bundle: Bundle) -> Scene:
    """All visual scenes; the one that the file instances is the default. Raises UnusableInput."""
    budget = Budget(bundle.limits.decoded_bytes)
    budget.take(len(bundle.data) * 2, bundle.main)
    notes: list[Note] = []
    document = Document(parse(bundle.data, bundle.main, notes), bundle.main)
    version = document.root.get("version", "")
    if not version.startswith(("1.4", "1.5")):
        notes.append(
            Note(
                "guess",
                "import.version",
                bundle.main,
                f"The file says version {version[:20] or '(none)'}; it was read as 1.4.",
            )
        )
    travels = Travels()
    convention = read_convention(document, notes)
    looks = Looks(document, bundle, notes, travels)
    metres = convention.metres_per_unit if convention.declared else None
    builder = Builder(document, looks, budget, bundle.limits, notes, travels, metres)
    roots: list[Root] = []
    scenes = list(document.root.iterfind("library_visual_scenes/visual_scene"))
    wanted = document.root.find("scene/instance_visual_scene")
    chosen = document.target(wanted.get("url")) if wanted is not None else None
    for scene in scenes:
        bundle.tell()
        first = len(builder.parent)
        for node in scene.findall("node"):
            builder.node(node, -1)
        tops = [i for i in range(first, len(builder.parent)) if builder.parent[i] < 0]
        roots.append(Root(tuple(tops), label(scene)))
    if not scenes:
        bare_geometries(document, builder)
        roots = [Root(tuple(range(len(builder.parent))), "")]
    if not builder.parent:
        raise UnusableInput("there is no node and no geometry in the file", where=bundle.main)
    default = next((i for i, s in enumerate(scenes) if s is chosen), 0)
    nodes = builder.nodes()
    builder.close()
    if len(roots) > 1:
        outside = np.ones(len(nodes), np.bool_)
        outside[list(roots[default].nodes)] = False
        hidden = ~nodes.under(~outside)
        nodes = replace(nodes, flags=np.where(hidden, 1, 0).astype(np.uint8))
        travels.behind(
            "further visual scenes", len(roots) - 1, "the file shows another one; their parts are switched off"
        )
    tell_folds(notes, builder.folded, builder.meshes, nodes.mesh, bundle.main)
    leave_behind(document, travels)
    tell_unread(document, travels)
    if builder.extras:
        notes.append(
            Note(
                "guess",
                "import.pivot",
                bundle.main,
                f"{plural(len(builder.extras), 'node names', 'nodes name')} a pivot that is not the origin; it is kept as data and can be made real.",
                tuple(list(builder.extras)[:20]),
            )
        )
    asset = {"copyright": text_of(document.root.find("asset/contributor/copyright"))}
    scene = Scene(
        convention=convention,
        nodes=nodes,
        meshes=tuple(builder.meshes),
        materials=tuple(looks.materials),
        textures=tuple(looks.textures),
        images=tuple(looks.images),
        lights=tuple(builder.lights),
        cameras=tuple(builder.cameras),
        layers=tuple(builder.layers),
        roots=tuple(roots),
        default_root=default,
        notes=tuple(notes),
        extras={"asset": asset} if asset["copyright"] else {},
        format="dae",
    )
    return travels.onto(scene)


def read_convention(document: Document, notes: list[Note]) -> Convention:
    """Unit and up axis of the document's asset (5.5 of 1.4.1); what is missing is metre and Y up by the standard."""
    asset = document.root.find("asset")
    unit = asset.find("unit") if asset is not None else None
    metres, declared = 1.0, unit is not None and unit.get("meter") is not None
    if unit is not None and unit.get("meter"):
        try:
            metres = float(unit.get("meter"))
        except ValueError:
            metres = -1.0
        if not (np.isfinite(metres) and 1e-9 < metres < 1e6):
            notes.append(
                Note(
                    "damaged",
                    "import.unit",
                    "asset/unit",
                    f"“{unit.get('meter')[:40]}” is no length; metre was assumed.",
                )
            )
            metres, declared = 1.0, False
    word = text_of(asset.find("up_axis")) if asset is not None else ""
    if word and word not in UPS:
        notes.append(Note("damaged", "import.up-axis", "asset/up_axis", f"“{word[:40]}” is no axis; Y up was assumed."))
    up, forward = UPS.get(word, ("Y", "-Z"))
    return Convention(metres, up, forward, "right", declared)


def bare_geometries(document: Document, builder: Builder) -> None:
    """A file without a scene shows its geometries side by side, one node each."""
    for element in document.root.iterfind("library_geometries/geometry"):
        stand_in: Element = element.makeelement("instance_geometry", {"url": f"#{element.get('id')}"})
        mesh, origin = builder.instance(stand_in)
        if mesh >= 0:
            here = builder.add(label(element), -1, np.eye(4), -1)
            builder.mesh_of[here] = mesh
            if origin.any():
                builder.origin[here] = origin


def leave_behind(document: Document, travels: Travels) -> None:
    root = document.root
    animations = sum(1 for _ in root.iterfind("library_animations//channel"))
    travels.behind("animation channels", animations, "COLLADA animation is not read; bring it as glTF")
    travels.behind(
        "physics models", sum(1 for _ in root.iterfind("library_physics_models/physics_model")), "solver data"
    )
    travels.behind("force fields", sum(1 for _ in root.iterfind("library_force_fields/force_field")), "solver data")
