"""Reads OpenUSD (usda, usdc, usdz): laid out in a folder of its own and composed in a child process.

The library is native code and follows what files name; both are kept in bounds there (native/usd_stage.py).
"""

from __future__ import annotations

import errno
import os
import tempfile
from collections.abc import Mapping
from contextlib import ExitStack
from dataclasses import replace
from pathlib import Path, PurePosixPath
from typing import Any
from unicodedata import normalize

from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.shared.bundle import Bundle
from tidy_caravan.core.formats.shared.encoding import in_utf8, is_utf8
from tidy_caravan.core.formats.shared.images import packed_channels, picture
from tidy_caravan.core.scene import Image, Note, Scene
from tidy_caravan.core.work.isolation import MEMORY_BYTES, Child, Lost

JOB = "tidy_caravan.core.formats.usd.native.scene:load"


def seconds(size: int) -> float:
    """Time limit of one import: two minutes and another for every 20 MB."""
    return 120.0 + size / 333_000


def quiet(size: int) -> float:
    """Processor time, per core, of what tells nothing of its progress, such as parsing: a damaged layer can keep the library,
    which works with all cores, for ever."""
    return 20.0 + size / 1_000_000


def read(bundle: Bundle) -> Scene:
    """The composed stage. Raises UnusableInput when it cannot be opened, or the library crashes or hangs on it."""
    with ExitStack() as stack:
        main = bundle.main
        told: list[Note] = []
        if bundle.folder is not None and sayable(str(bundle.folder / main)) and sound(bundle.data):
            top = bundle.folder
        else:
            top = Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="caravan-usd-")))
            # the library takes paths in UTF-8 only; a file whose name is none gets another one meanwhile
            main = (
                main
                if sayable(main)
                else f"model{PurePosixPath(main).suffix if sayable(PurePosixPath(main).suffix) else '.usd'}"
            )
            lay_out(readable({**bundle.all_files(), main: bundle.data}, told), top, main)
        child = Child(MEMORY_BYTES + bundle.limits.decoded_bytes)
        stack.callback(child.stop)
        size = sum(len(d) for d in bundle.files.values()) or len(bundle.data)
        answer = child.call(
            JOB,
            (str((top / main).resolve()), str(top.resolve()), bundle.limits.nodes),
            seconds(size),
            bundle.tell,
            quiet(size) * (os.cpu_count() or 1),
        )
    if isinstance(answer, Lost):
        why = "it holds something that the OpenUSD library cannot read" if answer.raised else answer.reason
        raise UnusableInput(f"reading it failed: {why}; export it again", where=bundle.main)
    scene, packed, why = answer
    if scene is None:
        raise UnusableInput(f"{why}; export it again", where=bundle.main)
    return with_pictures(scene.but(notes=(*told, *scene.notes)), packed, bundle)


def sayable(path: str) -> bool:
    """Whether a path can be written in UTF-8; names on disk need not be."""
    try:
        path.encode()
    except UnicodeEncodeError:
        return False
    return True


def sound(data: bytes) -> bool:
    """Whether a layer is text in UTF-8, or no text at all."""
    return data[:5] != b"#usda" or is_utf8(data)


def readable(files: Mapping[str, bytes], told: list[Note]) -> dict[str, bytes]:
    """The files with text layers of another encoding brought to UTF-8, taken for Windows-1252 and told as a guess."""
    out = {}
    for name, data in files.items():
        if not sayable(name):
            continue
        out[name] = data if sound(data) else in_utf8(data, name, told)
    return out


def lay_out(files: Mapping[str, bytes], top: Path, main: str) -> None:
    """The files on disk, with either form of their accents, since layers may name them by the other; what no file system
    holds is left out and then told as missing. Raises UnusableInput for the main one."""
    forms = {normalize(form, n): n for n in files if not n.isascii() for form in ("NFC", "NFD")}
    for name in sorted({**forms, **dict.fromkeys(files)}, key=lambda n: n != main):
        target = top / name
        try:
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(files[name] if name in files else files[forms[name]])
        except OSError as error:
            if name == main or error.errno in (errno.ENOSPC, errno.EDQUOT):
                reason = error.strerror or "it cannot be laid out on disk"
                raise UnusableInput(
                    f"its files cannot be laid out ({reason}); shorten their names", where=main
                ) from error


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
                     "Roughness and metallic images were put together into one, green and blue.")
            )  # fmt: skip
    return scene.but(images=tuple(images), notes=tuple(notes))
