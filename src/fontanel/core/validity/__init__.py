"""Whether a document is in force: what its text says, and which document replaces it."""

from fontanel.core.validity.asked import asks_for_earlier, years_in
from fontanel.core.validity.model import Outdated, OutdatedReason, ValidityKind, ValidityStatement
from fontanel.core.validity.references import DocumentNames, best_match
from fontanel.core.validity.statements import find_statements, opening_dates

__all__ = [
    "DocumentNames",
    "Outdated",
    "OutdatedReason",
    "ValidityKind",
    "ValidityStatement",
    "asks_for_earlier",
    "best_match",
    "find_statements",
    "opening_dates",
    "years_in",
]
