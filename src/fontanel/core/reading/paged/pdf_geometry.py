"""Where characters of a PDF page are, however the page is turned."""

from __future__ import annotations

import ctypes
import re
import struct
from typing import Any

import pypdfium2.raw as raw

from fontanel.core.reading.paged import pdfium_calls as calls
from fontanel.core.reading.paged.figures import Box


class PageFrame:
    """A page as displayed: turned, and cut to its visible part."""

    def __init__(self, page: Any) -> None:
        self._rotation = page.get_rotation()
        self.width, self.height = page.get_size()
        # A page's own coordinates need not begin at its corner.
        self._left, self._bottom = page.get_cropbox()[:2]

    def shown(self, left: float, bottom: float, right: float, top: float) -> Box:
        """Return a box of the page in the coordinates of the page as displayed."""
        left, right, bottom, top = (
            left - self._left,
            right - self._left,
            bottom - self._bottom,
            top - self._bottom,
        )
        if self._rotation == 0:
            return left, bottom, right, top
        if self._rotation == 90:
            return bottom, self.height - right, top, self.height - left
        if self._rotation == 270:
            return self.width - top, left, self.width - bottom, right
        return self.width - right, self.height - top, self.width - left, self.height - bottom


class PageGeometry(PageFrame):
    """The geometry of characters, in the coordinates of the page as displayed."""

    def __init__(self, text_page: Any, page: Any) -> None:
        super().__init__(page)
        self._typed = text_page
        self._text_page = calls.handle_of(text_page)
        self._numbers = (ctypes.c_double * 4)()
        self._places = calls.places_in(self._numbers)
        self._plain = not self._rotation and abs(self._left) < 0.01 and abs(self._bottom) < 0.01
        #: Font -> whether it is bold, and whether its letters are all of one width.
        self._fonts: dict[int, tuple[bool, bool]] = {}

    def turn(self, degrees: int) -> None:
        """Text that runs up or down the page is read as if the page were turned."""
        self._rotation = (self._rotation + degrees) % 360
        self._plain = False

    def runs(self, start: int, count: int, wide: float) -> tuple[Box, list[Gap]] | None:
        """Return the box of text runs, and the gaps wider than `wide`.

        None for a run that is not visible.
        """
        text_page, numbers, plain = self._text_page, self._numbers, self._plain
        one, two, three, four = self._places
        number = calls.count_rects(text_page, start, count)
        if number <= 0:
            return None
        gaps: list[Gap] = []
        get_rect = calls.get_rect
        # PDFium returns left, top, right, bottom.
        get_rect(text_page, 0, one, four, three, two)
        left, bottom, right, top = _four(numbers) if plain else self.shown(*_four(numbers))
        last = right
        for i in range(1, number):
            get_rect(text_page, i, one, four, three, two)
            start_x, low, end_x, high = _four(numbers) if plain else self.shown(*_four(numbers))
            if start_x - last > wide:
                gaps.append((last, start_x))
            last = end_x
            if end_x > right:
                right = end_x
            if low < bottom:
                bottom = low
            if high > top:
                top = high
        return (left, bottom, right, top), gaps

    def box(self, index: int) -> Box:
        one, two, three, four = self._places
        # Here it returns left, right, bottom, top.
        calls.get_char_box(self._text_page, index, one, three, two, four)
        return self.shown(*_four(self._numbers))

    def baseline(self, index: int) -> float:
        one, two, _, _ = self._places
        calls.get_origin(self._text_page, index, one, two)
        x, y, _, _ = _four(self._numbers)
        return y if self._plain else self.shown(x, y, x, y)[1]

    def size(self, index: int) -> float:
        """The size of a character's font, before any matrix."""
        size: float = calls.get_font_size(self._text_page, index)
        return size

    def font(self, index: int) -> tuple[bool, bool]:
        """Return whether a character's font is bold, and whether it is monospaced."""
        font = calls.get_font(calls.get_text_object(self._text_page, index)) or 0
        result = self._fonts.get(font)
        if result is None:
            buffer, flags = ctypes.create_string_buffer(96), ctypes.c_int()
            length = raw.FPDFText_GetFontInfo(self._typed, index, buffer, 96, flags)
            name = buffer.raw[: max(length - 1, 0)].lower() if length <= 96 else b""
            bold = raw.FPDFText_GetFontWeight(self._typed, index) >= 600 or bool(
                _BOLD_NAME.search(name)
            )
            result = self._fonts[font] = bold, bool(flags.value & 1 or _FIXED_NAME.search(name))
        return result


_BOLD_NAME = re.compile(rb"bold|black|heavy|\bcmbx|-bd|medi\b")


_FIXED_NAME = re.compile(rb"mono|courier|typewriter|\bcmtt|consol")


#: The four numbers that PDFium writes into one place.
_four = struct.Struct("4d").unpack_from


#: Where one run of a line ends and the next begins.
Gap = tuple[float, float]
