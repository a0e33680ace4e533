"""The client's errors, by the service's problem types.

ClientError                a `fontanel.errors.FontanelError`; `.request` is what was sent
├── Unreachable            no response
└── ProblemError           the service responded with a problem, in `.problem`
    ├── NotSignedIn        401
    ├── NotAllowed         403
    ├── NotFound           404
    ├── Conflict           409
    ├── ChangedMeanwhile   412
    ├── TooLarge           413
    ├── Invalid            other 4xx
    └── ServiceFailed      5xx
"""

from __future__ import annotations

import httpx
from pydantic import ValidationError

from fontanel.errors import FontanelError
from fontanel.schemas import Problem


class ClientError(FontanelError):
    """The root of the client's errors; `request` is the request, if there was one."""

    def __init__(self, message: str, request: httpx.Request | None = None) -> None:
        super().__init__(message)
        self.request = request


class Unreachable(ClientError):
    """The service cannot be reached, or broke off."""


class ProblemError(ClientError):
    """The service refused or failed; `problem` says why and what to do.

    `retry_after` are the seconds after which it asks to try again, None if it does not.
    """

    def __init__(
        self,
        problem: Problem,
        request: httpx.Request | None = None,
        retry_after: float | None = None,
    ) -> None:
        text = problem.detail if not problem.advice else f"{problem.detail} {problem.advice}"
        super().__init__(text, request)
        self.problem = problem
        self.retry_after = retry_after


class NotSignedIn(ProblemError):
    pass


class NotAllowed(ProblemError):
    pass


class NotFound(ProblemError):
    pass


class Conflict(ProblemError):
    pass


class ChangedMeanwhile(ProblemError):
    pass


class TooLarge(ProblemError):
    pass


class Invalid(ProblemError):
    pass


class ServiceFailed(ProblemError):
    pass


_BY_STATUS = {
    401: NotSignedIn,
    403: NotAllowed,
    404: NotFound,
    409: Conflict,
    412: ChangedMeanwhile,
    413: TooLarge,
}


def error_of(
    problem: Problem, request: httpx.Request | None, retry_after: float | None = None
) -> ProblemError:
    kind = _BY_STATUS.get(problem.status, ServiceFailed if problem.status >= 500 else Invalid)
    return kind(problem, request, retry_after)


def raise_for_problem(response: httpx.Response) -> None:
    """Raise the error for a response that is not a success."""
    if response.is_success:
        return
    try:
        problem = Problem.model_validate_json(response.content)
    except ValidationError:
        text = response.text[:200] or response.reason_phrase
        problem = Problem(
            type="about:blank",
            title=response.reason_phrase,
            status=response.status_code,
            detail=text,
        )
    seconds = response.headers.get("retry-after", "")
    raise error_of(problem, response.request, float(seconds) if seconds.isdecimal() else None)
