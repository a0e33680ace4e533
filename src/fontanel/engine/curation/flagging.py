"""Flag approved answers and past answers when their source text changes.

A background step compares each place of a knowledge base's approved answers with the revision that
is indexed now. Unchanged text is followed to where it is; what changed gets a flag.
"""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache

from sqlalchemy import func, or_, select, true
from sqlalchemy.orm import Session

from fontanel.core.curation.following import Followed, TextChange, follow_quote
from fontanel.engine.curation.approved import Place, move_place
from fontanel.engine.curation.past_answers import compare_sources, record_change
from fontanel.engine.documents.readings import reading_text
from fontanel.engine.notices.notify import notify_team
from fontanel.records.blobs import BlobStore
from fontanel.records.ids import new_id
from fontanel.records.tables import (
    AnswerSource,
    ApprovedAnswer,
    ApprovedFlag,
    ApprovedState,
    Document,
    DocumentState,
    FlagState,
    Kb,
    now,
)
from fontanel.records.unit_of_work import Committed, Records

#: Documents that are looked up together.
_CHUNK = 500
#: Seconds between two checks of a knowledge base.
_PAUSE = 0.5
#: Texts of revisions that are kept while a knowledge base is checked.
_MAX_TEXTS = 8


@dataclass(frozen=True, slots=True)
class _Result:
    """What became of a place; `revision_id` is None when its document is gone."""

    approved_id: str
    number: int
    place: Place
    revision_id: str | None
    followed: Followed
    new_text: str = ""


class Flagging:
    """Checks the approved answers of knowledge bases in which something changed."""

    def __init__(self, records: Records, blobs: BlobStore) -> None:
        self._records = records
        self._blobs = blobs
        self._lock = threading.Lock()
        self._pending: set[str] = set()
        #: When a knowledge base may be checked again: many changes in a row are checked at once.
        self._next: dict[str, float] = {}
        self._begun = False

    def note(self, committed: Committed) -> None:
        """Remember the knowledge bases that a unit of work changed."""
        with self._lock:
            self._pending |= committed.kbs

    def flag_next(self) -> bool:
        """Check one knowledge base; return whether there was one to check."""
        if not self._begun:
            self._begin()
        with self._lock:
            due = (kb for kb in self._pending if time.monotonic() >= self._next.get(kb, 0.0))
            kb_id = next(due, None)
            if kb_id is None:
                return False
            self._pending.discard(kb_id)
            self._next[kb_id] = time.monotonic() + _PAUSE
        try:
            self._check(kb_id)
        except Exception:
            with self._lock:
                self._pending.add(kb_id)  # it is checked again
            raise
        return True

    def _begin(self) -> None:
        """At start all knowledge bases with approved or past answers are checked."""
        with self._records.reading() as session:
            existing = set(session.scalars(select(ApprovedAnswer.kb_id).distinct()))
            existing |= set(session.scalars(select(AnswerSource.kb_id).distinct()))
        with self._lock:
            self._pending |= existing
        self._begun = True

    def _check(self, kb_id: str) -> None:
        with self._records.reading() as session:
            kb = session.get(Kb, kb_id)
            results = [] if kb is None else list(self._compare(session, kb))
            cited = [] if kb is None else list(compare_sources(session, self._blobs, kb))
        if not results and not cited:
            return
        with self._records.writing() as session:
            kb = session.get(Kb, kb_id)
            for change in cited:
                record_change(session, change)
            flagged = 0 if kb is None else sum(_record(session, kb, one) for one in results)
            if kb is not None and flagged:
                answers = "1 approved answer" if flagged == 1 else f"{flagged} approved answers"
                message = f"The source text of {answers} in {kb.name} has changed."
                data = {"kb": kb.id, "flagged": flagged}
                notify_team(session, kb.team_id, "approved.flagged", message, data)

    def _compare(self, session: Session, kb: Kb) -> Iterator[_Result]:
        """Yield what became of the places whose documents have another revision."""
        places = list(_moved(session, kb))
        documents = _documents(session, {place.document_id for _, _, place in places})
        seen = _seen(session, kb)

        @lru_cache(_MAX_TEXTS)
        def text_of(revision_id: str) -> str | None:
            return reading_text(session, self._blobs, kb.team_id, revision_id)

        for approved_id, number, place in places:
            document = documents.get(place.document_id)
            gone = document is None or document.state == DocumentState.REMOVED
            revision = None if document is None or gone else document.revision_id
            if (not gone and revision is None) or revision == place.revision_id:
                continue  # it has no text yet, or the same
            if (approved_id, number, revision) in seen:
                continue
            if revision is None:
                yield _Result(approved_id, number, place, None, Followed(TextChange.REMOVED))
            elif place.whole:
                yield _Result(approved_id, number, place, revision, Followed(TextChange.SAME))
            elif (new := text_of(revision)) is not None:
                old = text_of(place.revision_id)
                followed, text = follow_quote(old, place.start, place.end, place.quote, new)
                yield _Result(approved_id, number, place, revision, followed, text)


def _moved(session: Session, kb: Kb) -> Iterator[tuple[str, int, Place]]:
    """Yield each place whose document has another revision or is gone, and its answer's id."""
    place = func.json_each(ApprovedAnswer.places).table_valued("key", "value", name="place")
    document_id = func.json_extract(place.c.value, "$.document_id")
    revision_id = func.json_extract(place.c.value, "$.revision_id")
    query = (
        select(ApprovedAnswer.id, ApprovedAnswer.places, place.c.key)
        .join(place, true())
        .outerjoin(Document, Document.id == document_id)
        .where(
            ApprovedAnswer.kb_id == kb.id,
            ApprovedAnswer.state != ApprovedState.RETIRED,
            or_(
                Document.id.is_(None),
                Document.state == DocumentState.REMOVED,
                Document.revision_id != revision_id,
            ),
        )
    )
    for approved_id, places, number in session.execute(query):
        yield approved_id, int(number), Place.load(places[int(number)])


def _documents(session: Session, ids: set[str]) -> dict[str, Document]:
    results: dict[str, Document] = {}
    ordered = sorted(ids)
    for start in range(0, len(ordered), _CHUNK):
        chunk = select(Document).where(Document.id.in_(ordered[start : start + _CHUNK]))
        results |= {document.id: document for document in session.scalars(chunk)}
    return results


def _seen(session: Session, kb: Kb) -> set[tuple[str, int, str | None]]:
    """Return the places that were compared with a revision already."""
    query = select(ApprovedFlag).where(ApprovedFlag.kb_id == kb.id)
    return {(flag.approved_id, flag.place, flag.revision_id) for flag in session.scalars(query)}


def _record(session: Session, kb: Kb, result: _Result) -> bool:
    """Follow a place or flag it; return whether there is a new flag."""
    row = session.get(ApprovedAnswer, result.approved_id)
    if row is None or len(row.places) <= result.number:
        return False
    if Place.load(row.places[result.number]) != result.place:
        return False  # it was changed in the meantime
    flag = session.scalar(
        select(ApprovedFlag).where(
            ApprovedFlag.approved_id == row.id, ApprovedFlag.place == result.number
        )
    )
    if result.followed.change == TextChange.SAME:
        assert result.revision_id is not None
        followed = result.followed
        span = (followed.start, followed.end)
        move_place(session, row, result.number, result.place, result.revision_id, span)
        row.followed_at = now()
        if flag is not None:
            session.delete(flag)
        return False
    if flag is None:
        flag = ApprovedFlag(
            id=new_id("flag"),
            team_id=row.team_id,
            kb_id=row.kb_id,
            approved_id=row.id,
            place=result.number,
        )
        session.add(flag)
    flag.document_id, flag.title = result.place.document_id, result.place.title
    flag.change, flag.old_text = result.followed.change.value, result.place.quote
    flag.new_text, flag.revision_id = result.new_text, result.revision_id
    flag.start, flag.end = result.followed.start, result.followed.end
    flag.state, flag.settled_by, flag.changed_at = FlagState.OPEN, "", now()
    return True
