"""Compares what a receiver read with what went through the route, and that with the source, in metres, Y up.

Two comparisons by the same measure: the arrived scene against the result of the route, in all that the format can
hold, proves writer and receiver; the result against the source, in all that no step declares, proves the route.
"""

from __future__ import annotations

import hashlib
from dataclasses import replace
from pathlib import Path

import numpy as np
import orjson

from tidy_caravan.core.arrival.beside import (
    beside_parts,
    by_route,
    declared_problems,
    material_problems,
    mesh_problems,
    root_problems,
    sharing_problems,
)
from tidy_caravan.core.arrival.coarse import too_coarse
from tidy_caravan.core.arrival.contact import contact
from tidy_caravan.core.arrival.data import added_data, data_problems, file_problems, helper_problems, listed
from tidy_caravan.core.arrival.flat import with_parts
from tidy_caravan.core.arrival.judge import (
    LEAST_POSITION_MM,
    STEPS,
    Judged,
    judge_delivery,
    judge_route,
    measured,
    reach,
)
from tidy_caravan.core.arrival.matching import matched, written_paths
from tidy_caravan.core.arrival.placed import Placed
from tidy_caravan.core.arrival.poses import pose_problems
from tidy_caravan.core.arrival.report import ArrivalReport, PartRow, Tolerances
from tidy_caravan.core.arrival.stated import manifest_problems
from tidy_caravan.core.arrival.surfaces import Pairing
from tidy_caravan.core.arrival.traced import Traced, traced
from tidy_caravan.core.aspects import Allowed, Aspect, Declared, Effect
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.abilities import EVERYTHING, Ability
from tidy_caravan.core.formats.registry import format_named, receive
from tidy_caravan.core.formats.shared.received import DOUBTS
from tidy_caravan.core.geometry.pose import at_rest
from tidy_caravan.core.manifest import Manifest
from tidy_caravan.core.pace import Tell, nobody
from tidy_caravan.core.scene import Identities, Scene
from tidy_caravan.core.scene.arrays import I64, Bool
from tidy_caravan.core.scene.levels import at_level, deepest
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.heavy import Remembered, Workshop

ROWS = 200_000
MOST_TOLD = 12
"""Parts of a level of detail that are named."""


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
    folder: Path,
    manifest: Manifest,
    source: Scene,
    result: Scene,
    declared: Declared,
    workshop: Workshop | None = None,
    tell: Tell = nobody,
    reading: Tell = nobody,
) -> tuple[ArrivalReport, Scene]:
    """Reads the package in `folder` as its destination would and compares it with what was packed and with the source.

    The source must be in the convention it was carried in. tell hears how far the comparison is, reading how far the reading.
    Raises UnusableInput.
    """
    # the source and what was packed are compared with the same arrived meshes: what is alike is compared once
    workshop = workshop or Workshop(results=Remembered())
    main = folder / manifest.main_file
    if Path(manifest.main_file).name != manifest.main_file or not main.is_file():
        raise UnusableInput(f"the package has no {manifest.main_file}", where=str(folder))
    changed = changed_files(folder, manifest)
    try:
        arrived = receive(main, manifest.destination, manifest.format, reading)
    except UnusableInput as error:
        if changed and error.code == "arrival.unreadable":
            told = error.what if error.what.startswith("the receiver") else f"the receiver cannot read it: {error.what}"
            raise UnusableInput(
                f"{changed[0]}, and {told}",
                where=manifest.main_file,
                code=error.code,
            ) from error
        raise
    problems, words = levels_proven(folder, manifest, result, workshop, tell, reading)
    report, there = compare(source, result, arrived, manifest, declared, [*changed, *problems], workshop, tell)
    return report.model_copy(update={"declared": [*report.declared, *words]}), there


def levels_proven(
    folder: Path, manifest: Manifest, result: Scene, workshop: Workshop, tell: Tell, reading: Tell
) -> tuple[list[str], list[str]]:
    """What is wrong with the levels of detail of a package, and what there is of them.

    Each is compared as it was made with what arrived, and with the whole, from which its surfaces may come away by its
    own bound and nothing else may differ but triangles and what hangs on them.
    """
    problems: list[str] = []
    words: list[str] = []
    if deepest(result) != len(manifest.levels):
        problems.append(
            f"the package names {plural(len(manifest.levels), 'level')} of detail, and {deepest(result)} were made"
        )
    if not manifest.levels:
        return problems, words
    nodes = replace(result.nodes, source=np.arange(len(result.nodes)), sources={}, origins={})
    whole = result.but(
        nodes=nodes,
        identity=Identities(()),
        touched=None,
        meshes=tuple(replace(m, origin=None) for m in result.meshes),
        levels={},
    )
    # the whole, as it was packed, is the source here; parts are listed in its order
    parts = zip(manifest.parts, nodes.parts.tolist(), strict=False)
    as_packed = manifest.model_copy(
        update={"parts": [p.model_copy(update={"source_id": i}) for p, i in parts], "dropped": []}
    )
    for one in manifest.levels[: deepest(result)]:
        file = folder / one.main_file
        if Path(one.main_file).name != one.main_file or not file.is_file():
            problems.append(f"level of detail {one.level}: {one.main_file} is missing")
            continue
        coarse = at_level(result, one.level)
        coarse = coarse.but(
            nodes=replace(nodes, mesh=coarse.nodes.mesh),
            identity=Identities(()),
            touched=None,
            meshes=tuple(replace(m, origin=None) for m in coarse.meshes),
        )
        try:
            arrived = receive(file, manifest.destination, manifest.format, reading)
        except UnusableInput as error:
            problems.append(f"level of detail {one.level}: {error.sentence()}")
            continue
        report, _ = compare(whole, coarse, arrived, as_packed, coarser(one.error_mm), [], workshop, tell, stated=False)
        told = [
            *report.problems,
            *(f"“{p}” is lost" for p in report.lost),
            *(f"“{p}” came from nowhere" for p in report.extra),
        ]
        told += [f"“{r.path}”: {r.told}" for r in report.rows if r.faults][:MOST_TOLD]
        far, beyond = too_coarse(whole, coarse, one.error_mm, workshop, tell)
        told += beyond[:MOST_TOLD]
        problems += [f"level of detail {one.level}: {text}" for text in told]
        if not beyond:
            words.append(
                f"Level of detail {one.level}: surfaces come away by {far:.2g} mm at most, measured again here."
            )
    return problems, words


def coarser(error_mm: float) -> Declared:
    """What a level of detail may differ in from the whole. Where a material is on it is measured with its surfaces."""
    free = (
        Aspect.TRIANGLES,
        Aspect.WINDING,
        Aspect.NORMALS,
        Aspect.TANGENTS,
        Aspect.FIRST_UV,
        Aspect.LIGHTMAP_UV,
        Aspect.FURTHER_UV,
        Aspect.SHARING,
        Aspect.MATERIALS,
    )
    return Declared(((Effect(Aspect.POSITIONS, error_mm), *(Effect(a) for a in free)),))


def mains(manifest: Manifest) -> list[str]:
    """The files that receivers open: that of the whole, and of every level of detail."""
    return [manifest.main_file, *(level.main_file for level in manifest.levels)]


def changed_files(folder: Path, manifest: Manifest) -> list[str]:
    listed = {f.path for f in manifest.files}
    out = [f"{name} is not among the files of the manifest" for name in mains(manifest) if name not in listed]
    for file in manifest.files:
        path = (folder / file.path).resolve()
        if not path.is_relative_to(folder.resolve()) or not path.is_file():
            out.append(f"{file.path} is missing")
        elif hashlib.sha256(path.read_bytes()).hexdigest() != file.sha256:
            out.append(f"{file.path} is not the file that was packed")
    return out


def compare(
    source: Scene,
    result: Scene,
    arrived: Scene,
    manifest: Manifest,
    declared: Declared,
    problems: list[str],
    workshop: Workshop | None = None,
    tell: Tell = lambda done, total: None,
    stated: bool = True,
) -> tuple[ArrivalReport, Scene]:
    """The whole comparison, and the arrived scene as it was matched. stated: the manifest speaks of this very scene.
    O(parts log parts + triangles)."""
    ability = format_named(manifest.format).ability
    moving_source, moving_result, moving_arrived = source, result, arrived
    source, result, arrived = at_rest(source), at_rest(result), at_rest(arrived)
    nodes = result.nodes
    if (nodes.source[nodes.parts] >= len(source.nodes)).any():
        raise UnusableInput("the package was made from another source than the one given", where=manifest.source_name)
    if not ability.parts:
        arrived = with_parts(arrived, result)
    mid, there = Placed.of(result), Placed.of(arrived)
    sent: I64 = nodes.parts[[result.meshes[m].triangles > 0 for m in nodes.mesh[nodes.parts].tolist()]].astype(np.int64)
    paths = written_paths(result, manifest)
    middle, end, lost, extra, found, heads = matched(mid, there, sent, paths, ability)
    traces = traced(source, result, middle)
    here = Placed.of(traces.source)
    allowed = declared.for_parts(result.touched, *traces.members(middle))
    origin = traces.origin
    known = (origin >= 0) & (here.scene.nodes.mesh[np.maximum(origin, 0)] >= 0)
    limits = np.maximum(LEAST_POSITION_MM, reach(mid, middle) * 1000 * STEPS)
    judged = Judged(len(middle))
    figures = measured(here, mid, there, origin, middle, end, known, limits, allowed, ability, judged)
    delivered = contact(mid, there, middle, end, limits, ability, workshop=workshop, tell=tell)
    judge_delivery(judged, delivered, mid, there, middle, end, (paths, found), limits, manifest, ability)
    rows = np.flatnonzero(known)
    pairing, loose, skipped = ways(allowed, traces, rows)
    routed = contact(
        here,
        mid if traces.result is result else Placed.of(traces.result),
        origin[rows],
        middle[rows],
        limits[rows] + allowed.of(rows).within(Aspect.POSITIONS),
        EVERYTHING,
        pairing,
        loose,
        workshop,
        tell,
    ).without(skipped)
    judge_route(judged, routed, rows, here, mid, traces, middle, limits, allowed, manifest)
    parts = allowed.of(rows)
    problems = [
        *problems,
        *material_problems(delivered, mid, there, middle, ability, manifest.renamed_materials),
        *beside_parts(here, mid, there, moving_source, moving_result, moving_arrived, declared, ability),
        *pose_problems(moving_result, moving_arrived, middle, end, ability, limits),
        *declared_problems(arrived, manifest, ability),
        *(manifest_problems(manifest, result, arrived, middle, end, ability, limits) if stated else ()),
        *arrived.extras.get(DOUBTS, ()),
        *data_told(
            source,
            result,
            arrived,
            declared,
            ability,
            paths,
            found,
            dict(zip(middle.tolist(), end.tolist(), strict=True)),
            heads,
        ),
        *sharing_problems(result, arrived, middle, end, ability),
        *mesh_problems(result, arrived, middle, end, ability),
        *root_problems(result, arrived, ability),
        *by_route(
            material_problems(routed.without(parts.free(Aspect.MATERIALS)), here, mid, origin[rows], EVERYTHING, {})
        ),
        *sharing_by_route(source, result, traces, middle, rows[~parts.free(Aspect.SHARING)]),
        *part_problems(source, result, declared),
        *map_problems(source, result, traces.first[rows], middle[rows], parts.free(Aspect.LIGHTMAP_UV)),
        *traces.wrong,
    ]
    lost += left_out(source, result, declared)
    compared = ~(parts.free(Aspect.POSITIONS) | parts.free(Aspect.TRIANGLES))
    figures.surface += delivered.surface_mm
    figures.surface[rows] += np.where(compared, routed.surface_mm, 0.0)
    figures.normal = np.maximum(figures.normal, delivered.normal_deg)
    turned = np.where(parts.free(Aspect.NORMALS) | skipped, 0.0, routed.normal_deg)
    figures.normal[rows] = np.maximum(figures.normal[rows], turned)
    origin, known_as = traces.first, source.identities.names
    made = [
        PartRow(
            source_id=i,
            node=j,
            identity=known_as[i] if 0 <= i < len(known_as) else "",
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


def ways(allowed: Allowed, traces: Traced, rows: I64) -> tuple[I64, Bool, Bool]:
    """How the triangles of each part are paired with the source's: (R,) a Pairing, where points may have moved, and
    where there is nothing to pair because both came and went as they liked."""
    parts = allowed.of(rows)
    moved, changed, exact = parts.free(Aspect.POSITIONS), parts.free(Aspect.TRIANGLES), traces.exact[rows]
    pairing = np.where(changed, Pairing.MEETING, Pairing.USUAL)
    pairing[exact | (moved & ~changed)] = Pairing.IN_ORDER
    return pairing.astype(np.int64), moved, moved & changed & ~exact


def data_told(
    source: Scene, result: Scene, arrived: Scene, declared: Declared, ability: Ability,
    paths: list[str], found: list[str], pairs: dict[int, int], heads: dict[int, int],
) -> list[str]:  # fmt: skip
    """Data of nodes that did not arrive as packed, or were not packed as they were in the source. heads: by part that hangs
    below the node that bears its name, that node."""
    out = []
    if ability.data:
        back = np.full(len(arrived.nodes), -1, np.int64)
        back[list(pairs.values())] = list(pairs)
        there = arrived.nodes.extras
        pairs = {i: j if j in there else heads.get(j, j) for i, j in pairs.items()}
        back[list(pairs.values())] = list(pairs)
        nothing = np.zeros(len(result.nodes), np.bool_)
        out = data_problems(result, arrived, (paths, found), pairs, texts=not ability.said)
        out += added_data(result, arrived, found, back, nothing)
    if ability.said:
        out += helper_problems(result, arrived, (paths, found))
        out += file_problems(result, arrived)
    free = declared.for_parts(result.touched, np.arange(len(source.nodes))).free(Aspect.DATA)
    if not free.all():
        origin = result.nodes.source.tolist()
        kept = {i: said for i, said in source.nodes.extras.items() if not free[i]}
        # of several parts that came from one, that one counts which kept its data
        said = result.nodes.extras
        pairs = {i: k for k, i in sorted(enumerate(origin), key=lambda p: p[0] in said) if i >= 0}
        nowhere = [""] * len(result.nodes)
        out += by_route(data_problems(source, result, (source.nodes.paths, nowhere), pairs, kept))
        out += by_route(added_data(source, result, result.nodes.paths, result.nodes.source, free))
    return out


def left_out(source: Scene, result: Scene, declared: Declared) -> list[str]:
    """Paths of source parts that the route left out without a step that may."""
    present = np.zeros(len(source.nodes), np.bool_)
    present[result.nodes.came_from(result.nodes.mesh >= 0)] = True
    gone: I64 = source.nodes.parts[~present[source.nodes.parts]].astype(np.int64)
    allowed = declared.for_parts(result.touched, gone).free(Aspect.PARTS)
    return [source.nodes.paths[i] for i in gone[~allowed].tolist()]


def part_problems(source: Scene, result: Scene, declared: Declared) -> list[str]:
    """Parts that the route added, or that came out of it more than once, without a step that may do so."""
    nodes = result.nodes
    drawn = nodes.parts[[result.meshes[m].triangles > 0 for m in nodes.mesh[nodes.parts].tolist()]]
    own = nodes.source[drawn]
    out = []
    added = drawn[own < 0]
    if len(added) and not declared.free(Aspect.PARTS):
        out.append(f"the route added {plural(len(added), 'part')}, such as “{nodes.paths[int(added[0])]}”")
    whole = np.array([m.origin is None for m in result.meshes] + [False])[nodes.mesh[drawn]] & (own >= 0)
    whole &= ~np.isin(drawn, list(nodes.origins))
    ids, times = np.unique(own[whole], return_counts=True)
    twice: I64 = ids[times > 1].astype(np.int64)
    twice = twice[~declared.for_parts(result.touched, twice).free(Aspect.PARTS)]
    out += [f"“{source.nodes.paths[i]}” came out of the route more than once" for i in twice.tolist()]
    return listed(out)


def map_problems(source: Scene, result: Scene, first: I64, middle: I64, free: Bool) -> list[str]:
    """Sizes of lightmaps, in texels, that the route changed without a step that may. first, middle: (K,) nodes of parts
    in the source and in the result."""
    before, after = source.nodes.lightmap[first], result.nodes.lightmap[middle]
    return by_route(
        listed(
            [
                f"the lightmap of “{source.nodes.paths[first[k]]}” was to have {before[k, 0]} × {before[k, 1]} texels, "
                f"and is to have {after[k, 0]} × {after[k, 1]}"
                for k in np.flatnonzero((before != after).any(axis=1) & ~free & (first >= 0)).tolist()
            ]
        )
    )


def sharing_by_route(source: Scene, result: Scene, traces: Traced, middle: I64, rows: I64) -> list[str]:
    return by_route(sharing_problems(source, result, traces.first[rows], middle[rows], EVERYTHING))
