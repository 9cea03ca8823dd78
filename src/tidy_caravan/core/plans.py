"""Ways to let parts travel, with the price of each side by side, and steps that meet a budget. Every figure is measured
on the scene as the step makes it, never guessed from counts."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from pydantic import Field

from tidy_caravan.core.conventions.destinations import CamelModel
from tidy_caravan.core.price import Price, came_from, price
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import F64, I64, Bool
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.core.steps.base import Where
from tidy_caravan.core.words import plural

ALIKE = 0.05
"""Part of a frame's cost that is not worth giving up anything for."""
MOST_STEPS = 6
CELLS_M = (8.0, 20.0, 50.0)
ERRORS_MM = (1.0, 3.0, 10.0, 30.0)
DRAWN, TRIANGLES, SIZE = "draw calls", "triangles", "MB"
FIELDS = {DRAWN: "draw_calls", TRIANGLES: "triangles", SIZE: "megabytes"}
"""Of a budget."""
By = Literal["parent", "layer", "material", "cell", "set", "all"]


class Alternative(CamelModel):
    """One way. steps: what it takes, nothing as it is. price: of the parts that were asked about. addressable, movable:
    what can still be named, and what can still move by itself."""

    title: str
    steps: list[dict[str, Any]] = Field(default_factory=list)
    price: Price
    addressable: str
    movable: str
    recommended: bool = False
    reason: str = ""


class Budget(CamelModel):
    """Most that there may be; 0 leaves a figure open. instanced: draw calls are counted with instancing."""

    draw_calls: int = Field(default=0, ge=0, le=100_000_000, title="Draw calls")
    triangles: int = Field(default=0, ge=0, le=10_000_000_000, title="Triangles")
    megabytes: float = Field(default=0, ge=0, le=1e7, title="Vertices, indices and textures, MB")
    instanced: bool = False


class Plan(CamelModel):
    """Steps towards a budget. prices: as it is, and after each step. over: figures that are still beyond it, in words."""

    steps: list[dict[str, Any]]
    reasons: list[str]
    prices: list[Price]
    met: bool
    over: list[str] = Field(default_factory=list)


def alternatives(
    scene: Scene, context: StepContext, where: Where, by: By = "parent", cell_m: float = 10.0
) -> list[Alternative]:
    """What becomes of the chosen parts in each way. Raises Cancelled."""
    chosen = context.selected(where, scene) & (scene.nodes.mesh >= 0)
    kept = where.model_dump(by_alias=True, exclude_defaults=True, mode="json")
    combine = {"kind": "combine_parts", "by": by, "where": kept} | ({"cellM": cell_m} if by == "cell" else {})
    ways: list[tuple[str, list[dict[str, Any]]]] = [
        ("As they are", []),
        ("Copies share their meshes", [{"kind": "share_copies", "where": kept}]),
        ("Apart under one node", [{**combine, "to": "node"}]),
        ("One mesh for each material", [{**combine, "to": "mesh_per_material"}]),
        ("One mesh with sub-meshes", [{**combine, "to": "mesh"}]),
    ]
    ids = scene.nodes.source[chosen]
    out = []
    for k, (title, steps) in enumerate(ways):
        context.progress(k, len(ways))
        made = scene
        for step in steps:
            made, _ = parse_step(step).apply(made, context)
        rows = chosen if not steps else drawn_of(made, scene, chosen, came_from(made, ids))
        cost = price(made, context.destination, np.flatnonzero(rows))
        named, movable = what_stays(made, rows, title)
        out.append(Alternative(title=title, steps=steps, price=cost, addressable=named, movable=movable))
    return recommended(out)


def drawn_of(made: Scene, before: Scene, chosen: Bool, came: Bool) -> Bool:
    """(N',) the parts that the chosen ones became; where they have no source, by their names."""
    if came.any():
        return came & (made.nodes.mesh >= 0)
    names = {before.nodes.names[i] for i in np.flatnonzero(chosen).tolist()}
    return np.array([n in names for n in made.nodes.names], np.bool_) & (made.nodes.mesh >= 0)


def what_stays(scene: Scene, rows: Bool, title: str) -> tuple[str, str]:
    """What can be named, and what can move by itself."""
    parts = int(rows.sum())
    slots = len({s for m in np.unique(scene.nodes.mesh[rows]).tolist() for s in scene.meshes[m].slots})
    groups = ", and each group" if title == "Apart under one node" else ""
    return f"{plural(parts, 'part')} and {plural(slots, 'material')}", plural(parts, "part") + groups


def recommended(ways: list[Alternative]) -> list[Alternative]:
    """The ways, the cheapest frame marked; of those that are as good as it the one that keeps most apart."""
    least = min(w.price.frame_us for w in ways)
    now = ways[0].price.frame_us
    best = next(k for k, w in enumerate(ways) if w.price.frame_us <= least + ALIKE * now)
    one = ways[best]
    if best == 0:
        reason = f"Nothing saves more than {ALIKE:.0%} of their {now / 1000:.3g} ms, so they keep all that can be named and moved."
    else:
        reason = (
            f"{one.price.frame_us / 1000:.3g} ms of a frame instead of {now / 1000:.3g} ms, and no way that keeps more apart is within "
            f"{ALIKE:.0%} of it; draw calls {ways[0].price.draw_calls} to {one.price.draw_calls} "
            f"({ways[0].price.draw_calls_instanced} to {one.price.draw_calls_instanced} with instancing)."
        )
    return [
        w.model_copy(update={"recommended": k == best, "reason": reason if k == best else ""})
        for k, w in enumerate(ways)
    ]


def figures_of(cost: Price, budget: Budget) -> dict[str, tuple[float, float]]:
    """What there is of each figure, and what there may be, 0 for any."""
    calls = cost.draw_calls_instanced if budget.instanced else cost.draw_calls
    size = (cost.vertex_bytes + cost.index_bytes + cost.texture_bytes) / 1e6
    return {
        DRAWN: (calls, budget.draw_calls),
        TRIANGLES: (cost.triangles, budget.triangles),
        SIZE: (size, budget.megabytes),
    }


def overshoot(cost: Price, budget: Budget) -> dict[str, float]:
    """By how many times each figure is beyond the budget, those that are."""
    return {name: value / most for name, (value, most) in figures_of(cost, budget).items() if most and value > most}


@dataclass(frozen=True)
class Candidate:
    """A step that a budget may take. unit: what it may be narrowed to where not all is needed, each by itself."""

    why: str
    step: dict[str, Any]
    unit: Literal["mesh", "group", ""] = ""


def candidates(scene: Scene) -> list[Candidate]:
    """Those that give up least first. Where all parts are under one node, its group is everything and no candidate."""
    parents = "one mesh for each material within a group; pieces of a group are no longer told apart"
    out = [Candidate("copies share their meshes; nothing is given up", {"kind": "share_copies"})]
    if len(np.unique(scene.nodes.parent[scene.nodes.parts])) > 1:
        out.append(Candidate(parents, {"kind": "combine_parts", "by": "parent"}, "group"))
    for c in CELLS_M:
        step = {"kind": "combine_parts", "by": "cell", "cellM": c}
        out.append(Candidate(f"one mesh in each cell of {c:g} m; culling goes by cells", step, "group"))
    for e in ERRORS_MM:
        out.append(Candidate(f"surfaces come away by {e:g} mm at most", {"kind": "simplify", "errorMm": e}, "mesh"))
    last = "everything in as few meshes as can be; nothing is told apart"
    return [*out, Candidate(last, {"kind": "combine_parts", "by": "all"})]


def plan_for(scene: Scene, context: StepContext, budget: Budget) -> Plan:
    """Steps that bring the scene under the budget: of those that help, the first that gives up least and is enough, for as
    much of the scene as it takes, or else the one that helps most. Raises Cancelled."""
    made = scene
    prices = [price(scene, context.destination)]
    steps: list[dict[str, Any]] = []
    reasons: list[str] = []
    left = candidates(scene)
    while (over := overshoot(prices[-1], budget)) and len(steps) < MOST_STEPS:
        tried: list[tuple[bool, float, Candidate, Scene, Price]] = []
        for one in left:
            context.progress(len(steps), MOST_STEPS)
            out, _ = parse_step(one.step).apply(made, context)
            cost = price(out, context.destination)
            after = overshoot(cost, budget)
            worst = max(after.values(), default=1.0)
            helps = sum(over.values()) - sum(after.get(n, 1.0) for n in over)
            if helps > 1e-9 and set(after) <= set(over):
                tried.append((worst <= 1.0, helps, one, out, cost))
            if worst <= 1.0 and helps > 0:
                break
        if not tried:
            break
        # what is enough, else what helps by half as much as the best and gives up least
        best = max(t[1] for t in tried)
        _, _, one, out, cost = next((t for t in tried if t[0]), next(t for t in tried if t[1] >= best / 2))
        step, why = one.step, one.why
        after = overshoot(cost, budget)
        if one.unit and after.keys() < over.keys() and all(after[n] > over[n] - 1e-9 for n in after):
            # it is enough for some figures, and does nothing for the others: no more of it than those need
            asked = budget.model_copy(update={FIELDS[n]: 0 for n in after})
            if less := narrowed(made, out, one, context, asked, prices[-1]):
                step, why, out, cost = less
        made = out
        steps.append(step)
        reasons.append(why)
        prices.append(cost)
        left = [c for c in left if c is not one]
    over = overshoot(prices[-1], budget)
    told = [f"{name} are still {times:.3g} times what they may be" for name, times in over.items()]
    return Plan(steps=steps, reasons=reasons, prices=prices, met=not over, over=told)


def narrowed(
    before: Scene, after: Scene, one: Candidate, context: StepContext, budget: Budget, cost: Price
) -> tuple[dict[str, Any], str, Scene, Price] | None:
    """The step for those meshes or groups alone that save most, as few as are enough; None where that takes all of them.

    after: the scene with the step for all. cost: before it. What each saves is estimated, and the step is tried with
    twice as many until it is enough.
    """
    units = by_mesh(before, after) if one.unit == "mesh" else by_group(before, after)
    need = {n: v for n, v in beyond(cost, budget).items() if v > 0}
    if len(units.rows) < 2 or (before.nodes.source[np.concatenate(units.rows)] < 0).any():
        return None
    worst = max(need, key=lambda n: need[n] / units.saved[n].sum() if units.saved[n].sum() > 0 else 0.0)
    order = np.argsort(-units.saved[worst], kind="stable")
    enough = [int(np.searchsorted(np.cumsum(units.saved[n][order]), v)) + 1 for n, v in need.items()]
    count = max(enough)
    while count < len(order):
        rows = np.sort(np.concatenate([units.rows[k] for k in order[:count].tolist()]))
        step = {**one.step, "where": {"parts": before.identities.given(before.nodes.source[rows].tolist())}}
        out, _ = parse_step(step).apply(before, context)
        paid = price(out, context.destination)
        if not overshoot(paid, budget):
            what = f"{count} of {plural(len(order), 'mesh', 'meshes') if one.unit == 'mesh' else plural(len(order), 'group')}"
            return step, f"{one.why}; for the {what} that save most, which is enough", out, paid
        count *= 2
    return None


@dataclass(frozen=True)
class Units:
    """What a step does to each of U meshes or groups: rows, the parts before it; saved, by figure (U,)."""

    rows: list[I64]
    saved: dict[str, F64]


def beyond(cost: Price, budget: Budget) -> dict[str, float]:
    """By how much each figure is beyond the budget, below nought where it is not."""
    return {name: value - most for name, (value, most) in figures_of(cost, budget).items() if most}


def by_mesh(before: Scene, after: Scene) -> Units:
    """Of a step that keeps the nodes and makes meshes less."""
    mesh, rows = before.nodes.mesh, before.nodes.parts
    order = rows[np.argsort(mesh[rows], kind="stable")]
    kinds, begins = np.unique(mesh[order], return_index=True)
    parts = np.split(order, begins[1:])
    pairs = [
        (before.meshes[i], after.meshes[after.nodes.mesh[p[0]]], len(p))
        for i, p in zip(kinds.tolist(), parts, strict=True)
    ]
    some = [k for k, (a, b, _) in enumerate(pairs) if b.triangles < a.triangles]
    triangles = np.array([(pairs[k][0].triangles - pairs[k][1].triangles) * pairs[k][2] for k in some], np.float64)
    size = np.array([pairs[k][0].nbytes - pairs[k][1].nbytes for k in some], np.float64) / 1e6
    return Units([parts[k] for k in some], {DRAWN: np.zeros(len(some)), TRIANGLES: triangles, SIZE: size})


def by_group(before: Scene, after: Scene) -> Units:
    """Of a step that makes one part of several. Bytes of meshes that are shared no more are not estimated."""
    slots = np.array([len(m.slots) for m in before.meshes] + [0])[before.nodes.mesh]
    row_of = np.full(int(before.nodes.source.max(initial=-1)) + 1, -1, np.int64)
    rows = before.nodes.parts[before.nodes.source[before.nodes.parts] >= 0]
    row_of[before.nodes.source[rows]] = rows
    groups: list[I64] = []
    saved = []
    for node, several in after.nodes.sources.items():
        mine = row_of[several[several < len(row_of)]]
        mine = mine[mine >= 0]
        if len(mine) > 1 and after.nodes.mesh[node] >= 0:
            groups.append(mine)
            saved.append(float(slots[mine].sum() - len(after.meshes[after.nodes.mesh[node]].slots)))
    none = np.zeros(len(groups))
    return Units(groups, {DRAWN: np.array(saved), TRIANGLES: none, SIZE: none})
