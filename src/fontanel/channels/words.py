"""Short messages that are no questions: opinions of an answer, and calls for a person."""

from __future__ import annotations

_HELPFUL = {
    "yes",
    "helpful",
    "thanks",
    "thank you",
    "+1",
    "👍",
    "✅",
    "ja",
    "oui",
    "danke",
    "merci",
}
_UNHELPFUL = {"no", "not helpful", "unhelpful", "wrong", "-1", "👎", "❌", "nein", "non"}
_PERSON = {"person", "human", "a person", "a human", "talk to a person", "speak to a person"}
_FOLLOW = {"follow", "follow this", "notify me", "tell me when this changes"}
_UNFOLLOW = {"stop", "stop following", "unfollow"}
#: Variation selectors and skin tones, which change how a sign looks and not what it means.
_LOOKS = dict.fromkeys([0xFE0E, 0xFE0F, *range(0x1F3FB, 0x1F400)])


def _plain(text: str) -> str:
    return " ".join(text.translate(_LOOKS).lower().split()).strip(" .!,?*_")


def opinion(text: str) -> bool | None:
    """Return whether a message or reaction says that an answer helped; None if neither."""
    plain = _plain(text)
    return True if plain in _HELPFUL else False if plain in _UNHELPFUL else None


def asks_for_person(text: str) -> bool:
    """Return whether a message is nothing but a call for a person."""
    return _plain(text) in _PERSON


def follows(text: str) -> bool | None:
    """Return whether a message asks to follow the last answer, or to stop that; None if neither."""
    plain = _plain(text)
    return True if plain in _FOLLOW else False if plain in _UNFOLLOW else None
