"""Calls about running the service: the audit log, backups, examinations."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from fontanel import schemas as s
from fontanel.client._call import Call, quoted


@dataclass(frozen=True, slots=True)
class AuditFilter:
    """Which entries of the audit log: None means all.

    `actor` is an id or a part of a name, `action` a beginning such as `key.`, `target` a part of
    the target.
    """

    actor: str | None = None
    action: str | None = None
    target: str | None = None
    outcome: s.AuditOutcome | None = None
    since: datetime | None = None
    until: datetime | None = None

    def params(self) -> dict[str, str]:
        """Return the filter as query parameters."""
        chosen = {
            "actor": self.actor,
            "action": self.action,
            "target": self.target,
            "outcome": self.outcome,
            "since": self.since and self.since.isoformat(),
            "until": self.until and self.until.isoformat(),
        }
        return {name: value for name, value in chosen.items() if value}


class AuditCalls:
    """Mixed into `Calls`."""

    def _team(self) -> str:
        raise NotImplementedError

    def audit_path(self, *, everywhere: bool) -> str:
        return "/audit" if everywhere else f"{self._team()}/audit"

    def list_audit(
        self,
        chosen: AuditFilter,
        log: str | None,
        cursor: str | None,
        limit: int,
        *,
        everywhere: bool,
    ) -> Call[s.Page[s.AuditEntryOut]]:
        query = {**chosen.params(), "limit": limit}
        query |= {"log": log} if log else {}
        query |= {"cursor": cursor} if cursor else {}
        path = self.audit_path(everywhere=everywhere)
        return Call("GET", path, s.Page[s.AuditEntryOut], params=query)

    def examine(self) -> Call[list[s.FindingOut]]:
        return Call("GET", "/doctor", list[s.FindingOut])

    def support_bundle(self) -> Call[s.SupportBundle]:
        return Call("GET", "/doctor/bundle", s.SupportBundle)

    def list_backups(self) -> Call[s.BackupsOut]:
        return Call("GET", "/backups", s.BackupsOut)

    def start_backup(self) -> Call[s.BackupOut]:
        return Call("POST", "/backups", s.BackupOut)

    def show_backup(self, backup: str) -> Call[s.BackupOut]:
        return Call("GET", f"/backups/{quoted(backup)}", s.BackupOut)

    def verify_audit(self, *, everywhere: bool) -> Call[list[s.AuditCheckOut]]:
        path = f"{self.audit_path(everywhere=everywhere)}/verify"
        return Call("GET", path, list[s.AuditCheckOut])
