"""Room for the lightmap: a UV set that materials read moves to another channel before the lightmap takes its own."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from tidy_caravan.core.scene import Mesh, Scene, TextureUse
from tidy_caravan.core.scene.arrays import AnyArray
from tidy_caravan.core.scene.look import channel_of, reads

ROLES = ("base_color_texture", "metallic_roughness_texture", "normal_texture", "occlusion_texture", "emissive_texture")
MOST_SETS = 8
"""UV sets that every receiver of the formats written here can be counted on to find."""


@dataclass(frozen=True)
class Room:
    """What has to move so that `channel` becomes free.

    materials: those that read it. meshes: those that bear one of them. target: the channel it moves to, -1 when
    there is none left.
    """

    channel: int
    target: int
    materials: tuple[int, ...]
    meshes: tuple[int, ...]

    def with_copy(self, mesh: Mesh) -> Mesh:
        """The mesh with the set once more at the target; a set that it lacks is empty there as it was before."""
        empty = np.zeros((mesh.vertices, 2), np.float32)
        sets = list(mesh.uvs) + [empty] * (self.target - len(mesh.uvs))
        sets[self.target :] = [mesh.uvs[self.channel] if len(mesh.uvs) > self.channel else empty]
        return replace(mesh, uvs=tuple(sets))

    def redirected(self, scene: Scene) -> Scene:
        """The scene whose materials read the target instead."""
        materials = list(scene.materials)
        for i in self.materials:
            uses = {r: getattr(materials[i], r) for r in ROLES}
            moved = {r: self._moved(u) for r, u in uses.items() if u is not None and channel_of(u) == self.channel}
            materials[i] = replace(materials[i], **moved)  # type: ignore[arg-type]
        return scene.but(materials=tuple(materials))

    def _moved(self, use: TextureUse) -> TextureUse:
        if use.transform_channel is None:
            return replace(use, channel=self.target)
        return replace(use, transform_channel=self.target)


def room_for(scene: Scene, channel: int, targets: list[int]) -> Room | None:
    """What has to move before the meshes in `targets` get a lightmap set at `channel`; None when it is free."""
    reading = [i for i, m in enumerate(scene.materials) if reads(m, channel)]
    slots = [set(m.slots) for m in scene.meshes]
    wanted = {i for i in reading if any(i in slots[t] for t in targets)}
    if not wanted:
        return None
    bearing = [k for k, s in enumerate(slots) if s & wanted]
    target = max(channel + 1, *(len(scene.meshes[k].uvs) for k in bearing))
    return Room(channel, target if target < MOST_SETS else -1, tuple(sorted(wanted)), tuple(bearing))


def bearers(scene: Scene, meshes: tuple[int, ...]) -> AnyArray:
    """Nodes that draw one of the meshes."""
    return np.flatnonzero(np.isin(scene.nodes.mesh, meshes))
