"""What the manifest says of parts against what arrived: scripts of the other side go by it."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.arrival.data import listed
from tidy_caravan.core.formats.abilities import Ability
from tidy_caravan.core.manifest import Manifest
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, I64, Bool

TURN_LIMIT = 1e-4
"""Part of the largest entry of a part's rotation and scale by which one in the manifest may differ: files hold float32."""


def manifest_problems(
    manifest: Manifest, result: Scene, arrived: Scene, middle: I64, end: I64, ability: Ability, limits: F64
) -> list[str]:
    """One sentence for each part (nodes `middle` as packed, `end` as arrived) of which the manifest says another place,
    number of triangles or UV sets, or size of lightmap. limits: (K,) mm."""
    nodes = result.nodes
    if len(manifest.parts) != len(nodes.parts):
        return [f"the manifest has {len(manifest.parts)} parts, and {len(nodes.parts)} were packed"]
    row = np.full(len(nodes), -1, np.int64)
    row[nodes.parts] = np.arange(len(nodes.parts))
    said = [manifest.parts[k] for k in row[middle].tolist()]
    if not said or not ability.parts:
        return []
    meshes = arrived.nodes.mesh[end]
    triangles = np.array([m.triangles for m in arrived.meshes])[meshes]
    sets = np.array([len(m.uvs) for m in arrived.meshes])[meshes]
    wrong: dict[int, str] = {}

    def tell(odd: Bool, stated: list[int], found: list[int], what: str) -> None:
        for k in np.flatnonzero(odd).tolist():
            wrong.setdefault(k, f"{stated[k]} {what}, and there are {found[k]}")

    stated = [p.triangles for p in said]
    tell(np.array(stated) != triangles, stated, triangles.tolist(), "triangles")
    if ability.uv_sets > 1:
        stated = [p.uv_sets for p in said]
        # a material that samples a set that a mesh has not gets an empty one in some formats
        real = np.array([last_of(m) for m in arrived.meshes])[meshes]
        odd = (np.array(stated) > sets) | (np.array(stated) < real)
        tell(odd, stated, sets.tolist(), "UV sets")
    maps = nodes.lightmap[middle]
    own = np.array([p.lightmap or (0, 0) for p in said])
    for k in np.flatnonzero((own != maps).any(axis=1)).tolist():
        wrong.setdefault(
            k, f"a lightmap of {own[k, 0]} × {own[k, 1]} texels, and it was made for {maps[k, 0]} × {maps[k, 1]}"
        )
    if ability.tree and ability.pivots:
        held = np.array([p.transform for p in said], np.float64).reshape(-1, 4, 4).transpose(0, 2, 1)
        found = arrived.nodes.world[end]
        metre = arrived.convention.metres_per_unit
        far = np.linalg.norm(held[:, :3, 3] - found[:, :3, 3], axis=1) * metre * 1000
        turned = np.abs(held[:, :3, :3] - found[:, :3, :3]).max(axis=(1, 2))
        size = np.abs(found[:, :3, :3]).max(axis=(1, 2))
        for k in np.flatnonzero(~(far <= limits) | ~(turned <= TURN_LIMIT * size)).tolist():
            wrong.setdefault(
                k, f"a place {far[k]:.3g} mm away from where it arrived, or turned, limit {limits[k]:.3g} mm"
            )
    out = [f"the manifest says of “{said[k].path}”: {told}" for k, told in sorted(wrong.items())]
    return listed(out)


def last_of(mesh: Mesh) -> int:
    """How many UV sets of a mesh count, the last of which is not the same everywhere."""
    return max((k + 1 for k, uv in enumerate(mesh.uvs) if float(np.ptp(uv, axis=0).max(initial=0.0)) > 0), default=0)
