"""Ways to let parts travel, with the price of each side by side, and steps that meet a budget. Every figure is measured
on the scene as the step makes it, never guessed from counts."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from pydantic import Field

from tidy_caravan.core.conventions.destinations import CamelModel
from tidy_caravan.core.price import Price, came_from, price
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.scene.arrays import Bool
from tidy_caravan.core.steps import StepContext, parse_step
from tidy_caravan.core.steps.base import Where
from tidy_caravan.core.words import plural

ALIKE = 0.05
"""Part of a frame's cost that is not worth giving up anything for."""
MOST_STEPS = 6
CELLS_M = (8.0, 20.0, 50.0)
ERRORS_MM = (1.0, 3.0, 10.0, 30.0)
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


def overshoot(cost: Price, budget: Budget) -> dict[str, float]:
    """By how many times each figure is beyond the budget, those that are."""
    calls = cost.draw_calls_instanced if budget.instanced else cost.draw_calls
    size = (cost.vertex_bytes + cost.index_bytes + cost.texture_bytes) / 1e6
    figures = {
        "draw calls": (calls, budget.draw_calls),
        "triangles": (cost.triangles, budget.triangles),
        "MB": (size, budget.megabytes),
    }
    return {name: value / most for name, (value, most) in figures.items() if most and value > most}


def candidates() -> list[tuple[str, dict[str, Any]]]:
    """Steps that a budget may take, those that give up least first."""
    out: list[tuple[str, dict[str, Any]]] = [
        ("copies share their meshes; nothing is given up", {"kind": "share_copies"}),
        (
            "one mesh for each material within a group; pieces of a group are no longer told apart",
            {"kind": "combine_parts", "by": "parent"},
        ),
    ]
    out += [
        (
            f"one mesh in each cell of {c:g} m; culling goes by cells",
            {"kind": "combine_parts", "by": "cell", "cellM": c},
        )
        for c in CELLS_M
    ]
    out += [(f"surfaces come away by {e:g} mm at most", {"kind": "simplify", "errorMm": e}) for e in ERRORS_MM]
    out.append(("everything in as few meshes as can be; nothing is told apart", {"kind": "combine_parts", "by": "all"}))
    return out


def plan_for(scene: Scene, context: StepContext, budget: Budget) -> Plan:
    """Steps that bring the whole scene under the budget: of those that help, the first that gives up least and is enough,
    or else the one that helps most. Raises Cancelled."""
    made = scene
    prices = [price(scene, context.destination)]
    steps: list[dict[str, Any]] = []
    reasons: list[str] = []
    left = candidates()
    while (over := overshoot(prices[-1], budget)) and len(steps) < MOST_STEPS:
        tried: list[tuple[bool, float, int, str, dict[str, Any], Scene, Price]] = []
        for why, step in left:
            context.progress(len(steps), MOST_STEPS)
            out, _ = parse_step(step).apply(made, context)
            cost = price(out, context.destination)
            after = overshoot(cost, budget)
            worst = max(after.values(), default=1.0)
            helps = sum(over.values()) - sum(after.get(n, 1.0) for n in over)
            if helps > 1e-9 and set(after) <= set(over):
                tried.append((worst > 1.0, 0.0 if worst <= 1.0 else -helps, len(tried), why, step, out, cost))
            if worst <= 1.0 and helps > 0:
                break
        if not tried:
            break
        # what is enough, else what helps by half as much as the best and gives up least
        enough = [t for t in tried if not t[0]]
        best = max((-t[1] for t in tried), default=0.0)
        one = enough[0] if enough else next(t for t in tried if -t[1] >= best / 2)
        _, _, _, why, step, made, cost = one
        steps.append(step)
        reasons.append(why)
        prices.append(cost)
        left = [c for c in left if c[1] != step]
    over = overshoot(prices[-1], budget)
    told = [f"{name} are still {times:.3g} times what they may be" for name, times in over.items()]
    return Plan(steps=steps, reasons=reasons, prices=prices, met=not over, over=told)
