"""What all commands do alike: reading sources and routes, telling how far the work is, printing."""

from __future__ import annotations

import argparse
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import orjson

from tidy_caravan.core.conventions.destinations import Destination, destination, parse_destination
from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats import bundles_from_paths, digest_of
from tidy_caravan.core.formats.merge import load_all
from tidy_caravan.core.route import Route, assignment_of, default_route, parse_route, run
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.selection import Assignment
from tidy_caravan.core.survey import Finding

SHOWN = 12
TELL_SECONDS = 0.2
"""Between two lines of what is going on."""
Progress = Callable[[str, int, int], None]
"""Hears what is done, how much of it, and of how much, 0 where nobody knows."""


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


def routed(args: argparse.Namespace, target: Destination, progress: Progress) -> tuple[Scene, Assignment]:
    """What a route makes of some files, or they themselves where none is named; and how its sets are to be treated."""
    route = read_route(args.route) if args.route else Route()
    scene, _ = read(args.files, progress)
    assignment = assignment_of(scene, route)
    return (run(scene, route, target, progress=progress)[0] if args.route else scene), assignment


def called(paths: Sequence[Path]) -> str:
    return ", ".join(path.name for path in paths)


def show(data: Any) -> None:
    sys.stdout.buffer.write(orjson.dumps(data, option=orjson.OPT_INDENT_2) + b"\n")


def target_of(text: str) -> Destination:
    """The built-in destination of that name, or the user's own in that file. Raises CaravanError."""
    if not text.endswith(".json"):
        return destination(text)
    return parse_destination(read_json(Path(text), "destination"), text)


def read_route(path: Path | None) -> Route:
    """The usual route where there is none. Raises UnusableInput, BadRoute."""
    return default_route() if path is None else parse_route(read_json(path, "route"))


def read_json(path: Path, what: str) -> Any:
    """Raises UnusableInput. what: is in the file, for its sentence."""
    try:
        return orjson.loads(path.read_bytes())
    except OSError as error:
        raise UnusableInput(f"the {what} cannot be read ({error.strerror})", where=str(path)) from error
    except orjson.JSONDecodeError as error:
        raise UnusableInput(
            f"the {what} is no JSON (line {error.lineno}, column {error.colno})", where=str(path)
        ) from error


def print_findings(findings: list[Finding]) -> None:
    for effect in dict.fromkeys(f.effect for f in findings):
        print(f"{effect[0].upper()}{effect[1:]}")
        for f in (f for f in findings if f.effect == effect):
            guess = " (a guess)" if f.guess else ""
            mend = f"  → {f.mend['kind']}" if f.mend else ""
            left = f"  left as it is: {f.left}" if f.left else mend
            print(f"  {f.severity:8}{f.code:24}{f.text}{guess}{left}")
