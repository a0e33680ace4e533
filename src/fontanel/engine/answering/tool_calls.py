"""Calls of tools of the Model Context Protocol, counted for the key that makes them."""

from __future__ import annotations

from sqlalchemy import select

from fontanel.records.tables import Team, Use
from fontanel.records.unit_of_work import Records

#: The outcome of such a use.
TOOL_CALL = "tool_call"
#: What programs can call; listing or reading resources counts as one call each.
TOOLS = ("search", "ask", "read", "list_knowledge_bases", "resources")


def store_tool_call(records: Records, team_id: str, key_id: str, tool: str, call: str) -> None:
    """Store one call, once.

    Args:
        call: Its id; it may make several requests.
    """
    turn_id = f"tool_{key_id}_{call[:40]}"
    stored = select(Use.key).where(Use.turn_id == turn_id)
    with records.reading() as session:
        if session.scalar(stored) is not None or session.get(Team, team_id) is None:
            return
    with records.writing() as session:
        if session.scalar(stored) is None:
            session.add(
                Use(
                    team_id=team_id,
                    turn_id=turn_id,
                    kb_ids=[],
                    asker=f"key:{key_id}",
                    outcome=TOOL_CALL,
                    composer=tool,
                )
            )
