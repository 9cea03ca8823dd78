"""What nodes that share a mesh keep of their scales, and what of it goes into the mesh."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.scene.arrays import F64, I64, AnyArray, Bool, determinants
from tidy_caravan.core.scene.convention import Convention
from tidy_caravan.core.space.axes import basis

SCALE_TOLERANCE = 1e-6
"""Relative difference below which two residual matrices are the same, and a scale is 1."""
UNIT_FACTORS = np.array([0.001, 0.01, 0.0254, 0.1, 0.3048, 1.0, 3.28083989501, 10.0, 39.3700787402, 100.0, 1000.0])


def to_the_right(convention: Convention) -> tuple[int, F64]:
    """The axis that points right, and the mirror along it: where mirrors go, so that the choice is the same in every
    convention."""
    right = int(np.argmax(np.abs(basis(convention)[:, 0])))
    mirror = np.eye(3)
    mirror[right, right] = -1.0
    return right, mirror


def flattened(residual: F64) -> Bool:
    """(N,) whether a matrix (N, 3, 3) leaves no volume, or holds no numbers: its scale cannot go into vertices."""
    size = np.abs(determinants(residual)) ** (1 / 3)
    out: Bool = ~(size > 1e-9 * np.abs(residual).max(axis=(1, 2))) | ~np.isfinite(size)
    return out


def shared_out(
    mesh: AnyArray, residual: F64, parents: Bool, negative_scale: bool, mirror: F64
) -> tuple[I64, I64, F64, F64, Bool]:
    """Splits the residual K (R, 3, 3) of each part into what its mesh takes (B) and what its node keeps (S): K = S · B.

    mesh: (R,) that each draws. parents: (R,) whether something hangs below it, or it may for another reason keep only what
    scales it evenly. A kind are the users of one mesh with one residual:
    given are (T, 2) mesh and residual of each, (R,) the kind of each part, S and B of each kind (T, 3, 3), and whether its
    mesh has others.
    """
    variants, of_row = distinct(residual)
    keys, kind_of = np.unique(mesh.astype(np.int64) * len(variants) + of_row, return_inverse=True)
    kinds = np.column_stack(np.divmod(keys, max(1, len(variants))))
    users = np.bincount(kind_of, minlength=len(kinds))
    above = np.zeros(len(kinds), np.bool_)
    above[kind_of[parents]] = True
    of_kind = variants[kinds[:, 1]]
    node_part, bake = np.tile(np.eye(3), (len(kinds), 1, 1)), of_kind.copy()
    begin = np.flatnonzero(np.diff(kinds[:, 0], prepend=-1))
    many = np.diff(begin, append=len(kinds)) > 1
    for first, behind in zip(begin[many].tolist(), np.append(begin, len(kinds))[1:][many].tolist(), strict=True):
        here = slice(first, behind)
        node_part[here], bake[here] = divided(of_kind[here], users[here], above[here], negative_scale, mirror)
    bake[np.abs(bake - np.eye(3)).max(axis=(1, 2)) < SCALE_TOLERANCE] = np.eye(3)
    return kinds.astype(np.int64), kind_of, node_part, bake, np.repeat(many, np.diff(begin, append=len(kinds)))


def divided(variants: F64, users: I64, parents: Bool, negative_scale: bool, mirror: F64) -> tuple[F64, F64]:
    """What the nodes keep (K, 3, 3) of the residuals of one mesh with more than one, and what its meshes take."""
    # those that get a mirrored twin have a mesh of their own, and what is common is common among them
    twin = (determinants(variants) < 0) & (not negative_scale)
    as_twin = np.where(twin[:, None, None], variants @ mirror, variants)
    plain, mirrored = (
        common_part(as_twin[twin == side], users[twin == side], parents[twin == side], mirror) for side in (False, True)
    )
    bake = np.where(twin[:, None, None], mirrored @ mirror, plain)
    bake[np.abs(bake - np.eye(3)).max(axis=(1, 2)) < SCALE_TOLERANCE] = np.eye(3)
    node_part = variants @ np.linalg.inv(bake)
    alone = ~on_the_node(node_part, parents)
    bake[alone], node_part[alone] = variants[alone], np.eye(3)
    node_part[np.abs(node_part - np.eye(3)).max(axis=(1, 2)) < SCALE_TOLERANCE] = np.eye(3)
    return node_part, bake


def distinct(matrices: F64) -> tuple[F64, I64]:
    """(V, 3, 3) distinct matrices up to the relative tolerance, and (N,) which one each is."""
    size = np.abs(matrices).max(axis=(1, 2))
    digits = np.floor(np.log10(size)).astype(np.int64)
    step_ = 10.0 ** (digits - 6)
    keys = np.column_stack([np.rint(matrices.reshape(-1, 9) / step_[:, None]).astype(np.int64), digits])
    packed = np.ascontiguousarray(keys).view(np.dtype((np.void, keys.dtype.itemsize * keys.shape[1]))).ravel()
    _, first, inverse = np.unique(packed, return_index=True, return_inverse=True)
    return matrices[first], inverse.astype(np.int64)


def common_part(variants: F64, users: I64, parents: Bool, mirror: F64) -> F64:
    """What all users of a mesh have in common: the one residual, that of the majority, or a usual factor.

    Scales spread around a unit factor by design (strewn stones) keep their spread on the node. What is sheared, or
    stretched above others, gets a mesh of its own and has no say, so that a second time nothing in common is left.
    """
    while True:
        common = shared_factor(variants, users, mirror)
        keep = on_the_node(variants @ np.linalg.inv(common), parents)
        if keep.all() or not keep.any():
            return common if keep.any() else np.eye(3)
        variants, users, parents = variants[keep], users[keep], parents[keep]


def on_the_node(parts: F64, parents: Bool) -> Bool:
    """(K,) True for what (K, 3, 3) a node can keep: scale along its axes, the same along all of them above others."""
    size = np.abs(parts).max(axis=(1, 2))
    diagonal = np.einsum("kii->ki", parts)
    straight = np.abs(parts - diagonal[:, :, None] * np.eye(3)).max(axis=(1, 2)) < SCALE_TOLERANCE * size
    even = np.abs(diagonal - diagonal[:, :1]).max(axis=1) < SCALE_TOLERANCE * size
    out: Bool = straight & (even | ~parents)
    return out


def shared_factor(variants: F64, users: I64, mirror: F64) -> F64:
    """The one residual, that of the majority, nothing where someone is at scale 1, or a usual factor near the middle."""
    best = int(np.argmax(users)) if len(users) else 0
    if len(users) == 1 or (len(users) and users[best] * 2 > users.sum()):
        chosen = variants[best]
        return np.asarray(chosen @ mirror if np.linalg.det(chosen) < 0 and len(users) > 1 else chosen)
    if not len(users) or (np.abs(np.abs(variants) - np.eye(3)).max(axis=(1, 2)) < SCALE_TOLERANCE).any():
        return np.eye(3)
    middle = float(np.median(np.repeat(np.abs(determinants(variants)) ** (1 / 3), users)))
    nearest = float(UNIT_FACTORS[np.argmin(np.abs(np.log(UNIT_FACTORS / middle)))])
    factor = nearest if abs(np.log(nearest / middle)) < np.log(1.75) else middle
    out: F64 = np.eye(3) * factor
    return out
