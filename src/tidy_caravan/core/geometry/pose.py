"""Where skinned and morphed vertices are drawn: the pose of a scene baked into its meshes.

A skinned mesh is placed by its joints and not by its node (glTF 2.0, 3.7.3.3): a vertex v stands at
Σ wᵢ · world(jointᵢ) · inverseBindᵢ · v. Morph targets are added before that (3.7.2.2).
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from tidy_caravan.core.scene import Mesh, Scene, Skin
from tidy_caravan.core.scene.arrays import F32, F64, AnyArray, Bool, stored32
from tidy_caravan.core.scene.keeping import kept
from tidy_caravan.core.space.convert import cofactors
from tidy_caravan.core.space.transforms import affine_inverse

CHUNK = 1 << 16
"""Vertices skinned at once; bounds the working memory to some tens of MiB."""
FLAT = 1e-9
"""A node whose determinant is below this part of its largest entry cubed has no inverse to speak of."""


@kept
def at_rest(scene: Scene) -> Scene:
    """The scene as it is drawn without its clips: every skin and every morph weight baked. O(skinned vertices).

    The scene itself, unchanged, when it has neither.
    """
    nodes = scene.nodes
    held = (nodes.skin >= 0) & (nodes.mesh >= 0)
    bent = np.array([bool(m.morphs) for m in scene.meshes] + [False])[nodes.mesh]
    return baked(scene, held, bent)[0] if held.any() or bent.any() else scene


def bent_at_rest(scene: Scene) -> Bool:
    """(N,) parts whose vertices bones or weighted morph targets draw elsewhere than they are stored."""
    nodes = scene.nodes
    weighed = np.array([bool(m.morphs) and any(m.morph_weights) for m in scene.meshes] + [False])
    out: Bool = (nodes.mesh >= 0) & ((nodes.skin >= 0) | weighed[nodes.mesh])
    return out


def baked(scene: Scene, skins: Bool, morphs: Bool) -> tuple[Scene, Bool]:
    """Skins of the nodes in `skins` (N,) and morph targets of those in `morphs` (N,) baked into meshes.

    Nodes stay where they are: the mesh takes what its joints do, seen from its node. Nodes on one mesh that are
    drawn alike go on sharing it. Returns also (N,) the nodes whose skin could not be baked, because their own
    matrix flattens everything and something hangs below them.
    """
    nodes = scene.nodes
    skins, morphs = skins & (nodes.mesh >= 0) & (nodes.skin >= 0), morphs & (nodes.mesh >= 0)
    world = nodes.world
    local = nodes.local.copy()
    column, skin = nodes.mesh.copy(), nodes.skin.copy()
    meshes = list(scene.meshes)
    stuck = np.zeros(len(nodes), np.bool_)
    joints = {int(k): joint_matrices(scene, scene.skins[k]) for k in np.unique(nodes.skin[skins])}
    plain: dict[int, Mesh] = {}
    made: dict[tuple[int, bytes], int] = {}
    for i in np.flatnonzero(skins | morphs).tolist():
        number = int(nodes.mesh[i])
        key: tuple[int, bytes] = (number, b"")
        to_local = np.eye(4)
        if skins[i]:
            linear = world[i, :3, :3]
            if not abs(np.linalg.det(linear)) > FLAT * float(np.abs(linear).max()) ** 3:
                above = world[nodes.parent[i]] if nodes.parent[i] >= 0 else np.eye(4)
                if (
                    nodes.children_count[i]
                    or not abs(np.linalg.det(above[:3, :3])) > FLAT * np.abs(above[:3, :3]).max() ** 3
                ):
                    stuck[i] = True
                    continue
                local[i] = affine_inverse(above[None])[0]
            else:
                to_local = affine_inverse(world[i][None])[0]
            key = (number, bytes([int(morphs[i])]) + int(nodes.skin[i]).to_bytes(4, "little") + to_local.tobytes())
        if key not in made:
            mesh = meshes[number]
            if morphs[i] and mesh.morphs:
                mesh = plain[number] = plain.get(number) or morphed(mesh)
            if skins[i]:
                mesh = skinned(mesh, to_local @ joints[int(nodes.skin[i])])
            made[key] = len(meshes)
            meshes.append(mesh)
        column[i] = made[key]
        if skins[i]:
            skin[i] = -1
    table = np.full(len(meshes) + 1, -1, np.int32)
    used = np.unique(column[column >= 0])
    table[used] = np.arange(len(used), dtype=np.int32)
    out = scene.but(
        nodes=replace(nodes, local=local, mesh=table[column], skin=skin),
        meshes=tuple(meshes[i] for i in used.tolist()),
    )
    return out, stuck


@kept
def drawn_worlds(scene: Scene) -> F64:
    """(N, 4, 4) world matrices by which nodes draw their mesh: their own, and of skinned ones, whose own says nothing, that of
    the joint that scales as most do."""
    nodes = scene.nodes
    held = np.flatnonzero((nodes.skin >= 0) & (nodes.mesh >= 0))
    if not len(held):
        return nodes.world
    out = nodes.world.copy()
    for k in np.unique(nodes.skin[held]).tolist():
        joints = joint_matrices(scene, scene.skins[k])
        if len(joints):
            size = np.abs(np.linalg.det(joints[:, :3, :3]))
            out[held[nodes.skin[held] == k]] = joints[np.argsort(size, kind="stable")[(len(size) - 1) // 2]]
    return out


def joint_matrices(scene: Scene, skin: Skin) -> F64:
    """(J, 4, 4) world matrix of each joint times its inverse bind matrix."""
    world = scene.nodes.world[list(skin.joints)].reshape(-1, 4, 4)
    return world if skin.inverse_bind is None else world @ skin.inverse_bind


def morphed(mesh: Mesh) -> Mesh:
    """The mesh with its targets added at their weights, and neither of them any more."""
    weights = np.zeros(len(mesh.morphs))
    given = mesh.morph_weights[: len(weights)]
    weights[: len(given)] = given

    def add(base: F32 | None, label: str) -> F32 | None:
        if base is None:
            return None
        total: F64 = base.astype(np.float64)
        touched = False
        for weight, morph in zip(weights.tolist(), mesh.morphs, strict=True):
            offset = getattr(morph, label)
            if weight and offset is not None:
                total[:, :3] += weight * offset.astype(np.float64)
                touched = True
        if not touched:
            return base
        if label != "positions":
            length = np.linalg.norm(total[:, :3], axis=1, keepdims=True)
            total[:, :3] /= np.where(length > 0, length, 1.0)
        return stored32(total)

    positions = add(mesh.positions, "positions")
    return replace(
        mesh,
        positions=mesh.positions if positions is None else positions,
        normals=add(mesh.normals, "normals"),
        tangents=add(mesh.tangents, "tangents"),
        morphs=(),
        morph_weights=(),
    )


def skinned(mesh: Mesh, matrices: F64) -> Mesh:
    """The mesh under its joints, (J, 4, 4) matrices into the space wanted, and no joints any more.

    Weights are brought to a sum of 1; a vertex without any follows the first joint it names. Where the matrices
    mirror more vertices than not, the winding is turned, so that fronts stay fronts.
    """
    joints, weights = influences(mesh, len(matrices))
    if not joints.size or not len(matrices):
        return without_joints(mesh)
    positions = np.empty((mesh.vertices, 3))
    normals = None if mesh.normals is None else np.empty((mesh.vertices, 3))
    tangents = None if mesh.tangents is None else mesh.tangents.astype(np.float64)
    turned = np.empty(mesh.vertices, np.bool_)
    for begin in range(0, mesh.vertices, CHUNK):
        rows = slice(begin, begin + CHUNK)
        positions[rows], linear = blended(
            mesh.positions[rows].astype(np.float64), matrices, joints[rows], weights[rows]
        )
        cofactor = cofactors(linear)
        turned[rows] = np.einsum("vi,vi->v", linear[:, :, 0], cofactor[:, :, 0]) < 0
        sign = np.where(turned[rows], -1.0, 1.0)[:, None]
        if normals is not None and mesh.normals is not None:
            normals[rows] = _length_kept(mesh.normals[rows], cofactor) * sign
        if tangents is not None and mesh.tangents is not None:
            tangents[rows, :3] = _length_kept(mesh.tangents[rows, :3], linear)
            tangents[rows, 3:] *= sign
    flip = bool(turned[mesh.used].mean() > 0.5) if mesh.triangles else False
    return replace(
        without_joints(mesh),
        positions=stored32(positions),
        indices=mesh.indices[:, [0, 2, 1]] if flip else mesh.indices,
        normals=None if normals is None else stored32(normals),
        tangents=None if tangents is None else stored32(tangents),
        recipe=None,
    )


def blended(points: F64, matrices: F64, joints: AnyArray, weights: F64) -> tuple[F64, F64]:
    """(V, 3) points under their joints' matrices (J, 4, 4), and the (V, 3, 3) linear part at each of them.

    joints (V, K) and weights (V, K) with a sum of 1.
    """
    moved, linear = np.empty((len(points), 3)), np.empty((len(points), 3, 3))
    for begin in range(0, len(points), CHUNK):
        rows = slice(begin, begin + CHUNK)
        mixed = np.einsum("vk,vkij->vij", weights[rows], matrices[joints[rows], :3])
        linear[rows] = mixed[:, :, :3]
        moved[rows] = np.einsum("vij,vj->vi", linear[rows], points[rows]) + mixed[:, :, 3]
    return moved, linear


def influences(mesh: Mesh, count: int) -> tuple[AnyArray, F64]:
    """(V, K) joints and their weights with a sum of 1, all sets side by side; joints that do not exist weigh nothing."""
    sets = [k for k in range(16) if f"JOINTS_{k}" in mesh.attributes and f"WEIGHTS_{k}" in mesh.attributes]
    if not sets:
        return np.zeros((mesh.vertices, 0), np.int64), np.zeros((mesh.vertices, 0))
    joints = np.column_stack([mesh.attributes[f"JOINTS_{k}"] for k in sets]).astype(np.int64)
    weights = np.column_stack([mesh.attributes[f"WEIGHTS_{k}"] for k in sets]).astype(np.float64)
    weights = np.where((joints < count) & (weights > 0), weights, 0.0)
    joints = np.minimum(joints, max(0, count - 1))
    total = weights.sum(axis=1)
    weights[total == 0, 0] = 1.0
    return joints, weights / np.where(total == 0, 1.0, total)[:, None]


def without_joints(mesh: Mesh) -> Mesh:
    """The mesh without joints and weights."""
    kept = {k: v for k, v in mesh.attributes.items() if not k.startswith(("JOINTS_", "WEIGHTS_"))}
    return mesh if len(kept) == len(mesh.attributes) else replace(mesh, attributes=kept)


def _length_kept(vectors: F32, maps: F64) -> F64:
    """Directions (V, 3) under maps (V, 3, 3), each with the length it had."""
    wide = vectors.astype(np.float64)
    moved = np.einsum("vij,vj->vi", maps, wide)
    length = np.linalg.norm(moved, axis=1)
    ratio = np.where(length > 0, np.linalg.norm(wide, axis=1) / np.where(length > 0, length, 1.0), 0.0)
    out: F64 = moved * ratio[:, None]
    return out
