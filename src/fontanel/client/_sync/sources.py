"""Sources, their runs, notices and receivers.

Made from its asynchronous twin by `make client`; do not edit.
"""

from __future__ import annotations

import secrets
import time
from collections.abc import Iterator, Sequence

from fontanel import schemas as s
from fontanel.client._errors import ClientError
from fontanel.client._sync.base import BaseClient


class SourceClient(BaseClient):
    """Sources, their runs, notices and receivers."""

    def source_kinds(self) -> list[s.KindOut]:
        """List the kinds of sources, with JSON Schemas of their settings and credentials."""
        return self._send(self._calls.source_kinds())

    def list_sources(self, kb: str) -> list[s.SourceOut]:
        return (self._send(self._calls.list_sources(kb))).items

    def show_source(self, kb: str, source: str) -> s.SourceOut:
        """By id, name or folder."""
        return self._send(self._calls.show_source(kb, source))

    def check_source(self, kb: str, source: s.CheckIn) -> s.SourceCheck:
        """Connect and list, to preview a source; nothing is stored."""
        return self._send(self._calls.check_source(kb, source))

    def check_again(
        self, kb: str, source: str, other: s.SourceChange | None = None
    ) -> s.SourceCheck:
        """Preview a connected source, optionally with other settings or credentials."""
        return self._send(self._calls.check_again(kb, source, other))

    def connect_source(
        self, kb: str, source: s.SourceIn, idempotency_key: str | None = None
    ) -> s.SourceOut:
        """Its first run starts at once."""
        return self._send(
            self._calls.connect_source(kb, source, idempotency_key or secrets.token_hex(12))
        )

    def change_source(
        self, kb: str, source: str, change: s.SourceChange, version: int | None = None
    ) -> s.SourceOut:
        """Only the fields that are set are changed."""
        return self._send(self._calls.change_source(kb, source, change, version))

    def disconnect_source(self, kb: str, source: str, *, keep_documents: bool = False) -> None:
        self._send(self._calls.disconnect_source(kb, source, keep_documents=keep_documents))

    def sync_source(
        self, kb: str, source: str, *, wait: bool = False, seconds: float = 3600.0
    ) -> s.SyncOut:
        """Run a source now; with `wait`, return when the run has ended or is held."""
        sync = self._send(self._calls.start_sync(kb, source))
        return self.wait_for_sync(kb, source, sync.id, seconds) if wait else sync

    def wait_for_sync(self, kb: str, source: str, sync: str, seconds: float = 3600.0) -> s.SyncOut:
        """Return the run once it has ended or is held, and its documents are indexed.

        Raises:
            ClientError: it took too long.
        """
        deadline = time.monotonic() + seconds
        while True:
            result = self.show_sync(kb, source, sync)
            if result.state not in ("waiting", "running") and not result.indexing:
                return result
            if time.monotonic() > deadline:
                raise ClientError(
                    f"The run {result.id} is still {result.state} after {seconds:.0f} seconds."
                )
            time.sleep(0.1)

    def list_syncs(self, kb: str, source: str, limit: int = 50) -> list[s.SyncOut]:
        """The last runs of a source, newest first."""
        return (self._send(self._calls.list_syncs(kb, source, limit))).items

    def show_sync(self, kb: str, source: str, sync: str = "latest") -> s.SyncOut:
        return self._send(self._calls.show_sync(kb, source, sync))

    def list_sync_items(
        self, kb: str, source: str, sync: str = "latest", outcome: s.OutcomeName | None = None
    ) -> Iterator[s.SyncItemOut]:
        """What a run did, item by item."""
        cursor: str | None = None
        while True:
            page = self._send(self._calls.list_sync_items(kb, source, sync, outcome, cursor))
            yield from page.items
            if page.next is None:
                return
            cursor = page.next

    def confirm_sync(self, kb: str, source: str, sync: str = "latest") -> s.SyncOut:
        """Let a held run remove the documents that it listed."""
        return self._send(self._calls.decide_sync(kb, source, sync, "confirm"))

    def reject_sync(self, kb: str, source: str, sync: str = "latest") -> s.SyncOut:
        """Keep the documents that a held run would remove, or cancel a running one."""
        return self._send(self._calls.decide_sync(kb, source, sync, "reject"))

    def make_signal_secret(self, kb: str, source: str) -> s.SignalSecret:
        """Create the secret that signals are signed with; it is shown only once."""
        return self._send(self._calls.make_signal_secret(kb, source))

    def push_documents(
        self, kb: str, source: str, documents: Sequence[s.PushedIn] = (), remove: Sequence[str] = ()
    ) -> s.PushOut:
        """Send documents to a source of kind `push`, and name removed ones; idempotent."""
        body = s.PushIn(documents=list(documents), remove=list(remove))
        return self._send(self._calls.push_documents(kb, source, body))

    def freshness(self) -> list[s.SourceFreshness]:
        """How fresh the team's sources are."""
        return self._send(self._calls.freshness())

    def list_notices(self, kb: str | None = None, limit: int = 50) -> s.NoticesOut:
        """What happened to the team's sources, newest first."""
        return self._send(self._calls.list_notices(kb, limit))

    def mark_notices_seen(self) -> None:
        self._send(self._calls.mark_notices_seen())

    def list_receivers(self) -> list[s.ReceiverOut]:
        return (self._send(self._calls.list_receivers())).items

    def add_receiver(
        self, url: str, kinds: Sequence[s.NoticeKind | s.EventKind] = ()
    ) -> s.ReceiverCreated:
        """Send notices to an address as signed CloudEvents; the secret is shown only once."""
        return self._send(self._calls.add_receiver(url, kinds))

    def remove_receiver(self, receiver: str) -> None:
        self._send(self._calls.remove_receiver(receiver))
