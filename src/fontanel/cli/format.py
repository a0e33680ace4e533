"""Numbers, sizes, times and places as people read them."""

from __future__ import annotations

from datetime import UTC, datetime


def number(value: int | None) -> str:
    return "-" if value is None else f"{value:,}"


def size(value: int) -> str:
    amount = float(value)
    for unit in ("B", "kB", "MB", "GB"):
        if amount < 1000 or unit == "GB":
            return f"{amount:.0f} {unit}" if unit == "B" else f"{amount:.1f} {unit}"
        amount /= 1000
    return f"{value} B"


#: Up to so many seconds, in this unit, with this name.
_UNITS = ((60, 1, "s"), (3600, 60, "min"), (86400, 3600, "h"), (86400 * 60, 86400, "days"))


#: Seconds by which the service's clock may be ahead.
_CLOCKS_DIFFER = 10


def moment(value: datetime | None) -> str:
    """A time in the past or the future: "3 h ago", "in 12 days", or a date further away."""
    if value is None:
        return "-"
    seconds = (datetime.now(UTC) - value).total_seconds()
    if -_CLOCKS_DIFFER < seconds < 0:
        seconds = 0.0
    for limit, unit, name in _UNITS:
        if abs(seconds) < limit:
            amount = f"{int(abs(seconds) // unit)} {name}"
            return f"in {amount}" if seconds < 0 else f"{amount} ago"
    return value.date().isoformat()


def percent(value: float) -> str:
    return f"{100 * value:.0f} %"


def duration(seconds: float) -> str:
    """Return a time span in its largest fitting unit: `40 s`, `3 min`, `2.5 h`."""
    if seconds < 60:
        return f"{max(1, round(seconds))} s"
    return f"{seconds / 60:.0f} min" if seconds < 3600 else f"{seconds / 3600:.1f} h"


def money(amount: float) -> str:
    """Return an amount; a small one is not shown as nothing."""
    return "less than 0.01" if 0 < amount < 0.01 else f"{amount:.2f}"
