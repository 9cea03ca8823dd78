"""Step: what stays behind, kind by kind and set by set, before anything else is done."""

from __future__ import annotations

from dataclasses import replace
from typing import Literal

import numpy as np

from tidy_caravan.core.aspects import Aspect, Effect
from tidy_caravan.core.geometry.animation import cropped, posed
from tidy_caravan.core.geometry.pose import baked
from tidy_caravan.core.scene import HIDDEN, Scene
from tidy_caravan.core.scene.arrays import I32, Bool
from tidy_caravan.core.space.convert import keep_nodes
from tidy_caravan.core.steps.base import Change, Phase, Step, StepContext, identities_of, parameter, step
from tidy_caravan.core.words import plural


@step
class WhatTravels(Step):
    """Leaves out what is not wanted: switched-off parts, lights, cameras, animation, helpers, sets left out.

    Helpers are nodes that draw nothing and lead to nothing; bones and morph targets count as such when no clip
    moves them: the pose they hold is baked into the mesh. What is left out is listed in the manifest.
    """

    title = "What travels"
    summary = "Leaves switched-off parts, unused helpers, bones and morph targets behind, and sets that are left out."

    phase = Phase.TRAVEL

    kind: Literal["what_travels"] = "what_travels"
    hidden: bool = parameter(False, "Switched-off parts", "Parts that are switched off in the source travel as well")
    lights: bool = parameter(True, "Lights", "Lights travel")
    cameras: bool = parameter(True, "Cameras", "Cameras travel")
    helpers: bool = parameter(False, "Helpers", "Empties that lead to nothing travel")
    bones: bool = parameter(False, "Idle bones", "Bones that no clip moves travel, with their skins")
    morphs: bool = parameter(False, "Idle morph targets", "Morph targets that no clip moves travel")
    animation: Literal["all", "range", "frame", "rest"] = parameter(
        "all", "Animation", "All clips, a range of seconds, the pose at one time, or the rest pose"
    )
    start: float = parameter(
        0.0, "From", "Begin of the range, or time of the frame", "s", only={"animation": ["range", "frame"]}, ge=0
    )
    end: float = parameter(10.0, "To", "End of the range", "s", only={"animation": ["range"]}, ge=0)

    def effects(self) -> tuple[Effect, ...]:
        out = [Effect(Aspect.PARTS), Effect(Aspect.SHARING)]
        if not self.lights:
            out.append(Effect(Aspect.LIGHTS))
        if not self.cameras:
            out.append(Effect(Aspect.CAMERAS))
        if self.animation != "all":
            out.append(Effect(Aspect.CLIPS))
        return tuple(out)

    def apply(self, scene: Scene, context: StepContext) -> tuple[Scene, list[Change]]:
        changes: list[Change] = []
        out = self._animation(scene, changes)
        out = self._switches(out, changes)
        out = self._skins_and_morphs(out, changes)
        out, keep = self._kept(out, context, changes)
        return (keep_nodes(out, keep) if not keep.all() else out), changes

    def as_source(self, scene: Scene, context: StepContext) -> Scene:
        """A scene frozen at a time is compared with the source as it stands at that time."""
        if self.animation != "frame" or not scene.clips:
            return scene
        return posed(scene, self.start)

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
        nodes = scene.nodes
        none = np.zeros(len(nodes), np.bool_)
        skins, morphs = none, none
        if not self.bones and scene.skins:
            # a joint moves with whatever moves above it
            moved = none.copy()
            moved[[c.node for clip in scene.clips for c in clip.channels if c.path != "weights"]] = True
            moved = nodes.under(moved)
            idle = np.array([not moved[list(s.joints)].any() for s in scene.skins] + [False])
            skins = idle[nodes.skin] & (nodes.skin >= 0) & (nodes.mesh >= 0)
        if not self.morphs:
            shaped = [c.node for clip in scene.clips for c in clip.channels if c.path == "weights"]
            held = np.zeros(len(scene.meshes) + 1, np.bool_)
            held[nodes.mesh[shaped]] = True
            # a mesh whose skin travels is baked with that skin or not at all
            held[nodes.mesh[(nodes.skin >= 0) & ~skins]] = True
            held[-1] = False
            has = np.array([bool(m.morphs) for m in scene.meshes] + [False])
            morphs = (has & ~held)[nodes.mesh] & (nodes.mesh >= 0)
        if not skins.any() and not morphs.any():
            return scene
        out, stuck = baked(scene, skins, morphs)
        posed_, shaped_ = skins & ~stuck, morphs & ~stuck
        if posed_.any():
            rows = np.flatnonzero(posed_)
            text = f"{plural(len(rows), 'skinned part')} stand in the pose of their bones, which stay behind"
            changes.append(Change(text=text, count=len(rows), parts=identities_of(scene, rows)))
        if shaped_.any():
            bent = [i for i in np.flatnonzero(shaped_).tolist() if any(scene.meshes[nodes.mesh[i]].morph_weights)]
            meshes = np.unique(nodes.mesh[shaped_]).tolist()
            gone = sum(len(scene.meshes[i].morphs) for i in meshes)
            if bent:
                text = f"{plural(len(bent), 'part')} keep the shape of their morph weights"
                changes.append(Change(text=text, count=len(bent), parts=identities_of(scene, np.array(bent))))
            changes.append(Change(text=f"{plural(gone, 'morph target')} that no clip moves left behind", count=gone))
        if stuck.any():
            rows = np.flatnonzero(stuck)
            text = f"{plural(len(rows), 'skinned part')} keep their bones: their own node is scaled to nothing"
            changes.append(Change(text=text, count=len(rows), problem=True, parts=identities_of(scene, rows)))
        return without_idle_skins(out)

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
                changes.append(Change(text=text, count=len(rows), parts=identities_of(scene, rows)))
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
        keep = scene.nodes.over(useful)
        idle = ~keep & ~drop
        if idle.any():
            rows = np.flatnonzero(idle)
            text = f"{plural(len(rows), 'unused helper')} left behind"
            changes.append(Change(text=text, count=len(rows), parts=identities_of(scene, rows)))
        return scene, keep


def without_idle_skins(scene: Scene) -> Scene:
    """The scene with only the skins that a part still has."""
    used = np.unique(scene.nodes.skin[scene.nodes.skin >= 0])
    table = np.full(len(scene.skins) + 1, -1, np.int32)
    table[used] = np.arange(len(used), dtype=np.int32)
    skins = tuple(scene.skins[i] for i in used.tolist())
    return scene.but(skins=skins, nodes=replace(scene.nodes, skin=table[scene.nodes.skin]))
