"""What the evidence model says about the passages of a question and their statements."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from fontanel.core.answering.composing.statements import Statement
from fontanel.core.answering.composing.windows import Window, windows
from fontanel.core.answering.evidence import EvidencePassage, Knowledge, probability
from fontanel.core.evidence import WindowText
from fontanel.core.text.language import detect_language

#: Passages of which windows are scored.
CANDIDATES = 30
#: Windows that are scored for a question, and the passages of which all are.
MAX_WINDOWS, _WHOLE = 32, 3
#: Logits of what was not scored; beyond this size logits count alike.
UNJUDGED = -6.0
#: The share of the model in the order of passages, next to their match, and in the score of a
#: statement: of its window's relevance, and of its own evidence.
RANKING, _RELEVANCE, _EVIDENCE = 0.24, 0.15, 0.1
#: The language of the evidence model.
LANGUAGE = "en"


@dataclass(frozen=True, slots=True)
class Judgement:
    """Logits of relevance by passage, and of relevance and evidence by statement."""

    passages: dict[int, float] = field(default_factory=dict)
    statements: dict[tuple[int, int], tuple[float, float]] = field(default_factory=dict)
    windows: int = 0

    def relevance(self, passage: EvidencePassage) -> float:
        """Return the relevance of a passage's best window."""
        return self.passages.get(passage.passage_id, UNJUDGED)

    def of(self, statement: Statement) -> tuple[float, float]:
        """Return the relevance of a statement's window, and the evidence of the statement."""
        return self.statements.get(statement.place, (UNJUDGED, UNJUDGED))

    def ranked(self, passages: Sequence[EvidencePassage]) -> list[EvidencePassage]:
        """Return passages in the order of their match and their relevance together."""
        return sorted(passages, key=lambda p: -(p.match + RANKING * scaled(self.relevance(p))))

    def score(self, statement: Statement) -> float:
        """Return what the model adds to a statement's score."""
        relevance, evidence = self.of(statement)
        return _RELEVANCE * probability(relevance) + _EVIDENCE * probability(evidence)


def scaled(logit: float) -> float:
    """Return a logit as a feature in 0-1."""
    return min(max(0.5 - logit / (2 * UNJUDGED), 0.0), 1.0)


def judge(
    question: str, passages: Sequence[EvidencePassage], knowledge: Knowledge
) -> Judgement | None:
    """Score the likeliest windows of the passages, best passages first.

    Returns None without an evidence model, or if it does not know the question's or the passages'
    language.
    """
    if _out_of_reach(question, passages):
        return None
    chosen = _likely(question, [p for p in passages if p.language == LANGUAGE], knowledge)
    if not chosen:
        return None
    texts = [
        WindowText(window.header, tuple(statement.text for statement in window.statements))
        for window in chosen
    ]
    scores = knowledge.score(question, texts)
    if scores is None:
        return None
    result = Judgement(windows=len(chosen))
    for window, score in zip(chosen, scores, strict=True):
        passage = window.statements[0].passage.passage_id
        result.passages[passage] = max(result.passages.get(passage, UNJUDGED), score.relevance)
        for statement, evidence in zip(window.statements, score.statements, strict=True):
            pair = (score.relevance, evidence)
            key = statement.place
            result.statements[key] = max(result.statements.get(key, pair), pair, key=sum)
    return result


def reason_unjudged(question: str, passages: Sequence[EvidencePassage]) -> str:
    """Return why the evidence model judged nothing, for the record of an answer."""
    return _out_of_reach(question, passages) or "there is no evidence model"


def _out_of_reach(question: str, passages: Sequence[EvidencePassage]) -> str:
    """Return why the model cannot read a question or any of its passages; empty if it can."""
    if not passages:
        return "no passage was found"
    if detect_language(question, least=2) != LANGUAGE:
        return "the evidence model reads English, and the question is in another language"
    if all(passage.language != LANGUAGE for passage in passages):
        return "the evidence model reads English, and the passages are in another language"
    return ""


def _likely(
    question: str, passages: Sequence[EvidencePassage], knowledge: Knowledge
) -> list[Window]:
    """Return all windows of the first passages, and the best ones of the others.

    A passage's best window is the one with most of the question's terms, by their weight.
    """
    weights = {term: knowledge.idf(term) for term in knowledge.terms(question)}

    def covered(window: Window) -> float:
        terms = set(knowledge.terms(" ".join(s.text for s in window.statements)))
        return sum(weight for term, weight in weights.items() if term in terms)

    chosen: list[Window] = []
    second: list[tuple[float, int, Window]] = []
    for place, passage in enumerate(passages):
        own = windows(passage)
        if place >= _WHOLE and len(own) > 1:
            scored = [(covered(window), -n, window) for n, window in enumerate(own)]
            scored.sort(key=lambda item: item[:2], reverse=True)
            own = [scored[0][2]]
            second += [(value, -place, window) for value, _, window in scored[1:]]
        chosen += own
    second.sort(key=lambda item: item[:2], reverse=True)
    return [*chosen, *(window for _, _, window in second)][:MAX_WINDOWS]
