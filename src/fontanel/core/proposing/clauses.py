"""English clauses: where the subject ends and the verb begins, for sentences of a plain form."""

from __future__ import annotations

import re
from dataclasses import dataclass

#: Auxiliary verbs, and "be" as a full verb. They come before the subject in a question.
_AUXILIARIES = "is|are|was|were|may|must|can|should|will|cannot"
#: Verbs that are followed by what is asked for: the form after "does", and how to ask.
VERBS = {
    "cost": "How much",
    "weigh": "How much",
    "pay": "What",
    "hold": "What",
    "carry": "What",
    "need": "What",
    "require": "What",
    "contain": "What",
    "include": "What",
    "cover": "What",
    "mean": "What",
    "show": "What",
    "report": "What",
    "bring": "What",
    "receive": "What",
    "get": "What",
    "use": "What",
    "have": "What",
    "last": "How long",
    "take": "How long",
    "open": "When",
    "close": "When",
    "start": "When",
    "begin": "When",
    "end": "When",
    "expire": "When",
    "leave": "When",
    "sail": "When",
    "depart": "When",
    "arrive": "When",
    "run": "When",
    "happen": "When",
    "meet": "When",
}
_FORMS = {
    form: base
    for base in VERBS
    for form in (base, f"{base}es" if base.endswith(("s", "sh", "ch")) else f"{base}s")
}
_FORMS |= {"carries": "carry", "has": "have"}
#: What a subject must not begin with: it would point to another sentence.
_POINTING = re.compile(
    r"(?:it|they|this|that|these|those|he|she|we|you|i|there|here|such|another|both|either|neither"
    r"|one|some|others?|then|so|but|and|or|if|when|while|unless|until|before|after|because|since"
    r"|although|though|as|for|to|in|on|at|by|from|with|without|under|over|during|between|within"
    r"|please|also|only|not|no|nobody|nothing|none|who|which|what|where|how|its|their|his|her|our"
    r"|everything|everyone|otherwise|instead|however)\b",
    re.I,
)
#: Words within a subject that begin a clause of its own.
_SUBORDINATE = re.compile(
    r"\b(?:that|who|which|whose|when|if|where|while|unless|and\s+\w+\s+(?:is|are)|because|to)\b",
    re.I,
)
#: Pronouns within a question that only the text around would explain.
_PRONOUN = re.compile(
    r"\b(?:it|its|they|them|their|theirs|this|these|those|he|him|his|she|her|hers|we|us|our|i|me|my"
    r"|there|here|below|above|former|latter|such|both)\b",
    re.I,
)
_SUBJECT = r"(?P<subject>[^,;:()\n]{2,70}?)"
_WITH_AUXILIARY = re.compile(rf"^{_SUBJECT}\s+(?P<verb>{_AUXILIARIES})\s+(?P<rest>\S.*)$")
_WITH_VERB = re.compile(rf"^{_SUBJECT}\s+(?P<verb>{'|'.join(_FORMS)})\s+(?P<rest>\S.*)$")
_AUXILIARY = re.compile(rf"(?:{_AUXILIARIES})\b")
_MAX_SUBJECT_WORDS = 9
#: Words that are no part of a subject of a plain form.
_VERBAL = re.compile(
    r"\b(?:could|would|might|shall|do|does|did|has|have|had|been|be|not|thing|things|remains|stays|becomes|gets"
    rf"|{_AUXILIARIES})\b",
    re.I,
)
_FUNCTION = frozenset({"a", "an", "the", "each", "every", "all", "any", "most", "many", "several"})


@dataclass(frozen=True, slots=True)
class Clause:
    """A subject, its verb, and what follows; `base` is the form of a full verb after "does"."""

    subject: str
    verb: str
    rest: str
    base: str = ""

    @property
    def plural(self) -> bool:
        """Whether a full verb is in the plural."""
        return self.verb == self.base


def clause_of(sentence: str) -> Clause | None:
    """Return the parts of a sentence of the plain form subject, verb, rest; None of others."""
    text = sentence.strip().rstrip(".!").strip()
    if not text or "?" in text or _POINTING.match(text):
        return None
    found = _WITH_AUXILIARY.match(text)
    full = _WITH_VERB.match(text)
    noun = full is not None and _AUXILIARY.match(full["rest"])
    if full and not noun and (found is None or full.end("subject") < found.end("subject")):
        clause = Clause(full["subject"], full["verb"], full["rest"], _FORMS[full["verb"]])
    elif found:
        clause = Clause(found["subject"], found["verb"], found["rest"])
    else:
        return None
    if clause.base and not clause.plural and re.search(r"[^su]s$", clause.subject):
        return None  # the verb would not fit its subject
    return clause if _is_noun_phrase(clause.subject) else None


def _is_noun_phrase(subject: str) -> bool:
    words = subject.split()
    last = words[-1].lower()
    return (
        len(words) <= _MAX_SUBJECT_WORDS
        and not _SUBORDINATE.search(subject)
        and not _PRONOUN.search(subject)
        and last not in _FUNCTION
        and not _VERBAL.search(subject)
        and not last.endswith("ly")
        and any(character.isalpha() for character in subject)
    )


def has_pronoun(text: str) -> bool:
    """Return whether a text has a pronoun that only the text around would explain."""
    return bool(_PRONOUN.search(text))
