"""What a client needs to know of the service."""

from __future__ import annotations

from fontanel.schemas.base import Model
from fontanel.schemas.documents import StateName
from fontanel.schemas.kbs import Splitting


class FactsOut(Model):
    """Defaults and limits of the service."""

    version: str
    splitting: Splitting
    """The default splitting of a knowledge base."""
    settled_states: list[StateName]
    """States of documents that change only when somebody does something."""
    keyword_weight: float
    """The share of keywords in the score of a hybrid search, by default."""
    editable_endings: list[str]
    """Endings of documents that can be written and edited in the service."""
    max_editable_bytes: int
    max_upload_mb: int
    max_tags: int
    max_editions: int
