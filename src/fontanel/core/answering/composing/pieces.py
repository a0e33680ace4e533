"""The pieces of a composed answer: a result, a yes or no, statements, and what disagrees."""

from __future__ import annotations

from collections.abc import Iterator

from fontanel.core.answering.composing.asked import Draft
from fontanel.core.answering.composing.comparing import compare
from fontanel.core.answering.composing.composer import leans
from fontanel.core.answering.composing.conflicts import conflicting
from fontanel.core.answering.composing.layout import ComposedPiece, lay_out
from fontanel.core.answering.evidence import Knowledge
from fontanel.core.answering.phrases import Phrases
from fontanel.core.answering.question.shape import yes_or_no
from fontanel.core.answering.settings import AnswerSettings, Layout


def compose(
    question: str,
    composed: Draft,
    settings: AnswerSettings,
    phrases: Phrases,
    knowledge: Knowledge,
) -> Iterator[ComposedPiece]:
    """Yield the pieces of an answer from what the composer chose."""
    chosen, layout = composed.chosen, settings.layout
    result = None
    if layout != Layout.TABLE:
        result = composed.computed or compare(question, composed.ranked)
    if result is not None:
        yield ComposedPiece(result.text, 0)
        for statement in result.statements:
            yield ComposedPiece(f"\n\n{statement.text}", 2, [statement])
        return
    if layout in (Layout.AUTO, Layout.PROSE):
        for statement in chosen:
            verdict = yes_or_no(question, statement.text, knowledge.terms)
            if verdict is not None and statement.kind == "sentence":
                yield ComposedPiece((phrases.yes if verdict else phrases.no) + " ", 0)
                # It comes first, unless it leans on the sentence before it.
                if not leans(statement):
                    chosen = [statement, *(other for other in chosen if other is not statement)]
                break
    yield from lay_out(chosen, layout)
    for statement in conflicting(chosen, composed.ranked, knowledge):
        message = phrases.differs.format(title=statement.passage.title)
        yield ComposedPiece(f"\n\n{message} {statement.text}", len(message) + 3, [statement])
