"""What a question names exactly: "basin 21", "work_mem", "SOP-014".

Evidence about basin 14 looks like evidence about basin 21 to an embedding, and shares most of its
words. It answers another question.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence

from fontanel.core.answering.question.rewriting import CALENDAR
from fontanel.core.reading.model import CELL_SEPARATOR
from fontanel.core.text.analysis import fold

#: A name with a number at the end of a phrase. One that a noun follows is a quantity: "3 bags".
_NUMBERED = re.compile(
    r"\b(?P<noun>[^\W\d_][\w-]{2,})\s+(?P<number>\d+(?:\.\d+)*[a-z]?)\b"
    r"(?=\s*(?:$|[?,;:!)]|\.(?:\s|$)"
    r"|(?:is|are|was|in|at|on|for|of|to|and|or|by|with|has|have|can|may|must|be|from|when|if|please"
    r"|do|does|did|after|before|during|while|since|than|as|that|mean|means|cost|costs|say|says|show"
    r"|shows|need|needs|apply|applies)\b))",
    re.I,
)
#: Words before a number that make it a quantity or a date.
_NO_NOUN = frozenset(
    """
    than over about under above below beyond past up down off out by
    after before within every from and until since for with are was were
    the least most only per between around exactly nearly almost some any all how into like not but
    its his her their our your has have had can may must would could should will shall
    january february march april june july august september october november december
    """.split()  # noqa: SIM905
)
#: What comes before a name, rather than a quantity that was mentioned by the way.
_BEFORE_NAME = re.compile(
    r"\b(?:in|at|on|of|for|to|from|near|about|under|through|via)\s+(?:the\s+|our\s+)?$", re.I
)
_YEAR = re.compile(r"(?:19|20)\d\d")
#: A proper name after a preposition at the end of a clause: "the weekly price of Wexcombe?"
_PROPER = re.compile(
    r"\b(?:in|at|on|of|for|to|from|near|about)\s+(?:the\s+|our\s+)?"
    r"(?P<name>(?!(?:Mr|Mrs|Ms|Dr|Prof|St)\b)[A-Z][a-z][\w’-]*(?:\s+[A-Z][\w’-]*)*)"
    r"(?=\s*(?:$|[?,;!)]|\.(?:\s|$)))"
)
#: Names of days, feasts and languages, which a question has by the way.
_COMMON_NAME = re.compile(rf"{CALENDAR}|Whitsun|[A-Z][a-z]+(?:ish|ese|ian)|German|French")
_ENGLISH = re.compile(r"\b(?:the|is|are|what|which|who|how|do|does|can|may|when|where|of)\b", re.I)
#: An option of a program, or a word with an underscore.
_OPTION = re.compile(r"(?<![\w-])(?:--[a-z][\w-]+|[^\W\d_]\w*_\w+)(?!\w)")
#: Letters and a number, such as "SOP-014" or "FT2".
_MIXED = re.compile(r"(?<![\w-])(?P<letters>[^\W\d_]{1,12})-?(?P<number>\d{1,6})(?![\w-])")
_SIBLING = r"\b{stem}s?[\s-]{{0,3}}(?:no\.?\s*)?\d+(?:\.\d+)*[a-z]?\b"
_STEM = re.compile(r"(?P<stem>[^\W\d_][\w-]*?)[\s-]*\d")
_JOINED = "to|and|or|bis|und|à|et|a|y"
_AND = rf"\s*(?:{_JOINED}|[-–—,/&])\s*"
_RANGE = re.compile(
    rf"(?<!\d)(?=(\d{{1,6}})\s*(?:{_JOINED}|[-–—])\s*(?:[^\W\d_]{{1,12}}-?)?(\d{{1,6}}))"
)
#: A number that marks a line, and what such a line is called.
_MARK = r"^ *(?:#+ *)?{number}[.):]"
_LINES = re.compile(
    r"section|chapter|step|rule|article|item|point|paragraph|clause|part|question|annex|appendix"
    r"|note|figure|table|line|stage|phase|lesson|unit",
    re.I,
)
#: The name of a row, and of the column of such names.
_ROW = rf"^ *{CELL_SEPARATOR}?(?P<near>(?:from )?\d+[^\n{CELL_SEPARATOR}]*){CELL_SEPARATOR}"
_COLUMN = (
    rf"^ *{CELL_SEPARATOR}?[^\n{CELL_SEPARATOR}]*\b(?:{{root}}|code|no|nr|number|id)s?\b"
    rf"[^\n{CELL_SEPARATOR}]*{CELL_SEPARATOR}"
)
#: Numbers that follow a noun: "berths 2, 3 and 5", "stairs no. 4 to 7".
_LISTED = (
    r"\b{root}[^\W\d_]*[\s-]{{0,3}}(?:(?:no|nos|number|numbers)\b\.?\s*)?"
    rf"(?P<near>\d+[a-z]?\b(?:(?:{_AND}|\s+or\s+)(?:the\s+)?(?:{{root}}[^\W\d_]*\s*)?\d+[a-z]?\b)*)"
)
_BETWEEN = r"[\s_.\-]*"
_PART = re.compile(r"\d+|[^\W\d_]+")
#: The sufficiency of evidence that does not contain what the question names, at most.
WITHOUT_NAME = 0.1


def missing_names(question: str, texts: Sequence[str]) -> tuple[str, ...]:
    """Return the exact names in a question that the texts do not contain.

    Options and words with an underscore are missing if they are not there; so are proper names of
    an English question at the end of a clause, if none of their words is. Names with a number are
    missing if the texts have the same name with other numbers only, or after a preposition ("in
    basin 21") if they have its noun: a question may mention a number by the way ("I got 72 in the
    quiz"). A number may be in a list or a range ("berths 2 to 5"), or the name of a row; blanks,
    hyphens and case do not matter.
    """
    options, numbered = list(_options(question)), _with_number(question)
    proper = list(_proper(question))
    if not (options or numbered or proper):
        return ()  # most questions: nothing to look for in the texts
    text = "\n".join(texts)
    folded = fold(text)
    missing = [name for name in options if not _has_name(folded, name)]
    placed = set(_placed(question))
    for name, stem, number in numbered:
        if (
            not _has_name(folded, name)
            and not _has_number(text, stem, number)
            and (_sibling(text, stem) or (name in placed and _has_noun(folded, stem)))
        ):
            missing.append(name)
    missing += [name for name in proper if not _has_word(folded, name)]
    return tuple(dict.fromkeys(missing))


def exact_names(question: str) -> list[str]:
    """Return the names in a question that evidence must contain."""
    numbered = (name for name, _, _ in _with_number(question))
    return list(dict.fromkeys((*_options(question), *numbered)))


def names_in(text: str, names: Iterable[str]) -> set[str]:
    """Return the exact names that a text contains, however they are written, listed or ranged."""
    folded = fold(text)
    return {
        name
        for name in names
        if _has_name(folded, name) or any(_has_number(text, s, n) for _, s, n in _with_number(name))
    }


def names_another(text: str, names: Iterable[str]) -> bool:
    """Return whether a text has one of the names with another number, and none of them itself."""
    stems = {stem for name in names for _, stem, _ in _with_number(name)}
    return not names_in(text, names) and any(_sibling(text, stem) for stem in stems)


def nearest_name(name: str, texts: Sequence[str]) -> str:
    """Return the name in the texts that differs from a missing one by its number, and least.

    Empty if there is none.
    """
    match = _STEM.match(name)
    if match is None:
        return ""
    number = _number_in(name)
    siblings = re.finditer(_SIBLING.format(stem=re.escape(match["stem"])), "\n".join(texts), re.I)
    nearest = min(siblings, key=lambda m: abs(_number_in(m.group()) - number), default=None)
    return " ".join(nearest.group().split()) if nearest else ""


def _number_in(name: str) -> int:
    digits = re.search(r"\d+", name)
    return int(digits.group()) if digits else 0


def _options(question: str) -> Iterator[str]:
    for match in _OPTION.finditer(question):
        yield match.group()


def _with_number(text: str) -> list[tuple[str, str, str]]:
    """Return the names with a number, each with its noun or letters and its number."""
    return [*_numbered(text), *_mixed(text)]


def _numbered(question: str) -> Iterator[tuple[str, str, str]]:
    """Yield names such as "basin 21" with their noun and number."""
    for match in _NUMBERED.finditer(question):
        if fold(match["noun"]) not in _NO_NOUN:
            yield match.group().strip(), _singular(match["noun"]), match["number"]


def _proper(question: str) -> Iterator[str]:
    """Yield proper names after a preposition at the end of a clause, in an English question."""
    if not _ENGLISH.search(question):
        return
    for match in _PROPER.finditer(question):
        if not _COMMON_NAME.fullmatch(match["name"]):
            yield match["name"]


def _has_word(folded: str, name: str) -> bool:
    """Return whether a folded text has a word that begins like one of a name's words."""
    stems = (word[: max(4, len(word) - 2)] for word in _PART.findall(fold(name)) if len(word) > 2)
    return any(re.search(rf"\b{re.escape(stem)}", folded) for stem in stems)


def _singular(noun: str) -> str:
    return noun[:-1] if re.search(r"[^\Ws]s$", noun) and len(noun) > 3 else noun


def _placed(question: str) -> Iterator[str]:
    """Yield numbered names after a preposition; a year is a date and not a name."""
    for match in _NUMBERED.finditer(question):
        year = _YEAR.fullmatch(match["number"]) or match["noun"].lower() == "year"
        if not year and _BEFORE_NAME.search(question, 0, match.start()):
            yield match.group().strip()


def _mixed(question: str) -> Iterator[tuple[str, str, str]]:
    """Yield names such as "SOP-014" with their letters and number."""
    for match in _MIXED.finditer(question):
        yield match.group(), match["letters"], match["number"]


def _has_number(text: str, stem: str, number: str) -> bool:
    """Return whether a number is in a list or range that a stem begins, or marks a line or a row.

    As in "berths 2 to 5", "codes E12, E13 and E17" and "12. Mooring".
    """
    if "." in number and _has(text, number):
        return True  # a version, which need not follow its name
    root = re.escape(stem)
    if len(stem) > 2:
        if _marks(text, root, number):
            return True
        following = _LISTED.format(root=root)
    else:
        following = rf"\b{root}-?(?P<near>\d+(?:{_AND}(?:{root}-?)?\d+)*)"
    return any(_has(match["near"], number) for match in re.finditer(following, text, re.I))


def _marks(text: str, root: str, number: str) -> bool:
    """Return whether a number marks a line of the kind that is named, or a row of such a table."""
    mark = _MARK.format(number=re.escape(number))
    if _LINES.fullmatch(root) and re.search(mark, text, re.I | re.M):
        return True
    if not re.search(_COLUMN.format(root=root), text, re.I | re.M):
        return False
    return any(_has(match["near"], number) for match in re.finditer(_ROW, text, re.I | re.M))


def _has(near: str, number: str) -> bool:
    """Return whether a number is in a list or a range of numbers."""
    exact = re.search(rf"(?<![\d.]){re.escape(number)}(?!\d)", near, re.I)
    return bool(exact) or (number.isdigit() and _within(near, int(number)))


def _within(text: str, number: int) -> bool:
    return any(int(first) <= number <= int(last) for first, last in _RANGE.findall(text))


def _sibling(text: str, stem: str) -> bool:
    """Return whether a text has the same name with a number, whatever number it is."""
    return bool(re.search(_SIBLING.format(stem=re.escape(stem)), text, re.I))


def _has_noun(folded: str, noun: str) -> bool:
    return bool(re.search(rf"\b{re.escape(fold(noun))}s?\b", folded))


def _has_name(folded: str, name: str) -> bool:
    """Return whether a folded text has a name, whatever separates its words and numbers."""
    written = fold(name)
    parts = map(re.escape, _PART.findall(written))
    forms = f"{_BETWEEN.join(parts)}|{re.escape(written)}"
    return bool(re.search(rf"(?<![^\W_])(?:{forms})(?![^\W_])", folded))
