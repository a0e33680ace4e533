"""How places in documents, and why they are not in force, are shown as text."""

from __future__ import annotations

from fontanel.schemas.base import LocatorOut
from fontanel.schemas.validity import OutdatedOut


def clock(seconds: float) -> str:
    """A time in a recording: 1:02:03 or 2:03."""
    minutes, rest = divmod(int(seconds), 60)
    hours, minutes = divmod(minutes, 60)
    return f"{hours}:{minutes:02}:{rest:02}" if hours else f"{minutes}:{rest:02}"


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
