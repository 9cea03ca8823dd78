"""glTF lights (KHR_lights_punctual), cameras, skins and animations."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any, Literal, cast

import numpy as np

from tidy_caravan.core.formats.gltf.accessors import Accessors
from tidy_caravan.core.formats.shared.json_fields import (
    Damage,
    as_int,
    as_number,
    as_object,
    get_int,
    get_list,
    get_number,
    get_object,
    get_text,
    get_vector,
)
from tidy_caravan.core.scene import Camera, Channel, Clip, Light, Mesh, Nodes, Note, Skin
from tidy_caravan.core.scene.nodes import Rest
from tidy_caravan.core.space.transforms import sheared_ones

TARGETS = {"translation": 3, "rotation": 4, "scale": 3, "weights": 1}


def no_camera() -> Camera:
    return Camera("perspective")


def no_light() -> Light:
    return Light("point", intensity=0.0)


def no_skin() -> Skin:
    return Skin(())


def no_clip() -> Clip:
    return Clip(())


def read_camera(entry: dict[str, Any], where: str) -> Camera:
    kind = get_text(entry, "type", where)
    name, extras = get_text(entry, "name", where), entry.get("extras")
    if kind == "perspective":
        lens = get_object(entry, "perspective", where)
        return Camera(
            "perspective",
            name,
            yfov=get_number(lens, "yfov", where, 0.8, 1e-6, math.pi - 1e-6),
            aspect=get_number(lens, "aspectRatio", where, 1.0, 1e-9) if "aspectRatio" in lens else None,
            znear=get_number(lens, "znear", where, 0.1, 1e-12),
            zfar=get_number(lens, "zfar", where, 100.0, 1e-12) if "zfar" in lens else None,
            extras=extras,
        )
    if kind == "orthographic":
        lens = get_object(entry, "orthographic", where)
        return Camera(
            "orthographic",
            name,
            xmag=get_number(lens, "xmag", where, 1.0),
            ymag=get_number(lens, "ymag", where, 1.0),
            znear=get_number(lens, "znear", where, 0.0, 0.0),
            zfar=get_number(lens, "zfar", where, 100.0, 1e-12),
            extras=extras,
        )
    raise Damage(f"is of the unknown kind “{kind[:40]}”", where=where)


def read_light(entry: dict[str, Any], where: str) -> Light:
    kind = get_text(entry, "type", where)
    if kind not in ("directional", "point", "spot"):
        raise Damage(f"is of the unknown kind “{kind[:40]}”", where=where)
    spot = get_object(entry, "spot", where)
    outer = get_number(spot, "outerConeAngle", where, math.pi / 4, 0, math.pi / 2)
    return Light(
        cast('Literal["directional", "point", "spot"]', kind),
        get_text(entry, "name", where),
        cast("tuple[float, float, float]", get_vector(entry, "color", where, (1.0, 1.0, 1.0))),
        get_number(entry, "intensity", where, 1.0, 0),
        get_number(entry, "range", where, 1.0, 1e-9) if "range" in entry else None,
        get_number(spot, "innerConeAngle", where, 0.0, 0, outer),
        outer,
        entry.get("extras"),
    )


def read_skin(entry: dict[str, Any], where: str, accessors: Accessors, nodes: int) -> Skin:
    joints = tuple(as_int(j, f"{where}.joints", 0, nodes - 1) for j in get_list(entry, "joints", where))
    inverse = None
    if "inverseBindMatrices" in entry:
        inverse = accessors.floats(entry["inverseBindMatrices"], where, 16).astype(np.float64)
        if inverse.ndim != 3 or len(inverse) < len(joints) or not np.isfinite(inverse).all():
            raise Damage("has unusable inverse bind matrices", where=where)
        inverse = inverse[: len(joints)]
    skeleton = get_int(entry, "skeleton", where, -1, 0, nodes - 1) if "skeleton" in entry else -1
    return Skin(joints, inverse, skeleton, get_text(entry, "name", where), entry.get("extras"))


def read_clip(entry: dict[str, Any], where: str, accessors: Accessors, nodes: int, notes: list[Note]) -> Clip:
    samplers = get_list(entry, "samplers", where)
    channels = []
    for i, raw in enumerate(get_list(entry, "channels", where)):
        place = f"{where}.channels[{i}]"
        try:
            channel = read_channel(as_object(raw, place), place, samplers, accessors, nodes)
            if channel:
                channels.append(channel)
        except Damage as damage:
            notes.append(Note("damaged", "import.damaged", place, f"Left out, because {damage.sentence()}."))
    return Clip(tuple(channels), get_text(entry, "name", where), entry.get("extras"))


def read_channel(
    entry: dict[str, Any], where: str, samplers: list[Any], accessors: Accessors, nodes: int
) -> Channel | None:
    target = get_object(entry, "target", where)
    if "node" not in target:
        return None
    path = get_text(target, "path", where)
    if path not in TARGETS:
        raise Damage(f"moves the unknown property “{path[:40]}”", where=where)
    node = get_int(target, "node", where, -1, 0, nodes - 1)
    index = get_int(entry, "sampler", where, -1, 0, len(samplers) - 1)
    sampler = as_object(samplers[index], where)
    interpolation = get_text(sampler, "interpolation", where, "LINEAR")
    if interpolation not in ("LINEAR", "STEP", "CUBICSPLINE"):
        raise Damage(f"has the unknown interpolation “{interpolation[:40]}”", where=where)
    times = accessors.floats(sampler.get("input"), where, 1)[:, 0]
    values = accessors.floats(sampler.get("output"), where, TARGETS[path])
    rows = len(times) * (3 if interpolation == "CUBICSPLINE" else 1)
    if not rows or len(values) % rows or (path != "weights" and len(values) != rows):
        raise Damage(f"has {len(values)} values for {len(times)} times", where=where)
    if not (np.isfinite(times).all() and np.isfinite(values).all()) or (np.diff(times) <= 0).any() or times[0] < 0:
        raise Damage("has times or values that are not finite and rising", where=where)
    return Channel(node, cast(Any, path), times, values, cast(Any, interpolation))


def that_can_move(clips: tuple[Clip, ...], nodes: Nodes, notes: list[Note]) -> tuple[Clip, ...]:
    """The clips without channels that mean nothing: of several for one thing all but the last, and those that would turn, move or
    scale a sheared matrix, which has no such parts (glTF 2.0, 3.11). Each is told."""
    if not clips:
        return clips
    sheared = sheared_ones(nodes.local)
    out = []
    for number, clip in enumerate(clips):
        last = {(c.node, c.path): k for k, c in enumerate(clip.channels)}
        kept = []
        for k, c in enumerate(clip.channels):
            why = ""
            if last[c.node, c.path] != k:
                why = f"a later channel of its clip gives the {c.path} of “{nodes.names[c.node][:60]}” as well"
            elif c.path != "weights" and sheared[c.node]:
                why = f"the matrix of “{nodes.names[c.node][:60]}” is sheared, and has no {c.path} of its own"
            if why:
                where = f"animations[{number}].channels[{k}]"
                notes.append(Note("damaged", "import.damaged", where, f"Left out, because {why}."))
            else:
                kept.append(c)
        if kept:
            out.append(clip if len(kept) == len(clip.channels) else replace(clip, channels=tuple(kept)))
        else:
            notes.append(
                Note("damaged", "import.damaged", f"animations[{number}]", "Left out, because it moves nothing.")
            )
    return tuple(out)


def keep_rest_pose(nodes: Nodes, raw: list[Any], clips: tuple[Clip, ...]) -> Nodes:
    """Animated nodes keep their translation, rotation and scale as written: channels replace single ones."""
    rest: dict[int, Rest] = {}
    for node in {c.node for clip in clips for c in clip.channels}:
        entry = raw[node]
        if isinstance(entry, dict) and "matrix" not in entry:
            try:
                where = f"nodes[{node}]"
                rest[node] = (
                    get_vector(entry, "translation", where, (0.0, 0.0, 0.0)),
                    get_vector(entry, "rotation", where, (0.0, 0.0, 0.0, 1.0)),
                    get_vector(entry, "scale", where, (1.0, 1.0, 1.0)),
                )
            except Damage:
                continue  # its damaged transform has its note already
    return replace(nodes, rest=rest) if rest else nodes


def with_own_weights(
    meshes: tuple[Mesh, ...], nodes: Nodes, raw: list[Any], notes: list[Note]
) -> tuple[tuple[Mesh, ...], Nodes]:
    """Nodes with morph weights of their own (3.7.2.2) get their mesh at those; equal ones go on sharing it."""
    found = list(meshes)
    column = nodes.mesh.copy()
    made: dict[tuple[int, tuple[float, ...]], int] = {}
    for i, entry in enumerate(raw):
        if not isinstance(entry, dict) or "weights" not in entry or nodes.mesh[i] < 0:
            continue
        where, number = f"nodes[{i}]", int(nodes.mesh[i])
        mesh = meshes[number]
        try:
            weights = tuple(as_number(w, f"{where}.weights") for w in get_list(entry, "weights", where))
        except Damage as damage:
            notes.append(Note("damaged", "import.damaged", where, f"weights: ignored, because {damage.sentence()}."))
            continue
        weights = weights[: len(mesh.morphs)]
        if not mesh.morphs or weights == mesh.morph_weights:
            continue
        key = (number, weights)
        if key not in made:
            made[key] = len(found)
            found.append(replace(mesh, morph_weights=weights))
        column[i] = made[key]
    # a mesh that only nodes with weights of their own use is the first of those, not a spare one beside them
    for (number, _), variant in made.items():
        if not (column == number).any() and variant < len(found):
            found[number] = found[variant]
            column[column == variant] = number
    return (tuple(found), replace(nodes, mesh=column)) if made else (meshes, nodes)
