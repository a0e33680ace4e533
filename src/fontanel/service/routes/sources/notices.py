"""Notices of a team, and the receivers they are sent to."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query
from sqlalchemy import func, select

from fontanel.engine.notices.webhooks import new_webhook_secret
from fontanel.errors import NotFound, Refused
from fontanel.records.ids import new_id
from fontanel.records.tables import Member, Notice, Receiver, now
from fontanel.schemas import NoticeOut, NoticesOut, Page, ReceiverCreated, ReceiverIn, ReceiverOut
from fontanel.service.auth.access import Access, Owner, OwnerWrite, Reader, ReaderWrite
from fontanel.service.out.notices import receiver_out
from fontanel.service.routers import api_router
from fontanel.sources import SettingsRefused
from fontanel.sources.network.reach import check_url

router = api_router("/teams/{team}", "notices")

_MAX_RECEIVERS = 20


def _member(access: Access) -> Member | None:
    if access.caller.person is None:
        return None
    return access.session.scalar(
        select(Member).where(
            Member.team_id == access.team.id, Member.person_id == access.caller.person.id
        )
    )


@router.get("/notices", summary="List notices")
def list_notices(
    access: Reader,
    kb: str | None = None,
    cursor: str | None = None,
    limit: Annotated[int, Query(ge=1, le=200)] = 50,
) -> NoticesOut:
    """What happened to the team's sources, newest first."""
    member = _member(access)
    seen_at = member.notices_seen_at if member else None
    query = access.scope.select(Notice).where(Notice.event.is_(False))
    if kb is not None:
        query = query.where(Notice.kb_id == access.scope.kb(kb).id)
    unseen = select(func.count()).select_from(query.subquery())
    if seen_at is not None:
        unseen = select(func.count()).select_from(
            query.where(Notice.created_at > seen_at).subquery()
        )
    count = access.session.scalar(unseen) or 0
    if cursor is not None:
        before = select(Notice.created_at).where(Notice.id == cursor).scalar_subquery()
        query = query.where(Notice.created_at < before)
    rows = access.session.scalars(query.order_by(Notice.created_at.desc()).limit(limit + 1)).all()
    items = [
        NoticeOut(
            id=row.id,
            kind=row.kind,
            kb_id=row.kb_id,
            source_id=row.source_id,
            message=row.message,
            data=row.data,
            created_at=row.created_at,
            seen=seen_at is not None and row.created_at <= seen_at,
        )
        for row in rows[:limit]
    ]
    return NoticesOut(items=items, unseen=count, next=items[-1].id if len(rows) > limit else None)


@router.post("/notices/seen", status_code=204, summary="Say that you have seen the notices")
def mark_seen(access: ReaderWrite) -> None:
    """For persons; keys see nothing."""
    member = _member(access)
    if member is not None:
        member.notices_seen_at = now()


@router.get("/receivers", summary="List receivers of notices")
def list_receivers(access: Owner) -> Page[ReceiverOut]:
    query = access.scope.select(Receiver).order_by(Receiver.created_at)
    return Page(
        items=[receiver_out(access.session, receiver) for receiver in access.session.scalars(query)]
    )


@router.post("/receivers", status_code=201, summary="Send notices to an address")
def add_receiver(body: ReceiverIn, access: OwnerWrite) -> ReceiverCreated:
    """As CloudEvents 1.0 over HTTP POST, signed in the header `webhook-signature`."""
    try:
        check_url(body.url, "url")
    except SettingsRefused as refused:
        raise Refused("url", str(refused)) from refused
    if len(access.session.scalars(access.scope.select(Receiver)).all()) >= _MAX_RECEIVERS:
        raise Refused("url", f"A team can have {_MAX_RECEIVERS} receivers.")
    secret = new_webhook_secret()
    receiver = Receiver(
        id=new_id("rcv"),
        team_id=access.team.id,
        url=body.url,
        kinds=list(body.kinds),
        secret=access.runtime.vault.seal(secret),
    )
    access.session.add(receiver)
    access.session.flush()
    return ReceiverCreated(**receiver_out(access.session, receiver).model_dump(), secret=secret)


@router.delete(
    "/receivers/{receiver}", status_code=204, summary="Stop sending notices to an address"
)
def remove_receiver(receiver: str, access: OwnerWrite) -> None:
    result = access.session.scalar(access.scope.select(Receiver).where(Receiver.id == receiver))
    if result is None:
        raise NotFound("receiver", receiver)
    access.session.delete(result)
