"""Text of documents inside the marks of a prompt."""

from __future__ import annotations


def fenced(text: str) -> str:
    """Return a text of the same length that cannot end the mark around it."""
    return text.replace("<", "‹").replace(">", "›")
