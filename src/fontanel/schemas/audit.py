"""The audit log."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import Field

from fontanel.schemas.base import Model

AuditOutcome = Literal["done", "refused"]


class AuditChangeOut(Model):
    """What happened to one record."""

    kind: str
    id: str | None
    change: Literal["created", "changed", "deleted"]
    name: str | None = None
    fields: dict[str, Any] = Field(
        default_factory=dict,
        description="Changed fields: old and new value where they are recorded, otherwise null.",
    )


class AuditEntryOut(Model):
    """What somebody did, or was refused."""

    id: int = Field(description="The position among the entries of all logs.")
    log: str = Field(description="The team's id, or `service`.")
    number: int = Field(description="The position in the log.")
    at: datetime
    actor_kind: Literal["person", "key", "guest", "machine", "nobody"]
    actor_id: str
    name: str | None = Field(description="The actor's name at the time; null when erased.")
    address: str | None = Field(description="The network address; null when erased.")
    about: str | None = Field(description="The e-mail address that the action names.")
    action: str
    target: str
    changes: list[AuditChangeOut]
    more: int = Field(0, description="Further changed records that are not listed.")
    entries: int = Field(0, description="Entries that were deleted after their retention.")
    outcome: AuditOutcome
    problem: str | None = None
    count: int = Field(1, description="How often it happened within a minute.")
    request_id: str | None = None
    hash: str


class AuditCheckOut(Model):
    """Whether a log is whole."""

    log: str
    name: str | None = Field(description="The team's name; null when it was deleted.")
    entries: int
    first: int = Field(description="The number of the first entry that is still there.")
    last: int
    hash: str = Field(description="The hash of the last entry: note it elsewhere to compare later.")
    whole: bool
    fault: str | None = None
