"""Pictures (PNG, JPEG, TIFF, WebP) by text recognition; a TIFF's frames are pages."""

from __future__ import annotations

import hashlib
import io
from collections.abc import Callable, Collection

import numpy as np
from PIL import Image, ImageOps

from fontanel.core.reading.model import Picture, ReadingBuilder, ReadingFailed
from fontanel.core.reading.paged.figures import PlacedPicture
from fontanel.core.reading.paged.layout import add_pages
from fontanel.core.reading.paged.lines import PageLines, in_columns
from fontanel.core.reading.paged.recognition import Recogniser, recognise
from fontanel.core.reading.picture_files import shown
from fontanel.core.reading.pictures import sized_picture

_MAX_PIXELS = 120_000_000
_MAX_FRAMES = 500
_DAMAGED = "The picture is damaged. Add it again from a good copy."
_FORMATS = ("PNG", "JPEG", "TIFF", "WEBP")


def read_picture(data: bytes, progress: Callable[[int, int], None]) -> ReadingBuilder:
    """Raises ReadingFailed: damaged, too_large or no_text."""
    image = open_picture(data)
    frames = getattr(image, "n_frames", 1)
    builder = ReadingBuilder(pages=min(frames, _MAX_FRAMES), figures=min(frames, _MAX_FRAMES))
    if frames > _MAX_FRAMES:
        builder.warnings.append(f"Only the first {_MAX_FRAMES} of {frames} pages were read")
    recogniser = Recogniser()
    pages: list[PageLines] = []
    known: list[Picture | None] = []
    for number in range(1, min(frames, _MAX_FRAMES) + 1):
        try:
            image.seek(number - 1)
            picture = np.asarray(upright(image))
        except ReadingFailed:
            raise
        except Exception as error:  # soon or late, as in `open_picture`
            raise ReadingFailed("damaged", _DAMAGED) from error
        # 200 dots an inch, as scans commonly have: what matters is that sizes compare.
        width, height = picture.shape[1] * 72 / 200, picture.shape[0] * 72 / 200
        page = PageLines(
            number, width, height, recognise(recogniser, picture, number, width, height)
        )
        in_columns(page)
        pages.append(page)
        known.append(_known(data, number, frames, image))
        progress(number, min(frames, _MAX_FRAMES))
    for page, one in zip(pages, known, strict=True):
        if one is not None:
            page.pictures.append(PlacedPicture(one, 0.0, 0.0, page.width, page.height))
    if not any(page.lines or page.pictures for page in pages):
        raise ReadingFailed("no_text", "No text was found in the picture.")
    add_pages(builder, pages, {})
    builder.figures = len(pages)
    return builder


def _known(data: bytes, number: int, frames: int, image: Image.Image) -> Picture | None:
    """Return what a frame is known by: the file's hash, and its number where there are several."""
    mark = b"" if frames == 1 else number.to_bytes(4, "big")
    return sized_picture(hashlib.sha256(data + mark).hexdigest(), image.width, image.height)


def take_pictures(data: bytes, wanted: Collection[str]) -> dict[str, bytes]:
    """Return frames of the file as JPEG, by their hashes.

    Raises:
        ReadingFailed: damaged or too_large.
    """
    image = open_picture(data)
    frames = min(getattr(image, "n_frames", 1), _MAX_FRAMES)
    taken: dict[str, bytes] = {}
    for number in range(1, frames + 1):
        try:
            image.seek(number - 1)
        except Exception as error:  # soon or late, as in `open_picture`
            raise ReadingFailed("damaged", _DAMAGED) from error
        one = _known(data, number, getattr(image, "n_frames", 1), image)
        if one is not None and one.sha256 in wanted:
            taken[one.sha256] = shown(image.copy())
    return taken


def open_picture(data: bytes) -> Image.Image:
    """Open a picture without decoding its pixels.

    Raises:
        ReadingFailed: damaged or too_large.
    """
    try:
        image = Image.open(io.BytesIO(data), formats=_FORMATS)
    except Exception as error:  # Pillow raises whatever a broken field of a picture leads it to
        raise ReadingFailed("damaged", _DAMAGED) from error
    if image.width * image.height > _MAX_PIXELS:
        size = f"{image.width} x {image.height}"
        raise ReadingFailed(
            "too_large", f"The picture has {size} pixels, which is refused. Add a smaller one."
        )
    return image


def upright(image: Image.Image) -> Image.Image:
    """Return the picture upright, on white, in colour, and scaled for recognition."""
    if image.width * image.height > _MAX_PIXELS:
        raise ReadingFailed(
            "too_large", "A page of the picture has too many pixels. Add a smaller one."
        )
    turned = ImageOps.exif_transpose(image) or image
    if turned.mode in ("RGBA", "LA", "PA") or "transparency" in turned.info:
        turned = turned.convert("RGBA")
        white = Image.new("RGBA", turned.size, "white")
        white.alpha_composite(turned)
        turned = white
    turned = turned.convert("RGB")
    turned.thumbnail((4000, 4000))
    return turned
