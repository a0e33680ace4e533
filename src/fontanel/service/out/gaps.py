"""Gaps and feedback as the API returns them."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable, Sequence
from datetime import timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.engine.answering.turn_records import StoredEvidence
from fontanel.records.tables import (
    Desk,
    Feedback,
    Gap,
    GapKind,
    GapQuestion,
    Key,
    Person,
    Team,
    Turn,
    now,
)
from fontanel.schemas import (
    FeedbackItem,
    GapAnswer,
    GapComment,
    GapDesk,
    GapDetail,
    GapOut,
    GapPassage,
    GapQuestionOut,
    LocatorOut,
    SuggestionName,
)

#: Weeks of the trend, and questions and passages of a gap that are listed.
_WEEKS, _QUESTIONS, _PASSAGES = 8, 200, 3
#: The match from which a passage is near a question that it does not answer.
_NEAR = 0.5


def gaps_out(session: Session, gaps: Sequence[Gap]) -> list[GapOut]:
    """Return gaps with the counts of their questions."""
    ids = [gap.id for gap in gaps]
    questions: dict[str, list[GapQuestion]] = defaultdict(list)
    query = select(GapQuestion).where(GapQuestion.gap_id.in_(ids)).order_by(GapQuestion.key.desc())
    for row in session.scalars(query):
        questions[row.gap_id or ""].append(row)
    last = {rows[0].turn_id: gap for gap, rows in questions.items()}
    best = {
        last[turn.id]: max((one["match"] for one in turn.evidence), default=0.0)
        for turn in session.scalars(select(Turn).where(Turn.id.in_(last)))
    }
    names = _desk_names(session, {row.desk_id for rows in questions.values() for row in rows})
    return [
        _gap_out(gap, questions[gap.id], best.get(gap.id, 0.0), names)
        for gap in gaps
        if questions[gap.id]
    ]


def _gap_out(
    gap: Gap, rows: Sequence[GapQuestion], best: float, names: dict[str | None, str]
) -> GapOut:
    kinds = Counter(row.kind for row in rows)
    desks = Counter(row.desk_id for row in rows)
    return GapOut(
        id=gap.id,
        question=gap.question,
        state=gap.state.value,
        resolution=gap.resolution,
        resolved_by=gap.resolved_by,
        assignee=gap.assignee,
        count=len(rows),
        declined=kinds[GapKind.DECLINED],
        weak=kinds[GapKind.WEAK],
        unhelpful=kinds[GapKind.UNHELPFUL],
        desks=[
            GapDesk(desk_id=desk, name=names.get(desk, "a desk that is gone"), count=count)
            for desk, count in desks.most_common()
        ],
        weeks=_weeks(rows),
        suggestion=_suggestion(kinds, best),
        comments=len(gap.comments),
        first_at=min(row.asked_at for row in rows),
        last_at=max(row.asked_at for row in rows),
        checked_at=gap.checked_at,
    )


def _weeks(rows: Iterable[GapQuestion]) -> list[int]:
    counts = [0] * _WEEKS
    today = now()
    for row in rows:
        ago = (today - row.asked_at) // timedelta(weeks=1)
        if ago < _WEEKS:
            counts[_WEEKS - 1 - max(ago, 0)] += 1
    return counts


def _suggestion(kinds: Counter[GapKind], best: float) -> SuggestionName:
    if kinds[GapKind.UNHELPFUL]:
        return "correct"
    return "approve" if best >= _NEAR or kinds[GapKind.WEAK] else "write"


def gap_detail(session: Session, gap: Gap, team: Team) -> GapDetail:
    """Return a gap with its questions, what was found for the last one, and all comments."""
    (out,) = gaps_out(session, [gap])
    query = select(GapQuestion).where(GapQuestion.gap_id == gap.id)
    rows = session.scalars(query.order_by(GapQuestion.key.desc()).limit(_QUESTIONS)).all()
    turns = {
        turn.id: turn
        for turn in session.scalars(select(Turn).where(Turn.id.in_([row.turn_id for row in rows])))
    }
    names = askers(session, team, [turn.asker for turn in turns.values()])
    evidence = turns[rows[0].turn_id].evidence if rows else []
    return GapDetail(
        **out.model_dump(),
        questions=[
            GapQuestionOut(
                answer_id=row.turn_id,
                question=row.question,
                kind=row.kind.value,
                desk_id=row.desk_id,
                sufficiency=row.sufficiency,
                asked_at=row.asked_at,
                asker=names.get(turns[row.turn_id].asker),
            )
            for row in rows
        ],
        passages=[_passage(StoredEvidence.load(one)) for one in evidence[:_PASSAGES]],
        remarks=[GapComment(**one) for one in gap.comments],
        answer=None if gap.answer is None else GapAnswer(**gap.answer),
    )


def _passage(one: StoredEvidence) -> GapPassage:
    return GapPassage(
        kb_id=one.kb_id,
        document_id=one.document_id,
        title=one.title,
        locator=LocatorOut.model_validate(one.locator),
        text=one.text[:600],
        match=one.match,
    )


def feedback_items(session: Session, rows: Sequence[Feedback], team: Team) -> list[FeedbackItem]:
    """Return feedback with the answers that it is about."""
    ids = [row.turn_id for row in rows]
    turns = {turn.id: turn for turn in session.scalars(select(Turn).where(Turn.id.in_(ids)))}
    gaps: dict[str, str | None] = dict(
        session.execute(
            select(GapQuestion.turn_id, GapQuestion.gap_id).where(GapQuestion.turn_id.in_(ids))
        ).all()
    )
    names = askers(session, team, [row.asker for row in rows])
    desks = _desk_names(session, {row.desk_id for row in rows})
    items = []
    for row in rows:
        turn = turns[row.turn_id]
        cited = next((one["kb_id"] for one in turn.citations if one.get("kb_id")), None)
        items.append(
            FeedbackItem(
                id=row.id,
                answer_id=turn.id,
                question=turn.question,
                text=turn.text,
                outcome=turn.outcome,
                citation=row.citation,
                helpful=row.helpful,
                reason=row.reason,
                comment=row.comment,
                desk_id=row.desk_id,
                desk=desks.get(row.desk_id, "a desk that is gone"),
                kb_id=cited or next(iter(turn.editions or {}), None),
                gap_id=gaps.get(turn.id),
                handled=row.handled,
                assignee=row.assignee,
                reply=row.reply,
                replied_by=row.replied_by,
                asker=names.get(row.asker),
                created_at=row.created_at,
            )
        )
    return items


def askers(session: Session, team: Team, ids: Iterable[str]) -> dict[str, str]:
    """Return the names of askers, where the team shows them; guests stay unnamed."""
    if not team.show_askers:
        return {}
    wanted = set(ids)
    people = {
        f"person:{key}": name for key, name in session.execute(select(Person.id, Person.name))
    }
    keys = {f"key:{key}": f"key {name}" for key, name in session.execute(select(Key.id, Key.name))}
    known = {**people, **keys}
    return {one: known.get(one, "a guest") for one in wanted}


def _desk_names(session: Session, ids: set[str | None]) -> dict[str | None, str]:
    query = select(Desk.id, Desk.name).where(Desk.id.in_([one for one in ids if one]))
    return {None: "a knowledge base directly", **dict(session.execute(query).all())}
