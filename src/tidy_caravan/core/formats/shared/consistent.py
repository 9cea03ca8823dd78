"""Whether what a receiver read hangs together: a file may be readable and still point beyond its own lists."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import fields

import numpy as np

from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.scene import Channel, Material, Mesh, Scene, TextureUse
from tidy_caravan.core.scene.arrays import I64, AnyArray

WIDTHS = {"translation": 3, "rotation": 4, "scale": 3}
INTERPOLATIONS = {"LINEAR": 1, "STEP": 1, "CUBICSPLINE": 3}


def consistent(scene: Scene, file: str) -> Scene:
    """The scene, if every number in it names something that is there. Raises UnusableInput with the first that does not.
    O(nodes log nodes + vertices + triangles)."""
    for told in broken(scene):
        raise UnusableInput(
            f"the receiver cannot use it: {told}; the file is damaged, pack again",
            where=file,
            code="arrival.unreadable",
        )
    return scene


def broken(scene: Scene) -> Iterator[str]:
    nodes = scene.nodes
    for what, of_node, there in (
        ("mesh", nodes.mesh, len(scene.meshes)),
        ("light", nodes.light, len(scene.lights)),
        ("camera", nodes.camera, len(scene.cameras)),
        ("skin", nodes.skin, len(scene.skins)),
    ):
        wrong = np.flatnonzero((of_node < -1) | (of_node >= there))
        for i in wrong[:1].tolist():
            yield f"node “{nodes.names[i]}” asks for {what} {of_node[i]} of {there}"
    for i in np.flatnonzero(~np.isfinite(nodes.local).all(axis=(1, 2)))[:1].tolist():
        yield f"node “{nodes.names[i]}” stands nowhere: its transform holds what is no number"
    wrong = np.flatnonzero((nodes.parent < -1) | (nodes.parent >= len(nodes)))
    for i in wrong[:1].tolist():
        yield f"node “{nodes.names[i]}” hangs below node {nodes.parent[i]} of {len(nodes)}"
    if not len(wrong) and (i := in_a_ring(nodes.parent.astype(np.int64))) >= 0:
        yield f"node “{nodes.names[i]}” hangs below itself"
    for root in scene.roots:
        for i in root.nodes:
            if not 0 <= i < len(nodes):
                yield f"scene “{root.name}” draws node {i} of {len(nodes)}"
    if scene.roots and scene.default_root >= len(scene.roots):
        yield f"scene {scene.default_root} is drawn, and there are {len(scene.roots)}"
    for mesh in scene.meshes:
        yield from broken_mesh(mesh, len(scene.materials))
    yield from broken_skins(scene)
    for material in scene.materials:
        for use in uses(material):
            if not 0 <= use.texture < len(scene.textures):
                yield f"material “{material.name}” asks for texture {use.texture} of {len(scene.textures)}"
    for k, texture in enumerate(scene.textures):
        if not -1 <= texture.image < len(scene.images):
            yield f"texture {k} asks for image {texture.image} of {len(scene.images)}"
    for clip in scene.clips:
        for channel in clip.channels:
            if told := broken_channel(channel, len(nodes)):
                yield f"clip “{clip.name}” {told}"


def in_a_ring(parent: I64) -> int:
    """A node that is above itself, -1 when there is none: after so many doublings every other has passed the top."""
    above = parent.copy()
    for _ in range(max(1, len(parent).bit_length())):
        above = np.where(above >= 0, above[np.maximum(above, 0)], -1)
    left = np.flatnonzero(above >= 0)
    return int(left[0]) if len(left) else -1


def broken_mesh(mesh: Mesh, materials: int) -> Iterator[str]:
    count = len(mesh.positions)
    if mesh.indices.size and int(mesh.indices.max()) >= count:
        yield f"a triangle of mesh “{mesh.name}” has corner {int(mesh.indices.max())} of {count}"
    columns: list[tuple[str, AnyArray | None, tuple[int, ...]]] = [("places", mesh.positions, (3,))]
    columns += [("normals", mesh.normals, (3,)), ("tangents", mesh.tangents, (4,))]
    columns += [(f"coordinates of UV set {k}", uv, (2,)) for k, uv in enumerate(mesh.uvs)]
    columns += [("vertex colours", color, (3, 4)) for color in mesh.colors]
    columns += [(name, column, ()) for name, column in mesh.attributes.items()]
    columns += [
        (f"offsets of morph target {k}", a, (3,)) for k, m in enumerate(mesh.morphs) for a in (m.positions, m.normals)
    ]
    for what, column, widths in columns:
        if column is None:
            continue
        if len(column) != count:
            yield f"mesh “{mesh.name}” has {len(column)} {what} for {count} vertices"
        if widths and (column.ndim != 2 or column.shape[1] not in widths):
            yield f"the {what} of mesh “{mesh.name}” are not of {widths[0]} numbers each"
    asked = [s for s in mesh.slots if not -1 <= s < materials]
    if asked:
        yield f"mesh “{mesh.name}” asks for material {asked[0]} of {materials}"


def broken_skins(scene: Scene) -> Iterator[str]:
    nodes = scene.nodes
    for k, skin in enumerate(scene.skins):
        wrong = [j for j in skin.joints if not 0 <= j < len(nodes)]
        if wrong or not skin.joints:
            yield f"skin {k} hangs on node {wrong[0]} of {len(nodes)}" if wrong else f"skin {k} hangs on nothing"
        bind = skin.inverse_bind
        if bind is not None and (len(bind) != len(skin.joints) or not np.isfinite(bind).all()):
            yield f"skin {k} has {len(bind)} matrices for {len(skin.joints)} joints, or no numbers in them"
    for i in np.flatnonzero((nodes.skin >= 0) & (nodes.mesh >= 0)).tolist():
        mesh, most = scene.meshes[nodes.mesh[i]], len(scene.skins[nodes.skin[i]].joints)
        for name, column in mesh.attributes.items():
            if name.startswith("JOINTS_") and column.size and int(column.max()) >= most:
                yield f"mesh “{mesh.name}” hangs on joint {int(column.max())} of {most}"


def uses(material: Material) -> Iterator[TextureUse]:
    for field in fields(material):
        value = getattr(material, field.name)
        if isinstance(value, TextureUse):
            yield value


def broken_channel(channel: Channel, nodes: int) -> str:
    """What is wrong with it, to go on after the name of its clip."""
    if not isinstance(channel.node, int) or not 0 <= channel.node < nodes:
        return f"moves node {channel.node} of {nodes}"
    if channel.path not in (*WIDTHS, "weights"):
        return f"moves “{channel.path}”"
    if channel.interpolation not in INTERPOLATIONS:
        return f"goes from key to key by “{channel.interpolation}”"
    keys, values = len(channel.times), len(channel.values)
    width = channel.values.shape[1] if channel.values.ndim == 2 else 1
    wanted = WIDTHS.get(channel.path)
    if not keys or (wanted and (width != wanted or values != keys * INTERPOLATIONS[channel.interpolation])):
        return f"has {values} values of {width} numbers for {keys} keys of {channel.path}"
    if wanted is None and (values % keys or not values):
        return f"has {values} weights for {keys} keys"
    return ""
