"""From a split document to what the index holds: the terms of each field, and the text that is embedded."""

from __future__ import annotations

from fontanel.core.analysis import Analyser
from fontanel.core.index.words import WordsEntry
from fontanel.core.reading.model import CELL_SEPARATOR
from fontanel.core.splitting import Passage


def words_entry(
    passage_id: int, document_key: int, title: str, passage: Passage, analyser: Analyser, about: str = ""
) -> WordsEntry:
    """The terms of a passage by field: the document's title, the heading path, the body with its context, and what the
    document is about."""
    body = f"{passage.context}\n{passage.text}" if passage.context else passage.text
    headings = " ".join(passage.locator.heading_path)
    fields = (title, headings, body, about)
    found = [analyser.positions(field) for field in fields]
    return WordsEntry(passage_id, document_key, tuple(terms for terms, _ in found), tuple(at for _, at in found))


def embedded_text(title: str, passage: Passage) -> str:
    """What is embedded for a passage: its headings, what it hangs on, and its text, on one line each."""
    path = [part for part in passage.locator.heading_path if part != title]
    lines = [" > ".join([title, *path]), passage.context, passage.text]
    return "\n".join(line for line in lines if line).replace(CELL_SEPARATOR, " | ")
