"""Sources: what keeps documents flowing into a knowledge base. A file for each kind, behind one small protocol."""

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
