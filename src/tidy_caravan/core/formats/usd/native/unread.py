"""What prims say that nothing here reads: counted by what it is, so that none of it stays behind unnamed.

Attributes that a schema does not know are what an artist or a program says of a prim (`userProperties`), and go on as data.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from pxr import UsdGeom, UsdShade

from tidy_caravan.core.formats.shared.travel import Travels
from tidy_caravan.core.formats.usd.native.data import OWN, plain
from tidy_caravan.core.formats.usd.native.surfaces import UV_TYPES

READ = frozenset({
    "visibility", "purpose", "xformOpOrder", "doubleSided", "extent", "extentsHint", "orientation", "proxyPrim",
    "points", "faceVertexCounts", "faceVertexIndices", "normals", "subdivisionScheme", "interpolateBoundary",
    "faceVaryingLinearInterpolation", "triangleSubdivisionRule", "holeIndices", "creaseIndices", "creaseLengths",
    "creaseSharpnesses", "cornerIndices", "cornerSharpnesses", "size", "radius", "height", "axis", "radiusTop",
    "radiusBottom", "width", "length", "curveVertexCounts", "widths", "type", "basis", "wrap", "focalLength",
    "horizontalAperture", "verticalAperture", "clippingRange", "projection", "treatAsPoint", "treatAsLine",
    "prototypes", "protoIndices", "positions", "orientations", "orientationsf", "scales", "ids", "invisibleIds",
    "primvars:normals", "primvars:displayColor", "primvars:tangents",
})  # fmt: skip
"""Names of properties that are read, or that follow from what is read."""
SPACES = (
    "xformOp:", "material:binding", "inputs:", "light:", "outputs:", "skel:", "primvars:skel:", "subsetFamily:", "info:",
)  # fmt: skip
"""Those read or told elsewhere."""
PLACES = {"xformOpOrder", "xformOp:transform"}
"""Which nearly every prim has."""
METADATA = {
    "documentation": "descriptions of prims", "kind": "model kinds of prims", "assetInfo": "asset information of prims",
}  # fmt: skip
ZERO = {"horizontalApertureOffset", "verticalApertureOffset", "fStop", "exposure", "shutter:open", "shutter:close"}
"""Which say nothing while they are nought."""
GROUPS = {
    "velocities": "motion of points", "accelerations": "motion of points", "angularVelocities": "motion of points",
    "fStop": "depth of field of cameras", "focusDistance": "depth of field of cameras",
    "horizontalApertureOffset": "shifted lenses of cameras", "verticalApertureOffset": "shifted lenses of cameras",
    "clippingPlanes": "further settings of cameras", "stereoRole": "further settings of cameras", "exposure": "exposure of cameras",
    "primvars:displayOpacity": "opacity of display colours",
}  # fmt: skip
FIRST = {
    "shutter": "exposure of cameras",
    "exposure": "exposure of cameras",
    "physics": "physics of prims",
    "collection": "collections",
}
WHY = {
    "motion of points": "they stand where they are at the first moment",
    "shifted lenses of cameras": "cameras look straight ahead",
    "physics of prims": "collision is made anew for the destination",
}
HOLDERS = ("Xform", "PointInstancer", "Scope", "")
"""Whose primvars hold for what is below them, and are told there."""
NOT_READ = "nothing here reads it"


@dataclass
class Unread:
    """What was met of one import."""

    time: Any
    counts: Counter[str] = field(default_factory=Counter)
    moving: Counter[str] = field(default_factory=Counter)

    def look(self, prim: Any, kind: str) -> dict[str, Any]:
        """Counts what a prim says; returns what goes on as data."""
        data: dict[str, Any] = {}
        said: set[str] = set()
        for name in prim.GetAuthoredPropertyNames():
            if name in PLACES:
                continue
            attribute = prim.GetAttribute(name)
            if name.startswith(SPACES):
                if name.startswith("inputs:") and attribute and attribute.ValueMightBeTimeVarying():
                    self.moving["values of lights that change over time"] += 1
                continue
            if attribute and attribute.ValueMightBeTimeVarying():
                self.moving[moving_words(name)] += 1
            if name == "primvars:displayColor" and hides_colour(prim, attribute):
                said.add("display colours of what has a material")
            if name in READ or (name.startswith("primvars:") and (kind in HOLDERS or is_read(prim, name))):
                continue
            if attribute and (attribute.IsCustom() or name.startswith(OWN)) and not name.startswith("primvars:"):
                found = attribute.Get(self.time)
                if found is not None:
                    data[name.removeprefix(OWN)] = plain(found)
                continue
            if name in ZERO and not np.any(attribute.Get(self.time) or 0):
                continue
            if name == "stereoRole" and str(attribute.Get(self.time)) == "mono":
                continue
            said.add(self.words(name, kind))
        if prim.HasAuthoredMetadata("apiSchemas") and any(s.startswith("Physics") for s in prim.GetAppliedSchemas()):
            said.add("physics of prims")
        said.update(what for word, what in METADATA.items() if prim.HasAuthoredMetadata(word))
        if said:
            self.counts.update(said)
        return data

    def words(self, name: str, kind: str) -> str:
        if name in GROUPS:
            return GROUPS[name]
        first = name.partition(":")[0]
        if first in FIRST:
            return FIRST[first]
        if first == "primvars":
            return f"“{name.removeprefix('primvars:').removesuffix(':indices')[:60]}” of surfaces"
        return f"“{name[:60]}” of {kind or 'untyped'} prims"

    def onto(self, travels: Travels) -> None:
        for what, count in self.counts.items():
            travels.behind(what, count, WHY.get(what, NOT_READ))
        for what, count in self.moving.items():
            travels.behind(
                what, count, "they are as at the first moment; only places move with clips, which come as glTF"
            )


def is_read(prim: Any, name: str) -> bool:
    """Whether a primvar, or the indices of one, is taken as coordinates."""
    whole = prim.GetAttribute(name.removesuffix(":indices"))
    return bool(whole) and (str(whole.GetTypeName()) in UV_TYPES or whole.GetName() in READ)


def hides_colour(prim: Any, color: Any) -> bool:
    """Whether a colour that holds for all of a prim gives way to its material."""
    if UsdGeom.Primvar(color).GetInterpolation() != UsdGeom.Tokens.constant:
        return False
    return bool(UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()[0])


def moving_words(name: str) -> str:
    if name == "visibility":
        return "parts that are switched on and off over time"
    if name in ("points", "normals", "faceVertexCounts", "faceVertexIndices", "extent") or name.startswith("primvars:"):
        return "surfaces that change over time"
    return "values that change over time"
