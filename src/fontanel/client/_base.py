"""The synchronous client's base: how calls are sent."""

from __future__ import annotations

import time
from collections.abc import Iterator
from types import TracebackType
from typing import Self, TypeVar

import httpx

from fontanel import __version__
from fontanel import schemas as s
from fontanel.client._call import Call
from fontanel.client._calls import EVENT, Calls, EventReader
from fontanel.client._errors import Unreachable, error_of, raise_for_problem

Out = TypeVar("Out")

#: How often something that may be sent twice is sent, and the pause between.
_TRIES, _PAUSE = 3, 0.5


class BaseClient:
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
        self._http = httpx.Client(
            base_url=url.rstrip("/") + "/api/v1", headers=headers, timeout=timeout
        )
        self._calls = Calls(team)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()

    def close(self) -> None:
        self._http.close()

    def use_team(self, team: str) -> None:
        """Speak of this team from now on."""
        self._calls = Calls(team)

    def _send(self, call: Call[Out]) -> Out:
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
        return call.read(self._exchange(request).content)

    def _exchange(self, request: httpx.Request) -> httpx.Response:
        try:
            response = self._http.send(request)
        except httpx.TransportError as error:
            raise Unreachable(
                f"The service at {request.url.host} cannot be reached: {error}", request
            ) from error
        raise_for_problem(response)
        return response

    def _persist(self, call: Call[Out]) -> Out:
        """Send what may be sent twice, again when the connection breaks."""
        for _ in range(_TRIES - 1):
            try:
                return self._send(call)
            except Unreachable:
                time.sleep(_PAUSE)
        return self._send(call)

    def _text(self, path: str) -> str:
        """What a path gives, as text."""
        return self._exchange(self._http.build_request("GET", path.removeprefix("/"))).text

    def _events(self, call: Call[s.AnswerOut]) -> Iterator[s.Event]:
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
        reader = EventReader()
        try:
            response = self._http.send(request, stream=True)
            try:
                if not response.is_success:
                    response.read()
                    raise_for_problem(response)
                for line in response.iter_lines():
                    if (data := reader.feed(line)) is not None:
                        event = EVENT.validate_json(data)
                        if isinstance(event, s.ProblemEvent):
                            raise error_of(event.problem, request)
                        yield event
            finally:
                response.close()
        except httpx.TransportError as error:
            raise Unreachable(f"The answer broke off: {error}", request) from error
