"""Who calls, and what they may access: sign-ins, keys, roles.

A team's route depends on an `Access`, which `Require` looks up before the route runs. The route's
thread opens the access: a reader gets a session, a writer a unit of work that is committed when the
route returns.
"""

from __future__ import annotations

from base64 import b64decode
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Annotated, TypeVar
from urllib.parse import urlsplit

from fastapi import Depends, Request
from fastapi.security import APIKeyCookie, HTTPBearer
from fastapi.security.http import HTTPAuthorizationCredentials
from sqlalchemy import select
from sqlalchemy.orm import Session
from starlette.requests import HTTPConnection

from fontanel.engine.answering.tool_calls import TOOLS, store_tool_call
from fontanel.engine.quotas.limits import limits_of
from fontanel.engine.runtime.runtime import Runtime
from fontanel.errors import NotFound
from fontanel.facts import TOOL_HEADER
from fontanel.records.ids import hash_secret
from fontanel.records.scope import TeamScope
from fontanel.records.tables import DeskLink, Key, Member, Person, Role, SignIn, Team, now
from fontanel.records.unit_of_work import Records
from fontanel.service.audited import note_key, note_person, note_stranger, note_team
from fontanel.service.auth.request_rates import RequestRates
from fontanel.service.problems import ApiError
from fontanel.service.threads import run_briefly

COOKIE = "fontanel_session"
#: The console sends this with each request; a form on another site cannot.
CONSOLE_HEADER = "X-Fontanel-Console"
#: Where a request's state has the caller that was found before its body was read.
FOUND_CALLER = "found_caller"
_SAFE = frozenset({"GET", "HEAD", "OPTIONS"})
_RANK = {Role.READER: 0, Role.EDITOR: 1, Role.OWNER: 2}
_Used = TypeVar("_Used", Key, DeskLink)
#: The use of a key or a link is recorded no more often than this.
_USE_RECORDED = timedelta(minutes=5)

_bearer = HTTPBearer(auto_error=False, description="An access key: `Authorization: Bearer fk_...`")
_cookie = APIKeyCookie(name=COOKIE, auto_error=False, description="The console's session.")


@dataclass(frozen=True, slots=True)
class Caller:
    """Who makes the request: a signed-in person, or a key."""

    id: str
    """Names the asker in conversations."""
    person: Person | None = None
    key: Key | None = None
    expires_at: datetime | None = None
    """When the key or the sign-in expires."""

    @property
    def operator(self) -> bool:
        """Whether the caller is an operator of the service."""
        return self.person is not None and self.person.operator

    @property
    def name(self) -> str:
        """The caller's name, as people know it."""
        if self.person is not None:
            return self.person.name
        return f"key {self.key.name}" if self.key is not None else self.id


@dataclass(frozen=True, slots=True)
class Credentials:
    """What a request identifies its caller by."""

    bearer: str | None
    cookie: str | None


async def runtime_of(request: Request) -> Runtime:
    """Return the runtime of the application."""
    # Not a plain function: FastAPI would run it in a thread.
    runtime: Runtime = request.app.state.runtime
    return runtime


RuntimeDep = Annotated[Runtime, Depends(runtime_of)]
Bearer = Annotated[HTTPAuthorizationCredentials | None, Depends(_bearer)]
Cookie = Annotated[str | None, Depends(_cookie)]


def credentials_of(connection: HTTPConnection) -> Credentials:
    """Return the credentials of a request."""
    scheme, _, secret = connection.headers.get("authorization", "").partition(" ")
    bearer = secret.strip() if scheme.lower() == "bearer" else None
    if scheme.lower() == "basic" and _is_feed(connection):
        bearer = _password(secret.strip())
    return Credentials(bearer, connection.cookies.get(COOKIE))


def _is_feed(connection: HTTPConnection) -> bool:
    """Return whether a feed is read, the only thing that a key may be a password for.

    A browser that knows the password would also send it with requests that other sites cause.
    """
    path: str = connection.scope["path"]
    return connection.scope["method"] in ("GET", "HEAD") and path.endswith("/feed")


def _password(encoded: str) -> str | None:
    """Return the password of HTTP Basic (RFC 7617)."""
    try:
        return b64decode(encoded, validate=True).decode().partition(":")[2] or None
    except ValueError:
        return None


async def caller_of(
    request: Request, runtime: RuntimeDep, bearer: Bearer, cookie: Cookie
) -> Caller:
    """Return the caller.

    Raises:
        ApiError: not-signed-in or cross-site.
    """
    return await run_briefly(look_up_caller, request, runtime)


def look_up_caller(request: HTTPConnection, runtime: Runtime) -> Caller:
    """Return the caller, as the body gate found it, or looked up here.

    Raises:
        ApiError: not-signed-in or cross-site.
    """
    result: Caller | None = request.scope.get("state", {}).pop(FOUND_CALLER, None)
    if result is None:
        with runtime.records.reading() as session:
            result = find_caller(session, request, runtime, credentials_of(request))
    if result.key is not None:
        record_tool_call(runtime, result.key, request)
    return result


def find_caller(
    session: Session, request: HTTPConnection, runtime: Runtime, credentials: Credentials
) -> Caller:
    """Return the caller with these credentials.

    Raises:
        ApiError: not-signed-in or cross-site.
    """
    bearer, cookie = credentials.bearer, credentials.cookie
    if bearer is not None:
        key = session.scalar(select(Key).where(Key.secret_hash == hash_secret(bearer)))
        if key is None or (key.expires_at and key.expires_at <= now()):
            raise _not_signed_in("The key is not known or has expired.", feed=_is_feed(request))
        note_key(key.id, key.name)
        record_use(runtime, key)
        return Caller(f"key:{key.id}", None, key, key.expires_at)
    if cookie:
        sign_in = session.get(SignIn, hash_secret(cookie))
        if sign_in is not None and sign_in.expires_at > now():
            check_same_site(request)
            person = session.get_one(Person, sign_in.person_id)
            note_person(person.id, person.name)
            return Caller(f"person:{sign_in.person_id}", person, None, sign_in.expires_at)
    raise _not_signed_in("This needs a sign-in or a key.", feed=_is_feed(request))


CallerDep = Annotated[Caller, Depends(caller_of)]


def _not_signed_in(detail: str, *, feed: bool = False) -> ApiError:
    advice = "Sign in at the console, or send a key as 'Authorization: Bearer <key>'."
    # Feed readers only ask their user for a password if this asks them.
    scheme = 'Basic realm="Fontanel", charset="UTF-8"' if feed else "Bearer"
    return ApiError("not-signed-in", detail, advice=advice, headers={"WWW-Authenticate": scheme})


def record_use(runtime: Runtime, used: _Used) -> None:
    """Record that a key or a link was used, at most every few minutes.

    In the background: a reader does not wait for the write lock.
    """
    if used.last_used_at is None or now() - used.last_used_at > _USE_RECORDED:
        runtime.run_later(_record_use, runtime.records, type(used), used.id)


def record_tool_call(runtime: Runtime, key: Key, request: HTTPConnection) -> None:
    """Count a call of a tool of the Model Context Protocol, in the background."""
    name, _, call = request.headers.get(TOOL_HEADER, "").partition(";")
    if name in TOOLS and call:
        kb = request.path_params.get("kb")
        runtime.run_later(store_tool_call, runtime.records, key.team_id, key.id, name, call, kb)


def _record_use(records: Records, kind: type[_Used], used_id: str) -> None:
    with records.writing() as session:
        used = session.get(kind, used_id)
        if used is not None:
            used.last_used_at = now()


def check_same_site(request: HTTPConnection) -> None:
    """Refuse changes that another site led a browser into.

    Raises:
        ApiError: cross-site.
    """
    if request.scope["method"] in _SAFE:
        return
    origin = request.headers.get("origin")
    foreign = origin is not None and urlsplit(origin).netloc != request.headers.get("host")
    if foreign or CONSOLE_HEADER not in request.headers:
        raise ApiError(
            "cross-site",
            "The request did not come from the console.",
            advice="Use a key for programs.",
        )


@dataclass(frozen=True, slots=True)
class Access:
    """A caller's rights in one team, and the session that uses them once it is open."""

    caller: Caller
    team: Team
    role: Role
    runtime: Runtime
    request_id: str
    kb_ids: frozenset[str] | None = None
    """The knowledge bases that a key is limited to."""
    writes: bool = False
    """Whether the route changes something: then its session is a unit of work."""
    opened: Session | None = None

    @property
    def session(self) -> Session:
        """The session, within `open`, `reading` or `writing`."""
        if self.opened is None:
            raise RuntimeError("The access is used before it is opened.")
        return self.opened

    @property
    def scope(self) -> TeamScope:
        """The team's records, within the session."""
        return TeamScope(self.session, self.team.id, self.kb_ids)

    def within(self, session: Session) -> Access:
        """Return the same rights in a session."""
        return replace(self, opened=session)

    @contextmanager
    def open(self) -> Iterator[Access]:
        """Open the session that the route needs; a change is committed at the end."""
        with self.writing() if self.writes else self.reading() as access:
            yield access

    @contextmanager
    def reading(self) -> Iterator[Access]:
        """Open a session to read with."""
        with self.runtime.records.reading() as session:
            yield self.within(session)

    def release(self) -> None:
        """Return the connection while nothing is read; the next query takes one again."""
        self.session.close()

    @contextmanager
    def writing(self) -> Iterator[Access]:
        """Open a unit of work, committed at the end of the block."""
        if self.opened is not None:
            self.release()
        with self.runtime.records.writing() as session:
            yield self.within(session)


class Require:
    """A route's dependency: access to the team in the path, with at least this role.

    Strangers get the response for a team that does not exist.

    Args:
        role: The lowest role that is allowed.
        write: The route changes records.
        administrative: Operators are allowed although they are not members. They never get access
            to documents that way.
        whole_team: Keys that are limited to some knowledge bases are refused.
    """

    def __init__(
        self,
        role: Role,
        *,
        write: bool = False,
        administrative: bool = False,
        whole_team: bool = False,
    ) -> None:
        self._role = role
        self._write = write
        self._administrative = administrative
        self._whole_team = whole_team or administrative

    async def __call__(
        self, request: Request, team: str, runtime: RuntimeDep, bearer: Bearer, cookie: Cookie
    ) -> Access:
        # All in one thread: each step in a thread of its own would wait for one.
        return await run_briefly(self.look_up, request, team, runtime)

    def look_up(self, request: HTTPConnection, team: str, runtime: Runtime) -> Access:
        """Look up the caller and their rights in the team.

        Raises:
            ApiError: not-signed-in, cross-site or not-allowed.
            NotFound: there is no such team, or the caller is a stranger to it.
        """
        caller = look_up_caller(request, runtime)
        with runtime.records.reading() as session:
            access = self.access_in(session, request, team, caller, runtime)
            count_request(session, request, access.team, caller)
            return access

    def access_in(
        self,
        session: Session,
        request: HTTPConnection,
        team: str,
        caller: Caller,
        runtime: Runtime,
    ) -> Access:
        """Return a caller's access to a team by id or slug; raises as `look_up` does."""
        record = session.scalar(select(Team).where((Team.id == team) | (Team.slug == team)))
        role = self._role_in(session, record, caller)
        if record is not None:
            note_team(record.id)
            if role is None:
                # Strangers are not shown that the team exists; its owners see that they tried.
                note_stranger()
        if record is None or role is None:
            raise NotFound("team", team)
        if _RANK[role] < _RANK[self._role]:
            raise ApiError(
                "not-allowed",
                f"This needs the role {self._role.value!r}; yours is {role.value!r}.",
                advice="Ask an owner of the team.",
            )
        limited = caller.key is not None and caller.key.kb_ids is not None
        if limited and self._whole_team:
            raise ApiError("not-allowed", "This key is limited to some knowledge bases.")
        return Access(
            caller,
            record,
            role,
            runtime,
            request.state.request_id,
            kb_ids=frozenset(caller.key.kb_ids or ()) if caller.key and limited else None,
            writes=self._write,
        )

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


def count_request(
    session: Session, request: HTTPConnection, team: Team, caller: Caller, who: str = ""
) -> None:
    """Count a request of a caller, within the team's quota and the key's own limit.

    Args:
        who: Whose requests are counted together, if not the caller's alone.

    Raises:
        ApiError: too-many-requests.
    """
    limit = limits_of(session, team)["requests_per_minute"]
    if caller.key is not None and caller.key.requests_per_minute is not None:
        own = caller.key.requests_per_minute
        limit = own if limit is None else min(limit, own)
    rates: RequestRates = request.app.state.request_rates
    rates.count(request, "requests", who or f"{team.id}:{caller.id}", limit)


def count_question(request: HTTPConnection, access: Access) -> None:
    """Count a question of a caller, within the team's quota.

    Raises:
        ApiError: too-many-requests.
    """
    with access.reading() as reading:
        limit = limits_of(reading.session, access.team)["questions_per_minute"]
    rates: RequestRates = request.app.state.request_rates
    rates.count(request, "questions", f"{access.team.id}:{access.caller.id}", limit)


Reader = Annotated[Access, Depends(Require(Role.READER))]
Editor = Annotated[Access, Depends(Require(Role.EDITOR))]
EditorWrite = Annotated[Access, Depends(Require(Role.EDITOR, write=True))]
ReaderWrite = Annotated[Access, Depends(Require(Role.READER, write=True))]
#: What concerns all knowledge bases of a team.
TeamEditor = Annotated[Access, Depends(Require(Role.EDITOR, whole_team=True))]
TeamEditorWrite = Annotated[Access, Depends(Require(Role.EDITOR, write=True, whole_team=True))]
Owner = Annotated[Access, Depends(Require(Role.OWNER, administrative=True))]
OwnerWrite = Annotated[Access, Depends(Require(Role.OWNER, write=True, administrative=True))]
#: What owners do with contents, which operators never reach.
ContentOwnerWrite = Annotated[Access, Depends(Require(Role.OWNER, write=True, whole_team=True))]


async def operator_of(caller: CallerDep) -> Caller:
    """Return the caller, who must be an operator."""
    if not caller.operator:
        raise ApiError("not-allowed", "This is for operators of the service.")
    return caller


Operator = Annotated[Caller, Depends(operator_of)]


def check_version(request: Request, version: int, *, required: bool = False) -> None:
    """Compare If-Match, when it is sent, with the record's version.

    Args:
        request: The request for the change.
        version: The record's version.
        required: Whether a change without If-Match is refused.

    Raises:
        ApiError: changed-meanwhile, or version-required.
    """
    expected = request.headers.get("if-match")
    if expected is None and required:
        raise ApiError(
            "version-required",
            "The change names no version, so it could overwrite somebody else's.",
            advice=f"Send the version that you changed as If-Match; it is at {version} now.",
            field="If-Match",
        )
    if expected is not None and expected.strip() not in ("*", f'"{version}"'):
        raise ApiError(
            "changed-meanwhile",
            f"The record is at version {version} by now.",
            advice="Fetch it again and redo the change.",
        )
