"""Channels by which people ask a desk from elsewhere, and messages that are posted to them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated

from fastapi import Query, Request, Response
from sqlalchemy import func, select

from fontanel.channels.kinds import KINDS
from fontanel.channels.protocol import Incoming, NotSigned
from fontanel.engine.channels.channels import ChannelSpec, change_channel, create_channel
from fontanel.engine.channels.handing_over import note_row
from fontanel.engine.channels.opening import credentials_of, kind_of, settings_of
from fontanel.engine.kinds import validated
from fontanel.engine.runtime.runtime import Runtime
from fontanel.engine.sync.limits import source_limits
from fontanel.errors import Conflict, NotFound, Refused
from fontanel.records.tables import Channel, ChannelMessage, Desk, MessageState, now
from fontanel.schemas import (
    ChannelChange,
    ChannelIn,
    ChannelKindOut,
    ChannelMessageOut,
    ChannelOut,
    ChannelSaved,
    ChannelTestIn,
    MessageStateName,
    Page,
    PostedOut,
)
from fontanel.service.auth.access import (
    Access,
    CallerDep,
    Editor,
    EditorWrite,
    RuntimeDep,
    check_version,
)
from fontanel.service.idempotency import Idempotency
from fontanel.service.out.channels import channel_out, message_out
from fontanel.service.problems import ApiError
from fontanel.service.routers import api_router
from fontanel.service.threads import run_change

router = api_router("/teams/{team}/channels", "channels")
#: What is not of one team.
around = api_router(tag="channels")


@around.get("/channel-kinds", summary="List the kinds of channels")
def list_kinds(caller: CallerDep) -> list[ChannelKindOut]:
    """With the settings and credentials of each as JSON Schemas."""
    return [
        ChannelKindOut(
            name=kind.name,
            title=kind.title,
            description=kind.description,
            settings=kind.settings.model_json_schema(),
            credentials=kind.credentials.model_json_schema(),
            posted=kind.accept is not None,
            set_up=list(kind.set_up),
        )
        for kind in KINDS.values()
    ]


def _channel(access: Access, ref: str) -> Channel:
    """Return a channel by id or name, of a desk that the caller may reach. Raises NotFound."""
    query = access.scope.select(Channel).where((Channel.id == ref) | (Channel.name == ref))
    channel = access.session.scalar(query)
    if channel is None or not access.scope.may_reach(access.session.get_one(Desk, channel.desk_id)):
        raise NotFound("channel", ref)
    return channel


def _saved(access: Access, channel: Channel, secret: str | None) -> ChannelSaved:
    access.session.flush()
    shown = channel_out(access.session, channel, access.runtime.settings.origin)
    return ChannelSaved(**shown.model_dump(), secret=secret)


@router.get("", summary="List channels")
def list_channels(access: Editor, desk: str | None = None) -> Page[ChannelOut]:
    """Those of the team, or of one desk."""
    query = access.scope.select(Channel).order_by(func.lower(Channel.name))
    if desk is not None:
        query = query.where(Channel.desk_id == access.scope.desk(desk).id)
    channels = [
        channel
        for channel in access.session.scalars(query)
        if access.scope.may_reach(access.session.get_one(Desk, channel.desk_id))
    ]
    origin = access.runtime.settings.origin
    return Page(items=[channel_out(access.session, channel, origin) for channel in channels])


@router.post("", status_code=201, summary="Add a channel to a desk")
def create(body: ChannelIn, access: EditorWrite, request: Request) -> ChannelSaved:
    """It begins to work at once. A secret that is made for it is shown once."""
    desk = access.scope.desk(body.desk)
    idempotency = Idempotency(request, access.session, access.caller, body.model_dump_json())
    if earlier := idempotency.earlier():
        return ChannelSaved.model_validate_json(earlier)
    runtime = access.runtime
    channel, secret = create_channel(
        access.session,
        runtime.vault,
        desk,
        body.kind,
        ChannelSpec(name=body.name, settings=body.settings, credentials=body.credentials),
        source_limits(runtime.settings, access.team),
    )
    saved = _saved(access, channel, secret)
    idempotency.keep(saved.model_copy(update={"secret": None}).model_dump_json())
    return saved


@router.get("/{channel}", summary="Show a channel")
def show(channel: str, access: Editor, response: Response) -> ChannelOut:
    row = _channel(access, channel)
    response.headers["ETag"] = f'"{row.version}"'
    return channel_out(access.session, row, access.runtime.settings.origin)


@router.patch("/{channel}", summary="Change a channel")
def change(
    channel: str, body: ChannelChange, access: EditorWrite, request: Request, response: Response
) -> ChannelSaved:
    """It connects again. Empty credentials have a new secret made where the kind has one."""
    row = _channel(access, channel)
    check_version(request, row.version)
    runtime = access.runtime
    spec = ChannelSpec(
        name=row.name if body.name is None else body.name,
        settings=row.settings if body.settings is None else body.settings,
        credentials=body.credentials,
        paused=row.paused if body.paused is None else body.paused,
    )
    secret = change_channel(
        access.session, runtime.vault, row, spec, source_limits(runtime.settings, access.team)
    )
    saved = _saved(access, row, secret)
    response.headers["ETag"] = f'"{row.version}"'
    return saved


@router.delete("/{channel}", status_code=204, summary="Delete a channel")
def delete(channel: str, access: EditorWrite) -> None:
    """With its messages; the conversations stay."""
    access.session.delete(_channel(access, channel))


@router.post("/{channel}/test", status_code=202, summary="Send a test message")
def send_test(channel: str, body: ChannelTestIn, access: EditorWrite) -> ChannelMessageOut:
    """Its state shows whether it was sent."""
    row = _channel(access, channel)
    if row.paused:
        raise Conflict("The channel is paused.", advice="Resume it first.")
    message = note_row(row, body.room, body.text)
    access.session.add(message)
    access.session.flush()
    return message_out(message)


@router.get("/{channel}/messages", summary="List a channel's messages")
def list_messages(
    channel: str,
    access: Editor,
    state: MessageStateName | None = None,
    cursor: Annotated[str | None, Query(max_length=100)] = None,
    limit: Annotated[int, Query(ge=1, le=200)] = 50,
) -> Page[ChannelMessageOut]:
    """Newest first, for 30 days or as long as the team keeps conversations."""
    row = _channel(access, channel)
    query = access.scope.select(ChannelMessage).where(ChannelMessage.channel_id == row.id)
    if state is not None:
        query = query.where(ChannelMessage.state == MessageState(state))
    if cursor is not None:
        before = select(ChannelMessage.received_at).where(ChannelMessage.id == cursor)
        query = query.where(ChannelMessage.received_at < before.scalar_subquery())
    rows = access.session.scalars(
        query.order_by(ChannelMessage.received_at.desc()).limit(limit + 1)
    ).all()
    more = rows[limit - 1].id if len(rows) > limit else None
    return Page(items=[message_out(one) for one in rows[:limit]], next=more)


@router.get("/{channel}/messages/{message}", summary="Show a message of a channel")
def show_message(channel: str, message: str, access: Editor) -> ChannelMessageOut:
    return message_out(_message(access, channel, message))


@router.post("/{channel}/messages/{message}/retry", summary="Send a failed reply again")
def retry(channel: str, message: str, access: EditorWrite) -> ChannelMessageOut:
    row = _message(access, channel, message)
    if row.state != MessageState.FAILED or row.answered_at is None:
        raise Conflict(
            "Only a reply that could not be sent can be sent again.",
            advice="Look at the message's state.",
        )
    row.state, row.attempts, row.run_after = MessageState.ANSWERED, 0, now()
    access.session.flush()
    return message_out(row)


def _message(access: Access, channel: str, message: str) -> ChannelMessage:
    row = _channel(access, channel)
    found = access.session.scalar(
        access.scope.select(ChannelMessage).where(
            ChannelMessage.channel_id == row.id, ChannelMessage.id == message
        )
    )
    if found is None:
        raise NotFound("message", message)
    return found


@around.post("/channels/{channel}/messages", status_code=202, summary="Post a message to a channel")
async def post_message(channel: str, request: Request, runtime: RuntimeDep) -> PostedOut:
    """For chat programs, as the channel's settings describe them; the reply is posted back.

    Signed with the channel's secret. A message with a known id is not answered again.
    """
    body = await request.body()
    return await run_change(_take, runtime, channel, dict(request.headers), body)


def _take(runtime: Runtime, ref: str, headers: Mapping[str, str], body: bytes) -> PostedOut:
    message = _accepted(runtime, ref, headers, body)
    row = runtime.inbox.take(ref, message)
    if row is None:
        return PostedOut(state="known")
    ignored = row.state == MessageState.IGNORED
    return PostedOut(state="ignored" if ignored else "taken", reason=row.reason)


def _accepted(runtime: Runtime, ref: str, headers: Mapping[str, str], body: bytes) -> Incoming:
    """Return a posted message, before the write lock is taken, which strangers must not hold.

    Raises:
        ApiError: it is not signed with the channel's secret, or no message.
    """
    with runtime.records.reading() as session:
        channel = session.get(Channel, ref)
    # Strangers do not learn which channels exist.
    unsigned = ApiError(
        "not-signed-in",
        "The message is not signed with this channel's secret, or was signed long ago.",
        advice="Sign each message when it is sent, and set the sender's clock.",
    )
    if channel is None:
        raise unsigned
    kind = kind_of(channel.kind)
    if kind.accept is None:
        raise unsigned
    credentials = validated(kind.credentials, credentials_of(runtime.vault, channel), "credentials")
    try:
        message = kind.accept(settings_of(channel), credentials, headers, body)
    except NotSigned as error:
        raise unsigned from error
    except Refused as refused:
        raise ApiError("invalid", str(refused), field=refused.field) from refused
    if channel.paused:
        raise Conflict("The channel is paused.", advice="An editor of the desk resumes it.")
    return message
