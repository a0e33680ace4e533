"""Question sets: found, changed, and filled from answers, gaps, approved and proposed questions."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.engine.answering.turn_records import StoredCitation
from fontanel.errors import Conflict, NotFound
from fontanel.records.ids import new_id
from fontanel.records.scope import TeamScope
from fontanel.records.tables import (
    ApprovedAnswer,
    ApprovedState,
    Document,
    Gap,
    Kb,
    Proposal,
    ProposalState,
    QuestionSet,
    SetQuestion,
    Turn,
    now,
)

#: The maximum number of questions of a set, and of sets of a team.
MAX_QUESTIONS, MAX_SETS = 5000, 200
#: What a question consists of.
FIELDS = (
    "question",
    "history",
    "documents",
    "quotes",
    "contains",
    "must_decline",
    "kind",
    "note",
)
#: Earlier questions of a conversation that a question is taken over with.
_MAX_HISTORY = 5


def find_set(scope: TeamScope, ref: str) -> QuestionSet:
    """Return a question set of a team by id or short name.

    Raises:
        NotFound: there is none.
    """
    query = scope.select(QuestionSet).where((QuestionSet.id == ref) | (QuestionSet.slug == ref))
    result = scope.session.scalar(query)
    if result is None:
        raise NotFound("question set", ref)
    return result


def find_question(scope: TeamScope, row: QuestionSet, ref: str) -> SetQuestion:
    """Return a question of a set by its id.

    Raises:
        NotFound: there is none.
    """
    query = scope.select(SetQuestion).where(SetQuestion.set_id == row.id, SetQuestion.id == ref)
    result = scope.session.scalar(query)
    if result is None:
        raise NotFound("question", ref)
    return result


def questions_of(session: Session, set_id: str) -> Sequence[SetQuestion]:
    """Return the questions of a set in their order."""
    query = select(SetQuestion).where(SetQuestion.set_id == set_id)
    return session.scalars(query.order_by(SetQuestion.number)).all()


def touch(row: QuestionSet) -> None:
    """Count a change of a set."""
    row.version += 1
    row.changed_at = now()


def add_questions(
    session: Session, row: QuestionSet, questions: Sequence[Mapping[str, Any]]
) -> list[SetQuestion]:
    """Add questions at the end of a set.

    Args:
        questions: The fields of `FIELDS`, and `origin`.

    Raises:
        Conflict: the set would have too many.
    """
    of_set = SetQuestion.set_id == row.id
    count, last = session.execute(
        select(func.count(), func.max(SetQuestion.number)).where(of_set)
    ).one()
    if count + len(questions) > MAX_QUESTIONS:
        raise Conflict(f"A question set has at most {MAX_QUESTIONS:,} questions.")
    added = [
        SetQuestion(
            id=new_id("ques"),
            team_id=row.team_id,
            set_id=row.id,
            number=(last or 0) + place,
            **{"history": [], "documents": [], "quotes": [], "contains": [], **fields},
        )
        for place, fields in enumerate(questions, 1)
    ]
    session.add_all(added)
    if added:
        touch(row)
    session.flush()
    return added


def from_turn(scope: TeamScope, turn: Turn) -> dict[str, Any]:
    """Return a question as it was asked, expected to be answered from the same places.

    A question that was declined is expected to be declined.
    """
    earlier = scope.select(Turn).where(
        Turn.conversation_id == turn.conversation_id, Turn.number < turn.number
    )
    rows = scope.session.scalars(earlier.order_by(Turn.number.desc()).limit(_MAX_HISTORY)).all()
    follows = turn.standalone != turn.question
    citations = [StoredCitation.load(record) for record in turn.citations]
    return {
        "question": turn.question,
        "history": [row.question for row in reversed(rows)] if follows else [],
        "documents": _names(scope, [citation.document_id for citation in citations]),
        "quotes": list(dict.fromkeys(citation.quote for citation in citations)),
        "must_decline": turn.outcome == "declined",
        "origin": f"answer {turn.id}",
    }


def from_approved(
    scope: TeamScope, kb: Kb, category: str | None, *, phrasings: bool
) -> list[dict[str, Any]]:
    """Return the questions of the approved answers that are served.

    Args:
        category: Only those of this category.
        phrasings: Also their other wordings, each as a question.
    """
    query = scope.select(ApprovedAnswer).where(
        ApprovedAnswer.kb_id == kb.id, ApprovedAnswer.state == ApprovedState.APPROVED
    )
    if category is not None:
        query = query.where(ApprovedAnswer.category == category)
    rows = scope.session.scalars(query.order_by(ApprovedAnswer.question)).all()
    return [
        {
            "question": wording,
            "documents": _names(scope, [place["document_id"] for place in row.places]),
            "quotes": [place["quote"] for place in row.places if place["quote"]],
            "kind": row.category,
            "origin": f"approved {row.id}",
        }
        for row in rows
        for wording in (row.question, *(row.phrasings if phrasings else ()))
    ]


def from_proposals(scope: TeamScope, kb: Kb, *, phrasings: bool) -> list[dict[str, Any]]:
    """Return the open proposed questions, expected to be answered from their own text.

    Args:
        phrasings: Also their other wordings, each as a question.
    """
    query = scope.select(Proposal).where(
        Proposal.kb_id == kb.id, Proposal.state == ProposalState.OPEN
    )
    rows = scope.session.scalars(query.order_by(Proposal.document_id, Proposal.start)).all()
    return [
        {
            "question": wording,
            "documents": _names(scope, [row.document_id]),
            "quotes": [row.quote],
            "origin": f"proposal {row.id}",
        }
        for row in rows
        for wording in (row.question, *(row.phrasings if phrasings else ()))
    ]


def from_gap(scope: TeamScope, gap: Gap) -> dict[str, Any]:
    """Return the question of a gap; if it was closed with an answer, from the same places."""
    cited = (gap.answer or {}).get("citations", [])
    return {
        "question": gap.question,
        "documents": _names(scope, [one["document_id"] for one in cited]),
        "quotes": list(dict.fromkeys(one["quote"] for one in cited)),
        "origin": f"gap {gap.id}",
    }


def _names(scope: TeamScope, ids: Sequence[str]) -> list[str]:
    query = scope.select(Document).where(Document.id.in_(ids))
    names = {row.id: row.name for row in scope.session.scalars(query)}
    return [names[ref] for ref in dict.fromkeys(ids) if ref in names]
