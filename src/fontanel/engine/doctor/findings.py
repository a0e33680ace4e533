"""What an examination finds."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

State = Literal["ok", "warning", "problem"]


@dataclass(frozen=True, slots=True)
class Finding:
    """One result: what was checked, how it is, and what to do if it is not well."""

    check: str
    state: State
    text: str
    advice: str = ""


def ok(check: str, text: str) -> Finding:
    return Finding(check, "ok", text)


def warning(check: str, text: str, advice: str) -> Finding:
    return Finding(check, "warning", text, advice)


def problem(check: str, text: str, advice: str) -> Finding:
    return Finding(check, "problem", text, advice)
