"""Prims written straight into a layer. A stage would compose them while they are written, which takes time with the square
of their number.

Names, types and variability are those of the schemas (UsdGeom, UsdLux, UsdShade); nothing checks them here.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from pxr import Gf, Sdf, Vt

from tidy_caravan.core.scene.arrays import F64, AnyArray

T = Sdf.ValueTypeNames
TRANSFORM = "xformOp:transform"


def define(layer: Any, path: str, kind: str, specifier: Any = Sdf.SpecifierDef) -> Any:
    """The prim at a path below one that is there, or below the root."""
    above, _, name = path.rpartition("/")
    return Sdf.PrimSpec(layer.GetPrimAtPath(above) if above else layer, name, specifier, kind)


def put(prim: Any, name: str, kind: Any, value: Any, uniform: bool = False, interpolation: str = "") -> None:
    """An attribute with its value. interpolation: of a primvar or of normals."""
    out = Sdf.AttributeSpec(prim, name, kind, Sdf.VariabilityUniform if uniform else Sdf.VariabilityVarying)
    out.default = value
    if interpolation:
        out.SetInfo("interpolation", interpolation)


def point_to(prim: Any, name: str, target: str) -> None:
    """A relationship with one target."""
    Sdf.RelationshipSpec(prim, name, False, Sdf.VariabilityUniform).targetPathList.explicitItems = [target]


def apply_schema(prim: Any, name: str) -> None:
    prim.SetInfo("apiSchemas", Sdf.TokenListOp.Create(prependedItems=[name]))


def instance(prim: Any, prototype: str) -> None:
    """The prim as an instance of another of the same layer."""
    prim.referenceList.prependedItems = [Sdf.Reference(primPath=prototype)]
    prim.instanceable = True


def mark(prim: Any, key: str) -> None:
    """Custom data that say yes; key: `space:name`."""
    space, _, name = key.partition(":")
    prim.SetInfo("customData", {**prim.customData, space: {name: True}})


def place(prim: Any, local: F64) -> None:
    """A transform (4, 4), none where it changes nothing."""
    if not np.array_equal(local, np.eye(4)):
        put(prim, TRANSFORM, T.Matrix4d, Gf.Matrix4d(*local.T.ravel().tolist()))
        put(prim, "xformOpOrder", T.TokenArray, Vt.TokenArray([TRANSFORM]), uniform=True)


def vectors(points: AnyArray) -> Any:
    """(N, 3) as the format's array of single precision."""
    return Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(points, np.float32))


def whole(numbers: AnyArray) -> Any:
    """(N,) as the format's array of integers."""
    return Vt.IntArray.FromNumpy(np.ascontiguousarray(numbers, np.int32))
