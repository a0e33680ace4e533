"""The one way in: bytes and a name become a reading."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import PurePosixPath

from fontanel.core.language import detect_language
from fontanel.core.reading import detect
from fontanel.core.reading.docx import read_docx
from fontanel.core.reading.html import read_html
from fontanel.core.reading.markdown import read_markdown
from fontanel.core.reading.model import Reading, ReadingBuilder, ReadingFailed
from fontanel.core.reading.pdf import read_pdf
from fontanel.core.reading.plain import read_plain

Progress = Callable[[int, int], None]

_READERS: dict[str, Callable[[bytes, Progress], ReadingBuilder]] = {
    detect.PDF: read_pdf,
    detect.DOCX: lambda data, _: read_docx(data),
    detect.HTML: lambda data, _: read_html(data),
    detect.MARKDOWN: lambda data, _: read_markdown(data),
    detect.PLAIN: lambda data, _: read_plain(data),
}


def _ignore_progress(done: int, total: int) -> None:
    del done, total


def read(data: bytes, name: str, media_type: str | None = None, progress: Progress = _ignore_progress) -> Reading:
    """Read a document. `progress` is called with (pages done, pages in all) by formats that have pages.

    Raises ReadingFailed with the one reason why nothing could be read.
    """
    if not data.strip(b"\0 \t\r\n"):
        raise ReadingFailed("empty", "The file is empty. Add it again once it has content.")
    media_type = media_type or detect.detect_media_type(data, name)
    builder = _READERS[media_type](data, progress)
    if builder.empty:
        raise ReadingFailed("no_text", "No text was found in the file. If it is a scan, add a copy with a text layer.")
    builder.title = builder.title or builder.first_heading or _title_from_name(name)
    return builder.build(detect_language(builder.text))


def _title_from_name(name: str) -> str:
    stem = PurePosixPath(name).stem.replace("_", " ").replace("-", " ").strip()
    return stem[:1].upper() + stem[1:] if stem else name
