"""The base of the clients: how calls are sent, and replies read."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from types import TracebackType
from typing import Self, TypeVar

import httpx
from httpx_sse import EventSource
from tenacity import AsyncRetrying, retry_if_exception_type, stop_after_attempt, wait_fixed

from fontanel import __version__
from fontanel import schemas as s
from fontanel.client._call import Call
from fontanel.client._calls import EVENT, Calls, Upload
from fontanel.client._errors import Unreachable, error_of, raise_for_problem

Out = TypeVar("Out")

#: Attempts at a call that may be sent twice, and the seconds between them.
_ATTEMPTS, _PAUSE = 3, 0.5


class AsyncBaseClient:
    """A connection to the service: sending, and reading what comes back."""

    def __init__(
        self,
        url: str = "http://127.0.0.1:8460",
        key: str | None = None,
        team: str | None = None,
        timeout: float = 60.0,
        guest: str | None = None,
    ) -> None:
        headers = {"User-Agent": f"fontanel/{__version__}"}
        if key:
            headers["Authorization"] = f"Bearer {key}"
        if guest is not None:
            headers["X-Fontanel-Guest"] = guest
        self._http = httpx.AsyncClient(
            base_url=url.rstrip("/") + "/api/v1", headers=headers, timeout=timeout
        )
        self._calls = Calls(team)

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

    def use_team(self, team: str) -> None:
        """Use this team for further calls."""
        self._calls = Calls(team)

    async def _send(self, call: Call[Out]) -> Out:
        content = (
            call.body.model_dump_json(exclude_unset=call.method == "PATCH")
            if call.body is not None
            else None
        )
        headers = (
            {"Content-Type": "application/json", **call.headers}
            if content is not None
            else dict(call.headers)
        )
        request = self._http.build_request(
            call.method,
            call.path.removeprefix("/"),
            content=content,
            params=dict(call.params),
            headers=headers,
        )
        return call.read((await self._exchange(request)).content)

    async def _exchange(self, request: httpx.Request) -> httpx.Response:
        try:
            response = await self._http.send(request)
        except httpx.TransportError as error:
            raise Unreachable(
                f"The service at {request.url.host} cannot be reached: {error}", request
            ) from error
        raise_for_problem(response)
        return response

    async def _persist(self, call: Call[Out]) -> Out:
        """Send a call that may be sent twice, again when the connection breaks."""
        async for attempt in AsyncRetrying(
            retry=retry_if_exception_type(Unreachable),
            stop=stop_after_attempt(_ATTEMPTS),
            wait=wait_fixed(_PAUSE),
            sleep=asyncio.sleep,
            reraise=True,
        ):
            with attempt:
                return await self._send(call)
        raise AssertionError("unreachable")

    async def _upload(self, path: str, upload: Upload) -> bytes:
        try:
            request = self._http.build_request("POST", path.removeprefix("/"), **upload.form())
            return (await self._exchange(request)).content
        finally:
            upload.close()

    async def _text(self, path: str) -> str:
        """Return the response of a path as text."""
        return (await self._exchange(self._http.build_request("GET", path.removeprefix("/")))).text

    async def _events(self, call: Call[s.AnswerOut]) -> AsyncIterator[s.Event]:
        assert call.body is not None
        request = self._http.build_request(
            call.method,
            call.path.removeprefix("/"),
            content=call.body.model_dump_json(),
            headers={
                "Content-Type": "application/json",
                "Accept": "text/event-stream",
                **call.headers,
            },
        )
        try:
            response = await self._http.send(request, stream=True)
            try:
                if not response.is_success:
                    await response.aread()
                    raise_for_problem(response)
                async for sent in EventSource(response).aiter_sse():
                    event = EVENT.validate_json(sent.data)
                    if isinstance(event, s.ProblemEvent):
                        raise error_of(event.problem, request)
                    yield event
            finally:
                await response.aclose()
        except httpx.TransportError as error:
            raise Unreachable(f"The answer broke off: {error}", request) from error
