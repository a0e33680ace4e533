"""The pieces of a composed answer: a result, a yes or no, statements, and what disagrees."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from fontanel.core.answering.composing.asked import Draft
from fontanel.core.answering.composing.choosing import leans
from fontanel.core.answering.composing.comparing import compare
from fontanel.core.answering.composing.conflicts import conflicting
from fontanel.core.answering.composing.layout import ComposedPiece, lay_out
from fontanel.core.answering.evidence import Knowledge
from fontanel.core.answering.findings import Finding
from fontanel.core.answering.phrases import Phrases, differs_note, unmentioned_note
from fontanel.core.answering.question.followup import split_stand_alone
from fontanel.core.answering.question.shape import yes_or_no
from fontanel.core.answering.settings import AnswerSettings, Layout


def compose_parts(
    findings: Sequence[Finding],
    settings: AnswerSettings,
    phrases: Phrases,
    knowledge: Knowledge,
) -> Iterator[ComposedPiece]:
    """Yield the pieces of an answer part by part; parts without an answer are named.

    What an earlier part quotes is not quoted again.
    """
    quoted: set[tuple[int, int]] = set()
    begun = False
    for finding in findings:
        composed = finding.composed
        if finding.answers(settings.evidence_needed):
            fresh = [s for s in composed.chosen if s.place not in quoted]
            if quoted and not fresh and composed.computed is None:
                continue
            pieces = compose(
                finding.part.query,
                replace(composed, chosen=fresh),
                settings,
                phrases,
                knowledge,
            )
        else:
            question, _ = split_stand_alone(finding.part.text)
            text = reason_to_decline(composed, phrases)
            text = text or phrases.part_declined.format(question=question)
            pieces = iter([ComposedPiece(text, 0)])
        first = True
        for piece in pieces:
            quoted.update(statement.place for statement in piece.group)
            before = "\n\n" if first and begun else ""
            yield replace(piece, text=before + piece.text, start=piece.start + len(before))
            first = False
        begun = True


def reason_to_decline(composed: Draft, phrases: Phrases) -> str:
    """Return why a question is declined, if there is more to say than that it is."""
    if composed.missing:
        return unmentioned_note(phrases, composed.missing[0], composed.nearest)
    if composed.computed is not None and not composed.computed.statements:
        return composed.computed.text
    return ""


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
    for thing in composed.unquoted:
        yield ComposedPiece(f"\n\n{unmentioned_note(phrases, thing, '')}", 0)
    for statement in conflicting(chosen, composed.ranked, knowledge):
        first, other = ((p.title, p.dated) for p in (chosen[0].passage, statement.passage))
        message = differs_note(phrases, first, other)
        yield ComposedPiece(f"\n\n{message} {statement.text}", len(message) + 3, [statement])
