"""Score how likely the evidence is to contain the answer."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np

from fontanel.core.answering.composing.asked import Question, Scored, embedded_form
from fontanel.core.answering.composing.judging import Judgement, scaled
from fontanel.core.answering.evidence import EvidencePassage, Knowledge, Support
from fontanel.core.answering.question.followup import split_search_form
from fontanel.core.answering.question.shape import fit
from fontanel.core.arrays import Floats


def support_of(
    question: Question,
    ranked: list[Scored],
    passages: Sequence[EvidencePassage],
    knowledge: Knowledge,
    judgement: Judgement | None = None,
) -> Support:
    """Return the features of the evidence; 0 for the evidence model's without a judgement."""
    best = ranked[0]
    passage = best.statement.passage
    near = " ".join((passage.title, *passage.locator.heading_path, passage.context, passage.text))
    soft, weakest = _soft_coverage(question, near, passages[:5], knowledge)
    relevant, passage_relevant = _relevance(question, ranked, passage, knowledge)
    return Support(
        similarity=max((p.similarity or 0.0) for p in passages),
        statement=max(item.cosine for item in ranked[:5]),
        coverage=question.coverage(set(knowledge.terms(near))),
        statement_coverage=best.coverage,
        soft=soft,
        weakest=weakest,
        shaped=max(fit(item.statement.text, question.own, question.shape) for item in ranked[:2]),
        relevant=relevant,
        passage_relevant=passage_relevant,
        window=_judged(ranked, judgement),
    )


def _judged(ranked: list[Scored], judgement: Judgement | None) -> float:
    if judgement is None:
        return 0.0
    return scaled(max(judgement.of(item.statement)[0] for item in ranked[:3]))


def _relevance(
    question: Question, ranked: list[Scored], passage: EvidencePassage, knowledge: Knowledge
) -> tuple[float, float]:
    """Return how relevant the first statements and the passage are, 0 to 1.

    Each word of the question is left out in turn: if that brings the question much closer to a
    text, the text is not about that word. Returns 1 less the largest gain.
    """
    own, topic = split_search_form(question.text)
    words = [match for match in re.finditer(r"[\w'’-]+", own) if knowledge.terms(match.group())]
    variants = [own, *(own[: match.start()] + own[match.end() :] for match in words)]
    asked = knowledge.embed([f"{variant.strip()} {topic}".strip() for variant in variants])
    if asked is None or not words:
        return 0.0, 0.0
    texts = [embedded_form(item.statement) for item in ranked[:4]] + [passage.text[:1500]]
    message = knowledge.embed(texts)
    assert message is not None
    closeness = asked @ message.T
    gains = (closeness[1:] - closeness[0]).max(axis=0)
    return 1.0 - float(gains[:-1].min()), 1.0 - float(gains[-1])


def _soft_coverage(
    question: Question, near: str, around: Sequence[EvidencePassage], knowledge: Knowledge
) -> tuple[float, float]:
    """Return how well the question's words are covered by similarity, word by word.

    The weighted mean over the words in the best passage, and the minimum over the words in the
    first passages together.
    """
    asked = {
        word.lower(): terms
        for word in WORD.findall(question.own)
        if word.lower() not in _LIGHT and (terms := knowledge.terms(word))
    }
    if not asked:
        return 0.0, 0.0
    here = _closeness(asked, near, semantic=question.vector is not None, knowledge=knowledge)
    there = _closeness(
        asked,
        " ".join(p.text for p in around),
        semantic=question.vector is not None,
        knowledge=knowledge,
    )
    weights = np.array(
        [
            max(max(question.weights.get(term, 0.0) for term in terms), 0.1)
            for terms in asked.values()
        ]
    )
    return float((here * weights).sum() / weights.sum()), float(np.maximum(here, there).min())


def _closeness(
    asked: dict[str, list[str]], text: str, *, semantic: bool, knowledge: Knowledge
) -> Floats:
    """Return, for each word asked, the similarity of the closest word.

    1 if it is present.
    """
    stored = set(knowledge.terms(text))
    exact = np.array(
        [1.0 if set(terms) & stored else 0.0 for terms in asked.values()], dtype=np.float32
    )
    if not semantic or exact.all():
        return exact
    words = sorted({word.lower() for word in WORD.findall(text) if knowledge.terms(word)})
    if not words:
        return exact
    mine, theirs = knowledge.embed(list(asked)), knowledge.embed(words)
    assert mine is not None
    assert theirs is not None
    closest: Floats = np.maximum(exact, (mine @ theirs.T).max(axis=1))
    return closest


WORD = re.compile(r"[^\W\d_]{3,}")


#: Words that a question needs but an answer does not: whether they occur says nothing.
_LIGHT = frozenset(
    [
        "get",
        "gets",
        "got",
        "let",
        "lets",
        "take",
        "takes",
        "bring",
        "put",
        "give",
        "gives",
        "given",
        "goes",
        "come",
        "comes",
        "use",
        "used",
        "make",
        "makes",
        "made",
        "happen",
        "happens",
        "want",
        "wants",
        "like",
        "need",
        "needs",
        "know",
        "tell",
        "keep",
        "kept",
        "find",
        "found",
        "look",
        "see",
        "seen",
        "try",
        "thing",
        "things",
        "way",
        "time",
        "long",
        "old",
        "new",
        "one",
        "two",
        "first",
        "much",
        "many",
        "kind",
        "sort",
        "please",
        "anyone",
        "anybody",
        "someone",
        "somebody",
        "nobody",
        "everyone",
        "everybody",
        "may",
        "might",
        "still",
        "even",
        "else",
        "ever",
        "far",
        "away",
        "back",
        "able",
        "allowed",
        "allow",
        "once",
        "sooner",
        "later",
        "others",
        "another",
        "besides",
        "mean",
        "means",
        "called",
        "work",
        "works",
        "people",
        "person",
        "way",
        "does",
        "did",
        "say",
        "says",
        "done",
        "want",
        "wish",
        "begin",
        "start",
        "run",
        "runs",
        "right",
        "now",
        "today",
        "someone",
    ]
)
