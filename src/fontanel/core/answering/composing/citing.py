"""Citations of what the composer quotes."""

from __future__ import annotations

from collections.abc import Sequence

from fontanel.core.answering.composing.layout import ComposedPiece
from fontanel.core.answering.composing.statements import Statement
from fontanel.core.answering.events import Citation
from fontanel.core.answering.evidence import EvidencePassage, Knowledge
from fontanel.core.answering.writing.verify import support


def cite(piece: ComposedPiece, number: int, start: int, end: int, knowledge: Knowledge) -> Citation:
    """Return the citation of a piece of an answer, which is at characters [start, end) of it."""
    group: Sequence[Statement] = piece.group
    passage: EvidencePassage = group[0].passage
    quote_start, quote_end = group[0].start, group[-1].end
    quote = passage.text[quote_start - passage.start : quote_end - passage.start]
    lead = " ".join(statement.lead for statement in group)
    # Without the numbers that mark the steps, which are not statements.
    text = " ".join(statement.text for statement in group)
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
        support=support(text, f"{quote} {lead}", knowledge.terms),
        kb_id=passage.kb_id,
        also=passage.also,
        outdated=passage.outdated,
    )
