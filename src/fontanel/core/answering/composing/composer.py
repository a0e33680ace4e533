"""The built-in composer: quotes the statements that answer a question, in order.

It never states anything that no passage says: each sentence, item or row of an answer is a
quotation with its place.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np

from fontanel.core.answering.composing.asked import (
    Draft,
    Question,
    Scored,
    embedded_form,
)
from fontanel.core.answering.composing.choosing import choose
from fontanel.core.answering.composing.contrast import with_both
from fontanel.core.answering.composing.judging import Judgement
from fontanel.core.answering.composing.statements import Statement, statements
from fontanel.core.answering.composing.support import support_of
from fontanel.core.answering.composing.tabulating import tabulate
from fontanel.core.answering.evidence import NO_SUPPORT, EvidencePassage, Knowledge
from fontanel.core.answering.question.required import (
    missing_names,
    nearest_name,
)
from fontanel.core.answering.question.shape import fit
from fontanel.core.answering.settings import AnswerSettings
from fontanel.core.arrays import Floats

#: A sentence such as "What to do when oil is seen" announces an answer but contains none.
_ANNOUNCES = re.compile(r"^(?:what|how|who|where|why)\b(?!ever)", re.I)
#: Neither does one about the document: "It says when the port closes, and who decides".
_TELLS_OF = re.compile(
    r"\b(?:says?|tells?|describes?|explains?|sets? out|lays?"
    r" down|lists?|shows?|states?|covers?)\b[^.;]{0,40}?\b(?:when|how|who|what|where|which|whether|why)\b",  # noqa: E501
    re.I,
)
_OLD = re.compile(
    r"\b(?:superseded|withdrawn|obsolete|no longer in force|archived|replaced by)\b", re.I
)


#: Weights of a statement's parts: cosine, term coverage, its passage's match, the asked shape.
_COSINE, _COVERAGE, _MATCH, _SHAPE = 0.50, 0.30, 0.25, 0.08
#: What a number or an identifier of the question adds when a statement has it, or lacks it.
_EXACT = 0.08
#: How many statements are embedded, and of how many passages all are.
_MAX_EMBEDDED, _FIRST = 40, 2
_OLD_PENALTY, _TELLS_PENALTY = 0.3, 0.15


def draft(
    standalone: str,
    passages: Sequence[EvidencePassage],
    knowledge: Knowledge,
    settings: AnswerSettings | None = None,
    names: str | None = None,
    judgement: Judgement | None = None,
    found: Sequence[EvidencePassage] | None = None,
) -> Draft:
    """Rank the statements of the passages and choose those that answer.

    Args:
        names: The text of which the exact names must be in the evidence; default: the question.
        judgement: What the evidence model says about the passages.
        found: All passages that were found, in which names are looked for; default: the passages.
    """
    question = Question(standalone, knowledge, names)
    ranked = _rank(question, passages, knowledge, judgement)
    if not ranked:
        return Draft([], [], NO_SUPPORT, keyword_only=True)
    chosen, unquoted = with_both(
        question.own,
        choose(question, ranked, (settings or AnswerSettings()).length),
        ranked,
        knowledge.terms,
    )
    documents = {statement.passage.document_id for statement in chosen}
    quoted = _texts([passage for passage in passages if passage.document_id in documents])
    # First those that no passage has at all.
    everywhere = missing_names(question.names, _texts(found or passages))
    missing = tuple(dict.fromkeys((*everywhere, *missing_names(question.names, quoted))))
    return Draft(
        ranked,
        chosen,
        support_of(question, ranked, passages, knowledge, judgement),
        question.vector is None,
        missing,
        nearest_name(missing[0], quoted) if missing else "",
        unquoted,
        tabulate(question.own, ranked, knowledge.whole, knowledge.terms),
    )


def _texts(passages: Sequence[EvidencePassage]) -> list[str]:
    """Return the texts of passages with their titles and headings."""
    return [
        " ".join((passage.title, *passage.locator.heading_path, passage.context, passage.text))
        for passage in passages
    ]


def _rank(
    question: Question,
    passages: Sequence[EvidencePassage],
    knowledge: Knowledge,
    judgement: Judgement | None = None,
) -> list[Scored]:
    results = [statement for passage in passages for statement in statements(passage)]
    if not results:
        return []
    # The heading that a passage begins below applies to all of it.
    headings = [
        tuple(
            dict.fromkeys(
                (s.passage.title, *s.passage.locator.heading_path, *s.locator.heading_path)
            )
        )
        for s in results
    ]
    around = {path: set(knowledge.terms(" ".join(path))) for path in set(headings)}
    coverages = []
    for statement, path in zip(results, headings, strict=True):
        own = set(knowledge.terms(f"{statement.lead} {statement.text}"))
        coverages.append(
            0.75 * question.coverage(own) + 0.25 * question.coverage(own | around[path])
        )
    cosines = _cosines(question, results, coverages, passages, knowledge)
    scored: list[Scored] = []
    for statement, path, coverage, cosine in zip(
        results, headings, coverages, cosines, strict=True
    ):
        score = _COSINE * float(cosine) + _COVERAGE * coverage + _MATCH * statement.passage.match
        score += _SHAPE * fit(statement.text, question.own, question.shape)
        if question.exact:
            stored = len(question.named_in(statement.in_context))
            score += _EXACT * (2 * stored / len(question.exact) - 1)
        if (
            len(statement.text) < 15
            or statement.text.endswith("?")
            or _ANNOUNCES.match(statement.text)
        ):
            score -= 0.1
        if _TELLS_OF.search(statement.text):
            score -= _TELLS_PENALTY
        if statement.passage.demoted or (not question.asks_old and _OLD.search(" ".join(path))):
            score -= _OLD_PENALTY
        if judgement is not None:
            score += judgement.score(statement)
        scored.append(Scored(statement, score, float(cosine), coverage))
    return sorted(scored, key=lambda item: -item.score)


def _cosines(
    question: Question,
    candidates: list[Statement],
    coverages: list[float],
    passages: Sequence[EvidencePassage],
    knowledge: Knowledge,
) -> Floats:
    """Return the cosine of each statement with the question.

    Embedding takes most of the time of an answer. Beyond a limit, only statements of the first
    passages and those with most of the question's words are embedded; the others get a low value.
    """
    cosines = np.zeros(len(candidates), dtype=np.float32)
    if question.vector is None:
        return cosines
    first = {passage.passage_id for passage in passages[:_FIRST]}
    likely = sorted(
        range(len(candidates)),
        key=lambda n: (
            candidates[n].passage.passage_id not in first,
            -coverages[n] - _MATCH * candidates[n].passage.match,
            n,
        ),
    )[:_MAX_EMBEDDED]
    vectors = knowledge.embed([embedded_form(candidates[n]) for n in likely])
    assert vectors is not None
    cosines[likely] = vectors @ question.vector
    return cosines
