"""Registered transcribers: how to reach them, and who may use them."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.engine.servers import why_unusable
from fontanel.errors import FontanelError
from fontanel.llm import TranscriptionEndpoint
from fontanel.records.tables import Transcriber
from fontanel.records.vault import Vault


class TranscriberUnusable(FontanelError):
    """A team cannot use a transcriber; the message says why."""


def find_transcriber(session: Session, name: str) -> Transcriber | None:
    """Return the registered transcriber of that name."""
    return session.scalar(select(Transcriber).where(Transcriber.name == name))


def transcriber_endpoint(row: Transcriber, vault: Vault) -> TranscriptionEndpoint:
    """Return where a transcriber is reached.

    Raises:
        SecretUnreadable: its secret cannot be decrypted.
    """
    return TranscriptionEndpoint(
        row.name,
        row.url,
        row.remote,
        secret=None if row.secret is None else str(vault.open(row.secret)),
        seconds=row.seconds,
        tries=row.tries,
    )


def usable_transcriber(session: Session, name: str, team_id: str) -> Transcriber:
    """Return the transcriber of that name.

    Raises:
        TranscriberUnusable: the team cannot use it.
    """
    row = find_transcriber(session, name)
    if (reason := why_unusable(row, "transcriber", team_id)) is not None:
        raise TranscriberUnusable(reason)
    assert row is not None
    return row
