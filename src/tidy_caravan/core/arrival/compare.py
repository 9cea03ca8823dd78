"""Compares what a receiver read with what went through the route, and that with the source, in metres, Y up.

Two comparisons by the same measure: the arrived scene against the result of the route, in all that the format can
hold, proves writer and receiver; the result against the source, in all that no step declares, proves the route.
"""

from __future__ import annotations

import hashlib
from pathlib import Path

import numpy as np
import orjson

from tidy_caravan.core.arrival.beside import (
    beside_parts,
    by_route,
    declared_problems,
    material_problems,
    sharing_problems,
)
from tidy_caravan.core.arrival.contact import contact
from tidy_caravan.core.arrival.flat import with_parts
from tidy_caravan.core.arrival.judge import (
    LEAST_POSITION_MM,
    STEPS,
    Judged,
    bounded,
    judge_delivery,
    judge_route,
    measured,
    reach,
)
from tidy_caravan.core.arrival.matching import matched, written_paths
from tidy_caravan.core.arrival.placed import Placed
from tidy_caravan.core.arrival.report import ArrivalReport, PartRow, Tolerances
from tidy_caravan.core.aspects import Aspect, Declared
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.abilities import EVERYTHING
from tidy_caravan.core.formats.registry import format_named, receive
from tidy_caravan.core.geometry.pose import at_rest
from tidy_caravan.core.manifest import Manifest
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import I64
from tidy_caravan.core.words import plural

ROWS = 200_000


def read_manifest(folder: Path) -> Manifest:
    """Raises UnusableInput when there is none or it is not usable."""
    path = folder / "manifest.json"
    try:
        data = path.read_bytes()
    except OSError as error:
        raise UnusableInput("there is no manifest.json; name the folder of a package", where=str(folder)) from error
    try:
        return Manifest.model_validate(orjson.loads(data))
    except ValueError as error:
        first = str(error).splitlines()[0]
        raise UnusableInput(f"the manifest cannot be used ({first}); pack again", where=str(path)) from error


def arrive(
    folder: Path, manifest: Manifest, source: Scene, result: Scene, declared: Declared
) -> tuple[ArrivalReport, Scene]:
    """Reads the package in `folder` as its destination would and compares it with what was packed and with the source.

    The source must be in the convention it was carried in. Raises UnusableInput.
    """
    main = folder / manifest.main_file
    if Path(manifest.main_file).name != manifest.main_file or not main.is_file():
        raise UnusableInput(f"the package has no {manifest.main_file}", where=str(folder))
    changed = changed_files(folder, manifest)
    try:
        arrived = receive(main, manifest.destination, manifest.format)
    except UnusableInput as error:
        if changed and error.code == "arrival.unreadable":
            raise UnusableInput(
                f"{changed[0]}, and the receiver cannot read it: it is cut short or damaged; pack again",
                where=manifest.main_file,
                code=error.code,
            ) from error
        raise
    return compare(source, result, arrived, manifest, declared, changed)


def changed_files(folder: Path, manifest: Manifest) -> list[str]:
    out = []
    for file in manifest.files:
        path = (folder / file.path).resolve()
        if not path.is_relative_to(folder.resolve()) or not path.is_file():
            out.append(f"{file.path} is missing")
        elif hashlib.sha256(path.read_bytes()).hexdigest() != file.sha256:
            out.append(f"{file.path} is not the file that was packed")
    return out


def compare(
    source: Scene, result: Scene, arrived: Scene, manifest: Manifest, declared: Declared, problems: list[str]
) -> tuple[ArrivalReport, Scene]:
    """The whole comparison, and the arrived scene as it was matched. O(parts log parts + triangles)."""
    ability = format_named(manifest.format).ability
    moving_source, moving_result, moving_arrived = source, result, arrived
    source, result, arrived = at_rest(source), at_rest(result), at_rest(arrived)
    nodes = result.nodes
    if (nodes.source[nodes.parts] >= len(source.nodes)).any():
        raise UnusableInput("the package was made from another source than the one given", where=manifest.source_name)
    if not ability.parts:
        arrived = with_parts(arrived, result)
    here, mid, there = Placed.of(source), Placed.of(result), Placed.of(arrived)
    sent: I64 = nodes.parts[[result.meshes[m].triangles > 0 for m in nodes.mesh[nodes.parts].tolist()]].astype(np.int64)
    paths = written_paths(result, manifest)
    middle, end, lost, extra, found = matched(mid, there, sent, paths, ability)
    origin: I64 = nodes.source[middle]
    known = (origin >= 0) & (source.nodes.mesh[np.maximum(origin, 0)] >= 0)
    limits = np.maximum(LEAST_POSITION_MM, reach(mid, middle) * 1000 * STEPS)
    judged = Judged(len(middle))
    figures = measured(here, mid, there, origin, middle, end, known, limits, declared, ability, judged)
    delivered = contact(mid, there, middle, end, limits, ability)
    judge_delivery(judged, delivered, mid, there, middle, end, (paths, found), limits, manifest, ability)
    rows = np.flatnonzero(known)
    routed = contact(
        here, mid, origin[rows], middle[rows], limits[rows] + bounded(declared, Aspect.POSITIONS), EVERYTHING
    )
    judge_route(judged, routed, rows, here, mid, origin, middle, limits, declared, manifest)
    problems = [
        *problems,
        *material_problems(delivered, mid, there, middle, ability, manifest.renamed_materials),
        *beside_parts(here, mid, there, moving_source, moving_result, moving_arrived, declared, ability),
        *declared_problems(arrived, manifest, ability),
        *sharing_problems(result, arrived, middle, end, ability),
    ]
    if not declared.free(Aspect.MATERIALS):
        problems += by_route(material_problems(routed, here, mid, origin[rows], EVERYTHING, {}))
    if not declared.free(Aspect.SHARING):
        problems += by_route(sharing_problems(source, result, origin[rows], middle[rows], EVERYTHING))
    lost += left_out(source, result, declared)
    figures.surface += delivered.surface_mm
    figures.surface[rows] += (
        0.0 if declared.free(Aspect.POSITIONS) or declared.free(Aspect.TRIANGLES) else routed.surface_mm
    )
    figures.normal = np.maximum(figures.normal, delivered.normal_deg)
    if not declared.free(Aspect.NORMALS):
        figures.normal[rows] = np.maximum(figures.normal[rows], routed.normal_deg)
    made = [
        PartRow(
            source_id=i,
            node=j,
            path=source.nodes.paths[i] if i >= 0 else nodes.paths[m],
            position_mm=float(figures.position[k]),
            size_ratio=float(figures.ratio[k]),
            rotation_deg=float(figures.rotation[k]),
            normal_deg=float(figures.normal[k]),
            pivot_mm=float(figures.pivot[k]),
            surface_mm=float(figures.surface[k]),
            triangles_source=source.meshes[source.nodes.mesh[i]].triangles if known[k] else 0,
            triangles_arrived=arrived.meshes[arrived.nodes.mesh[j]].triangles,
            faults=judged.faults[k],
            told="; ".join(judged.told[k]),
            badness=float(judged.badness[k]),
        )
        for k, (i, m, j) in enumerate(zip(origin.tolist(), middle.tolist(), end.tolist(), strict=True))
    ]
    made.sort(key=lambda r: (-r.badness, r.path))
    faulty = sum(1 for r in made if r.faults)
    words = declared.words
    if manifest.dropped:
        words.append(f"{plural(len(manifest.dropped), 'node')} left out by a step.")
    report = ArrivalReport(
        ok=not lost and not extra and not faulty and not problems,
        compared=len(made),
        worst=figures.worst(),
        tolerances=Tolerances(position_mm=float(limits.max(initial=LEAST_POSITION_MM))),
        lost=sorted(lost),
        extra=extra,
        faulty=faulty,
        sharing_source=int((source.instance_counts > 0).sum()),
        sharing_arrived=int((arrived.instance_counts > 0).sum()),
        problems=problems,
        format_losses=manifest.losses,
        unproven=ability.unproven(),
        declared=words,
        rows=made[:ROWS],
    )
    return report, arrived


def left_out(source: Scene, result: Scene, declared: Declared) -> list[str]:
    """Paths of source parts that the route left out without a step that may."""
    if declared.free(Aspect.PARTS):
        return []
    present = np.zeros(len(source.nodes), np.bool_)
    origin = result.nodes.source[result.nodes.parts]
    present[origin[origin >= 0]] = True
    return [source.nodes.paths[i] for i in source.nodes.parts.tolist() if not present[i]]
