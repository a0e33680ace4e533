"""Operators of a search: "exact phrase", +required, -excluded, and prefix*."""

from __future__ import annotations

import re
from dataclasses import dataclass

_PIECE = re.compile(r'(?P<sign>[+-]?)"(?P<phrase>[^"]+)"|(?P<word>\S+)')
#: An excluded word has two letters or more and is not an option (--force, -n 5).
_EXCLUDED = re.compile(r"-(?!-)\w[\w.'’/-]+$")
_REQUIRED = re.compile(r"\+\w\S*$")
_PREFIX = re.compile(r"[+]?(\w[\w.-]{2,})\*$")


@dataclass(frozen=True, slots=True)
class Operators:
    """A parsed search; `words` is its text for search, with phrases and prefixes."""

    words: str
    phrases: tuple[str, ...] = ()
    required: tuple[str, ...] = ()
    excluded: tuple[str, ...] = ()
    excluded_phrases: tuple[str, ...] = ()
    prefixes: tuple[str, ...] = ()


def parse(text: str) -> Operators:
    """Parse a search.

    Anything but an operator is a word; exclusions alone have no words.
    """
    words: list[str] = []
    phrases: list[str] = []
    required: list[str] = []
    excluded: list[str] = []
    excluded_phrases: list[str] = []
    prefixes: list[str] = []
    for match in _PIECE.finditer(text):
        phrase, word = match["phrase"], match["word"]
        if phrase is not None:
            if match["sign"] == "-":
                excluded_phrases.append(phrase)
            else:
                phrases.append(phrase)
                words.append(phrase)
        elif prefix := _PREFIX.match(word):
            prefixes.append(prefix.group(1))
        elif _EXCLUDED.match(word) and (words or match.end() < len(text.rstrip())):
            excluded.append(word[1:])
        elif _REQUIRED.match(word):
            required.append(word[1:])
            words.append(word[1:])
        else:
            words.append(word)
    return Operators(
        " ".join(words),
        tuple(phrases),
        tuple(required),
        tuple(excluded),
        tuple(excluded_phrases),
        tuple(prefixes),
    )
