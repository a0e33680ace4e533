"""Server-Sent Events (the HTML standard's event stream format)."""

from __future__ import annotations

from fastapi.sse import format_sse_event
from pydantic import BaseModel

#: Headers that keep caches and proxies from holding a stream back.
STREAM_HEADERS = {"Cache-Control": "no-store", "X-Accel-Buffering": "no"}
#: A comment that keeps an idle connection open.
KEEP_ALIVE = ": keep-alive\n\n"


def event_text(name: str, data: BaseModel) -> bytes:
    """Return an event with a model as its data."""
    return format_sse_event(event=name, data_str=data.model_dump_json())
