"""Gaps: questions that were not answered well, in groups."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query
from sqlalchemy import func

from fontanel.engine.gaps.groups import find_gap, take_out
from fontanel.errors import Conflict, NotFound
from fontanel.records.tables import Gap, GapKind, GapQuestion, GapState, Team, now
from fontanel.schemas import (
    GapChange,
    GapCommentIn,
    GapDetail,
    GapKindName,
    GapOut,
    GapStateName,
    Page,
)
from fontanel.service.auth.access import Access, TeamEditor, TeamEditorWrite
from fontanel.service.out.gaps import gap_detail, gaps_out
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/gaps", "gaps")

#: The maximum number of comments of a gap.
_MAX_COMMENTS = 200


@router.get("", summary="List gaps")
def list_gaps(
    access: TeamEditor,
    state: GapStateName = "open",
    kind: GapKindName | None = None,
    desk: str | None = None,
    assignee: str | None = None,
    text: Annotated[str | None, Query(description="Only those whose question contains it.")] = None,
    offset: Annotated[int, Query(ge=0, le=1_000_000_000)] = 0,
    limit: Annotated[int, Query(ge=1, le=200)] = 50,
) -> Page[GapOut]:
    """Most often asked first; with `kind` or `desk`, those that have such questions."""
    count = func.count(GapQuestion.key)
    query = (
        access.scope.select(Gap)
        .join(GapQuestion, GapQuestion.gap_id == Gap.id)
        .where(Gap.state == GapState(state))
        .group_by(Gap.id)
        .order_by(count.desc(), func.max(GapQuestion.asked_at).desc(), Gap.id)
    )
    if kind is not None:
        query = query.where(GapQuestion.kind == GapKind(kind))
    if desk is not None:
        query = query.where(GapQuestion.desk_id == access.scope.desk(desk).id)
    if assignee is not None:
        query = query.where(Gap.assignee == assignee)
    if text:
        query = query.where(Gap.question.icontains(text, autoescape=True))
    rows = access.session.scalars(query.offset(offset).limit(limit + 1)).all()
    more = str(offset + limit) if len(rows) > limit else None
    return Page(items=gaps_out(access.session, rows[:limit]), next=more)


@router.get("/{gap}", summary="Show a gap")
def show_gap(gap: str, access: TeamEditor) -> GapDetail:
    """Its questions, the passages that came nearest, and what people said about it."""
    return _detail(access, find_gap(access.scope, gap))


@router.patch("/{gap}", summary="Assign, resolve or open a gap")
def change_gap(gap: str, body: GapChange, access: TeamEditorWrite) -> GapDetail:
    """It opens automatically when one of its questions is asked again and not answered well."""
    row = find_gap(access.scope, gap)
    if body.assignee is not None:
        row.assignee = body.assignee
    if body.state is not None:
        row.state = GapState(body.state)
        resolved = row.state == GapState.RESOLVED
        row.resolution = (body.resolution or "other") if resolved else ""
        row.resolved_by = access.caller.name if resolved else ""
        row.answer = None
    row.changed_at = now()
    access.session.flush()
    return _detail(access, row)


@router.post("/{gap}/comments", status_code=201, summary="Comment on a gap")
def comment_on_gap(gap: str, body: GapCommentIn, access: TeamEditorWrite) -> GapDetail:
    row = find_gap(access.scope, gap)
    if len(row.comments) >= _MAX_COMMENTS:
        raise Conflict(f"The gap has {_MAX_COMMENTS} comments, the maximum.")
    comment = {"author": access.caller.name, "text": body.text, "at": now().isoformat()}
    row.comments = [*row.comments, comment]
    access.session.flush()
    return _detail(access, row)


@router.post("/{gap}/questions/{turn}/take-out", summary="Take a question out of a gap")
def take_question_out(gap: str, turn: str, access: TeamEditorWrite) -> GapDetail:
    """It asks for something else: it becomes a gap of its own, which is returned."""
    row = find_gap(access.scope, gap)
    query = access.scope.select(GapQuestion).where(GapQuestion.gap_id == row.id)
    question = access.session.scalar(query.where(GapQuestion.turn_id == turn))
    if question is None:
        raise NotFound("question of this gap", turn)
    if len(access.session.scalars(query).all()) == 1:
        raise Conflict("It is the only question of this gap.")
    return _detail(access, take_out(access.session, question))


def _detail(access: Access, gap: Gap) -> GapDetail:
    return gap_detail(access.session, gap, access.session.get_one(Team, access.team.id))
