"""Chat users at a desk: members, and guests who came by a link."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import partial
from typing import Annotated

from fastapi import Depends, Query, Request, Response
from fastapi.security import HTTPBearer
from fastapi.security.http import HTTPAuthorizationCredentials
from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.engine.answering.asking import Asked, Recorded
from fontanel.engine.answering.targets import desk_target, version_of
from fontanel.engine.documents.readings import reading_text
from fontanel.records.database import writing
from fontanel.records.ids import hash_secret, new_id
from fontanel.records.scope import NotInScope, TeamScope
from fontanel.records.tables import (
    Conversation,
    Desk,
    DeskLink,
    Feedback,
    Role,
    Team,
    Turn,
    Use,
    now,
)
from fontanel.schemas import (
    AnswerOut,
    ContextOut,
    ConversationChange,
    ConversationOut,
    DeskAskIn,
    DeskFace,
    DeskSettings,
    FeedbackIn,
    FeedbackOut,
    LocatorOut,
    Page,
    TurnOut,
)
from fontanel.service.auth.access import (
    COOKIE,
    Access,
    Caller,
    Require,
    WorkshopDep,
    caller_of,
    credentials_of,
)
from fontanel.service.auth.rate_limits import Pace
from fontanel.service.desk_settings import checked, merged, reachable_kbs, settings_of
from fontanel.service.out import conversation_lists as conversations
from fontanel.service.out.turns import answer_out, feedback_out, turns_of
from fontanel.service.problems import ProblemError
from fontanel.service.routers import Number, api_router
from fontanel.service.streaming.answers import STREAMED, Asker, respond, respond_again, sent_before
from fontanel.service.streaming.renewal import Renewal

router = api_router(tag="chat")
AT_DESK = "/teams/{team}/desks/{desk}"

#: A guest's own secret: who has it sees the guest's conversations.
GUEST_HEADER = "X-Fontanel-Guest"
_bearer = HTTPBearer(
    auto_error=False, description="A key, or a desk's link: `Authorization: Bearer dl_...`"
)
#: How many guests of a link may ask at full pace at once.
_GUESTS = 30
#: Characters around a quote that a chat user may read.
_AROUND = 1200


@dataclass(frozen=True, slots=True)
class AtDesk:
    """A chat user at a desk: a member with the rights of their role, or a guest with those of the link."""

    access: Access
    desk: Desk
    link: DeskLink | None = None

    @property
    def asker(self) -> str:
        return self.access.caller.id

    def conversation(self, ref: str) -> Conversation:
        """The asker's own. Raises NotInScope."""
        found = self.access.session.get(Conversation, ref)
        if found is None or found.desk_id != self.desk.id or found.asker != self.asker:
            raise NotInScope("conversation", ref)
        return found

    def turn(self, ref: str) -> Turn:
        """Of the asker's own conversations. Raises NotInScope."""
        found = self.access.session.get(Turn, ref)
        if found is None or found.desk_id != self.desk.id or found.asker != self.asker:
            raise NotInScope("answer", ref)
        return found


def _guest(
    request: Request, session: Session, secret: str, desk: str, team: str | None
) -> tuple[DeskLink, Desk, Caller]:
    """The desk that a link opens, for this guest. Raises ProblemError(not-signed-in)."""
    refused = ProblemError(
        "not-signed-in",
        "The link is not valid, or not any more.",
        advice="Ask whoever gave it to you for a new one.",
    )
    link = session.scalar(select(DeskLink).where(DeskLink.secret_hash == hash_secret(secret)))
    if (
        link is None
        or link.revoked_at is not None
        or (link.expires_at and link.expires_at <= now())
    ):
        raise refused
    found = session.get_one(Desk, link.desk_id)
    if desk not in (found.id, found.slug) or found.published is None:
        raise refused
    if (
        team is not None
        and session.scalar(select(Team.id).where((Team.id == team) | (Team.slug == team)))
        != found.team_id
    ):
        raise refused
    version = version_of(session, found, found.published)
    if version is None or version.settings.get("audience") != "link":
        raise refused
    guest = request.headers.get(GUEST_HEADER, "")
    if not 16 <= len(guest) <= 200:
        raise ProblemError(
            "invalid",
            "A guest needs a secret of their own.",
            field=GUEST_HEADER,
            advice=f"Send 16 random characters or more as {GUEST_HEADER}, the same with each request.",
        )
    name = hashlib.sha256(f"{link.id}:{guest}".encode()).hexdigest()[:24]
    return link, found, Caller(f"guest:{name}", None, None)


def _still_allowed(request: Request, user: AtDesk) -> bool:
    """Whether a chat user's link, key or sign-in still opens the desk."""
    if user.link is None:
        return Renewal(request, user.access).still_allowed()
    secret = credentials_of(request).bearer or ""
    with user.access.workshop.sessions() as session:
        try:
            _guest(request, session, secret, user.desk.id, user.access.team.id)
        except ProblemError:
            return False
        return True


@contextmanager
def _entered(
    request: Request,
    team: str,
    desk: str,
    workshop: WorkshopDep,
    bearer: HTTPAuthorizationCredentials | None,
    write: bool,
) -> Iterator[AtDesk]:
    if bearer is not None and bearer.credentials.startswith("dl_"):
        with writing(workshop.sessions) if write else workshop.sessions() as session:
            link, found, caller = _guest(request, session, bearer.credentials, desk, team)
            owner = session.get_one(Team, found.team_id)
            scope = TeamScope(session, owner.id)
            access = Access(
                caller, owner, Role.READER, session, scope, workshop, request.state.request_id
            )
            yield AtDesk(access, found, link)
        return
    caller = caller_of(request, workshop, bearer, request.cookies.get(COOKIE))
    with Require(Role.READER, write=write).given(request, team, caller, workshop) as access:
        yield AtDesk(access, access.scope.desk(desk))


Bearer = Annotated[HTTPAuthorizationCredentials | None, Depends(_bearer)]


def _reading(
    request: Request, team: str, desk: str, workshop: WorkshopDep, bearer: Bearer
) -> Iterator[AtDesk]:
    with _entered(request, team, desk, workshop, bearer, write=False) as entered:
        yield entered


def _changing(
    request: Request, team: str, desk: str, workshop: WorkshopDep, bearer: Bearer
) -> Iterator[AtDesk]:
    with _entered(request, team, desk, workshop, bearer, write=True) as entered:
        yield entered


User = Annotated[AtDesk, Depends(_reading)]
UserWrite = Annotated[AtDesk, Depends(_changing)]


@router.get("/chat/{desk}", summary="Show a desk to a chat user")
def show_face(desk: str, request: Request, workshop: WorkshopDep, bearer: Bearer) -> DeskFace:
    """By its id. For guests with a link, and for members of its team."""
    with workshop.sessions() as session:
        if bearer is not None and bearer.credentials.startswith("dl_"):
            _, found, _ = _guest(request, session, bearer.credentials, desk, None)
            return _face(session, found)
        caller = caller_of(request, workshop, bearer, request.cookies.get(COOKIE))
        named = session.get(Desk, desk)
        if named is None:
            raise NotInScope("desk", desk)
    try:
        with Require(Role.READER).given(request, named.team_id, caller, workshop) as access:
            return _face(access.session, access.scope.desk(desk))
    except NotInScope as error:
        raise NotInScope("desk", desk) from error


def _face(session: Session, desk: Desk) -> DeskFace:
    version = None if desk.published is None else version_of(session, desk, desk.published)
    if version is None:
        raise ProblemError(
            "not-found", "The desk is not published yet.", advice="An editor publishes it."
        )
    settings = DeskSettings.model_validate(version.settings)
    return DeskFace(
        id=desk.id,
        slug=desk.slug,
        team=session.get_one(Team, desk.team_id).slug,
        name=desk.name,
        purpose=settings.purpose,
        greeting=settings.greeting,
        first_questions=settings.first_questions,
        symbol=settings.symbol,
        colour=settings.colour,
        frame_origins=settings.frame_origins,
    )


@router.get("/teams/{team}/chat-desks", summary="List the desks you can ask")
def list_faces(
    team: str, request: Request, workshop: WorkshopDep, bearer: Bearer
) -> Page[DeskFace]:
    """The published ones, for members."""
    caller = caller_of(request, workshop, bearer, request.cookies.get(COOKIE))
    with Require(Role.READER).given(request, team, caller, workshop) as access:
        query = access.scope.select(Desk).where(Desk.published.is_not(None)).order_by(Desk.name)
        return Page(
            items=[
                _face(access.session, desk)
                for desk in access.session.scalars(query).all()
                if access.scope.holds(desk)
            ]
        )


@router.post(AT_DESK + "/ask", summary="Ask a desk", response_model=AnswerOut, responses=STREAMED)
async def ask_desk(body: DeskAskIn, user: User, request: Request) -> Response:
    """By its published version. Editors may ask the draft, an earlier version, or with other settings for one question."""
    access, desk = user.access, user.desk
    own = body.draft or body.version is not None or body.settings is not None
    if own and access.role == Role.READER:
        raise ProblemError(
            "not-allowed", "Only editors ask drafts, earlier versions, or with other settings."
        )
    if body.conversation_id is not None:
        user.conversation(body.conversation_id)
    asking, sessions, allowed = (
        access.workshop.asking,
        access.workshop.sessions,
        access.scope.kb_ids,
    )

    def out(turn: Turn) -> AnswerOut:
        with sessions() as session:
            link_tags = tuple((turn.settings or {}).get("link_tags", ()))
            return _for_user(answer_out(session, turn, link_tags), user.link is not None)

    access.session.rollback()
    sent, before = await sent_before(request, asking, user.asker, body)
    if before is not None:
        return respond_again(request, out(before))
    if user.link is not None:
        pace: Pace = request.app.state.pace
        pace.check(user.asker, user.link.per_minute)
        # A guest can be as many as they like; the link's own bound holds for all of them.
        pace.check(user.link.id, user.link.per_minute * _GUESTS)
    if desk.published is None and not body.draft:
        raise ProblemError(
            "conflict",
            "The desk is not published yet.",
            advice="An editor publishes it, or asks the draft.",
        )
    number = None if body.draft else body.version if body.version is not None else desk.published
    stored = settings_of(access, desk, number)
    if body.settings:
        stored, number = checked(access, merged(stored, body.settings)), None
    target = desk_target(desk, stored, number, reachable_kbs(access))
    if not target.parts:
        raise ProblemError(
            "conflict",
            "The desk has no knowledge base to answer from.",
            advice="An editor names one.",
        )
    asked = Asked(
        body.question, user.asker, access.request_id, body.conversation_id, sent.key, sent.body_hash
    )
    access.session.rollback()

    def finish(recorded: Recorded) -> AnswerOut:
        return out(recorded.turn)

    asker = Asker(access.workshop.changes, partial(_still_allowed, request, user))
    return await respond(
        request,
        access.request_id,
        lambda gone: asking.ask(target, asked, allowed, gone),
        finish,
        asker,
    )


def _for_user(answer: AnswerOut, guest: bool) -> AnswerOut:
    """Guests are told nothing of what an answer cost."""
    return (
        answer.model_copy(update={"cost": 0.0, "tokens_read": 0, "tokens_written": 0})
        if guest
        else answer
    )


@router.get(AT_DESK + "/conversations", summary="List your conversations at a desk")
def list_conversations(
    user: User, text: str | None = None, limit: Annotated[int, Query(ge=1, le=200)] = 50
) -> Page[ConversationOut]:
    """Your own, the latest first; with `text` those that speak of it."""
    own = (Conversation.desk_id == user.desk.id, Conversation.asker == user.asker)
    return conversations.listed(user.access.session, *own, text=text, limit=limit)


@router.get(AT_DESK + "/conversations/{conversation}", summary="Show a conversation at a desk")
def show_conversation(conversation: str, user: User) -> Page[TurnOut]:
    """Oldest first."""
    return Page(items=turns_of(user.access.session, user.conversation(conversation)))


@router.patch(AT_DESK + "/conversations/{conversation}", summary="Rename a conversation at a desk")
def rename_conversation(
    conversation: str, body: ConversationChange, user: UserWrite
) -> ConversationOut:
    return conversations.renamed(user.access.session, user.conversation(conversation), body.title)


@router.delete(
    AT_DESK + "/conversations/{conversation}",
    status_code=204,
    summary="Delete a conversation at a desk",
)
def delete_conversation(conversation: str, user: UserWrite) -> None:
    conversations.deleted(user.access.session, user.conversation(conversation))


@router.get(
    AT_DESK + "/conversations/{conversation}/export", summary="Export a conversation at a desk"
)
def export_conversation(
    conversation: str, user: User, form: conversations.Form = "markdown"
) -> Response:
    """As Markdown with its sources as footnotes, or as JSON."""
    return conversations.exported(user.access.session, user.conversation(conversation), form)


@router.put(AT_DESK + "/turns/{turn}/feedback", summary="Say whether an answer helped")
def give_feedback(turn: str, body: FeedbackIn, user: UserWrite) -> FeedbackOut:
    """On the answer, or with `citation` on one of its citations."""
    session = user.access.session
    found = user.turn(turn)
    if body.citation and body.citation not in {citation["number"] for citation in found.citations}:
        raise ProblemError(
            "invalid", f"The answer has no citation {body.citation}.", field="citation"
        )
    same = select(Feedback).where(
        Feedback.turn_id == found.id,
        Feedback.citation == body.citation,
        Feedback.asker == user.asker,
    )
    row = session.scalar(same)
    if row is None:
        row = Feedback(
            id=new_id("fb"),
            team_id=found.team_id,
            desk_id=found.desk_id,
            turn_id=found.id,
            citation=body.citation,
            asker=user.asker,
            created_at=now(),
        )
        session.add(row)
    row.helpful, row.reason, row.comment = body.helpful, body.reason, body.comment
    if body.citation == 0:
        use = session.scalar(select(Use).where(Use.turn_id == found.id))
        if use is not None:
            use.helpful = body.helpful
    session.commit()
    return feedback_out(row)


@router.get(AT_DESK + "/turns/{turn}/citations/{number}", summary="Read a citation in its place")
def citation_context(turn: str, number: Number, user: User) -> ContextOut:
    """The quote with the text around it, for chat users who have no way to the document itself."""
    found = user.turn(turn)
    cited = next((citation for citation in found.citations if citation["number"] == number), None)
    if cited is None:
        raise NotInScope("citation", str(number))
    text = reading_text(
        user.access.session, user.access.workshop.blobs, found.team_id, cited["revision_id"]
    )
    if text is None:
        raise ProblemError("not-found", "The document is not there any more.")
    start, end = max(0, cited["start"] - _AROUND), min(len(text), cited["end"] + _AROUND)
    # Whole lines, where one ends near by.
    start = text.find("\n", start, cited["start"]) + 1 or start
    end = max(text.rfind("\n", cited["end"], end), cited["end"]) if end < len(text) else end
    return ContextOut(
        title=cited["title"],
        locator=LocatorOut(**cited["locator"]),
        text=text[start:end],
        quote_start=cited["start"] - start,
        quote_end=cited["end"] - start,
        begins=start == 0,
        ends=end == len(text),
    )
