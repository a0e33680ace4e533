"""Follow a quoted piece of text from one revision of a document to the next.

Unchanged text is found wherever it moved. What changed is aligned sentence by sentence, by the
matching of Ratcliff and Obershelp (1988) over words.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from difflib import SequenceMatcher
from enum import StrEnum

from fontanel.core.answering.question.rewriting import CALENDAR
from fontanel.core.answering.writing.clauses import NEGATION
from fontanel.core.answering.writing.contradictions import names, numbers
from fontanel.core.text.sentences import sentence_spans

#: Sentences of a new text that are compared with one of the old text, by shared words.
_COMPARED = 12
#: The similarity from which a sentence counts as another form of the old one.
_ALIKE = 0.5
#: Characters around a quote by which equal places are told apart.
_AROUND = 80
_WORD = re.compile(r"\w+")
#: A fact that a sentence may state differently without another word being changed.
_DAY = re.compile(rf"\b(?:{CALENDAR})\b")


class TextChange(StrEnum):
    """What became of a piece of text."""

    SAME = "same"
    """It is unchanged, perhaps at another place."""
    REWORDED = "reworded"
    """It is worded differently."""
    CONTRADICTED = "contradicted"
    """It states another number, name, day, or the opposite."""
    REMOVED = "removed"


@dataclass(frozen=True, slots=True)
class Followed:
    """What became of a piece of text, and the characters [start, end) where it is now."""

    change: TextChange
    start: int = 0
    end: int = 0


def follow(old: str, start: int, end: int, new: str) -> Followed:
    """Return what became of characters [start, end) of an old text in a new one."""
    quote = old[start:end]
    places = [(m.start(), m.end()) for m in _as_written(quote).finditer(new)]
    if places:
        best = max(places, key=lambda place: _surroundings(old, (start, end), new, place))
        return Followed(TextChange.SAME, *best)
    sentences = list(_sentences(new))
    changes: list[TextChange] = []
    found: list[tuple[int, int]] = []
    for a, b in _sentences(quote):
        change, place = _sentence(quote[a:b], new, sentences)
        changes.append(change)
        if place is not None:
            found.append(place)
    if not found:
        return Followed(TextChange.REMOVED)
    # A sentence that is missing is a change of the whole.
    contradicted = TextChange.CONTRADICTED in changes
    change = TextChange.CONTRADICTED if contradicted else TextChange.REWORDED
    return Followed(change, *_span(found, len(quote)))


def follow_quote(
    old: str | None, start: int, end: int, quote: str, new: str
) -> tuple[Followed, str]:
    """Return what became of a quote in a new text, and what stands there now.

    Args:
        old: The text of which the quote is characters [start, end); None if it is not kept.
    """
    span = (0, len(quote)) if old is None else (start, end)
    followed = follow(quote if old is None else old, *span, new)
    return followed, new[followed.start : followed.end]


def _as_written(quote: str) -> re.Pattern[str]:
    """Return a pattern for a text, whatever blanks separate its words."""
    return re.compile(r"\s+".join(map(re.escape, quote.split())) or r"(?!)")


def _surroundings(
    old: str, before: tuple[int, int], new: str, after: tuple[int, int]
) -> tuple[float, float]:
    """Return how alike the surroundings of two places are, and how near their positions."""
    ratios = [
        SequenceMatcher(None, one, other, autojunk=False).ratio()
        for one, other in (
            (
                old[max(before[0] - _AROUND, 0) : before[0]],
                new[max(after[0] - _AROUND, 0) : after[0]],
            ),
            (old[before[1] : before[1] + _AROUND], new[after[1] : after[1] + _AROUND]),
        )
    ]
    far = abs(before[0] / max(len(old), 1) - after[0] / max(len(new), 1))
    return round(sum(ratios), 2), -far


def _sentences(text: str) -> Iterator[tuple[int, int]]:
    """Yield the sentences of each line: a line may be an item or a row."""
    at = 0
    for line in text.split("\n"):
        for a, b in sentence_spans(line):
            if line[a:b].strip():
                yield at + a, at + b
        at += len(line) + 1


def _sentence(
    sentence: str, new: str, sentences: list[tuple[int, int]]
) -> tuple[TextChange, tuple[int, int] | None]:
    """Return what became of one sentence, and where it is."""
    exact = _as_written(sentence).search(new)
    if exact:
        return TextChange.SAME, exact.span()
    words = _words(sentence)
    if not words:
        return TextChange.REMOVED, None
    own = set(words)
    ranked = sorted(sentences, key=lambda place: -_shared(own, new[place[0] : place[1]]))
    scored = [
        (SequenceMatcher(None, words, _words(new[a:b]), autojunk=False).ratio(), (a, b))
        for a, b in ranked[:_COMPARED]
    ]
    likeness, place = max(scored, default=(0.0, (0, 0)))
    if likeness < _ALIKE:
        return TextChange.REMOVED, None
    text = new[place[0] : place[1]]
    return (
        TextChange.CONTRADICTED if _states_another(sentence, text) else TextChange.REWORDED
    ), place


def _states_another(sentence: str, other: str) -> bool:
    """Return whether two forms of a sentence state different values."""
    return (
        bool(numbers(sentence) - numbers(other))
        or bool(names(sentence) - set(_words(other)))
        or _days(sentence) != _days(other)
        or bool(NEGATION.search(sentence)) != bool(NEGATION.search(other))
    )


def _days(text: str) -> set[str]:
    return {match.lower().rstrip("s") for match in _DAY.findall(text)}


def _words(text: str) -> list[str]:
    return [word.lower() for word in _WORD.findall(text)]


def _shared(own: set[str], text: str) -> float:
    words = set(_words(text))
    return len(own & words) / len(own | words) if words else 0.0


def _span(found: list[tuple[int, int]], length: int) -> tuple[int, int]:
    """Return the range from the first place to the last, if they are near each other."""
    start, end = min(a for a, _ in found), max(b for _, b in found)
    return (start, end) if end - start <= 3 * length + 200 else found[0]
