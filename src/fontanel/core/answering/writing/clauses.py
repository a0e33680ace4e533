"""Find contradictions below the level of words: in clauses, in whose figure it is, in order.

A statement may share every word with its cited passage and still say something else: it denies what
a clause asserts, gives the figure of another sentence, or turns round what comes first.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from fontanel.core.answering.composing.quantities import quantities, value_of
from fontanel.core.answering.composing.statements import Statement

#: Words that turn a statement around.
NEGATION = re.compile(
    r"\b(?:not|no|never|none|nobody|nothing|neither|nor|without|cannot|forbidden|prohibited|banned|refused?|"
    r"nicht|kein\w*|nie|ohne|verboten|pas|jamais|aucune?|sans|interdit\w*|nunca|sin|ningún|ninguna|prohibid[oa]s?)\b|n['’]t\b",
    re.I,
)
#: Where a clause ends and the next one begins.
_BETWEEN = re.compile(
    r"[.;:!?,()\n]|\b(?:but|and|or|unless|except|while|although|if|when|who|which|that|because"
    r"|until|once|where|whether|before|after)\b",
    re.I,
)
#: Where a sentence may go on with another figure.
_PARTS = re.compile(r";|\.\s|\b(?:and|but|while|whereas)\b", re.I)
_ORDER = re.compile(r"\b(?:before|after|until)\b", re.I)
_WORD = re.compile(r"[^\W\d_]{4,}")
_COUNTED = re.compile(r"(?<![\w.,])(?P<number>\d[\d.,]*)\s+(?P<noun>[^\W\d_]{3,})")
#: The share of a clause's words, and their number, from which another clause is about the same.
_SAME_CLAUSE, _MIN_SHARED = 0.75, 2
#: The share of a statement's words that a clause has when it is what the statement repeats.
_REPEATED = 0.8


def clause_contradiction(statement: str, units: Sequence[Statement], around: str) -> str:
    """Return what a statement says differently from the sentences that it rests on, '' if nothing.

    Args:
        units: The closest sentences and rows of the cited passages.
        around: Their headings, and the question.
    """
    texts = [f"{unit.lead} {unit.text}".strip() for unit in units]
    if _clause_denied(statement, texts):
        return "A clause of the cited place says the opposite."
    if _turned_round(statement, texts):
        return "The cited place has it in the other order."
    return _figure_of_another(statement, units, around)


def _words(text: str) -> set[str]:
    """Return the words of a text that say something, without their endings and negations."""
    return {
        re.sub(r"(?:ing|ed|es|s)$", "", word.lower())
        for word in _WORD.findall(NEGATION.sub(" ", text))
    }


def _clauses(text: str) -> list[tuple[set[str], bool]]:
    """Return the words of each clause, and whether it is negated."""
    parts = [(_words(part), bool(NEGATION.search(part))) for part in _BETWEEN.split(text)]
    return [(words, negated) for words, negated in parts if words]


def _clause_denied(statement: str, texts: Sequence[str]) -> bool:
    """Return whether a clause of the statement is negated and the same one of the place is not.

    Or the other way round. A clause that the place has both ways contradicts nothing.
    """
    there = [clause for text in texts for clause in _clauses(text)]
    for words, negated in _clauses(statement):
        # A clause of one word is the same only if the other has no word more.
        needed = _SAME_CLAUSE if len(words) >= _MIN_SHARED else 1.0
        shared = [(len(words & other) / len(words | other), denied) for other, denied in there]
        closest = max((share for share, _ in shared), default=0.0)
        same = {denied for share, denied in shared if share >= max(closest, needed)}
        if same and negated not in same:
            return True
    return False


def _sides(text: str, word: str) -> tuple[set[str], set[str]] | None:
    """Return the words before and after a word of order; what it leads in counts as after."""
    match = re.search(rf"\b{word}\b", text, re.I)
    if match is None:
        return None
    before, after = text[: match.start()], text[match.end() :]
    if not _words(before) and "," in after:
        after, before = after.split(",", 1)
    return _words(before), _words(after)


def _turned_round(statement: str, texts: Sequence[str]) -> bool:
    """Return whether a statement exchanges the sides of "before", "after" or "until"."""
    for word in {match.lower() for match in _ORDER.findall(statement)}:
        mine = _sides(statement, word)
        places = [sides for text in texts if (sides := _sides(text, word)) is not None]
        if mine is None or not all(mine) or not places:
            continue
        straight = max(len(mine[0] & first) + len(mine[1] & last) for first, last in places)
        crossed = max(len(mine[0] & last) + len(mine[1] & first) for first, last in places)
        if crossed > straight and crossed >= _MIN_SHARED:
            return True
    return False


def _figure_of_another(statement: str, units: Sequence[Statement], around: str) -> str:
    """Return the figure that the repeated clause has where the statement has another.

    A statement about several rows of a table repeats none of them.
    """
    words = _words(statement)
    labels = [unit.cells[0].strip().lower() for unit in units if unit.kind == "row"]
    if not words or sum(label in statement.lower() for label in filter(None, labels)) > 1:
        return ""
    own, known = _figures(statement), _figures(around)
    parts = [
        part
        for unit in units
        for part in ([unit.text] if unit.kind == "row" else _PARTS.split(unit.text))
    ]
    shares = [len(words & _words(part)) / len(words) for part in parts]
    best = max(shares, default=0.0)
    if best < _REPEATED:
        return ""
    repeated = [_figures(part) for part, share in zip(parts, shares, strict=True) if share == best]
    for there in repeated:
        missing = sorted(own - known - there)
        if not missing:
            return ""
        for value, unit in missing:
            others = sorted({v for v, u in there - own if u == unit})
            if others:
                return f"The cited place says {others[0]:g} there, not {value:g}."
    return ""


def _figures(text: str) -> set[tuple[float, str]]:
    """Return the quantities of a text, and its numbers with the word that follows."""
    counted = {
        (value_of(match["number"].rstrip(".,")), match["noun"].lower().removesuffix("s"))
        for match in _COUNTED.finditer(text)
    }
    return quantities(text) | counted
