"""Names and tags of documents."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Mapping

from sqlalchemy import delete
from sqlalchemy.orm import Session

from fontanel.errors import Refused
from fontanel.facts import MAX_TAGS
from fontanel.records.tables import (
    Document,
    DocumentTag,
)

_TAG = re.compile(r"^[\w.-]{1,60}$")


def document_name(raw: str) -> str:
    """Return a safe name: relative, with forward slashes, inside its folder.

    Raises:
        Refused: nothing is left of it.
    """
    name = unicodedata.normalize("NFC", raw).replace("\\", "/")
    name = "".join(c for c in name if c.isprintable())
    parts = [part.strip() for part in name.split("/") if part.strip() not in ("", ".", "..")]
    clean = "/".join(parts)
    if not clean or len(clean) > 400:
        raise Refused("name", f"{raw[:80]!r} cannot be a document's name. Use 1 to 400 characters.")
    return clean


def check_tags(tags: Mapping[str, str]) -> dict[str, str]:
    """Return valid tags.

    Raises:
        Refused: a key or value is not valid, or there are too many.
    """
    if len(tags) > MAX_TAGS:
        raise Refused("tags", f"A document can have {MAX_TAGS} tags; {len(tags)} were given.")
    for tag, value in tags.items():
        if not _TAG.match(tag):
            raise Refused(
                "tags",
                f"{tag[:60]!r} cannot be a tag's name. Use letters, digits, '.', '_' and '-'.",
            )
        if not value or len(value) > 200:
            raise Refused("tags", f"The value of the tag {tag!r} must have 1 to 200 characters.")
    return dict(tags)


def set_tags(session: Session, document: Document, tags: Mapping[str, str]) -> None:
    document.tags = dict(tags)
    document.version += 1
    session.execute(delete(DocumentTag).where(DocumentTag.document_key == document.key))
    session.add_all(tag_rows(document))


def tag_rows(document: Document) -> list[DocumentTag]:
    """Return the rows by which a document is found by its tags."""
    return [
        DocumentTag(
            document_key=document.key,
            tag=tag,
            value=value,
            kb_id=document.kb_id,
            team_id=document.team_id,
        )
        for tag, value in document.tags.items()
    ]


def add_tags(session: Session, document: Document, tags: Mapping[str, str]) -> None:
    """Add tags to a document, replacing equal keys; beyond the maximum, drop the last."""
    merged = {**document.tags, **tags}
    if merged != document.tags:
        set_tags(session, document, dict(list(merged.items())[:MAX_TAGS]))
