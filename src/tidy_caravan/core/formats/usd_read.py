"""Reads OpenUSD (usda, usdc, usdz): laid out in a folder of its own and composed in a child process.

The library is native code and follows what files name; both are kept in bounds there (native/usd_stage.py).
"""

from __future__ import annotations

import tempfile
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path
from typing import Any

from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.bundle import Bundle
from tidy_caravan.core.formats.pictures import packed_channels, picture
from tidy_caravan.core.formats.registry import reader
from tidy_caravan.core.geometry.isolation import MEMORY_BYTES, Child, Lost
from tidy_caravan.core.scene import Image, Note, Scene

JOB = "tidy_caravan.core.formats.native.usd_scene:load"


def is_usd(head: bytes) -> bool:
    return head[:8] == b"PXR-USDC" or head[:5] == b"#usda"


def seconds(size: int) -> float:
    """Time limit of one import: two minutes and another for every 20 MB."""
    return 120.0 + size / 333_000


@reader("usd", ".usd", ".usda", ".usdc", ".usdz", sniff=is_usd)
def read(bundle: Bundle) -> Scene:
    """The composed stage. Raises UnusableInput when it cannot be opened, or the library crashes or hangs on it."""
    with ExitStack() as stack:
        if bundle.folder is not None:
            top = bundle.folder
        else:
            top = Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="caravan-usd-")))
            for name, data in (bundle.files or {bundle.main: bundle.data}).items():
                target = top / name
                target.parent.mkdir(parents=True, exist_ok=True)
                target.write_bytes(data)
        child = Child(MEMORY_BYTES + bundle.limits.decoded_bytes)
        stack.callback(child.stop)
        size = sum(len(d) for d in bundle.files.values()) or len(bundle.data)
        answer = child.call(
            JOB,
            (str((top / bundle.main).resolve()), str(top.resolve()), bundle.limits.nodes),
            seconds(size),
            bundle.tell,
        )
    if isinstance(answer, Lost):
        raise UnusableInput(f"reading it failed: {answer.reason}", where=bundle.main)
    scene, packed, why = answer
    if scene is None:
        raise UnusableInput(f"{why}; export it again", where=bundle.main)
    return with_pictures(scene, packed, bundle)


def with_pictures(scene: Scene, packed: dict[int, Any], bundle: Bundle) -> Scene:
    """The scene with its pictures out of the bundle; packed ones are put together from two."""
    notes: list[Note] = list(scene.notes)
    images: list[Image] = []
    for i, image in enumerate(scene.images):
        if i not in packed:
            images.append(picture(bundle, image.uri, notes, base=""))
            continue
        (rough, green), (metal, blue) = packed[i]
        parts = [picture(bundle, p, notes, base="").data if p else None for p in (rough, metal)]
        made = packed_channels((parts[0], green), (parts[1], blue))
        images.append(replace(image, data=made, mime="image/png" if made else "", uri=rough or metal))
        if made:
            notes.append(
                Note("converted", "texture.packed", image.name[:120],
                     "Roughness and metallic pictures were put together into one, green and blue.")
            )  # fmt: skip
    return scene.but(images=tuple(images), notes=tuple(notes))
