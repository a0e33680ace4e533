"""What models, embedders and transcribers have in common: who may use them."""

from __future__ import annotations

from fontanel.records.tables.servers import Server


def why_unusable(row: Server | None, kind: str, team_id: str) -> str | None:
    """Return why a team cannot use a server; None if it can.

    Args:
        kind: What it is, such as "model".
    """
    if row is None:
        return f"there is no {kind} of that name"
    if row.team_ids is not None and team_id not in row.team_ids:
        return "the team may not use it"
    return None if row.enabled else "it is switched off"
