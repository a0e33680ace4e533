"""Answers that chat users follow, to be notified when they change."""

from __future__ import annotations

from fastapi import Request, Response
from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from fontanel.engine.curation.followed import Notify, follow_answer
from fontanel.engine.notices.mail import mails
from fontanel.errors import NotFound
from fontanel.records.ids import hash_secret
from fontanel.records.tables import FollowedAnswer
from fontanel.schemas import FollowCreated, FollowedOut, FollowIn, Page
from fontanel.service.auth.access import RuntimeDep
from fontanel.service.auth.desk_users import DeskUser, User, UserWrite
from fontanel.service.out.feeds import answer_feed, feed_response
from fontanel.service.out.followed import followed_out
from fontanel.service.problems import ApiError
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/desks/{desk}", "chat")
#: Feeds, which a secret in their address opens.
around = api_router(tag="chat")


@router.put("/turns/{turn}/follow", summary="Follow an answer")
def follow(turn: str, body: FollowIn, user: UserWrite) -> FollowCreated:
    """Get a notice when what it cites changes, and the answer with it.

    The address of its feed is shown once; following again makes a new one.
    """
    result = user.turn(turn)
    if result.outcome not in ("answered", "declined"):
        raise ApiError("conflict", "Only answers that say something can be followed.")
    session, settings = user.access.session, user.access.runtime.settings
    row, secret = follow_answer(
        session, result, user.asker, Notify(email=_email(user, wanted=body.email))
    )
    feed = f"{settings.origin}/api/v1/feeds/answers/{secret}"
    return FollowCreated(**followed_out(row).model_dump(), feed=feed)


def _email(user: DeskUser, *, wanted: bool) -> str:
    """Return the address that notices go to. Raises ApiError."""
    if not wanted:
        return ""
    person = user.access.caller.person
    if person is None:
        raise ApiError(
            "invalid", "Only members who are signed in get e-mail.", field="email",
            advice="Use the feed.",
        )  # fmt: skip
    if not mails(user.access.runtime.settings):
        raise ApiError(
            "conflict", "No mail server is set.", field="email",
            advice="The operator sets FONTANEL_SMTP_URL; or use the feed.",
        )  # fmt: skip
    return person.email


@router.get("/followed", summary="List the answers that you follow")
def list_followed(user: User) -> Page[FollowedOut]:
    """Last followed first."""
    rows = user.access.session.scalars(
        select(FollowedAnswer)
        .where(FollowedAnswer.desk_id == user.desk.id, FollowedAnswer.asker == user.asker)
        .order_by(FollowedAnswer.created_at.desc())
    )
    return Page(items=[followed_out(row) for row in rows])


@router.delete("/followed/{followed}", status_code=204, summary="Stop following an answer")
def unfollow(followed: str, user: UserWrite) -> None:
    """By its own id, or that of the answer. Its feed is no longer there."""
    own = delete(FollowedAnswer).where(
        FollowedAnswer.desk_id == user.desk.id,
        FollowedAnswer.asker == user.asker,
        (FollowedAnswer.id == followed) | (FollowedAnswer.turn_id == followed),
    )
    if not user.access.session.execute(own.returning(FollowedAnswer.id)).all():
        raise NotFound("followed answer", followed)


@around.get(
    "/feeds/answers/{secret}",
    summary="Read the changes of a followed answer as an Atom feed",
    response_class=Response,
    responses={200: {"content": {"application/atom+xml": {}}}, 304: {"description": "Unchanged"}},
)
def show_answer_feed(secret: str, request: Request, runtime: RuntimeDep) -> Response:
    """The secret in the address opens it."""
    with runtime.records.reading() as session:
        feed = answer_feed(_of_secret(session, secret), runtime.settings.origin)
    return feed_response(request, feed)


def _of_secret(session: Session, secret: str) -> FollowedAnswer:
    query = select(FollowedAnswer).where(FollowedAnswer.feed_hash == hash_secret(secret))
    row = session.scalar(query)
    if row is None:
        raise ApiError(
            "not-found", "There is no feed at this address.", advice="Follow the answer again."
        )
    return row
