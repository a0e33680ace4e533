"""Judge an answer by what its question expects."""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import dataclass
from enum import StrEnum

from fontanel.core.text.analysis import fold

#: Words of a quote that a citation must contain when neither contains the other.
_SHARED = 0.7
_MARKUP = re.compile(r"[*_`~|]+|\[\d+\]")
_BETWEEN_DIGITS = re.compile(r"(?<=\d)[\u00a0\u202f ,](?=\d{3}(?!\d))")
_BLANKS = re.compile(r"\s+")
_WORD = re.compile(r"\w+")
#: Separates forms of an expected text that mean the same.
_OR = "|"


class Result(StrEnum):
    """How an answer compares with what was expected."""

    RIGHT = "right"
    WRONG = "wrong"
    #: The documents answer it, but it was declined.
    DECLINED = "declined"
    #: It had to be declined, and was.
    DECLINED_RIGHTLY = "declined_rightly"
    #: It had to be declined, and was answered.
    NOT_DECLINED = "not_declined"
    #: Nothing was expected.
    UNJUDGED = "unjudged"
    #: The answer failed inside the service.
    FAILED = "failed"


RIGHT_RESULTS = frozenset({Result.RIGHT, Result.DECLINED_RIGHTLY})


@dataclass(frozen=True, slots=True)
class Expectation:
    """What the answer to a question should be.

    documents: names or ids of documents; one of them must be cited.
    quotes: text of the documents; one of them must be cited, or stand in the answer.
    contains: words or values that must all be in the answer; "noon|12:00" allows either form.
    must_decline: the documents do not answer the question.
    """

    documents: tuple[str, ...] = ()
    quotes: tuple[str, ...] = ()
    contains: tuple[str, ...] = ()
    must_decline: bool = False

    @property
    def empty(self) -> bool:
        return not (self.documents or self.quotes or self.contains or self.must_decline)


@dataclass(frozen=True, slots=True)
class Cited:
    """A citation: all names of its document, and its quote."""

    names: Collection[str]
    quote: str


@dataclass(frozen=True, slots=True)
class Given:
    """An answer that was given."""

    declined: bool
    text: str
    citations: tuple[Cited, ...]


@dataclass(frozen=True, slots=True)
class Judgement:
    """The result; `cited` is whether it cites what was expected, None if it was declined.

    reason: what is missing, for a person to read; empty if it is right.
    """

    result: Result
    cited: bool | None
    reason: str = ""


def judge(expected: Expectation, given: Given) -> Judgement:
    """Judge an answer by what was expected of it."""
    if given.declined:
        if expected.empty:
            return Judgement(Result.UNJUDGED, None)
        if expected.must_decline:
            return Judgement(Result.DECLINED_RIGHTLY, None)
        return Judgement(Result.DECLINED, None, "It was declined.")
    cited = _cites(expected, given)
    if expected.must_decline:
        reason = "It was answered, although it had to be declined."
        return Judgement(Result.NOT_DECLINED, cited, reason)
    if expected.empty:
        return Judgement(Result.UNJUDGED, cited)
    reason = _missing(expected, given)
    return Judgement(Result.WRONG if reason else Result.RIGHT, cited, reason)


def _missing(expected: Expectation, given: Given) -> str:
    """Return what an answer lacks; an empty string if nothing."""
    text = plain(given.text)
    for form in expected.contains:
        if not contains(text, form):
            return f"The answer does not contain {form.replace(_OR, ' or ')!r}."
    if expected.quotes and not _quotes(expected.quotes, given, text):
        return "Neither the answer nor its citations contain an expected quote."
    if expected.documents and not _documents(expected.documents, given):
        return "The answer cites none of the expected documents."
    return ""


def contains(text: str, expected: str) -> bool:
    """Return whether a plain text contains one of the forms of an expected text, as whole words."""
    forms = [plain(form) for form in expected.split(_OR)]
    return any(
        re.search(rf"(?<![\w]){re.escape(form)}(?![\w]|[.,]\d)", text) for form in forms if form
    )


def plain(text: str) -> str:
    """Return a text in one case, without markup, citation marks and thousands separators."""
    text = _BETWEEN_DIGITS.sub("", _MARKUP.sub(" ", text))
    return _BLANKS.sub(" ", fold(text)).strip()


def _cites(expected: Expectation, given: Given) -> bool:
    if expected.documents or expected.quotes:
        return _documents(expected.documents, given) or _quotes(expected.quotes, given, "")
    return bool(given.citations)


def _documents(documents: Collection[str], given: Given) -> bool:
    wanted = set(documents)
    return any(wanted & set(citation.names) for citation in given.citations)


def _quotes(quotes: Collection[str], given: Given, text: str) -> bool:
    cited = [plain(citation.quote) for citation in given.citations]
    return any(
        wanted in text or any(_alike(wanted, quote) for quote in cited)
        for wanted in map(plain, quotes)
        if wanted
    )


def _alike(wanted: str, quote: str) -> bool:
    """Return whether a citation contains a quote, or most of its words."""
    if not quote:
        return False
    if wanted in quote or quote in wanted:
        return True
    words = set(_WORD.findall(wanted))
    return bool(words) and len(words & set(_WORD.findall(quote))) >= _SHARED * len(words)
