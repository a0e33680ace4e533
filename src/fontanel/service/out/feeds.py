"""Changed documents, and changed answers, as Atom feeds (RFC 4287)."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Sequence
from datetime import datetime
from urllib.parse import quote

from fastapi import Request, Response
from lxml import etree
from sqlalchemy import select
from sqlalchemy.orm import Session

from fontanel.records.tables import Document, FollowedAnswer, Kb, Revision, Team

#: Entries of a feed.
MAX_ENTRIES = 50
_ATOM = "http://www.w3.org/2005/Atom"
#: Characters that XML cannot contain.
_FORBIDDEN = re.compile("[^\\t\\n\\r\\x20-\\ud7ff\\ue000-\\ufffd\\U00010000-\\U0010ffff]")

Changed = tuple[Document, Revision]


def changed_documents(session: Session, kb: Kb) -> Sequence[Changed]:
    """Return the documents whose present text came last, the newest first."""
    query = (
        select(Document, Revision)
        .join(Revision, Revision.id == Document.revision_id)
        .where(Document.kb_id == kb.id, Revision.indexed_at.is_not(None))
        .order_by(Revision.indexed_at.desc(), Document.key.desc())
        .limit(MAX_ENTRIES)
    )
    return [(document, revision) for document, revision in session.execute(query).all()]


def atom_feed(team: Team, kb: Kb, documents: Sequence[Changed], origin: str) -> bytes:
    """Return the feed of a knowledge base.

    Args:
        origin: The address of the service.
    """
    page = f"{origin}/t/{quote(team.slug)}/kbs/{quote(kb.slug)}"
    feed = etree.Element(f"{{{_ATOM}}}feed", nsmap={None: _ATOM})  # type: ignore[dict-item]
    _text(feed, "id", f"urn:fontanel:{kb.id}")
    _text(feed, "title", kb.name)
    if kb.description:
        _text(feed, "subtitle", kb.description)
    newest = max((_indexed(revision) for _, revision in documents), default=kb.created_at)
    _text(feed, "updated", newest.isoformat())
    _text(etree.SubElement(feed, f"{{{_ATOM}}}author"), "name", team.name)
    _link(feed, "alternate", f"{page}/documents")
    _link(feed, "self", f"{origin}/api/v1/teams/{quote(team.slug)}/kbs/{quote(kb.slug)}/feed")
    for document, revision in documents:
        entry = etree.SubElement(feed, f"{{{_ATOM}}}entry")
        _text(entry, "id", f"urn:fontanel:{document.id}:{revision.id}")
        _text(entry, "title", document.title or document.name)
        _text(entry, "updated", _indexed(revision).isoformat())
        _text(entry, "published", document.created_at.isoformat())
        _link(entry, "alternate", f"{page}/documents/{quote(document.id)}")
        added = "added" if revision.number == 1 else f"changed, revision {revision.number}"
        summary = f"{document.name}: {added}."
        _text(entry, "summary", f"{summary} {document.description}".rstrip())
    return etree.tostring(feed, encoding="UTF-8", xml_declaration=True)


def feed_response(request: Request, feed: bytes) -> Response:
    """Return a feed, or that it is unchanged (304)."""
    tag = f'"{hashlib.sha256(feed).hexdigest()[:32]}"'
    headers = {"ETag": tag, "Cache-Control": "private, no-cache"}
    known = request.headers.get("if-none-match", "")
    if tag in [one.strip().removeprefix("W/") for one in known.split(",")]:
        return Response(status_code=304, headers=headers)
    return Response(feed, media_type="application/atom+xml", headers=headers)


def answer_feed(row: FollowedAnswer, origin: str) -> bytes:
    """Return the feed of a followed answer: its changes, and the answer that was followed.

    Args:
        origin: The address of the service.
    """
    chat = f"{origin}/chat/{quote(row.desk_id)}"
    feed = etree.Element(f"{{{_ATOM}}}feed", nsmap={None: _ATOM})  # type: ignore[dict-item]
    _text(feed, "id", f"urn:fontanel:{row.id}")
    _text(feed, "title", row.question)
    _text(feed, "updated", (row.changed_at or row.created_at).isoformat())
    _text(etree.SubElement(feed, f"{{{_ATOM}}}author"), "name", "Fontanel")
    _link(feed, "alternate", chat)
    first = row.changes[-1]["before"] if row.changes else row.answer
    entries = [(one["at"], one["after"], "The answer has changed") for one in row.changes]
    for at, text, title in [*entries, (row.created_at.isoformat(), first, "The answer")]:
        entry = etree.SubElement(feed, f"{{{_ATOM}}}entry")
        _text(entry, "id", f"urn:fontanel:{row.id}:{at}")
        _text(entry, "title", title)
        _text(entry, "updated", at)
        _link(entry, "alternate", chat)
        _text(entry, "content", text)
    return etree.tostring(feed, encoding="UTF-8", xml_declaration=True)


def _indexed(revision: Revision) -> datetime:
    assert revision.indexed_at is not None
    return revision.indexed_at


def _text(parent: etree._Element, name: str, text: str) -> None:
    etree.SubElement(parent, f"{{{_ATOM}}}{name}").text = _FORBIDDEN.sub("", text)


def _link(parent: etree._Element, relation: str, address: str) -> None:
    etree.SubElement(parent, f"{{{_ATOM}}}link", rel=relation, href=address)
