"""Asking: a question is answered over knowledge bases, and its turn recorded.

The turn is stored when the question arrives, so that an interruption leaves a turn that says so. A
model's text is saved along the way.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Generator, Iterator
from dataclasses import dataclass, replace
from functools import partial

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from fontanel.core.answering import (
    Answer,
    AnswerEvent,
    EvidenceFound,
    Finished,
    Outcome,
    Routes,
    Started,
    Trace,
    Writer,
    answer,
)
from fontanel.engine.answering.budgets import budget_of
from fontanel.engine.answering.local_models import LocalModels
from fontanel.engine.answering.models import endpoint_of, usable_model
from fontanel.engine.answering.targets import Target, combined, target_knowledge
from fontanel.engine.answering.turn_recorder import Asked, TurnRecorder
from fontanel.engine.answering.turn_records import history_of
from fontanel.engine.curation.serving import ApprovedStore
from fontanel.engine.editions.store import Editions
from fontanel.engine.runtime.fair_slots import FairSlots
from fontanel.errors import ModelUnusable, SecretUnreadable
from fontanel.llm.chat import AskerLeft, ChatWriter, ModelClient
from fontanel.records.scope import TeamScope
from fontanel.records.tables import Team, TextModel, Turn, TurnState
from fontanel.records.unit_of_work import Records
from fontanel.records.vault import Vault

__all__ = ["Asked", "Asking", "Began", "Recorded"]

#: Answers that look for evidence at once: more would only share the processors.
_MAX_LOOKING = max(2, os.cpu_count() or 2)
#: Seconds between two looks at whether an asker who waits has left.
_POLL = 0.5


@dataclass(frozen=True, slots=True)
class Began:
    """The turn is stored; its answer is being made."""

    conversation_id: str
    turn_id: str


@dataclass(frozen=True, slots=True)
class Recorded:
    """The answer is stored."""

    answer: Answer
    turn: Turn


@dataclass(frozen=True, slots=True)
class _ModelChoice:
    """The model that writes an answer, with its prices; without one, `note` says why."""

    writer: Writer | None = None
    price: TextModel | None = None
    note: str = ""


class Asking:
    """Answers questions; each call of `ask` runs in the thread that iterates it."""

    def __init__(
        self,
        *,
        records: Records,
        editions: Editions,
        local_models: LocalModels,
        models: ModelClient,
        vault: Vault,
        approved: ApprovedStore,
    ) -> None:
        self._records = records
        self._approved = approved
        self._editions = editions
        self._local_models = local_models
        self._models = models
        self._vault = vault
        self._looking = FairSlots(_MAX_LOOKING)
        self._lock = threading.Lock()
        self._running: set[threading.Event] = set()
        self._stopped = False

    def ask(
        self,
        target: Target,
        asked: Asked,
        allowed: frozenset[str] | None,
        cancelled: threading.Event,
    ) -> Generator[Began | AnswerEvent | Recorded, None, None]:
        """Answer a question, event by event.

        Args:
            target: What is asked.
            asked: The question.
            allowed: The knowledge bases that the asker may reach; None means all of the team.
            cancelled: Set when the asker leaves; it is also set when the service stops.
        """
        with self._lock:
            self._running.add(cancelled)
            if self._stopped:
                cancelled.set()
        try:
            yield from self._answer(target, asked, allowed, cancelled)
        finally:
            with self._lock:
                self._running.discard(cancelled)

    def stop(self) -> None:
        """Cancel all answers in progress, and those that are still asked for."""
        with self._lock:
            self._stopped = True
            for cancelled in self._running:
                cancelled.set()

    def _answer(
        self,
        target: Target,
        asked: Asked,
        allowed: frozenset[str] | None,
        cancelled: threading.Event,
    ) -> Generator[Began | AnswerEvent | Recorded, None, None]:
        trace = Trace()
        recorder = TurnRecorder(self._records, trace, asked)
        with self._records.reading() as session:
            scope = TeamScope(session, target.team_id, allowed)
            knowledge = target_knowledge(scope, target.kbs, self._editions, self._local_models)
            history = history_of(session, asked.conversation_id)
            choice = self._choose_model(session, target, cancelled)
            # The connection is returned while nothing is read: many may be asking.
            session.close()
            turn = recorder.begin(target, knowledge.editions, choice.price)
            yield Began(turn.conversation_id, turn.id)
            parts = knowledge.parts
            events = answer(
                asked.question,
                history,
                combined(parts, frozenset(parts)),
                target.settings,
                writer=choice.writer,
                routes=Routes(knowledge.routes, partial(combined, parts)),
                trace=trace,
                approved=self._approved.of(
                    target.team_id, {kb_id: part.document_ids for kb_id, part in parts.items()}
                ),
            )
            try:
                for event in self._limited(events, target.team_id, cancelled, session):
                    recorder.follow(event)
                    if not isinstance(event, Finished):
                        yield event
                        continue
                    finished = _with_note(event.answer, choice.note)
                    recorder.finish(finished)
                    yield Finished(finished)
                    yield Recorded(finished, turn)
            except (AskerLeft, GeneratorExit):
                events.close()
                recorder.abandon(TurnState.STOPPED)
                if not cancelled.is_set():
                    raise
            except Exception:
                events.close()
                recorder.abandon(TurnState.FAILED)
                raise

    def _limited(
        self,
        events: Iterator[AnswerEvent],
        team_id: str,
        cancelled: threading.Event,
        session: Session,
    ) -> Iterator[AnswerEvent]:
        """Yield the events, while only a few answers at a time look for evidence.

        Teams take turns: many questions of one do not delay another's.
        A model's stream keeps nobody else waiting, and uses no connection to the records.
        """
        looking = False
        try:
            for event in events:
                if isinstance(event, EvidenceFound):
                    session.close()
                    if looking:
                        self._looking.release()
                        looking = False
                yield event
                if isinstance(event, Started):
                    if not self._looking.acquire(team_id, cancelled, _POLL):
                        raise AskerLeft
                    looking = True
        finally:
            if looking:
                self._looking.release()

    def _choose_model(
        self, session: Session, target: Target, cancelled: threading.Event
    ) -> _ModelChoice:
        name = target.model
        if name is None:
            return _ModelChoice()
        try:
            model = usable_model(session, name, target.team_id)
            endpoint = endpoint_of(model, self._vault)
        except ModelUnusable as error:
            return _ModelChoice(note=f"The model {name} did not write this answer: {error}.")
        except SecretUnreadable:
            note = f"The model {name} did not write this answer: its secret cannot be read."
            return _ModelChoice(note=note)
        budget = budget_of(session, session.get_one(Team, target.team_id))
        if budget.state == "spent":
            return _ModelChoice(
                note=f"The team's monthly budget of {budget.limit:,} tokens is used up. Until "
                "next month answers are composed from the documents without a model; "
                f"{'an operator' if budget.by_quota else 'an owner'} can raise the budget."
            )
        return _ModelChoice(ChatWriter(self._models, endpoint, cancelled), model)

    def model_problem(self, target: Target) -> str:
        """Return why a target's model cannot write now; an empty string if it can."""
        with self._records.reading() as session:
            return self._choose_model(session, target, threading.Event()).note

    def earlier(self, asker: str, key: str) -> Turn | None:
        """Return the turn of a question that was sent under this key before."""
        with self._records.reading() as session:
            return session.scalar(select(Turn).where(Turn.asker == asker, Turn.asked_key == key))

    def recover(self) -> int:
        """At start: mark turns that were being answered as interrupted; return how many."""
        unfinished = update(Turn).where(Turn.state == TurnState.ANSWERING)
        with self._records.writing() as session:
            result = session.execute(unfinished.values(state=TurnState.INTERRUPTED, asked_key=None))
            return int(result.rowcount)  # type: ignore[attr-defined]


def _with_note(answer: Answer, note: str) -> Answer:
    # Small talk needs no model, so none was missed.
    missed = bool(note) and answer.outcome != Outcome.SMALL_TALK
    return replace(answer, note=note) if missed else answer
