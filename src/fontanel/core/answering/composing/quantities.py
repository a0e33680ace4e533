"""Numbers with their units in a text."""

from __future__ import annotations

import re

#: Names of units -> the unit in one form.
UNITS = {
    "m": "m",
    "metre": "m",
    "meter": "m",
    "km": "km",
    "kilometre": "km",
    "cm": "cm",
    "mm": "mm",
    "knot": "knot",
    "kn": "knot",
    "kt": "knot",
    "minute": "minute",
    "min": "minute",
    "hour": "hour",
    "h": "hour",
    "day": "day",
    "week": "week",
    "month": "month",
    "year": "year",
    "second": "second",
    "s": "second",
    "ms": "ms",
    "t": "tonne",
    "tonne": "tonne",
    "ton": "tonne",
    "kg": "kg",
    "g": "g",
    "litre": "litre",
    "l": "litre",
    "per cent": "%",
    "percent": "%",
    "%": "%",
    "crown": "crown",
    "euro": "euro",
    "€": "euro",
    "pound": "pound",
    "£": "pound",
    "dollar": "dollar",
    "$": "dollar",
    "degree": "degree",
    "°c": "°c",
    "mb": "mb",
    "gb": "gb",
    "kb": "kb",
    "byte": "byte",
    "bar": "bar",
    "mile": "mile",
    "nautical mile": "mile",
    "channel": "channel",
    "person": "person",
    "people": "person",
    "passenger": "passenger",
    "vessel": "vessel",
    "time": "time",
    "foot": "foot",
    "feet": "foot",
    "inch": "inch",
    "volt": "volt",
    "v": "volt",
    "kw": "kw",
    "watt": "watt",
}
_NAMES = "|".join(sorted((re.escape(name) for name in UNITS), key=len, reverse=True))
_AFTER = re.compile(
    rf"(?<!\d)(?<!\d[.,])(\d++(?:[.,]\d++)*+)\s*-?\s*({_NAMES})(?:s|es)?(?![\w])", re.I
)
_NUMBER = re.compile(r"\d+(?:[.,]\d+)*")
#: A word with a capital before a number, which is then a part of its name.
_NAMING = re.compile(r"\b[^\W\d_a-z][^\W\d_]+ $")
_BEFORE = re.compile(r"([€£$])\s*(\d+(?:[.,]\d+)*)")


def quantities(text: str) -> set[tuple[float, str]]:
    """The (number, unit) pairs of a text, the units in one form."""
    results = {
        (value_of(match.group(1)), UNITS[match.group(2).lower()]) for match in _AFTER.finditer(text)
    }
    return results | {
        (value_of(match.group(2)), UNITS[match.group(1)]) for match in _BEFORE.finditer(text)
    }


def uses(value: float, text: str) -> set[str]:
    """Return what a number stands for: its unit, "name" in a name (Berth 4), or ""."""
    units = {match.start(1): UNITS[match.group(2).lower()] for match in _AFTER.finditer(text)}
    units |= {match.start(2): UNITS[match.group(1)] for match in _BEFORE.finditer(text)}
    return {
        units.get(match.start()) or ("name" if _NAMING.search(text[: match.start()]) else "")
        for match in _NUMBER.finditer(text)
        if value_of(match.group()) == value
    }


def value_of(number: str) -> float:
    """A number as people write it: 25,000 and 4.5 and 4,5."""
    plain = re.sub(r",(?=\d{3}\b)", "", number)
    plain = plain.replace(",", ".")
    return float(plain) if plain.count(".") < 2 else float(plain.replace(".", ""))
