"""Search hits as the API returns them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from fontanel.core.answering import EvidencePassage
from fontanel.core.index import FIELDS, Candidate
from fontanel.core.passages.splitting import Locator, locator_at
from fontanel.core.text.analysis import Term, analyser_of
from fontanel.engine.answering.retrieval import Hit, Results
from fontanel.schemas import (
    AlsoOut,
    ExplanationOut,
    HitOut,
    LocatorOut,
    NeighbourOut,
    SpanOut,
    TermOut,
)
from fontanel.service.out.validity import outdated_out


def hit_out(hit: Hit, results: Results, *, explain: bool) -> HitOut:
    """Return a hit, located at the section of its passage that matches best."""
    passage, candidate = hit.passage, hit.candidate
    terms = [
        term
        for term in analyser_of(passage.language).spans(passage.text)
        if term.text in results.weights
    ]
    spans = sorted({(term.start, term.end) for term in terms})
    return HitOut(
        passage_id=passage.passage_id,
        document_id=passage.document_id,
        document_name=hit.document.name,
        revision_id=passage.revision_id,
        title=passage.title,
        text=passage.text,
        start=passage.start,
        end=passage.start + len(passage.text),
        locator=LocatorOut(**_best_place(passage, terms, results.weights).to_dict()),
        match=round(candidate.match, 4),
        relevance=None if hit.relevance is None else round(hit.relevance, 4),
        score=round(candidate.score, 4),
        lexical=round(candidate.lexical, 4),
        similarity=None if candidate.similarity is None else round(candidate.similarity, 4),
        terms={term: round(weight, 4) for term, weight in candidate.terms.items()},
        highlights=[SpanOut(start=start, end=end) for start, end in spans],
        also=[
            AlsoOut(document_id=other.id, document_name=other.name, title=other.title)
            for other in hit.also
        ],
        neighbours=[
            NeighbourOut(passage_id=row.id, start=row.start, end=row.end, text=row.text)
            for row in hit.merged
        ],
        outdated=outdated_out(passage.outdated),
        explanation=_explanation(candidate, results) if explain else None,
    )


def _best_place(
    passage: EvidencePassage, terms: Sequence[Term], weights: Mapping[str, float]
) -> Locator:
    """Return the locator of the section whose distinct terms weigh most; the first of equals."""
    found: dict[tuple[str, ...], set[str]] = {}
    locators: dict[tuple[str, ...], Locator] = {}
    for term in terms:
        at = passage.start + term.start
        locator = locator_at(passage.locator, passage.parts, passage.text, passage.start, at)
        path = tuple(locator.heading_path)
        found.setdefault(path, set()).add(term.text)
        locators.setdefault(path, locator)
    if not found:
        return passage.locator
    return locators[max(found, key=lambda path: sum(weights[text] for text in found[path]))]


def _explanation(candidate: Candidate, results: Results) -> ExplanationOut:
    terms = []
    for term, score in sorted(candidate.terms.items(), key=lambda item: -item[1]):
        fields = {
            name: round(value, 4)
            for name, value in zip(FIELDS, candidate.fields[term], strict=True)
        }
        terms.append(
            TermOut(term=term, idf=round(results.weights[term], 4), score=round(score, 4), **fields)
        )
    return ExplanationOut(
        keyword_part=round(candidate.keyword_part, 4),
        semantic_part=round(candidate.semantic_part, 4),
        document_part=round(candidate.document_part, 4),
        boost=round(candidate.boost, 4),
        coverage=round(candidate.coverage, 4),
        window=None if candidate.window is None else round(candidate.window, 4),
        terms=terms,
    )
