"""Entries of the audit log as events to a team's receivers."""

from __future__ import annotations

from sqlalchemy.orm import Session

from fontanel.engine.notices.notify import emit
from fontanel.records.audit import SERVICE_LOG, as_dict
from fontanel.records.tables import AuditEntry, Team


def emit_entry(session: Session, entry: AuditEntry) -> None:
    """Queue an entry for the team's receivers that name `audit.entry`, in its transaction."""
    if entry.log != SERVICE_LOG and session.get(Team, entry.log) is not None:
        emit(session, entry.log, "audit.entry", entry.action, as_dict(entry))
