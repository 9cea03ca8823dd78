"""What a comparison found: one row per part and the totals. Field names are part of the public JSON."""

from __future__ import annotations

from dataclasses import dataclass

from pydantic import BaseModel, ConfigDict, Field
from pydantic.alias_generators import to_camel


class Camel(BaseModel):
    model_config = ConfigDict(alias_generator=to_camel, populate_by_name=True)


class Worst(Camel):
    """Largest deviation over all parts. size_ratio: ≥ 1, larger extent by smaller one on the worst axis.
    surface_mm: largest distance between corners of triangles that belong together."""

    position_mm: float = 0.0
    size_ratio: float = 1.0
    rotation_deg: float = 0.0
    normal_deg: float = 0.0
    pivot_mm: float = 0.0
    surface_mm: float = 0.0


@dataclass(slots=True)
class PartRow:
    """One part that was compared; source_id is its node in the source, node the one in the package, identity what it
    is called from one version of the source to the next.

    A plain class: a hundred thousand of them are made at once. faults: what is wrong, a word or two each. told: the
    same in sentences: what, how much, which limit. badness: largest deviation in multiples of its tolerance.
    """

    __pydantic_config__ = ConfigDict(alias_generator=to_camel, populate_by_name=True)

    source_id: int
    node: int
    identity: str
    path: str
    position_mm: float
    size_ratio: float
    rotation_deg: float
    normal_deg: float
    pivot_mm: float
    surface_mm: float
    triangles_source: int
    triangles_arrived: int
    faults: list[str]
    told: str
    badness: float


class Tolerances(Camel):
    """Limits of what counts as arrived. position grows with how far a part lies from the origin: half a float32 step
    there; the figure is that of the part farthest out."""

    position_mm: float
    size_ratio: float = 1.0001
    rotation_deg: float = 0.001
    normal_deg: float = 0.1


class ArrivalTotals(Camel):
    """lost: source paths of parts that did not arrive. extra: paths that arrived and nobody sent.
    format_losses: what the format cannot hold; told, not held against the package."""

    ok: bool
    compared: int
    worst: Worst
    tolerances: Tolerances
    lost: list[str]
    extra: list[str]
    faulty: int
    sharing_source: int
    sharing_arrived: int
    problems: list[str]
    format_losses: list[str]
    unproven: list[str] = Field(default_factory=list, description="What an arrival in this format cannot prove")
    declared: list[str] = Field(description="Differences that a step of the route made on purpose")


class ArrivalReport(ArrivalTotals):
    """The totals with one row per part."""

    rows: list[PartRow] = Field(description="Worst first")
