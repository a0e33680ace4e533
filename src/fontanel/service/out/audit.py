"""Entries of the audit log: as schemas, lines and rows."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal

from sqlalchemy import Select, select
from sqlalchemy.orm import Session

from fontanel.core.auditing import verify
from fontanel.core.csv_cells import guarded
from fontanel.records.audit import as_dict
from fontanel.records.tables import AuditEntry, AuditLog, Team
from fontanel.records.unit_of_work import Records
from fontanel.schemas import AuditChangeOut, AuditCheckOut, AuditEntryOut

#: Entries that are read at a time, each with a short session.
_BATCH = 500
_CSV = (
    "log",
    "number",
    "at",
    "actor_kind",
    "actor_id",
    "name",
    "address",
    "action",
    "target",
    "outcome",
    "problem",
    "count",
    "request_id",
    "changes",
    "hash",
)


@dataclass(frozen=True, slots=True)
class AuditSelection:
    """Which entries are asked for; None means all."""

    log: str | None = None
    actor: str | None = None
    action: str | None = None
    target: str | None = None
    outcome: str | None = None
    since: datetime | None = None
    until: datetime | None = None

    def query(self) -> Select[AuditEntry]:
        """Return a query for the entries, without an order."""
        query = select(AuditEntry)
        if self.log is not None:
            query = query.where(AuditEntry.log == self.log)
        if self.actor is not None:
            query = query.where(
                (AuditEntry.actor_id == self.actor)
                | AuditEntry.who["name"].as_string().icontains(self.actor, autoescape=True)
            )
        if self.action is not None:
            query = query.where(AuditEntry.action.startswith(self.action, autoescape=True))
        if self.target is not None:
            query = query.where(AuditEntry.target.contains(self.target, autoescape=True))
        if self.outcome is not None:
            query = query.where(AuditEntry.outcome == self.outcome)
        if self.since is not None:
            query = query.where(AuditEntry.at >= self.since)
        if self.until is not None:
            query = query.where(AuditEntry.at < self.until)
        return query


def entry_out(entry: AuditEntry) -> AuditEntryOut:
    who = entry.who or {}
    changes = [AuditChangeOut(**line) for line in entry.changes if "kind" in line]
    return AuditEntryOut(
        id=entry.key,
        log=entry.log,
        number=entry.number,
        at=entry.at,
        actor_kind=entry.actor_kind,
        actor_id=entry.actor_id,
        name=who.get("name"),
        address=who.get("address"),
        about=who.get("about"),
        action=entry.action,
        target=entry.target,
        changes=changes,
        more=sum(line.get("more", 0) for line in entry.changes),
        entries=sum(line.get("entries", 0) for line in entry.changes),
        outcome=entry.outcome,
        problem=entry.problem,
        count=entry.count,
        request_id=entry.request_id,
        hash=entry.hash,
    )


def exported_entries(
    records: Records, selection: AuditSelection, form: Literal["jsonl", "csv"]
) -> Iterator[bytes]:
    """Yield the entries, the oldest first, as they are hashed (JSON Lines) or as a table (CSV)."""
    if form == "csv":
        yield _csv_line(_CSV)
    for entry in _entries(records, selection.query()):
        if form == "jsonl":
            yield json.dumps(as_dict(entry), ensure_ascii=False).encode() + b"\n"
        else:
            yield _csv_line(_row(as_dict(entry)))


def _entries(records: Records, query: Select[AuditEntry]) -> Iterator[AuditEntry]:
    after = 0
    while True:
        page = query.where(AuditEntry.key > after).order_by(AuditEntry.key).limit(_BATCH)
        with records.reading() as session:
            entries = session.scalars(page).all()
        yield from entries
        if len(entries) < _BATCH:
            return
        after = entries[-1].key


def _row(entry: dict[str, Any]) -> tuple[str, ...]:
    values = entry | (entry["who"] or {})
    values["changes"] = json.dumps(entry["changes"], ensure_ascii=False)
    cells = ("" if values.get(name) is None else str(values[name]) for name in _CSV)
    return tuple(map(guarded, cells))


def _csv_line(cells: tuple[str, ...]) -> bytes:
    line = io.StringIO()
    csv.writer(line).writerow(cells)
    return line.getvalue().encode()


def check_log(records: Records, log: AuditLog, name: str | None) -> AuditCheckOut:
    """Verify a log from its first entry to its end, as it was when `log` was read."""
    query = AuditSelection(log=log.log).query().where(AuditEntry.number <= log.number)
    last = {"hash": log.trimmed_hash, "number": log.trimmed}

    def entries() -> Iterator[dict[str, Any]]:
        for entry in _entries(records, query):
            line = as_dict(entry)
            last.update(hash=line["hash"], number=line["number"])
            yield line

    broken = verify(entries(), number=log.trimmed + 1, previous=log.trimmed_hash)
    fault = None if broken is None else f"Entry {broken.number}: {broken.what}."
    if fault is None and (last["number"], last["hash"]) != (log.number, log.hash):
        fault = f"Entries after {last['number']} are missing."
    return AuditCheckOut(
        log=log.log,
        name=name,
        entries=log.number - log.trimmed,
        first=log.trimmed + 1,
        last=log.number,
        hash=log.hash,
        whole=fault is None,
        fault=fault,
    )


def audit_logs(session: Session, log: str | None = None) -> list[tuple[AuditLog, str | None]]:
    """Return the logs with the names of their teams."""
    query = select(AuditLog, Team.name).outerjoin(Team, Team.id == AuditLog.log)
    if log is not None:
        query = query.where(AuditLog.log == log)
    return [(one, name) for one, name in session.execute(query.order_by(AuditLog.log))]
