"""Opening channels with checked settings and credentials."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from fontanel.channels import protocol
from fontanel.channels.kinds import KINDS
from fontanel.channels.protocol import ChannelSettings, Kind
from fontanel.engine.kinds import check_destination, validated
from fontanel.errors import Refused
from fontanel.records.tables import Channel
from fontanel.records.vault import Vault
from fontanel.sources import SettingsRefused, SourceLimits


def kind_of(name: str) -> Kind:
    """Return a kind of channel. Raises Refused."""
    kind = KINDS.get(name)
    if kind is None:
        raise Refused(
            "kind", f"There is no kind of channel {name!r}. There are: {', '.join(sorted(KINDS))}."
        )
    return kind


def settings_of(channel: Channel) -> ChannelSettings:
    """Return a channel's settings as its kind's model."""
    settings: ChannelSettings = validated(
        kind_of(channel.kind).settings, channel.settings, "settings"
    )
    return settings


def credentials_of(vault: Vault, channel: Channel) -> dict[str, Any]:
    """Return a channel's credentials. Raises SecretUnreadable."""
    return vault.open(channel.credentials) if channel.credentials is not None else {}


def open_channel(channel: Channel, vault: Vault, limits: SourceLimits) -> protocol.Channel:
    """Open a channel with what is stored of it.

    Raises:
        Refused: its settings can no longer be used.
        SecretUnreadable: its credentials were encrypted with another key.
    """
    kind = kind_of(channel.kind)
    credentials = validated(kind.credentials, credentials_of(vault, channel), "credentials")
    try:
        return kind.open(settings_of(channel), credentials, limits, channel.position)
    except SettingsRefused as refused:
        raise Refused(f"settings.{refused.field}", str(refused)) from refused


def check_settings(
    kind: Kind, settings: Mapping[str, Any], credentials: Mapping[str, Any], limits: SourceLimits
) -> None:
    """Check that a channel can be opened with these settings, without connecting.

    Raises:
        Refused: it cannot.
    """
    valid = validated(kind.settings, settings, "settings")
    own = validated(kind.credentials, credentials, "credentials")
    try:
        kind.open(valid, own, limits, "").close()
    except SettingsRefused as refused:
        where = "credentials" if refused.field in kind.credentials.model_fields else "settings"
        raise Refused(f"{where}.{refused.field}", str(refused)) from refused


def usable_credentials(
    vault: Vault,
    channel: Channel,
    settings: Mapping[str, Any],
    credentials: Mapping[str, Any] | None,
) -> Mapping[str, Any]:
    """Return the credentials to use with these settings: new ones, or else those stored.

    Raises:
        Refused: the stored ones were entered for another place.
    """
    if credentials is not None:
        return credentials
    stored = credentials_of(vault, channel)
    check_destination(kind_of(channel.kind), stored, channel.settings, settings)
    return stored
