"""Turns and feedback as the API returns them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.records.scope import TeamScope
from fontanel.records.tables import Conversation, Document, DocumentTag, Feedback, Turn
from fontanel.schemas import (
    AnswerOut,
    FeedbackOut,
    OfferedLink,
    TurnOut,
)
from fontanel.service.out.answers import (
    stored_approval,
    stored_choices,
    stored_citations,
    stored_evidence,
    stored_statements,
)


def feedback_out(row: Feedback) -> FeedbackOut:
    return FeedbackOut(
        turn_id=row.turn_id,
        citation=row.citation,
        helpful=row.helpful,
        reason=row.reason,
        comment=row.comment,
        reply=row.reply,
        replied_by=row.replied_by,
        created_at=row.created_at,
    )


def feedback_by_turn(session: Session, turns: Sequence[Turn]) -> dict[str, list[FeedbackOut]]:
    results: dict[str, list[FeedbackOut]] = defaultdict(list)
    requested = (
        select(Feedback)
        .where(Feedback.turn_id.in_([turn.id for turn in turns]))
        .order_by(Feedback.citation)
    )
    for row in session.scalars(requested):
        results[row.turn_id].append(feedback_out(row))
    return results


def turn_out(session: Session, turn: Turn, feedback: list[FeedbackOut]) -> TurnOut:
    """Return a turn with its feedback."""
    link_tags = tuple((turn.settings or {}).get("link_tags", ()))
    return TurnOut(
        id=turn.id,
        number=turn.number,
        state=turn.state.value,
        question=turn.question,
        standalone=turn.standalone,
        outcome=turn.outcome,
        text=turn.text,
        citations=stored_citations(turn.citations),
        evidence=stored_evidence(turn.evidence),
        sufficiency=turn.sufficiency,
        composer=turn.composer,
        approval=stored_approval(turn.approved),
        choices=stored_choices(turn.choices),
        note=turn.note,
        statements=stored_statements(turn.statements),
        links=links_of(session, turn, link_tags),
        feedback=feedback,
        seconds=turn.seconds,
        request_id=turn.request_id,
        created_at=turn.created_at,
    )


def turns_of(session: Session, conversation: Conversation) -> list[TurnOut]:
    """Oldest first."""
    query = select(Turn).where(Turn.conversation_id == conversation.id).order_by(Turn.number)
    turns = session.scalars(query).all()
    feedback = feedback_by_turn(session, turns)
    return [turn_out(session, turn, feedback[turn.id]) for turn in turns]


def answer_out(session: Session, turn: Turn, link_tags: tuple[str, ...] = ()) -> AnswerOut:
    """Return a turn as an answer."""
    return AnswerOut(
        conversation_id=turn.conversation_id,
        turn_id=turn.id,
        question=turn.question,
        standalone=turn.standalone,
        outcome=turn.outcome,
        text=turn.text,
        citations=stored_citations(turn.citations),
        evidence=stored_evidence(turn.evidence),
        sufficiency=round(turn.sufficiency, 4),
        composer=turn.composer,
        approval=stored_approval(turn.approved),
        choices=stored_choices(turn.choices),
        note=turn.note,
        statements=stored_statements(turn.statements),
        links=links_of(session, turn, link_tags),
        desk_id=turn.desk_id,
        desk_version=turn.desk_version,
        tokens_read=turn.tokens_read,
        tokens_written=turn.tokens_written,
        cost=turn.cost,
        seconds=turn.seconds,
        request_id=turn.request_id,
    )


def links_of(session: Session, turn: Turn, tags: tuple[str, ...]) -> list[OfferedLink]:
    """Return the distinct links in these tags of the cited documents."""
    cited = [citation["document_id"] for citation in turn.citations]
    if not tags or not cited:
        return []
    scope = TeamScope(session, turn.team_id)
    rows: Any = session.execute(
        scope.select(DocumentTag)
        .join(Document, Document.key == DocumentTag.document_key)
        .where(Document.id.in_(cited), DocumentTag.tag.in_(tags))
        .with_only_columns(Document.id, Document.title, DocumentTag.tag, DocumentTag.value)
    ).all()
    results: dict[str, OfferedLink] = {}
    for _, title, tag, value in sorted(rows, key=lambda row: cited.index(row[0])):
        if value.startswith(("https://", "http://")):
            results.setdefault(value, OfferedLink(tag=tag, url=value, title=title))
    return list(results.values())
