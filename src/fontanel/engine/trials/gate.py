"""The question set that a desk has to pass before its draft is published."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.core.trials import RIGHT_RESULTS, Change, compare
from fontanel.engine.trials.starting import judged, results_of
from fontanel.errors import Conflict
from fontanel.records.tables import Desk, QuestionSet, Trial, TrialResult, TrialState

#: Settings of a desk that do not change its answers.
_LOOKS = frozenset(
    {
        "greeting",
        "first_questions",
        "symbol",
        "colour",
        "audience",
        "frame_origins",
        "trial_set",
        "max_losses",
    }
)
#: Questions that are named when a draft loses some.
_NAMED = 3

Settings = Mapping[str, Any]


def check_trial(session: Session, desk: Desk, draft: Settings, published: Settings | None) -> None:
    """Check that a draft passes its question set.

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
    row = session.get(QuestionSet, draft["trial_set"])
    if row is None or row.team_id != desk.team_id:
        raise Conflict(
            "The question set that this desk has to pass is gone.",
            field="settings.trial_set",
            advice="Choose another one, or none.",
        )
    after = _latest(session, desk, row, draft)
    if after is None:
        raise Conflict(
            f"The draft has to pass the question set {row.name!r} first.",
            advice="Run a trial of the draft, then publish it.",
        )
    before = None if published is None else _latest(session, desk, row, published)
    if published is not None and before is None:
        raise Conflict(
            f"The published version has no trial of the question set {row.name!r} to compare with.",
            advice=f"Run a trial of version {desk.published}, then publish the draft.",
        )
    lost = _lost(session, before, after)
    allowed = draft["max_losses"]
    if len(lost) > allowed:
        named = "; ".join(one.content["question"] for one in lost[:_NAMED])
        more = f" and {len(lost) - _NAMED} more" if len(lost) > _NAMED else ""
        raise Conflict(
            f"The draft loses {len(lost)} of the questions of {row.name!r},"
            f" {allowed} may be lost: {named}{more}.",
            advice="Compare both trials, and change the draft.",
        )


def _lost(session: Session, before: Trial | None, after: Trial) -> list[TrialResult]:
    rows = results_of(session, after.id)
    if before is None:
        return [row for row in rows if row.result not in {*RIGHT_RESULTS, "unjudged"}]
    changes = compare(judged(results_of(session, before.id)), judged(rows)).changes
    return [row for row in rows if changes.get(row.question_id) == Change.LOST]


def _latest(session: Session, desk: Desk, row: QuestionSet, settings: Settings) -> Trial | None:
    """Return the last finished trial of a set in its present version under the same settings."""
    query = select(Trial).where(
        Trial.set_id == row.id,
        Trial.set_version == row.version,
        Trial.desk_id == desk.id,
        Trial.state == TrialState.DONE,
    )
    wanted = _answering(settings)
    for trial in session.scalars(query.order_by(Trial.created_at.desc())):
        if not trial.editions and _answering(trial.settings) == wanted:
            return trial
    return None


def _answering(settings: Settings) -> dict[str, Any]:
    return {name: value for name, value in settings.items() if name not in _LOOKS}
