"""What an IFC file says of its elements besides their geometry: layers, properties, where the site lies."""

from __future__ import annotations

import math
from collections import Counter
from typing import Any

import ifcopenshell.util.element as elements
import ifcopenshell.util.unit as units

SETS = (
    "FireRating",
    "IsExternal",
    "LoadBearing",
    "ThermalTransmittance",
    "FireExit",
    "HandicapAccessible",
    "Reference",
)


def by_type(file: Any, kind: str) -> list[Any]:
    """Entities of a class; none where the schema does not know it."""
    try:
        return list(file.by_type(kind))
    except (RuntimeError, ValueError):
        return []


def presentation_layers(file: Any) -> dict[int, str]:
    """Layer name by product id, from IfcPresentationLayerAssignment of its representations or their items."""
    assigned: dict[int, str] = {}
    for layer in by_type(file, "IfcPresentationLayerAssignment"):
        for item in layer.AssignedItems or ():
            assigned[item.id()] = str(layer.Name)
    if not assigned:
        return {}
    out: dict[int, str] = {}
    for product in by_type(file, "IfcProduct"):
        for representation in (
            getattr(product.Representation, "Representations", None) or ()
            if getattr(product, "Representation", None)
            else ()
        ):
            items = [representation, *(representation.Items or ())]
            items += [i.MappingSource.MappedRepresentation for i in items[1:] if i.is_a("IfcMappedItem")]
            found = next((assigned[i.id()] for i in items if i.id() in assigned), None)
            if found:
                out[product.id()] = found
                break
    return out


def switched_off(file: Any) -> set[int]:
    """Products whose whole shape is on presentation layers that are switched off or frozen."""
    layers = by_type(file, "IfcPresentationLayerWithStyle")
    dark = {i.id() for x in layers if x.LayerOn is False or x.LayerFrozen is True for i in x.AssignedItems or ()}
    if not dark:
        return set()

    def off(representation: Any) -> bool:
        items = list(representation.Items or ())
        maps = [i.MappingSource.MappedRepresentation for i in items if i.is_a("IfcMappedItem")]
        inside = bool(items) and len(maps) == len(items) and all(off(m) for m in maps)
        return representation.id() in dark or inside or (bool(items) and all(i.id() in dark for i in items))

    out: set[int] = set()
    for product in by_type(file, "IfcProduct"):
        shape = getattr(product, "Representation", None)
        drawn = [
            r for r in getattr(shape, "Representations", None) or () if r.RepresentationIdentifier in ("Body", None)
        ]
        if drawn and all(off(r) for r in drawn):
            out.add(product.id())
    return out


def data_of(entity: Any, storey: str, scale: float, left: Counter[str]) -> dict[str, Any]:
    """What people ask of an element: class, id, type, storey, size in metres, and the properties in SETS. left: counts the
    others by the set that they are in."""
    out: dict[str, Any] = {"class": entity.is_a(), "id": entity.GlobalId}
    if storey:
        out["storey"] = storey
    if entity.is_a("IfcObject"):
        kind = elements.get_type(entity)
        if kind is not None and kind.Name:
            out["type"] = str(kind.Name)
    for key, name in (("OverallHeight", "height"), ("OverallWidth", "width")):
        value = getattr(entity, key, None)
        if isinstance(value, (int, float)) and math.isfinite(value):
            out[name] = round(float(value) * scale, 9)
    if entity.is_a("IfcElement"):
        for name, values in elements.get_psets(entity).items():
            left[name] += sum(value is not None and key not in ("id", *SETS) for key, value in values.items())
            for key in SETS:
                if values.get(key) is not None and isinstance(values[key], (str, int, float, bool)):
                    out[key[0].lower() + key[1:]] = values[key]
    return out


def metres_of(unit: Any) -> float:
    """Length in metres of an IfcNamedUnit; 1 when it cannot be told."""
    if unit.is_a("IfcSIUnit"):
        return float(units.get_prefix_multiplier(unit.Prefix))
    if unit.is_a("IfcConversionBasedUnit"):
        factor = unit.ConversionFactor
        value = getattr(factor.ValueComponent, "wrappedValue", factor.ValueComponent)
        return float(value) * metres_of(factor.UnitComponent)
    return 1.0


def georeference(file: Any, scale: float) -> dict[str, Any]:
    """Map conversion and projected system, as the file states them. scale: metres of one unit of the project."""
    for conversion in by_type(file, "IfcMapConversion"):
        target = conversion.TargetCRS
        unit = getattr(target, "MapUnit", None)
        along = getattr(conversion, "XAxisAbscissa", None), getattr(conversion, "XAxisOrdinate", None)
        return {
            "eastings": float(conversion.Eastings or 0),
            "northings": float(conversion.Northings or 0),
            "height": float(conversion.OrthogonalHeight or 0),
            "system": str(getattr(target, "Name", "") or ""),
            "xAxisAbscissa": float(along[0] if along[0] is not None else 1.0),
            "xAxisOrdinate": float(along[1] or 0.0),
            "scale": float(getattr(conversion, "Scale", None) or 1.0),
            "metresPerMapUnit": scale if unit is None else metres_of(unit),
        }
    for rigid in by_type(file, "IfcRigidOperation"):
        first, second = (getattr(v, "wrappedValue", v) for v in (rigid.FirstCoordinate, rigid.SecondCoordinate))
        if rigid.FirstCoordinate.is_a("IfcLengthMeasure"):
            unit = getattr(rigid.TargetCRS, "MapUnit", None)
            return {
                **UNTURNED,
                "eastings": float(first),
                "northings": float(second),
                "height": float(rigid.Height or 0),
                "system": str(getattr(rigid.TargetCRS, "Name", "") or ""),
                "metresPerMapUnit": scale if unit is None else metres_of(unit),
            }
    return agreed(file, scale)


MAP_UNITS = {"metre": 1.0, "meter": 1.0, "m": 1.0, "millimetre": 1e-3, "mm": 1e-3, "foot": 0.3048, "ft": 0.3048}
"""Metres of what property sets call the unit of a map; that of the project otherwise, as where they say nothing."""
UNTURNED = {"xAxisAbscissa": 1.0, "xAxisOrdinate": 0.0, "scale": 1.0}


def agreed(file: Any, scale: float) -> dict[str, Any]:
    """The same in property sets, by the convention for IFC 2x3 (buildingSMART, User Guide for Geo-referencing in IFC)."""
    for project in by_type(file, "IfcProject") + by_type(file, "IfcSite"):
        sets = {name.lower(): values for name, values in elements.get_psets(project).items()}
        found, system = sets.get("epset_mapconversion"), sets.get("epset_projectedcrs", {})
        if not found:
            continue
        try:
            numbers = {k: float(v) for k, v in found.items() if k != "id" and v is not None and not isinstance(v, str)}
        except (TypeError, ValueError):
            continue
        return {
            "eastings": numbers.get("Eastings", 0.0),
            "northings": numbers.get("Northings", 0.0),
            "height": numbers.get("OrthogonalHeight", 0.0),
            "system": str(system.get("Name") or ""),
            "xAxisAbscissa": numbers.get("XAxisAbscissa", 1.0),
            "xAxisOrdinate": numbers.get("XAxisOrdinate", 0.0),
            "scale": numbers.get("Scale") or 1.0,
            "metresPerMapUnit": MAP_UNITS.get(str(system.get("MapUnit") or "").strip().lower(), scale),
        }
    return {}
