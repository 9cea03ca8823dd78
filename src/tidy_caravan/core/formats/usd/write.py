"""Writes OpenUSD as text, binary or package; the library runs in a child process."""

from __future__ import annotations

import numpy as np

from tidy_caravan.core.errors import CaravanError
from tidy_caravan.core.formats.shared.images import portable
from tidy_caravan.core.formats.shared.pace import heard
from tidy_caravan.core.formats.shared.written import Written, scatter_batches, texture_path
from tidy_caravan.core.pace import Tell, nobody
from tidy_caravan.core.scene import Scene
from tidy_caravan.core.space.convert import one_thing_each
from tidy_caravan.core.words import plural
from tidy_caravan.core.work.isolation import Child, Lost

LEAST = 8
"""Parts of a group in all its places together from which on it is written once."""
JOB = "tidy_caravan.core.formats.usd.native.package:build"


def write_usda(scene: Scene, name: str, instancing: bool = False, tell: Tell = nobody) -> Written:
    """`name`.usda and a folder of textures."""
    return write_usd(scene, name, ".usda", instancing, tell)


def write_usdc(scene: Scene, name: str, instancing: bool = False, tell: Tell = nobody) -> Written:
    """`name`.usdc and a folder of textures."""
    return write_usd(scene, name, ".usdc", instancing, tell)


def write_usdz(scene: Scene, name: str, instancing: bool = False, tell: Tell = nobody) -> Written:
    """One uncompressed, aligned archive with the binary layer first."""
    return write_usd(scene, name, ".usdz", instancing, tell)


def write_usd(scene: Scene, name: str, ending: str, instancing: bool, tell: Tell) -> Written:
    """Raises CaravanError when the library fails on it."""
    scene = one_thing_each(scene)  # a prim is a surface's transform, a light or a camera
    nodes = scene.nodes
    swallowed, batches = scatter_batches(scene) if instancing else (np.zeros(len(nodes), np.bool_), {})
    kept = np.flatnonzero(~swallowed)
    number = np.full(len(nodes), -1, np.int64)
    number[kept] = np.arange(len(kept))
    out = Written({}, node_index=number.tolist())
    scene = portable(scene, out.rewritten)
    pictures: dict[int, str] = {}
    files: dict[str, bytes] = {}
    for i, image in enumerate(scene.images):
        if image.data is None:
            out.rewritten_of("Images without data stay behind: {names}.", image.uri or image.name or f"image {i}")
            continue
        pictures[i] = texture_path(image.name or image.uri, i, image.mime, files)
        files[pictures[i]] = image.data
    child = Child()
    try:
        limit = 120.0 + len(nodes) / 200 + sum(m.nbytes for m in scene.meshes) / 1e6
        least = LEAST if instancing else 0
        answer = child.call(JOB, (scene, name, ending, pictures, batches, swallowed, files, least), limit, heard(tell))
    finally:
        child.stop()
    if isinstance(answer, Lost):
        raise CaravanError(f"the OpenUSD library failed: {answer.reason}", where=name, code="write.failed")
    data, paths, stands_for, texts = answer
    # a prim cannot be without a name; another one that it takes badly stands beside it as its display name
    out.renamed = {i: paths[i].rpartition("/")[2] for i, n in enumerate(nodes.names) if not n and paths[i]}
    # what is there by reference is called what stands there
    called = {i: out.renamed.get(k, nodes.names[k]) for i, k in stands_for.items()}
    out.renamed |= {i: name for i, name in called.items() if name != nodes.names[i]}
    if texts:
        out.rewritten(
            f"Data of {plural(texts, 'node')} hold values of which OpenUSD has no kind (lists of several kinds or of lists, "
            "nothing); they stand there as JSON text."
        )
    if stands_for:
        out.rewritten(
            f"{plural(len(stands_for), 'node')} are there by reference: groups that stand in several places are written once."
        )
    out.files = {f"{name}{ending}": data, **({} if ending == ".usdz" else files)}
    for what, there in (
        ("skins", scene.skins),
        ("animation clips", scene.clips),
        ("morph targets", [m for m in scene.meshes if m.morphs]),
        ("tangents", [m for m in scene.meshes if m.tangents is not None]),
    ):
        if there:
            out.lost(f"OpenUSD as written here cannot hold: {what}.")
    unlit = [m for m in scene.materials if m.unlit]
    if unlit:
        out.rewritten(f"OpenUSD knows no unlit surface; {plural(len(unlit), 'material')} glow in their colour instead.")
    if any((c[:, 3] < 1).any() for m in scene.meshes for c in m.colors[:1]) or any(
        len(m.colors) > 1 for m in scene.meshes
    ):
        out.lost("OpenUSD as written here cannot hold: opacity of vertex colours, and further sets of them.")
    if scene.convention.up not in ("Y", "Z") or scene.convention.handedness != "right":
        out.rewritten(
            f"OpenUSD can only declare right-handed axes; the numbers are {scene.convention.label()}, as the destination takes them."
        )
    return out
