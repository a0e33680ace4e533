"""Asking: a question answered over a knowledge base, its turn recorded with everything needed to explain it later."""

from __future__ import annotations

import time
from collections.abc import Iterator
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.core.answering import (
    Answer,
    AnswerEvent,
    AnswerSettings,
    Citation,
    EvidenceFound,
    EvidencePassage,
    Exchange,
    Finished,
    answer,
)
from fontanel.records.database import Sessions, writing
from fontanel.records.ids import new_id
from fontanel.records.tables import Conversation, Turn, now
from fontanel.work.retrieval import KbKnowledge

_REMEMBERED = 4


def history_of(session: Session, conversation: Conversation | None) -> list[Exchange]:
    """The last exchanges of a conversation, oldest first."""
    if conversation is None:
        return []
    turns = session.scalars(
        select(Turn).where(Turn.conversation_id == conversation.id).order_by(Turn.number.desc()).limit(_REMEMBERED)
    ).all()
    return [
        Exchange(turn.question, turn.standalone, tuple(citation["title"] for citation in turn.citations))
        for turn in reversed(turns)
    ]


def ask(
    knowledge: KbKnowledge, question: str, history: list[Exchange], timings: dict[str, float],
    settings: AnswerSettings | None = None,
) -> Iterator[AnswerEvent]:  # fmt: skip
    """Answer, filling `timings` with the seconds until the evidence and until the end."""
    started = time.monotonic()
    for event in answer(question, history, knowledge, settings):
        if isinstance(event, EvidenceFound):
            timings["evidence"] = round(time.monotonic() - started, 4)
        elif isinstance(event, Finished):
            timings["total"] = round(time.monotonic() - started, 4)
        yield event


def record_turn(
    sessions: Sessions,
    conversation_id: str,
    answered: Answer,
    edition_id: str,
    timings: dict[str, float],
    request_id: str,
) -> Turn:
    """Write the turn down."""
    with writing(sessions) as session:
        conversation = session.get_one(Conversation, conversation_id)
        last = session.scalar(select(func.max(Turn.number)).where(Turn.conversation_id == conversation.id)) or 0
        turn = Turn(
            id=new_id("turn"), team_id=conversation.team_id, conversation_id=conversation.id, number=last + 1,
            question=answered.question, standalone=answered.standalone, outcome=answered.outcome.value,
            text=answered.text, sufficiency=answered.sufficiency,
            citations=[citation_record(citation) for citation in answered.citations],
            evidence=[evidence_record(passage) for passage in answered.evidence],
            edition_id=edition_id, composer="built-in", seconds=dict(timings), request_id=request_id,
        )  # fmt: skip
        conversation.changed_at = now()
        session.add(turn)
        session.commit()
        return turn


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
    }
