"""Writing the audit log: each change by somebody, in the transaction of the change.

Whoever acts is set for the thread or task (`acting_as`); a unit of work then writes an entry with
what it changed. What the service does on its own, such as indexing, is not recorded here.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field
from datetime import UTC, datetime
from enum import StrEnum
from typing import Any, Literal

from sqlalchemy import delete, func, inspect, select
from sqlalchemy.orm import Session

from fontanel.core.auditing import START, entry_hash, who_hash
from fontanel.records.tables import (
    ApprovedAnswer,
    ApprovedFlag,
    AuditEntry,
    AuditLog,
    Backup,
    Base,
    Channel,
    Conversation,
    DefaultQuotas,
    Desk,
    DeskLink,
    DeskVersion,
    Document,
    Edition,
    Embedder,
    Erasure,
    Feedback,
    Gap,
    Invitation,
    Kb,
    Key,
    Member,
    PasswordLink,
    Person,
    Proposal,
    ProposedDocument,
    QuestionSet,
    Receiver,
    SetQuestion,
    SignIn,
    Source,
    Sync,
    Team,
    TextModel,
    Transcriber,
    Trial,
    Validity,
    now,
)

#: The log of what belongs to no team.
SERVICE_LOG = "service"
ActorKind = Literal["person", "key", "guest", "machine", "nobody"]

#: What is recorded when somebody changes it. Passwords and links to set them belong to a person.
_NOUNS: dict[type[Base], str] = {
    ApprovedAnswer: "approved answer",
    ApprovedFlag: "flag",
    Backup: "backup",
    Channel: "channel",
    Conversation: "conversation",
    DefaultQuotas: "default quotas",
    Desk: "desk",
    DeskLink: "link",
    DeskVersion: "desk version",
    Document: "document",
    Edition: "edition",
    Embedder: "embedder",
    Erasure: "erasure",
    Feedback: "feedback",
    Gap: "gap",
    Invitation: "invitation",
    Kb: "knowledge base",
    Key: "key",
    Member: "member",
    PasswordLink: "password link",
    Person: "person",
    Proposal: "proposed question",
    ProposedDocument: "proposed document",
    QuestionSet: "question set",
    Receiver: "receiver",
    SetQuestion: "question",
    SignIn: "sign-in",
    Source: "source",
    Sync: "sync run",
    Team: "team",
    TextModel: "model",
    Transcriber: "transcriber",
    Trial: "trial",
    Validity: "validity",
}
#: What everybody who asks creates.
_NOT_WHEN_CREATED = (Conversation,)
#: Columns that change as a consequence, or often.
_IGNORED = frozenset(
    {
        "change",
        "changed_at",
        "checked_at",
        "last_used_at",
        "notices_seen_at",
        "quota_states",
        "updated_at",
        "version",
    }
)
#: Columns whose values are recorded: neither secrets nor texts nor personal data.
_VALUES = frozenset(
    {
        "active",
        "enabled",
        "expires_at",
        "kept_days",
        "limits",
        "monthly_tokens",
        "operator",
        "originals_kept_days",
        "paused",
        "published",
        "quotas",
        "records_kept_days",
        "requests_per_minute",
        "role",
        "show_askers",
        "slug",
        "state",
    }
)
#: Names of these are personal data, or contents.
_UNNAMED = (Conversation, Invitation, Person)
_MAX_CHANGES = 20
_MAX_TEXT = 200


@dataclass(slots=True)
class Acting:
    """Who acts, and what they are doing.

    `about` is personal data that the action names, such as an e-mail address.
    """

    action: str
    target: str = ""
    kind: ActorKind = "nobody"
    id: str = ""
    name: str = ""
    address: str = ""
    about: str = ""
    team_id: str | None = None
    request_id: str | None = None
    stranger: bool = False
    """Whether the caller is no member of the team that they named."""

    @property
    def who(self) -> dict[str, Any]:
        """The personal data of an entry."""
        parts = {"name": self.name, "address": self.address, "about": self.about}
        return {name: value[:_MAX_TEXT] for name, value in parts.items() if value}


@dataclass(slots=True)
class Change:
    """What happened to one record."""

    kind: str
    id: str | None
    change: Literal["created", "changed", "deleted"]
    name: str | None = None
    team_id: str | None = None
    fields: dict[str, Any] = field(default_factory=dict)

    def out(self) -> dict[str, Any]:
        """Return the change as it is recorded."""
        result: dict[str, Any] = {"kind": self.kind, "id": self.id, "change": self.change}
        if self.name:
            result["name"] = self.name[:_MAX_TEXT]
        if self.fields:
            result["fields"] = self.fields
        return result


_current: ContextVar[Acting | None] = ContextVar("acting", default=None)


def current() -> Acting | None:
    """Return who acts in this thread or task."""
    return _current.get()


@contextmanager
def acting_as(acting: Acting | None) -> Iterator[None]:
    """Set who acts within the block, also in threads that it starts with its context."""
    token = _current.set(acting)
    try:
        yield
    finally:
        _current.reset(token)


def change_of(item: Any, change: Literal["created", "changed", "deleted"]) -> Change | None:
    """Return what is recorded of a record that is about to be written; None for nothing."""
    noun = _NOUNS.get(type(item))
    if noun is None or (change == "created" and isinstance(item, _NOT_WHEN_CREATED)):
        return None
    fields = _fields(item) if change == "changed" else {}
    if change == "changed" and not fields:
        return None
    named = None if isinstance(item, _UNNAMED) else _name_of(item)
    return Change(
        kind=noun,
        id=_id_of(item),
        change=change,
        name=named,
        team_id=item.id if isinstance(item, Team) else getattr(item, "team_id", None),
        fields=fields,
    )


def change_of_statement(
    table: type[Any], change: Literal["created", "changed", "deleted"]
) -> Change | None:
    """Return what is recorded of a statement that changes a table without loading its rows."""
    noun = _NOUNS.get(table)
    return None if noun is None else Change(noun, None, change)


def _name_of(item: Any) -> str | None:
    for column in ("name", "label", "url"):
        if isinstance(name := getattr(item, column, None), str):
            return name
    return None


def _id_of(item: Any) -> str:
    if isinstance(item, PasswordLink):
        return item.person_id
    if isinstance(item, DeskVersion):
        return f"{item.desk_id}/{item.number}"
    return str(getattr(item, "id", "") or "")


def _fields(item: Any) -> dict[str, Any]:
    """Return the changed columns: with old and new value where that may be recorded."""
    result: dict[str, Any] = {}
    for attribute in inspect(item).mapper.column_attrs:
        name = attribute.key
        history = inspect(item).attrs[name].history
        if name in _IGNORED or not history.has_changes():
            continue
        old = history.deleted[0] if history.deleted else None
        new = history.added[0] if history.added else None
        if name in _VALUES:
            result[name] = [_plain(old), _plain(new)]
        elif isinstance(old, Mapping) and isinstance(new, Mapping):
            keys = sorted(key for key in {*old, *new} if old.get(key) != new.get(key))
            result[name] = keys
        else:
            result[name] = None
    return result


def _plain(value: Any) -> Any:
    if isinstance(value, StrEnum):
        return value.value
    if isinstance(value, datetime):
        return value.isoformat()
    if isinstance(value, Mapping):
        return {str(name): _plain(one) for name, one in value.items()}
    return value if isinstance(value, bool | int | float) or value is None else str(value)[:200]


def write_changes(session: Session, acting: Acting, changes: list[Change]) -> AuditEntry:
    """Add an entry for what a unit of work changed, within its transaction."""
    teams = {change.team_id for change in changes if change.team_id}
    if acting.team_id is None and len(teams) == 1 and not _creates_team(changes):
        acting.team_id = teams.pop()
    lines = [change.out() for change in changes[:_MAX_CHANGES]]
    if len(changes) > _MAX_CHANGES:
        lines.append({"more": len(changes) - _MAX_CHANGES})
    return write_entry(session, acting, lines)


def _creates_team(changes: list[Change]) -> bool:
    return any(change.kind == "team" and change.change == "created" for change in changes)


def write_entry(
    session: Session,
    acting: Acting,
    changes: list[dict[str, Any]],
    *,
    outcome: Literal["done", "refused"] = "done",
    problem: str | None = None,
    count: int = 1,
) -> AuditEntry:
    """Add an entry to the end of its log."""
    name = acting.team_id or SERVICE_LOG
    log = session.get(AuditLog, name)
    if log is None:
        log = AuditLog(log=name, number=0, hash=START, trimmed=0, trimmed_hash=START)
        session.add(log)
    salt = secrets.token_hex(16)
    entry = AuditEntry(
        log=name,
        number=log.number + 1,
        at=now(),
        actor_kind=acting.kind,
        actor_id=acting.id,
        action=acting.action,
        target=acting.target[:1000],
        changes=changes,
        outcome=outcome,
        problem=problem,
        count=count,
        request_id=acting.request_id,
        who=acting.who,
        salt=salt,
        who_hash=who_hash(acting.who, salt),
        previous=log.hash,
        hash="",
    )
    entry.hash = entry_hash(as_dict(entry))
    log.number, log.hash = entry.number, entry.hash
    session.add(entry)
    session.flush()
    return entry


def as_dict(entry: AuditEntry) -> dict[str, Any]:
    """Return an entry as it is hashed and exported."""
    return {
        "log": entry.log,
        "number": entry.number,
        "at": entry.at.astimezone(UTC).isoformat(timespec="microseconds"),
        "actor_kind": entry.actor_kind,
        "actor_id": entry.actor_id,
        "who": entry.who,
        "action": entry.action,
        "target": entry.target,
        "changes": entry.changes,
        "outcome": entry.outcome,
        "problem": entry.problem,
        "count": entry.count,
        "request_id": entry.request_id,
        "salt": entry.salt,
        "who_hash": entry.who_hash,
        "previous": entry.previous,
        "hash": entry.hash,
    }


def trim(session: Session, before: datetime) -> int:
    """Delete the entries from before a moment; return how many.

    Each log keeps the hash of the last one, so that the rest can still be verified.
    """
    last = (
        select(AuditEntry.log, func.max(AuditEntry.number))
        .where(AuditEntry.at < before)
        .group_by(AuditEntry.log)
    )
    deleted = 0
    for name, number in session.execute(last).all():
        log = session.get_one(AuditLog, name)
        own = AuditEntry.log == name
        log.trimmed_hash = session.scalars(
            select(AuditEntry.hash).where(own, AuditEntry.number == number)
        ).one()
        deleted += number - log.trimmed
        log.trimmed = number
        session.flush()
        session.execute(delete(AuditEntry).where(own, AuditEntry.number <= number))
    return deleted
