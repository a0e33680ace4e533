"""Numbers, sizes, times and places as people read them."""

from __future__ import annotations

from datetime import UTC, datetime

from fontanel.schemas import LocatorOut, OutdatedOut


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


def clock(seconds: float) -> str:
    """A time in a recording: 1:02:03 or 2:03."""
    minutes, rest = divmod(int(seconds), 60)
    hours, minutes = divmod(minutes, 60)
    return f"{hours}:{minutes:02}:{rest:02}" if hours else f"{minutes}:{rest:02}"


def duration(seconds: float) -> str:
    """Return a time span in its largest fitting unit: `40 s`, `3 min`, `2.5 h`."""
    if seconds < 60:
        return f"{max(1, round(seconds))} s"
    return f"{seconds / 60:.0f} min" if seconds < 3600 else f"{seconds / 3600:.1f} h"


def money(amount: float) -> str:
    """Return an amount; a small one is not shown as nothing."""
    return "less than 0.01" if 0 < amount < 0.01 else f"{amount:.2f}"


def _unit(locator: LocatorOut) -> str:
    # A sheet is known by its name; a page by the number printed on it.
    shown = locator.label if locator.label and locator.unit in ("page", "sheet") else locator.page
    return f"{locator.unit} {shown}"


def place(title: str, locator: LocatorOut) -> str:
    """Return the location of a passage: its page and headings, without the title."""
    parts = [_unit(locator)] if locator.page else []
    if locator.rows:
        first, last = locator.rows
        parts.append(f"row {first}" if first == last else f"rows {first}-{last}")
    if locator.seconds is not None:
        parts.append(clock(locator.seconds))
    if locator.described_by is not None:
        parts.append(f"picture, described by {locator.described_by}")
    path = [heading for heading in locator.heading_path if heading != title]
    if path:
        parts.append(" > ".join(path))
    return ", ".join(parts)


def outdated_text(outdated: OutdatedOut) -> str:
    """Return why a document is not in force, in a few words."""
    if outdated.reason == "replaced":
        return f"replaced by {outdated.replaced_by or 'another document'}"
    if outdated.reason == "expired":
        return f"expired on {outdated.on}"
    if outdated.reason == "not_yet":
        return f"in force from {outdated.on} only"
    return "withdrawn"
