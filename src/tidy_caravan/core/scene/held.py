"""What several meshes have alike is held once: the arrays of one shape with two looks."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence

import numpy as np

from tidy_caravan.core.scene.arrays import I64
from tidy_caravan.core.scene.keeping import kept
from tidy_caravan.core.scene.mesh import Mesh
from tidy_caravan.core.scene.scene import Scene


def geometries(meshes: Sequence[Mesh]) -> I64:
    """(M,) the first of the meshes that has the same arrays but for its materials: files hold them once."""
    alike: dict[bytes, list[int]] = defaultdict(list)
    for i, mesh in enumerate(meshes):
        alike[mesh.begins].append(i)
    out = np.arange(len(meshes))
    for rows in alike.values():
        first: dict[str, int] = {}
        for i in rows if len(rows) > 1 else ():
            out[i] = first.setdefault(meshes[i].geometry_id, i)
    return out


@kept
def shapes(scene: Scene) -> I64:
    """(M,) the same of all meshes of a scene."""
    return geometries(scene.meshes)


def parted_alike(meshes: Sequence[Mesh]) -> I64:
    """(M,) the first of the meshes that has the same arrays and whose materials part the triangles into the same groups, in
    the same order, so that a file's geometry can be drawn with the materials of either; those without any stay without."""
    out = geometries(meshes)
    size = np.bincount(out, minlength=len(meshes))
    first: dict[tuple[int, tuple[bool, ...], bytes], int] = {}
    for i in np.flatnonzero(size[out] > 1).tolist():
        mesh = meshes[i]
        # each triangle's place among the slots, which are in the order of their first use
        place = np.argsort(mesh.slots)[np.searchsorted(np.sort(mesh.slots), mesh.material)]
        out[i] = first.setdefault((int(out[i]), tuple(s >= 0 for s in mesh.slots), place.astype(np.int32).tobytes()), i)
    return out


def held_bytes(meshes: Sequence[Mesh]) -> int:
    """Bytes of meshes, arrays that several have once."""
    return sum(meshes[i].nbytes for i in np.unique(geometries(meshes)).tolist())
