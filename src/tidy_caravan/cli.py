"""The same core from the shell: what the page does with a scene file, by commands.

Exit 0: fine. 1: findings of severity error, or a failed arrival. 2: unusable input, one sentence on stderr, and with
`--json` its code, title and place as well, as the API gives them.
Only what the help needs is imported here.
"""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import NoReturn

from tidy_caravan.core.errors import CaravanError
from tidy_caravan.core.loading import loading, seldom

FILE_HELP = "a scene, alone or in a zip; of several each is a part of one scene"
TO_HELP = "the destination (see destinations), or a file of one of your own, as in engine.json"
FORMATS_HELP = "glb (as it is without), gltf, usda, usdc, usdz, dae, obj, ply, stl"


def writable_format(name: str) -> str:
    """A format that can be written. Raises ArgumentTypeError that names those."""
    from tidy_caravan.core.formats import writable

    if name not in writable():
        raise argparse.ArgumentTypeError(f"“{name[:40]}” cannot be written; known are {', '.join(sorted(writable()))}")
    return name


def place(text: str) -> Path:
    """A file or folder. Raises ArgumentTypeError for no name at all, which would stand for the folder one is in."""
    if not text.strip():
        raise argparse.ArgumentTypeError("the name is empty")
    return Path(text)


def sources(command: argparse.ArgumentParser) -> None:
    command.add_argument("files", type=place, nargs="+", metavar="FILE", help=FILE_HELP)


class Parser(argparse.ArgumentParser):
    """Usage errors are one sentence, like every other unusable input."""

    def error(self, message: str) -> NoReturn:
        raise CaravanError(f"{message}; see tidy-caravan --help", code="shell.usage")


def parser() -> Parser:
    top = Parser(
        prog="tidy-caravan", description="Carry whole scenes into real-time engines and prove that they arrived."
    )
    commands = top.add_subparsers(dest="command", required=True, parser_class=Parser)
    surveyed = commands.add_parser("survey", help="what is in a scene file, and what is wrong with it")
    sources(surveyed)
    surveyed.add_argument("--destination", metavar="NAME", help="whose limits hold; see destinations")
    surveyed.add_argument(
        "--route", type=place, metavar="ROUTE.json", help="with its sets, and what it leaves as it is"
    )
    surveyed.add_argument("--pictures", type=place, metavar="DIR", help="a picture of the worst places of each finding")
    shaped = commands.add_parser(
        "shapes", help="what came as no mesh, with its triangles now and as Make shapes again would make it"
    )
    sources(shaped)
    shaped.add_argument("--route", type=place, metavar="ROUTE.json", help="whose unit and axes of the source hold")
    shaped.add_argument("--tolerance", type=float, metavar="MM", help="largest distance of a chord from its arc")
    shaped.add_argument("--segments", type=int, metavar="N", help="of a full circle, instead of a tolerance")
    shaped.add_argument("--level", type=int, metavar="N", help="rounds of subdivision")
    shaped.add_argument("--parts", metavar="PATTERN", help="only parts of such names, as in bollard_*")
    carried = commands.add_parser("carry", help="bring a scene to a destination and pack it")
    sources(carried)
    carried.add_argument("--to", required=True, metavar="NAME", help=TO_HELP)
    carried.add_argument("--out", required=True, type=place, metavar="DIR", help="for the package and its manifest")
    carried.add_argument("--route", type=place, metavar="ROUTE.json", help="steps and sets; the usual ones otherwise")
    carried.add_argument("--format", type=writable_format, default="glb", metavar="FORMAT", help=FORMATS_HELP)
    carried.add_argument("--pictures", type=place, metavar="DIR", help="a picture before and after each step")
    arrived = commands.add_parser(
        "arrive", help="read a package back as its destination would and compare it with the source"
    )
    arrived.add_argument("dir", type=place, help="folder of the package")
    arrived.add_argument(
        "--against", required=True, type=place, nargs="+", metavar="FILE", help="the source that it was made from"
    )
    known = commands.add_parser("destinations", help="the conventions that are known")
    known.add_argument("name", nargs="?", metavar="NAME", help="only this one, whole; with --json as the page takes it")
    proven = commands.add_parser(
        "yardstick", help="a test object for a destination, and what follows from what is seen of it there"
    )
    proven.add_argument("--to", required=True, metavar="NAME", help=TO_HELP)
    proven.add_argument("--format", type=writable_format, default="glb", metavar="FORMAT", help=FORMATS_HELP)
    proven.add_argument("--out", type=place, metavar="DIR", help="write it there")
    proven.add_argument("--sizes", metavar="X,Y,Z", help="that the other side shows of it")
    proven.add_argument(
        "--marks", metavar="A,B,C", help="where its one, two and three blocks point, as in Y,Z,-X (--marks=-X,Y,Z)"
    )
    proven.add_argument(
        "--shown-in",
        choices=("metre", "centimetre", "millimetre", "inch", "foot", "decimetre", "kilometre"),
        default="metre",
        help="the unit of those sizes",
    )
    proven.add_argument(
        "--node-scale", type=float, default=1.0, metavar="X", help="the scale that it shows on the object"
    )
    proven.add_argument(
        "--image", choices=("upright", "upside-down", "mirrored", "missing"), help="how the arrow of its texture lies"
    )
    proven.add_argument("--habit", metavar="HABIT", help="let a stand-in receiver answer; an unknown one names all")
    proven.add_argument("--keep", type=place, metavar="FILE.json", help="the destination that follows, for --to")
    proposed = commands.add_parser("propose", help="the route that the survey of a scene proposes, with reasons")
    sources(proposed)
    proposed.add_argument("--to", required=True, metavar="NAME", help=TO_HELP)
    proposed.add_argument(
        "--route", type=place, metavar="ROUTE.json", help="whose sets, and what is left as it is, hold"
    )
    proposed.add_argument(
        "--out", type=place, metavar="ROUTE.json", help="write it for carry; what is unsure is switched off"
    )
    priced = commands.add_parser(
        "price", help="what a frame of a scene costs, ways to combine parts, steps that meet a budget"
    )
    sources(priced)
    priced.add_argument("--to", required=True, metavar="NAME", help=TO_HELP)
    priced.add_argument("--route", type=place, metavar="ROUTE.json", help="price what the route makes of it")
    priced.add_argument(
        "--top", choices=("part", "mesh", "material", "layer"), default="part", help="what costs most, by"
    )
    priced.add_argument("--parts", metavar="PATTERN", help="compare ways to let parts of such names travel")
    priced.add_argument(
        "--by",
        choices=("parent", "layer", "material", "cell", "all"),
        default="parent",
        help="what they are combined by",
    )
    priced.add_argument("--calls", type=int, default=0, metavar="N", help="steps that bring draw calls below this")
    priced.add_argument("--triangles", type=int, default=0, metavar="N", help="the same for triangles")
    priced.add_argument(
        "--megabytes", type=float, default=0, metavar="MB", help="the same for vertices, indices, textures"
    )
    weighed = commands.add_parser("light", help="what lightmaps weigh, for a texel size or for so many megabytes")
    sources(weighed)
    weighed.add_argument("--to", required=True, metavar="NAME", help=TO_HELP)
    weighed.add_argument("--route", type=place, metavar="ROUTE.json", help="of what the route makes of it, by its sets")
    weighed.add_argument("--texel", type=float, default=0.05, metavar="M", help="metres of a texel of weight 1")
    weighed.add_argument("--megabytes", type=float, metavar="MB", help="the finest texels that are enough for")
    weighed.add_argument(
        "--ceiling", type=float, default=0.5, metavar="W", help="weight of flat parts above head height"
    )
    weighed.add_argument(
        "--unseen", type=float, default=1.0, metavar="W", help="weight of what nobody sees; 1 does not look for it"
    )
    weighed.add_argument("--largest", type=int, default=2048, metavar="TEXELS", help="along the largest map")
    baked = commands.add_parser("bake", help="trace light on the lightmaps of what a route makes, and write its pages")
    sources(baked)
    baked.add_argument("--to", required=True, metavar="NAME", help=TO_HELP)
    baked.add_argument("--route", type=place, metavar="ROUTE.json", help="the route; the usual one otherwise")
    baked.add_argument(
        "--out", type=place, required=True, metavar="FOLDER", help="for light.exr and light.png, or those of each page"
    )
    baked.add_argument("--samples", type=int, default=8, metavar="N", help="of each texel")
    baked.add_argument(
        "--divide", type=int, default=4, metavar="N", help="maps that many times smaller, for a first look"
    )
    baked.add_argument("--bounces", type=int, default=6, metavar="N", help="reflections of light")
    baked.add_argument("--sky", type=float, default=2300.0, metavar="CD", help="candela per m² of the sky")
    baked.add_argument(
        "--ground", type=float, default=300.0, metavar="CD", help="the same of what is below the horizon"
    )
    for name, what in (("sun", "the suns of the file"), ("lamps", "its other lamps"), ("glow", "what glows")):
        baked.add_argument(f"--{name}", type=float, default=1.0, metavar="X", help=f"times the power of {what}")
        baked.add_argument(
            f"--{name}-color", type=colour, default=(1.0, 1.0, 1.0), metavar="R,G,B", help="and of this colour"
        )
    baked.add_argument("--white", type=float, metavar="LUX", help="white in the picture; found out otherwise")
    baked.add_argument(
        "--parts",
        action="append",
        default=[],
        metavar="NAME",
        help="only parts of that name, as in door_*; may be repeated",
    )
    baked.add_argument("--denoise", action="store_true", help="take the noise out of the page")
    baked.add_argument("--mark", action="store_true", help="mark texels that look into a wall in the picture")
    for command in commands.choices.values():
        command.add_argument("--json", action="store_true", help="print JSON")
    return top


def colour(text: str) -> tuple[float, float, float]:
    """Three numbers of one colour in linear light."""
    parts = [float(part) for part in text.split(",")]
    if len(parts) != 3 or not all(0 <= part < float("inf") for part in parts):
        raise ValueError
    return parts[0], parts[1], parts[2]


def main(argv: list[str] | None = None) -> int:
    """Runs one command; returns the exit code."""
    argv = sys.argv[1:] if argv is None else argv
    args = argparse.Namespace(json="--json" in argv)  # also where the rest of the line cannot be understood
    try:
        args = parser().parse_args(argv)
        with loading():
            from tidy_caravan.commands import command_named  # brings libraries with it; the help needs none of them

            command = command_named(args.command)
        seldom()
        return command(args)
    except SystemExit as stop:
        return int(stop.code or 0)
    except CaravanError as error:
        problem(args.json, error)
    except BrokenPipeError:
        sys.stderr.close()
        return 0
    except KeyboardInterrupt:
        print("tidy-caravan: stopped", file=sys.stderr)
    except OSError as error:
        what = f"{(error.strerror or str(error) or type(error).__name__).lower()}; nothing more was written"
        problem(args.json, CaravanError(what, where=str(error.filename or ""), code="shell.system"))
    except MemoryError:
        problem(args.json, CaravanError("there is not enough memory", code="shell.system"))
    return 2


def problem(as_json: bool, error: CaravanError) -> None:
    """One sentence for a person, and for a program the same in the fields that the API has."""
    print(f"tidy-caravan: {error.sentence()}", file=sys.stderr)
    if as_json:
        import json

        print(json.dumps({"problem": {"code": error.code, "title": error.what, "where": error.where}}))


def entry() -> None:
    raise SystemExit(main())


if __name__ == "__main__":
    entry()
