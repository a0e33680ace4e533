"""PDFium calls made for every line of a page, without ctypes' argument checks.

ctypes checks and wraps every argument with a declared type, which takes longer than most of these
calls. Here only arguments that differ between calls are declared, and only addresses; a page's
handle (`handle_of`) and output buffers (`places_in`) are wrapped once. Integers pass as C int.
"""

from __future__ import annotations

import ctypes
from collections.abc import Callable
from ctypes import c_double, c_int, c_ulong, c_void_p
from typing import Any

import pypdfium2.raw as raw


def _lightly(function: Any, result: Any, *arguments: Any) -> Callable[..., Any]:
    """A function of PDFium of which only these first arguments are declared."""
    address = ctypes.cast(function, c_void_p).value
    return ctypes.CFUNCTYPE(result, *arguments)(address)  # type: ignore[arg-type]


# Arguments: a text page's handle, then values.
count_rects = _lightly(raw.FPDFText_CountRects, c_int)
get_rect = _lightly(raw.FPDFText_GetRect, c_int)
get_font_size = _lightly(raw.FPDFText_GetFontSize, c_double)
get_origin = _lightly(raw.FPDFText_GetCharOrigin, c_int)
get_char_box = _lightly(raw.FPDFText_GetCharBox, c_int)
get_text_object = _lightly(raw.FPDFText_GetTextObject, c_void_p)

# Arguments: a page's handle, then values.
get_object = _lightly(raw.FPDFPage_GetObject, c_void_p)
next_link = _lightly(raw.FPDFLink_Enumerate, c_int)

# Arguments: addresses returned by other calls.
get_font = _lightly(raw.FPDFTextObj_GetFont, c_void_p, c_void_p)
get_object_type = _lightly(raw.FPDFPageObj_GetType, c_int, c_void_p)
get_object_bounds = _lightly(raw.FPDFPageObj_GetBounds, c_int, c_void_p)
get_link_rect = _lightly(raw.FPDFLink_GetAnnotRect, c_int, c_void_p)
get_link_action = _lightly(raw.FPDFLink_GetAction, c_void_p, c_void_p)
get_action_type = _lightly(raw.FPDFAction_GetType, c_ulong, c_void_p)

# Arguments: the document's handle, and addresses returned by other calls.
get_address = _lightly(raw.FPDFAction_GetURIPath, c_ulong, c_void_p, c_void_p)
get_link_dest = _lightly(raw.FPDFLink_GetDest, c_void_p, c_void_p, c_void_p)
get_dest_page = _lightly(raw.FPDFDest_GetDestPageIndex, c_int, c_void_p, c_void_p)


def handle_of(handle: Any) -> Any:
    """A handle of pypdfium2, wrapped once for many calls. It must outlive them."""
    return ctypes.byref(ctypes.c_char.from_address(ctypes.cast(handle, c_void_p).value or 0))


def places_in(numbers: Any) -> list[Any]:
    """The places of the numbers of an array, each wrapped once for many calls."""
    return [
        ctypes.byref(numbers, index * ctypes.sizeof(numbers._type_))
        for index in range(len(numbers))
    ]
