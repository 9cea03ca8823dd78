"""The route that a survey proposes: every mend of its findings as one step each, where it belongs, with the reasons.

Nothing is decided here that a person could not read: a step stands for the findings that it would settle, beside what
every delivery needs and what only those steps may bring about: copies, and surfaces that flicker.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any

from pydantic import BaseModel, ConfigDict, Field
from pydantic.alias_generators import to_camel

from tidy_caravan.core.conventions.destinations import Destination
from tidy_caravan.core.selection import MOST_IDS
from tidy_caravan.core.steps import AnyStep, known_steps, parse_step
from tidy_caravan.core.steps.base import Phase
from tidy_caravan.core.survey import Finding

WHERE = "where"
FILE = "file"
NO_LONGER_DRAWN = "Parts that stood on an equal one are no longer drawn and leave a node that leads to nothing."
FLICKERS_THEN = "What is turned to be seen may lie on what is behind it, and flicker only then."
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


@dataclass
class Draft:
    """A step in the making. again: behind all else of its rank."""

    step: dict[str, Any]
    reasons: list[str]
    rank: int
    sure: bool = False
    again: bool = False

    @property
    def kind(self) -> str:
        return str(self.step["kind"])


def propose(findings: Iterable[Finding], destination: Destination) -> list[Proposed]:
    """All steps that the findings ask for, in the order of a route; of two that want a parameter differently the worse
    finding has it, which comes first. Mends that are sets and not steps are left to the person."""
    kinds = known_steps()

    def draft(step: dict[str, Any], why: str, sure: bool = False) -> Draft:
        return Draft(step, [why], kinds[step["kind"]].phase.rank, sure)

    drafts = {
        kind: draft({"kind": kind}, why, True)
        for kind, why in (
            ("what_travels", "What stays behind is left behind first, so that no later step works on it."),
            ("match_units_axes", f"Every delivery needs the unit and axes of its destination: {destination.title}."),
        )
    }
    unshared = ""
    undrawn: dict[str, Any] = {}
    for finding in findings:
        mend = finding.mend
        if finding.code in ("sharing.loose-copies", "sharing.none") and not finding.left:
            unshared = unshared or finding.title
        if not mend or mend["kind"] not in kinds or finding.left:
            continue
        if len((mend.get(WHERE) or {}).get("parts", ())) > MOST_IDS:
            continue  # more than a step can name; the finding says so, and a person may take a rule instead
        if finding.code == "part.twice":
            undrawn = mend[WHERE]
        values = {k: v for k, v in mend.items() if k not in ("kind", WHERE)}
        # steps of which one is enough take up what all ask for; the others stand for one set of parameters each
        key = mend["kind"] if kinds[mend["kind"]].once else f"{mend['kind']} {sorted(values.items())}"
        why = f"{finding.title}: {finding.text}"
        if key in drafts:
            drafts[key].step = widened(joined(values, drafts[key].step), mend)
            drafts[key].reasons.append(why)
        else:
            drafts[key] = draft(dict(mend), why)
        drafts[key].sure |= not finding.guess
    made = list(drafts.values())
    if "recentre" in drafts and {"sourceMetresPerUnit", "files"} & drafts["match_units_axes"].step.keys():
        why = "Its distances are for the unit that the file declares: with another one, take them from a survey after the run."
        drafts["recentre"].reasons.append(why)
    if undrawn and "drop_empties" not in drafts:
        made.append(draft({"kind": "drop_empties", WHERE: undrawn}, NO_LONGER_DRAWN, True))
    if lift := lifted_when_turned(made):
        made.append(draft({"kind": "mend_overlaps", WHERE: lift.step[WHERE]}, FLICKERS_THEN, lift.sure))
    if unshared and any(d.kind in EVENS_OUT for d in made):
        why = f"{unshared}: some may become copies only by what is mended before, so once more behind it."
        made.append(replace(draft({"kind": "share_copies"}, why, True), rank=Phase.FACES.rank, again=True))
    order = list(kinds)
    # twins go before what flickers is lifted, or they would be lifted off each other

    def turn(d: Draft) -> tuple[int, bool, int, bool]:
        return d.rank, d.again, order.index(d.kind), d.step.get("how") != "remove"

    return [as_proposed(d) for d in sorted(made, key=turn)]


def lifted_when_turned(made: list[Draft]) -> Draft | None:
    """Widens the steps that lift what flickers to what is turned, which may flicker then. Where there is none, the step that
    turns what is to be seen, if any."""
    turns = [d for d in made if d.kind == "turn_faces" and d.step.get(WHERE)]
    lifts = [d for d in made if d.kind == "mend_overlaps" and d.step.get("how", "lift") == "lift"]
    for one in lifts:
        for turn in turns:
            both = widened(one.step, turn.step)
            if WHERE in both and len(both[WHERE]["parts"]) <= MOST_IDS:
                one.step = both
    seen = [d for d in turns if d.step.get("how") == "seen"]
    return max(seen, key=lambda d: d.sure) if seen and not lifts else None


def as_proposed(draft: Draft) -> Proposed:
    step = parse_step(draft.step)
    return Proposed(
        step=step,
        given=[k for k in draft.step if k != "kind"],
        title=step.title,
        phase=step.phase.value,
        rank=draft.rank,
        reasons=draft.reasons,
        guess=not draft.sure,
    )


def joined(values: dict[str, Any], step: dict[str, Any]) -> dict[str, Any]:
    """The step with values where it has none. Lists of what is said of files take up those of which nothing is said yet, and
    what is not said of those that are there."""
    out = {**values, **step}
    for key in (k for k in values.keys() & step.keys() if isinstance(step[k], list)):
        if all(isinstance(one, dict) and FILE in one for one in [*values[key], *step[key]]):
            there = {one[FILE]: one for one in step[key]}
            fresh = {one[FILE]: {**one, **there.get(one[FILE], {})} for one in values[key]}
            out[key] = list({**there, **fresh}.values())
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
