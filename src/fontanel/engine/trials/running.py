"""Run trials: ask a question at a time, and judge its answer.

The questions of a trial are its rows from the beginning, so that a killed trial goes on with the
first that has no result. An answer that was given before the kill is taken from its turn, under the
key that it was asked with, and not asked again.
"""

from __future__ import annotations

import threading
from collections import defaultdict

import structlog
from sqlalchemy import func, select, update
from sqlalchemy.orm import Session

from fontanel.core.trials import Cited, Expectation, Given, Result, judge
from fontanel.engine.answering.asking import Asked, Asking, Recorded
from fontanel.engine.answering.targets import Target, TargetKb, answer_settings
from fontanel.engine.gaps.collecting import TRIAL
from fontanel.engine.notices.notify import notify_team
from fontanel.engine.trials.starting import notify_of_losses
from fontanel.facts import DOUBTFUL
from fontanel.records.tables import (
    Desk,
    Document,
    Edition,
    Kb,
    Trial,
    TrialResult,
    TrialState,
    Turn,
    TurnState,
    now,
)
from fontanel.records.unit_of_work import Records

log = structlog.get_logger()

#: What the askers of trials begin with.
ASKER = TRIAL


class TrialRunner:
    """Asks the questions of waiting trials, in turn for each team."""

    def __init__(self, records: Records, asking: Asking) -> None:
        self._records = records
        self._asking = asking
        self._cancelled = threading.Event()
        #: Questions that were asked for each team, for their turns.
        self._asked: dict[str, int] = defaultdict(int)

    def stop(self) -> None:
        """Cancel the question that is being asked; it is asked again at the next start."""
        self._cancelled.set()

    def run_next(self) -> bool:
        """Ask the next question of a trial; return whether there was one."""
        trial = self._next_trial()
        if trial is None or self._cancelled.is_set():
            return False
        self._asked[trial.team_id] += 1
        with self._records.reading() as session:
            row = _next_question(session, trial)
            target = _target(session, trial)
            used = _tokens(session, trial)
        if row is None:
            self._end(trial, TrialState.DONE)
        elif problem := self._problem(trial, target, used):
            self._end(trial, TrialState.PAUSED, problem)
        else:
            self._ask(trial, row, target)
        return True

    def _next_trial(self) -> Trial | None:
        """Return the oldest trial of the team whose turn it is, now running."""
        open_states = (TrialState.WAITING, TrialState.RUNNING)
        with self._records.reading() as session:
            query = select(Trial).where(Trial.state.in_(open_states)).order_by(Trial.created_at)
            trials = session.scalars(query).all()
        if not trials:
            self._asked.clear()
            return None
        trial = min(trials, key=lambda one: self._asked[one.team_id])
        if trial.state == TrialState.WAITING:
            with self._records.writing() as session:
                row = session.get(Trial, trial.id)
                if row is None or row.state != TrialState.WAITING:
                    return None
                row.state, row.started_at, row.note = TrialState.RUNNING, now(), ""
        return trial

    def _problem(self, trial: Trial, target: Target, used: int) -> str:
        """Return why a trial cannot go on; an empty string if it can."""
        if trial.max_tokens is not None and used >= trial.max_tokens:
            return f"It used {used:,} of the {trial.max_tokens:,} tokens that it may use."
        if not target.kbs:
            return "It has no knowledge base to ask."
        return self._asking.model_problem(target)

    def _ask(self, trial: Trial, row: TrialResult, target: Target) -> None:
        try:
            turn = self._turn(trial, row, target)
        except Exception:
            log.exception("a question of a trial failed", trial=trial.id, question=row.question_id)
            turn = None
            if self._cancelled.is_set():
                return
        if turn is None and self._cancelled.is_set():
            return
        with self._records.writing() as session:
            stored = session.get(TrialResult, row.key)
            if stored is None:
                return  # the trial was deleted
            if turn is None:
                stored.result, stored.asked_at = Result.FAILED.value, now()
                stored.reason = "The answer failed inside the service; the log has the details."
            else:
                _record(session, stored, turn)

    def _turn(self, trial: Trial, row: TrialResult, target: Target) -> Turn | None:
        """Return the answered turn of a question; its history is asked first."""
        asker = f"{ASKER}{trial.id}"
        turn: Turn | None = None
        questions = [*row.content["history"], row.content["question"]]
        for place, question in enumerate(questions):
            key = f"{row.question_id}/{place}"
            earlier = self._asking.earlier(asker, key)
            if earlier is not None and earlier.state == TurnState.DONE:
                turn = earlier
                continue
            asked = Asked(
                question=question,
                asker=asker,
                request_id=trial.id,
                conversation_id=None if turn is None else turn.conversation_id,
                key=key,
            )
            events = list(self._asking.ask(target, asked, None, self._cancelled))
            turn = next((e.turn for e in events if isinstance(e, Recorded)), None)
            if turn is None:
                return None
        return turn

    def _end(self, trial: Trial, state: TrialState, note: str = "") -> None:
        with self._records.writing() as session:
            row = session.get(Trial, trial.id)
            if row is None or row.state != TrialState.RUNNING:
                return  # it was stopped or deleted in the meantime
            row.state, row.note = state, note
            row.finished_at = now() if state == TrialState.DONE else None
            if state == TrialState.PAUSED:
                message = f"The trial of {row.label} is paused. {note}"
                notify_team(session, row.team_id, "trial.paused", message, {"trial": row.id})
            elif row.scheduled:
                session.flush()
                notify_of_losses(session, row)


def _next_question(session: Session, trial: Trial) -> TrialResult | None:
    query = select(TrialResult).where(TrialResult.trial_id == trial.id, TrialResult.result == "")
    return session.scalar(query.order_by(TrialResult.number).limit(1))


def _tokens(session: Session, trial: Trial) -> int:
    query = select(func.sum(TrialResult.tokens)).where(TrialResult.trial_id == trial.id)
    return session.scalar(query) or 0


def _target(session: Session, trial: Trial) -> Target:
    """Return what a trial asks, without knowledge bases and editions that are gone."""
    stored = trial.settings
    kbs = []
    for part in stored.get("kbs", ()):
        kb = session.get(Kb, part["kb"])
        if kb is None or kb.team_id != trial.team_id:
            continue
        chosen = trial.editions.get(kb.id)
        edition = None if chosen is None else session.get(Edition, chosen)
        if chosen is not None and (edition is None or edition.kb_id != kb.id):
            continue
        use_for, tags = part.get("use_for", ""), part.get("tags") or {}
        kbs.append(TargetKb(kb.id, use_for, tags, edition_id=chosen))
    desk = None if trial.desk_id is None else session.get(Desk, trial.desk_id)
    return Target(
        team_id=trial.team_id,
        kbs=tuple(kbs),
        settings=answer_settings("" if desk is None else desk.name, stored),
        kb_id=trial.asked_kb,
        desk_id=trial.desk_id,
        version=trial.desk_version,
        model=stored.get("model"),
        link_tags=tuple(stored.get("link_tags", ())),
        stored=stored,
    )


def _record(session: Session, row: TrialResult, turn: Turn) -> None:
    """Judge an answer and store the result."""
    ids = [citation["document_id"] for citation in turn.citations]
    query = select(Document).where(Document.team_id == turn.team_id, Document.id.in_(ids))
    names = {document.id: document.name for document in session.scalars(query)}
    cited = tuple(
        Cited((one["document_id"], one["title"], names.get(one["document_id"], "")), one["quote"])
        for one in turn.citations
    )
    content = row.content
    expected = Expectation(
        tuple(content["documents"]),
        tuple(content["quotes"]),
        tuple(content["contains"]),
        content["must_decline"],
    )
    judgement = judge(expected, Given(turn.outcome == "declined", turn.text, cited))
    row.result, row.reason, row.cited = judgement.result.value, judgement.reason, judgement.cited
    row.outcome, row.text, row.composer = turn.outcome, turn.text, turn.composer
    row.citations = [
        {
            "document": names.get(one["document_id"], one["title"]),
            "title": one["title"],
            "quote": one["quote"],
        }
        for one in turn.citations
    ]
    row.sufficiency = round(turn.sufficiency, 4)
    row.doubtful = sum(1 for one in turn.statements or () if one["verdict"] in DOUBTFUL)
    row.tokens, row.cost = turn.tokens_read + turn.tokens_written, turn.cost
    row.seconds = float(turn.seconds.get("total", 0.0))
    row.turn_id, row.asked_at = turn.id, now()


def stop_trials(session: Session, trial: Trial) -> None:
    """Stop a trial; its results stay."""
    query = update(Trial).where(
        Trial.id == trial.id,
        Trial.state.in_((TrialState.WAITING, TrialState.RUNNING, TrialState.PAUSED)),
    )
    session.execute(query.values(state=TrialState.STOPPED))
    session.refresh(trial)
