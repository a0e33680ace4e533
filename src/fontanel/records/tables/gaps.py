"""Questions that were not answered well, in groups, and which passages answers need."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Any

from sqlalchemy import ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from fontanel.records.tables.base import Base, Word, now, of_team


class GapState(StrEnum):
    """Whether somebody still has to do something about a gap."""

    OPEN = "open"
    RESOLVED = "resolved"


class GapKind(StrEnum):
    """Why a question is part of a gap."""

    DECLINED = "declined"
    #: It was answered, more likely wrongly than rightly.
    WEAK = "weak"
    #: The asker marked the answer as unhelpful.
    UNHELPFUL = "unhelpful"


class Gap(Base):
    """A group of questions that ask for the same and were not answered well.

    `question` is the most central of them. `resolution` says how it was resolved; `answer` is the
    answer with which it was closed automatically; `checked_at` is when it was last asked again.
    """

    __tablename__ = "gaps"
    __table_args__ = (Index("ix_gaps_team_id", "team_id", "state"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = mapped_column(ForeignKey("teams.id", ondelete="CASCADE"))
    question: Mapped[str]
    state: Mapped[GapState] = mapped_column(Word(GapState), default=GapState.OPEN)
    resolution: Mapped[str] = mapped_column(default="")
    resolved_by: Mapped[str] = mapped_column(default="")
    assignee: Mapped[str] = mapped_column(default="")
    comments: Mapped[list[Any]]
    answer: Mapped[dict[str, Any] | None]
    checked_at: Mapped[datetime] = mapped_column(default=now)
    created_at: Mapped[datetime] = mapped_column(default=now)
    changed_at: Mapped[datetime] = mapped_column(default=now)


class GapQuestion(Base):
    """A question of a gap; `gap_id` is None until it is grouped.

    `vector` is its embedding by `embedder`, as float16; `found` are the passages that its search
    found, as `document:start`, best first; `kb_ids` the knowledge bases that were searched.
    """

    __tablename__ = "gap_questions"
    __table_args__ = (Index("ix_gap_questions_gap_id", "gap_id"),)

    key: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    team_id: Mapped[str] = of_team()
    gap_id: Mapped[str | None] = mapped_column(ForeignKey("gaps.id", ondelete="CASCADE"))
    turn_id: Mapped[str] = mapped_column(ForeignKey("turns.id", ondelete="CASCADE"), unique=True)
    kind: Mapped[GapKind] = mapped_column(Word(GapKind))
    question: Mapped[str]
    desk_id: Mapped[str | None]
    kb_ids: Mapped[list[Any]]
    found: Mapped[list[Any]]
    sufficiency: Mapped[float] = mapped_column(default=0.0)
    vector: Mapped[bytes | None]
    embedder: Mapped[str | None]
    asked_at: Mapped[datetime] = mapped_column(default=now)


class PassageUse(Base):
    """How often the searches of answers found a passage, and how often it was cited.

    A passage is the characters of a revision from `start` on, whatever the edition.
    """

    __tablename__ = "passage_uses"
    __table_args__ = (
        UniqueConstraint("revision_id", "start"),
        Index("ix_passage_uses_document", "kb_id", "document_id"),
    )

    key: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    team_id: Mapped[str] = of_team()
    kb_id: Mapped[str] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"))
    document_id: Mapped[str]
    revision_id: Mapped[str]
    start: Mapped[int]
    found: Mapped[int] = mapped_column(default=0)
    cited: Mapped[int] = mapped_column(default=0)
    last_found_at: Mapped[datetime] = mapped_column(default=now)
    last_cited_at: Mapped[datetime | None]


class AnswerSource(Base):
    """Text that a past answer cites, followed from revision to revision.

    It is characters [`start`, `end`) of `revision_id`, the last one in which it was found.
    `checked_id` is the revision with which it was last compared, None if the document was gone;
    `change` what became of it there (reworded, contradicted, removed), empty if nothing.
    """

    __tablename__ = "answer_sources"
    __table_args__ = (
        Index("ix_answer_sources_document", "kb_id", "document_id", "checked_id"),
        Index("ix_answer_sources_change", "team_id", "change"),
    )

    key: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    team_id: Mapped[str] = mapped_column(ForeignKey("teams.id", ondelete="CASCADE"))
    kb_id: Mapped[str] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"))
    turn_id: Mapped[str] = mapped_column(ForeignKey("turns.id", ondelete="CASCADE"), index=True)
    document_id: Mapped[str]
    title: Mapped[str]
    revision_id: Mapped[str]
    start: Mapped[int]
    end: Mapped[int]
    quote: Mapped[str]
    checked_id: Mapped[str | None]
    change: Mapped[str] = mapped_column(default="")
    new_text: Mapped[str] = mapped_column(default="")
    changed_at: Mapped[datetime] = mapped_column(default=now)
