"""What checks look at: the scene, and facts about its meshes that are found out once per content, and shared."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np

from tidy_caravan.core.conventions.destinations import Destination
from tidy_caravan.core.geometry.lots import Lot, lots_of
from tidy_caravan.core.geometry.vertices import not_finite
from tidy_caravan.core.pace import Tell, alive, paced
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import AnyArray, Bool
from tidy_caravan.core.surroundings.world import pinned
from tidy_caravan.core.survey.columns import Columns
from tidy_caravan.core.work.heavy import Done, Piece, Work, Workshop, keys_of
from tidy_caravan.core.work.meshes import arrays_of, whole_mesh_of, whole_of


@dataclass(frozen=True)
class MeshFact:
    """Something to know about a mesh by itself. measure: the mesh -> a number, or a list of them.

    version: counted up whenever `measure` gives something else than before. raw: of the mesh as it is; the others do
    not see triangles whose corners are no numbers. surface: it looks at positions and triangles alone, and holds for
    every mesh that has the same. many: the same of meshes that are asked together; true of the ordinary ones among them, and
    None of those that have to be asked by themselves. Without it `measure` is asked of each.
    """

    name: str
    version: int
    measure: Callable[[Mesh], Any]
    raw: bool = False
    surface: bool = False
    many: Callable[[Lot], Sequence[Any]] | None = None


_facts: dict[str, MeshFact] = {}


def mesh_fact(
    name: str,
    measure: Callable[[Mesh], Any],
    version: int = 1,
    raw: bool = False,
    surface: bool = False,
    many: Callable[[Lot], Sequence[Any]] | None = None,
) -> MeshFact:
    """Declares a fact. Raises ValueError for a second one of that name."""
    if name in _facts:
        raise ValueError(f"there are two facts called “{name}”")
    _facts[name] = MeshFact(name, version, measure, raw, surface, many)
    return _facts[name]


def none_of(lot: Lot) -> Sequence[int]:
    """Noughts: how many faults of its surface an ordinary mesh has."""
    return [0] * len(lot)


def known_facts() -> dict[str, MeshFact]:
    """All declared facts by name."""
    return dict(_facts)


WORK = Work(
    "mesh facts", 4, "tidy_caravan.core.survey.context:measure_mesh", native=False, figures_only=True,
    together="tidy_caravan.core.survey.context:measure_many",
)  # fmt: skip
SURFACES = Work("surface facts", 3, "", native=False, figures_only=True)
"""Those facts of a mesh that hold for every mesh with its surface."""


def measure_mesh(
    arrays: Mapping[str, AnyArray], facts: Mapping[str, int]
) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work: all named facts of one mesh; what several of them need is derived once."""
    import tidy_caravan.core.survey  # noqa: F401  the checks declare their facts

    mesh = whole_mesh_of(arrays)
    bad = not_finite(mesh)
    sound = mesh.with_triangles(~bad) if bad.any() else mesh
    return {}, {name: _facts[name].measure(mesh if _facts[name].raw else sound) for name in facts}


def measure_many(pieces: Sequence[Piece]) -> list[Done | None]:
    """Work: the same of many small meshes at once, None of those that are out of the ordinary."""
    import tidy_caravan.core.survey  # noqa: F401  the checks declare their facts

    out: list[Done | None] = [None] * len(pieces)
    wanted: Mapping[str, int] = pieces[0].parameters["facts"]
    told = {name: many for name in wanted if (many := _facts[name].many) is not None}
    alone = {name: wanted[name] for name in wanted if name not in told}
    for rows, lot in lots_of([p.arrays for p in pieces]):
        found = [many(lot) for many in told.values()]
        for k, ordinary, *values in zip(rows, lot.ordinary.tolist(), *found, strict=True):
            if ordinary and None not in values and pieces[k].parameters["facts"] == wanted:
                rest = measure_mesh(pieces[k].arrays, alone)[1] if alone else {}
                out[k] = Done({}, {**dict(zip(told, values, strict=True)), **rest})
    return out


@dataclass
class Context:
    """A scene under survey. tell(done, total) hears about the meshes and may raise Cancelled.

    unknown: by mesh, why something about it could not be found out; checks pass over it, and it is told. pinned: (N,) as of
    `surroundings.world.pinned`, which a scene at rest says no more.
    """

    scene: Scene
    destination: Destination
    workshop: Workshop = field(default_factory=Workshop)
    tell: Tell = lambda done, total: None
    unknown: dict[int, str] = field(default_factory=dict)
    pinned: Bool = field(default_factory=lambda: np.zeros(0, np.bool_))

    def __post_init__(self) -> None:
        if len(self.pinned) != len(self.scene.nodes):
            self.pinned = pinned(self.scene)

    def each(self, fact: MeshFact) -> list[Any]:
        """The fact of every mesh, None for meshes that no part uses and for those it is not known of."""
        return self._columns.told(fact.name)

    def numbers(self, fact: MeshFact) -> AnyArray:
        """(M,) a fact that is a number; 0 where there is none."""
        return self._columns.numbers(fact.name)

    @cached_property
    def _columns(self) -> Columns:
        scene, last = self.scene, self.workshop.last
        versions = {name: f.version for name, f in sorted(_facts.items())}
        name = f"facts {versions}"
        out = Columns.of(scene.meshes, scene.instance_counts > 0, last.get(name))
        for i, figures in self._asked(out.unasked, versions).items():
            out.every[i] = figures
        if self.workshop.keeps:
            last[name] = out
        return out

    def _asked(self, used: list[int], versions: dict[str, int]) -> dict[int, dict[str, Any]]:
        """All facts of some meshes, by mesh, from what is kept of them where there is something."""
        surface = {name: v for name, v in versions.items() if _facts[name].surface}
        rest = {name: v for name, v in versions.items() if not _facts[name].surface}
        # a mesh whose surface is known, and only its normals or coordinates are new, is asked about those alone
        results, meshes = self.workshop.results, self.scene.meshes
        asked, of_surface = {"facts": versions}, {"facts": surface}
        pieces = [Piece(meshes[i].id, {}, asked) for i in paced(used, alive(self.tell))]
        keys = dict(zip(used, keys_of(WORK, pieces), strict=True))
        known = results.find(WORK, list(dict.fromkeys(keys.values())))
        found = {i: dict(done.figures) for i in used if isinstance(done := known.get(keys[i]), Done)}
        missing = [i for i in used if i not in found]
        surfaces = [Piece(meshes[i].surface_id, {}, of_surface) for i in missing]
        by_surface = dict(zip(missing, keys_of(SURFACES, surfaces), strict=True))
        half = results.find(SURFACES, list(dict.fromkeys(by_surface.values())))
        some = [i for i in missing if isinstance(half.get(by_surface[i]), Done)]
        chosen = set(some)
        found |= self.measured(WORK, [i for i in missing if i not in chosen], whole_of, facts=versions)
        for i, figures in self.measured(WORK, some, whole_of, facts=rest).items():
            before = half[by_surface[i]]
            assert isinstance(before, Done)
            found[i] = {**before.figures, **figures}
        results.keep(WORK, {keys[i]: Done({}, found[i]) for i in some if i in found})
        told = {by_surface[i]: i for i in missing if i in found and i not in chosen}
        results.keep(SURFACES, {key: Done({}, {n: found[i][n] for n in surface}) for key, i in told.items()})
        return found

    def measured(
        self,
        work: Work,
        meshes: Sequence[int],
        arrays: Callable[[Mesh], dict[str, AnyArray]] = arrays_of,
        **parameters: Any,
    ) -> dict[int, dict[str, Any]]:
        """Figures of work on some meshes, by mesh; meshes that the work failed on are left out, and in `unknown`.

        arrays: what of a mesh the work looks at; less is less to send.
        """
        chosen = [self.scene.meshes[i] for i in meshes]
        pieces = [Piece(m.id, arrays(m), parameters, size=max(1, m.triangles)) for m in chosen]
        out: dict[int, dict[str, Any]] = {}
        for i, mesh, outcome in zip(meshes, chosen, self.workshop.do(work, pieces, self.tell), strict=True):
            if isinstance(outcome, Done):
                out[i] = dict(outcome.figures)
            else:
                self.unknown[i] = f"“{mesh.name or mesh.id[:8]}”: {outcome.reason}"
        return out
