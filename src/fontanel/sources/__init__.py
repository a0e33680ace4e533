"""Sources of documents: a file for each kind, with one small protocol."""

from fontanel.sources.kinds import KINDS
from fontanel.sources.protocol import (
    Fetched,
    ItemFailed,
    Kind,
    Listed,
    PreviousItem,
    SettingsRefused,
    Skipped,
    Source,
    SourceLimits,
    SourceUnavailable,
)

__all__ = [
    "KINDS",
    "Fetched",
    "ItemFailed",
    "Kind",
    "Listed",
    "PreviousItem",
    "SettingsRefused",
    "Skipped",
    "Source",
    "SourceLimits",
    "SourceUnavailable",
]
