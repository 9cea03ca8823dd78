"""Destinations: what the receiving side calls one unit, up and forward, and what its importers do."""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator
from pydantic.alias_generators import to_camel

from tidy_caravan.core.errors import CaravanError, UnusableInput
from tidy_caravan.core.scene.convention import GLTF, Axis, Convention, Handedness
from tidy_caravan.core.space.axes import basis

FormatName = Annotated[str, Field(pattern=r"^[a-z0-9]{2,8}$")]
"""Short name of a format, as it is registered; it is also the ending of the main file."""


class CamelModel(BaseModel):
    """Written and read in camelCase, as all JSON of this application."""

    model_config = ConfigDict(
        alias_generator=to_camel, populate_by_name=True, extra="forbid", frozen=True, allow_inf_nan=False
    )


class World(CamelModel):
    """Unit and axes of the receiving world; see Convention."""

    metres_per_unit: float = Field(gt=0, lt=1e6, description="Length of one unit in metres")
    up: Axis
    forward: Axis
    handedness: Handedness

    @model_validator(mode="after")
    def _axes_differ(self) -> World:
        try:
            basis(self.convention())
        except CaravanError as error:
            raise ValueError(error.what) from error
        return self

    def convention(self) -> Convention:
        return Convention(self.metres_per_unit, self.up, self.forward, self.handedness)


class Proof(CamelModel):
    """What a yardstick told: the day (ISO 8601), one sentence, the factor and where it ended."""

    date: str = Field(max_length=40)
    sentence: str = Field(max_length=400)
    factor: float
    factor_in: Literal["vertices", "node scale", "nowhere"] = "vertices"


class ImporterHabit(CamelModel):
    """What the receiver's importer for one format assumes.

    numbers: `as-they-stand` takes the file's numbers for its own units and axes; `by-the-standard`
    reads them in the format's own convention (glTF: metres, Y up, right-handed) and converts; `measured`
    was learnt with a yardstick: files have to be written in the convention `file`.
    """

    numbers: Literal["as-they-stand", "by-the-standard", "measured"] = "as-they-stand"
    file: World | None = Field(default=None, description="Unit and axes of files that it reads right, when measured")
    keeps_sharing: bool = True
    keeps_tree: bool = True
    proof: Proof | None = None

    @model_validator(mode="after")
    def _measured_has_a_file(self) -> ImporterHabit:
        if self.numbers == "measured" and self.file is None:
            raise ValueError("a measured habit needs “file”, the convention that was found")
        return self


class FrameWeights(CamelModel):
    """What a frame costs there, by an estimate that everybody can put right: measure once, and write it down here."""

    call_us: float = Field(default=15.0, ge=0, le=10_000, description="Microseconds of one draw call")
    instance_us: float = Field(default=0.05, ge=0, le=1_000, description="Microseconds of one more copy in a batch")
    triangles_us: float = Field(default=0.3, ge=0, le=1_000, description="Microseconds of a thousand triangles")
    seen: float = Field(default=0.35, gt=0, le=1, description="Part of the scene that is in view at a time")
    light_texel_m: float = Field(default=0.05, gt=0, le=100, description="Edge of a lightmap texel, in metres")
    light_bytes: float = Field(default=8.0, gt=0, le=64, description="Bytes of a lightmap texel; 1 compressed")


class Destination(CamelModel):
    """Conventions and limits of one receiving side."""

    name: str = Field(min_length=1, max_length=80, pattern=r"^[a-z0-9][a-z0-9-]*$")
    title: str = Field(min_length=1, max_length=120)
    world: World
    importers: dict[FormatName, ImporterHabit]
    negative_scale: bool = Field(description="True if mirrored nodes may keep a negative scale")
    max_texture: int = Field(default=8192, ge=16, le=1_048_576, description="Largest texture edge in pixels")
    index_bits: Literal[16, 32] = 32
    name_pattern: str = Field(
        default=r"[A-Za-z0-9_.\-]", description="One allowed character, as a regular expression class"
    )
    name_length: int = Field(default=63, ge=8, le=1024)
    lightmap_channel: int = Field(default=1, ge=0, le=7)
    lightmap_maps: Literal["square", "powers", "blocks"] = Field(
        default="powers",
        description="Sizes of lightmaps: squares of a power of two, powers of two each way, or any multiple of a block",
    )
    gpu_instancing: bool = False
    instancing_from: int = Field(
        default=32,
        ge=0,
        le=1_000_000,
        description="Copies of a mesh below one node from which on they travel as one list; 0 leaves lists to scatters",
    )
    grid_cell: float = Field(
        default=0.0, ge=0, le=1000, description="Cell of the grid that modular pieces snap to, in metres; 0 infers it"
    )
    frame: FrameWeights = Field(default=FrameWeights(), description="What the estimate of a frame's cost goes by")
    built_in: bool = False

    @model_validator(mode="after")
    def _pattern_compiles(self) -> Destination:
        if not re.fullmatch(r"\[(?:[^\[\]\\]|\\[\-\\.\]\[^wd])+\]", self.name_pattern):
            raise ValueError("namePattern must be one character class such as [A-Za-z0-9_]")
        try:
            re.compile(self.name_pattern)
        except re.error as error:
            raise ValueError(f"namePattern: {error}") from error
        return self

    def file_convention(self, fmt: FormatName) -> Convention:
        """The convention a file must be written in so that this importer reads it right."""
        habit = self.importers.get(fmt, ImporterHabit())
        if habit.numbers == "measured" and habit.file is not None:
            return habit.file.convention()
        return GLTF if habit.numbers == "by-the-standard" else self.world.convention()


def _built_in(
    name: str,
    title: str,
    metres: float,
    up: Axis,
    forward: Axis,
    hand: Handedness,
    *,
    negative_scale: bool,
    pattern: str = r"[A-Za-z0-9_.\-]",
    index_bits: Literal[16, 32] = 32,
    max_texture: int = 8192,
    gpu_instancing: bool = False,
) -> Destination:
    habits: dict[FormatName, ImporterHabit] = {
        "glb": ImporterHabit(),
        "gltf": ImporterHabit(),
        "obj": ImporterHabit(keeps_sharing=False, keeps_tree=False),
    }
    return Destination(
        name=name,
        title=title,
        importers=habits,
        negative_scale=negative_scale,
        name_pattern=pattern,
        world=World(metres_per_unit=metres, up=up, forward=forward, handedness=hand),
        index_bits=index_bits,
        max_texture=max_texture,
        gpu_instancing=gpu_instancing,
        built_in=True,
    )


BUILT_IN: tuple[Destination, ...] = (
    _built_in("metre-y-up-right", "Metre, Y up, right-handed", 1.0, "Y", "-Z", "right", negative_scale=True),
    _built_in("metre-z-up-right", "Metre, Z up, right-handed", 1.0, "Z", "Y", "right", negative_scale=False),
    _built_in(
        "centimetre-z-up-left",
        "Centimetre, Z up, left-handed",
        0.01,
        "Z",
        "X",
        "left",
        negative_scale=False,
        pattern="[A-Za-z0-9_]",
    ),
    _built_in(
        "metre-y-up-left",
        "Metre, Y up, left-handed",
        1.0,
        "Y",
        "Z",
        "left",
        negative_scale=True,
        max_texture=4096,
        gpu_instancing=True,
    ),
)


def destination(name: str) -> Destination:
    """The built-in destination of that name. Raises CaravanError with the known names."""
    for known in BUILT_IN:
        if known.name == name:
            return known
    names = ", ".join(d.name for d in BUILT_IN)
    raise CaravanError(f"no destination called “{name[:80]}”; known are {names}", code="destination.unknown")


def parse_destination(data: Any, where: str) -> Destination:
    """One of the user's own from JSON, as the page exports it. where: what it came from. Raises UnusableInput."""
    try:
        own = Destination.model_validate(data)
    except ValidationError as error:
        wrong = [f"{'.'.join(map(str, e['loc'])) or 'it'}: {e['msg']}" for e in error.errors()]
        more = f" and {len(wrong) - 3} more" if len(wrong) > 3 else ""
        raise UnusableInput(f"this is no destination ({'; '.join(wrong[:3])}{more})"[:400], where=where) from error
    return own.model_copy(update={"built_in": False})
