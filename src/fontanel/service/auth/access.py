"""Who calls, and what they may reach: sign-ins, keys, roles. Every team's route begins with `Require`."""

from __future__ import annotations

from collections.abc import AsyncIterator, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Annotated
from urllib.parse import urlsplit

from fastapi import Depends, Request
from fastapi.security import APIKeyCookie, HTTPBearer
from fastapi.security.http import HTTPAuthorizationCredentials
from sqlalchemy import select
from sqlalchemy.orm import Session
from starlette.requests import HTTPConnection

from fontanel.engine.runtime.runtime import Workshop
from fontanel.records.database import writing
from fontanel.records.ids import hash_secret
from fontanel.records.scope import NotInScope, TeamScope
from fontanel.records.tables import Key, Member, Person, Role, SignIn, Team, now
from fontanel.service.problems import ProblemError
from fontanel.service.streaming.turnstile import in_turn

COOKIE = "fontanel_session"
#: The console sends this with each request; a form on another site cannot.
CONSOLE_HEADER = "X-Fontanel-Console"
#: Where a request's state has the caller that was found before its body was read.
FOUND_CALLER = "found_caller"
_SAFE = frozenset({"GET", "HEAD", "OPTIONS"})
_RANK = {Role.READER: 0, Role.EDITOR: 1, Role.OWNER: 2}

_bearer = HTTPBearer(auto_error=False, description="An access key: `Authorization: Bearer fk_...`")
_cookie = APIKeyCookie(name=COOKIE, auto_error=False, description="The console's session.")


@dataclass(frozen=True, slots=True)
class Caller:
    """Who makes the request: a signed-in person, or a key. `id` names the asker in conversations."""

    id: str
    person: Person | None
    key: Key | None
    #: When the key or the sign-in ends by itself.
    expires_at: datetime | None = None

    @property
    def operator(self) -> bool:
        return self.person is not None and self.person.operator


async def workshop_of(request: Request) -> Workshop:
    # Not a plain function: FastAPI would have a thread do it.
    workshop: Workshop = request.app.state.workshop
    return workshop


WorkshopDep = Annotated[Workshop, Depends(workshop_of)]


Bearer = Annotated[HTTPAuthorizationCredentials | None, Depends(_bearer)]
Cookie = Annotated[str | None, Depends(_cookie)]


@dataclass(frozen=True, slots=True)
class Credentials:
    """What a request identifies its caller by."""

    bearer: str | None
    cookie: str | None


def credentials_of(connection: HTTPConnection) -> Credentials:
    scheme, _, secret = connection.headers.get("authorization", "").partition(" ")
    return Credentials(
        secret.strip() if scheme.lower() == "bearer" else None, connection.cookies.get(COOKIE)
    )


def caller_of(request: Request, workshop: WorkshopDep, bearer: Bearer, cookie: Cookie) -> Caller:
    """The caller. Raises ProblemError: not-signed-in or cross-site."""
    with workshop.sessions() as session:
        return find_caller(session, request, workshop, credentials_of(request))


def find_caller(
    session: Session, request: HTTPConnection, workshop: Workshop, credentials: Credentials
) -> Caller:
    """The caller with these credentials. Raises ProblemError: not-signed-in or cross-site."""
    bearer, cookie = credentials.bearer, credentials.cookie
    if bearer is not None:
        key = session.scalar(select(Key).where(Key.secret_hash == hash_secret(bearer)))
        if key is None or (key.expires_at and key.expires_at <= now()):
            raise _not_signed_in("The key is not known or has expired.")
        if key.last_used_at is None or now() - key.last_used_at > timedelta(minutes=5):
            _note_use(workshop, key.id)
        return Caller(f"key:{key.id}", None, key, key.expires_at)
    if cookie:
        sign_in = session.get(SignIn, hash_secret(cookie))
        if sign_in is not None and sign_in.expires_at > now():
            check_same_site(request)
            person = session.get_one(Person, sign_in.person_id)
            return Caller(f"person:{sign_in.person_id}", person, None, sign_in.expires_at)
    raise _not_signed_in("This needs a sign-in or a key.")


CallerDep = Annotated[Caller, Depends(caller_of)]


def _not_signed_in(detail: str) -> ProblemError:
    advice = "Sign in at the console, or send a key as 'Authorization: Bearer <key>'."
    return ProblemError(
        "not-signed-in", detail, advice=advice, headers={"WWW-Authenticate": "Bearer"}
    )


def _note_use(workshop: Workshop, key_id: str) -> None:
    with writing(workshop.sessions) as session:
        key = session.get(Key, key_id)
        if key is not None:
            key.last_used_at = now()
        session.commit()


def check_same_site(request: HTTPConnection) -> None:
    """Refuse changes that a browser was led into by another site. Raises ProblemError(cross-site)."""
    if request.scope["method"] in _SAFE:
        return
    origin = request.headers.get("origin")
    foreign = origin is not None and urlsplit(origin).netloc != request.headers.get("host")
    if foreign or CONSOLE_HEADER not in request.headers:
        raise ProblemError(
            "cross-site",
            "The request did not come from the console.",
            advice="Use a key for programs.",
        )


@dataclass(frozen=True, slots=True)
class Access:
    """A caller's way to one team's records, within one session."""

    caller: Caller
    team: Team
    role: Role
    session: Session
    scope: TeamScope
    workshop: Workshop
    request_id: str

    def within(self, session: Session) -> Access:
        """The same rights in another session, for work that outlives the request's own."""
        return replace(
            self, session=session, scope=TeamScope(session, self.team.id, self.scope.kb_ids)
        )


class Require:
    """A route's dependency: the team in the path, for callers with at least this role.

    `write` opens the session with the write lock. `administrative` lets operators in who are no members; they never get
    at documents that way. Strangers are told that there is no such team.
    """

    def __init__(self, role: Role, write: bool = False, administrative: bool = False) -> None:
        self._role = role
        self._write = write
        self._administrative = administrative

    async def __call__(
        self, request: Request, team: str, workshop: WorkshopDep, bearer: Bearer, cookie: Cookie
    ) -> AsyncIterator[Access]:
        # One thread looks everything up: each step by itself would wait for a thread of its own.
        access = await in_turn(self._look_up, request, team, workshop)
        try:
            yield access
        finally:
            access.session.close()

    def _look_up(self, request: Request, team: str, workshop: Workshop) -> Access:
        session = workshop.sessions()
        try:
            caller: Caller | None = request.scope["state"].pop(FOUND_CALLER, None)
            caller = caller or find_caller(session, request, workshop, credentials_of(request))
            return self.access_in(session, request, team, caller, workshop)
        except BaseException:
            session.close()
            raise

    @contextmanager
    def given(
        self, request: Request, team: str, caller: Caller, workshop: Workshop
    ) -> Iterator[Access]:
        """The same of a caller who is known already."""
        with workshop.sessions() as session:
            access = self.access_in(session, request, team, caller, workshop)
            with access.session:
                yield access

    def access_in(
        self, session: Session, request: Request, team: str, caller: Caller, workshop: Workshop
    ) -> Access:
        """A caller's access, in this session or, for changes, in one that holds the write lock; then this one is closed."""
        found = session.scalar(select(Team).where((Team.id == team) | (Team.slug == team)))
        role = self._role_in(session, found, caller)
        if found is None or role is None:
            raise NotInScope("team", team)
        if _RANK[role] < _RANK[self._role]:
            raise ProblemError(
                "not-allowed",
                f"This needs the role {self._role.value!r}; yours is {role.value!r}.",
                advice="Ask an owner of the team.",
            )
        allowed = (
            frozenset(caller.key.kb_ids) if caller.key and caller.key.kb_ids is not None else None
        )
        if allowed is not None and self._administrative:
            raise ProblemError("not-allowed", "This key reaches single knowledge bases only.")
        if self._write:
            session.close()
            session = writing(workshop.sessions)
        scope = TeamScope(session, found.id, allowed)
        return Access(caller, found, role, session, scope, workshop, request.state.request_id)

    def _role_in(self, session: Session, team: Team | None, caller: Caller) -> Role | None:
        if team is None:
            return None
        if caller.key is not None:
            return Role(caller.key.role) if caller.key.team_id == team.id else None
        assert caller.person is not None
        member = session.scalar(
            select(Member).where(Member.team_id == team.id, Member.person_id == caller.person.id)
        )
        if member is not None:
            return Role(member.role)
        return Role.OWNER if caller.operator and self._administrative else None


Reader = Annotated[Access, Depends(Require(Role.READER))]
Editor = Annotated[Access, Depends(Require(Role.EDITOR))]
EditorWrite = Annotated[Access, Depends(Require(Role.EDITOR, write=True))]
ReaderWrite = Annotated[Access, Depends(Require(Role.READER, write=True))]
Owner = Annotated[Access, Depends(Require(Role.OWNER, administrative=True))]
OwnerWrite = Annotated[Access, Depends(Require(Role.OWNER, write=True, administrative=True))]


def author_of(access: Access) -> str:
    """Who does this, as people know them."""
    caller = access.caller
    return (
        caller.person.name
        if caller.person
        else f"key {caller.key.name}"
        if caller.key
        else caller.id
    )


def operator_of(caller: CallerDep) -> Caller:
    if not caller.operator:
        raise ProblemError("not-allowed", "This is for operators of the service.")
    return caller


Operator = Annotated[Caller, Depends(operator_of)]


def check_version(request: Request, version: int) -> None:
    """Compare If-Match, when it is sent, with the record's version. Raises ProblemError(changed-meanwhile)."""
    wanted = request.headers.get("if-match")
    if wanted is not None and wanted.strip() not in ("*", f'"{version}"'):
        raise ProblemError(
            "changed-meanwhile",
            f"The record is at version {version} by now.",
            advice="Fetch it again and redo the change.",
        )
