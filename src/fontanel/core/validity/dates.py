"""Calendar dates as people write them in documents."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import date

#: The names of months in the languages whose statements are recognised, and their short forms.
_MONTHS = (
    "january jan januar jänner janvier janv enero ene",
    "february feb februar février fevrier févr febrero",
    "march mar märz maerz mars marzo",
    "april apr avril avr abril abr",
    "may mai mayo",
    "june jun juni juin junio",
    "july jul juli juillet juil julio",
    "august aug août aout agosto ago",
    "september sep sept septembre septiembre setiembre",
    "october oct oktober okt octobre octubre",
    "november nov novembre noviembre",
    "december dec dezember dez décembre decembre diciembre dic",
)
_NUMBERS = {name: n for n, names in enumerate(_MONTHS, 1) for name in names.split()}
_NAME = "|".join(sorted(_NUMBERS, key=len, reverse=True))
_DAY = r"(?P<{0}>[0-3]?\d)"
#: `1 March 2024`, `March 1, 2024`, `2024-03-01`, `01.03.2024`; also `1st`, `1er`, `1 de marzo de`.
#: A date of slashes is ambiguous and not taken.
DATE = re.compile(
    rf"\b(?:{_DAY.format('d1')}(?:(?:st|nd|rd|th)(?:\s+of)?|er|\.|\s+de)?\s+(?P<m1>{_NAME})\.?,?"
    rf"(?:\s+de)?\s+(?P<y1>\d{{4}})"
    rf"|(?P<m2>{_NAME})\.?\s+{_DAY.format('d2')}(?:st|nd|rd|th)?,?\s+(?P<y2>\d{{4}})"
    r"|(?P<y3>\d{4})-(?P<m3>[01]\d)-(?P<d3>[0-3]\d)"
    r"|(?P<d4>[0-3]?\d)\.\s?(?P<m4>[01]?\d)\.\s?(?P<y4>\d{4}))\b",
    re.I,
)


def dates_in(text: str) -> Iterator[tuple[date, int, int]]:
    """Yield each date in a text with its first character and the one after its last."""
    for match in DATE.finditer(text):
        if (day := _date(match)) is not None:
            yield day, match.start(), match.end()


def first_date(text: str) -> date | None:
    """Return the first date in a text, None without one."""
    return next((day for day, _, _ in dates_in(text)), None)


def _date(match: re.Match[str]) -> date | None:
    values = match.groupdict()
    for form in "1234":
        if (year := values[f"y{form}"]) is not None:
            month = values[f"m{form}"].lower()
            try:
                number = int(month) if month.isdigit() else _NUMBERS[month]
                return date(int(year), number, int(values[f"d{form}"]))
            except ValueError:
                return None  # the 31st of June
    return None
