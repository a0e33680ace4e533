"""Search: passages for a question, with their scores, before any chat user is let in."""

from __future__ import annotations

import time

from fontanel.core.analysis import analyser_of
from fontanel.core.index import FIELDS, Candidate, Mode
from fontanel.records.tables import Edition, Kb
from fontanel.schemas import (
    AlsoOut,
    ExplanationOut,
    HitOut,
    LocatorOut,
    NeighbourOut,
    SearchIn,
    SearchOut,
    SpanOut,
    TermOut,
)
from fontanel.service.access import Access, Reader
from fontanel.service.problems import ProblemError
from fontanel.service.routers import api_router
from fontanel.service.turnstile import in_turn
from fontanel.work.retrieval import Hit, KbKnowledge, Options, Results

router = api_router("/teams/{team}/kbs/{kb}", "search")


def edition_of(access: Access, kb: Kb, number: int, field: str | None = None) -> Edition:
    """A knowledge base's edition by its number. Raises ProblemError(not-found), about that field of the request."""
    found = access.session.scalar(access.scope.select(Edition).where(Edition.kb_id == kb.id, Edition.number == number))
    if found is None:
        raise ProblemError("not-found", f"The knowledge base has no edition {number}.", field=field)
    return found


def knowledge_of(
    access: Access, kb: Kb, tags: dict[str, str] | None = None, documents: list[str] | None = None,
    edition: Edition | None = None,
) -> KbKnowledge:  # fmt: skip
    """The knowledge base as it is at this moment, in the edition that serves or in another one."""
    edition = edition or access.session.get_one(Edition, kb.edition_id)
    snapshot = access.workshop.editions.snapshot(edition.id)
    return KbKnowledge(access.scope, kb, snapshot, edition.embedder, access.workshop.embedders, tags, documents)


@router.post("/search", summary="Search a knowledge base")
async def search(kb: str, body: SearchIn, access: Reader) -> SearchOut:
    """Ranked passages. `lexical` finds words, `vector` meaning, `hybrid` both."""
    return await in_turn(_search, kb, body, access)


def _search(kb: str, body: SearchIn, access: Access) -> SearchOut:
    started = time.monotonic()
    found_kb = access.scope.kb(kb)
    edition = None if body.edition is None else edition_of(access, found_kb, body.edition, field="edition")
    knowledge = knowledge_of(access, found_kb, body.tags, body.documents, edition)
    boosts = {(key, value): factor for tag, factor in body.boost.items() for key, value in [tag.split("=", 1)]}
    options = Options(
        Mode(body.mode), body.limit, body.per_document, body.operators, body.words_weight, body.prefer_newer, boosts,
        body.join_neighbours, body.explain,
    )  # fmt: skip
    found = knowledge.search(body.question, options)
    return SearchOut(
        question=body.question, mode="lexical" if knowledge.by_words else body.mode, by_words=knowledge.by_words,
        hits=[_hit(hit, found, body.explain) for hit in found.hits],
        corrected={term: list(near) for term, near in found.corrected.items()}, looked_at=found.looked_at, seconds=round(time.monotonic() - started, 4),
    )  # fmt: skip


def _hit(hit: Hit, found: Results, explain: bool) -> HitOut:
    passage, candidate = hit.passage, hit.candidate
    spans = sorted(
        {
            (term.start, term.end)
            for term in analyser_of(passage.language).spans(passage.text)
            if term.text in found.weights
        }
    )
    return HitOut(
        passage_id=passage.passage_id, document_id=passage.document_id, document_name=hit.document.name,
        revision_id=passage.revision_id, title=passage.title, text=passage.text, start=passage.start,
        end=passage.start + len(passage.text), locator=LocatorOut(**passage.locator.to_dict()),
        match=round(candidate.match, 4), score=round(candidate.score, 4), lexical=round(candidate.lexical, 4),
        similarity=None if candidate.similarity is None else round(candidate.similarity, 4),
        terms={term: round(weight, 4) for term, weight in candidate.terms.items()},
        highlights=[SpanOut(start=start, end=end) for start, end in spans],
        also=[AlsoOut(document_id=other.id, document_name=other.name, title=other.title) for other in hit.also],
        neighbours=[
            NeighbourOut(passage_id=row.id, start=row.start, end=row.end, text=row.text) for row in hit.beside
        ],
        explanation=_explanation(candidate, found) if explain else None,
    )  # fmt: skip


def _explanation(candidate: Candidate, found: Results) -> ExplanationOut:
    terms = []
    for term, score in sorted(candidate.terms.items(), key=lambda item: -item[1]):
        fields = {name: round(value, 4) for name, value in zip(FIELDS, candidate.fields[term], strict=True)}
        terms.append(TermOut(term=term, idf=round(found.weights[term], 4), score=round(score, 4), **fields))
    return ExplanationOut(
        words_part=round(candidate.words_part, 4), meaning_part=round(candidate.meaning_part, 4),
        document_part=round(candidate.document_part, 4), boost=round(candidate.boost, 4), coverage=round(candidate.coverage, 4),
        window=None if candidate.window is None else round(candidate.window, 4), terms=terms,
    )  # fmt: skip
