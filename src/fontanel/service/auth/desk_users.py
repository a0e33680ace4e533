"""Chat users of a desk: members, and guests with a link."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Annotated

from fastapi import Depends, Request
from fastapi.security import HTTPBearer
from fastapi.security.http import HTTPAuthorizationCredentials
from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.engine.answering.links import LinkState, link_state, published_settings
from fontanel.engine.answering.visitors import VisitorRefused, visitor_of
from fontanel.engine.runtime.runtime import Runtime
from fontanel.errors import NotFound
from fontanel.records.ids import hash_secret
from fontanel.records.tables import (
    Conversation,
    Desk,
    DeskLink,
    Member,
    Role,
    SignIn,
    Team,
    Turn,
    now,
)
from fontanel.service.audited import note_guest, note_team
from fontanel.service.auth.access import (
    Access,
    Caller,
    Require,
    RuntimeDep,
    count_request,
    credentials_of,
    record_use,
)
from fontanel.service.auth.rate_limits import network_of
from fontanel.service.problems import ApiError
from fontanel.service.streaming.renewal import Renewal
from fontanel.service.threads import run_briefly

#: A guest's own secret: whoever has it sees the guest's conversations.
GUEST_HEADER = "X-Fontanel-Guest"
#: Who a guest is, signed by the site that shows the chat.
VISITOR_HEADER = "X-Fontanel-Visitor"
#: The prefix of a link's secret.
_LINK = "dl_"
_MIN_SECRET, _MAX_SECRET = 16, 200

_bearer = HTTPBearer(
    auto_error=False, description="A key, or a desk's link: `Authorization: Bearer dl_...`"
)
Bearer = Annotated[HTTPAuthorizationCredentials | None, Depends(_bearer)]


@dataclass(frozen=True, slots=True)
class DeskUser:
    """A chat user at a desk.

    A member with their role, or a guest with a reader's rights.
    """

    access: Access
    desk: Desk
    link: DeskLink | None = None
    """The link that a guest came by."""

    @property
    def asker(self) -> str:
        """Who asks, as turns record it."""
        return self.access.caller.id

    @contextmanager
    def open(self) -> Iterator[DeskUser]:
        """Open the session that the route needs; a change is committed at the end."""
        with self.access.open() as access:
            desk = access.session.get(Desk, self.desk.id)
            if desk is None:
                raise NotFound("desk", self.desk.id)
            yield replace(self, access=access, desk=desk)

    @contextmanager
    def reading(self) -> Iterator[DeskUser]:
        """Open a session to read with."""
        with self.access.reading() as access:
            yield replace(self, access=access)

    def conversation(self, ref: str) -> Conversation:
        """Return a conversation of the user's own.

        Raises:
            NotFound: the user has no such conversation at this desk.
        """
        conversation = self.access.session.get(Conversation, ref)
        if (
            conversation is None
            or conversation.desk_id != self.desk.id
            or conversation.asker != self.asker
        ):
            raise NotFound("conversation", ref)
        return conversation

    def turn(self, ref: str) -> Turn:
        """Return a turn of the user's own conversations.

        Raises:
            NotFound: the user has no such turn at this desk.
        """
        turn = self.access.session.get(Turn, ref)
        if turn is None or turn.desk_id != self.desk.id or turn.asker != self.asker:
            raise NotFound("answer", ref)
        return turn


def link_secret(request: Request) -> str | None:
    """Return the secret of the link that a request comes with, if it comes with one."""
    secret = credentials_of(request).bearer
    return secret if secret is not None and secret.startswith(_LINK) else None


def find_guest(
    session: Session, request: Request, secret: str, desk: str, team: str | None = None
) -> tuple[DeskLink, Desk, Caller]:
    """Return the link, the desk that it opens, and the guest.

    Raises:
        ApiError: not-signed-in when the link does not open the desk, invalid without a guest's
            own secret.
    """
    link = session.scalar(select(DeskLink).where(DeskLink.secret_hash == hash_secret(secret)))
    record = None if link is None else session.get_one(Desk, link.desk_id)
    matches = record is not None and desk in (record.id, record.slug)
    if matches and record is not None and team is not None:
        named = session.scalar(select(Team.id).where((Team.id == team) | (Team.slug == team)))
        matches = named == record.team_id
    if link is None or record is None or not matches:
        raise _closed()
    state = link_state(link, published_settings(session, record))
    if state != LinkState.OPEN:
        raise _closed(state if _is_editor(session, request, record) else None)
    visitor = _visitor(request, session, record)
    if visitor is not None:
        return link, record, Caller(f"guest:{visitor}")
    guest = request.headers.get(GUEST_HEADER, "")
    if not _MIN_SECRET <= len(guest) <= _MAX_SECRET:
        raise ApiError(
            "invalid",
            "A guest needs a secret of their own.",
            field=GUEST_HEADER,
            advice=f"Send {_MIN_SECRET} random characters or more as {GUEST_HEADER}, "
            "the same with each request.",
        )
    name = hashlib.sha256(f"{link.id}:{guest}".encode()).hexdigest()[:24]
    return link, record, Caller(f"guest:{name}")


def _visitor(request: Request, session: Session, desk: Desk) -> str | None:
    """Return the visitor whose identity a request proves; None if it has none and needs none.

    Raises:
        ApiError: not-signed-in.
    """
    token = request.headers.get(VISITOR_HEADER, "")
    settings = published_settings(session, desk) or {}
    if not token and not settings.get("signed_visitors"):
        return None
    if not token:
        raise ApiError(
            "not-signed-in",
            "This chat is only open to visitors of the site that shows it.",
            advice=f"The site sends who they are as {VISITOR_HEADER}.",
        )
    runtime: Runtime = request.app.state.runtime
    try:
        if desk.visitor_key is None:
            raise VisitorRefused("The desk has no key that visitors are signed with.")
        return visitor_of(token, runtime.vault.open(desk.visitor_key), desk)
    except VisitorRefused as refused:
        raise ApiError(
            "not-signed-in",
            f"Who you are could not be verified. {refused}",
            advice="The site that shows this chat signs a new token.",
        ) from refused


def _closed(state: LinkState | None = None) -> ApiError:
    """Return the error of a link that does not work; only editors learn the state."""
    if state is None:
        return ApiError(
            "not-signed-in",
            "The link is not valid, or no longer valid.",
            advice="Ask whoever gave it to you for a new one.",
        )
    return ApiError(
        "not-signed-in",
        f"{state.reason} Guests only see that the link is not valid.",
        advice="Create a new link, or publish a version for anyone who has a link.",
    )


def _is_editor(session: Session, request: Request, desk: Desk) -> bool:
    """Return whether the browser is also signed in as an editor of the desk's team."""
    cookie = credentials_of(request).cookie
    sign_in = session.get(SignIn, hash_secret(cookie)) if cookie else None
    if sign_in is None or sign_in.expires_at <= now():
        return False
    member = select(Member.role).where(
        Member.team_id == desk.team_id, Member.person_id == sign_in.person_id
    )
    return session.scalar(member) in (Role.EDITOR, Role.OWNER)


class _DeskAccess:
    """A route's dependency: a chat user of the desk in the path."""

    def __init__(self, *, write: bool) -> None:
        self._write = write

    async def __call__(
        self, request: Request, team: str, desk: str, runtime: RuntimeDep, bearer: Bearer
    ) -> DeskUser:
        return await run_briefly(self._look_up, request, team, desk, runtime)

    def _look_up(self, request: Request, team: str, desk: str, runtime: Runtime) -> DeskUser:
        secret = link_secret(request)
        if secret is None:
            access = Require(Role.READER, write=self._write).look_up(request, team, runtime)
            with access.reading() as reading:
                return DeskUser(access, reading.scope.desk(desk))
        with runtime.records.reading() as session:
            link, record, guest = find_guest(session, request, secret, desk, team)
            note_guest(guest.id)
            note_team(record.team_id)
            record_use(runtime, link)
            team_row = session.get_one(Team, record.team_id)
            # A guest can pose as several, but not at several addresses.
            network = network_of(request.client.host if request.client else "")
            count_request(session, request, team_row, guest, f"{link.id}:{network}")
            access = Access(
                guest,
                team_row,
                Role.READER,
                runtime,
                request.state.request_id,
                writes=self._write,
            )
            return DeskUser(access, record, link)


User = Annotated[DeskUser, Depends(_DeskAccess(write=False))]
UserWrite = Annotated[DeskUser, Depends(_DeskAccess(write=True))]


def still_allowed(request: Request, user: DeskUser) -> bool:
    """Return whether a chat user's link, key or sign-in still opens the desk."""
    if user.link is None:
        return Renewal(request, user.access).still_allowed()
    secret = link_secret(request) or ""
    with user.access.runtime.records.reading() as session:
        try:
            find_guest(session, request, secret, user.desk.id, user.access.team.id)
        except ApiError:
            return False
        return True
