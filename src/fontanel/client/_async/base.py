"""The base of the clients: how calls are sent, and replies read."""

from __future__ import annotations

import asyncio
import os
import ssl
from collections.abc import AsyncIterator, Callable, Mapping
from contextlib import asynccontextmanager
from functools import cache
from types import TracebackType
from typing import Any, Self, TypeVar

import httpx
from httpx_sse import EventSource, ServerSentEvent
from tenacity import (
    AsyncRetrying,
    RetryCallState,
    retry_if_exception,
    stop_after_delay,
    wait_exponential_jitter,
)

from fontanel import __version__
from fontanel import schemas as s
from fontanel.client._call import Call
from fontanel.client._calls import EVENT, Calls
from fontanel.client._errors import ProblemError, Unreachable, error_of, raise_for_problem
from fontanel.client._upload import Upload

Out = TypeVar("Out")

#: Seconds before the second attempt at a call that may be repeated, and the longest pause.
_FIRST_PAUSE, _LONGEST_PAUSE = 0.2, 5.0


_growing = wait_exponential_jitter(multiplier=_FIRST_PAUSE, max=_LONGEST_PAUSE, jitter=_FIRST_PAUSE)


def pause_before_retry(state: RetryCallState) -> float:
    """Return the seconds before the next attempt: what the service asks for, or growing."""
    error = state.outcome.exception() if state.outcome is not None else None
    asked = error.retry_after if isinstance(error, ProblemError) else None
    return _growing(state) if asked is None else asked


@cache
def _certificates(*_named: str | None) -> ssl.SSLContext:
    """Return what servers are verified with; reading it takes longer than most requests.

    Args:
        _named: The variables of the environment that name other certificates.
    """
    return httpx.create_ssl_context()


class AsyncBaseClient:
    """A connection to the service: sending, and reading what comes back.

    Calls that may be repeated are tried again, with growing pauses or as `Retry-After` asks, when
    the connection breaks or the service is not available (503): reads, changes that name their
    target, uploads, and creating calls with an Idempotency-Key. A service that was never reached is
    reported immediately.

    Args:
        url: The address of the service.
        key: An access key.
        team: The short name of the team.
        timeout: Seconds to wait for a response.
        guest: A guest's own secret, with a link's secret as `key`.
        retry_seconds: How long a call is repeated; 0 for never.
        headers: Further headers of every request.
        transport: How requests are sent; default: over the network.
    """

    def __init__(
        self,
        url: str = "http://127.0.0.1:8460",
        key: str | None = None,
        team: str | None = None,
        timeout: float = 60.0,
        guest: str | None = None,
        retry_seconds: float = 60.0,
        headers: Mapping[str, str] | None = None,
        transport: httpx.AsyncBaseTransport | None = None,
    ) -> None:
        sent = {"User-Agent": f"fontanel/{__version__}", **(headers or {})}
        if key:
            sent["Authorization"] = f"Bearer {key}"
        if guest is not None:
            sent["X-Fontanel-Guest"] = guest
        self._http = httpx.AsyncClient(
            base_url=url.rstrip("/") + "/api/v1",
            headers=sent,
            timeout=timeout,
            transport=transport,
            verify=_certificates(os.getenv("SSL_CERT_FILE"), os.getenv("SSL_CERT_DIR")),
        )
        self._calls = Calls(team)
        self._retry_seconds = retry_seconds
        self._reached = False

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        await self.close()

    async def close(self) -> None:
        await self._http.aclose()

    @property
    def team(self) -> str:
        """The short name of the team that calls are about; empty before one is used."""
        return self._calls.team_ref or ""

    def use_team(self, team: str) -> None:
        """Use this team for further calls."""
        self._calls = Calls(team)

    async def _send(self, call: Call[Out]) -> Out:
        content = (
            call.body.model_dump_json(exclude_unset=call.method in ("PATCH", "PUT"))
            if call.body is not None
            else None
        )
        headers = (
            {"Content-Type": "application/json", **call.headers}
            if content is not None
            else dict(call.headers)
        )

        def build() -> httpx.Request:
            return self._http.build_request(
                call.method,
                call.path.removeprefix("/"),
                content=content,
                params=dict(call.params),
                headers=headers,
            )

        return call.read((await self._exchange(build, repeat=call.repeatable)).content)

    async def _exchange(
        self, build: Callable[[], httpx.Request], *, repeat: bool
    ) -> httpx.Response:
        """Send a request, again if it may be repeated; return the response if it succeeded."""
        async for attempt in AsyncRetrying(
            retry=retry_if_exception(
                lambda error: self._was_too_many(error) or (repeat and self._may_retry(error))
            ),
            stop=stop_after_delay(self._retry_seconds),
            wait=pause_before_retry,
            sleep=asyncio.sleep,
            reraise=True,
        ):
            with attempt:
                request = build()
                response = await self._send_once(request)
                gone = request.method == "DELETE" and response.status_code == 404
                if gone and attempt.retry_state.attempt_number > 1:
                    return response  # the attempt before it deleted it
                raise_for_problem(response)
                return response
        raise AssertionError("unreachable")

    async def _send_once(self, request: httpx.Request) -> httpx.Response:
        try:
            response = await self._http.send(request)
        except httpx.TransportError as error:
            raise Unreachable(
                f"The service at {request.url.host} cannot be reached: {error}", request
            ) from error
        self._reached = True
        return response

    def _may_retry(self, error: BaseException) -> bool:
        """Return whether another attempt can help: not for a service that was never there."""
        if isinstance(error, Unreachable):
            return self._reached
        return isinstance(error, ProblemError) and error.problem.status == 503

    def _was_too_many(self, error: BaseException) -> bool:
        """Return whether a request came too soon after others; it had no effect then."""
        return isinstance(error, ProblemError) and error.problem.type.endswith(":too-many-requests")

    async def _upload(self, path: str, upload: Upload, *, repeat: bool = True) -> bytes:
        def build() -> httpx.Request:
            return self._http.build_request("POST", path.removeprefix("/"), **upload.form())

        try:
            return (await self._exchange(build, repeat=repeat)).content
        finally:
            upload.close()

    async def _get(self, path: str, params: Mapping[str, Any] | None = None) -> httpx.Response:
        """Return the response to a GET whose body is not JSON."""

        def build() -> httpx.Request:
            return self._http.build_request("GET", path.removeprefix("/"), params=params)

        return await self._exchange(build, repeat=True)

    async def _events(self, call: Call[s.AnswerOut]) -> AsyncIterator[s.Event]:
        assert call.body is not None
        request = self._http.build_request(
            call.method,
            call.path.removeprefix("/"),
            content=call.body.model_dump_json(),
            headers={"Content-Type": "application/json", **call.headers},
        )
        async for sent in self._sent_events(request):
            event = EVENT.validate_json(sent.data)
            if isinstance(event, s.ProblemEvent):
                raise error_of(event.problem, request)
            yield event

    async def _sent_events(self, request: httpx.Request) -> AsyncIterator[ServerSentEvent]:
        """Yield the server-sent events of a response."""
        request.headers["Accept"] = "text/event-stream"
        async with self._streamed(request) as response:
            async for sent in EventSource(response).aiter_sse():
                yield sent

    @asynccontextmanager
    async def _streamed(self, request: httpx.Request) -> AsyncIterator[httpx.Response]:
        """Open the response to a request that is read as it comes."""
        try:
            response = await self._http.send(request, stream=True)
            try:
                if not response.is_success:
                    await response.aread()
                    raise_for_problem(response)
                yield response
            finally:
                await response.aclose()
        except httpx.TransportError as error:
            raise Unreachable(f"The stream broke off: {error}", request) from error
