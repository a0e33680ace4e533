"""Options that limit a list to a period."""

from __future__ import annotations

import argparse
from datetime import date, datetime, time


def add_period(parser: argparse.ArgumentParser) -> None:
    """Add `--since` and `--until`, as moments in the local time zone."""
    for name, about in (("--since", "from this day on"), ("--until", "up to the day before this")):
        parser.add_argument(name, type=_midnight, metavar="DAY", help=about)


def _midnight(text: str) -> datetime:
    try:
        return datetime.combine(date.fromisoformat(text), time.min).astimezone()
    except ValueError as error:
        message = f"{text!r} is not a day such as 2026-03-31"
        raise argparse.ArgumentTypeError(message) from error
