"""Reads IFC 2x3, 4 and 4x3 (ISO 16739), as .ifc or packed as .ifczip, in a child process.

When the geometry library dies on a model, it is read again element by element, and the element that it died
on is left out: it costs that element only.
"""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.shared.bundle import Bundle
from tidy_caravan.core.formats.shared.images import picture, taken
from tidy_caravan.core.formats.shared.travel import with_supplied
from tidy_caravan.core.scene import Image, Scene
from tidy_caravan.core.work.isolation import MEMORY_BYTES, Child, Lost

JOB = "tidy_caravan.core.formats.ifc.native.scene:load"
MOST_LOST = 20
"""Elements that one import may lose to crashes of the library before it is given up."""
SCHEMAS = ("IFC2X3", "IFC4", "IFC4X1", "IFC4X2", "IFC4X3")


def seconds(size: int) -> float:
    """Processor time of one attempt, per core: five minutes and another for every 5 MB."""
    return 300.0 + size / 16_000


def quiet(size: int) -> float:
    """Processor time, per core, of what tells nothing of its progress: parsing, and the slowest single element."""
    return 60.0 + size / 100_000


def read(bundle: Bundle) -> Scene:
    """The spatial tree with its elements. Raises UnusableInput."""
    check_schema(bundle)
    skip: list[str] = []
    careful = False
    with tempfile.TemporaryDirectory(prefix="caravan-ifc-") as folder:
        path = Path(folder) / "model.ifc"
        path.write_bytes(bundle.data)
        child = Child(MEMORY_BYTES + bundle.limits.decoded_bytes)
        try:
            while True:
                begun = ""

                def hear(what: str = "", done: object = 0, total: int = 0) -> None:
                    nonlocal begun
                    if what == "element":
                        begun = str(done)
                    elif what:
                        bundle.tell(what, done, total)
                    else:
                        bundle.tell()

                call = (str(path), bundle.limits.nodes, tuple(skip), careful)
                cores = os.cpu_count() or 1
                size = len(bundle.data)
                answer = child.call(JOB, call, seconds(size) * cores, hear, quiet(size) * cores)
                if not isinstance(answer, Lost):
                    break
                if careful and (not begun or len(skip) >= MOST_LOST):
                    why = "the IFC library cannot read something in it" if answer.raised else answer.reason
                    raise UnusableInput(f"reading it failed: {why}; export it again", where=bundle.main)
                if careful:
                    skip.append(begun)
                careful = True
        finally:
            child.stop()
    scene, why = answer
    if scene is None:
        raise UnusableInput(f"{why}; export it again", where=bundle.main)
    assert isinstance(scene, Scene)
    return with_images(scene, bundle) if scene.images else scene


def with_images(scene: Scene, bundle: Bundle) -> Scene:
    """The scene with the images that the file names, from the bundle; those in the file itself are told by their content."""
    notes = list(scene.notes)
    images: list[Image] = []
    for image in scene.images:
        if image.data is None:
            images.append(picture(bundle, image.uri, notes))
            continue
        images.append(taken(image, image.data, notes, image.name))
    return with_supplied(scene.but(images=tuple(images), notes=tuple(notes)))


def check_schema(bundle: Bundle) -> None:
    """Raises UnusableInput for a STEP file of another schema, or one without end."""
    head = bundle.data[:20_000].decode("latin-1").upper()
    at = head.find("FILE_SCHEMA")
    stated = head[at : at + 80].split("'")[1] if at >= 0 and "'" in head[at : at + 80] else ""
    if not any(stated.startswith(s) for s in SCHEMAS):
        raise UnusableInput(
            f"the schema is {stated[:30] or 'not stated'}; IFC 2x3, 4 and 4x3 can be read", where=bundle.main
        )
    if b"END-ISO-10303-21" not in bundle.data[-4096:].upper():
        raise UnusableInput("the file has no end; it is cut off", where=bundle.main)
