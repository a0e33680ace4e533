"""Statements about a document's validity, and why a document is outdated."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from enum import StrEnum
from typing import Any


class ValidityKind(StrEnum):
    """What a statement says about the document that it is in."""

    REPLACES = "replaces"
    REPLACED_BY = "replaced_by"
    WITHDRAWN = "withdrawn"
    IN_FORCE_FROM = "in_force_from"
    IN_FORCE_UNTIL = "in_force_until"


@dataclass(frozen=True, slots=True)
class ValidityStatement:
    """A statement in a document about its own validity.

    `quote` are the characters [start, end) of the reading's text, or the title, which has no
    characters there (0, 0). `names` is the other document as the text names it, `date` the day that
    is named.
    """

    kind: ValidityKind
    quote: str
    start: int = 0
    end: int = 0
    names: str = ""
    date: date | None = None


class OutdatedReason(StrEnum):
    """Why a document is not in force on a day."""

    REPLACED = "replaced"
    WITHDRAWN = "withdrawn"
    EXPIRED = "expired"
    NOT_YET = "not_yet"


@dataclass(frozen=True, slots=True)
class Outdated:
    """Why a document is not in force.

    `replaced_by` is the title of the document to use instead, or what the text calls it if it is
    not in the knowledge base; `replaced_by_id` is its id. `on` is the day on which the document
    expired or begins.
    """

    reason: OutdatedReason
    replaced_by: str = ""
    replaced_by_id: str = ""
    on: date | None = None

    def to_dict(self) -> dict[str, str | None]:
        """Return the reason as JSON values."""
        return {
            "reason": self.reason.value,
            "replaced_by": self.replaced_by,
            "replaced_by_id": self.replaced_by_id,
            "on": self.on.isoformat() if self.on else None,
        }

    @classmethod
    def from_dict(cls, data: Mapping[str, Any]) -> Outdated:
        """Read a reason from its JSON values."""
        on = date.fromisoformat(data["on"]) if data["on"] else None
        return cls(OutdatedReason(data["reason"]), data["replaced_by"], data["replaced_by_id"], on)
