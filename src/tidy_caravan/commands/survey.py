"""`survey` and `shapes`: what is in a scene file, what is wrong with it, what was no mesh."""

from __future__ import annotations

import argparse
import dataclasses
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from tidy_caravan.commands.shared import called, print_findings, read, read_route, show, target_of, telling
from tidy_caravan.core.closeup import closeup
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.conventions.evidence import units_json
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.figures import bounds_metres, count
from tidy_caravan.core.packing.delivery import check_folder, folder_at
from tidy_caravan.core.route import Route, read_convention
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.selection import PartSet, SetFigures, figures_of
from tidy_caravan.core.steps import Where
from tidy_caravan.core.steps.make_shapes import MakeShapes, shapes_in
from tidy_caravan.core.survey import Finding, leave, survey
from tidy_caravan.core.words import plural

PICTURES = 3
"""Places of a finding that are drawn."""
SETTINGS = {"toleranceMm": "{:g} mm", "segments": "{} segments", "level": "level {}"}
"""How fine a shape is made, by what decides it."""


def survey_json(
    scene: Scene, findings: list[Finding], pictures: dict[int, list[str]], sets: Sequence[tuple[PartSet, SetFigures]]
) -> dict[str, Any]:
    box = bounds_metres(scene)
    units, files = units_json(scene)
    return {
        "counts": count(scene).model_dump(by_alias=True),
        "bounds": {"min": box[0].tolist(), "max": box[1].tolist()},
        "convention": scene.convention.as_json(),
        "units": units,
        "files": files,
        "travel": [dataclasses.asdict(t) for t in scene.travel],
        "sets": [{"name": one.name, **held.model_dump(by_alias=True)} for one, held in sets],
        "findings": [
            {
                **f.model_dump(by_alias=True, mode="json", exclude={"parts", "places"}),
                "parts": scene.identities.given(scene.nodes.source[f.parts].tolist()),
                "places": [
                    p.model_dump(by_alias=True, mode="json")
                    | {"parts": scene.identities.given(scene.nodes.source[p.parts].tolist())}
                    for p in f.places
                ],
                **({"pictures": pictures[i]} if i in pictures else {}),
            }
            for i, f in enumerate(findings)
        ],
    }


def draw_places(scene: Scene, findings: list[Finding], folder: Path) -> dict[int, list[str]]:
    """Writes a picture of the first places of each finding; the names of the files by the finding's number."""
    out: dict[int, list[str]] = {}
    for i, f in enumerate(findings):
        places = [(p.parts, p.lines) for p in f.places[:PICTURES]] or [([n], []) for n in f.parts[:1]]
        for k, (parts, lines) in enumerate(places):
            name = f"{i + 1:02}-{f.code}-{k + 1}.png"
            (folder / name).write_bytes(closeup(scene, parts, lines))
            out.setdefault(i, []).append(name)
    return out


def run_survey(args: argparse.Namespace) -> int:
    target = target_of(args.destination or BUILT_IN[0].name)
    route = read_route(args.route) if args.route else Route()
    if args.pictures:
        check_folder(args.pictures)
    with telling() as progress:
        scene, _ = read(args.files, progress)
        findings = leave(survey(scene, target, progress=progress), scene, route.left)
    drawn = draw_places(scene, findings, folder_at(args.pictures)) if args.pictures else {}
    sets = list(zip(route.sets, figures_of(read_convention(scene, route), route.sets), strict=True))
    if args.json:
        show(survey_json(scene, findings, drawn, sets))
    else:
        figures = count(scene)
        box = bounds_metres(scene)
        size = box[1] - box[0]
        print(f"{called(args.files)}: {scene.convention.label()}{'' if scene.convention.declared else ' (assumed)'}")
        print(
            f"  {figures.nodes} nodes, {figures.parts} parts of {figures.unique_meshes} meshes, {figures.triangles} triangles"
        )
        print(
            f"  {size[0]:.3f} × {size[1]:.3f} × {size[2]:.3f} m, {figures.draw_calls} draw calls, {figures.draw_calls_instanced} instanced"
        )
        for t in scene.travel:
            if t.verdict != "travels":
                fate = f"into {t.into}{f', within {t.tolerance}' if t.tolerance else ''}" if t.into else t.why
                print(f"  {t.verdict:10}{t.count:8} {t.kind}: {fate}")
        for one, held in sets:
            taken = f", {plural(held.taken, 'part')} of an earlier set" if held.taken else ""
            print(
                f"  set       “{one.name}”: {plural(held.parts, 'part')} of {plural(held.meshes, 'mesh', 'meshes')}, {plural(held.triangles, 'triangle')}{taken}"
            )
        print_findings(findings)
        if args.pictures:
            print(f"  {sum(len(names) for names in drawn.values())} pictures in {args.pictures}")
    return 1 if any(f.severity == "error" for f in findings) else 0


def run_shapes(args: argparse.Namespace) -> int:
    try:
        asked = MakeShapes(
            tolerance_mm=args.tolerance,
            segments=args.segments,
            level=args.level,
            where=Where(names=[args.parts] if args.parts else []),
        )
    except ValidationError as error:
        wrong = ", ".join(sorted({f"--{str(e['loc'][0]).split('_')[0]}" for e in error.errors()}))
        raise UnusableInput(f"{wrong} is out of range", where="the command line") from error
    with telling() as progress:
        scene, _ = read(args.files, progress)
    scene = read_convention(scene, read_route(args.route) if args.route else Route())
    found = shapes_in(scene, asked)
    now, then = sum(s.triangles * s.parts for s in found), sum(s.then * s.parts for s in found)
    if args.json:
        show({"items": [s.model_dump(by_alias=True) for s in found], "triangles": now, "then": then})
        return 0
    print(f"{plural(len(found), 'shape')} that came as no mesh, {plural(now, 'triangle')} in all; {then} as asked")
    for s in found:
        by = ", ".join(SETTINGS[k].format(v) for k, v in s.setting.items())
        made = f"{plural(s.triangles, 'triangle')}{f' by {by}' if by else ''}"
        print(f"  {s.name}: {s.form} ({s.kind}), {plural(s.parts, 'part')}, {made}; {s.then} as asked")
    return 0
