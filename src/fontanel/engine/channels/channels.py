"""Channels of a desk: created, changed, and whether they work."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from fontanel.channels.protocol import Kind
from fontanel.engine.channels.opening import check_settings, kind_of, usable_credentials
from fontanel.engine.kinds import filled, plain_settings
from fontanel.engine.notices.notify import notify_team
from fontanel.engine.notices.webhooks import new_webhook_secret
from fontanel.errors import Refused
from fontanel.records.ids import new_id
from fontanel.records.tables import Channel, ChannelMessage, Desk, Team, now
from fontanel.records.unit_of_work import Records
from fontanel.records.vault import Vault
from fontanel.sources import SourceLimits

_MAX_CHANNELS = 20
#: How long a channel fails before the team is sent a notice.
_PATIENCE = timedelta(minutes=5)
_MESSAGES_KEPT_DAYS = 30


@dataclass(frozen=True, slots=True, kw_only=True)
class ChannelSpec:
    """The specification of a channel; credentials of None keep the stored ones."""

    name: str
    settings: Mapping[str, Any]
    credentials: Mapping[str, Any] | None
    paused: bool = False


def create_channel(
    session: Session,
    vault: Vault,
    desk: Desk,
    kind_name: str,
    spec: ChannelSpec,
    limits: SourceLimits,
) -> tuple[Channel, str | None]:
    """Add a channel to a desk; return it, and the secret that was made for it, if one was.

    Raises:
        Refused: the settings cannot be used.
    """
    kind = kind_of(kind_name)
    of_team = select(func.count()).select_from(Channel).where(Channel.team_id == desk.team_id)
    if (session.scalar(of_team) or 0) >= _MAX_CHANNELS:
        raise Refused("name", f"A team can have {_MAX_CHANNELS} channels.")
    credentials, secret = _with_secret(kind, spec.credentials or {})
    channel = Channel(
        id=new_id("chan"),
        team_id=desk.team_id,
        desk_id=desk.id,
        name=spec.name,
        kind=kind.name,
        settings={},
        credential_names=[],
        position="",
    )
    _apply(session, vault, channel, spec, credentials, limits)
    session.add(channel)
    return channel, secret


def change_channel(
    session: Session, vault: Vault, channel: Channel, spec: ChannelSpec, limits: SourceLimits
) -> str | None:
    """Change a channel, which connects again; return a secret that was made for it, if one was.

    Raises:
        Refused: the settings cannot be used.
    """
    usable = usable_credentials(vault, channel, spec.settings, spec.credentials)
    credentials, secret = _with_secret(kind_of(channel.kind), usable)
    _apply(session, vault, channel, spec, credentials, limits)
    channel.version += 1
    channel.error, channel.failing_since, channel.noticed = None, None, False
    return secret


def _with_secret(kind: Kind, credentials: Mapping[str, Any]) -> tuple[dict[str, Any], str | None]:
    """Return credentials, with a new secret if their kind needs one and has none."""
    own = filled(credentials)
    if not kind.makes_secret or own.get("secret"):
        return own, None
    secret = new_webhook_secret()
    return {**own, "secret": secret}, secret


def _apply(
    session: Session,
    vault: Vault,
    channel: Channel,
    spec: ChannelSpec,
    credentials: Mapping[str, Any],
    limits: SourceLimits,
) -> None:
    kind = kind_of(channel.kind)
    same_name = select(Channel.id).where(
        Channel.team_id == channel.team_id, Channel.id != channel.id, Channel.name == spec.name
    )
    if session.scalar(same_name):
        raise Refused(
            "name", f"There is a channel named {spec.name!r} already. Choose another name."
        )
    check_settings(kind, spec.settings, credentials, limits)
    settings = plain_settings(kind, spec.settings)
    moved = channel.settings and kind.destination(
        kind.settings.model_validate(channel.settings)
    ) != kind.destination(kind.settings.model_validate(settings))
    if moved:
        channel.position = ""
    channel.name, channel.settings, channel.paused = spec.name, settings, spec.paused
    channel.credentials = vault.seal(dict(credentials)) if credentials else None
    channel.credential_names = sorted(credentials)
    channel.changed_at = now()


def record_state(
    records: Records, channel_id: str, error: str | None, *, final: bool = False
) -> None:
    """Record that a channel works, or why it does not.

    Args:
        error: What failed; None if it works.
        final: Whether it stays so until a person does something.
    """
    with records.reading() as session:
        channel = session.get(Channel, channel_id)
        if channel is None or (error is None and channel.error is None and channel.connected_at):
            return
    with records.writing() as session:
        channel = session.get(Channel, channel_id)
        if channel is None:
            return
        data = {"channel": channel.id, "name": channel.name, "desk": channel.desk_id}
        if error is None:
            if channel.noticed:
                message = f"The channel {channel.name} works again."
                notify_team(session, channel.team_id, "channel.recovered", message, data)
            channel.error, channel.failing_since, channel.noticed = None, None, False
            channel.connected_at = now()
            return
        channel.error = error
        channel.failing_since = channel.failing_since or now()
        if not channel.noticed and (final or now() - channel.failing_since > _PATIENCE):
            channel.noticed = True
            message = f"The channel {channel.name} does not work: {error}"
            notify_team(session, channel.team_id, "channel.failing", message, data)


def delete_old_messages(records: Records) -> None:
    """Delete messages that are past the retention of their team's conversations, or 30 days."""
    with records.reading() as session:
        teams = session.execute(
            select(Team.id, Team.kept_days).where(Team.id.in_(select(Channel.team_id)))
        ).all()
    for team_id, days in teams:
        kept = timedelta(days=min(days or _MESSAGES_KEPT_DAYS, _MESSAGES_KEPT_DAYS))
        with records.writing() as session:
            session.execute(
                delete(ChannelMessage).where(
                    ChannelMessage.team_id == team_id,
                    ChannelMessage.received_at < now() - kept,
                )
            )
