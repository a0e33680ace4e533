"""From a split document to what the index holds: the terms of each field, and the text that is embedded."""

from __future__ import annotations

from fontanel.core.index.postings import WordsEntry
from fontanel.core.passages.splitting import Passage
from fontanel.core.reading.model import CELL_SEPARATOR
from fontanel.core.text.analysis import Analyser
from fontanel.core.text.sentences import sentence_spans

#: Measured on questions about public manuals: 30 and 45 words find no more, and cost more vectors.
WINDOW_WORDS = 60


def words_entry(
    passage_id: int,
    document_key: int,
    title: str,
    passage: Passage,
    analyser: Analyser,
    about: str = "",
) -> WordsEntry:
    """The terms of a passage by field: the document's title, the heading path, the body with its context, and what the
    document is about."""
    body = f"{passage.context}\n{passage.text}" if passage.context else passage.text
    headings = " ".join(passage.locator.heading_path)
    fields = (title, headings, body, about)
    results = [analyser.positions(field) for field in fields]
    return WordsEntry(
        passage_id,
        document_key,
        tuple(terms for terms, _ in results),
        tuple(at for _, at in results),
    )


def embedded_text(passage: Passage) -> str:
    """What is embedded for a passage: its last heading, what it hangs on, and its text, on lines of their own.

    The document's title and the rest of the path were measured to draw all passages of a document together."""
    heading = passage.locator.heading_path[-1] if passage.locator.heading_path else ""
    if passage.text.startswith(heading):
        heading = ""
    lines = [heading, passage.context, passage.text]
    return "\n".join(line for line in lines if line).replace(CELL_SEPARATOR, " | ")


def window_texts(text: str) -> list[str]:
    """The sentence windows of a passage's text: whole sentences, lines, items or rows one after the other, together up to
    `WINDOW_WORDS` words each; none when one would hold it all."""
    windows: list[str] = []
    stored: list[str] = []
    words = 0
    for line in text.split("\n"):
        for start, end in sentence_spans(line):
            sentence = line[start:end].replace(CELL_SEPARATOR, " | ")
            count = len(sentence.split())
            if not count:
                continue
            if stored and words + count > WINDOW_WORDS:
                windows.append(" ".join(stored))
                stored, words = [], 0
            stored.append(sentence)
            words += count
    if not windows:
        return []
    return [*windows, " ".join(stored)]
