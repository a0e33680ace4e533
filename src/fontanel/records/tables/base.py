"""Column types and the base class of every table."""

from __future__ import annotations

from datetime import UTC, datetime
from enum import StrEnum
from typing import Any

from sqlalchemy import (
    JSON,
    DateTime,
    ForeignKey,
    LargeBinary,
    MetaData,
    String,
    TypeDecorator,
)
from sqlalchemy.engine import Dialect
from sqlalchemy.orm import DeclarativeBase, mapped_column


def now() -> datetime:
    return datetime.now(UTC)


class UtcDateTime(TypeDecorator[datetime]):
    """SQLite keeps no zone: times go in as UTC and come back aware."""

    impl = DateTime
    cache_ok = True

    def process_bind_param(self, value: datetime | None, dialect: Dialect) -> datetime | None:
        return None if value is None else value.astimezone(UTC).replace(tzinfo=None)

    def process_result_value(self, value: datetime | None, dialect: Dialect) -> datetime | None:
        return None if value is None else value.replace(tzinfo=UTC)


class Word(TypeDecorator[StrEnum]):
    """An enumeration stored as text."""

    impl = String
    cache_ok = True

    def __init__(self, kind: type[StrEnum]) -> None:
        super().__init__(20)
        self.kind = kind

    def process_bind_param(self, value: StrEnum | str | None, dialect: Dialect) -> str | None:
        return None if value is None else self.kind(value).value

    def process_result_value(self, value: str | None, dialect: Dialect) -> StrEnum | None:
        return None if value is None else self.kind(value)


class Base(DeclarativeBase):
    metadata = MetaData(
        naming_convention={
            "ix": "ix_%(table_name)s_%(column_0_N_name)s",
            "uq": "uq_%(table_name)s_%(column_0_N_name)s",
            "fk": "fk_%(table_name)s_%(column_0_name)s",
            "pk": "pk_%(table_name)s",
        }
    )
    type_annotation_map = {
        datetime: UtcDateTime,
        dict[str, Any]: JSON,
        list[Any]: JSON,
        bytes: LargeBinary,
    }


def of_team() -> Any:
    return mapped_column(ForeignKey("teams.id", ondelete="CASCADE"), index=True)
