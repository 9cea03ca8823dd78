"""Steps: pure operations of a route. A step module defines its model and registers it by decorator."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Any, ClassVar, NoReturn, Self, TypeVar

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, GetCoreSchemaHandler, PrivateAttr, field_validator, model_serializer
from pydantic.alias_generators import to_camel
from pydantic_core import CoreSchema, core_schema

from tidy_caravan.core.aspects import Effect
from tidy_caravan.core.conventions.destinations import BUILT_IN, Destination
from tidy_caravan.core.errors import BadRoute
from tidy_caravan.core.geometry.lots import Lot, lots_of
from tidy_caravan.core.pace import Tell, alive, nobody, paced
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import AnyArray, Bool
from tidy_caravan.core.scene.scene import with_meshes as with_meshes
from tidy_caravan.core.selection import Assignment, Rule
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.heavy import Done, Outcome, Piece, Work, Workshop
from tidy_caravan.core.work.isolation import Lost
from tidy_caravan.core.work.meshes import arrays_of, remade


class Where(Rule):
    """Which parts a step is for; evaluated against the scene as it is when the step runs.

    Every node when empty. By name and by hand are added up (names or parts); all other conditions narrow that.
    sets: names of sets of the haul; their parts as they were decided when the run began.
    """

    sets: list[str] = Field(default_factory=list, max_length=50)

    def select(self, scene: Scene) -> Bool:
        """(N,) True for the selected nodes, sets left aside."""
        if not (self.names and self.parts):
            return super().select(scene)
        rest = self.model_copy(update={"names": [], "parts": []})
        return Rule.select(rest, scene) & (Rule(names=self.names).select(scene) | Rule(parts=self.parts).select(scene))


class Change(BaseModel):
    """What a step changed: a sentence, how many, and the parts (by their identities) it concerns.

    problem: something that the step could not do.
    """

    model_config = ConfigDict(alias_generator=to_camel, populate_by_name=True)

    text: str
    count: int
    problem: bool = False
    parts: list[str] = Field(default_factory=list)

    @field_validator("parts")
    @classmethod
    def _each_once(cls, parts: list[str]) -> list[str]:
        # pieces of one part have its identity
        return list(dict.fromkeys(parts))


@dataclass
class StepContext:
    """What a step may use beside the scene. progress(done, total) may raise Cancelled."""

    destination: Destination = BUILT_IN[0]
    progress: Callable[[int, int], None] = lambda done, total: None
    workshop: Workshop = field(default_factory=Workshop)
    assignment: Assignment = field(default_factory=Assignment)

    def selected(self, where: Where, scene: Scene) -> Bool:
        """(N,) True for the nodes that a step is for."""
        out = where.select(scene)
        return out & self.assignment.members(scene, where.sets) if where.sets else out


def parameter(
    default: Any,
    title: str,
    help: str,
    unit: str = "",
    pick: str = "",
    only: dict[str, list[Any]] | None = None,
    **limits: Any,
) -> Any:
    """A parameter of a step as its form shows it. unit: of a number, empty for plain counts. pick: x, y or z of a point
    that can be picked in the view, in metres along the axes of the result. only: the values of other parameters with
    which it counts; with others it changes nothing, and forms leave it out. limits: ge, gt, le, lt."""
    extra: dict[str, Any] = {k: v for k, v in (("unit", unit), ("pick", pick), ("only", only)) if v}
    return Field(default=default, title=title, description=help, json_schema_extra=extra or None, **limits)


class Phase(StrEnum):
    """Where on a route a step belongs; the order of the members is that of a route."""

    TRAVEL = "What travels"
    SHAPES = "Shapes"
    TRANSFORMS = "Units and transforms"
    SPLIT = "Split"
    SHARING = "Shared meshes"
    """Before what works on meshes, which is then done once for all copies."""
    COMPOUNDS = "Compounds"
    CLEAN = "Clean geometry"
    FACES = "Faces"
    OVERLAPS = "Overlaps"
    """After faces are turned: what shows its back does not flicker until then."""
    JOINTS = "Joints"
    """After what moves parts about: closed before, gaps would come open again."""
    DENSITY = "Density"
    GEOMETRY = "Normals and pivots"
    COORDINATES = "Texture coordinates"
    COMBINE = "Combine"
    """Before lightmap sets, which the whole needs; after coordinates, which its parts bring along."""
    LIGHT = "Light"
    TREE = "Names and tree"
    LEVELS = "Levels of detail"
    """Last: levels belong to a mesh as it is."""

    @property
    def rank(self) -> int:
        return list(Phase).index(self)


class Step(BaseModel):
    """Base of all steps; `kind` tells them apart in JSON. once: a second one of the kind would have nothing to do."""

    model_config = ConfigDict(
        alias_generator=to_camel,
        populate_by_name=True,
        extra="forbid",
        frozen=True,
        allow_inf_nan=False,
        json_schema_extra=lambda schema: schema.update(required=sorted({*schema.get("required", ()), "kind"})),
    )

    title: ClassVar[str]
    summary: ClassVar[str]
    phase: ClassVar[Phase]
    once: ClassVar[bool] = True
    kind: str
    enabled: bool = True
    where: Where = Field(default_factory=Where)

    @abstractmethod
    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        """A new scene and what changed. Pure."""

    def effects(self) -> tuple[Effect, ...]:
        """What the step may change, with its parameters as they are; whatever is not named here is as it was."""
        return ()

    def reach(self, scene: Scene, context: StepContext) -> Bool:
        """(N,) nodes that the step may change: those it is meant for, unless others share what it changes."""
        return context.selected(self.where, scene)

    def read(self, scene: Scene) -> Scene:
        """The source as its numbers are to be taken: as its files state, or as the step knows better. A second time it
        changes nothing."""
        return scene

    def reading(self) -> dict[str, Any]:
        """Of the parameters, those that `read` goes by; nothing where the source is read as its files say."""
        return {}

    def with_files(self, before: Sequence[str], now: Sequence[str], labels: Mapping[str, str] | None = None) -> Self:
        """The step when the source is of other files than it was, by their labels: what was known of the only one is known of
        that one among several, and the other way round; what was known of one that went goes with it. labels: what those that
        are still there are labelled now."""
        return self

    def as_source(self, scene: Scene, context: StepContext) -> Scene:
        """The source as the arrival is compared with it: steps that only finish the reading give their result."""
        return scene


_steps: dict[str, type[Step]] = {}
S = TypeVar("S", bound=type[Step])


def step(cls: S) -> S:
    """Registers a step class under the default of its `kind`. Raises ValueError for a second one of that kind."""
    kind = str(cls.__pydantic_fields__["kind"].default)
    if kind in _steps:
        raise ValueError(f"there are two kinds of steps called “{kind}”")
    _steps[kind] = cls
    return cls


def known_steps() -> dict[str, type[Step]]:
    """All kinds in the order of a route: by phase, then by name."""
    return dict(sorted(_steps.items(), key=lambda item: (item[1].phase.rank, item[0])))


def parse_step(data: Any, where: str = "step") -> Step:
    """A step from JSON. Raises BadRoute that names the field."""
    if not isinstance(data, dict) or not isinstance(data.get("kind"), str):
        raise BadRoute("is no object with a “kind”", where=where)
    if data["kind"] not in _steps:
        raise BadRoute(f"the kind “{data['kind'][:60]}” is unknown; known are {', '.join(sorted(_steps))}", where=where)
    try:
        return _steps[data["kind"]].model_validate(data)
    except ValueError as error:
        errors: list[dict[str, Any]] = getattr(error, "errors", list)()
        detail = "; ".join(f"{'.'.join(map(str, e['loc']))}: {e['msg']}" for e in errors[:3]) or str(error)
        raise BadRoute(detail, where=f"{where} ({data['kind']})") from error


class UnknownStep(Step):
    """A step of a kind, or with parameters, that this version does not know: kept as it came, and never executed."""

    title = "Unknown step"
    summary = "A step that this version does not know."
    phase = Phase.TREE
    once = False
    _came: dict[str, Any] = PrivateAttr(default_factory=dict)

    @classmethod
    def of(cls, data: dict[str, Any]) -> UnknownStep:
        out = cls(kind=data["kind"], enabled=data.get("enabled") is not False)
        out._came = data
        return out

    @property
    def given(self) -> dict[str, Any]:
        """What it came with, whether it is switched on or not."""
        return {k: v for k, v in self._came.items() if k != "enabled"}

    def refuse(self, where: str = "step") -> NoReturn:
        """Raises BadRoute that says what is wrong with it."""
        parse_step(self._came, where)
        raise BadRoute(f"the kind “{self.kind[:60]}” is unknown", where=where)

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        self.refuse()

    @model_serializer(mode="plain")
    def _as_it_came(self) -> dict[str, Any]:
        return self._came


def kept_step(data: Any) -> Step:
    """A step from JSON; one that cannot be understood is kept as it is. Raises ValueError for what is no step at all."""
    if isinstance(data, Step):
        return data
    try:
        return parse_step(data)
    except BadRoute as error:
        if not isinstance(data, dict) or not isinstance(data.get("kind"), str):
            raise ValueError(error.what) from error
        return UnknownStep.of(data)


class OneOfSteps:
    """Any step, in Pydantic models and their JSON schema: told apart by its kind, all registered kinds named."""

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        every: dict[Any, CoreSchema] = {kind: handler.generate_schema(one) for kind, one in known_steps().items()}
        return core_schema.no_info_wrap_validator_function(
            lambda value, _: kept_step(value),
            core_schema.tagged_union_schema(every, "kind"),
            serialization=core_schema.plain_serializer_function_ser_schema(
                lambda one: one.model_dump(by_alias=True, mode="json")
            ),
        )


def identities_of(scene: Scene, rows: Any) -> list[str]:
    """What nodes are called, without those that a step made; at most a thousand."""
    ids = scene.nodes.source[rows]
    return scene.identities.given(ids[ids >= 0][:1000].tolist())


def per_mesh(scene: Scene, chosen: Bool, make: Callable[[Mesh], Mesh]) -> tuple[Scene, Bool]:
    """The scene with `make` applied once to every mesh that a chosen part uses.

    Parts that share a mesh with a chosen part but are not chosen keep the old one.
    Returns (N,) the parts whose mesh changed.
    """
    nodes = scene.nodes
    rows = np.flatnonzero(chosen & (nodes.mesh >= 0))
    targets = np.unique(nodes.mesh[rows])
    made = [make(scene.meshes[i]) for i in targets.tolist()]
    return replace_meshes(scene, rows, dict(zip(targets.tolist(), made, strict=True)))


@dataclass
class WorkedOn:
    """What came of work on meshes. changed: (N,) parts whose mesh is another now. figures: by old mesh. lost: meshes on
    which it failed, which stay as they are."""

    scene: Scene
    changed: Bool
    figures: dict[int, Mapping[str, Any]]
    lost: list[Change]


def per_mesh_work(
    scene: Scene, chosen: Bool, context: StepContext, work: Work,
    parameters: Mapping[str, Any] | Callable[[int, Mesh], Mapping[str, Any]],
    wanted: Callable[[Mesh], bool] = lambda mesh: True, arrays: Callable[[Mesh], dict[str, AnyArray]] = arrays_of,
    seconds: Callable[[Mesh], float] = lambda mesh: 60.0,
) -> WorkedOn:  # fmt: skip
    """Declared work on every mesh that a chosen part uses: once per content, shared out, with progress and cancel.

    The work gets `arrays` of the mesh and gives back what `remade` takes. Parts that share a mesh with a chosen one
    but are not chosen keep the old one. parameters: of all, or by number and mesh. wanted: meshes that the work is for.
    seconds: processor time that one may take.
    """
    rows = np.flatnonzero(chosen & (scene.nodes.mesh >= 0))
    targets = [i for i in np.unique(scene.nodes.mesh[rows]).tolist() if wanted(scene.meshes[i])]
    meshes = [scene.meshes[i] for i in targets]
    given = [parameters(i, m) if callable(parameters) else parameters for i, m in zip(targets, meshes, strict=True)]
    asked = paced(list(zip(meshes, given, strict=True)), alive(context.progress))
    pieces = [Piece(m.id, arrays(m), p, seconds(m), max(1, m.triangles)) for m, p in asked]
    made: dict[int, Mesh] = {}
    figures: dict[int, Mapping[str, Any]] = {}
    lost: list[Change] = []
    for i, mesh, outcome in zip(targets, meshes, context.workshop.do(work, pieces, context.progress), strict=True):
        if isinstance(outcome, Lost):
            name = mesh.name or mesh.id[:8]
            parts = rows[scene.nodes.mesh[rows] == i]
            text = f"“{name}” stays as it is: {outcome.reason}"
            lost.append(Change(text=text, count=len(parts), problem=True, parts=identities_of(scene, parts)))
            continue
        figures[i] = outcome.figures
        if outcome.arrays:
            made[i] = remade(mesh, outcome.arrays)
    out, changed = replace_meshes(scene, rows, made, context.progress)
    return WorkedOn(out, changed, figures, lost)


def meshes_changed(scene: Scene, out: Scene, changed: Bool, text: str) -> list[Change]:
    """What is said of meshes that a step remade: how many, and of which parts (N,) of the scene before; nothing of none."""
    if not changed.any():
        return []
    rows = np.flatnonzero(changed)
    meshes = len(np.unique(out.nodes.mesh[rows]))
    return [Change(text=f"{plural(meshes, 'mesh', 'meshes')} {text}", count=meshes, parts=identities_of(scene, rows))]


def untouched(
    pieces: Sequence[Piece], sound: Callable[[Lot, list[int]], Bool], figures: Mapping[str, Any]
) -> list[Outcome | None]:
    """For work that asks small meshes together: those of a lot that are sound (M,) stay as they are, with these figures.
    sound gets the lot and which pieces (M) are in it."""
    out: list[Outcome | None] = [None] * len(pieces)
    for rows, lot in lots_of([p.arrays for p in pieces]):
        for k in np.array(rows)[sound(lot, rows)].tolist():
            out[k] = Done({}, figures)
    return out


def replace_meshes(scene: Scene, rows: Any, made: dict[int, Mesh], tell: Tell = nobody) -> tuple[Scene, Bool]:
    """Gives the nodes in rows the new meshes of `made` (by old index), in the place of those that no other node draws; unused
    ones are dropped. With none the scene is the one it was. tell hears how many meshes were looked at."""
    if not made:
        return scene, np.zeros(len(scene.nodes), np.bool_)
    nodes = scene.nodes
    meshes = list(scene.meshes)
    table = np.arange(len(meshes) + 1, dtype=np.int32)
    others = nodes.mesh.copy()
    others[rows] = -1
    shared = np.zeros(len(meshes) + 1, np.bool_)
    shared[others] = True
    swapped = np.zeros(len(meshes) + 1, np.bool_)
    for index, mesh in made.items():
        if mesh is not meshes[index] and shared[index]:
            table[index] = len(meshes)
            meshes.append(mesh)
        elif mesh is not meshes[index]:
            meshes[index], swapped[index] = mesh, True
    column = nodes.mesh.copy()
    column[rows] = table[nodes.mesh[rows]]
    changed: Bool = column != nodes.mesh
    changed[rows] |= swapped[nodes.mesh[rows]]
    return with_meshes(scene, column, meshes, tell), changed
