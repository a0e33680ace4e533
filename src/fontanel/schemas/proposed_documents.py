"""Documents that programs propose, for editors to accept or dismiss."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from fontanel.schemas.base import Model
from fontanel.schemas.written import ChangeOut, WrittenText

ProposedDocumentStateName = Literal["open", "accepted", "dismissed"]


class ProposedDocumentIn(Model):
    """A document that is proposed: Markdown, plain text, or a table as CSV."""

    name: str = Field(
        min_length=1,
        max_length=300,
        description="Ends in .md, .txt or .csv; the name of a document proposes another text.",
        examples=["notes/winter-moorings.md"],
    )
    text: WrittenText
    reason: str = Field("", max_length=2000, description="Why, for whoever decides.")


class ProposedDocumentOut(Model):
    id: str
    name: str
    reason: str
    state: ProposedDocumentStateName
    replaces: str | None = Field(
        description="The revision that it was proposed to replace; null for a new document."
    )
    characters: int = Field(description="The length of its text; 0 once it is decided.")
    proposed_by: str
    decided_by: str
    note: str = Field(description="Why it was dismissed.")
    document_id: str | None = Field(description="The document that it changes or became.")
    created_at: datetime
    decided_at: datetime | None


class ProposedDocumentText(ProposedDocumentOut):
    """With its text while it is open, and what it would change."""

    text: str
    changes: list[ChangeOut] = Field(description="By line; empty for a new document.")


class ProposedDocumentDismissal(Model):
    note: str = Field("", max_length=2000, description="Why, for whoever proposed it.")
