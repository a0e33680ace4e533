"""What a search may say beside words: "an exact phrase", +required, -excluded, and the beginning of a word*."""

from __future__ import annotations

import re
from dataclasses import dataclass

_PIECE = re.compile(r'(?P<sign>[+-]?)"(?P<phrase>[^"]+)"|(?P<word>\S+)')
#: A word to leave out has two letters or more and is no option (--force, -n 5).
_EXCLUDED = re.compile(r"-(?!-)\w[\w.'’/-]+$")
_REQUIRED = re.compile(r"\+\w\S*$")
_PREFIX = re.compile(r"[+]?(\w[\w.-]{2,})\*$")


@dataclass(frozen=True, slots=True)
class Operators:
    """A search taken apart. `words` is what is left to search for by words and meaning, phrases and prefixes included."""

    words: str
    phrases: tuple[str, ...] = ()
    required: tuple[str, ...] = ()
    excluded: tuple[str, ...] = ()
    excluded_phrases: tuple[str, ...] = ()
    prefixes: tuple[str, ...] = ()


def parse(text: str) -> Operators:
    """Take a search apart. What is no operator is a word; a search of nothing but exclusions has no words."""
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
