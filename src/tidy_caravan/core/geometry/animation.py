"""Clips cut to a range, and a scene posed at one time (interpolation as in glTF 2.0, appendix C)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from tidy_caravan.core.scene import Channel, Clip, Nodes, Scene
from tidy_caravan.core.scene.arrays import F64, AnyArray
from tidy_caravan.core.space.transforms import compose, split_trs


def value_at(channel: Channel, time: float) -> F64:
    """(W,) value at a time in seconds; before the first and after the last key it holds. Weights come flat."""
    times = channel.times.astype(np.float64)
    cubic = channel.interpolation == "CUBICSPLINE"
    keys = channel.values.astype(np.float64).reshape(len(times), 3 if cubic else 1, -1)
    values: F64 = keys[:, 1] if cubic else keys[:, 0]
    at = int(np.searchsorted(times, time, side="right")) - 1
    if at < 0:
        return np.asarray(values[0])
    if at >= len(times) - 1 or channel.interpolation == "STEP":
        return np.asarray(values[min(at, len(times) - 1)])
    span = times[at + 1] - times[at]
    t = (time - times[at]) / span
    a, b = values[at], values[at + 1]
    if cubic:
        t2, t3 = t * t, t * t * t
        out = (
            (2 * t3 - 3 * t2 + 1) * a
            + (t3 - 2 * t2 + t) * span * keys[at, 2]
            + (3 * t2 - 2 * t3) * b
            + (t3 - t2) * span * keys[at + 1, 0]
        )
    elif channel.path == "rotation":
        out = slerp(a, b, t)
    else:
        out = a + (b - a) * t
    if channel.path == "rotation":
        length = float(np.linalg.norm(out))
        out = out / length if length > 0 else np.array((0.0, 0.0, 0.0, 1.0))
    result: F64 = np.asarray(out)
    return result


def slerp(a: F64, b: F64, t: float) -> F64:
    """Shortest great arc between two unit quaternions (Shoemake, 1985)."""
    dot = float(a @ b)
    if dot < 0:
        b, dot = -b, -dot
    if dot > 0.9999999:
        return a + (b - a) * t
    angle = np.arccos(min(1.0, dot))
    out: F64 = (np.sin((1 - t) * angle) * a + np.sin(t * angle) * b) / np.sin(angle)
    return out


def cropped(clip: Clip, start: float, end: float) -> Clip:
    """The clip between two times, moved to begin at nought; single keys at the cuts, cubic ones only inside."""
    channels = []
    for c in clip.channels:
        inside = (c.times > start) & (c.times < end)
        width = len(c.values) // max(1, len(c.times))
        table = c.values.reshape(len(c.times), width, -1)
        if c.interpolation == "CUBICSPLINE":
            inside |= (c.times == start) | (c.times == end)
            if not inside.any():
                continue
            times: AnyArray = c.times[inside] - start
            values: AnyArray = table[inside]
        else:
            edges = [value_at(c, t).reshape(1, width, -1) for t in (start, end)]
            times = np.concatenate([[0.0], c.times[inside] - start, [end - start]]) if end > start else np.zeros(1)
            values = np.concatenate([edges[0], table[inside], edges[1]]) if end > start else edges[0]
        times = times.astype(np.float32)
        rising = np.append(True, np.diff(times) > 0)
        channels.append(
            replace(c, times=times[rising], values=values[rising].reshape(-1, c.values.shape[-1]).astype(np.float32))
        )
    return replace(clip, channels=tuple(channels))


def worlds_at(scene: Scene, clip: Clip, rows: Sequence[int], times: F64) -> dict[int, F64]:
    """World matrices (T, 4, 4) of nodes at times (T,) of a clip, by node; (1, 4, 4) of those that nothing moves. What costs is
    the moved nodes and what is above the rows, not the scene."""
    nodes = scene.nodes
    moved: dict[int, dict[str, Channel]] = {}
    for c in clip.channels:
        moved.setdefault(c.node, {})[c.path] = c
    found: dict[int, F64] = {-1: np.eye(4)[None]}
    for row in rows:
        chain = [row]
        while chain[-1] not in found:
            chain.append(int(nodes.parent[chain[-1]]))
        for above, node in zip(chain[:0:-1], chain[-2::-1], strict=True):
            local = local_at(nodes, node, moved[node], times) if node in moved else nodes.local[node][None]
            found[node] = found[above] @ local
    return {row: found[row] for row in rows}


def local_at(nodes: Nodes, node: int, channels: Mapping[str, Channel], times: F64) -> F64:
    """(T, 4, 4) own matrix of a node at times (T,), as its channels have it by path."""
    if node in nodes.rest:
        rest = [np.array(v, np.float64) for v in nodes.rest[node]]
    else:
        rest = [v[0] for v in split_trs(nodes.local[node][None])[:3]]
    values = [
        np.array([value_at(channels[path], t) for t in times.tolist()])
        if path in channels
        else np.tile(still, (len(times), 1))
        for path, still in zip(("translation", "rotation", "scale"), rest, strict=True)
    ]
    return compose(*values)


def posed(scene: Scene, time: float) -> Scene:
    """Nodes placed, and morph weights set, as all clips have them at a time; later clips win."""
    nodes = scene.nodes
    local, column = nodes.local.copy(), nodes.mesh.copy()
    meshes = list(scene.meshes)
    moved: dict[int, dict[str, Channel]] = {}
    for clip in scene.clips:
        for c in clip.channels:
            moved.setdefault(c.node, {})[c.path] = c
    for node, found in moved.items():
        local[node] = local_at(nodes, node, found, np.array([time]))[0]
        mesh = int(nodes.mesh[node])
        if "weights" in found and mesh >= 0:
            column[node] = len(meshes)
            weights = tuple(float(w) for w in value_at(found["weights"], time).ravel())
            meshes.append(replace(scene.meshes[mesh], morph_weights=weights))
    return scene.but(nodes=replace(nodes, local=local, mesh=column), meshes=tuple(meshes))
