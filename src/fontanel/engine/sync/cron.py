"""Cron expressions of five fields."""

from __future__ import annotations

import re
from zoneinfo import ZoneInfo

from apscheduler.triggers.cron import CronTrigger

from fontanel.errors import Refused

_DAYS = ("sun", "mon", "tue", "wed", "thu", "fri", "sat")


_WEEKDAYS = re.compile(r"(?:([0-7])(?:-([0-7]))?|\*)(?:/(\d{1,2}))?")


def cron_trigger(line: str, time_zone: str) -> CronTrigger:
    """A cron line of five fields. Raises Refused."""
    fields = line.split()
    try:
        if len(fields) == 5:
            fields[4] = ",".join(map(_weekdays, fields[4].split(",")))
        return CronTrigger.from_crontab(" ".join(fields), timezone=ZoneInfo(time_zone))
    except (ValueError, KeyError) as error:
        raise Refused(
            "cron", f"{line!r} is not a cron line (minute hour day month weekday): {error}."
        ) from error


def _weekdays(part: str) -> str:
    """Weekdays of a cron line by their names: cron counts from Sunday, which is 7 too, and the trigger from Monday. What is no
    number is left to the trigger."""
    match = _WEEKDAYS.fullmatch(part)
    if match is None or part == "*":
        return part
    first, last, step = match.groups()
    low = int(first or 0)
    high = int(last) if last else low if first and not step else 6
    days = range(low, high + 1, int(step or 1))
    return ",".join(dict.fromkeys(_DAYS[day % 7] for day in days)) or part
