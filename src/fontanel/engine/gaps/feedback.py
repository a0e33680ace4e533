"""Store what an asker says about an answer."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.engine.gaps.collecting import emit_feedback, note_feedback
from fontanel.records.ids import new_id
from fontanel.records.tables import Feedback, Turn, Use, now


def store_feedback(
    session: Session,
    turn: Turn,
    asker: str,
    *,
    helpful: bool,
    citation: int = 0,
    reason: str = "",
    comment: str = "",
) -> Feedback:
    """Store an opinion of an answer, or of one of its citations; a second one replaces the first.

    Args:
        citation: The number of a citation; 0 for the answer.
    """
    same = select(Feedback).where(
        Feedback.turn_id == turn.id, Feedback.citation == citation, Feedback.asker == asker
    )
    row = session.scalar(same)
    if row is None:
        row = Feedback(
            id=new_id("fb"),
            team_id=turn.team_id,
            desk_id=turn.desk_id,
            turn_id=turn.id,
            citation=citation,
            asker=asker,
            created_at=now(),
        )
        session.add(row)
    row.helpful, row.reason, row.comment = helpful, reason, comment
    row.handled = False
    if citation == 0:
        note_feedback(session, turn, helpful=helpful)
        use = session.scalar(select(Use).where(Use.turn_id == turn.id))
        if use is not None:
            use.helpful = helpful
    session.flush()
    emit_feedback(session, turn, row)
    return row
