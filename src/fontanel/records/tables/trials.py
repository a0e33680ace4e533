"""Question sets, and trials of them."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Any

from sqlalchemy import ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from fontanel.records.tables.base import Base, Word, now, of_team


class TrialSchedule(StrEnum):
    """When a set is asked of its desk without anybody starting it."""

    NEVER = "never"
    NIGHTLY = "nightly"
    #: After each run of a source that changed documents of the desk.
    AFTER_SYNC = "after_sync"


class QuestionSet(Base):
    """Questions of a team with what their answers should be; `version` counts its changes.

    `desk_id` is the desk whose published version is asked on a schedule.
    """

    __tablename__ = "question_sets"
    __table_args__ = (UniqueConstraint("team_id", "slug"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    slug: Mapped[str]
    name: Mapped[str]
    about: Mapped[str] = mapped_column(default="")
    desk_id: Mapped[str | None] = mapped_column(ForeignKey("desks.id", ondelete="SET NULL"))
    schedule: Mapped[TrialSchedule] = mapped_column(
        Word(TrialSchedule), default=TrialSchedule.NEVER
    )
    created_at: Mapped[datetime] = mapped_column(default=now)
    changed_at: Mapped[datetime] = mapped_column(default=now)
    version: Mapped[int] = mapped_column(default=1)


class SetQuestion(Base):
    """A question of a set.

    `history` are questions that are asked before it in the same conversation; `origin` is what it
    was made from (`answer <id>`, `approved <id>`), if anything.
    """

    __tablename__ = "set_questions"
    __table_args__ = (Index("ix_set_questions_set_id", "set_id", "number"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    set_id: Mapped[str] = mapped_column(ForeignKey("question_sets.id", ondelete="CASCADE"))
    number: Mapped[int]
    question: Mapped[str]
    history: Mapped[list[Any]]
    documents: Mapped[list[Any]]
    quotes: Mapped[list[Any]]
    contains: Mapped[list[Any]]
    must_decline: Mapped[bool] = mapped_column(default=False)
    kind: Mapped[str] = mapped_column(default="")
    note: Mapped[str] = mapped_column(default="")
    origin: Mapped[str] = mapped_column(default="")
    changed_at: Mapped[datetime] = mapped_column(default=now)


class TrialState(StrEnum):
    """How far a trial is."""

    WAITING = "waiting"
    RUNNING = "running"
    #: It needs a larger budget, or a model that can be used; it can be resumed.
    PAUSED = "paused"
    #: A person stopped it; it can be resumed.
    STOPPED = "stopped"
    DONE = "done"


class Trial(Base):
    """A question set, asked of a desk's version or draft, or of a knowledge base.

    `settings` are the desk settings that it is asked under; `editions` names editions other than
    the active ones, by knowledge base; `set_version` is the set's version when it began; `pair_id`
    the trial that it is to be compared with.
    """

    __tablename__ = "trials"
    __table_args__ = (Index("ix_trials_set_id", "set_id", "created_at"),)

    id: Mapped[str] = mapped_column(primary_key=True)
    team_id: Mapped[str] = of_team()
    set_id: Mapped[str] = mapped_column(ForeignKey("question_sets.id", ondelete="CASCADE"))
    set_version: Mapped[int]
    label: Mapped[str]
    desk_id: Mapped[str | None] = mapped_column(ForeignKey("desks.id", ondelete="CASCADE"))
    desk_version: Mapped[int | None]
    asked_kb: Mapped[str | None] = mapped_column(ForeignKey("kbs.id", ondelete="CASCADE"))
    settings: Mapped[dict[str, Any]]
    editions: Mapped[dict[str, Any]]
    state: Mapped[TrialState] = mapped_column(
        Word(TrialState), default=TrialState.WAITING, index=True
    )
    note: Mapped[str] = mapped_column(default="")
    max_tokens: Mapped[int | None]
    pair_id: Mapped[str | None]
    scheduled: Mapped[bool] = mapped_column(default=False)
    author: Mapped[str]
    created_at: Mapped[datetime] = mapped_column(default=now)
    started_at: Mapped[datetime | None]
    finished_at: Mapped[datetime | None]


class TrialResult(Base):
    """A question of a trial with its answer; `result` is empty until it was asked.

    `content` is the question as it was in the set when the trial began.
    """

    __tablename__ = "trial_results"
    __table_args__ = (UniqueConstraint("trial_id", "question_id"),)

    key: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    team_id: Mapped[str] = of_team()
    trial_id: Mapped[str] = mapped_column(ForeignKey("trials.id", ondelete="CASCADE"))
    question_id: Mapped[str]
    number: Mapped[int]
    content: Mapped[dict[str, Any]]
    result: Mapped[str] = mapped_column(default="")
    reason: Mapped[str] = mapped_column(default="")
    cited: Mapped[bool | None]
    outcome: Mapped[str] = mapped_column(default="")
    text: Mapped[str] = mapped_column(default="")
    citations: Mapped[list[Any]]
    sufficiency: Mapped[float] = mapped_column(default=0.0)
    doubtful: Mapped[int] = mapped_column(default=0)
    """Statements that their sources do not support."""
    composer: Mapped[str] = mapped_column(default="")
    tokens: Mapped[int] = mapped_column(default=0)
    cost: Mapped[float] = mapped_column(default=0.0)
    seconds: Mapped[float] = mapped_column(default=0.0)
    turn_id: Mapped[str | None]
    asked_at: Mapped[datetime | None]
