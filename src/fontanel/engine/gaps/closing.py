"""Ask gaps again when documents have changed, and close those that are answered now."""

from __future__ import annotations

import threading
from dataclasses import dataclass, replace
from typing import Any

import structlog
from sqlalchemy import exists, func, select
from sqlalchemy.orm import Session

from fontanel.core.answering import Answer, Outcome
from fontanel.engine.answering.asking import Asked, Asking, Recorded
from fontanel.engine.answering.targets import Target, desk_target, kb_target, published_version
from fontanel.engine.gaps.collecting import TRIAL, WEAK
from fontanel.engine.notices.notify import notify_team
from fontanel.records.tables import (
    SETTLED_STATES,
    ApprovedAnswer,
    Desk,
    Document,
    Gap,
    GapKind,
    GapQuestion,
    GapState,
    Kb,
    now,
)
from fontanel.records.unit_of_work import Committed, Records

log = structlog.get_logger()

#: How an answer that closed a gap automatically is recorded.
ANSWERED = "answered"


@dataclass(frozen=True, slots=True)
class _Due:
    """A gap to ask again, and what is asked."""

    gap_id: str
    question: str
    target: Target | None


class GapCloser:
    """Asks open gaps again, one at a time, once the documents of a knowledge base have settled.

    Knowledge bases take turns, so that one with many gaps does not delay the others.
    """

    def __init__(self, records: Records, asking: Asking) -> None:
        self._records = records
        self._asking = asking
        self._lock = threading.Lock()
        self._changes = 0
        self._changed: dict[str, int] = {}
        """Knowledge bases to look at, in turn, each with the number of its last change."""
        self._begun = False
        self._cancelled = threading.Event()

    def note(self, committed: Committed) -> None:
        """Remember the knowledge bases that a unit of work changed, or that have a new gap."""
        with self._lock:
            self._changes += 1
            self._changed |= dict.fromkeys(committed.kbs | committed.gap_kbs, self._changes)

    def stop(self) -> None:
        """Cancel the question that is being asked."""
        self._cancelled.set()

    def close_next(self) -> bool:
        """Ask one gap again, if one is due; return whether there was one."""
        if not self._begun:
            self._begin()
        # Taken before the records are read: a change in between is looked at again.
        with self._lock:
            changed = dict(self._changed)
        due = None
        with self._records.reading() as session:
            for kb_id, number in changed.items():
                if not _has_settled(session, kb_id):
                    continue
                due = _next_due(session, kb_id)
                self._looked_at(kb_id, number, done=due is None)
                if due is not None:
                    break
        if due is None or self._cancelled.is_set():
            return False
        self._ask(due)
        return True

    def _begin(self) -> None:
        # Documents may have changed while the service was down.
        with self._records.reading() as session:
            kbs = session.scalars(select(Kb.id)).all()
        with self._lock:
            self._changed = dict.fromkeys(kbs, 0) | self._changed
        self._begun = True

    def _looked_at(self, kb_id: str, number: int, *, done: bool) -> None:
        """Forget a knowledge base without a gap that is due; put another at the end."""
        with self._lock:
            last = self._changed.pop(kb_id, number)
            if not done or last != number:
                self._changed[kb_id] = last

    def _ask(self, due: _Due) -> None:
        asked_at = now()
        answer: Answer | None = None
        if due.target is not None:
            try:
                answer = self._answer(due, due.target)
            except Exception:
                log.exception("a gap could not be asked again", gap=due.gap_id)
            if self._cancelled.is_set():
                return
        with self._records.writing() as session:
            gap = session.get(Gap, due.gap_id)
            if gap is None or gap.state != GapState.OPEN:
                return
            gap.checked_at = asked_at
            if answer is not None and _is_good(answer):
                gap.state, gap.resolution, gap.resolved_by = GapState.RESOLVED, ANSWERED, ""
                gap.answer, gap.changed_at = _stored(answer), now()
                message = f"A question is answered by now: {gap.question}"
                notify_team(session, gap.team_id, "gap.closed", message, {"gap": gap.id})

    def _answer(self, due: _Due, target: Target) -> Answer | None:
        asked = Asked(
            question=due.question, asker=f"{TRIAL}gaps", request_id=due.gap_id, keep=False
        )
        events = list(self._asking.ask(target, asked, None, self._cancelled))
        recorded = next((one for one in reversed(events) if isinstance(one, Recorded)), None)
        return None if recorded is None else recorded.answer


def _has_settled(session: Session, kb_id: str) -> bool:
    unsettled = exists().where(Document.kb_id == kb_id, Document.state.not_in(SETTLED_STATES))
    return not session.scalar(select(unsettled))


def _next_due(session: Session, kb_id: str) -> _Due | None:
    """Return an open gap of a knowledge base that was not asked since it changed."""
    changes = (
        session.scalar(select(func.max(table.changed_at)).where(table.kb_id == kb_id))
        for table in (Document, ApprovedAnswer)
    )
    last = max(filter(None, changes), default=None)
    if last is None:
        return None
    searched = func.json_each(GapQuestion.kb_ids).table_valued("value", name="searched")
    of_kb = (
        select(GapQuestion.gap_id)
        .join(searched, searched.c.value == kb_id)
        .where(GapQuestion.gap_id == Gap.id)
    )
    query = select(Gap).where(Gap.state == GapState.OPEN, Gap.checked_at < last, of_kb.exists())
    gap = session.scalar(query.order_by(Gap.checked_at).limit(1))
    return None if gap is None else _Due(gap.id, gap.question, _target(session, gap))


def _target(session: Session, gap: Gap) -> Target | None:
    """Return where a gap was last asked; None where asking again would close it wrongly.

    An answer that was marked as unhelpful would be given again. Models are not called.
    """
    query = select(GapQuestion).where(GapQuestion.gap_id == gap.id)
    rows = session.scalars(query.order_by(GapQuestion.key.desc())).all()
    if not rows or any(row.kind == GapKind.UNHELPFUL for row in rows):
        return None
    last = rows[0]
    desk = None if last.desk_id is None else session.get(Desk, last.desk_id)
    if desk is None:
        kb = session.get(Kb, next(iter(last.kb_ids), ""))
        return None if kb is None else kb_target(kb, {}, None)
    version = published_version(session, desk)
    settings = desk.draft if version is None else version.settings
    reachable = frozenset(part["kb"] for part in settings["kbs"])
    return replace(desk_target(desk, settings, desk.published, reachable), model=None)


def _is_good(answer: Answer) -> bool:
    return answer.outcome == Outcome.ANSWERED and (
        answer.approval is not None or answer.sufficiency >= WEAK
    )


def _stored(answer: Answer) -> dict[str, Any]:
    return {
        "text": answer.text,
        "sufficiency": round(answer.sufficiency, 4),
        "citations": [
            {
                "kb_id": one.kb_id,
                "document_id": one.document_id,
                "revision_id": one.revision_id,
                "title": one.title,
                "start": one.start,
                "end": one.end,
                "quote": one.quote,
            }
            for one in answer.citations
        ],
    }
