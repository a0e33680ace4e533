"""Make questions of the statements of a document, each answered by its statement.

Overgenerate and rank (Heilman and Smith, "Good Question!", 2010): patterns turn sentences, lead-ins
with their items, table rows and headings into questions; whoever calls this has the evidence model
judge which of them their own passage answers, and no other better.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from fontanel.core.answering.composing.statements import Statement
from fontanel.core.proposing import patterns
from fontanel.core.proposing.clauses import VERBS, Clause, clause_of, has_pronoun
from fontanel.core.proposing.rows import questions_of_row

#: The words of a question, at least and at most, and the characters of an answer.
_MIN_WORDS, _MAX_WORDS, _MAX_ANSWER = 4, 20, 900
#: Verbs whose object may be a number of things.
_COUNTING = frozenset({"hold", "carry", "have", "get", "receive", "pay", "use", "bring"})
_TITLES = frozenset({"Dr", "Mr", "Mrs", "Ms", "Prof", "St", "Sir"})
_DETERMINERS = frozenset({"A", "An", "The", "Each", "Every", "All", "Any", "Most", "Many"})


@dataclass(frozen=True, slots=True)
class Proposal:
    """A question that characters [start, end) of a document answer.

    answer: what they say, readable alone.
    statement: the statement that it was made of, the first if there are several.
    """

    question: str
    phrasings: tuple[str, ...]
    answer: str
    start: int
    end: int
    statement: Statement


def propose(statements: Sequence[Statement], is_name: Callable[[str], bool]) -> Iterator[Proposal]:
    """Yield the questions that statements answer, in their order.

    Args:
        statements: Those of a passage.
        is_name: Whether a capitalised word is a name: it is capitalised within sentences too.
    """
    seen: set[str] = set()
    for number, statement in enumerate(statements):
        for question, *phrasings in _questions(statement, statements[number:], is_name):
            text = _tidy(question)
            words = len(text.split())
            if text.lower() in seen or not _MIN_WORDS <= words <= _MAX_WORDS:
                continue
            seen.add(text.lower())
            start, end, answer = _answer(statement, statements[number:])
            if len(answer) <= _MAX_ANSWER:
                others = tuple(_tidy(one) for one in phrasings)
                yield Proposal(text, others, answer, start, end, statement)


def _questions(
    statement: Statement, following: Sequence[Statement], is_name: Callable[[str], bool]
) -> Iterator[tuple[str, ...]]:
    """Yield questions, each with other wordings of it."""
    if statement.kind == "row":
        yield from questions_of_row(statement)
        return
    if statement.kind == "item":
        if _begins_list(statement, following):
            yield from _of_lead(statement.lead, is_name)
        return
    if statement.kind != "sentence":
        return
    heading = statement.heading.strip()
    if patterns.QUESTION.match(heading):
        yield (heading,)
    text = patterns.NUMBERED.sub("", " ".join(statement.text.split()))
    if not text.endswith((".", "!")) or text.count("(") != text.count(")"):
        return
    yield from _of_sentence(text.rstrip(".!"), is_name)


def _of_sentence(text: str, is_name: Callable[[str], bool]) -> Iterator[tuple[str, ...]]:
    if found := patterns.CONDITION.match(text):
        if not has_pronoun(found["clause"]) and not patterns.BARE.match(found["clause"]):
            word = "if" if found["word"] == "If" else "when"
            yield (
                f"What happens {word} {found['clause']}?",
                f"What applies {word} {found['clause']}?",
            )
        return
    if (found := patterns.PURPOSE.match(text)) and not has_pronoun(found["verb"]):
        yield (f"How do I {found['verb']}?", f"How can I {found['verb']}?")
        return
    clause = clause_of(text)
    if clause is None:
        return
    subject = _within(clause.subject, is_name)
    reason = patterns.BECAUSE.match(text)
    if clause.base:
        yield from _of_verb(clause, subject)
    elif reason and (inner := clause_of(reason["before"])) and not has_pronoun(inner.rest):
        yield (f"Why {_asked(inner.verb, subject, inner.rest)}?",)
    else:
        yield from _of_auxiliary(clause, subject)


def _of_auxiliary(clause: Clause, subject: str) -> Iterator[tuple[str, ...]]:
    verb, rest = clause.verb, clause.rest
    copula = verb in ("is", "are", "was", "were")
    if copula and (found := patterns.SIZE.match(rest)):
        yield (f"How {found['how']} {verb} {subject}?",)
        return
    if copula and patterns.MONEY.match(rest):
        yield (f"How much {verb} {subject}?",)
        return
    if copula and (found := patterns.ALLOWED.match(rest)) and " only" not in rest:
        yield (f"{verb.capitalize()} {subject} {found['word']}{found['more']}?",)
        return
    if copula and (found := patterns.PLACE.match(rest)):
        yield (f"Where {verb} {subject} {found['verb']}?",)
        return
    if copula and (found := patterns.BY.match(rest)) and not has_pronoun(rest):
        more = found["what"].strip()
        if patterns.CLAUSE_END.search(f"{found['verb']} {more} "):
            return
        yield (f"Who {verb} {subject} {found['verb']}{' ' + more if more else ''} by?",)
        return
    if copula and patterns.DEFINED.match(rest) and _may_be_defined(clause):
        word = (
            "Who"
            if patterns.PERSON.search(rest.split(" of ")[0]) and clause.subject[:1].isupper()
            else "What"
        )
        word = "What" if re.match(r"(?:an?|the) ", clause.subject, re.I) else word
        yield (f"{word} {verb} {subject}?",)
        return
    if has_pronoun(rest):
        return
    yield from _of_circumstance(verb, subject, rest)


def _of_circumstance(verb: str, subject: str, rest: str) -> Iterator[tuple[str, ...]]:
    """Yield questions for a time, a duration, a frequency or a condition; else yes or no."""
    for pattern, word in (
        (patterns.ONLY, "When"),
        (patterns.EVERY, "How often"),
        (patterns.DURATION, "How long"),
        (patterns.DEADLINE, "When"),
        (patterns.AT, "When"),
    ):
        found = pattern.search(rest)
        if found and found.start() > 0:
            before = rest[: found.start()]
            whole = not patterns.CLAUSE_END.search(before) and not patterns.OPEN_END.search(before)
            if whole and not before.startswith("not "):
                yield (f"{word} {_asked(verb, subject, before)}?",)
                return
    main = rest[: found.start()] if (found := patterns.CLAUSE_END.search(rest)) else rest
    if verb in ("may", "can", "must", "should", "cannot") and len(main.split()) >= 2:
        if "between" in main:
            return
        plain = re.sub(r"^(?:not|only|also|always|never) ", "", main)
        forbidden = verb == "must" and main.startswith("not ")
        asked = "may" if forbidden else "can" if verb == "cannot" else verb
        yield (f"{asked.capitalize()} {subject} {plain}?",)


def _of_verb(clause: Clause, subject: str) -> Iterator[tuple[str, ...]]:
    """Yield a question for a full verb: how much it costs, when it opens, what it needs."""
    rest, word = clause.rest, VERBS[clause.base]
    asked = f"{'do' if clause.plural else 'does'} {subject} {clause.base}"
    counted = patterns.COUNTED.match(rest)
    if has_pronoun(rest):
        return
    if clause.base in _COUNTING and (counted or patterns.MONEY.match(rest)):
        yield from _of_count(clause, asked, counted["what"] if counted else "")
    elif word == "How much":
        if patterns.MONEY.match(rest) or counted or rest.startswith("nothing"):
            yield f"How much {asked}?", f"What {asked}?"
    elif word != "What":
        if patterns.TIMES[word].match(rest):
            yield (f"{word} {asked}?",)
    elif not patterns.NO_OBJECT.match(rest) and (clause.base != "have" or rest.count(",") >= 2):
        yield (f"What {asked}?",)


def _of_count(clause: Clause, asked: str, what: str) -> Iterator[tuple[str, ...]]:
    """Yield a question for a number of things, or a sum."""
    if patterns.MONEY.match(clause.rest) or clause.base == "pay":
        yield (f"How much {asked}?",)
        return
    words = what.split()
    plural = next((n for n, word in enumerate(words, 1) if word.endswith("s")), None)
    if plural is not None and not re.match(patterns.PERIOD, what):
        yield (f"How many {' '.join(words[:plural])} {asked}?",)


def _of_lead(lead: str, is_name: Callable[[str], bool]) -> Iterator[tuple[str, ...]]:
    """Yield a question for a list by the line above it."""
    text = " ".join(lead.split())
    if found := patterns.FOLLOWING.match(text):
        if not has_pronoun(found["rest"]):
            yield (f"Which {found['what']} {found['verb']} {found['rest']}?",)
        return
    if found := patterns.AS_FOLLOWS.match(text):
        verb = found["verb"]
        if not is_name(verb.split()[0]):
            yield (f"How do I {verb[:1].lower()}{verb[1:]}?",)
        return
    if (found := patterns.PURPOSE.match(text.rstrip(":") + ".")) and not has_pronoun(found["verb"]):
        yield (f"How do I {found['verb']}?",)
        return
    if text.endswith(":"):
        clause = clause_of(f"{text[:-1]} items.")
        if clause is not None and clause.base in ("need", "require", "contain", "include", "bring"):
            do = "do" if clause.plural else "does"
            yield (f"What {do} {_within(clause.subject, is_name)} {clause.base}?",)


def _begins_list(statement: Statement, following: Sequence[Statement]) -> bool:
    """Return whether an item is the first of a list with a line above it."""
    same = [one for one in following if one.part == statement.part]
    first = statement.passage.parts[statement.part].start if statement.passage.parts else 0
    marked = statement.start - first
    return bool(statement.lead) and len(same) >= 2 and marked <= 6


def _answer(statement: Statement, following: Sequence[Statement]) -> tuple[int, int, str]:
    """Return the place that answers, and its text."""
    if statement.kind == "item":
        items = [one for one in following if one.part == statement.part and one.kind == "item"]
        text = "\n".join([statement.lead, "", *(f"- {one.text}" for one in items)])
        return statement.start, items[-1].end, text.strip()
    return statement.start, statement.end, " ".join(statement.text.split())


def _may_be_defined(clause: Clause) -> bool:
    """Return whether a subject is something of which one asks what it is."""
    words = clause.subject.split()
    return len(words) <= 5 and (
        bool(re.match(r"an? ", clause.subject, re.I)) or all(word[:1].isupper() for word in words)
    )


def _asked(verb: str, subject: str, rest: str) -> str:
    """Return the words of a question after its question word: the verb before the subject."""
    negative = rest.startswith("not ")
    rest = re.sub(r"^(?:not|only|always|usually|normally) ", "", rest.strip())
    if verb == "cannot":
        return f"can {subject} not {rest}"
    return f"{verb} {subject} {'not ' if negative else ''}{rest}".strip()


def _within(subject: str, is_name: Callable[[str], bool]) -> str:
    """Return a subject as it is written within a sentence."""
    first, _, rest = subject.partition(" ")
    plain = first[:1].isupper() and first[1:].replace("-", "").islower()
    named = is_name(first) or first in _TITLES or rest[:1].isupper() or rest[:1].isdigit()
    if first in _DETERMINERS or (plain and not named):
        return f"{first.lower()} {rest}".strip()
    return subject


def _tidy(question: str) -> str:
    text = re.sub(r"\s+", " ", question).replace(" ?", "?").strip()
    return text[:1].upper() + text[1:]
