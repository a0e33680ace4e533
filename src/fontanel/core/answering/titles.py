"""A conversation's title, from its first question."""

from __future__ import annotations

import re

from fontanel.core.text.sentences import capitalised

_LEAD = re.compile(
    r"^\s*(?:(?:hi|hello|hey|please|so|and|ok|okay)\b[\s,!.]*)*"
    r"(?:(?:can|could|would) (?:you|someone) (?:please )?(?:tell me|explain|say)\b\s*|tell"
    r" me\s+(?:about\s+)?|i (?:would like|want|need) to know\s+)?"
    r"(?:(?:what|who|where|which)(?:'s| is| are| was| were)\s+(?:the\s+|an?\s+)?|how"
    r" (?:do|can|should|must) (?:i|we|you|one)\s+|how to\s+)?",
    re.I,
)
_LONGEST = 64


def title_of(question: str) -> str:
    """The question without what only asks, cut between words."""
    plain = " ".join(question.split())
    short = _LEAD.sub("", plain).strip(" ?!.") or plain
    if len(short) > _LONGEST:
        short = short[: _LONGEST - 1].rsplit(" ", 1)[0].rstrip(" ,;:") + "…"
    return capitalised(short)
