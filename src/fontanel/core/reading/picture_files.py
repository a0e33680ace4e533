"""Files of pictures: what they are known by, and how they are kept."""

from __future__ import annotations

import base64
import hashlib
import io
import re

from PIL import Image, ImageOps

from fontanel.core.reading.model import Picture, ReadingFailed
from fontanel.core.reading.pictures import sized_picture

_FORMATS = ("PNG", "JPEG", "TIFF", "WEBP", "GIF", "BMP")
_MAX_PIXELS = 120_000_000
#: The size in which pictures are kept and sent to a model.
_MAX_SIDE, _QUALITY = 1280, 85
_INLINE = re.compile(r"^data:image/[\w.+-]+;base64,", re.I)


def picture_of(data: bytes) -> Picture | None:
    """Return what a document's picture is known by; None for an ornament or an unknown format."""
    try:
        with Image.open(io.BytesIO(data), formats=_FORMATS) as image:
            width, height = image.size
    except Exception:  # Pillow raises whatever a broken field of a picture leads it to
        return None
    return sized_picture(hashlib.sha256(data).hexdigest(), width, height)


def inline_data(address: str) -> bytes:
    """Return the picture in a data address (RFC 2397); empty for other addresses."""
    match = _INLINE.match(address)
    if match is None:
        return b""
    try:
        return base64.b64decode(address[match.end() :], validate=False)
    except ValueError:
        return b""


def shown(image: Image.Image) -> bytes:
    """Return a picture as a JPEG of moderate size, on white.

    Raises:
        ReadingFailed: too_large or damaged.
    """
    if image.width * image.height > _MAX_PIXELS:
        raise ReadingFailed("too_large", "The picture has too many pixels.")
    try:
        image = ImageOps.exif_transpose(image) or image
        if image.mode in ("RGBA", "LA", "PA") or "transparency" in image.info:
            image = image.convert("RGBA")
            white = Image.new("RGBA", image.size, "white")
            white.alpha_composite(image)
            image = white
        image = image.convert("RGB")
        image.thumbnail((_MAX_SIDE, _MAX_SIDE))
        target = io.BytesIO()
        image.save(target, "JPEG", quality=_QUALITY, optimize=True)
    except Exception as error:  # as above
        raise ReadingFailed("damaged", "The picture is damaged.") from error
    return target.getvalue()


def shown_file(data: bytes) -> bytes:
    """Return the picture of a file as `shown` does.

    Raises:
        ReadingFailed: too_large or damaged.
    """
    try:
        image = Image.open(io.BytesIO(data), formats=_FORMATS)
    except Exception as error:  # as above
        raise ReadingFailed("damaged", "The picture is damaged.") from error
    return shown(image)
