"""The whole way in one place, used by shell and server alike: run the route, survey, pack, prove."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from tidy_caravan.core.arrival.report import ArrivalReport
from tidy_caravan.core.conventions.destinations import Destination, FormatName
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.manifest import PackedChange, PackedCheck
from tidy_caravan.core.pace import Tell, nobody
from tidy_caravan.core.packing.pack import Package, Source, pack
from tidy_caravan.core.route import Route, StepRecord, as_json, as_read, declared_by, read_convention, run
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.survey import Finding, survey
from tidy_caravan.core.work.heavy import Workshop


def carry(
    scene: Scene,
    name: str,
    sha256: str,
    destination: Destination,
    route: Route,
    fmt: FormatName,
    *,
    progress: Callable[[str, int, int], None] = lambda title, done, total: None,
    workshop: Workshop | None = None,
) -> tuple[Package, Scene, list[StepRecord], list[Finding]]:
    """Package, scene as packed, what the steps changed, and the findings that are left. Raises CaravanError."""
    done, records = run(scene, route, destination, progress=progress, workshop=workshop)
    findings = survey(done, destination, workshop, progress)
    writing = partial(progress, "writing")
    package = package_of(done, scene, name, sha256, destination, route, fmt, records, findings, writing)
    return package, done, records, findings


def prove(
    folder: Path, source: Scene, result: Scene | None = None, workshop: Workshop | None = None,
    tell: Tell = nobody, reading: Tell = nobody,
) -> tuple[ArrivalReport, Scene]:  # fmt: skip
    """Reads the package in a folder as its destination would and compares it with the source and the route's result.

    source: as it was loaded. result: the scene that was packed; without it the route is run again, which gives the
    same. tell hears how far the comparison is, reading how far the reading. Raises CaravanError.
    """
    from tidy_caravan.core.arrival.compare import arrive, read_manifest  # dear to load, and asked for last

    manifest = read_manifest(folder)
    try:
        route = Route.model_validate({"steps": manifest.route, "sets": manifest.sets})
    except ValueError as error:
        told = " ".join(str(error).splitlines()[1:3])[:200]
        raise UnusableInput(
            f"the route in the manifest cannot be run ({told}); pack again", where=str(folder)
        ) from error
    if result is None:
        result, _ = run(source, route, manifest.destination, workshop=workshop)
    reference = as_read(source, route, manifest.destination)
    return arrive(folder, manifest, reference, result, declared_by(route), workshop, tell, reading)


def package_of(
    done: Scene,
    source: Scene,
    name: str,
    sha256: str,
    destination: Destination,
    route: Route,
    fmt: FormatName,
    records: list[StepRecord],
    findings: list[Finding],
    tell: Tell = nobody,
) -> Package:
    """The package of a scene that already went through its route."""
    origin = Source(name, sha256, read_convention(source, route))
    changes = [
        PackedChange(step=r.kind, text=c.text, count=c.count, problem=c.problem) for r in records for c in r.changes
    ]
    checks = [PackedCheck(code=f.code, severity=f.severity, count=f.count, text=f.text) for f in findings]
    return pack(
        done,
        origin,
        destination,
        fmt,
        route=[as_json(s) for s in route.steps],
        sets=route.sets,
        changes=changes,
        checks=checks,
        tell=tell,
    )
