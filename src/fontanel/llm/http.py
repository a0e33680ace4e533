"""Failures of model servers: which are temporary, and what they say."""

from __future__ import annotations

import json

import httpx

#: Temporary failures.
TRANSIENT = frozenset({408, 409, 425, 429, 500, 502, 503, 504, 529})
CONNECT_SECONDS = 5.0
#: The longest pause before another try that a person can be made to wait for.
LONGEST_PAUSE = 10.0
_REASONS = {
    401: "it refuses the secret",
    403: "it refuses the secret",
    404: "there is no such model at its server",
}


def said(content: bytes) -> str:
    """Return an error body's message, on one line."""
    try:
        error = json.loads(content)
        error = error.get("error", error) if isinstance(error, dict) else error
        text = error.get("message", error) if isinstance(error, dict) else error
    except ValueError:
        text = content[:300].decode(errors="replace")
    return " ".join(str(text).split())


def retry_after(response: httpx.Response) -> float | None:
    """Return the seconds that a server asks to be left alone, if it does."""
    try:
        return max(0.0, float(response.headers["retry-after"]))
    except (KeyError, ValueError):
        return None


def away(url: str) -> str:
    """Return the message for a server that cannot be reached."""
    return f"its server at {httpx.URL(url).host} cannot be reached"


def temporary(status: int) -> str:
    """Return why a request failed that may succeed later."""
    if status == 429:
        return "it is asked too much"
    return f"its server answers with status {status}"


def refused(status: int, text: str) -> str:
    """Return why a request was refused for good."""
    return _REASONS.get(status) or (
        f"it refuses with status {status}{': ' + text[:160] if text else ''}"
    )
