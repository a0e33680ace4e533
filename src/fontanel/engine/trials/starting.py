"""Begin trials: when a person asks for one, each night, or after a source has changed documents."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import exists, func, select
from sqlalchemy.orm import Session

from fontanel.core.trials import Change, Result, compare
from fontanel.engine.answering.targets import published_version
from fontanel.engine.notices.notify import notify_team
from fontanel.engine.trials.sets import FIELDS, questions_of
from fontanel.errors import Conflict
from fontanel.records.ids import new_id
from fontanel.records.tables import (
    SETTLED_STATES,
    Desk,
    Document,
    QuestionSet,
    SetQuestion,
    Sync,
    SyncState,
    Team,
    Trial,
    TrialResult,
    TrialSchedule,
    TrialState,
    now,
)
from fontanel.records.unit_of_work import Records

#: The hour of a team's day at which nightly trials begin.
_HOUR = 2


def start_trial(
    session: Session,
    row: QuestionSet,
    settings: Mapping[str, Any],
    *,
    label: str,
    author: str,
    desk: Desk | None = None,
    version: int | None = None,
    kb_id: str | None = None,
    editions: Mapping[str, str] | None = None,
    max_tokens: int | None = None,
    pair_id: str | None = None,
    scheduled: bool = False,
) -> Trial:
    """Queue a trial of a set, with its questions as they are now.

    Args:
        settings: The desk settings that it is asked under.
        label: What is asked, for people.
        version: The desk's version; None for its draft, or other settings.
        kb_id: The knowledge base, where one is asked directly.
        editions: Editions other than the active ones, by knowledge base.
        pair_id: The trial that it is to be compared with.

    Raises:
        Conflict: the set has no questions.
    """
    questions = questions_of(session, row.id)
    if not questions:
        raise Conflict(f"The question set {row.name!r} has no questions.")
    trial = Trial(
        id=new_id("tria"),
        team_id=row.team_id,
        set_id=row.id,
        set_version=row.version,
        label=label,
        desk_id=None if desk is None else desk.id,
        desk_version=version,
        asked_kb=kb_id,
        settings=dict(settings),
        editions=dict(editions or {}),
        state=TrialState.WAITING,
        max_tokens=max_tokens,
        pair_id=pair_id,
        scheduled=scheduled,
        author=author,
    )
    session.add(trial)
    session.flush()
    session.add_all(
        TrialResult(
            team_id=row.team_id,
            trial_id=trial.id,
            question_id=question.id,
            number=number,
            content={name: getattr(question, name) for name in FIELDS},
            citations=[],
        )
        for number, question in enumerate(questions, 1)
    )
    session.flush()
    return trial


def results_of(session: Session, trial_id: str) -> Sequence[TrialResult]:
    """Return the results of a trial in the order of its questions."""
    query = select(TrialResult).where(TrialResult.trial_id == trial_id)
    return session.scalars(query.order_by(TrialResult.number)).all()


def judged(rows: Sequence[TrialResult]) -> dict[str, tuple[Result, str]]:
    """Return the results and texts by question, of those that were asked."""
    return {row.question_id: (Result(row.result), row.text) for row in rows if row.result}


def notify_of_losses(session: Session, trial: Trial) -> None:
    """Notify the team if a scheduled trial lost questions that the one before had right."""
    query = select(Trial).where(
        Trial.set_id == trial.set_id,
        Trial.desk_id == trial.desk_id,
        Trial.scheduled.is_(True),
        Trial.state == TrialState.DONE,
        Trial.created_at < trial.created_at,
    )
    before = session.scalar(query.order_by(Trial.created_at.desc()).limit(1))
    if before is None:
        return
    comparison = compare(
        judged(results_of(session, before.id)), judged(results_of(session, trial.id))
    )
    lost = comparison.count(Change.LOST)
    if lost:
        questions = "1 question" if lost == 1 else f"{lost} questions"
        message = (
            f"{trial.label}: {questions} answered rightly in the trial before"
            " are not answered rightly now."
        )
        data = {"trial": trial.id, "before": before.id, "lost": lost}
        notify_team(session, trial.team_id, "trial.fell", message, data)


class TrialTimetable:
    """Begins the trials that are due."""

    def __init__(self, records: Records) -> None:
        self._records = records

    def start_due(self) -> None:
        """Queue a trial of each set whose schedule says so."""
        with self._records.reading() as session:
            planned = select(QuestionSet).where(
                QuestionSet.schedule != TrialSchedule.NEVER, QuestionSet.desk_id.is_not(None)
            )
            due = [row.id for row in session.scalars(planned) if _due(session, row)]
        for set_id in due:
            with self._records.writing() as session:
                row = session.get(QuestionSet, set_id)
                if row is not None and _due(session, row):
                    _start(session, row)


def _start(session: Session, row: QuestionSet) -> None:
    desk = session.get_one(Desk, row.desk_id)
    version = published_version(session, desk)
    assert version is not None
    start_trial(
        session,
        row,
        version.settings,
        label=f"{desk.name}, version {version.number}",
        author=row.schedule.value.replace("_", " "),
        desk=desk,
        version=version.number,
        scheduled=True,
    )


def _due(session: Session, row: QuestionSet) -> bool:
    desk = None if row.desk_id is None else session.get(Desk, row.desk_id)
    asked = select(exists().where(SetQuestion.set_id == row.id))
    if desk is None or desk.published is None or not session.scalar(asked):
        return False
    last = session.scalar(
        select(func.max(Trial.created_at)).where(Trial.set_id == row.id, Trial.scheduled.is_(True))
    )
    since = last or row.changed_at
    if row.schedule == TrialSchedule.NIGHTLY:
        team = session.get_one(Team, row.team_id)
        return since < last_night(now(), team.time_zone)
    version = published_version(session, desk)
    kbs = [part["kb"] for part in version.settings["kbs"]] if version is not None else []
    changed = Sync.added + Sync.changed + Sync.moved + Sync.removed
    synced = exists().where(
        Sync.kb_id.in_(kbs),
        Sync.state == SyncState.DONE,
        Sync.finished_at > since,
        changed > 0,
    )
    unsettled = exists().where(Document.kb_id.in_(kbs), Document.state.not_in(SETTLED_STATES))
    return bool(session.scalar(select(synced))) and not session.scalar(select(unsettled))


def last_night(moment: datetime, time_zone: str) -> datetime:
    """Return the last time at which nightly trials begin, before a moment."""
    local = moment.astimezone(ZoneInfo(time_zone))
    begin = local.replace(hour=_HOUR, minute=0, second=0, microsecond=0)
    return begin if begin <= local else begin - timedelta(days=1)
