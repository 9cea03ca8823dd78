"""Step: what stays behind, kind by kind and set by set, before anything else is done."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np
from pydantic import Field

from tidy_caravan.core.conventions.convert import keep_nodes
from tidy_caravan.core.geometry.animation import cropped, posed
from tidy_caravan.core.scene import HIDDEN, Mesh, Scene
from tidy_caravan.core.scene.arrays import I32, Bool
from tidy_caravan.core.steps.base import Change, Step, StepContext, source_ids, step
from tidy_caravan.core.words import plural


@step
class WhatTravels(Step):
    """Leaves out what is not wanted: switched-off parts, lights, cameras, animation, helpers, sets left out.

    Helpers are nodes that draw nothing and lead to nothing; bones and morph targets count as such when no clip
    moves them. What is left out is listed in the manifest.
    """

    title = "What travels"
    summary = "Leaves switched-off parts, unused helpers, bones and morph targets behind, and sets that are left out."

    kind: Literal["what_travels"] = "what_travels"
    hidden: bool = Field(default=False, description="Parts that are switched off in the source travel as well")
    lights: bool = Field(default=True, description="Lights travel")
    cameras: bool = Field(default=True, description="Cameras travel")
    helpers: bool = Field(default=False, description="Empties that lead to nothing travel")
    bones: bool = Field(default=False, description="Bones that no clip moves travel, with their skins")
    morphs: bool = Field(default=False, description="Morph targets that no clip moves travel")
    animation: Literal["all", "range", "frame", "rest"] = Field(
        default="all", description="All clips, a range of seconds, the pose at one time, or the rest pose"
    )
    start: float = Field(default=0.0, ge=0, description="Seconds: begin of the range, or time of the frame")
    end: float = Field(default=10.0, ge=0, description="Seconds: end of the range")

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        changes: list[Change] = []
        out = self._animation(scene, changes)
        out = self._switches(out, changes)
        out = self._skins_and_morphs(out, changes)
        out, keep = self._kept(out, context, changes)
        return (keep_nodes(out, keep) if not keep.all() else out), changes

    def _animation(self, scene: Scene, changes: list[Change]) -> Scene:
        if not scene.clips or self.animation == "all":
            return scene
        count = len(scene.clips)
        if self.animation == "range":
            clips = tuple(c for c in (cropped(clip, self.start, self.end) for clip in scene.clips) if c.channels)
            changes.append(Change(text=f"{plural(count, 'clip')} cut to {self.start:g}–{self.end:g} s", count=count))
            return scene.but(clips=clips)
        if self.animation == "frame":
            scene = posed(scene, self.start)
            changes.append(Change(text=f"{plural(count, 'clip')} frozen at {self.start:g} s", count=count))
        else:
            changes.append(Change(text=f"{plural(count, 'clip')} left behind, rest pose kept", count=count))
        return scene.but(clips=(), nodes=replace(scene.nodes, rest={}))

    def _switches(self, scene: Scene, changes: list[Change]) -> Scene:
        nodes = scene.nodes
        none = np.full(len(nodes), -1, np.int32)
        if not self.lights and (nodes.light >= 0).any():
            count = int((nodes.light >= 0).sum())
            changes.append(Change(text=f"{plural(count, 'light')} left behind", count=count))
            scene = scene.but(nodes=replace(nodes, light=none), lights=())
        nodes = scene.nodes
        if not self.cameras and (nodes.camera >= 0).any():
            count = int((nodes.camera >= 0).sum())
            changes.append(Change(text=f"{plural(count, 'camera')} left behind", count=count))
            scene = scene.but(nodes=replace(nodes, camera=none), cameras=())
        return scene

    def _skins_and_morphs(self, scene: Scene, changes: list[Change]) -> Scene:
        moving = {c.node for clip in scene.clips for c in clip.channels}
        if not self.bones and scene.skins:
            idle = [not moving.intersection(s.joints) for s in scene.skins]
            if any(idle):
                table = np.full(len(scene.skins) + 1, -1, np.int32)
                table[:-1][~np.array(idle)] = np.arange(len(idle) - sum(idle), dtype=np.int32)
                skins = tuple(s for s, i in zip(scene.skins, idle, strict=True) if not i)
                nodes = replace(scene.nodes, skin=table[scene.nodes.skin])
                still = set(np.unique(nodes.mesh[nodes.skin >= 0]).tolist())
                meshes = tuple(m if i in still else without_weights(m) for i, m in enumerate(scene.meshes))
                scene = scene.but(skins=skins, nodes=nodes, meshes=meshes)
                changes.append(
                    Change(text=f"{plural(sum(idle), 'skin')} without animation left behind", count=sum(idle))
                )
        if not self.morphs:
            shaped = {c.node for clip in scene.clips for c in clip.channels if c.path == "weights"}
            used = {int(scene.nodes.mesh[n]) for n in shaped}
            gone = 0
            meshes_ = list(scene.meshes)
            for i, mesh in enumerate(meshes_):
                if mesh.morphs and i not in used and not any(mesh.morph_weights):
                    gone += len(mesh.morphs)
                    meshes_[i] = replace(mesh, morphs=(), morph_weights=())
            if gone:
                scene = scene.but(meshes=tuple(meshes_))
                changes.append(Change(text=f"{plural(gone, 'unused morph target')} left behind", count=gone))
        return scene

    def _kept(self, scene: Scene, context: StepContext, changes: list[Change]) -> tuple[Scene, Bool]:
        """The scene with dropped nodes emptied, and (N,) the nodes that stay: what is useful and all above it."""
        nodes = scene.nodes
        hidden: Bool = (nodes.flags & HIDDEN) > 0
        if self.hidden:
            hidden = np.zeros(len(nodes), np.bool_)
        left_out = context.assignment.marked(scene, [s.treatment.leave_out for s in context.assignment.sets]) & ~hidden
        for mask, one, many in (
            (hidden, "switched-off node", None),
            (left_out, "node of a set that is left out", "nodes of sets that are left out"),
        ):
            if mask.any():
                rows = np.flatnonzero(mask)
                text = f"{plural(len(rows), one, many)} left behind"
                changes.append(Change(text=text, count=len(rows), parts=source_ids(scene, rows)))
        drop = hidden | left_out
        if drop.any():
            # a dropped node whose children stay remains as a group
            def emptied(column: I32) -> I32:
                return np.where(drop, -1, column).astype(np.int32)

            nodes = replace(
                nodes,
                mesh=emptied(nodes.mesh),
                light=emptied(nodes.light),
                camera=emptied(nodes.camera),
                skin=emptied(nodes.skin),
            )
            scene = scene.but(nodes=nodes)
        # joints and moved nodes stay with their skins and clips
        held = np.zeros(len(nodes), np.bool_)
        held[[j for s in scene.skins for j in (*s.joints, *([s.skeleton] if s.skeleton >= 0 else []))]] = True
        held[[c.node for clip in scene.clips for c in clip.channels]] = True
        useful = (nodes.mesh >= 0) | (nodes.light >= 0) | (nodes.camera >= 0) | held
        if self.helpers:
            useful |= ~drop
        keep = upwards(scene, useful)
        idle = ~keep & ~drop
        if idle.any():
            rows = np.flatnonzero(idle)
            text = f"{plural(len(rows), 'unused helper')} left behind"
            changes.append(Change(text=text, count=len(rows), parts=source_ids(scene, rows)))
        return scene, keep


def upwards(scene: Scene, marked: Bool) -> Bool:
    """(N,) marked nodes and everything above them; O(nodes)."""
    keep = marked.copy()
    row = np.flatnonzero(marked)
    while len(row):
        row = np.unique(scene.nodes.parent[row])
        row = row[row >= 0]
        row = row[~keep[row]]
        keep[row] = True
    return keep


def without_weights(mesh: Mesh) -> Mesh:
    kept = {k: v for k, v in mesh.attributes.items() if not k.startswith(("JOINTS_", "WEIGHTS_"))}
    return mesh if len(kept) == len(mesh.attributes) else replace(mesh, attributes=kept)
