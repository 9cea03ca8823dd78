"""Prints the reference of checks, steps, formats, destinations, commands and addresses, from what registered itself."""

from __future__ import annotations

import argparse
import inspect
from collections.abc import Container
from typing import Any

from tidy_caravan.cli import parser
from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.formats import endings, writable
from tidy_caravan.core.formats.gltf.read import SUPPORTED
from tidy_caravan.core.formats.shared.images import READ
from tidy_caravan.core.steps import known_steps
from tidy_caravan.core.survey import known_checks
from tidy_caravan.server.app import create_app
from tidy_caravan.server.settings import Settings


def text() -> str:
    """The whole page as Markdown."""
    lines = [
        "# Checks, steps, formats, destinations, shell, API",
        "",
        "Printed by `python -m tidy_caravan.reference`; a test keeps it fresh.",
        "",
    ]
    lines += ["## Checks", "", "| family | check | what it looks for |", "| --- | --- | --- |"]
    for name, check in known_checks().items():
        note = " ".join((inspect.getdoc(check.run) or check.title).split())
        lines.append(f"| {check.family} | {check.title} (`{name}`) | {note} |")
    lines += [
        "",
        "The mends of all findings together are the proposed route (`tidy-caravan propose`, `GET /api/hauls/{id}/proposal`, "
        "“Propose a route” on the tape): what travels and units first, then one step for all findings that want the same, "
        "in the order of the phases, each with its reasons. Steps behind which there are only guesses wait to be chosen.",
        "",
        "Findings say where they are: `places`, the worst hundred first, each with its parts, its own value and lines in the "
        "world (the outline of an overlap, both sides of a gap, the triangles or edges at fault, the cells a modular piece "
        "should fill). `GET /api/scenes/{id}/findings/{finding}/places` gives them in metres, Y up, and "
        "`…/places/{n}/picture.png` a close picture; `tidy-caravan survey --pictures DIR` writes those of the three worst. "
        "What the newest run was before and after one of its steps: `POST /api/hauls/{id}/steps/{n}/views`, then "
        "`GET /api/jobs/{job}/view?side=before`; `tidy-caravan carry --pictures DIR` writes a picture after each step.",
        "",
        "## Steps",
        "",
    ]
    for kind, step in sorted(known_steps().items()):
        lines += [f"### {step.title} (`{kind}`)", "", " ".join((inspect.getdoc(step) or step.summary).split()), ""]
        schema = step.model_json_schema(by_alias=True)
        lines += [f"- {p}" for p in parameters(schema, ("kind", "enabled", "where"), schema.get("$defs", {}))]
        lines.append("")
    lines += [
        "Every step takes `where`: `names` (patterns with * and ?) and `parts` (identities, `file|own id or path|number`, as the survey and the ledger give them); all parts when empty.",
        "",
    ]
    lines += [
        "## Formats",
        "",
        f"Read: {', '.join(endings())}, and zip of them. Written: {', '.join(sorted(writable()))}.",
        "",
        "Of several files each model is one: those that were sent by themselves, and those nearest to the top of each folder and each "
        "archive; layers that others name are parts of these. What lies deeper is told.",
        "",
        f"Textures: {READ}. {', '.join(READ.replace(' or', ',').split(', ')[3:])} travel by their pixels, as PNG.",
        "",
        f"Extensions of glTF that are read: {', '.join(sorted(SUPPORTED))}. A file that requires another is refused; of an optional one "
        "it is told what stays behind. Text that is not UTF-8 is taken for Windows-1252, as a guess, in every format; NaN and letters "
        "cut in half cost their value only in glTF.",
        "",
    ]
    lines += [
        "## Destinations",
        "",
        "| name | unit | up | ahead | handedness | negative scale | largest texture |",
        "| --- | --- | --- | --- | --- | --- | --- |",
    ]
    for d in BUILT_IN:
        w = d.world
        scale = "kept" if d.negative_scale else "refused"
        lines.append(
            f"| `{d.name}` | {w.metres_per_unit:g} m | {w.up} | {w.forward} | {w.handedness} | {scale} | {d.max_texture} px |"
        )
    return "\n".join([*lines, "", *shell(), "", *addresses(), ""])


def shell() -> list[str]:
    """Every command with its options, as its help has them."""
    lines = [
        "## Shell",
        "",
        "Every command takes `--json`. Exit 0: fine. 1: findings of severity error, or something is missing or did not arrive. "
        '2: unusable input, one sentence on stderr; with `--json` also `{"problem": {code, title, where}}`, as the API tells it.',
    ]
    (commands,) = (a for a in parser()._actions if isinstance(a, argparse._SubParsersAction))
    said = {a.dest: a.help or "" for a in commands._choices_actions}
    for name, command in commands.choices.items():
        lines += ["", f"### `{name}`", "", f"{sentence(said[name])}", ""]
        for option in command._actions:
            if option.dest not in ("help", "json"):
                given = (
                    f" {option.metavar or option.dest.upper()}" if option.option_strings and option.nargs != 0 else ""
                )
                called = (option.option_strings or [option.dest.upper()])[0] + given
                default = "" if option.default in (None, False, argparse.SUPPRESS) else f" (default {option.default})"
                choices = f" {', '.join(map(str, option.choices))}." if option.choices else ""
                lines.append(f"- `{called}`: {sentence(option.help or option.dest)}{choices}{default}")
    return lines


def addresses() -> list[str]:
    """Every address of the API with what it is for."""
    lines = [
        "## API",
        "",
        "What it takes and answers: `GET /api/openapi.json`.",
        "",
        "| address | what it does |",
        "| --- | --- |",
    ]
    for path, operations in create_app(Settings(database=""), work=False).openapi()["paths"].items():
        for method, operation in operations.items():
            said = operation.get("description") or f"{operation['summary']}."
            lines.append(f"| `{method.upper()} {path}` | {' '.join(said.split())} |")
    return lines


def parameters(schema: dict[str, Any], without: Container[str], known: dict[str, Any]) -> list[str]:
    """A line for each parameter of a JSON schema, those of what a list holds below it. known: schemas by name."""
    lines = []
    for field, info in schema["properties"].items():
        if field in without:
            continue
        unit = f", in {info['unit']}" if info.get("unit") else ""
        only = "".join(
            f"; with `{k}` {' or '.join(f'`{v}`' for v in values)}" for k, values in info.get("only", {}).items()
        )
        fallback = f"default {info['default']}" if "default" in info else "needed"
        said = f"{info.get('title', field)}. {info.get('description', '')}{unit} ({allowed(info)}{fallback}{only})"
        lines.append(f"`{field}`: {said}")
        if name := info.get("items", {}).get("$ref", "").rpartition("/")[2]:
            lines += [f"each `{field}`: {line}" for line in parameters(known[name], (), known)]
    return lines


def allowed(info: dict[str, Any]) -> str:
    """The words or numbers that a parameter may have, by its JSON schema; empty where everything of its kind is."""
    info = {**info, **next((one for one in info.get("anyOf", ()) if one.get("type") != "null"), {})}
    if "enum" in info:
        return f"{', '.join(f'`{word}`' for word in info['enum'])}; "
    bounds = [
        f"{sign} {info[key]:.15g}"
        for key, sign in (("minimum", "≥"), ("exclusiveMinimum", ">"), ("maximum", "≤"), ("exclusiveMaximum", "<"))
        if key in info
    ]
    return f"{', '.join(bounds)}; " if bounds else ""


def sentence(text: str) -> str:
    return text[:1].upper() + text[1:].rstrip(".") + "."


if __name__ == "__main__":
    print(text(), end="")
