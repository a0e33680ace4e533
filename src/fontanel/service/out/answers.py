"""Parts of answers as the API returns them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from fontanel.core.answering import CheckedStatement
from fontanel.core.passages.splitting import Locator
from fontanel.engine.answering.turn_records import StoredCitation, StoredEvidence
from fontanel.schemas import (
    ApprovalOut,
    ChoiceOut,
    CitationOut,
    EvidenceOut,
    LocatorOut,
    StatementOut,
)
from fontanel.service.out.validity import outdated_out


def locator_out(locator: Locator) -> LocatorOut:
    """Return a locator."""
    return LocatorOut(**locator.to_dict())


def citation_out(citation: StoredCitation) -> CitationOut:
    """Return a citation."""
    return CitationOut(
        number=citation.number,
        answer_start=citation.answer_start,
        answer_end=citation.answer_end,
        document_id=citation.document_id,
        revision_id=citation.revision_id,
        title=citation.title,
        locator=locator_out(citation.locator),
        start=citation.start,
        end=citation.end,
        quote=citation.quote,
        match=citation.match,
        support=citation.support,
        kb_id=citation.kb_id,
        also=list(citation.also),
        outdated=outdated_out(citation.outdated),
    )


def evidence_out(passage: StoredEvidence) -> EvidenceOut:
    """Return a passage that an answer could rest on."""
    return EvidenceOut(
        passage_id=passage.passage_id,
        document_id=passage.document_id,
        revision_id=passage.revision_id,
        title=passage.title,
        text=passage.text,
        start=passage.start,
        end=passage.end,
        locator=locator_out(passage.locator),
        match=passage.match,
        similarity=passage.similarity,
        kb_id=passage.kb_id,
    )


def statement_out(statement: CheckedStatement) -> StatementOut:
    """Return a statement that was checked just now."""
    return StatementOut(
        start=statement.start,
        end=statement.end,
        verdict=statement.verdict.value,
        support=statement.support,
        citations=list(statement.citations),
        reason=statement.reason,
        removed=statement.removed,
    )


def stored_citations(records: list[Mapping[str, Any]]) -> list[CitationOut]:
    """Return the citations of a stored turn."""
    return [citation_out(StoredCitation.load(record)) for record in records]


def stored_evidence(records: list[Mapping[str, Any]]) -> list[EvidenceOut]:
    """Return the evidence of a stored turn."""
    return [evidence_out(StoredEvidence.load(record)) for record in records]


def stored_statements(records: list[Mapping[str, Any]] | None) -> list[StatementOut]:
    """Return the statements of a stored turn."""
    return [StatementOut(**record) for record in records or ()]


def stored_approval(record: Mapping[str, Any] | None) -> ApprovalOut | None:
    """Return the approved answer that a stored turn was answered with."""
    return None if record is None else ApprovalOut(**record)


def stored_choices(records: list[Mapping[str, Any]] | None) -> list[ChoiceOut]:
    """Return the choices of a stored turn."""
    return [ChoiceOut(**record) for record in records or ()]
