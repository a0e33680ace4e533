"""Facts that the service, its API, clients and console share, each declared once."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Literal


class DocumentState(StrEnum):
    """How far a document is."""

    WAITING = "waiting"
    READING = "reading"
    SPLITTING = "splitting"
    NEEDS_TRANSCRIPT = "needs_transcript"
    """A recording without subtitles, for which no transcriber can be used."""
    TRANSCRIBING = "transcribing"
    """A recording whose speech is being transcribed, or waits for it."""
    DESCRIBING = "describing"
    """It has no text but pictures, which a model is describing."""
    KEYWORD_READY = "keyword_ready"
    """Keyword search finds it; its vectors are being computed."""
    INDEXED = "indexed"
    FAILED = "failed"
    REMOVED = "removed"
    """It left its source. It is not searched, and kept for a while for what cites it."""


#: States that change only when a person or a source does something.
SETTLED_STATES = (
    DocumentState.INDEXED,
    DocumentState.NEEDS_TRANSCRIPT,
    DocumentState.FAILED,
    DocumentState.REMOVED,
)


class ValidityMark(StrEnum):
    """A person's decision on whether a document is in force; it outweighs the document's text."""

    CURRENT = "current"
    WITHDRAWN = "withdrawn"
    REPLACED = "replaced"


class OutdatedRanking(StrEnum):
    """How a knowledge base ranks documents that are not in force."""

    LOWER = "lower"
    """Behind the ones in force that say the same; answers that quote them say so."""
    EXCLUDE = "exclude"
    """They are neither found nor quoted."""
    EQUAL = "equal"
    """Like any other; answers that quote them still say so."""


TableMode = Literal["packed", "single"]


@dataclass(frozen=True, slots=True)
class SplitSettings:
    """How documents are cut into passages. Sizes are in the embedder's tokens."""

    target_tokens: int = 300
    """The size that a passage aims at."""
    min_tokens: int = 120
    """Below this a passage is joined with its neighbour."""
    overlap_tokens: int = 0
    """Whole sentences of the same section that are repeated from the passage before."""
    table_mode: TableMode = "packed"
    """`packed`: rows up to the target size in one passage; `single`: each row alone."""
    windows: bool = True
    """Besides its own vector, a passage has one for each few of its sentences."""
    compact: bool = False
    """Store vectors as bytes: a quarter of the size, with nearly the same ranking."""


#: The share of keywords in the score of a hybrid search, as calibrated.
KEYWORD_WEIGHT = 0.3
#: The likelihood from which an approved answer is served, and from which it is offered, 0-1.
APPROVED_NEEDED, APPROVED_OFFERED = 0.8, 0.3

#: Endings of documents that are written and edited in the service, and how large they may be.
EDITABLE_ENDINGS = (".md", ".markdown", ".txt", ".csv", ".tsv")
MAX_EDITABLE_BYTES = 2_000_000

#: Tags that a document can have.
MAX_TAGS = 32
#: The maximum number of editions of a knowledge base: each is as large as the whole index.
MAX_EDITIONS = 5

#: The kinds of notices. The type of an event is `fontanel.` and one of these.
NoticeKind = Literal[
    "sync.finished",
    "sync.failed",
    "sync.held",
    "sync.recovered",
    "freshness.missed",
    "freshness.met",
    "approved.flagged",
    "trial.paused",
    "trial.fell",
    "gap.closed",
    "budget.low",
    "quota.low",
    "quota.reached",
    "member.joined",
    "key.by_operator",
    "channel.failing",
    "channel.recovered",
]

#: What a team may have, use in a month, do at once, and, each caller apart, in a minute.
QuotaName = Literal[
    "documents",
    "bytes",
    "passages",
    "questions",
    "tokens",
    "recording_minutes",
    "streams",
    "requests_per_minute",
    "questions_per_minute",
]

#: What happens too often for a notice: only receivers that name the kind are sent it.
EventKind = Literal[
    "answer.answered", "answer.declined", "audit.entry", "feedback.given", "gap.opened"
]

#: The verdicts on statements that a reader should doubt.
DOUBTFUL = frozenset({"weak", "uncited", "outdated"})

#: The header that names the tool that a program's request is made for, and an id of the call.
TOOL_HEADER = "X-Fontanel-Tool"
