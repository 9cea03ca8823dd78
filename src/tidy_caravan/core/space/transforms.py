"""Affine matrices taken apart: translation, rotation, scale, mirror, shear. Vectorized over N."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.scene.arrays import F64, Bool, determinants

EVEN = 1e-9
"""Relative difference of squared lengths below which a matrix is all but a turn and a scale; its square is rounding."""
TINY = 1e-280
"""Squared length below which numbers lose digits of their own."""
SHEAR_TOLERANCE = 1e-6
"""Largest cosine between columns of a matrix that still counts as translation-rotation-scale."""


def polar(linear: F64, mirror_axis: int = 0) -> tuple[F64, F64]:
    """(N, 3, 3) -> rotation R (N, 3, 3), residual K (N, 3, 3) with linear = R · K and det R = +1.

    A mirror is always put on one axis of K, so that equal shapes get equal K: K = S · D with S symmetric
    and D the mirror of `mirror_axis`. Polar decomposition by SVD (Higham, 1986), of what is all but a turn and a scale by
    one step of Newton and Schulz (Higham, Functions of Matrices, 2008, 8.3). Singular input gives some rotation.
    """
    upright = linear.copy()
    upright[determinants(linear) < 0, :, mirror_axis] *= -1.0
    gram = upright.transpose(0, 2, 1) @ upright
    square = np.trace(gram, axis1=1, axis2=2) / 3
    even = np.abs(gram - square[:, None, None] * np.eye(3)).max(axis=(1, 2)) <= EVEN * square
    even &= square > TINY
    # most are; a single step leaves the square of what is uneven
    rotation = np.empty_like(upright)
    some = upright[even] / np.sqrt(square[even])[:, None, None]
    rotation[even] = some @ (1.5 * np.eye(3) - gram[even] / (2 * square[even])[:, None, None])
    u, _, vt = np.linalg.svd(upright[~even])
    sign = np.sign(determinants(u @ vt))
    sign[sign == 0] = 1.0
    u[:, :, 2] *= sign[:, None]
    rotation[~even] = u @ vt
    return rotation, rotation.transpose(0, 2, 1) @ linear


def split_trs(matrices: F64) -> tuple[F64, F64, F64, Bool]:
    """(N, 4, 4) -> translation (N, 3), quaternion xyzw (N, 4), scale (N, 3), sheared (N,).

    A mirror shows as a negative X scale. Where `sheared`, no such triple exists.
    """
    linear = matrices[:, :3, :3]
    scale = np.linalg.norm(linear, axis=1)
    scale[determinants(linear) < 0, 0] *= -1.0
    rotation = linear / np.where(scale == 0, 1.0, scale)[:, None, :]
    return matrices[:, :3, 3], quaternions(rotation), scale, skewed(rotation)


def sheared_ones(matrices: F64) -> Bool:
    """(N,) of (N, 4, 4) those that no translation, rotation and scale say."""
    scale = np.linalg.norm(matrices[:, :3, :3], axis=1)
    return skewed(matrices[:, :3, :3] / np.where(scale == 0, 1.0, scale)[:, None, :])


def skewed(rotation: F64) -> Bool:
    """(N,) whether axes of length one (N, 3, 3) do not stand on each other."""
    gram = rotation.transpose(0, 2, 1) @ rotation
    out: Bool = ~(np.abs(gram - np.eye(3)).max(axis=(1, 2)) <= SHEAR_TOLERANCE)
    return out


def skew(linear: F64) -> F64:
    """(N,) degrees by which the axes of matrices (N, 3, 3) are off right angles, at worst."""
    length = np.linalg.norm(linear, axis=1)
    unit = linear / np.where(length == 0, 1.0, length)[:, None, :]
    gram = np.abs(unit.transpose(0, 2, 1) @ unit)
    out: F64 = np.degrees(np.arcsin(np.clip(gram[:, (0, 0, 1), (1, 2, 2)].max(axis=1), 0.0, 1.0)))
    return out


def quaternions(rotation: F64) -> F64:
    """(N, 3, 3) rotations -> (N, 4) unit quaternions xyzw, w ≥ 0 (Shepperd, 1978)."""
    m = rotation
    d = np.stack([m[:, 0, 0], m[:, 1, 1], m[:, 2, 2]], axis=1)
    trace = d.sum(axis=1)
    choice = np.argmax(np.column_stack([d, trace]), axis=1)
    q = np.zeros((len(m), 4))
    for k in range(3):
        rows = choice == k
        i, j = (k + 1) % 3, (k + 2) % 3
        q[rows, k] = 1 + 2 * d[rows, k] - trace[rows]
        q[rows, i] = m[rows, i, k] + m[rows, k, i]
        q[rows, j] = m[rows, j, k] + m[rows, k, j]
        q[rows, 3] = m[rows, j, i] - m[rows, i, j]
    rows = choice == 3
    q[rows, 3] = 1 + trace[rows]
    q[rows, 0] = m[rows, 2, 1] - m[rows, 1, 2]
    q[rows, 1] = m[rows, 0, 2] - m[rows, 2, 0]
    q[rows, 2] = m[rows, 1, 0] - m[rows, 0, 1]
    norm = np.linalg.norm(q, axis=1)
    bad = ~(norm > 1e-12)
    q[bad] = (0, 0, 0, 1)
    norm[bad] = 1.0
    q /= norm[:, None]
    q[q[:, 3] < 0] *= -1.0
    return q + 0.0


def compose(translation: F64, quaternion: F64, scale: F64) -> F64:
    """(N, 3), (N, 4) xyzw, (N, 3) -> (N, 4, 4). Quaternions are normalized first; zero ones are identity."""
    norm = np.linalg.norm(quaternion, axis=1)
    safe = np.where(norm > 1e-12, norm, 1.0)
    x, y, z, w = (quaternion / safe[:, None]).T
    w = np.where(norm > 1e-12, w, 1.0)
    out = np.zeros((len(translation), 4, 4))
    out[:, 0, 0] = 1 - 2 * (y * y + z * z)
    out[:, 0, 1] = 2 * (x * y - z * w)
    out[:, 0, 2] = 2 * (x * z + y * w)
    out[:, 1, 0] = 2 * (x * y + z * w)
    out[:, 1, 1] = 1 - 2 * (x * x + z * z)
    out[:, 1, 2] = 2 * (y * z - x * w)
    out[:, 2, 0] = 2 * (x * z - y * w)
    out[:, 2, 1] = 2 * (y * z + x * w)
    out[:, 2, 2] = 1 - 2 * (x * x + y * y)
    out[:, :3, :3] *= scale[:, None, :]
    out[:, :3, 3] = translation
    out[:, 3, 3] = 1.0
    return out


def affine_inverse(matrices: F64) -> F64:
    """(N, 4, 4) inverses of affine matrices; singular linear parts use the pseudo-inverse."""
    linear = matrices[:, :3, :3]
    determinant = np.linalg.det(linear)  # nought where the inverse would be refused
    good = np.abs(determinant) > 0
    inverse = np.empty_like(linear)
    inverse[good] = np.linalg.inv(linear[good])
    if not good.all():
        inverse[~good] = np.linalg.pinv(linear[~good])
    out = np.zeros_like(matrices)
    out[:, :3, :3] = inverse
    out[:, :3, 3] = -(inverse @ matrices[:, :3, 3, None])[:, :, 0]
    out[:, 3, 3] = 1.0
    return out


def angle_deg(a: F64, b: F64) -> F64:
    """(N, 3, 3) rotations -> (N,) angle between them in degrees; exact near 0 and near 180."""
    relative = a.transpose(0, 2, 1) @ b
    sine = (
        np.linalg.norm(
            np.stack(
                [
                    relative[:, 2, 1] - relative[:, 1, 2],
                    relative[:, 0, 2] - relative[:, 2, 0],
                    relative[:, 1, 0] - relative[:, 0, 1],
                ],
                axis=1,
            ),
            axis=1,
        )
        / 2
    )
    cosine = (np.trace(relative, axis1=1, axis2=2) - 1) / 2
    out: F64 = np.degrees(np.arctan2(sine, cosine))
    return out
