"""What the sources of a team may read and reach."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from fontanel.errors import Refused
from fontanel.records.tables import Team
from fontanel.settings import Settings
from fontanel.sources import SourceLimits
from fontanel.sources.network.reach import Network, networks


def check_grants(
    settings: Settings, folders: Sequence[str] | None, granted: Sequence[str] | None
) -> None:
    """Check that folders and networks are within what the service allows.

    Raises:
        Refused: one is not.
    """
    allowed = allowed_roots(settings)
    for folder in folders or ():
        if not Path(folder).is_absolute() or not _is_below(Path(folder), allowed):
            raise Refused("source_folders", f"{folder!r} is not within FONTANEL_SOURCE_ROOTS.")
    outer = networks(settings.source_networks)
    for text in granted or ():
        try:
            inner = networks(text)
        except ValueError as error:
            raise Refused("source_networks", f"{text!r} is not a network: {error}.") from error
        for network in inner:
            if not _is_part(network, outer):
                raise Refused(
                    "source_networks", f"{text!r} is not within FONTANEL_SOURCE_NETWORKS."
                )


def _is_below(folder: Path, roots: Sequence[Path]) -> bool:
    return any(folder.resolve().is_relative_to(root.resolve()) for root in roots)


def _is_part(network: Network, outer: Sequence[Network]) -> bool:
    return any(network.version == other.version and network.subnet_of(other) for other in outer)  # type: ignore[arg-type]


def allowed_roots(settings: Settings) -> list[Path]:
    return [Path(part) for part in settings.source_roots.split(":") if part]


def source_limits(
    settings: Settings, team: Team, scratch: Path | None = None, stopping: Any = None
) -> SourceLimits:
    """Return what a team's sources may use.

    Its grants, within what the service allows.
    """
    roots, reachable = allowed_roots(settings), networks(settings.source_networks)
    if team.source_folders is not None:
        granted = [Path(folder) for folder in team.source_folders]
        roots = [folder for folder in granted if _is_below(folder, roots)]
    if team.source_networks is not None:
        requested = [network for text in team.source_networks for network in networks(text)]
        reachable = tuple(network for network in requested if _is_part(network, reachable))
    return SourceLimits(
        roots=tuple(roots),
        networks=reachable,
        memory_mb=settings.read_memory_mb,
        max_bytes=settings.max_upload_mb * 1_000_000,
        scratch=scratch,
        seconds=settings.source_seconds,
        stopping=stopping or (lambda: False),
    )
