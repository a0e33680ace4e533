"""The states of a document, and every transition between them."""

from __future__ import annotations

from fontanel.records.tables import (
    DocumentState,
)

#: States in which an edition that is built holds nothing of a document.
NOT_INDEXED = (DocumentState.FAILED, DocumentState.REMOVED)
