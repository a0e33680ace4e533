"""Search: passages for a question, with their scores, before any chat user is let in."""

from __future__ import annotations

import time

from fastapi import APIRouter

from fontanel.core.analysis import Analyser
from fontanel.core.index import Mode
from fontanel.records.tables import Edition, Kb
from fontanel.schemas import HitOut, LocatorOut, SearchIn, SearchOut, SpanOut
from fontanel.service.access import Access, Reader
from fontanel.work.retrieval import Hit, KbKnowledge

router = APIRouter(prefix="/teams/{team}/kbs/{kb}", tags=["search"])


def knowledge_of(
    access: Access, kb: Kb, tags: dict[str, str] | None = None, documents: list[str] | None = None
) -> KbKnowledge:
    """The knowledge base as it is at this moment."""
    edition = access.session.get_one(Edition, kb.edition_id)
    snapshot = access.workshop.editions.snapshot(edition.id)
    return KbKnowledge(access.scope, kb, snapshot, edition.embedder, access.workshop.embedders, tags, documents)


@router.post("/search", summary="Search a knowledge base")
def search(kb: str, body: SearchIn, access: Reader) -> SearchOut:
    """Ranked passages. `lexical` finds words, `vector` meaning, `hybrid` both."""
    started = time.monotonic()
    knowledge = knowledge_of(access, access.scope.kb(kb), body.tags, body.documents)
    hits = knowledge.search(body.question, body.limit, Mode(body.mode), body.per_document)
    terms = set(knowledge.terms(body.question))
    analysers = {hit.passage.language: Analyser(hit.passage.language) for hit in hits}
    return SearchOut(
        question=body.question, mode="lexical" if knowledge.by_words else body.mode, by_words=knowledge.by_words,
        hits=[_hit(hit, terms, analysers) for hit in hits], seconds=round(time.monotonic() - started, 4),
    )  # fmt: skip


def _hit(hit: Hit, terms: set[str], analysers: dict[str, Analyser]) -> HitOut:
    passage, candidate = hit.passage, hit.candidate
    spans = sorted(
        {(term.start, term.end) for term in analysers[passage.language].spans(passage.text) if term.text in terms}
    )
    return HitOut(
        passage_id=passage.passage_id, document_id=passage.document_id, document_name=hit.document.name,
        revision_id=passage.revision_id, title=passage.title, text=passage.text, start=passage.start,
        end=passage.start + len(passage.text), locator=LocatorOut(**passage.locator.to_dict()),
        match=round(candidate.match, 4), score=round(candidate.score, 4), lexical=round(candidate.lexical, 4),
        similarity=None if candidate.similarity is None else round(candidate.similarity, 4),
        terms={term: round(weight, 4) for term, weight in candidate.terms.items()},
        highlights=[SpanOut(start=start, end=end) for start, end in spans],
    )  # fmt: skip
