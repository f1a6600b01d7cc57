"""Photos of readings: of the display, the label or the place.

A picture is re-encoded as a JPEG, which removes its metadata (where it was taken, by which phone)
and refuses files that are not pictures.
"""

from __future__ import annotations

import threading
from dataclasses import dataclass
from io import BytesIO
from typing import IO, TYPE_CHECKING

if TYPE_CHECKING:
    from PIL import Image

#: Most bytes of a file, and the sides, in pixels, that are kept.
MOST_BYTES = 10_000_000
#: Most pixels of a picture, and of what is read of it: a JPEG is read smaller, others whole.
MOST_PIXELS, MOST_READ_PIXELS = 50_000_000, 9_000_000
LARGE_PX, LEAST_READ_PX, SMALL_PX = 2000, 1500, 320
FORMATS = ("JPEG", "PNG", "WEBP")


#: Pictures that are decoded at the same time: each may take 70 MB for a moment.
_DECODING = threading.BoundedSemaphore(2)


class NoPicture(ValueError):
    """Raised for a file that is not an accepted picture."""


@dataclass(frozen=True)
class Picture:
    """A re-encoded picture: two JPEGs, and the size of the large one in pixels."""

    large: bytes
    small: bytes
    width: int
    height: int


def drawn_anew(file: IO[bytes]) -> Picture:
    """Re-encode a JPEG, PNG or WebP, rotated as taken, without its metadata.

    Raises
    ------
    NoPicture
    """
    content = file.read(MOST_BYTES + 1)
    if len(content) > MOST_BYTES:
        raise NoPicture(f"This picture is larger than {MOST_BYTES // 1_000_000} MB.")
    with _DECODING:
        return _drawn_anew(content)


def _drawn_anew(content: bytes) -> Picture:
    # Half the site never needs it.
    from PIL import Image, ImageOps

    try:
        with Image.open(BytesIO(content), formats=FORMATS) as picture:
            _at_most(picture, MOST_PIXELS)
            # A JPEG is read near the size that is kept, not at its own.
            picture.draft("RGB", (LEAST_READ_PX, LEAST_READ_PX))
            _at_most(picture, MOST_READ_PIXELS)
            picture.thumbnail((LARGE_PX, LARGE_PX))
            turned = ImageOps.exif_transpose(picture).convert("RGBA")
    except NoPicture:
        raise
    # Damaged files end in errors of every kind.
    except Exception:
        raise NoPicture("This is no picture that can be read: take a JPEG, PNG or WebP.") from None
    plain = Image.new("RGB", turned.size, "white")
    plain.paste(turned, mask=turned.getchannel("A"))
    large = _jpeg(plain, 82)
    width, height = plain.size
    plain.thumbnail((SMALL_PX, SMALL_PX))
    return Picture(large, _jpeg(plain, 75), width, height)


def _at_most(picture: Image.Image, pixels: int) -> None:
    if picture.width * picture.height > pixels:
        raise NoPicture(f"This picture has more than {pixels // 1_000_000} megapixels.")


def _jpeg(picture: object, quality: int) -> bytes:
    content = BytesIO()
    picture.save(content, "JPEG", quality=quality, optimize=True)  # type: ignore[attr-defined]
    return content.getvalue()
