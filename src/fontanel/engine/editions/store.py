"""Editions on disk and in memory: segments written, opened, merged and swept."""

from __future__ import annotations

import shutil
import threading
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
import numpy.typing as npt
import structlog
from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from fontanel.core.index import Snapshot, VectorSegment, WordsSegment, write_vectors, write_words
from fontanel.core.index.files import SegmentDamaged, verify
from fontanel.engine.runtime.fault_points import fault
from fontanel.engine.workers.merger import MergePlan, merge_elsewhere, merge_here
from fontanel.records.ids import new_id
from fontanel.records.tables import Edition, Segment, Tombstone
from fontanel.records.unit_of_work import Committed, Records, mark_edition_changed

log = structlog.get_logger()

S = TypeVar("S", WordsSegment, VectorSegment)

#: The number of passages from which on another process merges, so that searches need not wait for
#: the interpreter.
_LARGE = 10_000
#: The number of passages from which on mapped pages are released, and after how many searches.
_LARGE_WORDS = 250_000
_WORDS_KEPT, _VECTORS_KEPT = 4, 16
#: This many segments of like size are merged into one.
_MERGE_AT = 8


@dataclass(slots=True)
class _Open:
    """An edition's open segment files by id, and the snapshot over them."""

    words: dict[str, WordsSegment]
    vectors: dict[str, VectorSegment]
    windows: dict[str, VectorSegment]
    snapshot: Snapshot
    large: bool
    asked: int = 0

    def let_go(self) -> None:
        """Release mapped pages of a large edition every few searches.

        Each search reads other postings and vectors, and together they would cover all of it. The
        system's cache keeps them.
        """
        self.asked += 1
        if self.asked % _WORDS_KEPT == 0:
            for words in self.words.values():
                words.let_go()
        if self.asked % _VECTORS_KEPT == 0:
            for vectors in (*self.vectors.values(), *self.windows.values()):
                vectors.let_go()


class Editions:
    """The editions of a data directory: one writer at a time each.

    Readers use snapshots.
    """

    def __init__(self, directory: Path, records: Records) -> None:
        self._directory = directory
        self._records = records
        self._open: dict[str, _Open] = {}
        self._lock = threading.Lock()
        self._writers: dict[str, threading.Lock] = {}
        # One merge at a time: it removes files that another would read.
        self._merging = threading.Lock()
        #: Editions that `merge_round` is to look at.
        self._refreshed: dict[str, None] = {}
        #: Segments (edition, segment) that existed at start and have not been verified yet.
        self._unverified: list[tuple[str, str]] = []
        self._kept = 0
        #: Files and folders that are deleted once nobody keeps them any longer.
        self._unused: list[Path] = []
        directory.mkdir(parents=True, exist_ok=True)
        records.subscribe(self._follow)

    def _follow(self, committed: Committed) -> None:
        """Open what a unit of work changed, and delete what it removed."""
        for edition_id in committed.deleted_editions:
            self.forget(edition_id)
        for edition_id in committed.editions - committed.deleted_editions:
            try:
                self.refresh(edition_id)
            except SegmentDamaged as error:
                # What is open already stays in use; the next start rebuilds the edition.
                log.error("edition damaged", edition=edition_id, error=str(error))

    def writer(self, edition_id: str) -> threading.Lock:
        """Return the lock that a writer needs from reading segments to its commit."""
        with self._lock:
            return self._writers.setdefault(edition_id, threading.Lock())

    def snapshot(self, edition_id: str) -> Snapshot:
        """Return what a search sees now: all that is committed."""
        if self._records.publishes(edition_id):
            with suppress(SegmentDamaged):  # reported when subscribers are told
                return self.refresh(edition_id)
        with self._lock:
            result = self._open.get(edition_id)
            if result is not None and result.large:
                result.let_go()
        return result.snapshot if result else self.refresh(edition_id)

    def averages(self, edition_id: str) -> npt.NDArray[np.float32] | None:
        """The mean lengths that an edition's impacts rest on; None while it is empty."""
        snapshot = self.snapshot(edition_id)
        return snapshot.averages if snapshot.passages else None

    def path(self, edition_id: str, segment_id: str) -> Path:
        return self._directory / edition_id / segment_id

    def write(
        self,
        session: Session,
        edition: Edition,
        segment: WordsSegment | VectorSegment,
        *,
        windows: bool = False,
    ) -> None:
        """Write a segment's file and record it in the session's transaction.

        The caller commits, then refreshes.

        Args:
            windows: Its vectors are of sentence windows.
        """
        kind = "words" if isinstance(segment, WordsSegment) else "windows" if windows else "vectors"
        row = Segment(
            id=new_id(kind),
            team_id=edition.team_id,
            edition_id=edition.id,
            kind=kind,
            passages=len(segment),
        )
        path = self.path(edition.id, row.id)
        path.parent.mkdir(exist_ok=True)
        if isinstance(segment, WordsSegment):
            write_words(path, segment)
        else:
            write_vectors(path, segment)
        fault("segment_written")
        session.add(row)

    def refresh(self, edition_id: str) -> Snapshot:
        """Open the recorded segments, and use them for searches."""
        with self._lock:
            before = self._open.get(edition_id)
            with self._records.reading() as session:
                rows = session.scalars(
                    select(Segment).where(Segment.edition_id == edition_id)
                ).all()
                dead = session.scalars(
                    select(Tombstone.passage_id).where(Tombstone.edition_id == edition_id)
                ).all()
            words: dict[str, WordsSegment] = {}
            vectors: dict[str, VectorSegment] = {}
            windows: dict[str, VectorSegment] = {}
            for row in rows:
                path = self.path(edition_id, row.id)
                if row.kind == "words":
                    stored = before.words.get(row.id) if before else None
                    words[row.id] = stored or WordsSegment.open(path)
                else:
                    kept = {**before.vectors, **before.windows}.get(row.id) if before else None
                    (windows if row.kind == "windows" else vectors)[row.id] = (
                        kept or VectorSegment.open(path)
                    )
            removed = np.array(sorted(dead), dtype=np.int64)
            snapshot = Snapshot(
                list(words.values()), list(vectors.values()), removed, list(windows.values())
            )
            large = sum(map(len, words.values())) > _LARGE_WORDS
            self._open[edition_id] = _Open(words, vectors, windows, snapshot, large)
            self._refreshed[edition_id] = None
            return snapshot

    def forget(self, edition_id: str) -> None:
        """Drop an edition whose records are gone, with its files."""
        with self._lock:
            self._open.pop(edition_id, None)
            self._writers.pop(edition_id, None)
            self._refreshed.pop(edition_id, None)
        self._delete(self._directory / edition_id)

    def keep(self) -> None:
        """Delete no files until `release`, which must be called as often."""
        with self._lock:
            self._kept += 1

    def release(self) -> None:
        """Delete what is no longer used, and delete again at once from now on."""
        with self._lock:
            self._kept -= 1
            unused, self._unused = (self._unused, []) if not self._kept else ([], self._unused)
        for path in unused:
            self._delete(path)

    def _delete(self, path: Path) -> None:
        with self._lock:
            if self._kept:
                self._unused.append(path)
                return
        if path.is_dir():
            shutil.rmtree(path, ignore_errors=True)
        else:
            path.unlink(missing_ok=True)

    def merge_round(self) -> bool:
        """Merge segments of one refreshed edition.

        Return whether there was anything to do.
        """
        with self._lock:
            edition_id = next(iter(self._refreshed), None)
        if edition_id is None:
            return False
        crowded = True
        while crowded:
            # Removed before the check, so that a concurrent writer adds it again.
            with self._lock:
                self._refreshed.pop(edition_id, None)
            crowded = self.merge(edition_id)
        return True

    def merge(self, edition_id: str) -> bool:
        """Merge segments of similar size if there are many; return whether there were.

        Searches and writes continue: sources are only read, large ones by another process, and
        passages removed meanwhile keep their tombstones.
        """
        with self._merging:
            return self._merge(edition_id, _crowded)

    def merge_all(self, edition_id: str) -> bool:
        """As `merge`, all segments into one of each kind: for a search as fast as can be."""
        with self._merging:
            return self._merge(
                edition_id, lambda segments: list(segments.items()) if len(segments) > 1 else []
            )

    def purge(self, edition_id: str) -> None:
        """Write the segments that contain removed passages again, without them."""
        with self._merging:
            dead = self.snapshot(edition_id).dead
            self._merge(
                edition_id,
                lambda segments: [
                    (key, segment)
                    for key, segment in segments.items()
                    if np.isin(segment.passage_ids, dead).any()
                ],
            )

    def _merge(
        self, edition_id: str, choose: Callable[[dict[str, Any]], list[tuple[str, Any]]]
    ) -> bool:
        self.snapshot(edition_id)
        with self._lock:
            opened = self._open.get(edition_id)
        if opened is None:
            return False
        words, vectors, windows = (
            choose(opened.words),
            choose(opened.vectors),
            choose(opened.windows),
        )
        groups: list[tuple[str, list[str], int]] = [
            (kind, [key for key, _ in group], sum(len(segment) for _, segment in group))
            for kind, group in (("words", words), ("vectors", vectors), ("windows", windows))
            if group
        ]
        made = [
            (old, self._merged(edition_id, kind, old, size, opened.snapshot))
            for kind, old, size in groups
        ]
        if not made:
            return False
        with self.writer(edition_id), self._records.writing() as session:
            edition = session.get(Edition, edition_id)
            if edition is None:
                return False
            for old, segment in made:
                session.execute(delete(Segment).where(Segment.id.in_(old)))
                if segment.passages:
                    session.add(segment)
            mark_edition_changed(session, edition_id)
            fault("merge_written")
        self._drop_tombstones(edition_id)
        for old, _ in made:
            for key in old:
                self._delete(self.path(edition_id, key))
        log.info(
            "segments merged",
            edition=edition_id,
            words=len(words),
            vectors=len(vectors) + len(windows),
        )
        return True

    def _merged(
        self, edition_id: str, kind: str, old: Sequence[str], size: int, snapshot: Snapshot
    ) -> Segment:
        """Write the file of a merged segment; its row is for the caller's transaction."""
        with self._records.reading() as session:
            team_id = session.scalars(select(Edition.team_id).where(Edition.id == edition_id)).one()
        row = Segment(
            id=new_id(kind), team_id=team_id, edition_id=edition_id, kind=kind, passages=0
        )
        plan = MergePlan(
            kind,
            str(self.path(edition_id, row.id)),
            [str(self.path(edition_id, key)) for key in old],
            [int(passage) for passage in snapshot.dead],
            [float(mean) for mean in snapshot.averages],
        )
        row.passages = merge_elsewhere(plan) if size >= _LARGE else merge_here(plan)
        fault("segment_written")
        return row

    def _drop_tombstones(self, edition_id: str) -> None:
        """Delete tombstones of passages that no segment contains any more."""
        with self._lock:
            opened = self._open[edition_id]
        segments: list[WordsSegment | VectorSegment] = [
            *opened.words.values(),
            *opened.vectors.values(),
            *opened.windows.values(),
        ]
        stored = (
            np.concatenate([segment.passage_ids for segment in segments])
            if segments
            else np.zeros(0, dtype=np.int64)
        )
        with self._records.writing() as session:
            dead = np.array(
                session.scalars(
                    select(Tombstone.passage_id).where(Tombstone.edition_id == edition_id)
                ).all(),
                dtype=np.int64,
            )
            done = [int(passage) for passage in dead[~np.isin(dead, stored)]]
            for start in range(0, len(done), 500):
                session.execute(
                    delete(Tombstone).where(
                        Tombstone.edition_id == edition_id,
                        Tombstone.passage_id.in_(done[start : start + 500]),
                    )
                )

    def verify_round(self, on_damaged: Callable[[str], None]) -> bool:
        """Verify the checksum of one file that existed at start.

        Return whether there was one.

        A bad header or length is noticed when a file is opened; this detects bytes that changed
        since. A damaged edition is reported.
        """
        if not self._unverified:
            return False
        edition_id, segment_id = self._unverified.pop()
        path = self.path(edition_id, segment_id)
        try:
            verify(path)
        except SegmentDamaged as error:
            with self._records.reading() as session:
                named = session.scalar(select(Segment.id).where(Segment.id == segment_id))
            if named is not None:  # else it was merged away meanwhile
                log.warning(
                    "segment damaged", edition=edition_id, segment=segment_id, error=str(error)
                )
                self._unverified = [pair for pair in self._unverified if pair[0] != edition_id]
                with self.writer(edition_id):
                    on_damaged(edition_id)
        return True

    def sweep(self, on_lost: Callable[[str], None]) -> None:
        """Remove files without a record, and report editions that lack a file, at start."""
        with self._records.reading() as session:
            named: dict[str, set[str]] = {
                edition: set() for edition in session.scalars(select(Edition.id))
            }
            for row in session.scalars(select(Segment)):
                named.setdefault(row.edition_id, set()).add(row.id)
        for folder in self._directory.iterdir():
            if folder.name not in named:
                shutil.rmtree(folder, ignore_errors=True)
                continue
            for file in folder.iterdir():
                if file.name not in named[folder.name]:
                    file.unlink()
        self._unverified = [
            (edition_id, segment) for edition_id, segments in named.items() for segment in segments
        ]
        for edition_id, segments in named.items():
            if any(not self.path(edition_id, segment).exists() for segment in segments):
                on_lost(edition_id)


def _crowded(segments: dict[str, S]) -> list[tuple[str, S]]:
    """Return the smallest tier with too many segments; tiers are powers of four."""
    tiers: dict[int, list[tuple[str, S]]] = {}
    for key, segment in segments.items():
        tiers.setdefault(max(len(segment), 1).bit_length() // 2, []).append((key, segment))
    for tier in sorted(tiers):
        if len(tiers[tier]) >= _MERGE_AT:
            return tiers[tier]
    return []
