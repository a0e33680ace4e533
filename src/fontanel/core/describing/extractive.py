"""A description and a title for a document, extracted from its own text.

Sentences are weighted by how frequent their words are in the document (Nenkova and Vanderwende,
"The impact of frequency on summarization", 2005) and by how early they occur.
"""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import dataclass

from fontanel.core.reading.model import Reading
from fontanel.core.text.analysis import Analyser
from fontanel.core.text.sentences import sentence_spans

_MAX_SENTENCES = 300
_LENGTH = (40, 260)
_MAX_CHARACTERS = 300
_MAX_TITLE = 90
#: Titles set by programs: file names, "Untitled", "Document1", bare numbers.
_NO_TITLE = re.compile(
    r"^(?:untitled|document|microsoft"
    r" word|presentation|slide|book|sheet|new|scan|img|image|file)?[\W_\d]*$|"
    r"^[\w-]+\.\w{2,4}$",
    re.I,
)


@dataclass(frozen=True, slots=True)
class About:
    """A description of at most two sentences, and a title for the document."""

    description: str
    title: str


def describe(reading: Reading) -> About:
    """Describe a reading by its most informative early sentences."""
    analyser = Analyser(reading.language)
    results: list[tuple[str, list[str]]] = []
    for block in reading.blocks:
        if block.left_out or block.kind not in ("paragraph", "cue"):
            continue
        text = reading.text[block.start : block.end]
        for start, end in sentence_spans(text):
            if _LENGTH[0] <= end - start <= _LENGTH[1] and text[end - 1] in ".!…”":
                results.append((text[start:end], analyser.terms(text[start:end])))
        if len(results) >= _MAX_SENTENCES:
            break
    return About(_sentences(results), suggested_title(reading))


def _sentences(sentences: list[tuple[str, list[str]]]) -> str:
    counts = Counter(term for _, terms in sentences for term in set(terms))
    total = sum(counts.values()) or 1
    chosen: list[int] = []
    weight = {term: count / total for term, count in counts.items()}
    length = 0
    while len(chosen) < 2:
        best, best_score = -1, 0.0
        for place, (text, terms) in enumerate(sentences):
            if place in chosen or not terms or length + len(text) > _MAX_CHARACTERS:
                continue
            score = sum(weight[term] for term in set(terms)) / len(set(terms)) / (1 + 0.4 * place)
            if score > best_score:
                best, best_score = place, score
        if best < 0:
            break
        chosen.append(best)
        length += len(sentences[best][0])
        for term in sentences[best][1]:
            # What was already covered counts less the second time.
            weight[term] *= weight[term]
    return " ".join(sentences[place][0] for place in sorted(chosen))


def has_title(reading: Reading) -> bool:
    """Return whether a person chose the title, rather than a file name or a program."""
    return not _NO_TITLE.match(reading.title)


def suggested_title(reading: Reading) -> str:
    """Return the document's title, or else its first heading or first words."""
    if has_title(reading):
        return reading.title
    for block in reading.blocks:
        text = reading.text[block.start : block.end]
        if block.kind == "heading" and not _NO_TITLE.match(text):
            return text[:_MAX_TITLE]
    for block in reading.blocks:
        if block.kind in ("paragraph", "cue"):
            words = reading.text[block.start : block.end].split()
            text = ""
            for word in words:
                if len(text) + len(word) > _MAX_TITLE:
                    return text.rstrip(",;:") + " …"
                text = f"{text} {word}".strip()
                if word.endswith((".", "?", "!")) and len(text) > 15:
                    break
            return text.rstrip(".")
    return reading.title
