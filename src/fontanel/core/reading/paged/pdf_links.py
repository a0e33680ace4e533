"""Links of a PDF page, with their boxes, for displaying the page.

They are read page by page and are not part of a reading: PDFium parses each link separately, which
would take a fifth of the time of reading a manual.
"""

from __future__ import annotations

import ctypes
import re
from typing import Any

import pypdfium2 as pdfium
import pypdfium2.raw as raw

from fontanel.core.reading.model import ReadingFailed
from fontanel.core.reading.paged import pdfium_calls as calls
from fontanel.core.reading.paged.link import Link

#: The maximum number of links of a page.
_MAX = 1000
_LONGEST_ADDRESS = 4000
#: Addresses that a page may lead a person to.
_ADDRESS = re.compile(r"(?:https?|mailto):[^\s\x00-\x1f]{1,2000}$", re.I)


def links_of_page(data: bytes, page: int) -> list[Link]:
    """The links on page `page` (from 1) to addresses and to pages of the same PDF.

    Raises ReadingFailed: damaged, or no_text for a page that is not there.
    """
    try:
        document = pdfium.PdfDocument(data)
        try:
            if not 1 <= page <= len(document):
                raise ReadingFailed("no_text", f"The document has no page {page}.")
            return _links(document, document[page - 1])
        finally:
            document.close()
    except pdfium.PdfiumError as error:
        raise ReadingFailed("damaged", f"Page {page} is damaged.") from error


def _links(document: pdfium.PdfDocument, page: Any) -> list[Link]:
    results: list[Link] = []
    left, bottom, across, down = page.get_cropbox()
    across, down = across - left, down - bottom
    # A rotated page's boxes would need rotating; such pages are tables and plans, mostly without
    # links.
    if page.get_rotation() or across <= 0 or down <= 0:
        return results
    raw_page, whole = calls.handle_of(page.raw), ctypes.cast(document.raw, ctypes.c_void_p).value
    position, link, sides = ctypes.c_int(0), ctypes.c_void_p(), (ctypes.c_float * 4)()
    buffer = ctypes.create_string_buffer(_LONGEST_ADDRESS)
    while len(results) < _MAX and calls.next_link(
        raw_page, ctypes.byref(position), ctypes.byref(link)
    ):
        handle = link.value
        if not calls.get_link_rect(handle, sides):
            break
        address, target = _destination(whole, handle, buffer)
        if address is None and target is None:
            continue
        start, above, end, below = sides
        start, end = (start - left) / across, (end - left) / across
        above, below = 1 - (above - bottom) / down, 1 - (below - bottom) / down
        results.append(
            Link(_share(start), _share(above), _share(end), _share(below), address, target)
        )
    return results


def _share(share: float) -> float:
    return round(share, 4) if 0.0 <= share <= 1.0 else 0.0 if share < 0.0 else 1.0


def _destination(whole: int | None, link: int | None, buffer: Any) -> tuple[str | None, int | None]:
    action = calls.get_link_action(link)
    if action and calls.get_action_type(action) == raw.PDFACTION_URI:
        if (
            1
            < calls.get_address(whole, action, buffer, ctypes.c_ulong(_LONGEST_ADDRESS))
            <= _LONGEST_ADDRESS
        ):
            address = buffer.value.decode("utf-8", "replace").strip()
            return (address, None) if _ADDRESS.match(address) else (None, None)
        return None, None
    target = calls.get_link_dest(whole, link)
    page = calls.get_dest_page(whole, target) if target else -1
    return None, page + 1 if page >= 0 else None
