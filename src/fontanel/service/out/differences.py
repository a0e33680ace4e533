"""Differences between texts, line by line."""

from __future__ import annotations

from fontanel.core.text.differences import differences


def lines_between(before: str, after: str) -> list[tuple[str, str]]:
    """Return the lines that stayed (" "), went ("-") and came ("+")."""
    out: list[tuple[str, str]] = []
    for change in differences(before.split("\n"), after.split("\n")):
        if change.kind == "same":
            out += [(" ", line) for line in change.before]
        else:
            out += [("-", line) for line in change.before] + [("+", line) for line in change.after]
    return out
