"""What the shell's commands do and print."""

from __future__ import annotations

import argparse
import dataclasses
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from fnmatch import fnmatchcase
from functools import partial
from pathlib import Path
from typing import Any

import orjson
from pydantic import ValidationError

from tidy_caravan.core.carry import carry, prove
from tidy_caravan.core.closeup import closeup
from tidy_caravan.core.conventions.destinations import BUILT_IN, Destination, destination
from tidy_caravan.core.conventions.evidence import units_json
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.figures import bounds_metres, count
from tidy_caravan.core.formats import bundles_from_paths, digest_of
from tidy_caravan.core.formats.merge import load_all
from tidy_caravan.core.packing.delivery import check_folder, deliver, folder_at, spare_sources
from tidy_caravan.core.picture import picture
from tidy_caravan.core.proposal import as_route, propose
from tidy_caravan.core.route import (
    Route,
    StepRecord,
    StepScenes,
    assignment_of,
    default_route,
    first_steps,
    parse_route,
    run,
)
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.survey import Finding, leave, survey
from tidy_caravan.core.work.heavy import Workshop

SHOWN = 12
TELL_SECONDS = 0.2
"""Between two lines of what is going on."""
Progress = Callable[[str, int, int], None]
"""Hears what is done, how much of it, and of how much, 0 where nobody knows."""
PICTURES = 3
"""Places of a finding that are drawn."""


@contextmanager
def telling() -> Iterator[Progress]:
    """Where somebody watches, one line of what is going on; it is gone when the work is done."""
    watched, shown = sys.stderr.isatty(), time.monotonic()

    def progress(title: str, done: int, total: int) -> None:
        nonlocal shown
        if watched and time.monotonic() - shown > TELL_SECONDS:
            shown = time.monotonic()
            share = f"{100 * done // total:4} %" if total > 0 else ""
            print(f"\r{title[:60]}{share}\x1b[K", end="", file=sys.stderr, flush=True)

    try:
        yield progress
    finally:
        if watched:
            print("\r\x1b[K", end="", file=sys.stderr, flush=True)


def read(paths: Sequence[Path], progress: Progress) -> tuple[Scene, str]:
    """The scene in some files and what stands for their content."""

    def tell(*facts: Any) -> None:
        if facts:
            progress(*facts)

    progress("reading", 0, 0)
    bundles = bundles_from_paths(paths, tell=tell)
    return load_all(bundles, lambda name: progress(f"reading {name}", 0, 0)), digest_of(bundles)


def called(paths: Sequence[Path]) -> str:
    return ", ".join(path.name for path in paths)


def show(data: Any) -> None:
    sys.stdout.buffer.write(orjson.dumps(data, option=orjson.OPT_INDENT_2) + b"\n")


def survey_json(scene: Scene, findings: list[Finding], pictures: dict[int, list[str]]) -> dict[str, Any]:
    box = bounds_metres(scene)
    units, files = units_json(scene)
    return {
        "counts": count(scene).model_dump(by_alias=True),
        "bounds": {"min": box[0].tolist(), "max": box[1].tolist()},
        "convention": scene.convention.as_json(),
        "units": units,
        "files": files,
        "travel": [dataclasses.asdict(t) for t in scene.travel],
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


def print_findings(findings: list[Finding]) -> None:
    for effect in dict.fromkeys(f.effect for f in findings):
        print(f"{effect[0].upper()}{effect[1:]}")
        for f in (f for f in findings if f.effect == effect):
            guess = " (a guess)" if f.guess else ""
            mend = f"  → {f.mend['kind']}" if f.mend else ""
            left = f"  left as it is: {f.left}" if f.left else mend
            print(f"  {f.severity:8}{f.code:24}{f.text}{guess}{left}")


def run_survey(args: argparse.Namespace) -> int:
    target = destination(args.destination or BUILT_IN[0].name)
    left = read_route(args.route).left if args.route else []
    if args.pictures:
        check_folder(args.pictures)
    with telling() as progress:
        scene, _ = read(args.files, progress)
        findings = leave(survey(scene, target, progress=progress), scene, left)
    drawn = draw_places(scene, findings, folder_at(args.pictures)) if args.pictures else {}
    if args.json:
        show(survey_json(scene, findings, drawn))
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
        print_findings(findings)
        if args.pictures:
            print(f"  {sum(len(names) for names in drawn.values())} pictures in {args.pictures}")
    return 1 if any(f.severity == "error" for f in findings) else 0


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
    target = destination(args.to)
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


def run_price(args: argparse.Namespace) -> int:
    from tidy_caravan.core.plans import Budget, alternatives, plan_for
    from tidy_caravan.core.price import costly, price
    from tidy_caravan.core.steps import StepContext, Where

    target = destination(args.to)
    route = read_route(args.route) if args.route else Route()
    with telling() as progress:
        scene, _ = read(args.files, progress)
        assignment = assignment_of(scene, route)
        if args.route:
            scene, _ = run(scene, route, target, progress=progress)
        context = StepContext(target, assignment=assignment, progress=partial(progress, "weighing"))
        whole, top = price(scene, target), costly(scene, target, args.top)
        ways = alternatives(scene, context, Where(names=[args.parts]), args.by) if args.parts else []
        wanted = Budget(draw_calls=args.calls, triangles=args.triangles, megabytes=args.megabytes)
        plan = plan_for(scene, context, wanted) if wanted != Budget() else None
    if args.json:
        show(
            {
                "price": whole.model_dump(by_alias=True),
                "costly": [c.model_dump(by_alias=True) for c in top],
                "alternatives": [w.model_dump(by_alias=True, mode="json") for w in ways],
                "plan": plan.model_dump(by_alias=True, mode="json") if plan else None,
            }
        )
        return 0 if plan is None or plan.met else 1
    print(
        f"{whole.objects} objects, {whole.draw_calls} draw calls ({whole.draw_calls_instanced} with instancing), "
        f"{whole.triangles} triangles, {(whole.vertex_bytes + whole.index_bytes) / 1e6:.3g} MB of meshes, {whole.frame_us / 1000:.3g} ms of a frame"
    )
    for c in top[:SHOWN]:
        print(f"  {c.name}: {c.frame_us:.0f} µs, {c.draw_calls} calls, {c.triangles} triangles in {c.parts} parts")
    for w in ways:
        print(
            f"{'* ' if w.recommended else '  '}{w.title}: {w.price.draw_calls} calls, {w.price.frame_us / 1000:.3g} ms. {w.reason}"
        )
    for step, why, cost in zip(plan.steps, plan.reasons, plan.prices[1:], strict=True) if plan else ():
        print(f"  {step['kind']}: {cost.draw_calls} calls, {cost.triangles} triangles; {why}")
    for text in plan.over if plan else ():
        print(f"  {text}")
    return 0 if plan is None or plan.met else 1


def run_light(args: argparse.Namespace) -> int:
    from tidy_caravan.core.lightmap.report import Ask, Lamp

    if not args.texel > 0 or not args.ceiling > 0 or not args.unseen > 0 or not 16 <= args.largest <= 8192:
        raise UnusableInput(
            "--texel, --ceiling and --unseen have to be more than 0, --largest 16 to 8192", where="the command line"
        )
    target = destination(args.to)
    route = read_route(args.route) if args.route else Route()
    with telling() as progress:
        scene, _ = read(args.files, progress)
        assignment = assignment_of(scene, route)
        if args.route:
            scene, _ = run(scene, route, target, progress=progress)
        lamp = Lamp.of(scene, target, assignment)
        if args.unseen != 1:
            lamp = lamp.looked_for(scene, Workshop())
    told = lamp.report(Ask(args.texel, args.megabytes, args.ceiling, args.unseen, args.largest))
    enough = args.megabytes is None or told.bytes <= args.megabytes * 1e6
    if args.json:
        show(told.model_dump(by_alias=True))
        return 0 if enough else 1
    print(
        f"{told.maps} lightmaps, {told.bytes / 1e6:.3g} MB at {100 * told.texel_m:.3g} cm a texel "
        f"({100 * told.finest_m:.3g} to {100 * told.coarsest_m:.3g} cm as the maps have them), {told.ceilings} ceilings"
        + (f", {told.unseen} that nobody seems to see" if args.unseen != 1 else "")
    )
    if not enough:
        print(f"  {args.megabytes:g} MB are not enough: the smallest maps weigh {told.least / 1e6:.3g} MB")
    for one in told.sizes:
        print(f"  {one.maps} of {one.width} × {one.height}: {one.bytes / 1e6:.3g} MB")
    for b in told.bargains:
        print(f"  {b.coarser:.0%} coarser ({100 * b.texel_m:.3g} cm) would save {b.saved:.0%} of the bytes")
    return 0 if enough else 1


def run_bake(args: argparse.Namespace) -> int:
    from tidy_caravan.core.bake.look import look_at
    from tidy_caravan.core.bake.report import BakeAsk
    from tidy_caravan.core.steps.light_budget import LightBudget
    from tidy_caravan.core.work.heavy import Workshop

    target = destination(args.to)
    check_folder(args.out)
    try:
        asked = BakeAsk(
            samples=args.samples, divide=args.divide, bounces=args.bounces,
            sky=(args.sky * 0.87, args.sky, args.sky * 1.2), ground=(args.ground, args.ground, args.ground * 0.93),
            white=args.white, mark=args.mark, denoise=args.denoise,
            **{f"{name}{end}": getattr(args, f"{name}{end}") for name in ("sun", "lamps", "glow") for end in ("", "_color")},
        )  # fmt: skip
    except ValidationError as error:
        wrong = ", ".join(sorted({f"--{e['loc'][0]}" for e in error.errors()}))
        raise UnusableInput(f"{wrong} is out of range", where="the command line") from error
    route = read_route(args.route)
    if not args.route:
        route = route.model_copy(update={"steps": [*route.steps, LightBudget()]})
    with telling() as progress:
        scene, _ = read(args.files, progress)
        scene, _ = run(scene, route, target, progress=progress)
        if args.parts:
            chosen = [
                s for s, name in zip(scene.nodes.source.tolist(), scene.nodes.names, strict=True)
                if s >= 0 and any(fnmatchcase(name, pattern) for pattern in args.parts)
            ]  # fmt: skip
            asked = asked.model_copy(update={"parts": [scene.identities.names[s] for s in chosen]})
            if not chosen:
                raise UnusableInput(f"no part is called {' or '.join(args.parts)}", where="the command line")
        look = look_at(scene, target.lightmap_channel, asked, Workshop(), partial(progress, "tracing light"))
    report = look.report
    deliver(look.files(), args.out, args.files)
    if args.json:
        show(report.model_dump(by_alias=True))
        return 1 if report.lost else 0
    print(
        f"{report.maps} maps, {report.texels} texels, {report.samples} samples each in {report.seconds:.1f} s "
        f"({report.rays / max(report.seconds, 1e-9) / 1e6:.2f} million rays a second), noise {report.noise:.0%}"
    )
    print(
        f"  the file's lights: suns {report.sun_lux:.0f} lux, lamps {report.lamps_lumen:.0f} lumen, "
        f"what glows {report.glow_lumen:.0f} lumen; white is {report.white:.0f} lux"
    )
    for page in report.pages:
        of = "" if page.number is None else f", page {page.number} of the route"
        print(f"  {page.name}.exr: {page.width} × {page.height} texels{of}")
    for part in report.parts[:SHOWN]:
        print(
            f"  {part.name}: {part.lux:.0f} lux, noise {part.noise:.0%}, {part.buried:.0%} look into a wall, {part.leaks} texels with light through a gap"
        )
    for what in report.unread:
        print(f"  {what}")
    for why in report.lost:
        print(f"  lost: {why}")
    return 1 if report.lost else 0


def read_route(path: Path | None) -> Route:
    if path is None:
        return default_route()
    try:
        return parse_route(orjson.loads(path.read_bytes()))
    except OSError as error:
        raise UnusableInput(f"the route cannot be read ({error.strerror})", where=str(path)) from error
    except orjson.JSONDecodeError as error:
        raise UnusableInput(
            f"the route is no JSON (line {error.lineno}, column {error.colno})", where=str(path)
        ) from error


def run_carry(args: argparse.Namespace) -> int:
    target = destination(args.to)
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


def run_destinations(args: argparse.Namespace) -> int:
    if args.json:
        show([d.model_dump(by_alias=True, mode="json") for d in BUILT_IN])
    else:
        for d in BUILT_IN:
            print(f"{d.name:24}{d.title}, negative scale {'kept' if d.negative_scale else 'not accepted'}")
    return 0


COMMANDS: dict[str, Callable[[argparse.Namespace], int]] = {
    "survey": run_survey,
    "propose": run_propose,
    "carry": run_carry,
    "price": run_price,
    "light": run_light,
    "bake": run_bake,
    "arrive": run_arrive,
    "destinations": run_destinations,
}
