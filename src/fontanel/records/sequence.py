"""Numbers the changes of documents in commit order.

A watcher asks for changes after the last number it saw. Times would not do: clocks can be set back.
Numbers are assigned under the write lock, so that their order is that of the commits.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import count
from typing import Any

from sqlalchemy import event, func, select
from sqlalchemy.orm import Session

from fontanel.records.tables import Document
from fontanel.records.unit_of_work import Records

_NUMBERS = "changes of documents"


def number_changes(records: Records) -> None:
    """Give each document that these sessions write the next number."""
    with records.reading() as session:
        numbers = count(1 + (session.scalar(select(func.max(Document.change))) or 0))
    records.sessions.configure(info={_NUMBERS: numbers})

    @event.listens_for(records.sessions, "before_flush")
    def number(session: Session, context: Any, instances: Any) -> None:
        for item in (*session.new, *session.dirty):
            if isinstance(item, Document) and (item in session.new or session.is_modified(item)):
                item.change = next(numbers)


def next_change(session: Session) -> int:
    """Return the number for documents that a statement changes in bulk; they share it."""
    numbers: Iterator[int] | None = session.info.get(_NUMBERS)
    return (
        next(numbers)
        if numbers is not None
        else 1 + (session.scalar(select(func.max(Document.change))) or 0)
    )
