"""Rules that select parts, sets made of them, and the treatment that each set gets.

Rules are data and are evaluated against the scene as it is, so they survive the next revision.
"""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Iterable, Sequence
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator
from pydantic.alias_generators import to_camel

from tidy_caravan.core.figures import view_map
from tidy_caravan.core.geometry.pose import at_rest
from tidy_caravan.core.scene import HIDDEN, SCATTER, Scene
from tidy_caravan.core.scene.arrays import F64, I64, Bool

HEAVY_TRIANGLES = 20_000
HEAVY_RATIO = 30
"""A mesh is a heavy mesh from HEAVY_TRIANGLES on when it has HEAVY_RATIO times the scene's median, or of two meshes that of the
other."""
HEAVY_ALONE = 2_000_000
"""Triangles from which on one is heavy whatever is beside it."""
Kind = Literal["mesh", "instanced", "unique", "scattered", "heavy", "converted", "hidden", "light", "camera", "helper"]
MOST_IDS = 200_000
Count = Annotated[int, Field(ge=0, le=2**53)]
"""Whole numbers up to where JSON's readers tell each from the next (RFC 8259, 6)."""
Identity = Annotated[str, Field(max_length=20_000)]
"""What a part is called from one version of its files to the next, `file|own|number` (see scene/identity.py)."""


class Model(BaseModel):
    model_config = ConfigDict(
        alias_generator=to_camel, populate_by_name=True, extra="forbid", frozen=True, allow_inf_nan=False
    )


class Box(Model):
    """Corners in metres, Y up, right-handed, as the view shows them. whole: the part lies wholly inside."""

    min: tuple[float, float, float]
    max: tuple[float, float, float]
    whole: bool = False


class Rule(Model):
    """Conditions that hold together; an empty rule holds for every node.

    Patterns know * and ?, whatever the case. types: class or type that the source gives, such as IfcDoor.
    size: largest edge of the part's box in metres. parts: identities, by hand.
    """

    names: list[str] = Field(default_factory=list, max_length=200)
    paths: list[str] = Field(default_factory=list, max_length=200)
    layers: list[str] = Field(default_factory=list, max_length=200)
    kinds: list[Kind] = Field(default_factory=list, max_length=20)
    types: list[str] = Field(default_factory=list, max_length=200)
    materials: list[str] = Field(default_factory=list, max_length=200)
    least_triangles: Count | None = None
    most_triangles: Count | None = None
    least_size: float | None = Field(default=None, ge=0, description="Metres")
    most_size: float | None = Field(default=None, ge=0, description="Metres")
    least_instances: Count | None = None
    most_instances: Count | None = None
    inside: Box | None = None
    parts: list[Identity] = Field(default_factory=list, max_length=MOST_IDS)

    @model_validator(mode="before")
    @classmethod
    def _none_is_empty(cls, data: Any) -> Any:
        return {k: v for k, v in data.items() if v is not None} if isinstance(data, dict) else data

    @property
    def empty(self) -> bool:
        return self == type(self)()

    def select(self, scene: Scene) -> Bool:
        """(N,) True for the nodes that meet every condition. O(nodes + distinct names · patterns)."""
        nodes = scene.nodes
        out = np.ones(len(nodes), np.bool_)
        if self.parts:
            out &= named(scene, self.parts)
        if self.names:
            out &= matching(nodes.names, self.names)
        if self.paths:
            out &= matching(nodes.paths, self.paths)
        if self.layers:
            good = [i for i, layer in enumerate(scene.layers) if fits(layer, self.layers)]
            out &= np.isin(nodes.layer, good)
        if self.types:
            typed = [i for i, extra in nodes.extras.items() if any(fits(t, self.types) for t in types_of(extra))]
            marked = np.zeros(len(nodes), np.bool_)
            marked[typed] = True
            out &= marked
        if self.kinds:
            out &= np.logical_or.reduce([of_kind(scene, k) for k in self.kinds])
        if self.materials:
            slots = {i for i, m in enumerate(scene.materials) if fits(m.name, self.materials)}
            out &= by_mesh(scene, [bool(slots & set(m.slots)) for m in scene.meshes])
        triangles = [m.triangles for m in scene.meshes]
        counts = scene.instance_counts.tolist()
        for least, most, values in (
            (self.least_triangles, self.most_triangles, triangles),
            (self.least_instances, self.most_instances, counts),
        ):
            if least is not None or most is not None:
                out &= by_mesh(scene, [(least or 0) <= v and (most is None or v <= most) for v in values])
        if self.least_size is not None or self.most_size is not None or self.inside is not None:
            out &= self._placed(scene)
        return out

    def _placed(self, scene: Scene) -> Bool:
        parts = scene.nodes.parts
        corners = at_rest(scene).part_bounds @ view_map(scene).T
        low, high = corners.min(axis=1), corners.max(axis=1)
        good = np.ones(len(parts), np.bool_)
        size = (high - low).max(axis=1) if len(parts) else np.zeros(0)
        if self.least_size is not None:
            good &= size >= self.least_size
        if self.most_size is not None:
            good &= size <= self.most_size
        if self.inside is not None:
            a, b = np.array(self.inside.min), np.array(self.inside.max)
            if self.inside.whole:
                good &= ((low >= a) & (high <= b)).all(axis=1)
            else:
                middle = (low + high) / 2
                good &= ((middle >= a) & (middle <= b)).all(axis=1)
        out = np.zeros(len(scene.nodes), np.bool_)
        out[parts[good]] = True
        return out


def named(scene: Scene, parts: Sequence[str]) -> Bool:
    """(N,) True for the nodes that came from source nodes of these identities, also where they are one of several."""
    ids = scene.identities.rows(parts)
    out: Bool = np.isin(scene.nodes.source, ids)
    for i, several in scene.nodes.sources.items():
        out[i] |= bool(np.isin(several, ids).any())
    return out


def fits(text: str, patterns: Iterable[str]) -> bool:
    lowered = text.lower()
    return any(fnmatch.fnmatchcase(lowered, p.lower()) for p in patterns)


def matching(texts: Sequence[str], patterns: Sequence[str]) -> Bool:
    """(N,) True where any pattern fits; distinct texts are looked at once, all patterns in one expression."""
    whole = re.compile("|".join(fnmatch.translate(p.lower()) for p in patterns))
    verdict = {t: whole.match(t.lower()) is not None for t in set(texts)}
    return np.fromiter((verdict[t] for t in texts), np.bool_, len(texts))


def types_of(extra: Any) -> list[str]:
    """Class and type that a reader put on a node."""
    data = extra.get("ifc") if isinstance(extra, dict) else None
    return [str(data[k]) for k in ("class", "type") if k in data] if isinstance(data, dict) else []


def by_mesh(scene: Scene, marked: Sequence[bool]) -> Bool:
    table: Bool = np.append(np.array(marked, np.bool_), False)
    out: Bool = table[scene.nodes.mesh]
    return out


def heavy_meshes(scene: Scene) -> list[bool]:
    """Per mesh: whether it stands out as a heavy mesh (see HEAVY_RATIO), or is one by itself (see HEAVY_ALONE)."""
    limit = float(HEAVY_ALONE)
    if len(scene.meshes) > 1:
        limit = min(limit, max(HEAVY_TRIANGLES, HEAVY_RATIO * usual_triangles(scene)))
    return [count >= limit for count in scene.triangle_counts.tolist()]


def usual_triangles(scene: Scene) -> float:
    """What a mesh's triangles are compared with: their median, of two meshes those of the smaller."""
    triangles = scene.triangle_counts
    return float(np.median(triangles) if len(triangles) > 2 else triangles.min())


def of_kind(scene: Scene, kind: Kind) -> Bool:
    nodes = scene.nodes
    drawn = nodes.mesh >= 0
    if kind == "mesh":
        return drawn
    if kind in ("instanced", "unique"):
        shared = by_mesh(scene, (scene.instance_counts > 1).tolist())
        return shared if kind == "instanced" else drawn & ~shared
    if kind == "scattered":
        below: Bool = (nodes.parent >= 0) & ((nodes.flags & SCATTER) > 0)[nodes.parent]
        return below
    if kind == "heavy":
        return by_mesh(scene, heavy_meshes(scene))
    if kind == "converted":
        return by_mesh(scene, [m.recipe is not None for m in scene.meshes])
    if kind == "hidden":
        hidden: Bool = (nodes.flags & HIDDEN) > 0
        return hidden
    if kind == "light":
        return nodes.light >= 0
    if kind == "camera":
        return nodes.camera >= 0
    idle: Bool = ~drawn & (nodes.light < 0) & (nodes.camera < 0) & (nodes.children_count == 0)
    return idle


class Treatment(Model):
    """How the parts of a set are dealt with.

    lightmap_weight: density against the others. heavy: one shared mesh, never unwrapped.
    """

    leave_out: bool = False
    lightmapped: bool = True
    lightmap_weight: float = Field(default=1.0, gt=0, le=100)
    shadow_only: bool = False
    heavy: bool = False
    collision: Literal["none", "box", "sphere", "capsule", "hull", "hulls", "mesh"] = "none"
    joined: Literal["separate", "combined"] = "separate"
    may_move: bool = False

    @property
    def unwrapped(self) -> bool:
        return self.lightmapped and not (self.leave_out or self.shadow_only or self.heavy or self.may_move)


class PartSet(Model):
    """A saved selection: the parts that any of its rules selects, with some added and some taken out by hand."""

    id: str = Field(min_length=1, max_length=40, pattern=r"^[A-Za-z0-9_\-]+$")
    name: str = Field(min_length=1, max_length=120)
    rules: list[Rule] = Field(default_factory=list, max_length=50)
    added: list[Identity] = Field(default_factory=list, max_length=MOST_IDS)
    removed: list[Identity] = Field(default_factory=list, max_length=MOST_IDS)
    treatment: Treatment = Field(default_factory=Treatment)

    def select(self, scene: Scene) -> Bool:
        """(N,) True for its nodes that draw something or shine or look."""
        out = np.zeros(len(scene.nodes), np.bool_)
        for rule in self.rules:
            if not rule.empty:
                out |= rule.select(scene)
        if self.added:
            out |= named(scene, self.added)
        if self.removed:
            out &= ~named(scene, self.removed)
        return out


class SetFigures(Model):
    """What a set holds: parts, drawn triangles, unique meshes, and parts that an earlier set takes."""

    parts: int
    triangles: int
    meshes: int
    taken: int


def assigned(scene: Scene, sets: Sequence[PartSet]) -> I64:
    """(N,) index of the set that decides each node's treatment, -1 for none: the first in the list wins."""
    out: I64 = np.full(len(scene.nodes), -1, np.int64)
    for k in range(len(sets) - 1, -1, -1):
        out[sets[k].select(scene)] = k
    return out


def figures_of(scene: Scene, sets: Sequence[PartSet]) -> list[SetFigures]:
    """One entry per set, in order."""
    winner = assigned(scene, sets)
    triangles = np.append(scene.triangle_counts, 0)
    out = []
    for k, one in enumerate(sets):
        chosen = one.select(scene) & (scene.nodes.mesh >= 0)
        mesh = scene.nodes.mesh[chosen]
        out.append(
            SetFigures(
                parts=int(chosen.sum()),
                triangles=int(triangles[mesh].sum()),
                meshes=len(np.unique(mesh)),
                taken=int((winner[chosen] != k).sum()),
            )
        )
    return out


class Assignment:
    """Which set decides each source node, kept for all steps of a run, whatever they rename."""

    def __init__(self, source: Scene | None = None, sets: Sequence[PartSet] = ()) -> None:
        self.sets = tuple(sets)
        self.winner = assigned(source, sets) if source is not None else np.zeros(0, np.int64)

    def of(self, scene: Scene) -> I64:
        """(N,) index into `sets` for the nodes of a scene that came from the source, -1 for none."""
        origin = scene.nodes.source
        known = (origin >= 0) & (origin < len(self.winner))
        out: I64 = np.full(len(origin), -1, np.int64)
        out[known] = self.winner[origin[known]]
        return out

    def marked(self, scene: Scene, wanted: Sequence[bool]) -> Bool:
        """(N,) True for nodes whose set is wanted."""
        table: Bool = np.append(np.array(wanted, np.bool_), False)
        out: Bool = table[self.of(scene)]
        return out

    def members(self, scene: Scene, names: Sequence[str]) -> Bool:
        """(N,) True for nodes that the sets of these names or ids decide."""
        return self.marked(scene, [s.name in names or s.id in names for s in self.sets])


def box_of(low: F64, high: F64) -> Box:
    return Box(min=(low[0], low[1], low[2]), max=(high[0], high[1], high[2]))
