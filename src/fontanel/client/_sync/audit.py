"""Running the service: the audit log, backups, examinations.

Made from its asynchronous twin by `make client`; do not edit.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from typing import Literal

from fontanel import schemas as s
from fontanel.client._audit_calls import AuditFilter
from fontanel.client._sync.base import BaseClient


class AuditClient(BaseClient):
    """For owners: their team's log. With `everywhere`, for operators: all logs."""

    def list_audit(
        self,
        chosen: AuditFilter | None = None,
        *,
        everywhere: bool = False,
        log: str | None = None,
        cursor: str | None = None,
        limit: int = 50,
    ) -> s.Page[s.AuditEntryOut]:
        """Return a page of entries, the newest first.

        Args:
            chosen: Which entries.
            everywhere: All logs, for operators.
            log: With `everywhere`: a team's id or slug, or `service`.
            cursor: The `next` of the page before.
            limit: Entries of a page, up to 200.
        """
        chosen = chosen or AuditFilter()
        call = self._calls.list_audit(chosen, log, cursor, limit, everywhere=everywhere)
        return self._send(call)

    def export_audit(
        self,
        chosen: AuditFilter | None = None,
        *,
        everywhere: bool = False,
        log: str | None = None,
        form: Literal["jsonl", "csv"] = "jsonl",
    ) -> Iterator[str]:
        """Yield the lines of an export, the oldest entry first."""
        params = (chosen or AuditFilter()).params() | {"form": form}
        params |= {"log": log} if log else {}
        path = self._calls.audit_path(everywhere=everywhere).removeprefix("/")
        request = self._http.build_request("GET", f"{path}/export", params=params)
        with self._streamed(request) as response:
            yield from response.iter_lines()

    def examine(self) -> list[s.FindingOut]:
        """Return what is wrong with the service, and what to do. For operators."""
        return self._send(self._calls.examine())

    def support_bundle(self) -> s.SupportBundle:
        """Return what helps to find a fault, without secrets and contents. For operators."""
        return self._send(self._calls.support_bundle())

    def list_backups(self) -> s.BackupsOut:
        """List the backups, the newest first. For operators, like all about backups."""
        return self._send(self._calls.list_backups())

    def start_backup(self) -> s.BackupOut:
        """Begin a backup; `wait_for_backup` waits for its end."""
        return self._send(self._calls.start_backup())

    def show_backup(self, backup: str) -> s.BackupOut:
        return self._send(self._calls.show_backup(backup))

    def wait_for_backup(self, backup: str) -> Iterator[s.BackupOut]:
        """Yield a backup's progress each second, until it is done or has failed."""
        while True:
            result = self.show_backup(backup)
            yield result
            if result.state in ("done", "failed"):
                return
            time.sleep(1.0)

    def verify_audit(self, *, everywhere: bool = False) -> list[s.AuditCheckOut]:
        """Have the service compute the hashes of its logs again."""
        return self._send(self._calls.verify_audit(everywhere=everywhere))
