"""`price`: what a frame costs, ways to combine parts, steps that meet a budget."""

from __future__ import annotations

import argparse
from functools import partial

from tidy_caravan.commands.shared import SHOWN, routed, show, target_of, telling


def run_price(args: argparse.Namespace) -> int:
    from tidy_caravan.core.plans import Budget, alternatives, plan_for
    from tidy_caravan.core.price import costly, price
    from tidy_caravan.core.steps import StepContext, Where

    target = target_of(args.to)
    with telling() as progress:
        scene, assignment = routed(args, target, progress)
        context = StepContext(target, assignment=assignment, progress=partial(progress, "weighing"))
        whole, top = price(scene, target), costly(scene, target, args.top)
        ways = alternatives(scene, context, Where(names=[args.parts]), args.by) if args.parts else []
        wanted = Budget(draw_calls=args.calls, triangles=args.triangles, megabytes=args.megabytes)
        plan = plan_for(scene, context, wanted) if wanted != Budget() else None
    if args.json:
        show(
            {
                "price": whole.model_dump(by_alias=True),
                "costly": [c.model_dump(by_alias=True) for c in top],
                "alternatives": [w.model_dump(by_alias=True, mode="json") for w in ways],
                "plan": plan.model_dump(by_alias=True, mode="json") if plan else None,
            }
        )
        return 0 if plan is None or plan.met else 1
    print(
        f"{whole.objects} objects, {whole.draw_calls} draw calls ({whole.draw_calls_instanced} with instancing), "
        f"{whole.triangles} triangles, {(whole.vertex_bytes + whole.index_bytes) / 1e6:.3g} MB of meshes, {whole.frame_us / 1000:.3g} ms of a frame"
    )
    for c in top[:SHOWN]:
        print(f"  {c.name}: {c.frame_us:.0f} µs, {c.draw_calls} calls, {c.triangles} triangles in {c.parts} parts")
    for w in ways:
        print(
            f"{'* ' if w.recommended else '  '}{w.title}: {w.price.draw_calls} calls, {w.price.frame_us / 1000:.3g} ms. {w.reason}"
        )
    for step, why, cost in zip(plan.steps, plan.reasons, plan.prices[1:], strict=True) if plan else ():
        print(f"  {step['kind']}: {cost.draw_calls} calls, {cost.triangles} triangles; {why}")
    for text in plan.over if plan else ():
        print(f"  {text}")
    return 0 if plan is None or plan.met else 1
