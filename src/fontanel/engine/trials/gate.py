"""Question sets that drafts of desks and editions have to pass before they are used."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import ColumnElement, select
from sqlalchemy.orm import Session

from fontanel.core.trials import RIGHT_RESULTS, Change, compare
from fontanel.engine.trials.starting import judged, results_of
from fontanel.errors import Conflict
from fontanel.records.tables import (
    Desk,
    Edition,
    Kb,
    QuestionSet,
    Trial,
    TrialResult,
    TrialState,
)

#: Settings of a desk that do not change its answers.
_LOOKS = frozenset(
    {
        "greeting",
        "first_questions",
        "symbol",
        "colour",
        "audience",
        "frame_origins",
        "signed_visitors",
        "trial_set",
        "max_losses",
    }
)
#: Questions that are named when a draft loses some.
_NAMED = 3

Settings = Mapping[str, Any]


def check_trial(session: Session, desk: Desk, draft: Settings, published: Settings | None) -> None:
    """Check that a draft passes the question set of its desk.

    It is compared with the published version; without one, each question that is not answered
    rightly is a loss. Trials of an earlier version of the set do not count.

    Args:
        draft: The settings to publish, all of them.
        published: The settings that are published now.

    Raises:
        Conflict: a trial is missing, or too many questions are lost.
    """
    if draft["trial_set"] is None:
        return
    row = _set_to_pass(session, desk.team_id, draft["trial_set"], "settings.trial_set")
    trials = [
        trial for trial in _finished(session, row, Trial.desk_id == desk.id) if not trial.editions
    ]
    after = _under(trials, draft)
    if after is None:
        raise Conflict(
            f"The draft has to pass the question set {row.name!r} first.",
            advice="Run a trial of the draft, then publish it.",
        )
    before = None if published is None else _under(trials, published)
    if published is not None and before is None:
        raise Conflict(
            f"The published version has no trial of the question set {row.name!r} to compare with.",
            advice=f"Run a trial of version {desk.published}, then publish the draft.",
        )
    _check_losses(session, row, before, after, draft["max_losses"], "The draft", "change the draft")


def check_edition(session: Session, kb: Kb, edition: Edition) -> None:
    """Check that an edition passes the question set of its knowledge base.

    It is compared with the active edition, in trials under the same settings.

    Raises:
        Conflict: a trial is missing, or too many questions are lost.
    """
    if kb.trial_set is None or edition.id == kb.edition_id:
        return
    row = _set_to_pass(session, kb.team_id, kb.trial_set, "trial_set")
    trials = _finished(session, row, Trial.asked_kb == kb.id)
    after = next((one for one in trials if one.editions == {kb.id: edition.id}), None)
    if after is None:
        raise Conflict(
            f"Edition {edition.number} has to pass the question set {row.name!r} first.",
            advice=f"Run a trial of edition {edition.number}, then switch to it.",
        )
    active = [one for one in trials if one.editions == {kb.id: kb.edition_id}]
    before = _under(active, after.settings)
    if before is None:
        raise Conflict(
            f"The active edition has no trial of the question set {row.name!r} under the same"
            " settings to compare with.",
            advice="Run a trial of the active edition, then switch.",
        )
    name = f"Edition {edition.number}"
    _check_losses(session, row, before, after, kb.max_losses, name, "build another edition")


def _set_to_pass(session: Session, team_id: str, set_id: str, field: str) -> QuestionSet:
    row = session.get(QuestionSet, set_id)
    if row is None or row.team_id != team_id:
        raise Conflict(
            "The question set that has to be passed is gone.",
            field=field,
            advice="Choose another one, or none.",
        )
    return row


def _check_losses(
    session: Session,
    row: QuestionSet,
    before: Trial | None,
    after: Trial,
    allowed: int,
    what: str,
    remedy: str,
) -> None:
    lost = _lost(session, before, after)
    if len(lost) <= allowed:
        return
    named = "; ".join(one.content["question"] for one in lost[:_NAMED])
    more = f" and {len(lost) - _NAMED} more" if len(lost) > _NAMED else ""
    raise Conflict(
        f"{what} loses {len(lost)} of the questions of {row.name!r},"
        f" {allowed} may be lost: {named}{more}.",
        advice=f"Compare both trials, and {remedy}.",
    )


def _lost(session: Session, before: Trial | None, after: Trial) -> list[TrialResult]:
    rows = results_of(session, after.id)
    if before is None:
        return [row for row in rows if row.result not in {*RIGHT_RESULTS, "unjudged"}]
    changes = compare(judged(results_of(session, before.id)), judged(rows)).changes
    return [row for row in rows if changes.get(row.question_id) == Change.LOST]


def _finished(session: Session, row: QuestionSet, of: ColumnElement[bool]) -> Sequence[Trial]:
    """Return the finished trials of a set in its present version, newest first."""
    query = select(Trial).where(
        Trial.set_id == row.id,
        Trial.set_version == row.version,
        Trial.state == TrialState.DONE,
        of,
    )
    return session.scalars(query.order_by(Trial.created_at.desc())).all()


def _under(trials: Sequence[Trial], settings: Settings) -> Trial | None:
    """Return the newest trial under settings that give the same answers."""
    wanted = _answering(settings)
    return next((trial for trial in trials if _answering(trial.settings) == wanted), None)


def _answering(settings: Settings) -> dict[str, Any]:
    return {name: value for name, value in settings.items() if name not in _LOOKS}
