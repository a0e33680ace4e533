"""Text to index terms.

Folding, identifiers whole and in parts, stems, CJK bigrams.
"""

from __future__ import annotations

import itertools
import re
import threading
import unicodedata
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import numpy.typing as npt
import Stemmer

#: Part of an edition's settings: an index made by another version is rebuilt.
ANALYSER_VERSION = 1

_SNOWBALL = {
    "en": "english",
    "de": "german",
    "fr": "french",
    "es": "spanish",
    "it": "italian",
    "nl": "dutch",
    "pt": "portuguese",
    "sv": "swedish",
    "da": "danish",
    "nb": "norwegian",
    "fi": "finnish",
}
_TOKEN = re.compile(r"--?[\w]+(?:[-_.][\w]+)*|\w+(?:[-_./:@+'’]+\w+)*")
_PART = re.compile(r"[^\W_]+")
_CAMEL = re.compile(
    r"(?<=[a-z0-9])(?=[A-Z])|(?<=[A-Z])(?=[A-Z][a-z])|(?<=[A-Za-z])(?=\d)|(?<=\d)(?=[A-Za-z])"
)
_CJK = re.compile(r"[\u3040-\u30ff\u3400-\u4dbf\u4e00-\u9fff\uac00-\ud7af]+")
_APOSTROPHE = re.compile(r"['’](?:s|t|re|ve|ll|d|m)?$")

#: Words without a topic, neither indexed nor searched.
STOP_WORDS = frozenset(
    [
        "a",
        "an",
        "the",
        "of",
        "and",
        "or",
        "to",
        "in",
        "on",
        "at",
        "by",
        "for",
        "from",
        "with",
        "without",
        "is",
        "are",
        "was",
        "were",
        "be",
        "been",
        "being",
        "am",
        "do",
        "does",
        "did",
        "doing",
        "have",
        "has",
        "had",
        "having",
        "it",
        "its",
        "this",
        "that",
        "these",
        "those",
        "as",
        "if",
        "then",
        "than",
        "so",
        "such",
        "not",
        "no",
        "nor",
        "can",
        "could",
        "may",
        "might",
        "must",
        "shall",
        "should",
        "will",
        "would",
        "i",
        "you",
        "he",
        "she",
        "we",
        "they",
        "me",
        "him",
        "her",
        "us",
        "them",
        "my",
        "your",
        "his",
        "our",
        "their",
        "what",
        "which",
        "who",
        "whom",
        "whose",
        "when",
        "where",
        "why",
        "how",
        "there",
        "here",
        "about",
        "into",
        "over",
        "under",
        "again",
        "also",
        "just",
        "only",
        "very",
        "more",
        "most",
        "some",
        "any",
        "each",
        "both",
        "all",
        "up",
        "out",
        "off",
        "own",
        "same",
        "other",
        "s",
        "t",
        "don",
        "isn",
        "aren",
        "doesn",
        "didn",
        "i'm",
    ]
)


@dataclass(frozen=True, slots=True)
class Term:
    """An index term and the characters [start, end) that it was derived from."""

    text: str
    start: int
    end: int


class Analyser:
    """Analyses text of one language.

    Stems are cached by word, since a vocabulary is small compared with its text. Threads may share
    an analyser: the stemmer is called under a lock.
    """

    def __init__(self, language: str = "en") -> None:
        self.language = language
        self._stemmer = Stemmer.Stemmer(_SNOWBALL[language]) if language in _SNOWBALL else None
        self._stemming = threading.Lock()
        self._terms: dict[str, tuple[str, ...]] = {}

    def terms(self, text: str) -> list[str]:
        """The index terms of a text, in order, with repetitions."""
        return list(itertools.chain.from_iterable(self._by_token(text)))

    def positions(self, text: str) -> tuple[list[str], npt.NDArray[np.int32]]:
        """Return a text's index terms, and the index of each one's word."""
        result = self._by_token(text)
        counts = np.fromiter(map(len, result), dtype=np.int32, count=len(result))
        return list(itertools.chain.from_iterable(result)), np.repeat(
            np.arange(len(result), dtype=np.int32), counts
        )

    def _by_token(self, text: str) -> list[tuple[str, ...]]:
        existing = self._terms
        tokens = _TOKEN.findall(text)
        results = list(map(existing.get, tokens))
        if None in results:
            if len(existing) > 200_000:
                # Another thread may be at the old ones.
                existing = self._terms = {}
            for token in tokens:
                if token not in existing:
                    existing[token] = self._analyse(token)
            results = [existing[token] for token in tokens]
        return results  # type: ignore[return-value]

    def spans(self, text: str) -> Iterator[Term]:
        """Return the index terms with their positions, for highlighting."""
        for match in _TOKEN.finditer(text):
            for term in self._known(match.group()):
                yield Term(term, match.start(), match.end())

    def _known(self, token: str) -> tuple[str, ...]:
        terms = self._terms.get(token)
        if terms is None:
            terms = self._terms[token] = self._analyse(token)
        return terms

    def _analyse(self, token: str) -> tuple[str, ...]:
        if _CJK.search(token):
            return tuple(_bigrams(fold(token)))
        folded = _APOSTROPHE.sub("", fold(token).strip("-"))
        if not folded or folded in STOP_WORDS:
            return ()
        parts = _PART.findall(token)
        pieces = [piece for part in parts for piece in _CAMEL.split(part)]
        if len(pieces) == 1:
            return (self._stem(folded),)
        result = [folded] if len(folded) <= 80 else []
        for piece in dict.fromkeys(fold(piece) for piece in [*parts, *pieces]):
            if piece and piece != folded and piece not in STOP_WORDS:
                result.append(self._stem(piece))
        return tuple(result)

    def _stem(self, word: str) -> str:
        if self._stemmer is None:
            return word
        # A stemmer must not be used by two threads at once.
        with self._stemming:
            stem: str = self._stemmer.stemWord(word)
            return stem


@lru_cache(maxsize=len(_SNOWBALL) + 8)
def analyser_of(language: str) -> Analyser:
    """The analyser of a language that all callers share."""
    return Analyser(language)


def fold(text: str) -> str:
    """Fold compatibility forms, case and accents (NFKC without marks)."""
    if text.isascii():
        return text.lower()
    decomposed = unicodedata.normalize("NFKD", unicodedata.normalize("NFKC", text).casefold())
    return "".join(c for c in decomposed if not unicodedata.combining(c))


def _bigrams(text: str) -> Iterable[str]:
    for run in re.findall(rf"{_CJK.pattern}|\w+", text):
        if not _CJK.match(run) or len(run) == 1:
            yield run
        else:
            yield from (run[i : i + 2] for i in range(len(run) - 1))
