"""Running the service: the audit log, backups, examinations."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from typing import Literal

from fontanel import schemas as s
from fontanel.client._async.base import AsyncBaseClient
from fontanel.client._audit_calls import AuditFilter


class AsyncAuditClient(AsyncBaseClient):
    """For owners: their team's log. With `everywhere`, for operators: all logs."""

    async def list_audit(
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
        return await self._send(call)

    async def export_audit(
        self,
        chosen: AuditFilter | None = None,
        *,
        everywhere: bool = False,
        log: str | None = None,
        form: Literal["jsonl", "csv"] = "jsonl",
    ) -> AsyncIterator[str]:
        """Yield the lines of an export, the oldest entry first."""
        params = (chosen or AuditFilter()).params() | {"form": form}
        params |= {"log": log} if log else {}
        path = self._calls.audit_path(everywhere=everywhere).removeprefix("/")
        request = self._http.build_request("GET", f"{path}/export", params=params)
        async with self._streamed(request) as response:
            async for line in response.aiter_lines():
                yield line

    async def examine(self) -> list[s.FindingOut]:
        """Return what is wrong with the service, and what to do. For operators."""
        return await self._send(self._calls.examine())

    async def support_bundle(self) -> s.SupportBundle:
        """Return what helps to find a fault, without secrets and contents. For operators."""
        return await self._send(self._calls.support_bundle())

    async def list_backups(self) -> s.BackupsOut:
        """List the backups, the newest first. For operators, like all about backups."""
        return await self._send(self._calls.list_backups())

    async def start_backup(self) -> s.BackupOut:
        """Begin a backup; `wait_for_backup` waits for its end."""
        return await self._send(self._calls.start_backup())

    async def show_backup(self, backup: str) -> s.BackupOut:
        return await self._send(self._calls.show_backup(backup))

    async def wait_for_backup(self, backup: str) -> AsyncIterator[s.BackupOut]:
        """Yield a backup's progress each second, until it is done or has failed."""
        while True:
            result = await self.show_backup(backup)
            yield result
            if result.state in ("done", "failed"):
                return
            await asyncio.sleep(1.0)

    async def verify_audit(self, *, everywhere: bool = False) -> list[s.AuditCheckOut]:
        """Have the service compute the hashes of its logs again."""
        return await self._send(self._calls.verify_audit(everywhere=everywhere))
