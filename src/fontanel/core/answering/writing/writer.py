"""A model's answer: its stream of text, split into cited and verified statements."""

from __future__ import annotations

import re
from collections.abc import Generator, Iterator, Sequence
from dataclasses import replace
from typing import Protocol

from fontanel.core.answering.events import (
    CheckedStatement,
    Citation,
    CitationBound,
    Message,
    StatementChecked,
    TextPiece,
    TokenUse,
    Verdict,
)
from fontanel.core.answering.evidence import Knowledge
from fontanel.core.answering.phrases import Phrases, outdated_note
from fontanel.core.answering.settings import Grounding, UnsupportedStatements
from fontanel.core.answering.writing.context import Source
from fontanel.core.answering.writing.prompt import NO_ANSWER, NOT_FROM_SOURCES
from fontanel.core.answering.writing.verify import Check, check
from fontanel.core.text.sentences import sentence_spans
from fontanel.errors import Unavailable

_MARK = re.compile(
    r"(?<!\s)\s*+[\[【](?:sources?\s*)?(\d{1,3}(?:\s*[-,;–]\s*\d{1,3})*)\s*[\]】]", re.I
)
#: The beginning of a possible mark, until it is complete.
_MARK_BEGUN = re.compile(
    r"(?<!\s)\s*+(?:[\[【](?:s(?:o(?:u(?:r(?:c(?:e(?:s)?)?)?)?)?)?)?\s*[\d\s,;–-]{0,12})?$", re.I
)


#: Below this support the place that comes nearest is not worth showing.
_MIN_SHOWN = 0.3


class WriterFailed(Unavailable):
    """The model gave no answer; the message says why, in a few words for a person."""


class Writer(Protocol):
    """A text-generating model."""

    name: str

    def write(
        self, messages: Sequence[Message], max_tokens: int, temperature: float
    ) -> Generator[str, None, None]:
        """Yield the model's text as it arrives; closing the generator cancels the model.

        Raises:
            WriterFailed: the model failed.
        """
        ...

    def use(self) -> TokenUse | None:
        """What the last text cost, once it has ended; None when the server did not say."""
        ...


class Binding:
    """Turns a model's text into events: text without its marks, citations, checks.

    With `UnsupportedStatements.MARK`, words pass through immediately, and the check of a statement
    follows. With `UnsupportedStatements.REMOVE`, each statement waits for its check, and passes
    only if it is supported. `text` is the answer so far, `raw` the model's output.
    """

    def __init__(
        self,
        question: str,
        sources: Sequence[Source],
        knowledge: Knowledge,
        weak: UnsupportedStatements,
        ground: Grounding,
        phrases: Phrases,
    ) -> None:
        self._question = question
        self._sources = {source.number: source.passage for source in sources}
        self._knowledge = knowledge
        self._remove = weak == UnsupportedStatements.REMOVE
        self._ground = ground
        self._phrases = phrases
        #: The text without marks, the positions of marks, and how far statements are done and
        #: passed on.
        self._plain = ""
        self._held = ""
        self._marks: list[tuple[int, list[int]]] = []
        self._done = 0
        self._given = 0
        self._begun = False
        self.raw = ""
        self.text = ""
        self.citations: list[Citation] = []
        self.statements: list[CheckedStatement] = []
        self.declined = False
        self.own_knowledge = False

    def feed(self, piece: str) -> Iterator[TextPiece | CitationBound | StatementChecked]:
        """Take the next piece of the model's text."""
        self.raw += piece
        self._held += piece
        if not self._begun and not self._begin():
            return
        self._read_marks(final=False)
        yield from self._give(final=False)

    def finish(self) -> Iterator[TextPiece | CitationBound | StatementChecked]:
        """The text has ended."""
        if not self._begun and not self._begin(final=True):
            return
        self._read_marks(final=True)
        yield from self._give(final=True)

    def _begin(self, *, final: bool = False) -> bool:
        """Hold the first words back until it is clear whether the model declines."""
        start = self._held.lstrip().upper().lstrip("*[\"'")
        if start.startswith(NO_ANSWER):
            self.declined = True
            return False
        if start.startswith(NOT_FROM_SOURCES):
            match = re.match(
                rf"\s*[*\[\"']*{NOT_FROM_SOURCES}[*\]\"']*\s*[:.]?\s*", self._held, re.I
            )
            if match is None or (match.end() == len(self._held) and not final):
                return False
            if self._ground == Grounding.ONLY_SOURCES:
                self.declined = True
                return False
            self.own_knowledge = True
            self._held = self._held[match.end() :]
        elif not final and any(word.startswith(start) for word in (NO_ANSWER, NOT_FROM_SOURCES)):
            return False
        self._held = self._held.lstrip()
        self._begun = bool(self._held) or final
        return self._begun

    def _read_marks(self, *, final: bool) -> None:
        """Move complete text from `_held` to `_plain`, without marks."""
        while match := _MARK.search(self._held):
            self._plain += self._held[: match.start()]
            self._marks.append((len(self._plain), _numbers(match.group(1))))
            self._held = self._held[match.end() :]
            if self._held[:1] in (".", "!", "?") and self._plain[-1:] in (".", "!", "?"):
                self._held = self._held[1:]  # a full stop on both sides of a mark
        begun = None if final else _MARK_BEGUN.search(self._held)
        clear = len(self._held) if begun is None else begun.start()
        self._plain += self._held[:clear]
        self._held = self._held[clear:]

    def _give(self, *, final: bool) -> Iterator[TextPiece | CitationBound | StatementChecked]:
        spans = self._spans()
        # A mark may follow the full stop, but is before the next statement.
        limits = [*(start for start, _ in spans[1:]), len(self._plain)]
        # The last statement may still grow, or be followed by its marks.
        ready = list(zip(spans if final else spans[:-1], limits, strict=False))
        if self._remove:
            for (start, end), limit in ready:
                yield from self._settle(start, end, limit)
            return
        # A statement's citations come before the words that follow it.
        for (start, end), limit in ready:
            yield from self._let_go(end)
            yield from self._bound(self._check(start, end, limit), start, end)
            self._done = end
        yield from self._let_go(len(self._plain))

    def _let_go(self, end: int) -> Iterator[TextPiece]:
        if self._given < end:
            yield TextPiece(self._plain[self._given : end])
            self._given = end
            self.text = self._plain[:end]

    def _spans(self) -> list[tuple[int, int]]:
        """Statements of the text that is not done: lines, cut into sentences."""
        spans: list[tuple[int, int]] = []
        at = self._done
        for line in self._plain[self._done :].split("\n"):
            # The first line may be the rest of one whose beginning is done.
            begins = at == 0 or self._plain[at - 1] == "\n"
            lead = re.match(r"\s*(?:[-*•]|\d{1,3}[.)])\s+", line) if begins else None
            skipped = lead.end() if lead else 0
            if begins and line.lstrip().startswith("|"):
                spans.append((at, at + len(line)))
            else:
                spans += [
                    (at + skipped + start, at + skipped + end)
                    for start, end in sentence_spans(line[skipped:])
                ]
            at += len(line) + 1
        return spans

    def _settle(
        self, start: int, end: int, limit: int
    ) -> Iterator[TextPiece | CitationBound | StatementChecked]:
        """Pass on a supported statement, with the text before it."""
        result = self._check(start, end, limit)
        between = self._plain[self._done : start]
        self._done = end
        if result.verdict in (Verdict.WEAK, Verdict.UNCITED) and not self.own_knowledge:
            dropped = CheckedStatement(
                len(self.text),
                len(self.text),
                result.verdict,
                result.support,
                (),
                result.reason,
                self._plain[start:end],
            )
            self.statements.append(dropped)
            yield StatementChecked(dropped)
            return
        piece = (between if self.text else between.lstrip()) + self._plain[start:end]
        at = len(self.text) + len(piece) - (end - start)
        self.text += piece
        yield TextPiece(piece)
        yield from self._bound(result, at, at + end - start)

    def _check(self, start: int, end: int, limit: int) -> Check:
        """Check a statement against the sources of the marks up to `limit`."""
        statement = self._plain[start:end]
        cited = [n for at, ns in self._marks if start < at <= min(end + 3, limit) for n in ns]
        passages = [self._sources[n] for n in dict.fromkeys(cited) if n in self._sources]
        if self.own_knowledge:
            return Check(Verdict.UNCITED, 0.0, "The model's own knowledge.")
        result = check(statement, passages, self._question, self._knowledge)
        if result.verdict == Verdict.UNCITED:
            # It may cite nothing and still be in a source.
            better = check(statement, list(self._sources.values()), self._question, self._knowledge)
            result = better if better.verdict == Verdict.SUPPORTED else result
        return self._in_force(result)

    def _in_force(self, result: Check) -> Check:
        """Return a check whose verdict says if only documents not in force support it."""
        passages = [quote.passage for quote in result.quotes]
        if (
            result.verdict != Verdict.SUPPORTED
            or not passages
            or not all(passage.outdated and passage.demoted for passage in passages)
        ):
            return result
        assert passages[0].outdated is not None
        reason = outdated_note(self._phrases, passages[0].title, passages[0].outdated)
        return replace(result, verdict=Verdict.OUTDATED, reason=reason)

    def _bound(
        self, checked: Check, at: int, until: int
    ) -> Iterator[CitationBound | StatementChecked]:
        numbers: list[int] = []
        for quote in checked.quotes if checked.support >= _MIN_SHOWN else ():
            citation = Citation(
                number=len(self.citations) + 1,
                answer_start=at,
                answer_end=until,
                document_id=quote.passage.document_id,
                revision_id=quote.passage.revision_id,
                title=quote.passage.title,
                locator=quote.first.locator,
                start=quote.start,
                end=quote.end,
                passage_id=quote.passage.passage_id,
                match=quote.passage.match,
                quote=quote.passage.text[
                    quote.start - quote.passage.start : quote.end - quote.passage.start
                ],
                support=checked.support
                if checked.verdict in (Verdict.SUPPORTED, Verdict.OUTDATED)
                else min(checked.support, 0.5),
                kb_id=quote.passage.kb_id,
                also=quote.passage.also,
                outdated=quote.passage.outdated,
            )
            self.citations.append(citation)
            numbers.append(citation.number)
            yield CitationBound(citation)
        statement = CheckedStatement(
            at, until, checked.verdict, checked.support, tuple(numbers), checked.reason
        )
        self.statements.append(statement)
        yield StatementChecked(statement)


def _numbers(text: str) -> list[int]:
    """The source numbers of a mark: "1", "1, 3", "2-4"."""
    results: list[int] = []
    for part in re.split(r"\s*[,;]\s*", text):
        first, *last = (int(number) for number in re.split(r"\s*[-–]\s*", part.strip()))
        results += range(first, min(last[0], first + 20) + 1) if last else [first]
    return results
