"""What a question says about when the documents it asks for were in force."""

from __future__ import annotations

import re

_EARLIER = re.compile(
    r"\b(?:superseded|withdrawn|old(?:er)?|previous(?:ly)?|former(?:ly)?|earlier|used to|repealed"
    r"|history|historical(?:ly)?|no longer|before (?:19|20)\d\d"
    r"|alte[nrs]?|frühere[nrs]?|früher|vorherige[nrs]?|bisherige[nrs]?"
    r"|ancien(?:ne)?s?|précédente?s?|anterior(?:es)?|antigu[oa]s?)\b",
    re.I,
)
_YEAR = re.compile(r"\b(?:19|20)\d\d\b")


def asks_for_earlier(question: str) -> bool:
    """Return whether a question asks for what was in force before."""
    return bool(_EARLIER.search(question))


def years_in(text: str) -> frozenset[str]:
    """Return the years that a text names, by which it may mean a document."""
    return frozenset(_YEAR.findall(text))
