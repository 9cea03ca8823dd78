"""The same core from the shell: survey, propose, carry, arrive, destinations.

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
TO_HELP = "the destination; see destinations"
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


class Parser(argparse.ArgumentParser):
    """Usage errors are one sentence, like every other unusable input."""

    def error(self, message: str) -> NoReturn:
        raise CaravanError(f"{message}; see tidy-caravan --help", code="shell.usage")


def parser() -> Parser:
    top = Parser(
        prog="tidy-caravan", description="Carry whole scenes into real-time engines and prove that they arrived."
    )
    commands = top.add_subparsers(dest="command", required=True, parser_class=Parser)
    one = commands.add_parser("survey", help="what is in a scene file, and what is wrong with it")
    one.add_argument("files", type=place, nargs="+", metavar="FILE", help=FILE_HELP)
    one.add_argument("--destination", metavar="NAME", help="whose limits hold; see destinations")
    one.add_argument("--route", type=place, metavar="ROUTE.json", help="with what it says is left as it is")
    one.add_argument("--pictures", type=place, metavar="DIR", help="a picture of the worst places of each finding")
    two = commands.add_parser("carry", help="bring a scene to a destination and pack it")
    two.add_argument("files", type=place, nargs="+", metavar="FILE", help=FILE_HELP)
    two.add_argument("--to", required=True, metavar="NAME", help=TO_HELP)
    two.add_argument("--out", required=True, type=place, metavar="DIR", help="for the package and its manifest")
    two.add_argument("--route", type=place, metavar="ROUTE.json", help="steps and sets; the usual ones otherwise")
    two.add_argument("--format", type=writable_format, default="glb", metavar="FORMAT", help=FORMATS_HELP)
    two.add_argument("--pictures", type=place, metavar="DIR", help="a picture before and after each step")
    three = commands.add_parser(
        "arrive", help="read a package back as its destination would and compare it with the source"
    )
    three.add_argument("dir", type=place, help="folder of the package")
    three.add_argument(
        "--against", required=True, type=place, nargs="+", metavar="FILE", help="the source that it was made from"
    )
    four = commands.add_parser("destinations", help="the conventions that are known")
    five = commands.add_parser("propose", help="the route that the survey of a scene proposes, with reasons")
    five.add_argument("files", type=place, nargs="+", metavar="FILE", help=FILE_HELP)
    five.add_argument("--to", required=True, metavar="NAME", help=TO_HELP)
    five.add_argument("--route", type=place, metavar="ROUTE.json", help="whose sets, and what is left as it is, hold")
    five.add_argument(
        "--out", type=place, metavar="ROUTE.json", help="write it for carry; what is unsure is switched off"
    )
    six = commands.add_parser(
        "price", help="what a frame of a scene costs, ways to combine parts, steps that meet a budget"
    )
    six.add_argument("files", type=place, nargs="+", metavar="FILE", help=FILE_HELP)
    six.add_argument("--to", required=True, metavar="NAME", help=TO_HELP)
    six.add_argument("--route", type=place, metavar="ROUTE.json", help="price what the route makes of it")
    six.add_argument("--top", choices=("part", "mesh", "material", "layer"), default="part", help="what costs most, by")
    six.add_argument("--parts", metavar="PATTERN", help="compare ways to let parts of such names travel")
    six.add_argument(
        "--by",
        choices=("parent", "layer", "material", "cell", "all"),
        default="parent",
        help="what they are combined by",
    )
    six.add_argument("--calls", type=int, default=0, metavar="N", help="steps that bring draw calls below this")
    six.add_argument("--triangles", type=int, default=0, metavar="N", help="the same for triangles")
    six.add_argument(
        "--megabytes", type=float, default=0, metavar="MB", help="the same for vertices, indices, textures"
    )
    seven = commands.add_parser("light", help="what lightmaps weigh, for a texel size or for so many megabytes")
    seven.add_argument("files", type=place, nargs="+", metavar="FILE", help=FILE_HELP)
    seven.add_argument("--to", required=True, metavar="NAME", help=TO_HELP)
    seven.add_argument("--route", type=place, metavar="ROUTE.json", help="of what the route makes of it, by its sets")
    seven.add_argument("--texel", type=float, default=0.05, metavar="M", help="metres of a texel of weight 1")
    seven.add_argument("--megabytes", type=float, metavar="MB", help="the finest texels that are enough for")
    seven.add_argument("--ceiling", type=float, default=0.5, metavar="W", help="weight of flat parts above head height")
    seven.add_argument(
        "--unseen", type=float, default=1.0, metavar="W", help="weight of what nobody sees; 1 does not look for it"
    )
    seven.add_argument("--largest", type=int, default=2048, metavar="TEXELS", help="along the largest map")
    eight = commands.add_parser("bake", help="trace light on the lightmaps of what a route makes, and write its pages")
    eight.add_argument("files", type=place, nargs="+", metavar="FILE", help=FILE_HELP)
    eight.add_argument("--to", required=True, metavar="NAME", help=TO_HELP)
    eight.add_argument("--route", type=place, metavar="ROUTE.json", help="the route; the usual one otherwise")
    eight.add_argument(
        "--out", type=place, required=True, metavar="FOLDER", help="for light.exr and light.png, or those of each page"
    )
    eight.add_argument("--samples", type=int, default=8, metavar="N", help="of each texel")
    eight.add_argument(
        "--divide", type=int, default=4, metavar="N", help="maps that many times smaller, for a first look"
    )
    eight.add_argument("--bounces", type=int, default=6, metavar="N", help="reflections of light")
    eight.add_argument("--sky", type=float, default=2300.0, metavar="CD", help="candela per m² of the sky")
    eight.add_argument(
        "--ground", type=float, default=300.0, metavar="CD", help="the same of what is below the horizon"
    )
    for name, what in (("sun", "the suns of the file"), ("lamps", "its other lamps"), ("glow", "what glows")):
        eight.add_argument(f"--{name}", type=float, default=1.0, metavar="X", help=f"times the power of {what}")
        eight.add_argument(
            f"--{name}-color", type=colour, default=(1.0, 1.0, 1.0), metavar="R,G,B", help="and of this colour"
        )
    eight.add_argument("--white", type=float, metavar="LUX", help="white in the picture; found out otherwise")
    eight.add_argument(
        "--parts",
        action="append",
        default=[],
        metavar="NAME",
        help="only parts of that name, as in door_*; may be repeated",
    )
    eight.add_argument("--denoise", action="store_true", help="take the noise out of the page")
    eight.add_argument("--mark", action="store_true", help="mark texels that look into a wall in the picture")
    for command in (one, two, three, four, five, six, seven, eight):
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
            from tidy_caravan import commands  # brings all libraries with it; the help needs none of them

        seldom()
        return commands.COMMANDS[args.command](args)
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
