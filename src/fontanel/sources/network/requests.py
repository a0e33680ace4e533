"""Requests to servers that may be slow, busy or down.

Retries, pauses, size limits.
"""

from __future__ import annotations

import base64
import email.utils
import random
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import httpx
from tenacity import RetryCallState, Retrying, retry_if_exception_type, stop_after_attempt

from fontanel.sources.network.reach import AddressForbidden, ServerTooSlow
from fontanel.sources.protocol import ItemFailed, SourceUnavailable

#: Temporary failures: the server is busy, restarting, or behind a broken gateway.
_PASSING = frozenset({408, 425, 429, 500, 502, 503, 504})
_TRIES = 4
_LONGEST_PAUSE = 60.0
#: Slow responses after which the whole source is given up.
_MAX_SLOW = 5


class AddressRefused(SourceUnavailable):
    """A host has an address that the operator does not allow."""


class _Transient(Exception):
    """A failed attempt that may be retried, after the server's requested seconds."""

    def __init__(
        self,
        failure: Exception | None = None,
        *,
        response: httpx.Response | None = None,
        after: float | None = None,
    ) -> None:
        super().__init__(str(failure))
        self.failure = failure
        self.response = response
        self.after = after


def _last_resort(state: RetryCallState) -> httpx.Response:
    """Return the last reply, or raise the error of the last attempt."""
    transient = state.outcome.exception() if state.outcome else None
    assert isinstance(transient, _Transient)
    if transient.response is not None:
        return transient.response
    assert transient.failure is not None
    raise transient.failure from transient.__cause__


@dataclass(slots=True)
class Requests:
    """A source's requests to its server.

    `pause` waits, and returns early when the service stops, as `stopping` reports.
    """

    client: httpx.Client
    stopping: Callable[[], bool]
    first_pause: float = 0.5
    #: The time (monotonic) until which all requests wait, as the server asked.
    _held_until: float = 0.0
    _slow: int = 0

    def send(self, method: str, url: str | httpx.URL, **options: Any) -> httpx.Response:
        """Send a request and return the reply with its body unread; the caller closes it.

        Temporary failures are retried with growing pauses, or when the server says.

        Raises:
            ItemFailed: no usable reply came.
            SourceUnavailable: the host is not allowed, down, or too slow.
        """
        build = options.pop("build", None)
        retrying = Retrying(
            stop=stop_after_attempt(_TRIES),
            wait=self._pause,
            sleep=self._wait,
            retry=retry_if_exception_type(_Transient),
            retry_error_callback=_last_resort,
        )

        def attempt() -> httpx.Response:
            self._wait(self._held_until - time.monotonic())
            # What is signed is signed again, since a signature contains its time.
            request = build() if build else self.client.build_request(method, url, **options)
            return self._attempt(request, url)

        return retrying(attempt)

    def _attempt(self, request: httpx.Request, url: str | httpx.URL) -> httpx.Response:
        """Send a request once.

        Raises:
            _Transient: another attempt may help.
        """
        try:
            response = self.client.send(request, stream=True)
        except AddressForbidden as error:
            raise AddressRefused(str(error), again=False) from error
        except httpx.ConnectError as error:
            failure: Exception = SourceUnavailable(f"{_host(url)} cannot be reached: {error}.")
            raise _Transient(failure) from error
        except ServerTooSlow as error:
            self._note_slow()
            raise ItemFailed(f"{url}: {_said(error)}.") from error
        except (httpx.TransportError, httpx.InvalidURL) as error:
            raise _Transient(ItemFailed(f"{url}: {_said(error)}.")) from error
        if response.status_code not in _PASSING:
            return response
        asked = _retry_after(response)
        if asked is not None and asked > _LONGEST_PAUSE:
            return response
        raise _Transient(response=response, after=asked)

    def _note_slow(self) -> None:
        """Count a response that was too slow.

        Raises:
            SourceUnavailable: there were too many; the rest would be no better.
        """
        self._slow += 1
        if self._slow >= _MAX_SLOW:
            raise SourceUnavailable(f"The server is too slow: {self._slow} answers were given up.")

    def _pause(self, state: RetryCallState) -> float:
        """Return the seconds until the next attempt; all requests wait when a server asks."""
        transient = state.outcome.exception() if state.outcome else None
        assert isinstance(transient, _Transient)
        pause = transient.after
        if pause is None:
            pause = self.first_pause * 2 ** (state.attempt_number - 1) * random.uniform(0.75, 1.25)
        response = transient.response
        if response is not None:
            response.close()
            if response.status_code in (429, 503):
                self._held_until = time.monotonic() + pause
        return float(pause)

    def _wait(self, seconds: float) -> None:
        until = time.monotonic() + seconds
        while (left := until - time.monotonic()) > 0:
            if self.stopping():
                raise SourceUnavailable("The service is stopping.")
            time.sleep(min(left, 0.2))


def bounded(response: httpx.Response, max_bytes: int) -> Iterator[bytes]:
    """The body in pieces. Raises ItemFailed when it grows too large or breaks off."""
    size = 0
    try:
        for chunk in response.iter_bytes(256 * 1024):
            size += len(chunk)
            if size > max_bytes:
                raise ItemFailed(f"It is larger than {max_bytes // 1_000_000} MB.")
            yield chunk
    except httpx.HTTPError as error:
        raise ItemFailed(f"The answer broke off: {_said(error)}.") from error
    finally:
        response.close()


def whole(response: httpx.Response, max_bytes: int) -> bytes:
    return b"".join(bounded(response, max_bytes))


def refusal(response: httpx.Response, what: str) -> str:
    """Return why a server rejected a request, in words."""
    status = response.status_code
    reason = {
        401: "asks for other credentials",
        403: "does not allow it with these credentials",
        404: "has nothing there",
        410: "has removed it",
        429: "asks to come less often",
        503: "is not available at the moment",
    }.get(status, "answered with an error")
    return f"{what}: the server {reason} (status {status})."


def _retry_after(response: httpx.Response) -> float | None:
    """The pause that the server asks for, in seconds."""
    value = response.headers.get("retry-after", "").strip()
    if value.isdigit():
        return float(value)
    try:
        return max(0.0, email.utils.parsedate_to_datetime(value).timestamp() - time.time())
    except (ValueError, TypeError):
        return None


def http_moment(text: str) -> float | None:
    """An HTTP date in seconds since 1970."""
    try:
        return email.utils.parsedate_to_datetime(text).timestamp()
    except (ValueError, TypeError):
        return None


def basic(user: str, password: str) -> str:
    """The value of an Authorization header (RFC 7617)."""
    return "Basic " + base64.b64encode(f"{user}:{password}".encode()).decode()


def _host(url: str | httpx.URL) -> str:
    return httpx.URL(str(url)).host


def _said(error: Exception) -> str:
    if isinstance(error, ServerTooSlow):
        return str(error)
    return (
        "no answer in time"
        if isinstance(error, httpx.TimeoutException)
        else str(error) or type(error).__name__
    )
