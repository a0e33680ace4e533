"""Problem details (RFC 9457).

Every error in one form, with a stable type and advice.
"""

from __future__ import annotations

import errno
import http
import shutil

import structlog
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from sqlalchemy.exc import IntegrityError, OperationalError
from starlette.exceptions import HTTPException

from fontanel.engine.workers.processes import WorkerDied
from fontanel.errors import (
    Conflict,
    FontanelError,
    MailFailed,
    ModelUnusable,
    NotFound,
    QuotaReached,
    Refused,
    SecretUnreadable,
    Unavailable,
)
from fontanel.schemas import Problem
from fontanel.settings import Settings
from fontanel.sources import SourceUnavailable

log = structlog.get_logger()

#: Every type of problem: its stable name -> status and title. Documented in docs/problems.md.
PROBLEMS: dict[str, tuple[int, str]] = {
    "not-signed-in": (401, "Nobody is signed in"),
    "wrong-password": (401, "Wrong e-mail or password"),
    "not-allowed": (403, "Not allowed"),
    "read-only": (403, "The service only answers questions"),
    "cross-site": (403, "Request from another site"),
    "quota-reached": (403, "Quota reached"),
    "not-found": (404, "Not found"),
    "method-not-allowed": (405, "Method not allowed"),
    "conflict": (409, "Conflict"),
    "changed-meanwhile": (412, "Changed meanwhile"),
    "version-required": (428, "Version required"),
    "too-large": (413, "Too large"),
    "invalid": (422, "Not valid"),
    "unreadable": (422, "The document cannot be read"),
    "mail-failed": (502, "The message could not be sent"),
    "source-unavailable": (502, "The source cannot be read"),
    "too-slow": (408, "Too slow"),
    "too-many-attempts": (429, "Too many attempts"),
    "too-many-requests": (429, "Too many requests"),
    "too-many-streams": (429, "Too many streams"),
    "unavailable": (503, "Not available now"),
    "disk-full": (507, "The disk is full"),
    "internal": (500, "Something went wrong inside the service"),
}


class ApiError(FontanelError):
    """An error that becomes a problem response; `kind` is a key of `PROBLEMS`."""

    def __init__(
        self,
        kind: str,
        detail: str,
        *,
        field: str | None = None,
        advice: str | None = None,
        headers: dict[str, str] | None = None,
    ) -> None:
        super().__init__(detail)
        self.kind = kind
        self.detail = detail
        self.field = field
        self.advice = advice
        self.headers = headers


def has_room(settings: Settings) -> bool:
    """Return whether the data directory's disk has enough free space."""
    return shutil.disk_usage(settings.data).free >= settings.min_free_mb * 1_000_000


def disk_full(settings: Settings | None = None) -> ApiError:
    where = f" of {settings.data}" if settings else ""
    return ApiError(
        "disk-full",
        f"The disk{where} is full; nothing was stored.",
        advice="The operator frees space. What is stored already can still be searched.",
    )


def problem(
    kind: str,
    detail: str,
    request_id: str | None,
    field: str | None = None,
    advice: str | None = None,
) -> Problem:
    status, title = PROBLEMS[kind]
    return Problem(
        type=f"urn:fontanel:problem:{kind}",
        title=title,
        status=status,
        detail=detail,
        field=field,
        advice=advice,
        request_id=request_id,
    )


def reply(request: Request, error: ApiError) -> JSONResponse:
    request.state.problem = error.kind
    result = problem(error.kind, error.detail, request.state.request_id, error.field, error.advice)
    return JSONResponse(
        result.model_dump(),
        status_code=result.status,
        media_type="application/problem+json",
        headers=error.headers,
    )


#: The problem of each error that is raised below the routes. The first class that fits counts.
PROBLEM_OF: tuple[tuple[type[FontanelError], str], ...] = (
    (NotFound, "not-found"),
    (Refused, "invalid"),
    (Conflict, "conflict"),
    (QuotaReached, "quota-reached"),
    (SecretUnreadable, "conflict"),
    (ModelUnusable, "conflict"),
    (MailFailed, "mail-failed"),
    (SourceUnavailable, "source-unavailable"),
    (WorkerDied, "unreadable"),
    (Unavailable, "unavailable"),
)


def api_error(error: FontanelError) -> ApiError | None:
    """Return an error as a problem; None when it is not meant for the caller."""
    if isinstance(error, ApiError):
        return error
    kind = next((kind for cls, kind in PROBLEM_OF if isinstance(error, cls)), None)
    if kind is None:
        return None
    advice: str | None = getattr(error, "advice", None)
    if isinstance(error, NotFound):
        advice = f"List what there is, or check the {error.noun}'s id."
    headers = {"Retry-After": "5"} if kind == "unavailable" else None
    field: str | None = getattr(error, "field", None)
    return ApiError(kind, str(error), field=field, advice=advice, headers=headers)


def _of_validation(error: RequestValidationError) -> ApiError:
    """Return the first fault of a request that does not fit its schema."""
    first = error.errors()[0]
    if first["type"] == "json_invalid":
        why = first.get("ctx", {}).get("error", "")
        return ApiError(
            "invalid", f"The body is not valid JSON, at character {first['loc'][-1]}: {why}."
        )
    parts = [str(part) for part in first["loc"] if part not in ("body", "query", "path", "header")]
    field = ".".join(parts)
    return ApiError("invalid", f"{field or 'The request'}: {first['msg']}.", field=field or None)


def install(app: FastAPI) -> None:
    """Answer every kind of failure with a problem."""

    @app.exception_handler(FontanelError)
    def on_error(request: Request, error: FontanelError) -> JSONResponse:
        existing = api_error(error)
        return reply(request, existing) if existing else on_failure(request, error)

    @app.exception_handler(RequestValidationError)
    def on_invalid(request: Request, error: RequestValidationError) -> JSONResponse:
        return reply(request, _of_validation(error))

    @app.exception_handler(OverflowError)
    def on_overflow(request: Request, error: OverflowError) -> JSONResponse:
        log.info("overflow", error=str(error))
        return reply(request, ApiError("invalid", "A number in the request is too large."))

    @app.exception_handler(OperationalError)
    def on_database(request: Request, error: OperationalError) -> JSONResponse:
        if "disk is full" in str(error.orig):
            return reply(request, disk_full())
        return on_failure(request, error)

    @app.exception_handler(OSError)
    def on_system(request: Request, error: OSError) -> JSONResponse:
        return (
            reply(request, disk_full())
            if error.errno in (errno.ENOSPC, errno.EDQUOT)
            else on_failure(request, error)
        )

    @app.exception_handler(IntegrityError)
    def on_conflict(request: Request, error: IntegrityError) -> JSONResponse:
        log.info("integrity", error=str(error.orig))
        return reply(
            request,
            ApiError(
                "conflict", "Something of that name was created at the same moment. Try again."
            ),
        )

    @app.exception_handler(HTTPException)
    def on_http(request: Request, error: HTTPException) -> JSONResponse:
        kinds = {status: kind for kind, (status, _) in reversed(PROBLEMS.items())}
        kind = kinds.get(error.status_code, "invalid" if error.status_code < 500 else "internal")
        detail = (
            error.detail
            if isinstance(error.detail, str)
            else http.HTTPStatus(error.status_code).phrase
        )
        return reply(request, ApiError(kind, detail, headers=dict(error.headers or {})))

    @app.exception_handler(Exception)
    def on_failure(request: Request, error: Exception) -> JSONResponse:
        log.error("request failed", request_id=request.state.request_id, exc_info=error)
        detail = "The service could not finish this. The log has the details under the request id."
        return reply(request, ApiError("internal", detail))
