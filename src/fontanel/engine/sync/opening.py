"""Opening sources with checked settings and credentials."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from fontanel.engine.kinds import check_destination, validated
from fontanel.engine.workers.isolated_source import IsolatedSource
from fontanel.errors import Refused
from fontanel.records.tables import Source
from fontanel.records.vault import Vault
from fontanel.sources import KINDS, Kind, SettingsRefused, SourceLimits
from fontanel.sources import Source as OpenSource


def kind_of(name: str) -> Kind:
    kind = KINDS.get(name)
    if kind is None:
        raise Refused(
            "kind", f"There is no kind of source {name!r}. There are: {', '.join(sorted(KINDS))}."
        )
    return kind


def open_kind(
    kind: Kind, settings: Mapping[str, Any], credentials: Mapping[str, Any], around: SourceLimits
) -> OpenSource:
    """Open a source, in another process if its kind is isolated.

    Raises:
        Refused: its settings cannot be used.
    """
    try:
        valid = validated(kind.settings, settings, "settings")
        own = validated(kind.credentials, credentials, "credentials")
        if kind.isolated:
            return IsolatedSource(kind, valid, own.model_dump(), around)
        return kind.open(valid, own, around)
    except SettingsRefused as refused:
        raise Refused(f"settings.{refused.field}", str(refused)) from refused


def check_settings(
    kind: Kind, settings: Mapping[str, Any], credentials: Mapping[str, Any], around: SourceLimits
) -> None:
    """Check that a source can be opened with these settings, without connecting.

    Raises:
        Refused: it cannot.
    """
    try:
        kind.open(
            validated(kind.settings, settings, "settings"),
            validated(kind.credentials, credentials, "credentials"),
            around,
        ).close()
    except SettingsRefused as refused:
        raise Refused(f"settings.{refused.field}", str(refused)) from refused


def credentials_of(vault: Vault, source: Source) -> dict[str, Any]:
    """Raises SecretUnreadable."""
    return vault.open(source.credentials) if source.credentials is not None else {}


def usable_credentials(
    vault: Vault, source: Source, settings: Mapping[str, Any], credentials: Mapping[str, Any] | None
) -> Mapping[str, Any]:
    """Return the credentials to use with these settings.

    New ones, or else those stored.

    Stored credentials are only sent to the place that they were entered for: otherwise anyone who
    may edit a source could have them sent to a server of their own.

    Raises:
        Refused: the place differs.
        SecretUnreadable: they were encrypted with another key.
    """
    if credentials is not None:
        return credentials
    stored = credentials_of(vault, source)
    check_destination(kind_of(source.kind), stored, source.settings, settings)
    return stored
