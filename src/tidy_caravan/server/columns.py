"""The columns of parts, each declared once: table, rows, API and its sorting are made from here.

A new column is one function with `@part_column` in this file, and one entry in the page's columns. It may be missing in
scenes that were stored before it came: then it is `None`.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from tidy_caravan.core.figures import view_map
from tidy_caravan.core.geometry.pose import at_rest
from tidy_caravan.core.scene import HIDDEN, Scene
from tidy_caravan.core.scene.arrays import F64, I32, I64, determinants
from tidy_caravan.core.survey import Finding

MOST_LETTERS = 400


@dataclass(frozen=True)
class PartFacts:
    """What the columns of a scene's parts are computed from; what several need is computed once."""

    scene: Scene
    findings: Sequence[Finding]

    @property
    def parts(self) -> I64:
        return self.scene.nodes.parts

    @cached_property
    def mesh(self) -> I32:
        return self.scene.nodes.mesh[self.parts]

    @cached_property
    def box(self) -> tuple[F64, F64]:
        """(P, 3) smallest and largest corner in metres, Y up."""
        corners = at_rest(self.scene).part_bounds @ view_map(self.scene).T
        return corners.min(axis=1), corners.max(axis=1)

    @cached_property
    def size(self) -> F64:
        return self.box[1] - self.box[0]

    @cached_property
    def middle(self) -> F64:
        return (self.box[0] + self.box[1]) / 2

    @cached_property
    def determinant(self) -> F64:
        out: F64 = determinants(self.scene.nodes.world[self.parts, :3, :3])
        return out

    def of_nodes(self, values: Sequence[str]) -> list[Any]:
        """Of one value per node, those of the parts."""
        return [values[i] for i in self.parts.tolist()]

    def of_meshes(self, values: Sequence[Any]) -> list[Any]:
        """Of one value per mesh, that of each part's mesh."""
        return [values[m] for m in self.mesh.tolist()]


Values = Callable[[PartFacts], Sequence[Any] | np.ndarray[Any, Any]]


@dataclass(frozen=True)
class PartColumn:
    """kind: int, float, str or bool. later: came after the first version, so that older rows hold nothing there."""

    name: str
    kind: type
    values: Values
    later: bool = False

    def of(self, facts: PartFacts) -> list[Any]:
        found = self.values(facts)
        return found.tolist() if isinstance(found, np.ndarray) else list(found)


_columns: dict[str, PartColumn] = {}


def part_column(kind: type, later: bool = True) -> Callable[[Values], Values]:
    """Registers a column under the function's name. Raises ValueError for a second one of that name."""

    def register(values: Values) -> Values:
        name = values.__name__
        if name in _columns:
            raise ValueError(f"there are two columns called “{name}”")
        _columns[name] = PartColumn(name, kind, values, later)
        return values

    return register


def part_columns() -> tuple[PartColumn, ...]:
    """All columns, in the order in which they were declared."""
    return tuple(_columns.values())


@part_column(int, later=False)
def source(f: PartFacts) -> I64:
    return f.scene.nodes.source[f.parts]


@part_column(str, later=False)
def identity(f: PartFacts) -> list[str]:
    """What the part is called from one version of its files to the next; of a part that a step made, nothing."""
    names = f.scene.identities.names
    return [names[i] if 0 <= i < len(names) else "" for i in source(f).tolist()]  # type: ignore[union-attr]


@part_column(str, later=False)
def name(f: PartFacts) -> list[str]:
    return f.of_nodes(f.scene.nodes.names)


@part_column(str, later=False)
def path(f: PartFacts) -> list[str]:
    return f.of_nodes(f.scene.nodes.paths)


@part_column(str, later=False)
def layer(f: PartFacts) -> list[str]:
    layers = (*f.scene.layers, "")
    return [layers[i] for i in f.scene.nodes.layer[f.parts].tolist()]


@part_column(int, later=False)
def mesh(f: PartFacts) -> I32:
    return f.mesh


@part_column(str, later=False)
def mesh_name(f: PartFacts) -> list[str]:
    return f.of_meshes([m.name for m in f.scene.meshes])


@part_column(int, later=False)
def instances(f: PartFacts) -> I64:
    return f.scene.instance_counts[f.mesh]


@part_column(int, later=False)
def triangles(f: PartFacts) -> list[int]:
    return f.of_meshes([m.triangles for m in f.scene.meshes])


@part_column(int, later=False)
def vertices(f: PartFacts) -> list[int]:
    return f.of_meshes([m.vertices for m in f.scene.meshes])


@part_column(int, later=False)
def materials(f: PartFacts) -> list[int]:
    return f.of_meshes([len(m.slots) for m in f.scene.meshes])


@part_column(str, later=False)
def material_names(f: PartFacts) -> list[str]:
    names = (*(m.name for m in f.scene.materials), "none")
    return f.of_meshes([", ".join(names[s] for s in m.slots)[:MOST_LETTERS] for m in f.scene.meshes])


@part_column(int, later=False)
def uv_sets(f: PartFacts) -> list[int]:
    return f.of_meshes([len(m.uvs) for m in f.scene.meshes])


@part_column(float, later=False)
def scale(f: PartFacts) -> F64:
    """Of the node in the world, the same in all directions."""
    out: F64 = np.abs(f.determinant) ** (1 / 3)
    return out


@part_column(bool, later=False)
def mirrored(f: PartFacts) -> np.ndarray[Any, Any]:
    return f.determinant < 0


@part_column(bool, later=False)
def hidden(f: PartFacts) -> np.ndarray[Any, Any]:
    return (f.scene.nodes.flags[f.parts] & HIDDEN) > 0


@part_column(float, later=False)
def size_x(f: PartFacts) -> F64:
    return f.size[:, 0]


@part_column(float, later=False)
def size_y(f: PartFacts) -> F64:
    return f.size[:, 1]


@part_column(float, later=False)
def size_z(f: PartFacts) -> F64:
    return f.size[:, 2]


@part_column(float, later=False)
def x(f: PartFacts) -> F64:
    return f.middle[:, 0]


@part_column(float, later=False)
def y(f: PartFacts) -> F64:
    return f.middle[:, 1]


@part_column(float, later=False)
def z(f: PartFacts) -> F64:
    return f.middle[:, 2]


@part_column(int, later=False)
def findings(f: PartFacts) -> I64:
    """Those that are more than information."""
    hits: I64 = np.zeros(len(f.scene.nodes), np.int64)
    for one in f.findings:
        if one.severity != "info":
            hits[one.parts] += 1
    return hits[f.parts]
