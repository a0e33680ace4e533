"""Approved answers: made, changed, approved and retired, with every version kept."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from fontanel.core.passages.splitting import Locator, PassagePart, locator_at
from fontanel.engine.documents.readings import reading_text
from fontanel.errors import NotFound, Refused
from fontanel.records.blobs import BlobStore
from fontanel.records.ids import new_id
from fontanel.records.scope import TeamScope
from fontanel.records.tables import (
    ApprovedAnswer,
    ApprovedFlag,
    ApprovedState,
    ApprovedVersion,
    FlagState,
    Kb,
    PassageRow,
    Revision,
    now,
)

#: What a version consists of.
FIELDS = (
    "question",
    "phrasings",
    "text",
    "places",
    "category",
    "valid_from",
    "valid_until",
    "owner",
    "state",
)
#: The maximum number of approved answers of a knowledge base.
MAX_APPROVED = 20_000


@dataclass(frozen=True, slots=True)
class Place:
    """Where an answer rests: characters [start, end) of a revision, or a whole document."""

    document_id: str
    revision_id: str
    title: str
    start: int = 0
    end: int = 0
    quote: str = ""
    locator: Locator = field(default_factory=lambda: Locator(()))

    @property
    def whole(self) -> bool:
        return self.end == 0

    @classmethod
    def load(cls, data: Mapping[str, Any]) -> Place:
        """Read a place from its JSON."""
        return cls(**{**data, "locator": Locator.from_dict(data["locator"])})

    def dump(self) -> dict[str, Any]:
        """Return the place as JSON values."""
        return {
            "document_id": self.document_id,
            "revision_id": self.revision_id,
            "title": self.title,
            "start": self.start,
            "end": self.end,
            "quote": self.quote,
            "locator": self.locator.to_dict(),
        }


def find_approved(scope: TeamScope, kb: Kb, ref: str) -> ApprovedAnswer:
    """Return an approved answer of a knowledge base by its id.

    Raises:
        NotFound: there is none.
    """
    query = scope.select(ApprovedAnswer).where(
        ApprovedAnswer.kb_id == kb.id, ApprovedAnswer.id == ref
    )
    result = scope.session.scalar(query)
    if result is None:
        raise NotFound("approved answer", ref)
    return result


def place_at(
    scope: TeamScope,
    blobs: BlobStore,
    kb: Kb,
    document: str,
    revision: str | None,
    span: tuple[int, int] | None,
) -> Place:
    """Return a place in a document of a knowledge base, with its text and location.

    Args:
        revision: Default: the one that is indexed.
        span: The first character and the one after the last; None for the whole document.

    Raises:
        NotFound: there is no such document or revision.
        Refused: the range is not within the revision's text.
    """
    row = scope.document(kb, document)
    requested = revision or row.revision_id or row.latest_revision_id
    query = scope.select(Revision).where(Revision.document_key == row.key, Revision.id == requested)
    if scope.session.scalar(query) is None:
        raise NotFound("revision", revision or "latest")
    assert requested is not None
    if span is None:
        return Place(row.id, requested, row.title)
    start, end = span
    text = reading_text(scope.session, blobs, scope.team_id, requested) or ""
    if not 0 <= start < end <= len(text):
        raise Refused(
            "places", f"{row.title} has {len(text)} characters; {start} to {end} is not within."
        )
    locator = locator_in(scope, requested, start)
    return Place(row.id, requested, row.title, start, end, text[start:end], locator)


def locator_in(scope: TeamScope, revision_id: str, position: int) -> Locator:
    """Return the location of a character, by the passage that contains it."""
    query = scope.select(PassageRow).where(
        PassageRow.revision_id == revision_id, PassageRow.start <= position
    )
    row = scope.session.scalar(query.order_by(PassageRow.start.desc()).limit(1))
    if row is None:
        return Locator(())
    parts = [PassagePart(**part) for part in row.parts]
    return locator_at(Locator.from_dict(row.locator), parts, row.text, row.start, position)


def create(
    session: Session,
    kb: Kb,
    values: Mapping[str, Any],
    author: str,
    turn_id: str | None = None,
) -> ApprovedAnswer:
    """Store a new approved answer and its first version.

    Args:
        values: The fields of `FIELDS`; those left out get their defaults.
        author: The name of who makes it.
    """
    row = ApprovedAnswer(
        id=new_id("appr"),
        team_id=kb.team_id,
        kb_id=kb.id,
        phrasings=[],
        places=[],
        category="",
        owner=author,
        state=ApprovedState.DRAFT,
        version=0,
        turn_id=turn_id,
    )
    for name, value in values.items():
        setattr(row, name, value)
    session.add(row)
    return change(session, row, {}, author)


def change(
    session: Session, row: ApprovedAnswer, values: Mapping[str, Any], author: str
) -> ApprovedAnswer:
    """Change an approved answer and keep the result as a version.

    A change of what an approved answer says approves it again, by its author. It settles its
    flags: without other places, the text as it is now is its source.
    """
    if {"text", "places"} & set(values) or values.get("state") == ApprovedState.RETIRED:
        for flag in open_flags(session, row):
            _settle(session, row, flag, author, FlagState.SETTLED)
    for name, value in values.items():
        setattr(row, name, value)
    if row.state == ApprovedState.APPROVED:
        row.approved_by, row.approved_at = author, now()
    row.version += 1
    row.changed_at = now()
    session.flush()
    session.add(
        ApprovedVersion(
            team_id=row.team_id,
            approved_id=row.id,
            number=row.version,
            content=content_of(row),
            author=author,
        )
    )
    session.flush()
    return row


def open_flags(session: Session, row: ApprovedAnswer) -> Sequence[ApprovedFlag]:
    """Return the flags of an approved answer that nobody has settled."""
    query = select(ApprovedFlag).where(
        ApprovedFlag.approved_id == row.id, ApprovedFlag.state == FlagState.OPEN
    )
    return session.scalars(query.order_by(ApprovedFlag.place)).all()


def confirm(session: Session, row: ApprovedAnswer, flag: ApprovedFlag, author: str) -> None:
    """Record that an approved answer is right as the text is now, as a version."""
    _settle(session, row, flag, author, FlagState.CONFIRMED)
    change(session, row, {}, author)


def _settle(
    session: Session, row: ApprovedAnswer, flag: ApprovedFlag, author: str, state: FlagState
) -> None:
    """Close a flag; the place moves to the new text, unless that is gone."""
    flag.state, flag.settled_by, flag.changed_at = state, author, now()
    if flag.place >= len(row.places) or flag.revision_id is None or not flag.new_text:
        return
    place = replace(Place.load(row.places[flag.place]), quote=flag.new_text)
    move_place(session, row, flag.place, place, flag.revision_id, (flag.start, flag.end))


def move_place(
    session: Session,
    row: ApprovedAnswer,
    number: int,
    place: Place,
    revision_id: str,
    span: tuple[int, int],
) -> None:
    """Move a place of an approved answer to another revision, without a new version.

    Args:
        number: Its index among the places of the answer, from 0.
        span: Its characters there, unless it is a whole document.
    """
    moved = replace(place, revision_id=revision_id)
    if not place.whole:
        locator = locator_in(TeamScope(session, row.team_id), revision_id, span[0])
        moved = replace(moved, start=span[0], end=span[1], locator=locator)
    places = list(row.places)
    places[number] = moved.dump()
    row.places = places


def content_of(row: ApprovedAnswer) -> dict[str, Any]:
    """Return what a version of an approved answer consists of, as JSON values."""
    content = {name: getattr(row, name) for name in FIELDS}
    content["state"] = row.state.value
    for name in ("valid_from", "valid_until"):
        day: date | None = content[name]
        content[name] = day.isoformat() if day else None
    return content


def versions_of(scope: TeamScope, row: ApprovedAnswer) -> Sequence[ApprovedVersion]:
    """Return the versions of an approved answer, newest first."""
    query = scope.select(ApprovedVersion).where(ApprovedVersion.approved_id == row.id)
    return scope.session.scalars(query.order_by(ApprovedVersion.number.desc())).all()


def curation_counts(session: Session, kb_id: str) -> tuple[int, int]:
    """Return how many approved answers a knowledge base has, and on how many are open flags."""
    approved = select(func.count()).where(
        ApprovedAnswer.kb_id == kb_id, ApprovedAnswer.state == ApprovedState.APPROVED
    )
    return session.scalar(approved) or 0, flagged_count(session, [kb_id])


def flagged_count(session: Session, kb_ids: Sequence[str]) -> int:
    """Return how many approved answers of some knowledge bases have open flags."""
    flagged = select(func.count(ApprovedFlag.approved_id.distinct())).where(
        ApprovedFlag.kb_id.in_(kb_ids), ApprovedFlag.state == FlagState.OPEN
    )
    return session.scalar(flagged) or 0
