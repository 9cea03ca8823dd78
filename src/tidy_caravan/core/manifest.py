"""The manifest: what a package holds, for people and scripts. Its JSON Schema is published in docs/."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field
from pydantic.alias_generators import to_camel

from tidy_caravan.core.conventions.destinations import Destination, FormatName, World
from tidy_caravan.core.figures import Counts
from tidy_caravan.core.selection import PartSet, Treatment

MANIFEST_VERSION = 1


class Camel(BaseModel):
    model_config = ConfigDict(alias_generator=to_camel, populate_by_name=True, extra="forbid")


class PackedFile(Camel):
    path: str
    bytes: int
    sha256: str


class LightmapPlace(Camel):
    """Where a lightmap lies on a page that several parts share: coordinates on the page = own · scale + offset, with v
    downwards as in glTF."""

    page: int
    width: int = Field(description="Of the page, in texels")
    height: int
    scale: tuple[float, float]
    offset: tuple[float, float]


class PackedPart(Camel):
    """One part. node: its number in the file. transform: world matrix, 16 numbers column by column, in
    the file's unit and axes."""

    source_id: int = Field(description="Number of the node in the source, -1 when a step made it")
    sources: list[int] = Field(
        default_factory=list, description="All nodes of the source that it was made of, where that is not the one"
    )
    identity: str = Field(default="", description="What it is called from one version of the source to the next")
    source_path: str
    path: str
    name: str
    node: int
    mesh: str = Field(description="Hash of the mesh content; equal means shared")
    transform: list[float]
    materials: list[str]
    triangles: int
    uv_sets: int
    lightmap: tuple[int, int] | None = Field(default=None, description="Width and height of its lightmap in texels")
    lightmap_page: LightmapPlace | None = Field(default=None, description="Where its lightmap lies on a shared page")
    layer: str = ""
    set: str = Field(default="", description="Name of the set that decides the treatment")
    treatment: Treatment | None = None
    data: Any = Field(default=None, description="What the source says of the part: class, type, storey, size")


class TravelLine(Camel):
    kind: str
    verdict: Literal["travels", "converted", "behind"]
    count: int
    into: str = ""
    tolerance: str = ""
    why: str = ""


class PackedChange(Camel):
    step: str
    text: str
    count: int
    problem: bool = False


class PackedCheck(Camel):
    code: str
    severity: str
    count: int
    text: str


class PackedLevel(Camel):
    """A level of detail: a file with the same tree, names and places, and coarser meshes."""

    level: int = Field(description="1 is the finest beside the whole")
    main_file: str
    meshes: int = Field(description="Meshes that are coarser than in the level before it")
    triangles: int = Field(description="Drawn, over all parts")
    error_mm: float = Field(description="How far a surface comes away from the whole one, at most")


class Manifest(Camel):
    manifest_version: int = MANIFEST_VERSION
    tool: str
    tool_version: str
    format: FormatName
    flat: bool = Field(default=False, description="The format holds parts placed in the world, no tree, no sharing")
    main_file: str
    files: list[PackedFile]
    source_name: str
    source_sha256: str
    source_convention: World = Field(description="Unit and axes the source was read in")
    file_convention: World = Field(description="Unit and axes of the numbers in the files")
    destination: Destination
    lightmap_channel: int
    counts: Counts
    route: list[dict[str, Any]]
    sets: list[PartSet] = Field(default_factory=list, description="Saved selections in order of precedence")
    travel: list[TravelLine] = Field(
        default_factory=list, description="What becomes of each kind of thing in the source"
    )
    georeference: dict[str, Any] | None = Field(
        default=None, description="Where the source says it lies, and the offset taken off"
    )
    changes: list[PackedChange]
    renamed: dict[str, str] = Field(description="New names by source id")
    renamed_materials: dict[str, str] = Field(
        default_factory=dict, description="New names by old ones, where the format forced them"
    )
    dropped: list[int] = Field(description="Source ids of nodes that steps removed")
    behind: list[str] = Field(description="What stayed behind, converted or guessed while reading")
    remarks: list[str] = Field(description="What writing had to put right, or had to write differently")
    losses: list[str] = Field(default_factory=list, description="What the format cannot hold, and so was left out")
    unproven: list[str] = Field(default_factory=list, description="What an arrival in this format cannot prove")
    checks: list[PackedCheck]
    levels: list[PackedLevel] = Field(default_factory=list, description="Levels of detail, the finest first")
    parts: list[PackedPart]
