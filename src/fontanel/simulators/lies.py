"""False statements for the simulated models, each with its truth known."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

_STOP = frozenset(
    [
        "the",
        "a",
        "an",
        "of",
        "and",
        "or",
        "to",
        "in",
        "on",
        "at",
        "for",
        "is",
        "are",
        "was",
        "were",
        "be",
        "by",
        "with",
        "from",
        "as",
        "it",
        "its",
        "this",
        "that",
        "these",
        "those",
        "which",
        "who",
        "what",
        "when",
        "where",
        "how",
        "do",
        "does",
        "did",
        "may",
        "can",
        "must",
        "should",
        "will",
        "would",
        "i",
        "we",
        "you",
        "they",
        "there",
        "not",
        "no",
        "if",
        "any",
        "all",
    ]
)
_NUMBER = re.compile(r"\d+(?:[.,]\d+)*")
_OPPOSITES = {
    "before": "after",
    "after": "before",
    "above": "below",
    "below": "above",
    "open": "closed",
    "closed": "open",
    "may": "may not",
    "must": "need not",
    "always": "never",
    "never": "always",
    "north": "south",
    "south": "north",
}
INVENTED = (
    "The office in Garnwick confirmed this on 4 March 1997.",
    "A surcharge of 480 crowns applies in such cases.",
    "This was agreed with the Brindle Coast Council.",
    "Exceptions are granted by Captain Orlo Fenn.",
)


@dataclass(frozen=True, slots=True)
class Said:
    """A sentence with the sources it cites, and whether they support it."""

    text: str
    cites: tuple[int, ...]
    true: bool = True

    def written(self) -> str:
        marks = "".join(f"[{number}]" for number in self.cites)
        return f"{self.text} {marks}" if marks else self.text


@dataclass(frozen=True, slots=True)
class Prompt:
    """A parsed prompt.

    Sources as (number, title, text), the question, the requested layout.
    """

    sources: list[tuple[int, str, str]]
    question: str
    most: int
    layout: str


def lies(behaviour: str, texts: Sequence[Said], prompt: Prompt) -> list[Said]:
    """Return the sentences, each falsified in another way if it can be.

    The behaviour "lying" changes numbers, denies, turns words into their opposites, cites wrongly
    and adds facts; "subtle" denies a subordinate clause, gives the figure of another thing, and
    turns the order of events around.
    """
    ways = _SUBTLE if behaviour == "subtle" else _COARSE
    out: list[Said] = []
    seed = sum(map(ord, prompt.question))
    for place, text in enumerate(texts):
        kind = (seed + place) % (len(ways) + 1)
        tried = ways[kind : kind + 1]
        if tried and behaviour == "subtle":
            tried += ways  # few sentences can be falsified in any one of these ways
        out.append(next((lie for way in tried if (lie := way(text, prompt))), text))
        if behaviour == "lying" and (seed + place) % 2 == 0:
            out.append(Said(INVENTED[(seed + place) % len(INVENTED)], text.cites, true=False))
    return out


def _changed_number(text: Said, prompt: Prompt) -> Said | None:
    match = _NUMBER.search(text.text)
    if match is None:
        return _denied(text, prompt)
    other = str(int(re.sub(r"\D", "", match.group())) * 3 + 7)
    return Said(
        text.text[: match.start()] + other + text.text[match.end() :], text.cites, true=False
    )


def _denied(text: Said, prompt: Prompt) -> Said | None:
    for verb in ("is", "are", "may", "must", "can", "was", "has", "have", "will"):
        pattern = re.compile(rf"\b{verb}\b(?! not\b)")
        if pattern.search(text.text) and not re.search(
            r"\b(?:not|no|never|without|nobody)\b", text.text
        ):
            return Said(pattern.sub(f"{verb} not", text.text, count=1), text.cites, true=False)
    return None


def _turned(text: Said, prompt: Prompt) -> Said | None:
    for word, other in _OPPOSITES.items():
        if re.search(rf"\b{word}\b", text.text) and not re.search(r"\bnot\b", text.text):
            return Said(re.sub(rf"\b{word}\b", other, text.text, count=1), text.cites, true=False)
    return _changed_number(text, prompt) if _NUMBER.search(text.text) else None


def _wrong_source(text_: Said, prompt: Prompt) -> Said | None:
    words = set(words_of(text_.text))
    for number, title, text in reversed(prompt.sources):
        shared = len(words & set(words_of(f"{title} {text}"))) / max(len(words), 1)
        if number not in text_.cites and shared < 0.35:
            return Said(text_.text, (number,), true=False)
    return None


def _denied_clause(text: Said, prompt: Prompt) -> Said | None:
    """Deny, or no longer deny, what a later clause says."""
    for begin in re.finditer(
        r"\b(?:but|and|if|unless|while|until|when|who|which|that|because)\b", text.text
    ):
        clause = re.match(r"[^.;]{12,}", text.text[begin.end() :])
        if clause is None:
            continue
        words = clause.group()
        verb = re.search(
            r"\b(?:is|are|may|must|can|was|were|has|have|will)\b(?P<not> not\b)?", words
        )
        if verb is None or (not verb["not"] and re.search(r"\b(?:no|never|nobody)\b", words)):
            continue
        other = verb.group().removesuffix(" not") if verb["not"] else f"{verb.group()} not"
        at = begin.end() + verb.start()
        spoilt = text.text[:at] + other + text.text[begin.end() + verb.end() :]
        return Said(spoilt, text.cites, true=False)
    return None


def _other_figure(text: Said, prompt: Prompt) -> Said | None:
    """Give a figure that another sentence of the same source gives for something else."""
    figure = re.search(r"(\d+(?:[.,]\d+)*) ([a-z]+|%)", text.text)
    source = next((body for number, _, body in prompt.sources if number in text.cites), "")
    if figure is None:
        return None
    for other in re.finditer(rf"(\d+(?:[.,]\d+)*) {re.escape(figure.group(2))}", source):
        if other.group(1) not in text.text:
            spoilt = text.text[: figure.start(1)] + other.group(1) + text.text[figure.end(1) :]
            return Said(spoilt, text.cites, true=False)
    return None


def _other_order(text: Said, prompt: Prompt) -> Said | None:
    """Turn around what comes before what."""
    match = re.fullmatch(r"([^,;]{12,}?) (before|after) ([^,;]{12,}?)([.!]?)", text.text)
    if match is None:
        return None
    first, word, second, end = match.groups()
    spoilt = f"{second[0].upper()}{second[1:]} {word} {first[0].lower()}{first[1:]}{end}"
    return Said(spoilt, text.cites, true=False)


_Lie = Callable[[Said, Prompt], Said | None]
_COARSE: tuple[_Lie, ...] = (_changed_number, _denied, _turned, _wrong_source)
_SUBTLE: tuple[_Lie, ...] = (_denied_clause, _other_figure, _other_order)


def words_of(text: str) -> list[str]:
    result = re.findall(r"[a-z0-9]+", text.lower())
    return [
        re.sub(r"(?:ing|ed|es|s)$", "", word) if len(word) > 4 else word
        for word in result
        if word not in _STOP
    ]
