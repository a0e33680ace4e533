"""Turns and what was said of them, as the API gives them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.records.desk_tables import Conversation, Feedback, Turn
from fontanel.schemas import FeedbackOut, TurnOut
from fontanel.service.streaming import links_of


def feedback_out(row: Feedback) -> FeedbackOut:
    return FeedbackOut(
        turn_id=row.turn_id, citation=row.citation, helpful=row.helpful, reason=row.reason, comment=row.comment,
        created_at=row.created_at,
    )  # fmt: skip


def feedback_by_turn(session: Session, turns: Sequence[Turn]) -> dict[str, list[FeedbackOut]]:
    found: dict[str, list[FeedbackOut]] = defaultdict(list)
    wanted = select(Feedback).where(Feedback.turn_id.in_([turn.id for turn in turns])).order_by(Feedback.citation)
    for row in session.scalars(wanted):
        found[row.turn_id].append(feedback_out(row))
    return found


def turn_out(session: Session, turn: Turn, feedback: list[FeedbackOut]) -> TurnOut:
    link_tags = tuple((turn.settings or {}).get("link_tags", ()))
    return TurnOut.model_validate(
        {
            **{name: getattr(turn, name) for name in TurnOut.model_fields if name not in ("links", "feedback")},
            "links": links_of(session, turn, link_tags), "feedback": feedback,
        }
    )  # fmt: skip


def turns_of(session: Session, conversation: Conversation) -> list[TurnOut]:
    """Oldest first."""
    query = select(Turn).where(Turn.conversation_id == conversation.id).order_by(Turn.number)
    turns = session.scalars(query).all()
    feedback = feedback_by_turn(session, turns)
    return [turn_out(session, turn, feedback[turn.id]) for turn in turns]
