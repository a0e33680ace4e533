"""Approved answers as the API returns them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy.orm import Session

from fontanel.engine.curation.approved import Place
from fontanel.records.tables import (
    ApprovedAnswer,
    ApprovedFlag,
    ApprovedState,
    ApprovedVersion,
    now,
)
from fontanel.schemas import ApprovedOut, ApprovedPlaceOut, ApprovedVersionOut, FlagOut
from fontanel.service.out.answers import locator_out


def approved_out(row: ApprovedAnswer) -> ApprovedOut:
    """Return an approved answer."""
    return ApprovedOut(
        id=row.id,
        question=row.question,
        phrasings=row.phrasings,
        text=row.text,
        places=places_out(row.places),
        category=row.category,
        valid_from=row.valid_from,
        valid_until=row.valid_until,
        owner=row.owner,
        state=row.state.value,
        served=is_served(row),
        approved_by=row.approved_by,
        approved_at=row.approved_at,
        turn_id=row.turn_id,
        version=row.version,
        created_at=row.created_at,
        changed_at=row.changed_at,
    )


def is_served(row: ApprovedAnswer) -> bool:
    """Return whether an approved answer is approved and valid today."""
    today = now().date()
    return (
        row.state == ApprovedState.APPROVED
        and (row.valid_from is None or row.valid_from <= today)
        and (row.valid_until is None or row.valid_until >= today)
    )


def places_out(records: Sequence[Mapping[str, Any]]) -> list[ApprovedPlaceOut]:
    """Return stored places."""
    return [
        ApprovedPlaceOut(
            document_id=place.document_id,
            revision_id=place.revision_id,
            title=place.title,
            start=place.start,
            end=place.end,
            quote=place.quote,
            locator=locator_out(place.locator),
        )
        for place in map(Place.load, records)
    ]


def version_out(row: ApprovedVersion) -> ApprovedVersionOut:
    """Return an earlier version of an approved answer."""
    return ApprovedVersionOut(
        number=row.number,
        author=row.author,
        created_at=row.created_at,
        **{**row.content, "places": places_out(row.content["places"])},
    )


def flag_out(session: Session, row: ApprovedFlag) -> FlagOut:
    """Return a flag with the approved answer that it is about."""
    approved = session.get_one(ApprovedAnswer, row.approved_id)
    return FlagOut(
        id=row.id,
        approved_id=row.approved_id,
        question=approved.question,
        text=approved.text,
        approved_state=approved.state.value,
        document_id=row.document_id,
        title=row.title,
        change=row.change,
        old_text=row.old_text,
        new_text=row.new_text,
        revision_id=row.revision_id,
        start=row.start,
        end=row.end,
        state=row.state.value,
        settled_by=row.settled_by,
        created_at=row.created_at,
        changed_at=row.changed_at,
    )
