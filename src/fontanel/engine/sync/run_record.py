"""The record of a run: outcomes of items, and counts."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from sqlalchemy.dialects.sqlite import insert
from sqlalchemy.orm import Session

from fontanel.engine.sync.fetching import MOMENT
from fontanel.records.tables import Document, Outcome, Sync, SyncItem, SyncState
from fontanel.records.unit_of_work import Records
from fontanel.sources import Skipped

#: Skipped items of a run that are written down one by one; all are counted.
_MAX_SKIPPED = 1000
#: Outcomes that are not repeated when a run resumes.
COUNTED = (Outcome.ADDED, Outcome.CHANGED, Outcome.MOVED, Outcome.REMOVED)


class RunEnded(Exception):
    """A person ended the run, or the source is gone."""


class RunInterrupted(Exception):
    """The service is stopping; the run resumes at the next start."""


class RunRecord:
    """The counts of a run and the rows of its outcomes.

    `same` counts items with unchanged marks, `unchanged` those found unchanged after a closer
    check; `seen` are the listed ids. The callback is called when written counts changed. With
    `all_items`, unchanged items get rows too.
    """

    def __init__(
        self, records: Records, sync: Sync, stopping: Callable[[], bool], *, all_items: bool
    ) -> None:
        self.same = 0
        self.unchanged = 0
        self.failed = 0
        self.expected = 0
        self.stage = "listing"
        self.seen: set[str] = set()
        self._all_items = all_items
        self._records = records
        self._sync = sync
        self._stopping = stopping
        self._reasons: Counter[str] = Counter()
        self._skipped: list[Skipped] = []
        self._noted = 0.0

    def skip(self, item: Skipped) -> None:
        """Count what a run skips; `write_skipped` writes it."""
        self._reasons[item.reason] += 1
        if len(self._skipped) < _MAX_SKIPPED or self._all_items:
            self._skipped.append(item)

    def found_same(self, item_id: str) -> None:
        """Remember an item that had not changed, where those are written down."""
        if self._all_items:
            self._skipped.append(Skipped(item_id, ""))

    def write(self, session: Session, rows: Sequence[Mapping[str, Any]]) -> None:
        """Write outcomes and count them, within the caller's transaction.

        Raises:
            RunEnded: a person cancelled the run.
        """
        sync = self._running(session)
        for row in rows:
            if row["outcome"] in COUNTED:
                setattr(sync, row["outcome"].value, getattr(sync, row["outcome"].value) + 1)
            sync.bytes += row["bytes"]
        self.show(sync)
        kept = [row for row in rows if row["outcome"] != Outcome.UNCHANGED or self._all_items]
        shared = {"sync_id": sync.id, "team_id": sync.team_id}
        for start in range(0, len(kept), 500):
            statement = insert(SyncItem).values(
                [{**row, **shared} for row in kept[start : start + 500]]
            )
            changed = {
                name: statement.excluded[name]
                for name in ("outcome", "reason", "document_key", "revision_id", "bytes")
            }
            session.execute(
                statement.on_conflict_do_update(index_elements=["sync_id", "item_id"], set_=changed)
            )

    def write_skipped(self) -> None:
        if not self._skipped:
            return
        with self._records.writing() as session:
            rows = {
                item.id: outcome_row(
                    item.id,
                    Outcome.SKIPPED if item.reason else Outcome.UNCHANGED,
                    item.reason or None,
                )
                for item in self._skipped
            }
            self.write(session, list(rows.values()))

    def note(self) -> None:
        """Show how far the run is, now and then. Raises RunInterrupted and RunEnded."""
        if self._stopping():
            raise RunInterrupted
        moment = time.monotonic()
        if not self._noted:
            self._noted = moment  # no need to report what ends at once
        if moment - self._noted < MOMENT:
            return
        self._noted = moment
        with self._records.writing() as session:
            self.show(self._running(session))

    def show(self, sync: Sync) -> None:
        """Put the figures into the run's row."""
        sync.stage, sync.seen, sync.expected = self.stage, len(self.seen), self.expected
        sync.unchanged, sync.failed, sync.skipped = (
            self.same + self.unchanged,
            self.failed,
            self._reasons.total(),
        )
        sync.skip_reasons = dict(self._reasons.most_common(50))

    def _running(self, session: Session) -> Sync:
        sync = session.get(Sync, self._sync.id)
        if sync is None or sync.state != SyncState.RUNNING:
            raise RunEnded
        return sync


def outcome_row(
    item_id: str,
    outcome: Outcome,
    reason: str | None = None,
    document: Document | None = None,
    revision_id: str | None = None,
    size: int = 0,
) -> dict[str, Any]:
    """Return the row of a run's outcome for an item; `size` is in bytes."""
    return {
        "item_id": item_id,
        "outcome": outcome,
        "reason": reason,
        "document_key": document.key if document else None,
        "revision_id": revision_id,
        "bytes": size,
    }
