"""Documents that programs send: there is nothing to list."""

from __future__ import annotations

from collections.abc import Iterator

from fontanel.sources.protocol import (
    Fetched,
    Kind,
    Listed,
    NoCredentials,
    PreviousItems,
    SettingsModel,
    Skipped,
    Source,
    SourceUnavailable,
)


class PushSettings(SettingsModel):
    """Nothing to set."""


class Pushes(Source):
    def items(self, previous: PreviousItems) -> Iterator[Listed | Skipped]:
        raise SourceUnavailable(
            "Programs send documents to this source; it cannot be run.", again=False
        )

    def fetch(self, item: Listed) -> Fetched:
        raise SourceUnavailable(
            "Programs send documents to this source; it cannot be run.", again=False
        )


KIND = Kind(
    name="push",
    title="Sent by programs",
    description="Programs send documents through the API, with ids of their own.",
    settings=PushSettings,
    credentials=NoCredentials,
    open=lambda *_: Pushes(),
    pushed=True,
)
