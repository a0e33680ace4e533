"""Signing in with an OpenID Connect provider."""

from __future__ import annotations

import threading
import time
from typing import Annotated
from urllib.parse import quote, urlsplit

import structlog
from fastapi import Form, Query, Request, Response
from fastapi.responses import RedirectResponse
from sqlalchemy import delete, select

from fontanel.engine.runtime.runtime import Runtime
from fontanel.engine.sign_on.people import NoAccess, person_of
from fontanel.engine.sign_on.provider import Begun, Provider, ProviderFailed, SignInDenied
from fontanel.errors import SecretUnreadable
from fontanel.records.tables import Person, SignIn
from fontanel.schemas import WaysToSignIn
from fontanel.service.audited import note_about, note_person
from fontanel.service.auth.access import RuntimeDep
from fontanel.service.auth.sign_in import open_session
from fontanel.service.problems import ApiError
from fontanel.service.routers import api_router

router = api_router("/session/provider", "session")
log = structlog.get_logger()

_COOKIE, _PROBLEM = "fontanel_sign_on", "fontanel_sign_in_problem"
_PATH = "/api/v1/session/provider"
#: Seconds within which a sign-in at the provider must be finished.
_SECONDS = 600
#: The logout tokens of the last minutes: each is used once.
_seen: dict[str, float] = {}
_seen_lock = threading.Lock()


@router.get("", summary="Show the ways to sign in")
def ways_to_sign_in(runtime: RuntimeDep) -> WaysToSignIn:
    """For anybody: the name of the provider, and who may use a password."""
    settings = runtime.settings
    return WaysToSignIn(
        provider=settings.oidc_name if runtime.provider is not None else None,
        passwords=settings.passwords,
    )


@router.get("/start", summary="Sign in with the provider", response_class=RedirectResponse)
def start(
    runtime: RuntimeDep,
    next_page: Annotated[
        str, Query(alias="next", max_length=500, description="The page to come back to.")
    ] = "/",
) -> Response:
    """Send a browser to the provider."""
    try:
        begun = _provider(runtime).begin()
    except ProviderFailed as error:
        log.error("single sign-on failed", error=str(error))
        return _back(
            runtime, "The provider cannot be reached. Try again later, or ask the operator."
        )
    response = RedirectResponse(begun.url, 303)
    kept = {
        "state": begun.state,
        "nonce": begun.nonce,
        "verifier": begun.verifier,
        "next": next_page,
        "until": time.time() + _SECONDS,
    }
    response.set_cookie(
        _COOKIE,
        runtime.vault.seal(kept).decode(),
        max_age=_SECONDS,
        httponly=True,
        # The browser comes back from the provider's site.
        samesite="lax",
        path=runtime.settings.root + _PATH,
        secure=runtime.settings.marks_cookie_secure,
    )
    return response


@router.get("/return", summary="Come back from the provider", response_class=RedirectResponse)
def finish(request: Request, runtime: RuntimeDep) -> Response:
    """Sign the person in who comes back, and send the browser to their page."""
    provider = _provider(runtime)
    kept = _kept(request, runtime)
    if kept is None:
        return _back(runtime, "The sign-in took too long, or began in another browser. Try again.")
    begun = Begun("", str(kept["state"]), str(kept["nonce"]), str(kept["verifier"]))
    returned = f"{runtime.settings.origin}{_PATH}/return?{request.url.query}"
    try:
        if request.query_params.get("state") != begun.state:
            raise SignInDenied("The sign-in began in another window. Try again.")
        identity = provider.finish(returned, begun)
        note_about(identity.email)
        with runtime.records.writing() as session:
            person = person_of(
                session, identity, runtime.sign_on_rules, create=runtime.settings.oidc_create
            )
            note_person(person.id, person.name)
    except ProviderFailed as error:
        log.error("single sign-on failed", error=str(error))
        return _refused(request, runtime, "The provider's answer cannot be used. Ask the operator.")
    except (SignInDenied, NoAccess) as error:
        return _refused(request, runtime, str(error))
    root = runtime.settings.root
    response = RedirectResponse(_own(str(kept["next"]), root), 303)
    response.delete_cookie(_COOKIE, path=root + _PATH)
    open_session(runtime, request, response, person, identity.session)
    return response


@router.post("/logout", summary="End sign-ins for the provider")
def log_out(logout_token: Annotated[str, Form(max_length=20_000)], runtime: RuntimeDep) -> Response:
    """For the provider (OpenID Connect Back-Channel Logout 1.0)."""
    provider = _provider(runtime)
    try:
        ended = provider.logged_out(logout_token)
        if not _first(ended.id):
            raise ProviderFailed("The token was used before.")
    except ProviderFailed as error:
        raise ApiError("invalid", str(error), field="logout_token") from error
    with runtime.records.writing() as session:
        query = delete(SignIn)
        if ended.session is not None:
            query = query.where(SignIn.provider_session == ended.session)
        if ended.subject is not None:
            people = select(Person.id).where(Person.subject == ended.subject)
            query = query.where(SignIn.person_id.in_(people))
        session.execute(query)
    return Response(status_code=200, headers={"Cache-Control": "no-store"})


def _provider(runtime: Runtime) -> Provider:
    if runtime.provider is None:
        raise ApiError(
            "not-found",
            "Single sign-on is not set up.",
            advice="The operator sets FONTANEL_OIDC_ISSUER.",
        )
    return runtime.provider


def _kept(request: Request, runtime: Runtime) -> dict[str, object] | None:
    """Return what this browser's sign-in began with; None if it did not, or long ago."""
    try:
        kept: dict[str, object] = runtime.vault.open(request.cookies.get(_COOKIE, "").encode())
    except SecretUnreadable:
        return None
    return kept if float(str(kept["until"])) > time.time() else None


def _own(page: str, root: str) -> str:
    """Return the path of a page of this service; the start page for anything else."""
    parts = urlsplit(page.replace("\\", "/"))
    inside = page.startswith("/") and not page.startswith(("//", "/\\"))
    usable = inside and not parts.scheme and not parts.netloc and page.isprintable()
    return page if usable else f"{root}/"


def _refused(request: Request, runtime: Runtime, message: str) -> Response:
    request.state.problem = "not-allowed"
    return _back(runtime, message)


def _back(runtime: Runtime, message: str) -> Response:
    """Send the browser to the sign-in page, with what went wrong.

    In a cookie: a link that anybody can make up must not put words on that page.
    """
    page = f"{runtime.settings.root}/sign-in"
    response = RedirectResponse(f"{page}?problem", 303)
    response.set_cookie(_PROBLEM, quote(message[:300]), max_age=60, path=page, samesite="strict")
    return response


def _first(token_id: str) -> bool:
    """Return whether a logout token is used for the first time."""
    moment = time.monotonic()
    with _seen_lock:
        for old in [one for one, at in _seen.items() if moment - at > _SECONDS]:
            del _seen[old]
        return _seen.setdefault(token_id, moment) == moment
