"""`destinations` and `yardstick`: the conventions that are known, and how one of one's own is proven."""

from __future__ import annotations

import argparse
import datetime
import re

import orjson
from pydantic import ValidationError

from tidy_caravan.commands.shared import show, target_of
from tidy_caravan.core.arrival.habits import answer_of, habit_named, yardstick_files
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.conventions.yardstick import Answers, read_answers
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.packing.delivery import check_folder, deliver


def run_destinations(args: argparse.Namespace) -> int:
    known = [target_of(args.name)] if args.name else list(BUILT_IN)
    if args.json:
        shown = [d.model_dump(by_alias=True, mode="json") for d in known]
        show(shown[0] if args.name else shown)
        return 0
    for d in known:
        print(f"{d.name:24}{d.title}, negative scale {'kept' if d.negative_scale else 'not accepted'}")
        for fmt, habit in d.importers.items() if args.name else ():
            print(f"  {fmt:6}{habit.proof.sentence if habit.proof else habit.numbers.replace('-', ' ')}")
    return 0


def run_yardstick(args: argparse.Namespace) -> int:
    target = target_of(args.to)
    seen = told(args) if args.sizes or args.marks else None
    habit = habit_named(args.habit) if args.habit else None
    if seen and habit:
        raise UnusableInput("either somebody tells what is seen, or --habit does", where="the command line")
    if not (seen or habit) and (args.keep or not args.out):
        what = "--keep keeps what follows from it" if args.keep else "--out writes it"
        raise UnusableInput(
            f"{what}, --sizes and --marks tell what is seen of it, --habit asks a stand-in", where="the command line"
        )
    if args.keep:
        check_folder(args.keep.absolute().parent)
    files = yardstick_files(target, args.format) if args.out else {}
    if args.out:
        deliver(files, args.out, [])
    if habit:
        seen = answer_of(habit, target, args.format)
    written = {"files": [str(args.out / name) for name in files]} if args.out else {}
    if seen is None:
        show(written) if args.json else print("\n".join(written["files"]))
        return 0
    reading = read_answers(target, args.format, seen, datetime.date.today().isoformat())
    if args.keep and reading.destination:
        name = slug(args.keep.stem) if target.built_in else target.name
        own = reading.destination.model_copy(update={"name": name})
        args.keep.write_bytes(
            orjson.dumps(own.model_dump(by_alias=True, mode="json"), option=orjson.OPT_INDENT_2) + b"\n"
        )
    if args.json:
        show({**written, "answers": seen.model_dump(by_alias=True), **reading.model_dump(by_alias=True, mode="json")})
    else:
        for text in [*written.get("files", []), *(reading.problems or [reading.sentence, *reading.remarks])]:
            print(text)
    return 1 if reading.problems else 0


def told(args: argparse.Namespace) -> Answers:
    """What somebody says they see. Raises UnusableInput."""
    if not args.sizes or not args.marks:
        raise UnusableInput("--sizes and --marks are needed together", where="the command line")
    try:
        return Answers.model_validate(
            {
                "sizes": args.sizes.split(","),
                "marks": args.marks.split(","),
                "shownIn": args.shown_in,
                "nodeScale": args.node_scale,
                "picture": args.image or "not looked",
            }
        )
    except ValidationError as error:
        first = error.errors()[0]
        option = {"shownIn": "shown-in", "nodeScale": "node-scale"}.get(str(first["loc"][0]), str(first["loc"][0]))
        raise UnusableInput(f"--{option}: {first['msg']}", where="the command line") from error


def slug(text: str) -> str:
    """A name for a destination, of the letters, digits and hyphens of a text."""
    return re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-")[:80] or "own"
