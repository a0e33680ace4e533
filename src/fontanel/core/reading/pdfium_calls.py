"""PDFium's calls that are made for every line of a page, with plain addresses where pypdfium2 has typed pointers.

ctypes checks and wraps a typed pointer anew at each call, which takes longer than most of these calls do.
"""

from __future__ import annotations

import ctypes
from collections.abc import Callable
from ctypes import c_double, c_int, c_void_p
from typing import Any

import pypdfium2.raw as raw


def _plainly(function: Any, result: Any, *arguments: Any) -> Callable[..., Any]:
    address = ctypes.cast(function, c_void_p).value
    return ctypes.CFUNCTYPE(result, *arguments)(address)  # type: ignore[arg-type]


count_rects = _plainly(raw.FPDFText_CountRects, c_int, c_void_p, c_int, c_int)
get_rect = _plainly(raw.FPDFText_GetRect, c_int, c_void_p, c_int, c_void_p, c_void_p, c_void_p, c_void_p)
get_font_size = _plainly(raw.FPDFText_GetFontSize, c_double, c_void_p, c_int)
get_origin = _plainly(raw.FPDFText_GetCharOrigin, c_int, c_void_p, c_int, c_void_p, c_void_p)
get_char_box = _plainly(raw.FPDFText_GetCharBox, c_int, c_void_p, c_int, c_void_p, c_void_p, c_void_p, c_void_p)
get_text_object = _plainly(raw.FPDFText_GetTextObject, c_void_p, c_void_p, c_int)
get_font = _plainly(raw.FPDFTextObj_GetFont, c_void_p, c_void_p)
get_object = _plainly(raw.FPDFPage_GetObject, c_void_p, c_void_p, c_int)
get_object_type = _plainly(raw.FPDFPageObj_GetType, c_int, c_void_p)
get_object_bounds = _plainly(raw.FPDFPageObj_GetBounds, c_int, c_void_p, c_void_p, c_void_p, c_void_p, c_void_p)
get_link_action = _plainly(raw.FPDFLink_GetAction, c_void_p, c_void_p)
get_action_type = _plainly(raw.FPDFAction_GetType, ctypes.c_ulong, c_void_p)
get_link_dest = _plainly(raw.FPDFLink_GetDest, c_void_p, c_void_p, c_void_p)
get_dest_page = _plainly(raw.FPDFDest_GetDestPageIndex, c_int, c_void_p, c_void_p)


def address_of(handle: Any) -> int:
    """The address that a handle of pypdfium2 stands for."""
    return ctypes.cast(handle, c_void_p).value or 0
