"""Shapes of requests and answers; the front end's types are generated from them."""

from __future__ import annotations

import uuid
from datetime import datetime
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, computed_field, create_model, field_validator
from pydantic.alias_generators import to_camel

from tidy_caravan.core.arrival.report import ArrivalTotals
from tidy_caravan.core.conventions.destinations import Destination
from tidy_caravan.core.conventions.evidence import Candidate
from tidy_caravan.core.conventions.yardstick import Answers
from tidy_caravan.core.figures import Counts
from tidy_caravan.core.route import Route, StepRecord
from tidy_caravan.core.scene import GLTF, Convention
from tidy_caravan.core.scene.arrays import F64
from tidy_caravan.core.selection import MOST_IDS, Identity, PartSet, Rule, Treatment
from tidy_caravan.core.space.axes import linear_map
from tidy_caravan.core.steps import AnyStep
from tidy_caravan.core.steps.make_shapes import Shape
from tidy_caravan.core.survey.effects import Effect, effect_of
from tidy_caravan.server.columns import part_columns

JobKind = Literal["import", "supply", "run", "pack", "arrive", "preview"]
JobState = Literal["waiting", "running", "done", "failed", "cancelled"]


class Camel(BaseModel):
    model_config = ConfigDict(
        alias_generator=to_camel, populate_by_name=True, from_attributes=True, allow_inf_nan=False
    )


class ProblemOut(Camel):
    """RFC 9457."""

    type: str
    status: int
    code: str
    title: str
    where: str


class PreviewRequest(Camel):
    """A step of kind make_shapes."""

    step: AnyStep


class JobProblem(Camel):
    code: str
    title: str
    where: str = ""


class JobOut(Camel):
    id: uuid.UUID
    haul_id: uuid.UUID
    kind: JobKind
    state: JobState
    title: str
    done: int
    total: int
    problem: JobProblem | None


class ConventionOut(Camel):
    metres_per_unit: float
    up: str
    forward: str
    handedness: str
    declared: bool
    label: str

    def to_view(self) -> F64:
        """(3, 3) from numbers in this convention to metres, Y up, as the view has them."""
        mine = Convention(self.metres_per_unit, self.up, self.forward, self.handedness)  # type: ignore[arg-type]
        return linear_map(mine, GLTF)


class Bounds(Camel):
    min: tuple[float, float, float]
    max: tuple[float, float, float]


class NoteOut(Camel):
    kind: str
    code: str
    where: str
    text: str


class TravelOut(Camel):
    """One line of the travel list: what becomes of all things of a kind."""

    kind: str
    verdict: Literal["travels", "converted", "behind"]
    count: int
    into: str = ""
    tolerance: str = ""
    why: str = ""


class FileUnitOut(Camel):
    """What one of several files says of its unit and axes, and what speaks for which."""

    file: str
    convention: ConventionOut
    units: list[Candidate]


class SceneOut(Camel):
    id: uuid.UUID
    haul_id: uuid.UUID
    kind: Literal["source", "run", "arrived"]
    counts: Counts
    bounds: Bounds
    convention: ConventionOut
    notes: list[NoteOut]
    travel: list[TravelOut]
    units: list[Candidate]
    files: list[FileUnitOut] = Field(description="Each of several files by itself; empty for a single one")

    @computed_field  # type: ignore[prop-decorator]
    @property
    def axes(self) -> list[list[float]]:
        """Rows that bring a place as the view has it (metres, Y up) to metres along the scene's own axes."""
        back = np.linalg.inv(self.convention.to_view()) * self.convention.metres_per_unit
        rows: list[list[float]] = np.round(back, 9).tolist()
        return rows


class RevisionOut(Camel):
    id: uuid.UUID
    scene_id: uuid.UUID
    name: str
    sha256: str
    created: datetime
    files: list[str] = Field(description="Paths of the files that it was read from")

    @field_validator("files", mode="before")
    @classmethod
    def paths(cls, kept: Any) -> Any:
        """Of [path, key in the store] the paths."""
        return [f[0] if isinstance(f, list | tuple) else f for f in kept]


class RunOut(Camel):
    """stale: route or destination were changed since. read_scene_id: the source as the route reads it,
    which differs from the source as it stands when the file's unit or axes are wrong."""

    id: uuid.UUID
    revision_id: uuid.UUID
    scene_id: uuid.UUID
    read_scene_id: uuid.UUID
    records: list[StepRecord]
    seconds: float
    created: datetime
    stale: bool


class FileOut(Camel):
    path: str
    bytes: int


class PackageOut(Camel):
    id: uuid.UUID
    format: str
    files: list[FileOut]
    remarks: list[str]
    behind: list[str]
    created: datetime


class ArrivalOut(Camel):
    id: uuid.UUID
    scene_id: uuid.UUID
    report: ArrivalTotals
    created: datetime


class Open(Camel):
    """What is open at each station of the trail: number of things, and in words."""

    load: int
    survey: int
    mend: int
    light: int
    pack: int
    arrive: int
    state: str


class HaulSummary(Camel):
    id: uuid.UUID
    name: str
    version: int
    source_name: str
    destination_title: str
    created: datetime
    deleted: datetime | None = Field(description="When it was deleted, while it can be restored")
    counts: Counts | None
    picture: str | None
    open: Open
    job: JobOut | None


class HaulsPage(Camel):
    """total: of all hauls that fit the search."""

    total: int
    items: list[HaulSummary]


class Changes(Camel):
    undo: str = Field(description="What an undo would take back; empty where there is nothing")
    redo: str = Field(description="What was undone and can be done again; empty where there is nothing")


class HaulOut(Changes):
    id: uuid.UUID
    name: str
    version: int
    source_name: str
    created: datetime
    destination: Destination
    route: Route
    revision: RevisionOut | None
    source: SceneOut | None
    reading: str = Field(
        description="Stands for how the route reads the source; empty where that is as its files say. Calls about the "
        "source take it as `read`"
    )
    run: RunOut | None
    result: SceneOut | None
    package: PackageOut | None
    arrival: ArrivalOut | None
    open: Open
    job: JobOut | None


class HaulEdit(Camel):
    """Fields that are left out stay as they are."""

    model_config = ConfigDict(alias_generator=to_camel, populate_by_name=True, extra="forbid")

    name: str | None = Field(default=None, min_length=1, max_length=200)
    destination: str | None = Field(default=None, description="Name of a destination")
    route: Route | None = None


class SetList(Camel):
    sets: list[PartSet] = Field(max_length=200)


class ShapesOut(Camel):
    """triangles, then: drawn by all of them, now and as a step would make them."""

    items: list[Shape]
    total: int
    triangles: int
    then: int


class HabitOut(Camel):
    name: str
    title: str


class AnswerRequest(Camel):
    destination: str
    format: str = Field(max_length=8)
    habit: str


class ReadRequest(Camel):
    destination: str
    format: str = Field(max_length=8)
    answers: Answers


class FormatOut(Camel):
    """A format that can be written. flat: neither tree nor sharing."""

    name: str
    title: str
    flat: bool


class PackRequest(Camel):
    format: str = Field(default="glb", max_length=8, description="Name of a format that can be written")


if TYPE_CHECKING:

    class PartOut(Camel):
        """One part: its node and all declared columns."""

        node: int

else:
    PartOut = create_model(
        "PartOut",
        __base__=Camel,
        node=(int, ...),
        **{c.name: (c.kind | None if c.later else c.kind, ...) for c in part_columns()},
    )


class PartsNamed(Camel):
    """Parts asked for by their identities; gone: those that the scene does not have."""

    items: list[PartOut]
    gone: list[str]


class PartNames(Camel):
    parts: list[Identity] = Field(max_length=MOST_IDS)


class PartsPage(Camel):
    total: int
    items: list[PartOut]


class MeshOut(Camel):
    mesh: int
    name: str
    instances: int
    triangles: int
    vertices: int
    materials: int
    material_names: str
    uv_sets: int
    triangles_drawn: int
    draw_calls: int


class MeshesPage(Camel):
    total: int
    items: list[MeshOut]


class GroupOut(Camel):
    """below: the tree has further levels under it."""

    name: str
    parts: int
    meshes: int
    triangles: int
    draw_calls: int
    draw_calls_instanced: int
    findings: int
    below: bool


class GroupsPage(Camel):
    total: int
    items: list[GroupOut]


class MaterialOut(Camel):
    """triangles: of this material over all parts. textures: roles that have a picture; missing: those whose
    picture was not found."""

    material: int
    name: str
    parts: int
    meshes: int
    triangles: int
    textures: list[str]
    missing: list[str]
    base_color: tuple[float, float, float, float]
    double_sided: bool
    alpha: str


class MaterialsPage(Camel):
    total: int
    items: list[MaterialOut]


class Picked(Camel):
    """sources: ids in the source. min, max: corners in metres, Y up."""

    sources: list[int]
    min: list[float] = Field(min_length=3, max_length=3)
    max: list[float] = Field(min_length=3, max_length=3)


class SetProposal(Camel):
    """A set that a finding proposes: by rules, or of the parts that it names."""

    name: str
    rules: list[Rule] = Field(default_factory=list)
    added: list[Identity] = Field(default_factory=list)
    treatment: Treatment


class MendOut(Camel):
    """What would put a finding right: a step, of whose parameters only the `given` matter, or a set."""

    step: AnyStep | None = None
    given: list[str] = Field(default_factory=list)
    set: SetProposal | None = None


class ProposedOut(Camel):
    """A step that the survey of the source proposes, of whose parameters only the `given` matter, and why."""

    step: AnyStep
    given: list[str]
    title: str
    phase: str
    rank: int
    reasons: list[str]
    guess: bool


class FindingOut(Camel):
    id: uuid.UUID
    scene_id: uuid.UUID
    code: str
    severity: Literal["error", "warning", "info"]
    title: str
    text: str
    count: int
    value: float | None
    limit: float | None
    unit: str
    guess: bool
    mend: MendOut | None
    part_count: int
    place_count: int = 0
    left: str = ""
    left_parts: int = 0

    @computed_field  # type: ignore[prop-decorator]
    @property
    def effect(self) -> Effect:
        """What it does to the artist."""
        return effect_of(self.code)

    @field_validator("mend", mode="before")
    @classmethod
    def _as_kept(cls, data: Any) -> Any:
        """The row's JSON: a step with some of its parameters, or what makes a set, with the kind `set`."""
        if not isinstance(data, dict) or "kind" not in data:
            return data
        if data["kind"] == "set":
            return {"set": {k: v for k, v in data.items() if k != "kind"}}
        return {"step": data, "given": [k for k in data if k != "kind"]}


class PlaceOut(Camel):
    """One place of a finding. lines: each x, y, z of one end and of the other, in metres with Y up, as the view has them;
    none where the parts as a whole are the place. sources: their ids in the source. centre, size: where to look."""

    sources: list[int]
    names: list[str]
    identities: list[str]
    lines: list[list[float]]
    value: float | None
    unit: str
    text: str
    centre: list[float]
    size: float


class ArrivalRowOut(Camel):
    rank: int
    source_id: int
    node: int
    identity: str
    path: str
    name: str = Field(description="Of the part as packed, slashes and all; empty where it has none")
    position_mm: float
    size_ratio: float
    rotation_deg: float
    normal_deg: float
    pivot_mm: float
    surface_mm: float
    triangles_source: int
    triangles_arrived: int
    faults: str
    told: str


class ArrivalPage(Camel):
    total: int
    items: list[ArrivalRowOut]


class StepKind(Camel):
    """A kind of step with its parameters as JSON Schema."""

    kind: str
    title: str
    summary: str
    phase: str = Field(description="Where on a route it belongs, in words")
    rank: int = Field(description="Place of the phase among the phases")
    once: bool = Field(description="A second one would have nothing to do")
    parameters: dict[str, Any]
    defaults: AnyStep


class CheckKind(Camel):
    name: str
    family: str
    title: str


class Health(Camel):
    ok: bool
    version: str
    endings: list[str]
    upload_bytes: int
    most_files: int = Field(description="Files that one upload may hold")
    workers: int = Field(description="Workers that can take work now")
    trouble: str = Field(description="What is wrong, in one sentence; empty when nothing is")
