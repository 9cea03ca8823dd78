"""Content surfaces of a scene: which parts show an image, by which materials, and how those that stand alike share a mesh."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from tidy_caravan.core.geometry.content import Stance, Unrolled, largest_face, unrolled
from tidy_caravan.core.geometry.pieces import by_face
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, I64, determinants
from tidy_caravan.core.scene.look import Material, TextureUse, channel_of
from tidy_caravan.core.space.axes import axis_vector

ALIKE = 1e-5
"""Part of its size by which parts may stand differently and still count as standing alike."""


@dataclass(frozen=True)
class Content:
    """A mesh as some parts show it. users: (U,) nodes. linear: (3, 3) from it to metres in the world. slots: its materials
    that show the image; places, aspects, pixels: of each what its texture does to coordinates (2, 3), its width by its
    height, and both in pixels, noughts where there is no telling."""

    mesh: int
    users: I64
    linear: F64
    slots: tuple[int, ...]
    places: tuple[F64, ...]
    aspects: tuple[float, ...]
    pixels: tuple[tuple[int, int], ...]


def contents_of(scene: Scene, rows: I64, material: str = "", pixels: tuple[int, int] = (0, 0)) -> list[Content]:
    """What the nodes of `rows` show, once for those that share a mesh and stand alike. material: only what is of that name.
    pixels: of the image, where it is not the material's own. Without any image it is the whole mesh."""
    nodes, metres = scene.nodes, scene.convention.metres_per_unit
    up = axis_vector(scene.convention.up)
    kinds, which = scene.slot_kinds
    shown = [slots_of(scene, slots, material) for slots in kinds]
    some = np.array([bool(slots) for slots in shown], np.bool_)[which] & (scene.triangle_counts > 0)
    rows = rows[some[nodes.mesh[rows]]]
    sizes: dict[int, tuple[int, int]] = {}  # the header of an image is read once for all that show it
    out = []
    for users in standing_alike(scene, rows, up):
        mesh = int(nodes.mesh[users[0]])
        slots = shown[int(which[mesh])]
        uses = [main_use(scene.materials[s]) if 0 <= s < len(scene.materials) else None for s in slots]
        for s, use in zip(slots, uses, strict=True):
            if s not in sizes:
                sizes[s] = pixels if pixels[0] and pixels[1] else pixels_of(scene, use)
        every = tuple(sizes[s] for s in slots)
        aspects = tuple(w / h if w and h else 0.0 for w, h in every)
        linear = nodes.world[users[0], :3, :3] * metres
        out.append(Content(mesh, users, linear, slots, tuple(placed(use) for use in uses), aspects, every))
    return out


def standing_alike(scene: Scene, rows: I64, up: F64) -> list[I64]:
    """The nodes in groups: those that share a mesh and look the same to who stands before them, but for their place and
    heading. O(R log R)."""
    if not len(rows):
        return []
    linear = scene.nodes.world[rows, :3, :3]
    size = np.abs(linear).max(axis=(1, 2))
    size[size == 0] = 1.0
    unit = linear / size[:, None, None]
    form = (np.swapaxes(unit, 1, 2) @ unit).reshape(-1, 9)
    seen = np.rint(np.column_stack([form, np.swapaxes(unit, 1, 2) @ up, np.log(size)]) / ALIKE) + 0.0
    keys = np.column_stack([scene.nodes.mesh[rows], determinants(linear) < 0, seen])
    _, first, group = np.unique(keys, axis=0, return_index=True, return_inverse=True)
    order = np.lexsort((rows, first[group.reshape(-1)]))
    ends = np.flatnonzero(np.diff(first[group.reshape(-1)][order])) + 1
    return np.split(rows[order], ends)


def slots_of(scene: Scene, slots: tuple[int, ...], material: str) -> tuple[int, ...]:
    """The materials of a mesh that show the image: those of that name, else those with an image; else, where there is none at
    all, every one. None where an image is read from another set than the first. Triangles may name materials that the scene
    does not have: those are as if they named none."""
    looks = [(s, scene.materials[s]) for s in slots if 0 <= s < len(scene.materials)]
    if material:
        looks = [(s, look) for s, look in looks if look.name == material]
    chosen = tuple(s for s, look in looks if main_use(look))
    if chosen or any(look.uses() for _, look in looks):
        return chosen
    return tuple(s for s, _ in looks) if material else slots


def main_use(material: Material) -> TextureUse | None:
    """The image that a material shows by the first UV set: of its colour, else of what glows."""
    for use in (material.base_color_texture, material.emissive_texture):
        if use is not None and channel_of(use) == 0:
            return use
    return None


def placed(use: TextureUse | None) -> F64:
    """(2, 3) what a texture's own offset, turn and scale make of coordinates (KHR_texture_transform); as they are where that
    shows one point alone."""
    if use is None or not use.scale[0] * use.scale[1]:
        return np.eye(2, 3)
    c, s = np.cos(use.rotation), np.sin(use.rotation)
    return np.column_stack([np.array([[c, s], [-s, c]]) * use.scale, use.offset])


def pixels_of(scene: Scene, use: TextureUse | None) -> tuple[int, int]:
    """Width and height of the image, noughts where it cannot be told."""
    image = scene.textures[use.texture].image if use is not None and 0 <= use.texture < len(scene.textures) else -1
    data = scene.images[image].data if 0 <= image < len(scene.images) else None
    return picture_size(data) if data is not None else (0, 0)


def picture_size(data: bytes) -> tuple[int, int]:
    """Width and height in pixels from the header, zeros when unreadable."""
    from PIL import Image as Picture

    try:
        with Picture.open(io.BytesIO(data)) as picture:
            return picture.size
    except Exception:  # any damage in a picture's header: the size is simply unknown
        return 0, 0


def stance_in(scene: Scene) -> Stance:
    """How one stands in a scene's world."""
    convention = scene.convention
    hand = 1.0 if convention.handedness == "right" else -1.0
    return Stance(axis_vector(convention.up), axis_vector(convention.forward), hand)


def own_corners(mesh: Mesh, linear: F64, rows: I64) -> F64:
    """(R, 3, 3) corners of triangles where they are drawn, apart from the place, a mirrored part's as it shows them."""
    corners: F64 = (mesh.positions.astype(np.float64) @ linear.T)[mesh.indices[rows]]
    return corners[:, ::-1] if np.linalg.det(linear) < 0 else corners


def surface_in(mesh: Mesh, linear: F64, stance: Stance, slots: Sequence[int]) -> tuple[I64, Unrolled] | None:
    """(R,) the triangles that show the image, and them unrolled, corners in the order of the mesh. Where all of what the
    materials cover is no such surface it is its largest flat face; None where there is none."""
    rows = np.flatnonzero(np.isin(mesh.material, list(slots)))
    corners = own_corners(mesh, linear, rows)
    finite = np.isfinite(corners).all(axis=(1, 2))
    rows, corners = rows[finite], corners[finite]
    if not len(rows):
        return None
    found = unrolled(corners, stance)
    if found is None:
        less = Mesh(mesh.positions, mesh.indices[rows], mesh.material[rows])
        some = largest_face(corners, by_face(less), stance.up)
        rows, corners = rows[some], corners[some]
        found = unrolled(corners, stance) if len(rows) else None
    if found is None:
        return None
    if np.linalg.det(linear) < 0:
        found = Unrolled(found.points[:, ::-1], found.size, found.bent)
    return rows, found
