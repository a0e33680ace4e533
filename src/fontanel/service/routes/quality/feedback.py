"""The feedback of chat users, and what is done about it."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query

from fontanel.errors import NotFound
from fontanel.records.tables import Feedback, Team, Turn
from fontanel.schemas import FeedbackChange, FeedbackItem, Page
from fontanel.schemas.turns import FeedbackReason
from fontanel.service.auth.access import TeamEditor, TeamEditorWrite
from fontanel.service.out.gaps import feedback_items
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/feedback", "feedback")


@router.get("", summary="List feedback")
def list_feedback(
    access: TeamEditor,
    *,
    helpful: bool = False,
    handled: bool | None = None,
    desk: str | None = None,
    reason: FeedbackReason | None = None,
    assignee: str | None = None,
    offset: Annotated[int, Query(ge=0, le=1_000_000_000)] = 0,
    limit: Annotated[int, Query(ge=1, le=200)] = 50,
) -> Page[FeedbackItem]:
    """Newest first; by default what was marked as unhelpful."""
    query = access.scope.select(Feedback).join(Turn, Turn.id == Feedback.turn_id)
    query = query.where(Feedback.helpful == helpful)
    if handled is not None:
        query = query.where(Feedback.handled == handled)
    if desk is not None:
        query = query.where(Feedback.desk_id == access.scope.desk(desk).id)
    if reason is not None:
        query = query.where(Feedback.reason == reason)
    if assignee is not None:
        query = query.where(Feedback.assignee == assignee)
    query = query.order_by(Feedback.created_at.desc(), Feedback.id)
    rows = access.session.scalars(query.offset(offset).limit(limit + 1)).all()
    team = access.session.get_one(Team, access.team.id)
    return Page(
        items=feedback_items(access.session, rows[:limit], team),
        next=str(offset + limit) if len(rows) > limit else None,
    )


@router.patch("/{feedback}", summary="Assign, handle or answer feedback")
def change_feedback(feedback: str, body: FeedbackChange, access: TeamEditorWrite) -> FeedbackItem:
    """The asker sees the reply below the answer."""
    row = access.session.scalar(access.scope.select(Feedback).where(Feedback.id == feedback))
    if row is None:
        raise NotFound("feedback", feedback)
    if body.handled is not None:
        row.handled = body.handled
    if body.assignee is not None:
        row.assignee = body.assignee
    if body.reply is not None:
        row.reply = body.reply
        row.replied_by = access.caller.name if body.reply else ""
    access.session.flush()
    team = access.session.get_one(Team, access.team.id)
    return feedback_items(access.session, [row], team)[0]
