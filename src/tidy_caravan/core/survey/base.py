"""Findings, and the decorator by which a check registers itself."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any, Literal, TypeVar

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, computed_field
from pydantic.alias_generators import to_camel

from tidy_caravan.core.scene import Scene
from tidy_caravan.core.survey.context import Context
from tidy_caravan.core.survey.effects import Effect, effect_of
from tidy_caravan.core.survey.places import Place

Severity = Literal["error", "warning", "info"]
Sees = Literal["stored", "baked", "shapes"]


class Finding(BaseModel):
    """One measured fault. parts: node numbers in the surveyed scene; count may be of something else
    (triangles, names). mend: the step, with parameters, that would put it right, or with the kind `set` a set.
    left: why a person left it as it is; left_parts: of how many of its parts that was said. places: where it is, the
    worst first, as many as are kept."""

    model_config = ConfigDict(alias_generator=to_camel, populate_by_name=True)

    code: str
    severity: Severity
    title: str
    text: str
    count: int
    value: float | None = None
    limit: float | None = None
    unit: str = ""
    parts: list[int] = Field(default_factory=list)
    mend: dict[str, Any] | None = None
    guess: bool = False
    left: str = ""
    left_parts: int = 0
    places: list[Place] = Field(default_factory=list)

    @computed_field  # type: ignore[prop-decorator]
    @property
    def effect(self) -> Effect:
        """What it does to the artist."""
        return effect_of(self.code)


Check = Callable[[Context], Iterable[Finding]]


@dataclass(frozen=True)
class Registered:
    """A check with the words that describe it in the reference.

    sees: nodes as they are stored; or parts that are stretched unevenly as they look once that is baked, or what a slab is
    would be told by the cube that is its mesh; or that also of parts that share their mesh and are of several shapes.
    """

    family: str
    title: str
    run: Check
    sees: Sees = "baked"


_checks: dict[str, Registered] = {}
C = TypeVar("C", bound=Check)


def check(family: str, title: str, sees: Sees = "baked") -> Callable[[C], C]:
    """Registers a check function under its own name."""

    def register(function: C) -> C:
        if function.__name__ in _checks:
            raise ValueError(f"there are two checks called “{function.__name__}”")
        _checks[function.__name__] = Registered(family, title, function, sees)
        return function

    return register


def known_checks() -> dict[str, Registered]:
    return dict(_checks)


def not_found_out(code: str, title: str, what: str, why: str) -> Finding:
    """Says that a check of the whole scene could not be made, so that silence is not taken for praise."""
    return Finding(code=code, severity="warning", title=title, count=0, text=f"{what} could not be found out: {why}")


def parts_with(scene: Scene, marked_meshes: Any) -> list[int]:
    """Nodes whose mesh is marked (M,) True."""
    table = np.append(np.asarray(marked_meshes, np.bool_), False)
    return [int(i) for i in np.flatnonzero(table[scene.nodes.mesh])]
