"""Conversations as files: Markdown with footnotes, or JSON."""

from __future__ import annotations

import json
from collections.abc import Sequence

from fontanel.core.answering.writing.prompt import place_of
from fontanel.core.passages.splitting import Locator
from fontanel.records.tables import Conversation
from fontanel.schemas import ConversationOut, TurnOut


def as_json(conversation: Conversation, turns: Sequence[TurnOut]) -> str:
    plain = {
        "conversation": ConversationOut.model_validate(conversation).model_dump(mode="json"),
        "turns": [turn.model_dump(mode="json", exclude={"evidence"}) for turn in turns],
    }
    return json.dumps(plain, indent=2, ensure_ascii=False)


def as_markdown(conversation: Conversation, turns: Sequence[TurnOut]) -> str:
    """Questions as headings, citations as footnotes."""
    parts = [f"# {conversation.title}"]
    notes: list[str] = []
    for turn in turns:
        text, before = "", 0
        for citation in sorted(turn.citations, key=lambda c: c.answer_end):
            notes.append(
                _note(
                    len(notes) + 1,
                    citation.title,
                    Locator(**citation.locator.model_dump()),
                    citation.quote,
                )
            )
            text += turn.text[before : citation.answer_end] + f"[^{len(notes)}]"
            before = citation.answer_end
        text += turn.text[before:]
        parts += [f"## {turn.question}", text or "(not answered)"]
        if turn.note:
            parts.append(f"_{turn.note}_")
        if turn.state != "done":
            parts.append(f"_({turn.state.replace('_', ' ')})_")
    return "\n\n".join([*parts, *notes]) + "\n"


def _note(number: int, title: str, locator: Locator, quote: str) -> str:
    where = place_of(locator, title)
    return f"[^{number}]: {title}{', ' + where if where else ''}: “{' '.join(quote.split())}”"
