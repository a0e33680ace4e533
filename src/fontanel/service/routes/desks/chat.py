"""Chat at a desk, for members and for guests with a link."""

from __future__ import annotations

from functools import partial
from typing import Annotated

from fastapi import Query, Request, Response
from sqlalchemy.orm import Session

from fontanel.engine.answering.asking import Asked
from fontanel.engine.answering.links import published_settings
from fontanel.engine.answering.second import version_for
from fontanel.engine.answering.targets import Target, desk_target, version_of
from fontanel.engine.documents.readings import reading_text
from fontanel.engine.gaps.feedback import store_feedback
from fontanel.engine.runtime.runtime import Runtime
from fontanel.errors import NotFound
from fontanel.records.tables import (
    Conversation,
    Desk,
    DeskLink,
    Role,
    Team,
    Turn,
)
from fontanel.schemas import (
    AnswerOut,
    ContextOut,
    ConversationChange,
    ConversationOut,
    DeskAskIn,
    DeskSettings,
    FeedbackIn,
    FeedbackOut,
    LocatorOut,
    Page,
    PublicDesk,
    TurnOut,
)
from fontanel.service.auth.access import (
    Access,
    Reader,
    Require,
    RuntimeDep,
    count_question,
    record_use,
)
from fontanel.service.auth.desk_users import (
    Bearer,
    DeskUser,
    User,
    UserWrite,
    find_guest,
    link_secret,
    still_allowed,
)
from fontanel.service.auth.rate_limits import Pace, network_of
from fontanel.service.desk_settings import (
    check_settings,
    merge_settings,
    reachable_kb_ids,
    settings_of,
)
from fontanel.service.out import conversation_lists as conversations
from fontanel.service.out.turns import answer_out, feedback_out, turns_of
from fontanel.service.problems import ApiError
from fontanel.service.routers import Number, api_router
from fontanel.service.streaming.answers import (
    STREAMED,
    Asker,
    answer_key,
    earlier_turn,
    respond,
    respond_again,
)
from fontanel.service.threads import run_briefly

router = api_router(tag="chat")
AT_DESK = "/teams/{team}/desks/{desk}"

#: How many guests of a link may ask at full pace at once.
_GUESTS = 30
#: Characters around a quote that a chat user may read.
_AROUND = 1200


@router.get("/chat/{desk}", summary="Show a desk to a chat user")
async def show_public_desk(
    desk: str, request: Request, runtime: RuntimeDep, bearer: Bearer
) -> PublicDesk:
    """By its id. For guests with a link, and for members of its team."""
    return await run_briefly(_public_desk_of, request, runtime, desk)


def _public_desk_of(request: Request, runtime: Runtime, ref: str) -> PublicDesk:
    secret = link_secret(request)
    with runtime.records.reading() as session:
        if secret is not None:
            link, desk, _ = find_guest(session, request, secret, ref)
            record_use(runtime, link)
            return _public_desk(session, desk)
        named = session.get(Desk, ref)
        team_id = named.team_id if named is not None else ""
    try:
        access = Require(Role.READER).look_up(request, team_id, runtime)
        with access.reading() as reading:
            return _public_desk(reading.session, reading.scope.desk(ref))
    except NotFound as error:
        raise NotFound("desk", ref) from error


def _public_desk(session: Session, desk: Desk) -> PublicDesk:
    published = published_settings(session, desk)
    if published is None:
        raise ApiError(
            "not-found", "The desk is not published yet.", advice="An editor publishes it."
        )
    settings = DeskSettings.model_validate(published)
    return PublicDesk(
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
def list_public_desks(access: Reader) -> Page[PublicDesk]:
    """The published ones, for members."""
    query = access.scope.select(Desk).where(Desk.published.is_not(None)).order_by(Desk.name)
    desks = [desk for desk in access.session.scalars(query).all() if access.scope.may_reach(desk)]
    return Page(items=[_public_desk(access.session, desk) for desk in desks])


@router.post(AT_DESK + "/ask", summary="Ask a desk", response_model=AnswerOut, responses=STREAMED)
async def ask_desk(body: DeskAskIn, user: User, request: Request) -> Response:
    """Ask its published version.

    Editors may ask the draft, an earlier version, or with other settings for one question.
    """
    access, asking = user.access, user.access.runtime.asking
    await run_briefly(_check_question, user, body)
    asker = Asker(
        request, access.request_id, access.runtime.watchers, partial(still_allowed, request, user)
    )
    sent = answer_key(request, body)
    if earlier := await earlier_turn(request, asking, user.asker, sent):
        return respond_again(asker, await run_briefly(_answer_for, user, earlier))
    if user.link is not None:
        _check_pace(request, user.asker, user.link)
    target = await run_briefly(_target, user, body)
    await run_briefly(count_question, request, access)
    asked = Asked(
        question=body.question,
        asker=user.asker,
        link_id=None if user.link is None else user.link.id,
        request_id=access.request_id,
        conversation_id=body.conversation_id,
        key=sent.key,
        body_hash=sent.body_hash,
    )
    return await respond(
        asker,
        lambda cancelled: asking.ask(target, asked, access.kb_ids, cancelled),
        lambda recorded: _answer_for(user, recorded.turn),
    )


def _check_pace(request: Request, guest: str, link: DeskLink) -> None:
    """Count a guest's question.

    A guest can pose as several: one address has the pace of one guest, and all together that of
    `_GUESTS`.

    Raises:
        ApiError: too-many-attempts.
    """
    pace: Pace = request.app.state.pace
    address = network_of(request.client.host if request.client else "")
    pace.check(guest, link.per_minute)
    pace.check(f"{link.id}:{address}", link.per_minute)
    pace.check(link.id, link.per_minute * _GUESTS)


def _check_question(user: DeskUser, body: DeskAskIn) -> None:
    own = body.draft or body.version is not None or body.settings is not None
    if own and user.access.role == Role.READER:
        raise ApiError(
            "not-allowed", "Only editors ask drafts, earlier versions, or with other settings."
        )
    if body.conversation_id is not None:
        with user.reading() as reading:
            reading.conversation(body.conversation_id)


def _target(user: DeskUser, body: DeskAskIn) -> Target:
    desk = user.desk
    if desk.published is None and not body.draft:
        raise ApiError(
            "conflict",
            "The desk is not published yet.",
            advice="An editor publishes it, or asks the draft.",
        )
    with user.access.reading() as access:
        if body.draft:
            number = None
        else:
            number = _version_for(access, user) if body.version is None else body.version
        stored = settings_of(access, desk, number)
        if body.settings:
            stored = check_settings(access, merge_settings(stored, body.settings))
            number = None
        target = desk_target(desk, stored, number, reachable_kb_ids(access))
    if not target.kbs:
        raise ApiError(
            "conflict",
            "The desk has no knowledge base to answer from.",
            advice="An editor names one.",
        )
    return target


def _version_for(access: Access, user: DeskUser) -> int | None:
    """Return the published version that an asker gets; guests none that is for members only."""
    number = version_for(user.desk, user.asker)
    if number is None or number == user.desk.published or user.link is None:
        return number
    second = version_of(access.session, user.desk, number)
    open_to_guests = second is not None and second.settings.get("audience") == "link"
    return number if open_to_guests else user.desk.published


def _answer_for(user: DeskUser, turn: Turn) -> AnswerOut:
    """Return a turn as its answer; guests do not see its cost."""
    link_tags = tuple((turn.settings or {}).get("link_tags", ()))
    with user.access.runtime.records.reading() as session:
        answer = answer_out(session, turn, link_tags)
    if user.link is None:
        return answer
    return answer.model_copy(update={"cost": 0.0, "tokens_read": 0, "tokens_written": 0})


@router.get(AT_DESK + "/conversations", summary="List your conversations at a desk")
def list_conversations(
    user: User, text: str | None = None, limit: Annotated[int, Query(ge=1, le=200)] = 50
) -> Page[ConversationOut]:
    """Your own, latest first; with `text`, those that contain it."""
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
    result = user.turn(turn)
    if body.citation and body.citation not in {citation["number"] for citation in result.citations}:
        raise ApiError("invalid", f"The answer has no citation {body.citation}.", field="citation")
    row = store_feedback(
        user.access.session,
        result,
        user.asker,
        helpful=body.helpful,
        citation=body.citation,
        reason=body.reason,
        comment=body.comment,
    )
    return feedback_out(row)


@router.get(AT_DESK + "/turns/{turn}/citations/{number}", summary="Show a citation in its context")
def citation_context(turn: str, number: Number, user: User) -> ContextOut:
    """The quote with its context, for users without access to the document."""
    result = user.turn(turn)
    cited = next((citation for citation in result.citations if citation["number"] == number), None)
    if cited is None:
        raise NotFound("citation", str(number))
    text = reading_text(
        user.access.session, user.access.runtime.blobs, result.team_id, cited["revision_id"]
    )
    if text is None:
        raise ApiError("not-found", "The document is not there any more.")
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
