"""Meshes as the arrays that work on them gets and gives back."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from tidy_caravan.core.scene import Mesh
from tidy_caravan.core.scene.arrays import AnyArray
from tidy_caravan.core.scene.provenance import Origin

POSITIONS = "positions"
"""(V', 3) float32, where vertices stand now."""
SOURCE = "source"
"""Among what work gives back: (V',) the old vertex of each new one; goes with `indices`."""
ORIGIN = "origin"
"""Among what work gives back with other triangles: which triangle of the mesh each was, MADE where it is none of them."""
KEPT = "kept"
"""Among what work gives back: the numbers of the triangles that stay."""

STALE = "stale tangents"
"""Among what work gives back: that the tangents belong to normals or coordinates that are no more."""


def arrays_of(mesh: Mesh) -> dict[str, AnyArray]:
    """Surface, materials, normals and UV sets; what else a mesh has goes with its vertices."""
    out: dict[str, AnyArray] = {"positions": mesh.positions, "indices": mesh.indices, "material": mesh.material}
    if mesh.normals is not None:
        out["normals"] = mesh.normals
    return out | {f"uv{k}": uv for k, uv in enumerate(mesh.uvs)}


def everything_of(mesh: Mesh) -> dict[str, AnyArray]:
    """The same with tangents and vertex colours."""
    out = arrays_of(mesh) | {f"color{k}": c for k, c in enumerate(mesh.colors)}
    return out if mesh.tangents is None else {**out, "tangents": mesh.tangents}


def whole_of(mesh: Mesh) -> dict[str, AnyArray]:
    """All that a mesh has per vertex, morph targets and custom attributes with it."""
    more = {f"extra {k}": values for k, values in mesh.attributes.items()}
    for i, morph in enumerate(mesh.morphs):
        more |= {f"extra morph {i} {k}": values for k, values in enumerate(morph.arrays()) if values is not None}
    return everything_of(mesh) | more


def whole_mesh_of(arrays: Mapping[str, AnyArray]) -> Mesh:
    """The mesh of such arrays, its morph targets and attributes as attributes."""
    return replace(mesh_of(arrays), attributes={k: v for k, v in arrays.items() if k.startswith("extra ")})


def mesh_of(arrays: Mapping[str, AnyArray]) -> Mesh:
    """The mesh of such arrays."""
    uvs = [arrays[f"uv{k}"] for k in range(sum(name.startswith("uv") for name in arrays))]
    colors = [arrays[f"color{k}"] for k in range(sum(name.startswith("color") for name in arrays))]
    return Mesh(
        arrays["positions"],
        arrays["indices"],
        arrays["material"],
        arrays.get("normals"),
        arrays.get("tangents"),
        tuple(uvs),
        tuple(colors),
    )


def remade(mesh: Mesh, made: Mapping[str, AnyArray]) -> Mesh:
    """The mesh with what work gave back: other vertices or fewer triangles first, then new normals and UV sets."""
    if KEPT in made:
        mesh = mesh.with_triangles(made[KEPT])
    if ORIGIN in made:
        before = mesh.origin or Origin.all_of(mesh.triangles)
        mesh = replace(mesh, material=made["material"], recipe=None, origin=before.where(made[ORIGIN]))
    if SOURCE in made:
        mesh = mesh.with_vertices(made[SOURCE], indices=made["indices"])
    elif "indices" in made:
        mesh = replace(mesh, indices=made["indices"])
    if POSITIONS in made:
        mesh = replace(mesh, positions=made[POSITIONS], recipe=None)
    if "normals" in made:
        mesh = replace(mesh, normals=made["normals"])
    if "tangents" in made:
        mesh = replace(mesh, tangents=made["tangents"])
    if STALE in made:
        mesh = replace(mesh, tangents=None)
    fresh = {int(name[2:]): values for name, values in made.items() if name.startswith("uv")}
    if fresh:
        count = max(len(mesh.uvs), max(fresh) + 1)
        mesh = replace(mesh, uvs=tuple(fresh[k] if k in fresh else mesh.uvs[k] for k in range(count)))
    return mesh
