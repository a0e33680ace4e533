"""Rewrite elliptic follow-ups ("And at night?") with the words of the question before.

By rule, for English: a phrase without a verb replaces the phrase of the question before that has
the same noun, name or preposition, or is appended to it.
"""

from __future__ import annotations

import re
from collections.abc import Callable

_LEAD = re.compile(r"^\s*(?:(?:and|but|so|or|then|also|what about|how about)\b[\s,]*)+", re.I)
_PREPOSITIONS = (
    "at|in|on|for|by|with|without|after|before|during|under|over|from|to|within|since|until|near"
    "|between|when|if|while"
)
_PREPOSITION = re.compile(rf"(?P<preposition>{_PREPOSITIONS})\s+(?P<rest>.+)", re.I)
#: Words of clauses: a phrase that has one is more than a phrase.
_CLAUSE = re.compile(
    r"\b(?:is|are|was|were|be|been|do|does|did|can|could|may|might|must|should|shall|will|would|has"
    r"|have|had|what|which|who|whom|whose|where|how|why|it|they|them|he|she|this|that|these|those"
    r"|one|ones|there|same|other|others|else|not)\b",
    re.I,
)
#: A question of several parts; nothing is appended to one.
_SEVERAL = re.compile(
    r"[;?].*\w|,\s*(?:and|or|but)\b|\b(?:and|or)\s+(?:what|which|who|when|where|how|why)\b", re.I
)
_DETERMINER = r"(?:the|a|an|my|our|your|any|each|every)"
_NAMES = re.compile(r"[A-Z][\w'’-]*(?:\s+[A-Z][\w'’-]*)*")
#: Names that say when, and may be appended.
CALENDAR = (
    r"(?:Mon|Tues|Wednes|Thurs|Fri|Satur|Sun)days?|January|February|March|April|May|June|July"
    r"|August|September|October|November|December|Christmas|Easter"
)
#: Words of a phrase.
_MAX_WORDS = 7


def rewrite(question: str, before: str, terms: Callable[[str], list[str]]) -> str | None:
    """Return a follow-up as a whole question; None if no rule fits.

    Args:
        question: The follow-up.
        before: The question before, whole itself.
        terms: Returns the index terms of a text.
    """
    lead = _LEAD.match(question)
    phrase = question[lead.end() if lead else 0 :].strip(" \t\n?.!,")
    before = before.strip()
    if not before.endswith("?") or not 0 < len(phrase.split()) <= _MAX_WORDS:
        return None
    match = _PREPOSITION.fullmatch(phrase)
    if _CLAUSE.search(phrase) or not (lead or match):
        return None
    noun = match["rest"] if match else phrase
    if rewritten := _with_noun(noun, before, terms):
        return rewritten
    if _NAMES.fullmatch(noun) and not re.fullmatch(CALENDAR, noun):
        return _with_name(noun, before)
    if match is None:
        return None
    return _with_preposition(phrase, match["preposition"], before) or _appended(phrase, before)


def _with_noun(noun: str, before: str, terms: Callable[[str], list[str]]) -> str | None:
    """Replace the phrase of the question before that has the same head, or a number after it."""
    words = noun.split()
    numbered = bool(re.fullmatch(r"\d+\w*", words[-1])) and len(words) > 1
    head = words[-2] if numbered else words[-1]
    wanted = terms(head)
    if not wanted:
        return None
    for match in re.finditer(r"[\w'’-]+", before):
        if terms(match.group()) != wanted:
            continue
        number = re.match(r"\s+\d+\w*\b", before[match.end() :])
        if numbered and not number:
            return None
        end = match.end() + (number.end() if number else 0)
        start = match.start()
        modified = re.search(rf"\b{_DETERMINER}\s+(?:[\w'’-]+\s+){{0,3}}$", before[:start], re.I)
        if modified and not number:
            start = modified.start()
        elif not number:
            return None  # without a determiner it is not clear where the phrase begins
        return before[:start] + noun + before[end:]
    return None


def _with_name(noun: str, before: str) -> str | None:
    """Replace the only name of the question before by another name."""
    names = list(re.finditer(rf"(?<=\s){_NAMES.pattern}", before))
    if len(names) != 1:
        return None
    return before[: names[0].start()] + noun + before[names[0].end() :]


def _with_preposition(phrase: str, preposition: str, before: str) -> str | None:
    """Replace the last phrase of the question before if it has the same preposition."""
    last = re.search(
        rf"\b{preposition}\s+(?:(?!\b(?:{_PREPOSITIONS})\b)[\w'’-]+\s*){{1,4}}\?$", before, re.I
    )
    if last is None or _CLAUSE.search(last.group()):
        return None
    return f"{before[: last.start()]}{phrase}?"


def _appended(phrase: str, before: str) -> str | None:
    if _SEVERAL.search(before.rstrip("?")) or _CLAUSE.search(before.split()[-1]):
        return None
    return f"{before.rstrip('? ')} {phrase[0].lower()}{phrase[1:]}?"
