"""Sources, their runs, notices and receivers."""

from __future__ import annotations

import asyncio
import secrets
import time
from collections.abc import AsyncIterator, Sequence

from fontanel import schemas as s
from fontanel.client._async.base import AsyncBaseClient
from fontanel.client._errors import ClientError


class AsyncSourceClient(AsyncBaseClient):
    """Sources, their runs, notices and receivers."""

    async def source_kinds(self) -> list[s.KindOut]:
        """List the kinds of sources, with JSON Schemas of their settings and credentials."""
        return await self._send(self._calls.source_kinds())

    async def list_sources(self, kb: str) -> list[s.SourceOut]:
        return (await self._send(self._calls.list_sources(kb))).items

    async def show_source(self, kb: str, source: str) -> s.SourceOut:
        """By id, name or folder."""
        return await self._send(self._calls.show_source(kb, source))

    async def check_source(self, kb: str, source: s.CheckIn) -> s.SourceCheck:
        """Connect and list, to preview a source; nothing is stored."""
        return await self._send(self._calls.check_source(kb, source))

    async def check_again(
        self, kb: str, source: str, other: s.SourceChange | None = None
    ) -> s.SourceCheck:
        """Preview a connected source, optionally with other settings or credentials."""
        return await self._send(self._calls.check_again(kb, source, other))

    async def connect_source(
        self, kb: str, source: s.SourceIn, idempotency_key: str | None = None
    ) -> s.SourceOut:
        """Its first run starts at once."""
        return await self._send(
            self._calls.connect_source(kb, source, idempotency_key or secrets.token_hex(12))
        )

    async def change_source(
        self, kb: str, source: str, change: s.SourceChange, version: int | None = None
    ) -> s.SourceOut:
        """Only the fields that are set are changed."""
        return await self._send(self._calls.change_source(kb, source, change, version))

    async def disconnect_source(
        self, kb: str, source: str, *, keep_documents: bool = False
    ) -> None:
        await self._send(self._calls.disconnect_source(kb, source, keep_documents=keep_documents))

    async def sync_source(
        self, kb: str, source: str, *, wait: bool = False, seconds: float = 3600.0
    ) -> s.SyncOut:
        """Run a source now; with `wait`, return when the run has ended or is held."""
        sync = await self._send(self._calls.start_sync(kb, source))
        return await self.wait_for_sync(kb, source, sync.id, seconds) if wait else sync

    async def wait_for_sync(
        self, kb: str, source: str, sync: str, seconds: float = 3600.0
    ) -> s.SyncOut:
        """Return the run once it has ended or is held, and its documents are indexed.

        Raises:
            ClientError: it took too long.
        """
        deadline = time.monotonic() + seconds
        while True:
            result = await self.show_sync(kb, source, sync)
            if result.state not in ("waiting", "running") and not result.indexing:
                return result
            if time.monotonic() > deadline:
                raise ClientError(
                    f"The run {result.id} is still {result.state} after {seconds:.0f} seconds."
                )
            await asyncio.sleep(0.1)

    async def list_syncs(self, kb: str, source: str, limit: int = 50) -> list[s.SyncOut]:
        """The last runs of a source, newest first."""
        return (await self._send(self._calls.list_syncs(kb, source, limit))).items

    async def show_sync(self, kb: str, source: str, sync: str = "latest") -> s.SyncOut:
        return await self._send(self._calls.show_sync(kb, source, sync))

    async def list_sync_items(
        self, kb: str, source: str, sync: str = "latest", outcome: s.OutcomeName | None = None
    ) -> AsyncIterator[s.SyncItemOut]:
        """What a run did, item by item."""
        cursor: str | None = None
        while True:
            page = await self._send(self._calls.list_sync_items(kb, source, sync, outcome, cursor))
            for item in page.items:
                yield item
            if page.next is None:
                return
            cursor = page.next

    async def confirm_sync(self, kb: str, source: str, sync: str = "latest") -> s.SyncOut:
        """Let a held run remove the documents that it listed."""
        return await self._send(self._calls.decide_sync(kb, source, sync, "confirm"))

    async def reject_sync(self, kb: str, source: str, sync: str = "latest") -> s.SyncOut:
        """Keep the documents that a held run would remove, or cancel a running one."""
        return await self._send(self._calls.decide_sync(kb, source, sync, "reject"))

    async def make_signal_secret(self, kb: str, source: str) -> s.SignalSecret:
        """Create the secret that signals are signed with; it is shown only once."""
        return await self._send(self._calls.make_signal_secret(kb, source))

    async def push_documents(
        self, kb: str, source: str, documents: Sequence[s.PushedIn] = (), remove: Sequence[str] = ()
    ) -> s.PushOut:
        """Send documents to a source of kind `push`, and name removed ones; idempotent."""
        body = s.PushIn(documents=list(documents), remove=list(remove))
        return await self._send(self._calls.push_documents(kb, source, body))

    async def freshness(self) -> list[s.SourceFreshness]:
        """How fresh the team's sources are."""
        return await self._send(self._calls.freshness())

    async def list_notices(self, kb: str | None = None, limit: int = 50) -> s.NoticesOut:
        """What happened to the team's sources, newest first."""
        return await self._send(self._calls.list_notices(kb, limit))

    async def mark_notices_seen(self) -> None:
        await self._send(self._calls.mark_notices_seen())

    async def list_receivers(self) -> list[s.ReceiverOut]:
        return (await self._send(self._calls.list_receivers())).items

    async def add_receiver(
        self, url: str, kinds: Sequence[s.NoticeKind | s.EventKind] = ()
    ) -> s.ReceiverCreated:
        """Send notices to an address as signed CloudEvents; the secret is shown only once."""
        return await self._send(self._calls.add_receiver(url, kinds))

    async def remove_receiver(self, receiver: str) -> None:
        await self._send(self._calls.remove_receiver(receiver))
