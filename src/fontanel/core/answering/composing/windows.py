"""Windows: adjacent statements of a passage as the evidence model reads them."""

from __future__ import annotations

from dataclasses import dataclass

from fontanel.core.answering.composing.statements import Statement, statements
from fontanel.core.answering.evidence import EvidencePassage

#: Words of a window, above which it ends before the next statement.
MAX_WORDS = 75
#: A statement of at most this many words is repeated at the start of the next window.
_REPEATED_WORDS = 25
#: Words of a window's header that are kept, the last ones.
_HEADER_WORDS = 24


@dataclass(frozen=True, slots=True)
class Window:
    """Adjacent statements, and the title, headings and lead-in above them."""

    header: str
    statements: tuple[Statement, ...]


def windows(passage: EvidencePassage, max_words: int = MAX_WORDS) -> list[Window]:
    """Cut a passage into windows of whole statements, each at most `max_words` if it can be."""
    results: list[Window] = []
    current: list[Statement] = []
    words = 0
    for statement in statements(passage):
        count = len(statement.text.split())
        if current and words + count > max_words:
            results.append(window_of(passage, current))
            last = len(current[-1].text.split())
            repeats = last <= _REPEATED_WORDS and last + count <= max_words
            current = current[-1:] if repeats else []
            words = last if current else 0
        current.append(statement)
        words += count
    if current:
        results.append(window_of(passage, current))
    return results


def window_of(passage: EvidencePassage, group: list[Statement]) -> Window:
    """Return adjacent statements of a passage as a window."""
    first = group[0]
    path = dict.fromkeys((passage.title, *first.locator.heading_path))
    header = " > ".join(path)
    if first.kind != "row" and first.lead:
        header = f"{header}: {first.lead}"
    return Window(" ".join(header.split()[-_HEADER_WORDS:]), tuple(group))
