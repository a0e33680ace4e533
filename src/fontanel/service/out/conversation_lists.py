"""A person's own conversations: list, search, rename, delete, export."""

from __future__ import annotations

from typing import Literal

from fastapi import Response
from sqlalchemy import ColumnElement, select
from sqlalchemy.orm import Session

from fontanel.records.tables import Conversation, Turn
from fontanel.schemas import ConversationOut, Page
from fontanel.service.out.conversation_files import as_json, as_markdown
from fontanel.service.out.turns import turns_of

Form = Literal["markdown", "json"]


def listed(
    session: Session, *where: ColumnElement[bool], text: str | None = None, limit: int = 50
) -> Page[ConversationOut]:
    """Return the conversations that `where` selects, latest first."""
    query = select(Conversation).where(*where)
    if text:
        texts = Turn.question.icontains(text, autoescape=True) | Turn.text.icontains(
            text, autoescape=True
        )
        mentions = select(Turn.id).where(Turn.conversation_id == Conversation.id, texts).exists()
        query = query.where(Conversation.title.icontains(text, autoescape=True) | mentions)
    rows = session.scalars(query.order_by(Conversation.changed_at.desc()).limit(limit))
    return Page(items=[ConversationOut.model_validate(row) for row in rows])


def renamed(session: Session, conversation: Conversation, title: str) -> ConversationOut:
    conversation.title = title
    session.flush()
    return ConversationOut.model_validate(conversation)


def deleted(session: Session, conversation: Conversation) -> None:
    session.delete(conversation)


def exported(session: Session, conversation: Conversation, form: Form) -> Response:
    """As Markdown with its sources as footnotes, or as JSON."""
    turns = turns_of(session, conversation)
    if form == "json":
        content, media, ending = as_json(conversation, turns), "application/json", "json"
    else:
        content, media, ending = (
            as_markdown(conversation, turns),
            "text/markdown; charset=utf-8",
            "md",
        )
    headers = {
        "Content-Disposition": f'attachment; filename="conversation-{conversation.id}.{ending}"'
    }
    return Response(content, media_type=media, headers=headers)
