"""Calls of servers: what is tried again, which failures are temporary, and what they say."""

from __future__ import annotations

import json
import random
import threading
from typing import Any, Protocol

import httpx

from fontanel.errors import FontanelError

#: Temporary failures.
TRANSIENT = frozenset({408, 409, 425, 429, 500, 502, 503, 504, 529})
CONNECT_SECONDS = 5.0
#: The longest pause before another try that a person can be made to wait for.
LONGEST_PAUSE = 10.0
#: Seconds that work in the background waits for a server that failed.
_MIN_WAIT, _MAX_WAIT = 15.0, 600.0
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


def pause_after(attempt: int, after: float | None) -> float:
    """Return the seconds before another attempt: what a server asks for, else longer each time.

    Args:
        attempt: The number of the attempt that failed, from 1.
    """
    return 0.3 * 2 ** (attempt - 1) * random.uniform(0.75, 1.25) if after is None else after


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


class CallFailed(FontanelError):
    """A server did not do what it was asked; the message says why.

    Args:
        after: Seconds that the server asks to be left alone.
        refused: Whether the server refuses this content, as it would again.
        temporary: Whether another attempt may succeed.
    """

    def __init__(
        self,
        reason: str,
        after: float | None = None,
        *,
        refused: bool = False,
        temporary: bool = False,
    ) -> None:
        super().__init__(reason)
        self.after = after
        self.refused = refused
        self.temporary = temporary

    @property
    def pause(self) -> float:
        """Seconds after which work in the background asks again."""
        return min(max(self.after or 0.0, _MIN_WAIT), _MAX_WAIT)


class Reached(Protocol):
    """How a server is reached: `seconds` is the timeout of a request, `tries` the attempts."""

    @property
    def url(self) -> str: ...
    @property
    def secret(self) -> str | None: ...
    @property
    def seconds(self) -> float: ...
    @property
    def tries(self) -> int: ...


#: What servers answer if they cannot take the content.
_CONTENT_REFUSED = frozenset({400, 413, 415, 422})


class Caller:
    """Posts to servers, and again where that may help; may be used from several threads."""

    def __init__(self, stopping: threading.Event | None = None) -> None:
        # Redirects are not followed: content only goes to the address that the operator named.
        self._client = httpx.Client(
            follow_redirects=False, trust_env=False, headers={"User-Agent": "Fontanel/1"}
        )
        self._stopping = stopping or threading.Event()

    def close(self) -> None:
        """Close the connections."""
        self._client.close()

    def post(self, endpoint: Reached, path: str, limit: int, **content: Any) -> bytes:
        """Return the body of the answer.

        Args:
            path: What is added to the address.
            limit: The maximum number of bytes of an answer.
            content: The body, as httpx takes it.

        Raises:
            CallFailed: it fails, also in the last attempt.
        """
        for attempt in range(1, endpoint.tries + 1):
            try:
                return self._post(endpoint, path, limit, content)
            except CallFailed as failure:
                pause = pause_after(attempt, failure.after)
                if not failure.temporary or attempt == endpoint.tries or pause > LONGEST_PAUSE:
                    raise
                if self._stopping.wait(pause):
                    raise
        raise AssertionError("an endpoint has at least one try")

    def _post(self, endpoint: Reached, path: str, limit: int, content: dict[str, Any]) -> bytes:
        headers = {"Authorization": f"Bearer {endpoint.secret}"} if endpoint.secret else {}
        timeout = httpx.Timeout(endpoint.seconds, connect=CONNECT_SECONDS)
        try:
            with self._client.stream(
                "POST", endpoint.url + path, headers=headers, timeout=timeout, **content
            ) as response:
                body = _body(response, limit)
        except (httpx.ConnectError, httpx.ConnectTimeout):
            raise CallFailed(away(endpoint.url), temporary=True) from None
        except httpx.TimeoutException:
            raise CallFailed(f"it was silent for {endpoint.seconds:g} seconds") from None
        except httpx.TransportError:
            raise CallFailed("its server closed the connection", temporary=True) from None
        status = response.status_code
        if status in TRANSIENT:
            raise CallFailed(temporary(status), retry_after(response), temporary=True)
        if status != 200:
            reason = refused(status, said(body))
            raise CallFailed(reason, refused=status in _CONTENT_REFUSED)
        return body


def _body(response: httpx.Response, limit: int) -> bytes:
    """Return the body of a response that is not larger than it needs to be."""
    parts: list[bytes] = []
    size = 0
    for part in response.iter_bytes():
        parts.append(part)
        size += len(part)
        if size > limit:
            raise CallFailed("its answer is too large")
    return b"".join(parts)
