"""Web pages that were saved with their pictures in one file (MHTML, RFC 2557)."""

from __future__ import annotations

from collections.abc import Sequence
from email.message import EmailMessage, MIMEPart
from functools import partial

from fontanel.core.reading.markup.html import add_html, decode_html
from fontanel.core.reading.model import ReadingBuilder, ReadingFailed
from fontanel.core.reading.other.mime import (
    bytes_of,
    content_of,
    file_of,
    files_of,
    parse_message,
)

#: The media types of a page.
_PAGES = ("text/html", "application/xhtml+xml")
#: What the references of a page are relative to.
_BASES = ("Content-Location", "Snapshot-Content-Location")
_DAMAGED = "The saved page is damaged. Save it again, and add the new file."


def read_web_archive(data: bytes) -> ReadingBuilder:
    """Read a saved page: its HTML, with the pictures that are saved with it.

    Raises:
        ReadingFailed: damaged, or without a page.
    """
    message = parse_message(data)
    try:
        parts = [part for part in message.walk() if not part.is_multipart()]
        page = _page_of(message, parts)
        located = (part[name] for part in (page, message) for name in _BASES)
        base = next((str(one) for one in located if one), "")
        files = files_of(parts, base)
        if page.get_content_charset():
            text, warnings = content_of(page), list[str]()
        else:
            text, warnings = decode_html(bytes_of(page))
    except ReadingFailed:
        raise
    except Exception as error:  # a part whose own fields are malformed
        raise ReadingFailed("damaged", _DAMAGED) from error
    builder = ReadingBuilder(warnings=warnings)
    if not text or text.isspace():
        raise ReadingFailed("empty", "The saved page is empty. Add it again once it has content.")
    add_html(builder, text, partial(file_of, files, base))
    return builder


def _page_of(message: EmailMessage, parts: Sequence[MIMEPart]) -> MIMEPart:
    """Return the page: the part that the file names as its start, or its first HTML."""
    pages = [part for part in parts if part.get_content_type() in _PAGES]
    if not pages:
        raise ReadingFailed("damaged", "The file contains no web page.")
    start = str(message.get_param("start") or "").strip("<> ")
    named = (part for part in pages if str(part.get("Content-ID", "")).strip("<> ") == start)
    return next(named, pages[0]) if start else pages[0]
