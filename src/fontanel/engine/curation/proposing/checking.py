"""Check proposed questions: each must be answered by its own passage, and by no other better."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.core.answering.composing.judging import judge
from fontanel.core.answering.evidence import EvidencePassage, probability
from fontanel.core.passages.splitting import Locator, PassagePart
from fontanel.core.proposing import Proposal as Candidate
from fontanel.engine.answering.retrieval import KbKnowledge
from fontanel.records.tables import Document, Kb, PassageRow, Revision

#: Questions that are searched for of one document.
MAX_TRIED = 400
#: The language of the evidence model.
JUDGED_LANGUAGE = "en"
#: Passages that are compared with a question's own.
_COMPARED = 5
#: The relevance and the evidence, as probabilities, that a proposal has at least.
_MIN_RELEVANCE, _MIN_EVIDENCE = 0.5, 0.5


@dataclass(frozen=True, slots=True)
class Checked:
    """A question that its own passage answers, and no other better."""

    candidate: Candidate
    quote: str
    relevance: float


def document_passages(session: Session, kb: Kb, document: Document) -> list[EvidencePassage]:
    """Return the passages of a document in the active edition, in order."""
    query = select(PassageRow).where(
        PassageRow.edition_id == kb.edition_id, PassageRow.document_key == document.key
    )
    return [
        EvidencePassage(
            passage_id=row.id,
            document_id=document.id,
            revision_id=row.revision_id,
            title=document.title,
            text=row.text,
            start=row.start,
            locator=Locator.from_dict(row.locator),
            match=0.0,
            similarity=None,
            context=row.context,
            parts=tuple(PassagePart(**part) for part in row.parts),
            kb_id=kb.id,
        )
        for row in session.scalars(query.order_by(PassageRow.ordinal))
    ]


def is_judged_language(session: Session, document: Document) -> bool:
    """Return whether the evidence model reads the language of a document."""
    revision = session.get(Revision, document.revision_id)
    return revision is None or (revision.language or JUDGED_LANGUAGE) == JUDGED_LANGUAGE


def check_all(
    candidates: Iterable[Candidate], knowledge: KbKnowledge, *, judged: bool
) -> list[Checked]:
    """Return the candidates that their own passage answers best.

    Args:
        judged: Whether the evidence model has to find the answer too; without it the passage only
            has to be found first.
    """
    checked = (_checked(candidate, knowledge, judged=judged) for candidate in candidates)
    return [one for one in checked if one is not None]


def _checked(candidate: Candidate, knowledge: KbKnowledge, *, judged: bool) -> Checked | None:
    own = candidate.statement.passage
    passages = knowledge.retrieve(candidate.question, _COMPARED)
    if not passages or passages[0].passage_id != own.passage_id:
        return None
    quote = own.text[candidate.start - own.start : candidate.end - own.start]
    if not judged:
        return Checked(candidate, quote, passages[0].match)
    relevance = _relevance(candidate, passages, knowledge)
    return None if relevance is None else Checked(candidate, quote, relevance)


def _relevance(
    candidate: Candidate, passages: Sequence[EvidencePassage], knowledge: KbKnowledge
) -> float | None:
    """Return the relevance of a question's own statement; None if another passage has more."""
    judgement = judge(candidate.question, passages, knowledge)
    if judgement is None:
        return None
    best = max(judgement.relevance(passage) for passage in passages)
    relevance, evidence = judgement.of(candidate.statement)
    if relevance < best or probability(relevance) < _MIN_RELEVANCE:
        return None
    return probability(relevance) if probability(evidence) >= _MIN_EVIDENCE else None
