"""Mesh: geometry that any number of nodes may share; its identity is the hash of its content."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

import numpy as np
import orjson

from tidy_caravan.core.scene.arrays import F32, F64, I32, U32, AnyArray, extremes, frozen
from tidy_caravan.core.scene.provenance import Origin


@dataclass(frozen=True, eq=False)
class Morph:
    """One morph target: offsets per vertex, each (V, 3), missing ones None."""

    positions: F32 | None = None
    normals: F32 | None = None
    tangents: F32 | None = None
    name: str = ""

    def arrays(self) -> tuple[F32 | None, F32 | None, F32 | None]:
        return self.positions, self.normals, self.tangents


@dataclass(frozen=True, eq=False)
class Recipe:
    """What a mesh was made from, so that it can be made again, finer or coarser.

    kind: primitive, tube or subdivision. values: numbers and words of it, and as `under` the map (3 × 3, row by row) that
    what was made has been put under since, such as into another unit. arrays: its points and indices. setting: how fine
    the mesh at hand was made. See geometry/recipes.py.
    """

    kind: str
    values: Mapping[str, Any]
    arrays: Mapping[str, AnyArray] = field(default_factory=dict)
    setting: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True, eq=False)
class Mesh:
    """Triangles with their vertex data. All arrays are read-only.

    positions: (V, 3) in scene units.
    indices: (F, 3) into the vertices, counter-clockwise seen from the front.
    material: (F,) index into the scene's materials, -1 for none; runs of it are sub-meshes.
    normals: (V, 3) unit or None. tangents: (V, 4), w is the bitangent sign, or None.
    uvs: one (V, 2) per channel. colors: one (V, 4) per channel.
    attributes: anything else per vertex (joints, weights, custom), carried through.
    recipe: what the mesh was converted from, if it was; valid as long as the positions are those it gave.
    origin: which triangles of the source these were, where they are not all of one part's, in order.
    """

    positions: F32
    indices: U32
    material: I32
    normals: F32 | None = None
    tangents: F32 | None = None
    uvs: tuple[F32, ...] = ()
    colors: tuple[F32, ...] = ()
    attributes: Mapping[str, AnyArray] = field(default_factory=dict)
    morphs: tuple[Morph, ...] = ()
    morph_weights: tuple[float, ...] = ()
    name: str = ""
    extras: Any = None
    recipe: Recipe | None = None
    origin: Origin | None = None

    def __post_init__(self) -> None:
        for name in ("positions", "indices", "material", "normals", "tangents"):
            value = getattr(self, name)
            if value is not None:
                object.__setattr__(self, name, frozen(value))
        object.__setattr__(self, "uvs", tuple(frozen(u) for u in self.uvs))
        object.__setattr__(self, "colors", tuple(frozen(with_opacity(c)) for c in self.colors))

    @cached_property
    def id(self) -> str:
        """128-bit BLAKE2b of all content except the name, as 32 hex digits."""
        digest = hashlib.blake2b(digest_size=16)
        for label, array in self.arrays():
            digest.update(f"{label}{array.dtype.str}{array.shape}".encode())
            digest.update(np.ascontiguousarray(array).data)
        rest = [self.extras, list(self.morph_weights), [m.name for m in self.morphs]]
        if self.recipe is not None:
            rest += [self.recipe.kind, dict(self.recipe.values), dict(self.recipe.setting)]
        digest.update(orjson.dumps(rest, option=orjson.OPT_SORT_KEYS))
        return digest.hexdigest()

    @cached_property
    def surface_id(self) -> str:
        """128-bit BLAKE2b of positions and triangles alone, for what depends on nothing else."""
        digest = hashlib.blake2b(self.positions.data, digest_size=16)
        digest.update(self.indices.data)
        return digest.hexdigest()

    @cached_property
    def begins(self) -> bytes:
        """How many vertices and triangles, and the first vertices: few meshes agree in it that are not alike."""
        return b"%d %d " % (self.vertices, self.triangles) + self.positions[:4].tobytes()

    @cached_property
    def geometry_id(self) -> str:
        """128-bit BLAKE2b of all but the materials, for what may share its arrays with another look."""
        digest = hashlib.blake2b(digest_size=16)
        for label, array in self.arrays():
            if label != "material" and not label.startswith("origin:"):
                digest.update(f"{label}{array.dtype.str}{array.shape}".encode())
                digest.update(np.ascontiguousarray(array).data)
        return digest.hexdigest()

    def arrays(self) -> list[tuple[str, AnyArray]]:
        """Every array with a label that is unique in the mesh, in a fixed order."""
        out: list[tuple[str, AnyArray]] = [
            ("positions", self.positions),
            ("indices", self.indices),
            ("material", self.material),
        ]
        if self.normals is not None:
            out.append(("normals", self.normals))
        if self.tangents is not None:
            out.append(("tangents", self.tangents))
        out += [(f"uv{i}", u) for i, u in enumerate(self.uvs)]
        out += [(f"color{i}", c) for i, c in enumerate(self.colors)]
        out += [(f"attribute:{k}", v) for k, v in sorted(self.attributes.items())]
        if self.recipe is not None:
            out += [(f"recipe:{k}", v) for k, v in sorted(self.recipe.arrays.items())]
        if self.origin is not None:
            out.append(("origin:triangle", self.origin.triangle))
            if self.origin.member is not None:
                out.append(("origin:member", self.origin.member))
        for i, morph in enumerate(self.morphs):
            for label, array in zip(("positions", "normals", "tangents"), morph.arrays(), strict=True):
                if array is not None:
                    out.append((f"morph{i}:{label}", array))
        return out

    @cached_property  # asked for of a hundred thousand meshes, many times over
    def triangles(self) -> int:
        return len(self.indices)

    @cached_property
    def vertices(self) -> int:
        return len(self.positions)

    @cached_property
    def slots(self) -> tuple[int, ...]:
        """Distinct materials in order of first use."""
        if len(self.material) and (self.material == self.material[0]).all():
            return (int(self.material[0]),)
        values, first = np.unique(self.material, return_index=True)
        return tuple(int(v) for v in values[np.argsort(first)])

    @cached_property
    def bounds(self) -> F64:
        """(2, 3) smallest and largest corner of the vertices that triangles use; zeros if none."""
        if not len(self.indices):
            return np.zeros((2, 3)) if not len(self.positions) else _box(self.positions)
        return _box(self.positions[self.used])

    @cached_property
    def used(self) -> AnyArray:
        """Sorted indices of the vertices that triangles refer to."""
        seen = np.zeros(len(self.positions), dtype=np.bool_)
        seen[self.indices.ravel()] = True
        return np.flatnonzero(seen)

    @cached_property
    def nbytes(self) -> int:
        return sum(array.nbytes for _, array in self.arrays())

    def with_triangles(self, rows: AnyArray) -> Mesh:
        """The mesh with only the triangles `rows` (numbers or a mask); it knows which they were."""
        origin = self.origin or Origin.all_of(self.triangles)
        return replace(
            self, indices=self.indices[rows], material=self.material[rows], recipe=None, origin=origin.taken(rows)
        )

    def with_vertices(self, source: AnyArray, **changes: Any) -> Mesh:
        """The mesh with vertices taken from `source` (V',): every vertex array is gathered."""

        def take(array: AnyArray | None) -> Any:
            return None if array is None else array[source]

        values: dict[str, Any] = {
            "positions": take(self.positions),
            "normals": take(self.normals),
            "tangents": take(self.tangents),
            "uvs": tuple(take(u) for u in self.uvs),
            "colors": tuple(take(c) for c in self.colors),
            "attributes": {k: take(v) for k, v in self.attributes.items()},
            "morphs": tuple(Morph(take(m.positions), take(m.normals), take(m.tangents), m.name) for m in self.morphs),
        }
        return replace(self, **(values | changes))


def with_opacity(colors: F32) -> F32:
    """(V, 4) of colours that may have come without opacity."""
    if colors.ndim != 2 or colors.shape[1] != 3:
        return colors
    out: F32 = np.column_stack([colors, np.ones(len(colors), colors.dtype)])
    return out


def _box(points: F32) -> F64:
    return np.array(extremes(points), dtype=np.float64)
