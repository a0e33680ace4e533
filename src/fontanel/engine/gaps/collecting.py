"""Collect what a turn shows: a question without a good answer, and which passages it needed."""

from __future__ import annotations

from typing import Any

from sqlalchemy import func, select
from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.orm import Session

from fontanel.core.answering import APPROVED
from fontanel.core.gaps.grouping import MAX_FOUND
from fontanel.engine.notices.notify import emit
from fontanel.facts import EventKind
from fontanel.records.tables import (
    AnswerSource,
    Feedback,
    GapKind,
    GapQuestion,
    PassageUse,
    Turn,
    TurnState,
)

#: The sufficiency below which an answer is more likely wrong than right.
WEAK = 0.5
#: What the askers of trials begin with: they are no chat users.
TRIAL = "trial:"


def note_turn(session: Session, turn: Turn) -> None:
    """Store what a finished turn shows, in the unit of work that stores it."""
    if turn.state != TurnState.DONE or turn.asker.startswith(TRIAL):
        return
    _emit_answer(session, turn)
    _note_uses(session, turn)
    if turn.composer != APPROVED:
        session.add_all(_sources_of(turn))
    if turn.outcome == "declined":
        session.add(_question_of(turn, GapKind.DECLINED))
    elif turn.outcome == "answered" and turn.composer != APPROVED and turn.sufficiency < WEAK:
        session.add(_question_of(turn, GapKind.WEAK))


def _emit_answer(session: Session, turn: Turn) -> None:
    """Send that a question was answered or declined, without who asked."""
    if turn.outcome not in ("answered", "declined"):
        return
    kind: EventKind = "answer.answered" if turn.outcome == "answered" else "answer.declined"
    about = {
        **_about(turn),
        "standalone": turn.standalone,
        "sufficiency": round(turn.sufficiency, 4),
        "composer": turn.composer,
        "documents": list(dict.fromkeys(one["document_id"] for one in turn.citations)),
    }
    emit(session, turn.team_id, kind, f"{turn.outcome.capitalize()}: {turn.question}", about)


def _about(turn: Turn) -> dict[str, Any]:
    return {
        "answer": turn.id,
        "conversation": turn.conversation_id,
        "desk": turn.desk_id,
        "kbs": list(turn.editions or {}),
        "question": turn.question,
    }


def emit_feedback(session: Session, turn: Turn, row: Feedback) -> None:
    """Send what a reader said about an answer or one of its citations, without who it was."""
    verdict = "Helpful" if row.helpful else "Not helpful"
    said = {
        "helpful": row.helpful,
        "reason": row.reason,
        "comment": row.comment,
        "citation": row.citation,
    }
    message = f"{verdict}: {turn.question}"
    emit(session, turn.team_id, "feedback.given", message, {**_about(turn), **said})


def note_feedback(session: Session, turn: Turn, *, helpful: bool) -> None:
    """Store that an answer was marked as unhelpful, or no longer is."""
    row = session.scalar(select(GapQuestion).where(GapQuestion.turn_id == turn.id))
    if not helpful and row is None:
        session.add(_question_of(turn, GapKind.UNHELPFUL))
    elif not helpful and row is not None and row.kind == GapKind.WEAK:
        row.kind = GapKind.UNHELPFUL
    elif helpful and row is not None and row.kind == GapKind.UNHELPFUL:
        session.delete(row)


def _question_of(turn: Turn, kind: GapKind) -> GapQuestion:
    found = [f"{one['document_id']}:{one['start']}" for one in turn.evidence]
    return GapQuestion(
        team_id=turn.team_id,
        turn_id=turn.id,
        kind=kind,
        question=turn.standalone or turn.question,
        desk_id=turn.desk_id,
        kb_ids=list(turn.editions or {}),
        found=found[:MAX_FOUND],
        sufficiency=round(turn.sufficiency, 4),
        asked_at=turn.created_at,
    )


def _sources_of(turn: Turn) -> list[AnswerSource]:
    """Return the text that an answer cites, to be followed; each place once."""
    places = {
        (one["kb_id"], one["document_id"], one["revision_id"], one["start"], one["end"]): one
        for one in turn.citations
        if one.get("kb_id")
    }
    return [
        AnswerSource(
            team_id=turn.team_id,
            kb_id=one["kb_id"],
            turn_id=turn.id,
            document_id=one["document_id"],
            title=one["title"],
            revision_id=one["revision_id"],
            checked_id=one["revision_id"],
            start=one["start"],
            end=one["end"],
            quote=one["quote"],
        )
        for one in places.values()
    ]


def _note_uses(session: Session, turn: Turn) -> None:
    """Count the passages that were found, and those that were cited."""
    rows = [
        {
            "team_id": turn.team_id,
            "kb_id": one["kb_id"],
            "document_id": one["document_id"],
            "revision_id": one["revision_id"],
            "start": one["start"],
            "found": 1,
            "cited": int(_cited(turn.citations, one)),
            "last_found_at": turn.created_at,
            "last_cited_at": turn.created_at if _cited(turn.citations, one) else None,
        }
        for one in turn.evidence
        if one.get("kb_id")
    ]
    if not rows:
        return
    counted = insert(PassageUse)
    session.execute(
        counted.on_conflict_do_update(
            index_elements=["revision_id", "start"],
            set_={
                "found": PassageUse.found + counted.excluded.found,
                "cited": PassageUse.cited + counted.excluded.cited,
                "last_found_at": counted.excluded.last_found_at,
                "last_cited_at": func.coalesce(
                    counted.excluded.last_cited_at, PassageUse.last_cited_at
                ),
            },
        ),
        rows,
    )


def _cited(citations: list[Any], passage: dict[str, Any]) -> bool:
    return any(
        one["revision_id"] == passage["revision_id"]
        and passage["start"] <= one["start"] < passage["end"]
        for one in citations
    )
