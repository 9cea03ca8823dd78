"""Step: tangents by the common algorithm, where a normal map needs them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.faults import broken_tangents, opposed_tangents
from tidy_caravan.core.geometry.tangents import channel_of_normal_map, with_tangents
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import AnyArray
from tidy_caravan.core.steps.base import (
    Change,
    Phase,
    Step,
    StepContext,
    meshes_changed,
    parameter,
    per_mesh_work,
    step,
)
from tidy_caravan.core.work.heavy import Work
from tidy_caravan.core.work.meshes import SOURCE, STALE, everything_of, mesh_of

TANGENTS = Work("tangents", 1, f"{__name__}:mended_tangents", native=False)


def mended_tangents(arrays: Mapping[str, AnyArray], channel: int) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on one mesh: tangents of a UV channel where there are none, or broken ones, or some that run against it; nothing
    where they are good. channel: of its normal map, -1 for none, where broken ones are taken away."""
    mesh = mesh_of(arrays)
    broken = int(broken_tangents(mesh).sum())
    if channel < 0 or channel >= len(mesh.uvs) or mesh.normals is None:
        return ({STALE: np.zeros(0)} if broken else {}), {"made": 0, "gone": int(broken > 0)}
    if mesh.tangents is not None and not broken and not opposed_tangents(mesh, channel).any():
        return {}, {"made": 0, "gone": 0}
    rows = np.arange(mesh.vertices)
    made = with_tangents(replace(mesh, tangents=None, attributes={"row": rows}), channel)
    assert made.tangents is not None
    out = {SOURCE: made.attributes["row"], "indices": made.indices, "tangents": made.tangents}
    return out, {"made": 1, "gone": 0}


@step
class MendTangents(Step):
    """Computes tangents as the common algorithm does, with their sign, for parts whose material has a normal map: where they are
    missing, broken or run against its UV set. Good ones are never touched; broken ones that no normal map needs are taken away.

    Vertices are split where the map is mirrored or torn.
    """

    title = "Mend tangents"
    summary = (
        "Tangents where a normal map needs them and they are missing, broken or against its UV set; good ones stay."
    )

    phase = Phase.COORDINATES

    kind: Literal["mend_tangents"] = "mend_tangents"
    missing: bool = parameter(
        True,
        "Also where there are none",
        "Receivers make missing ones themselves; with them a part is put together only with others that have some",
    )

    def effects(self) -> tuple[Effect, ...]:
        return (Effect(Aspect.TANGENTS, why="Tangents were made anew by a step."), Effect(Aspect.SHARING))

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        kinds, which = scene.slot_kinds
        channels = np.array([channel_of_normal_map(scene.materials, slots) for slots in kinds] or [-1])[which]

        def of(i: int, mesh: Mesh) -> dict[str, Any]:
            return {"channel": int(channels[i])}

        asked = np.array([m.tangents is not None for m in scene.meshes] + [False])
        if self.missing:
            asked[:-1] |= channels >= 0
        chosen = context.selected(self.where, scene) & asked[scene.nodes.mesh]
        done = per_mesh_work(scene, chosen, context, TANGENTS, of, arrays=everything_of)
        changes: list[Change] = []
        for figure, text in (("made", "given tangents"), ("gone", "freed of broken tangents that no normal map needs")):
            meshes = np.array([bool(done.figures.get(i, {}).get(figure)) for i in range(len(scene.meshes))] + [False])
            changes += meshes_changed(scene, done.scene, done.changed & meshes[scene.nodes.mesh], text)
        return done.scene, [*changes, *done.lost]
