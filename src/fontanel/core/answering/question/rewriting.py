"""Rewrite follow-ups ("And at night?", "What does it cost?") with what was said before.

By rule, for English: a phrase without a verb replaces the phrase of the question before that has
the same noun, name or preposition, or is appended to it. "It" is replaced by the only thing that
the question before names, or else by the only document that its answer cites.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from fontanel.core.text.sentences import capitalised

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
#: Nouns that say when. A phrase with one replaces another such phrase, whatever the prepositions.
_TIMES = (
    r"(?:day|night|noon|midnight|morning|afternoon|evening|weekend|weekday|week|month|year|spring"
    rf"|summer|autumn|winter|season|holiday)s?|{CALENDAR}|\d{{4}}"
)
_WHEN = re.compile(
    rf"\b(?:{_PREPOSITIONS})\s+(?:(?:the|a|an)\s+)?(?:[\w’'-]+\s+){{0,1}}(?:{_TIMES})\?$", re.I
)
#: Words of a phrase.
_MAX_WORDS = 7
_IT = re.compile(r"\bit(?P<own>s)?\b", re.I)
_OTHER_PRONOUN = re.compile(
    r"\b(?:they|them|their|this|that|these|those|there|one|ones|he|she|his|her|him|same)\b", re.I
)
#: In these "it" stands for nothing.
_EMPTY_IT = re.compile(
    r"\b(?:is|was) it (?:possible|allowed|permitted|true|necessary|safe|ok(?:ay)?|too)\b"
    r"|\bdoes it (?:matter|take)\b|\bit (?:is|was|rains?|snows?)\b",
    re.I,
)
#: The last phrase of a question, after a verb of its own.
_LAST_PHRASE = re.compile(
    r"\b(?P<verb>[\w’'-]+)\s+(?:the|a|an)\s+(?P<noun>(?:[\w’'-]+\s+){0,2}[\w’'-]+)\?$",
    re.I,
)
_AUXILIARY = frozenset(
    """
    can could may might must should shall will would do does did and or than
    """.split()  # noqa: SIM905
)


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
    if rewritten := _with_noun(phrase, noun, before, terms):
        return rewritten
    if _NAMES.fullmatch(noun) and not re.fullmatch(CALENDAR, noun):
        return _with_name(noun, before)
    if match is None:
        return None
    return (
        _with_time(phrase, before)
        or _with_preposition(phrase, match["preposition"], before)
        or _appended(phrase, before)
    )


def _with_noun(
    phrase: str, noun: str, before: str, terms: Callable[[str], list[str]]
) -> str | None:
    """Replace the phrase of the question before that has the same head, or a number after it.

    Args:
        phrase: The follow-up, with its preposition if it has one.
        noun: The same without it.
    """
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
        modified = re.search(
            rf"\b{_DETERMINER}\s+(?:(?!(?:{_PREPOSITIONS})\b)[\w'’-]+\s+){{0,3}}$",
            before[:start],
            re.I,
        )
        if modified and not number:
            start = modified.start()
        preposition = re.search(rf"\b(?:{_PREPOSITIONS})\s+$", before[:start], re.I)
        if preposition and noun != phrase:
            return before[: preposition.start()] + phrase + before[end:]
        if not modified and not number and not preposition:
            return None  # it is not clear where the phrase begins
        return before[:start] + noun + before[end:]
    return None


def _with_name(noun: str, before: str) -> str | None:
    """Replace the only name of the question before by another name."""
    names = list(re.finditer(rf"(?<=\s){_NAMES.pattern}", before))
    if len(names) != 1:
        return None
    return before[: names[0].start()] + noun + before[names[0].end() :]


def _with_time(phrase: str, before: str) -> str | None:
    """Replace when the question before is about by another time."""
    last = _WHEN.search(before)
    if last is None or not _WHEN.search(f"{phrase}?"):
        return None
    return f"{before[: last.start()]}{phrase}?"


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


def with_antecedent(question: str, before: str, titles: Sequence[str]) -> str | None:
    """Return a question with "it" replaced by what it stands for; None if that is not clear.

    Args:
        question: The follow-up.
        before: The question before, whole itself.
        titles: The titles that its answer cites.
    """
    plain = _LEAD.sub("", question)
    places = list(_IT.finditer(plain))
    if len(places) != 1 or _OTHER_PRONOUN.search(plain) or _EMPTY_IT.search(plain):
        return None
    thing = _only_thing(before.strip(), titles)
    if thing is None:
        return None
    [place] = places
    put = f"{thing}’s" if place["own"] else thing
    text = f"{plain[: place.start()]}{put}{plain[place.end() :]}".strip()
    return capitalised(text)


def _only_thing(before: str, titles: Sequence[str]) -> str | None:
    """Return the only thing that a question names; else the only title, if it names nothing."""
    names = [m.group() for m in re.finditer(rf"(?<=\s){_NAMES.pattern}(?:\s+\d+)?", before)]
    names = [name for name in names if not re.fullmatch(f"I|{CALENDAR}", name)]
    phrases = re.findall(rf"\b{_DETERMINER}\s+[\w’'-]+", before, re.I)
    if names and not phrases:
        return names[0] if len(set(names)) == 1 else None
    if not names and not phrases:
        only = list(dict.fromkeys(titles))
        return f"“{only[0]}”" if len(only) == 1 else None
    last = _LAST_PHRASE.search(before)
    if len(phrases) != 1 or last is None:
        return None
    noun = last["noun"]
    if not all(name in noun for name in names):
        return None
    if last["verb"].lower() in _AUXILIARY or _CLAUSE.search(noun) or _PREPOSITION.search(noun):
        return None
    if noun.endswith("s") or re.search(r"\w(?:ing|ed)\b", noun):
        return None  # "they", or more than a noun
    return f"the {noun}"
