"""Prints the reference of checks, steps, formats and destinations, from what registered itself."""

from __future__ import annotations

import inspect

from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.formats import endings, writable
from tidy_caravan.core.formats.gltf.read import SUPPORTED
from tidy_caravan.core.steps import known_steps
from tidy_caravan.core.survey import known_checks


def text() -> str:
    """The whole page as Markdown."""
    lines = [
        "# Checks, steps, formats, destinations",
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
        for field, info in step.model_json_schema(by_alias=True)["properties"].items():
            if field not in ("kind", "enabled", "where"):
                default = info.get("default")
                unit = f", in {info['unit']}" if info.get("unit") else ""
                only = "".join(
                    f"; with `{k}` {' or '.join(f'`{v}`' for v in values)}"
                    for k, values in info.get("only", {}).items()
                )
                lines.append(
                    f"- `{field}`: {info.get('title', field)}. {info.get('description', '')}{unit} (default {default}{only})"
                )
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
    return "\n".join([*lines, ""])


if __name__ == "__main__":
    print(text(), end="")
