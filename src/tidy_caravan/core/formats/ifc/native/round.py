"""Round extrusions of an IFC file as recipes: columns, posts and pipes that can be made again, finer or coarser."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidy_caravan.core.geometry.recipes import Fineness, make
from tidy_caravan.core.scene import Mesh, Recipe
from tidy_caravan.core.scene.arrays import F64

TOLERANCE_M = 0.002
"""Largest distance of a chord from its arc in the first conversion."""


def round_extrusion(product: Any, made: Mesh | None, scale: float, origin: F64 | None = None) -> Mesh | None:
    """The mesh of a product that is one circle, or ring, pushed along a line, made from its parameters instead.

    So it can be made again, finer or coarser. None for one with openings, and unless it fills the same box as the
    library's mesh, from which `origin` (3,) was taken off, within twice the tolerance: otherwise something else (a mapping that stretches) has a say in it.
    """
    if made is None or len(made.slots) != 1 or getattr(product, "HasOpenings", None):
        return None
    bodies = [r for r in product.Representation.Representations if str(r.RepresentationIdentifier or "Body") == "Body"]
    if len(bodies) != 1 or len(bodies[0].Items or ()) != 1:
        return None
    (item,) = bodies[0].Items
    frame = np.eye(4)
    try:
        if item.is_a("IfcMappedItem"):
            source = item.MappingSource
            frame = mapping(item.MappingTarget, scale) @ np.linalg.inv(axes(source.MappingOrigin, scale))
            if len(source.MappedRepresentation.Items or ()) != 1:
                return None
            (item,) = source.MappedRepresentation.Items
        if not item.is_a("IfcExtrudedAreaSolid"):
            return None
        profile = item.SweptArea
        if not profile.is_a("IfcCircleProfileDef"):
            return None
        if item.Position is not None:
            frame = frame @ axes(item.Position, scale)
        if profile.Position is not None:
            frame = frame @ axes(profile.Position, scale)
        if origin is not None:
            frame = frame.copy()
            frame[:3, 3] -= origin
        inner = 0.0
        if profile.is_a("IfcCircleHollowProfileDef"):
            inner = (float(profile.Radius) - float(profile.WallThickness)) * scale
        direction = np.array(item.ExtrudedDirection.DirectionRatios, np.float64)
        direction /= np.linalg.norm(direction)
        values = {
            "radius": float(profile.Radius) * scale,
            "inner": inner,
            "depth": float(item.Depth) * scale,
            "direction": direction.tolist(),
            "frame": frame.ravel().tolist(),
            "material": made.slots[0],
        }
        recipe = Recipe("extrusion", values)
        fresh = make(recipe, Fineness(tolerance_mm=TOLERANCE_M * 1000), 1.0, made.name)
    except (RuntimeError, AttributeError, ValueError, TypeError, ArithmeticError):
        return None
    if fresh is None or not np.abs(fresh.bounds - made.bounds).max() <= 2 * TOLERANCE_M:
        return None
    return fresh


def axes(placement: Any, scale: float) -> F64:
    """Matrix in metres of an axis placement of two or three dimensions."""
    out = np.eye(4)
    place = list(placement.Location.Coordinates)
    out[: len(place), 3] = np.array(place, np.float64) * scale
    x = np.array([*getattr(placement.RefDirection, "DirectionRatios", (1.0, 0.0, 0.0)), 0.0][:3], np.float64)
    z = np.array((0.0, 0.0, 1.0))
    if placement.is_a("IfcAxis2Placement3D") and placement.Axis is not None:
        z = np.array(placement.Axis.DirectionRatios, np.float64)
    z /= np.linalg.norm(z)
    x = x - z * (x @ z)
    x /= np.linalg.norm(x)
    out[:3, :3] = np.column_stack([x, np.cross(z, x), z])
    return out


def mapping(operator: Any, scale: float) -> F64:
    """Matrix in metres of a mapping's target without scale. Raises ValueError for one that stretches."""
    if operator.Scale not in (None, 1.0) or not operator.is_a("IfcCartesianTransformationOperator3D"):
        raise ValueError("scaled")
    out = np.eye(4)
    out[:3, 3] = np.array(operator.LocalOrigin.Coordinates, np.float64) * scale
    given = [getattr(a, "DirectionRatios", None) for a in (operator.Axis1, operator.Axis2, operator.Axis3)]
    for k, axis in enumerate(given):
        if axis is not None:
            out[:3, k] = np.array(axis, np.float64) / np.linalg.norm(axis)
    if abs(np.linalg.det(out[:3, :3]) - 1) > 1e-6:
        raise ValueError("turned over")
    return out
