"""What the application knows: kinds of steps, checks, formats; and whether it is well."""

from __future__ import annotations

from functools import lru_cache

from tidy_caravan import __version__
from tidy_caravan.core.formats import endings, writable
from tidy_caravan.core.steps import known_steps
from tidy_caravan.core.survey import known_checks
from tidy_caravan.server.api.context import StateDep
from tidy_caravan.server.api.requests import MOST_FILES
from tidy_caravan.server.api.requests import router as new_router
from tidy_caravan.server.api.schemas import CheckKind, FormatOut, Health, StepKind

router = new_router("/api", "library")


@router.get("/health")
def health(state: StateDep) -> Health:
    """ok: work that is asked for can be done; trouble says what stands in its way."""
    workers, trouble = state.manager.health()
    return Health(
        ok=not trouble,
        version=__version__,
        endings=list(endings()),
        upload_bytes=state.settings.upload_bytes,
        most_files=MOST_FILES,
        workers=workers,
        trouble=trouble,
    )


@router.get("/steps")
def steps() -> list[StepKind]:
    """All kinds of steps with their parameters, in the order of a route."""
    return described_steps()


@lru_cache(maxsize=1)
def described_steps() -> list[StepKind]:
    """Kept: to write all their schemas takes most of a second, and every page asks for them."""
    out = []
    for kind, cls in known_steps().items():
        schema = cls.model_json_schema(by_alias=True)
        parameters = {k: v for k, v in schema["properties"].items() if k not in ("kind", "enabled", "where")}
        for one in parameters.values():
            if name := one.get("items", {}).get("$ref", "").rpartition("/")[2]:
                one["items"] = schema["$defs"][name]
        out.append(
            StepKind(
                kind=kind,
                title=cls.title,
                summary=cls.summary,
                phase=cls.phase.value,
                rank=cls.phase.rank,
                once=cls.once,
                parameters=parameters,
                defaults=cls(kind=kind),
            )
        )
    return out


@router.get("/checks")
def checks() -> list[CheckKind]:
    """All checks of the survey, by family."""
    return [CheckKind(name=name, family=c.family, title=c.title) for name, c in known_checks().items()]


@router.get("/formats")
def formats() -> list[FormatOut]:
    """Formats that can be written."""
    return [FormatOut(name=f.name, title=f.title, flat=f.ability.flat) for f in writable().values()]
