"""Cron expressions of five fields: minute, hour, day, month, weekday."""

from __future__ import annotations

from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from cronsim import CronSim, CronSimError

from fontanel.errors import Refused

#: cronsim also accepts a sixth field, of seconds.
_FIELDS = 5


def next_time(expression: str, time_zone: str, after: datetime) -> datetime:
    """Return when an expression is due next, in UTC.

    Args:
        expression: Five fields, such as `30 6 * * mon-fri`.
        time_zone: The zone that it is read in, such as `Europe/Berlin`. An hour that a change of
            the clock skips is due right after it, as cron does.
        after: An aware time.

    Raises:
        Refused: it is not a cron expression, or never due.
    """
    if len(expression.split()) != _FIELDS:
        raise Refused("cron", f"{expression!r} is not a cron expression: it needs five fields.")
    try:
        due: datetime = next(CronSim(expression, after.astimezone(ZoneInfo(time_zone))))
    except (CronSimError, ValueError) as error:
        raise Refused(
            "cron",
            f"{expression!r} is not a cron expression (minute hour day month weekday): {error}.",
        ) from error
    except StopIteration as error:
        raise Refused("cron", f"{expression!r} is never due.") from error
    return due.astimezone(UTC)
