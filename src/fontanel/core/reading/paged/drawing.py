"""Pages as pictures, to show the original next to its text."""

from __future__ import annotations

import io

import pypdfium2 as pdfium
from PIL import Image

from fontanel.core.reading import detect
from fontanel.core.reading.model import ReadingFailed
from fontanel.core.reading.paged.pdf_forms import open_forms
from fontanel.core.reading.paged.picture import open_picture, upright

_MAX_HEIGHT = 8000


def draw_page(data: bytes, media_type: str, page: int, width: int) -> bytes:
    """Page `page` (from 1) as a PNG of `width` pixels across.

    Raises ReadingFailed: unsupported for what has no pages to draw, damaged, and no_text for a
    page that is not there.
    """
    if media_type not in detect.DRAWN:
        raise ReadingFailed("unsupported", "Pages of this type of document cannot be drawn.")
    image = _pdf_page(data, page, width) if media_type == detect.PDF else _frame(data, page)
    height = min(_MAX_HEIGHT, max(1, round(image.height * width / image.width)))
    if image.width != width:
        image = image.resize((width, height), Image.Resampling.LANCZOS)
    out = io.BytesIO()
    image.save(out, "PNG", compress_level=3)
    return out.getvalue()


def _pdf_page(data: bytes, page: int, width: int) -> Image.Image:
    try:
        document = pdfium.PdfDocument(data)
        try:
            open_forms(document)
            if not 1 <= page <= len(document):
                raise ReadingFailed("no_text", f"The document has no page {page}.")
            drawn = document[page - 1]
            across, down = drawn.get_size()
            scale = min(width / max(across, 1.0), _MAX_HEIGHT / max(down, 1.0))
            image: Image.Image = drawn.render(scale=scale).to_pil()
            return image
        finally:
            document.close()
    except pdfium.PdfiumError as error:
        raise ReadingFailed("damaged", f"Page {page} is damaged and cannot be drawn.") from error


def _frame(data: bytes, page: int) -> Image.Image:
    image = open_picture(data)
    if not 1 <= page <= getattr(image, "n_frames", 1):
        raise ReadingFailed("no_text", f"The document has no page {page}.")
    try:
        image.seek(page - 1)
        return upright(image)
    except ReadingFailed:
        raise
    except Exception as error:  # Pillow finds a damage only when it comes to it
        raise ReadingFailed("damaged", f"Page {page} is damaged and cannot be drawn.") from error
