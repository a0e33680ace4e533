"""Recording a turn: at the question, while a model writes, and at the end."""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import asdict, dataclass, replace

from sqlalchemy import func, select, update
from sqlalchemy.orm import Session

from fontanel import tracing
from fontanel.core.answering import (
    BUILT_IN,
    Answer,
    AnswerEvent,
    EvidenceFound,
    Restarted,
    Started,
    Step,
    TextPiece,
    Trace,
)
from fontanel.core.answering.titles import title_of
from fontanel.engine.answering.budgets import budget_of
from fontanel.engine.answering.targets import Target
from fontanel.engine.answering.turn_records import (
    StoredCitation,
    StoredEvidence,
    dump_approval,
    dump_statement,
)
from fontanel.engine.gaps.collecting import TRIAL, note_turn
from fontanel.engine.notices.notify import notify_team
from fontanel.engine.quotas.limits import LOW
from fontanel.engine.quotas.quotas import check_question
from fontanel.records.ids import new_id
from fontanel.records.tables import Conversation, Team, TextModel, Turn, TurnState, Use, now
from fontanel.records.unit_of_work import Records

#: Seconds between two writes of an answer that is being written.
_SAVE_EVERY = 2.0
_PER_MILLION = 1_000_000


@dataclass(frozen=True, slots=True, kw_only=True)
class Asked:
    """A question and who asks it."""

    question: str
    asker: str
    request_id: str
    conversation_id: str | None = None
    """The conversation that it continues."""
    key: str | None = None
    """The key under which it may be sent again, with the same `body_hash`."""
    body_hash: str = ""
    link_id: str | None = None
    """The link by which a guest came."""
    keep: bool = True
    """Whether a turn is stored; if not, only what it used is."""


class TurnRecorder:
    """Stores one turn as its answer is made."""

    def __init__(self, records: Records, trace: Trace, asked: Asked) -> None:
        self._records = records
        self._trace = trace
        self._asked = asked
        self._text = ""
        self._saved = time.monotonic()
        self._price: TextModel | None = None
        self._parent = tracing.current()
        self.turn = Turn(id=new_id("turn"))

    def begin(
        self, target: Target, editions: Mapping[str, str], price: TextModel | None = None
    ) -> Turn:
        """Store the question, so that an interruption leaves a turn that says so.

        Args:
            target: What is asked.
            editions: The edition of each knowledge base.
            price: The model that will write, for its prices.

        Raises:
            QuotaReached: the team has asked all of its questions of this month.
        """
        asked = self._asked
        self._price = price
        self.turn = turn = Turn(
            id=self.turn.id,
            team_id=target.team_id,
            conversation_id=asked.conversation_id or "",
            number=0,
            state=TurnState.ANSWERING,
            question=asked.question,
            standalone=asked.question,
            outcome="unfinished",
            text="",
            sufficiency=0.0,
            citations=[],
            evidence=[],
            edition_id=next(iter(editions.values()), ""),
            composer=BUILT_IN,
            seconds={},
            request_id=asked.request_id,
            desk_id=target.desk_id,
            desk_version=target.version,
            asker=asked.asker,
            asked_key=asked.key,
            asked_hash=asked.body_hash,
            note="",
            settings=None if target.stored is None else dict(target.stored),
            editions=dict(editions),
            steps=[],
            statements=[],
            prompt=[],
            raw="",
            tokens_read=0,
            tokens_written=0,
            cost=0.0,
            created_at=now(),
        )
        if asked.keep:
            with self._records.writing() as session:
                if not asked.asker.startswith(TRIAL):
                    check_question(session, target.team_id)
                self._place(session, turn, target)
                session.add(turn)
                session.flush()
                session.expunge(turn)
        return turn

    def _place(self, session: Session, turn: Turn, target: Target) -> None:
        """Put the turn at the end of its conversation, or begin one with it."""
        if self._asked.conversation_id is None:
            conversation = Conversation(
                id=new_id("conv"),
                team_id=target.team_id,
                kb_id=target.kb_id,
                desk_id=target.desk_id,
                asker=self._asked.asker,
                title=title_of(self._asked.question),
            )
            session.add(conversation)
            session.flush()
            turn.conversation_id = conversation.id
        else:
            conversation = session.get_one(Conversation, self._asked.conversation_id)
        of_conversation = Turn.conversation_id == conversation.id
        last = session.scalar(select(func.max(Turn.number)).where(of_conversation)) or 0
        turn.number = last + 1
        conversation.changed_at = now()

    def follow(self, event: AnswerEvent) -> None:
        """Record what an event reports; while a model writes, save the text now and then."""
        turn = self.turn
        if isinstance(event, Started):
            turn.standalone = event.standalone
        elif isinstance(event, EvidenceFound):
            turn.seconds = {"evidence": round(self._trace.seconds, 4)}
            turn.evidence = [StoredEvidence.of(passage).dump() for passage in event.passages]
            turn.sufficiency = event.sufficiency
        elif isinstance(event, Restarted):
            self._text = ""
        elif isinstance(event, TextPiece):
            if not self._text and event.text.strip():
                turn.seconds = {**turn.seconds, "first": round(self._trace.seconds, 4)}
            self._text += event.text
            if self._asked.keep and time.monotonic() - self._saved > _SAVE_EVERY:
                self._saved = time.monotonic()
                self._save()

    def _save(self) -> None:
        values = {
            "text": self._text,
            "standalone": self.turn.standalone,
            "evidence": self.turn.evidence,
            "sufficiency": self.turn.sufficiency,
        }
        with self._records.writing() as session:
            session.execute(update(Turn).where(Turn.id == self.turn.id).values(**values))

    def abandon(self, state: TurnState) -> None:
        """Store an unfinished answer: its text so far remains, its key can be reused."""
        turn = self.turn
        turn.state, turn.text, turn.asked_key = state, self._text, None
        called = self._called()
        if called is not None:
            turn.composer = str(called.details.get("model"))
            turn.tokens_read = int(called.details.get("tokens_read", 0))
            turn.tokens_written = int(called.details.get("tokens_written", 0))
        self._store()

    def _called(self) -> Step | None:
        """Return the step in which a model was called, if one was."""
        return next((step for step in self._trace.steps if step.name == "model"), None)

    def finish(self, answer: Answer) -> None:
        """Store the whole answer."""
        turn = self.turn
        turn.state = TurnState.DONE
        turn.standalone, turn.outcome, turn.text = (
            answer.standalone,
            answer.outcome.value,
            answer.text,
        )
        turn.sufficiency, turn.composer, turn.note = (
            answer.sufficiency,
            answer.composer,
            answer.note,
        )
        turn.citations = [StoredCitation.of(citation).dump() for citation in answer.citations]
        turn.evidence = [StoredEvidence.of(passage).dump() for passage in answer.evidence]
        turn.statements = [dump_statement(statement) for statement in answer.statements]
        turn.prompt = [
            {"role": message.role, "content": message.content} for message in answer.prompt
        ]
        turn.raw = answer.raw
        turn.approved = None if answer.approval is None else dump_approval(answer.approval)
        turn.choices = [asdict(choice) for choice in answer.choices]
        if answer.use is not None:
            turn.tokens_read, turn.tokens_written = answer.use.read, answer.use.written
        self._store()

    def _store(self) -> None:
        """Store the turn with its cost and its usage, in one unit of work."""
        turn, price, called = self.turn, self._price, self._called()
        if price is not None:
            cost = turn.tokens_read * price.price_read + turn.tokens_written * price.price_written
            turn.cost = round(cost / _PER_MILLION, 8)
        turn.steps = [asdict(step) for step in self._trace.steps]
        turn.seconds = {**turn.seconds, "total": round(self._trace.seconds, 4)}
        with self._records.writing() as session:
            # A conversation that was deleted in the meantime took the turn with it.
            if self._asked.keep and session.get(Turn, turn.id) is not None:
                note_turn(session, session.merge(turn))
            model = None if called is None else str(called.details.get("model"))
            session.add(_use_of(turn, model, self._asked.link_id))
            _warn_of_budget(session, turn)
        self._record_span(model)

    def _record_span(self, model: str | None) -> None:
        """Trace the answer, with each step as a part."""
        turn = self.turn
        parts = [tracing.Part(step.name, step.began, step.seconds) for step in self._trace.steps]
        tracing.record(
            "answer",
            self._trace.seconds,
            self._parent,
            parts,
            answer=turn.id,
            team=turn.team_id,
            desk=turn.desk_id or "",
            request=turn.request_id or "",
            outcome=turn.outcome,
            composer=turn.composer,
            model=model or "",
            tokens=turn.tokens_read + turn.tokens_written,
        )


def _use_of(turn: Turn, model: str | None, link_id: str | None) -> Use:
    used = [*(turn.citations or ()), *(turn.evidence or ())]
    kb_ids = [*(item["kb_id"] for item in used if item.get("kb_id")), *(turn.editions or {})]
    return Use(
        team_id=turn.team_id,
        turn_id=turn.id,
        desk_id=turn.desk_id,
        kb_ids=list(turn.editions or {}),
        asker=turn.asker,
        outcome=turn.outcome,
        composer=turn.composer,
        model=model,
        kb_id=kb_ids[0] if kb_ids else None,
        link_id=link_id,
        tokens_read=turn.tokens_read,
        tokens_written=turn.tokens_written,
        cost=turn.cost,
        first_seconds=turn.seconds.get("first"),
        seconds=turn.seconds.get("total", 0.0),
        at=turn.created_at,
    )


def _warn_of_budget(session: Session, turn: Turn) -> None:
    """Notify the team when this turn passes the warning level of its budget."""
    tokens = turn.tokens_read + turn.tokens_written
    team = session.get_one(Team, turn.team_id)
    after = budget_of(session, team)
    if not tokens or after.limit is None:
        return
    before = replace(after, used=after.used - tokens)
    if (before.share or 0) < LOW <= (after.share or 0):
        message = (
            f"The team has used {after.share:.0%} of its {after.limit:,} tokens of this month."
        )
        data = {"used": after.used, "monthly_tokens": after.limit}
        notify_team(session, team.id, "budget.low", message, data)
