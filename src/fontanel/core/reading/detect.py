"""The type of a document from its bytes; the name only decides between kinds of text."""

from __future__ import annotations

import io
import re
import zipfile
from pathlib import PurePosixPath

from fontanel.core.reading.model import ReadingFailed

PDF = "application/pdf"
DOCX = "application/vnd.openxmlformats-officedocument.wordprocessingml.document"
HTML = "text/html"
MARKDOWN = "text/markdown"
PLAIN = "text/plain"

#: Media type -> the word that people use for it.
MEDIA_TYPES = {PDF: "PDF", DOCX: "Word document", HTML: "HTML page", MARKDOWN: "Markdown", PLAIN: "plain text"}

_HTML_START = re.compile(rb"^\s*(?:<\?xml[^>]*>\s*)?(?:<!--.*?-->\s*)*<(?:!doctype html|html|head|body)\b", re.I | re.S)
_MARKDOWN_NAMES = {".md", ".markdown", ".mkd"}
_HTML_NAMES = {".html", ".htm", ".xhtml"}
_KNOWN_BINARY = {
    b"\x89PNG": "a PNG picture",
    b"\xff\xd8\xff": "a JPEG picture",
    b"GIF8": "a GIF picture",
    b"\xd0\xcf\x11\xe0": "an old Office document",
    b"\x7fELF": "a program",
    b"\x1f\x8b": "a gzip archive",
    b"{\\rtf": "a rich text document",
}


def detect_media_type(data: bytes, name: str) -> str:
    """Return the media type of `data`. Raises ReadingFailed(unsupported) for what this service cannot read."""
    head = data[:4096]
    if b"%PDF-" in head[:1024]:
        return PDF
    if head.startswith(b"PK\x03\x04"):
        return _zip_media_type(data)
    for magic, what in _KNOWN_BINARY.items():
        if head.startswith(magic):
            raise ReadingFailed("unsupported", f"This is {what}, which cannot be read. {_readable()}")
    suffix = PurePosixPath(name.lower()).suffix
    if _HTML_START.match(head) or suffix in _HTML_NAMES:
        return HTML
    if suffix in _MARKDOWN_NAMES:
        return MARKDOWN
    if not head.startswith((b"\xff\xfe", b"\xfe\xff")) and head.count(b"\0") > len(head) // 20:
        raise ReadingFailed("unsupported", f"These bytes are not text nor any known type of document. {_readable()}")
    return PLAIN


def _zip_media_type(data: bytes) -> str:
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            names = set(archive.namelist())
    except (zipfile.BadZipFile, ValueError, NotImplementedError, OSError) as error:
        raise ReadingFailed("damaged", "The file is cut short or damaged. Add it again from a good copy.") from error
    if "word/document.xml" in names:
        return DOCX
    raise ReadingFailed("unsupported", f"This is an archive of a kind that cannot be read. {_readable()}")


def _readable() -> str:
    return "Add it as one of: " + ", ".join(MEDIA_TYPES.values()) + "."
