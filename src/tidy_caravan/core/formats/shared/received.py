"""What a stand-in receiver builds while it walks a document: nodes, meshes and pictures by their key."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from tidy_caravan.core.conventions.destinations import Destination, FormatName
from tidy_caravan.core.formats.shared.affine import affine, doubted
from tidy_caravan.core.scene import (
    HIDDEN,
    Camera,
    Convention,
    Image,
    Light,
    Material,
    Mesh,
    Sampler,
    Scene,
    Texture,
    make_nodes,
)
from tidy_caravan.core.scene.arrays import F64


@dataclass
class Gallery:
    """Textures with their pictures; a picture that cannot be had is one without data."""

    images: list[Image] = field(default_factory=list)
    textures: list[Texture] = field(default_factory=list)

    def add(
        self, data: bytes | None, sampler: Sampler | None = None, name: str = "", said: Any = None, of_image: Any = None
    ) -> int:
        """Number of a new texture over the picture. said, of_image: what is said of the two."""
        self.images.append(Image(name, data=data, extras=of_image))
        self.textures.append(Texture(len(self.images) - 1, sampler, extras=said))
        return len(self.textures) - 1


ODD = "odd"
"""Among the extras of a received scene: by node, what is odd about it, in words that go on after “it”."""
DOUBTS = "doubts"
"""Among them: sentences about what receivers may pass over or take differently."""
PART_OF_TRIANGLE = "part of triangle"
"""Among them: (F,) by triangle of the lump that all parts are in, the number of its part; None where it does not stand."""
POINTS_OF_LUMP = "points of lump"
"""Among them: (V, 3) the points of the lump as they stand in the file, where one place of its own would round what lies far apart."""
OPACITY_IMAGE = "opacity image"
"""Among the extras of a received material whose format asks for it beside the colour: whether an image gives its opacity."""
VALUE = "\0value"
"""Key under which a receiver holds what a file says of a thing where it is no object, as the standard allows (`extras`)."""
FILE_DATA = "file data"
"""Among the extras of a received scene: what its file says of itself as a whole."""
LIGHTMAP_PLACES = "lightmapPlaces"
"""Among the extras of a received scene: by node, scale (2) and offset (2) by which its lightmap coordinates come to their
page, from its top left, and the number of the page."""


@dataclass
class Tree:
    """parent, local (4, 4), names and mesh have one entry per node; meshes with one key are one mesh."""

    parent: list[int] = field(default_factory=list)
    local: list[F64] = field(default_factory=list)
    names: list[str] = field(default_factory=list)
    mesh: list[int] = field(default_factory=list)
    meshes: list[Mesh] = field(default_factory=list)
    mesh_of: dict[str, int] = field(default_factory=dict)
    lights: dict[int, Light] = field(default_factory=dict)
    cameras: dict[int, Camera] = field(default_factory=dict)
    hidden: set[int] = field(default_factory=set)
    said: dict[int, Any] = field(default_factory=dict)

    def add(self, name: str, above: int, matrix: F64) -> int:
        """Row of a new node below `above` (-1: at the top)."""
        self.parent.append(above)
        self.local.append(matrix)
        self.names.append(name)
        self.mesh.append(-1)
        return len(self.parent) - 1

    def shared(self, key: str, make: Callable[[], Mesh]) -> int:
        """Index of the mesh with that key, made when first asked for."""
        if key not in self.mesh_of:
            self.mesh_of[key] = len(self.meshes)
            self.meshes.append(make())
        return self.mesh_of[key]

    def scene(
        self,
        convention: Convention,
        materials: Sequence[Material],
        gallery: Gallery,
        extras: dict[str, Any],
        **more: Any,
    ) -> Scene:
        """The scene of what was added."""
        count = len(self.parent)
        local = np.array(self.local).reshape(count, 4, 4)
        flags = np.zeros(count, np.uint8)
        flags[list(self.hidden)] = HIDDEN
        light, camera = np.full(count, -1), np.full(count, -1)
        light[list(self.lights)] = np.arange(len(self.lights))
        camera[list(self.cameras)] = np.arange(len(self.cameras))
        nodes = make_nodes(
            self.parent,
            affine(local),
            self.names,
            mesh=self.mesh,
            flags=flags,
            light=light,
            camera=camera,
            extras=self.said,
        )
        extras = {**extras, DOUBTS: [*extras.get(DOUBTS, ()), *doubted(local, self.names)]}
        return Scene(
            convention,
            nodes,
            tuple(self.meshes),
            tuple(materials),
            tuple(gallery.textures),
            tuple(gallery.images),
            lights=tuple(self.lights.values()),
            cameras=tuple(self.cameras.values()),
            extras=extras,
            **more,
        )


def received_scene(
    destination: Destination,
    fmt: FormatName,
    names: list[str],
    meshes: list[Mesh],
    materials: list[Material],
    gallery: Gallery,
) -> Scene:
    """A scene of parts in the world, as formats without a tree hold it."""
    count = len(names)
    local = np.tile(np.eye(4), (count, 1, 1)).reshape(-1, 4, 4)
    # numbers far from the origin are kept as the file has them: around a place of their own per part
    near = []
    for k, mesh in enumerate(meshes):
        points = np.asarray(mesh.positions, np.float64)
        local[k, :3, 3] = np.rint(points.mean(axis=0)) if len(points) else 0.0
        near.append(replace(mesh, positions=(points - local[k, :3, 3]).astype(np.float32)))
    nodes = make_nodes(np.full(count, -1), local, names, mesh=np.arange(count))
    return Scene(
        destination.file_convention(fmt),
        nodes,
        tuple(near),
        tuple(materials),
        tuple(gallery.textures),
        tuple(gallery.images),
    )
