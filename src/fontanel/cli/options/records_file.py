"""Files of records to import: JSON Lines or CSV, by their ending."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Literal, Protocol

from fontanel.cli.context import UsageProblem

_FORMS: dict[str, Literal["jsonl", "csv"]] = {
    ".jsonl": "jsonl",
    ".ndjson": "jsonl",
    ".csv": "csv",
}


class _Problem(Protocol):
    line: int
    problem: str


def read_records(path: Path) -> tuple[str, Literal["jsonl", "csv"]]:
    """Return a file's text and form. Raises UsageProblem."""
    form = _FORMS.get(path.suffix.lower())
    if form is None:
        raise UsageProblem(f"The name of {path.name} does not end in .jsonl or .csv.")
    try:
        return path.read_text("utf-8-sig"), form
    except (OSError, UnicodeError) as error:
        raise UsageProblem(f"{path} cannot be read: {error}.") from error


def refusal(path: Path, problems: Iterable[_Problem]) -> str:
    """Return what is wrong with a file, a problem a line."""
    lines = "\n".join(f"{path.name}:{one.line}: {one.problem}" for one in problems)
    return f"{lines}\nNothing was imported."
