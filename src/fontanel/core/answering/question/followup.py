"""Follow-up questions: pronouns and ellipses resolved from the conversation."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import pairwise

from fontanel.core.answering.question.rewriting import rewrite, with_antecedent
from fontanel.core.text.sentences import capitalised

_PRONOUN = re.compile(
    r"\b(?:it|its|they|them|their|theirs|he|she|him|her|his|this|that|these|those|there|one|ones|the"
    r" same|such|both|"
    r"either|neither|the (?:former|latter|other|first|second|last))\b",
    re.I,
)
_OPENING = re.compile(
    r"^\s*(?:and|but|so|or|then|also|what about|how about|what if|and if|in (?:that|which)"
    r" case|else)\b",
    re.I,
)
#: Phrases in which "it" does not refer to anything said before.
_EMPTY_IT = re.compile(
    r"\bis it (?:possible|allowed|permitted|true|necessary|safe|ok(?:ay)?)\b|\bdoes it"
    r" (?:matter|cost)\b|\bit is\b|\bthat (?:is|are|the|a|i|we|you)\b|\bthere"
    r" (?:is|are|a|any|be)\b|\b(?:is|are|was|were) there\b|\b(?:this|that|these|those) \w{4,}",
    re.I,
)
#: What stands between a follow-up and the question that it follows on from.
FOLLOWING = "following on from: "
_LEAD = re.compile(r"^\s*(?:and|but|so|or|then|also|what about|how about|what if)\b[\s,]*", re.I)


@dataclass(frozen=True, slots=True)
class Exchange:
    """An earlier turn.

    Its question, its interpretation, and the titles that were cited.
    """

    question: str
    standalone: str
    titles: tuple[str, ...] = ()


def leans_on_history(question: str, content_words: int) -> bool:
    """Return whether a question depends on the conversation.

    Args:
        content_words: The number of its index terms.
    """
    if _OPENING.search(question):
        return True
    cleaned = _EMPTY_IT.sub(" ", question)
    if _PRONOUN.search(cleaned):
        return True
    return content_words <= 2 and len(question.split()) <= 5


def stand_alone(
    question: str, history: Sequence[Exchange], terms: Callable[[str], list[str]]
) -> str:
    """Return a question as one that needs no conversation.

    A follow-up is rewritten where a rule fits, and otherwise has the question that it follows on
    from in brackets behind it.
    """
    if not history or not leans_on_history(question, len(set(terms(question)))):
        return question
    own, earlier = split_stand_alone(history[-1].standalone.strip())
    if not earlier:
        rewritten = rewrite(question, own, terms)
        if rewritten is None:
            rewritten = with_antecedent(question, own, history[-1].titles)
        if rewritten is not None:
            return rewritten
    followed = earlier or own
    return following_on(question, followed) if terms(followed) else question


def following_on(question: str, earlier: str) -> str:
    """Return a question with the one that it follows on from in brackets behind it."""
    followed = earlier.replace("(", "").replace(")", "").strip()
    return f"{question.strip()} ({FOLLOWING}{followed})"


def split_stand_alone(standalone: str) -> tuple[str, str]:
    """Return a question's own words, and the question that it follows on from."""
    match = re.match(rf"^(.*\S)\s+\({FOLLOWING}([^()]*)\)$", standalone, re.S)
    return (match.group(1), match.group(2)) if match else (standalone, "")


def search_form(standalone: str, terms: Callable[[str], list[str]]) -> str:
    """Return a question with topic words of the one that it follows on from in brackets."""
    question, earlier = split_stand_alone(standalone)
    before = re.findall(r"[\w][\w'’./-]*", earlier)
    own = set(terms(question))
    topic: list[str] = []
    for place, word in enumerate(before):
        result = terms(word)
        replaced = place + 1 < len(before) and _has_another(
            question, word, before[place + 1], terms
        )
        if result and not own.intersection(result) and word not in topic and not replaced:
            topic.append(word)
    if not topic:
        return question
    core = _LEAD.sub("", question).strip() or question
    return f"{capitalised(core)} ({' '.join(topic[:12])})"


def _has_another(question: str, word: str, head: str, terms: Callable[[str], list[str]]) -> bool:
    """Return whether a question changes the modifier.

    "the ferry berth", "the outer berth".
    """
    requested = set(terms(head))
    words = re.findall(r"[\w][\w'’./-]*", question)
    return any(
        requested.intersection(terms(now))
        and terms(before)
        and not set(terms(before)).intersection(terms(word))
        for before, now in pairwise(words)
    )


def split_search_form(question: str) -> tuple[str, str]:
    """Return the question's own words, and topic words of the conversation."""
    match = re.match(r"^(.*\S)\s+\(([^()]*)\)$", question, re.S)
    return (match.group(1), match.group(2)) if match else (question, "")
