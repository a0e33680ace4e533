"""Verification: how well a quoted text carries a statement."""

from __future__ import annotations

import re
from collections.abc import Callable

_NUMBER = re.compile(r"\d+(?:[.,:]\d+)*")


def support(statement: str, quote: str, terms: Callable[[str], list[str]]) -> float:
    """The share, 0-1, of a statement's terms that its quote holds; 0 when it states a number that the quote does not."""
    if not set(_NUMBER.findall(statement)) <= set(_NUMBER.findall(quote)):
        return 0.0
    wanted = set(terms(statement))
    return len(wanted & set(terms(quote))) / len(wanted) if wanted else 1.0
