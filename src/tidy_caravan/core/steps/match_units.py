"""Step: brings a scene to the destination's unit and axes, and node scale to 1."""

from __future__ import annotations

from collections.abc import Container, Mapping, Sequence
from dataclasses import replace
from typing import Any, Literal, Self

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.errors import BadRoute, CaravanError
from tidy_caravan.core.scene import Mesh, Scene
from tidy_caravan.core.scene.arrays import F64, I64, Bool, determinants
from tidy_caravan.core.scene.convention import Axis, Convention, Handedness
from tidy_caravan.core.scene.identity import spans_of
from tidy_caravan.core.selection import Model
from tidy_caravan.core.space.axes import axis_map, basis, unit_factor
from tidy_caravan.core.space.common_scale import SCALE_TOLERANCE, flattened, shared_out, to_the_right
from tidy_caravan.core.space.convert import convert, split_viewers, transform_mesh
from tidy_caravan.core.space.files import files_read_in, of_files, read_in, stated_by_file
from tidy_caravan.core.space.transforms import affine_inverse, polar, split_trs
from tidy_caravan.core.steps.base import Change, Phase, Step, StepContext, identities_of, parameter, step, with_meshes
from tidy_caravan.core.surroundings.world import untouchable
from tidy_caravan.core.words import plural

MOST_FILES = 20_000
"""As many as a zip may hold."""
READ_BY = ("source_metres_per_unit", "source_up", "source_forward", "source_handedness")
"""Parameters that say how the source is read, beside those of single files."""


def corrected(
    stated: Convention, metres: float | None, up: Axis | None, forward: Axis | None, hand: Handedness | None
) -> Convention:
    """What numbers are written in, as far as it is known better than stated. Raises BadRoute for impossible axes."""
    ahead = forward or stated.forward
    if up and not forward and up[-1] == ahead[-1]:
        ahead = stated.up
    known = stated.declared or metres is not None
    out = Convention(metres or stated.metres_per_unit, up or stated.up, ahead, hand or stated.handedness, known)
    try:
        basis(out)
    except CaravanError as error:
        raise BadRoute(error.what, where="match_units_axes") from error
    return out


class FileUnit(Model):
    """What one of several files is in, whatever it says. file: its label, which the identities of its parts begin with."""

    file: str = parameter(..., "File", "Its label", min_length=1, max_length=1000)
    metres_per_unit: float | None = parameter(None, "One unit", "What it really is", "m", gt=0, lt=1e6)
    up: Axis | None = parameter(None, "Up", "Its up axis")
    forward: Axis | None = parameter(None, "Forward", "Its forward axis")
    handedness: Handedness | None = parameter(None, "Handedness", "Of its axes")

    @property
    def known(self) -> bool:
        """Whether it says anything."""
        return any((self.metres_per_unit, self.up, self.forward, self.handedness))

    def corrected(self, stated: Convention) -> Convention:
        return corrected(stated, self.metres_per_unit, self.up, self.forward, self.handedness)


@step
class MatchUnits(Step):
    """Factor and axis map go into vertices and translations. Scale left by modelling is baked where all
    instances of a mesh agree; where they differ only the common part is, and sharing is kept.
    """

    title = "Match units and axes"
    summary = "Unit and axes of the destination, in vertices and translations; node scale 1; instances stay shared."

    phase = Phase.TRANSFORMS

    kind: Literal["match_units_axes"] = "match_units_axes"
    source_metres_per_unit: float | None = parameter(
        None, "One unit of the source", "What it really is, if the file is wrong", "m", gt=0, lt=1e6
    )
    source_up: Axis | None = parameter(None, "Up in the source", "Its up axis, if the file is wrong")
    source_forward: Axis | None = parameter(None, "Forward in the source", "Its forward axis, if the file is wrong")
    source_handedness: Handedness | None = parameter(None, "Handedness of the source", "If the file is wrong")
    files: list[FileUnit] = parameter(
        [],
        "Files in a unit of their own",
        "Of several files, those that are in another unit or other axes",
        max_length=MOST_FILES,
    )
    bake_scale: bool = parameter(True, "Scale into vertices", "Node scale becomes 1; instances stay shared")

    def effects(self) -> tuple[Effect, ...]:
        return (Effect(Aspect.SHARING),) if self.bake_scale else ()

    def read(self, scene: Scene) -> Scene:
        """The source with the user's corrections. Raises BadRoute for impossible axes."""
        whole = corrected(
            scene.convention, self.source_metres_per_unit, self.source_up, self.source_forward, self.source_handedness
        )
        own = {f.file: f for f in self.files}
        if only := only_file(scene, own):
            return read_in(scene, own[only].corrected(whole))
        out = read_in(scene, whole)
        stated = stated_by_file(out)
        wanted = {k: f.corrected(stated[k].convention) for k, f in own.items() if k in stated}
        return files_read_in(out, wanted) if wanted else out

    def reading(self) -> dict[str, Any]:
        given = self.model_dump(mode="json", exclude_defaults=True, include=set(READ_BY))
        given["files"] = [f.model_dump(mode="json") for f in sorted(self.files, key=lambda f: f.file) if f.known]
        return {k: v for k, v in given.items() if v}

    def with_files(self, before: Sequence[str], now: Sequence[str], labels: Mapping[str, str] | None = None) -> Self:
        called = {label: (labels or {}).get(label, label) for label in (*before, *(f.file for f in self.files))}
        before = [called[label] for label in before]
        gone = set(before) - set(now)
        own = {called[f.file]: f.model_copy(update={"file": called[f.file]}) for f in self.files}
        own = {label: f for label, f in own.items() if label not in gone}
        source = FileUnit(
            file=before[0] if before else "?", metres_per_unit=self.source_metres_per_unit, up=self.source_up,
            forward=self.source_forward, handedness=self.source_handedness,
        )  # fmt: skip
        if len(before) == 1 and len(now) > 1 and before[0] in now:
            own = {source.file: source, **own} if source.known else own
            source = FileUnit(file=source.file)
        elif len(before) > 1 and len(now) == 1:
            source = own.pop(now[0], source)
        return self.model_copy(
            update={
                "files": list(own.values()), "source_metres_per_unit": source.metres_per_unit, "source_up": source.up,
                "source_forward": source.forward, "source_handedness": source.handedness,
            }
        )  # fmt: skip

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        read = self.read(scene)
        source = read.convention
        target = context.destination.world.convention()
        changes = self.told_of_files(read)
        factor, p = unit_factor(source, target), axis_map(source, target)
        out = convert(read, target, context.progress)
        if factor != 1.0:
            changes.append(Change(text=f"lengths × {factor:g}, in vertices and translations", count=len(scene.meshes)))
        if not np.array_equal(p, np.eye(3)):
            mirror = ", winding turned" if np.linalg.det(p) < 0 else ""
            changes.append(Change(text=f"axes mapped {axis_text(p)}{mirror}", count=len(scene.nodes)))
        if self.bake_scale:
            context.progress(1, 2)
            out, more = bake_scale(out, context.selected(self.where, out), context.destination.negative_scale)
            changes += more
        return out, changes

    def told_of_files(self, scene: Scene) -> list[Change]:
        """Which files were read otherwise than they state, and which are not there to be."""
        there = {label: one.convention for label, one in stated_by_file(scene).items()}
        if only := only_file(scene, {f.file for f in self.files}):
            there[only] = scene.convention
        older = {label for label, _, _ in spans_of(scene.extras)}
        out = []
        for one in self.files:
            if one.file in there:
                rows = np.flatnonzero(of_files(scene, [one.file]) & (scene.nodes.mesh >= 0))
                text = f"“{one.file}” read as {there[one.file].label()}"
                out.append(Change(text=text, count=len(rows), parts=identities_of(scene, rows)))
            else:
                text = (
                    f"what “{one.file}” says of its unit was not kept when it was read; add the file once more to correct it"
                    if one.file in older
                    else f"there is no file “{one.file}” whose unit could be corrected"
                )
                out.append(Change(text=text, count=1, problem=True))
        return out


def only_file(scene: Scene, labels: Container[str]) -> str:
    """The label of the one file that a scene came in, where it is one of these."""
    spans = spans_of(scene.extras)
    return spans[0][0] if len(spans) == 1 and not stated_by_file(scene) and spans[0][0] in labels else ""


def axis_text(p: F64) -> str:
    """Such as `X→X, Y→Z, Z→-Y`: where each source axis points."""
    names = []
    for k in range(3):
        row = int(np.argmax(np.abs(p[:, k])))
        names.append(f"{'XYZ'[k]}→{'-' if p[row, k] < 0 else ''}{'XYZ'[row]}")
    return ", ".join(names)


def bake_scale(
    scene: Scene, chosen: Bool, negative_scale: bool, own_shapes: bool = False
) -> tuple[Scene, list[Change]]:
    """Node scale to 1 with unchanged world geometry; see MatchUnits. O(nodes · depth-free, meshes).

    own_shapes: a node keeps only what scales it evenly, and its mesh is made its own where that takes more.

    Users of a mesh that get one of their own, being mirrored or sheared, may leave others that have more in common
    than before; for these it is done again, so that a second time there is nothing left.
    """
    out, changes = bake_once(scene, chosen, negative_scale, own_shapes)
    if changes:
        linear = scene.nodes.world[scene.nodes.parts, :3, :3]
        _, _, _, sheared = split_trs(scene.nodes.world[scene.nodes.parts])
        for _ in range(3 if sheared.any() or (determinants(linear) < 0).any() else 0):
            marked = np.append(chosen, np.zeros(len(out.nodes) - len(chosen), np.bool_))
            again, more = bake_once(out, marked, negative_scale, own_shapes)
            if not any(" baked " in c.text for c in more):
                break
            out, changes = again, [*changes, *(c for c in more if " keep " not in c.text)]
    return out, changes


def bake_once(scene: Scene, chosen: Bool, negative_scale: bool, own_shapes: bool) -> tuple[Scene, list[Change]]:
    """One pass of `bake_scale`."""
    before = len(scene.nodes)
    scene = split_viewers(scene)
    chosen = np.append(chosen, np.zeros(len(scene.nodes) - before, np.bool_))
    nodes = scene.nodes
    chosen[before:] = chosen[nodes.parent[before:]]
    world = nodes.world
    still = untouchable(scene) | ~chosen
    right, mirror = to_the_right(scene.convention)
    rotation, residual = polar(world[:, :3, :3], right)
    size = np.abs(determinants(residual)) ** (1 / 3)
    still |= flattened(residual)
    plain = np.abs(residual - np.eye(3)).max(axis=(1, 2)) < SCALE_TOLERANCE
    residual[plain] = np.eye(3)
    viewers = (nodes.camera >= 0) | (nodes.light >= 0)
    rotation[viewers] = looking(world[viewers, :3, :3], rotation[viewers])
    rows = np.flatnonzero((nodes.mesh >= 0) & ~still)
    keep, column, meshes, changes = bake_meshes(scene, rows, residual, negative_scale, mirror, own_shapes)
    target = world.copy()
    free = ~still
    target[free, :3, :3] = rotation[free] @ keep[free]
    moved = np.abs(target - world).max(axis=(1, 2)) > SCALE_TOLERANCE * np.maximum(size, 1e-30)
    target[~moved] = world[~moved]
    parent = nodes.parent
    redo = moved | ((parent >= 0) & moved[parent])
    if not redo.any() and not changes:
        return scene, []
    local = nodes.local.copy()
    top = redo & (parent < 0)
    local[top] = target[top]
    inner = np.flatnonzero(redo & (parent >= 0))
    local[inner] = affine_inverse(target[parent[inner]]) @ target[inner]
    local[:, 3] = (0, 0, 0, 1)
    scaled = free & ~plain & (np.abs(keep - np.eye(3)).max(axis=(1, 2)) < SCALE_TOLERANCE)
    if scaled.any():
        ids = identities_of(scene, np.flatnonzero(scaled))
        changes.insert(
            0,
            Change(text=f"{plural(int(scaled.sum()), 'node')} brought to scale 1", count=int(scaled.sum()), parts=ids),
        )
    left = free & (nodes.mesh >= 0) & (np.abs(keep - np.eye(3)).max(axis=(1, 2)) >= SCALE_TOLERANCE)
    if left.any():
        changes.append(
            Change(
                text=f"{plural(int(left.sum()), 'part keeps its', 'parts keep their')} own scale, so that the mesh stays shared",
                count=int(left.sum()),
                parts=identities_of(scene, np.flatnonzero(left)),
            )
        )
    if (still & ~plain & chosen).any():
        frozen = np.flatnonzero(still & ~plain & chosen)
        changes.append(
            Change(
                text=f"{plural(len(frozen), 'node that moves or is flat keeps its', 'nodes that move or are flat keep their')} scale",
                count=len(frozen),
                parts=identities_of(scene, frozen),
            )
        )
    out = scene.but(nodes=replace(nodes, local=local))
    return with_meshes(out, column, meshes), changes


def looking(linear: F64, spare: F64) -> F64:
    """(N, 3, 3) turns of cameras and lights whose world matrices stretch, shear or mirror.

    They look where the matrix takes their -Z, with what it makes of +Y as upright as that allows: the nearest
    rotation (polar decomposition) points elsewhere as soon as a parent is stretched. `spare` where it flattens them.
    """
    ahead, up = -linear[:, :, 2], linear[:, :, 1]
    far = np.linalg.norm(ahead, axis=1, keepdims=True)
    ahead = ahead / np.where(far > 0, far, 1.0)
    up = up - ahead * np.einsum("ni,ni->n", up, ahead)[:, None]
    high = np.linalg.norm(up, axis=1, keepdims=True)
    good = (far[:, 0] > 0) & (high[:, 0] > SCALE_TOLERANCE * np.linalg.norm(linear, axis=(1, 2)))
    up = up / np.where(high > 0, high, 1.0)
    out = spare.copy()
    out[good] = np.stack([np.cross(ahead, up), up, -ahead], axis=2)[good]
    return out


def bake_meshes(
    scene: Scene, rows: I64, residual: F64, negative_scale: bool, mirror: F64, own_shapes: bool
) -> tuple[F64, np.ndarray[tuple[int], np.dtype[np.int32]], list[Mesh], list[Change]]:
    """Splits each part's residual K into what its mesh takes (B) and what its node keeps (S): K = S · B.

    Returns S for all nodes (N, 3, 3), the mesh column, the mesh list and what changed.
    """
    nodes = scene.nodes
    keep = np.tile(np.eye(3), (len(nodes), 1, 1))
    column, meshes = nodes.mesh.copy(), list(scene.meshes)
    changes: list[Change] = []
    twins = baked = 0
    if not len(rows):
        return keep, column, meshes, changes
    kinds, kind_of, node_part, bake, shared = shared_out(
        nodes.mesh[rows], residual[rows], (nodes.children_count[rows] > 0) | own_shapes, negative_scale, mirror
    )
    keep[rows] = node_part[kind_of]
    turned = determinants(bake) < 0
    to_bake = np.flatnonzero((bake != np.eye(3)).any(axis=(1, 2)))
    target = kinds[:, 0].astype(np.int32)
    made: dict[tuple[int, bytes], int] = {}
    for kind, rounded in zip(to_bake.tolist(), np.round(bake[to_bake], 12), strict=True):
        mesh_index = int(kinds[kind, 0])
        key = (mesh_index, rounded.tobytes())
        if key not in made:
            made[key] = len(meshes)
            mesh = transform_mesh(meshes[mesh_index], bake[kind])
            if turned[kind] and shared[kind]:
                mesh = replace(mesh, name=f"{mesh.name}_mirrored")
                twins += 1
            baked += 1
            meshes.append(mesh)
        target[kind] = made[key]
    column[rows] = target[kind_of]
    if baked:
        changes.append(Change(text=f"scale baked into {plural(baked, 'mesh', 'meshes')}", count=baked))
    if twins:
        changes.append(
            Change(text=f"{plural(twins, 'mirrored twin')} made, shared by all mirrored copies", count=twins)
        )
    return keep, column, meshes, changes
