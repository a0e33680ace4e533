"""Server-Sent Events (the HTML standard's event stream format)."""

from __future__ import annotations

from pydantic import BaseModel


def sse(event: str, data: BaseModel) -> str:
    """One event; its data are the model as JSON, on one line."""
    return f"event: {event}\ndata: {data.model_dump_json()}\n\n"
