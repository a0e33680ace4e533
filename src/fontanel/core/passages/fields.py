"""The fields of a passage in the index, and the text that is embedded."""

from __future__ import annotations

from fontanel.core.index.postings import WordsEntry
from fontanel.core.passages.splitting import Passage
from fontanel.core.reading.model import CELL_SEPARATOR
from fontanel.core.text.analysis import Analyser
from fontanel.core.text.sentences import sentence_spans

#: Measured on questions about public manuals: 30 and 45 words find no more and need more vectors.
WINDOW_WORDS = 60


def words_entry(
    passage_id: int,
    document_key: int,
    title: str,
    passage: Passage,
    analyser: Analyser,
    about: str = "",
) -> WordsEntry:
    """Return the terms of a passage.

    Title, heading path, body with context, description.
    """
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
    """Return the text to embed: the last heading, the context, and the passage's text.

    With the document's title and the whole path, measurements drew all passages of a document
    together.
    """
    heading = passage.locator.heading_path[-1] if passage.locator.heading_path else ""
    if passage.text.startswith(heading):
        heading = ""
    lines = [heading, passage.context, passage.text]
    return "\n".join(line for line in lines if line).replace(CELL_SEPARATOR, " | ")


def window_texts(text: str) -> list[str]:
    """Return the sentence windows of a passage's text.

    Whole sentences, lines, items or rows, up to `WINDOW_WORDS` words per window; none when one
    would contain it all.
    """
    windows: list[str] = []
    sentences: list[str] = []
    words = 0
    for line in text.split("\n"):
        for start, end in sentence_spans(line):
            sentence = line[start:end].replace(CELL_SEPARATOR, " | ")
            count = len(sentence.split())
            if not count:
                continue
            if sentences and words + count > WINDOW_WORDS:
                windows.append(" ".join(sentences))
                sentences, words = [], 0
            sentences.append(sentence)
            words += count
    if not windows:
        return []
    return [*windows, " ".join(sentences)]
