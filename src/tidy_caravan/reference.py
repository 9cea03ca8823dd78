"""Prints the reference of checks, steps, formats and destinations, from what registered itself."""

from __future__ import annotations

import inspect

from tidy_caravan.core.conventions.destinations import BUILT_IN
from tidy_caravan.core.formats import endings, writable
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
        "## Steps",
        "",
    ]
    for kind, step in sorted(known_steps().items()):
        lines += [f"### {step.title} (`{kind}`)", "", " ".join((inspect.getdoc(step) or step.summary).split()), ""]
        for field, info in step.model_json_schema(by_alias=True)["properties"].items():
            if field not in ("kind", "enabled", "where"):
                default = info.get("default")
                unit = f", in {info['unit']}" if info.get("unit") else ""
                lines.append(
                    f"- `{field}`: {info.get('title', field)}. {info.get('description', '')}{unit} (default {default})"
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
