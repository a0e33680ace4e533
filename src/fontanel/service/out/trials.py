"""Question sets and trials as the API returns them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.core.trials import (
    RIGHT_RESULTS,
    Comparison,
    Result,
    quantile,
)
from fontanel.engine.trials.sets import FIELDS
from fontanel.engine.trials.starting import results_of
from fontanel.records.tables import QuestionSet, SetQuestion, Trial, TrialResult
from fontanel.schemas import (
    ComparedAnswer,
    SetOut,
    SetQuestionOut,
    ShareOut,
    TrialCitation,
    TrialComparison,
    TrialFigures,
    TrialGroup,
    TrialOut,
    TrialResultOut,
)
from fontanel.service.out.shares import share_out

_ANSWERED = frozenset({Result.RIGHT, Result.WRONG, Result.NOT_DECLINED, Result.UNJUDGED})


def set_out(session: Session, row: QuestionSet) -> SetOut:
    count = session.scalar(select(func.count()).where(SetQuestion.set_id == row.id)) or 0
    return SetOut(
        id=row.id,
        slug=row.slug,
        name=row.name,
        about=row.about,
        questions=count,
        desk_id=row.desk_id,
        schedule=row.schedule.value,
        created_at=row.created_at,
        changed_at=row.changed_at,
        version=row.version,
    )


def question_out(row: SetQuestion) -> SetQuestionOut:
    fields = {name: getattr(row, name) for name in FIELDS}
    return SetQuestionOut(
        id=row.id, number=row.number, origin=row.origin, changed_at=row.changed_at, **fields
    )


@dataclass(frozen=True, slots=True)
class _Counted:
    """What figures are made of: a result without its texts."""

    result: str
    cited: bool | None
    outcome: str
    doubtful: int
    tokens: int
    cost: float
    seconds: float
    must_decline: bool
    kind: str
    documents: list[str]


def trials_out(session: Session, rows: Sequence[Trial]) -> list[TrialOut]:
    """Return trials with the figures of what they asked so far."""
    counted = _counted(session, [row.id for row in rows])
    sets = {
        one.id: one
        for one in session.scalars(
            select(QuestionSet).where(QuestionSet.id.in_({row.set_id for row in rows}))
        )
    }
    return [_trial_out(row, sets[row.set_id], counted[row.id]) for row in rows]


def trial_out(session: Session, row: Trial) -> TrialOut:
    """Return a trial with the figures of what it asked so far."""
    return trials_out(session, [row])[0]


def _counted(session: Session, trial_ids: Sequence[str]) -> dict[str, list[_Counted]]:
    content = TrialResult.content
    query = select(
        TrialResult.trial_id,
        TrialResult.result,
        TrialResult.cited,
        TrialResult.outcome,
        TrialResult.doubtful,
        TrialResult.tokens,
        TrialResult.cost,
        TrialResult.seconds,
        content["must_decline"].as_boolean(),
        content["kind"].as_string(),
        content["documents"].as_json(),
    ).where(TrialResult.trial_id.in_(trial_ids))
    results: dict[str, list[_Counted]] = {trial_id: [] for trial_id in trial_ids}
    for trial_id, *values in session.execute(query):
        results[trial_id].append(_Counted(*values))
    return results


def _trial_out(row: Trial, question_set: QuestionSet, results: Sequence[_Counted]) -> TrialOut:
    asked = [result for result in results if result.result]
    return TrialOut(
        id=row.id,
        question_set=question_set.slug,
        set_name=question_set.name,
        set_version=row.set_version,
        label=row.label,
        desk_id=row.desk_id,
        desk_version=row.desk_version,
        kb_id=row.asked_kb,
        state=row.state.value,
        note=row.note,
        total=len(results),
        asked=len(asked),
        max_tokens=row.max_tokens,
        compare_with=row.pair_id,
        scheduled=row.scheduled,
        author=row.author,
        created_at=row.created_at,
        started_at=row.started_at,
        finished_at=row.finished_at,
        figures=figures_of(asked),
    )


def figures_of(rows: Sequence[_Counted]) -> TrialFigures:
    """Return the figures of questions that were asked."""
    judged = [row for row in rows if row.result != Result.UNJUDGED]
    unanswerable = [row for row in judged if row.must_decline]
    answerable = [row for row in judged if not row.must_decline]
    answered = [row for row in rows if row.result in _ANSWERED]
    kinds: dict[str, list[_Counted]] = defaultdict(list)
    documents: dict[str, list[_Counted]] = defaultdict(list)
    for row in judged:
        kinds[row.kind].append(row)
        for name in row.documents:
            documents[name].append(row)
    seconds = [row.seconds for row in rows if row.outcome]
    return TrialFigures(
        right=_right(judged),
        cited=_share(sum(row.cited is True for row in answered), answered),
        declined_rightly=_share(
            sum(row.result == Result.DECLINED_RIGHTLY for row in unanswerable), unanswerable
        ),
        declined_wrongly=_share(
            sum(row.result == Result.DECLINED for row in answerable), answerable
        ),
        doubtful=sum(row.doubtful for row in rows),
        failed=sum(row.result == Result.FAILED for row in rows),
        tokens=sum(row.tokens for row in rows),
        cost=round(sum(row.cost for row in rows), 6),
        median_seconds=quantile(seconds, 0.5),
        p95_seconds=quantile(seconds, 0.95),
        kinds=_groups(kinds),
        documents=_groups(documents),
    )


def _groups(groups: dict[str, list[_Counted]]) -> list[TrialGroup]:
    return [TrialGroup(name=name, right=_right(groups[name])) for name in sorted(groups)]


def _right(rows: Sequence[_Counted]) -> ShareOut:
    return _share(sum(row.result in RIGHT_RESULTS for row in rows), rows)


def _share(count: int, rows: Sequence[_Counted]) -> ShareOut:
    return share_out(count, len(rows))


def result_out(row: TrialResult) -> TrialResultOut:
    return TrialResultOut(
        question_id=row.question_id,
        number=row.number,
        question=row.content["question"],
        kind=row.content["kind"],
        must_decline=row.content["must_decline"],
        result=Result(row.result).value if row.result else None,
        reason=row.reason,
        cited=row.cited,
        outcome=row.outcome,
        text=row.text,
        citations=[TrialCitation(**citation) for citation in row.citations],
        sufficiency=row.sufficiency,
        doubtful=row.doubtful,
        composer=row.composer,
        tokens=row.tokens,
        cost=row.cost,
        seconds=row.seconds,
        answer_id=row.turn_id,
    )


def comparison_out(
    session: Session, before: Trial, after: Trial, comparison: Comparison
) -> TrialComparison:
    """Return a comparison; answers that differ come first, lost ones before all others."""
    own, others = (
        {row.question_id: row for row in results_of(session, trial.id)} for trial in (before, after)
    )
    order = ["lost", "won", "changed", "same"]
    answers = [
        ComparedAnswer(
            question_id=question,
            question=others[question].content["question"],
            change=change.value,
            before=result_out(own[question]),
            after=result_out(others[question]),
        )
        for question, change in comparison.changes.items()
    ]
    answers.sort(key=lambda one: order.index(one.change))
    counts = {name: sum(one.change == name for one in answers) for name in order}
    return TrialComparison(
        before=trial_out(session, before),
        after=trial_out(session, after),
        probability=round(comparison.probability, 4),
        answers=answers,
        **counts,
    )
