"""Pictures that a scene file names: found in the bundle, checked, or told as missing."""

from __future__ import annotations

import contextlib
import io
import re
from collections.abc import Callable
from dataclasses import replace

import numpy as np
import PIL.Image

from tidy_caravan.core.errors import UnusableInput
from tidy_caravan.core.formats.shared.bundle import Bundle, alike, safe_relative
from tidy_caravan.core.formats.shared.other_images import OTHER_ENDINGS, other_format, pixels_as_png
from tidy_caravan.core.scene import Image, Note, Scene
from tidy_caravan.core.space.srgb import coded, linear

KTX2 = b"\xabKTX 20\xbb\r\n\x1a\n"
SIGNATURES = ((b"\x89PNG\r\n\x1a\n", "image/png"), (b"\xff\xd8\xff", "image/jpeg"), (b"RIFF", "image/webp"))


def sniff_image(data: bytes) -> str:
    """Media type by the first bytes, empty if unknown."""
    found = next((mime for start, mime in SIGNATURES if data.startswith(start)), "")
    return "" if found == "image/webp" and data[8:12] != b"WEBP" else found


TILES = re.compile(r"<UDIM>|%\(UDIM\)d", re.IGNORECASE)
"""Stands for the number of a tile in the name of an image; the first, for coordinates from 0 to 1, is 1001."""


OTHER_FORMAT, UNREADABLE = "texture.format", "texture.unreadable"
"""Codes of notes on images that are taken as PNG, and on those that are none."""
READ = "PNG, JPEG, WebP, BMP, GIF, TGA or TIFF"
IMAGE_ENDINGS = (".png", ".jpg", ".jpeg", ".webp", *OTHER_ENDINGS)


def taken(image: Image, data: bytes, notes: list[Note], where: str) -> Image:
    """The image with its data: as it is where that is PNG, JPEG or WebP, and as PNG where it is of another open format, which is
    told. What is no picture leaves a note, and the image without data."""
    name = image.name or file_name(image.uri)
    if mime := sniff_image(data):
        return replace(image, mime=mime, data=data)
    fmt = other_format(data, image.uri or name)
    why = ""
    if fmt:
        try:
            made, left = pixels_as_png(data, fmt)
        except ValueError as error:
            why = f"The image “{name[:80]}” is {fmt} and cannot be taken: {error}."
        else:
            but = f"; {' and '.join(left)} came along" if left else ""
            text = f"The image “{name[:80]}” is {fmt}; its pixels travel as PNG{but}."
            notes.append(Note("converted", OTHER_FORMAT, where, text))
            return replace(image, name=as_named(image.name), uri=as_named(image.uri), mime="image/png", data=made)
    if data.startswith(KTX2):
        why = f"The image “{name[:80]}” is KTX2, which is not read here; send it as PNG as well."
    notes.append(Note("damaged", UNREADABLE, where, why or f"The image “{name[:80]}” is no {READ} file."))
    return replace(image, mime="", data=None)


def as_named(name: str) -> str:
    """The name that a file has once it is PNG; what has no ending that says otherwise stays."""
    stem, dot, ending = name.rpartition(".")
    return f"{stem}.png" if dot and f".{ending.lower()}" in OTHER_ENDINGS else name


def file_name(path: str) -> str:
    return path.replace("\\", "/").rsplit("/", 1)[-1]


def picture(bundle: Bundle, path: str, notes: list[Note], base: str | None = None, where: str = "") -> Image:
    """The picture of that address: by its path, then by its file name, then whatever the case.

    A picture that is not there, or no picture, keeps its name without data and leaves a note.
    """
    data, how = bundle.look_for(path, base)
    place, name = where or path[:120], file_name(path)[:200]
    if data is None and (first := TILES.sub("1001", path)) != path:
        data, how = bundle.look_for(first, base)
        if data is not None:
            text = f"“{path[:100]}” is a set of tiles, one for each square of texture coordinates; the first was taken for all."
            notes.append(Note("guess", "texture.tiles", place, text))
            path, name = first, file_name(first)[:200]
    if data is None:
        try:
            safe_relative(path, bundle.home if base is None else base)
        except UnusableInput as error:
            notes.append(Note("damaged", "texture.unreachable", place, f"{error.what}."))
            return Image(name, "", None, path[:300])
        notes.append(
            Note("behind", "texture.missing", place, f"The image “{path[:120]}” was not found beside the scene.")
        )
        return Image(name, "", None, path[:300])
    made = taken(Image(name, "", None, path[:300]), data, notes, place)
    if made.data is None:
        return made
    if how == "name":
        notes.append(
            Note(
                "guess",
                "texture.found-by-name",
                place,
                f"The image “{path[:100]}” is not at its address; the one file of that name in the bundle was taken.",
            )
        )
    return made


def supply(scene: Scene, files: dict[str, bytes]) -> tuple[Scene, list[str]]:
    """The scene with missing pictures filled from files that bear their names, and the names of those filled.

    A file fits by its name, then by its name whatever the case or the form of its accents.
    """
    by_name = {file_name(p): d for p, d in files.items()}
    lowered = {alike(n): d for n, d in by_name.items()}
    images, filled, told = list(scene.images), [], list[Note]()
    for i, image in enumerate(images):
        if image.data is not None:
            continue
        for wanted in (file_name(image.uri), file_name(image.name)):
            data = by_name.get(wanted) or lowered.get(alike(wanted))
            made = taken(replace(image, uri=wanted), data, told, wanted) if wanted and data else image
            if made.data is not None:
                images[i] = replace(made, uri=as_named(image.uri) if made.uri != wanted else image.uri)
                filled.append(wanted)
                break
    notes = tuple(
        n
        for n in scene.notes
        if not (
            n.code in ("texture.missing", "texture.unreachable", UNREADABLE) and any(name in n.text for name in filled)
        )
    )
    converted = (n for n in told if n.kind == "converted")
    return scene.but(images=tuple(images), notes=(*notes, *converted)), filled


def packed_channels(green: tuple[bytes | None, str], blue: tuple[bytes | None, str]) -> bytes | None:
    """PNG with one picture's channel (r, g, b or a) in green and another's in blue; red is white.

    A missing one leaves its channel white; None when both are missing or unreadable. Sizes follow the larger.
    """
    bands: list[PIL.Image.Image | None] = []
    for data, channel in (green, blue):
        band = None
        if data is not None:
            with contextlib.suppress(OSError, ValueError, PIL.Image.DecompressionBombError):
                whole = PIL.Image.open(io.BytesIO(data)).convert("RGBA")
                band = whole.getchannel({"r": "R", "g": "G", "b": "B", "a": "A"}.get(channel, "R"))
        bands.append(band)
    sizes = [b.size for b in bands if b is not None]
    if not sizes:
        return None
    size = max(sizes)
    white = PIL.Image.new("L", size, 255)
    filled = [white if b is None else b.resize(size) for b in bands]
    out = io.BytesIO()
    PIL.Image.merge("RGB", (white, *filled)).save(out, "PNG")
    return out.getvalue()


def portable(scene: Scene, note: Callable[[str], None]) -> Scene:
    """The scene with pictures that not every receiver takes (WebP) as PNG, pixel for pixel; each is told."""
    images = list(scene.images)
    for i, image in enumerate(images):
        if image.mime != "image/webp" or image.data is None:
            continue
        name = image.name or image.uri or str(i)
        try:
            data = as_png(image.data)
        except (OSError, ValueError, PIL.Image.DecompressionBombError):
            images[i] = replace(image, data=None)
            note(f"The WebP image “{name[:80]}” cannot be decoded and stays behind.")
            continue
        uri = image.uri.removesuffix(".webp") + ".png" if image.uri else ""
        images[i] = replace(image, data=data, mime="image/png", uri=uri, name=image.name.removesuffix(".webp"))
        note(f"The WebP image “{name[:80]}” was written as PNG, pixel for pixel.")
    return scene if images == list(scene.images) else scene.but(images=tuple(images))


def as_png(data: bytes) -> bytes:
    """The same pixels as PNG. Raises OSError or ValueError for what is no picture."""
    out = io.BytesIO()
    with PIL.Image.open(io.BytesIO(data)) as image:
        image.convert("RGBA" if has_alpha(image) else "RGB").save(out, "PNG")
    return out.getvalue()


def has_alpha(image: PIL.Image.Image) -> bool:
    return "A" in image.getbands() or "transparency" in image.info


def is_solid(data: bytes) -> bool:
    """Whether nothing of a picture is see-through; of what is no picture nothing is that anybody could see."""
    try:
        with PIL.Image.open(io.BytesIO(data)) as image:
            return not has_alpha(image) or image.convert("RGBA").getchannel("A").getextrema() == (255, 255)
    except (OSError, ValueError, PIL.Image.DecompressionBombError):
        return True


def tinted(data: bytes, tint: tuple[float, float, float]) -> bytes:
    """PNG of an sRGB picture multiplied by a linear tint, alpha left as it is. Raises OSError or ValueError."""
    with PIL.Image.open(io.BytesIO(data)) as image:
        pixels = np.asarray(image.convert("RGBA" if has_alpha(image) else "RGB")).copy()
    shades = linear(np.arange(256) / 255.0)
    for k, factor in enumerate(tint):
        table = np.rint(coded(np.clip(shades * factor, 0.0, 1.0)) * 255).astype(np.uint8)
        pixels[:, :, k] = table[pixels[:, :, k]]
    out = io.BytesIO()
    PIL.Image.fromarray(pixels).save(out, "PNG")
    return out.getvalue()
