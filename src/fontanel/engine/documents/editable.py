"""Which documents are written and edited here, and under which names."""

from __future__ import annotations

from fontanel.engine.documents.naming import document_name
from fontanel.errors import Refused
from fontanel.facts import EDITABLE_ENDINGS, MAX_EDITABLE_BYTES
from fontanel.records.tables import Document, Revision


def written_name(name: str) -> str:
    """Return the name of a document that is written here.

    Raises:
        Refused: it is not a name, or its ending is not that of a text.
    """
    checked = document_name(name)
    if not checked.lower().endswith(EDITABLE_ENDINGS):
        raise Refused(
            "name", f"The name of a document written here ends in {', '.join(EDITABLE_ENDINGS)}."
        )
    return checked


def why_not_editable(document: Document, revision: Revision) -> str | None:
    """Return why a document cannot be edited here; None if it can."""
    if document.source_id is not None:
        return "A source keeps this document. Edit it there."
    if document.parent_key is not None:
        return "This document is part of another file. Edit that file."
    if not document.name.lower().endswith(EDITABLE_ENDINGS):
        return (
            "Only Markdown, plain text and small tables are edited here. Add a new version of the"
            " file instead."
        )
    if revision.size > MAX_EDITABLE_BYTES:
        return "The document is too large to be edited here. Add a new version of the file instead."
    return None
