"""The one way in: bytes and a name become a reading."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import PurePosixPath

from fontanel.core.language import detect_language
from fontanel.core.reading import detect
from fontanel.core.reading.archive import archive_members, read_archive
from fontanel.core.reading.captions import read_captions
from fontanel.core.reading.delimited import read_delimited
from fontanel.core.reading.docx import read_docx
from fontanel.core.reading.epub import read_epub
from fontanel.core.reading.html import read_html
from fontanel.core.reading.mail import mail_members, read_mail
from fontanel.core.reading.markdown import read_markdown
from fontanel.core.reading.model import Member, Reading, ReadingBuilder, ReadingFailed
from fontanel.core.reading.odt import read_odt
from fontanel.core.reading.pdf import read_pdf
from fontanel.core.reading.picture import read_picture
from fontanel.core.reading.plain import read_plain
from fontanel.core.reading.pptx import read_pptx
from fontanel.core.reading.restructured import read_restructured
from fontanel.core.reading.rtf import read_rtf
from fontanel.core.reading.sheets import read_workbook
from fontanel.core.reading.structured import read_json

Progress = Callable[[int, int], None]

_PAGED: dict[str, Callable[[bytes, Progress], ReadingBuilder]] = {
    detect.PDF: read_pdf,
    detect.EPUB: read_epub,
    **dict.fromkeys((detect.PNG, detect.JPEG, detect.TIFF, detect.WEBP), read_picture),
}
_WHOLE: dict[str, Callable[[bytes], ReadingBuilder]] = {
    detect.DOCX: read_docx,
    detect.PPTX: read_pptx,
    detect.XLSX: read_workbook,
    detect.XLS: read_workbook,
    detect.ODS: read_workbook,
    detect.ODT: read_odt,
    detect.RTF: read_rtf,
    detect.EML: read_mail,
    detect.ZIP: read_archive,
    detect.HTML: read_html,
    detect.MARKDOWN: read_markdown,
    detect.RST: read_restructured,
    detect.CSV: read_delimited,
    detect.JSON: read_json,
    detect.VTT: read_captions,
    detect.PLAIN: read_plain,
}
_MEMBERS: dict[str, Callable[[bytes], list[Member]]] = {detect.ZIP: archive_members, detect.EML: mail_members}


def _ignore_progress(done: int, total: int) -> None:
    del done, total


def read(data: bytes, name: str, media_type: str | None = None, progress: Progress = _ignore_progress) -> Reading:
    """Read a document. `progress` is called with (pages done, pages in all) by formats that have pages.

    Raises ReadingFailed with the one reason why nothing could be read.
    """
    if not data.strip(b"\0 \t\r\n"):
        raise ReadingFailed("empty", "The file is empty. Add it again once it has content.")
    media_type = media_type or detect.detect_media_type(data, name)
    if media_type in _PAGED:
        builder = _PAGED[media_type](data, progress)
    else:
        builder = _WHOLE[media_type](data)
    if builder.empty:
        raise ReadingFailed("no_text", "No text was found in the file. Look whether it opens as it should.")
    builder.title = builder.title or builder.first_heading or _title_from_name(name)
    return builder.build(detect_language(builder.text))


def members(data: bytes, media_type: str) -> list[Member]:
    """The files inside a file: entries of an archive, attachments of a message. Raises ReadingFailed."""
    return _MEMBERS[media_type](data) if media_type in _MEMBERS else []


def _title_from_name(name: str) -> str:
    stem = PurePosixPath(name).stem.replace("_", " ").replace("-", " ").strip()
    return stem[:1].upper() + stem[1:] if stem else name
