"""Sign-in to the console, and who is signed in."""

from __future__ import annotations

import threading
import time
from datetime import timedelta

from fastapi import Request, Response
from sqlalchemy import delete, select

from fontanel.records.database import writing
from fontanel.records.ids import hash_password, hash_secret, new_secret, password_matches
from fontanel.records.tables import Key, Member, Person, SignIn, Team, now
from fontanel.schemas import Membership, PasswordChange, SessionOut, SignInIn
from fontanel.service.access import COOKIE, Caller, CallerDep, WorkshopDep, check_same_site
from fontanel.service.problems import ProblemError
from fontanel.service.routers import api_router
from fontanel.work.workshop import Workshop

router = api_router(tag="session")

_MOST_FAILURES = 10
_WINDOW = 300.0


class Attempts:
    """Counts failed sign-ins by e-mail and by address, and refuses for a while when there were too many."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._failures: dict[str, list[float]] = {}

    def check(self, *names: str) -> None:
        """Raises ProblemError(too-many-attempts)."""
        with self._lock:
            for name in names:
                recent = [at for at in self._failures.get(name, []) if time.monotonic() - at < _WINDOW]
                self._failures[name] = recent
                if len(recent) >= _MOST_FAILURES:
                    wait = int(_WINDOW - (time.monotonic() - recent[0])) + 1
                    raise ProblemError(
                        "too-many-attempts", f"Too many failed sign-ins. Try again in {wait} seconds.",
                        headers={"Retry-After": str(wait)},
                    )  # fmt: skip

    def failed(self, *names: str) -> None:
        with self._lock:
            if len(self._failures) > 10_000:
                self._failures.clear()
            for name in names:
                self._failures.setdefault(name, []).append(time.monotonic())


@router.post("/session", summary="Sign in", responses={401: {}, 429: {}})
def sign_in(body: SignInIn, request: Request, response: Response, workshop: WorkshopDep) -> SessionOut:
    """Sign in with e-mail and password; sets the session cookie."""
    check_same_site(request)
    attempts: Attempts = request.app.state.attempts
    names = (f"email:{body.email}", f"address:{request.client.host if request.client else ''}")
    attempts.check(*names)
    with workshop.sessions() as session:
        person = session.scalar(select(Person).where(Person.email == body.email))
    if not password_matches(person.password_hash if person else None, body.password) or person is None:
        attempts.failed(*names)
        raise ProblemError("wrong-password", "The e-mail or the password is wrong.")
    secret = new_secret("fs")
    hours = workshop.settings.sign_in_hours
    with writing(workshop.sessions) as session:
        session.execute(delete(SignIn).where(SignIn.expires_at <= now()))
        session.add(
            SignIn(token_hash=hash_secret(secret), person_id=person.id, expires_at=now() + timedelta(hours=hours))
        )
        session.commit()
    response.set_cookie(
        COOKIE, secret, max_age=hours * 3600, httponly=True, samesite="strict", path="/",
        secure=workshop.settings.secure_cookie,
    )  # fmt: skip
    return describe(workshop, Caller(f"person:{person.id}", person, None))


@router.get("/session", summary="Who is signed in")
def who(caller: CallerDep, workshop: WorkshopDep) -> SessionOut:
    """The signed-in person or the key, and the teams they reach."""
    return describe(workshop, caller)


@router.delete("/session", status_code=204, summary="Sign out")
def sign_out(caller: CallerDep, request: Request, response: Response, workshop: WorkshopDep) -> None:
    """End this session of the console."""
    cookie = request.cookies.get(COOKIE)
    if cookie and caller.person is not None:
        with writing(workshop.sessions) as session:
            session.execute(delete(SignIn).where(SignIn.token_hash == hash_secret(cookie)))
            session.commit()
    response.delete_cookie(COOKIE, path="/", httponly=True, samesite="strict")


@router.put("/session/password", status_code=204, summary="Change one's password")
def change_password(body: PasswordChange, caller: CallerDep, request: Request, workshop: WorkshopDep) -> None:
    """Set a new password and end all other sessions of the person."""
    if caller.person is None:
        raise ProblemError("not-allowed", "A key has no password.")
    if not password_matches(caller.person.password_hash, body.current):
        raise ProblemError("wrong-password", "The present password is wrong.", field="current")
    with writing(workshop.sessions) as session:
        session.get_one(Person, caller.person.id).password_hash = hash_password(body.new)
        session.execute(
            delete(SignIn).where(
                SignIn.person_id == caller.person.id, SignIn.token_hash != hash_secret(request.cookies.get(COOKIE, ""))
            )
        )
        session.commit()


def describe(workshop: Workshop, caller: Caller) -> SessionOut:
    with workshop.sessions() as session:
        if caller.key is not None:
            key: Key = caller.key
            team = session.get_one(Team, key.team_id)
            reach = Membership(team_id=team.id, slug=team.slug, name=team.name, role=key.role.value)
            return SessionOut(kind="key", name=key.name, teams=[reach])
        assert caller.person is not None
        rows = session.execute(
            select(Team, Member.role)
            .join(Member, Member.team_id == Team.id)
            .where(Member.person_id == caller.person.id)
            .order_by(Team.name)
        ).tuples()
        teams = [Membership(team_id=t.id, slug=t.slug, name=t.name, role=role) for t, role in rows]
        return SessionOut(
            kind="person",
            name=caller.person.name,
            email=caller.person.email,
            operator=caller.person.operator,
            teams=teams,
        )
