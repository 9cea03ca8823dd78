"""The route that a survey proposes: every mend of its findings as one step each, where it belongs, with the reasons.

Nothing is decided here that a person could not read: a step stands for the findings that it would settle, and for
nothing else, beside what every delivery needs.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from pydantic import BaseModel, ConfigDict, Field
from pydantic.alias_generators import to_camel

from tidy_caravan.core.conventions.destinations import Destination
from tidy_caravan.core.selection import MOST_IDS
from tidy_caravan.core.steps import AnyStep, known_steps, parse_step
from tidy_caravan.core.steps.base import Phase
from tidy_caravan.core.survey import Finding

WHERE = "where"
AGAIN = "share_copies again"
EVENS_OUT = {"clean_vertices", "drop_degenerates", "drop_repeated", "turn_faces"}
"""Steps by which meshes become alike that were not."""


class Proposed(BaseModel):
    """A step with the reasons for it. given: the parameters that the findings ask for; the others are as they come. rank: of
    the phase that it goes to the end of, its own but where a reason says otherwise.

    guess: every finding behind it is unsure, so that it is to be looked at before it is taken.
    """

    model_config = ConfigDict(alias_generator=to_camel, populate_by_name=True)

    step: AnyStep
    given: list[str] = Field(default_factory=list)
    title: str
    phase: str
    rank: int
    reasons: list[str]
    guess: bool = False


def propose(findings: Iterable[Finding], destination: Destination) -> list[Proposed]:
    """All steps that the findings ask for, in the order of a route; of two that want a parameter differently the worse
    finding has it, which comes first. Mends that are sets and not steps are left to the person."""
    wanted: dict[str, dict[str, Any]] = {}
    reasons: dict[str, list[str]] = {}
    sure: set[str] = set()
    for kind, why in (
        ("what_travels", "What stays behind is left behind first, so that no later step works on it."),
        ("match_units_axes", f"Every delivery needs the unit and axes of its destination: {destination.title}."),
    ):
        wanted[kind], reasons[kind] = {"kind": kind}, [why]
        sure.add(kind)
    kinds = known_steps()
    unshared = ""
    for finding in findings:
        mend = finding.mend
        if finding.code in ("sharing.loose-copies", "sharing.none") and not finding.left:
            unshared = unshared or finding.title
        if not mend or mend["kind"] not in kinds or finding.left:
            continue
        if len((mend.get(WHERE) or {}).get("parts", ())) > MOST_IDS:
            continue  # more than a step can name; the finding says so, and a person may take a rule instead
        kind = mend["kind"]
        values = {k: v for k, v in mend.items() if k not in ("kind", WHERE)}
        # steps of which one is enough take up what all ask for; the others stand for one set of parameters each
        key = kind if kinds[kind].once else f"{kind} {sorted(values.items())}"
        if key in wanted:
            wanted[key] = widened({**values, **wanted[key]}, mend)
        else:
            wanted[key] = dict(mend)
        reasons.setdefault(key, []).append(f"{finding.title}: {finding.text}")
        if not finding.guess:
            sure.add(key)
    for turn in [k for k in wanted if wanted[k]["kind"] == "turn_faces" and wanted[k].get(WHERE)]:
        # what shows its back flickers only once it is turned
        lifts = [k for k in wanted if wanted[k]["kind"] == "mend_overlaps"]
        for key in lifts:
            both = widened(wanted[key], wanted[turn])
            if WHERE in both and len(both[WHERE]["parts"]) <= MOST_IDS:
                wanted[key] = both
        if not lifts and wanted[turn].get("how") == "seen":
            key = "mend_overlaps of what is turned"
            wanted[key] = {"kind": "mend_overlaps", WHERE: wanted[turn][WHERE]}
            reasons[key] = ["What is turned to be seen may lie on what is behind it, and flicker only then."]
            sure |= {key} if turn in sure else set()
    if "recentre" in wanted and "sourceMetresPerUnit" in wanted["match_units_axes"]:
        reasons["recentre"].append(
            "Its distances are for the unit that the file declares: with another one, take them from a survey after the run."
        )
    out = []
    order = list(kinds)
    rank = {key: kinds[step["kind"]].phase.rank for key, step in wanted.items()}
    if unshared and any(step["kind"] in EVENS_OUT for step in wanted.values()):
        wanted[AGAIN], rank[AGAIN] = {"kind": "share_copies"}, Phase.FACES.rank
        reasons[AGAIN] = [f"{unshared}: some become copies only by what is mended before, so once more behind it."]
        sure.add(AGAIN)
    for key in sorted(wanted, key=lambda k: (rank[k], k == AGAIN, order.index(wanted[k]["kind"]))):
        step = parse_step(wanted[key])
        out.append(
            Proposed(
                step=step,
                given=[k for k in wanted[key] if k != "kind"],
                title=step.title,
                phase=step.phase.value,
                rank=rank[key],
                reasons=reasons[key],
                guess=key not in sure,
            )
        )
    return out


def widened(step: dict[str, Any], mend: dict[str, Any]) -> dict[str, Any]:
    """The step for the parts of another mend as well; for all where one of them says nothing of parts."""
    one, other = step.get(WHERE), mend.get(WHERE)
    rest = {k: v for k, v in step.items() if k != WHERE}
    if one is None or other is None or set(one) != {"parts"} or set(other) != {"parts"}:
        return rest
    return {**rest, WHERE: {"parts": list(dict.fromkeys([*one["parts"], *other["parts"]]))}}


def as_route(proposed: Iterable[Proposed]) -> dict[str, Any]:
    """The route as JSON, what is unsure switched off."""
    steps = [p.step.model_copy(update={"enabled": not p.guess}) for p in proposed]
    return {"steps": [s.model_dump(by_alias=True, mode="json") for s in steps]}
