"""What a question names exactly: "basin 21", "work_mem", "SOP-014".

Evidence about basin 14 looks like evidence about basin 21 to an embedding, and shares most of its
words. It answers another question.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from fontanel.core.text.analysis import fold

#: A name with a number at the end of a phrase. One that a noun follows is a quantity: "3 bags".
_NUMBERED = re.compile(
    r"\b(?P<noun>[^\W\d_][\w-]{2,})\s+(?P<number>\d+(?:\.\d+)*[a-z]?)\b"
    r"(?=\s*(?:$|[?,;:!)]|\.(?:\s|$)"
    r"|(?:is|are|was|in|at|on|for|of|to|and|or|by|with|has|have|can|may|must|be|from|when|if|please"
    r"|do|does|did|after|before|during|while|since|than|as|that)\b))",
    re.I,
)
#: Words before a number that make it a quantity or a date.
_NO_NOUN = frozenset(
    """
    than over about under above after before within every from and until since for with are was were
    the least most only per between around exactly nearly almost some any all how into like not but
    its his her their our your has have had can may must would could should will shall
    january february march april june july august september october november december
    """.split()  # noqa: SIM905
)
#: An option of a program, or a word with an underscore.
_OPTION = re.compile(r"(?<![\w-])(?:--[a-z][\w-]+|[^\W\d_]\w*_\w+)(?!\w)")
#: Letters and a number, such as "SOP-014" or "FT2".
_MIXED = re.compile(r"(?<![\w-])(?P<letters>[^\W\d_]{1,12})-?(?P<number>\d{1,6})(?![\w-])")
_STEM = re.compile(r"(?P<stem>[^\W\d_][\w-]*?)[\s-]*\d")
_RANGE = re.compile(r"(\d{1,6})\s*(?:to|and|or|bis|und|à|et|a|y|[-–—])\s*(\d{1,6})")
_BETWEEN = re.compile(r"[\s_.\-]+")
#: The sufficiency of evidence that does not contain what the question names, at most.
WITHOUT_NAME = 0.1


def missing_names(question: str, texts: Sequence[str]) -> tuple[str, ...]:
    """Return the exact names in a question that the texts do not contain.

    Options and words with an underscore are missing if they are not there. Names with a number are
    missing if the texts have the same name with other numbers only: a question may mention a number
    by the way ("I got 72 in the quiz"). A number may be within a range ("berths 2 to 5"); blanks,
    hyphens and case do not matter.
    """
    text = "\n".join(texts)
    plain = _plain(text)
    missing = [name for name in _options(question) if _plain(name) not in plain]
    for name, stem, number in (*_numbered(question), *_mixed(question)):
        if _plain(name) not in plain and not _has_number(text, number) and _sibling(text, stem):
            missing.append(name)
    return tuple(dict.fromkeys(missing))


def nearest_name(name: str, texts: Sequence[str]) -> str:
    """Return the first name in the texts that differs from a missing one by its number only.

    Empty if there is none.
    """
    match = _STEM.match(name)
    sibling = _sibling("\n".join(texts), match["stem"]) if match else None
    return " ".join(sibling.group().split()) if sibling else ""


def _options(question: str) -> Iterator[str]:
    for match in _OPTION.finditer(question):
        yield match.group()


def _numbered(question: str) -> Iterator[tuple[str, str, str]]:
    """Yield names such as "basin 21" with their noun and number."""
    for match in _NUMBERED.finditer(question):
        if fold(match["noun"]) not in _NO_NOUN:
            yield match.group().strip(), match["noun"], match["number"]


def _mixed(question: str) -> Iterator[tuple[str, str, str]]:
    """Yield names such as "SOP-014" with their letters and number."""
    for match in _MIXED.finditer(question):
        yield match.group(), match["letters"], match["number"]


def _has_number(text: str, number: str) -> bool:
    if re.search(rf"(?<![\d.]){re.escape(number)}(?!\d)", text, re.I):
        return True
    return number.isdigit() and any(
        int(first) <= int(number) <= int(last) for first, last in _RANGE.findall(text)
    )


def _sibling(text: str, stem: str) -> re.Match[str] | None:
    """Return the first name of a text with a number, whatever number it is."""
    return re.search(
        rf"\b{re.escape(stem)}s?[\s-]{{0,3}}(?:no\.?\s*)?\d+(?:\.\d+)*[a-z]?\b", text, re.I
    )


def _plain(text: str) -> str:
    return _BETWEEN.sub("", fold(text))
