"""Steps: fewer triangles within an error bound, or more of them where a surface is to be bent."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.regular import halved, longest_edge, with_middle_pulls, with_middles
from tidy_caravan.core.geometry.simplify import is_faceted, simplified, unit_normals
from tidy_caravan.core.scene import Mesh, Morph, Scene
from tidy_caravan.core.scene.arrays import I64, AnyArray
from tidy_caravan.core.scene.provenance import MADE, Origin
from tidy_caravan.core.steps.base import (
    Change,
    Phase,
    Step,
    StepContext,
    identities_of,
    parameter,
    per_mesh_work,
    replace_meshes,
    step,
)
from tidy_caravan.core.surroundings.world import scales
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.heavy import Work
from tidy_caravan.core.work.meshes import ORIGIN, SOURCE, whole_mesh_of, whole_of

LOADS = (
    "scipy.sparse.csgraph",
    "scipy.spatial",
    "tidy_caravan.core.compiled",
    "tidy_caravan.core.geometry.drawing_in",
    "tidy_caravan.core.geometry.nearest",
)
STEPS = 10_000
"""Into which each number of a normal is divided to tell whether neighbours lie in one plane."""
SIMPLIFY = Work("simplify", 6, f"{__name__}:fewer_triangles", memory=6 << 30)
SIMPLIFIED = "simplified"
"""In the extras of a scene: by mesh the error bound that it was simplified within, in millimetres."""
MOST_TRIANGLES = 4_000_000
"""Of one mesh, that subdivision makes at the most."""
MOST_LEVELS = 8
LOOKS = (Aspect.WINDING, Aspect.NORMALS, Aspect.TANGENTS, Aspect.FIRST_UV, Aspect.LIGHTMAP_UV, Aspect.FURTHER_UV)
"""What changes with the triangles and vertices of a surface."""


def fewer_triangles(
    arrays: Mapping[str, AnyArray], bound: float, share: float
) -> tuple[dict[str, AnyArray], dict[str, Any]]:
    """Work on one mesh: it with as few triangles as the bound, in its own units, allows; nothing where none can go."""
    mesh = whole_mesh_of(arrays)
    faceted = is_faceted(mesh)
    made = simplified(replace(mesh, normals=None) if faceted else mesh, bound, int(share * mesh.triangles))
    figures = {"before": mesh.triangles, "after": len(made.faces), "error": made.error}
    if len(made.faces) == mesh.triangles or not len(made.faces):
        return {}, figures | {"after": mesh.triangles}
    if faceted:  # and stays so
        flat = unit_normals(replace(mesh, indices=made.faces.astype(np.uint32)), np.arange(len(made.faces)))
        shown = np.column_stack([made.faces.reshape(-1), np.repeat(np.rint(flat * STEPS), 3, axis=0)]).astype(np.int64)
        _, first, indices = np.unique(shown, axis=0, return_index=True, return_inverse=True)
        used, more = made.faces.reshape(-1)[first], {"normals": flat[first // 3].astype(np.float32)}
    else:
        used, indices = np.unique(made.faces, return_inverse=True)
        more = {}
    return {
        **more,
        SOURCE: used,
        "indices": indices.reshape(-1, 3).astype(np.uint32),
        "material": made.material.astype(np.int32),
        ORIGIN: made.origin.astype(np.uint32),
    }, figures


@step
class Simplify(Step):
    """Draws vertices into a neighbour as long as the surface stays within the bound. Borders, seams of texture
    coordinates and normals, and borders of materials keep their line within it. What a vertex has is never mixed: textures
    shift by no more than the bound, colours and weights come to differ by at most two hundredths.
    A mesh whose triangles are all shaded flat, as from STL, has no line to keep in its normals and stays flat.
    Once per shared mesh; where instances are larger or smaller, the largest keeps the bound."""

    title = "Simplify"
    summary = "Fewer triangles within an error bound in millimetres; seams, borders and outlines are kept."

    phase = Phase.DENSITY
    once = False

    kind: Literal["simplify"] = "simplify"
    error_mm: float = parameter(1.0, "Error bound", "Furthest that the surface may come away", "mm", gt=0, le=10_000)
    least_percent: float = parameter(
        0.0, "Keep at least", "Part of the triangles that stays in any case", "%", ge=0, le=100
    )

    def effects(self) -> tuple[Effect, ...]:
        why = "Triangles were taken out within an error bound by a step."
        return (
            Effect(Aspect.TRIANGLES, why=why),
            Effect(Aspect.POSITIONS, self.error_mm),
            *(Effect(a) for a in LOOKS),
            Effect(Aspect.SHARING),
        )

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        chosen = context.selected(self.where, scene)
        largest = scales(scene, largest=True)

        def of(i: int, mesh: Mesh) -> dict[str, Any]:
            return {"bound": float(f"{self.error_mm / 1000 / largest[i]:.9g}"), "share": self.least_percent / 100}

        # what was simplified as far as that would come away twice as far the second time
        known: dict[str, float] = dict(scene.extras.get(SIMPLIFIED, {}))

        def wanted(mesh: Mesh) -> bool:
            return mesh.triangles > 0 and known.get(mesh.id, 0.0) < self.error_mm

        done = per_mesh_work(scene, chosen, context, SIMPLIFY, of, wanted, whole_of, lambda m: 60 + m.triangles / 2000)
        rows = np.flatnonzero(done.changed)
        if not len(rows):
            return scene, done.lost
        before = sum(int(f["before"]) for f in done.figures.values())
        after = sum(int(f["after"]) for f in done.figures.values())
        worst = max(float(f["error"]) * float(largest[i]) * 1000 for i, f in done.figures.items())
        meshes = sum(f["before"] != f["after"] for f in done.figures.values())
        text = f"{plural(before, 'triangle')} brought down to {plural(after, 'triangle')} in {plural(meshes, 'mesh', 'meshes')}, {worst:.2g} mm off at most"
        made = np.unique(done.scene.nodes.mesh[rows]).tolist()
        known |= {done.scene.meshes[i].id: self.error_mm for i in made}
        out = done.scene.but(extras={**done.scene.extras, SIMPLIFIED: known})
        return out, [Change(text=text, count=before - after, parts=identities_of(scene, rows)), *done.lost]


@step
class Subdivide(Step):
    """Every triangle becomes four, again and again, until no edge is longer than asked for: for surfaces that are to be
    bent or displaced. The surface itself stays where it is; texture coordinates and colours are in the middle of both
    ends, normals as well and of length one."""

    title = "Subdivide"
    summary = "More triangles, regularly, until no edge is longer than asked for; the surface stays where it is."

    phase = Phase.DENSITY
    once = False

    kind: Literal["subdivide"] = "subdivide"
    edge_mm: float = parameter(100.0, "Longest edge", "Where the part is drawn", "mm", gt=0, le=1_000_000)

    def effects(self) -> tuple[Effect, ...]:
        why = "Surfaces were subdivided by a step."
        return (Effect(Aspect.TRIANGLES, why=why), *(Effect(a) for a in LOOKS), Effect(Aspect.SHARING))

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        chosen = context.selected(self.where, scene) & (scene.nodes.mesh >= 0)
        largest = scales(scene, largest=True)
        made: dict[int, Mesh] = {}
        stuck: list[int] = []
        targets = np.unique(scene.nodes.mesh[chosen]).tolist()
        for k, i in enumerate(targets):
            context.progress(k, len(targets))
            limit = self.edge_mm / 1000 / float(largest[i])
            mesh = scene.meshes[i]
            levels = 0
            while longest_edge(mesh.positions, mesh.indices) > limit and levels < MOST_LEVELS:
                if mesh.triangles * 4 > MOST_TRIANGLES:
                    break
                mesh = finer(mesh)
                levels += 1
            if levels:
                made[i] = mesh
            if longest_edge(mesh.positions, mesh.indices) > limit:
                stuck.append(i)
        out, changed = replace_meshes(scene, np.flatnonzero(chosen), made)
        changes = []
        if made:
            count = sum(m.triangles - scene.meshes[i].triangles for i, m in made.items())
            text = f"{plural(count, 'triangle')} more in {plural(len(made), 'mesh', 'meshes')}"
            changes.append(Change(text=text, count=count, parts=identities_of(scene, np.flatnonzero(changed))))
        if stuck:
            rows = np.flatnonzero(chosen & np.isin(scene.nodes.mesh, stuck))
            text = f"{plural(len(stuck), 'mesh', 'meshes')} would need more than {plural(MOST_TRIANGLES, 'triangle')} or {MOST_LEVELS} rounds, and got as far as that"
            changes.append(Change(text=text, count=len(stuck), problem=True, parts=identities_of(scene, rows)))
        return (out if made else scene), changes


def finer(mesh: Mesh) -> Mesh:
    """The mesh with four triangles for each."""
    indices, edges = halved(mesh.indices.astype(np.int64), mesh.vertices)

    def more(values: Any, unit: int = 0) -> Any:
        return None if values is None else with_middles(values, edges, unit)

    count = 4 * mesh.triangles
    attributes = {k: more(v) for k, v in mesh.attributes.items()}
    attributes |= pulled(mesh.attributes, edges)
    return replace(
        mesh,
        positions=more(mesh.positions),
        indices=indices.astype(np.uint32),
        material=np.repeat(mesh.material, 4),
        normals=more(mesh.normals, 3),
        tangents=more(mesh.tangents, 3),
        uvs=tuple(more(u) for u in mesh.uvs),
        colors=tuple(more(c) for c in mesh.colors),
        attributes=attributes,
        morphs=tuple(Morph(more(m.positions), more(m.normals), more(m.tangents), m.name) for m in mesh.morphs),
        recipe=None,
        origin=Origin(np.full(count, MADE, np.uint32)),
    )


def pulled(attributes: Mapping[str, AnyArray], edges: I64) -> dict[str, AnyArray]:
    """The joints and weights of vertices and of the middles of edges: all sets side by side, since a joint may stand in one
    for one end and in another for the other."""
    sets = [k for k in range(16) if f"JOINTS_{k}" in attributes and f"WEIGHTS_{k}" in attributes]
    if not sets:
        return {}
    joints, weights = ([np.asarray(attributes[f"{name}_{k}"]) for k in sets] for name in ("JOINTS", "WEIGHTS"))
    ends = np.cumsum([j.shape[1] for j in joints])[:-1]
    both = with_middle_pulls(np.column_stack(joints), np.column_stack(weights), edges)
    cut = [np.split(one, ends, axis=1) for one in both]
    return {
        f"{name}_{k}": np.ascontiguousarray(part.astype(attributes[f"{name}_{k}"].dtype))
        for name, parts in zip(("JOINTS", "WEIGHTS"), cut, strict=True)
        for k, part in zip(sets, parts, strict=True)
    }
