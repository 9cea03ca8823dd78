"""Packs a scene for a destination: files in the convention its importer reads, and the manifest.

The same scene, route and destination give the same bytes: nothing here knows the time or a random number.
"""

from __future__ import annotations

import dataclasses
import hashlib
import os
import tempfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import orjson

from tidy_caravan import __version__
from tidy_caravan.core.conventions.destinations import Destination, FormatName, World
from tidy_caravan.core.figures import count
from tidy_caravan.core.formats.registry import format_named
from tidy_caravan.core.geometry.pose import at_rest
from tidy_caravan.core.manifest import (
    LightmapPlace,
    Manifest,
    PackedChange,
    PackedCheck,
    PackedFile,
    PackedLevel,
    PackedPart,
    TravelLine,
)
from tidy_caravan.core.pace import Tell, alive, nobody
from tidy_caravan.core.packing.left_out import left_out, two_sided_as_a_whole
from tidy_caravan.core.packing.lists import gathered
from tidy_caravan.core.scene import Convention, Nodes, Scene
from tidy_caravan.core.scene.arrays import I64, Bool
from tidy_caravan.core.scene.levels import Level, at_level, deepest, in_use
from tidy_caravan.core.selection import Assignment, PartSet
from tidy_caravan.core.space.convert import convert
from tidy_caravan.core.words import plural

STEM = "scene"


@dataclass(frozen=True)
class Source:
    """Where the scene came from: file name, SHA-256 of its main file, the scene as it was read."""

    name: str
    sha256: str
    scene: Scene


@dataclass(frozen=True)
class Package:
    """files by relative path, manifest.json among them."""

    files: dict[str, bytes]
    manifest: Manifest


def pack(
    scene: Scene,
    source: Source,
    destination: Destination,
    fmt: FormatName,
    *,
    route: list[dict[str, Any]],
    sets: list[PartSet],
    changes: list[PackedChange],
    checks: list[PackedCheck],
    tell: Tell = nobody,
) -> Package:
    """The package of a scene that has been through its route. Raises CaravanError for an unknown format.

    tell hears how far the writing is.
    """
    target = destination.file_convention(fmt)
    form = format_named(fmt)
    whole = len(scene.nodes)
    if form.ability.lists:
        scene = gathered(scene, destination, *dealt_with(scene, source.scene, sets))
    drawn = scene if form.ability.poses else at_rest(scene)
    placed = convert(drawn, target, alive(tell))
    written = form.write(placed, STEM, destination.gpu_instancing, tell)
    if written.renamed:
        as_written = tuple(written.renamed.get(i, n) for i, n in enumerate(placed.nodes.names))
        placed = placed.but(nodes=dataclasses.replace(placed.nodes, names=as_written))
    if drawn is not scene:
        written.lost(
            f"{form.title} cannot hold skins and morph targets here; the parts stand in the pose that they hold without a clip."
        )
    for what in left_out(drawn, form.ability):
        written.lost(f"The format has no place for {what}.")
    if form.ability.two_sided_meshes and (mixed := two_sided_as_a_whole(drawn)):
        written.rewritten(
            f"All faces of {plural(mixed, 'mesh', 'meshes')} of one- and two-sided materials are two-sided: the format has it of meshes."
        )
    shining = sum(bool(light.surface) for light in scene.lights)
    if shining and form.ability.lights and "surface" not in form.ability.lights:
        written.rewritten(
            f"Lamps that are surfaces travel as points and spots, as bright as they are: the format has no others ({shining})."
        )
    if lists := len(scene.nodes) - whole:
        listed = int((scene.nodes.parent >= whole).sum())
        written.rewritten(
            f"{plural(listed, 'part')} travel as {plural(lists, 'list')} of transforms, as the destination takes "
            f"{destination.instancing_from} copies of a mesh and more; their names stand in this manifest."
        )
    levels = levels_of(scene)
    for one in levels:
        coarse = at_level(scene, one.level)
        stem = f"{STEM}_LOD{one.level}"
        further = form.write(
            convert(coarse if form.ability.poses else at_rest(coarse), target), stem, destination.gpu_instancing, tell
        )
        one.main_file = f"{stem}.{fmt}"
        written.files.update(further.files)
    if stale := len(scene.levels) - len(in_use(scene)):
        written.lost(
            f"Levels of detail of {plural(stale, 'mesh', 'meshes')} were made before another step changed them, and are left out: "
            "move the step that makes them to the end of the route."
        )
    files = dict(sorted(written.files.items()))
    main = f"{STEM}.{fmt}"
    manifest = Manifest(
        tool="Tidy Caravan",
        tool_version=__version__,
        format=fmt,
        flat=form.ability.flat,
        main_file=main,
        files=[PackedFile(path=k, bytes=len(v), sha256=hashlib.sha256(v).hexdigest()) for k, v in files.items()],
        source_name=source.name,
        source_sha256=source.sha256,
        source_convention=world_of(source.scene.convention),
        file_convention=world_of(target),
        destination=destination,
        lightmap_channel=destination.lightmap_channel,
        counts=count(placed),
        route=route,
        sets=sets,
        travel=[TravelLine(**dataclasses.asdict(t)) for t in source.scene.travel],
        georeference=(source.scene.extras.get("extras") or {}).get("georeference")
        if isinstance(source.scene.extras.get("extras"), dict)
        else None,
        changes=changes,
        renamed=renamed(source.scene, placed),
        renamed_materials=written.materials,
        dropped=dropped(source.scene, scene),
        behind=[f"{n.where}: {n.text}" for n in source.scene.notes],
        remarks=written.texts("rewritten"),
        losses=written.texts("lost"),
        unproven=form.ability.unproven(),
        checks=checks,
        levels=levels,
        parts=parts_of(placed, source.scene, written.node_index, form.ability.uv_sets, sets),
    )
    text = orjson.dumps(manifest.model_dump(by_alias=True, mode="json"), option=orjson.OPT_INDENT_2)
    return Package({**files, "manifest.json": text}, manifest)


def dealt_with(scene: Scene, source: Scene, sets: list[PartSet]) -> tuple[I64, Bool]:
    """(N,) which set decides how a part is dealt with, and (N,) whether it may move by itself."""
    if not sets:
        return np.full(len(scene.nodes), -1, np.int64), np.zeros(len(scene.nodes), np.bool_)
    winner: I64 = Assignment(source, sets).of(scene).astype(np.int64)
    moving = np.array([s.treatment.may_move for s in sets] + [False])
    return winner, moving[winner]


def levels_of(scene: Scene) -> list[PackedLevel]:
    """What the levels of detail of a scene are, without their files' names."""
    own = in_use(scene)
    uses = scene.instance_counts.tolist()
    before = list(scene.meshes)
    out = []
    for level in range(1, deepest(scene) + 1):
        shown = [own[m.id][min(level, len(own[m.id])) - 1] if m.id in own else Level(m, 0.0) for m in scene.meshes]
        out.append(
            PackedLevel(
                level=level,
                main_file="",
                meshes=sum(one.mesh.id != was.id for one, was in zip(shown, before, strict=True)),
                triangles=sum(n * one.mesh.triangles for n, one in zip(uses, shown, strict=True)),
                error_mm=max(one.error_mm for one in shown),
            )
        )
        before = [one.mesh for one in shown]
    return out


def world_of(convention: Convention) -> World:
    return World(
        metres_per_unit=convention.metres_per_unit,
        up=convention.up,
        forward=convention.forward,
        handedness=convention.handedness,
    )


def parts_of(
    scene: Scene, source: Scene, node_index: list[int], uv_limit: int, sets: list[PartSet]
) -> list[PackedPart]:
    nodes, known_as = scene.nodes, source.identities.names
    worlds = nodes.world[nodes.parts].transpose(0, 2, 1).reshape(-1, 16).tolist()
    slots = [[scene.materials[s].name if s >= 0 else "" for s in m.slots] for m in scene.meshes]
    winner = Assignment(source, sets).of(scene)[nodes.parts].tolist() if sets else [-1] * len(nodes.parts)
    rows = zip(
        winner,
        nodes.parts.tolist(),
        nodes.mesh[nodes.parts].tolist(),
        nodes.source[nodes.parts].tolist(),
        worlds,
        strict=True,
    )
    return [
        PackedPart(
            source_id=origin,
            identity=known_as[origin] if 0 <= origin < len(known_as) else "",
            sources=nodes.sources[i].tolist() if i in nodes.sources else [],
            source_path=source.nodes.paths[origin] if origin >= 0 else "",
            path=nodes.paths[i],
            name=nodes.names[i],
            node=node_index[i],
            mesh=scene.meshes[m].id,
            transform=world,
            materials=slots[m],
            triangles=scene.meshes[m].triangles,
            uv_sets=min(uv_limit, len(scene.meshes[m].uvs)),
            lightmap=(int(nodes.lightmap[i, 0]), int(nodes.lightmap[i, 1])) if nodes.lightmap[i, 0] else None,
            lightmap_page=lightmap_place(nodes, i),
            layer=scene.layers[nodes.layer[i]] if nodes.layer[i] >= 0 else "",
            set=sets[k].name if k >= 0 else "",
            treatment=sets[k].treatment if k >= 0 else None,
            data=(nodes.extras.get(i) or {}).get("ifc") if isinstance(nodes.extras.get(i), dict) else None,
        )
        for k, i, m, origin, world in rows
    ]


def lightmap_place(nodes: Nodes, i: int) -> LightmapPlace | None:
    page, x, y, width, height = nodes.page[i].tolist()
    if not width:
        return None
    own = nodes.lightmap[i].tolist()
    return LightmapPlace(
        page=page, width=width, height=height, scale=(own[0] / width, own[1] / height), offset=(x / width, y / height)
    )


def renamed(source: Scene, scene: Scene) -> dict[str, str]:
    before, nodes = source.nodes.names, scene.nodes
    pairs = zip(nodes.source.tolist(), nodes.names, strict=True)
    return {str(s): n for s, n in pairs if s >= 0 and before[s] != n}


def dropped(source: Scene, scene: Scene) -> list[int]:
    present = np.zeros(len(source.nodes), np.bool_)
    present[scene.nodes.source[scene.nodes.source >= 0]] = True
    return [int(i) for i in np.flatnonzero(~present)]


def save(files: dict[str, bytes], folder: Path) -> None:
    """Writes the files; each appears whole or not at all. Files of an earlier delivery are replaced."""
    folder.mkdir(parents=True, exist_ok=True)
    for name, data in files.items():
        target = folder / name
        target.parent.mkdir(parents=True, exist_ok=True)
        handle, temporary = tempfile.mkstemp(dir=target.parent)
        try:
            with os.fdopen(handle, "wb") as file:
                file.write(data)
            os.chmod(temporary, 0o644)
            os.replace(temporary, target)
        except BaseException:
            Path(temporary).unlink(missing_ok=True)
            raise
