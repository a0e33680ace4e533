"""Past answers that cite text which has changed since."""

from __future__ import annotations

from collections import defaultdict
from typing import Annotated

from fastapi import Query
from sqlalchemy import func

from fontanel.engine.trials.running import ASKER
from fontanel.records.tables import AnswerSource, Turn
from fontanel.schemas import ChangedAnswer, ChangedSource, Page
from fontanel.service.auth.access import TeamEditor
from fontanel.service.routers import api_router

router = api_router("/teams/{team}/changed-answers", "gaps")


@router.get("", summary="List past answers whose text has changed")
def list_changed_answers(
    access: TeamEditor,
    desk: str | None = None,
    *,
    contradicted: Annotated[
        bool, Query(description="Only where the text states another value, or is gone.")
    ] = False,
    offset: Annotated[int, Query(ge=0, le=1_000_000_000)] = 0,
    limit: Annotated[int, Query(ge=1, le=200)] = 50,
) -> Page[ChangedAnswer]:
    """Last changed first. Ask one again to see what is answered now."""
    last = func.max(AnswerSource.changed_at)
    query = (
        access.scope.select(Turn)
        .join(AnswerSource, AnswerSource.turn_id == Turn.id)
        .where(AnswerSource.change != "", Turn.asker.not_like(f"{ASKER}%"))
        .group_by(Turn.id)
        .order_by(last.desc(), Turn.id)
    )
    if contradicted:
        query = query.where(AnswerSource.change != "reworded")
    if desk is not None:
        query = query.where(Turn.desk_id == access.scope.desk(desk).id)
    turns = access.session.scalars(query.offset(offset).limit(limit + 1)).all()
    sources: dict[str, list[AnswerSource]] = defaultdict(list)
    rows = access.scope.select(AnswerSource).where(
        AnswerSource.turn_id.in_([turn.id for turn in turns]), AnswerSource.change != ""
    )
    for row in access.session.scalars(rows.order_by(AnswerSource.key)):
        sources[row.turn_id].append(row)
    return Page(
        items=[_out(turn, sources[turn.id]) for turn in turns[:limit]],
        next=str(offset + limit) if len(turns) > limit else None,
    )


def _out(turn: Turn, sources: list[AnswerSource]) -> ChangedAnswer:
    return ChangedAnswer(
        answer_id=turn.id,
        question=turn.question,
        text=turn.text,
        desk_id=turn.desk_id,
        asked_at=turn.created_at,
        changed_at=max(one.changed_at for one in sources),
        sources=[
            ChangedSource(
                document_id=one.document_id,
                title=one.title,
                change=one.change,
                old_text=one.quote,
                new_text=one.new_text,
                revision_id=one.checked_id,
            )
            for one in sources
        ],
    )
