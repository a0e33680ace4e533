"""Whether documents are in force."""

from __future__ import annotations

from datetime import date, datetime
from typing import Literal

from pydantic import Field, model_validator

from fontanel.facts import ValidityMark
from fontanel.schemas.base import Model


class OutdatedOut(Model):
    """Why a document is not in force.

    `replaced`: another document replaces it; `withdrawn`: it, or a person, says so; `expired` and
    `not_yet`: today is outside the days that it names.
    """

    reason: Literal["replaced", "withdrawn", "expired", "not_yet"]
    replaced_by: str = Field(
        "",
        description="The title of the replacement, or what the text calls it; may be empty.",
    )
    replaced_by_id: str = Field("", description="Empty if it is not in the knowledge base.")
    on: date | None = Field(None, description="The day on which it expired, or begins.")


class ValidityStatementOut(Model):
    """A statement of a document about its own validity: the characters [start, end) of its text."""

    kind: Literal["replaces", "replaced_by", "withdrawn", "in_force_from", "in_force_until"]
    quote: str
    start: int
    end: int
    names: str = Field("", description="The other document, as the text names it.")
    date: str | None = None


class ValidityOut(Model):
    """What is known of a document's validity, and what a person decided."""

    outdated: OutdatedOut | None = Field(description="Why it is not in force; null if it is.")
    in_force_from: date | None = None
    in_force_until: date | None = None
    replaces: list[str] = Field([], description="Names of the documents that it replaces.")
    statements: list[ValidityStatementOut] = []
    mark: ValidityMark | None = Field(
        None, description="A person's decision, which outweighs the text."
    )
    marked_by: str = ""
    marked_at: datetime | None = None


class ValidityIn(Model):
    mark: ValidityMark
    replaced_by: str | None = Field(
        None, max_length=400, description="The replacement's id or name; with `replaced`."
    )

    @model_validator(mode="after")
    def _replacement_fits(self) -> ValidityIn:
        if (self.mark == ValidityMark.REPLACED) != bool(self.replaced_by):
            raise ValueError("replaced_by belongs to the mark `replaced`, and only to that")
        return self
