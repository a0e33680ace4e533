"""Desks for their editors: settings, versions, links, and questions."""

from __future__ import annotations

from datetime import timedelta
from typing import Annotated

from fastapi import Query, Request
from sqlalchemy import func, select

from fontanel.engine.answering.links import (
    LinkState,
    check_links_stay_open,
    link_state,
    published_settings,
)
from fontanel.engine.answering.second import end_second
from fontanel.engine.answering.targets import published_version
from fontanel.engine.trials.gate import check_trial
from fontanel.engine.trials.running import ASKER
from fontanel.errors import NotFound, Refused
from fontanel.facts import DOUBTFUL
from fontanel.records.ids import hash_secret, new_id, new_secret, slug_of
from fontanel.records.tables import Desk, DeskLink, DeskVersion, Feedback, Turn, now
from fontanel.schemas import (
    AnswerSummary,
    DeskChange,
    DeskComparison,
    DeskIn,
    DeskLinkCreated,
    DeskLinkIn,
    DeskLinkOut,
    DeskOut,
    DeskSettings,
    DeskVersionOut,
    Page,
    PublishIn,
    SettingDifference,
)
from fontanel.service.auth.access import Editor, EditorWrite, check_version
from fontanel.service.desk_settings import check_settings, merge_settings, settings_of
from fontanel.service.idempotency import Idempotency
from fontanel.service.out.desks import desk_out, version_out
from fontanel.service.out.differences import lines_between
from fontanel.service.out.turns import feedback_by_turn
from fontanel.service.problems import ApiError
from fontanel.service.routers import Number, api_router

router = api_router("/teams/{team}/desks", "desks")


@router.get("", summary="List desks")
def list_desks(access: Editor) -> Page[DeskOut]:
    query = access.scope.select(Desk).order_by(func.lower(Desk.name))
    return Page(
        items=[
            desk_out(access, desk)
            for desk in access.session.scalars(query).all()
            if access.scope.may_reach(desk)
        ]
    )


@router.post("", status_code=201, summary="Create a desk")
def create_desk(body: DeskIn, access: EditorWrite, request: Request) -> DeskOut:
    """As a draft; chat users reach it once it is published."""
    idempotency = Idempotency(request, access.session, access.caller, body.model_dump_json())
    if earlier := idempotency.earlier():
        return DeskOut.model_validate_json(earlier)
    slug = slug_of(body.name)
    taken = access.scope.select(Desk).where(
        (Desk.slug == slug) | (func.lower(Desk.name) == body.name.lower())
    )
    if access.session.scalar(taken) is not None:
        raise ApiError("conflict", f"There is a desk named {body.name!r} already.", field="name")
    desk = Desk(
        id=new_id("desk"),
        team_id=access.team.id,
        slug=slug,
        name=body.name,
        draft=check_settings(access, body.settings),
    )
    access.session.add(desk)
    access.session.flush()
    out = desk_out(access, desk)
    idempotency.keep(out.model_dump_json())
    return out


@router.get("/{desk}", summary="Show a desk")
def show_desk(desk: str, access: Editor) -> DeskOut:
    return desk_out(access, access.scope.desk(desk))


@router.patch("/{desk}", summary="Change a desk's draft")
def change_desk(desk: str, body: DeskChange, access: EditorWrite, request: Request) -> DeskOut:
    """Settings left out stay; needs If-Match. Chat users see the change once it is published."""
    desk_row = access.scope.desk(desk)
    check_version(request, desk_row.version, required=True)
    if body.name is not None:
        desk_row.name = body.name
    if body.settings is not None:
        desk_row.draft = check_settings(access, merge_settings(desk_row.draft, body.settings))
    desk_row.version += 1
    desk_row.changed_at = now()
    access.session.flush()
    return desk_out(access, desk_row)


@router.delete("/{desk}", status_code=204, summary="Delete a desk")
def delete_desk(desk: str, access: EditorWrite) -> None:
    """Its conversations and links go with it."""
    desk_row = access.scope.desk(desk)
    versions = access.session.scalars(
        access.scope.select(DeskVersion).where(DeskVersion.desk_id == desk_row.id)
    )
    if not all(access.scope.covers(version.settings) for version in versions):
        raise ApiError(
            "not-allowed",
            "Earlier versions of the desk use knowledge bases that this key has no access to.",
        )
    access.session.delete(desk_row)


# Versions


@router.post("/{desk}/publish", status_code=201, summary="Publish a desk's draft")
def publish(desk: str, body: PublishIn, access: EditorWrite) -> DeskVersionOut:
    """Publish the draft as a new version."""
    desk_row = access.scope.desk(desk)
    if not desk_row.draft["kbs"]:
        raise Refused(
            "settings.kbs", "A desk needs a knowledge base to answer from before it is published."
        )
    draft = check_settings(access, DeskSettings.model_validate(desk_row.draft))
    current = published_version(access.session, desk_row)
    if current is not None and current.settings == desk_row.draft:
        raise ApiError("conflict", f"The draft is the same as version {current.number}.")
    published = None if current is None else DeskSettings.model_validate(current.settings)
    check_trial(
        access.session, desk_row, draft, None if published is None else published.model_dump()
    )
    last = (
        access.session.scalar(
            select(func.max(DeskVersion.number)).where(DeskVersion.desk_id == desk_row.id)
        )
        or 0
    )
    if not body.close_links:
        check_links_stay_open(access.session, desk_row, desk_row.draft)
    version = DeskVersion(
        id=new_id("dver"),
        team_id=desk_row.team_id,
        desk_id=desk_row.id,
        number=last + 1,
        settings=desk_row.draft,
        note=body.note,
        author=access.caller.name,
        created_at=now(),
    )
    access.session.add(version)
    desk_row.published = version.number
    desk_row.version += 1
    desk_row.changed_at = now()
    access.session.flush()
    return version_out(version)


@router.get("/{desk}/versions", summary="List a desk's published versions")
def list_versions(desk: str, access: Editor) -> Page[DeskVersionOut]:
    """Newest first."""
    desk_row = access.scope.desk(desk)
    query = (
        access.scope.select(DeskVersion)
        .where(DeskVersion.desk_id == desk_row.id)
        .order_by(DeskVersion.number.desc())
    )
    rows = access.session.scalars(query)
    return Page(items=[version_out(row) for row in rows if access.scope.covers(row.settings)])


@router.post("/{desk}/versions/{number}/activate", summary="Serve a published version again")
def activate_version(
    desk: str,
    number: Number,
    access: EditorWrite,
    *,
    close_links: Annotated[
        bool, Query(description="Publish even if links of guests stop working.")
    ] = False,
) -> DeskOut:
    """Rolls back, or forward. The draft stays as it is."""
    desk_row = access.scope.desk(desk)
    settings = settings_of(access, desk_row, number)
    if not close_links:
        check_links_stay_open(access.session, desk_row, settings)
    desk_row.published = number
    if desk_row.second_version == number:
        end_second(desk_row)
    desk_row.version += 1
    desk_row.changed_at = now()
    access.session.flush()
    return desk_out(access, desk_row)


@router.get("/{desk}/compare", summary="Compare two versions of a desk")
def compare(
    desk: str, access: Editor, before: int | None = None, after: int | None = None
) -> DeskComparison:
    """The settings that differ; a version that is not named is the draft."""
    desk_row = access.scope.desk(desk)
    one, other = (
        DeskSettings.model_validate(settings_of(access, desk_row, number)).model_dump()
        for number in (before, after)
    )
    out = []
    for name in one:
        if one[name] != other[name]:
            long = (
                isinstance(one[name], str) and "\n" in f"{one[name]}{other[name]}"
            ) or name == "instructions"
            lines = lines_between(one[name], other[name]) if long else None
            out.append(
                SettingDifference(setting=name, before=one[name], after=other[name], lines=lines)
            )
    return DeskComparison(before=before, after=after, differences=out)


# Links


@router.get("/{desk}/links", summary="List a desk's links")
def list_links(desk: str, access: Editor) -> Page[DeskLinkOut]:
    desk_row = access.scope.desk(desk)
    query = (
        access.scope.select(DeskLink)
        .where(DeskLink.desk_id == desk_row.id)
        .order_by(DeskLink.created_at)
    )
    settings = published_settings(access.session, desk_row)
    rows = access.session.scalars(query).all()
    return Page(items=[_link_out(row, link_state(row, settings)) for row in rows])


def _link_out(link: DeskLink, state: LinkState) -> DeskLinkOut:
    return DeskLinkOut(
        id=link.id,
        name=link.name,
        start=link.start,
        state=state.value,
        per_minute=link.per_minute,
        created_at=link.created_at,
        expires_at=link.expires_at,
        revoked_at=link.revoked_at,
        last_used_at=link.last_used_at,
    )


@router.post("/{desk}/links", status_code=201, summary="Make a link to a desk")
def make_link(desk: str, body: DeskLinkIn, access: EditorWrite) -> DeskLinkCreated:
    """Anyone with the link may ask, if the published audience is `link`; see its `state`."""
    desk_row = access.scope.desk(desk)
    secret = new_secret("dl")
    expires = None if body.expires_in_days is None else now() + timedelta(days=body.expires_in_days)
    link = DeskLink(
        id=new_id("link"),
        team_id=desk_row.team_id,
        desk_id=desk_row.id,
        name=body.name,
        start=secret[:8],
        secret_hash=hash_secret(secret),
        per_minute=body.per_minute,
        expires_at=expires,
    )
    access.session.add(link)
    access.session.flush()
    # After the number sign, so that it is not sent to servers or logged.
    url = f"{access.runtime.settings.origin}/chat/{desk_row.id}#{secret}"
    state = link_state(link, published_settings(access.session, desk_row))
    return DeskLinkCreated(**_link_out(link, state).model_dump(), url=url, secret=secret)


@router.delete("/{desk}/links/{link}", status_code=204, summary="Revoke a link")
def revoke_link(desk: str, link: str, access: EditorWrite) -> None:
    """Takes effect immediately; conversations by the link remain."""
    desk_row = access.scope.desk(desk)
    query = access.scope.select(DeskLink).where(
        DeskLink.desk_id == desk_row.id, (DeskLink.id == link) | (DeskLink.name == link)
    )
    row = access.session.scalar(query)
    if row is None:
        raise NotFound("link", link)
    row.revoked_at = row.revoked_at or now()


# What was asked


@router.get("/{desk}/answers", summary="List what a desk was asked")
def list_answers(
    desk: str,
    access: Editor,
    outcome: str | None = None,
    *,
    helpful: bool | None = None,
    text: str | None = None,
    cursor: str | None = None,
    limit: Annotated[int, Query(ge=1, le=200)] = 50,
) -> Page[AnswerSummary]:
    """Newest first, without the questions of trials; with `helpful` those with such feedback."""
    desk_row = access.scope.desk(desk)
    query = access.scope.turns().where(
        Turn.desk_id == desk_row.id, Turn.asker.not_like(f"{ASKER}%")
    )
    if outcome is not None:
        query = query.where(Turn.outcome == outcome)
    if helpful is not None:
        query = query.where(
            Turn.id.in_(select(Feedback.turn_id).where(Feedback.helpful == helpful))
        )
    if text:
        query = query.where(
            Turn.question.icontains(text, autoescape=True)
            | Turn.text.icontains(text, autoescape=True)
        )
    if cursor is not None:
        before = select(Turn.created_at).where(Turn.id == cursor).scalar_subquery()
        query = query.where(Turn.created_at < before)
    rows = access.session.scalars(query.order_by(Turn.created_at.desc()).limit(limit + 1)).all()
    feedback = feedback_by_turn(access.session, rows[:limit])
    items = [
        AnswerSummary(
            id=row.id,
            question=row.question,
            asker=row.asker,
            state=row.state,
            outcome=row.outcome,
            sufficiency=round(row.sufficiency, 4),
            composer=row.composer,
            desk_version=row.desk_version,
            weak=sum(1 for s in row.statements or () if s["verdict"] in DOUBTFUL),
            feedback=feedback[row.id],
            seconds=row.seconds,
            created_at=row.created_at,
        )
        for row in rows[:limit]
    ]
    return Page(items=items, next=items[-1].id if len(rows) > limit else None)
