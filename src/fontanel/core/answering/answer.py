"""The way of a question: routing, stand-alone question, retrieval, evidence check, composing, citing, verifying."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from fontanel.core.answering.composer import draft
from fontanel.core.answering.events import (
    Answer,
    AnswerEvent,
    Citation,
    CitationBound,
    EvidenceFound,
    Finished,
    Outcome,
    Started,
    TextPiece,
)
from fontanel.core.answering.evidence import EvidencePassage, Knowledge, sufficiency
from fontanel.core.answering.followup import Exchange, stand_alone
from fontanel.core.answering.questions import small_talk
from fontanel.core.answering.statements import Statement
from fontanel.core.answering.verify import support

DECLINED = "The documents do not answer this question."
NOTHING_INDEXED = "There is nothing to answer from yet: no document of this knowledge base is indexed."


@dataclass(frozen=True, slots=True)
class AnswerSettings:
    """What an answer may use. The floor is where about one answerable question in eight about the manuals of
    `bench/calibrate.py` is declined.

    How many passages are looked through, how many of them are shown as evidence, how long an answer may be, and the
    sufficiency (0-1) below which a question is declined (`evidence_floor`)."""

    passages: int = 16
    shown: int = 8
    most_statements: int = 4
    evidence_floor: float = 0.4


def answer(
    question: str, history: Sequence[Exchange], knowledge: Knowledge, settings: AnswerSettings | None = None
) -> Iterator[AnswerEvent]:
    """Answer a question, event by event: started, evidence, then text pieces and the citations bound to them, finished."""
    settings = settings or AnswerSettings()
    if reply := small_talk(question):
        yield Started(question, question)
        yield TextPiece(reply)
        yield Finished(Answer(question, question, Outcome.SMALL_TALK, reply, (), (), 1.0))
        return
    standalone = stand_alone(question, history, knowledge.terms)
    yield Started(question, standalone)
    passages = tuple(knowledge.retrieve(standalone, settings.passages))
    composed = draft(standalone, passages, knowledge, settings.most_statements)
    enough = sufficiency(composed.support, composed.by_words) if composed.chosen else 0.0
    evidence = _shown(passages, composed.chosen, settings.shown)
    yield EvidenceFound(evidence, enough)
    if enough < settings.evidence_floor or not composed.chosen:
        text = DECLINED if passages else NOTHING_INDEXED
        yield TextPiece(text)
        yield Finished(Answer(question, standalone, Outcome.DECLINED, text, (), evidence, enough))
        return
    text = ""
    citations: list[Citation] = []
    for group in _groups(composed.chosen):
        before = len(text)
        piece = _set_group(group, first=not text)
        text += piece
        yield TextPiece(piece)
        start = before + len(piece) - len(piece.lstrip("\n "))
        citation = _cite(group, len(citations) + 1, start, len(text), knowledge)
        citations.append(citation)
        yield CitationBound(citation)
    yield Finished(Answer(question, standalone, Outcome.ANSWERED, text, tuple(citations), evidence, enough))


def _shown(passages: Sequence[EvidencePassage], chosen: list[Statement], most: int) -> tuple[EvidencePassage, ...]:
    """The nearest passages, and whichever others the answer quotes."""
    quoted = {statement.passage.passage_id for statement in chosen}
    return tuple(p for place, p in enumerate(passages) if place < most or p.passage_id in quoted)


def _groups(chosen: list[Statement]) -> list[list[Statement]]:
    """Statements that stand next to each other in one passage share a citation."""
    groups: list[list[Statement]] = []
    for statement in chosen:
        last = groups[-1][-1] if groups else None
        if last and last.passage is statement.passage and 0 <= statement.start - last.end <= 8:
            groups[-1].append(statement)
        else:
            groups.append([statement])
    return groups


def _set_group(group: list[Statement], first: bool) -> str:
    """Sentences run on; items and rows stand on lines of their own."""
    text = ""
    previous: Statement | None = None
    for statement in group:
        lined = statement.kind in ("item", "row", "code")
        if previous is None:
            text = "" if first else "\n\n" if lined or group[0].kind == "code" else " "
        else:
            text += "\n" if lined or previous.kind in ("item", "row", "code") else " "
        single = len(group) == 1 and statement.kind == "item"
        text += f"{_mark(statement)} {statement.text}" if statement.kind == "item" and not single else statement.text
        previous = statement
    return text


def _mark(item: Statement) -> str:
    """The mark of a list item: its number where it has one."""
    before = item.passage.text[: item.start - item.passage.start].rsplit("\n", 1)[-1].strip()
    return before if before[:1].isdigit() else "-"


def _cite(group: list[Statement], number: int, start: int, end: int, knowledge: Knowledge) -> Citation:
    passage: EvidencePassage = group[0].passage
    quote_start, quote_end = group[0].start, group[-1].end
    quote = passage.text[quote_start - passage.start : quote_end - passage.start]
    lead = " ".join(statement.lead for statement in group)
    # Without the numbers that mark the steps: they are not stated, and the first stands before the quote.
    said = " ".join(statement.text for statement in group)
    return Citation(
        number=number,
        answer_start=start,
        answer_end=end,
        document_id=passage.document_id,
        revision_id=passage.revision_id,
        title=passage.title,
        locator=group[0].locator,
        start=quote_start,
        end=quote_end,
        quote=quote,
        passage_id=passage.passage_id,
        match=passage.match,
        support=support(said, f"{quote} {lead}", knowledge.terms),
    )
