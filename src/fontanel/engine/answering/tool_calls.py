"""Calls of tools of the Model Context Protocol, counted for the key that makes them."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.errors import NotFound
from fontanel.records.scope import TeamScope
from fontanel.records.tables import Key, Team, Use
from fontanel.records.unit_of_work import Records

#: The outcome of such a use.
TOOL_CALL = "tool_call"
#: What programs can call; listing or reading resources counts as one call each.
TOOLS = ("search", "ask", "read", "list_knowledge_bases", "propose_document", "resources")


def store_tool_call(
    records: Records, team_id: str, key_id: str, tool: str, call: str, kb: str | None
) -> None:
    """Store one call, once, for the first knowledge base that it uses.

    Args:
        call: Its id; it may make several requests.
        kb: The knowledge base of this request, by id or slug, if it has one.
    """
    turn_id = f"tool_{key_id}_{call[:40]}"
    stored = select(Use).where(Use.turn_id == turn_id)
    with records.reading() as session:
        use, key = session.scalar(stored), session.get(Key, key_id)
        kb_id = None if key is None or kb is None else _kb_of(session, key, kb)
        if key is None or (use is not None and (use.kb_id is not None or kb_id is None)):
            return
    kb_ids = [kb_id] if kb_id else []
    with records.writing() as session:
        use = session.scalar(stored)
        if use is not None and use.kb_id is None:
            use.kb_id, use.kb_ids = kb_id, kb_ids
        elif use is None and session.get(Team, team_id) is not None:
            session.add(
                Use(
                    team_id=team_id,
                    turn_id=turn_id,
                    kb_id=kb_id,
                    kb_ids=kb_ids,
                    asker=f"key:{key_id}",
                    outcome=TOOL_CALL,
                    composer=tool,
                )
            )


def _kb_of(session: Session, key: Key, ref: str) -> str | None:
    """Return the id of a knowledge base that a key may use; None if there is none."""
    allowed = None if key.kb_ids is None else frozenset(key.kb_ids)
    try:
        return TeamScope(session, key.team_id, allowed).kb(ref).id
    except NotFound:
        return None
