"""`light` and `bake`: what lightmaps weigh, and a first look at the light on them."""

from __future__ import annotations

import argparse
from fnmatch import fnmatchcase
from functools import partial

from pydantic import ValidationError

from tidy_caravan.commands.shared import SHOWN, read, read_route, routed, show, target_of, telling
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.packing.delivery import check_folder, deliver
from tidy_caravan.core.route import run
from tidy_caravan.core.work.heavy import Workshop


def run_light(args: argparse.Namespace) -> int:
    from tidy_caravan.core.lightmap.report import Ask, Lamp

    if not args.texel > 0 or not args.ceiling > 0 or not args.unseen > 0 or not 16 <= args.largest <= 8192:
        raise UnusableInput(
            "--texel, --ceiling and --unseen have to be more than 0, --largest 16 to 8192", where="the command line"
        )
    target = target_of(args.to)
    with telling() as progress:
        scene, assignment = routed(args, target, progress)
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

    target = target_of(args.to)
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
