"""Questions of several parts: "Which ships must take a tug, and who pays?" asks twice.

By rule, for English.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass

from fontanel.core.answering.question.followup import (
    Exchange,
    following_on,
    search_form,
    split_stand_alone,
    stand_alone,
)
from fontanel.core.text.sentences import capitalised, sentence_spans

#: Parts that are answered; further ones stay with the last.
MAX_PARTS = 4
_VERB = (
    r"(?:is|are|was|were|do|does|did|can|could|may|must|should|shall|will|would|has|have|had)"
    r"(?:n['’]t)?"
)
_SUBJECT = (
    r"(?:i|we|you|it|he|she|they|there|this|that|these|those|the|a|an|any|my|our|your|their|his|her"
    r"|its|somebody|someone|anybody|anyone)"
)
_JOINT = re.compile(
    rf"""(?:\s*[,;]\s*|\s+)(?:and|but)\s+(?:also\s+)?(?=
        (?:(?:at|by|for|from|in|of|on|to|under|until|with|within)\s+)?
        (?:(?:who|whom|whose|what|which)\s+(?!(?:not|for|about|else|so|if|then)\b)\w
          |how\s+(?:much|many|long|often|far|soon|old|big|high|deep|fast|late|early)\s+\w)
      | (?:when|where|why|how)\s+{_VERB}\b
      | (?:when|where|why|how)\b\W*$
      | {_VERB}\s+{_SUBJECT}\b
    )""",
    re.I | re.X,
)
#: "How many lines" has no verb and does not ask alone: it shares the verb of what follows.
_VERBLESS = re.compile(rf"(?!.*\b{_VERB}\b)\W*(?:\w[\w'’-]*\W*){{1,4}}", re.I | re.S)
#: Index terms of a part, at least; of the first one, which gives the others their topic, more.
_MIN_TERMS, _MIN_FIRST_TERMS = 1, 2


@dataclass(frozen=True, slots=True)
class QuestionPart:
    """A question that is answered on its own.

    `text` needs nothing else to be read. `query` is its search form, with topic words of the first
    part in brackets. `names` is the text of which the exact names must be in the evidence.
    """

    text: str
    query: str
    names: str


def question_parts(standalone: str, terms: Callable[[str], list[str]]) -> tuple[QuestionPart, ...]:
    """Return the parts of a stand-alone question, in order; one if it asks for one thing.

    Args:
        standalone: The question, with the one that it follows on from in brackets behind it.
        terms: Returns the index terms of a text.
    """
    own, earlier = split_stand_alone(standalone)
    texts = [text for sentence in _questions(own) for text in _split(sentence, terms)]
    if len(texts) == 1:
        return (QuestionPart(standalone, search_form(standalone, terms), own),)
    if len(texts) > MAX_PARTS:
        texts = [*texts[: MAX_PARTS - 1], " ".join(texts[MAX_PARTS - 1 :])]
    first = following_on(texts[0], earlier) if earlier else texts[0]
    results = [QuestionPart(first, search_form(first, terms), texts[0])]
    for text in texts[1:]:
        whole = stand_alone(text, [Exchange(texts[0], texts[0])], terms)
        linked = whole if whole != text else following_on(text, texts[0])
        # "What should I do?" asks about what the first part names.
        names = text if whole == text else f"{texts[0]} {text}"
        results.append(QuestionPart(whole, search_form(linked, terms), names))
    return tuple(results)


def _questions(text: str) -> list[str]:
    """Return the sentences that end with a question mark, each with the others before it."""
    sentences = [text[start:end].strip() for start, end in sentence_spans(text)]
    results: list[str] = []
    before: list[str] = []
    for sentence in sentences:
        before.append(sentence)
        if sentence.endswith("?"):
            results.append(" ".join(before))
            before = []
    if not results:
        return [text.strip()]
    results[-1] = " ".join((results[-1], *before))
    return results


def _split(sentence: str, terms: Callable[[str], list[str]]) -> list[str]:
    """Split a sentence before "and who", "and how much", "and does it" if each part says enough."""
    places = [0]
    ends = []
    for match in _JOINT.finditer(sentence):
        before, after = sentence[places[-1] : match.start()], sentence[match.end() :]
        if (
            len(set(terms(before))) >= _MIN_FIRST_TERMS
            and len(set(terms(after))) >= _MIN_TERMS
            and not _VERBLESS.fullmatch(before)
        ):
            ends.append(match.start())
            places.append(match.end())
    ends.append(len(sentence))
    texts = [sentence[a:b].strip(" ,;") for a, b in zip(places, ends, strict=True)]
    if len(texts) == 1:
        return [sentence]
    return [text if text.endswith("?") else f"{text}?" for text in map(capitalised, texts)]
