"""`propose`, `carry`, `arrive`: the route, the package that it makes, and its proof."""

from __future__ import annotations

import argparse
import sys
from functools import partial
from pathlib import Path

import orjson

from tidy_caravan.commands.shared import SHOWN, called, print_findings, read, read_route, show, target_of, telling
from tidy_caravan.core.carry import carry, prove
from tidy_caravan.core.conventions.destinations import Destination
from tidy_caravan.core.packing.delivery import check_folder, deliver, folder_at, spare_sources
from tidy_caravan.core.picture import picture
from tidy_caravan.core.proposal import as_route, propose
from tidy_caravan.core.route import Route, StepRecord, StepScenes, first_steps, run
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.survey import leave, survey
from tidy_caravan.core.work.heavy import Workshop


class LastScene(StepScenes):
    """Keeps the scene after the last step that took a while: the next prefix of the route begins there."""

    def __init__(self) -> None:
        self.kept: tuple[str, Scene, list[StepRecord]] | None = None

    def get(self, key: str) -> tuple[Scene, list[StepRecord]] | None:
        return self.kept[1:] if self.kept and self.kept[0] == key else None

    def put(self, key: str, scene: Scene, records: list[StepRecord]) -> None:
        self.kept = key, scene, list(records)


def draw_steps(scene: Scene, route: Route, target: Destination, folder: Path) -> list[str]:
    """Writes the scene before the first step and after each; the names of the files."""
    kept, workshop = LastScene(), Workshop()
    names = []
    for number, title in enumerate(["source", *(s.kind for s in route.steps if s.enabled)]):
        made, _ = run(scene, first_steps(route, number), target, workshop=workshop, kept=kept)
        names.append(f"{number:02}-{title}.png")
        (folder / names[-1]).write_bytes(picture(made))
    return names


def run_propose(args: argparse.Namespace) -> int:
    target = target_of(args.to)
    kept = read_route(args.route) if args.route else Route()
    if args.out:
        spare_sources([args.out], args.files)
        check_folder(args.out.absolute().parent)
    with telling() as progress:
        scene, _ = read(args.files, progress)
        proposed = propose(leave(survey(scene, target, progress=progress), scene, kept.left), target)
    route = as_route(proposed) | {
        k: v for k, v in kept.model_dump(by_alias=True, mode="json").items() if k != "steps" and v
    }
    if args.out:
        args.out.write_bytes(orjson.dumps(route, option=orjson.OPT_INDENT_2) + b"\n")
    if args.json:
        show({"route": route, "proposal": [p.model_dump(by_alias=True, mode="json") for p in proposed]})
    else:
        for p in proposed:
            print(f"{p.title}{' (unsure, switched off)' if p.guess else ''}")
            for reason in p.reasons:
                print(f"  {reason}")
    return 0


def run_carry(args: argparse.Namespace) -> int:
    target = target_of(args.to)
    route = read_route(args.route)
    for folder in filter(None, (args.out, args.pictures)):
        check_folder(folder)
    with telling() as progress:
        scene, digest = read(args.files, progress)
        name, fmt = called(args.files), args.format
        package, _, records, findings = carry(scene, name, digest, target, route, fmt, progress=progress)
    drawn = draw_steps(scene, route, target, folder_at(args.pictures)) if args.pictures else []
    deliver(package.files, args.out, args.files)
    problems = [c for r in records for c in r.changes if c.problem]
    if args.json:
        show(
            {
                "out": str(args.out),
                "files": [f.model_dump(by_alias=True) for f in package.manifest.files],
                "steps": [r.model_dump(by_alias=True, mode="json") for r in records],
                **({"pictures": drawn} if drawn else {}),
                "remarks": [*package.manifest.losses, *package.manifest.remarks],
                "unproven": package.manifest.unproven,
                "findings": [f.model_dump(by_alias=True, mode="json") for f in findings],
            }
        )
    else:
        for record in records:
            print(record.title)
            for change in record.changes or []:
                print(f"  {'! ' if change.problem else ''}{change.text}")
        for file in package.manifest.files:
            print(f"{args.out / file.path}  {file.bytes} bytes")
        print_findings([f for f in findings if f.severity != "info"])
    return 1 if problems or any(f.severity == "error" for f in findings) else 0


def run_arrive(args: argparse.Namespace) -> int:
    from tidy_caravan.core.arrival.compare import read_manifest  # brings the libraries of the comparison

    manifest = read_manifest(args.dir)
    with telling() as progress:
        scene, digest = read(args.against, progress)
        tell, reading = (partial(progress, what) for what in ("comparing", "reading the package"))
        report, _ = prove(args.dir, scene, tell=tell, reading=reading)
    if digest != manifest.source_sha256:
        print("tidy-caravan: note: the source file is not the one that was packed", file=sys.stderr)
    if args.json:
        show(report.model_dump(by_alias=True, mode="json"))
    else:
        w = report.worst
        print(
            f"{'arrived' if report.ok else 'NOT as it left'}: {report.compared} parts compared, {report.faulty} with faults, {len(report.lost)} lost"
        )
        print(
            f"  worst: position {w.position_mm:.4f} mm, size × {w.size_ratio:.6f}, rotation {w.rotation_deg:.6f}°, normals {w.normal_deg:.4f}°"
        )
        print(f"  meshes: {report.sharing_source} in the source, {report.sharing_arrived} arrived")
        for text in [
            *report.problems,
            *report.format_losses,
            *(f"lost: {p}" for p in report.lost[:SHOWN]),
            *(f"nobody sent: {p}" for p in report.extra[:SHOWN]),
        ]:
            print(f"  {text}")
        for row in [r for r in report.rows if r.faults][:SHOWN]:
            print(f"  {row.path}: {row.told}")
        if report.unproven:
            print(f"  cannot be proven in this format: {', '.join(report.unproven)}")
    return 0 if report.ok else 1
