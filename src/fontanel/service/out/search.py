"""Search hits as the API returns them."""

from __future__ import annotations

from fontanel.core.index import FIELDS, Candidate
from fontanel.core.text.analysis import analyser_of
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


def _hit(hit: Hit, results: Results, *, explain: bool) -> HitOut:
    passage, candidate = hit.passage, hit.candidate
    spans = sorted(
        {
            (term.start, term.end)
            for term in analyser_of(passage.language).spans(passage.text)
            if term.text in results.weights
        }
    )
    return HitOut(
        passage_id=passage.passage_id,
        document_id=passage.document_id,
        document_name=hit.document.name,
        revision_id=passage.revision_id,
        title=passage.title,
        text=passage.text,
        start=passage.start,
        end=passage.start + len(passage.text),
        locator=LocatorOut(**passage.locator.to_dict()),
        match=round(candidate.match, 4),
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
        explanation=_explanation(candidate, results) if explain else None,
    )


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
