"""A run of a source.

List, compare, fetch what differs, commit, remove what is gone.

Documents, items, outcomes and counts are committed together, in batches. An interrupted run resumes
by listing again: what it stored before has its mark already.
"""

from __future__ import annotations

import time
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from functools import cached_property
from typing import Any

from sqlalchemy import case, delete, select, update
from sqlalchemy.orm import Session

from fontanel.engine.documents.documents import (
    add_document,
    remove_document,
    revise_document,
)
from fontanel.engine.documents.naming import add_tags, document_name
from fontanel.engine.runtime.fault_points import fault
from fontanel.engine.sync.fetching import BATCH, Fetching, Taken
from fontanel.engine.sync.run_record import COUNTED, RunEnded, RunRecord, outcome_row
from fontanel.engine.sync.source_documents import (
    KnownItem,
    SourceDocuments,
    document_of,
    upsert_item,
)
from fontanel.errors import QuotaReached, Refused
from fontanel.records.blobs import BlobStore
from fontanel.records.tables import (
    Kb,
    Outcome,
    Revision,
    Source,
    SourceItem,
    Sync,
    SyncItem,
    now,
)
from fontanel.records.unit_of_work import Records
from fontanel.sources import ItemFailed, Listed, PreviousItem, Skipped, SourceLimits
from fontanel.sources import Source as OpenSource


class RunHeld(Exception):
    """The guard stopped the run; the message says why."""


class SyncRun:
    """One run. What was committed stays when it stops short."""

    def __init__(
        self,
        *,
        records: Records,
        blobs: BlobStore,
        sync: Sync,
        source: Source,
        opened: OpenSource,
        limits: SourceLimits,
        reports_unchanged: bool = False,
    ) -> None:
        self._records = records
        self._blobs = blobs
        self._sync = sync
        self._source = source
        self._opened = opened
        self._max_bytes = limits.max_bytes
        self._record = RunRecord(records, sync, limits.stopping, all_items=reports_unchanged)
        self._documents = SourceDocuments(source)
        self._protected: list[str] = []
        self._seen = self._record.seen
        self._seconds = 0.0

    def run(self) -> None:
        """Do the run.

        Raises:
            RunHeld: the guard stopped it.
            QuotaReached: the team has no room for what the source has.
            RunEnded: a person ended it, or the source is gone.
            RunInterrupted: the service stops.
        """
        began = time.monotonic()
        self._load()
        missing, deferred = self._list_and_take()
        self._record.stage = "removing"
        moved, left = self._match_moves(missing, deferred)
        left = {item: known for item, known in left.items() if item not in self._documents.found}
        self._guard(left)
        self._move(moved)
        self._remove(left)
        self._seconds = round(time.monotonic() - began, 3)

    def record_end(self, sync: Sync) -> None:
        """Write the last counts into the run's row, within the transaction that ends it."""
        self._record.show(sync)
        if self._seconds:
            sync.seconds = {**sync.seconds, "taking": self._seconds}

    # What is previous

    def _load(self) -> None:
        item = SourceItem.__table__.c
        # An empty mark never matches: items that failed or were deleted here are checked again.
        sound = case((item.document_key.is_(None) | item.error.is_not(None), ""), else_=item.mark)
        with self._records.reading() as session:
            rows = session.connection().execute(
                select(item.item_id, sound).where(item.source_id == self._source.id)
            )
            # Plain tuples from SQLite: wrapping tens of thousands of rows costs too much.
            assert rows.cursor is not None
            self._marks: dict[str, str] = dict(rows.cursor.fetchall())
            done = select(SyncItem.item_id, SyncItem.outcome).where(
                SyncItem.sync_id == self._sync.id
            )
            outcomes = dict(session.execute(done).all())
        self._done = {item for item, outcome in outcomes.items() if outcome in COUNTED}
        #: What a person saw and confirmed.
        seen = {item for item, outcome in outcomes.items() if outcome == Outcome.MISSING}
        self._approved = seen if self._sync.confirmed else set()
        if outcomes:
            with self._records.writing() as session:
                stale = delete(SyncItem).where(
                    SyncItem.sync_id == self._sync.id, SyncItem.outcome.not_in(COUNTED)
                )
                session.execute(stale.where(SyncItem.item_id.not_in(self._approved)))
        self._record.expected = len(self._marks)

    @cached_property
    def _items(self) -> dict[str, KnownItem]:
        """Return all known items; not loaded by a run that finds nothing changed."""
        columns = (
            SourceItem.item_id,
            SourceItem.key,
            SourceItem.mark,
            SourceItem.same_as,
            SourceItem.document_key,
            SourceItem.error,
        )
        with self._records.reading() as session:
            rows = session.execute(select(*columns).where(SourceItem.source_id == self._source.id))
            return {row[0]: KnownItem(*row) for row in rows}

    @cached_property
    def _same_as(self) -> set[str]:
        return {existing.same_as for existing in self._items.values() if existing.same_as}

    def _known_item(self, item_id: str) -> PreviousItem | None:
        if item_id not in self._marks:
            return None
        existing = self._items[item_id]
        with self._records.reading() as session:
            notes = session.scalar(select(SourceItem.notes).where(SourceItem.key == existing.key))
        return PreviousItem("" if existing.failed else existing.mark, notes)

    # Listing and fetching

    def _list_and_take(self) -> tuple[dict[str, KnownItem], list[Listed]]:
        """List the source and fetch changes.

        Return missing ids, and new ones that may be moves.
        """
        deferred: list[Listed] = []
        with ThreadPoolExecutor(self._opened.at_once, thread_name_prefix="fetch") as pool:
            fetching = Fetching(pool, self._fetch, self._opened.at_once * 2)
            try:
                marks, seen, found_same = self._marks, self._seen, self._record.found_same
                same = 0
                for number, item in enumerate(self._opened.items(self._known_item)):
                    if number % 128 == 0:
                        self._record.same = same
                        self._record.note()
                    item_id, mark = item[0], item[1]
                    # Nearly all items of nearly all runs end here, so nothing else may be done for
                    # each.
                    if (
                        marks.get(item_id) == mark
                        and mark
                        and type(item) is Listed
                        and item_id not in seen
                    ):
                        seen.add(item_id)
                        same += 1
                        found_same(item_id)
                        continue
                    if self._wants(item):
                        assert isinstance(item, Listed)
                        if item.id not in marks and item.same_as in self._same_as:
                            deferred.append(item)
                        else:
                            self._commit(fetching.add(item))
                self._record.same = same - len(self._done & seen & marks.keys())
                self._record.stage = "fetching"
                missing: dict[str, KnownItem] = {}
                if same < len(marks) and not self._opened.keeps_unlisted:
                    protected = tuple(self._protected)
                    left = [
                        key for key in marks if key not in seen and not key.startswith(protected)
                    ]
                    missing = {key: self._items[key] for key in left}
                removed = {existing.same_as for existing in missing.values()}
                for item in deferred:
                    if item.same_as not in removed:
                        self._commit(fetching.add(item))
                self._commit(fetching.rest())
            except BaseException:
                fetching.give_up()
                raise
        self._record.write_skipped()
        return missing, [item for item in deferred if item.same_as in removed]

    def _wants(self, item: Listed | Skipped) -> bool:
        """Return whether to fetch an item; count it otherwise."""
        if isinstance(item, Skipped):
            self._skip(item)
            return False
        if item.id in self._seen:
            return False
        self._seen.add(item.id)
        existing = self._items.get(item.id) if item.id in self._marks else None
        if existing is not None and existing.document_key is None and not existing.failed:
            self._skip(Skipped(item.id, "deleted here by a person"))
            return False
        return True

    def _skip(self, item: Skipped) -> None:
        self._record.skip(item)
        if item.keep:
            if item.id.endswith("/"):
                self._protected.append(item.id)
            else:
                self._seen.add(item.id)

    def _fetch(self, item: Listed) -> Taken:
        try:
            fetched = item.fetched or self._opened.fetch(item)
            if fetched.chunks is None:
                return Taken(item, fetched)
            sha256, size = self._blobs.put(self._bounded(fetched.chunks))
        except ItemFailed as error:
            return Taken(item, error=str(error))
        except OSError as error:
            return Taken(item, error=f"It cannot be read: {error.strerror or error}.")
        fault("blob_stored")
        return Taken(item, fetched, sha256, size)

    def _bounded(self, chunks: Iterable[bytes]) -> Iterator[bytes]:
        size = 0
        for chunk in chunks:
            size += len(chunk)
            if size > self._max_bytes:
                raise ItemFailed(f"It is larger than {self._max_bytes // 1_000_000} MB.")
            yield chunk

    # Committing

    def _commit(self, taken: Iterable[list[Taken]]) -> None:
        for batch in taken:
            if not batch:
                continue
            with self._records.writing() as session:
                kb = session.get(Kb, self._source.kb_id)
                if kb is None:
                    raise RunEnded
                rows: list[dict[str, Any]] = []
                reached: QuotaReached | None = None
                for one in batch:
                    with session.begin_nested():
                        try:
                            rows.append(self._take(session, kb, one))
                        except Refused as refused:
                            rows.append(self._failed(session, one.item, str(refused)))
                        except QuotaReached as error:
                            # What was unchanged or fits is stored; the rest waits for room.
                            reached = error
                self._record.write(session, rows)
            fault("items_committed")
            if reached is not None:
                raise reached
            self._check_failures()

    def _take(self, session: Session, kb: Kb, taken: Taken) -> dict[str, Any]:
        """Store an item's new content, within the caller's transaction.

        Return the outcome.
        """
        item, fetched = taken.item, taken.fetched
        if taken.error is not None:
            return self._failed(session, item, taken.error)
        assert fetched is not None
        existing = self._items.get(item.id)
        document = document_of(session, existing)
        if existing is not None and existing.document_key is not None and document is None:
            return outcome_row(
                item.id, Outcome.SKIPPED, "deleted here by a person"
            )  # while it was being fetched
        if taken.sha256 is None:
            self._documents.keep(session, item, fetched, document)
            self._record.unchanged += 1
            return outcome_row(item.id, Outcome.UNCHANGED)
        name = document_name(f"{self._source.folder}/{fetched.name or item.name}")
        if document is None:
            document = self._documents.adopted(session, name)
        before = document.latest_revision_id if document else None
        if document is None:
            name = self._documents.free_name(session, name)
            added = add_document(session, kb, name, taken.sha256, taken.size, None)
            document = added.document
        else:
            self._documents.rename(session, document, fetched.name or item.name)
            added = revise_document(session, document, taken.sha256, taken.size)
        document.source_id = self._source.id
        document.link = fetched.link or item.link
        add_tags(session, document, {**self._documents.tags(item.name), **fetched.tags})
        self._documents.keep(session, item, fetched, document)
        if added.job is None:
            self._record.unchanged += 1
            return outcome_row(item.id, Outcome.UNCHANGED, document=document)
        revision = session.get_one(Revision, document.latest_revision_id)
        changed_at = fetched.changed_at or item.changed_at
        if self._source.last_listed_at is not None:
            # It changed after the last check, whatever its own time says: old files can be moved
            # in.
            text = datetime.fromtimestamp(changed_at, UTC) if changed_at else now()
            revision.source_changed_at = max(min(text, now()), self._source.last_listed_at)
        outcome = Outcome.CHANGED if before else Outcome.ADDED
        return outcome_row(item.id, outcome, None, document, revision.id, taken.size)

    def _failed(self, session: Session, item: Listed, error: str) -> dict[str, Any]:
        self._record.failed += 1
        upsert_item(session, self._source, item.id, {"mark": "", "error": error})
        existing = self._items.get(item.id)
        document = document_of(session, existing)
        return outcome_row(item.id, Outcome.FAILED, error, document)

    # Moves and removals

    def _match_moves(
        self, missing: dict[str, KnownItem], deferred: Sequence[Listed]
    ) -> tuple[list[tuple[str, Listed]], dict[str, KnownItem]]:
        """Match missing ids with the items that they became.

        Return the pairs and the rest.
        """
        left = dict(missing)
        by_same: dict[str, list[str]] = {}
        for item_id, existing in missing.items():
            if existing.same_as:
                by_same.setdefault(existing.same_as, []).append(item_id)
        moved = []
        for item in deferred:
            if removed := by_same.get(item.same_as):
                old = removed.pop(0)
                moved.append((old, item))
                del left[old]
            else:
                # Two appeared where one left: the second is new.
                self._commit([[self._fetch(item)]])
        return moved, left

    def _move(self, moved: Sequence[tuple[str, Listed]]) -> None:
        for start in range(0, len(moved), BATCH):
            with self._records.writing() as session:
                rows = []
                for old, item in moved[start : start + BATCH]:
                    existing = self._items[old]
                    document = document_of(session, existing)
                    if document is not None:
                        self._documents.rename(session, document, item.name)
                        document.link = item.link
                    values = {"item_id": item.id, "mark": item.mark}
                    session.execute(
                        update(SourceItem).where(SourceItem.key == existing.key).values(**values)
                    )
                    rows.append(outcome_row(item.id, Outcome.MOVED, f"from {old}", document))
                self._record.write(session, rows)
            fault("items_committed")

    def _remove(self, missing: dict[str, KnownItem]) -> None:
        removed = list(missing.items())
        for start in range(0, len(removed), BATCH):
            with self._records.writing() as session:
                kb = session.get(Kb, self._source.kb_id)
                if kb is None:
                    raise RunEnded
                rows = []
                for item_id, existing in removed[start : start + BATCH]:
                    document = document_of(session, existing)
                    if document is not None:
                        remove_document(session, kb, document)
                        rows.append(outcome_row(item_id, Outcome.REMOVED, None, document))
                    session.execute(delete(SourceItem).where(SourceItem.key == existing.key))
                self._record.write(session, rows)
            fault("items_committed")

    # The guard

    def _guard(self, missing: dict[str, KnownItem]) -> None:
        """Stop a run that would remove, or failed to fetch, more than the source's share.

        Raises:
            RunHeld: the share is exceeded.
        """
        documents = {
            item_id: existing
            for item_id, existing in missing.items()
            if existing.document_key is not None
        }
        unseen = {
            item_id: existing
            for item_id, existing in documents.items()
            if item_id not in self._approved
        }
        if not unseen:
            return
        if not self._seen:
            self._hold(
                documents,
                f"The source lists nothing any more; {len(documents)} documents would be removed.",
            )
        if self._too_many(len(unseen) + self._record.failed):
            self._hold(
                documents,
                f"{len(documents)} of {self._record.expected} documents would be removed.",
            )

    def _check_failures(self) -> None:
        base = max(self._record.expected, len(self._seen))
        if not self._sync.confirmed and self._too_many(self._record.failed, base):
            raise RunHeld(f"{self._record.failed} of {base} items could not be fetched.")

    def _too_many(self, count: int, base: int | None = None) -> bool:
        share = self._source.guard_share * (self._record.expected if base is None else base)
        return count >= self._source.guard_min and count > share

    def _hold(self, documents: dict[str, KnownItem], reason: str) -> None:
        with self._records.writing() as session:
            rows = []
            for item_id, existing in documents.items():
                row = outcome_row(item_id, Outcome.MISSING)
                row["document_key"] = existing.document_key
                rows.append(row)
            self._record.write(session, rows)
        raise RunHeld(reason)
