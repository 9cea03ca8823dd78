"""Nodes that are put elsewhere, together with the clips that move them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from tidy_caravan.core.scene import Channel, Scene
from tidy_caravan.core.scene.arrays import F64


def moved_in_place(scene: Scene, by: F64) -> Scene:
    """The scene with its nodes moved by (N, 3) in the space of what they hang from, at rest and in every clip."""
    nodes = scene.nodes
    local = nodes.local.copy()
    local[:, :3, 3] += by
    going = np.asarray(by.any(axis=1))
    rest = {
        i: (tuple((np.array(t) + by[i]).tolist()), r, s) if going[i] else (t, r, s)
        for i, (t, r, s) in nodes.rest.items()
    }
    clips = tuple(
        replace(clip, channels=tuple(_moved(c, by[c.node]) if going[c.node] else c for c in clip.channels))
        for clip in scene.clips
    )
    return scene.but(nodes=replace(nodes, local=local, rest=rest), clips=clips)


def _moved(channel: Channel, by: F64) -> Channel:
    if channel.path != "translation":
        return channel
    wide = channel.values.astype(np.float64)
    cubic = channel.interpolation == "CUBICSPLINE"
    wide[slice(1, None, 3) if cubic else slice(None)] += by  # tangents stay as they are
    return replace(channel, values=wide.astype(np.float32))
