"""Skins and morph targets of parts: delivered as packed, whether or not anything moves them. Where something does, the
comparison of surfaces at rest and of clips sees the rest."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.arrival.data import listed
from tidy_caravan.core.formats.abilities import Ability
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, I64, Bool
from tidy_caravan.core.words import plural

WEIGHT_LIMIT = 0.01
"""Vertices' worth of weight by which the share of a joint in a mesh may differ, per vertex of it: bytes hold no more."""


def pose_problems(result: Scene, arrived: Scene, middle: I64, end: I64, ability: Ability, limits: F64) -> list[str]:
    """One sentence for each part (nodes `middle` and `end`) whose skin or morph targets are others. limits: (K,) mm."""
    if not ability.poses:
        return []
    out = []
    metre = arrived.convention.metres_per_unit / result.convention.metres_per_unit
    rows = np.flatnonzero(bends(result)[middle] | bends(arrived)[end])
    for k, i, j in zip(rows.tolist(), middle[rows].tolist(), end[rows].tolist(), strict=True):
        sent, found = result.meshes[result.nodes.mesh[i]], arrived.meshes[arrived.nodes.mesh[j]]
        path = result.nodes.paths[i]
        if told := skin_apart(result, arrived, i, j):
            out.append(f"“{path}”: {told}")
        if len(sent.morphs) != len(found.morphs):
            out.append(f"“{path}”: {len(found.morphs)} of {plural(len(sent.morphs), 'morph target')} arrived")
            continue
        for number, (a, b) in enumerate(zip(sent.morphs, found.morphs, strict=True)):
            if a.name != b.name:
                out.append(f"“{path}”: morph target {number} is called “{b.name}” instead of “{a.name}”")
            apart = (
                abs(farthest(a.positions) - farthest(b.positions) * metre) * result.convention.metres_per_unit * 1000
            )
            if not apart <= limits[k]:
                out.append(
                    f"“{path}”: morph target {number} moves {apart:.3g} mm more or less, limit {limits[k]:.3g} mm"
                )
    return listed(out)


def bends(scene: Scene) -> Bool:
    """(N,) nodes that a skin moves or whose mesh has morph targets."""
    shaped = np.array([bool(m.morphs) for m in scene.meshes] + [False])
    out: Bool = shaped[scene.nodes.mesh] | (scene.nodes.skin >= 0)
    return out


def farthest(offsets: F64 | None) -> float:
    """How far a target moves a vertex at most, which does not hang on their order."""
    return 0.0 if offsets is None else float(np.linalg.norm(offsets, axis=1).max(initial=0.0))


def skin_apart(result: Scene, arrived: Scene, i: int, j: int) -> str:
    """What is another about the skin of a part; empty when nothing is."""
    skins = [s.skins[s.nodes.skin[n]] if s.nodes.skin[n] >= 0 else None for s, n in ((result, i), (arrived, j))]
    shares = [
        share_of_joints(s.meshes[s.nodes.mesh[n]], 0 if skin is None else len(skin.joints))
        for s, n, skin in zip((result, arrived), (i, j), skins, strict=True)
    ]
    if not shares[0].any():
        return "it has a skin that nobody sent" if shares[1].any() else ""
    if skins[1] is None or not shares[1].any():
        return "its skin did not arrive"
    if len(shares[0]) != len(shares[1]):
        return f"its skin has {len(shares[1])} joints instead of {len(shares[0])}"
    vertices = len(result.meshes[result.nodes.mesh[i]].used)
    if float(np.abs(shares[0] - shares[1]).max()) > WEIGHT_LIMIT * max(1, vertices):
        return "its vertices hang on other joints"
    return ""


def share_of_joints(mesh: Mesh, joints: int) -> F64:
    """(J,) weight of all used vertices on each joint, each vertex's made one."""
    total = np.zeros(joints)
    sets = [(f"JOINTS_{k}", f"WEIGHTS_{k}") for k in range(4) if f"JOINTS_{k}" in mesh.attributes]
    if not joints or not sets or any(w not in mesh.attributes for _, w in sets):
        return total
    used = mesh.used
    joint = np.concatenate([mesh.attributes[j][used] for j, _ in sets], axis=1).astype(np.int64)
    raw = [mesh.attributes[w][used] for _, w in sets]
    weight = np.concatenate(
        [w.astype(np.float64) / (np.iinfo(w.dtype).max if w.dtype.kind == "u" else 1.0) for w in raw], axis=1
    )
    weight /= np.maximum(weight.sum(axis=1, keepdims=True), 1e-12)
    inside = (joint >= 0) & (joint < joints)
    total += np.bincount(joint[inside], weights=weight[inside], minlength=joints)
    return total
