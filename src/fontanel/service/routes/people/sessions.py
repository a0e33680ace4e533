"""Sign-in to the console, and who is signed in."""

from __future__ import annotations

from datetime import timedelta

from fastapi import Request, Response
from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from fontanel.errors import NotFound
from fontanel.records.ids import hash_password, hash_secret, new_secret, password_matches
from fontanel.records.tables import PasswordLink, Person, SignIn, now
from fontanel.schemas import (
    Page,
    PasswordChange,
    PasswordLinkCreated,
    PasswordSet,
    SessionOut,
    SignInIn,
    SignInOut,
)
from fontanel.service.audited import note_about, note_person
from fontanel.service.auth.access import COOKIE, CallerDep, Operator, RuntimeDep, check_same_site
from fontanel.service.auth.rate_limits import SignInLimits
from fontanel.service.auth.sign_in import address_of, describe, open_session
from fontanel.service.problems import ApiError
from fontanel.service.routers import api_router

router = api_router(tag="session")


@router.post("/session", summary="Sign in", responses={401: {}, 429: {}})
def sign_in(
    body: SignInIn, request: Request, response: Response, runtime: RuntimeDep
) -> SessionOut:
    """Sign in with e-mail and password; sets the session cookie."""
    check_same_site(request)
    note_about(body.email)
    limits: SignInLimits = request.app.state.sign_in_limits
    address = address_of(request)
    limits.begin(body.email, address)
    with runtime.records.reading() as session:
        person = session.scalar(select(Person).where(Person.email == body.email))
    if (
        not password_matches(person.password_hash if person else None, body.password)
        or person is None
    ):
        raise ApiError("wrong-password", "The e-mail or the password is wrong.")
    limits.succeeded(body.email, address)
    if runtime.settings.passwords == "operators" and (not person.operator or person.subject):
        raise ApiError(
            "not-allowed",
            "Passwords are switched off.",
            advice=f"Sign in with {runtime.settings.oidc_name}.",
        )
    return open_session(runtime, request, response, person)


@router.get("/session/sign-ins", summary="List where you are signed in")
def list_sign_ins(caller: CallerDep, request: Request, runtime: RuntimeDep) -> Page[SignInOut]:
    """Newest first; `current` is the one of this request."""
    if caller.person is None:
        return Page(items=[])
    own = hash_secret(request.cookies.get(COOKIE, ""))
    query = select(SignIn).where(SignIn.person_id == caller.person.id, SignIn.expires_at > now())
    with runtime.records.reading() as session:
        rows = session.scalars(query.order_by(SignIn.created_at.desc())).all()
    return Page(
        items=[
            SignInOut(
                id=row.id,
                address=row.address,
                agent=row.agent,
                created_at=row.created_at,
                expires_at=row.expires_at,
                current=row.token_hash == own,
            )
            for row in rows
        ]
    )


@router.delete("/session/sign-ins", status_code=204, summary="Sign out everywhere else")
def end_other_sign_ins(caller: CallerDep, request: Request, runtime: RuntimeDep) -> None:
    """End all sign-ins of the person but this one."""
    if caller.person is not None:
        with runtime.records.writing() as session:
            _end_others(session, caller.person.id, request)


def _end_others(session: Session, person_id: str, request: Request) -> None:
    own = hash_secret(request.cookies.get(COOKIE, ""))
    session.execute(delete(SignIn).where(SignIn.person_id == person_id, SignIn.token_hash != own))


@router.get("/session", summary="Who is signed in")
def who(caller: CallerDep, runtime: RuntimeDep) -> SessionOut:
    """The signed-in person or the key, and the teams they reach."""
    return describe(runtime, caller)


@router.delete("/session", status_code=204, summary="Sign out")
def sign_out(caller: CallerDep, request: Request, response: Response, runtime: RuntimeDep) -> None:
    """End this session of the console."""
    cookie = request.cookies.get(COOKIE)
    if cookie and caller.person is not None:
        with runtime.records.writing() as session:
            session.execute(delete(SignIn).where(SignIn.token_hash == hash_secret(cookie)))
    response.delete_cookie(COOKIE, path="/", httponly=True, samesite="strict")


@router.put("/session/password", status_code=204, summary="Change one's password")
def change_password(
    body: PasswordChange, caller: CallerDep, request: Request, runtime: RuntimeDep
) -> None:
    """Set a new password and end all other sessions of the person."""
    if caller.person is None:
        raise ApiError("not-allowed", "A key has no password.")
    limits: SignInLimits = request.app.state.sign_in_limits
    limits.begin(caller.person.email, address_of(request))
    if not password_matches(caller.person.password_hash, body.current):
        raise ApiError("wrong-password", "The present password is wrong.", field="current")
    limits.succeeded(caller.person.email, address_of(request))
    with runtime.records.writing() as session:
        session.get_one(Person, caller.person.id).password_hash = hash_password(body.new)
        _end_others(session, caller.person.id, request)


# Forgotten passwords


@router.post(
    "/people/{email}/password-link",
    status_code=201,
    summary="Make a link by which a person sets a new password",
)
def make_password_link(email: str, caller: Operator, runtime: RuntimeDep) -> PasswordLinkCreated:
    """For operators. It works once, within a day.

    The operator never sees the password.
    """
    secret = new_secret("fp")
    expires = now() + timedelta(days=1)
    with runtime.records.writing() as session:
        person = session.scalar(select(Person).where(Person.email == email.strip().lower()))
        if person is None:
            raise NotFound("person", email)
        session.execute(
            delete(PasswordLink).where(
                (PasswordLink.person_id == person.id) | (PasswordLink.expires_at <= now())
            )
        )
        session.add(
            PasswordLink(secret_hash=hash_secret(secret), person_id=person.id, expires_at=expires)
        )
    url = f"{runtime.settings.origin}/password#{secret}"
    return PasswordLinkCreated(email=person.email, url=url, secret=secret, expires_at=expires)


@router.post("/passwords", status_code=204, summary="Set a new password with a link")
def set_password(body: PasswordSet, request: Request, runtime: RuntimeDep) -> None:
    """For whoever has the link. Ends all sign-ins of the person."""
    check_same_site(request)
    password_hash = hash_password(body.new)
    with runtime.records.writing() as session:
        link = session.get(PasswordLink, hash_secret(body.secret))
        if link is None or link.expires_at <= now():
            raise ApiError(
                "not-found",
                "This link was used or has expired.",
                advice="Ask the operator for a new one.",
            )
        person = session.get_one(Person, link.person_id)
        person.password_hash = password_hash
        note_person(person.id, person.name)
        session.execute(delete(SignIn).where(SignIn.person_id == link.person_id))
        session.delete(link)
