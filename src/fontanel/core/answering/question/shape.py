"""What a question asks for.

Whether it needs documents, and the shape of the answer.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from enum import StrEnum

from fontanel.core.answering.phrases import Phrases, phrases_in


class Shape(StrEnum):
    """The shape of the answer that a question asks for."""

    NUMBER = "number"
    TIME = "time"
    PERSON = "person"
    PLACE = "place"
    STEPS = "steps"
    LIST = "list"
    YES_NO = "yes_no"
    REASON = "reason"
    FACT = "fact"


_NUMBER_NOUNS = (
    "maximum|minimum|limit|fee|fees|cost|price|fare|charge|rate|speed|depth|draught|draft|length|width|height|weight|"
    "size|number|amount|capacity|distance|deposit|percentage|fine|penalty|age|frequency|channel|port|default"
)
_RULES: tuple[tuple[Shape, re.Pattern[str]], ...] = tuple(
    (shape, re.compile(pattern, re.I))
    for shape, pattern in (
        (
            Shape.TIME,
            (
                r"^\W*(?:(?:and|so|but|since|from|until|by) )*when\b(?!ever)|\band"
                r" when\b|\bwhen\W*$|\bwhat (?:time|date|day|month|year|hours?)\b|\bhow"
                r" (?:soon|early|late|often|long)\b|\buntil when\b|\bby when\b|\bdeadline\b"
            ),
        ),
        (
            Shape.NUMBER,
            (
                r"\bhow"
                r" (?:many|much|far|deep|high|fast|old|wide|tall|heavy|big|large|strong|close|near)\b"  # noqa: E501
            ),
        ),
        (
            Shape.PERSON,
            (
                r"^\s*(?:and |so |but )?who(?:se|m)?\b|\b(?:by|to|from) whom\b|\bwhich"
                r" (?:person|officer|post|role|team|office)\b"
            ),
        ),
        (
            Shape.STEPS,
            (
                r"\bhow (?:do|can|should|to|would|does one)\b(?!"
                r" .{0,40}\b(?:differ|know)\b)|\bsteps?\b|\bprocedure\b|\bwhat (?:do|should|must)"
                r" (?:i|we|you|one|they|the \w+|a \w+) do\b"
            ),
        ),
        (
            Shape.LIST,
            (
                r"\bwhich (?:\w+ ){0,2}\w+s\b (?:are|may|can|must|need|do)|\bwhat"
                r" (?:are|kinds|types|items|documents|things)\b|\blist\b"
            ),
        ),
        (Shape.PLACE, r"\bwhere\b"),
        (Shape.REASON, r"\bwhy\b|\bwhat (?:for|is the reason)\b"),
        (Shape.NUMBER, rf"\bwhat(?: is|'s| are)?\b.{{0,40}}\b(?:{_NUMBER_NOUNS})\b"),
        (
            Shape.YES_NO,
            (
                r"^\s*(?:and |so |but"
                r" )?(?:may|can|could|is|are|was|were|do|does|did|must|should|will|would|has|have|am)\b"  # noqa: E501
            ),
        ),
    )
)

_DIGIT = re.compile(
    r"\d|\b(?:one|two|three|four|five|six|seven|eight|nine|ten|twelve|half|double|no more"
    r" than|none|zero|twice|once)\b",
    re.I,
)
_TIME = re.compile(
    r"\b(?:one|two|three|four|five|six|seven|eight|nine|ten|twelve|fifteen|twenty|thirty|forty|sixty)\b(?:\W\w+)?\W"
    r"(?:minutes?|hours?|days?|weeks?|months?|years?|seconds?)\b|"
    r"\d{1,2}[:.]\d\d|\b(?:19|20)\d\d\b|\b\d+\s*(?:minutes?|hours?|days?|weeks?|months?|years?|seconds?|ms)\b|"
    r"\b(?:january|february|march|april|may|june|july|august|september|october|november|december|monday|tuesday|"
    r"wednesday|thursday|friday|saturday|sunday|noon|midnight|sunset|sunrise|dusk|dawn|daily|weekly|monthly|yearly|"
    r"annually|hourly|immediately|before|after|within|until|once|whenever|when|as soon"
    r" as|every|each)\b",
    re.I,
)
_PERSON = re.compile(
    r"\b(?:master|officer|manager|pilot|engineer|owner|user|admin\w*|supervisor|steward|captain|skipper|crew|team|office|"
    r"duty|director|clerk|agent|operator|coordinator|inspector|superuser|role|staff|developer|committer|maintainer|"
    r"passenger|foreman|assistant|warden|keeper|person|people|anyone|only|board|trust|[A-Z][a-z]+"
    r" [A-Z][a-z]+)s?\b"
)
_PLACE = re.compile(
    r"\b(?:at|in|on|near|behind|beside|inside|under|next"
    r" to|from|directory|file|path|office|desk|deck)\b",
    re.I,
)
_REASON = re.compile(
    r"\b(?:because|since|so that|therefore|due to|to"
    r" (?:avoid|prevent|keep|ensure|allow|protect)|otherwise|reason)\b",
    re.I,
)
_CUES = {
    Shape.NUMBER: _DIGIT,
    Shape.TIME: _TIME,
    Shape.PERSON: _PERSON,
    Shape.PLACE: _PLACE,
    Shape.REASON: _REASON,
}


def shape_of(question: str) -> Shape:
    """The shape of the answer that the question asks for."""
    for shape, pattern in _RULES:
        if pattern.search(question):
            return shape
    return Shape.FACT


def has_shape(statement: str, shape: Shape) -> bool:
    """Whether a statement could answer a question of this shape."""
    cue = _CUES.get(shape)
    return cue is None or bool(cue.search(statement))


_HOW_MANY = re.compile(r"\bhow many ([a-z-]+)(?: ([a-z-]+))?", re.I)
#: What follows the thing that is counted, and is not it.
_VERBS = frozenset(
    [
        "a",
        "an",
        "are",
        "at",
        "be",
        "can",
        "did",
        "do",
        "does",
        "for",
        "had",
        "has",
        "have",
        "in",
        "is",
        "may",
        "must",
        "need",
        "of",
        "on",
        "per",
        "should",
        "the",
        "there",
        "to",
        "was",
        "were",
        "will",
        "with",
    ]
)
_MONEY_ASKED = re.compile(
    r"\b(?:costs?|price|priced|fee|fees|fare|fares|charge|charged|dues?|pay|paid|salary|wage|fine|deposit|refund|money|"
    r"expensive|cheap|cheaper|how much)\b",
    re.I,
)
_MONEY = re.compile(
    r"[$€£¥]\s?\d|\d\s?(?:[$€£¥%]|per"
    r" cent|percent|crowns?|euros?|pounds?|dollars?|cents?|pence|francs?|kroner|yen)\b|"
    r"\b(?:dues?|fees?|fares?|prices?|costs?|charges?|deposit|rent|toll)\b\W{0,3}\d|"
    r"\bfree\b|\bhalf\b|\bnothing\b|\bno charge\b|\bwithout charge\b|\bquarter\b",
    re.I,
)
_WHO_DID = re.compile(
    r"^\s*(?:who|which (?:firm|company|person|officer|office|team|university|city|brand))\s+"
    r"(?!(?:can|may|must|should|will|would|could|is|are|was|were|do|does|did|has|have|gets|speaks|of)\b)(\w{4,})",
    re.I,
)
_LIMIT_ASKED = re.compile(
    r"\b(?:limits?|maximum|minimum|at most|at least|most|highest|lowest|greatest|largest|up to)\b",
    re.I,
)
_LIMIT = re.compile(
    r"\b(?:up to|at most|at least|(?:no|not) (?:more|less|fewer|longer|higher)"
    r" than|maximum|minimum|permitted|allowed|"
    r"limit\w*|exceed\w*|greatest|largest|highest|lowest|between|below|above)\b",
    re.I,
)
#: "When may a ship leave?" asks for a condition as often as for a time.
_WHEN_ALLOWED = re.compile(r"^\W*when\s+(?:may|can|could|must|should|is|are|am)\b", re.I)
_CONDITION = re.compile(r"\b(?:if|unless|while|only|once|as long as|provided)\b", re.I)
_COLOUR_ASKED = re.compile(r"\bwh(?:at|ich) colou?r", re.I)
_COLOUR = re.compile(
    r"\b(?:red|green|blue|yellow|white|black|orange|brown|grey|gray|pink|purple|violet|silver|gold)\b",
    re.I,
)
_NUMBER_WORDS = (
    r"(?:\d[\d.,]*|one|two|three|four|five|six|seven|eight|nine|ten|eleven|twelve|fifteen|twenty|thirty|forty|fifty|"
    r"hundred|thousand|no|both|single)"
)


def fit(statement: str, question: str, shape: Shape) -> float:
    """Return how well, 0-1, a statement has the kind of answer that is asked for."""
    if match := _HOW_MANY.search(question):
        counted = [word.lower() for word in match.groups() if word and word.lower() not in _VERBS]
        stems = "|".join(re.escape(word.rstrip("s")[:7]) for word in counted) or "$^"
        if re.search(
            rf"\b{_NUMBER_WORDS}\b(?:\W+\w+){{0,3}}?\W+(?:{stems})|"
            rf"\b(?:{stems})\w*\W+(?:\w+\W+){{0,3}}{_NUMBER_WORDS}\b",
            statement,
            re.I,
        ):
            return 1.0
        return 0.4 if _DIGIT.search(statement) else 0.0
    if _MONEY_ASKED.search(question):
        if _MONEY.search(statement):
            return 1.0
        return 0.3 if re.search(r"\d", statement) else 0.0
    if _COLOUR_ASKED.search(question):
        return 1.0 if _COLOUR.search(statement) else 0.0
    if _WHEN_ALLOWED.search(question) and (
        _LIMIT.search(statement) or _CONDITION.search(statement)
    ):
        return 1.0
    if not has_shape(statement, shape):
        return 0.0
    if shape == Shape.NUMBER and _LIMIT_ASKED.search(question) and not _LIMIT.search(statement):
        return 0.5  # a number, but not one that bounds anything
    if (match := _WHO_DID.match(question)) and match.group(1).lower()[:4] not in statement.lower():
        return 0.5  # it names someone, but not for doing what is asked
    return 1.0


_GREETING = re.compile(
    r"^\s*(?:hi|hello|hey|good"
    r" (?:morning|afternoon|evening|day)|greetings)(?:\s+(?:there|all|everyone))?\s*[!.,]*\s*$",
    re.I,
)
_THANKS = re.compile(
    r"^\s*(?:(?:many |ok(?:ay)?,? )?thank(?:s| you)(?: (?:very much|so much|a"
    r" lot))?|cheers|great|perfect|ok(?:ay)?)(?:,? thank(?:s| you))?\s*[!.]*\s*$",
    re.I,
)
_ABOUT = re.compile(
    r"^\s*(?:who are you|what (?:can|do) you (?:do|know)|what is this|how (?:do|can) (?:i use"
    r" (?:you|this)|you help(?: me)?)|help)\s*[?!.]*\s*$",
    re.I,
)


def small_talk(question: str, phrases: Phrases | None = None, greeting: str = "") -> str | None:
    """Return the reply to a greeting, thanks, or a question about the service.

    Else None.

    A desk's own greeting replies to a greeting.
    """
    phrases = phrases or phrases_in("en")
    if _GREETING.match(question):
        return greeting or phrases.greeting
    if _THANKS.match(question):
        return phrases.thanks
    return phrases.about if _ABOUT.match(question) else None


_ASKS_LEAVE = re.compile(
    r"^\s*(?:and |so |but )?(?:may|can|could|must|should|is|are|do|does|will) ", re.I
)
_LEAVE = re.compile(
    r"\b(?:may|can|allowed|permitted|must|should|shall|is|are|does|do|will|has|have)\b", re.I
)
_DENIED = re.compile(
    r"\b(?:not|never|no|none|nobody|forbidden|prohibited|cannot|without|refused|n['’]t)\b|n['’]t\b",
    re.I,
)
_LIMITED = re.compile(
    r"\b(?:only|unless|except|if|when|while|until|between|provided|but|however|although|either|or|from|above|below|over|under|"
    r"more|less|at least|at most|before|after|other than)\b",
    re.I,
)


def yes_or_no(question: str, statement: str, terms: Callable[[str], list[str]]) -> bool | None:
    """Return whether a statement answers a yes-or-no question plainly; None otherwise.

    Plainly: it contains every word of the question, sets no condition, and has the same modality.
    """
    own = re.sub(r"\s*\([^()]*\)$", "", question)
    if (
        shape_of(own) != Shape.YES_NO
        or not _ASKS_LEAVE.match(own)
        or _DENIED.search(own)
        or re.search(r"\bor\b", own)
    ):
        return None
    if _LIMITED.search(statement) or not _LEAVE.search(statement):
        return None
    if not set(terms(own)) <= set(terms(statement)):
        return None
    return not _DENIED.search(statement)
