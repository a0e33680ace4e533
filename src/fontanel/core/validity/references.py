"""Matching the name that one document gives another to the documents of a knowledge base."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date
from functools import cache
from pathlib import PurePosixPath

from fontanel.core.text.analysis import analyser_of, fold
from fontanel.core.validity.dates import DATE, dates_in

#: Words that name an earlier issue of the same document, and kinds of documents, which identify
#: none by themselves.
_ISSUE = "document version edition issue revision dokument fassung ausgabe édition versión"
_KIND = (
    "notice plan policy procedure rules regulation guide guideline handbook manual circular order"
    " instruction standard terms conditions page memo letter schedule timetable tariff list form"
    " directive agreement contract decision bulletin regeln ordnung richtlinie anweisung handbuch"
    " règlement règles manuel normas reglamento"
)
_YEAR = re.compile(r"^(?:19|20)\d\d$")
_REMARK = re.compile(r"[(\[][^)\]]*[)\]]")
_WORD = re.compile(r"[^\W_]+")
#: Shares of a name's words that must be in a title, for short and for longer names.
_MIN_SHARE, _SHORT_NAME = 0.75, 2
#: The lead over the next best document that makes a match clear.
_CLEAR = 0.05
#: What an equal date adds, and the part of a title's words beyond the name that counts against it.
_SAME_DATE, _EXTRA_WORDS = 0.5, 0.3
#: Characters by which names are looked up: long enough to be rare, short enough for plurals.
_PREFIX = 5


@dataclass(frozen=True, slots=True)
class DocumentNames:
    """What a document may be called by: its title, its name (a path), dates at its beginning."""

    title: str
    name: str
    dates: frozenset[date] = frozenset()


def best_match(
    reference: str, documents: Sequence[DocumentNames], own: DocumentNames, language: str = "en"
) -> int | None:
    """Return the index of the document that a reference names; None if none is clearly meant.

    All the words of a short reference ("the storm plan"), and three quarters of a longer one, must
    be in the title or the file's name; so must its numbers. A date or year must be at the
    document's beginning, if it has any. A reference without words of its own ("edition 4", "the
    rules of 2023") is to an earlier issue of the document that it is in.

    Args:
        reference: How the text names it: "heavy-weather notice of 12 October 2019".
        documents: Those that may be meant.
        own: The names of the document that the reference is in.
        language: The language of the text.
    """
    full = _completed(reference, own, language)
    scores = [_score(full, document, language) for document in documents]
    ranked = sorted(range(len(scores)), key=lambda n: -scores[n])
    if not ranked or scores[ranked[0]] <= 0:
        return None
    if len(ranked) > 1 and scores[ranked[0]] - scores[ranked[1]] < _CLEAR:
        return None
    return ranked[0]


def lookup_keys(names: DocumentNames) -> frozenset[str]:
    """Return by what references find a document.

    The numbers and the beginnings of the words of its title and name, and its dates in ISO 8601.
    """
    text = f"{names.title} {PurePosixPath(names.name).stem}".lower()
    words = {word[:_PREFIX] for word in _WORD.findall(text)}
    return frozenset(words | {day.isoformat() for day in names.dates})


def lookup_key(reference: str, own: DocumentNames, language: str = "en") -> str:
    """Return by what a reference's document is looked up, empty if by nothing.

    Its first number that is not a year, as few documents have the same; else the beginning of its
    longest word.
    """
    undated = DATE.sub(" ", _completed(reference, own, language)).lower()
    analyser = analyser_of(language)
    terms = set(analyser.terms(undated)) - _terms_of(_ISSUE, language)
    words = [word for word in _WORD.findall(undated) if terms.intersection(analyser.terms(word))]
    numbers = [word for word in words if word.isdigit() and not _YEAR.match(word)]
    plain = [word for word in words if not word.isdigit()] or words
    return (numbers[0] if numbers else max(plain, key=len, default=""))[:_PREFIX]


def _completed(reference: str, own: DocumentNames, language: str) -> str:
    """Return a reference with the words of its document's title, if it has none of its own."""
    words, numbers = _terms(DATE.sub(" ", reference), language)
    particular = words - _terms_of(_KIND, language)
    if particular or (words and any(not _YEAR.match(number) for number in numbers)):
        return reference
    title, _ = _terms(_REMARK.sub(" ", own.title), language)
    return f"{reference} {' '.join(sorted(title))}"


def _score(reference: str, document: DocumentNames, language: str) -> float:
    stem = PurePosixPath(document.name).stem
    if fold(reference).strip() in (fold(document.title), fold(document.name), fold(stem)):
        return 2.0
    dates = {day for day, _, _ in dates_in(reference)}
    words, numbers = _terms(DATE.sub(" ", reference), language)
    years = {number for number in numbers if _YEAR.match(number)}
    numbers -= years
    title_words, title_numbers = _terms(f"{_REMARK.sub(' ', document.title)} {stem}", language)
    if not words and not numbers:
        return 0.0
    document_years = {str(day.year) for day in document.dates}
    if not numbers <= title_numbers or not _years_fit(
        years | {str(day.year) for day in dates}, title_numbers, document_years
    ):
        return 0.0
    if dates and document.dates and not dates & document.dates:
        # Another issue of the document, unless only its title has a year.
        return 0.0
    share = len(words & title_words) / len(words) if words else 1.0
    if share < (1.0 if len(words) <= _SHORT_NAME else _MIN_SHARE):
        return 0.0
    extra = len(title_words - words) / max(len(title_words), 1)
    return share + _SAME_DATE * bool(dates & document.dates) - _EXTRA_WORDS * extra


def _years_fit(years: set[str], title_numbers: set[str], document_years: set[str]) -> bool:
    """Return whether the years named are the document's; one that has none may be meant."""
    of_document = {number for number in title_numbers if _YEAR.match(number)} | document_years
    return not years or not of_document or bool(years & of_document)


def _terms(text: str, language: str) -> tuple[set[str], set[str]]:
    """Return the words and the numbers of a name."""
    terms: Iterable[str] = analyser_of(language).terms(text.replace("_", " ").replace("-", " "))
    words = set(terms) - _terms_of(_ISSUE, language)
    numbers = {word for word in words if word.isdigit()}
    return {word for word in words if not any(c.isdigit() for c in word)}, numbers


@cache
def _terms_of(words: str, language: str) -> frozenset[str]:
    return frozenset(analyser_of(language).terms(words))
