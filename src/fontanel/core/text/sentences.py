"""Sentence boundaries, in spite of abbreviations, decimals and versions."""

from __future__ import annotations

import re

_ABBREVIATIONS = frozenset(
    [
        "e.g",
        "i.e",
        "etc",
        "vs",
        "cf",
        "mr",
        "mrs",
        "ms",
        "dr",
        "prof",
        "st",
        "no",
        "nos",
        "fig",
        "figs",
        "sec",
        "ch",
        "vol",
        "pp",
        "p",
        "approx",
        "dept",
        "est",
        "inc",
        "ltd",
        "co",
        "jr",
        "sr",
        "a.m",
        "p.m",
        "u.s",
        "z.b",
        "d.h",
        "bzw",
        "usw",
        "ca",
        "nr",
        "bspw",
        "ggf",
        "evtl",
        "inkl",
        "vgl",
        "p.ex",
        "env",
        "av",
        "bd",
        "sra",
        "sres",
        "dra",
        "ud",
        "art",
        "cap",
        "ed",
        "min",
        "max",
    ]
)
# Possessive runs from their start: the text is untrusted, and may be a million full stops.
_END = re.compile(r"(?<![.!?…])[.!?…]++[\"'”’)\]]*+(?=\s|$)|[。！？]")
_NEXT_STARTS = re.compile(r"\s+[\"'“‘(\[]*(?:[^\W\d_]|\d|[`$<*/])")

#: A day of the month is written with a full stop in German and the Nordic languages.
_MONTH = re.compile(
    r"\s+(?:Januar|Jänner|Februar|März|April|Mai|Juni|Juli|August|September|Oktober|November"
    r"|Dezember)\b"
)

#: A number that opens a sentence belongs to it: "2. Moor", "According to 2. Mooring, ...".
_OPENS = re.compile(
    r"\s*(?:(?:(?:according to|as in|see|in|under|per|laut|nach|siehe|selon|voir|según|véase) )?|"
    r"(?:according to|laut|selon|según)"
    r" (?:chapter|section|part|appendix|kapitel|abschnitt|teil|chapitre|capítulo) )"
    r"\d+(?:\.\d+)*",
    re.I,
)


def capitalised(text: str) -> str:
    """Return a text with its first letter as a capital, and the rest as it is."""
    return text[:1].upper() + text[1:]


def sentence_spans(text: str) -> list[tuple[int, int]]:
    """Return the [start, end) of each sentence, white space at the ends left out."""
    spans: list[tuple[int, int]] = []
    start = 0
    for match in _END.finditer(text):
        end = match.end()
        if end < len(text) and not _ends_sentence(text, match.start(), end):
            continue
        if end < len(text) and _OPENS.fullmatch(text, start, match.start()):
            continue
        _add(spans, text, start, end)
        start = end
    _add(spans, text, start, len(text))
    return spans


def _ends_sentence(text: str, mark: int, end: int) -> bool:
    if text[mark] in "。！？":
        return True
    following = _NEXT_STARTS.match(text, end)
    if not following:
        return False
    next_char = text[following.end() - 1]
    if text[mark] in "!?":
        return not next_char.islower()
    word = re.search(r"[\w.]*$", text[max(0, mark - 20) : mark])
    before = word.group(0).lower() if word else ""
    if before in _ABBREVIATIONS:
        # Some abbreviations also end sentences; then a capital follows, and no number.
        return before in ("etc", "a.m", "p.m", "u.s") and next_char.isupper()
    if len(before) <= 2 and before.isdigit() and _MONTH.match(text, end):
        return False  # "vom 1. Mai"
    if len(before) == 1 and before.isalpha() and text[mark - 1].isupper():
        return False  # an initial
    return not next_char.islower()


def _add(spans: list[tuple[int, int]], text: str, start: int, end: int) -> None:
    while start < end and text[start].isspace():
        start += 1
    while end > start and text[end - 1].isspace():
        end -= 1
    if end > start:
        spans.append((start, end))
