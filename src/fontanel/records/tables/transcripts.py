"""Transcribers that operators registered, and what they heard in recordings."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import Index
from sqlalchemy.orm import Mapped, mapped_column

from fontanel.records.tables.base import Base, now, of_team
from fontanel.records.tables.servers import Server


class Transcriber(Server, Base):
    """A server at an address, with the transcription protocol.

    `price` is per minute of a recording; `part_seconds` is the length of the parts in which one is
    sent.
    """

    __tablename__ = "transcribers"

    price: Mapped[float] = mapped_column(default=0.0)
    part_seconds: Mapped[float] = mapped_column(default=300.0)


class TranscriptPart(Base):
    """What a transcriber heard in a part of a recording, which is known by its hash.

    `spoken` is the language that it was told, empty for none; `cues` are rows of start, end, text
    and speaker; `last` marks the part that ends with the recording.
    """

    __tablename__ = "transcript_parts"
    __table_args__ = (
        Index("ix_transcript_parts_recording", "team_id", "sha256", "transcriber", "spoken"),
    )

    key: Mapped[int] = mapped_column(primary_key=True, autoincrement=True)
    team_id: Mapped[str] = of_team()
    sha256: Mapped[str]
    transcriber: Mapped[str]
    spoken: Mapped[str] = mapped_column(default="")
    start: Mapped[float]
    end: Mapped[float]
    last: Mapped[bool] = mapped_column(default=False)
    cues: Mapped[list[Any]]
    at: Mapped[datetime] = mapped_column(default=now)
