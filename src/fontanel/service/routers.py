"""Routers of the API's parts."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import AbstractContextManager, ExitStack
from functools import partial
from inspect import iscoroutinefunction
from typing import Annotated, Any, Protocol, runtime_checkable

from fastapi import APIRouter, Path, Request, Response

from fontanel.engine.runtime.runtime import Runtime
from fontanel.schemas import Problem
from fontanel.service.audited import action_of, exports, note_read, note_route
from fontanel.service.bodies import BodyRoute
from fontanel.service.problems import ApiError
from fontanel.service.threads import run_change

#: What a thing of a knowledge base, a desk or an answer is numbered by, from 1.
Number = Annotated[int, Path(ge=1, le=1_000_000)]

_FAILURES: dict[int | str, dict[str, Any]] = {
    status: {"model": Problem, "content": {"application/problem+json": {}}, "description": title}
    for status, title in (
        (401, "Not signed in"),
        (403, "Not allowed"),
        (404, "Not found"),
        (422, "Not valid"),
    )
}


#: What a service does that changes nothing but its own records of questions.
_ANSWERING = frozenset(
    {
        "answer.again",
        "desk.ask",
        "edition.compare",
        "kb.ask",
        "kb.preview",
        "kb.search",
        "session.sign-in",
        "session.sign-out",
    }
)
_READING = frozenset({"GET", "HEAD"})


@runtime_checkable
class Openable(Protocol):
    """What a dependency provides for opening in the route's own thread."""

    def open(self) -> AbstractContextManager[Any]:
        """Open the session that the route needs."""
        ...


class ApiRoute(BodyRoute):
    """A route whose plain function runs in a thread, with its access opened there.

    Changes run in threads that no reader needs.
    """

    def get_route_handler(self) -> Any:
        """Wrap the endpoint before the framework looks at it."""
        endpoint = self.dependant.call
        if endpoint is not None and not iscoroutinefunction(endpoint):
            if set(self.methods or ()) <= _READING:
                self.dependant.call = partial(_call, endpoint)
            else:
                self.dependant.call = partial(run_change, _call, endpoint)
        handler = super().get_route_handler()

        async def handle(request: Request) -> Response:
            note_route(request)
            _check_writable(request)
            response: Response = await handler(request)
            if response.status_code < 300 and exports(request):
                note_read(request.app.state.runtime)
            return response

        return handle


def _check_writable(request: Request) -> None:
    """Refuse changes while the service only answers questions.

    Raises:
        ApiError: read-only.
    """
    runtime: Runtime | None = request.app.state.runtime
    if request.method in _READING or runtime is None or not runtime.settings.read_only:
        return
    if action_of(request.method, request.scope["route"].path) not in _ANSWERING:
        raise ApiError(
            "read-only",
            "This service only answers questions; nothing can be changed.",
            advice="It serves a copy, or is being upgraded. Use the main service for changes.",
        )


def _call(endpoint: Callable[..., Any], **values: Any) -> Any:
    """Call an endpoint with its dependencies opened; commit a change when it returns."""
    with ExitStack() as stack:
        opened = {
            name: stack.enter_context(value.open()) if isinstance(value, Openable) else value
            for name, value in values.items()
        }
        return endpoint(**opened)


def api_router(prefix: str = "", tag: str | None = None) -> APIRouter:
    """Return a router below /api/v1, whose routes the application uses unchanged.

    Including a router would build each of its routes again, which takes over a second for all of
    them.
    """
    return APIRouter(
        prefix=f"/api/v1{prefix}",
        tags=[tag] if tag else None,
        responses=_FAILURES,
        route_class=ApiRoute,
    )
