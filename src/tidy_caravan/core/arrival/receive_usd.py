"""Stand-in receiver of OpenUSD through usd-core: the default prim is the asset's root, its children the top of the tree."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from pxr import Usd, UsdGeom, UsdShade

from tidy_caravan.core.arrival.receivers import receiver
from tidy_caravan.core.arrival.tree import Tree
from tidy_caravan.core.conventions.destinations import Destination, FormatName
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import AnyArray

PROXIES = Usd.TraverseInstanceProxies()


@receiver("usda", "usdc", "usdz")
def receive_usd(file: Path, destination: Destination, fmt: FormatName) -> Scene:
    """Prim by prim with instance proxies; world matrices are left to the scene. A prim marked as one part takes
    the mesh below it; meshes of one prototype are one mesh."""
    stage = Usd.Stage.Open(str(file))
    materials: dict[str, int] = {}
    tree = Tree()

    def mesh_below(prim: Any) -> int:
        child = prim.GetChild("mesh")
        if child and child.IsInstance():
            child = child.GetChild("mesh")
        if not child or not child.IsA(UsdGeom.Mesh):
            return -1
        shared = child.GetPrimInPrototype() if child.IsInstanceProxy() else child
        return tree.shared(str(shared.GetPath()), lambda: mesh_from(child, materials))

    def walk(prim: Any, above: int) -> None:
        kind = prim.GetTypeName()
        if kind in ("Scope", "Material", "Mesh"):
            return
        matrix = np.array(UsdGeom.Xformable(prim).GetLocalTransformation()).reshape(4, 4).T
        here = tree.add(prim.GetDisplayName() or prim.GetName(), above, matrix)
        if kind == "PointInstancer":
            instancer = UsdGeom.PointInstancer(prim)
            proto = stage.GetPrimAtPath(instancer.GetPrototypesRel().GetTargets()[0])
            mesh = mesh_below(proto)
            moves = np.array(
                instancer.ComputeInstanceTransformsAtTime(0, 0, UsdGeom.PointInstancer.ExcludeProtoXform)
            ).reshape(-1, 4, 4)
            for k, move in enumerate(moves.transpose(0, 2, 1)):
                tree.mesh[tree.add(f"{tree.names[here]}_{k}", here, move)] = mesh
            return
        taken = bool(prim.GetCustomDataByKey("tidyCaravan:onePart"))
        if taken:
            tree.mesh[here] = mesh_below(prim)
        for child in prim.GetFilteredChildren(PROXIES):
            if not (taken and child.GetName() == "mesh"):
                walk(child, here)

    for child in stage.GetDefaultPrim().GetFilteredChildren(PROXIES):
        walk(child, -1)
    return tree.scene(destination.file_convention(fmt), list(materials))


def mesh_from(prim: Any, materials: dict[str, int]) -> Mesh:
    mesh = UsdGeom.Mesh(prim)
    points: AnyArray = np.array(mesh.GetPointsAttr().Get(), np.float32).reshape(-1, 3)
    faces: AnyArray = np.array(mesh.GetFaceVertexIndicesAttr().Get(), np.uint32).reshape(-1, 3)
    slots: AnyArray = np.full(len(faces), -1, np.int32)

    def slot(owner: Any) -> int:
        bound, _ = UsdShade.MaterialBindingAPI(owner).ComputeBoundMaterial()
        if not bound:
            return -1
        name = bound.GetPrim().GetDisplayName() or bound.GetPrim().GetName()
        return materials.setdefault(name, len(materials))

    subsets = [c for c in prim.GetFilteredChildren(PROXIES) if c.GetTypeName() == "GeomSubset"]
    if subsets:
        for subset in subsets:
            slots[np.array(UsdGeom.Subset(subset).GetIndicesAttr().Get(), np.int64)] = slot(subset)
    else:
        slots[:] = slot(prim)
    uvs = []
    api = UsdGeom.PrimvarsAPI(prim)
    for name in ("st", *(f"st{k}" for k in range(1, 8))):
        primvar = api.GetPrimvar(name)
        if primvar and primvar.HasValue():
            uv: AnyArray = np.array(primvar.Get(), np.float32).reshape(-1, 2)
            uvs.append(np.column_stack([uv[:, 0], 1.0 - uv[:, 1].astype(np.float64)]).astype(np.float32))
    normals = mesh.GetNormalsAttr().Get()
    return Mesh(
        points,
        faces,
        slots,
        np.array(normals, np.float32).reshape(-1, 3) if normals else None,
        uvs=tuple(uvs),
        name=prim.GetName(),
    )
