"""Images in open formats that receivers of scenes do not take: BMP, GIF, TGA and TIFF, whose pixels travel as PNG."""

from __future__ import annotations

import io
import struct
import warnings
from typing import Any

import PIL.Image

from tidy_caravan.core.words import plural

# what is the matter with a damaged file is told by what comes of it
warnings.filterwarnings("ignore", category=UserWarning, module=r"PIL\.TiffImagePlugin")

STARTS = ((b"BM", "BMP"), (b"GIF87a", "GIF"), (b"GIF89a", "GIF"), (b"II*\0", "TIFF"), (b"MM\0*", "TIFF"))
TGA_ENDINGS = (".tga", ".icb", ".vda", ".vst")
"""Files of this format have nothing at their beginning that tells them."""
OTHER_ENDINGS = (".bmp", ".dib", ".gif", ".tif", ".tiff", *TGA_ENDINGS)
AS_THEY_ARE = ("1", "L", "LA", "P", "RGB", "RGBA", "I;16", "I;16B")
"""Pixels that PNG holds as they are."""
SEE_THROUGH = ("PA", "La", "RGBa")
QUICK = 3
"""How hard zlib tries: twice as quick as usual on large images, which come out by some hundredths larger."""
BITS = 258
"""The tag of TIFF that says how many bits each channel has (TIFF 6.0, BitsPerSample)."""
UNREADABLE = (
    OSError, ValueError, SyntaxError, EOFError, IndexError, KeyError, TypeError, AttributeError, MemoryError, struct.error,
    PIL.Image.DecompressionBombError,
)  # fmt: skip
"""What the library raises for files that are damaged."""


def other_format(data: bytes, name: str) -> str:
    """The format of these that an image is in, by its first bytes or its name; empty for none."""
    found = next((fmt for start, fmt in STARTS if data.startswith(start)), "")
    return found or ("TGA" if name.lower().endswith(TGA_ENDINGS) else "")


def pixels_as_png(data: bytes, fmt: str) -> tuple[bytes, list[str]]:
    """The pixels as PNG, and what of the file did not come along. Raises ValueError, in words, for what cannot be read."""
    try:
        with PIL.Image.open(io.BytesIO(data), formats=[fmt]) as file:
            image: PIL.Image.Image = file
            frames = int(getattr(image, "n_frames", 1))
            bits = bits_of(image)
            image.load()
            if image.mode in ("F", "I"):
                raise Unheld(
                    f"its pixels are {'floating-point' if image.mode == 'F' else '32-bit'} numbers, which PNG does not hold"
                )
            left = [f"of {plural(frames, 'picture')} the first"] if frames > 1 else []
            if bits > 8 and not image.mode.startswith("I"):
                left.append(f"of {bits} bits a channel the upper 8")
            if image.mode not in AS_THEY_ARE:
                left += ["its colours as red, green and blue"] if image.mode in ("CMYK", "YCbCr", "LAB") else []
                image = image.convert("RGBA" if image.mode in SEE_THROUGH else "RGB")
            out = io.BytesIO()
            image.save(out, "PNG", compress_level=QUICK)
            return out.getvalue(), left
    except Unheld:
        raise
    except UNREADABLE as error:
        raise ValueError("it is damaged, or of a kind that is not read") from error


class Unheld(ValueError):
    """Pixels that would lose more than their container."""


def bits_of(image: Any) -> int:
    """Bits of the widest channel, as a TIFF says; 8 of others."""
    tags = getattr(image, "tag_v2", None)
    found = tags.get(BITS, (8,)) if tags is not None else (8,)
    return int(max(found if isinstance(found, tuple) else (found,)))
