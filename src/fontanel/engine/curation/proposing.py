"""Propose the questions that documents answer, for people to approve.

Each question made of a statement is searched for: it is only proposed if its own passage comes
first, and the evidence model finds the answer there, and nowhere better.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import structlog
from sqlalchemy import or_, select
from sqlalchemy.orm import Session

from fontanel.core.answering.composing.judging import judge
from fontanel.core.answering.composing.statements import statements
from fontanel.core.answering.evidence import EvidencePassage, probability
from fontanel.core.passages.splitting import Locator, PassagePart
from fontanel.core.proposing import Proposal as Candidate
from fontanel.core.proposing import propose
from fontanel.engine.answering.local_models import LocalModels
from fontanel.engine.answering.retrieval import KbKnowledge
from fontanel.engine.answering.targets import TargetKb, target_knowledge
from fontanel.engine.curation import approved
from fontanel.engine.editions.store import Editions
from fontanel.records.ids import new_id
from fontanel.records.scope import TeamScope
from fontanel.records.tables import (
    ApprovedState,
    Document,
    DocumentState,
    Kb,
    PassageRow,
    Proposal,
    ProposalRun,
    ProposalState,
    Revision,
    now,
)
from fontanel.records.unit_of_work import Records

log = structlog.get_logger()

#: Questions that are searched for of one document.
_MAX_TRIED = 400
#: Passages that are compared with a question's own.
_COMPARED = 5
#: The relevance and the evidence, as probabilities, that a proposal has at least.
_MIN_RELEVANCE, _MIN_EVIDENCE = 0.5, 0.5
#: A capitalised word within a sentence.
_NAME = re.compile(r"(?<=[a-z,] )[A-Z][\w-]*")
_LANGUAGE = "en"


@dataclass(frozen=True, slots=True)
class _Found:
    """A question that its own passage answers, and no other better."""

    candidate: Candidate
    quote: str
    relevance: float


class Proposing:
    """Proposes questions, a document at a time."""

    def __init__(self, records: Records, editions: Editions, local_models: LocalModels) -> None:
        self._records = records
        self._editions = editions
        self._local_models = local_models

    def propose_next(self) -> bool:
        """Propose the questions of a document, if one waits; return whether there was one."""
        with self._records.reading() as session:
            document = _next_document(session)
            if document is None:
                return False
            tried, found = 0, []
            error = self._problem(session, document)
            if not error:
                scope = TeamScope(session, document.team_id)
                kb = session.get_one(Kb, document.kb_id)
                known = target_knowledge(
                    scope, [TargetKb(kb.id)], self._editions, self._local_models
                )
                passages = _passages(session, kb, document)
                candidates = list(_candidates(passages))[:_MAX_TRIED]
                tried = len(candidates)
                found = [
                    one
                    for candidate in candidates
                    if (one := _checked(candidate, known.parts[kb.id]))
                ]
        with self._records.writing() as session:
            current = session.get(Document, document.key)
            if current is not None:
                _store(session, current, document.revision_id or "", found, tried, error)
        return True

    def _problem(self, session: Session, document: Document) -> str:
        """Return why a document's questions cannot be proposed; empty if they can."""
        if self._local_models.evidence_name is None:
            return "Without the evidence model no questions are proposed."
        revision = session.get(Revision, document.revision_id)
        if revision is not None and (revision.language or _LANGUAGE) != _LANGUAGE:
            return "Questions are proposed of English documents only."
        return ""


def _next_document(session: Session) -> Document | None:
    """Return a document that was asked for, or whose knowledge base proposes by itself.

    Most knowledge bases do not: their documents are not looked at.
    """
    indexed = select(Document).where(Document.state == DocumentState.INDEXED)
    asked = indexed.join(ProposalRun, ProposalRun.document_id == Document.id).where(
        ProposalRun.waiting.is_(True)
    )
    found = session.scalar(asked.limit(1))
    if found is not None:
        return found
    kbs = session.scalars(select(Kb.id).where(Kb.proposes_questions.is_(True))).all()
    if not kbs:
        return None
    due = indexed.outerjoin(ProposalRun, ProposalRun.document_id == Document.id).where(
        Document.kb_id.in_(kbs),
        or_(ProposalRun.document_id.is_(None), ProposalRun.revision_id != Document.revision_id),
    )
    return session.scalar(due.limit(1))


def _passages(session: Session, kb: Kb, document: Document) -> list[EvidencePassage]:
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


def _candidates(passages: Sequence[EvidencePassage]) -> Iterator[Candidate]:
    names = {name for passage in passages for name in _NAME.findall(passage.text)}
    seen: set[str] = set()
    for passage in passages:
        for candidate in propose(statements(passage), names.__contains__):
            if candidate.question not in seen:
                seen.add(candidate.question)
                yield candidate


def _checked(candidate: Candidate, knowledge: KbKnowledge) -> _Found | None:
    """Return a candidate that its own passage answers best, None of another."""
    own = candidate.statement.passage
    passages = knowledge.retrieve(candidate.question, _COMPARED)
    if not passages or passages[0].passage_id != own.passage_id:
        return None
    judgement = judge(candidate.question, passages, knowledge)
    if judgement is None:
        return None
    best = max(judgement.relevance(passage) for passage in passages)
    relevance, evidence = judgement.of(candidate.statement)
    if relevance < best or probability(relevance) < _MIN_RELEVANCE:
        return None
    if probability(evidence) < _MIN_EVIDENCE:
        return None
    quote = own.text[candidate.start - own.start : candidate.end - own.start]
    return _Found(candidate, quote, probability(relevance))


def _store(
    session: Session,
    document: Document,
    revision_id: str,
    found: Sequence[_Found],
    tried: int,
    error: str,
) -> None:
    """Replace the open proposals of a document; decisions on unchanged text are kept."""
    run = session.get(ProposalRun, document.id)
    if run is None:
        run = ProposalRun(document_id=document.id, team_id=document.team_id, kb_id=document.kb_id)
        session.add(run)
    run.revision_id, run.waiting, run.tried, run.error = revision_id, False, tried, error
    run.changed_at = now()
    rows = session.scalars(select(Proposal).where(Proposal.document_id == document.id)).all()
    by_question = {row.question: row for row in rows}
    by_quote = {row.quote: row for row in rows if row.edited}
    kept: set[str] = set()
    for one in found:
        row = by_question.get(one.candidate.question) or by_quote.get(one.quote)
        if row is None:
            row = Proposal(
                id=new_id("prop"),
                team_id=document.team_id,
                kb_id=document.kb_id,
                document_id=document.id,
                question=one.candidate.question,
                phrasings=list(one.candidate.phrasings),
                answer=one.candidate.answer,
                state=ProposalState.OPEN,
            )
            session.add(row)
        elif row.quote != one.quote:
            # The text has changed: it is proposed again, with what it says now.
            row.state, row.decided_by, row.approved_id = ProposalState.OPEN, "", None
            row.answer, row.edited = one.candidate.answer, False
        row.revision_id, row.quote, row.relevance = revision_id, one.quote, one.relevance
        row.start, row.end, row.changed_at = one.candidate.start, one.candidate.end, now()
        kept.add(row.id)
    for row in rows:
        if row.id not in kept and row.state != ProposalState.APPROVED:
            session.delete(row)


def request(session: Session, document: Document) -> ProposalRun:
    """Have the questions of a document proposed, again if they were before."""
    run = session.get(ProposalRun, document.id)
    if run is None:
        run = ProposalRun(
            document_id=document.id, team_id=document.team_id, kb_id=document.kb_id, tried=0
        )
        session.add(run)
    run.waiting, run.error, run.changed_at = True, "", now()
    session.flush()
    return run


def approve(scope: TeamScope, kb: Kb, row: Proposal, author: str, category: str) -> None:
    """Make an approved answer of a proposal, with its text as the source."""
    document = scope.document(kb, row.document_id)
    locator = approved.locator_in(scope, row.revision_id, row.start)
    place = approved.Place(
        document.id, row.revision_id, document.title, row.start, row.end, row.quote, locator
    )
    values = {
        "question": row.question,
        "phrasings": row.phrasings,
        "text": row.answer,
        "places": [place.dump()],
        "category": category,
        "state": ApprovedState.APPROVED,
    }
    made = approved.create(scope.session, kb, values, author)
    row.state, row.approved_id = ProposalState.APPROVED, made.id
    row.decided_by, row.changed_at = author, now()


def dismiss(row: Proposal, author: str) -> None:
    """Decide that a question is not to be approved; it is not proposed again."""
    row.state, row.decided_by, row.changed_at = ProposalState.DISMISSED, author, now()
