"""Search for a question, or for a part of one, and check whether the evidence answers it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import zip_longest

from fontanel.core.answering.composing.asked import Draft, Scored
from fontanel.core.answering.composing.composer import draft
from fontanel.core.answering.composing.judging import CANDIDATES, judge, reason_unjudged
from fontanel.core.answering.composing.statements import Statement
from fontanel.core.answering.composing.tabulating import COMPUTED
from fontanel.core.answering.evidence import EvidencePassage, Knowledge, sufficiency
from fontanel.core.answering.question.parts import QuestionPart
from fontanel.core.answering.question.required import WITHOUT_NAME
from fontanel.core.answering.settings import AnswerSettings
from fontanel.core.answering.trace import Trace


@dataclass(frozen=True, slots=True)
class Finding:
    """The passages of a question, what the composer would quote, and whether that is enough."""

    part: QuestionPart
    passages: tuple[EvidencePassage, ...]
    composed: Draft
    sufficiency: float

    def answers(self, threshold: float) -> bool:
        return self.sufficiency >= threshold and bool(self.composed.chosen)

    @property
    def quoted(self) -> Sequence[Statement]:
        """The statements that an answer would quote."""
        composed = self.composed
        return composed.computed.statements if composed.computed else composed.chosen


def find(
    part: QuestionPart, knowledge: Knowledge, settings: AnswerSettings, trace: Trace
) -> Finding:
    """Retrieve the passages of a question, rank and check them, as steps of the trace."""
    with trace.step("retrieval") as step:
        passages = _retrieved(part.query, knowledge, settings)
        step.record(
            passages=len(passages), documents=len({passage.document_id for passage in passages})
        )
    judgement, found = None, passages
    if settings.deep:
        with trace.step("ranking by evidence") as step:
            judgement = judge(part.text, passages, knowledge)
            if judgement is None:
                step.record(skipped=reason_unjudged(part.text, passages))
            else:
                passages = tuple(judgement.ranked(passages))
                step.record(windows=judgement.windows)
        passages = passages[: settings.passages]
    with trace.step("evidence check") as step:
        composed = draft(part.query, passages, knowledge, settings, part.names, judgement, found)
        enough = (
            sufficiency(
                composed.support,
                keyword_only=composed.keyword_only,
                judged=judgement is not None,
            )
            if composed.chosen
            else 0.0
        )
        if composed.computed is not None:
            # Without rows there is a reason why nothing can be computed.
            enough = max(enough, COMPUTED) if composed.computed.statements else 0.0
        if composed.missing:
            enough = min(enough, WITHOUT_NAME)
            step.record(missing=composed.missing)
        step.record(
            question=part.text,
            sufficiency=round(enough, 4),
            threshold=settings.evidence_needed,
            enough=enough >= settings.evidence_needed,
            statements=len(composed.ranked),
        )
    return Finding(part, passages, composed, enough)


def _retrieved(
    query: str, knowledge: Knowledge, settings: AnswerSettings
) -> tuple[EvidencePassage, ...]:
    limit = max(settings.passages, CANDIDATES) if settings.deep else settings.passages
    result = knowledge.retrieve(query, limit)
    if settings.documents is None:
        return tuple(result)
    kept = list(dict.fromkeys(passage.document_id for passage in result))[: settings.documents]
    return tuple(passage for passage in result if passage.document_id in kept)


def all_passages(findings: Sequence[Finding]) -> tuple[EvidencePassage, ...]:
    """Return the passages of all parts, the best of each first."""
    turns = zip_longest(*(finding.passages for finding in findings))
    first: dict[int, EvidencePassage] = {}
    for passage in (passage for turn in turns for passage in turn if passage is not None):
        first.setdefault(passage.passage_id, passage)
    return tuple(first.values())


def all_statements(findings: Sequence[Finding]) -> list[Scored]:
    """Return the statements of all parts, each with its best score, best first."""
    best: dict[tuple[int, int], Scored] = {}
    for finding in findings:
        for item in finding.composed.ranked:
            place = item.statement.place
            if place not in best or best[place].score < item.score:
                best[place] = item
    return sorted(best.values(), key=lambda item: -item.score)


def shown_passages(findings: Sequence[Finding], count: int) -> tuple[EvidencePassage, ...]:
    """Return the nearest passages, and whichever others an answer quotes."""
    shown = {p.passage_id: p for p in all_passages(findings)[:count]}
    for finding in findings:
        for statement in finding.quoted:
            shown.setdefault(statement.passage.passage_id, statement.passage)
    return tuple(shown.values())
