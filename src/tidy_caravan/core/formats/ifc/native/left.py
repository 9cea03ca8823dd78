"""What an IFC model holds that becomes no part of the scene: each kind that is known here is named with its reason."""

from __future__ import annotations

from collections import Counter
from typing import Any

import ifcopenshell.util.element as elements
import ifcopenshell.util.placement as placements
import numpy as np

from tidy_caravan.core.formats.ifc.native.data import by_type
from tidy_caravan.core.formats.shared.travel import Travels
from tidy_caravan.core.scene import Note

NOT_DRAWN = {
    "IfcOpeningElement": "cut out of what they open",
    "IfcSpace": "spaces are volumes of air; they stay as groups",
    "IfcSpatialZone": "zones are volumes of air; they stay as groups",
    "IfcVirtualElement": "they have no surface in the building",
    "IfcAnnotation": "drawings, not surfaces",
    "IfcGrid": "drawings, not surfaces",
    "IfcAlignment": "lines that a road or rail follows, not surfaces",
    "IfcPort": "places where pipes and cables meet, not surfaces",
    "IfcStructuralItem": "bars and sheets of a calculation, not the building",
    "IfcStructuralActivity": "loads of a calculation, not surfaces",
}
"""Classes whose shapes are not to be seen, and why."""
OTHERWISE = {
    "IfcSurfaceTexture": ("textures", "only images on triangulated faces with coordinates of their own are read"),
    "IfcIndexedColourMap": (
        "colours by triangle",
        "only those of a body of triangulated faces without openings are read",
    ),
    "IfcLightSource": ("lamps", "an IFC lamp has no brightness in units of light"),
}
HERE = 1e-6
"""By how much the numbers of a coordinate system may differ from those of none."""


def not_drawn(file: Any) -> set[int]:
    """Entities of classes whose shapes are not to be seen."""
    return {e.id() for kind in NOT_DRAWN for e in by_type(file, kind)}


def name_what_stays(file: Any, travels: Travels, used: set[int]) -> list[Note]:
    """Adds to the travel list what is left behind, and gives what has to be told of the model as a whole. used: maps and
    images that came."""
    for kind, why in NOT_DRAWN.items():
        every = by_type(file, kind)
        # the older classes are told by their number; of the others only those that have a shape lose one
        shown = kind in ("IfcOpeningElement", "IfcSpace", "IfcVirtualElement", "IfcAnnotation", "IfcGrid")
        travels.behind(kind, sum(shown or getattr(e, "Representation", None) is not None for e in every), why)
    for kind, (name, why) in OTHERWISE.items():
        travels.behind(name, sum(e.id() not in used for e in by_type(file, kind)), why)
    for name, count in Counter(g.is_a() for g in by_type(file, "IfcGroup")).items():
        travels.behind(name, count, "groups across the tree; their members travel where they stand in it")
    unused = [t for t in by_type(file, "IfcTypeProduct") if t.RepresentationMaps and not elements.get_types(t)]
    travels.behind("types that nothing is of", len(unused), "they stand nowhere in the model")
    return [*shifted(file), *empty(file, unused)]


def shifted(file: Any) -> list[Note]:
    """That the model's own coordinate system stands elsewhere: the geometry library takes it for the origin."""
    for context in by_type(file, "IfcGeometricRepresentationContext"):
        system = getattr(context, "WorldCoordinateSystem", None)
        if context.is_a("IfcGeometricRepresentationSubContext") or system is None or context.ContextType == "Plan":
            continue
        try:
            matrix = np.array(placements.get_axis2placement(system), np.float64)
        except (RuntimeError, ValueError, AttributeError, TypeError):
            continue
        if np.abs(matrix - np.eye(4)).max() > HERE:
            x, y, z = matrix[:3, 3]
            text = (
                f"The model's coordinate system stands at {x:g}, {y:g}, {z:g} (in the file's unit) or is turned; "
                "everything was placed as if it stood at the origin, as most readers do."
            )
            return [Note("guess", "import.system", f"#{context.id()}", text)]
    return []


def empty(file: Any, unused: list[Any]) -> list[Note]:
    """That a library of types has nothing that stands anywhere."""
    if not unused or any(getattr(p, "Representation", None) is not None for p in by_type(file, "IfcElement")):
        return []
    names = ", ".join(f"“{str(t.Name or t.is_a())[:40]}”" for t in unused[:3])
    text = (
        f"The file holds {len(unused)} types with a shape ({names}) and no element that is of them, so there is nothing "
        "to see; place one of each in a model and export that."
    )
    return [Note("damaged", "import.types", "IfcTypeProduct", text)]
