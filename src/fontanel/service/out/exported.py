"""Questions and answers as JSON Lines."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import Select, and_, or_, select

from fontanel.engine.trials.running import ASKER
from fontanel.records.tables import Turn
from fontanel.records.unit_of_work import Records
from fontanel.schemas import ExportedAnswer
from fontanel.service.out.turns import feedback_by_turn, turn_out

#: Turns that are read at a time, each with a short session.
_BATCH = 100


@dataclass(frozen=True, slots=True)
class Selection:
    """Which turns of a team are exported; None means all."""

    team_id: str
    desk_id: str | None
    kb_ids: frozenset[str] | None
    since: datetime | None
    until: datetime | None

    def query(self) -> Select[Turn]:
        """Return a query for them, the oldest first."""
        query = select(Turn).where(Turn.team_id == self.team_id, Turn.asker.not_like(f"{ASKER}%"))
        if self.desk_id is not None:
            query = query.where(Turn.desk_id == self.desk_id)
        if self.since is not None:
            query = query.where(Turn.created_at >= self.since)
        if self.until is not None:
            query = query.where(Turn.created_at < self.until)
        return query.order_by(Turn.created_at, Turn.id)


def exported_lines(records: Records, selection: Selection) -> Iterator[bytes]:
    """Yield a line for each turn.

    A key that is limited to some knowledge bases gets what was answered from those alone.
    """
    query, after = selection.query(), None
    while True:
        with records.reading() as session:
            page = query if after is None else query.where(after)
            turns = session.scalars(page.limit(_BATCH)).all()
            feedback = feedback_by_turn(session, turns)
            lines = [
                ExportedAnswer(
                    **turn_out(session, turn, feedback[turn.id]).model_dump(),
                    conversation_id=turn.conversation_id,
                    desk_id=turn.desk_id,
                    desk_version=turn.desk_version,
                    asker=turn.asker,
                    kbs=list(turn.editions or {}),
                ).model_dump_json()
                for turn in turns
                if selection.kb_ids is None or set(turn.editions or {}) <= selection.kb_ids
            ]
        for line in lines:
            yield line.encode() + b"\n"
        if len(turns) < _BATCH:
            return
        last = turns[-1]
        after = or_(
            Turn.created_at > last.created_at,
            and_(Turn.created_at == last.created_at, Turn.id > last.id),
        )
