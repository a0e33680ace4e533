"""Asking: a question answered over knowledge bases, its turn recorded with everything needed to explain it later.

The turn is written when the question comes, so that a service that is killed in mid-answer leaves a turn that was broken off, not
none; what a model has written so far is kept on the way.
"""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Generator, Iterator
from dataclasses import asdict, dataclass, field, replace
from datetime import timedelta
from functools import partial
from typing import Any

import structlog
from sqlalchemy import delete, func, select, update
from sqlalchemy.orm import Session

from fontanel.core.answering import (
    BUILT_IN,
    Answer,
    AnswerEvent,
    CheckedStatement,
    Citation,
    EvidenceFound,
    EvidencePassage,
    Exchange,
    Finished,
    Outcome,
    Restarted,
    Routes,
    Started,
    TextPiece,
    Trace,
    Writer,
    answer,
)
from fontanel.core.answering.titles import title_of
from fontanel.engine.answering.budgets import LOW, budget_of
from fontanel.engine.answering.models import endpoint_of, usable_model
from fontanel.engine.answering.retrieval import Embedders
from fontanel.engine.answering.targets import Target, among, knowledge_of
from fontanel.engine.editions.store import Editions
from fontanel.engine.notices.notify import notify_team
from fontanel.llm.chat import AskerGone, ChatWriter, ModelLine
from fontanel.records.database import Sessions, writing
from fontanel.records.ids import new_id
from fontanel.records.scope import TeamScope
from fontanel.records.tables import Conversation, Team, TextModel, Turn, TurnState, Use, now
from fontanel.records.vault import SecretsLost, Vault

log = structlog.get_logger()

_REMEMBERED = 4
#: Seconds between two writings of an answer that is on its way.
_KEEP_EVERY = 2.0
#: Answers that are looked for at once.
_AT_ONCE = max(2, os.cpu_count() or 2)


@dataclass(frozen=True, slots=True)
class Asked:
    """A question, who asks it, the conversation that it goes on with, and the key under which it may be sent again
    with the same `body_hash`."""

    question: str
    asker: str
    request_id: str
    conversation_id: str | None = None
    key: str | None = None
    body_hash: str = ""
    keep: bool = True


@dataclass(frozen=True, slots=True)
class Began:
    """The turn is written down; its answer is on its way."""

    conversation_id: str
    turn_id: str


@dataclass(frozen=True, slots=True)
class Recorded:
    """The answer is written down."""

    answer: Answer
    turn: Turn


@dataclass(slots=True)
class _Text:
    """What was written so far, and when (monotonic) it was last kept."""

    so_far: str = ""
    kept: float = field(default_factory=time.monotonic)


class Asking:
    """Answers questions. Each call of `ask` is one answer, made in the thread that takes its events."""

    def __init__(
        self,
        sessions: Sessions,
        editions: Editions,
        embedders: Embedders,
        line: ModelLine,
        vault: Vault,
    ) -> None:
        self._sessions = sessions
        self._editions = editions
        self._embedders = embedders
        self._line = line
        self._vault = vault
        self._looking = threading.BoundedSemaphore(_AT_ONCE)

    def ask(
        self, target: Target, asked: Asked, allowed: frozenset[str] | None, gone: threading.Event
    ) -> Generator[Began | AnswerEvent | Recorded, None, None]:
        """Answer a question, event by event. `allowed` narrows to those knowledge bases; `gone` is set when the asker leaves.

        With `asked.keep` false nothing is written down but what it used.
        """
        trace = Trace()
        with self._sessions() as session:
            scope = TeamScope(session, target.team_id, allowed)
            known, editions, lines = knowledge_of(
                scope, target.parts, self._editions, self._embedders
            )
            history = history_of(session, asked.conversation_id)
            writer, price, note = self._writer(session, target, gone)
            # The connection goes back while nothing is read: many may be asking.
            session.rollback()
            turn = self._begin(target, asked, editions)
            yield Began(turn.conversation_id, turn.id)
            events = answer(
                asked.question,
                history,
                among(known, frozenset(known)),
                target.settings,
                writer=writer,
                routes=Routes(lines, partial(among, known)),
                trace=trace,
            )
            text = _Text()
            try:
                for event in self._in_turn(events, gone, session):
                    self._follow(turn, event, text, trace, asked.keep)
                    if not isinstance(event, Finished):
                        yield event
                        continue
                    # Small talk needs no model, so that none was missed.
                    missed = bool(note) and event.answer.outcome != Outcome.SMALL_TALK
                    finished = replace(event.answer, note=note) if missed else event.answer
                    self._finish(turn, finished, trace, price, asked.keep)
                    yield Finished(finished)
                    yield Recorded(finished, turn)
            except (AskerGone, GeneratorExit, Exception) as reason:
                events.close()
                stopped = isinstance(reason, AskerGone | GeneratorExit)
                self._end(
                    turn,
                    TurnState.STOPPED if stopped else TurnState.FAILED,
                    text.so_far,
                    trace,
                    asked.keep,
                )
                if not isinstance(reason, AskerGone):
                    raise

    def _in_turn(
        self, events: Iterator[AnswerEvent], gone: threading.Event, session: Session
    ) -> Iterator[AnswerEvent]:
        """The events, with the looking for evidence done by few answers at a time, in the order of asking: more would only share the
        processor. A model's stream keeps nobody else waiting, and no connection to the records."""
        looking = False
        try:
            for event in events:
                if isinstance(event, EvidenceFound):
                    session.rollback()
                    if looking:
                        self._looking.release()
                        looking = False
                yield event
                if isinstance(event, Started):
                    self._wait_for_turn(gone)
                    looking = True
        finally:
            if looking:
                self._looking.release()

    def _follow(
        self, turn: Turn, event: AnswerEvent, text: _Text, trace: Trace, keep: bool
    ) -> None:
        """Take up what an event tells into the turn, and write it down now and then while a model writes."""
        if isinstance(event, Started):
            turn.standalone = event.standalone
        elif isinstance(event, EvidenceFound):
            turn.seconds = {"evidence": round(trace.seconds, 4)}
            turn.evidence = [evidence_record(passage) for passage in event.passages]
            turn.sufficiency = event.sufficiency
        elif isinstance(event, Restarted):
            text.so_far = ""
        elif isinstance(event, TextPiece):
            if not text.so_far and event.text.strip():
                turn.seconds = {**turn.seconds, "first": round(trace.seconds, 4)}
            text.so_far += event.text
            if keep and time.monotonic() - text.kept > _KEEP_EVERY:
                text.kept = time.monotonic()
                self._keep(turn, text.so_far)

    def _wait_for_turn(self, gone: threading.Event) -> None:
        """Wait until few enough answers are being looked for. Raises AskerGone."""
        while not self._looking.acquire(timeout=0.5):
            if gone.is_set():
                raise AskerGone

    def earlier(self, asker: str, key: str) -> Turn | None:
        """The turn of a question that was sent under this key before."""
        with self._sessions() as session:
            return session.scalar(select(Turn).where(Turn.asker == asker, Turn.asked_key == key))

    def recover(self) -> int:
        """What was being answered when the service ended was broken off. Returns how many turns."""
        with writing(self._sessions) as session:
            broken = update(Turn).where(Turn.state == TurnState.ANSWERING)
            broken = broken.values(state=TurnState.BROKEN_OFF, asked_key=None)
            count = session.execute(broken).rowcount  # type: ignore[attr-defined]
            session.commit()
            return int(count)

    def _writer(
        self, session: Session, target: Target, gone: threading.Event
    ) -> tuple[Writer | None, TextModel | None, str]:
        """The desk's model with its prices; or none, and why not."""
        if target.model is None:
            return None, None, ""
        found = usable_model(session, target.model, target.team_id)
        if isinstance(found, str):
            return None, None, f"The model {target.model} did not write this answer: {found}."
        budget = budget_of(session, session.get_one(Team, target.team_id))
        if budget.state == "spent":
            note = (
                f"The team's monthly budget of {budget.most:,} tokens is used up. Until next month answers are put together from the "
                "documents without a model; an owner can raise the budget."
            )
            return None, None, note
        try:
            endpoint = endpoint_of(found, self._vault)
        except SecretsLost:
            return (
                None,
                None,
                f"The model {target.model} did not write this answer: its secret cannot be read.",
            )
        return ChatWriter(self._line, endpoint, gone), found, ""

    def _begin(self, target: Target, asked: Asked, editions: dict[str, str]) -> Turn:
        turn = Turn(
            id=new_id("turn"),
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
            settings=None if target.kept is None else dict(target.kept),
            editions=editions,
            steps=[],
            statements=[],
            prompt=[],
            raw="",
            tokens_read=0,
            tokens_written=0,
            cost=0.0,
            created_at=now(),
        )
        if not asked.keep:
            return turn
        with writing(self._sessions) as session:
            if asked.conversation_id is None:
                conversation = Conversation(
                    id=new_id("conv"),
                    team_id=target.team_id,
                    kb_id=target.kb_id,
                    desk_id=target.desk_id,
                    asker=asked.asker,
                    title=title_of(asked.question),
                )
                session.add(conversation)
                session.flush()
                turn.conversation_id = conversation.id
            else:
                conversation = session.get_one(Conversation, asked.conversation_id)
            last = (
                session.scalar(
                    select(func.max(Turn.number)).where(Turn.conversation_id == conversation.id)
                )
                or 0
            )
            turn.number = last + 1
            conversation.changed_at = now()
            session.add(turn)
            session.commit()
            session.expunge(turn)
        return turn

    def _keep(self, turn: Turn, text: str) -> None:
        with writing(self._sessions) as session:
            values = {
                "text": text,
                "standalone": turn.standalone,
                "evidence": turn.evidence,
                "sufficiency": turn.sufficiency,
            }
            session.execute(update(Turn).where(Turn.id == turn.id).values(**values))
            session.commit()

    def _end(self, turn: Turn, state: TurnState, text: str, trace: Trace, keep: bool) -> None:
        """An answer that will not be finished: what there is of it stays, and its key may be used again."""
        turn.state, turn.text, turn.asked_key = state, text, None
        turn.steps = [asdict(step) for step in trace.steps]
        turn.seconds = {**turn.seconds, "total": round(trace.seconds, 4)}
        model = next((step for step in trace.steps if step.name == "model"), None)
        if model is not None:
            turn.composer = str(model.told.get("model"))
            turn.tokens_read = int(model.told.get("tokens_read", 0))
            turn.tokens_written = int(model.told.get("tokens_written", 0))
        self._write(turn, keep)

    def _finish(
        self, turn: Turn, finished: Answer, trace: Trace, price: TextModel | None, keep: bool
    ) -> None:
        turn.state = TurnState.DONE
        turn.standalone, turn.outcome, turn.text = (
            finished.standalone,
            finished.outcome.value,
            finished.text,
        )
        turn.sufficiency, turn.composer, turn.note = (
            finished.sufficiency,
            finished.composer,
            finished.note,
        )
        turn.citations = [citation_record(citation) for citation in finished.citations]
        turn.evidence = [evidence_record(passage) for passage in finished.evidence]
        turn.statements = [statement_record(statement) for statement in finished.statements]
        turn.prompt = [asdict(message) for message in finished.prompt]
        turn.raw = finished.raw
        if finished.use is not None:
            turn.tokens_read, turn.tokens_written = finished.use.read, finished.use.written
        if price is not None:
            cost = turn.tokens_read * price.price_read + turn.tokens_written * price.price_written
            turn.cost = round(cost / 1_000_000, 8)
        turn.steps = [asdict(step) for step in trace.steps]
        turn.seconds = {**turn.seconds, "total": round(trace.seconds, 4)}
        self._write(turn, keep)

    def _write(self, turn: Turn, keep: bool) -> None:
        """The turn as it is now, and what it used, in one transaction."""
        with writing(self._sessions) as session:
            # A conversation that was deleted meanwhile took the turn with it.
            if keep and session.get(Turn, turn.id) is not None:
                session.merge(turn)
            session.add(
                Use(
                    team_id=turn.team_id,
                    turn_id=turn.id,
                    desk_id=turn.desk_id,
                    kb_ids=list(turn.editions or {}),
                    asker=turn.asker,
                    outcome=turn.outcome,
                    composer=turn.composer,
                    tokens_read=turn.tokens_read,
                    tokens_written=turn.tokens_written,
                    cost=turn.cost,
                    first_seconds=turn.seconds.get("first"),
                    seconds=turn.seconds.get("total", 0.0),
                    at=turn.created_at,
                )
            )
            self._warn(session, turn)
            session.commit()

    def _warn(self, session: Session, turn: Turn) -> None:
        """Tell the team when this turn's tokens bring it past the share of its budget at which that is said."""
        tokens = turn.tokens_read + turn.tokens_written
        team = session.get_one(Team, turn.team_id)
        if not tokens or team.monthly_tokens is None:
            return
        after = budget_of(session, team)
        before = replace(after, used=after.used - tokens)
        if (before.share or 0) < LOW <= (after.share or 0):
            told = (
                f"The team has used {after.share:.0%} of its {after.most:,} tokens of this month."
            )
            notify_team(
                session,
                team.id,
                "budget.low",
                told,
                {"used": after.used, "monthly_tokens": after.most},
            )

    def forget_old(self) -> int:
        """Delete conversations that are past their team's time. Returns how many."""
        forgotten = 0
        with self._sessions() as session:
            teams = (
                session.execute(select(Team.id, Team.kept_days).where(Team.kept_days.is_not(None)))
                .tuples()
                .all()
            )
        for team_id, days in teams:
            assert days is not None
            old = Conversation.changed_at < now() - timedelta(days=days)
            with writing(self._sessions) as session:
                gone = delete(Conversation).where(Conversation.team_id == team_id, old)
                forgotten += session.execute(gone).rowcount  # type: ignore[attr-defined]
                session.commit()
        return forgotten


def history_of(session: Session, conversation_id: str | None) -> list[Exchange]:
    """The last exchanges of a conversation, oldest first."""
    if conversation_id is None:
        return []
    done = select(Turn).where(Turn.conversation_id == conversation_id, Turn.state == TurnState.DONE)
    turns = session.scalars(done.order_by(Turn.number.desc()).limit(_REMEMBERED)).all()
    return [
        Exchange(
            turn.question, turn.standalone, tuple(citation["title"] for citation in turn.citations)
        )
        for turn in reversed(turns)
    ]


def citation_record(citation: Citation) -> dict[str, Any]:
    return {
        "number": citation.number,
        "answer_start": citation.answer_start,
        "answer_end": citation.answer_end,
        "document_id": citation.document_id,
        "revision_id": citation.revision_id,
        "title": citation.title,
        "locator": citation.locator.to_dict(),
        "start": citation.start,
        "end": citation.end,
        "quote": citation.quote,
        "match": round(citation.match, 4),
        "support": round(citation.support, 4),
        "kb_id": citation.kb_id,
        "also": list(citation.also),
    }


def evidence_record(passage: EvidencePassage) -> dict[str, Any]:
    return {
        "passage_id": passage.passage_id,
        "document_id": passage.document_id,
        "revision_id": passage.revision_id,
        "title": passage.title,
        "text": passage.text,
        "start": passage.start,
        "end": passage.start + len(passage.text),
        "locator": passage.locator.to_dict(),
        "match": round(passage.match, 4),
        "similarity": None if passage.similarity is None else round(passage.similarity, 4),
        "kb_id": passage.kb_id,
    }


def statement_record(statement: CheckedStatement) -> dict[str, Any]:
    return {
        **asdict(statement),
        "verdict": statement.verdict.value,
        "citations": list(statement.citations),
    }
